use super::*;
use proptest::prelude::*;
use std::collections::BTreeMap;

fn packet(kind: u8, id: u32, parts: &[Vec<u8>]) -> Vec<u8> {
    let mut out = vec![];
    put(&mut out, kind, id, &[&parts.concat()]);
    out
}

fn t(s: &str) -> Vec<u8> {
    text(s.as_bytes())
}

fn n(v: u32) -> Vec<u8> {
    v.to_be_bytes().to_vec()
}

fn open(id: u32, path: &str, flags: u32) -> Vec<u8> {
    packet(kind::OPEN, id, &[t(path), n(flags), n(0)])
}

fn read(id: u32, handle: &str) -> Vec<u8> {
    packet(kind::READ, id, &[t(handle), vec![0; 8], n(100)])
}

fn write(id: u32, handle: &str, data: &str) -> Vec<u8> {
    packet(kind::WRITE, id, &[t(handle), vec![0; 8], t(data)])
}

/// A machine with some files, that reads packets as OpenSSH's sftp-server.c does: `OPEN` with neither reading nor writing is
/// reading, a handle is good for whatever its descriptor is good for, nothing is asked about rights.
#[derive(Default)]
struct Machine {
    files: BTreeMap<String, Vec<u8>>,
    links: BTreeMap<String, String>,
    open: BTreeMap<Vec<u8>, (String, bool, bool)>,
    handles: u32,
}

impl Machine {
    fn new() -> Self {
        let files = BTreeMap::from([("/etc/secret".into(), b"SECRET".to_vec()), ("/home/notes".into(), b"notes".to_vec())]);
        Self { files, ..Self::default() }
    }

    fn real(&self, path: &str) -> String {
        self.links.get(path).cloned().unwrap_or_else(|| path.into())
    }

    /// Serves whole packets.
    fn serve(&mut self, bytes: &[u8]) -> Vec<u8> {
        let (mut out, mut rest) = (vec![], bytes);
        while let Some(p) = next_packet(&mut rest).unwrap() {
            let (kind, mut f) = (p[0], Fields(&p[1..]));
            let id = f.u32().unwrap();
            self.one(kind, id, &mut f, &mut out);
        }
        assert!(rest.is_empty(), "what is passed on is whole packets");
        out
    }

    fn one(&mut self, kind: u8, id: u32, f: &mut Fields<'_>, out: &mut Vec<u8>) {
        let status = |out: &mut Vec<u8>, code| put_status(out, id, code, "");
        match kind {
            kind::INIT => put(out, kind::VERSION, 3, &[&[t("copy-data"), t("1"), t("evil@x"), t("1")].concat()]),
            kind::OPEN => {
                let (path, flags) = (f.path().unwrap(), f.u32().unwrap());
                let path = self.real(&path);
                let (r, w) = (flags & 1 != 0, flags & 2 != 0);
                let (readable, writable) = match (r, w) {
                    (true, true) => (true, true),
                    (false, true) => (false, true),
                    _ => (true, false),
                };
                if flags & 8 != 0 {
                    self.files.entry(path.clone()).or_default();
                }
                if flags & 16 != 0 {
                    self.files.insert(path.clone(), vec![]);
                }
                self.handles += 1;
                let handle = format!("h{}", self.handles).into_bytes();
                self.open.insert(handle.clone(), (path, readable, writable));
                put(out, kind::HANDLE, id, &[&text(&handle)]);
            }
            kind::CLOSE => status(out, if self.open.remove(f.bytes().unwrap()).is_some() { 0 } else { 4 }),
            kind::READ => match self.open.get(f.bytes().unwrap()).filter(|o| o.1).and_then(|o| self.files.get(&o.0)) {
                Some(content) => put(out, kind::DATA, id, &[&text(content)]),
                None => status(out, 4),
            },
            kind::WRITE => {
                let handle = f.bytes().unwrap();
                f.skip(8).unwrap();
                match self.open.get(handle).filter(|o| o.2) {
                    Some((path, ..)) => {
                        self.files.insert(path.clone(), f.bytes().unwrap().to_vec());
                        status(out, 0);
                    }
                    None => status(out, 4),
                }
            }
            kind::REMOVE => drop((self.files.remove(&f.path().unwrap()), status(out, 0))),
            kind::SYMLINK => {
                let (target, name) = (f.path().unwrap(), f.path().unwrap());
                self.links.insert(name, target);
                status(out, 0);
            }
            kind::REALPATH => {
                let real = self.real(&f.path().unwrap());
                put(out, kind::NAME, id, &[&n(1), &t(&real), &t(""), &n(0)]);
            }
            kind::EXTENDED if f.bytes().unwrap() == b"copy-data" => {
                let from = f.bytes().unwrap();
                f.skip(16).unwrap();
                let to = f.bytes().unwrap();
                if let (Some((a, true, _)), Some((b, _, true))) = (self.open.get(from), self.open.get(to)) {
                    let content = self.files.get(a).cloned().unwrap_or_default();
                    self.files.insert(b.clone(), content);
                }
                status(out, 0);
            }
            _ => status(out, 8),
        }
    }
}

