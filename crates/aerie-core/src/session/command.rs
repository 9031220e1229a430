use crate::policy::Capability;

/// What a command asks for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Asked {
    /// The far end of a copy in this direction, in a form that can do nothing else: the transfer capability or `exec` gives it.
    Copy(Capability),
    /// Anything else: only `exec` gives it.
    Command,
}

/// Options of a copying server that only describe the transfer. What is not here makes the command one for `exec`, since
/// some options write files of their own or run programs.
const RSYNC_OPTIONS: [&str; 12] = [
    "--server",
    "--sender",
    "--numeric-ids",
    "--delete",
    "--delete-before",
    "--delete-during",
    "--delete-after",
    "--delete-delay",
    "--partial",
    "--inplace",
    "--no-r",
    "--dirs",
];

/// Says what a command needs.
///
/// `scp -f`, `scp -t` and `rsync --server` (what `scp -O` and `rsync` send) are copies when their words hold nothing that a
/// shell would interpret.
pub fn classify(command: &[u8]) -> Asked {
    let plain = |b: &u8| b.is_ascii_alphanumeric() || b"._/@%+=:,- ~".contains(b);
    let Some(text) = std::str::from_utf8(command).ok().filter(|t| t.bytes().all(|b| plain(&b))) else { return Asked::Command };
    let mut words = text.split(' ').filter(|w| !w.is_empty());
    match words.next() {
        Some("scp") => scp(words),
        Some("rsync") => rsync(words),
        _ => Asked::Command,
    }
}

fn scp<'a>(words: impl Iterator<Item = &'a str>) -> Asked {
    let mut found = None;
    let mut options = true;
    for word in words {
        if !options || !word.starts_with('-') {
            options = false;
            continue;
        }
        match word {
            "-t" => found = Some(Capability::Upload),
            "-f" => found = Some(Capability::Download),
            "--" => options = false,
            "-r" | "-p" | "-d" | "-v" | "-q" => {}
            _ => return Asked::Command,
        }
    }
    found.map_or(Asked::Command, Asked::Copy)
}

fn rsync<'a>(words: impl Iterator<Item = &'a str>) -> Asked {
    let (mut server, mut sender) = (false, false);
    for word in words {
        if !word.starts_with('-') {
            continue;
        }
        server |= word == "--server";
        sender |= word == "--sender";
        // A cluster of short options, with the protocol's own letters behind an `e` and a dot.
        let cluster = !word.starts_with("--") && word.bytes().skip(1).all(|b| b.is_ascii_alphanumeric() || b == b'.');
        let known = RSYNC_OPTIONS.contains(&word)
            || word.starts_with("--log-format=")
            || word.starts_with("--timeout=")
            || word.starts_with("--bwlimit=");
        if !cluster && !known {
            return Asked::Command;
        }
    }
    match (server, sender) {
        (false, _) => Asked::Command,
        (true, true) => Asked::Copy(Capability::Download),
        (true, false) => Asked::Copy(Capability::Upload),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_harmless_copies_pass_as_copies() {
        let (up, down) = (Asked::Copy(Capability::Upload), Asked::Copy(Capability::Download));
        let table = [
            ("scp -t /tmp", up),
            ("scp -r -p -f notes.txt", down),
            ("scp -t /tmp; id", Asked::Command),
            ("scp -t $(id)", Asked::Command),
            ("scp -S evil -t x", Asked::Command),
            ("scp x", Asked::Command),
            ("rsync --server -vlogDtpre.iLsfxCIvu . /tmp/x", up),
            ("rsync --server --sender -vlogDtpre.iLsfxCIvu --numeric-ids . notes", down),
            ("rsync --server --sender --log-file=.bashrc -r . notes", Asked::Command),
            ("rsync --server --sender --remove-source-files -r . notes", Asked::Command),
            ("rsync --daemon", Asked::Command),
            ("cat notes", Asked::Command),
            ("", Asked::Command),
        ];
        for (command, asked) in table {
            assert_eq!(classify(command.as_bytes()), asked, "{command}");
        }
        assert_eq!(classify(b"scp -t \xff"), Asked::Command);
    }
}
