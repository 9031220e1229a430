//! Reads the rule document, with the place of everything that is wrong in it.

use super::document::{Demands, Document, Effect, Hours, Network, Rule, Span};
use super::{Capabilities, Capability, Factor, Factors};
use crate::diagnostic::{Diagnostic, nearest, position};
use crate::directory::selector::{Selector, Subject};
use crate::wording;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, civil::Date};
use std::collections::HashMap;
use std::ops::Range;
use std::sync::Arc;
use toml_edit::{Array, Item, Table, TableLike, Value};

/// Longest document that is read: 2,000 rules of 400 bytes are well under it.
pub const MAX_DOCUMENT: usize = 4 << 20;
/// Most rules in a document.
pub const MAX_RULES: usize = 20_000;
/// Most spans of one set of hours: a week has 168 hours.
const MAX_SPANS: usize = 200;
/// Longest limit on a session: a year. Longer is a slip of the pen.
const MAX_LIMIT: SignedDuration = SignedDuration::from_hours(24 * 366);

/// Reads a rule document.
///
/// The document is there when nothing in it is an error; warnings may stand beside it.
///
/// # Errors
/// All that is wrong, in the order of the text.
pub fn read(text: &str) -> Result<Document, Vec<Diagnostic>> {
    if text.len() > MAX_DOCUMENT {
        return Err(vec![Diagnostic::error("policy/too-long", 0..0, format!("the document is longer than {MAX_DOCUMENT} bytes"))]);
    }
    let parsed = toml_edit::Document::parse(text).map_err(|e| {
        let span = e.span().unwrap_or(0..0);
        vec![Diagnostic::error("policy/syntax", span, e.message().trim().replace('\n', "; "))]
    })?;
    let mut reader = Reader { text, errors: vec![], zone: TimeZone::UTC, hours: vec![], hours_at: HashMap::new() };
    let rules = reader.document(parsed.as_table());
    if reader.errors.is_empty() {
        return Ok(Document { zone: reader.zone, hours: reader.hours, rules });
    }
    reader.errors.sort_by_key(|e| e.span.start);
    Err(reader.errors)
}

struct Reader<'a> {
    text: &'a str,
    errors: Vec<Diagnostic>,
    zone: TimeZone,
    hours: Vec<Hours>,
    hours_at: HashMap<String, usize>,
}

fn span_of(item: &Item) -> Range<usize> {
    item.span().unwrap_or(0..0)
}

fn key_span(table: &dyn TableLike, key: &str) -> Range<usize> {
    table.get_key_value(key).and_then(|(k, _)| k.span()).unwrap_or(0..0)
}

const RULE_KEYS: [&str; 12] =
    ["name", "people", "machines", "capabilities", "accounts", "hours", "from", "first_day", "last_day", "factors", "recording", "limits"];

