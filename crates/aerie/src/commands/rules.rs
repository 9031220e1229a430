use super::account;
use crate::cli::{Policy as PolicyCommand, Why};
use crate::output::Printer;
use crate::{Exit, Failure};
use aerie_api::{PolicyChecked, WhyQuery};
use aerie_client::Client;
use aerie_core::diagnostic::{Diagnostic, Severity};
use aerie_core::directory::{Directory, DirectoryFile};
use aerie_core::policy::{Policy, check, read};
use jiff::civil::{DateTime, Time};
use jiff::tz::TimeZone;
use jiff::{Timestamp, Zoned};
use std::sync::Arc;

/// Errors and warnings of a document.
pub(super) fn diagnose(text: &str, directory: &Directory) -> Vec<Diagnostic> {
    let (directory, now) = (Arc::new(directory.clone()), Timestamp::now());
    read(text).map_or_else(|errors| errors, |document| check(&Policy::compile(document, directory, now), now))
}

pub(super) async fn run(server: Option<&str>, what: PolicyCommand, printer: Printer) -> Result<Exit, Failure> {
    let text = |path: &std::path::Path| std::fs::read_to_string(path).map_err(|e| Failure::file(path.display(), &e));
    match what {
        PolicyCommand::Show => printer.value(&account::client(server)?.policy().await?, |p| p.text.clone())?,
        PolicyCommand::Check { file, directory: Some(directory) } => {
            let known: DirectoryFile =
                serde_json::from_str(&text(&directory)?).map_err(|e| Failure::usage(format!("{}: {e}", directory.display())))?;
            let rules = text(&file)?;
            let found = diagnose(&rules, &known.into());
            printer.value(&found, |found| {
                let shown: Vec<String> = found.iter().map(|d| d.render(&file.display().to_string(), &rules)).collect();
                if shown.is_empty() { "The rules can be published.".into() } else { shown.join("\n") }
            })?;
            return Ok(if found.iter().any(|d| d.severity == Severity::Error) { Exit::No } else { Exit::Done });
        }
        PolicyCommand::Check { file, directory: None } => {
            let checked = account::client(server)?.check_policy(&text(&file)?).await?;
            printer.value(&checked, |c| told(c, "The rules can be published."))?;
            return Ok(if checked.ok { Exit::Done } else { Exit::No });
        }
        PolicyCommand::Publish { file, after } => {
            let checked = account::client(server)?.publish_policy(&text(&file)?, after).await?;
            let done = format!("Version {} is in force.", checked.version.unwrap_or(0));
            printer.value(&checked, |c| told(c, "") + &done)?;
        }
    }
    Ok(Exit::Done)
}

fn told(c: &PolicyChecked, nothing: &str) -> String {
    if c.diagnostics.is_empty() {
        return nothing.into();
    }
    c.diagnostics.iter().map(|d| d.rendered.clone() + "\n").collect()
}

pub(super) async fn why(client: &Client, question: Why, printer: Printer) -> Result<Exit, Failure> {
    let at = match &question.at {
        None => None,
        Some(text) => Some(instant(text, client).await?),
    };
    let query = WhyQuery {
        person: question.person,
        capability: question.capability,
        machine: question.machine,
        at,
        account: question.account,
        from: question.from,
    };
    let answer = client.why(&query).await?;
    printer.value(&answer, |w| w.sentence.clone())?;
    Ok(if answer.outcome == "refused" { Exit::No } else { Exit::Done })
}

/// An instant as people write it; without a zone it is meant in that of the rules.
async fn instant(text: &str, client: &Client) -> Result<Timestamp, Failure> {
    if let Ok(at) = text.parse() {
        return Ok(at);
    }
    let zone = match client.now().await {
        Ok(now) => TimeZone::get(&now.zone).unwrap_or(TimeZone::UTC),
        Err(_) => TimeZone::UTC,
    };
    let wall: Option<DateTime> =
        text.parse().ok().or_else(|| text.parse::<Time>().ok().map(|t| Zoned::now().with_time_zone(zone.clone()).date().to_datetime(t)));
    wall.and_then(|w| w.to_zoned(zone).ok())
        .map(|z| z.timestamp())
        .ok_or_else(|| Failure::usage(format!("`{text}` is not a time: write `12:00`, `2026-11-23 12:00` or `2026-11-23T12:00:00Z`")))
}
