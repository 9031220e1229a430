//! Small boolean expressions over people or machines: `group:night-operators`, `site=ridge & !label:retired`.
//!
//! Grammar: `or := and ("|" and)*`, `and := unary ("&" unary)*`, `unary := "!" unary | "(" or ")" | "*" | atom`,
//! `atom := word (":" | "=") glob`. A glob knows `*` alone. Depth is bounded by [`MAX_DEPTH`], so that a hostile document
//! cannot exhaust the stack.

use crate::policy::Network;
use std::ops::Range;

/// How deep parentheses and `!` may nest. Real selectors nest two or three deep.
pub const MAX_DEPTH: usize = 32;

/// What a selector selects from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Subject {
    /// People: `person`, `group`, `role`, `organisation`, `factor`, `begins`, `ends`.
    People,
    /// Machines: `name`, `label`, `site`, `group`, `owner`, `address`, `posture`, and any label's own key.
    Machines,
}

/// A parsed selector.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Selector {
    /// `*`
    All,
    /// `key:value` or `key=value`
    Atom(Atom),
    /// `!x`
    Not(Box<Selector>),
    /// `a & b`
    And(Vec<Selector>),
    /// `a | b`
    Or(Vec<Selector>),
}

/// One condition of a selector.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Atom {
    /// The word before the sign.
    pub key: String,
    /// The pattern behind it.
    pub value: String,
    /// Whether an equals sign stands between: only so a label's own key can be meant.
    pub own: bool,
    /// Where it stands in the selector, in bytes.
    pub span: Range<usize>,
}

/// Why a selector could not be read, and where (byte range in the selector).
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct SelectorError {
    /// Byte range in the selector.
    pub span: Range<usize>,
    /// What is wrong.
    pub message: String,
    /// What to write instead.
    pub help: Option<String>,
}

/// What people are selected by.
pub const PEOPLE_KEYS: [&str; 7] = ["person", "group", "role", "organisation", "factor", "begins", "ends"];
/// What machines are selected by, besides the keys of their labels.
pub const MACHINE_KEYS: [&str; 7] = ["name", "label", "site", "group", "owner", "address", "posture"];
/// Most conditions in one selector.
pub const MAX_ATOMS: usize = 500;

impl Selector {
    /// Reads a selector.
    ///
    /// # Errors
    /// At the first place that does not fit the grammar or names an unknown key.
    pub fn parse(text: &str, subject: Subject) -> Result<Self, SelectorError> {
        let mut parser = Parser { text, at: 0, subject, atoms: 0 };
        let selector = parser.or(0)?;
        parser.space();
        if parser.at < text.len() {
            return Err(parser.error(
                parser.at..text.len(),
                "this does not belong to the selector",
                Some("join conditions with `&` or `|`"),
            ));
        }
        Ok(selector)
    }

    /// Every atom, in the order written.
    pub fn atoms(&self) -> Vec<&Atom> {
        match self {
            Selector::All => vec![],
            Selector::Atom(a) => vec![a],
            Selector::Not(x) => x.atoms(),
            Selector::And(xs) | Selector::Or(xs) => xs.iter().flat_map(Selector::atoms).collect(),
        }
    }

    /// Whether it holds where `atom` says which conditions hold.
    pub fn holds(&self, atom: &dyn Fn(&Atom) -> bool) -> bool {
        match self {
            Selector::All => true,
            Selector::Atom(a) => atom(a),
            Selector::Not(x) => !x.holds(atom),
            Selector::And(xs) => xs.iter().all(|x| x.holds(atom)),
            Selector::Or(xs) => xs.iter().any(|x| x.holds(atom)),
        }
    }
}

impl Atom {
    /// Whether a person or machine with this property meets the condition. `address` takes a range in CIDR notation beside
    /// globs.
    pub fn meets(&self, key: &str, value: &str) -> bool {
        if self.key != key {
            return false;
        }
        let range = (key == "address").then(|| Network::parse(&self.value).ok()).flatten();
        match (range, value.parse()) {
            (Some(range), Ok(address)) => range.contains(address),
            (Some(_), Err(_)) | (None, _) => glob(&self.value, value),
        }
    }
}