/// A filter between a client and a machine, after the greeting.
struct Line {
    filter: SftpFilter,
    machine: Machine,
    got: Vec<u8>,
    transfers: Vec<Transfer>,
    changes: Vec<FileChange>,
    used: Capabilities,
}

impl Line {
    fn new(upload: bool, download: bool) -> Self {
        let filter = SftpFilter::new(SftpRights { upload, download });
        let mut line = Self { filter, machine: Machine::new(), got: vec![], transfers: vec![], changes: vec![], used: Capabilities::NONE };
        line.send(&packet(kind::INIT, 6, &[])).unwrap();
        line.got.clear();
        line
    }

    fn take(&mut self, out: SftpOut) -> Vec<u8> {
        self.got.extend(out.back);
        self.transfers.extend(out.transfers);
        self.changes.extend(out.changes);
        self.used = self.used.union(out.used);
        out.pass
    }

    fn send(&mut self, bytes: &[u8]) -> Result<(), SftpError> {
        let out = self.filter.handle_client(bytes)?;
        let to_machine = self.take(out);
        let answers = self.machine.serve(&to_machine);
        let out = self.filter.handle_server(&answers)?;
        let passed = self.take(out);
        self.got.extend(passed);
        Ok(())
    }

    /// Sends, and gives the kind of the answer and, of a status, its code.
    fn ask(&mut self, bytes: &[u8]) -> (u8, u32) {
        self.got.clear();
        self.send(bytes).unwrap();
        let mut rest = self.got.as_slice();
        let answer = next_packet(&mut rest).unwrap().unwrap();
        assert!(rest.is_empty(), "one answer");
        (answer[0], if answer[0] == kind::STATUS { Fields(&answer[5..]).u32().unwrap() } else { 0 })
    }

    fn seen(&self, needle: &[u8]) -> bool {
        self.got.windows(needle.len()).any(|w| w == needle)
    }
}

#[test]
fn copies_are_passed_and_noted() {
    let mut line = Line::new(true, true);
    assert_eq!(line.ask(&open(1, "/tmp/a", 26)).0, kind::HANDLE);
    assert_eq!(line.ask(&write(2, "h1", "hello")), (kind::STATUS, 0));
    line.send(&[packet(kind::CLOSE, 3, &[t("h1")]), open(4, "/home/notes", 1)].concat()).unwrap();
    // Reading and closing in one go: what was read is counted all the same.
    line.send(&[read(5, "h2"), packet(kind::CLOSE, 6, &[t("h2")])].concat()).unwrap();
    let lines: Vec<_> = line.transfers.iter().map(|t| (t.direction.as_str(), t.path.as_str(), t.bytes, t.result.as_str())).collect();
    assert_eq!(lines, [("upload", "/tmp/a", 5, "done"), ("download", "/home/notes", 5, "done")]);
    assert_eq!(line.used, Capabilities::of([Capability::Upload, Capability::Download]));
}

#[test]
fn the_log_names_the_file_behind_a_link() {
    let mut line = Line::new(true, true);
    line.send(&packet(kind::SYMLINK, 1, &[t("/etc/secret"), t("/home/innocent")])).unwrap();
    line.send(&open(2, "/home/innocent", 1)).unwrap();
    line.send(&[read(3, "h1"), packet(kind::CLOSE, 4, &[t("h1")])].concat()).unwrap();
    assert_eq!(line.transfers[0].path, "/etc/secret");
    let linked = FileChange { act: "linked", path: "/etc/secret".into(), to: Some("/home/innocent".into()), result: "done" };
    assert_eq!(line.changes, [linked]);
}

