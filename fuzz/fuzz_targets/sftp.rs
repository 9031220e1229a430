//! Whatever packets a client sends and a machine answers, nothing reaches the machine that the rights of the moment do not allow: held
//! against a model of the machine that knows what each of its handles was opened for.
#![no_main]

use aerie_core::session::{SftpFilter, SftpRights};
use libfuzzer_sys::fuzz_target;
use std::collections::HashMap;

/// What the machine was asked and has not answered.
struct Asked {
    id: u32,
    kind: u8,
    flags: u32,
}

#[derive(Default)]
struct Machine {
    asked: Vec<Asked>,
    /// Handles, and the flags with which each was opened; none for folders.
    open: HashMap<Vec<u8>, Option<u32>>,
    next: u8,
}

fn number(body: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_be_bytes(body.get(at..at + 4)?.try_into().ok()?))
}

fn field(body: &[u8]) -> Option<(&[u8], &[u8])> {
    body.get(4..)?.split_at_checked(number(body, 0)? as usize)
}

fn packets(mut bytes: &[u8]) -> Vec<&[u8]> {
    let mut all = vec![];
    while !bytes.is_empty() {
        let (packet, rest) = field(bytes).expect("what is passed on is whole packets");
        all.push(packet);
        bytes = rest;
    }
    all
}

fn packet(kind: u8, id: u32, body: &[u8]) -> Vec<u8> {
    [&(5 + body.len() as u32).to_be_bytes()[..], &[kind], &id.to_be_bytes(), body].concat()
}

impl Machine {
    /// Takes what was let through under these rights.
    fn take(&mut self, bytes: &[u8], rights: SftpRights) {
        for p in packets(bytes) {
            let (kind, id, body) = (p[0], number(p, 1).expect("an identifier"), &p[5..]);
            if kind == 1 {
                assert_eq!(id, 3, "the version is ours");
                continue;
            }
            assert!(self.asked.iter().all(|a| a.id != id), "an identifier is used once at a time");
            let mut flags = 0;
            let opened = |body: &[u8]| field(body).and_then(|(handle, _)| self.open.get(handle).copied()).expect("a handle that is open");
            match kind {
                3 => {
                    let (_, rest) = field(body).expect("a path");
                    flags = number(rest, 0).expect("flags");
                    assert!(flags & 3 != 0 && flags & !63 == 0);
                    assert!(flags & 1 == 0 || rights.download, "opened for reading");
                    assert!(flags & !1 == 0 || (rights.upload && flags & 2 != 0), "opened for writing");
                }
                4 => {
                    let (handle, _) = field(body).expect("a handle");
                    assert!(self.open.remove(handle).is_some(), "closed once");
                }
                5 => assert!(rights.download && opened(body).expect("a file") & 1 != 0),
                6 => assert!(rights.upload && opened(body).expect("a file") & 2 != 0),
                10 => assert!(rights.upload && opened(body).expect("a file") & 2 != 0),
                8 => drop(opened(body)),
                12 => assert!(opened(body).is_none(), "a folder is listed"),
                7 | 11 | 16 | 17 | 19 => {}
                9 | 13 | 14 | 15 | 18 | 20 => assert!(rights.upload, "a change"),
                200 => {
                    let (name, rest) = field(body).expect("a name");
                    match name {
                        b"posix-rename@openssh.com" | b"hardlink@openssh.com" | b"lsetstat@openssh.com" => assert!(rights.upload),
                        b"copy-data" => assert!(rights.upload && rights.download && opened(rest).expect("a file") & 1 != 0),
                        b"fsync@openssh.com" => assert!(opened(rest).expect("a file") & 2 != 0),
                        b"fstatvfs@openssh.com" => drop(opened(rest)),
                        b"statvfs@openssh.com" | b"limits@openssh.com" | b"expand-path@openssh.com" | b"home-directory"
                        | b"users-groups-by-id@openssh.com" => {}
                        other => panic!("an extension that is not passed on: {}", other.escape_ascii()),
                    }
                }
                other => panic!("a request that is not known: {other}"),
            }
            self.asked.push(Asked { id, kind, flags });
        }
    }

    /// Answers one of the requests, the way that `how` says.
    fn answer(&mut self, which: u8, how: u8) -> Option<Vec<u8>> {
        if self.asked.is_empty() {
            return None;
        }
        let asked = self.asked.remove(usize::from(which) % self.asked.len());
        let status = |code: u32| packet(101, asked.id, &[&code.to_be_bytes()[..], &[0; 8]].concat());
        Some(match (asked.kind, how % 4) {
            (_, 0) => status(4),
            (3 | 11, _) => {
                self.next = self.next.wrapping_add(1);
                let handle = [b'h', self.next];
                self.open.insert(handle.to_vec(), (asked.kind == 3).then_some(asked.flags));
                packet(102, asked.id, &[&2u32.to_be_bytes()[..], &handle].concat())
            }
            (5, _) => packet(103, asked.id, &[&4u32.to_be_bytes()[..], b"data"].concat()),
            (7 | 8 | 17, _) => packet(105, asked.id, &[0; 4]),
            (12 | 16 | 19, _) => packet(104, asked.id, &[&1u32.to_be_bytes()[..], &1u32.to_be_bytes(), b"r", &[0; 8]].concat()),
            (200, 1) => packet(201, asked.id, &[0; 8]),
            _ => status(0),
        })
    }
}

fn rights(bits: u8) -> SftpRights {
    SftpRights { upload: bits & 1 != 0, download: bits & 2 != 0 }
}

fuzz_target!(|data: &[u8]| {
    let Some((&bits, mut rest)) = data.split_first() else { return };
    let (mut filter, mut machine) = (SftpFilter::new(rights(bits)), Machine::default());
    let greeting = filter.handle_client(&packet(1, 3, &[])).expect("a greeting");
    machine.take(&greeting.pass, filter.rights());
    filter.handle_server(&packet(2, 3, &[])).expect("the machine's");
    while let Some((&op, more)) = rest.split_first() {
        rest = more;
        match op % 4 {
            // A request: kind, a small identifier, a body as long as the next byte says.
            0 | 1 => {
                let [kind, id, length, after @ ..] = rest else { return };
                let (body, after) = after.split_at((*length as usize).min(after.len()));
                rest = after;
                // Paths and handles of one letter each are found sooner than by a length of four bytes.
                let body = if op & 4 == 0 { body.to_vec() } else { body.split(|b| *b == b'|').flat_map(|f| if f.len() == 4 { f.to_vec() } else { [&(f.len() as u32).to_be_bytes()[..], f].concat() }).collect() };
                let Ok(out) = filter.handle_client(&packet(*kind, u32::from(*id), &body)) else { break };
                machine.take(&out.pass, filter.rights());
                packets(&out.back);
            }
            2 => {
                let [which, how, after @ ..] = rest else { return };
                rest = after;
                let Some(answer) = machine.answer(*which, *how) else { continue };
                let Ok(out) = filter.handle_server(&answer) else { break };
                packets(&out.pass);
            }
            // Rights change, or the machine says whatever it likes.
            _ if op & 4 == 0 => filter.handle_rights(rights(op >> 3)),
            _ => {
                let (piece, after) = rest.split_at((op >> 3) as usize % (rest.len() + 1));
                rest = after;
                if filter.handle_server(piece).is_err() {
                    break;
                }
                // What came half is followed by no answer of the model.
                break;
            }
        }
    }
    filter.finish();
});