impl Reader<'_> {
    fn error(&mut self, code: &str, span: Range<usize>, message: impl Into<String>) -> &mut Diagnostic {
        let at = self.errors.len();
        self.errors.push(Diagnostic::error(&format!("policy/{code}"), span, message));
        &mut self.errors[at..][0]
    }

    fn wrong_type(&mut self, item: &Item, wanted: &str) {
        self.error("type", span_of(item), format!("this is {}, and {wanted} is wanted", article(item.type_name())));
    }

    /// Complains of every key that is not known.
    fn known_keys(&mut self, table: &dyn TableLike, known: &[&str], place: &str) {
        let unknown: Vec<String> = table.iter().map(|(k, _)| k.to_string()).filter(|k| !known.contains(&k.as_str())).collect();
        for key in unknown {
            let span = key_span(table, &key);
            let help = nearest(&key, known.iter().copied())
                .map_or_else(|| format!("{place} knows {}", wording::list(known)), |k| format!("did you mean `{k}`?"));
            self.error("unknown-key", span, format!("`{key}` is not known here")).help = Some(help);
        }
    }

    fn document(&mut self, root: &Table) -> Vec<Rule> {
        self.known_keys(root, &["zone", "hours", "allow", "forbid", "require"], "the document");
        if let Some(item) = root.get("zone") {
            self.zone = self.zone_of(item).unwrap_or(TimeZone::UTC);
        }
        if let Some(item) = root.get("hours") {
            match item.as_table_like() {
                Some(table) => self.all_hours(table),
                None => self.wrong_type(item, "a table of named hours"),
            }
        }
        let mut rules = vec![];
        for effect in Effect::ALL {
            let Some(item) = root.get(effect.word()) else { continue };
            let Some(tables) = item.as_array_of_tables() else {
                self.error("type", key_span(root, effect.word()), "rules are written as tables of their own").help =
                    Some(format!("begin each rule with `[[{}]]`", effect.word()));
                continue;
            };
            for table in tables {
                if rules.len() == MAX_RULES {
                    self.error("too-many", table.span().unwrap_or(0..0), format!("there are more than {MAX_RULES} rules"));
                    return rules;
                }
                rules.extend(self.rule(effect, table));
            }
        }
        self.unique_names(&rules);
        rules.sort_by_key(|r| r.span.start);
        rules
    }

    fn unique_names(&mut self, rules: &[Rule]) {
        let mut seen: HashMap<Arc<str>, usize> = HashMap::new();
        for rule in rules {
            if let Some(line) = seen.insert(rule.name.clone(), rule.line) {
                let (name, span) = (rule.name.clone(), rule.span.clone());
                self.error("name-twice", span, format!("the name `{name}` is given twice, first on line {line}")).help =
                    Some("decisions and findings cite rules by name: give this one its own".into());
            }
        }
    }

    fn zone_of(&mut self, item: &Item) -> Option<TimeZone> {
        let name = self.text_of(item, "the name of a time zone")?;
        match TimeZone::get(&name) {
            Ok(zone) => Some(zone),
            Err(_) => {
                let known: Vec<String> = jiff::tz::db().available().map(|z| z.to_string()).collect();
                let help = nearest(&name, known.iter().map(String::as_str))
                    .map_or("write an IANA name such as `Atlantic/Canary`".into(), |z| format!("did you mean `{z}`?"));
                self.error("unknown-zone", span_of(item), format!("there is no time zone `{name}`")).help = Some(help);
                None
            }
        }
    }

    fn all_hours(&mut self, table: &dyn TableLike) {
        let names: Vec<String> = table.iter().map(|(k, _)| k.to_string()).collect();
        for name in names {
            let Some(item) = table.get(&name) else { continue };
            let line = position(self.text, key_span(table, &name).start).0;
            let (mut zone, mut spans) = (self.zone.clone(), vec![]);
            if let Some(inner) = item.as_table_like() {
                self.known_keys(inner, &["zone", "spans"], "a set of hours");
                if let Some(z) = inner.get("zone") {
                    zone = self.zone_of(z).unwrap_or(zone);
                }
                match inner.get("spans") {
                    Some(list) => spans = self.spans(list),
                    None => {
                        self.error("missing", key_span(table, &name), format!("the hours `{name}` have no `spans`"));
                    }
                }
            } else {
                spans = self.spans(item);
            }
            self.hours_at.insert(name.clone(), self.hours.len());
            self.hours.push(Hours { name: name.into(), zone, spans, line });
        }
    }

    fn spans(&mut self, item: &Item) -> Vec<Span> {
        let texts = self.texts(item, "a list of spans such as `\"mon-fri 08:00-18:00\"`");
        if texts.len() > MAX_SPANS {
            self.error("too-many", span_of(item), format!("there are more than {MAX_SPANS} spans"));
        }
        let mut spans = vec![];
        for (text, span) in texts.into_iter().take(MAX_SPANS) {
            match parse_span(&text) {
                Ok(s) => spans.push(s),
                Err(why) => {
                    self.error("hours", span, why).help = Some("write for instance `mon-fri 08:00-18:00` or `daily 18:00-07:30`".into());
                }
            }
        }
        spans
    }

    fn rule(&mut self, effect: Effect, table: &Table) -> Option<Rule> {
        let before = self.errors.len();
        let place = format!("a rule `{}`", effect.word());
        self.known_keys(table, &RULE_KEYS, &place);
        let span = table.span().unwrap_or(0..0);
        let head = span.start..self.text.get(span.start..).and_then(|t| t.find('\n')).map_or(span.end, |n| span.start + n);
        let line = position(self.text, head.start).0;
        let name = match table.get("name") {
            Some(item) => self.text_of(item, "a name")?,
            None => {
                self.error("missing", head.clone(), format!("this `{}` has no name", effect.word())).help =
                    Some("add `name = \"…\"`: decisions and findings cite rules by name".into());
                return None;
            }
        };
        let people = self.selector(table, "people", Subject::People, effect, &head);
        let machines = self.selector(table, "machines", Subject::Machines, effect, &head);
        let capabilities = self.capabilities(table, effect, &head);
        let accounts = self.accounts(table, effect, &head);
        let rule = Rule {
            effect,
            name: name.into(),
            line,
            span: head,
            people,
            machines,
            capabilities,
            accounts,
            hours: self.hours_of(table),
            from: self.networks(table),
            first_day: self.date(table, "first_day"),
            last_day: self.date(table, "last_day"),
            demands: self.demands(table, effect),
        };
        (self.errors.len() == before).then_some(rule)
    }

    fn selector(&mut self, table: &Table, key: &str, subject: Subject, effect: Effect, head: &Range<usize>) -> (Selector, Range<usize>) {
        let nothing = (Selector::All, head.clone());
        let Some(item) = table.get(key) else {
            if effect == Effect::Allow {
                self.error("missing", head.clone(), format!("this `allow` does not say which {key}")).help =
                    Some(format!("add `{key} = \"…\"`, or `{key} = \"*\"` for all"));
            }
            return nothing;
        };
        let Some(text) = self.text_of(item, "a selector") else { return nothing };
        let whole = span_of(item);
        match Selector::parse(&text, subject) {
            Ok(s) => (s, whole),
            Err(e) => {
                // One quotation mark stands before the text of a basic string.
                let from = whole.start + 1 + e.span.start.min(text.len());
                let to = (whole.start + 1 + e.span.end).min(whole.end).max(from);
                self.error("selector", from..to, e.message).help = e.help;
                nothing
            }
        }
    }

    /// The words of a list, each turned by `parse`; complains of those that are not known.
    fn words<T>(&mut self, item: &Item, what: &str, known: &[&str], parse: impl Fn(&str) -> Option<T>) -> Vec<T> {
        let mut found = vec![];
        for (text, span) in self.texts(item, &format!("a list of {what}")) {
            match parse(&text) {
                Some(t) => found.push(t),
                None => {
                    let help = nearest(&text, known.iter().copied())
                        .map_or_else(|| format!("known are {}", wording::list(known)), |k| format!("did you mean `{k}`?"));
                    self.error("unknown-word", span, format!("`{text}` is not one of the {what}")).help = Some(help);
                }
            }
        }
        found
    }

    fn capabilities(&mut self, table: &Table, effect: Effect, head: &Range<usize>) -> Capabilities {
        match table.get("capabilities") {
            Some(item) => {
                let known = Capability::ALL.map(Capability::word);
                Capabilities::of(self.words(item, "capabilities", &known, Capability::from_word))
            }
            None if effect == Effect::Allow => {
                self.error("missing", head.clone(), "this `allow` does not say which capabilities").help =
                    Some("add `capabilities = [\"shell\", …]`: what is not named is not allowed".into());
                Capabilities::NONE
            }
            None => Capabilities::of(Capability::ALL),
        }
    }

    fn accounts(&mut self, table: &Table, effect: Effect, head: &Range<usize>) -> Vec<Arc<str>> {
        match table.get("accounts") {
            Some(item) => self.texts(item, "a list of accounts").into_iter().map(|(t, _)| t.into()).collect(),
            None if effect == Effect::Allow => {
                self.error("missing", head.clone(), "this `allow` does not say which accounts on the machine").help =
                    Some("add `accounts = [\"operator\"]`; the first is used where nobody names one".into());
                vec![]
            }
            None => vec![],
        }
    }

    fn hours_of(&mut self, table: &Table) -> Option<usize> {
        let item = table.get("hours")?;
        let name = self.text_of(item, "the name of hours")?;
        if let Some(at) = self.hours_at.get(&name) {
            return Some(*at);
        }
        let known: Vec<&str> = self.hours_at.keys().map(String::as_str).collect();
        let help = nearest(&name, known.iter().copied())
            .map_or(format!("define them under `[hours]`: `{name} = [\"mon-fri 08:00-18:00\"]`"), |k| format!("did you mean `{k}`?"));
        self.error("unknown-hours", span_of(item), format!("there are no hours `{name}`")).help = Some(help);
        None
    }

    fn networks(&mut self, table: &Table) -> Vec<Network> {
        let Some(item) = table.get("from") else { return vec![] };
        let mut found = vec![];
        for (text, span) in self.texts(item, "a list of address ranges") {
            match Network::parse(&text) {
                Ok(n) => found.push(n),
                Err(why) => {
                    self.error("address", span, why).help = Some("write for instance `10.20.0.0/16` or `2001:db8::/32`".into());
                }
            }
        }
        found
    }

    fn date(&mut self, table: &Table, key: &str) -> Option<Date> {
        let item = table.get(key)?;
        let date = item.as_datetime().and_then(|d| if d.time.is_none() { d.date } else { None });
        let read = date.and_then(|d| Date::new(d.year.try_into().ok()?, d.month.try_into().ok()?, d.day.try_into().ok()?).ok());
        if read.is_none() {
            self.error("date", span_of(item), "this is not a date").help =
                Some("write for instance `2026-12-31`, without quotation marks".into());
        }
        read
    }

    fn demands(&mut self, table: &Table, effect: Effect) -> Demands {
        let mut demands = Demands::default();
        if effect == Effect::Forbid {
            for key in ["factors", "recording", "limits"] {
                if table.contains_key(key) {
                    self.error("misplaced", key_span(table, key), format!("a `forbid` demands nothing: `{key}` has no effect here"));
                }
            }
            return demands;
        }
        if let Some(item) = table.get("factors") {
            demands.factors = Factors::of(self.words(item, "factors", &Factor::ALL.map(Factor::word), Factor::from_word));
        }
        if let Some(item) = table.get("recording") {
            match item.as_bool() {
                Some(b) => demands.recording = b,
                None => self.wrong_type(item, "`true` or `false`"),
            }
        }
        if let Some(item) = table.get("limits") {
            match item.as_table_like() {
                Some(limits) => {
                    self.known_keys(limits, &["session", "idle"], "`limits`");
                    demands.session_limit = self.limit(limits, "session");
                    demands.idle_limit = self.limit(limits, "idle");
                }
                None => self.wrong_type(item, "a table such as `{ session = \"4h\", idle = \"20min\" }`"),
            }
        }
        demands
    }

    fn limit(&mut self, table: &dyn TableLike, key: &str) -> Option<SignedDuration> {
        let item = table.get(key)?;
        let text = self.text_of(item, "a duration such as `\"4h\"`")?;
        let read = parse_duration(&text).filter(|d| *d > SignedDuration::ZERO && *d <= MAX_LIMIT);
        if read.is_none() {
            self.error("duration", span_of(item), format!("`{text}` is not a duration between a second and a year")).help =
                Some("write for instance `30s`, `20min`, `4h` or `1h 30min`".into());
        }
        read
    }

    fn text_of(&mut self, item: &Item, wanted: &str) -> Option<String> {
        let text = item.as_str().map(str::to_string);
        if text.is_none() {
            self.wrong_type(item, wanted);
        }
        text
    }

    /// The texts of a list (or a single text), each with its place.
    fn texts(&mut self, item: &Item, wanted: &str) -> Vec<(String, Range<usize>)> {
        let single = |v: &Value| v.as_str().map(|s| (s.to_string(), v.span().unwrap_or(0..0)));
        let list: Option<Vec<_>> = match item {
            Item::Value(Value::Array(a)) => Array::iter(a).map(single).collect(),
            Item::Value(v) => single(v).map(|s| vec![s]),
            _ => None,
        };
        list.unwrap_or_else(|| {
            self.wrong_type(item, wanted);
            vec![]
        })
    }
}

