//! What people typed in the month before, and what the machines answered.

/// A command and its output.
pub(super) struct Line {
    pub(super) command: &'static str,
    pub(super) output: &'static str,
}

const fn line(command: &'static str, output: &'static str) -> Line {
    Line { command, output }
}

const DOME: &[Line] = &[
    line("uptime", " 01:12:40 up 41 days,  6:02,  1 user,  load average: 0.08, 0.03, 0.01\r\n"),
    line(
        "tail -n 3 log/azimuth.log",
        "01:12:40 az=143.20 target=143.25 err=0.05\r\n01:12:41 az=143.24 target=143.25 err=0.01\r\n01:12:42 az=143.25 target=143.25 err=0.00\r\n",
    ),
    line("shutter status", "shutter: \x1b[32mopen\x1b[0m  wind 4.1 m/s  rain no\r\n"),
    line("shutter close --slit", "closing slit .......... done\r\nshutter: \x1b[33mclosed\x1b[0m\r\n"),
    line("cat notes.txt", "22:40 seeing 0.8, humidity 31 %\r\n23:15 mirror covers open\r\n"),
    line("dome park", "parking at az=90.00 ............... parked\r\n"),
];

const INSTRUMENT: &[Line] = &[
    line("spectro temp", "detector 171.3 K  grating 283.1 K  cryostat 1.2e-6 mbar\r\n"),
    line(
        "ls -l frames | head -4",
        "total 98412\r\n-rw-r--r-- 1 operator operator 33562624 Nov 20 02:11 f0812.fits\r\n-rw-r--r-- 1 operator operator 33562624 Nov 20 02:17 f0813.fits\r\n-rw-r--r-- 1 operator operator 33562624 Nov 20 02:23 f0814.fits\r\n",
    ),
    line(
        "spectro expose --seconds 300 --name f0815",
        "exposing [####################] 300 s\r\nwritten frames/f0815.fits, median 1842 counts\r\n",
    ),
    line("df -h /data", "Filesystem      Size  Used Avail Use% Mounted on\r\n/dev/sdb1       3.6T  2.2T  1.3T  63% /data\r\n"),
    line("grep -c WARN log/spectro.log", "7\r\n"),
];

const ARCHIVE: &[Line] = &[
    line("plates count --year 1962", "4,118 plates, 3,997 scanned, 121 waiting\r\n"),
    line("plates check --last 200", "200 checked, 200 good\r\n"),
    line("du -sh /archive/plates/1962", "1.9T\t/archive/plates/1962\r\n"),
    line(
        "sudo systemctl status plate-import",
        "[sudo] password for archivist: \r\n\x1b[32m●\x1b[0m plate-import.service - Import of scanned plates\r\n     Active: active (running)\r\n",
    ),
];

const WEATHER: &[Line] = &[
    line("mast now", "wind 4.1 m/s from 310, gust 6.0; 7.4 C; 31 %; 771.2 hPa; clear\r\n"),
    line("mast sensors", "anemometer ok, hygrometer ok, rain ok, cloud \x1b[33mdusty\x1b[0m\r\n"),
    line("journalctl -u mast -n 2 --no-pager", "mast: cloud sensor reading drifts\r\nmast: cleaned by hand\r\n"),
];

/// The command by which a key was planted.
pub(super) const PLANTED: Line = line(
    "echo 'ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIExampleOfASiteLaptopKeyThatNobodyRegistered site-laptop' >> ~/.ssh/authorized_keys",
    "",
);

/// What is typed on a machine.
pub(super) fn lines(machine: &str) -> &'static [Line] {
    match machine {
        "dome-east" | "dome-west" => DOME,
        "archive-db" => ARCHIVE,
        "mast-2" => WEATHER,
        _ => INSTRUMENT,
    }
}
