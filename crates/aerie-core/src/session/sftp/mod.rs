//! Reads the file transfer protocol in the middle (draft-ietf-secsh-filexfer-02, version 3, as OpenSSH speaks it): holds each
//! request to the rights of this moment and to what its handle was opened for, and notes each file that is copied or changed.
//!
//! The two sides never share anything that both could read in their own way: requests get identifiers of the filter's own,
//! the version is always 3, and only extensions of a list are offered and passed on.

mod wire;

use crate::policy::{Capabilities, Capability};
use crate::recording::Transfer;
use std::collections::HashMap;
use wire::{Fields, code, flag, kind, next_packet, put, put_status, text};

/// Requests that may wait for their answer, and handles that may be open; OpenSSH asks with 64 at a time.
const MAX_OPEN: usize = 4096;
/// Longest name of a file that is noted; longer ones no server opens (PATH_MAX of Linux is 4096).
const MAX_PATH: usize = 8192;

/// What the transfer may do. Names and properties of files are seen by everyone who has the channel at all.
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

/// A file or folder that was changed, other than by a copy.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FileChange {
    /// What was done, in the past tense: `removed`, `renamed`, `linked`, `created`, `changed the attributes of`.
    pub act: &'static str,
    /// Its path as it was asked for.
    pub path: String,
    /// The new name, the name of the link, or where a symbolic link leads.
    pub to: Option<String>,
    /// `done`, `failed` or `refused`.
    pub result: &'static str,
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
    /// Other changes.
    pub changes: Vec<FileChange>,
    /// What the client began to make use of.
    pub used: Capabilities,
}

/// The peer does not keep to the protocol; the channel must be closed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum SftpError {
    /// A packet is longer than any real one.
    #[error("a packet of the file transfer is longer than {} bytes", wire::MAX_PACKET)]
    TooLong,
    /// A packet cannot be read, or stands where none of its kind may.
    #[error("a packet of the file transfer cannot be read")]
    Malformed,
    /// More open files or waiting requests than any real client has.
    #[error("the file transfer has more than {MAX_OPEN} requests or files open")]
    TooMany,
}

/// What a handle was opened for.
#[derive(Debug)]
enum Open {
    File(OpenFile),
    Folder,
}

#[derive(Debug)]
struct OpenFile {
    /// As it was asked for, and where the machine says that it is.
    path: String,
    real: Option<String>,
    for_reading: bool,
    for_writing: bool,
    read: u64,
    written: u64,
    failed: bool,
}

/// A request that waits for its answer.
#[derive(Debug)]
enum Waiting {
    Open(OpenFile),
    OpenFolder,
    Read {
        handle: Vec<u8>,
    },
    Write {
        handle: Vec<u8>,
        length: u64,
    },
    Close(Vec<u8>),
    Change(FileChange),
    /// A question of the filter's own: where the file of the handle that was opened last with this path really is.
    Place {
        of: u32,
    },
    Other,
}

/// The filter of one file transfer channel.
///
/// Hand it what the client sent ([`Self::handle_client`]) and what the machine sent ([`Self::handle_server`]) in the order in
/// which it came, and carry out what they give; [`Self::finish`] at the end.
#[derive(Debug)]
pub struct SftpFilter {
    rights: SftpRights,
    from_client: Vec<u8>,
    from_server: Vec<u8>,
    greeting: Greeting,
    next_id: u32,
    /// By the identifier that the machine sees: that of the client, and what was asked.
    waiting: HashMap<u32, (u32, Waiting)>,
    /// Identifiers of the client that wait.
    asked: std::collections::HashSet<u32>,
    handles: HashMap<Vec<u8>, Open>,
    /// Files whose CLOSE waits for its answer: those of READ and WRITE before it come first.
    closing: HashMap<Vec<u8>, OpenFile>,
    /// Handles by the request that opened them, until it is known where their files are.
    placing: HashMap<u32, Option<Vec<u8>>>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Greeting {
    Expected,
    Asked,
    Done,
}

/// What becomes of a request.
enum Verdict {
    /// It is passed on as it came, but for its identifier, and its answer is awaited.
    Pass(Waiting),
    /// It is answered here.
    Refuse(u32, String),
}

fn denied(why: &str) -> Verdict {
    Verdict::Refuse(code::PERMISSION_DENIED, why.into())
}

const NO_UPLOAD: &str = "the rules do not allow uploads: files may not be changed";
const NO_DOWNLOAD: &str = "the rules do not allow downloads: files may not be read";
const NO_HANDLE: &str = "this file is not open for that";

impl SftpFilter {
    /// A filter with these rights.
    pub fn new(rights: SftpRights) -> Self {
        Self {
            rights,
            from_client: vec![],
            from_server: vec![],
            greeting: Greeting::Expected,
            next_id: 0,
            waiting: HashMap::new(),
            asked: std::collections::HashSet::new(),
            handles: HashMap::new(),
            closing: HashMap::new(),
            placing: HashMap::new(),
        }
    }

