//! Lines of `sudo` and `su`: who became another account, and for which command; and of the login manager.

/// Longest command that is kept.
const LONGEST_COMMAND: usize = 1000;

/// What a line says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum System {
    /// Somebody runs something as another account.
    Became {
        /// Account that asks.
        account: String,
        /// Account that it becomes.
        target: String,
        /// Command with its path; empty for a shell of `su`.
        command: String,
    },
    /// Nothing of that.
    Other,
    /// It begins like that and does not go on so.
    Unclear,
}

/// Reads what `sudo`, `su` or `systemd-logind` says; none where another program says it.
///
/// `sudo` writes `operator : TTY=pts/0 ; PWD=/home ; USER=root ; COMMAND=/usr/bin/id`, with what was refused between the account and the
/// terminal. The command is last and may say anything: the first `; COMMAND=` counts. A directory of the caller's making stands before it
/// in `PWD=`, so that the account is taken from the very beginning alone.
pub fn read_system(program: &str, text: &[u8]) -> Option<System> {
    let Ok(text) = std::str::from_utf8(text) else { return Some(System::Unclear) };
    match program {
        "sudo" => Some(sudo(text)),
        "su" => Some(su(text)),
        "systemd-logind" => Some(logind(text)),
        _ => None,
    }
}

fn sudo(text: &str) -> System {
    if text.starts_with("pam_unix(") {
        return System::Other;
    }
    let Some((before, command)) = text.split_once(" ; COMMAND=") else { return System::Other };
    let Some((account, rest)) = before.trim_start().split_once(" : ") else { return System::Unclear };
    // Refused: it did not run.
    if !rest.starts_with("TTY=") && !rest.starts_with("PWD=") && !rest.starts_with("HOST=") {
        return System::Other;
    }
    let target = rest.rsplit_once("USER=").map(|(_, t)| t.split(" ; ").next().unwrap_or(t));
    match target {
        Some(target) if is_name(account) && is_name(target) => {
            System::Became { account: account.into(), target: target.into(), command: command.chars().take(LONGEST_COMMAND).collect() }
        }
        _ => System::Unclear,
    }
}

/// `(to root) operator on pts/0`, as util-linux writes it.
fn su(text: &str) -> System {
    let Some(rest) = text.strip_prefix("(to ") else { return System::Other };
    match rest.split_once(") ").and_then(|(target, rest)| Some((target, rest.split_once(" on ")?.0))) {
        Some((target, account)) if is_name(account) && is_name(target) => {
            System::Became { account: account.into(), target: target.into(), command: String::new() }
        }
        _ => System::Unclear,
    }
}

/// `New session 5 of user operator.`, `Session 5 logged out. …`, `Removed session 5.`: a session of the machine, of somebody who sits at it
/// or came from afar. It names no address, so that it makes no access; the server through which somebody came tells of it.
fn logind(text: &str) -> System {
    let number = |t: &str| !t.is_empty() && t.len() <= 12 && t.chars().all(|c| c.is_ascii_alphanumeric());
    let known = if let Some(rest) = text.strip_prefix("New session ") {
        // Newer ones add the class: `of user 'operator' with class 'user' and type 'tty'.`
        rest.trim_matches('\'').split_once(" of user ").is_some_and(|(n, who)| {
            let who = who.split(" with class ").next().unwrap_or(who);
            number(n.trim_matches('\'')) && is_name(who.trim_end_matches('.').trim_matches('\''))
        })
    } else if let Some(rest) = text.strip_prefix("Removed session ") {
        number(rest.trim_end_matches('.'))
    } else if let Some(rest) = text.strip_prefix("Session ") {
        rest.split_once(' ').is_some_and(|(n, _)| number(n))
    } else {
        true
    };
    if known { System::Other } else { System::Unclear }
}

fn is_name(text: &str) -> bool {
    !text.is_empty() && text.len() <= 256 && !text.contains(char::is_whitespace)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn became(account: &str, target: &str, command: &str) -> System {
        System::Became { account: account.into(), target: target.into(), command: command.into() }
    }

    #[test]
    fn who_became_whom_is_read_and_names_stay_names() {
        let table = [
            (
                "sudo",
                " operator : TTY=pts/0 ; PWD=/home/operator ; USER=root ; COMMAND=/usr/bin/id -u",
                became("operator", "root", "/usr/bin/id -u"),
            ),
            ("sudo", "operator : PWD=/tmp ; USER=archivist ; ENV=A=b ; COMMAND=list", became("operator", "archivist", "list")),
            (
                "sudo",
                "operator : TTY=pts/0 ; PWD=/x ; USER=root ; COMMAND=/bin/echo ; COMMAND=/bin/false",
                became("operator", "root", "/bin/echo ; COMMAND=/bin/false"),
            ),
            ("sudo", "operator : command not allowed ; TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/bin/sh", System::Other),
            ("sudo", "pam_unix(sudo:session): session opened for user root(uid=0) by operator(uid=1000)", System::Other),
            ("sudo", "a b : TTY=x ; PWD=/ ; USER=root ; COMMAND=/bin/sh", System::Unclear),
            ("sudo", "operator : TTY=pts/0 ; PWD=/ ; COMMAND=/bin/sh", System::Unclear),
            ("su", "(to root) operator on pts/0", became("operator", "root", "")),
            ("su", "(to root operator on pts/0", System::Unclear),
            ("su", "pam_unix(su:session): session opened", System::Other),
            ("systemd-logind", "New session 5 of user operator.", System::Other),
            ("systemd-logind", "New session '5' of user 'operator' with class 'user' and type 'tty'.", System::Other),
            ("systemd-logind", "New session c1 of user a b.", System::Unclear),
            ("systemd-logind", "Session 5 logged out. Waiting for processes to exit.", System::Other),
            ("systemd-logind", "Removed session 5.", System::Other),
            ("systemd-logind", "Removed session of somebody", System::Unclear),
            ("systemd-logind", "Watching system buttons on /dev/input/event0", System::Other),
        ];
        for (program, text, expected) in table {
            assert_eq!(read_system(program, text.as_bytes()), Some(expected), "{text}");
        }
        assert_eq!(read_system("cron", b"x"), None);
        assert_eq!(read_system("sudo", b"\xff"), Some(System::Unclear));
    }
}
