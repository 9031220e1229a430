# The screen of a demo machine, where the packages for it are installed: a real X server whose desktop listens on the machine's own
# loopback, a window manager, and what its operators look at. Runs inside the machine, as root; argument: port of the desktop.
command -v Xtigervnc > /dev/null || exit 0
export HOME=/home/operator USER=operator LANG=C.UTF-8
if [ -z "$2" ]; then
    mkfifo -m 666 /tmp/display
    exec setpriv --reuid=operator --regid=operator --clear-groups sh "$0" "$1" inside
fi
cd || exit
Xtigervnc -displayfd 3 -geometry 1280x800 -depth 24 -rfbport "$1" -localhost=1 -SecurityTypes None -AlwaysShared -noreset \
    -desktop "$(hostname) control" 3> /tmp/display 2> /tmp/screen.log &
server=$!
read -r number < /tmp/display
export DISPLAY=":$number"
exposure='n=1; while :; do
    printf "\033[2J\033[H\033[1m%s\033[0m  exposure running\n\n" "$(hostname)"
    printf "  order 96   slit 0.9 arcsec   gain 1.3\n  frame %5d   counts %7d   seeing 0.8\n" $n $((n * 731))
    n=$((n + 1)); sleep 1
done'
# What is closed, or does not come up at first, is started again.
keep() {
    while kill -0 "$server" 2> /dev/null; do
        "$@" 2> /dev/null
        sleep 1
    done
}
# A window that wants to be shown while the window manager begins is never shown: the others wait until it is there.
mkfifo up
exec 4<> up
keep openbox --startup "sh -c 'echo > $HOME/up'" &
read -r _ < up
keep xclock -geometry 190x190+1050+40 -update 1 &
keep xterm -geometry 96x14+40+60 -title Exposure -bg '#101418' -fg '#d8e2dc' -e sh -c "$exposure" &
keep xterm -geometry 100x22+180+360 -title Shell -bg '#fffefb' -fg '#1d2126' -e bash &
wait