#[test]
fn a_file_is_opened_for_what_the_rights_allow_and_in_no_other_way() {
    // Rights (upload, download), flags, whether it opens.
    let table = [
        ((false, true), 1, true),
        ((true, false), 2, true),
        ((true, false), 26, true),
        ((true, true), 3, true),
        ((true, false), 1, false),
        ((true, false), 3, false),
        ((false, true), 2, false),
        ((false, true), 3, false),
        ((false, false), 1, false),
        // What a server takes as reading, creating or truncating all the same.
        ((true, false), 0, false),
        ((false, true), 0, false),
        ((true, false), 8, false),
        ((true, false), 4, false),
        ((false, true), 1 | 8, false),
        ((false, true), 1 | 16, false),
        ((true, true), 2 | 64, false),
        ((true, true), 1 | 0x8000_0000, false),
    ];
    for ((upload, download), flags, opens) in table {
        let mut line = Line::new(upload, download);
        let answer = line.ask(&open(7, "/etc/secret", flags)).0;
        assert_eq!(answer == kind::HANDLE, opens, "{upload} {download} {flags}");
        assert_eq!(line.machine.handles, u32::from(opens), "{flags}: what is refused never reaches the machine");
    }
    let mut line = Line::new(true, false);
    line.send(&open(1, "/etc/secret", 1)).unwrap();
    assert_eq!(line.transfers[0].result, "refused");
}

#[test]
fn a_handle_is_good_for_what_it_was_opened_for() {
    let mut line = Line::new(true, true);
    line.send(&[open(1, "/etc/secret", 1), open(2, "/tmp/out", 26)].concat()).unwrap();
    let copy = |from: &str, to: &str| packet(kind::EXTENDED, 9, &[t("copy-data"), t(from), vec![0; 16], t(to), vec![0; 8]]);
    let table = [
        (read(9, "h1"), true),
        (read(9, "h2"), false),
        (read(9, "h3"), false),
        (write(9, "h1", "x"), false),
        (write(9, "h2", "x"), true),
        (packet(kind::FSETSTAT, 9, &[t("h1"), n(0)]), false),
        (packet(kind::READDIR, 9, &[t("h1")]), false),
        (packet(kind::CLOSE, 9, &[t("h9")]), false),
        (copy("h2", "h1"), false),
        (copy("h1", "h2"), true),
    ];
    for (request, passed) in table {
        let answer = line.ask(&request);
        assert_eq!(answer == (kind::STATUS, code::FAILURE), !passed, "{request:?}");
    }
    // A right that is gone counts for what is open.
    line.filter.handle_rights(SftpRights { upload: false, download: true });
    assert_eq!(line.ask(&write(9, "h2", "y")), (kind::STATUS, code::PERMISSION_DENIED));
    line.filter.handle_rights(SftpRights { upload: true, download: false });
    assert_eq!(line.ask(&read(9, "h1")), (kind::STATUS, code::PERMISSION_DENIED));
    assert_eq!(line.ask(&copy("h1", "h2")), (kind::STATUS, code::PERMISSION_DENIED));
}

#[test]
fn what_changes_files_needs_the_right_and_is_noted() {
    let requests = [
        packet(kind::REMOVE, 7, &[t("/x")]),
        packet(kind::RENAME, 7, &[t("/x"), t("/y")]),
        packet(kind::SYMLINK, 7, &[t("/x"), t("/y")]),
        packet(kind::SETSTAT, 7, &[t("/x"), n(4), n(0o4755)]),
        packet(kind::MKDIR, 7, &[t("/x"), n(0)]),
        packet(kind::RMDIR, 7, &[t("/x")]),
        packet(kind::EXTENDED, 7, &[t("posix-rename@openssh.com"), t("/x"), t("/y")]),
        packet(kind::EXTENDED, 7, &[t("hardlink@openssh.com"), t("/x"), t("/y")]),
        packet(kind::EXTENDED, 7, &[t("lsetstat@openssh.com"), t("/x"), n(4), n(0o4755)]),
    ];
    for request in requests {
        let mut line = Line::new(false, true);
        assert_eq!(line.ask(&request), (kind::STATUS, code::PERMISSION_DENIED));
        assert_eq!(line.changes[0].result, "refused");
        let mut line = Line::new(true, false);
        line.ask(&request);
        assert_ne!(line.changes[0].result, "refused");
    }
    // Times alone are no line of their own.
    let mut line = Line::new(true, false);
    line.ask(&packet(kind::SETSTAT, 7, &[t("/x"), n(8), n(0), n(0)]));
    assert!(line.changes.is_empty());
}

