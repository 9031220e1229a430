use super::demand::Demands;
use super::target::{ForwardTarget, Targets};
use super::{Capabilities, Capability, Factors, Outcome, Track, Tracks};
use crate::directory::selector::Selector;
use jiff::civil::{Date, Time};
use jiff::{Timestamp, tz::TimeZone};
use std::net::IpAddr;
use std::ops::Range;
use std::sync::Arc;

/// A place in the text, in bytes.
pub type Place = Range<usize>;

/// A rule document as it was read: everything in it, with positions.
#[derive(Debug, Clone)]
pub struct Document {
    /// Zone of dates and of the hours that name none.
    pub zone: TimeZone,
    /// Organisations whose people are no outsiders; empty where the document does not say.
    pub home: Vec<String>,
    /// Publishing the next version takes the agreement of a second person.
    pub second_person: bool,
    /// Named hours.
    pub hours: Vec<Hours>,
    /// What decides: `allow`, `forbid` and `require`, in the order written (which never matters).
    pub rules: Vec<Rule>,
    /// What must never become possible.
    pub guards: Vec<Guard>,
    /// Questions with the answers they must have.
    pub cases: Vec<Case>,
    /// Approvals that rules demand, each different one once.
    pub approvals: Vec<Approval>,
    /// Patterns of tickets that rules demand, each different one once.
    pub tickets: Vec<Arc<str>>,
}

/// What a rule does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Effect {
    /// Lets somebody do something.
    Allow,
    /// Keeps somebody from it, whatever any `allow` says.
    Forbid,
    /// Demands something of whatever matches.
    Require,
    /// A guardrail: rules under which this is possible cannot be published. It decides nothing.
    Never,
}

impl Effect {
    /// Every effect.
    pub const ALL: [Effect; 4] = [Self::Allow, Self::Forbid, Self::Require, Self::Never];

    /// The word for it in the rule document.
    pub fn word(self) -> &'static str {
        match self {
            Self::Allow => "allow",
            Self::Forbid => "forbid",
            Self::Require => "require",
            Self::Never => "never",
        }
    }
}

/// Capabilities whose use a recording shows: what was typed, run or seen.
pub(super) const WORK: [Capability; 4] = [Capability::Shell, Capability::Exec, Capability::View, Capability::Control];

/// Whether any of these tracks is one that a forwarded port cannot fill.
pub(super) fn are_of_sight(tracks: Tracks) -> bool {
    !tracks.both(Tracks::of([Track::Terminal, Track::Input, Track::Screen])).is_empty()
}

/// One rule.
#[derive(Debug, Clone)]
pub struct Rule {
    /// What it does.
    pub effect: Effect,
    /// Its name, unique in the document.
    pub name: Arc<str>,
    /// What it is for, in the author's words.
    pub note: Option<Arc<str>>,
    /// Line on which it begins.
    pub line: usize,
    /// Place of its head in the text.
    pub span: Place,
    /// Who, with the place of the selector in the text.
    pub people: (Selector, Place),
    /// Where, with the place of the selector in the text.
    pub machines: (Selector, Place),
    /// What; all capabilities where the rule names none (not for `allow`).
    pub capabilities: Capabilities,
    /// Accounts on the machine; `*` for any. Empty means any, but for `allow`, which must name them.
    pub accounts: Vec<Arc<str>>,
    /// Where forwarded ports may lead. Where it names none, an `allow` gives the machine itself, and the others mean all.
    pub targets: Targets,
    /// Index into [`Document::hours`]; none means always.
    pub hours: Option<usize>,
    /// Addresses to come from.
    pub from: Sources,
    /// First day.
    pub first_day: Option<Date>,
    /// Last day.
    pub last_day: Option<Date>,
    /// What it demands.
    pub demands: Demands,
    /// An `allow` for emergencies: it counts for whoever declares one, and waits for nobody's approval or consent.
    pub emergency: bool,
}

impl Rule {
    /// Whether it speaks of this account.
    pub fn concerns_account(&self, account: &str) -> bool {
        self.accounts.is_empty() || self.accounts.iter().any(|a| &**a == "*" || &**a == account)
    }

    /// Whether it speaks of a port that leads there; of one that leads anywhere, where none is given.
    pub(super) fn concerns_target(&self, target: Option<&ForwardTarget>) -> bool {
        match (self.effect, target) {
            (Effect::Allow, None) => true,
            (Effect::Allow, Some(target)) => self.targets.give(target),
            (Effect::Forbid | Effect::Require | Effect::Never, Some(target)) => self.targets.concern(target),
            (Effect::Forbid | Effect::Require | Effect::Never, None) => self.targets.are_all(),
        }
    }

