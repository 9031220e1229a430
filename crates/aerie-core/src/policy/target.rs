//! Where a forwarded port leads, and what rules say about it.

use super::document::Network;
use std::net::IpAddr;
use std::sync::Arc;

/// Longest name of a host (RFC 1035 section 2.3.4).
const LONGEST_NAME: usize = 253;

/// Where a forwarded port leads, as the client asked for it (RFC 4254 section 7.2), understood and written anew.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct ForwardTarget {
    host: Host,
    port: u16,
    /// The host as the machine is asked to connect to it.
    sent: Arc<str>,
    /// It is a service that the directory names.
    registered: bool,
}

/// Which host, as far as can be told without asking the machine.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
enum Host {
    /// The machine itself, on its loopback interface.
    Itself,
    /// An address in numbers, never of a loopback interface.
    Address(IpAddr),
    /// A name that the machine resolves; lower case, without a dot at its end.
    Name(Arc<str>),
}

/// Why a host and port are no target.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum ForwardTargetError {
    /// The port is not one of TCP.
    #[error("a port is a number from 1 to 65535")]
    Port,
    /// The host is neither an address nor a name. Numbers that resolvers read as addresses in their own way are among it.
    #[error("the host is neither an address nor a name: write db.example, 10.20.3.4 or localhost")]
    Host,
}

/// Names by which resolvers know the loopback interface (RFC 6761 section 6.3; the two others stand in the hosts file of Debian).
fn is_loopback_name(name: &str) -> bool {
    name == "localhost" || name.ends_with(".localhost") || name == "ip6-localhost" || name == "ip6-loopback"
}

/// A name of letters, digits, `-`, `_` and dots. A name whose last label is a number is refused: `127.1`, `0x7f000001` and `2130706433` are
/// addresses to inet_aton(3).
fn is_name(name: &str) -> bool {
    let label = |l: &str| (1..=63).contains(&l.len()) && l.chars().all(|c| c.is_ascii_alphanumeric() || c == '-' || c == '_');
    let last = name.rsplit('.').next().unwrap_or_default();
    let number = last.chars().all(|c| c.is_ascii_digit()) || last.starts_with("0x");
    name.len() <= LONGEST_NAME && name.split('.').all(label) && !number && !name.starts_with('-')
}

impl ForwardTarget {
    /// Understands what a client asks for.
    ///
    /// # Errors
    /// When the port is not one, or the host cannot be told to be an address or a name.
    pub fn new(host: &str, port: u32) -> Result<Self, ForwardTargetError> {
        let port = u16::try_from(port).ok().filter(|p| *p > 0).ok_or(ForwardTargetError::Port)?;
        let bare = host.strip_prefix('[').and_then(|h| h.strip_suffix(']')).unwrap_or(host);
        if let Ok(address) = bare.parse::<IpAddr>() {
            let address = address.to_canonical();
            // Linux takes a connection to the unspecified address to its loopback interface.
            let itself = address.is_loopback() || address.is_unspecified();
            let host = if itself { Host::Itself } else { Host::Address(address) };
            return Ok(Self { host, port, sent: address.to_string().into(), registered: false });
        }
        let name = host.strip_suffix('.').unwrap_or(host).to_ascii_lowercase();
        if is_loopback_name(&name) {
            return Ok(Self::itself(port));
        }
        if !is_name(&name) {
            return Err(ForwardTargetError::Host);
        }
        let name: Arc<str> = name.into();
        Ok(Self { host: Host::Name(name.clone()), port, sent: name, registered: false })
    }

    /// The machine itself, at this port.
    pub fn itself(port: u16) -> Self {
        Self { host: Host::Itself, port, sent: "localhost".into(), registered: false }
    }

    /// A service of the machine itself that is registered with it in the directory: its port is named there.
    pub fn service(port: u16) -> Self {
        Self { registered: true, ..Self::itself(port) }
    }

    /// Whether the directory names its port.
    pub(super) fn is_registered(&self) -> bool {
        self.registered
    }

    /// The host as the machine is asked to connect to it.
    pub fn host(&self) -> &str {
        &self.sent
    }

    /// The port.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// Whether both lead to the same service, however they were written.
    pub fn is_same(&self, other: &Self) -> bool {
        (&self.host, self.port, self.registered) == (&other.host, other.port, other.registered)
    }

