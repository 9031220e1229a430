//! Reports, printed or mailed now and then.

use super::accesses::{instant, told, zone_of};
use crate::cli::Reports;
use crate::output::{Align, Printer, table};
use crate::{Exit, Failure};
use aerie_api::{NewReport, ReportQuery, ReportView};
use aerie_client::Client;
use jiff::Timestamp;
use jiff::tz::TimeZone;

pub(super) async fn run(client: &Client, what: Reports, printer: Printer) -> Result<Exit, Failure> {
    match what {
        Reports::List => {
            let zone = zone_of(client).await?;
            printer.value(&client.reports().await?, |all| list(all, &zone))?;
        }
        Reports::Add { to, every, hour, by } => {
            let zone = zone_of(client).await?;
            let made = client.add_report(&NewReport { every, hour, by, to }).await?;
            printer.value(&made, |r| format!("{} To {}. The next is mailed {}.", r.sentence, r.shown.join(", "), told(r.next, &zone)))?;
        }
        Reports::Remove { id } => {
            client.remove_report(&id).await?;
            printer.line("That report is mailed no longer.");
        }
        Reports::Show { from, until, by } => {
            let (zone, now) = (zone_of(client).await?, Timestamp::now());
            let read = |text: Option<String>| text.map(|t| instant(&t, &zone, now)).transpose();
            let query = ReportQuery { from: read(from)?, until: read(until)?, by: Some(by) };
            printer.value(&client.report(&query).await?, |r| r.text.trim_end().into())?;
        }
    }
    Ok(Exit::Done)
}

fn list(all: &[ReportView], zone: &TimeZone) -> String {
    if all.is_empty() {
        return "No report is mailed: `aerie reports add`.".into();
    }
    let left = Align::Left;
    let heads = [("id", left), ("what", left), ("to", left), ("next", left), ("last", left)];
    let rows: Vec<Vec<String>> = all
        .iter()
        .map(|r| {
            let last = r.last.map_or("not yet".into(), |l| told(l, zone));
            vec![r.id.clone(), r.sentence.clone(), r.shown.join(", "), told(r.next, zone), last]
        })
        .collect();
    table(&heads, &rows)
}
