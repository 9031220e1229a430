//! Reads the command line of a copy over `exec` and builds it again.
//!
//! A machine's shell and its `scp` or `rsync` read a command line in their own way, so a line that a client wrote is never
//! trusted: what stock clients send is recognised by a closed grammar, taken apart, and written again with each option in
//! a place where no other option can swallow it. Only that line is sent. Everything else is a command, which `exec` alone
//! allows.

use crate::policy::Capability;

/// Longest command line of a copy that is recognised, in bytes. `rsync` of a hundred long paths stays below it.
const MAX_LINE: usize = 64 << 10;

/// What a command asks for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Asked {
    /// The far end of a copy: the transfer capability of its direction, or `exec`, allows it.
    Copy(CopyCommand),
    /// Anything else: `exec` alone allows it.
    Command,
}

/// The far end of a copy, taken apart.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CopyCommand {
    program: Program,
    direction: Capability,
    options: Vec<String>,
    /// It makes the far end tell what files there hold: their checksums.
    reads_there: bool,
    paths: Vec<Word>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Program {
    Scp,
    Rsync,
}

/// A word of a shell: its bytes, and whether the shell expands each (a glob character or a leading tilde).
type Word = Vec<(u8, bool)>;

impl CopyCommand {
    /// [`Capability::Upload`] or [`Capability::Download`].
    pub fn direction(&self) -> Capability {
        self.direction
    }

    /// The command line to send. None where it would tell the contents of files on the machine and `may_read` does not
    /// hold: then it counts as any other command.
    ///
    /// Without `may_read`, `rsync` on the receiving side is told to take files whole, since it would send the checksums of
    /// what is there otherwise.
    pub fn command_line(&self, may_read: bool) -> Option<Vec<u8>> {
        let sends = self.direction == Capability::Download;
        if self.reads_there && !sends && !may_read {
            return None;
        }
        let mut line = match (self.program, sends) {
            (Program::Scp, _) => String::from("scp"),
            (Program::Rsync, true) => "rsync --server --sender".into(),
            (Program::Rsync, false) => "rsync --server".into(),
        };
        for option in &self.options {
            line.push(' ');
            line.push_str(option);
        }
        let last = match (self.program, sends) {
            (Program::Scp, true) => " -f --",
            (Program::Scp, false) => " -t --",
            (Program::Rsync, false) if !may_read => " -W -- .",
            (Program::Rsync, _) => " -- .",
        };
        line.push_str(last);
        let mut line = line.into_bytes();
        for path in &self.paths {
            line.push(b' ');
            quote(path, &mut line);
        }
        Some(line)
    }
}

/// Says what a command needs.
pub fn classify(command: &[u8]) -> Asked {
    if command.len() > MAX_LINE {
        return Asked::Command;
    }
    let Some(words) = split(command) else { return Asked::Command };
    let Some((program, rest)) = words.split_first() else { return Asked::Command };
    let copy = match plain(program).as_deref() {
        Some("scp") => scp(rest),
        Some("rsync") => rsync(rest),
        _ => None,
    };
    copy.map_or(Asked::Command, Asked::Copy)
}

/// `scp [-rpdvq]… -t|-f [--] PATH…` as OpenSSH (scp.c), its descendants and the SSH libraries send it: letters alone or in
/// clusters, in any order.
fn scp(words: &[Word]) -> Option<CopyCommand> {
    let (mut direction, mut options) = (None, vec![]);
    let mut rest = words;
    while let Some((word, after)) = rest.split_first() {
        if !begins_with_dash(word) {
            break;
        }
        rest = after;
        let text = plain(word)?;
        let letters = text.strip_prefix('-')?;
        if letters == "-" {
            break;
        }
        for letter in letters.chars() {
            let way = match letter {
                't' => Capability::Upload,
                'f' => Capability::Download,
                'r' | 'p' | 'd' | 'v' | 'q' => {
                    let option = format!("-{letter}");
                    if !options.contains(&option) {
                        options.push(option);
                    }
                    continue;
                }
                _ => return None,
            };
            if direction.replace(way).is_some() {
                return None;
            }
        }
        // A dash alone is a file.
        if letters.is_empty() {
            return None;
        }
    }
    let direction = direction?;
    let paths = rest.to_vec();
    if paths.is_empty() || (direction == Capability::Upload && paths.len() != 1) {
        return None;
    }
    Some(CopyCommand { program: Program::Scp, direction, options, reads_there: false, paths })
}

