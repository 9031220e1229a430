use super::finding::FindingKind;

/// A habit of people who should be asked what they are doing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Habit {
    /// The kind of finding that it makes.
    pub kind: FindingKind,
    /// What it was, to follow the name of the person.
    pub what: &'static str,
}

/// Files with which one gets in later.
const KEY_FILES: [&str; 3] = ["authorized_keys", "authorized_principals", "TrustedUserCAKeys"];
/// Files that show who did what.
const TRACKS: [&str; 6] = ["auth.log", "wtmp", "btmp", "lastlog", ".bash_history", "/var/log/journal"];

/// Whether a typed command adds a way in or hides tracks. Looks at words, so that a determined person can get past it; what
/// was typed stays in the recording all the same.
pub fn habit_in(command: &str) -> Option<Habit> {
    let writes = [">", "tee ", "ssh-copy-id", "cp ", "mv ", "install ", "sed -i", "echo "].iter().any(|w| command.contains(w));
    let has = |words: &[&str]| words.iter().any(|w| command.contains(w));
    if has(&KEY_FILES) && writes {
        return Some(Habit { kind: FindingKind::KeyAdded, what: "added a key to an account by hand" });
    }
    let removes = ["rm ", "shred", "truncate", ": >", "> /", ">/", "sed -i", "unlink"].iter().any(|w| command.contains(w));
    let history = ["history -c", "unset HISTFILE", "HISTFILE=/dev/null", "HISTSIZE=0", "set +o history"];
    if has(&history) || (has(&TRACKS) && removes) {
        return Some(Habit { kind: FindingKind::TracksHidden, what: "hid their tracks" });
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn looking_is_no_finding_and_changing_is() {
        let kind = |c: &str| habit_in(c).map(|h| h.kind);
        assert_eq!(kind("echo 'ssh-ed25519 AAAA laptop' >> ~/.ssh/authorized_keys"), Some(FindingKind::KeyAdded));
        assert_eq!(kind("cat ~/.ssh/authorized_keys"), None);
        assert_eq!(kind("unset HISTFILE"), Some(FindingKind::TracksHidden));
        assert_eq!(kind("sudo rm -f /var/log/auth.log"), Some(FindingKind::TracksHidden));
        assert_eq!(kind("tail -n 5 /var/log/auth.log"), None);
        assert_eq!(kind("ls -l"), None);
    }
}
