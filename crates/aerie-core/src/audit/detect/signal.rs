//! What detections look at.

use crate::audit::LogLine;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::net::IpAddr;

macro_rules! words {
    ($(#[$outer:meta])* $name:ident { $($(#[$doc:meta])* $variant:ident = $word:literal,)* }) => {
        $(#[$outer])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
        pub enum $name {
            $($(#[$doc])* #[serde(rename = $word)] $variant,)*
        }

        impl $name {
            /// Every one.
            pub const ALL: &[Self] = &[$(Self::$variant),*];

            /// Its word.
            pub fn word(self) -> &'static str {
                match self { $(Self::$variant => $word,)* }
            }
        }
    };
}

words! {
    /// What kind of thing happened.
    What {
        /// Somebody got in.
        Access = "access",
        /// They are out again: `minutes` and, through Aerie, `bytes` are known.
        End = "end",
        /// Somebody tried to get in and did not.
        Failure = "failure",
        /// A command was typed in a recorded session, or given to `sudo`.
        Command = "command",
        /// A port was forwarded.
        Forward = "forward",
        /// Files were copied.
        Transfer = "transfer",
        /// The person at a machine said no.
        ConsentRefused = "consent-refused",
        /// Somebody declared an emergency.
        Emergency = "emergency",
        /// Somebody reviewed one.
        Review = "review",
    }
}

words! {
    /// What is known of it. What is not known is an empty text, which `*` alone fits.
    Field {
        /// Machine.
        Machine = "machine",
        /// Account on it.
        Account = "account",
        /// `yes` or `no`, where a failure tells whether there is such an account.
        AccountExists = "account-exists",
        /// Person.
        Person = "person",
        /// Groups of the person; a condition fits where one of them does.
        Group = "group",
        /// `early` or `expired`, where the account of the person was not valid on that day.
        Standing = "standing",
        /// Address.
        Source = "source",
        /// The address's neighbourhood: /24 of IPv4, /48 of IPv6.
        Network = "network",
        /// `publickey`, `password`, …
        Method = "method",
        /// Fingerprint of the key.
        Key = "key",
        /// Kind of the key: `ED25519`, `RSA`, …
        Algorithm = "algorithm",
        /// `ssh`, `vnc`, `rdp`, `windows`, `login`, `aerie` or `other`.
        Service = "service",
        /// `aerie` or `around`.
        Way = "way",
        /// Capabilities that were used; a condition fits where one of them does.
        Use = "use",
        /// Identifier of the session.
        Session = "session",
        /// The command.
        Command = "command",
        /// Day of the week: `mon` … `sun`.
        Day = "day",
        /// Hour of the day, 0 to 23.
        Hour = "hour",
        /// How long it lasted.
        Minutes = "minutes",
        /// How much was carried.
        Bytes = "bytes",
    }
}

impl Field {
    /// Whether its values are numbers.
    pub fn is_number(self) -> bool {
        matches!(self, Self::Hour | Self::Minutes | Self::Bytes)
    }
}

/// Something that happened.
#[derive(Clone, Copy)]
pub struct Signal<'a> {
    /// What.
    pub what: What,
    /// When.
    pub at: Timestamp,
    /// Machine.
    pub machine: &'a str,
    /// Account on it.
    pub account: &'a str,
    /// Whether a failure says that there is such an account.
    pub account_exists: Option<bool>,
    /// Name of the person.
    pub person: Option<&'a str>,
    /// How the person is called.
    pub shown: Option<&'a str>,
    /// Groups of the person.
    pub groups: &'a [String],
    /// `early`, `expired`, or nothing.
    pub standing: &'a str,
    /// Address.
    pub source: &'a str,
    /// `publickey`, `password`, …
    pub method: &'a str,
    /// Fingerprint of the key.
    pub key: &'a str,
    /// Kind of the key.
    pub algorithm: &'a str,
    /// Word of the service.
    pub service: &'a str,
    /// Whether Aerie carried it.
    pub through: bool,
    /// Words of the capabilities used, separated by spaces.
    pub uses: &'a str,
    /// Session.
    pub session: Option<&'a str>,
    /// The moment in its recording.
    pub moment_ms: Option<u64>,
    /// The command.
    pub command: &'a str,
    /// Seconds it lasted.
    pub seconds: Option<i64>,
    /// Bytes it carried.
    pub bytes: Option<u64>,
    /// Makes the lines that show it; called for those alone that become evidence.
    pub lines: &'a dyn Fn() -> Vec<LogLine>,
}

/// Nothing shows it.
const NO_LINES: &dyn Fn() -> Vec<LogLine> = &Vec::new;

impl<'a> Signal<'a> {
    /// Something of which no more is known.
    pub fn new(what: What, at: Timestamp, machine: &'a str) -> Self {
        Self {
            what,
            at,
            machine,
            account: "",
            account_exists: None,
            person: None,
            shown: None,
            groups: &[],
            standing: "",
            source: "",
            method: "",
            key: "",
            algorithm: "",
            service: "",
            through: false,
            uses: "",
            session: None,
            moment_ms: None,
            command: "",
            seconds: None,
            bytes: None,
            lines: NO_LINES,
        }
    }

    /// A field as a text; of those with several values, all of them.
    pub fn text(&self, field: Field, zone: &TimeZone) -> Cow<'a, str> {
        match field {
            Field::Machine => self.machine.into(),
            Field::Account => self.account.into(),
            Field::AccountExists => match self.account_exists {
                Some(true) => "yes",
                Some(false) => "no",
                None => "",
            }
            .into(),
            Field::Person => self.person.unwrap_or_default().into(),
            Field::Group => self.groups.join(" ").into(),
            Field::Standing => self.standing.into(),
            Field::Source => self.source.into(),
            Field::Network => network(self.source).into(),
            Field::Method => self.method.into(),
            Field::Key => self.key.into(),
            Field::Algorithm => self.algorithm.into(),
            Field::Service => self.service.into(),
            Field::Way => if self.through { "aerie" } else { "around" }.into(),
            Field::Use => self.uses.into(),
            Field::Session => self.session.unwrap_or_default().into(),
            Field::Command => self.command.into(),
            Field::Day => self.at.to_zoned(zone.clone()).strftime("%a").to_string().to_lowercase().into(),
            Field::Hour | Field::Minutes | Field::Bytes => self.number(field, zone).map_or(String::new(), |n| n.to_string()).into(),
        }
    }

    /// Whether one of the values of a field fits.
    pub fn any(&self, field: Field, zone: &TimeZone, fits: impl Fn(&str) -> bool) -> bool {
        match field {
            Field::Group => self.groups.iter().any(|g| fits(g)),
            Field::Use => self.uses.split_whitespace().any(fits),
            // The frequent ones are looked at where they are.
            Field::Machine => fits(self.machine),
            Field::Account => fits(self.account),
            Field::Source => fits(self.source),
            Field::Service => fits(self.service),
            _ => fits(&self.text(field, zone)),
        }
    }

    /// A field as a number.
    pub fn number(&self, field: Field, zone: &TimeZone) -> Option<i64> {
        match field {
            Field::Hour => Some(i64::from(self.at.to_zoned(zone.clone()).hour())),
            Field::Minutes => self.seconds.map(|s| s / 60),
            Field::Bytes => self.bytes.map(|b| i64::try_from(b).unwrap_or(i64::MAX)),
            _ => None,
        }
    }
}

/// The neighbourhood of an address; of what is none, the text itself.
fn network(source: &str) -> String {
    match source.split('%').next().unwrap_or(source).parse::<IpAddr>().map(|a| a.to_canonical()) {
        Ok(IpAddr::V4(a)) => {
            let [a, b, c, _] = a.octets();
            format!("{a}.{b}.{c}.0/24")
        }
        Ok(IpAddr::V6(a)) => {
            let [a, b, c, ..] = a.segments();
            format!("{a:x}:{b:x}:{c:x}::/48")
        }
        Err(_) => source.into(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn fields_are_what_is_known() {
        let groups = ["night-operators".to_string(), "staff".to_string()];
        let at = "2026-11-23T23:30:00Z".parse().unwrap();
        let tokyo = TimeZone::get("Asia/Tokyo").unwrap();
        let signal = Signal { source: "10.20.9.44", groups: &groups, seconds: Some(150), ..Signal::new(What::Access, at, "dome-east") };
        let text = |f| signal.text(f, &tokyo).into_owned();
        assert_eq!((text(Field::Hour), text(Field::Day), text(Field::Network)), ("8".into(), "tue".into(), "10.20.9.0/24".into()));
        assert_eq!((text(Field::Minutes), text(Field::Bytes), text(Field::Way)), ("2".into(), String::new(), "around".into()));
        assert!(signal.any(Field::Group, &tokyo, |g| g == "staff") && !signal.any(Field::Use, &tokyo, |_| true));
        for (source, neighbourhood) in [("fe80::1%eth0", "fe80:0:0::/48"), ("::ffff:198.51.100.7", "198.51.100.0/24"), ("a name", "a name")]
        {
            assert_eq!(network(source), neighbourhood);
        }
    }
}
