use crate::cli::Reviews;
use crate::output::{Align, Printer, table};
use crate::{Exit, Failure};
use aerie_api::{NewReview, ReviewDecision, ReviewView};
use aerie_client::Client;

pub(super) async fn run(client: &Client, what: Reviews, printer: Printer) -> Result<Exit, Failure> {
    match what {
        Reviews::List => printer.value(&client.reviews().await?, |all| {
            let rows: Vec<_> = all.iter().map(|r| vec![r.id.clone(), r.title.clone(), r.sentence.clone()]).collect();
            if rows.is_empty() {
                "There are no reviews.".into()
            } else {
                table(&[("review", Align::Left), ("about", Align::Left), ("", Align::Left)], &rows)
            }
        })?,
        Reviews::Show { id } => printer.value(&client.review(&id).await?, shown)?,
        Reviews::Begin { title, people, machines, days } => {
            printer.value(&client.begin_review(&NewReview { title, people, machines, days }).await?, shown)?
        }
        Reviews::Keep { id, entry, note } => decide(client, &id, entry, "keep", note, printer).await?,
        Reviews::Withdraw { id, entry, note } => decide(client, &id, entry, "withdraw", note, printer).await?,
        Reviews::Close { id } => printer.value(&client.close_review(&id).await?, |c| match &c.draft {
            Some(draft) => format!("{} The withdrawals are written in the draft {draft}.", c.sentence),
            None => c.sentence.clone(),
        })?,
    }
    Ok(Exit::Done)
}

async fn decide(client: &Client, id: &str, entry: i64, decision: &str, note: String, printer: Printer) -> Result<(), Failure> {
    let done = client.decide_entry(id, entry, &ReviewDecision { decision: decision.into(), note }).await?;
    let word = if decision == "keep" { "keeps" } else { "loses" };
    printer.value(&done, |e| format!("{} {word} what {} gives on {}.", e.person_name, e.rule, e.machines.join(" ")))
}

fn shown(r: &ReviewView) -> String {
    let rows: Vec<_> = r
        .entries
        .iter()
        .map(|e| {
            let decision = e.decision.clone().unwrap_or_else(|| "open".into());
            vec![
                e.n.to_string(),
                e.person.clone(),
                e.rule.clone(),
                e.capabilities.join(" "),
                e.machines.join(" "),
                e.owners.join(" "),
                decision,
            ]
        })
        .collect();
    let left = Align::Left;
    let heads = [
        ("", Align::Right),
        ("person", left),
        ("rule", left),
        ("capabilities", left),
        ("machines", left),
        ("owners", left),
        ("decision", left),
    ];
    format!("{} ({}): {}\n\n{}", r.title, r.id, r.sentence, table(&heads, &rows))
}
