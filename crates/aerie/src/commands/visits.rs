//! Visits at the command line.

use super::people::when;
use super::service::spaced;
use crate::cli::Visits;
use crate::output::{Align, Printer, table};
use crate::{Exit, Failure};
use aerie_api::{CloseVisit, NewVisit, VisitQuery, VisitView};
use aerie_client::Client;

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
        Visits::Close { id, outcome, notes } => say(printer, &client.close_visit(&id, &CloseVisit { outcome, notes }).await?)?,
        Visits::Withdraw { id } => {
            client.withdraw_visit(&id).await?;
            printer.remark("The visit is taken back; its PIN opens nothing.");
        }
    }
    Ok(Exit::Done)
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
    for r in &v.remarks {
        let who = if r.who.is_empty() { &v.person } else { &r.who };
        text += &format!("\n{}  {who} {}{}", when(Some(r.at)), if r.kind == "note" { "noted: " } else { "" }, r.text);
    }
    if !v.notes.is_empty() {
        text += &format!("\n\n{}", v.notes);
    }
    text
}
