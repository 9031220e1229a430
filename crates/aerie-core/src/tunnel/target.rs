use serde::{Deserialize, Serialize};
use std::net::{IpAddr, SocketAddr};
use std::str::FromStr;

/// What an agent is asked to open for its screen to be locked: it is, when the stream opens.
pub const LOCK_TARGET: &str = "lock-of-the-machine";

/// Entries of an allow-list.
const MOST_ENTRIES: usize = 200;

/// Where a stream goes: an address, or a name that whoever connects resolves.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Target {
    /// Address in numbers, or a name.
    pub host: String,
    /// TCP port.
    pub port: u16,
}

/// Why a text is no target, or no entry of an allow-list.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum TargetError {
    /// It has no host and port.
    #[error("`{0}` is no target: write HOST:PORT, as 127.0.0.1:22, [::1]:22 or scope.lan:22")]
    Target(String),
    /// It is no range and ports.
    #[error("`{0}` is no entry: write HOST:PORT or RANGE:PORT, as 127.0.0.1:22 or 10.20.0.0/16:22; PORT may be 1-1023 or *")]
    Entry(String),
    /// Too many entries.
    #[error("an allow-list has at most {MOST_ENTRIES} entries")]
    Many,
}

fn split(text: &str) -> Option<(&str, &str)> {
    let (host, port) = text.trim().rsplit_once(':')?;
    let host = match host.strip_prefix('[') {
        Some(inner) => inner.strip_suffix(']')?,
        None if host.contains(':') && !host.contains('/') => return None,
        None => host,
    };
    (!host.is_empty()).then_some((host, port))
}

fn is_host(host: &str) -> bool {
    host.parse::<IpAddr>().is_ok()
        || (host.len() <= 253 && host.starts_with(|c: char| c.is_ascii_alphanumeric()))
            && host.chars().all(|c| c.is_ascii_alphanumeric() || "-._".contains(c))
}

impl FromStr for Target {
    type Err = TargetError;

    fn from_str(text: &str) -> Result<Self, TargetError> {
        let wrong = || TargetError::Target(crate::diagnostic::printable(text).chars().take(80).collect());
        let (host, port) = split(text).filter(|(h, _)| is_host(h)).ok_or_else(wrong)?;
        let port = port.parse().ok().filter(|p| *p > 0).ok_or_else(wrong)?;
        Ok(Self { host: host.to_ascii_lowercase(), port })
    }
}

impl std::fmt::Display for Target {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        if self.host.contains(':') { write!(f, "[{}]:{}", self.host, self.port) } else { write!(f, "{}:{}", self.host, self.port) }
    }
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Hosts {
    Range(IpAddr, u8),
    Name(String),
}

/// What an agent connects to, and nothing else.
///
/// Each entry is a host or range of addresses with a port, ports, or `*`: `127.0.0.1:22`, `10.20.0.0/16:22`,
/// `[fd00::]/8:22`, `scope.lan:5900-5910`. Names are held against names alone: what one resolves to is for
/// whoever connects to look at.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct AllowList(Vec<(Hosts, u16, u16)>);

impl AllowList {
    /// Reads entries.
    ///
    /// # Errors
    /// The first that cannot be read.
    pub fn parse<'a>(entries: impl IntoIterator<Item = &'a str>) -> Result<Self, TargetError> {
        let all: Vec<_> =
            entries.into_iter().map(|e| entry(e).ok_or_else(|| TargetError::Entry(e.to_string()))).collect::<Result<_, _>>()?;
        if all.len() > MOST_ENTRIES { Err(TargetError::Many) } else { Ok(Self(all)) }
    }

    /// Whether a name may be resolved and connected to, or an address connected to.
    pub fn allows(&self, target: &Target) -> bool {
        match target.host.parse::<IpAddr>() {
            Ok(address) => self.allows_address(SocketAddr::new(address, target.port)),
            Err(_) => self
                .0
                .iter()
                .any(|(h, low, high)| matches!(h, Hosts::Name(n) if *n == target.host) && (*low..=*high).contains(&target.port)),
        }
    }

    /// Whether an address may be connected to.
    pub fn allows_address(&self, address: SocketAddr) -> bool {
        let ip = address.ip().to_canonical();
        self.0.iter().any(|(h, low, high)| {
            matches!(h, Hosts::Range(net, bits) if within(ip, *net, *bits)) && (*low..=*high).contains(&address.port())
        })
    }
}

