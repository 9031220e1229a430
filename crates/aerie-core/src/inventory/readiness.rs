use super::facts::Listening;
use jiff::SignedDuration;
use serde::{Deserialize, Serialize};

/// Beyond this, codes and certificates begin to fail.
const SKEW_WARN: SignedDuration = SignedDuration::from_secs(10);
/// A certificate of two minutes, made a minute into the past, is not good beyond this.
const SKEW_FAIL: SignedDuration = SignedDuration::from_secs(55);

macro_rules! checks {
    ($($(#[$doc:meta])* $name:ident $word:literal $title:literal;)*) => {
        /// What is looked at, in the order in which it must hold.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
        pub enum CheckName { $($(#[$doc])* #[serde(rename = $word)] $name,)* }

        impl CheckName {
            /// Every check.
            pub const ALL: &[CheckName] = &[$(Self::$name,)*];

            /// Its stable word.
            pub fn word(self) -> &'static str {
                match self { $(Self::$name => $word,)* }
            }

            /// What must hold.
            pub fn title(self) -> &'static str {
                match self { $(Self::$name => $title,)* }
            }
        }
    };
}

checks! {
    /// An address, a host key and an account are registered.
    Registered "registered" "Address, host key and account are registered";
    /// The way there: direct, its agent, or a relay.
    Way "way" "There is a way to it";
    /// Version of the agent.
    AgentVersion "agent-version" "Its agent speaks this version";
    /// The clock.
    Clock "clock" "Its clock is right";
    /// The name resolves.
    Resolves "resolves" "Its name resolves";
    /// The port.
    Port "port" "Its port is open";
    /// The first line of its SSH server.
    Banner "banner" "An SSH server answers";
    /// The host key.
    HostKey "host-key" "It shows the pinned host key";
    /// The account is one that may be used.
    Account "account" "The account is there and permitted";
    /// Certificate or credential.
    SignIn "sign-in" "It lets Aerie in";
    /// SFTP.
    Files "files" "Files can be copied";
    /// The desktop server.
    Desktop "desktop" "Its desktop server answers";
    /// Remote access that the whole network reaches.
    Loopback "loopback" "Old remote access listens on loopback alone";
}

/// What came of a check.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum CheckOutcome {
    /// Not looked at, since something before it does not hold or it does not apply.
    Skip,
    /// It holds.
    Pass,
    /// It holds, and something should be mended.
    Warn,
    /// It does not hold.
    Fail,
}

impl CheckOutcome {
    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Skip => "skip",
            Self::Pass => "pass",
            Self::Warn => "warn",
            Self::Fail => "fail",
        }
    }
}

/// One check of a machine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CheckResult {
    /// What was looked at.
    pub check: CheckName,
    /// What came of it.
    pub outcome: CheckOutcome,
    /// What was seen.
    pub seen: String,
    /// How to mend it; empty where nothing is to be mended.
    pub mend: String,
}

impl CheckResult {
    /// It holds.
    pub fn pass(check: CheckName, seen: impl Into<String>) -> Self {
        Self { check, outcome: CheckOutcome::Pass, seen: seen.into(), mend: String::new() }
    }

    /// It was not looked at.
    pub fn skip(check: CheckName, why: impl Into<String>) -> Self {
        Self { check, outcome: CheckOutcome::Skip, seen: why.into(), mend: String::new() }
    }

    /// It holds, but.
    pub fn warn(check: CheckName, seen: impl Into<String>, mend: impl Into<String>) -> Self {
        Self { check, outcome: CheckOutcome::Warn, seen: seen.into(), mend: mend.into() }
    }

    /// It does not hold.
    pub fn fail(check: CheckName, seen: impl Into<String>, mend: impl Into<String>) -> Self {
        Self { check, outcome: CheckOutcome::Fail, seen: seen.into(), mend: mend.into() }
    }
}

/// How a machine stands after its checks, in a sentence.
pub fn sentence_of(machine: &str, results: &[CheckResult]) -> String {
    let of = |o| results.iter().filter(|r| r.outcome == o).collect::<Vec<_>>();
    let (failed, warned) = (of(CheckOutcome::Fail), of(CheckOutcome::Warn));
    match (failed.first(), warned.len()) {
        (Some(first), _) => format!("{machine} is not ready: {}", trimmed(&first.seen)),
        (None, 0) => format!("{machine} is ready."),
        (None, n) => format!("{machine} is ready, with {}.", crate::wording::count(n as u64, "warning")),
    }
}

fn trimmed(seen: &str) -> String {
    let mut letters = seen.trim_end_matches('.').chars();
    let first = letters.next().map(|c| c.to_lowercase().to_string()).unwrap_or_default();
    format!("{first}{}.", letters.as_str())
}

