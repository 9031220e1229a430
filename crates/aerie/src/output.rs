//! All output goes through here: tables for people, JSON for programs.

use crate::Failure;
use serde::Serialize;
use std::io::{IsTerminal as _, Write as _};

/// Prints for people or for programs.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Printer {
    /// JSON instead of text.
    pub json: bool,
}

/// How a column is set.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Align {
    /// Text.
    Left,
    /// Numbers.
    Right,
}

impl Printer {
    /// The value as JSON, or what `text` makes of it.
    pub(crate) fn value<T: Serialize>(&self, value: &T, text: impl FnOnce(&T) -> String) -> Result<(), Failure> {
        if self.json {
            let json = serde_json::to_string_pretty(value).map_err(|e| Failure::internal(e.to_string()))?;
            self.line(&json);
        } else {
            self.line(text(value).trim_end());
        }
        Ok(())
    }

    /// A line on standard output. Whoever stops reading ends the program quietly.
    pub(crate) fn line(&self, text: &str) {
        let mut out = anstream::stdout().lock();
        if writeln!(out, "{text}").and_then(|()| out.flush()).is_err() {
            std::process::exit(0);
        }
    }

    /// A remark on standard error.
    pub(crate) fn remark(&self, text: &str) {
        eprintln!("{text}");
    }
}

/// Whether somebody can be asked.
pub(crate) fn can_ask() -> bool {
    std::io::stdin().is_terminal()
}

/// Columns of the terminal; none where output goes elsewhere, and then nothing is wrapped.
fn columns() -> Option<usize> {
    std::io::stdout().is_terminal().then(terminal_size::terminal_size).flatten().map(|(w, _)| usize::from(w.0))
}

/// A text behind a lead, wrapped to the terminal with its further lines under its first.
pub(crate) fn hanging(lead: &str, text: &str) -> String {
    hang(lead, text, columns())
}

fn hang(lead: &str, text: &str, columns: Option<usize>) -> String {
    let indent = lead.chars().count();
    let room = match columns {
        Some(c) if c > indent + 20 => c - indent,
        Some(_) | None => return format!("{lead}{text}"),
    };
    let (mut lines, mut line) = (vec![], String::new());
    for word in text.split(' ') {
        if !line.is_empty() && line.chars().count() + 1 + word.chars().count() > room {
            lines.push(std::mem::take(&mut line));
        } else if !line.is_empty() {
            line.push(' ');
        }
        line.push_str(word);
    }
    lines.push(line);
    format!("{lead}{}", lines.join(&format!("\n{}", " ".repeat(indent))))
}

/// A table: columns as wide as they need, two spaces between, the last not padded.
pub(crate) fn table(heads: &[(&str, Align)], rows: &[Vec<String>]) -> String {
    let width = |at: usize| {
        let cells = rows.iter().filter_map(|r| r.get(at)).map(|c| c.chars().count());
        cells.chain(heads.get(at).map(|(h, _)| h.chars().count())).max().unwrap_or(0)
    };
    let widths: Vec<usize> = (0..heads.len()).map(width).collect();
    let line = |cells: Vec<&str>| {
        let set = cells.iter().zip(heads).zip(&widths).map(|((cell, (_, align)), width)| match align {
            Align::Left => format!("{cell:<width$}"),
            Align::Right => format!("{cell:>width$}"),
        });
        set.collect::<Vec<_>>().join("  ").trim_end().to_string()
    };
    let mut lines = vec![line(heads.iter().map(|(h, _)| *h).collect())];
    lines.extend(rows.iter().map(|r| line(r.iter().map(String::as_str).collect())));
    lines.join("\n")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_texts_hang_under_their_first_line_in_a_terminal_only() {
        let text = "one two three four five six seven";
        assert_eq!(hang("high  ", text, Some(30)), "high  one two three four five\n      six seven");
        assert_eq!(hang("high  ", text, None), format!("high  {text}"));
        assert_eq!(hang("high  ", text, Some(10)), format!("high  {text}"));
    }

    #[test]
    fn tables_line_up() {
        let rows = vec![vec!["dome-east".into(), "3".into()], vec!["é".into(), "12".into()]];
        assert_eq!(table(&[("machine", Align::Left), ("live", Align::Right)], &rows), "machine    live\ndome-east     3\né            12");
    }
}
