//! Reads the rule document, with the place of everything that is wrong in it.

mod case;
mod demand;
mod rule;
pub(crate) mod value;

use super::document::{Approval, Document, Effect, Hours, Place, Rule};
use crate::diagnostic::{Diagnostic, nearest, odd_letter};
use crate::wording;
use jiff::tz::TimeZone;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use toml_edit::{Array, Item, Table, TableLike, Value};

/// Longest document that is read: 2,000 rules of 400 bytes are well under it.
pub const MAX_DOCUMENT: usize = 4 << 20;
/// Most rules in a document, guardrails and cases included.
pub const MAX_RULES: usize = 20_000;
/// Most spans, exceptions or additions of one set of hours: a week has 168 hours.
const MAX_SPANS: usize = 200;
/// Most sets of hours: each keeps its intervals of two years at hand.
const MAX_HOURS: usize = 500;
/// Most address ranges in one `from`.
const MAX_NETWORKS: usize = 200;
/// Most targets of one rule, and most different ones of a document: each may be told apart from every other.
const MAX_TARGETS: usize = 64;
const MAX_ALL_TARGETS: usize = 500;
/// Most different conditions of time (hours, first and last day together) in a document: whatever is computed for a span of time
/// cuts it at each of their edges.
pub const MAX_GATES: usize = 1_000;
/// Most different address ranges in a document: each may be told apart from every other.
pub const MAX_RANGES: usize = 1_000;
/// After so many errors the rest of the document is not looked at.
const MAX_ERRORS: usize = 100;
/// Longest name of a rule, of hours or of a case.
const MAX_NAME: usize = 64;

/// Reads a rule document.
///
/// The document is there when nothing in it is an error; warnings may stand beside it.
///
/// # Errors
/// All that is wrong, in the order of the text; of a hopeless document the first hundred.
pub fn read(text: &str) -> Result<Document, Vec<Diagnostic>> {
    if text.len() > MAX_DOCUMENT {
        return Err(vec![Diagnostic::error("policy/too-long", 0..0, format!("the document is longer than {MAX_DOCUMENT} bytes"))]);
    }
    let parsed = toml_edit::Document::parse(text).map_err(|e| {
        let span = e.span().unwrap_or(0..0);
        vec![Diagnostic::error("policy/syntax", span, e.message().trim().replace('\n', "; "))]
    })?;
    let mut reader = Reader::new(text);
    let document = reader.document(parsed.as_table());
    if reader.errors.is_empty() {
        return Ok(document);
    }
    reader.errors.sort_by_key(|e| e.span.start);
    Err(reader.errors)
}

struct Reader<'a> {
    text: &'a str,
    /// Byte offset at which each line begins.
    lines: Vec<usize>,
    errors: Vec<Diagnostic>,
    zone: TimeZone,
    hours: Vec<Hours>,
    hours_at: HashMap<String, usize>,
    approvals: Vec<Approval>,
    tickets: Vec<Arc<str>>,
}

fn span_of(item: &Item) -> Place {
    item.span().unwrap_or(0..0)
}

fn key_span(table: &dyn TableLike, key: &str) -> Place {
    table.get_key_value(key).and_then(|(k, _)| k.span()).unwrap_or(0..0)
}

fn article(noun: &str) -> String {
    let an = noun.starts_with(['a', 'e', 'i', 'o', 'u']);
    format!("{} {noun}", if an { "an" } else { "a" })
}

impl<'a> Reader<'a> {
    fn new(text: &'a str) -> Self {
        let lines = std::iter::once(0).chain(memchr::memchr_iter(b'\n', text.as_bytes()).map(|i| i + 1)).collect();
        Self {
            text,
            lines,
            errors: vec![],
            zone: TimeZone::UTC,
            hours: vec![],
            hours_at: HashMap::new(),
            approvals: vec![],
            tickets: vec![],
        }
    }

    fn line(&self, offset: usize) -> usize {
        self.lines.partition_point(|l| *l <= offset)
    }

    fn error(&mut self, code: &str, span: Place, message: impl Into<String>) -> &mut Diagnostic {
        let at = self.errors.len();
        self.errors.push(Diagnostic::error(&format!("policy/{code}"), span, message));
        &mut self.errors[at..][0]
    }

    /// Whether so much is wrong that the rest need not be looked at.
    fn hopeless(&self) -> bool {
        self.errors.len() >= MAX_ERRORS
    }

    fn wrong_type(&mut self, item: &Item, wanted: &str) {
        self.error("type", span_of(item), format!("this is {}, and {wanted} is wanted", article(item.type_name())));
    }

