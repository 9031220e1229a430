use serde::{Deserialize, Serialize};

/// Words of the rule document, one line each: variant, word, and how a sentence speaks of it.
macro_rules! words {
    ($(#[$doc:meta])* $name:ident, $count:literal { $($(#[$vdoc:meta])* $variant:ident $word:literal $phrase:literal,)* }) => {
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
        pub enum $name { $($(#[$vdoc])* $variant,)* }

        impl $name {
            /// All of them, in the order of the documentation.
            pub const ALL: [$name; $count] = [$(Self::$variant,)*];

            /// The word for it in the rule document.
            pub fn word(self) -> &'static str {
                match self { $(Self::$variant => $word,)* }
            }

            /// How a sentence speaks of it.
            pub fn phrase(self) -> &'static str {
                match self { $(Self::$variant => $phrase,)* }
            }

            /// The one of that word.
            pub fn from_word(word: &str) -> Option<Self> {
                Self::ALL.into_iter().find(|c| c.word() == word)
            }
        }

        impl Serialize for $name {
            fn serialize<S: serde::Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
                s.serialize_str(self.word())
            }
        }

        impl<'de> Deserialize<'de> for $name {
            fn deserialize<D: serde::Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
                let word = std::borrow::Cow::<str>::deserialize(d)?;
                Self::from_word(&word).ok_or_else(|| serde::de::Error::custom(format!("`{word}` is not known here")))
            }
        }
    };
}

words! {
    /// What somebody does on a machine. The phrase follows "may" or "may not".
    Capability, 14 {
        /// See the screen.
        View "view" "see the screen of",
        /// Use keyboard and pointer.
        Control "control" "control",
        /// An interactive shell.
        Shell "shell" "open a shell on",
        /// One command.
        Exec "exec" "run commands on",
        /// List directories and read what files are there, without their contents.
        Browse "browse" "list files on",
        /// Copy a file to the machine.
        Upload "upload" "copy files to",
        /// Copy a file from the machine.
        Download "download" "copy files from",
        /// Put text into the machine's clipboard.
        ClipboardIn "clipboard-in" "paste into",
        /// Take text out of the machine's clipboard.
        ClipboardOut "clipboard-out" "copy from the clipboard of",
        /// Reach a TCP port through the machine.
        Forward "forward" "forward ports through",
        /// List and end processes.
        Processes "processes" "manage processes on",
        /// Look at and restart services.
        Services "services" "manage services on",
        /// See the credential that Aerie keeps for an account: for emergencies.
        CheckOut "check-out" "see a credential of",
        /// Watch the live sessions of others there. What a rule says of consent is here said of whoever is watched.
        Watch "watch" "watch sessions on",
    }
}

impl Capability {
    /// Whether it is used within a session, rather than at the console alone.
    pub fn is_of_sessions(self) -> bool {
        !matches!(self, Self::CheckOut | Self::Watch)
    }

    /// Whether whoever uses it acts on the machine, and could answer there what is asked of somebody else: not by looking alone.
    pub fn acts(self) -> bool {
        !matches!(self, Self::View | Self::ClipboardOut | Self::Watch)
    }

    /// Whether it can be used by SSH: whoever signs in there is asked for what these demand, and not for what a screen would.
    pub fn is_over_ssh(self) -> bool {
        match self {
            Self::Shell | Self::Exec | Self::Browse | Self::Upload | Self::Download | Self::Forward => true,
            Self::View | Self::Control | Self::ClipboardIn | Self::ClipboardOut => false,
            Self::Processes | Self::Services | Self::CheckOut | Self::Watch => false,
        }
    }

    /// The tracks of a recording that this capability fills: a demand for others does not concern it.
    pub fn tracks(self) -> Tracks {
        match self {
            Self::View => Tracks::of([Track::Screen]),
            Self::Control => Tracks::of([Track::Screen, Track::Input]),
            Self::Shell | Self::Exec => Tracks::of([Track::Terminal, Track::Input]),
            Self::Browse | Self::Upload | Self::Download | Self::ClipboardIn | Self::ClipboardOut => Tracks::of([Track::Files]),
            Self::Forward | Self::Processes | Self::Services | Self::CheckOut | Self::Watch => Tracks::of([Track::Actions]),
        }
    }
}

words! {
    /// A proof of who somebody is. The phrase follows "needs".
    Factor, 6 {
        /// Possession of a registered SSH key.
        Key "key" "a registered key",
        /// A time-based one-time code (RFC 6238).
        Code "code" "a code",
        /// A password.
        Password "password" "a password",
        /// A WebAuthn credential with user verification, or an SSH key on a FIDO authenticator that was unlocked for the
        /// signature: a multi-factor cryptographic authenticator (SP 800-63B-4 section 3.1.7).
        Passkey "passkey" "a passkey",
        /// A FIDO key that was touched: a single-factor cryptographic authenticator whose key cannot be exported
        /// (SP 800-63B-4 section 3.1.6).
        SecurityKey "security-key" "a security key",
        /// The standing PIN of the machine, which whoever may work there while nobody sits at it was given. It says nothing of
        /// who somebody is, and adds to no assurance level.
        Pin "pin" "the PIN of the machine",
    }
}

words! {
    /// A track of a recording. The phrase follows "a recording of".
    Track, 5 {
        /// What a terminal shows, or a command writes.
        Terminal "terminal" "the terminal",
        /// What the person types and points at.
        Input "input" "the input",
        /// What the screen shows.
        Screen "screen" "the screen",
        /// Files and clipboard: names, sizes, direction.
        Files "files" "the files",
        /// Connections, processes and services: what was done to them.
        Actions "actions" "the actions",
    }
}

