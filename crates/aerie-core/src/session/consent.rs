//! What service and agent say to each other about the consent of the person at the machine: one JSON value a line, on a stream of the
//! tunnel that lives as long as what was asked for.

use crate::inventory::LoggedIn;
use crate::policy::{Capability, Consent};
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

/// What the service asks the agent to connect to when it wants to ask the person at the machine.
pub const TARGET: &str = "person-at-the-machine";
/// Longest line, in bytes.
pub const MAX_LINE: usize = 16 << 10;

/// Who asks whom for what.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Question {
    /// Identifier of the attempt, and later of the session.
    pub id: String,
    /// Whom the person is asked by: a name for people.
    pub who: String,
    /// Their login name.
    pub person: String,
    /// Their organisation; empty where it is not known.
    pub organisation: String,
    /// The machine.
    pub machine: String,
    /// The account that is used there.
    pub account: String,
    /// What they would do.
    pub capability: Capability,
    /// Where a forwarded port would lead, as `host:port`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub target: Option<String>,
    /// Why, in their words; empty where nobody asked.
    pub reason: String,
    /// How long it may last, in seconds; none where nothing limits it.
    pub at_most_s: Option<u64>,
    /// Whether it is recorded.
    pub recorded: bool,
    /// How the person is asked.
    pub mode: Consent,
    /// No answer is a no from then on.
    pub until: Timestamp,
}

impl Question {
    /// What they would do, as it follows "may" and is followed by the machine: `see the screen of`.
    pub fn does(&self) -> String {
        does(self.capability, self.target.as_deref())
    }
}

/// What the user would do, to stand between "may" and the machine. A forwarded port is named by its target.
pub fn does(capability: Capability, target: Option<&str>) -> String {
    match target {
        Some(target) => format!("forward a port to {target} through"),
        None => capability.phrase().into(),
    }
}

/// What the service says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ToMachine {
    /// First.
    Question(Question),
    /// It has begun: the sign is to be shown.
    Began(Timestamp),
    /// Something for the person to see while it goes on.
    Talk(Talk),
    /// The answer came too late, or the use is over: nothing is to be shown any more.
    Over(String),
}

/// What the person at the machine is shown of what is said and drawn in a desktop session.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Talk {
    /// Somebody said something.
    Said {
        /// Who.
        who: String,
        /// What.
        text: String,
    },
    /// A line was drawn over the picture, by its points in it, at most [`MOST_POINTS`]; without points all lines are wiped.
    Line(Vec<(u16, u16)>),
    /// A piece of the picture that is drawn on: the screen as it is now, made small. All pieces together, in base64, are a PNG.
    Picture {
        /// Width.
        width: u16,
        /// Height.
        height: u16,
        /// A piece of it, of at most [`PICTURE_PIECE`] characters.
        piece: String,
        /// Whether it is the last.
        last: bool,
    },
}

/// Points of a line that is shown at the machine.
pub const MOST_POINTS: usize = 300;
/// Characters of one piece of a picture: a line has room for it.
pub const PICTURE_PIECE: usize = 12_000;
/// Width of the picture.
pub const PICTURE_WIDTH: u16 = 640;
/// Characters of what is said at the machine.
pub const LONGEST_SAID: usize = 1000;

impl Talk {
    /// A line of a screen of this size, as it is on a picture of that one, with as many points as are shown.
    pub fn line(points: &[(u16, u16)], screen: (u16, u16), picture: (u16, u16)) -> Self {
        let scale = |n: u16, of: u16, to: u16| (u32::from(n) * u32::from(to) / u32::from(of.max(1))).min(u32::from(u16::MAX)) as u16;
        let step = points.len().div_ceil(MOST_POINTS).max(1);
        let kept = points.iter().step_by(step);
        Self::Line(kept.map(|(x, y)| (scale(*x, screen.0, picture.0), scale(*y, screen.1, picture.1))).collect())
    }

    /// A picture in its pieces.
    pub fn picture((width, height): (u16, u16), png: &[u8]) -> Vec<Self> {
        use base64::Engine as _;
        let text = base64::engine::general_purpose::STANDARD.encode(png);
        let count = text.len().div_ceil(PICTURE_PIECE);
        // Base64 is ASCII: every byte is a character.
        let pieces = text.as_bytes().chunks(PICTURE_PIECE).map(|p| String::from_utf8_lossy(p).into_owned());
        pieces.enumerate().map(|(n, piece)| Self::Picture { width, height, piece, last: n + 1 == count }).collect()
    }
}

/// What the agent says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FromMachine {
    /// Somebody was told; nobody was asked.
    Told(Witness),
    /// Nobody is there, and this is why that is believed.
    Nobody(String),
    /// Somebody agreed.
    Agreed(Witness),
    /// Somebody did not agree, or no longer does.
    Refused(Witness),
    /// Somebody switched this off for the time being (true) or on again (false).
    SwitchedOff(bool, Witness),
    /// Somebody said something to whoever is connected.
    Said(String),
}

/// Who answered, and where.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Witness {
    /// Account on the machine; empty where nobody in particular was reached.
    pub account: String,
    /// Terminal or seat, and how: `pts/3`, `page`, `program /etc/…`.
    pub console: String,
}