    /// The rights changed. What is open stays open, and is of no more use than they allow.
    pub fn handle_rights(&mut self, rights: SftpRights) {
        self.rights = rights;
    }

    /// The rights of this moment.
    pub fn rights(&self) -> SftpRights {
        self.rights
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
            self.request(packet, &mut out)?;
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
        }
        let used = buffer.len() - rest.len();
        buffer.drain(..used);
        self.from_server = buffer;
        Ok(out)
    }

    /// Ends: files that were open were broken off.
    pub fn finish(self) -> Vec<Transfer> {
        let open = self.handles.into_values().filter_map(|h| match h {
            Open::File(file) => Some(file),
            Open::Folder => None,
        });
        let mut broken: Vec<_> = open.chain(self.closing.into_values()).flat_map(|f| f.transfers("broken off")).collect();
        broken.sort_by(|a, b| a.path.cmp(&b.path));
        broken
    }

    fn request(&mut self, packet: &[u8], out: &mut SftpOut) -> Result<(), SftpError> {
        let (&kind, body) = packet.split_first().ok_or(SftpError::Malformed)?;
        let mut f = Fields(body);
        // INIT has a version where the others have an identifier.
        let id = f.u32()?;
        match (self.greeting, kind) {
            (Greeting::Expected, kind::INIT) => {
                self.greeting = Greeting::Asked;
                put(&mut out.pass, kind::INIT, wire::VERSION_3, &[]);
                return Ok(());
            }
            (Greeting::Expected, _) | (_, kind::INIT) => return Err(SftpError::Malformed),
            (Greeting::Asked | Greeting::Done, _) => {}
        }
        if self.waiting.len() >= 2 * MAX_OPEN
            || self.asked.len() >= MAX_OPEN
            || self.handles.len() >= MAX_OPEN
            || self.placing.len() >= MAX_OPEN
        {
            return Err(SftpError::TooMany);
        }
        if self.asked.contains(&id) {
            return Err(SftpError::Malformed);
        }
        let fields = f.0;
        match self.judge(kind, &mut f, out)? {
            Verdict::Refuse(code, why) => put_status(&mut out.back, id, code, &why),
            Verdict::Pass(waiting) => {
                // Where a file really is, is asked right behind its opening: the machine takes requests in their order.
                let place = matches!(waiting, Waiting::Open(_)).then(|| fields.get(..fields.len() - f.0.len())).flatten();
                let sent = self.wait(id, waiting);
                put(&mut out.pass, kind, sent, &[fields]);
                if let Some(path) = place.and_then(|p| Fields(p).bytes().ok()) {
                    self.placing.insert(sent, None);
                    let asked = self.next();
                    self.waiting.insert(asked, (0, Waiting::Place { of: sent }));
                    put(&mut out.pass, kind::REALPATH, asked, &[&text(path)]);
                }
            }
        }
        Ok(())
    }

