//! What runs inside: makes the machine's root, and is its first process.

use crate::{ACCOUNTS, sys};
use nix::mount::{MntFlags, MsFlags, mount, umount2};
use nix::sched::{CloneFlags, unshare};
use nix::sys::wait::waitpid;
use nix::unistd::{self, Gid, Uid};
use std::fs::{self, OpenOptions};
use std::io::{self, BufRead as _, Read as _, Write as _};
use std::net::TcpListener;
use std::os::fd::OwnedFd;
use std::os::unix::fs::{PermissionsExt as _, chown, symlink};
use std::os::unix::net::UnixDatagram;
use std::path::Path;
use std::process::{Command, Stdio};

type Outcome<T> = Result<T, Box<dyn std::error::Error>>;
const NONE: Option<&str> = None;
/// Where an unpacked server is found inside.
const UNPACKED: &str = "/opt/openssh";

struct Plan {
    mode: String,
    name: String,
    server: String,
    network: String,
    program: String,
    /// For a machine beside another: bound before it is in a user namespace of its own, which has no say in that network.
    listener: Option<TcpListener>,
}

impl Plan {
    fn single(&self) -> bool {
        self.mode == "user-single"
    }

    fn sshd(&self) -> String {
        if self.server.is_empty() { "/usr/sbin/sshd".into() } else { format!("{UNPACKED}/usr/sbin/sshd") }
    }
}

pub(crate) fn main(arguments: &[String]) -> Outcome<()> {
    let [mode, name, server, network, program] = arguments else { return Err("wrong arguments".into()) };
    let mut plan = Plan {
        mode: mode.clone(),
        name: name.clone(),
        server: server.clone(),
        network: network.clone(),
        program: program.clone(),
        listener: None,
    };
    sys::die_with_parent();
    if plan.mode == "plain" {
        wait_for_go()?;
        return plain(&plan);
    }
    let mut flags = CloneFlags::CLONE_NEWNS | CloneFlags::CLONE_NEWUTS | CloneFlags::CLONE_NEWIPC | CloneFlags::CLONE_NEWPID;
    if plan.mode != "root-plain" {
        flags |= CloneFlags::CLONE_NEWUSER;
    }
    if let Some(pid) = plan.network.strip_prefix("beside ") {
        nix::sched::setns(fs::File::open(format!("/proc/{pid}/ns/net"))?, CloneFlags::CLONE_NEWNET)?;
        plan.listener = Some(TcpListener::bind("127.0.0.2:22")?);
    } else if plan.network != "host" {
        flags |= CloneFlags::CLONE_NEWNET;
    }
    unshare(flags)?;
    say("unshared")?;
    wait_for_go()?;
    match sys::fork()? {
        Some(child) => {
            waitpid(child, None)?;
            Ok(())
        }
        None => machine(plan),
    }
}

fn say(line: &str) -> io::Result<()> {
    let mut out = io::stdout().lock();
    writeln!(out, "{line}")?;
    out.flush()
}

fn wait_for_go() -> Outcome<()> {
    let mut byte = [0];
    io::stdin().read_exact(&mut byte)?;
    Ok(())
}

/// Runs what the parent asks for, a line each, and ends when it closes the life line.
fn live_on() -> ! {
    let mut line = String::new();
    while matches!(io::stdin().lock().read_line(&mut line), Ok(n) if n > 0) {
        if let Some((command, input)) = line.trim_end_matches('\n').split_once('\u{1f}')
            && let Err(e) = run(command, &input.replace('\u{1e}', "\n"))
        {
            eprintln!("machine: {command}: {e}");
        }
        line.clear();
    }
    std::process::exit(0)
}

fn run(command: &str, input: &str) -> Outcome<()> {
    let log = OpenOptions::new().create(true).append(true).open("/var/log/run.log")?;
    let mut child = Command::new("/bin/sh")
        .args(["-c", command])
        .env("HOME", "/root")
        .current_dir("/root")
        .stdin(Stdio::piped())
        .stdout(log.try_clone()?)
        .stderr(log)
        .spawn()?;
    if let Some(mut pipe) = child.stdin.take() {
        pipe.write_all(input.as_bytes())?;
    }
    Ok(())
}

