//! Detections as they are written.

use super::form::Form;
use super::pattern::Pattern;
use super::signal::{Field, What};
use crate::audit::Importance;
use crate::audit::detect::case::Case;
use crate::evidence::hex;
use serde::Deserialize;
use sha2::{Digest as _, Sha256};
use std::collections::HashSet;

/// Longest document, in bytes.
pub const LONGEST_DOCUMENT: usize = 256 << 10;
/// Detections of one document; each is asked for each signal.
const MOST_DETECTIONS: usize = 200;
/// Tests of one detection; each makes signals by the thousand.
const MOST_CASES: usize = 20;
/// Longest name, in bytes.
const LONGEST_NAME: usize = 60;
/// Longest sentence, in bytes.
const LONGEST_SENTENCE: usize = 500;

/// Those that Aerie brings along.
const SHIPPED: &str = include_str!("shipped.toml");

/// Words that a sentence may name besides the fields.
const WORDS: [&str; 4] = ["who", "times", "usual", "size"];

/// One detection.
#[derive(Debug, Clone, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Detection {
    /// Its name: lower-case words and hyphens. Findings carry it as their kind.
    pub name: String,
    /// What it is good for, in a few words.
    #[serde(default)]
    pub title: String,
    /// The first half of the finding's sentence, up to the time.
    pub says: String,
    /// The second half: why that is one.
    pub because: String,
    /// The way to mend it.
    pub mend: String,
    /// How much it matters.
    pub importance: Importance,
    /// Technique ids of MITRE ATT&CK.
    #[serde(default)]
    pub techniques: Vec<String>,
    /// Controls that it helps to keep, as `NIST SP 800-53 AC-7`.
    #[serde(default)]
    pub controls: Vec<String>,
    /// Whether it is looked at.
    #[serde(default = "yes")]
    pub enabled: bool,
    /// What it looks for.
    pub form: Form,
    /// What it must find, and what not.
    #[serde(default, rename = "test")]
    pub cases: Vec<Case>,
}

fn yes() -> bool {
    true
}

/// Where a detection is looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stage {
    /// While a log is read: whatever needs failures or commands.
    Lines,
    /// On what all logs and sessions show together, in the order of time.
    Records,
}

/// A document of detections.
#[derive(Debug, Clone, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DetectionSet {
    #[serde(default, rename = "detection")]
    detections: Vec<Detection>,
    /// Digest of the text, so that a finding can say by which text it was found.
    #[serde(skip)]
    version: String,
}

impl Detection {
    /// Where it is looked at.
    pub fn stage(&self) -> Stage {
        let of_lines = |p: &Pattern| matches!(p.what, What::Failure | What::Command);
        if self.form.patterns().any(of_lines) { Stage::Lines } else { Stage::Records }
    }

    fn check(&self) -> Result<(), String> {
        let in_it = |what: String| format!("detection `{}`: {what}", self.name);
        let name_ok = |b: u8| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-';
        if self.name.is_empty() || self.name.len() > LONGEST_NAME || !self.name.bytes().all(name_ok) {
            return Err(in_it(format!("its name is 1 to {LONGEST_NAME} lower-case letters, digits and hyphens")));
        }
        if crate::audit::FindingKind::ALL.iter().any(|k| k.word() == self.name) {
            return Err(in_it("that is the name of a finding that Aerie makes without a detection".into()));
        }
        for (key, text) in [("says", &self.says), ("because", &self.because)] {
            check_sentence(text).map_err(|e| in_it(format!("`{key}`: {e}")))?;
        }
        if self.cases.len() > MOST_CASES {
            return Err(in_it(format!("it has more than {MOST_CASES} tests")));
        }
        if self.says.ends_with('.') || self.because.ends_with('.') {
            return Err(in_it("`says` and `because` are halves of one sentence: write them without a full stop".into()));
        }
        self.form.check().map_err(in_it)
    }
}

fn check_sentence(text: &str) -> Result<(), String> {
    if text.is_empty() || text.len() > LONGEST_SENTENCE {
        return Err(format!("it has 1 to {LONGEST_SENTENCE} bytes"));
    }
    let mut rest = text;
    while let Some((_, behind)) = rest.split_once('{') {
        let (word, after) = behind.split_once('}').ok_or("a brace is not closed")?;
        if !WORDS.contains(&word) && !Field::ALL.iter().any(|f| f.word() == word) {
            return Err(format!("there is nothing called `{{{word}}}`"));
        }
        rest = after;
    }
    Ok(())
}

impl DetectionSet {
    /// Reads a document.
    ///
    /// # Errors
    /// What is wrong with it and, where it is a matter of one place, line, column and a caret.
    pub fn parse(text: &str) -> Result<Self, String> {
        if text.len() > LONGEST_DOCUMENT {
            return Err(format!("it has more than {LONGEST_DOCUMENT} bytes"));
        }
        let mut set: Self = toml_edit::de::from_str(text).map_err(|e| e.to_string())?;
        if set.detections.len() > MOST_DETECTIONS {
            return Err(format!("it has more than {MOST_DETECTIONS} detections"));
        }
        let mut names = HashSet::new();
        for detection in &set.detections {
            detection.check()?;
            if !names.insert(&detection.name) {
                return Err(format!("two detections are called `{}`", detection.name));
            }
        }
        set.version = hex(Sha256::digest(text).get(..8).unwrap_or_default());
        Ok(set)
    }

    /// The text of those that Aerie brings along.
    pub fn shipped_text() -> &'static str {
        SHIPPED
    }

    /// Those that Aerie brings along.
    pub fn shipped() -> Self {
        // A test reads the same text: it cannot be wrong in a program that was built.
        Self::parse(SHIPPED).unwrap_or_else(|_| Self::none())
    }

    /// None at all.
    pub fn none() -> Self {
        Self { detections: vec![], version: String::new() }
    }

    /// All of them, as they stand.
    pub fn all(&self) -> &[Detection] {
        &self.detections
    }

    /// The one of that name.
    pub fn named(&self, name: &str) -> Option<&Detection> {
        self.detections.iter().find(|d| d.name == name)
    }

    /// Digest of the text: 16 hexadecimal digits.
    pub fn version(&self) -> &str {
        &self.version
    }
}
