//! What an administrator can set, in one place: each with its words, bounds and default.

use std::collections::BTreeMap;

/// What values a setting takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// A whole number with its unit.
    Number {
        /// Least.
        least: i64,
        /// Most.
        most: i64,
        /// What it counts.
        unit: &'static str,
    },
    /// `yes` or `no`.
    Flag,
    /// Text; most characters.
    Text(usize),
    /// A list, an entry on each line; most entries.
    Lines(usize),
}

/// Longest line of a list.
const LONGEST_LINE: usize = 4096;

macro_rules! settings {
    ($($name:ident $word:literal $kind:expr, $default:literal, $about:literal;)*) => {
        /// The settings.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub enum Setting { $(#[doc = $about] $name,)* }

        impl Setting {
            /// Every setting, in the order of the documentation.
            pub const ALL: &[Setting] = &[$(Self::$name,)*];

            /// Its stable word.
            pub fn word(self) -> &'static str {
                match self { $(Self::$name => $word,)* }
            }

            /// What it takes.
            pub fn kind(self) -> Kind {
                match self { $(Self::$name => $kind,)* }
            }

            /// Its value while nobody set it.
            pub fn default(self) -> &'static str {
                match self { $(Self::$name => $default,)* }
            }

            /// What it is, in a sentence.
            pub fn about(self) -> &'static str {
                match self { $(Self::$name => $about,)* }
            }
        }
    };
}

const fn number(least: i64, most: i64, unit: &'static str) -> Kind {
    Kind::Number { least, most, unit }
}

settings! {
    Address "address" Kind::Text(200), "", "Address at which browsers reach the console, for links and passkeys, as https://aerie.example; while it is empty, the address that it listens on.";
    Banner "banner" Kind::Text(2000), "", "Shown before anybody signs in, at the console and the SSH gateway.";
    OlderClients "older-clients" Kind::Flag, "no", "Whether the SSH gateway also offers what old client libraries know: AES in counter mode, HMAC-SHA2 without encrypt-then-MAC, ECDH on P-256, Diffie-Hellman groups 14 and 16 with SHA-2, and an ECDSA host key. Nothing with SHA-1 or CBC.";
    Message "message" Kind::Text(2000), "", "Message of the day: shown to whoever has signed in.";
    PasswordLength "password-length" number(8, 64, "characters"), "12", "Shortest password that may be set.";
    PasswordDays "password-days" number(0, 3650, "days"), "0", "Days after which a password must be changed; 0 for never, which SP 800-63B advises.";
    SecondFactor "second-factor" Kind::Flag, "yes", "Whether a second factor must be enrolled before anything else is possible.";
    SignedInIdle "signed-in-idle" number(2, 24 * 60, "minutes"), "30", "Minutes without a request after which one is signed out.";
    SignedInHours "signed-in-hours" number(1, 24, "hours"), "12", "Hours after which one must sign in again.";
    ProvedMinutes "proved-minutes" number(1, 240, "minutes"), "15", "How recently a code, passkey or security key must have been proved before one changes how people sign in or what they may do.";
    InvitationHours "invitation-hours" number(1, 720, "hours"), "72", "How long an invitation is good.";
    TemporaryCodeMinutes "temporary-code-minutes" number(5, 1440, "minutes"), "60", "How long a temporary code that an administrator gave is good.";
    TokenDays "token-days" number(1, 3650, "days"), "365", "Longest life of an API token.";
    KeyDays "key-days" number(0, 3650, "days"), "0", "Longest life of a registered SSH key; 0 for no limit.";
    KnownKeys "known-keys" Kind::Lines(1000), "", "Fingerprints (`SHA256:…`) of keys that are known to others and never registered.";
    UserAuthorities "user-authorities" Kind::Lines(20), "", "SSH certificate authorities whose user certificates are accepted, each for members of groups: GROUP[,GROUP] and the public key as OpenSSH writes it. They vouch for nobody with another role than technician.";
    SeparationDays "separation-days" number(0, 90, "days"), "7", "For how long whoever made, invited or reset an account does not count as another person beside its owner: not as second person, approver or reviewer.";
    SecondAdministrator "second-administrator" Kind::Flag, "yes", "Whether a second administrator must agree, where there is one, to settings that decide who is who, to recoveries that go to no mail address, and to rules that give their author more.";
    KeyBoundPrograms "key-bound-programs" Kind::Flag, "no", "Whether API tokens that are bound to a key (RFC 9421) may change rules, people, settings and keys; tokens without a key never may.";
    AgentAddress "agent-address" Kind::Text(200), "", "Host and port at which agents reach the service, as aerie.example:7443, for enrolment codes; while it is empty, those of the console.";
    CodeHours "code-hours" number(1, 720, "hours"), "24", "How long an enrolment code is good.";
    StaleDays "stale-days" number(0, 3650, "days"), "0", "Days after which a machine of which nothing was heard retires by itself; 0 for never.";
    ApprovalMinutes "approval-minutes" number(1, 240, "minutes"), "15", "How long a session waits at its start for somebody to approve it.";
    RequestHours "request-hours" number(1, 720, "hours"), "72", "How long a request for access waits for its approvers; they are reminded at half time.";
    ConsentSeconds "consent-seconds" number(10, 900, "seconds"), "60", "How long the person at a machine has to answer.";
    LiftAlone "lift-alone" Kind::Flag, "yes", "Whether whoever locked the service down may lift that alone.";
    MailServer "mail-server" Kind::Text(200), "", "Mail server (SMTP) for notices, as host:port; smtps://host:port to speak TLS from the start, smtp://host:port for a server on this machine without TLS; empty for no mail.";
    MailFrom "mail-from" Kind::Text(200), "", "Sender of notices, as Aerie <aerie@example.org>.";
    Webhook "webhook" Kind::Text(500), "", "Address to which notices are posted as signed JSON; empty for none.";
    ForwardTo "forward-to" Kind::Text(200), "", "Collector to which every event is forwarded as it is logged (RFC 5424), as tls://host:port; tcp://host:port without TLS to this machine alone; empty for none.";
    ForwardAuthority "forward-authority" Kind::Text(20_000), "", "Certificates (PEM) of the authority that signs the collector's certificate; while it is empty, those that this machine trusts.";
    PinDigits "pin-digits" number(6, 12, "digits"), "8", "Digits of a PIN.";
    PinMinutes "pin-minutes" number(1, 120, "minutes"), "10", "How long a one-time PIN is good.";
    PinTries "pin-tries" number(1, 10, "tries"), "5", "Wrong tries that end a PIN.";
    VisitHours "visit-hours" number(1, 72, "hours"), "8", "How long somebody who came waits in a queue for help.";
    VisitCloseMinutes "visit-close-minutes" number(5, 10_080, "minutes"), "60", "How long after its end a visit that nobody closed closes itself, and is reported.";
    TicketDesk "ticket-desk" Kind::Text(500), "", "Address to which the record of each closed visit is posted as signed JSON; empty for none.";
    TicketFields "ticket-fields" Kind::Text(200), "times participants outcome notes consents device pictures files sessions", "What of a visit goes to the ticket desk: words of times, participants, outcome, notes, consents, device, pictures, files, sessions, chat. Chat may hold personal data.";
    PinEverywhere "pin-everywhere" number(10, 10_000, "tries"), "100", "Wrong PINs in the whole service within ten minutes after which all must wait.";
}

