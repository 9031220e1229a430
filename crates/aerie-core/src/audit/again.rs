//! Judges the past again by other rules, and tells what would be judged otherwise. Findings stay as they are: what was judged by the rules
//! of its moment was judged rightly.

use super::auditor::{History, KnownSession};
use super::judge::{Case, Violation};
use super::record::{AccessRecord, Service};
use crate::policy::Policy;
use crate::wording;
use jiff::Timestamp;
use serde::Serialize;

/// Differences that are listed; the rest are counted.
pub const MOST_DIFFERENCES: usize = 1000;

/// An access that other rules judge otherwise.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Difference {
    /// Identifier of the session or access.
    pub id: String,
    /// Whether it is a session of Aerie's own.
    pub through: bool,
    /// Machine.
    pub machine: String,
    /// Account on it.
    pub account: String,
    /// Person, where known.
    pub person: Option<String>,
    /// When it began.
    pub begin: Timestamp,
    /// What the rules of its moment find: the words of the kinds.
    pub before: Vec<&'static str>,
    /// What the other rules find.
    pub after: Vec<&'static str>,
    /// Why, in words that follow the person's name; empty where the other rules find nothing.
    pub why: String,
}

/// The past, judged again.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Again {
    /// Accesses that were judged.
    pub judged: u64,
    /// Those of them with more violations than by the rules of their moment.
    pub stricter: u64,
    /// Those with fewer.
    pub milder: u64,
    /// What differs, at most [`MOST_DIFFERENCES`], in the order in which accesses came.
    pub differences: Vec<Difference>,
}

impl Again {
    /// How things stand, in one sentence. `rules` is how the other rules are called: `version 7`.
    pub fn sentence(&self, rules: &str) -> String {
        let of = match self.judged {
            1 => "Of 1 access".to_string(),
            n => format!("Of {n} accesses"),
        };
        let were = |n: u64| if n == 1 { "is" } else { "are" };
        match (self.stricter, self.milder) {
            (0, 0) => format!("{of} {rules} judges none otherwise than the rules of their moment."),
            (s, 0) => format!("{of} {s} {} a violation by {rules} and {} none by the rules of their moment.", were(s), were(s)),
            (0, m) => format!("{of} {m} {} no violation by {rules} and {} one by the rules of their moment.", were(m), were(m)),
            (s, m) => {
                let both = wording::list(&[&format!("{s} against them"), &format!("{m} in their favour")]);
                format!("{of} {rules} judges {} otherwise than the rules of their moment: {both}.", s + m)
            }
        }
    }

    fn take(&mut self, before: &[Violation], after: Vec<Violation>, make: impl FnOnce() -> Difference) {
        self.judged += 1;
        let words = |all: &[Violation]| all.iter().map(|(kind, _)| kind.word()).collect::<Vec<_>>();
        let (was, is) = (words(before), words(&after));
        if was == is {
            return;
        }
        if is.len() >= was.len() {
            self.stricter += 1;
        } else {
            self.milder += 1;
        }
        if self.differences.len() < MOST_DIFFERENCES {
            let new = after.into_iter().filter(|(kind, _)| !was.contains(&kind.word())).map(|(_, why)| why);
            let why = new.collect::<Vec<_>>().join("; ").replace("the rules of that moment", "these rules");
            self.differences.push(Difference { before: was, after: is, why, ..make() });
        }
    }
}