    /// Whether it demands that what is done and seen on the machine is recorded.
    pub(super) fn demands_sight(&self) -> bool {
        let demands = matches!(self.effect, Effect::Allow | Effect::Require) && !self.emergency;
        demands && WORK.iter().any(|c| self.capabilities.contains(*c)) && are_of_sight(self.demands.recording)
    }
}

/// A guardrail.
#[derive(Debug, Clone)]
pub struct Guard {
    /// What must not be possible.
    pub rule: Rule,
    /// It may be possible where all this is demanded.
    pub unless: Option<Demands>,
}

/// An approval that rules demand.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Approval {
    /// Who may give it.
    pub from: Selector,
    /// The selector as written.
    pub text: Arc<str>,
    /// Place of the selector in the text.
    pub span: Place,
    /// How many different people must give it.
    pub count: u16,
}

/// A question that stands in the document with the answer it must have.
#[derive(Debug, Clone)]
pub struct Case {
    /// Its name, unique among cases.
    pub name: Arc<str>,
    /// Place of its head in the text.
    pub span: Place,
    /// Line on which it begins.
    pub line: usize,
    /// Who.
    pub person: String,
    /// Where.
    pub machine: String,
    /// What; each of them must have the answer.
    pub capabilities: Capabilities,
    /// Account on the machine.
    pub account: Option<String>,
    /// Where a forwarded port leads.
    pub target: Option<ForwardTarget>,
    /// When.
    pub at: CaseTime,
    /// From which address.
    pub from: Option<IpAddr>,
    /// Factors proved just now.
    pub factors: Factors,
    /// Who approved.
    pub approved_by: Vec<String>,
    /// Ticket named.
    pub ticket: Option<String>,
    /// Whether a reason is given.
    pub reason: bool,
    /// The answer it must have.
    pub expect: Expectation,
    /// The rule that must be cited.
    pub because: Option<String>,
}

/// When the question of a [`Case`] is put.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CaseTime {
    /// At this instant.
    At(Timestamp),
    /// At this time of the day, on each of the seven days from the check on.
    Daily(Time),
}

/// The answer that a [`Case`] must have.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Expectation {
    /// Yes.
    Granted,
    /// Yes, once something is there that is missing.
    Asked,
    /// No.
    Refused,
}

impl Expectation {
    /// Every answer.
    pub const ALL: [Expectation; 3] = [Self::Granted, Self::Asked, Self::Refused];

    /// The word for it in the rule document.
    pub fn word(self) -> &'static str {
        match self {
            Self::Granted => "granted",
            Self::Asked => "asked",
            Self::Refused => "refused",
        }
    }

    /// Which answer this outcome is.
    pub fn of(outcome: &Outcome) -> Self {
        match outcome {
            Outcome::Granted(_) => Self::Granted,
            Outcome::Unmet { .. } => Self::Asked,
            Outcome::Refused(_) => Self::Refused,
        }
    }
}

/// Named hours: when a rule counts.
#[derive(Debug, Clone)]
pub struct Hours {
    /// Their name.
    pub name: Arc<str>,
    /// Zone in which their clock runs.
    pub zone: TimeZone,
    /// Weekly spans.
    pub spans: Vec<Span>,
    /// Dates, or parts of them, on which the weekly spans do not count: holidays.
    pub except: Vec<DatedSpan>,
    /// Dates, or parts of them, that count besides: maintenance windows. They win over `except`.
    pub also: Vec<DatedSpan>,
    /// Line on which they stand.
    pub line: usize,
}

/// A span of the day on dates that follow each other. One that ends no later than it begins runs through midnight.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct DatedSpan {
    /// First date.
    pub first: Date,
    /// Last date, inclusive.
    pub last: Date,
    /// Minutes after midnight, 0 to 1,439.
    pub begin: u16,
    /// Minutes after midnight, 0 to 1,440.
    pub end: u16,
}

/// A span of the day on some days of the week. One that ends no later than it begins runs through midnight and belongs
/// to the day on which it begins.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Span {
    /// Bit 0 is Monday.
    pub days: u8,
    /// Minutes after midnight, 0 to 1,439.
    pub begin: u16,
    /// Minutes after midnight, 0 to 1,440.
    pub end: u16,
}

/// Addresses to come from: within some ranges, and in none of others.
#[derive(Debug, Clone, Default, PartialEq, Eq, Hash)]
pub struct Sources {
    /// The address must be in one of these; none for any.
    pub within: Vec<Network>,
    /// The address must be in none of these.
    pub except: Vec<Network>,
}

