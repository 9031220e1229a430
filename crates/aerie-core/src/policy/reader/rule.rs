//! Reads one rule or guardrail.

use super::{MAX_NETWORKS, MAX_TARGETS, Reader, key_span, span_of};
use crate::diagnostic::nearest;
use crate::directory::selector::{Selector, Subject};
use crate::policy::document::{Effect, Guard, Network, Place, Rule, Sources};
use crate::policy::{Capabilities, Capability, Targets};
use jiff::civil::Date;
use std::sync::Arc;
use toml_edit::{Item, Table};

const RULE_KEYS: [&str; 11] =
    ["name", "note", "people", "machines", "capabilities", "accounts", "targets", "hours", "from", "first_day", "last_day"];

impl Reader<'_> {
    /// The place of a table's head: its first line.
    pub(super) fn head(&self, table: &Table) -> Place {
        let span = table.span().unwrap_or(0..0);
        span.start..self.text.get(span.start..).and_then(|t| t.find('\n')).map_or(span.end, |n| span.start + n)
    }

    pub(super) fn named(&mut self, table: &Table, head: &Place, word: &str) -> Option<Arc<str>> {
        match table.get("name") {
            Some(item) => {
                let text = self.text_of(item, "a name")?;
                self.name_of(text, span_of(item))
            }
            None => {
                self.error("missing", head.clone(), format!("this `{word}` has no name")).help =
                    Some("add `name = \"…\"`: decisions and findings cite rules by name".into());
                None
            }
        }
    }

    pub(super) fn rule(&mut self, effect: Effect, table: &Table) -> Option<Rule> {
        let mut known = RULE_KEYS.to_vec();
        match effect {
            Effect::Allow => known.extend(super::demand::KEYS.iter().chain(&["emergency"])),
            Effect::Require => known.extend(super::demand::KEYS),
            Effect::Never => known.push("unless"),
            Effect::Forbid => {}
        }
        let misplaced = if matches!(effect, Effect::Forbid | Effect::Never) { &super::demand::KEYS[..] } else { &[] };
        for key in misplaced.iter().filter(|k| table.contains_key(k)) {
            let help = match effect {
                Effect::Never => format!("a demand that makes it harmless stands under `unless = {{ {key} = … }}`"),
                Effect::Allow | Effect::Forbid | Effect::Require => "write a `require` for it".into(),
            };
            let message = format!("a `{}` demands nothing: `{key}` has no effect here", effect.word());
            self.error("misplaced", key_span(table, key), message).help = Some(help);
            known.push(key);
        }
        let before = self.errors.len();
        self.known_keys(table, &known, &format!("a rule `{}`", effect.word()));
        let head = self.head(table);
        let name = self.named(table, &head, effect.word())?;
        let rule = Rule {
            effect,
            name,
            note: table.get("note").and_then(|i| self.text_of(i, "a text")).map(Into::into),
            line: self.line(head.start),
            people: self.selector(table, "people", Subject::People, effect, &head),
            machines: self.selector(table, "machines", Subject::Machines, effect, &head),
            capabilities: self.capabilities(table, effect, &head),
            accounts: self.accounts(table, effect, &head),
            targets: self.targets(table, effect),
            hours: self.hours_of(table),
            from: self.sources(table),
            first_day: self.date(table, "first_day"),
            last_day: self.date(table, "last_day"),
            demands: if misplaced.is_empty() { self.demands(table) } else { Default::default() },
            emergency: table.get("emergency").is_some_and(|i| self.flag(i)),
            span: head,
        };
        (self.errors.len() == before).then_some(rule)
    }

    pub(super) fn guard(&mut self, table: &Table) -> Option<Guard> {
        let rule = self.rule(Effect::Never, table)?;
        let unless = match table.get("unless") {
            None => None,
            Some(item) => match item.as_table_like() {
                Some(inner) => {
                    self.known_keys(inner, &super::demand::KEYS, "`unless`");
                    Some(self.demands(inner))
                }
                None => {
                    self.wrong_type(item, "a table of demands such as `{ factors = [\"code\"] }`");
                    None
                }
            },
        };
        Some(Guard { rule, unless })
    }

    /// Reads a selector that stands as a text at this place.
    pub(super) fn parse_selector(&mut self, text: &str, whole: &Place, subject: Subject) -> Option<Selector> {
        match Selector::parse(text, subject) {
            Ok(s) => Some(s),
            Err(e) => {
                // One quotation mark stands before the text of a basic string.
                let from = whole.start + 1 + e.span.start.min(text.len());
                let to = (whole.start + 1 + e.span.end).min(whole.end).max(from);
                self.error("selector", from..to, e.message).help = e.help;
                None
            }
        }
    }

    fn selector(&mut self, table: &Table, key: &str, subject: Subject, effect: Effect, head: &Place) -> (Selector, Place) {
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
        self.parse_selector(&text, &whole, subject).map_or(nothing, |s| (s, whole))
    }

    fn capabilities(&mut self, table: &Table, effect: Effect, head: &Place) -> Capabilities {
        match table.get("capabilities") {
            Some(item) => self.capability_words(item),
            None if effect == Effect::Allow => {
                self.error("missing", head.clone(), "this `allow` does not say which capabilities").help =
                    Some("add `capabilities = [\"shell\", …]`: what is not named is not allowed".into());
                Capabilities::NONE
            }
            None => Capabilities::all(),
        }
    }

    pub(super) fn capability_words(&mut self, item: &Item) -> Capabilities {
        let known = Capability::ALL.map(Capability::word);
        Capabilities::of(self.words(item, "capabilities", &known, Capability::from_word))
    }

    fn accounts(&mut self, table: &Table, effect: Effect, head: &Place) -> Vec<Arc<str>> {
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

    fn targets(&mut self, table: &Table, effect: Effect) -> Targets {
        let Some(item) = table.get("targets") else { return Targets::default() };
        let texts = self.texts(item, "a list of targets");
        if texts.len() > MAX_TARGETS {
            self.error("too-many", span_of(item), format!("there are more than {MAX_TARGETS} targets"));
            return Targets::default();
        }
        let forwards = table.get("capabilities").map_or(effect != Effect::Allow, |c| {
            c.as_array().is_some_and(|all| all.iter().any(|v| v.as_str() == Some(Capability::Forward.word())))
        });
        if !forwards {
            self.error("misplaced", key_span(table, "targets"), "targets are of forwarded ports, and this rule does not name `forward`")
                .help = Some("add `forward` to its capabilities, or leave the targets out".into());
        }
        match Targets::read(texts.iter().map(|(t, _)| t.as_str())) {
            // A list that names nothing would mean everything in some rules.
            Ok(targets) if targets.is_unsaid() => {
                self.error("target", span_of(item), "this list names no target").help =
                    Some("leave `targets` out for the machine itself, or write for instance `localhost:5432`".into());
                targets
            }
            Ok(targets) => targets,
            Err(wrong) => {
                let span = texts.iter().find(|(t, _)| *t == wrong).map_or(span_of(item), |(_, s)| s.clone());
                self.error("target", span, format!("`{wrong}` is not a target")).help =
                    Some("write HOST:PORT, for instance `localhost:5432`, `10.20.0.0/16:443` or `*.ridge.example:8000-8100`".into());
                Targets::default()
            }
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

    fn sources(&mut self, table: &Table) -> Sources {
        let mut sources = Sources::default();
        let Some(item) = table.get("from") else { return sources };
        let texts = self.texts(item, "a list of address ranges");
        if texts.len() > MAX_NETWORKS {
            self.error("too-many", span_of(item), format!("there are more than {MAX_NETWORKS} address ranges"));
        }
        for (text, span) in texts.into_iter().take(MAX_NETWORKS) {
            let (range, list) = match text.strip_prefix('!') {
                Some(rest) => (rest, &mut sources.except),
                None => (text.as_str(), &mut sources.within),
            };
            match Network::parse(range) {
                Ok(n) => list.push(n),
                Err(why) => {
                    self.error("address", span, why).help =
                        Some("write for instance `10.20.0.0/16`, `2001:db8::/32` or `!10.20.9.0/24`".into());
                }
            }
        }
        sources
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
}
