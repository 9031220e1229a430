//! Visits at the command line.

use super::people::when;
use super::service::spaced;
use crate::cli::Visits;
use crate::output::{Align, Printer, table};
use crate::{Exit, Failure};
use aerie_api::{CloseVisit, NewVisit, VisitQuery, VisitView};
use aerie_client::Client;
use aerie_core::wording;
use std::io::Write as _;

pub(super) async fn run(client: &Client, what: Visits, printer: Printer) -> Result<Exit, Failure> {
    match what {
        Visits::List { all } => {
            let visits = client.visits(&VisitQuery { open: !all }).await?;
            printer.value(&visits, |v| listed(v))?;
        }
        Visits::Queues => {
            let queues = client.queues().await?;
            printer.value(&queues, |all| {
                let heads = [("queue", Align::Left), ("waiting", Align::Right), ("help", Align::Left), ("page", Align::Left)];
                let rows: Vec<Vec<String>> =
                    all.iter().map(|q| vec![q.name.clone(), q.waiting.to_string(), q.helpers.join(" "), q.link.clone()]).collect();
                if rows.is_empty() { "There is no queue in which you help.".into() } else { table(&heads, &rows) }
            })?;
        }
        Visits::New { person, queue, reason, ticket, mail } => {
            let send_link = !mail.is_empty();
            let made = client.make_visit(&NewVisit { queue, person, mail, reason, ticket, send_link }).await?;
            printer.value(&made, |m| {
                format!(
                    "PIN {}\n\nRead it out; it is entered at {} and is not shown again.\nThe visit is {}.",
                    spaced(&m.pin),
                    m.link,
                    m.visit.id
                )
            })?;
        }
        Visits::Show { id } => {
            let visit = client.visit(&id).await?;
            printer.value(&visit, shown)?;
        }
        Visits::PickUp { id } => say(printer, &client.pick_up_visit(&id).await?)?,
        Visits::Reassign { id, queue } => say(printer, &client.reassign_visit(&id, &queue).await?)?,
        Visits::Note { id, text } => say(printer, &client.note_visit(&id, &text).await?)?,
        Visits::Give { id, file } => {
            let name = file.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
            let content = std::fs::read(&file).map_err(|e| Failure::usage(format!("{} cannot be read: {e}", file.display())))?;
            let visit = client.give_visit_file(&id, &name, content).await?;
            printer.value(&visit, |v| format!("{name} is given: {} takes it on the page of the visit.", person(v)))?;
        }
        Visits::Take { id, file, to } => take(client, &id, &file, to, printer).await?,
        Visits::Close { id, outcome, notes } => say(printer, &client.close_visit(&id, &CloseVisit { outcome, notes }).await?)?,
        Visits::Withdraw { id } => {
            client.withdraw_visit(&id).await?;
            printer.remark("The visit is taken back; its PIN opens nothing.");
        }
    }
    Ok(Exit::Done)
}

fn person(v: &VisitView) -> &str {
    if v.person.is_empty() { "whoever is helped" } else { &v.person }
}

async fn take(client: &Client, id: &str, file: &str, to: Option<std::path::PathBuf>, printer: Printer) -> Result<(), Failure> {
    let visit = client.visit(id).await?;
    let known = visit.files.iter().find(|f| f.id == file);
    let known = known.ok_or_else(|| Failure::usage(format!("visit {id} has no file {file}; `aerie visits show {id}` lists them")))?;
    let to = to.unwrap_or_else(|| known.name.clone().into());
    let cannot = |e: std::io::Error| Failure::usage(format!("{} cannot be written: {e}", to.display()));
    // Before it is taken: what is there already stays.
    let mut out = std::fs::File::create_new(&to).map_err(cannot)?;
    let content = match client.take_visit_file(id, file).await {
        Ok(content) => content,
        Err(e) => {
            let _ = std::fs::remove_file(&to);
            return Err(e.into());
        }
    };
    out.write_all(&content).map_err(cannot)?;
    printer.value(known, |f| format!("{} is in {} ({}, SHA-256 {}).", f.name, to.display(), wording::size(f.bytes), f.sha256))?;
    Ok(())
}

fn say(printer: Printer, visit: &VisitView) -> Result<(), Failure> {
    printer.value(visit, |v| v.sentence.clone())
}

fn listed(visits: &[VisitView]) -> String {
    if visits.is_empty() {
        return "Nobody waits for help.".into();
    }
    let heads = ["visit", "state", "person", "about", "queue", "helps", "made"].map(|h| (h, Align::Left));
    let row = |v: &VisitView| {
        let state = if v.closed.is_some() { v.outcome.clone().unwrap_or_default() } else { v.state.clone() };
        let about = if v.ticket.is_empty() { v.reason.clone() } else { format!("{} {}", v.ticket, v.reason) };
        vec![v.id.clone(), state, v.person.clone(), about, v.queue.clone(), v.technician.clone().unwrap_or_default(), when(Some(v.made))]
    };
    table(&heads, &visits.iter().map(row).collect::<Vec<_>>())
}

fn shown(v: &VisitView) -> String {
    let mut text = v.sentence.clone();
    let device: Vec<&str> = v.device.values().map(String::as_str).collect();
    for (what, value) in
        [("About", v.reason.clone()), ("Ticket", v.ticket.clone()), ("Computer", device.join(", ")), ("Sessions", v.sessions.join(" "))]
    {
        if !value.is_empty() {
            text += &format!("\n{what:<9} {value}");
        }
    }
    for f in &v.files {
        let way = if f.way == "to-person" { "given" } else { "theirs" };
        text += &format!("\n{:<9} {} {} ({}, {way}, {})", "File", f.id, f.name, wording::size(f.bytes), f.state);
    }
    for r in &v.remarks {
        let who = if r.who.is_empty() { &v.person } else { &r.who };
        text += &format!("\n{}  {who} {}{}", when(Some(r.at)), if r.kind == "note" { "noted: " } else { "" }, r.text);
    }
    if !v.notes.is_empty() {
        text += &format!("\n\n{}", v.notes);
    }
    text
}