/// Why a value is not taken.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SettingFault {
    /// There is no such setting.
    #[error("there is no setting `{0}`")]
    Unknown(String),
    /// Not a number within the bounds.
    #[error("`{word}` takes a whole number of {unit} from {least} to {most}")]
    Number {
        /// The setting.
        word: &'static str,
        /// What it counts.
        unit: &'static str,
        /// Least.
        least: i64,
        /// Most.
        most: i64,
    },
    /// Neither yes nor no.
    #[error("`{0}` takes `yes` or `no`")]
    Flag(&'static str),
    /// Too long, or with control characters.
    #[error("`{0}` takes plain text of at most {1} characters")]
    Text(&'static str, usize),
    /// Too many or too long lines.
    #[error("`{0}` takes at most {1} lines of at most {LONGEST_LINE} characters")]
    Lines(&'static str, usize),
    /// Not an address of a console.
    #[error("`address` takes an https:// address without a path; http:// only for this machine itself (localhost)")]
    Address,
    /// Not an address of a collector.
    #[error("`forward-to` takes tls://host:port; tcp://host:port only for this machine itself (localhost, 127.0.0.1, [::1])")]
    Forward,
}

impl Setting {
    /// The setting of that word.
    ///
    /// # Errors
    /// When there is none.
    pub fn from_word(word: &str) -> Result<Self, SettingFault> {
        let known = Self::ALL.iter().copied().find(|s| s.word() == word);
        known.ok_or_else(|| SettingFault::Unknown(crate::diagnostic::printable(word).chars().take(60).collect()))
    }

    /// The value as it is kept, from what somebody wrote.
    ///
    /// # Errors
    /// Says what the setting takes.
    pub fn read(self, text: &str) -> Result<String, SettingFault> {
        let text = text.trim().replace("\r\n", "\n");
        let odd = |c: char| c.is_control() && c != '\n' || ('\u{202a}'..='\u{202e}').contains(&c) || ('\u{2066}'..='\u{2069}').contains(&c);
        match self.kind() {
            Kind::Number { least, most, unit } => {
                let fault = SettingFault::Number { word: self.word(), unit, least, most };
                let n: i64 = text.parse().map_err(|_| fault.clone())?;
                if (least..=most).contains(&n) { Ok(n.to_string()) } else { Err(fault) }
            }
            Kind::Flag if text == "yes" || text == "no" => Ok(text),
            Kind::Flag => Err(SettingFault::Flag(self.word())),
            Kind::Text(most) if text.chars().count() > most || text.chars().any(odd) => Err(SettingFault::Text(self.word(), most)),
            Kind::Text(_) if self == Self::Address && !is_address(&text) => Err(SettingFault::Address),
            Kind::Text(_) if self == Self::ForwardTo && !text.is_empty() && collector(&text).is_none() => Err(SettingFault::Forward),
            Kind::Text(_) => Ok(text),
            Kind::Lines(most) => {
                let lines: Vec<&str> = text.lines().map(str::trim).filter(|l| !l.is_empty()).collect();
                let bad = lines.len() > most || lines.iter().any(|l| l.len() > LONGEST_LINE || l.chars().any(odd));
                if bad { Err(SettingFault::Lines(self.word(), most)) } else { Ok(lines.join("\n")) }
            }
        }
    }
}

/// An origin (RFC 6454): scheme, host, perhaps a port, nothing more. Without encryption only this machine itself.
fn is_address(text: &str) -> bool {
    let host = |rest: &str| !rest.is_empty() && rest.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || ".-:[]".contains(c));
    let local = |rest: &str| rest == "localhost" || rest.strip_prefix("localhost:").is_some_and(|p| p.parse::<u16>().is_ok());
    text.is_empty() || text.strip_prefix("https://").is_some_and(host) || text.strip_prefix("http://").is_some_and(local)
}

/// Host and port of a collector, and whether it speaks TLS. Without it only this machine itself.
pub fn collector(text: &str) -> Option<(&str, u16, bool)> {
    let (scheme, rest) = text.split_once("://")?;
    let (host, port) = rest.rsplit_once(':')?;
    let port = port.parse().ok().filter(|p| *p > 0)?;
    let bare = host.strip_prefix('[').and_then(|h| h.strip_suffix(']')).unwrap_or(host);
    let good = !bare.is_empty() && bare.chars().all(|c| c.is_ascii_alphanumeric() || ".-:".contains(c));
    let local = bare == "localhost" || bare.parse::<std::net::IpAddr>().is_ok_and(|ip| ip.is_loopback());
    match scheme {
        "tls" if good => Some((bare, port, true)),
        "tcp" if good && local => Some((bare, port, false)),
        _ => None,
    }
}

/// The values in force.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Settings(BTreeMap<Setting, String>);

impl Settings {
    /// From what is kept; what is unknown or no longer reads is left at its default.
    pub fn of<'a>(kept: impl IntoIterator<Item = (&'a str, &'a str)>) -> Self {
        let read = |(word, value): (&str, &str)| {
            let setting = Setting::from_word(word).ok()?;
            Some((setting, setting.read(value).ok()?))
        };
        Self(kept.into_iter().filter_map(read).collect())
    }

    /// The value as text.
    pub fn text(&self, setting: Setting) -> &str {
        self.0.get(&setting).map_or(setting.default(), String::as_str)
    }

    /// The value of a number; 0 of anything else.
    pub fn number(&self, setting: Setting) -> i64 {
        self.text(setting).parse().unwrap_or(0)
    }

    /// The value of a flag.
    pub fn flag(&self, setting: Setting) -> bool {
        self.text(setting) == "yes"
    }

    /// The entries of a list.
    pub fn lines(&self, setting: Setting) -> impl Iterator<Item = &str> {
        self.text(setting).lines()
    }

    /// How long one stays signed in.
    pub fn signed_in(&self) -> crate::session::SignedInLimits {
        let minutes = |s| jiff::SignedDuration::from_mins(self.number(s));
        crate::session::SignedInLimits {
            idle: minutes(Setting::SignedInIdle),
            lifetime: jiff::SignedDuration::from_hours(self.number(Setting::SignedInHours)),
            fresh: minutes(Setting::ProvedMinutes),
        }
    }

    /// How PINs are made and tried.
    pub fn pins(&self) -> crate::factor::PinRules {
        let small = |s| u8::try_from(self.number(s)).unwrap_or(u8::MAX);
        crate::factor::PinRules {
            digits: small(Setting::PinDigits),
            lifetime: jiff::SignedDuration::from_mins(self.number(Setting::PinMinutes)),
            tries: small(Setting::PinTries),
            everywhere: u16::try_from(self.number(Setting::PinEverywhere)).unwrap_or(u16::MAX),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_default_is_a_value_and_every_word_its_own() {
        let words: std::collections::BTreeSet<_> = Setting::ALL.iter().map(|s| s.word()).collect();
        assert_eq!(words.len(), Setting::ALL.len());
        for s in Setting::ALL {
            assert_eq!(s.read(s.default()).as_deref(), Ok(s.default()), "{}", s.word());
            assert!(s.about().ends_with('.'), "{}", s.word());
        }
        assert_eq!(Settings::default().signed_in(), crate::session::SignedInLimits::default());
        assert_eq!(Settings::default().pins(), crate::factor::PinRules::default());
    }

    #[test]
    fn every_setting_is_documented_with_its_default() {
        let text = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/settings.md")).unwrap();
        for s in Setting::ALL {
            let row = text.lines().find(|l| l.starts_with(&format!("| `{}` |", s.word())));
            let default = if s.default().is_empty() { "empty" } else { s.default() };
            assert!(row.is_some_and(|r| r.contains(&format!("| {default} |")) && r.contains(s.about())), "{}", s.word());
        }
    }

    #[test]
    fn numbers_have_both_limits() {
        for s in Setting::ALL {
            let Kind::Number { least, most, .. } = s.kind() else { continue };
            assert!(s.read(&least.to_string()).is_ok() && s.read(&most.to_string()).is_ok());
            for bad in [(least - 1).to_string(), (most + 1).to_string(), "x".into(), "1.5".into(), String::new()] {
                assert!(matches!(s.read(&bad), Err(SettingFault::Number { .. })), "{} {bad}", s.word());
            }
        }
    }

    #[test]
    fn texts_carry_no_control_characters_and_lists_no_empty_lines() {
        assert!(Setting::Banner.read("Only for\r\nthose allowed").is_ok_and(|t| t == "Only for\nthose allowed"));
        assert!(Setting::Banner.read("\u{1b}[2J").is_err());
        assert!(Setting::Banner.read(&"x".repeat(2001)).is_err());
        assert_eq!(Setting::KnownKeys.read(" a \n\n b ").as_deref(), Ok("a\nb"));
        assert!(Setting::UserAuthorities.read(&"k\n".repeat(21)).is_err());
        for (address, good) in [
            ("https://aerie.example", true),
            ("https://aerie.example:8443", true),
            ("http://localhost:7080", true),
            ("http://aerie.example", false),
            ("https://aerie.example/console", false),
            ("https://", false),
            ("javascript:alert(1)", false),
            ("http://localhost.evil.example", false),
        ] {
            assert_eq!(Setting::Address.read(address).is_ok(), good, "{address}");
        }
    }

    #[test]
    fn a_collector_is_reached_with_tls_or_on_this_machine() {
        for (text, expected) in [
            ("tls://logs.example:6514", Some(("logs.example", 6514, true))),
            ("tls://[2001:db8::1]:6514", Some(("2001:db8::1", 6514, true))),
            ("tcp://127.0.0.1:514", Some(("127.0.0.1", 514, false))),
            ("tcp://localhost:514", Some(("localhost", 514, false))),
            ("tcp://logs.example:514", None),
            ("tls://logs.example", None),
            ("tls://:6514", None),
            ("tls://a/b:1", None),
            ("https://logs.example:1", None),
            ("tls://logs.example:0", None),
        ] {
            assert_eq!(collector(text), expected, "{text}");
            assert_eq!(Setting::ForwardTo.read(text).is_ok(), expected.is_some(), "{text}");
        }
        assert_eq!(Setting::ForwardTo.read("").as_deref(), Ok(""));
    }

    #[test]
    fn what_no_longer_reads_is_left_at_its_default() {
        let s = Settings::of([("pin-digits", "3"), ("nothing", "1"), ("pin-tries", "2")]);
        assert_eq!((s.number(Setting::PinDigits), s.number(Setting::PinTries)), (8, 2));
    }
}
