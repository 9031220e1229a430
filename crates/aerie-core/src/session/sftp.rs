//! Reads the file transfer protocol in the middle (draft-ietf-secsh-filexfer-02, version 3, as OpenSSH speaks it): holds each
//! request to what was granted, and notes each file that is copied.

use crate::policy::{Capabilities, Capability};
use crate::recording::Transfer;
use std::collections::HashMap;

/// Longest packet: OpenSSH's is 256 KiB.
const MAX_PACKET: usize = 512 << 10;
/// Requests that may wait for their answer, and files that may be open; OpenSSH asks with 64 at a time.
const MAX_OPEN: usize = 4096;

const OPEN: u8 = 3;
const CLOSE: u8 = 4;
const READ: u8 = 5;
const WRITE: u8 = 6;
const EXTENDED: u8 = 200;
const STATUS: u8 = 101;
const HANDLE: u8 = 102;
const DATA: u8 = 103;
const PERMISSION_DENIED: u32 = 3;
const OP_UNSUPPORTED: u32 = 8;
/// Open for reading, and everything that changes the file (write, append, create, truncate).
const FLAG_READ: u32 = 1;
const FLAGS_WRITE: u32 = 2 | 4 | 8 | 16;

/// What the transfer may do. Names and properties of files are seen by all who have the channel at all.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SftpRights {
    /// Change files and folders.
    pub upload: bool,
    /// Read files.
    pub download: bool,
}

impl SftpRights {
    /// The rights that capabilities give.
    pub fn of(c: Capabilities) -> Self {
        Self { upload: c.contains(Capability::Upload), download: c.contains(Capability::Download) }
    }
}

/// What to do with what was taken.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct SftpOut {
    /// To be passed on in the direction in which it came.
    pub pass: Vec<u8>,
    /// To be sent back to the client (refusals).
    pub back: Vec<u8>,
    /// Copies that ended.
    pub transfers: Vec<Transfer>,
}

/// The peer does not keep to the protocol; the channel must be closed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum SftpError {
    /// A packet is longer than any real one.
    #[error("a packet of the file transfer is longer than {MAX_PACKET} bytes")]
    TooLong,
    /// A packet cannot be read.
    #[error("a packet of the file transfer cannot be read")]
    Malformed,
    /// More open files or waiting requests than any real client has.
    #[error("the file transfer has more than {MAX_OPEN} requests or files open")]
    TooMany,
}

#[derive(Debug)]
struct OpenFile {
    path: String,
    write: bool,
    read: u64,
    written: u64,
}

#[derive(Debug)]
enum Waiting {
    Open { path: String, write: bool },
    Read { handle: Vec<u8> },
}

/// The filter of one file transfer channel.
#[derive(Debug)]
pub struct SftpFilter {
    rights: SftpRights,
    from_client: Vec<u8>,
    from_server: Vec<u8>,
    waiting: HashMap<u32, Waiting>,
    files: HashMap<Vec<u8>, OpenFile>,
}

struct Fields<'a>(&'a [u8]);

impl<'a> Fields<'a> {
    fn u32(&mut self) -> Result<u32, SftpError> {
        let (n, rest) = self.0.split_first_chunk::<4>().ok_or(SftpError::Malformed)?;
        self.0 = rest;
        Ok(u32::from_be_bytes(*n))
    }

    fn skip(&mut self, n: usize) -> Result<(), SftpError> {
        self.0 = self.0.get(n..).ok_or(SftpError::Malformed)?;
        Ok(())
    }

    fn bytes(&mut self) -> Result<&'a [u8], SftpError> {
        let length = self.u32()? as usize;
        let (bytes, rest) = self.0.split_at_checked(length).ok_or(SftpError::Malformed)?;
        self.0 = rest;
        Ok(bytes)
    }

    fn text(&mut self) -> Result<String, SftpError> {
        Ok(String::from_utf8_lossy(self.bytes()?).into_owned())
    }
}

impl SftpFilter {
    /// A filter with these rights.
    pub fn new(rights: SftpRights) -> Self {
        Self { rights, from_client: vec![], from_server: vec![], waiting: HashMap::new(), files: HashMap::new() }
    }

