//! Which signals a detection looks at.

use super::signal::{Field, Signal, What};
use jiff::tz::TimeZone;
use serde::Deserialize;
use std::collections::BTreeMap;

/// Values that a condition may name; each is looked at for each signal.
const MOST_VALUES: usize = 100;
/// Length of one of them.
const LONGEST_VALUE: usize = 200;

/// Which signals: of a kind, and with every condition fulfilled.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(try_from = "Written")]
pub struct Pattern {
    /// The kind.
    pub what: What,
    conditions: Vec<(Field, Condition)>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Condition {
    /// One of these texts, or none of them; `*` stands for anything.
    Texts { any: Vec<String>, not: bool },
    /// A number between these, both included; where the first is greater, outside of what lies between them (hours through midnight).
    Numbers(i64, i64),
}

#[derive(Deserialize)]
struct Written {
    what: What,
    #[serde(flatten)]
    fields: BTreeMap<String, Values>,
}

#[derive(Deserialize)]
#[serde(untagged)]
enum Values {
    One(String),
    Number(i64),
    Many(Vec<String>),
}

impl TryFrom<Written> for Pattern {
    type Error = String;

    fn try_from(written: Written) -> Result<Self, String> {
        let mut conditions = vec![];
        for (word, values) in written.fields {
            let Some(field) = Field::ALL.iter().copied().find(|f| f.word() == word) else {
                let known: Vec<&str> = Field::ALL.iter().map(|f| f.word()).collect();
                return Err(format!("there is no field `{word}`; there are {}", crate::wording::list(&known)));
            };
            let condition = match values {
                Values::Number(n) if field.is_number() => Condition::Numbers(n, n),
                Values::One(text) if field.is_number() => numbers(&text).ok_or_else(|| {
                    format!("`{text}` is no range of `{word}`: write \">480\", \"<5\", \"9-17\" or, through midnight, \"22-6\"")
                })?,
                Values::One(text) => texts(&word, vec![text])?,
                Values::Many(all) if !field.is_number() => texts(&word, all)?,
                Values::Number(_) => return Err(format!("`{word}` is a text")),
                Values::Many(_) => return Err(format!("`{word}` is a number: write a range such as \">480\"")),
            };
            conditions.push((field, condition));
        }
        Ok(Self { what: written.what, conditions })
    }
}

fn texts(word: &str, mut values: Vec<String>) -> Result<Condition, String> {
    let negated = values.iter().filter(|v| v.starts_with('!')).count();
    if values.is_empty() || values.len() > MOST_VALUES || values.iter().any(|v| v.len() > LONGEST_VALUE) {
        return Err(format!("`{word}` takes 1 to {MOST_VALUES} texts of at most {LONGEST_VALUE} bytes"));
    }
    if negated != 0 && negated != values.len() {
        return Err(format!("of the values of `{word}`, either all begin with `!` or none"));
    }
    if negated > 0 {
        values = values.iter().map(|v| v.trim_start_matches('!').into()).collect();
    }
    Ok(Condition::Texts { any: values, not: negated > 0 })
}

fn numbers(text: &str) -> Option<Condition> {
    let text = text.trim();
    if let Some(more) = text.strip_prefix('>') {
        return Some(Condition::Numbers(more.trim().parse::<i64>().ok()?.checked_add(1)?, i64::MAX));
    }
    if let Some(less) = text.strip_prefix('<') {
        return Some(Condition::Numbers(i64::MIN, less.trim().parse::<i64>().ok()?.checked_sub(1)?));
    }
    let (from, to) = text.split_once('-').unwrap_or((text, text));
    Some(Condition::Numbers(from.trim().parse().ok()?, to.trim().parse().ok()?))
}

impl Pattern {
    /// Whether it looks at this signal.
    pub fn fits(&self, signal: &Signal<'_>, zone: &TimeZone) -> bool {
        self.what == signal.what
            && self.conditions.iter().all(|(field, condition)| match condition {
                Condition::Texts { any, not } => {
                    let found = signal.any(*field, zone, |value| any.iter().any(|pattern| fits(pattern, value)));
                    // Of an unknown value nothing can be said, and `!` asks for a value that is another.
                    found != *not && (found || !signal.text(*field, zone).is_empty())
                }
                Condition::Numbers(from, to) => signal.number(*field, zone).is_some_and(|n| match from <= to {
                    true => (*from..=*to).contains(&n),
                    false => n >= *from || n <= *to,
                }),
            })
    }
}

/// Whether a text is as a pattern says, in which `*` stands for any text. Takes time in the product of both lengths at most.
pub(super) fn fits(pattern: &str, text: &str) -> bool {
    let (pattern, text) = (pattern.as_bytes(), text.as_bytes());
    let (mut p, mut t) = (0, 0);
    // Where the last star was, and how much of the text it has taken.
    let mut star: Option<(usize, usize)> = None;
    while let Some(byte) = text.get(t) {
        match (pattern.get(p), star) {
            (Some(b'*'), _) => {
                star = Some((p, t));
                p += 1;
            }
            (Some(wanted), _) if wanted == byte => {
                p += 1;
                t += 1;
            }
            (_, Some((at, taken))) => {
                star = Some((at, taken + 1));
                p = at + 1;
                t = taken + 1;
            }
            (_, None) => return false,
        }
    }
    pattern.get(p..).is_some_and(|rest| rest.iter().all(|b| *b == b'*'))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn pattern(text: &str) -> Result<Pattern, String> {
        toml_edit::de::from_str(text).map_err(|e| e.to_string())
    }

    #[test]
    fn conditions_hold_all_together() {
        let zone = TimeZone::UTC;
        let at = "2026-11-23T03:10:00Z".parse().unwrap();
        let signal = Signal { account: "svc-backup", seconds: Some(9 * 3600), ..Signal::new(What::Access, at, "archive-db") };
        let table = [
            ("what = \"access\"", true),
            ("what = \"failure\"", false),
            ("what = \"access\"\naccount = \"svc-*\"\nhour = \"22-6\"", true),
            ("what = \"access\"\naccount = [\"root\", \"*backup\"]\nminutes = \">480\"", true),
            ("what = \"access\"\nhour = \"9-17\"", false),
            ("what = \"access\"\nhour = 3\nbytes = \">1\"", false),
            ("what = \"access\"\naccount = \"!svc-*\"", false),
            ("what = \"access\"\nmachine = [\"!dome-*\", \"!mast-*\"]", true),
            // Of what is not known nothing is said.
            ("what = \"access\"\nperson = \"!ines\"", false),
            ("what = \"access\"\nday = \"mon\"", true),
        ];
        for (text, expected) in table {
            assert_eq!(pattern(text).unwrap().fits(&signal, &zone), expected, "{text}");
        }
        for (bad, says) in [
            ("what = \"acces\"", "unknown variant"),
            ("what = \"access\"\ncolour = \"red\"", "no field `colour`"),
            ("what = \"access\"\nhour = \"late\"", "no range of `hour`"),
            ("what = \"access\"\nhour = [\"1\"]", "is a number"),
            ("what = \"access\"\naccount = 7", "is a text"),
            ("what = \"access\"\naccount = [\"a\", \"!b\"]", "either all"),
            ("what = \"access\"\naccount = []", "1 to 100"),
        ] {
            assert!(pattern(bad).unwrap_err().contains(says), "{bad}: {:?}", pattern(bad));
        }
    }

    proptest! {
        #[test]
        fn stars_agree_with_the_plain_definition(pattern in "[ab*]{0,8}", text in "[ab]{0,10}") {
            fn plain(p: &[u8], t: &[u8]) -> bool {
                match p.split_first() {
                    None => t.is_empty(),
                    Some((b'*', rest)) => (0..=t.len()).any(|n| plain(rest, &t[n..])),
                    Some((b, rest)) => t.split_first().is_some_and(|(first, more)| first == b && plain(rest, more)),
                }
            }
            prop_assert_eq!(fits(&pattern, &text), plain(pattern.as_bytes(), text.as_bytes()));
        }
    }
}
