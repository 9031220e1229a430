//! One entry of `journalctl -o json`: the fields that say when, where, by whom and what (systemd.journal-fields(7)).

use super::header::{Entry, Stamp};
use jiff::Timestamp;
use serde::Deserialize;
use std::borrow::Cow;

/// The fields of an entry, as text; bytes that are no text come as numbers.
#[derive(Debug, Deserialize)]
pub struct JournalEntry<'a> {
    #[serde(rename = "__REALTIME_TIMESTAMP", borrow)]
    written: Cow<'a, str>,
    #[serde(rename = "_HOSTNAME", borrow, default)]
    host: Cow<'a, str>,
    #[serde(rename = "SYSLOG_IDENTIFIER", borrow, default)]
    identifier: Option<Cow<'a, str>>,
    #[serde(rename = "_COMM", borrow, default)]
    command: Option<Cow<'a, str>>,
    #[serde(rename = "_PID", borrow, default)]
    pid: Option<Cow<'a, str>>,
    #[serde(rename = "SYSLOG_PID", borrow, default)]
    stated_pid: Option<Cow<'a, str>>,
    #[serde(rename = "MESSAGE", borrow)]
    message: Text<'a>,
}

#[derive(Debug, Deserialize)]
#[serde(untagged)]
enum Text<'a> {
    Plain(#[serde(borrow)] Cow<'a, str>),
    Bytes(Vec<u8>),
    /// `null`: it was too large to be shown.
    Nothing,
}

impl<'a> JournalEntry<'a> {
    /// Reads an entry; none where the line is none.
    pub fn read(line: &'a [u8]) -> Option<Self> {
        serde_json::from_slice(line).ok()
    }

    /// The entry as a line of a log.
    pub fn entry(&self) -> Option<Entry<'_>> {
        let micros = self.written.parse::<i64>().ok()?;
        let stated = self.stated_pid.as_ref().or(self.pid.as_ref());
        Some(Entry {
            stamp: Stamp::Instant(Timestamp::from_microsecond(micros).ok()?),
            host: &self.host,
            program: self.identifier.as_deref().or(self.command.as_deref())?,
            pid: stated.and_then(|p| p.parse().ok()),
            text: match &self.message {
                Text::Plain(t) => t.as_bytes(),
                Text::Bytes(b) => b,
                Text::Nothing => return None,
            },
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_entry_is_read_and_what_is_none_is_not() {
        let line = br#"{"__CURSOR":"s=1","__REALTIME_TIMESTAMP":"1795508450123456","_HOSTNAME":"dome-east","SYSLOG_IDENTIFIER":"sshd","_PID":"42","MESSAGE":"Accepted \"x\"","PRIORITY":"6"}"#;
        let read = JournalEntry::read(line).unwrap();
        let e = read.entry().unwrap();
        assert_eq!((e.host, e.program, e.pid, e.text), ("dome-east", "sshd", Some(42), &b"Accepted \"x\""[..]));
        assert_eq!(e.stamp, Stamp::Instant("2026-11-24T08:20:50.123456Z".parse().unwrap()));
        let bytes = br#"{"__REALTIME_TIMESTAMP":"1","_COMM":"sshd","MESSAGE":[65,255]}"#;
        assert_eq!(JournalEntry::read(bytes).unwrap().entry().unwrap().text, [65, 255]);
        for bad in [
            &b"{}"[..],
            b"{",
            br#"{"__REALTIME_TIMESTAMP":"x","_COMM":"a","MESSAGE":"b"}"#,
            br#"{"__REALTIME_TIMESTAMP":"1","_COMM":"a","MESSAGE":null}"#,
            br#"{"__REALTIME_TIMESTAMP":"1","MESSAGE":"b"}"#,
        ] {
            assert!(JournalEntry::read(bad).and_then(|e| e.entry().map(|e| e.text.to_vec())).is_none(), "{}", String::from_utf8_lossy(bad));
        }
    }
}