fn article(noun: &str) -> String {
    let an = noun.starts_with(['a', 'e', 'i', 'o', 'u']);
    format!("{} {noun}", if an { "an" } else { "a" })
}

/// Reads `mon-fri 08:00-18:00`, `sat,sun 10:00-14:00`, `daily 18:00-07:30`.
fn parse_span(text: &str) -> Result<Span, String> {
    let (days, times) = text.split_once(' ').ok_or_else(|| format!("`{text}` does not say which days or which times"))?;
    let (begin, end) = times.trim().split_once('-').ok_or_else(|| format!("`{times}` is not a span of time"))?;
    let (begin_at, end_at) = (minute(begin)?, minute(end)?);
    if begin_at == end_at {
        return Err(format!("`{times}` is empty: for the whole day write `00:00-24:00`"));
    }
    if begin_at == 1440 {
        return Err("a span cannot begin at 24:00: write 00:00 of the next day".into());
    }
    Ok(Span { days: days_of(days)?, begin: begin_at, end: end_at })
}

fn minute(text: &str) -> Result<u16, String> {
    let wrong = || format!("`{text}` is not a time of day");
    let (h, m) = text.trim().split_once(':').ok_or_else(wrong)?;
    let digits = |s: &str| if s.len() == 2 { s.parse::<u16>().ok() } else { None };
    match (digits(h), digits(m)) {
        (Some(h @ 0..24), Some(m @ 0..60)) => Ok(h * 60 + m),
        (Some(24), Some(0)) => Ok(1440),
        _ => Err(wrong()),
    }
}