fn entry(text: &str) -> Option<(Hosts, u16, u16)> {
    let (hosts, ports) = text.trim().rsplit_once(':')?;
    let (low, high) = match ports {
        "*" => (1, u16::MAX),
        _ => {
            let (low, high) = ports.split_once('-').unwrap_or((ports, ports));
            (low.parse().ok()?, high.parse().ok()?)
        }
    };
    if low == 0 || low > high {
        return None;
    }
    let (host, bits) = match hosts.split_once('/') {
        Some((host, bits)) => (host, Some(bits.parse::<u8>().ok()?)),
        None => (hosts, None),
    };
    let plain = match host.strip_prefix('[') {
        Some(inner) => inner.strip_suffix(']')?,
        None if host.contains(':') => return None,
        None => host,
    };
    match plain.parse::<IpAddr>() {
        Ok(ip) => {
            let ip = ip.to_canonical();
            let most = if ip.is_ipv4() { 32 } else { 128 };
            let bits = bits.unwrap_or(most);
            (bits <= most).then_some((Hosts::Range(ip, bits), low, high))
        }
        Err(_) if bits.is_none() && is_host(plain) => Some((Hosts::Name(plain.to_ascii_lowercase()), low, high)),
        Err(_) => None,
    }
}

fn within(ip: IpAddr, net: IpAddr, bits: u8) -> bool {
    let bits = u32::from(bits);
    match (ip, net) {
        (IpAddr::V4(a), IpAddr::V4(b)) => (a.to_bits() ^ b.to_bits()).checked_shr(32 - bits).unwrap_or(0) == 0,
        (IpAddr::V6(a), IpAddr::V6(b)) => (a.to_bits() ^ b.to_bits()).checked_shr(128 - bits).unwrap_or(0) == 0,
        _ => false,
    }
}

impl Serialize for Target {
    fn serialize<S: serde::Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        s.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Target {
    fn deserialize<D: serde::Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        let text = std::borrow::Cow::<str>::deserialize(d)?;
        text.parse().map_err(serde::de::Error::custom)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn targets_are_read_and_written() {
        for text in ["127.0.0.1:22", "[::1]:22", "scope.lan:5900"] {
            assert_eq!(text.parse::<Target>().unwrap().to_string(), text);
        }
        for bad in ["", "22", ":22", "a:", "a:0", "a:70000", "::1:22", "a b:22", "-x:22", "a/8:22", "[::1:22", "a\n:22"] {
            assert!(bad.parse::<Target>().is_err(), "{bad}");
        }
    }

    #[test]
    fn an_allow_list_allows_what_it_names_and_nothing_else() {
        let list = AllowList::parse(["127.0.0.1:22", "10.20.0.0/16:22", "[fd00::]/8:5900-5910", "scope.lan:22", "192.0.2.7:*"]).unwrap();
        let table = [
            ("127.0.0.1:22", true),
            ("127.0.0.1:23", false),
            ("127.0.0.2:22", false),
            ("10.20.255.255:22", true),
            ("10.21.0.0:22", false),
            ("[::ffff:10.20.1.1]:22", true),
            ("[fd12::1]:5905", true),
            ("[fd12::1]:5911", false),
            ("[fe80::1]:5905", false),
            ("scope.lan:22", true),
            ("SCOPE.lan:22", true),
            ("other.lan:22", false),
            ("192.0.2.7:8080", true),
        ];
        for (text, allowed) in table {
            assert_eq!(list.allows(&text.parse().unwrap()), allowed, "{text}");
        }
        assert!(!AllowList::default().allows(&"127.0.0.1:22".parse().unwrap()));
        assert!(AllowList::parse(["0.0.0.0/0:22"]).unwrap().allows(&"8.8.8.8:22".parse().unwrap()));
        for bad in ["", "22", "127.0.0.1", "10.0.0.0/33:22", "a/8:22", "::1:22", "x:0", "x:9-1", "x:a"] {
            assert!(AllowList::parse([bad]).is_err(), "{bad}");
        }
        assert_eq!(AllowList::parse(vec!["a:1"; 201]), Err(TargetError::Many));
        assert!(AllowList::parse(vec!["a:1"; 200]).is_ok());
    }
}