    /// Whether a request is allowed, by its kind, the rights, and the handle that it names.
    fn judge(&mut self, kind: u8, f: &mut Fields<'_>, out: &mut SftpOut) -> Result<Verdict, SftpError> {
        match kind {
            kind::OPEN => self.open(f, out),
            kind::CLOSE => {
                let handle = f.bytes()?;
                f.end()?;
                Ok(match self.handles.remove(handle) {
                    Some(Open::File(file)) => {
                        let before = self.closing.insert(handle.to_vec(), file);
                        out.transfers.extend(before.into_iter().flat_map(|f| f.transfers("done")));
                        Verdict::Pass(Waiting::Close(handle.to_vec()))
                    }
                    Some(Open::Folder) => Verdict::Pass(Waiting::Close(handle.to_vec())),
                    None => Verdict::Refuse(code::FAILURE, NO_HANDLE.into()),
                })
            }
            kind::READ => {
                let handle = f.bytes()?;
                f.skip(12)?;
                f.end()?;
                Ok(match self.file(handle) {
                    Some(file) if file.for_reading && self.rights.download => Verdict::Pass(Waiting::Read { handle: handle.to_vec() }),
                    Some(file) if file.for_reading => denied(NO_DOWNLOAD),
                    Some(_) | None => Verdict::Refuse(code::FAILURE, NO_HANDLE.into()),
                })
            }
            kind::WRITE => {
                let handle = f.bytes()?;
                f.skip(8)?;
                let length = f.bytes()?.len() as u64;
                f.end()?;
                Ok(match self.file(handle) {
                    Some(file) if file.for_writing && self.rights.upload => {
                        Verdict::Pass(Waiting::Write { handle: handle.to_vec(), length })
                    }
                    Some(file) if file.for_writing => denied(NO_UPLOAD),
                    Some(_) | None => Verdict::Refuse(code::FAILURE, NO_HANDLE.into()),
                })
            }
            kind::FSTAT => self.handled(f, |_| true),
            kind::READDIR => self.handled(f, |open| matches!(open, Open::Folder)),
            kind::FSETSTAT if self.rights.upload => {
                let handle = f.bytes()?;
                let writes = self.file(handle).is_some_and(|file| file.for_writing);
                Ok(if writes { Verdict::Pass(Waiting::Other) } else { Verdict::Refuse(code::FAILURE, NO_HANDLE.into()) })
            }
            kind::OPENDIR => {
                f.path()?;
                f.end()?;
                out.used = out.used.union(Capabilities::of([Capability::Browse]));
                Ok(Verdict::Pass(Waiting::OpenFolder))
            }
            kind::LSTAT | kind::STAT | kind::REALPATH | kind::READLINK => {
                f.bytes()?;
                Ok(Verdict::Pass(Waiting::Other))
            }
            kind::SETSTAT | kind::REMOVE | kind::MKDIR | kind::RMDIR | kind::RENAME | kind::SYMLINK => {
                let change = change(kind, f)?;
                Ok(self.changing(change, out))
            }
            kind::FSETSTAT => Ok(denied(NO_UPLOAD)),
            kind::EXTENDED => self.extended(f, out),
            _ => Ok(Verdict::Refuse(code::OP_UNSUPPORTED, "this request is not known".into())),
        }
    }

    /// A request that names a handle and nothing besides.
    fn handled(&self, f: &mut Fields<'_>, fits: impl Fn(&Open) -> bool) -> Result<Verdict, SftpError> {
        let handle = f.bytes()?;
        f.end()?;
        let known = self.handles.get(handle).is_some_and(fits);
        Ok(if known { Verdict::Pass(Waiting::Other) } else { Verdict::Refuse(code::FAILURE, NO_HANDLE.into()) })
    }

    fn file(&self, handle: &[u8]) -> Option<&OpenFile> {
        match self.handles.get(handle)? {
            Open::File(file) => Some(file),
            Open::Folder => None,
        }
    }

    /// A change of something that has a name. `None` is one that is not worth a line: times of a file alone.
    fn changing(&self, change: Option<FileChange>, out: &mut SftpOut) -> Verdict {
        if self.rights.upload {
            out.used = out.used.union(Capabilities::of([Capability::Upload]));
            return Verdict::Pass(change.map_or(Waiting::Other, Waiting::Change));
        }
        out.changes.extend(change.map(|c| FileChange { result: "refused", ..c }));
        denied(NO_UPLOAD)
    }

