//! Errors and warnings that point into a text: file, line, column, a caret and what to do.

use std::fmt::Write as _;
use std::ops::Range;

/// How much a diagnostic matters: a document with an error cannot be published.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// Worth a look; the document can be used.
    Warning,
    /// The document cannot be used.
    Error,
}

/// One thing that is wrong at one place of a text.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Diagnostic {
    /// Stable code, for instance `policy/unknown-group`; each has a paragraph in docs/policy.md.
    pub code: String,
    /// Error or warning.
    pub severity: Severity,
    /// Byte range in the text.
    pub span: Range<usize>,
    /// What is wrong, in one sentence without a full stop.
    pub message: String,
    /// What to do about it.
    pub help: Option<String>,
}

impl Diagnostic {
    /// An error at a place of the text.
    pub fn error(code: &str, span: Range<usize>, message: impl Into<String>) -> Self {
        Self { code: code.into(), severity: Severity::Error, span, message: message.into(), help: None }
    }

    /// A warning at a place of the text.
    pub fn warning(code: &str, span: Range<usize>, message: impl Into<String>) -> Self {
        Self { severity: Severity::Warning, ..Self::error(code, span, message) }
    }

    /// Adds what to do about it.
    #[must_use]
    pub fn help(mut self, help: impl Into<String>) -> Self {
        self.help = Some(help.into());
        self
    }

    /// Renders the diagnostic with its source line and a caret, ending in a line feed.
    pub fn render(&self, file: &str, text: &str) -> String {
        let (line, column) = position(text, self.span.start);
        let source = text.lines().nth(line - 1).unwrap_or("");
        let room = source.chars().count().saturating_sub(column - 1).max(1);
        let width = text.get(self.span.clone()).map_or(1, |s| s.lines().next().unwrap_or("").chars().count()).clamp(1, room);
        let word = match self.severity {
            Severity::Warning => "warning",
            Severity::Error => "error",
        };
        let gutter = " ".repeat(line.to_string().len());
        let mut out = format!("{word}[{}]: {}\n", self.code, self.message);
        let _ = writeln!(out, "{gutter}--> {file}:{line}:{column}");
        let _ = writeln!(out, "{gutter} |\n{line} | {}", printable(source));
        let _ = writeln!(out, "{gutter} | {}{}", " ".repeat(column - 1), "^".repeat(width));
        if let Some(help) = &self.help {
            let _ = writeln!(out, "{gutter} = help: {help}");
        }
        out
    }
}

/// Line and column (both from 1, the column in characters) of a byte offset.
pub fn position(text: &str, offset: usize) -> (usize, usize) {
    let mut end = offset.min(text.len());
    while !text.is_char_boundary(end) {
        end -= 1;
    }
    let before = text.get(..end).unwrap_or("");
    let line = before.matches('\n').count() + 1;
    let column = before.rsplit('\n').next().unwrap_or("").chars().count() + 1;
    (line, column)
}

/// The text with every control character replaced by a visible one, so that it can be shown on a terminal or page.
pub fn printable(text: &str) -> String {
    if text.bytes().all(|b| (0x20..0x7f).contains(&b)) {
        return text.into();
    }
    text.chars()
        .map(|c| match c {
            '\t' => ' ',
            c if (c as u32) < 0x20 => char::from_u32(0x2400 + c as u32).unwrap_or('?'),
            '\u{7f}' => '\u{2421}',
            // C1 controls and the marks that reorder text.
            '\u{80}'..='\u{9f}' | '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' => '\u{fffd}',
            c => c,
        })
        .collect()
}

/// Which letter of the text is no plain one, and looks as if it were.
pub fn odd_letter(text: &str) -> Option<String> {
    let odd = text.chars().find(|c| !c.is_ascii())?;
    Some(format!("`{}` is U+{:04X}, which may look like another letter", printable(&odd.to_string()), odd as u32))
}

/// Longer words are no slip of the pen, and comparing them would take long.
const MAX_WORD: usize = 100;

/// The candidate closest to `word`, if it is close enough to be what was meant.
pub fn nearest<'a>(word: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    if word.len() > MAX_WORD {
        return None;
    }
    let limit = (word.chars().count() / 3).max(1);
    let close = |c: &&str| c.len().abs_diff(word.len()) <= 4 * limit;
    candidates.into_iter().filter(close).map(|c| (edit_distance(word, c), c)).filter(|(d, _)| *d <= limit).min().map(|(_, c)| c)
}

fn edit_distance(a: &str, b: &str) -> usize {
    let b: Vec<char> = b.chars().collect();
    let mut row: Vec<usize> = (0..=b.len()).collect();
    for (i, ca) in a.chars().enumerate() {
        let mut diagonal = i;
        let mut left = i + 1;
        for (cell, cb) in row.iter_mut().skip(1).zip(&b) {
            let next = (diagonal + usize::from(ca != *cb)).min(*cell + 1).min(left + 1);
            diagonal = *cell;
            *cell = next;
            left = next;
        }
        if let Some(first) = row.first_mut() {
            *first = i + 1;
        }
    }
    row.last().copied().unwrap_or(0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_rendered_error_shows_line_column_caret_and_help() {
        let text = "zone = \"UTC\"\npeople = \"group:nigth\"\n";
        let at = text.find("group:nigth").unwrap();
        let shown = Diagnostic::error("policy/unknown-group", at..at + 11, "there is no group `nigth`")
            .help("did you mean `night`?")
            .render("rules.toml", text);
        assert_eq!(
            shown,
            "error[policy/unknown-group]: there is no group `nigth`\n --> rules.toml:2:11\n  |\n2 | people = \"group:nigth\"\n  |           ^^^^^^^^^^^\n  = help: did you mean `night`?\n"
        );
    }

    #[test]
    fn nearest_finds_slips_and_refuses_strangers() {
        assert_eq!(nearest("nigth-operators", ["night-operators", "day-operators"]), Some("night-operators"));
        assert_eq!(nearest("zebra", ["night-operators"]), None);
        assert_eq!(edit_distance("kitten", "sitting"), 3);
    }

    #[test]
    fn control_characters_never_survive() {
        assert_eq!(printable("a\u{1b}[31m\u{202e}b"), "a\u{241b}[31m\u{fffd}b");
    }
}