/// Letters of rsync's clusters that take no value and only describe the transfer (rsync's options.c, `server_options`).
const RSYNC_LETTERS: &str = "vqnlLkKHoDgtUNpEAXrcCIRxSzdmOJuWb";
/// Those that make a receiver tell checksums of what is there.
const RSYNC_READING_LETTERS: &str = "c";

/// Long options without a value that only describe the transfer.
const RSYNC_WORDS: [&str; 26] = [
    "--numeric-ids",
    "--delete",
    "--delete-before",
    "--delete-during",
    "--delete-after",
    "--delete-delay",
    "--delete-excluded",
    "--partial",
    "--inplace",
    "--append",
    "--no-r",
    "--no-relative",
    "--no-implied-dirs",
    "--dirs",
    "--stats",
    "--size-only",
    "--existing",
    "--ignore-existing",
    "--ignore-errors",
    "--force",
    "--safe-links",
    "--copy-unsafe-links",
    "--mkpath",
    "--list-only",
    "--new-compress",
    "--old-compress",
];
/// Long options with a number.
const RSYNC_NUMBERS: [&str; 8] =
    ["--timeout", "--bwlimit", "--max-size", "--min-size", "--max-delete", "--modify-window", "--checksum-seed", "--compress-level"];
/// Long options with one of these values.
const RSYNC_CHOICES: [(&str, &[&str]); 3] = [
    ("--log-format", &["%i", "%i%I", "%o", "X"]),
    ("--compress-choice", &["zstd", "lz4", "zlibx", "zlib", "none"]),
    ("--checksum-choice", &["xxh128", "xxh3", "xxh64", "xxhash", "md5", "md4", "sha1", "none"]),
];

/// `rsync --server [--sender] OPTIONS . PATH…`, as rsync 2.6 to 3.5 and openrsync send it.
fn rsync(words: &[Word]) -> Option<CopyCommand> {
    let (first, mut rest) = words.split_first()?;
    if plain(first).as_deref() != Some("--server") {
        return None;
    }
    let mut direction = Capability::Upload;
    if rest.first().and_then(plain).as_deref() == Some("--sender") {
        direction = Capability::Download;
        rest = rest.get(1..)?;
    }
    let (mut options, mut reads_there) = (vec![], false);
    while let Some((word, after)) = rest.split_first().filter(|(w, _)| begins_with_dash(w)) {
        let text = plain(word)?;
        rest = after;
        if text == "--" {
            break;
        }
        reads_there |= if text.starts_with("--") { long(&text)? } else { cluster(&text)? };
        options.push(text);
    }
    let (dot, paths) = rest.split_first()?;
    if plain(dot).as_deref() != Some(".") || paths.is_empty() {
        return None;
    }
    Some(CopyCommand { program: Program::Rsync, direction, options, reads_there, paths: paths.to_vec() })
}

/// A cluster of short options; whether it makes a receiver tell what is there. What stands behind `e.` are letters of the
/// protocol, which `-e` takes as its value: it comes last, and is nothing without the dot.
fn cluster(text: &str) -> Option<bool> {
    let letters = text.strip_prefix('-')?;
    let options = match letters.split_once('e') {
        Some((options, protocol)) => {
            protocol.strip_prefix('.').filter(|p| p.bytes().all(|b| b.is_ascii_alphabetic()))?;
            options
        }
        None => letters,
    };
    let known = !letters.is_empty() && options.chars().all(|c| RSYNC_LETTERS.contains(c));
    known.then(|| options.chars().any(|c| RSYNC_READING_LETTERS.contains(c)))
}

/// A long option; whether it makes a receiver tell what is there.
fn long(text: &str) -> Option<bool> {
    if RSYNC_WORDS.contains(&text) {
        return Some(matches!(text, "--append" | "--list-only"));
    }
    let (name, value) = text.split_once('=')?;
    let number = |v: &str| {
        let digits = v.strip_prefix('-').unwrap_or(v);
        !digits.is_empty() && digits.len() <= 18 && digits.bytes().all(|b| b.is_ascii_digit())
    };
    let known = RSYNC_NUMBERS.contains(&name) && number(value)
        || RSYNC_CHOICES.iter().any(|(choice, values)| *choice == name && values.contains(&value));
    known.then_some(false)
}

fn begins_with_dash(word: &Word) -> bool {
    word.first() == Some(&(b'-', false))
}