/// Sets passwords as an administrator would.
fn set_passwords(lines: &str) -> Outcome<()> {
    let mut child = Command::new("/usr/sbin/chpasswd").stdin(Stdio::piped()).spawn()?;
    if let Some(mut pipe) = child.stdin.take() {
        pipe.write_all(lines.as_bytes())?;
    }
    if child.wait()?.success() { Ok(()) } else { Err("chpasswd set no passwords".into()) }
}

fn machine(mut plan: Plan) -> Outcome<()> {
    if plan.mode != "root-plain" {
        if !plan.single() {
            unistd::setgroups(&[])?;
        }
        let (root, group) = (Uid::from_raw(0), Gid::from_raw(0));
        unistd::setresgid(group, group, group)?;
        unistd::setresuid(root, root, root)?;
    }
    // Changing the user clears it.
    sys::die_with_parent();
    nix::sys::stat::umask(nix::sys::stat::Mode::from_bits_truncate(0o022));
    make_root(&plan)?;
    unistd::sethostname(&plan.name)?;
    configure(&plan)?;
    enter_root()?;
    sys::set_env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin");
    make_host_key(&plan.name, Path::new("/etc/ssh/ssh_host_ed25519_key"))?;
    if matches!(plan.network.as_str(), "own" | "closed") {
        sys::loopback_up()?;
    }
    if plan.network == "closed" {
        plan.listener = Some(TcpListener::bind("127.0.0.1:22")?);
        crate::uplink::offer(crate::UPLINK, Path::new("/run/uplink/socket"))?;
    }
    let passwords = fs::read_to_string("/opt/machine/passwords").unwrap_or_default();
    if !passwords.is_empty() {
        set_passwords(&passwords)?;
    }
    let log = UnixDatagram::bind("/dev/log")?;
    fs::set_permissions("/dev/log", fs::Permissions::from_mode(0o666))?;
    let host = plan.name.clone();
    std::thread::spawn(move || keep_log(&log, &host));
    let (sshd, single) = (plan.sshd(), plan.single());
    let given = sys::take_listener();
    let listener = plan.listener.take().unwrap_or(given);
    std::thread::spawn(move || accept(&listener, &sshd, single));
    let key = fs::read_to_string("/etc/ssh/ssh_host_ed25519_key.pub")?;
    say(&format!("ready {}", key.trim()))?;
    std::thread::spawn(|| sys::reap());
    live_on()
}

fn accept(listener: &TcpListener, sshd: &str, single: bool) {
    for stream in listener.incoming().flatten() {
        let input: OwnedFd = stream.into();
        let Ok(output) = input.try_clone() else { continue };
        let mut command = Command::new(sshd);
        command.arg("-i").stdin(input).stdout(output).stderr(Stdio::null()).env("TZ", "UTC0");
        if sshd.starts_with(UNPACKED) {
            command.env(
                "LD_LIBRARY_PATH",
                format!("{UNPACKED}/usr/lib/x86_64-linux-gnu:{UNPACKED}/lib/x86_64-linux-gnu:{UNPACKED}/usr/lib/aarch64-linux-gnu"),
            );
        }
        if single {
            // The server gives up its rights by becoming another user: here that is a further namespace.
            sys::in_child(&mut command, || {
                unshare(CloneFlags::CLONE_NEWUSER)?;
                fs::write("/proc/self/setgroups", "deny")?;
                fs::write("/proc/self/uid_map", "1000 0 1\n")?;
                fs::write("/proc/self/gid_map", "1000 0 1\n")
            });
        }
        if let Err(e) = command.spawn() {
            eprintln!("machine: {sshd}: {e}");
        }
    }
}

fn bind(from: &str, to: &str) -> Outcome<()> {
    mount(Some(from), to, NONE, MsFlags::MS_BIND | MsFlags::MS_REC, NONE).map_err(|e| format!("bind {from}: {e}").into())
}

