//! Looks at what was typed in recorded sessions.

use super::{Known, keep, world};
use crate::recorder::read_recording;
use crate::service::App;
use aerie_core::audit::{Auditor, Finding, LogLine, World};
use aerie_core::recording::{Frame, commands_in};
use aerie_store::StoreError;
use jiff::SignedDuration;
use std::collections::HashMap;
use std::sync::Arc;

/// Looks at what was typed in a session that has ended.
pub(crate) async fn look_at_recording(app: &App, id: &str) {
    match look(app, id).await {
        Ok(found) if found.is_empty() => {}
        Ok(found) => {
            if let Err(e) = keep(app, found).await {
                tracing::error!(error = %e, "findings could not be kept");
            }
            app.tell("findings");
        }
        Err(e) => tracing::error!(error = %e, "a recording could not be looked at"),
    }
}

async fn look(app: &App, id: &str) -> Result<Vec<Finding>, StoreError> {
    let Some(session) = app.store.session(id).await? else { return Ok(vec![]) };
    let Some(file) = session.recording.clone() else { return Ok(vec![]) };
    let (path, keys) = (app.config.recordings().join(&file), app.keys.clone());
    let commands = tokio::task::spawn_blocking(move || commands(&path, &keys)).await.unwrap_or_default();
    let rules = app.rules.now();
    let world = World { sessions: None, ..world(app).await? };
    let mut auditor = Auditor::new(Arc::new(world));
    let known = Known::from(&session).0;
    let shown = rules.policy.directory().person(&session.person).map_or(session.person.clone(), |p| p.shown().to_string());
    for (number, (at_ms, command)) in commands.into_iter().enumerate() {
        let line = LogLine {
            file: file.as_str().into(),
            number: number as u64 + 1,
            offset: at_ms,
            text: aerie_core::diagnostic::printable(&command),
            digest: String::new(),
        };
        let at = session.began + SignedDuration::from_millis(i64::try_from(at_ms).unwrap_or(0));
        auditor.handle_typed(&known, &shown, at, at_ms, &command, &line);
    }
    Ok(auditor.finish(rules.policy.zone()))
}

/// Longest line of input that is looked at.
const MAX_TYPED: usize = 64 << 10;

/// The commands of a recording with their times: typed ones, and those given to `ssh`.
fn commands(path: &std::path::Path, keys: &crate::Keys) -> Vec<(u64, String)> {
    let mut found = vec![];
    let mut typed: HashMap<u32, Vec<u8>> = HashMap::new();
    let read = read_recording(path, keys, |f| {
        match f.frame {
            Frame::Input(bytes) => {
                let line = typed.entry(f.channel).or_default();
                line.extend_from_slice(&bytes);
                if let Some(end) = line.iter().rposition(|b| matches!(b, b'\r' | b'\n')) {
                    let rest = line.split_off(end + 1);
                    found.extend(commands_in(line).into_iter().map(|c| (f.at_ms, c)));
                    *line = rest;
                }
                if line.len() > MAX_TYPED {
                    line.clear();
                }
            }
            Frame::Opened(o) => found.extend(o.command.map(|c| (f.at_ms, c))),
            _ => {}
        }
        true
    });
    if let Err(e) = read {
        tracing::warn!(error = %e, "a recording does not read to its end");
    }
    found
}
