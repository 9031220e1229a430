//! Detections: read, tried, put into force.

use super::account;
use crate::cli::Detections;
use crate::output::{Align, Printer, table};
use crate::{Exit, Failure};
use aerie_api::{DetectionView, DetectionsView, NewDetections};
use aerie_core::audit::detect::DetectionSet;
use aerie_core::wording::count;
use std::path::Path;

pub(super) async fn run(server: Option<&str>, what: Detections, printer: Printer) -> Result<Exit, Failure> {
    match what {
        Detections::List => printer.value(&account::client(server)?.detections().await?, list)?,
        Detections::Text { shipped: true } => printer.value(&DetectionSet::shipped_text(), |t| t.trim_end().to_string())?,
        Detections::Text { shipped: false } => {
            printer.value(&account::client(server)?.detections().await?, |d| d.text.trim_end().to_string())?;
        }
        Detections::Check { file } => return check(&file, printer),
        Detections::Publish { file, why } => {
            let client = account::client(server)?;
            let text = std::fs::read_to_string(&file).map_err(|e| Failure::file(file.display(), &e))?;
            let after = client.detections().await?.version;
            let published = client.publish_detections(&NewDetections { text, why, after }).await?;
            printer.value(&published, |d| {
                format!(
                    "Version {} is in force: {}. What was found before stays as it is.",
                    d.version,
                    count(d.detections.len() as u64, "detection")
                )
            })?;
        }
    }
    Ok(Exit::Done)
}

/// Reads a file of detections.
pub(super) fn read(file: &Path) -> Result<DetectionSet, Failure> {
    let text = std::fs::read_to_string(file).map_err(|e| Failure::file(file.display(), &e))?;
    DetectionSet::parse(&text).map_err(|e| Failure { exit: Exit::No, message: format!("{}: {e}", file.display()) })
}

fn check(file: &Path, printer: Printer) -> Result<Exit, Failure> {
    let set = read(file)?;
    let failures = set.failures();
    let cases: usize = set.all().iter().map(|d| d.cases.len()).sum();
    let views: Vec<DetectionView> = set.all().iter().map(DetectionView::of).collect();
    let failed: Vec<_> = failures.iter().map(|f| serde_json::json!({ "detection": f.detection, "test": f.case, "why": f.why })).collect();
    printer.value(&serde_json::json!({ "detections": views, "tests": cases, "failures": failed }), |_| {
        let untested: Vec<&str> = set.all().iter().filter(|d| d.cases.is_empty()).map(|d| d.name.as_str()).collect();
        let mut text = match failures.len() {
            0 => format!("{} and {} hold.", count(set.all().len() as u64, "detection"), count(cases as u64, "test")),
            n => format!("{n} of {} does not hold.", count(cases as u64, "test")),
        };
        for f in &failures {
            text += &format!("\n  {}, \u{201c}{}\u{201d}: {}", f.detection, f.case, f.why);
        }
        if !untested.is_empty() {
            text += &format!("\nWithout a test: {}.", untested.join(", "));
        }
        text
    })?;
    Ok(if failures.is_empty() { Exit::Done } else { Exit::No })
}

fn list(d: &DetectionsView) -> String {
    let left = Align::Left;
    let heads = [("detection", left), ("importance", left), ("form", left), ("what", left), ("ATT&CK", left)];
    let rows: Vec<Vec<String>> = d
        .detections
        .iter()
        .map(|one| {
            let importance = if one.enabled { one.importance.clone() } else { "off".into() };
            vec![one.name.clone(), importance, one.form.clone(), one.title.clone(), one.techniques.join(" ")]
        })
        .collect();
    let whose = match d.version {
        0 => "These come along with Aerie.".to_string(),
        n => format!("Version {n}, published by {}.", d.by),
    };
    format!("{}\n\n{whose} `aerie detections text` prints them, to be changed and published.", table(&heads, &rows))
}