words! {
    /// A property of a machine that keeps it in good order. The phrase follows "it is not" or "it is".
    Posture, 4 {
        /// It is managed by the organisation.
        Managed "managed" "managed",
        /// Its disks are encrypted.
        Encrypted "disk-encrypted" "disk-encrypted",
        /// Its firewall is on.
        Firewall "firewall" "behind its own firewall",
        /// No updates are pending.
        Updated "up-to-date" "up to date",
    }
}

words! {
    /// What the person at the machine must have said, weakest first. The phrase follows "needs".
    Consent, 3 {
        /// They are told.
        Notice "notice" "a notice to the person at the machine",
        /// They are asked where somebody is there; nobody there counts as yes.
        IfPresent "if-present" "the consent of the person at the machine, if anybody is there",
        /// They are asked, and no answer means no.
        Ask "ask" "the consent of the person at the machine",
    }
}

macro_rules! small_set {
    ($(#[$doc:meta])* $set:ident of $item:ident) => {
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default, Hash)]
        pub struct $set(u16);

        impl $set {
            /// The empty set.
            pub const NONE: Self = Self(0);

            /// The set of these.
            pub fn of(items: impl IntoIterator<Item = $item>) -> Self {
                Self(items.into_iter().fold(0, |set, i| set | 1 << i as u16))
            }

            /// All of them.
            pub fn all() -> Self {
                Self::of($item::ALL)
            }

            /// Whether it holds this one.
            pub fn contains(self, item: $item) -> bool {
                self.0 & (1 << item as u16) != 0
            }

            /// Both together.
            #[must_use]
            pub fn union(self, other: Self) -> Self {
                Self(self.0 | other.0)
            }

            /// What is here and not in the other.
            #[must_use]
            pub fn without(self, other: Self) -> Self {
                Self(self.0 & !other.0)
            }

            /// Whether there is nothing in it.
            pub fn is_empty(self) -> bool {
                self.0 == 0
            }

            /// What is in both.
            #[must_use]
            pub fn both(self, other: Self) -> Self {
                Self(self.0 & other.0)
            }

            /// Whether everything here is in the other.
            pub fn within(self, other: Self) -> bool {
                self.0 & !other.0 == 0
            }

            /// How many there are.
            pub fn len(self) -> u32 {
                self.0.count_ones()
            }

            /// Those in it, in the order of the documentation.
            pub fn iter(self) -> impl Iterator<Item = $item> {
                $item::ALL.into_iter().filter(move |i| self.contains(*i))
            }

            /// Their words.
            pub fn words(self) -> Vec<&'static str> {
                self.iter().map($item::word).collect()
            }
        }

        impl Serialize for $set {
            fn serialize<S: serde::Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
                s.collect_seq(self.iter())
            }
        }

        impl<'de> Deserialize<'de> for $set {
            fn deserialize<D: serde::Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
                Ok(Self::of(Vec::<$item>::deserialize(d)?))
            }
        }
    };
}

small_set! {
    /// A set of capabilities.
    Capabilities of Capability
}
small_set! {
    /// A set of factors.
    Factors of Factor
}
small_set! {
    /// A set of tracks.
    Tracks of Track
}
small_set! {
    /// A set of properties.
    Postures of Posture
}

impl Factors {
    /// The authenticator assurance level that these factors reach together (SP 800-63B-4 section 2): 0 for none, 2 for two of
    /// different kinds or one multi-factor authenticator, 3 where a phishing-resistant key that cannot be exported is among
    /// them. A key and a code are both something one has, and reach level 1 alone.
    pub fn assurance(self) -> u8 {
        let has = |f| self.contains(f);
        let verified = has(Factor::Password) || has(Factor::Passkey);
        match () {
            () if verified && has(Factor::SecurityKey) => 3,
            () if has(Factor::Passkey) || (has(Factor::Password) && (has(Factor::Key) || has(Factor::Code))) => 2,
            () if self.iter().all(|f| f == Factor::Pin) => 0,
            () => 1,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn assurance_counts_kinds_and_not_factors() {
        use Factor::{Code, Key, Passkey, Password, Pin, SecurityKey};
        let table: [(&[Factor], u8); 11] = [
            (&[], 0),
            (&[Pin], 0),
            (&[Pin, Password], 1),
            (&[Key], 1),
            (&[Key, Code], 1),
            (&[Key, SecurityKey], 1),
            (&[Key, Password], 2),
            (&[Code, Password], 2),
            (&[Password, SecurityKey], 3),
            (&[Passkey, SecurityKey], 3),
            (&[Passkey], 2),
        ];
        for (factors, level) in table {
            assert_eq!(Factors::of(factors.iter().copied()).assurance(), level, "{factors:?}");
        }
    }

    #[test]
    fn every_word_leads_back_and_no_two_are_alike() {
        for c in Capability::ALL {
            assert_eq!(Capability::from_word(c.word()), Some(c));
            assert!(!c.tracks().is_empty());
            assert_eq!(serde_json::to_value(c).unwrap(), c.word());
        }
        for f in Factor::ALL {
            assert_eq!((Factor::from_word(f.word()), serde_json::to_value(f).unwrap()), (Some(f), f.word().into()));
        }
    }
}
