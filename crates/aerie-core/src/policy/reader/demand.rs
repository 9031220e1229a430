//! Reads what a rule demands.

use super::{Reader, key_span, span_of, value};
use crate::directory::selector::Subject;
use crate::policy::demand::{Demands, Limits};
use crate::policy::document::{Approval, Place};
use crate::policy::{Consent, Factor, Factors, Posture, Postures, Track, Tracks};
use jiff::SignedDuration;
use toml_edit::{Item, TableLike};

/// What can be demanded.
pub(super) const KEYS: [&str; 11] =
    ["factors", "assurance", "consent", "approval", "ticket", "reason", "device", "posture", "recording", "lock", "limits"];
/// Longest limit on a session: a year. Longer is a slip of the pen.
const MAX_LIMIT: SignedDuration = SignedDuration::from_hours(24 * 366);
/// Most people who must approve together.
const MAX_APPROVERS: i64 = 9;
/// Most sessions at once that a limit may name.
const MAX_SESSIONS: i64 = 1_000;

impl Reader<'_> {
    pub(super) fn demands(&mut self, table: &dyn TableLike) -> Demands {
        let mut demands = Demands::default();
        if let Some(item) = table.get("factors") {
            self.factors(item, &mut demands);
        }
        if let Some(item) = table.get("assurance") {
            demands.assurance = self.number(item, 1..=3, "an assurance level from 1 to 3").and_then(|n| n.try_into().ok()).unwrap_or(0);
        }
        if let Some(item) = table.get("consent") {
            demands.consent = self.words(item, "forms of consent", &Consent::ALL.map(Consent::word), Consent::from_word).into_iter().max();
        }
        if let Some(item) = table.get("approval") {
            demands.approvals.extend(self.approval(item));
        }
        if let Some(item) = table.get("ticket") {
            demands.tickets.extend(self.ticket(item));
        }
        demands.reason = table.get("reason").is_some_and(|item| self.flag(item));
        if let Some(item) = table.get("device") {
            demands.device = !self.words(item, "kinds of device", &["managed"], |w| (w == "managed").then_some(())).is_empty();
        }
        if let Some(item) = table.get("posture") {
            self.posture(item, &mut demands);
        }
        if let Some(item) = table.get("recording") {
            demands.recording = match item.as_bool() {
                Some(true) => Tracks::all(),
                Some(false) => Tracks::NONE,
                None => Tracks::of(self.words(item, "tracks", &Track::ALL.map(Track::word), Track::from_word)),
            };
        }
        demands.lock = table.get("lock").is_some_and(|item| self.flag(item));
        if let Some(item) = table.get("limits") {
            match item.as_table_like() {
                Some(limits) => demands.limits = self.limits(limits),
                None => self.wrong_type(item, "a table such as `{ session = \"4h\", idle = \"20min\" }`"),
            }
        }
        demands
    }

    /// `"code"`, or `"code within 15min"`.
    fn factors(&mut self, item: &Item, demands: &mut Demands) {
        for (text, span) in self.texts(item, "a list of factors") {
            let (word, within) = text.split_once(" within ").map_or((text.as_str(), None), |(w, d)| (w, Some(d)));
            let Some(factor) = Factor::from_word(word) else {
                self.unknown_word(word, span, "factors", &Factor::ALL.map(Factor::word));
                continue;
            };
            demands.factors = demands.factors.union(Factors::of([factor]));
            let Some(age) = within else { continue };
            let age = self.duration(age, span);
            if let (Some(age), Some(slot)) = (age, demands.fresh.get_mut(factor as usize)) {
                *slot = u32::try_from(age.as_secs()).unwrap_or(u32::MAX);
            }
        }
    }

    /// `"group:ridge-owners"`, or `{ from = "group:ridge-owners", count = 2 }`.
    fn approval(&mut self, item: &Item) -> Option<u16> {
        let (from, count) = match item.as_table_like() {
            None => (item, 1),
            Some(table) => {
                self.known_keys(table, &["from", "count"], "`approval`");
                let count = table.get("count").map_or(Some(1), |n| self.number(n, 1..=MAX_APPROVERS, "a number from 1 to 9"))?;
                match table.get("from") {
                    Some(from) => (from, count),
                    None => {
                        self.error("missing", span_of(item), "this approval does not say from whom").help =
                            Some("add `from = \"group:…\"`".into());
                        return None;
                    }
                }
            }
        };
        let text = self.text_of(from, "a selector of people")?;
        let span: Place = span_of(from);
        let selector = self.parse_selector(&text, &span, Subject::People)?;
        let approval = Approval { from: selector, text: text.into(), span, count: u16::try_from(count).unwrap_or(1) };
        let known = self.approvals.iter().position(|a| a.text == approval.text && a.count == approval.count);
        let at = known.unwrap_or_else(|| {
            self.approvals.push(approval);
            self.approvals.len() - 1
        });
        u16::try_from(at).ok()
    }

    fn ticket(&mut self, item: &Item) -> Option<u16> {
        let pattern = match item.as_bool() {
            Some(true) => "*".to_string(),
            Some(false) => return None,
            None => self.text_of(item, "`true`, or a pattern such as `\"OBS-*\"`")?,
        };
        let at = self.tickets.iter().position(|t| **t == *pattern).unwrap_or_else(|| {
            self.tickets.push(pattern.into());
            self.tickets.len() - 1
        });
        u16::try_from(at).ok()
    }

    fn posture(&mut self, item: &Item, demands: &mut Demands) {
        let known = Posture::ALL.map(Posture::word);
        let words = |this: &mut Self, item| Postures::of(this.words(item, "properties of a machine", &known, Posture::from_word));
        match item.as_table_like() {
            None => demands.posture = words(self, item),
            Some(table) => {
                self.known_keys(table, &["refuse", "warn"], "`posture`");
                demands.posture = table.get("refuse").map_or(Postures::NONE, |i| words(self, i));
                demands.warn = table.get("warn").map_or(Postures::NONE, |i| words(self, i));
            }
        }
    }

    fn limits(&mut self, table: &dyn TableLike) -> Limits {
        self.known_keys(table, &["session", "idle", "sessions", "bytes"], "`limits`");
        let limit = |this: &mut Self, key: &str| {
            let item = table.get(key)?;
            let text = this.text_of(item, "a duration such as `\"4h\"`")?;
            this.duration(&text, span_of(item))
        };
        Limits {
            session: limit(self, "session"),
            idle: limit(self, "idle"),
            sessions: table
                .get("sessions")
                .and_then(|i| self.number(i, 1..=MAX_SESSIONS, "a number of sessions from 1 to 1,000"))
                .and_then(|n| n.try_into().ok()),
            bytes: table.get("bytes").and_then(|item| {
                let text = self.text_of(item, "a size such as `\"2GB\"`")?;
                let read = value::parse_size(&text);
                if read.is_none() {
                    self.error("size", key_span(table, "bytes"), format!("`{text}` is not a size")).help =
                        Some("write for instance `500kB`, `20MB` or `2GB`".into());
                }
                read
            }),
        }
    }

    fn duration(&mut self, text: &str, span: Place) -> Option<SignedDuration> {
        let read = value::parse_duration(text).filter(|d| *d > SignedDuration::ZERO && *d <= MAX_LIMIT);
        if read.is_none() {
            self.error("duration", span, format!("`{text}` is not a duration between a second and a year")).help =
                Some("write for instance `30s`, `20min`, `4h` or `1h 30min`".into());
        }
        read
    }

    fn number(&mut self, item: &Item, range: std::ops::RangeInclusive<i64>, wanted: &str) -> Option<i64> {
        let read = item.as_integer().filter(|n| range.contains(n));
        if read.is_none() {
            self.error("number", span_of(item), format!("this is not {wanted}"));
        }
        read
    }
}
