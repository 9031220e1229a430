use serde::{Deserialize, Serialize};

/// What somebody does on a machine.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Capability {
    /// An interactive shell.
    Shell,
    /// One command.
    Exec,
    /// Copy a file to the machine.
    Upload,
    /// Copy a file from the machine.
    Download,
    /// Reach a TCP port through the machine.
    Forward,
}

impl Capability {
    /// Every capability, in the order of the documentation.
    pub const ALL: [Capability; 5] = [Self::Shell, Self::Exec, Self::Upload, Self::Download, Self::Forward];

    /// The word for it in the rule document.
    pub fn word(self) -> &'static str {
        match self {
            Self::Shell => "shell",
            Self::Exec => "exec",
            Self::Upload => "upload",
            Self::Download => "download",
            Self::Forward => "forward",
        }
    }

    /// What it is called in a sentence after "may" or "may not": `use a shell on`.
    pub fn phrase(self) -> &'static str {
        match self {
            Self::Shell => "open a shell on",
            Self::Exec => "run commands on",
            Self::Upload => "copy files to",
            Self::Download => "copy files from",
            Self::Forward => "forward ports through",
        }
    }

    /// The capability of that word.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|c| c.word() == word)
    }
}

/// A proof of who somebody is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Factor {
    /// Possession of a registered SSH key.
    Key,
    /// A time-based one-time code (RFC 6238).
    Code,
    /// A password.
    Password,
}

impl Factor {
    /// Every factor.
    pub const ALL: [Factor; 3] = [Self::Key, Self::Code, Self::Password];

    /// The word for it in the rule document.
    pub fn word(self) -> &'static str {
        match self {
            Self::Key => "key",
            Self::Code => "code",
            Self::Password => "password",
        }
    }

    /// The factor of that word.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|f| f.word() == word)
    }
}

macro_rules! small_set {
    ($(#[$doc:meta])* $set:ident of $item:ident) => {
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Hash)]
        pub struct $set(u8);

        impl $set {
            /// The empty set.
            pub const NONE: Self = Self(0);

            /// The set of these.
            pub fn of(items: impl IntoIterator<Item = $item>) -> Self {
                Self(items.into_iter().fold(0, |set, i| set | 1 << i as u8))
            }

            /// Whether it holds this one.
            pub fn contains(self, item: $item) -> bool {
                self.0 & (1 << item as u8) != 0
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
