//! Tells users at this machine from remote logins, by what systemd-logind(8) knows of the login session of a process.

use std::fs;
use std::net::SocketAddr;
use std::path::Path;

/// Where sessions are described, one file each (sd-login(3) reads them).
const SESSIONS: &str = "run/systemd/sessions";

/// Whether the process at the other end of a loopback connection belongs to a login from another computer: a shell that came in by
/// SSH, or what was left of one. Where no login session is known of it, that cannot be told.
pub(super) fn is_from_afar(from: SocketAddr, to: SocketAddr) -> bool {
    super::peer::socket_of(from, to)
        .is_some_and(|inode| processes_with(Path::new("/"), &inode).iter().any(|p| is_remote(Path::new("/"), p)))
}

/// Processes that have this socket open.
fn processes_with(root: &Path, inode: &str) -> Vec<String> {
    let wanted = format!("socket:[{inode}]");
    let Ok(all) = fs::read_dir(root.join("proc")) else { return vec![] };
    let ids = all.filter_map(|e| e.ok()?.file_name().into_string().ok()).filter(|n| n.bytes().all(|b| b.is_ascii_digit()));
    let has = |id: &String| {
        let open = fs::read_dir(root.join("proc").join(id).join("fd")).into_iter().flatten().flatten();
        open.filter_map(|e| fs::read_link(e.path()).ok()).any(|to| to.as_os_str() == wanted.as_str())
    };
    ids.filter(has).collect()
}

/// Whether logind keeps the session of this process as one from another computer. A process stays in the session in which it was
/// started (its control group), whatever becomes of its parent, its terminal and its environment.
fn is_remote(root: &Path, process: &str) -> bool {
    let groups = fs::read_to_string(root.join("proc").join(process).join("cgroup")).unwrap_or_default();
    let scope = groups.split(['/', '\n']).find_map(|part| part.strip_prefix("session-")?.strip_suffix(".scope"));
    let Some(session) = scope.filter(|s| !s.is_empty() && s.chars().all(|c| c.is_ascii_alphanumeric())) else { return false };
    let told = fs::read_to_string(root.join(SESSIONS).join(session)).unwrap_or_default();
    // logind forgets a session when it ends: a process of an unknown session was left behind.
    told.is_empty() || told.lines().any(|l| l == "REMOTE=1")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_came_in_over_the_network_is_told_from_what_sits_here() {
        let root = tempfile::tempdir().unwrap();
        let put = |path: &str, text: &str| {
            let file = root.path().join(path);
            fs::create_dir_all(file.parent().unwrap()).unwrap();
            fs::write(file, text).unwrap();
        };
        put("run/systemd/sessions/4", "UID=1000\nUSER=observer\nACTIVE=1\nREMOTE=0\nSEAT=seat0\nTYPE=wayland\n");
        put("run/systemd/sessions/c7", "UID=1000\nUSER=observer\nACTIVE=1\nREMOTE=1\nREMOTE_HOST=192.0.2.7\nTYPE=tty\nSTATE=closing\n");
        let table = [
            ("10", "0::/user.slice/user-1000.slice/session-4.scope\n", false),
            ("11", "0::/user.slice/user-1000.slice/session-c7.scope\n", true),
            ("12", "12:pids:/user.slice\n1:name=systemd:/user.slice/user-1000.slice/session-c7.scope\n", true),
            ("13", "0::/user.slice/user-1000.slice/session-9.scope\n", true),
            ("14", "0::/user.slice/user-1000.slice/user@1000.service/app.slice/browser.scope\n", false),
            ("15", "0::/system.slice/cron.service\n", false),
            ("16", "0::/user.slice/session-../../etc.scope\n", false),
        ];
        for (process, groups, remote) in table {
            put(&format!("proc/{process}/cgroup"), groups);
            assert_eq!(is_remote(root.path(), process), remote, "{groups}");
        }
        for (process, inode) in [("10", "77"), ("11", "78")] {
            let open = root.path().join(format!("proc/{process}/fd"));
            fs::create_dir_all(&open).unwrap();
            std::os::unix::fs::symlink(format!("socket:[{inode}]"), open.join("3")).unwrap();
        }
        assert_eq!(processes_with(root.path(), "78"), ["11"]);
    }

    #[test]
    fn ones_own_socket_is_found_among_the_processes() {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let to = listener.local_addr().unwrap();
        let near = std::net::TcpStream::connect(to).unwrap();
        let inode = super::super::peer::socket_of(near.local_addr().unwrap(), to).unwrap();
        assert!(processes_with(Path::new("/"), &inode).contains(&std::process::id().to_string()));
    }
}