/// The text of a word in which nothing is expanded, and which is ASCII.
fn plain(word: &Word) -> Option<String> {
    word.iter().map(|(b, expanded)| (!expanded && b.is_ascii()).then_some(char::from(*b))).collect()
}

/// Splits a command line into words as a POSIX shell does (XCU 2.2, 2.6). None where the shell would do anything but expand
/// file names: substitutions, operators, assignments, comments, control characters.
fn split(line: &[u8]) -> Option<Vec<Word>> {
    let (mut words, mut word, mut begun) = (vec![], Word::new(), false);
    let mut bytes = line.iter().copied();
    while let Some(b) = bytes.next() {
        match b {
            b' ' => {
                if std::mem::take(&mut begun) {
                    words.push(std::mem::take(&mut word));
                }
                continue;
            }
            b'\'' => loop {
                match printable(bytes.next()?)? {
                    b'\'' => break,
                    b => word.push((b, false)),
                }
            },
            b'"' => loop {
                match printable(bytes.next()?)? {
                    b'"' => break,
                    b'$' | b'`' | b'\\' => return None,
                    b => word.push((b, false)),
                }
            },
            b'\\' => word.push((printable(bytes.next()?)?, false)),
            b'*' | b'?' | b'[' | b']' => word.push((b, true)),
            b'~' => word.push((b, !begun)),
            b if b.is_ascii_alphanumeric() || b"._/@%+=:,-".contains(&b) || b >= 0x80 => word.push((b, false)),
            _ => return None,
        }
        begun = true;
    }
    if begun {
        words.push(word);
    }
    // An empty word is no path.
    words.iter().all(|w| !w.is_empty()).then_some(words)
}

fn printable(b: u8) -> Option<u8> {
    (b >= 0x20 && b != 0x7f).then_some(b)
}