    /// Whether both lead to the same host and port, whether or not the directory names it as a service.
    pub fn is_at_same_place(&self, other: &Self) -> bool {
        (&self.host, self.port) == (&other.host, other.port)
    }

    /// Whether it leads to the machine itself.
    pub fn is_itself(&self) -> bool {
        self.host == Host::Itself
    }

    /// Whether it was asked for by a name that the machine resolves.
    pub fn is_name(&self) -> bool {
        matches!(self.host, Host::Name(_))
    }

    /// Whether it was asked for by this address, which is none of a loopback interface.
    pub fn is_at(&self, address: IpAddr) -> bool {
        self.host == Host::Address(address.to_canonical())
    }

    /// Whether it leads to what is reached at this address, `host:port`. A loopback address is shared by whatever listens there: of
    /// such the port counts, too.
    pub fn leads_to(&self, address: &str) -> bool {
        let Some((host, port)) = address.rsplit_once(':').and_then(|(h, p)| Some((h, p.parse::<u32>().ok()?))) else { return false };
        let Ok(other) = Self::new(host, port) else { return false };
        self.host == other.host && (self.host != Host::Itself || self.port == other.port)
    }

    /// Whether it was asked for by this name.
    pub fn is_named(&self, name: &str) -> bool {
        matches!(&self.host, Host::Name(n) if n.eq_ignore_ascii_case(name))
    }
}

impl std::fmt::Display for ForwardTarget {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        if self.sent.contains(':') { write!(f, "[{}]:{}", self.sent, self.port) } else { write!(f, "{}:{}", self.sent, self.port) }
    }
}

impl std::str::FromStr for ForwardTarget {
    type Err = ForwardTargetError;

    fn from_str(text: &str) -> Result<Self, ForwardTargetError> {
        let (host, port) = text.trim().rsplit_once(':').ok_or(ForwardTargetError::Port)?;
        Self::new(host, port.parse().map_err(|_| ForwardTargetError::Port)?)
    }
}

/// As `HOST:PORT`.
impl serde::Serialize for ForwardTarget {
    fn serialize<S: serde::Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.collect_str(self)
    }
}

impl<'de> serde::Deserialize<'de> for ForwardTarget {
    fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let text = String::deserialize(from)?;
        text.parse().map_err(serde::de::Error::custom)
    }
}

/// Hosts that a rule speaks of.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
enum Hosts {
    /// `localhost`: the machine itself.
    Itself,
    /// `*`: any.
    Any,
    /// `10.20.0.0/16`, in numbers.
    Network(Network),
    /// `db.example`.
    Name(Arc<str>),
    /// `*.example`: any name that ends so, kept with the dot.
    Under(Arc<str>),
}

/// One entry of a rule's targets: hosts and ports.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
struct Entry {
    hosts: Hosts,
    /// First and last port.
    ports: (u16, u16),
    text: Arc<str>,
}

/// The targets that a rule speaks of.
#[derive(Debug, Clone, Default, PartialEq, Eq, Hash)]
pub struct Targets(Vec<Entry>);

/// How two hosts compare where one of them is a name that only the machine can resolve.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Fit {
    Yes,
    No,
    Unknown,
}

impl Hosts {
    fn read(text: &str) -> Option<Self> {
        let bare = text.strip_prefix('[').map_or(Some(text), |t| t.split_once(']').map(|(inner, _)| inner))?;
        let bits = text.rsplit_once('/').map(|(_, bits)| bits);
        let range = match (text.starts_with('['), bits) {
            (true, Some(bits)) => format!("{}/{bits}", bare.split('/').next().unwrap_or(bare)),
            (true, None) => bare.to_string(),
            (false, _) => text.to_string(),
        };
        if let Ok(network) = Network::parse(&range) {
            let (first, last) = network.ends();
            let itself = |a: IpAddr| a.to_canonical().is_loopback();
            return Some(if itself(first) && itself(last) { Self::Itself } else { Self::Network(network) });
        }
        let name = text.to_ascii_lowercase();
        match name.strip_prefix("*.") {
            _ if name == "*" => Some(Self::Any),
            Some(rest) if is_name(rest) => Some(Self::Under(format!(".{rest}").into())),
            Some(_) => None,
            None if is_loopback_name(&name) => Some(Self::Itself),
            None => is_name(&name).then(|| Self::Name(name.into())),
        }
    }

