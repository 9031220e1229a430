//! Accesses from a table: CSV, or a JSON object a line, with a mapping that says which column is what.
//!
//! ```toml
//! format = "csv"                # or "ndjson"
//! service = "rdp"               # ssh, vnc, rdp, windows, console or other
//! accepted = ["success", "ok"]  # values of `outcome`; any other is a failure, none at all an access
//! [columns]
//! time = "when"                 # RFC 3339, or seconds or milliseconds since the epoch
//! end = "until"
//! host = "server"
//! account = "user"
//! source = "client_ip"
//! port = "client_port"
//! outcome = "result"
//! ```

use super::super::record::Service;
use jiff::Timestamp;
use serde::Deserialize;
use std::collections::BTreeMap;

/// Longest mapping, in bytes.
const LONGEST: usize = 64 << 10;
/// Longest value that is taken from a column.
const LONGEST_VALUE: usize = 512;

/// The form of a table.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Form {
    /// Comma-separated, with a head line.
    Csv,
    /// A JSON object a line.
    Ndjson,
}

#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
struct Columns {
    time: String,
    #[serde(default)]
    end: String,
    #[serde(default)]
    host: String,
    account: String,
    #[serde(default)]
    source: String,
    #[serde(default)]
    port: String,
    #[serde(default)]
    outcome: String,
    #[serde(default)]
    method: String,
}

/// Which column is what.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Mapping {
    /// The form.
    pub format: Form,
    /// What was reached.
    #[serde(default)]
    pub service: Service,
    #[serde(default)]
    accepted: Vec<String>,
    columns: Columns,
}

/// A row, as far as the mapping knows it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Row {
    /// When it began.
    pub begin: Timestamp,
    /// When it ended.
    pub end: Option<Timestamp>,
    /// Host; empty where there is no such column.
    pub host: String,
    /// Account.
    pub account: String,
    /// Address.
    pub source: String,
    /// Port there.
    pub port: u16,
    /// How.
    pub method: String,
    /// Whether somebody got in.
    pub accepted: bool,
}

impl Mapping {
    /// Reads a mapping.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn parse(text: &str) -> Result<Self, String> {
        if text.len() > LONGEST {
            return Err(format!("a mapping has at most {LONGEST} bytes"));
        }
        toml_edit::de::from_str(text).map_err(|e| e.to_string())
    }

    /// Reads a row whose values are found by the names of their columns; none where it has no time or account.
    pub fn row(&self, value: impl Fn(&str) -> Option<String>) -> Option<Row> {
        let c = &self.columns;
        let of = |column: &str| {
            let found = if column.is_empty() { None } else { value(column) };
            found.map(|v| v.trim().chars().take(LONGEST_VALUE).collect::<String>()).unwrap_or_default()
        };
        let outcome = of(&c.outcome);
        Some(Row {
            begin: instant(&of(&c.time))?,
            end: instant(&of(&c.end)),
            host: of(&c.host),
            account: Some(of(&c.account)).filter(|a| !a.is_empty())?,
            source: of(&c.source),
            port: of(&c.port).parse().unwrap_or(0),
            method: of(&c.method),
            accepted: c.outcome.is_empty() || self.accepted.iter().any(|a| a.eq_ignore_ascii_case(&outcome)),
        })
    }

    /// Reads a line of a table of JSON objects.
    pub fn object(&self, line: &[u8]) -> Option<Row> {
        let object: BTreeMap<String, serde_json::Value> = serde_json::from_slice(line).ok()?;
        self.row(|column| match object.get(column)? {
            serde_json::Value::String(s) => Some(s.clone()),
            serde_json::Value::Null => None,
            other => Some(other.to_string()),
        })
    }
}

fn instant(text: &str) -> Option<Timestamp> {
    match text.parse::<i64>() {
        // Milliseconds of this century have thirteen digits, seconds ten.
        Ok(n) if n.abs() >= 100_000_000_000 => Timestamp::from_millisecond(n).ok(),
        Ok(n) => Timestamp::from_second(n).ok(),
        Err(_) => text.parse().ok(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const MAPPING: &str = "format = \"ndjson\"\nservice = \"rdp\"\naccepted = [\"OK\"]\n[columns]\ntime = \"t\"\naccount = \"u\"\nsource = \"ip\"\noutcome = \"r\"\n";

    #[test]
    fn rows_are_read_as_the_mapping_says() {
        let m = Mapping::parse(MAPPING).unwrap();
        let row = m.object(br#"{"t":"2026-11-23T08:20:50Z","u":"ines","ip":"10.20.9.4","r":"ok","more":[1]}"#).unwrap();
        assert_eq!((row.account.as_str(), row.source.as_str(), row.accepted, row.port), ("ines", "10.20.9.4", true, 0));
        assert!(!m.object(br#"{"t":1795508450,"u":"ines","r":"denied"}"#).unwrap().accepted);
        assert_eq!(m.object(br#"{"t":1795508450000,"u":"ines"}"#).unwrap().begin, "2026-11-24T08:20:50Z".parse().unwrap());
        for bad in [&b"{}"[..], b"[1]", br#"{"t":"yesterday","u":"ines"}"#, br#"{"t":1,"u":""}"#, b"\xff"] {
            assert_eq!(m.object(bad), None);
        }
        assert!(Mapping::parse("format = \"csv\"").unwrap_err().contains("columns"));
        assert!(Mapping::parse(&MAPPING.replace("outcome", "outcame")).is_err());
        assert!(Mapping::parse(&" ".repeat(LONGEST + 1)).is_err());
    }
}