/// A root of its own in memory, with the host's programs read-only.
fn make_root(plan: &Plan) -> Outcome<()> {
    mount(NONE, "/", NONE, MsFlags::MS_REC | MsFlags::MS_PRIVATE, NONE)?;
    mount(Some("machine"), "root", Some("tmpfs"), MsFlags::MS_NOSUID | MsFlags::MS_NODEV, Some("mode=755,size=1g"))?;
    fs::create_dir_all("root/var/log")?;
    bind("log", "root/var/log")?;
    for d in [
        "usr",
        "etc/ssh",
        "proc",
        "dev/pts",
        "dev/shm",
        "run/sshd",
        "var/tmp",
        "tmp",
        "home",
        "root",
        "old",
        "opt/account",
        "opt/openssh",
        "opt/machine",
        "opt/aerie",
        "run/uplink",
        "var/lib",
    ] {
        fs::create_dir_all(format!("root/{d}"))?;
    }
    for d in ["files", "keys"] {
        let status = Command::new("/bin/cp").args(["-r", d, "root/opt/machine/"]).status()?;
        if !status.success() {
            return Err(format!("{d} could not be copied").into());
        }
    }
    fs::copy("authority.pub", "root/etc/ssh/authority.pub")?;
    fs::copy("passwords", "root/opt/machine/passwords")?;
    fs::write("root/opt/aerie/aerie", "")?;
    bind(&plan.program, "root/opt/aerie/aerie")?;
    bind("uplink", "root/run/uplink")?;
    if !plan.server.is_empty() {
        bind(&plan.server, "root/opt/openssh")?;
    }
    std::env::set_current_dir("root")?;
    for d in ["tmp", "var/tmp", "dev/shm"] {
        fs::set_permissions(d, fs::Permissions::from_mode(0o1777))?;
    }
    fs::set_permissions("root", fs::Permissions::from_mode(0o700))?;
    bind("/usr", "usr")?;
    let read_only = MsFlags::MS_REMOUNT | MsFlags::MS_BIND | MsFlags::MS_RDONLY | MsFlags::MS_NOSUID | MsFlags::MS_NODEV;
    mount(NONE, "usr", NONE, read_only, NONE)?;
    for link in ["bin", "sbin", "lib", "lib64"] {
        if let Ok(target) = fs::read_link(Path::new("/").join(link)) {
            symlink(target, link)?;
        }
    }
    make_devices()?;
    let proc = mount(Some("proc"), "proc", Some("proc"), MsFlags::MS_NOSUID | MsFlags::MS_NODEV | MsFlags::MS_NOEXEC, NONE);
    if proc.is_err() {
        // Containers refuse a /proc of one's own: the host's is shown instead.
        bind("/proc", "proc")?;
    }
    Ok(())
}

fn make_devices() -> Outcome<()> {
    for d in ["null", "zero", "full", "random", "urandom", "tty"] {
        let target = format!("dev/{d}");
        fs::write(&target, "")?;
        bind(&format!("/dev/{d}"), &target)?;
    }
    mount(Some("devpts"), "dev/pts", Some("devpts"), MsFlags::MS_NOSUID | MsFlags::MS_NOEXEC, Some("newinstance,ptmxmode=0666,mode=0620"))?;
    symlink("pts/ptmx", "dev/ptmx")?;
    symlink("/proc/self/fd", "dev/fd")?;
    for (number, name) in ["stdin", "stdout", "stderr"].iter().enumerate() {
        symlink(format!("fd/{number}"), format!("dev/{name}"))?;
    }
    Ok(())
}

fn enter_root() -> Outcome<()> {
    unistd::pivot_root(".", "old")?;
    std::env::set_current_dir("/")?;
    umount2("/old", MntFlags::MNT_DETACH)?;
    fs::remove_dir("/old")?;
    Ok(())
}

fn make_host_key(name: &str, path: &Path) -> Outcome<()> {
    let made = Command::new("/usr/bin/ssh-keygen")
        .args(["-q", "-t", "ed25519", "-N", "", "-C", &format!("root@{name}"), "-f"])
        .arg(path)
        .stdin(Stdio::null())
        .status()?;
    if made.success() { Ok(()) } else { Err("ssh-keygen made no host key".into()) }
}

