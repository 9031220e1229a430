//! The binary records of utmp, wtmp and btmp (utmp(5) on Linux): who logged in where, from where, and out again.

use jiff::Timestamp;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// Bytes of a record, on every 64-bit Linux with the GNU library.
pub const RECORD: usize = 384;

/// What a record says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// Somebody logged in.
    Login,
    /// The process at a terminal is over.
    Logout,
    /// The machine was started or stopped: everybody is out.
    Boot,
    /// Anything else.
    Other,
}

/// One record.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LoginRecord {
    /// What it says.
    pub kind: Kind,
    /// Process.
    pub pid: u32,
    /// Terminal, as `pts/3`.
    pub line: String,
    /// Account; empty where it is over.
    pub account: String,
    /// Address it came from, or the name, cut to 256 bytes; empty for one at the machine itself.
    pub source: String,
    /// When.
    pub at: Timestamp,
}

fn text(bytes: &[u8]) -> String {
    let end = memchr::memchr(0, bytes).unwrap_or(bytes.len());
    String::from_utf8_lossy(bytes.get(..end).unwrap_or(bytes)).into_owned()
}

impl LoginRecord {
    /// Reads a record of [`RECORD`] bytes; none where it cannot be one.
    pub fn read(bytes: &[u8]) -> Option<Self> {
        let part = |from: usize, to: usize| bytes.get(from..to);
        let number = |at: usize| part(at, at + 4)?.try_into().ok().map(i32::from_le_bytes);
        let kind = i16::from_le_bytes(part(0, 2)?.try_into().ok()?);
        let address: [u8; 16] = part(348, 364)?.try_into().ok()?;
        let source = match address {
            [0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0] => text(part(76, 332)?),
            [a, b, c, d, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0] => IpAddr::from(Ipv4Addr::new(a, b, c, d)).to_string(),
            all => IpAddr::from(Ipv6Addr::from(all)).to_canonical().to_string(),
        };
        let kind = match kind {
            // btmp holds LOGIN_PROCESS for ssh and USER_PROCESS for consoles: both are of somebody who was not let in.
            7 => Kind::Login,
            8 => Kind::Logout,
            1 | 2 => Kind::Boot,
            0 | 3..=6 | 9 => Kind::Other,
            _ => return None,
        };
        let (seconds, micros) = (number(340)?, number(344)?);
        if !(0..1_000_000).contains(&micros) || seconds < 0 {
            return None;
        }
        Some(Self {
            kind,
            pid: u32::try_from(number(4)?).ok()?,
            line: text(part(8, 40)?),
            account: text(part(44, 76)?),
            source,
            at: Timestamp::new(i64::from(seconds), micros * 1000).ok()?,
        })
    }
}

/// Whether a file may be one of such records: whole ones at its beginning.
pub fn is_login_records(beginning: &[u8]) -> bool {
    let first = beginning.get(..RECORD).and_then(LoginRecord::read);
    // Text has no zero bytes where a record has its padding.
    first.is_some_and(|r| r.at > Timestamp::UNIX_EPOCH) && beginning.get(2..4) == Some(&[0, 0])
}

#[cfg(test)]
pub(in crate::audit) fn made(kind: i16, line: &str, account: &str, source: [u8; 4], at: i32) -> Vec<u8> {
    let mut r = vec![0u8; RECORD];
    let mut put = |from: usize, bytes: &[u8]| r[from..from + bytes.len()].copy_from_slice(bytes);
    put(0, &kind.to_le_bytes());
    put(4, &77i32.to_le_bytes());
    put(8, line.as_bytes());
    put(44, account.as_bytes());
    put(348, &source);
    put(340, &at.to_le_bytes());
    r
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn records_are_read_and_rubbish_is_not() {
        let bytes = made(7, "pts/3", "ines", [10, 20, 9, 4], 1_795_508_450);
        assert!(is_login_records(&bytes));
        let r = LoginRecord::read(&bytes).unwrap();
        assert_eq!(
            (r.kind, r.line.as_str(), r.account.as_str(), r.source.as_str(), r.pid),
            (Kind::Login, "pts/3", "ines", "10.20.9.4", 77)
        );
        assert_eq!(r.at, "2026-11-24T08:20:50Z".parse().unwrap());
        assert!(!is_login_records(&[b'a'; 400]) && !is_login_records(&[0; 384]) && !is_login_records(&bytes[..100]));
        assert_eq!(LoginRecord::read(&made(99, "", "", [0; 4], 1)), None);
        assert_eq!(LoginRecord::read(&made(7, "", "", [0; 4], -1)), None);
    }
}
