//! Judges the past again.

use super::accesses::{instant, told, zone_of};
use crate::cli::AgainFields;
use crate::output::{Printer, hanging};
use crate::{Exit, Failure};
use aerie_api::{AgainQuery, AgainView};
use aerie_client::Client;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use std::path::PathBuf;

/// Differences that a terminal shows; `--json` has all that the service lists.
const MOST_SHOWN: usize = 40;

pub(super) async fn run(client: &Client, fields: AgainFields, printer: Printer) -> Result<Exit, Failure> {
    let (zone, now) = (zone_of(client).await?, Timestamp::now());
    let text = |path: Option<PathBuf>| path.map(|p| std::fs::read_to_string(&p).map_err(|e| Failure::file(p.display(), &e))).transpose();
    let query = AgainQuery {
        from: Some(instant(&fields.from, &zone, now)?),
        until: fields.until.map(|t| instant(&t, &zone, now)).transpose()?,
        version: fields.rules,
        rules: text(fields.draft)?,
        detections: text(fields.detections)?,
    };
    let again = client.judge_again(&query).await?;
    printer.value(&again, |a| show(a, &zone))?;
    Ok(if again.differences.is_empty() && again.detections.is_empty() { Exit::Done } else { Exit::No })
}

fn show(a: &AgainView, zone: &TimeZone) -> String {
    let mut text = vec![hanging("", &a.sentence)];
    let accesses = a.differences.iter().map(|d| hanging("  ", &format!("{}  {}", told(d.began, zone), d.sentence)));
    text.extend(accesses.take(MOST_SHOWN));
    let findings = a.detections.iter().map(|d| {
        let sign = if d.way == "more" { "found" } else { "not found" };
        hanging("  ", &format!("{sign}: {} ({}, {})", d.sentence, d.kind, d.importance))
    });
    text.extend(findings.take(MOST_SHOWN));
    let beyond = (a.stricter + a.milder).saturating_sub(MOST_SHOWN as u64) + a.detections.len().saturating_sub(MOST_SHOWN) as u64;
    if beyond > 0 {
        text.push(format!("  … and {beyond} more: --json"));
    }
    text.join("\n")
}