    fn fit(&self, host: &Host) -> Fit {
        let known = |yes: bool| if yes { Fit::Yes } else { Fit::No };
        match (self, host) {
            (Self::Any, _) | (Self::Itself, Host::Itself) => Fit::Yes,
            (Self::Network(network), Host::Address(address)) => known(network.contains(*address)),
            (Self::Name(name), Host::Name(asked)) => known(name == asked),
            (Self::Under(suffix), Host::Name(asked)) => known(asked.ends_with(&**suffix)),
            // What a name means is for the machine to say: it may be that address, or the machine itself. So may an address.
            (Self::Network(_) | Self::Itself, Host::Name(_)) | (Self::Name(_) | Self::Under(_), Host::Address(_)) => Fit::Unknown,
            (Self::Itself, Host::Address(_)) => Fit::Unknown,
            // `localhost` is the machine that the rule selects as such.
            (Self::Network(_) | Self::Name(_) | Self::Under(_), Host::Itself) => Fit::No,
        }
    }

    fn within(&self, outer: &Self) -> bool {
        match (self, outer) {
            (_, Self::Any) => true,
            (Self::Network(a), Self::Network(b)) => {
                let (first, last) = a.ends();
                b.contains(first) && b.contains(last)
            }
            (Self::Name(name), Self::Under(suffix)) => name.ends_with(&**suffix),
            (Self::Under(inner), Self::Under(suffix)) => inner.ends_with(&**suffix),
            (a, b) => a == b,
        }
    }
}

impl Entry {
    fn read(text: &str) -> Option<Self> {
        let (hosts, ports) = text.rsplit_once(':')?;
        let port = |t: &str| t.parse::<u16>().ok().filter(|p| *p > 0 && t.chars().all(|c| c.is_ascii_digit()));
        let ports = match ports.split_once('-') {
            _ if ports == "*" => (1, u16::MAX),
            Some((first, last)) => (port(first)?, port(last)?),
            None => (port(ports)?, port(ports)?),
        };
        // IPv6 takes brackets here, as in a URL (RFC 3986 section 3.2.2).
        let fine = ports.0 <= ports.1 && (hosts.starts_with('[') || !hosts.contains(':'));
        fine.then(|| Hosts::read(hosts)).flatten().map(|hosts| Self { hosts, ports, text: text.into() })
    }

    fn has_port(&self, port: u16) -> bool {
        (self.ports.0..=self.ports.1).contains(&port)
    }

    fn within(&self, outer: &Self) -> bool {
        self.hosts.within(&outer.hosts) && outer.ports.0 <= self.ports.0 && self.ports.1 <= outer.ports.1
    }

    fn is_itself_at_any_port(&self) -> bool {
        matches!(self.hosts, Hosts::Itself | Hosts::Any) && self.ports == (1, u16::MAX)
    }
}