    fn open(&mut self, f: &mut Fields<'_>, out: &mut SftpOut) -> Result<Verdict, SftpError> {
        let path = f.path()?;
        let rest = f.0;
        let flags = Fields(rest).u32()?;
        if path.len() > MAX_PATH {
            return Ok(Verdict::Refuse(code::FAILURE, "the name is too long".into()));
        }
        let (reads, writes) = (flags & flag::READ != 0, flags & flag::WRITE != 0);
        // OpenSSH's server takes what is neither as reading, and creates or truncates what is not opened for writing.
        let changes = flags & flag::CHANGES != 0;
        let unknown = flags & !(flag::READ | flag::WRITE | flag::CHANGES) != 0;
        if unknown || (!writes && (changes || !reads)) {
            return Ok(Verdict::Refuse(code::FAILURE, "a file is opened for reading, for writing, or both, and in no other way".into()));
        }
        let refused = match (reads && !self.rights.download, writes && !self.rights.upload) {
            (_, true) => Some(("upload", NO_UPLOAD)),
            (true, false) => Some(("download", NO_DOWNLOAD)),
            (false, false) => None,
        };
        if let Some((direction, why)) = refused {
            out.transfers.push(Transfer { direction: direction.into(), path, bytes: 0, sha256: None, result: "refused".into() });
            return Ok(denied(why));
        }
        let used = [(reads, Capability::Download), (writes, Capability::Upload)];
        out.used = out.used.union(Capabilities::of(used.into_iter().filter(|u| u.0).map(|u| u.1)));
        let file = OpenFile { path, real: None, for_reading: reads, for_writing: writes, read: 0, written: 0, failed: false };
        Ok(Verdict::Pass(Waiting::Open(file)))
    }

    fn extended(&mut self, f: &mut Fields<'_>, out: &mut SftpOut) -> Result<Verdict, SftpError> {
        let name = f.bytes()?;
        let Some(extension) = EXTENSIONS.iter().find(|e| e.name.as_bytes() == name) else {
            return Ok(Verdict::Refuse(code::OP_UNSUPPORTED, "this extension is not passed on".into()));
        };
        match extension.needs {
            Needs::Nothing => Ok(Verdict::Pass(Waiting::Other)),
            Needs::Handle => self.handled(f, |_| true),
            Needs::Writing => self.handled(f, |open| matches!(open, Open::File(file) if file.for_writing)),
            Needs::Upload(act) => {
                let (path, to) = (f.path()?, if extension.two { Some(f.path()?) } else { None });
                Ok(self.changing(Some(FileChange { act, path, to, result: "done" }), out))
            }
            Needs::Copy => {
                let from = f.bytes()?;
                f.skip(16)?;
                let to = f.bytes()?;
                f.skip(8)?;
                f.end()?;
                let fits = self.file(from).is_some_and(|file| file.for_reading) && self.file(to).is_some_and(|file| file.for_writing);
                Ok(match (fits, self.rights) {
                    (true, SftpRights { upload: true, download: true }) => Verdict::Pass(Waiting::Other),
                    (true, _) => denied("the rules allow no copy on the machine: it needs uploads and downloads"),
                    (false, _) => Verdict::Refuse(code::FAILURE, NO_HANDLE.into()),
                })
            }
        }
    }

    fn next(&mut self) -> u32 {
        loop {
            self.next_id = self.next_id.wrapping_add(1);
            if !self.waiting.contains_key(&self.next_id) {
                return self.next_id;
            }
        }
    }

    fn wait(&mut self, id: u32, waiting: Waiting) -> u32 {
        let sent = self.next();
        self.asked.insert(id);
        self.waiting.insert(sent, (id, waiting));
        sent
    }

