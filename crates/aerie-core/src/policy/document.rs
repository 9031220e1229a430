use super::{Capabilities, Factors};
use crate::directory::selector::Selector;
use jiff::{SignedDuration, civil::Date, tz::TimeZone};
use std::net::IpAddr;
use std::ops::Range;
use std::sync::Arc;

/// A rule document as it was read: everything in it, with positions.
#[derive(Debug, Clone)]
pub struct Document {
    /// Zone of dates and of the hours that name none.
    pub zone: TimeZone,
    /// Named hours.
    pub hours: Vec<Hours>,
    /// Rules, in the order written (which never matters).
    pub rules: Vec<Rule>,
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
}

impl Effect {
    /// Every effect.
    pub const ALL: [Effect; 3] = [Self::Allow, Self::Forbid, Self::Require];

    /// The word for it in the rule document.
    pub fn word(self) -> &'static str {
        match self {
            Self::Allow => "allow",
            Self::Forbid => "forbid",
            Self::Require => "require",
        }
    }
}

/// One rule.
#[derive(Debug, Clone)]
pub struct Rule {
    /// What it does.
    pub effect: Effect,
    /// Its name, unique in the document.
    pub name: Arc<str>,
    /// Line on which it begins.
    pub line: usize,
    /// Byte range of its head in the text.
    pub span: Range<usize>,
    /// Who, with the place of the selector in the text.
    pub people: (Selector, Range<usize>),
    /// Where, with the place of the selector in the text.
    pub machines: (Selector, Range<usize>),
    /// What; all capabilities where the rule names none (not for `allow`).
    pub capabilities: Capabilities,
    /// Accounts on the machine; `*` for any. Empty means any, but for `allow`, which must name them.
    pub accounts: Vec<Arc<str>>,
    /// Index into [`Document::hours`]; none means always.
    pub hours: Option<usize>,
    /// Addresses to come from; empty means any.
    pub from: Vec<Network>,
    /// First day.
    pub first_day: Option<Date>,
    /// Last day.
    pub last_day: Option<Date>,
    /// What it demands.
    pub demands: Demands,
}

/// What a rule demands before and during a session.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Demands {
    /// Factors that must have been proved.
    pub factors: Factors,
    /// The session must be recorded; without a recorder there is no session.
    pub recording: bool,
    /// How long a session may last.
    pub session_limit: Option<SignedDuration>,
    /// How long a session may be idle.
    pub idle_limit: Option<SignedDuration>,
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
    /// Line on which they stand.
    pub line: usize,
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

/// An address range in CIDR notation.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
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

    /// Whether the address is in the range. An IPv4 address mapped into IPv6 counts as IPv4.
    pub fn contains(&self, address: IpAddr) -> bool {
        match (self.address, address.to_canonical()) {
            (IpAddr::V4(a), IpAddr::V4(b)) => self.bits == 0 || (a.to_bits() ^ b.to_bits()) >> (32 - self.bits) == 0,
            (IpAddr::V6(a), IpAddr::V6(b)) => self.bits == 0 || (a.to_bits() ^ b.to_bits()) >> (128 - self.bits) == 0,
            (IpAddr::V4(_), IpAddr::V6(_)) | (IpAddr::V6(_), IpAddr::V4(_)) => false,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::Network;

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