impl Sources {
    /// Whether any address will do.
    pub fn is_anywhere(&self) -> bool {
        self.within.is_empty() && self.except.is_empty()
    }

    /// Whether this address will do.
    pub fn contain(&self, address: IpAddr) -> bool {
        (self.within.is_empty() || self.within.iter().any(|n| n.contains(address))) && !self.except.iter().any(|n| n.contains(address))
    }
}

impl std::fmt::Display for Sources {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let within = self.within.iter().map(ToString::to_string);
        let all: Vec<String> = within.chain(self.except.iter().map(|n| format!("!{n}"))).collect();
        f.write_str(&all.join(", "))
    }
}

/// An address range in CIDR notation.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Network {
    address: IpAddr,
    bits: u8,
}

impl Network {
    /// Reads `10.20.0.0/16`, `2001:db8::/32` or a single address.
    ///
    /// # Errors
    /// A sentence saying what is wrong.
    pub fn parse(text: &str) -> Result<Self, String> {
        let (address, bits) = text.split_once('/').map_or((text, None), |(a, b)| (a, Some(b)));
        let address: IpAddr = address.parse().map_err(|_| format!("`{text}` is not an address or range"))?;
        let most = if address.is_ipv4() { 32 } else { 128 };
        let bits = match bits {
            None => most,
            Some(b) => b.parse().ok().filter(|b| *b <= most).ok_or(format!("the prefix of `{text}` is not 0 to {most}"))?,
        };
        Ok(Self { address, bits })
    }

    /// First and last address of the range.
    pub fn ends(&self) -> (IpAddr, IpAddr) {
        match self.address {
            IpAddr::V4(a) => {
                let rest = u32::MAX.checked_shr(self.bits.into()).unwrap_or(0);
                (IpAddr::V4((a.to_bits() & !rest).into()), IpAddr::V4((a.to_bits() | rest).into()))
            }
            IpAddr::V6(a) => {
                let rest = u128::MAX.checked_shr(self.bits.into()).unwrap_or(0);
                (IpAddr::V6((a.to_bits() & !rest).into()), IpAddr::V6((a.to_bits() | rest).into()))
            }
        }
    }

    /// Whether the address is in the range. An IPv4 address mapped into IPv6 counts as IPv4.
    pub fn contains(&self, address: IpAddr) -> bool {
        match (self.address, address.to_canonical()) {
            (IpAddr::V4(a), IpAddr::V4(b)) => self.bits == 0 || (a.to_bits() ^ b.to_bits()) >> (32 - self.bits) == 0,
            (IpAddr::V6(a), IpAddr::V6(b)) => self.bits == 0 || (a.to_bits() ^ b.to_bits()) >> (128 - self.bits) == 0,
            (IpAddr::V4(_), IpAddr::V6(_)) | (IpAddr::V6(_), IpAddr::V4(_)) => false,
        }
    }
}

impl std::fmt::Display for Network {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let single = self.bits == if self.address.is_ipv4() { 32 } else { 128 };
        if single { write!(f, "{}", self.address) } else { write!(f, "{}/{}", self.address, self.bits) }
    }
}

#[cfg(test)]
mod tests {
    use super::Network;

    #[test]
    fn a_network_ends_where_its_prefix_says() {
        let ends = |t: &str| Network::parse(t).map(|n| n.ends()).map(|(a, b)| (a.to_string(), b.to_string())).unwrap();
        assert_eq!(ends("10.20.3.4/16"), ("10.20.0.0".into(), "10.20.255.255".into()));
        assert_eq!(ends("0.0.0.0/0"), ("0.0.0.0".into(), "255.255.255.255".into()));
        assert_eq!(ends("2001:db8::7"), ("2001:db8::7".into(), "2001:db8::7".into()));
    }

    #[test]
    fn networks_hold_their_own_addresses_only() {
        let table = [
            ("10.20.0.0/16", "10.20.255.1", true),
            ("10.20.0.0/16", "10.21.0.0", false),
            ("10.20.0.0/16", "::ffff:10.20.1.1", true),
            ("0.0.0.0/0", "203.0.113.9", true),
            ("0.0.0.0/0", "2001:db8::1", false),
            ("2001:db8::/32", "2001:db8:9::1", true),
            ("192.0.2.7", "192.0.2.7", true),
            ("192.0.2.7", "192.0.2.8", false),
        ];
        for (net, address, inside) in table {
            assert_eq!(Network::parse(net).unwrap().contains(address.parse().unwrap()), inside, "{net} {address}");
        }
        for bad in ["10.20.0.0/33", "ridge", "10.0.0.0/-1", "2001:db8::/129"] {
            assert!(Network::parse(bad).is_err(), "{bad}");
        }
    }
}