/// Accounts, host name, homes and the server's configuration. Runs with the new root as current directory.
fn configure(plan: &Plan) -> Outcome<()> {
    for f in [
        "ld.so.cache",
        "bash.bashrc",
        "profile",
        "localtime",
        "login.defs",
        "skel",
        "alternatives",
        "terminfo",
        "pam.d",
        "security",
        "pam.conf",
        "X11",
        "fonts",
        "xdg",
    ] {
        let _ = Command::new("/bin/cp")
            .args(["-rP", "--preserve=mode,timestamps", &format!("/etc/{f}"), "etc/"])
            .stderr(Stdio::null())
            .status();
    }
    let single = plan.single();
    let shell = if single { "/opt/account/enter" } else { "/bin/bash" };
    fs::write("etc/passwd", accounts(single, shell))?;
    let groups: String = ACCOUNTS.iter().map(|(name, id, _)| format!("{name}:x:{}:\n", if single { 1000 } else { *id })).collect();
    let tty = if single { "" } else { "tty:x:5:\n" };
    fs::write("etc/group", format!("root:x:0:\nshadow:x:42:\n{tty}{groups}nogroup:x:65534:\n"))?;
    fs::write(
        "etc/shadow",
        ACCOUNTS.iter().fold("root:*:19000:0:99999:7:::\n".to_string(), |t, (n, _, _)| t + &format!("{n}:*:19000:0:99999:7:::\n")),
    )?;
    fs::set_permissions("etc/shadow", fs::Permissions::from_mode(0o600))?;
    if single {
        separate_accounts()?;
    }
    fs::write("etc/hostname", format!("{}\n", plan.name))?;
    fs::write("etc/hosts", format!("127.0.0.1 localhost\n127.0.1.1 {}\n", plan.name))?;
    fs::write("etc/nsswitch.conf", "passwd: files\ngroup: files\nshadow: files\nhosts: files\n")?;
    fs::write(
        "etc/os-release",
        format!("NAME=\"Dome Linux\"\nPRETTY_NAME=\"Dome Linux 7 ({})\"\nID=dome\nID_LIKE=debian\nVERSION_ID=\"7\"\n", plan.name),
    )?;
    homes(single)?;
    fs::write("run/utmp", "")?;
    for (name, mode) in [("wtmp", 0o644), ("lastlog", 0o644), ("btmp", 0o600)] {
        let path = format!("var/log/{name}");
        OpenOptions::new().create(true).append(true).open(&path)?;
        fs::set_permissions(path, fs::Permissions::from_mode(mode))?;
    }
    let by_password = if fs::metadata("opt/machine/passwords").is_ok_and(|m| m.len() > 0) { "yes" } else { "no" };
    let sftp =
        if plan.server.is_empty() { "/usr/lib/openssh/sftp-server".into() } else { format!("{UNPACKED}/usr/lib/openssh/sftp-server") };
    fs::write(
        "etc/ssh/sshd_config",
        format!(
            "HostKey /etc/ssh/ssh_host_ed25519_key\nTrustedUserCAKeys /etc/ssh/authority.pub\nAuthorizedKeysFile /etc/ssh/keys/%u .ssh/authorized_keys\nStrictModes no\n\
             KbdInteractiveAuthentication no\nPasswordAuthentication {by_password}\nUsePAM no\nPrintMotd no\nPidFile none\nAcceptEnv LANG LC_*\n\
             MaxSessions 100\nClientAliveInterval 0\nSubsystem sftp {sftp}\n"
        ),
    )?;
    fs::rename("opt/machine/keys", "etc/ssh/keys")?;
    Ok(())
}

fn accounts(single: bool, shell: &str) -> String {
    let mut text = String::from("root:x:0:0:root:/root:/bin/bash\nsshd:x:102:65534::/run/sshd:/usr/sbin/nologin\n");
    for (at, (name, id, title)) in ACCOUNTS.iter().enumerate() {
        // Of several accounts with one user the first gives the name; the others enter a namespace of their own.
        let own = format!("{shell}-{name}");
        let (id, shell) = if single { (1000, if at == 0 { "/bin/bash" } else { &own }) } else { (*id, "/bin/bash") };
        text += &format!("{name}:x:{id}:{id}:{title}:/home/{name}:{shell}\n");
    }
    text + "nobody:x:65534:65534:nobody:/nonexistent:/usr/sbin/nologin\n"
}

/// Where all accounts share one user, each but the first shows its own name by a further namespace.
fn separate_accounts() -> Outcome<()> {
    for (name, id, title) in ACCOUNTS.into_iter().skip(1) {
        let (passwd, group) = (format!("/opt/account/passwd-{name}"), format!("/opt/account/group-{name}"));
        fs::write(
            passwd.trim_start_matches('/'),
            format!("root:x:0:0:root:/root:/bin/bash\n{name}:x:{id}:{id}:{title}:/home/{name}:/bin/bash\n"),
        )?;
        fs::write(group.trim_start_matches('/'), format!("root:x:0:\n{name}:x:{id}:\n"))?;
        let script = format!(
            "#!/bin/sh\nexec unshare --user --map-root-user --mount /bin/sh -c 'mount --bind {passwd} /etc/passwd; \
             mount --bind {group} /etc/group; export SHELL=/bin/bash; exec unshare --user --map-user={id} --map-group={id} /bin/bash \"$@\"' sh \"$@\"\n"
        );
        let enter = format!("opt/account/enter-{name}");
        fs::write(&enter, script)?;
        fs::set_permissions(&enter, fs::Permissions::from_mode(0o755))?;
    }
    Ok(())
}

