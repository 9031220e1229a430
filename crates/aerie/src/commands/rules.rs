use super::{account, drafts};
use crate::cli::{Policy as PolicyCommand, RuleCommand, Why};
use crate::output::{Align, Printer, hanging, table};
use crate::{Exit, Failure};
use aerie_api::{EffectQuery, EffectView, PolicyChecked, VersionView, WhyQuery};
use aerie_client::Client;
use aerie_core::diagnostic::{Diagnostic, Severity};
use aerie_core::directory::{Directory, DirectoryFile, validate};
use aerie_core::policy::{Effect, Fields, PROVED_AHEAD, Policy, add_rule, change_rule, check, compare, read, remove_rule, rule_fields};
use jiff::civil::{DateTime, Time};
use jiff::tz::TimeZone;
use jiff::{Timestamp, Zoned};
use std::path::Path;
use std::sync::Arc;

/// Errors and warnings of a document.
pub(super) fn diagnose(text: &str, directory: &Directory) -> Vec<Diagnostic> {
    let (directory, now) = (Arc::new(directory.clone()), Timestamp::now());
    read(text).map_or_else(|errors| errors, |document| check(&Policy::compile(document, directory, now), now))
}

pub(super) fn read_file(path: &std::path::Path) -> Result<String, Failure> {
    std::fs::read_to_string(path).map_err(|e| Failure::file(path.display(), &e))
}

fn read_directory(path: &std::path::Path) -> Result<Directory, Failure> {
    let known: DirectoryFile = serde_json::from_str(&read_file(path)?).map_err(|e| Failure::usage(format!("{}: {e}", path.display())))?;
    validate(&known).map_err(|e| Failure::usage(format!("{}: {e}", path.display())))?;
    Ok(known.into())
}

pub(super) async fn run(server: Option<&str>, what: PolicyCommand, printer: Printer) -> Result<Exit, Failure> {
    match what {
        PolicyCommand::Show { number: None } => printer.value(&account::client(server)?.policy().await?, |p| p.text.clone())?,
        PolicyCommand::Show { number: Some(version) } => {
            printer.value(&account::client(server)?.policy_version(version).await?, |p| p.text.clone().unwrap_or_default())?
        }
        PolicyCommand::Check { file, directory: Some(directory) } => {
            let rules = read_file(&file)?;
            let found = diagnose(&rules, &read_directory(&directory)?);
            printer.value(&found, |found| {
                let shown: Vec<String> = found.iter().map(|d| d.render(&file.display().to_string(), &rules)).collect();
                if shown.is_empty() { "The rules can be published.".into() } else { shown.join("\n") }
            })?;
            return Ok(if found.iter().any(|d| d.severity == Severity::Error) { Exit::No } else { Exit::Done });
        }
        PolicyCommand::Check { file, directory: None } => {
            let checked = account::client(server)?.check_policy(&read_file(&file)?).await?;
            printer.value(&checked, |c| told(c, "The rules can be published."))?;
            return Ok(if checked.ok { Exit::Done } else { Exit::No });
        }
        PolicyCommand::Effect { file, against, days } => {
            let query = EffectQuery { text: read_file(&file)?, against, days: Some(days) };
            let effect = account::client(server)?.policy_effect(&query).await?;
            printer.value(&effect, effect_words)?;
            return Ok(if effect.ok { Exit::Done } else { Exit::No });
        }
        PolicyCommand::Compare { before, after, directory, directory_after } => {
            return compare_files(&before, &after, &directory, directory_after.as_deref().unwrap_or(&directory), printer);
        }
        PolicyCommand::Publish { file, after } => {
            let checked = account::client(server)?.publish_policy(&read_file(&file)?, after).await?;
            let done = format!("Version {} is in force.", checked.version.unwrap_or(0));
            printer.value(&checked, |c| told(c, "") + &done)?;
        }
        PolicyCommand::Versions => printer.value(&account::client(server)?.policy_versions().await?, |all| versions(all))?,
        PolicyCommand::Restore { number: version, note } => {
            let done = account::client(server)?.restore_policy(version, &note).await?;
            printer.value(&done, |c| {
                format!("{}Version {} is in force; it is version {version} again.", told(c, ""), c.version.unwrap_or(0))
            })?;
        }
        PolicyCommand::Unused { days } => printer.value(&account::client(server)?.policy_use(days).await?, |all| {
            let shown: Vec<String> = all
                .iter()
                .map(|u| match &u.proposal {
                    Some(p) => format!("{}\n\n{}", u.sentence, p.lines().map(|l| format!("    {l}\n")).collect::<String>()),
                    None => u.sentence.clone(),
                })
                .collect();
            shown.join("\n")
        })?,
        PolicyCommand::Rule(what) => change_file(what, printer)?,
        PolicyCommand::Draft(what) => return drafts::run(&account::client(server)?, what, printer).await,
    }
    Ok(Exit::Done)
}

pub(super) fn told(c: &PolicyChecked, nothing: &str) -> String {
    if c.diagnostics.is_empty() {
        return nothing.into();
    }
    c.diagnostics.iter().map(|d| d.rendered.clone() + "\n").collect()
}