    /// Takes what the client sent.
    ///
    /// # Errors
    /// When it does not keep to the protocol.
    pub fn handle_client(&mut self, bytes: &[u8]) -> Result<SftpOut, SftpError> {
        let mut out = SftpOut::default();
        self.from_client.extend_from_slice(bytes);
        let mut buffer = std::mem::take(&mut self.from_client);
        let mut rest = buffer.as_slice();
        while let Some(packet) = next_packet(&mut rest)? {
            match self.request(packet, &mut out)? {
                None => out.pass.extend_from_slice(packet),
                Some(refusal) => out.back.extend_from_slice(&refusal),
            }
        }
        let used = buffer.len() - rest.len();
        buffer.drain(..used);
        self.from_client = buffer;
        Ok(out)
    }

    /// Takes what the machine sent.
    ///
    /// # Errors
    /// When it does not keep to the protocol.
    pub fn handle_server(&mut self, bytes: &[u8]) -> Result<SftpOut, SftpError> {
        let mut out = SftpOut::default();
        self.from_server.extend_from_slice(bytes);
        let mut buffer = std::mem::take(&mut self.from_server);
        let mut rest = buffer.as_slice();
        while let Some(packet) = next_packet(&mut rest)? {
            self.answer(packet, &mut out)?;
            out.pass.extend_from_slice(packet);
        }
        let used = buffer.len() - rest.len();
        buffer.drain(..used);
        self.from_server = buffer;
        Ok(out)
    }

    /// Ends: files that were open were broken off.
    pub fn finish(self) -> Vec<Transfer> {
        let mut broken: Vec<_> = self.files.into_values().flat_map(|f| f.transfers("broken off")).collect();
        broken.sort_by(|a, b| a.path.cmp(&b.path));
        broken
    }

    /// Looks at a request; the answer to the client where it is refused.
    fn request(&mut self, packet: &[u8], out: &mut SftpOut) -> Result<Option<Vec<u8>>, SftpError> {
        let kind = packet.get(4).copied().ok_or(SftpError::Malformed)?;
        let mut f = Fields(packet.get(5..).unwrap_or(&[]));
        // INIT has a version where the others have an id.
        let id = f.u32()?;
        if self.waiting.len() > MAX_OPEN || self.files.len() > MAX_OPEN {
            return Err(SftpError::TooMany);
        }
        match kind {
            OPEN => return self.open(id, &mut f, out),
            CLOSE => {
                let file = self.files.remove(f.bytes()?);
                out.transfers.extend(file.into_iter().flat_map(|f| f.transfers("done")));
            }
            READ => drop(self.waiting.insert(id, Waiting::Read { handle: f.bytes()?.to_vec() })),
            WRITE => {
                let handle = f.bytes()?;
                f.skip(8)?;
                let length = f.bytes()?.len() as u64;
                if let Some(file) = self.files.get_mut(handle) {
                    file.written += length;
                }
            }
            // SETSTAT, FSETSTAT, REMOVE, MKDIR, RMDIR, RENAME, SYMLINK
            9 | 10 | 13 | 14 | 15 | 18 | 20 if !self.rights.upload => {
                return Ok(Some(status(id, PERMISSION_DENIED, "changing files is not allowed by the rules")));
            }
            // INIT, the requests above, and those that only look: LSTAT, FSTAT, OPENDIR, READDIR, REALPATH, STAT, READLINK
            1 | 7..=20 => {}
            EXTENDED => {
                let name = f.text()?;
                if !self.extension(&name) {
                    return Ok(Some(status(id, OP_UNSUPPORTED, "this extension is not passed on")));
                }
            }
            _ => return Ok(Some(status(id, OP_UNSUPPORTED, "this request is not known"))),
        }
        Ok(None)
    }

