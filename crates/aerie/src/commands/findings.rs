//! Findings as cases, and findings that are not to come up.

use super::accesses::{instant, told, zone_of};
use crate::cli::{FindingFields, Findings, Suppressions};
use crate::output::{Align, Printer, hanging, table};
use crate::{Exit, Failure};
use aerie_api::{FindingStep, FindingView, NewSuppression, SuppressionView};
use aerie_client::{Client, FindingQuery};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use std::io::Write as _;

pub(super) async fn run(client: &Client, what: Findings, printer: Printer) -> Result<Exit, Failure> {
    let zone = zone_of(client).await?;
    let (id, step) = match what {
        Findings::Export { which, form } => {
            let text = match form.as_str() {
                "csv" => client.findings_csv(&query(which)).await?,
                form => client.findings_ndjson(&query(which), form == "ocsf").await?,
            };
            std::io::stdout().lock().write_all(text.as_bytes()).map_err(|e| Failure::file("standard output", &e))?;
            return Ok(Exit::Done);
        }
        Findings::List { which, limit } => {
            let query = FindingQuery { limit: Some(limit), ..query(which) };
            let page = client.findings(&query).await?;
            printer.value(&page, |p| list(&p.items, p.next.is_some()))?;
            return Ok(Exit::Done);
        }
        Findings::Show { id } => {
            printer.value(&client.finding(&id).await?, |f| show(f, &zone))?;
            return Ok(Exit::Done);
        }
        Findings::Review { id, why } => {
            printer.value(&client.review_finding(&id, &why).await?, |f| show(f, &zone))?;
            return Ok(Exit::Done);
        }
        Findings::Acknowledge { id } => (id, step("acknowledge")),
        Findings::Begin { id } => (id, step("begin")),
        Findings::Resolve { id, why } => (id, FindingStep { why: Some(why), ..step("resolve") }),
        Findings::Accept { id, until, why } => {
            let until = Some(instant(&until, &zone, Timestamp::now())?);
            (id, FindingStep { why: Some(why), until, ..step("accept") })
        }
        Findings::Reopen { id, why } => (id, FindingStep { why: Some(why), ..step("reopen") }),
        Findings::Assign { id, person } => (id, FindingStep { owner: person, ..step("assign") }),
        Findings::Due { id, day } => {
            let until = day.map(|d| instant(&d, &zone, Timestamp::now())).transpose()?;
            (id, FindingStep { until, ..step("due") })
        }
        Findings::Comment { id, text } => (id, FindingStep { why: Some(text), ..step("comment") }),
    };
    printer.value(&client.work_on_finding(&id, &step).await?, |f| {
        let done = f.history.last().map_or("", |h| &h.sentence);
        format!("{done}\n{}", hanging(&format!("{:<12} ", f.state), &f.sentence))
    })?;
    Ok(Exit::Done)
}

fn query(which: FindingFields) -> FindingQuery {
    let FindingFields { kind, state, importance, machine, owner, search } = which;
    FindingQuery { kind, state, importance, machine, owner, q: search, ..FindingQuery::default() }
}

fn step(word: &str) -> FindingStep {
    FindingStep { step: word.into(), ..FindingStep::default() }
}

/// How much it matters, or that it is settled.
fn word(f: &FindingView) -> &str {
    if f.settled.is_some() { &f.state } else { &f.importance }
}

fn list(items: &[FindingView], more: bool) -> String {
    if items.is_empty() {
        return "There are no such findings.".into();
    }
    let lines: Vec<String> = items
        .iter()
        .map(|f| {
            let state = match (f.state.as_str(), &f.owner) {
                ("open", None) => String::new(),
                (_, _) if f.settled.is_some() => String::new(),
                (state, None) => format!(" [{state}]"),
                (state, Some(owner)) => format!(" [{state}, {owner}]"),
            };
            hanging(&format!("{:<9} {}  ", word(f), f.id), &format!("{}{state}", f.sentence))
        })
        .collect();
    let rest = if more { "\n… and more: --limit" } else { "" };
    format!("{}{rest}", lines.join("\n"))
}

fn show(f: &FindingView, zone: &TimeZone) -> String {
    let mut text = format!("{} · {}\n\n{}\n", word(f), f.kind, hanging("", &f.sentence));
    text += &format!("\nWhy {}: {}.\n{}\n", f.importance, f.reason, hanging("To mend it: ", &f.mend));
    let owner = f.owner.as_deref().map_or("nobody's".to_string(), |o| format!("{o}'s"));
    let due = f.due.map_or(String::new(), |d| format!(", due {}", told(d, zone)));
    text += &format!("\nThe case is {} and {owner}{due}.\n", f.state);
    for h in &f.history {
        text += &format!("{}\n", hanging(&format!("  {}  ", told(h.at, zone)), &h.sentence));
    }
    if let Some(s) = f.settled.as_ref().filter(|_| f.history.is_empty()) {
        text += &format!("Settled by {} on {}: {}\n", s.by, told(s.at, zone), s.why);
    }
    if let Some(session) = &f.session {
        let moment = f.moment_ms.map_or(String::new(), |ms| format!(", {} s into the recording", ms / 1000));
        text += &format!("\nSession {session}{moment}: `aerie recordings play {session}`\n");
    }
    if !f.techniques.is_empty() || !f.controls.is_empty() {
        text += &format!("\n{}\n", hanging("ATT&CK   ", &f.techniques.join(", ")));
        text += &format!("{}\n", hanging("Controls ", &f.controls.join(", ")));
    }
    for l in &f.lines {
        text += &format!("\n{}", hanging("  ", &format!("{}:{}  {}", l.file, l.number, l.text)));
    }
    text
}

pub(super) async fn suppressions(client: &Client, what: Suppressions, printer: Printer) -> Result<Exit, Failure> {
    match what {
        Suppressions::List => printer.value(&client.suppressions().await?, |all| suppressed(all))?,
        Suppressions::Add(new) => {
            let until = instant(&new.until, &zone_of(client).await?, Timestamp::now())?;
            let made = NewSuppression {
                kind: new.kind,
                machine: new.machine,
                account: new.account,
                person: new.person,
                source: new.source,
                until,
                why: new.why,
            };
            printer.value(&client.suppress(&made).await?, |s| format!("{} It is the suppression {}.", s.sentence, s.id))?;
        }
        Suppressions::Withdraw { id } => {
            client.withdraw_suppression(&id).await?;
            printer.value(&serde_json::json!({ "withdrawn": id }), |_| "Such findings come up again.".into())?;
        }
    }
    Ok(Exit::Done)
}

fn suppressed(all: &[SuppressionView]) -> String {
    if all.is_empty() {
        return "Every finding comes up: nothing is suppressed.".into();
    }
    let left = Align::Left;
    let heads = [("suppression", left), ("in force", left), ("held back", Align::Right), ("what", left), ("by", left), ("why", left)];
    let rows: Vec<Vec<String>> = all
        .iter()
        .map(|s| {
            let word = if s.in_force { "yes" } else { "no" };
            vec![s.id.clone(), word.into(), s.hits.to_string(), s.sentence.clone(), s.by.clone(), s.why.clone()]
        })
        .collect();
    table(&heads, &rows)
}