fn days_of(text: &str) -> Result<u8, String> {
    const DAYS: [&str; 7] = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];
    if text == "daily" {
        return Ok(0x7f);
    }
    let day = |word: &str| DAYS.iter().position(|d| *d == word).ok_or_else(|| format!("`{word}` is not a day of the week"));
    let mut set = 0u8;
    for part in text.split(',') {
        match part.split_once('-') {
            None => set |= 1 << day(part)?,
            Some((first, last)) => {
                let (first, last) = (day(first)?, day(last)?);
                let length = (last + 7 - first) % 7;
                (0..=length).for_each(|i| set |= 1 << ((first + i) % 7));
            }
        }
    }
    Ok(set)
}

/// Reads `90s`, `20min`, `4h`, `1h 30min`.
fn parse_duration(text: &str) -> Option<SignedDuration> {
    let mut total = SignedDuration::ZERO;
    for part in text.split_whitespace() {
        let unit = part.find(|c: char| !c.is_ascii_digit())?;
        let n: i64 = part.get(..unit)?.parse().ok()?;
        let seconds = match part.get(unit..)? {
            "s" => 1,
            "min" => 60,
            "h" => 3600,
            "d" => 86_400,
            _ => return None,
        };
        total = total.checked_add(SignedDuration::from_secs(n.checked_mul(seconds)?))?;
    }
    Some(total)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spans_of_days_and_times() {
        let s = |t: &str| parse_span(t).map(|s| (s.days, s.begin, s.end));
        assert_eq!(s("mon-fri 08:00-18:00"), Ok((0b001_1111, 480, 1080)));
        assert_eq!(s("fri-mon 22:00-24:00"), Ok((0b111_0001, 1320, 1440)));
        assert_eq!(s("sat,sun 10:00-09:30"), Ok((0b110_0000, 600, 570)));
        for bad in ["mon", "mon 8:00-18:00", "mon 08:00-25:00", "mun 08:00-09:00", "daily 08:00-08:00", "daily 24:00-08:00"] {
            assert!(s(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn durations_are_bounded_and_exact() {
        assert_eq!(parse_duration("1h 30min"), Some(SignedDuration::from_mins(90)));
        for bad in ["4", "h", "4 h", "99999999999999999999h", "-4h", "4hours"] {
            assert_eq!(parse_duration(bad), None, "{bad}");
        }
    }
}