fn homes(single: bool) -> Outcome<()> {
    for (name, id, _) in ACCOUNTS {
        let home = format!("home/{name}");
        fs::create_dir(&home)?;
        fs::set_permissions(&home, fs::Permissions::from_mode(0o750))?;
        fs::write(format!("{home}/.bashrc"), "PS1='\\u@\\h:\\w\\$ '\nalias ls='ls --color=auto'\n")?;
        fs::write(format!("{home}/.profile"), ". ~/.bashrc\n")?;
        if name == "operator" {
            for entry in fs::read_dir("opt/machine/files")?.flatten() {
                let path = format!("{home}/{}", entry.file_name().to_string_lossy().replace('%', "/"));
                if let Some(parent) = Path::new(&path).parent() {
                    fs::create_dir_all(parent)?;
                }
                fs::copy(entry.path(), &path)?;
            }
        }
        if !single {
            own(Path::new(&home), id)?;
        }
    }
    Ok(())
}

fn own(path: &Path, id: u32) -> io::Result<()> {
    chown(path, Some(id), Some(id))?;
    if path.is_dir() {
        for entry in fs::read_dir(path)?.flatten() {
            own(&entry.path(), id)?;
        }
    }
    Ok(())
}

/// Writes what the server logs, in the traditional form.
fn keep_log(socket: &UnixDatagram, host: &str) {
    let Ok(mut file) = OpenOptions::new().create(true).append(true).open("/var/log/auth.log") else { return };
    let mut buffer = [0; 8192];
    while let Ok(n) = socket.recv(&mut buffer) {
        let text = String::from_utf8_lossy(buffer.get(..n).unwrap_or(&[]));
        let text = text.trim_end_matches(['\0', '\n']);
        let text = text.split_once('>').map_or(text, |(_, rest)| rest);
        if let Some((stamp, rest)) = text.split_at_checked(16) {
            let _ = writeln!(file, "{stamp}{host} {rest}");
        }
    }
}

/// Without namespaces: a plain server on the host, under the user who started it.
fn plain(plan: &Plan) -> Outcome<()> {
    if Uid::effective().is_root() && unistd::User::from_name("sshd")?.is_none() {
        return Err("namespaces are refused here, and as root a plain SSH server needs the user `sshd`: \
                    run the demo as an ordinary user, or install openssh-server"
            .into());
    }
    let here = std::env::current_dir()?;
    let at = |name: &str| here.join(name).display().to_string();
    let key = here.join("host_key");
    if !key.exists() {
        make_host_key(&plan.name, &key)?;
    }
    let root = &plan.server;
    let sftp = format!("{root}/usr/lib/openssh/sftp-server");
    let config = format!(
        "HostKey {}\nTrustedUserCAKeys {}\nAuthorizedKeysFile none\nStrictModes no\nKbdInteractiveAuthentication no\nPasswordAuthentication no\nUsePAM no\n\
         PidFile none\nMaxSessions 100\nSubsystem sftp {sftp}\n",
        key.display(),
        at("authority.pub"),
    );
    fs::write("sshd_config", config)?;
    let listener = sys::take_listener();
    let (sshd, config, log) = (format!("{root}/usr/sbin/sshd"), at("sshd_config"), at("log/auth.log"));
    let libraries = format!("{root}/usr/lib/x86_64-linux-gnu:{root}/lib/x86_64-linux-gnu:{root}/usr/lib/aarch64-linux-gnu");
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            let input: OwnedFd = stream.into();
            let Ok(output) = input.try_clone() else { continue };
            let mut command = Command::new(&sshd);
            command
                .args(["-i", "-f", &config, "-E", &log])
                .stdin(input)
                .stdout(output)
                .stderr(Stdio::null())
                .env("LD_LIBRARY_PATH", &libraries);
            let _ = command.spawn();
        }
    });
    say(&format!("ready {}", fs::read_to_string(key.with_extension("pub"))?.trim()))?;
    std::thread::spawn(|| sys::reap());
    live_on()
}