impl std::fmt::Display for Selector {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let join = |f: &mut std::fmt::Formatter<'_>, xs: &[Selector], sign: &str| {
            for (i, x) in xs.iter().enumerate() {
                if i > 0 {
                    f.write_str(sign)?;
                }
                match x {
                    Selector::And(_) | Selector::Or(_) => write!(f, "({x})")?,
                    Selector::All | Selector::Atom(_) | Selector::Not(_) => write!(f, "{x}")?,
                }
            }
            Ok(())
        };
        match self {
            Selector::All => f.write_str("*"),
            Selector::Atom(a) => write!(f, "{}{}{}", a.key, if a.own { '=' } else { ':' }, a.value),
            Selector::Not(x) => match **x {
                Selector::And(_) | Selector::Or(_) => write!(f, "!({x})"),
                Selector::All | Selector::Atom(_) | Selector::Not(_) => write!(f, "!{x}"),
            },
            Selector::And(xs) => join(f, xs, " & "),
            Selector::Or(xs) => join(f, xs, " | "),
        }
    }
}

/// Whether `text` fits `pattern`, in which `*` stands for any run of characters.
pub fn glob(pattern: &str, text: &str) -> bool {
    let mut parts = pattern.split('*');
    let first = parts.next().unwrap_or("");
    let Some(mut rest) = text.strip_prefix(first) else { return false };
    let mut parts: Vec<&str> = parts.collect();
    let Some(last) = parts.pop() else { return rest.is_empty() };
    for part in parts {
        match rest.find(part) {
            Some(i) => rest = rest.get(i + part.len()..).unwrap_or(""),
            None => return false,
        }
    }
    rest.ends_with(last)
}

struct Parser<'a> {
    text: &'a str,
    at: usize,
    subject: Subject,
    atoms: usize,
}

