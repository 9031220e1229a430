//! Events as messages of syslog (RFC 5424), framed by their lengths (RFC 5425 section 4.3), for the organisation's collector.
//!
//! The text of a message is the event byte for byte as it stands in the log: whoever collects them can hash it as a leaf and hold it
//! against a checkpoint, without asking the service.

use super::event::EventKind;
use jiff::Timestamp;
use serde::Deserialize;

/// Facility `log audit` (RFC 5424 section 6.2.1).
const FACILITY: u8 = 13;
/// Largest `sequenceId` (RFC 5424 section 7.3.1); then it begins again at 1.
const MOST_SEQUENCE: u64 = 2_147_483_647;
/// Longest name of a host.
const LONGEST_HOST: usize = 255;

#[derive(Deserialize)]
struct Head {
    at: Timestamp,
    kind: EventKind,
}

/// How grave an event is, as syslog counts: 3 for what cannot be kept, 4 for what somebody should look at, 5 for what was refused or
/// changed, 6 for the rest.
pub fn severity(kind: EventKind) -> u8 {
    match kind {
        EventKind::RecordingFailed => 3,
        EventKind::FindingRaised | EventKind::EmergencyDeclared | EventKind::AgentRefused | EventKind::Stopped => 4,
        EventKind::SignInFailed
        | EventKind::MachineFailed
        | EventKind::PolicyPublished
        | EventKind::SettingChanged
        | EventKind::SuppressionChanged
        | EventKind::DetectionsPublished
        | EventKind::ServiceKeyRotated
        | EventKind::CredentialSeen => 5,
        _ => 6,
    }
}

/// The frame of one event: `seq` is its place, `body` its canonical JSON, `host` how this service is called. None where the body is
/// no event of this version.
pub fn syslog_frame(seq: u64, body: &str, host: &str, process: u32) -> Option<Vec<u8>> {
    let Head { at, kind } = serde_json::from_str(body).ok()?;
    let priority = FACILITY * 8 + severity(kind);
    // Six digits at most (section 6).
    let at = at.strftime("%Y-%m-%dT%H:%M:%S%.6fZ");
    let host: String = host.chars().filter(char::is_ascii_graphic).take(LONGEST_HOST).collect();
    let host = if host.is_empty() { "-" } else { &host };
    let sequence = seq % MOST_SEQUENCE + 1;
    let message = format!("<{priority}>1 {at} {host} aerie {process} {} [meta sequenceId=\"{sequence}\"] \u{feff}{body}", kind.word());
    Some(format!("{} {message}", message.len()).into_bytes())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::audit::read::frames::SyslogFrames;
    use crate::audit::read::header::{Stamp, header};
    use crate::evidence::NewEvent;

    #[test]
    fn a_frame_reads_back_to_the_very_event() {
        let at: Timestamp = "2026-11-27T21:22:11.123456789Z".parse().unwrap();
        let event = NewEvent::new(at, EventKind::FindingRaised, "service").says("Zoë \"x\"]\nsaw it.").at_place(7);
        let body = event.body();
        let frame = syslog_frame(7, &body, "aerie.example", 42).unwrap();
        let mut frames = vec![];
        SyslogFrames::default().handle_bytes(&frame, &mut |m| frames.push(m.to_vec())).unwrap();
        let [message] = frames.as_slice() else { panic!("{frames:?}") };
        assert!(message.starts_with(b"<108>1 2026-11-27T21:22:11.123456Z aerie.example aerie 42 finding-raised [meta sequenceId=\"8\"] "));
        let entry = header(message).unwrap();
        assert_eq!(entry.text, body.as_bytes());
        assert_eq!(entry.stamp, Stamp::Instant("2026-11-27T21:22:11.123456Z".parse().unwrap()));
    }

    #[test]
    fn every_kind_fits_its_field_and_numbers_stay_within_theirs() {
        for kind in EventKind::ALL {
            // MSGID has at most 32 printable characters.
            assert!(kind.word().len() <= 32 && kind.word().bytes().all(|b| b.is_ascii_graphic()));
            assert!((3..=6).contains(&severity(*kind)));
        }
        let event = NewEvent::new(Timestamp::UNIX_EPOCH, EventKind::SignIn, "ines").at_place(0);
        let text = |seq, host| String::from_utf8(syslog_frame(seq, &event.body(), host, 1).unwrap()).unwrap();
        assert!(text(MOST_SEQUENCE - 1, "a").contains("sequenceId=\"2147483647\""));
        assert!(text(MOST_SEQUENCE, "a").contains("sequenceId=\"1\""));
        assert!(text(0, "a b\n").contains("Z ab aerie 1 sign-in ") && text(0, "").contains("Z - aerie "));
        assert_eq!(syslog_frame(0, "{}", "a", 1), None);
    }
}
