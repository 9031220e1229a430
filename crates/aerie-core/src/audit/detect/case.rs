//! Tests that stand beside a detection.

use super::detector::Detector;
use super::document::{Detection, DetectionSet};
use super::form::SpanOfTime;
use super::signal::{Field, Signal, What};
use crate::audit::Findings;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::sync::Arc;

/// When the first signal of a case happens: a Monday, at noon.
const BEGINNING: &str = "2026-03-02T12:00:00Z";
/// Signals of one case.
const MOST_SIGNALS: u32 = 10_000;

/// What a detection is to find.
#[derive(Debug, Clone, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Case {
    /// What is tried.
    pub(super) name: String,
    signals: Vec<Made>,
    /// How many findings come of it.
    finds: usize,
    /// A text in the sentence of one of them.
    #[serde(default)]
    says: String,
}

/// One signal or several alike. In a text, `#` stands for the number of the repetition.
#[derive(Debug, Clone, PartialEq, Deserialize)]
struct Made {
    what: What,
    /// So long after the one before.
    after: Option<SpanOfTime>,
    #[serde(default = "once")]
    times: u32,
    #[serde(flatten)]
    fields: BTreeMap<String, Value>,
}

#[derive(Debug, Clone, PartialEq, Deserialize)]
#[serde(untagged)]
enum Value {
    Text(String),
    Number(i64),
}

fn once() -> u32 {
    1
}

/// A case that did not come out as it says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CaseFailure {
    /// The detection.
    pub detection: String,
    /// The case.
    pub case: String,
    /// What came instead.
    pub why: String,
}

impl DetectionSet {
    /// Tries every case of every detection, each with that detection alone, in UTC.
    pub fn failures(&self) -> Vec<CaseFailure> {
        let mut failures = vec![];
        for detection in self.all() {
            for case in &detection.cases {
                if let Err(why) = case.run(self, detection) {
                    failures.push(CaseFailure { detection: detection.name.clone(), case: case.name.clone(), why });
                }
            }
        }
        failures
    }
}

impl Case {
    fn run(&self, set: &DetectionSet, detection: &Detection) -> Result<(), String> {
        let mut detector = Detector::only(Arc::new(set.clone()), TimeZone::UTC, |d| d.name == detection.name);
        let mut findings = Findings::default();
        let mut at: Timestamp = BEGINNING.parse().map_err(|_| "no beginning")?;
        let mut left = MOST_SIGNALS;
        for made in &self.signals {
            for n in 1..=made.times {
                left = left.checked_sub(1).ok_or_else(|| format!("it makes more than {MOST_SIGNALS} signals"))?;
                at = made.after.map_or(at, |span| at + span.get());
                made.signal(n, at, |signal| detector.handle_signal(signal, &mut findings))?;
            }
        }
        detector.handle_time(at, &mut findings);
        let found = findings.finish(&TimeZone::UTC);
        if found.len() != self.finds {
            let told: Vec<&str> = found.iter().map(|f| f.sentence.as_str()).collect();
            return Err(format!("it finds {} where {} are expected. {}", found.len(), self.finds, told.join(" ")));
        }
        if !self.says.is_empty() && !found.iter().any(|f| f.sentence.contains(&self.says)) {
            let first = found.first().map_or("", |f| &f.sentence);
            return Err(format!("no sentence has \u{201c}{}\u{201d} in it. {first}", self.says));
        }
        Ok(())
    }
}

impl Made {
    fn signal(&self, n: u32, at: Timestamp, then: impl FnOnce(&Signal<'_>)) -> Result<(), String> {
        let number = n.to_string();
        let mut texts: BTreeMap<Field, String> = BTreeMap::new();
        for (word, value) in &self.fields {
            let field = Field::ALL.iter().copied().find(|f| f.word() == word);
            let field = field.ok_or_else(|| format!("there is no field `{word}`"))?;
            let text = match value {
                Value::Text(text) => text.replace('#', &number),
                Value::Number(n) => n.to_string(),
            };
            texts.insert(field, text);
        }
        let text = |field| texts.get(&field).map_or("", String::as_str);
        let of = |field| Some(text(field)).filter(|t| !t.is_empty());
        let amount = |field| of(field).and_then(|t| t.parse::<i64>().ok());
        let groups: Vec<String> = text(Field::Group).split_whitespace().map(Into::into).collect();
        then(&Signal {
            account: text(Field::Account),
            account_exists: of(Field::AccountExists).map(|t| t == "yes"),
            person: of(Field::Person),
            shown: of(Field::Person),
            groups: &groups,
            standing: text(Field::Standing),
            source: text(Field::Source),
            method: text(Field::Method),
            key: text(Field::Key),
            algorithm: text(Field::Algorithm),
            service: text(Field::Service),
            through: text(Field::Way) == "aerie",
            uses: text(Field::Use),
            session: of(Field::Session),
            command: text(Field::Command),
            seconds: amount(Field::Minutes).map(|m| m.saturating_mul(60)),
            bytes: amount(Field::Bytes).and_then(|b| u64::try_from(b).ok()),
            ..Signal::new(self.what, at, text(Field::Machine))
        });
        Ok(())
    }
}
