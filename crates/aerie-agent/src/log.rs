//! Sends the log of this computer's accesses to the service: what the journal holds for `auth` and `authpriv`, or a file.

use crate::serve::Note;
use aerie_core::audit::ship::{JOURNAL_FIELDS, MAX_LINE, Piece, Sending, Wanted, journal_place};
use std::fs::File;
use std::io::{self, Read as _, Seek as _, SeekFrom};
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::Duration;
use tokio::io::{AsyncBufReadExt as _, AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _, BufReader};
use tokio::sync::mpsc;

/// What stands for the journal of systemd.
pub const JOURNAL: &str = "journal";
/// How often a file is looked at for more.
const LOOK: Duration = Duration::from_millis(500);
/// Pieces that wait to be sent: when it is full, the file is read no further.
const MOST_WAITING: usize = 16;
/// Bytes that are read at a time.
const PIECE: usize = 64 << 10;
/// Longest line of the service's question.
const MAX_QUESTION: u64 = 1024;

/// Serves a stream on which the service asks for the log, to its end.
pub(crate) async fn serve(what: &str, stream: impl AsyncRead + AsyncWrite, note: &Note) {
    let (read, mut write) = tokio::io::split(stream);
    let mut read = BufReader::new(read);
    let result = async {
        let mut question = vec![];
        (&mut read).take(MAX_QUESTION).read_until(b'\n', &mut question).await?;
        let wanted: Wanted = serde_json::from_slice(&question)?;
        // A computer that says nothing of its zone keeps UTC.
        let zone = jiff::tz::TimeZone::system().iana_name().unwrap_or_default().replace("Etc/Unknown", "UTC");
        let mut head = serde_json::to_vec(&Sending { what: what.into(), zone })?;
        head.push(b'\n');
        write.write_all(&head).await?;
        write.flush().await?;
        let pieces = if what == JOURNAL { journal(&wanted.after)? } else { file(Path::new(what), &wanted.after) };
        send(pieces, &mut read, &mut write).await
    };
    note(&format!("sends {what}"));
    match result.await {
        Ok(()) => note(&format!("sends {what} no longer: the service wants no more")),
        Err(e) => note(&format!("cannot send {what}: {e}")),
    }
    let _ = write.shutdown().await;
}

/// Sends until there is no more, or the other side is gone.
async fn send(
    mut pieces: mpsc::Receiver<io::Result<Vec<u8>>>,
    read: &mut (impl AsyncRead + Unpin),
    write: &mut (impl AsyncWrite + Unpin),
) -> io::Result<()> {
    let mut nothing = [0; 1];
    loop {
        tokio::select! {
            piece = pieces.recv() => match piece {
                Some(piece) => {
                    write.write_all(&piece?).await?;
                    write.flush().await?;
                }
                None => return Ok(()),
            },
            // The service says nothing more, until it closes.
            said = read.read(&mut nothing) => return if said? == 0 { Ok(()) } else { Err(io::ErrorKind::InvalidData.into()) },
        }
    }
}

/// The journal, behind a place.
fn journal(after: &str) -> io::Result<mpsc::Receiver<io::Result<Vec<u8>>>> {
    let mut command = tokio::process::Command::new("journalctl");
    command.args(["--quiet", "--no-pager", "--follow", "--no-tail", "--output=json", &format!("--output-fields={JOURNAL_FIELDS}")]);
    if !after.is_empty() {
        command.arg(format!("--after-cursor={after}"));
    }
    // The facilities auth and authpriv (RFC 5424 section 6.2.1): the SSH server, PAM, sudo, su, the login manager.
    command.args(["SYSLOG_FACILITY=4", "SYSLOG_FACILITY=10"]);
    let mut child = command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::null()).kill_on_drop(true).spawn()?;
    let output = child.stdout.take().ok_or(io::ErrorKind::BrokenPipe)?;
    let (tell, pieces) = mpsc::channel(MOST_WAITING);
    tokio::spawn(async move {
        let mut output = BufReader::new(output);
        let mut line = vec![];
        loop {
            line.clear();
            // Dropping the child ends it, once nobody wants more.
            let mut rest = (&mut output).take(MAX_LINE as u64);
            let read = tokio::select! {
                read = rest.read_until(b'\n', &mut line) => read,
                () = tell.closed() => return,
            };
            match read {
                Ok(0) => {
                    let ended = child.wait().await.map_or_else(|e| e.to_string(), |s| s.to_string());
                    let _ = tell.send(Err(io::Error::other(format!("journalctl ended: {ended}")))).await;
                    return;
                }
                Ok(_) => {}
                Err(e) => return drop(tell.send(Err(e)).await),
            }
            let text = line.strip_suffix(b"\n").unwrap_or(&line);
            let Some(place) = journal_place(text) else { continue };
            let mut out = vec![];
            Piece::Line { place: &place, line: text }.write(&mut out);
            if tell.send(Ok(out)).await.is_err() {
                return;
            }
        }
    });
    Ok(pieces)
}