impl Targets {
    /// Reads entries such as `localhost:5432`, `10.20.0.0/16:443`, `*.ridge.example:8000-8100`, `[2001:db8::]/32:22` or `*:443`.
    ///
    /// # Errors
    /// The first that cannot be read.
    pub fn read<'t>(entries: impl IntoIterator<Item = &'t str>) -> Result<Self, String> {
        let read = |text: &'t str| Entry::read(text).ok_or_else(|| text.to_string());
        Ok(Self(entries.into_iter().map(read).collect::<Result<_, _>>()?))
    }

    /// Whether the rule names none.
    pub fn is_unsaid(&self) -> bool {
        self.0.is_empty()
    }

    /// The entries as they are written.
    pub fn texts(&self) -> impl Iterator<Item = &Arc<str>> {
        self.0.iter().map(|e| &e.text)
    }

    /// Whether an `allow` with these leads there. Where none is named it leads to the machine itself.
    pub(super) fn give(&self, target: &ForwardTarget) -> bool {
        if self.0.is_empty() {
            return target.is_itself();
        }
        self.0.iter().any(|e| e.has_port(target.port) && e.hosts.fit(&target.host) == Fit::Yes)
    }

    /// Whether an `allow` with these leads there by an entry that names just this port.
    pub(super) fn name_port_of(&self, target: &ForwardTarget) -> bool {
        let named = |e: &Entry| e.ports == (target.port, target.port) && e.hosts.fit(&target.host) == Fit::Yes;
        self.0.iter().any(named)
    }

    /// Whether a `forbid`, `require` or `never` with these speaks of it: all where none is named. What is not known counts: a name may
    /// lead to an address that is forbidden.
    pub(super) fn concern(&self, target: &ForwardTarget) -> bool {
        self.0.is_empty() || self.0.iter().any(|e| e.has_port(target.port) && e.hosts.fit(&target.host) != Fit::No)
    }

    /// Whether they are all targets that there are.
    pub(super) fn are_all(&self) -> bool {
        self.0.is_empty() || self.0.iter().any(|e| e.hosts == Hosts::Any && e.is_itself_at_any_port())
    }

    /// Whether whatever an `allow` with these gives is given by one with the others, too.
    pub(super) fn given_by(&self, other: &Self) -> bool {
        // Where sessions are recorded an entry that names one port gives more than one that names many.
        match (self.0.is_empty(), other.0.is_empty()) {
            (true, true) => true,
            (true, false) => other.0.iter().any(Entry::is_itself_at_any_port),
            (false, true) => self.0.iter().all(|e| e.hosts == Hosts::Itself && e.ports.0 != e.ports.1),
            (false, false) => self.0.iter().all(|e| other.0.iter().any(|o| e.within(o) && (e.ports.0 != e.ports.1 || o.ports == e.ports))),
        }
    }

    /// Whether whatever a `forbid` or `require` with these concerns is concerned by one with the others, too.
    pub(super) fn within(&self, other: &Self) -> bool {
        let inside = |e: &Entry| other.0.iter().any(|o| e.within(o));
        other.are_all() || (!self.0.is_empty() && self.0.iter().all(inside))
    }
}

impl std::fmt::Display for Targets {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let texts: Vec<&str> = self.texts().map(|t| &**t).collect();
        f.write_str(&if texts.is_empty() { "the machine itself".into() } else { crate::wording::list(&texts) })
    }
}

/// Targets that no rule tells apart, with one of them.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(super) struct Destination {
    /// In words: `localhost:5432`, `other names, port 443`.
    pub(super) text: Arc<str>,
    /// One of them.
    example: (Arc<str>, u16),
}

impl Destination {
    /// One of the targets.
    pub(super) fn example(&self) -> Option<ForwardTarget> {
        ForwardTarget::new(&self.example.0, self.example.1.into()).ok()
    }
}

/// A host for each way in which entries tell hosts apart: an example, and the words for it.
fn examples_of_hosts(entries: &[&Entry]) -> Vec<(String, String)> {
    let mut found: Vec<(String, String)> = vec![("localhost".into(), "localhost".into())];
    let names = |name: &str| entries.iter().any(|e| matches!(&e.hosts, Hosts::Name(n) if &**n == name));
    // A label that no entry names, so that only what ends alike fits.
    let fresh = |suffix: &str| {
        let mut label = "any".to_string();
        while names(&format!("{label}{suffix}")) {
            label.push('x');
        }
        format!("{label}{suffix}")
    };
    let networks: Vec<Network> = entries.iter().filter_map(|e| if let Hosts::Network(n) = &e.hosts { Some(*n) } else { None }).collect();
    for entry in entries {
        match &entry.hosts {
            Hosts::Itself | Hosts::Any => {}
            Hosts::Network(network) => {
                found.extend(super::space::gap(network, &networks).map(|a| (a.to_string(), network.to_string())));
            }
            Hosts::Name(name) => found.push((name.to_string(), name.to_string())),
            Hosts::Under(suffix) => found.push((fresh(suffix), format!("*{suffix}"))),
        }
    }
    for whole in ["0.0.0.0/0", "::/0"] {
        let outside = Network::parse(whole).ok().and_then(|w| far(&w, &networks));
        found.extend(outside.map(|a| (a.to_string(), "other addresses".to_string())));
    }
    found.push((fresh(".invalid"), "other names".into()));
    found.sort();
    found.dedup_by(|a, b| a.0 == b.0);
    found
}

/// An address in none of the networks that is not of the machine itself.
fn far(whole: &Network, networks: &[Network]) -> Option<IpAddr> {
    let own = ["0.0.0.0/8", "127.0.0.0/8", "::/127", "::ffff:0:0/96"].into_iter().filter_map(|n| Network::parse(n).ok());
    let all: Vec<Network> = networks.iter().copied().chain(own).collect();
    super::space::gap(whole, &all)
}