/// The clock of a machine; `ahead` is how far it is before ours.
pub fn clock(ahead: SignedDuration) -> CheckResult {
    let off = ahead.abs();
    let side = if ahead.is_negative() { "behind" } else { "ahead" };
    let seen = if off < SignedDuration::from_secs(1) { "right to a second".to_string() } else { format!("{} s {side}", off.as_secs()) };
    let mend = "Let the machine set its clock over the network (for instance with chrony or systemd-timesyncd).";
    match () {
        () if off > SKEW_FAIL => {
            CheckResult::fail(CheckName::Clock, format!("Its clock is {seen}: certificates of two minutes are not good there"), mend)
        }
        () if off > SKEW_WARN => CheckResult::warn(CheckName::Clock, format!("Its clock is {seen}"), mend),
        () => CheckResult::pass(CheckName::Clock, seen),
    }
}

/// The version of an agent beside the service's.
pub fn agent_version(theirs: &str, ours: &str) -> CheckResult {
    if theirs == ours {
        return CheckResult::pass(CheckName::AgentVersion, theirs);
    }
    let mend = format!("Put the program of version {ours} on the machine and restart its agent.");
    CheckResult::warn(CheckName::AgentVersion, format!("The agent is of version {theirs}, the service of {ours}"), mend)
}

/// The host key that a machine shows beside the pinned one; each a fingerprint.
pub fn host_key(pinned: &str, shown: &str) -> CheckResult {
    if pinned == shown {
        return CheckResult::pass(CheckName::HostKey, pinned);
    }
    CheckResult::fail(
        CheckName::HostKey,
        format!("It shows {shown}; pinned is {pinned}"),
        "Ask whoever looks after the machine whether its key was changed and compare the fingerprint there (ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub). \
         If it is the same, accept it; if not, somebody stands between.",
    )
}

/// Ports of remote access of old: VNC, RDP, X, telnet, rlogin and rsh.
fn is_old(port: u16) -> Option<&'static str> {
    match port {
        5900..=5999 => Some("a desktop server (RFB)"),
        3389 => Some("a desktop server (RDP)"),
        6000..=6063 => Some("an X server"),
        23 => Some("telnet"),
        513 | 514 => Some("rlogin or rsh"),
        _ => None,
    }
}

/// Whether old remote access listens on more than loopback.
pub fn loopback_only(listening: &[Listening]) -> CheckResult {
    let open: Vec<String> = listening
        .iter()
        .filter(|l| !l.is_loopback())
        .filter_map(|l| is_old(l.port).map(|what| format!("{what} on {}, port {}", l.address, l.port)))
        .collect();
    if open.is_empty() {
        return CheckResult::pass(CheckName::Loopback, "nothing listens to the network");
    }
    CheckResult::warn(
        CheckName::Loopback,
        format!("The whole network reaches {}", crate::wording::list(&open)),
        "Bind it to 127.0.0.1: Aerie reaches it there through the agent, encrypted and by the rules.",
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn clocks_warn_before_they_hurt() {
        let of = |s| clock(SignedDuration::from_secs(s)).outcome;
        assert_eq!((of(0), of(-10), of(11), of(-55), of(56), of(3600)), {
            use CheckOutcome::{Fail, Pass, Warn};
            (Pass, Pass, Warn, Warn, Fail, Fail)
        });
        assert_eq!(
            clock(SignedDuration::from_secs(-3600)).seen,
            "Its clock is 3600 s behind: certificates of two minutes are not good there"
        );
    }

    #[test]
    fn a_port_that_everybody_reaches_is_named() {
        let at = |address: &str, port| Listening { address: address.into(), port };
        assert_eq!(loopback_only(&[at("127.0.0.1", 5901), at("::1", 3389), at("0.0.0.0", 22)]).outcome, CheckOutcome::Pass);
        let open = loopback_only(&[at("0.0.0.0", 5901), at("::", 23)]);
        assert_eq!(open.seen, "The whole network reaches a desktop server (RFB) on 0.0.0.0, port 5901 and telnet on ::, port 23");
        assert_eq!(open.outcome, CheckOutcome::Warn);
    }

    #[test]
    fn the_first_failure_is_the_sentence() {
        let pass = CheckResult::pass(CheckName::Port, "open");
        let warn = CheckResult::warn(CheckName::Clock, "12 s ahead", "set it");
        let fail = host_key("SHA256:a", "SHA256:b");
        assert_eq!(sentence_of("dome-east", std::slice::from_ref(&pass)), "dome-east is ready.");
        assert_eq!(sentence_of("dome-east", &[pass.clone(), warn.clone()]), "dome-east is ready, with 1 warning.");
        assert_eq!(sentence_of("dome-east", &[pass, warn, fail]), "dome-east is not ready: it shows SHA256:b; pinned is SHA256:a.");
        assert_eq!(agent_version("1", "1").outcome, CheckOutcome::Pass);
        assert_eq!(agent_version("1", "2").outcome, CheckOutcome::Warn);
    }
}