#[test]
fn the_version_and_the_extensions_are_those_of_the_filter() {
    let mut filter = SftpFilter::new(SftpRights { upload: true, download: true });
    let out = filter.handle_client(&packet(kind::INIT, 6, &[t("evil@x"), t("1")])).unwrap();
    assert_eq!(out.pass, packet(kind::INIT, 3, &[]));
    let offered = [t("copy-data"), t("1"), t("evil@x"), t("1")];
    let out = filter.handle_server(&packet(kind::VERSION, 3, &offered)).unwrap();
    assert_eq!(out.pass, packet(kind::VERSION, 3, &offered[..2]));
    let mut line = Line::new(true, true);
    for request in [packet(kind::EXTENDED, 1, &[t("evil@x")]), packet(99, 1, &[]), packet(kind::EXTENDED, 1, &[t("copy-data\0")])] {
        assert_eq!(line.ask(&request), (kind::STATUS, code::OP_UNSUPPORTED));
    }
    for (sent, of_machine) in [
        (open(1, "/x", 1), vec![]),
        (packet(kind::INIT, 3, &[]), packet(kind::VERSION, 6, &[])),
        (packet(kind::INIT, 3, &[]), packet(kind::HANDLE, 1, &[t("h")])),
        ([packet(kind::INIT, 3, &[]), packet(kind::INIT, 3, &[])].concat(), vec![]),
    ] {
        let mut filter = SftpFilter::new(SftpRights { upload: true, download: true });
        let said = filter.handle_client(&sent).and_then(|_| filter.handle_server(&of_machine));
        assert_eq!(said, Err(SftpError::Malformed), "{sent:?}");
    }
}

#[test]
fn an_identifier_that_waits_is_taken() {
    let mut filter = SftpFilter::new(SftpRights { upload: false, download: true });
    filter.handle_client(&packet(kind::INIT, 3, &[])).unwrap();
    filter.handle_client(&open(1, "/etc/secret", 1)).unwrap();
    assert_eq!(filter.handle_client(&open(1, "/etc/innocent", 1)), Err(SftpError::Malformed));
}

#[test]
fn the_machine_answers_what_it_was_asked() {
    for answer in [packet(kind::DATA, 1, &[t("x")]), packet(kind::HANDLE, 1, &[t("h")]), packet(kind::NAME, 9, &[n(0)]), packet(50, 1, &[])]
    {
        let mut filter = SftpFilter::new(SftpRights { upload: false, download: false });
        filter.handle_client(&packet(kind::INIT, 3, &[])).unwrap();
        filter.handle_server(&packet(kind::VERSION, 3, &[])).unwrap();
        filter.handle_client(&packet(kind::STAT, 77, &[t("/x")])).unwrap();
        assert_eq!(filter.handle_server(&answer), Err(SftpError::Malformed), "{answer:?}");
    }
}

#[test]
fn packets_and_requests_have_limits() {
    let fresh = || {
        let mut f = SftpFilter::new(SftpRights { upload: true, download: true });
        f.handle_client(&packet(kind::INIT, 3, &[])).unwrap();
        f
    };
    assert_eq!(fresh().handle_client(&n(wire::MAX_PACKET as u32)).map(|o| o.pass.len()), Ok(0));
    assert_eq!(fresh().handle_client(&n(wire::MAX_PACKET as u32 + 1)), Err(SftpError::TooLong));
    let mut f = fresh();
    for id in 0..MAX_OPEN as u32 {
        f.handle_client(&packet(kind::STAT, id, &[t("/x")])).unwrap();
    }
    assert_eq!(f.handle_client(&packet(kind::STAT, MAX_OPEN as u32, &[t("/x")])), Err(SftpError::TooMany));
}