/// A port for each way in which entries tell ports apart: an example, and the words for it.
fn examples_of_ports(entries: &[&Entry]) -> Vec<(u16, String)> {
    let mut edges: Vec<u32> = vec![1, u32::from(u16::MAX) + 1];
    edges.extend(entries.iter().flat_map(|e| [u32::from(e.ports.0), u32::from(e.ports.1) + 1]));
    edges.sort_unstable();
    edges.dedup();
    let words = |a: u32, b: u32| match (a, b) {
        (1, 65_536) => "*".to_string(),
        (a, b) if a + 1 == b => a.to_string(),
        (a, b) => format!("{a}-{}", b - 1),
    };
    edges.windows(2).filter_map(|w| Some((u16::try_from(*w.first()?).ok()?, words(*w.first()?, *w.get(1)?)))).collect()
}

/// The targets that these rules tell apart. None where no rule names any: then all that is given is the machine itself.
pub(super) fn destinations_of(rules: &[&Targets]) -> Vec<Destination> {
    let entries: Vec<&Entry> = rules.iter().flat_map(|t| &t.0).collect();
    if entries.is_empty() {
        return vec![];
    }
    let ports = examples_of_ports(&entries);
    type Sides = Vec<(bool, bool, bool)>;
    let mut found: Vec<(Sides, Destination, Vec<String>)> = vec![];
    for (host, host_words) in examples_of_hosts(&entries) {
        for (port, port_words) in &ports {
            let Ok(target) = ForwardTarget::new(&host, (*port).into()) else { continue };
            let sides: Sides = rules.iter().map(|t| (t.give(&target), t.name_port_of(&target), t.concern(&target))).collect();
            let words = format!("{host_words}:{port_words}");
            match found.iter_mut().find(|(s, _, _)| *s == sides) {
                Some((_, _, texts)) => texts.push(words),
                None => found.push((sides, Destination { text: "".into(), example: (host.as_str().into(), *port) }, vec![words])),
            }
        }
    }
    found.into_iter().map(|(_, d, texts)| Destination { text: shortened(&texts).into(), ..d }).collect()
}

/// So many places are written out.
const MOST_SHOWN: usize = 6;