    fn open(&mut self, id: u32, f: &mut Fields<'_>, out: &mut SftpOut) -> Result<Option<Vec<u8>>, SftpError> {
        let path = f.text()?;
        let flags = f.u32()?;
        let (read, write) = (flags & FLAG_READ != 0, flags & FLAGS_WRITE != 0);
        if (read && !self.rights.download) || (write && !self.rights.upload) {
            let direction = if write { "upload" } else { "download" };
            out.transfers.push(Transfer { direction: direction.into(), path, bytes: 0, sha256: None, result: "refused".into() });
            return Ok(Some(status(id, PERMISSION_DENIED, &format!("{direction} is not allowed by the rules"))));
        }
        self.waiting.insert(id, Waiting::Open { path, write });
        Ok(None)
    }

    fn extension(&self, name: &str) -> bool {
        match name {
            "posix-rename@openssh.com" | "hardlink@openssh.com" | "fsync@openssh.com" | "lsetstat@openssh.com" => self.rights.upload,
            "copy-data" => self.rights.upload && self.rights.download,
            "statvfs@openssh.com"
            | "fstatvfs@openssh.com"
            | "limits@openssh.com"
            | "expand-path@openssh.com"
            | "home-directory"
            | "users-groups-by-id@openssh.com" => true,
            _ => false,
        }
    }

    fn answer(&mut self, packet: &[u8], out: &mut SftpOut) -> Result<(), SftpError> {
        let kind = packet.get(4).copied().ok_or(SftpError::Malformed)?;
        let mut f = Fields(packet.get(5..).unwrap_or(&[]));
        if !matches!(kind, STATUS..=105) {
            return Ok(());
        }
        match (self.waiting.remove(&f.u32()?), kind) {
            (Some(Waiting::Open { path, write }), HANDLE) => {
                self.files.insert(f.bytes()?.to_vec(), OpenFile { path, write, read: 0, written: 0 });
            }
            (Some(Waiting::Open { path, write }), _) => {
                let direction = if write { "upload" } else { "download" };
                out.transfers.push(Transfer { direction: direction.into(), path, bytes: 0, sha256: None, result: "failed".into() });
            }
            (Some(Waiting::Read { handle }), DATA) => {
                let length = f.bytes()?.len() as u64;
                if let Some(file) = self.files.get_mut(&handle) {
                    file.read += length;
                }
            }
            (Some(Waiting::Read { .. }) | None, _) => {}
        }
        Ok(())
    }
}

impl OpenFile {
    fn transfers(self, result: &str) -> Vec<Transfer> {
        let one = |direction: &str, bytes| Transfer {
            direction: direction.into(),
            path: self.path.clone(),
            bytes,
            sha256: None,
            result: result.into(),
        };
        let up = (self.write || self.written > 0).then(|| one("upload", self.written));
        let down = (!self.write || self.read > 0).then(|| one("download", self.read));
        up.into_iter().chain(down).collect()
    }
}

fn next_packet<'a>(rest: &mut &'a [u8]) -> Result<Option<&'a [u8]>, SftpError> {
    let Some(length) = rest.first_chunk::<4>().map(|n| u32::from_be_bytes(*n) as usize) else { return Ok(None) };
    if length > MAX_PACKET {
        return Err(SftpError::TooLong);
    }
    if length < 5 {
        return Err(SftpError::Malformed);
    }
    let Some((packet, after)) = rest.split_at_checked(length + 4) else { return Ok(None) };
    *rest = after;
    Ok(Some(packet))
}

