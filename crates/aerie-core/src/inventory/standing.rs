use jiff::{SignedDuration, Timestamp};

/// What was heard of a machine.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Heard {
    /// An enrolment code for it is out.
    pub code_issued: bool,
    /// It has an agent.
    pub agent: bool,
    /// The agent is connected.
    pub connected: bool,
    /// When something was heard of it: its agent, a session, a check.
    pub last: Option<Timestamp>,
}

/// How a machine stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum MachineStanding {
    /// A code was issued, and nobody has enrolled with it yet.
    CodeIssued,
    /// Its agent is connected.
    Online,
    /// Its agent is not connected.
    Offline,
    /// It has no agent of its own; whether it answers is seen when somebody goes there or checks it.
    NoAgent,
    /// It lacks an address or a host key.
    Incomplete,
}

impl MachineStanding {
    /// How a machine stands; `ready` where it has an address and a pinned host key.
    pub fn of(heard: Heard, ready: bool) -> Self {
        match heard {
            Heard { connected: true, .. } => Self::Online,
            Heard { agent: true, .. } => Self::Offline,
            Heard { code_issued: true, .. } => Self::CodeIssued,
            _ if ready => Self::NoAgent,
            _ => Self::Incomplete,
        }
    }

    /// A stable word.
    pub fn word(self) -> &'static str {
        match self {
            Self::CodeIssued => "code issued",
            Self::Online => "online",
            Self::Offline => "offline",
            Self::NoAgent => "no agent",
            Self::Incomplete => "incomplete",
        }
    }
}

/// Whether a machine has not been heard of for so many days; 0 days are for ever. What is connected, and what was never heard
/// of, is not stale: somebody may have registered it for later.
pub fn is_stale(heard: Heard, days: i64, now: Timestamp) -> bool {
    days > 0 && !heard.connected && heard.last.is_some_and(|last| now.duration_since(last) > SignedDuration::from_hours(24 * days))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_machine_stands_as_was_heard_of_it() {
        let heard = |code_issued, agent, connected| Heard { code_issued, agent, connected, last: None };
        for (h, ready, standing) in [
            (heard(true, true, true), true, "online"),
            (heard(true, true, false), true, "offline"),
            (heard(true, false, false), true, "code issued"),
            (heard(true, false, false), false, "code issued"),
            (heard(false, false, false), true, "no agent"),
            (heard(false, false, false), false, "incomplete"),
        ] {
            assert_eq!(MachineStanding::of(h, ready).word(), standing);
        }
    }

    #[test]
    fn machines_grow_stale_when_nothing_is_heard() {
        let now = Timestamp::from_second(1_780_000_000).unwrap();
        let heard = |hours, connected| Heard { connected, last: Some(now - SignedDuration::from_hours(hours)), ..Heard::default() };
        assert!(!is_stale(heard(48, false), 2, now));
        assert!(is_stale(heard(49, false), 2, now));
        assert!(!is_stale(heard(49, true), 2, now));
        assert!(!is_stale(heard(4900, false), 0, now));
        assert!(!is_stale(Heard::default(), 1, now));
    }
}