/// A file of lines, behind a place, and what comes to it. A thread of its own reads, so that a slow disk holds up nothing else.
fn file(path: &Path, after: &str) -> mpsc::Receiver<io::Result<Vec<u8>>> {
    let (tell, pieces) = mpsc::channel(MOST_WAITING);
    let (path, after) = (path.to_path_buf(), after.to_string());
    std::thread::spawn(move || {
        let mut tail = Tail::new(path, &after);
        while !tell.is_closed() {
            let mut out = vec![];
            let more = tail.read(&mut out);
            if !out.is_empty() && tell.blocking_send(Ok(out)).is_err() {
                return;
            }
            match more {
                Ok(true) => {}
                Ok(false) => std::thread::sleep(LOOK),
                Err(e) => return drop(tell.blocking_send(Err(e))),
            }
        }
    });
    pieces
}

/// Reads a log that is written to and put aside now and then.
struct Tail {
    path: PathBuf,
    /// The file that is being read, and its inode.
    open: Option<(File, u64)>,
    /// Where the service had it.
    resume: Option<(u64, u64)>,
    /// Bytes read of it.
    offset: u64,
    /// The beginning of a line whose end is not there yet.
    rest: Vec<u8>,
    /// Bytes of that line in the file; more than `rest` holds where it is too long.
    rest_len: u64,
}

impl Tail {
    fn new(path: PathBuf, after: &str) -> Self {
        let resume = after.split_once(':').and_then(|(inode, offset)| Some((inode.parse().ok()?, offset.parse().ok()?)));
        Self { path, open: None, resume, offset: 0, rest: vec![], rest_len: 0 }
    }

    /// Reads on; says whether there may be more at once.
    fn read(&mut self, out: &mut Vec<u8>) -> io::Result<bool> {
        let Some((file, inode)) = self.opened(out)? else { return Ok(false) };
        let mut piece = vec![0; PIECE];
        let n = file.read(&mut piece)?;
        if n > 0 {
            let bytes = piece.get(..n).unwrap_or_default();
            self.take(inode, bytes, out);
            return Ok(true);
        }
        let now = std::fs::metadata(&self.path).ok().map(|m| (m.ino(), m.len()));
        match now {
            // Another file took its place: what was left of the one before is read.
            Some((other, _)) if other != inode => {
                self.begin(None);
                Ok(true)
            }
            Some((_, len)) if len < self.offset => {
                Piece::Cut { before: self.offset, now: len }.write(out);
                self.begin(None);
                Ok(true)
            }
            _ => Ok(false),
        }
    }

    fn begin(&mut self, open: Option<(File, u64)>) {
        (self.open, self.offset, self.rest_len) = (open, 0, 0);
        self.rest.clear();
    }

    fn opened(&mut self, out: &mut Vec<u8>) -> io::Result<Option<(&mut File, u64)>> {
        if self.open.is_none() {
            let resume = self.resume.take();
            let path = match resume.map(|(inode, _)| find(&self.path, inode)) {
                Some(Some(path)) => path,
                _ => self.path.clone(),
            };
            let mut file = match File::open(&path) {
                // It is between two files, or not written to yet.
                Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(None),
                other => other?,
            };
            let meta = file.metadata()?;
            let inode = meta.ino();
            let mut offset = 0;
            if let Some((_, before)) = resume.filter(|(known, _)| *known == inode) {
                if meta.len() >= before {
                    offset = file.seek(SeekFrom::Start(before))?;
                } else {
                    Piece::Cut { before, now: meta.len() }.write(out);
                }
            }
            self.begin(Some((file, inode)));
            self.offset = offset;
        }
        Ok(self.open.as_mut().map(|(file, inode)| (file, *inode)))
    }

    fn take(&mut self, inode: u64, bytes: &[u8], out: &mut Vec<u8>) {
        for part in bytes.split_inclusive(|b| *b == b'\n') {
            let room = MAX_LINE.saturating_sub(self.rest.len()).min(part.len());
            self.rest.extend_from_slice(part.get(..room).unwrap_or_default());
            self.rest_len += part.len() as u64;
            if part.last() == Some(&b'\n') {
                self.offset += self.rest_len;
                let place = format!("{inode}:{}", self.offset);
                Piece::Line { place: &place, line: &self.rest }.write(out);
                self.rest.clear();
                self.rest_len = 0;
            }
        }
    }
}

