//! Packets of the file transfer protocol, version 3 (draft-ietf-secsh-filexfer-02 sections 3 to 7).

use super::SftpError;

/// Longest packet, without its length: OpenSSH's is 256 KiB.
pub(super) const MAX_PACKET: usize = 512 << 10;

/// The version that is spoken, whatever either side offers.
pub(super) const VERSION_3: u32 = 3;

pub(super) mod kind {
    pub(in super::super) const INIT: u8 = 1;
    pub(in super::super) const VERSION: u8 = 2;
    pub(in super::super) const OPEN: u8 = 3;
    pub(in super::super) const CLOSE: u8 = 4;
    pub(in super::super) const READ: u8 = 5;
    pub(in super::super) const WRITE: u8 = 6;
    pub(in super::super) const LSTAT: u8 = 7;
    pub(in super::super) const FSTAT: u8 = 8;
    pub(in super::super) const SETSTAT: u8 = 9;
    pub(in super::super) const FSETSTAT: u8 = 10;
    pub(in super::super) const OPENDIR: u8 = 11;
    pub(in super::super) const READDIR: u8 = 12;
    pub(in super::super) const REMOVE: u8 = 13;
    pub(in super::super) const MKDIR: u8 = 14;
    pub(in super::super) const RMDIR: u8 = 15;
    pub(in super::super) const REALPATH: u8 = 16;
    pub(in super::super) const STAT: u8 = 17;
    pub(in super::super) const RENAME: u8 = 18;
    pub(in super::super) const READLINK: u8 = 19;
    pub(in super::super) const SYMLINK: u8 = 20;
    pub(in super::super) const EXTENDED: u8 = 200;
    pub(in super::super) const STATUS: u8 = 101;
    pub(in super::super) const HANDLE: u8 = 102;
    pub(in super::super) const DATA: u8 = 103;
    pub(in super::super) const NAME: u8 = 104;
    pub(in super::super) const ATTRS: u8 = 105;
    pub(in super::super) const EXTENDED_REPLY: u8 = 201;
}

/// Status codes (section 7).
pub(super) mod code {
    pub(in super::super) const OK: u32 = 0;
    pub(in super::super) const PERMISSION_DENIED: u32 = 3;
    pub(in super::super) const FAILURE: u32 = 4;
    pub(in super::super) const OP_UNSUPPORTED: u32 = 8;
}

/// Flags of OPEN (section 6.3).
pub(super) mod flag {
    pub(in super::super) const READ: u32 = 1;
    pub(in super::super) const WRITE: u32 = 2;
    /// Append, create, truncate, create only.
    pub(in super::super) const CHANGES: u32 = 4 | 8 | 16 | 32;
}

/// Attributes that a SETSTAT changes, but for the times (section 5): size, owner, permissions, extended ones.
pub(super) const ATTRIBUTES_OF_NOTE: u32 = 1 | 2 | 4 | 0x8000_0000;

/// Reads the fields of a packet one after the other.
pub(super) struct Fields<'a>(pub(super) &'a [u8]);

impl<'a> Fields<'a> {
    pub(super) fn u32(&mut self) -> Result<u32, SftpError> {
        let (n, rest) = self.0.split_first_chunk::<4>().ok_or(SftpError::Malformed)?;
        self.0 = rest;
        Ok(u32::from_be_bytes(*n))
    }

    pub(super) fn skip(&mut self, n: usize) -> Result<(), SftpError> {
        self.0 = self.0.get(n..).ok_or(SftpError::Malformed)?;
        Ok(())
    }

    pub(super) fn bytes(&mut self) -> Result<&'a [u8], SftpError> {
        let length = self.u32()? as usize;
        let (bytes, rest) = self.0.split_at_checked(length).ok_or(SftpError::Malformed)?;
        self.0 = rest;
        Ok(bytes)
    }

    /// A path, for people: bytes that are no UTF-8 are escaped, so that two names never look the same.
    pub(super) fn path(&mut self) -> Result<String, SftpError> {
        self.bytes().map(shown)
    }

    /// Nothing may follow.
    pub(super) fn end(&self) -> Result<(), SftpError> {
        if self.0.is_empty() { Ok(()) } else { Err(SftpError::Malformed) }
    }
}

pub(super) fn shown(path: &[u8]) -> String {
    match std::str::from_utf8(path) {
        Ok(text) => text.into(),
        Err(_) => path.escape_ascii().to_string(),
    }
}

/// Takes the next whole packet, without its length, from what came.
pub(super) fn next_packet<'a>(rest: &mut &'a [u8]) -> Result<Option<&'a [u8]>, SftpError> {
    let Some(length) = rest.first_chunk::<4>().map(|n| u32::from_be_bytes(*n) as usize) else { return Ok(None) };
    if length > MAX_PACKET {
        return Err(SftpError::TooLong);
    }
    // A kind, and the version or identifier.
    if length < 5 {
        return Err(SftpError::Malformed);
    }
    let Some((packet, after)) = rest.split_at_checked(length + 4) else { return Ok(None) };
    *rest = after;
    Ok(packet.get(4..))
}

/// Appends a packet.
pub(super) fn put(out: &mut Vec<u8>, kind: u8, id: u32, body: &[&[u8]]) {
    let length = 5 + body.iter().map(|b| b.len()).sum::<usize>();
    out.extend_from_slice(&(length as u32).to_be_bytes());
    out.push(kind);
    out.extend_from_slice(&id.to_be_bytes());
    body.iter().for_each(|b| out.extend_from_slice(b));
}

/// Appends a status.
pub(super) fn put_status(out: &mut Vec<u8>, id: u32, code: u32, message: &str) {
    put(out, kind::STATUS, id, &[&code.to_be_bytes(), &text(message.as_bytes()), &text(b"en")]);
}

pub(super) fn text(bytes: &[u8]) -> Vec<u8> {
    [&(bytes.len() as u32).to_be_bytes()[..], bytes].concat()
}