fn status(id: u32, code: u32, message: &str) -> Vec<u8> {
    let mut body = vec![STATUS];
    body.extend_from_slice(&id.to_be_bytes());
    body.extend_from_slice(&code.to_be_bytes());
    for text in [message, "en"] {
        body.extend_from_slice(&(text.len() as u32).to_be_bytes());
        body.extend_from_slice(text.as_bytes());
    }
    [&(body.len() as u32).to_be_bytes()[..], &body].concat()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn text(t: &str) -> Vec<u8> {
        [&(t.len() as u32).to_be_bytes()[..], t.as_bytes()].concat()
    }

    fn packet(kind: u8, id: u32, parts: &[Vec<u8>]) -> Vec<u8> {
        let body: Vec<u8> = std::iter::once(kind).chain(id.to_be_bytes()).chain(parts.concat()).collect();
        [&(body.len() as u32).to_be_bytes()[..], &body].concat()
    }

    fn n(v: u32) -> Vec<u8> {
        v.to_be_bytes().to_vec()
    }

    fn filter(upload: bool, download: bool) -> SftpFilter {
        SftpFilter::new(SftpRights { upload, download })
    }

    #[test]
    fn an_upload_is_passed_and_noted() {
        let mut f = filter(true, false);
        let open = packet(OPEN, 1, &[text("/tmp/a"), n(26), n(0)]);
        assert_eq!(f.handle_client(&open).unwrap().pass, open);
        f.handle_server(&packet(HANDLE, 1, &[text("h")])).unwrap();
        f.handle_client(&packet(WRITE, 2, &[text("h"), vec![0; 8], text("hello")])).unwrap();
        let out = f.handle_client(&packet(CLOSE, 3, &[text("h")])).unwrap();
        assert_eq!(
            out.transfers,
            [Transfer { direction: "upload".into(), path: "/tmp/a".into(), bytes: 5, sha256: None, result: "done".into() }]
        );
    }

    #[test]
    fn what_is_not_granted_is_answered_and_never_passed() {
        let mut f = filter(false, true);
        for request in [
            packet(OPEN, 7, &[text("/x"), n(2), n(0)]),
            packet(13, 7, &[text("/x")]),
            packet(EXTENDED, 7, &[text("posix-rename@openssh.com")]),
            packet(99, 7, &[]),
        ] {
            let out = f.handle_client(&request).unwrap();
            assert!(out.pass.is_empty() && !out.back.is_empty());
            assert_eq!(out.back[4..9], [STATUS, 0, 0, 0, 7]);
        }
        let out = filter(true, false).handle_client(&packet(OPEN, 1, &[text("/x"), n(1), n(0)])).unwrap();
        assert_eq!(out.transfers[0].result, "refused");
    }

    #[test]
    fn a_download_counts_what_the_machine_sent() {
        let mut f = filter(false, true);
        f.handle_client(&packet(OPEN, 1, &[text("/log"), n(1), n(0)])).unwrap();
        f.handle_server(&packet(HANDLE, 1, &[text("h")])).unwrap();
        f.handle_client(&packet(READ, 2, &[text("h"), vec![0; 8], n(100)])).unwrap();
        f.handle_server(&packet(DATA, 2, &[text("0123456789")])).unwrap();
        assert_eq!(
            f.finish(),
            [Transfer { direction: "download".into(), path: "/log".into(), bytes: 10, sha256: None, result: "broken off".into() }]
        );
    }

    #[test]
    fn packets_and_open_requests_have_limits() {
        let long = |n: u32| n.to_be_bytes().to_vec();
        assert_eq!(filter(true, true).handle_client(&long(MAX_PACKET as u32)).map(|o| o.pass.len()), Ok(0));
        assert_eq!(filter(true, true).handle_client(&long(MAX_PACKET as u32 + 1)), Err(SftpError::TooLong));
        let mut f = filter(true, true);
        for i in 0..=MAX_OPEN as u32 {
            f.handle_client(&packet(READ, i, &[text("h"), vec![0; 8], n(1)])).unwrap();
        }
        assert_eq!(f.handle_client(&packet(READ, 0, &[text("h"), vec![0; 8], n(1)])), Err(SftpError::TooMany));
    }

    proptest! {
        #[test]
        fn pieces_of_any_size_give_the_same(cut in 1usize..30) {
            let stream = [packet(1, 3, &[]), packet(OPEN, 1, &[text("/tmp/a"), n(26), n(0)]), packet(13, 2, &[text("/x")])].concat();
            let mut whole = filter(true, false);
            let all = whole.handle_client(&stream).unwrap();
            let mut f = filter(true, false);
            let mut pass = vec![];
            for piece in stream.chunks(cut) {
                pass.extend(f.handle_client(piece).unwrap().pass);
            }
            prop_assert_eq!(pass, all.pass);
        }

        #[test]
        fn any_bytes_are_refused_or_passed_without_a_panic(bytes in prop::collection::vec(any::<u8>(), 0..200)) {
            let mut f = filter(true, true);
            let _ = f.handle_client(&bytes);
            let _ = f.handle_server(&bytes);
        }
    }
}