fn effect_words(e: &EffectView) -> String {
    let mut lines: Vec<String> = e.diagnostics.iter().map(|d| d.rendered.clone()).collect();
    lines.push(e.sentence.clone());
    lines.extend(e.changes.iter().map(|c| hanging("  ", &c.sentence)));
    lines.push(String::new());
    lines.push(e.past.sentence.clone());
    lines.extend(e.past.judged.iter().map(|j| {
        let times = if j.sessions.len() == 1 { String::new() } else { format!(" ({} sessions)", j.sessions.len()) };
        hanging("  ", &format!("{}{times}", j.sentence))
    }));
    lines.extend(
        (!e.ending.is_empty()).then(|| format!("\n{} would end:", aerie_core::wording::count(e.ending.len() as u64, "live session"))),
    );
    lines.extend(e.ending.iter().map(|s| hanging("  ", &format!("{}: {}", s.session, s.sentence))));
    let count = aerie_core::wording::count;
    lines.push(format!("\n{} hold, {} pass.", count(e.guardrails, "guardrail"), count(e.tests, "test")));
    if !e.ok {
        lines.push("The rules cannot be published as they are.".into());
    }
    lines.join("\n")
}

fn compare_files(before: &Path, after: &Path, directory: &Path, directory_after: &Path, printer: Printer) -> Result<Exit, Failure> {
    let now = Timestamp::now();
    let compiled = |file: &Path, directory: &Path| -> Result<Policy, Failure> {
        let text = read_file(file)?;
        let document = read(&text).map_err(|errors| {
            let shown: Vec<String> = errors.iter().map(|d| d.render(&file.display().to_string(), &text)).collect();
            Failure { exit: Exit::No, message: format!("the rules have errors\n\n{}", shown.join("\n")) }
        })?;
        Ok(Policy::compile(document, Arc::new(read_directory(directory)?), now))
    };
    let (old, new) = (compiled(before, directory)?, compiled(after, directory_after)?);
    let found = compare(&old, &new, now, now.saturating_add(PROVED_AHEAD).unwrap_or(Timestamp::MAX));
    let told: Vec<String> = found.changes.iter().map(|c| c.sentence(&old, &new)).collect();
    printer.value(&serde_json::json!({ "sentence": found.sentence(), "changes": told }), |_| {
        let lines: Vec<String> = told.iter().map(|c| hanging("  ", c)).collect();
        format!("{}\n{}", found.sentence(), lines.join("\n"))
    })?;
    Ok(if found.changes.is_empty() { Exit::Done } else { Exit::No })
}

fn versions(all: &[VersionView]) -> String {
    let rows: Vec<_> = all
        .iter()
        .map(|v| {
            let said = match (v.restored, &v.agreed_by) {
                (Some(earlier), _) => format!("version {earlier} again; {}", v.note),
                (None, Some(second)) => format!("{second} agreed; {}", v.note),
                (None, None) => v.note.clone(),
            };
            let at = v.published_at.strftime("%Y-%m-%d %H:%M UTC").to_string();
            vec![
                v.version.to_string(),
                at,
                v.published_by.clone(),
                format!("+{} -{}", v.added, v.removed),
                said.trim_end_matches("; ").to_string(),
            ]
        })
        .collect();
    let left = Align::Left;
    table(&[("version", Align::Right), ("published", left), ("by", left), ("lines", left), ("", left)], &rows)
}

fn change_file(what: RuleCommand, printer: Printer) -> Result<(), Failure> {
    let (file, done) = match what {
        RuleCommand::Add { file, effect, name, fields } => {
            let effect = Effect::ALL.into_iter().find(|e| e.word() == effect);
            let effect = effect.ok_or_else(|| Failure::usage("the effect is allow, forbid, require or never"))?;
            let mut fields = parse_fields(&fields)?;
            fields.insert("name".into(), name.into());
            let done = add_rule(&read_file(&file)?, effect, &fields);
            (file, done)
        }
        RuleCommand::Change { file, name, fields } => {
            let done = change_rule(&read_file(&file)?, &name, &parse_fields(&fields)?);
            (file, done)
        }
        RuleCommand::Remove { file, name } => {
            let done = remove_rule(&read_file(&file)?, &name);
            (file, done)
        }
    };
    let text = done.map_err(|e| Failure::usage(e.to_string()))?;
    std::fs::write(&file, &text).map_err(|e| Failure::file(file.display(), &e))?;
    printer.remark(&format!("{} is changed; `aerie policy check {}` says whether it can be published.", file.display(), file.display()));
    Ok(())
}

/// `key=value` with the value as the document writes it; a text may stand without quotation marks, and nothing removes the key.
fn parse_fields(given: &[String]) -> Result<Fields, Failure> {
    let mut fields = Fields::new();
    for pair in given {
        let (key, value) = pair.split_once('=').ok_or_else(|| Failure::usage(format!("`{pair}` is not KEY=VALUE")))?;
        let read = rule_fields(&format!("[[allow]]\nname = \"x\"\nvalue = {value}\n"));
        let read = read.ok().and_then(|mut all| all.remove("x")?.remove("value"));
        let value = match (value.is_empty(), read) {
            (true, _) => serde_json::Value::Null,
            (false, Some(v)) => v,
            (false, None) => value.into(),
        };
        fields.insert(key.into(), value);
    }
    Ok(fields)
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
        target: question.target,
        from: question.from,
        factors: question.factors,
        version: question.rules,
    };
    let answer = client.why(&query).await?;
    printer.value(&answer, |w| {
        let change: Vec<String> = w.changes.iter().map(|c| format!("  {c}")).collect();
        let head = if w.outcome == "refused" { "What would change it:" } else { "What it comes down to:" };
        if change.is_empty() { w.sentence.clone() } else { format!("{}\n{head}\n{}", w.sentence, change.join("\n")) }
    })?;
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
