//! Whether what a sender sends is understood at all: a log of which nothing is understood hides everything, and looks quiet.

use super::finding::{Finding, FindingKind};
use super::log::LogLine;
use jiff::Timestamp;
use std::sync::Arc;

/// Messages of a sender in a row of which none was understood, before it is a finding. A single odd message is none; a sender with a
/// template that is not read does not write another one.
const ENOUGH: u64 = 20;

/// What came from one sender since something of it was understood.
#[derive(Debug, Clone, Default)]
pub struct Unread {
    lines: u64,
    first: Option<LogLine>,
}

impl Unread {
    /// Takes a line and whether it was understood.
    pub fn handle_line(&mut self, file: &Arc<str>, line: &[u8], understood: bool) {
        if understood {
            *self = Self::default();
            return;
        }
        self.lines += 1;
        self.first.get_or_insert_with(|| LogLine::cut(file.clone(), self.lines, 0, line, line));
    }

    /// Whether the last message was understood, so that nothing needs to be remembered.
    pub fn is_clear(&self) -> bool {
        self.lines == 0
    }

    /// The finding, once enough messages came. Then the count starts again.
    pub fn poll_finding(&mut self, sender: &str, machine: &str, at: Timestamp) -> Option<Finding> {
        if self.lines < ENOUGH {
            return None;
        }
        let Self { lines, first } = std::mem::take(self);
        let sentence = format!("None of {lines} log messages in a row from {sender} was understood, so none was audited.");
        let mut finding = Finding::seen(FindingKind::LogNotUnderstood, sender, machine, "", sentence, at);
        finding.lines.extend(first);
        Some(finding)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_sender_is_told_of_when_nothing_in_a_row_is_understood_and_not_one_line_before() {
        let (file, at) = (Arc::from("syslog"), Timestamp::UNIX_EPOCH);
        let mut unread = Unread::default();
        let send = |unread: &mut Unread, n: u64, understood| (0..n).for_each(|_| unread.handle_line(&file, b"\x1bodd", understood));
        send(&mut unread, ENOUGH - 1, false);
        assert!(unread.poll_finding("192.0.2.7", "gateway", at).is_none() && !unread.is_clear());
        send(&mut unread, 1, true);
        assert!(unread.is_clear());
        send(&mut unread, ENOUGH - 1, false);
        assert!(unread.poll_finding("192.0.2.7", "gateway", at).is_none());
        send(&mut unread, 1, false);
        let told = unread.poll_finding("192.0.2.7", "gateway", at).unwrap();
        assert_eq!(told.sentence, "None of 20 log messages in a row from 192.0.2.7 was understood, so none was audited.");
        assert_eq!(told.lines[0].text, "␛odd");
        assert!(unread.is_clear() && unread.poll_finding("192.0.2.7", "gateway", at).is_none());
    }
}
