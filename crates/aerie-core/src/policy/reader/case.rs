//! Reads a question that stands in the document with the answer it must have.

use super::{Reader, key_span, span_of};
use crate::policy::document::{Case, CaseTime, Expectation};
use crate::policy::{Capabilities, Factor, Factors};
use jiff::Timestamp;
use jiff::civil::{Date, Time};
use toml_edit::{Item, Table};

const KEYS: [&str; 14] = [
    "name",
    "person",
    "machine",
    "capabilities",
    "account",
    "target",
    "at",
    "from",
    "factors",
    "approved_by",
    "ticket",
    "reason",
    "expect",
    "because",
];

impl Reader<'_> {
    pub(super) fn case(&mut self, table: &Table) -> Option<Case> {
        let before = self.errors.len();
        self.known_keys(table, &KEYS, "a `test`");
        let head = self.head(table);
        let name = self.named(table, &head, "test")?;
        for key in ["person", "machine", "capabilities", "at", "expect"] {
            if !table.contains_key(key) {
                self.error("missing", head.clone(), format!("this test does not say `{key}`"));
            }
        }
        let text = |this: &mut Self, key: &str| table.get(key).and_then(|i| this.text_of(i, "a text"));
        let case = Case {
            name,
            line: self.line(head.start),
            person: text(self, "person").unwrap_or_default(),
            machine: text(self, "machine").unwrap_or_default(),
            capabilities: table.get("capabilities").map_or(Capabilities::NONE, |i| self.capability_words(i)),
            account: text(self, "account"),
            target: text(self, "target").and_then(|t| {
                let read = t.parse();
                if let Err(e) = &read {
                    self.error("target", key_span(table, "target"), format!("`{t}` is not a target: {e}"));
                }
                read.ok()
            }),
            at: table.get("at").and_then(|i| self.case_time(i)).unwrap_or(CaseTime::Daily(Time::midnight())),
            from: text(self, "from").and_then(|t| {
                let address = t.parse().ok();
                if address.is_none() {
                    self.error("address", key_span(table, "from"), format!("`{t}` is not an address"));
                }
                address
            }),
            factors: table
                .get("factors")
                .map_or(Factors::NONE, |i| Factors::of(self.words(i, "factors", &Factor::ALL.map(Factor::word), Factor::from_word))),
            approved_by: table
                .get("approved_by")
                .map_or(vec![], |i| self.texts(i, "a list of people").into_iter().map(|(t, _)| t).collect()),
            ticket: text(self, "ticket"),
            reason: table.get("reason").is_some_and(|i| self.flag(i)),
            expect: table
                .get("expect")
                .and_then(|i| {
                    let known = Expectation::ALL.map(Expectation::word);
                    self.words(i, "answers", &known, |w| Expectation::ALL.into_iter().find(|e| e.word() == w)).pop()
                })
                .unwrap_or(Expectation::Refused),
            because: text(self, "because"),
            span: head,
        };
        (self.errors.len() == before).then_some(case)
    }

    /// `2026-11-23T12:00:00Z`, `2026-11-23T12:00:00` (in the zone of the document) or `12:00:00` (each of seven days).
    fn case_time(&mut self, item: &Item) -> Option<CaseTime> {
        let read = item.as_datetime().and_then(|d| match (d.date, d.time, d.offset) {
            (None, Some(t), None) => Some(CaseTime::Daily(time(&t)?)),
            (Some(_), Some(_), Some(_)) => d.to_string().parse::<Timestamp>().ok().map(CaseTime::At),
            (Some(day), Some(t), None) => {
                let date = Date::new(day.year.try_into().ok()?, day.month.try_into().ok()?, day.day.try_into().ok()?).ok()?;
                let at = date.to_datetime(time(&t)?).to_zoned(self.zone.clone()).ok()?;
                Some(CaseTime::At(at.timestamp()))
            }
            _ => None,
        });
        if read.is_none() {
            self.error("date", span_of(item), "this is not a time").help =
                Some("write for instance `2026-11-23T12:00:00` or `12:00:00`, without quotation marks".into());
        }
        read
    }
}

fn time(t: &toml_edit::Time) -> Option<Time> {
    Time::new(t.hour.try_into().ok()?, t.minute.try_into().ok()?, t.second.unwrap_or(0).try_into().ok()?, 0).ok()
}