impl std::fmt::Display for Witness {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match (self.account.as_str(), self.console.as_str()) {
            ("", "") => f.write_str("somebody at the machine"),
            ("", console) => write!(f, "somebody at {console}"),
            (account, "") => f.write_str(account),
            (account, console) => write!(f, "{account} at {console}"),
        }
    }
}

impl FromMachine {
    /// The strength of consent that it is worth for a question asked in this mode; none for a no.
    pub fn worth(&self, mode: Consent) -> Option<Consent> {
        match (self, mode) {
            (Self::Agreed(_), _) => Some(Consent::Ask),
            (Self::Nobody(_), Consent::IfPresent | Consent::Notice) => Some(mode),
            (Self::Told(_), Consent::Notice) => Some(Consent::Notice),
            (Self::SwitchedOff(false, _), _) => Some(mode),
            (Self::Told(_) | Self::Nobody(_) | Self::Refused(_) | Self::SwitchedOff(true, _) | Self::Said(_), _) => None,
        }
    }
}

/// What is known of one who is logged in at a machine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Presence {
    /// The login.
    pub login: LoggedIn,
    /// How long nothing was typed there; none where that is not known.
    pub idle: Option<SignedDuration>,
}

/// Why nobody is held to be there; none where somebody is. Logins from elsewhere are of people who are not at the machine, but may be
/// asked: they count.
pub fn nobody_there(logins: &[Presence], most_idle: SignedDuration) -> Option<String> {
    if logins.is_empty() {
        return Some("nobody is logged in".into());
    }
    // One whose idle time is not known may be there.
    let shortest = logins.iter().map(|p| p.idle).min_by_key(|i| i.unwrap_or(SignedDuration::ZERO))??;
    (shortest > most_idle)
        .then(|| format!("nothing was typed for {}", crate::wording::duration(SignedDuration::from_secs(shortest.as_secs()))))
}

/// One line of the stream.
pub fn line<T: Serialize>(value: &T) -> Vec<u8> {
    let mut line = serde_json::to_vec(value).unwrap_or_default();
    line.push(b'\n');
    line
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_no_is_worth_nothing_and_nobody_counts_only_where_the_rules_say_so() {
        let w = Witness::default();
        let table = [
            (FromMachine::Agreed(w.clone()), [Some(Consent::Ask); 3]),
            (FromMachine::Refused(w.clone()), [None; 3]),
            (FromMachine::Nobody("x".into()), [Some(Consent::Notice), Some(Consent::IfPresent), None]),
            (FromMachine::Told(w.clone()), [Some(Consent::Notice), None, None]),
            (FromMachine::SwitchedOff(true, w), [None; 3]),
            (FromMachine::Said("yes".into()), [None; 3]),
        ];
        for (said, worth) in table {
            assert_eq!([Consent::Notice, Consent::IfPresent, Consent::Ask].map(|m| said.worth(m)), worth, "{said:?}");
            assert_eq!(serde_json::from_slice::<FromMachine>(&line(&said)).unwrap(), said);
        }
    }

    #[test]
    fn what_is_drawn_and_pictured_fits_into_lines_of_the_stream() {
        let points: Vec<(u16, u16)> = (0..2000).map(|n| (n, 799)).collect();
        let drawn = Talk::line(&points, (2560, 1600), (640, 400));
        let Talk::Line(kept) = &drawn else { panic!() };
        assert!(kept.len() <= MOST_POINTS && kept.first() == Some(&(0, 199)) && kept.iter().all(|p| p.0 < 500), "{kept:?}");
        assert!(line(&ToMachine::Talk(drawn)).len() < MAX_LINE);
        assert_eq!(Talk::line(&[], (1, 1), (1, 1)), Talk::Line(vec![]));
        let png: Vec<u8> = (0..40_000u32).map(|n| n as u8).collect();
        let pieces = Talk::picture((640, 400), &png);
        assert_eq!(pieces.iter().filter(|p| matches!(p, Talk::Picture { last: true, .. })).count(), 1);
        let mut text = String::new();
        for p in pieces {
            assert!(line(&ToMachine::Talk(p.clone())).len() <= MAX_LINE);
            if let Talk::Picture { piece, .. } = p {
                text += &piece;
            }
        }
        assert_eq!(base64::Engine::decode(&base64::engine::general_purpose::STANDARD, text).unwrap(), png);
    }

    #[test]
    fn nobody_there_is_decided_from_facts() {
        let at = |idle: Option<i64>| Presence {
            login: LoggedIn { account: "ines".into(), terminal: "tty1".into(), from: String::new(), since: None },
            idle: idle.map(SignedDuration::from_secs),
        };
        let ten = SignedDuration::from_mins(10);
        assert_eq!(nobody_there(&[], ten).as_deref(), Some("nobody is logged in"));
        assert_eq!(nobody_there(&[at(Some(1200)), at(Some(601))], ten).as_deref(), Some("nothing was typed for 10 min"));
        assert_eq!(nobody_there(&[at(Some(1200)), at(Some(600))], ten), None);
        assert_eq!(nobody_there(&[at(Some(1200)), at(None)], ten), None);
    }
}
