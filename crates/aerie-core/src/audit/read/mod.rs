//! The forms that logs of remote accesses come in. Each line, record or event says by itself what it is; a file says by its beginning
//! which of them it holds.

pub mod desktop;
pub mod frames;
pub mod header;
pub mod journal;
pub mod login_records;
pub mod system;
pub mod table;
pub mod unpack;
pub mod windows;

use login_records::is_login_records;
use std::sync::Arc;
use table::Mapping;

/// How much of a file is looked at to see what it holds.
pub const BEGINNING: usize = 512;

/// What a file holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Format {
    /// Lines of syslog in any form, of the journal, of TigerVNC or of xrdp, mixed as they may be.
    Lines,
    /// utmp or wtmp.
    LoginRecords,
    /// btmp: the same records, of those who did not get in.
    BadLogins,
    /// Events of Windows as XML.
    WindowsEvents,
    /// A table, with which column is what.
    Table(Arc<Mapping>),
}

impl Format {
    /// The word for it.
    pub fn word(&self) -> &'static str {
        match self {
            Self::Lines => "lines",
            Self::LoginRecords => "login-records",
            Self::BadLogins => "bad-logins",
            Self::WindowsEvents => "windows-events",
            Self::Table(_) => "table",
        }
    }

    /// The format of that word; a table needs a mapping as well.
    pub fn from_word(word: &str) -> Option<Self> {
        [Self::Lines, Self::LoginRecords, Self::BadLogins, Self::WindowsEvents].into_iter().find(|f| f.word() == word)
    }

    /// What a file holds that is called so and begins so.
    pub fn of(name: &str, beginning: &[u8]) -> Self {
        if is_login_records(beginning) {
            let file = name.rsplit('/').next().unwrap_or(name);
            return if file.starts_with("btmp") { Self::BadLogins } else { Self::LoginRecords };
        }
        let text = beginning.strip_prefix(b"\xef\xbb\xbf").unwrap_or(beginning).trim_ascii_start();
        let is_xml = text.starts_with(b"<?xml") || text.starts_with(b"<Event");
        if is_xml { Self::WindowsEvents } else { Self::Lines }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_says_what_it_holds() {
        let record = login_records::made(7, "pts/3", "ines", [10, 20, 9, 4], 1_795_508_450);
        let table: [(&str, &[u8], Format); 7] = [
            ("wtmp", &record, Format::LoginRecords),
            ("/var/log/btmp.1", &record, Format::BadLogins),
            ("security.xml", b"\xef\xbb\xbf<?xml version='1.0'?><Events>", Format::WindowsEvents),
            ("security.xml", b"<Event xmlns='x'>", Format::WindowsEvents),
            ("auth.log", b"<38>Nov 23 08:20:50 a sshd[1]: x", Format::Lines),
            ("auth.log", b"Nov 23 08:20:50 a sshd[1]: x", Format::Lines),
            ("empty", b"", Format::Lines),
        ];
        for (name, beginning, format) in table {
            assert_eq!(Format::of(name, beginning), format, "{name}");
        }
        for word in ["lines", "login-records", "bad-logins", "windows-events"] {
            assert_eq!(Format::from_word(word).map(|f| f.word()), Some(word));
        }
        assert_eq!(Format::from_word("table"), None);
    }
}