/// Writes a word so that a shell reads it as it is: what is not plain stands in single quotes, what is expanded stays bare.
fn quote(word: &Word, line: &mut Vec<u8>) {
    let bare = |(b, expanded): (u8, bool)| expanded || b.is_ascii_alphanumeric() || b"._/-+,:@".contains(&b);
    let mut quoted = false;
    for &(b, expanded) in word {
        if quoted == (bare((b, expanded)) || b == b'\'') {
            line.push(b'\'');
            quoted = !quoted;
        }
        if b == b'\'' {
            line.push(b'\\');
        }
        line.push(b);
    }
    if quoted {
        line.push(b'\'');
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn built(line: &str, may_read: bool) -> Option<(Capability, String)> {
        match classify(line.as_bytes()) {
            Asked::Command => None,
            Asked::Copy(copy) => Some((copy.direction(), String::from_utf8(copy.command_line(may_read)?).unwrap())),
        }
    }

    /// What OpenSSH 9.2, PuTTY, libssh, libssh2, rsync 3.5 and openrsync sent, and what is sent for it.
    #[test]
    fn copies_of_stock_programs_are_built_again() {
        use Capability::{Download, Upload};
        let table = [
            ("scp -t /tmp", Upload, "scp -t -- /tmp"),
            ("scp -v -r -p -d -t -- -x", Upload, "scp -v -r -p -d -t -- -x"),
            ("scp -r -p -f notes.txt", Download, "scp -r -p -f -- notes.txt"),
            ("scp -pf 'it is'", Download, "scp -p -f -- it' 'is"),
            ("scp -f *.txt", Download, "scp -f -- *.txt"),
            ("scp -f ~/x\\ y", Download, "scp -f -- ~/x' 'y"),
            ("scp -f \"it's\"", Download, "scp -f -- it\\'s"),
            ("rsync --server -vlogDtpre.iLsfxCIvu . /tmp/x", Upload, "rsync --server -vlogDtpre.iLsfxCIvu -W -- . /tmp/x"),
            (
                "rsync --server --sender -vlogDtpre.iLsfxCIvu --numeric-ids . notes",
                Download,
                "rsync --server --sender -vlogDtpre.iLsfxCIvu --numeric-ids -- . notes",
            ),
            ("rsync --server --sender -logDtpre.iLsfxCIvu . *", Download, "rsync --server --sender -logDtpre.iLsfxCIvu -- . *"),
            (
                "rsync --server --sender -logDtpre.iLsfxCIvu . a\\$b it\\'s",
                Download,
                "rsync --server --sender -logDtpre.iLsfxCIvu -- . a'$'b it\\'s",
            ),
            ("rsync --server --sender -g -o -r -t . x", Download, "rsync --server --sender -g -o -r -t -- . x"),
            (
                "rsync --server -nltre.iLsfxCIvu --log-format=%i --timeout=9 --bwlimit=100 . x",
                Upload,
                "rsync --server -nltre.iLsfxCIvu --log-format=%i --timeout=9 --bwlimit=100 -W -- . x",
            ),
        ];
        for (sent, direction, line) in table {
            assert_eq!(built(sent, false), Some((direction, line.into())), "{sent}");
        }
        let delta = built("rsync --server -logDtprce.iLsfxCIvu --append . x", true);
        assert_eq!(delta.unwrap().1, "rsync --server -logDtprce.iLsfxCIvu --append -- . x");
    }

    #[test]
    fn everything_else_is_a_command() {
        let table = [
            "",
            "scp",
            "scp x",
            "scp -t",
            "scp -f",
            "scp -f -t x",
            "scp -t -f x",
            "scp -ft x",
            "scp -t a b",
            "scp - -f x",
            "scp -f ''",
            "scp -t /tmp; id",
            "scp -t $(id)",
            "scp -t `id`",
            "scp -S evil -t x",
            "scp -oProxyCommand=id -f x",
            "scp -t a>b",
            "scp -t a\nb",
            "scp -t {a,b}",
            "scp -f !1",
            "scp -f \"$HOME\"",
            "scp -f 'x",
            "scp -f x\\",
            "X=1 scp -f x",
            "/tmp/scp -f x",
            "scp -* -f x",
            "scp -f #x",
            "rsync --daemon",
            "rsync --server",
            "rsync --server .",
            "rsync --server -r x",
            "rsync --server --sender -r . ",
            "rsync --server --sender -slogDtpre.iLsfxCIvu",
            "rsync --server --sender -slogDtpre.iLsfxCIvu . x",
            "rsync --server -logDtpre --sender . ./",
            "rsync --server -logDtpre . x",
            "rsync --server -re.x/y . x",
            "rsync --server -e. --sender . x ;id",
            "rsync --sender --server -r . x",
            "rsync --server -r --sender . x",
            "rsync --server --sender -r --sender . x",
            "rsync --server --sender --log-file=.bashrc -r . notes",
            "rsync --server --sender --remove-source-files -r . notes",
            "rsync --server --sender -rM--log-file=F . x",
            "rsync --server --sender -rf . x",
            "rsync --server --sender -rT /tmp . x",
            "rsync --server -rB1 . x",
            "rsync --server --sender -r --files-from=/etc/passwd . x",
            "rsync --server --sender -r --timeout=1e3 . x",
            "rsync --server --sender - . x",
            "rsync --server -r --link-dest=/etc . x",
            "rsync --server -r --copy-dest /etc . x",
            "rsync --server -r --backup-dir=/etc . x",
            "rsync --server --sender -r --log-format=%f/../x . x",
            "rsync --server --sender -r --rsh=id . x",
            "rsync --server -r --write-devices . x",
            "cat notes",
        ];
        for line in table {
            assert_eq!(classify(line.as_bytes()), Asked::Command, "{line}");
        }
        assert_eq!(classify(&[b"scp -t ".as_slice(), &vec![b'x'; MAX_LINE]].concat()), Asked::Command);
    }

    #[test]
    fn an_upload_alone_does_not_tell_what_is_there() {
        for line in ["rsync --server -logDtprce.iLsfxCIvu . x", "rsync --server -r --append . x", "rsync --server -r --list-only . x"] {
            assert_eq!(built(line, false), None, "{line}");
            assert!(built(line, true).is_some(), "{line}");
        }
    }

    proptest! {
        /// What is sent is read by a shell as the words that were recognised, and recognised again as the same copy.
        #[test]
        fn a_line_that_is_built_is_the_same_copy(line in "(scp|rsync --server)( --sender)?( -[a-zA-Z.]{1,4}){0,3}( --?[a-z-]{1,9}(=[0-9%i]{1,3})?)?( \\.)?( [ -~é]{1,6}){0,2}", may in any::<bool>()) {
            if let Asked::Copy(copy) = classify(line.as_bytes())
                && let Some(built) = copy.command_line(may)
            {
                let Asked::Copy(again) = classify(&built) else { return Err(TestCaseError::fail("not a copy")) };
                prop_assert_eq!(again.direction(), copy.direction());
                prop_assert_eq!(&again.paths, &copy.paths);
            }
        }
    }
}