/// Judges sessions, and what no session explains, by the rules of their moment and by other ones. Accesses before the first rules are
/// judged by the first. What a log alone tells through login records is passed over, as the audit does.
pub fn judge_again(history: &History, other: &Policy, sessions: &[KnownSession], around: &[AccessRecord]) -> Again {
    let mut again = Again::default();
    for s in sessions {
        let Some(then) = history.at(s.begin) else { continue };
        let judged = |policy| Case::of_session(policy, s).within(s);
        again.take(&judged(then), judged(other), || Difference {
            id: s.id.clone(),
            through: true,
            machine: s.machine.clone(),
            account: s.account.clone(),
            person: Some(s.person.clone()),
            begin: s.begin,
            before: vec![],
            after: vec![],
            why: String::new(),
        });
    }
    for r in around.iter().filter(|r| r.session.is_none() && !r.explained && r.service != Service::Login) {
        let Some(then) = history.at(r.begin) else { continue };
        let key = r.key.as_deref();
        let judged = |policy| Case { policy, machine: &r.machine, account: &r.account, source: &r.source, key, begin: r.begin }.around();
        again.take(&judged(then), judged(other), || Difference {
            id: r.id.clone(),
            through: false,
            machine: r.machine.clone(),
            account: r.account.clone(),
            person: r.person.clone(),
            begin: r.begin,
            before: vec![],
            after: vec![],
            why: String::new(),
        });
    }
    again
}

#[cfg(test)]
mod tests {
    use super::super::tests::{RULES, policy, session, t};
    use super::*;

    fn around(account: &str, at: &str) -> AccessRecord {
        let text = serde_json::json!({ "id": "a", "service": "ssh", "machine": "dome-east", "account": account, "person": "ines",
            "source": "10.20.9.44", "port": 1, "method": "publickey", "key": "SHA256:ines", "begin": at, "end": null, "session": null,
            "explained": false, "lines": [] });
        serde_json::from_value(text).unwrap()
    }

    #[test]
    fn only_what_differs_is_told_and_with_the_reason() {
        let history = History::new(vec![(t("2026-01-01T00:00:00Z"), policy(RULES))]);
        let (known, by_night) = ([session("s-1")], [around("operator", "2026-11-22T22:00:00Z")]);
        let same = judge_again(&history, &policy(RULES), &known, &by_night);
        assert_eq!((same.judged, same.differences.len()), (2, 0));
        assert_eq!(same.sentence("version 2"), "Of 2 accesses version 2 judges none otherwise than the rules of their moment.");

        let by_day = policy(&RULES.replace("18:00-07:30", "08:00-17:00"));
        let again = judge_again(&history, &by_day, &known, &by_night);
        let told: Vec<_> =
            again.differences.iter().map(|d| (d.id.as_str(), d.before.as_slice(), d.after.as_slice(), d.why.as_str())).collect();
        assert_eq!(
            told,
            [
                ("s-1", &[][..], &["not-allowed"][..], "these rules do not let them open a shell on it"),
                (
                    "a",
                    &["around-gateway"][..],
                    &["around-gateway", "outside-hours"][..],
                    "at that hour the rules do not let Ines Okafor in"
                ),
            ]
        );
        assert_eq!(again.sentence("version 2"), "Of 2 accesses 2 are a violation by version 2 and are none by the rules of their moment.");
        let back = judge_again(&History::new(vec![(t("2026-01-01T00:00:00Z"), by_day)]), &policy(RULES), &known, &[]);
        assert_eq!((back.milder, back.differences[0].why.as_str()), (1, ""));
    }

    #[test]
    fn what_is_explained_or_a_login_record_is_not_judged_and_lists_are_bounded() {
        let history = History::new(vec![(t("2026-01-01T00:00:00Z"), policy(RULES))]);
        let one = around("operator", "2026-11-22T22:00:00Z");
        let mut all = vec![
            AccessRecord { explained: true, ..one.clone() },
            AccessRecord { service: Service::Login, ..one.clone() },
            AccessRecord { session: Some("s-1".into()), ..one.clone() },
        ];
        let by_day = policy(&RULES.replace("18:00-07:30", "08:00-17:00"));
        assert_eq!(judge_again(&history, &by_day, &[], &all).judged, 0);
        all.extend(std::iter::repeat_n(one, MOST_DIFFERENCES + 1));
        let again = judge_again(&history, &by_day, &[], &all);
        assert_eq!((again.stricter, again.differences.len()), (MOST_DIFFERENCES as u64 + 1, MOST_DIFFERENCES));
    }
}