    /// Complains of every key that is not known.
    fn known_keys(&mut self, table: &dyn TableLike, known: &[&str], place: &str) {
        let unknown: Vec<String> =
            table.iter().map(|(k, _)| k.to_string()).filter(|k| !known.contains(&k.as_str())).take(MAX_ERRORS).collect();
        for key in unknown {
            let span = key_span(table, &key);
            let help = nearest(&key, known.iter().copied())
                .map_or_else(|| format!("{place} knows {}", wording::list(known)), |k| format!("did you mean `{k}`?"));
            self.error("unknown-key", span, format!("`{key}` is not known here")).help = Some(help);
        }
    }

    fn document(&mut self, root: &Table) -> Document {
        self.known_keys(root, &["zone", "home", "second_person", "hours", "allow", "forbid", "require", "never", "test"], "the document");
        if let Some(item) = root.get("zone") {
            self.zone = self.zone_of(item).unwrap_or(TimeZone::UTC);
        }
        let home =
            root.get("home").map_or(vec![], |item| self.texts(item, "a list of organisations").into_iter().map(|(t, _)| t).collect());
        let second_person = root.get("second_person").is_some_and(|item| self.flag(item));
        if let Some(item) = root.get("hours") {
            match item.as_table_like() {
                Some(table) => self.all_hours(table),
                None => self.wrong_type(item, "a table of named hours"),
            }
        }
        let (mut rules, mut guards, mut cases, mut left) = (vec![], vec![], vec![], MAX_RULES);
        for effect in Effect::ALL {
            for table in self.tables(root, effect.word(), &mut left) {
                if self.hopeless() {
                    break;
                }
                if effect == Effect::Never {
                    guards.extend(self.guard(table));
                } else {
                    rules.extend(self.rule(effect, table));
                }
            }
        }
        for table in self.tables(root, "test", &mut left) {
            if self.hopeless() {
                break;
            }
            cases.extend(self.case(table));
        }
        rules.sort_by_key(|r| r.span.start);
        let named = |r: &Rule| (r.name.clone(), r.line, r.span.clone());
        let names: Vec<_> = rules.iter().map(named).chain(guards.iter().map(|g: &super::document::Guard| named(&g.rule))).collect();
        self.unique_names(names);
        self.few_conditions(rules.iter().chain(guards.iter().map(|g: &super::document::Guard| &g.rule)));
        self.unique_names(cases.iter().map(|c: &super::document::Case| (c.name.clone(), c.line, c.span.clone())).collect());
        if self.hopeless() {
            let span = self.errors.last().map_or(0..0, |e| e.span.clone());
            self.error("too-many", span, "there are too many errors: the rest was not looked at");
        }
        Document {
            zone: self.zone.clone(),
            home,
            second_person,
            hours: std::mem::take(&mut self.hours),
            rules,
            guards,
            cases,
            approvals: std::mem::take(&mut self.approvals),
            tickets: std::mem::take(&mut self.tickets),
        }
    }