#[test]
fn a_refused_transfer_says_why_to_each_request() {
    let mut refusal = SftpRefusal::default();
    let asked = [packet(kind::INIT, 3, &[]), packet(kind::REALPATH, 4, &[t(".")])].concat();
    let (first, rest) = asked.split_at(7);
    let back = [refusal.handle_client(first, "No rule."), refusal.handle_client(rest, "No rule.")].map(Result::unwrap).concat();
    let mut expected = packet(kind::VERSION, 3, &[]);
    put_status(&mut expected, 4, code::PERMISSION_DENIED, "No rule.");
    assert_eq!(back, expected);
}

/// Requests as somebody who tries everything would send them.
fn anything() -> impl Strategy<Value = Vec<u8>> {
    let path = prop::sample::select(vec!["/etc/secret", "/home/notes", "/home/link", "/tmp/new"]);
    let handle = prop::sample::select(vec!["h1", "h2", "h3", "h4", "h9"]);
    let flags = prop_oneof![0u32..64, any::<u32>()];
    let id = 0u32..6;
    prop_oneof![
        4 => (id.clone(), path.clone(), flags).prop_map(|(i, p, f)| open(i, p, f)),
        4 => (id.clone(), handle.clone()).prop_map(|(i, h)| read(i, h)),
        3 => (id.clone(), handle.clone()).prop_map(|(i, h)| write(i, h, "WRITTEN")),
        1 => (id.clone(), handle.clone()).prop_map(|(i, h)| packet(kind::CLOSE, i, &[t(h)])),
        1 => (id.clone(), path.clone()).prop_map(|(i, p)| packet(kind::REMOVE, i, &[t(p)])),
        2 => (id.clone(), path.clone(), path).prop_map(|(i, a, b)| packet(kind::SYMLINK, i, &[t(a), t(b)])),
        2 => (id, handle.clone(), handle).prop_map(|(i, a, b)| packet(kind::EXTENDED, i, &[t("copy-data"), t(a), vec![0; 16], t(b), vec![0; 8]])),
        1 => prop::collection::vec(any::<u8>(), 0..40),
    ]
}

proptest! {
    #[test]
    fn no_packets_get_more_than_the_rights(upload in any::<bool>(), download in any::<bool>(), packets in prop::collection::vec(anything(), 1..40)) {
        let mut line = Line::new(upload, download);
        for packet in packets {
            if line.send(&packet).is_err() {
                break;
            }
        }
        prop_assert!(download || (!line.seen(b"SECRET") && !line.seen(b"notes") && !line.seen(b"WRITTEN")), "read without the right");
        let before = Machine::new();
        prop_assert!(upload || (line.machine.files == before.files && line.machine.links.is_empty()), "changed without the right");
        // Whatever was read is in the log under its own name.
        if line.seen(b"SECRET") {
            let named = line.transfers.iter().cloned().chain(line.filter.finish()).any(|t| t.path == "/etc/secret" && t.direction == "download");
            let copied = line.machine.links.values().any(|l| l == "/etc/secret") || upload;
            prop_assert!(named || copied);
        }
    }

    #[test]
    fn pieces_of_any_size_give_the_same(cut in 1usize..30) {
        let stream = [packet(kind::INIT, 3, &[]), open(1, "/tmp/a", 26), packet(kind::REMOVE, 2, &[t("/x")])].concat();
        let fresh = || SftpFilter::new(SftpRights { upload: true, download: false });
        let all = fresh().handle_client(&stream).unwrap();
        let mut f = fresh();
        let mut pass = vec![];
        for piece in stream.chunks(cut) {
            pass.extend(f.handle_client(piece).unwrap().pass);
        }
        prop_assert_eq!(pass, all.pass);
    }

    #[test]
    fn any_bytes_are_refused_or_passed_without_a_panic(bytes in prop::collection::vec(any::<u8>(), 0..200)) {
        let mut f = SftpFilter::new(SftpRights { upload: true, download: true });
        let _ = f.handle_client(&packet(kind::INIT, 3, &[]));
        let _ = f.handle_client(&bytes);
        let _ = f.handle_server(&bytes);
    }
}
