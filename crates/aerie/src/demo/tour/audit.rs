//! The steps of the tour that are about the audit.

use super::{Found, Tour};
use crate::Failure;
use aerie_api::{AgainQuery, EvidenceQuery, FindingStep, ReportQuery};
use aerie_client::{FindingQuery, ScanQuery, SessionQuery};
use aerie_core::evidence::verify_pack;
use jiff::{SignedDuration, Timestamp};
use std::time::Duration;

/// How long the log of a machine may take to come in.
const COMES_IN: Duration = Duration::from_secs(20);

impl Tour {
    pub(super) async fn around(&self) -> Found {
        let Some(machine) = self.people.demo.machines.iter().find(|m| m.name == "spectro-1") else {
            return Err(Failure::internal("no machine"));
        };
        let key = self.people.demo.key_file("amara").to_string();
        let port = machine.address.port().to_string();
        let unknown = ["-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null"];
        let arguments = [&unknown[..], &["-i", &key, "-p", &port, "operator@127.0.0.1", "hostname"]].concat();
        let direct = self.people.run_with("ssh", "", &arguments, "").await?;
        let log = tokio::fs::File::open(&machine.log).await.map_err(|e| Failure::file(&machine.log, &e))?;
        let result = self
            .client
            .scan(&ScanQuery { name: Some("spectro-1/auth.log".into()), zone: Some("UTC".into()), ..ScanQuery::default() }, log)
            .await?;
        let found = result.findings.iter().find(|f| f.kind == "around-gateway" && f.source.as_deref() == Some("127.0.0.1"));
        let held = direct.status == Some(0) && found.is_some() && result.explained > 0;
        Ok((held, format!("{}\n{}", result.sentence, found.map_or("", |f| &f.sentence))))
    }

    pub(super) async fn planted(&self) -> Found {
        let findings = self.client.findings(&FindingQuery { limit: Some(100), ..Default::default() }).await?.items;
        let wanted = [
            "around-gateway",
            "outside-hours",
            "unowned-account",
            "guessed",
            "unknown-session",
            "key-added",
            "spraying",
            "two-places",
            "logging-stopped",
        ];
        let missing: Vec<&str> = wanted.into_iter().filter(|w| !findings.iter().any(|f| f.kind == *w)).collect();
        let told: Vec<String> = findings.iter().map(|f| format!("{:<9} {}", f.importance, f.sentence)).collect();
        Ok((missing.is_empty(), if missing.is_empty() { told.join("\n") } else { format!("not found: {}", missing.join(", ")) }))
    }

    pub(super) async fn case(&self) -> Found {
        let query = FindingQuery { kind: Some("spraying".into()), limit: Some(1), ..FindingQuery::default() };
        let Some(finding) = self.client.findings(&query).await?.items.pop() else {
            return Ok((false, "there is no such finding".into()));
        };
        let step = |word: &str| FindingStep { step: word.into(), ..FindingStep::default() };
        self.client.work_on_finding(&finding.id, &FindingStep { owner: Some("lena".into()), ..step("assign") }).await?;
        let why = Some("That network no longer reaches the archive.".into());
        let done = self.client.work_on_finding(&finding.id, &FindingStep { why, ..step("resolve") }).await?;
        let told: Vec<&str> = done.history.iter().map(|h| h.sentence.as_str()).collect();
        Ok((done.state == "resolved" && told.len() == 2, told.join("\n")))
    }

    pub(super) async fn evidence(&self) -> Found {
        let now = Timestamp::now();
        let query =
            EvidenceQuery { from: now - SignedDuration::from_hours(24 * 20), until: now, machine: Some("archive-db".into()), person: None };
        let bytes = self.client.evidence(&query).await?;
        let keys = self.client.verify_log().await?.public_keys;
        let known: Vec<_> = keys.iter().filter_map(|k| crate::commands::log::key(k).ok()).collect();
        let mut files = crate::commands::log::unpack(bytes.as_slice())?;
        let report = verify_pack(&files, &known);
        if let Some(events) = files.get_mut("events.ndjson").and_then(|e| e.get_mut(200)) {
            *events ^= 1;
        }
        let changed = verify_pack(&files, &known);
        Ok((report.holds() && report.key_known && !changed.holds(), format!("{}\n{}", report.sentence(), changed.sentence())))
    }

    pub(super) async fn log(&self) -> Found {
        let report = self.client.verify_log().await?;
        Ok((report.holds, report.sentence))
    }

    pub(super) async fn shipped(&self) -> Found {
        let query = SessionQuery { machine: Some("coude-1".into()), limit: Some(1), ..SessionQuery::default() };
        let Some(session) = self.client.sessions(&query).await?.items.pop() else { return Ok((false, "there was no session".into())) };
        let waiting = async {
            loop {
                let access = self.client.access(&session.id).await?;
                if let Some(line) = access.lines.first() {
                    return Ok::<_, Failure>(format!("{}: {}", line.file, line.text));
                }
                tokio::time::sleep(Duration::from_millis(100)).await;
            }
        };
        let told = tokio::time::timeout(COMES_IN, waiting).await.map_err(|_| Failure::internal("no line of that session came in"))??;
        Ok((told.contains("log of coude-1"), told))
    }

    pub(super) async fn again(&self) -> Found {
        let counted = async || Ok::<_, Failure>(self.client.now().await?.findings);
        let before = counted().await?;
        let query = AgainQuery { rules: Some(super::super::plans::draft()?), ..AgainQuery::default() };
        let again = self.client.judge_again(&query).await?;
        let some: Vec<&str> = again.differences.iter().take(3).map(|d| d.sentence.as_str()).collect();
        let held = again.stricter > 0 && counted().await? == before;
        Ok((held, format!("{}\n{}", again.sentence, some.join("\n"))))
    }

    pub(super) async fn report(&self) -> Found {
        let report = self.client.report(&ReportQuery { by: Some("rule".into()), ..ReportQuery::default() }).await?;
        Ok((report.text.contains("night-dome") && report.text.contains("no rule: around Aerie"), report.text.trim_end().into()))
    }
}