fn shortened(texts: &[String]) -> String {
    let first: Vec<&str> = texts.iter().take(MOST_SHOWN).map(String::as_str).collect();
    match texts.len().saturating_sub(MOST_SHOWN) {
        0 => crate::wording::list(&first),
        more => format!("{} and {more} others", first.join(", ")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn target(text: &str) -> ForwardTarget {
        text.parse().unwrap_or_else(|e| panic!("{text}: {e}"))
    }

    fn targets(entries: &[&str]) -> Targets {
        Targets::read(entries.iter().copied()).unwrap()
    }

    #[test]
    fn the_machine_itself_has_many_names() {
        for text in [
            "localhost:22",
            "LocalHost.:22",
            "a.localhost:22",
            "ip6-loopback:22",
            "127.0.0.1:22",
            "127.9.9.9:22",
            "[::1]:22",
            "0.0.0.0:22",
            "[::]:22",
            "[::ffff:127.0.0.1]:22",
            "::1:22",
        ] {
            assert!(target(text).is_itself(), "{text}");
        }
        for text in ["10.0.0.1:22", "db.example:22", "localhost.example:22", "[2001:db8::1]:22"] {
            assert!(!target(text).is_itself(), "{text}");
        }
    }

    #[test]
    fn what_resolvers_read_in_their_own_way_is_no_host() {
        for host in [
            "127.1",
            "0x7f000001",
            "2130706433",
            "017700000001",
            "1.2.3.4.5",
            "",
            ".",
            "a..b",
            "-x",
            "a b",
            "fe80::1%eth0",
            "*",
            "a\n",
            "a/b",
            "ä",
        ] {
            assert_eq!(ForwardTarget::new(host, 22), Err(ForwardTargetError::Host), "{host}");
        }
        for port in [0, 65_536, 65_558, u32::MAX] {
            assert_eq!(ForwardTarget::new("localhost", port), Err(ForwardTargetError::Port), "{port}");
        }
        let longest = format!("{0}.{0}.{0}.{1}", "a".repeat(63), "b".repeat(61));
        assert_eq!((longest.len(), ForwardTarget::new(&longest, 1).is_ok()), (253, true));
        assert!(ForwardTarget::new(&format!("{longest}b"), 1).is_err());
    }

    #[test]
    fn an_allow_gives_what_it_names_and_the_machine_itself_where_it_names_nothing() {
        let rule = targets(&["localhost:5432", "10.20.0.0/16:443", "*.ridge.example:8000-8100", "db.example:*", "[2001:db8::]/32:22"]);
        let table = [
            ("localhost:5432", true),
            ("127.0.0.1:5432", true),
            ("localhost:5433", false),
            ("10.20.9.9:443", true),
            ("[::ffff:10.20.9.9]:443", true),
            ("10.21.0.1:443", false),
            ("cam.ridge.example:8050", true),
            ("ridge.example:8050", false),
            ("cam.ridge.example:8101", false),
            ("DB.example.:1", true),
            ("x.db.example:1", false),
            ("[2001:db8::9]:22", true),
            ("[2001:db9::9]:22", false),
        ];
        for (text, given) in table {
            assert_eq!(rule.give(&target(text)), given, "{text}");
        }
        assert!(Targets::default().give(&target("127.0.0.1:1")));
        assert!(!Targets::default().give(&target("db.example:1")));
        assert!(rule.name_port_of(&target("localhost:5432")) && !rule.name_port_of(&target("db.example:5432")));
    }

    #[test]
    fn what_is_not_known_counts_for_what_forbids_and_not_for_what_gives() {
        let range = targets(&["10.20.0.0/16:*"]);
        let name = targets(&["db.example:5432"]);
        assert!(range.concern(&target("anything.example:1")) && !range.give(&target("anything.example:1")));
        assert!(name.concern(&target("10.20.1.1:5432")) && !name.give(&target("10.20.1.1:5432")));
        assert!(!name.concern(&target("10.20.1.1:5433")) && !name.concern(&target("other.example:5432")));
        assert!(targets(&["localhost:22"]).concern(&target("alias.example:22")));
        assert!(targets(&["localhost:22"]).concern(&target("10.20.1.1:22")));
        assert!(!range.concern(&target("localhost:22")));
    }

    #[test]
    fn entries_that_cannot_be_read_are_named() {
        for bad in [
            "",
            "db.example",
            "db.example:",
            "db.example:0",
            "db.example:70000",
            "db.example:9-1",
            "db.example:+5",
            "*.*:1",
            "a*.example:1",
            "10.0.0.0/33:1",
            "::1:22",
            "127.1:22",
            ":22",
            "x:1-2-3",
        ] {
            assert_eq!(Targets::read([bad]), Err(bad.to_string()), "{bad}");
        }
    }

    #[test]
    fn every_way_to_tell_targets_apart_has_an_example() {
        let (a, b) = (targets(&["localhost:5432", "10.20.0.0/16:443"]), targets(&["*.example:443", "*:8080"]));
        let all = destinations_of(&[&a, &b]);
        let examples: Vec<ForwardTarget> = all.iter().map(|d| d.example().unwrap()).collect();
        for text in
            ["localhost:5432", "localhost:1", "10.20.3.4:443", "10.21.3.4:443", "x.example:443", "x.example:8080", "x.test:443", "[::9]:9"]
        {
            let t = target(text);
            let sides = |t: &ForwardTarget| [&a, &b].map(|r| (r.give(t), r.name_port_of(t), r.concern(t)));
            assert!(examples.iter().any(|e| sides(e) == sides(&t)), "{text}: {all:#?}");
        }
        assert!(destinations_of(&[&Targets::default()]).is_empty());
    }

    #[test]
    fn a_target_leads_to_the_machine_that_is_reached_there() {
        assert!(target("10.20.3.4:8080").leads_to("10.20.3.4:22"));
        assert!(target("mast-2.example:22").leads_to("Mast-2.example:22"));
        assert!(!target("mast-2.example:22").leads_to("mast-3.example:22"));
        assert!(target("localhost:2201").leads_to("127.0.0.1:2201") && !target("localhost:2202").leads_to("127.0.0.1:2201"));
        assert!(target("[2001:db8::1]:22").leads_to("[2001:db8::1]:22"));
    }
}