impl Parser<'_> {
    fn error(&self, span: Range<usize>, message: impl Into<String>, help: Option<&str>) -> SelectorError {
        SelectorError { span, message: message.into(), help: help.map(Into::into) }
    }

    fn space(&mut self) {
        let rest = self.text.get(self.at..).unwrap_or("");
        self.at += rest.len() - rest.trim_start().len();
    }

    fn eat(&mut self, c: char) -> bool {
        self.space();
        let hit = self.text.get(self.at..).is_some_and(|r| r.starts_with(c));
        if hit {
            self.at += c.len_utf8();
        }
        hit
    }

    fn or(&mut self, depth: usize) -> Result<Selector, SelectorError> {
        let mut xs = vec![self.and(depth)?];
        while self.eat('|') {
            xs.push(self.and(depth)?);
        }
        Ok(if xs.len() == 1 { xs.remove(0) } else { Selector::Or(xs) })
    }

    fn and(&mut self, depth: usize) -> Result<Selector, SelectorError> {
        let mut xs = vec![self.unary(depth)?];
        while self.eat('&') {
            xs.push(self.unary(depth)?);
        }
        Ok(if xs.len() == 1 { xs.remove(0) } else { Selector::And(xs) })
    }

    fn unary(&mut self, depth: usize) -> Result<Selector, SelectorError> {
        if depth > MAX_DEPTH {
            return Err(self.error(self.at..self.at + 1, format!("nested deeper than {MAX_DEPTH}"), None));
        }
        if self.eat('!') {
            return Ok(Selector::Not(Box::new(self.unary(depth + 1)?)));
        }
        if self.eat('(') {
            let inner = self.or(depth + 1)?;
            if !self.eat(')') {
                return Err(self.error(self.at..self.at + 1, "a parenthesis is not closed", Some("add `)`")));
            }
            return Ok(inner);
        }
        if self.eat('*') {
            return Ok(Selector::All);
        }
        self.atom()
    }

    fn atom(&mut self) -> Result<Selector, SelectorError> {
        let start = self.at;
        let rest = self.text.get(start..).unwrap_or("");
        let end = rest.find(|c: char| c.is_whitespace() || "&|!()".contains(c)).unwrap_or(rest.len());
        let word = rest.get(..end).unwrap_or("");
        let span = start..start + end.max(1);
        self.at = start + end;
        self.atoms += 1;
        if self.atoms > MAX_ATOMS {
            return Err(self.error(span, format!("there are more than {MAX_ATOMS} conditions"), Some("make a group of them")));
        }
        let (keys, example): (&[&str], _) = match self.subject {
            Subject::People => (&PEOPLE_KEYS, "group:night-operators"),
            Subject::Machines => (&MACHINE_KEYS, "site=ridge"),
        };
        let Some((key, value)) = word.split_once([':', '=']) else {
            let help = format!("write a condition such as `{example}`, or `*` for all");
            let what = if word.is_empty() { "a condition is missing here".into() } else { format!("`{word}` is not a condition") };
            return Err(self.error(span, what, Some(&help)));
        };
        let own_label = self.subject == Subject::Machines && word.contains('=');
        if !keys.contains(&key) && !own_label {
            let help = crate::diagnostic::nearest(key, keys.iter().copied())
                .map_or_else(|| format!("known are {}", crate::wording::list(keys)), |k| format!("did you mean `{k}`?"));
            return Err(self.error(span, format!("`{key}` is not something to select by"), Some(&help)));
        }
        if value.is_empty() {
            return Err(self.error(span, format!("`{key}` has no value"), Some(&format!("write a condition such as `{example}`"))));
        }
        Ok(Selector::Atom(Atom { key: key.into(), value: value.into(), own: word.contains('='), span }))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Whether a thing with these properties is selected.
    fn selects(text: &str, subject: Subject, properties: &[(&str, &str)]) -> bool {
        Selector::parse(text, subject).unwrap().holds(&|a| properties.iter().any(|(k, v)| a.meets(k, v)))
    }

    #[test]
    fn machines_are_selected_by_site_label_address_and_globs() {
        let east = [
            ("name", "dome-east"),
            ("site", "ridge"),
            ("label", "dome"),
            ("label", "tier=1"),
            ("label", "tier"),
            ("tier", "1"),
            ("address", "10.20.3.4"),
        ];
        let old = [("name", "dome-old"), ("site", "ridge"), ("label", "dome"), ("label", "retired"), ("address", "dome-old.example")];
        let table = [
            ("*", true, true),
            ("site=ridge & !label:retired", true, false),
            ("name:dome-* & (label:tier | label:retired)", true, true),
            ("tier=1", true, false),
            ("label:tier=1", true, false),
            ("!(name:*-east | name:*old)", false, false),
            ("site=valley", false, false),
            ("owner=*", false, false),
            ("address:10.20.0.0/16", true, false),
            ("address:10.21.0.0/16", false, false),
            ("address:*.example", false, true),
        ];
        for (text, a, b) in table {
            assert_eq!((selects(text, Subject::Machines, &east), selects(text, Subject::Machines, &old)), (a, b), "{text}");
        }
    }

    #[test]
    fn a_selector_written_out_reads_as_itself() {
        for text in ["*", "group:a & !role:b", "(person:a | !(group:b & ends:2026-*)) & factor:code", "!!*"] {
            let read = Selector::parse(text, Subject::People).unwrap();
            assert_eq!(read.to_string(), text);
        }
        assert_eq!(Selector::parse("site=ridge & tier=1", Subject::Machines).unwrap().to_string(), "site=ridge & tier=1");
    }

    #[test]
    fn conditions_have_a_limit() {
        let row = |n: usize| vec!["person:a"; n].join(" | ");
        assert!(Selector::parse(&row(MAX_ATOMS), Subject::People).is_ok());
        assert!(Selector::parse(&row(MAX_ATOMS + 1), Subject::People).is_err());
    }

    #[test]
    fn mistakes_are_placed_and_explained() {
        let table = [
            ("grp:x", Subject::People, 0..5, "`grp` is not something to select by"),
            ("group:a b", Subject::People, 8..9, "this does not belong to the selector"),
            ("(group:a", Subject::People, 8..9, "a parenthesis is not closed"),
            ("group:a &", Subject::People, 9..10, "a condition is missing here"),
            ("ridge", Subject::Machines, 0..5, "`ridge` is not a condition"),
            ("site=", Subject::Machines, 0..5, "`site` has no value"),
        ];
        for (text, subject, span, message) in table {
            let e = Selector::parse(text, subject).unwrap_err();
            assert_eq!((e.span.clone(), e.message.as_str()), (span, message), "{text}");
        }
    }

    #[test]
    fn nesting_has_a_limit() {
        let nested = |n: usize| "!".repeat(n) + "*";
        assert!(Selector::parse(&nested(MAX_DEPTH), Subject::People).is_ok());
        assert!(Selector::parse(&nested(MAX_DEPTH + 2), Subject::People).is_err());
    }

    proptest! {
        #[test]
        fn any_text_is_read_or_refused_without_a_panic(text in ".{0,60}") {
            if let Err(e) = Selector::parse(&text, Subject::Machines) {
                prop_assert!(e.span.start <= text.len());
            }
        }

        #[test]
        fn a_glob_agrees_with_a_plain_search(a in "[ab]{0,3}", b in "[ab]{0,3}", text in "[ab]{0,8}") {
            let naive = text.starts_with(&a) && text.ends_with(&b) && text.len() >= a.len() + b.len();
            prop_assert_eq!(glob(&format!("{a}*{b}"), &text), naive);
        }
    }
}
