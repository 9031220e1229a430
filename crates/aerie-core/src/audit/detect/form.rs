//! The forms of detections, as they are written.

use super::pattern::Pattern;
use super::signal::{Field, Signal};
use super::state::MOST_VALUES;
use jiff::SignedDuration;
use jiff::tz::TimeZone;
use serde::Deserialize;

/// How often something may be asked for within a window: as many instants are remembered for each key.
const MOST_TIMES: usize = 1000;
/// The longest span: what is further back is no longer read.
const LONGEST_SPAN: SignedDuration = SignedDuration::from_hours(24 * 120);

/// A span of time as it is written: `10min`, `4h`, `21d`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(try_from = "String")]
pub struct SpanOfTime(SignedDuration);

impl SpanOfTime {
    /// How long.
    pub(super) fn get(self) -> SignedDuration {
        self.0
    }
}

impl std::fmt::Display for SpanOfTime {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&crate::wording::duration(self.0))
    }
}

impl TryFrom<String> for SpanOfTime {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        crate::policy::parse_duration(&text)
            .filter(|d| d.is_positive() && *d <= LONGEST_SPAN)
            .map(Self)
            .ok_or_else(|| format!("`{text}` is no span of time of at most 120 d: write 90s, 10min, 4h or 21d"))
    }
}

/// A step of a sequence.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Step {
    /// What is to happen.
    pub(super) of: Pattern,
    /// How often at least.
    #[serde(default = "once")]
    pub(super) at_least: usize,
}

fn once() -> usize {
    1
}

/// What a detection looks for.
#[derive(Debug, Clone, PartialEq, Deserialize)]
#[serde(rename_all = "lowercase", deny_unknown_fields)]
pub enum Form {
    /// Each signal that fits.
    Match {
        /// Which.
        of: Pattern,
        /// What makes signals one finding.
        by: Vec<Field>,
    },
    /// Many of a kind within a while.
    Count {
        /// Which.
        of: Pattern,
        /// Counted apart for each of these.
        by: Vec<Field>,
        /// Counts different values of this field, and not signals.
        distinct: Option<Field>,
        /// So many.
        at_least: usize,
        /// Within so long.
        within: SpanOfTime,
    },
    /// One thing after another, each no later than so long after the one before.
    Sequence {
        /// The same in all of them.
        by: Vec<Field>,
        /// What happens in turn.
        steps: Vec<Step>,
        /// At most so long between two signals.
        within: SpanOfTime,
    },
    /// Something that is not followed by what must follow.
    Absence {
        /// What happens.
        of: Pattern,
        /// The same in both.
        by: Vec<Field>,
        /// What must follow.
        then: Pattern,
        /// Within so long.
        within: SpanOfTime,
    },
    /// The first time of something, or the first after a long while.
    First {
        /// Which.
        of: Pattern,
        /// For each of these apart.
        by: Vec<Field>,
        /// The first time of each value of this field; of the key itself where there is none.
        value: Option<Field>,
        /// So long what is new is only learnt.
        learn: SpanOfTime,
        /// What was not seen for so long counts as new.
        after: Option<SpanOfTime>,
        /// Whether only what was seen before, and then not for so long, counts.
        #[serde(default)]
        only_again: bool,
    },
    /// A number that is far from what it usually is.
    Baseline {
        /// Which.
        of: Pattern,
        /// For each of these apart.
        by: Vec<Field>,
        /// The number: for `hour`, further than `beyond` hours from any; for others, more than `beyond` times the greatest.
        field: Field,
        /// What it is compared with: so long before.
        over: SpanOfTime,
        /// Of which there must be so many.
        samples: usize,
        /// How far.
        beyond: f64,
    },
    /// Two accesses at a time that differ in a field.
    Overlap {
        /// Which; their ends are known from `end` signals with the same values in `by`.
        of: Pattern,
        /// The same in both.
        by: Vec<Field>,
        /// What differs.
        differ: Field,
    },
}

impl Form {
    /// Its word.
    pub fn word(&self) -> &'static str {
        match self {
            Self::Match { .. } => "match",
            Self::Count { .. } => "count",
            Self::Sequence { .. } => "sequence",
            Self::Absence { .. } => "absence",
            Self::First { .. } => "first",
            Self::Baseline { .. } => "baseline",
            Self::Overlap { .. } => "overlap",
        }
    }

    /// What it looks at.
    pub(super) fn patterns(&self) -> Box<dyn Iterator<Item = &Pattern> + '_> {
        match self {
            Self::Match { of, .. }
            | Self::Count { of, .. }
            | Self::First { of, .. }
            | Self::Baseline { of, .. }
            | Self::Overlap { of, .. } => Box::new(std::iter::once(of)),
            Self::Sequence { steps, .. } => Box::new(steps.iter().map(|s| &s.of)),
            Self::Absence { of, then, .. } => Box::new([of, then].into_iter()),
        }
    }

    /// Whether one of its patterns fits a signal.
    pub(super) fn looks_at(&self, signal: &Signal<'_>, zone: &TimeZone) -> bool {
        match self {
            Self::Match { of, .. }
            | Self::Count { of, .. }
            | Self::First { of, .. }
            | Self::Baseline { of, .. }
            | Self::Overlap { of, .. } => of.fits(signal, zone),
            Self::Sequence { steps, .. } => steps.iter().any(|s| s.of.fits(signal, zone)),
            Self::Absence { of, then, .. } => of.fits(signal, zone) || then.fits(signal, zone),
        }
    }

    /// What makes signals belong together.
    pub(super) fn by(&self) -> &[Field] {
        match self {
            Self::Match { by, .. }
            | Self::Count { by, .. }
            | Self::Sequence { by, .. }
            | Self::Absence { by, .. }
            | Self::First { by, .. }
            | Self::Baseline { by, .. }
            | Self::Overlap { by, .. } => by,
        }
    }

    /// Whether a field makes occurrences one finding or several.
    pub(super) fn tells_apart(&self, field: Field) -> bool {
        let value = matches!(self, Self::First { value: Some(v), .. } if *v == field);
        value || self.by().contains(&field)
    }

    pub(super) fn check(&self) -> Result<(), String> {
        let times = |n: usize, least: usize| match (least..=MOST_TIMES).contains(&n) {
            true => Ok(()),
            false => Err(format!("`at_least` is {least} to {MOST_TIMES}")),
        };
        if self.by().is_empty() || self.by().len() > 4 {
            return Err("`by` has 1 to 4 fields".into());
        }
        match self {
            Self::Count { at_least, distinct, .. } => {
                if distinct.is_some_and(Field::is_number) {
                    return Err("`distinct` is a text".into());
                }
                times(*at_least, 2)
            }
            Self::Sequence { steps, .. } => {
                if !(2..=5).contains(&steps.len()) {
                    return Err("a sequence has 2 to 5 steps".into());
                }
                steps.iter().try_for_each(|s| times(s.at_least, 1))
            }
            Self::Baseline { field, samples, beyond, .. } => {
                if !field.is_number() || !(1..=MOST_VALUES).contains(samples) || !(1.0..=1000.0).contains(beyond) {
                    return Err(format!("a baseline is of hour, minutes or bytes, with 1 to {MOST_VALUES} samples and `beyond` 1 to 1000"));
                }
                Ok(())
            }
            Self::First { after: None, only_again: true, .. } => Err("`only_again` needs `after`".into()),
            Self::First { value: Some(f), .. } | Self::Overlap { differ: f, .. } if f.is_number() => Err("that field is a text".into()),
            Self::First { .. } | Self::Match { .. } | Self::Absence { .. } | Self::Overlap { .. } => Ok(()),
        }
    }
}