    /// What is computed over time and addresses grows with how many different conditions there are.
    fn few_conditions<'r>(&mut self, rules: impl Iterator<Item = &'r Rule>) {
        let (mut gates, mut ranges, mut targets) = (HashSet::new(), HashSet::new(), HashSet::new());
        for rule in rules {
            gates.insert((rule.hours, rule.first_day, rule.last_day));
            ranges.extend(rule.from.within.iter().chain(&rule.from.except).copied());
            targets.extend(rule.targets.texts().cloned());
            let what = match () {
                () if gates.len() > MAX_GATES => format!("there are more than {MAX_GATES} different combinations of hours and days"),
                () if ranges.len() > MAX_RANGES => format!("there are more than {MAX_RANGES} different address ranges"),
                () if targets.len() > MAX_ALL_TARGETS => format!("there are more than {MAX_ALL_TARGETS} different targets"),
                () => continue,
            };
            self.error("too-many", rule.span.clone(), what).help =
                Some("give rules the same hours, days and ranges where they mean the same".into());
            return;
        }
    }

    /// The tables of one kind, as far as the document may have more of them.
    fn tables<'t>(&mut self, root: &'t Table, word: &str, left: &mut usize) -> Vec<&'t Table> {
        let Some(item) = root.get(word) else { return vec![] };
        let Some(tables) = item.as_array_of_tables() else {
            self.error("type", key_span(root, word), "rules are written as tables of their own").help =
                Some(format!("begin each with `[[{word}]]`"));
            return vec![];
        };
        if let Some(first_too_many) = tables.iter().nth(*left) {
            self.error("too-many", first_too_many.span().unwrap_or(0..0), format!("there are more than {MAX_RULES} rules and tests"));
        }
        let taken: Vec<&Table> = tables.iter().take(*left).collect();
        *left -= taken.len();
        taken
    }

    fn unique_names(&mut self, named: Vec<(Arc<str>, usize, Place)>) {
        let mut seen: HashMap<Arc<str>, usize> = HashMap::new();
        let mut sorted = named;
        sorted.sort_by_key(|(_, line, _)| *line);
        for (name, line, span) in sorted {
            match seen.get(&name) {
                Some(first) if !self.hopeless() => {
                    self.error("name-twice", span, format!("the name `{name}` is given twice, first on line {first}")).help =
                        Some("decisions and findings cite rules by name: give this one its own".into());
                }
                Some(_) => {}
                None => drop(seen.insert(name, line)),
            }
        }
    }

    /// A name: plain letters, so that no two that look alike are different.
    fn name_of(&mut self, text: String, span: Place) -> Option<Arc<str>> {
        let plain = |c: char| c.is_ascii_alphanumeric() || "-_. ".contains(c);
        let fine = !text.trim().is_empty() && text.len() <= MAX_NAME && text.chars().all(plain) && text.trim() == text;
        if fine {
            return Some(text.into());
        }
        let help = odd_letter(&text).unwrap_or_else(|| "write for instance `night-dome`".into());
        let what = format!("a name is 1 to {MAX_NAME} plain letters, digits, `-`, `_`, `.` and blanks");
        self.error("name", span, what).help = Some(help);
        None
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
        if names.len() > MAX_HOURS {
            self.error("too-many", key_span(table, &names[MAX_HOURS..][0]), format!("there are more than {MAX_HOURS} sets of hours"));
        }
        for name in names.into_iter().take(MAX_HOURS) {
            let Some(item) = table.get(&name) else { continue };
            let key = key_span(table, &name);
            let Some(shown) = self.name_of(name.clone(), key.clone()) else { continue };
            let mut hours =
                Hours { name: shown, zone: self.zone.clone(), spans: vec![], except: vec![], also: vec![], line: self.line(key.start) };
            if let Some(inner) = item.as_table_like() {
                self.known_keys(inner, &["zone", "spans", "except", "also"], "a set of hours");
                if let Some(z) = inner.get("zone") {
                    hours.zone = self.zone_of(z).unwrap_or(hours.zone);
                }
                const WEEKLY: &str = "write for instance `mon-fri 08:00-18:00` or `daily 18:00-07:30`";
                const DATED: &str = "write for instance `2026-12-25` or `2026-12-24..2027-01-02 12:00-18:00`";
                hours.spans = inner.get("spans").map_or(vec![], |i| self.spans(i, value::parse_span, WEEKLY));
                hours.except = inner.get("except").map_or(vec![], |i| self.spans(i, value::parse_dated, DATED));
                hours.also = inner.get("also").map_or(vec![], |i| self.spans(i, value::parse_dated, DATED));
                if !inner.contains_key("spans") && !inner.contains_key("also") {
                    self.error("missing", key, format!("the hours `{name}` have neither `spans` nor `also`"));
                }
            } else {
                hours.spans = self.spans(item, value::parse_span, "write for instance `mon-fri 08:00-18:00` or `daily 18:00-07:30`");
            }
            self.hours_at.insert(name, self.hours.len());
            self.hours.push(hours);
        }
    }

    fn spans<T>(&mut self, item: &Item, parse: impl Fn(&str) -> Result<T, String>, help: &str) -> Vec<T> {
        let texts = self.texts(item, "a list of spans");
        if texts.len() > MAX_SPANS {
            self.error("too-many", span_of(item), format!("there are more than {MAX_SPANS} spans"));
        }
        let mut spans = vec![];
        for (text, span) in texts.into_iter().take(MAX_SPANS) {
            match parse(&text) {
                Ok(s) => spans.push(s),
                Err(why) => self.error("hours", span, why).help = Some(help.into()),
            }
        }
        spans
    }

    /// The words of a list, each turned by `parse`; complains of those that are not known.
    fn words<T>(&mut self, item: &Item, what: &str, known: &[&str], parse: impl Fn(&str) -> Option<T>) -> Vec<T> {
        let mut found = vec![];
        for (text, span) in self.texts(item, &format!("a list of {what}")) {
            match parse(&text) {
                Some(t) => found.push(t),
                None => self.unknown_word(&text, span, what, known),
            }
        }
        found
    }

    fn unknown_word(&mut self, text: &str, span: Place, what: &str, known: &[&str]) {
        let help = nearest(text, known.iter().copied())
            .map_or_else(|| format!("known are {}", wording::list(known)), |k| format!("did you mean `{k}`?"));
        self.error("unknown-word", span, format!("`{text}` is not one of the {what}")).help = Some(help);
    }

    fn flag(&mut self, item: &Item) -> bool {
        item.as_bool().unwrap_or_else(|| {
            self.wrong_type(item, "`true` or `false`");
            false
        })
    }

    fn text_of(&mut self, item: &Item, wanted: &str) -> Option<String> {
        let text = item.as_str().map(str::to_string);
        if text.is_none() {
            self.wrong_type(item, wanted);
        }
        text
    }

    /// The texts of a list (or a single text), each with its place.
    fn texts(&mut self, item: &Item, wanted: &str) -> Vec<(String, Place)> {
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