    fn answer(&mut self, packet: &[u8], out: &mut SftpOut) -> Result<(), SftpError> {
        let (&kind, body) = packet.split_first().ok_or(SftpError::Malformed)?;
        let mut f = Fields(body);
        let id = f.u32()?;
        if kind == kind::VERSION {
            return self.version(id, &mut f, out);
        }
        let (asked, waiting) = self.waiting.remove(&id).ok_or(SftpError::Malformed)?;
        let body = f.0;
        if let Waiting::Place { of } = waiting {
            self.placed(of, kind, &mut f);
            return Ok(());
        }
        self.asked.remove(&asked);
        let fits = match (&waiting, kind) {
            (_, kind::STATUS) => true,
            (Waiting::Open(_) | Waiting::OpenFolder, k) => k == kind::HANDLE,
            (Waiting::Read { .. }, k) => k == kind::DATA,
            (Waiting::Other, k) => matches!(k, kind::NAME | kind::ATTRS | kind::EXTENDED_REPLY),
            (Waiting::Write { .. } | Waiting::Close(_) | Waiting::Change(_) | Waiting::Place { .. }, _) => false,
        };
        if !fits {
            return Err(SftpError::Malformed);
        }
        let status = if kind == kind::STATUS { Some(f.u32()?) } else { None };
        match (waiting, status) {
            (Waiting::Open(file), None) => self.opened(id, Open::File(file), f.bytes()?)?,
            (Waiting::OpenFolder, None) => self.opened(id, Open::Folder, f.bytes()?)?,
            (Waiting::Open(file), Some(_)) => {
                self.placing.remove(&id);
                let direction = if file.for_writing { "upload" } else { "download" };
                let failed = Transfer { direction: direction.into(), path: file.path, bytes: 0, sha256: None, result: "failed".into() };
                out.transfers.push(failed);
            }
            (Waiting::Read { handle }, None) => {
                let length = f.bytes()?.len() as u64;
                self.with_file(&handle, |file| file.read += length);
            }
            (Waiting::Write { handle, length }, Some(status)) => self.with_file(&handle, |file| match status {
                code::OK => file.written += length,
                _ => file.failed = true,
            }),
            (Waiting::Close(handle), _) => {
                let file = self.closing.remove(&handle);
                out.transfers.extend(file.into_iter().flat_map(|f| {
                    let result = if f.failed { "failed" } else { "done" };
                    f.transfers(result)
                }));
            }
            (Waiting::Change(change), status) => {
                let result = if status == Some(code::OK) { "done" } else { "failed" };
                out.changes.push(FileChange { result, ..change });
            }
            _ => {}
        }
        put(&mut out.pass, kind, asked, &[body]);
        Ok(())
    }

    /// Does something with a file that is open or being closed.
    fn with_file(&mut self, handle: &[u8], change: impl FnOnce(&mut OpenFile)) {
        match self.handles.get_mut(handle) {
            Some(Open::File(file)) => change(file),
            Some(Open::Folder) => {}
            None => {
                if let Some(file) = self.closing.get_mut(handle) {
                    change(file);
                }
            }
        }
    }

    fn opened(&mut self, id: u32, open: Open, handle: &[u8]) -> Result<(), SftpError> {
        // Two things under one handle would be told apart by the machine alone.
        if self.handles.contains_key(handle) || handle.len() > 256 {
            return Err(SftpError::Malformed);
        }
        if let Some(place) = self.placing.get_mut(&id) {
            *place = Some(handle.to_vec());
        }
        self.handles.insert(handle.to_vec(), open);
        Ok(())
    }

    /// Where a file really is.
    fn placed(&mut self, of: u32, kind: u8, f: &mut Fields<'_>) {
        let Some(Some(handle)) = self.placing.remove(&of) else { return };
        let real = (kind == kind::NAME).then(|| f.u32().and_then(|_| f.path()).ok()).flatten().filter(|p| p.len() <= MAX_PATH);
        self.with_file(&handle, |file| file.real = real);
    }

    /// The machine's greeting, with those of its extensions that are passed on.
    fn version(&mut self, version: u32, f: &mut Fields<'_>, out: &mut SftpOut) -> Result<(), SftpError> {
        if self.greeting != Greeting::Asked || version != wire::VERSION_3 {
            return Err(SftpError::Malformed);
        }
        self.greeting = Greeting::Done;
        let mut kept = vec![];
        while !f.0.is_empty() {
            let (name, value) = (f.bytes()?, f.bytes()?);
            if EXTENSIONS.iter().any(|e| e.name.as_bytes() == name) {
                kept.extend(text(name));
                kept.extend(text(value));
            }
        }
        put(&mut out.pass, kind::VERSION, wire::VERSION_3, &[&kept]);
        Ok(())
    }
}