/// The file of this inode: the log, or one beside it whose name begins alike, where it was put aside.
fn find(path: &Path, inode: u64) -> Option<PathBuf> {
    let is = |p: &Path| std::fs::metadata(p).is_ok_and(|m| m.is_file() && m.ino() == inode);
    if is(path) {
        return Some(path.to_path_buf());
    }
    let name = path.file_name()?;
    let beside = std::fs::read_dir(path.parent()?).ok()?.flatten().map(|e| e.path());
    let alike = |p: &PathBuf| p.file_name().is_some_and(|n| n.as_encoded_bytes().starts_with(name.as_encoded_bytes()));
    beside.filter(alike).find(|p| is(p))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;
    use std::io::Write as _;

    /// Everything that can be read now: places and lines, or remarks.
    fn drain(tail: &mut Tail) -> Vec<(String, String)> {
        let mut out = vec![];
        while tail.read(&mut out).unwrap() {}
        let read = |text: &[u8]| match Piece::read(text).unwrap() {
            Piece::Line { place, line } => (place.split_once(':').unwrap().1.to_string(), String::from_utf8_lossy(line).into_owned()),
            Piece::Cut { before, now } => ("!".to_string(), format!("{before} {now}")),
        };
        out.split(|b| *b == b'\n').filter(|l| !l.is_empty()).map(read).collect()
    }

    fn pair(place: &str, line: &str) -> (String, String) {
        (place.into(), line.into())
    }

    fn append(path: &Path, text: &str) {
        fs::OpenOptions::new().append(true).create(true).open(path).unwrap().write_all(text.as_bytes()).unwrap();
    }

    #[test]
    fn a_log_is_read_on_through_halves_of_lines_rotation_and_absence() {
        let directory = tempfile::tempdir().unwrap();
        let path = directory.path().join("auth.log");
        let mut tail = Tail::new(path.clone(), "");
        assert_eq!(drain(&mut tail), []);
        append(&path, "one\ntw");
        assert_eq!(drain(&mut tail), [pair("4", "one")]);
        append(&path, "o\n");
        assert_eq!(drain(&mut tail), [pair("8", "two")]);
        // Put aside while something was still written to it.
        fs::rename(&path, directory.path().join("auth.log.1")).unwrap();
        append(&directory.path().join("auth.log.1"), "late\n");
        assert_eq!(drain(&mut tail), [pair("13", "late")]);
        append(&path, "new\n");
        assert_eq!(drain(&mut tail), [pair("4", "new")]);
    }

    #[test]
    fn it_goes_on_where_the_service_had_it_also_in_a_file_that_was_put_aside() {
        let directory = tempfile::tempdir().unwrap();
        let path = directory.path().join("auth.log");
        append(&path, "one\ntwo\n");
        let inode = fs::metadata(&path).unwrap().ino();
        assert_eq!(drain(&mut Tail::new(path.clone(), &format!("{inode}:4"))), [pair("8", "two")]);
        fs::rename(&path, directory.path().join("auth.log.1")).unwrap();
        append(&path, "three\n");
        assert_eq!(drain(&mut Tail::new(path.clone(), &format!("{inode}:4"))), [pair("8", "two"), pair("6", "three")]);
        // A place that is none, and a file that is gone: all that there is.
        for after in ["0:4", "x", "1:2:3", &format!("{}:4", u64::MAX)] {
            assert_eq!(drain(&mut Tail::new(path.clone(), after)), [pair("6", "three")], "{after}");
        }
    }

    #[test]
    fn a_file_that_became_shorter_is_told_and_read_from_its_beginning() {
        let directory = tempfile::tempdir().unwrap();
        let path = directory.path().join("auth.log");
        append(&path, "one\ntwo\n");
        let mut tail = Tail::new(path.clone(), "");
        drain(&mut tail);
        fs::write(&path, "x\n").unwrap();
        assert_eq!(drain(&mut tail), [pair("!", "8 2"), pair("2", "x")]);
        let inode = fs::metadata(&path).unwrap().ino();
        assert_eq!(drain(&mut Tail::new(path, &format!("{inode}:8"))), [pair("!", "8 2"), pair("2", "x")]);
    }

    #[test]
    fn a_line_without_an_end_costs_bounded_memory_and_is_sent_once() {
        let directory = tempfile::tempdir().unwrap();
        let path = directory.path().join("auth.log");
        fs::write(&path, vec![b'x'; 3 * PIECE]).unwrap();
        let mut tail = Tail::new(path.clone(), "");
        assert_eq!(drain(&mut tail), []);
        assert!(tail.rest.len() <= MAX_LINE);
        append(&path, "\nnext\n");
        let read = drain(&mut tail);
        assert_eq!((read[0].1.len(), &read[1]), (MAX_LINE, &pair(&(3 * PIECE + 6).to_string(), "next")));
    }

    #[tokio::test]
    async fn the_service_is_told_what_is_sent_and_then_gets_it() {
        let directory = tempfile::tempdir().unwrap();
        let path = directory.path().join("auth.log");
        append(&path, "one\n");
        let (ours, theirs) = tokio::io::duplex(4096);
        let what = path.display().to_string();
        let serving = tokio::spawn(async move { serve(&what, theirs, &(std::sync::Arc::new(|_: &str| ()) as Note)).await });
        let (read, mut write) = tokio::io::split(ours);
        write.write_all(b"{\"after\":\"\"}\n").await.unwrap();
        let mut lines = BufReader::new(read).lines();
        let head: Sending = serde_json::from_str(&lines.next_line().await.unwrap().unwrap()).unwrap();
        assert_eq!(head.what, path.display().to_string());
        assert!(lines.next_line().await.unwrap().unwrap().ends_with(":4\tone"));
        append(&path, "two\n");
        assert!(lines.next_line().await.unwrap().unwrap().ends_with(":8\ttwo"));
        write.shutdown().await.unwrap();
        serving.await.unwrap();
    }
}
