use crate::cli::Sessions;
use crate::output::{Align, Printer, table};
use crate::{Exit, Failure};
use aerie_api::{Extension, Invited, SessionView};
use aerie_client::{Client, ListQuery, SessionQuery};
use aerie_core::wording;
use jiff::SignedDuration;

pub(super) async fn run(client: &Client, what: Sessions, printer: Printer) -> Result<Exit, Failure> {
    match what {
        Sessions::List { live, person, machine, search, limit } => {
            let query = SessionQuery { state: live.then(|| "live".into()), person, machine, q: search, after: None, limit: Some(limit) };
            printer.value(&client.sessions(&query).await?, |page| list(&page.items, page.next.is_some()))?;
        }
        Sessions::Show { id } => {
            let session = client.session(&id).await?;
            let events = client.log(&ListQuery { session: Some(id), limit: Some(500), ..ListQuery::default() }).await?.items;
            let shown = serde_json::json!({ "session": session, "events": events });
            printer.value(&shown, |_| {
                let told = events.iter().rev().map(|e| format!("  {}  {}", e.at.strftime("%H:%M:%S"), e.sentence));
                facts(&session) + "\n\n" + &told.collect::<Vec<_>>().join("\n")
            })?;
        }
        Sessions::End { id } => {
            client.end_session(&id).await?;
            printer.remark(&format!("The session {id} is ended."));
        }
        Sessions::Watch { id } => return super::asking::watch(client, &id, printer).await,
        Sessions::Extend { id, minutes, why } => {
            client.extend_session(&id, &Extension { minutes, why }).await?;
            printer.remark(&format!("The session {id} may last {minutes} min longer than its limit."));
        }
        Sessions::Invite { id, person, no: true, .. } => {
            client.dismiss(&id, &person).await?;
            printer.remark(&format!("{person} is not invited any more."));
        }
        Sessions::Invite { id, person, control, .. } => {
            client.invite_into(&id, &Invited { person: person.clone(), control }).await?;
            printer.remark(&format!("{person} is invited: `aerie sessions watch {id}`, or the session's page."));
        }
        Sessions::Keyboard { id, to } => {
            let there = client.keyboard(&id, to.as_deref()).await?;
            printer.value(&there, |p| format!("{} types now.", p.keyboard.as_deref().unwrap_or("Whose session it is")))?;
        }
    }
    Ok(Exit::Done)
}

pub(super) fn list(items: &[SessionView], more: bool) -> String {
    if items.is_empty() {
        return "No session matches.".into();
    }
    let rows: Vec<_> = items
        .iter()
        .map(|s| {
            let state = if s.ended.is_none() { "live" } else { "ended" };
            let recording = if s.recorded { "yes" } else { "no" };
            let long = wording::duration(SignedDuration::from_secs(s.seconds));
            vec![
                s.id.clone(),
                s.began.strftime("%Y-%m-%d %H:%M").to_string(),
                long,
                state.into(),
                s.person.clone(),
                format!("{}@{}", s.account, s.machine),
                s.uses.join(" "),
                recording.into(),
                s.findings.to_string(),
            ]
        })
        .collect();
    let left = Align::Left;
    let heads = [
        ("session", left),
        ("began (UTC)", left),
        ("for", Align::Right),
        ("state", left),
        ("person", left),
        ("as", left),
        ("used for", left),
        ("recorded", left),
        ("findings", Align::Right),
    ];
    let rest = if more { "\n(more: --limit, or narrow the search)" } else { "" };
    table(&heads, &rows) + rest
}

fn facts(s: &SessionView) -> String {
    let recording = match (s.recorded, &s.digest) {
        (false, _) => "not recorded".into(),
        (true, None) => "being recorded".into(),
        (true, Some(d)) => format!("closed, sha256 {d}"),
    };
    let mut lines = vec![
        s.sentence.clone(),
        String::new(),
        format!("  session     {}", s.id),
        format!("  allowed by  {}, rules version {}, line {}", s.rule, s.policy_version, s.rule_line),
        format!("  proved      {}", s.factors.join(", ")),
        format!("  account     {}", s.account),
        format!("  from        {}", s.source),
        format!("  recording   {recording}"),
        format!("  bytes       {} from the machine, {} to it", wording::size(s.bytes_out), wording::size(s.bytes_in)),
    ];
    if let Some(reason) = &s.end_reason {
        lines.push(format!("  ended       {reason}"));
    }
    if let Some(by) = s.ends_by {
        lines.push(format!("  ends by     {}", by.strftime("%Y-%m-%d %H:%M UTC")));
    }
    lines.join("\n")
}