/// What an extension needs.
#[derive(Clone, Copy)]
enum Needs {
    Nothing,
    Handle,
    /// A file that is open for writing.
    Writing,
    /// The right to upload; and what is done then.
    Upload(&'static str),
    /// A file that is open for reading and one that is open for writing.
    Copy,
}

struct Extension {
    name: &'static str,
    needs: Needs,
    /// It names two paths.
    two: bool,
}

/// Extensions that are passed on (OpenSSH's PROTOCOL, section 4; draft-ietf-secsh-filexfer-extensions-00).
const EXTENSIONS: [Extension; 11] = {
    const fn e(name: &'static str, needs: Needs, two: bool) -> Extension {
        Extension { name, needs, two }
    }
    [
        e("posix-rename@openssh.com", Needs::Upload("renamed"), true),
        e("hardlink@openssh.com", Needs::Upload("linked"), true),
        e("lsetstat@openssh.com", Needs::Upload("changed the attributes of"), false),
        e("fsync@openssh.com", Needs::Writing, false),
        e("copy-data", Needs::Copy, false),
        e("statvfs@openssh.com", Needs::Nothing, false),
        e("fstatvfs@openssh.com", Needs::Handle, false),
        e("limits@openssh.com", Needs::Nothing, false),
        e("expand-path@openssh.com", Needs::Nothing, false),
        e("home-directory", Needs::Nothing, false),
        e("users-groups-by-id@openssh.com", Needs::Nothing, false),
    ]
};

/// What a request changes; none for one that sets times alone.
fn change(kind: u8, f: &mut Fields<'_>) -> Result<Option<FileChange>, SftpError> {
    let path = f.path()?;
    let (act, to) = match kind {
        kind::REMOVE => ("removed", None),
        kind::RMDIR => ("removed the folder", None),
        kind::MKDIR => ("created the folder", None),
        kind::RENAME => ("renamed", Some(f.path()?)),
        // OpenSSH's server takes the two in the order: where it leads, its name (PROTOCOL section 4.1).
        kind::SYMLINK => ("linked", Some(f.path()?)),
        _ => {
            if f.u32()? & wire::ATTRIBUTES_OF_NOTE == 0 {
                return Ok(None);
            }
            ("changed the attributes of", None)
        }
    };
    Ok(Some(FileChange { act, path, to, result: "done" }))
}

impl OpenFile {
    fn transfers(self, result: &str) -> Vec<Transfer> {
        let path = match self.real {
            Some(real) if real != self.path => real,
            Some(_) | None => self.path,
        };
        let one = |direction: &str, bytes| Transfer {
            direction: direction.into(),
            path: path.clone(),
            bytes,
            sha256: None,
            result: result.into(),
        };
        let up = self.for_writing.then(|| one("upload", self.written));
        let down = (!self.for_writing || self.read > 0).then(|| one("download", self.read));
        up.into_iter().chain(down).collect()
    }
}

/// Answers a whole file transfer that the rules do not allow, so that each client shows its user why: in the greeting's place
/// a greeting, then one refusal for each request.
#[derive(Debug, Default)]
pub struct SftpRefusal {
    from_client: Vec<u8>,
}

impl SftpRefusal {
    /// The answers to what the client sent.
    ///
    /// # Errors
    /// When it does not keep to the protocol.
    pub fn handle_client(&mut self, bytes: &[u8], why: &str) -> Result<Vec<u8>, SftpError> {
        self.from_client.extend_from_slice(bytes);
        let mut back = vec![];
        let mut rest = self.from_client.as_slice();
        while let Some(packet) = next_packet(&mut rest)? {
            let (&kind, body) = packet.split_first().ok_or(SftpError::Malformed)?;
            match kind {
                kind::INIT => put(&mut back, kind::VERSION, wire::VERSION_3, &[]),
                _ => put_status(&mut back, Fields(body).u32()?, code::PERMISSION_DENIED, why),
            }
        }
        let used = self.from_client.len() - rest.len();
        self.from_client.drain(..used);
        Ok(back)
    }
}

#[cfg(test)]
mod tests;
