use crate::cli::Log;
use crate::output::{Printer, hanging};
use crate::{Exit, Failure};
use aerie_client::{Client, ListQuery};

pub(super) async fn run(client: &Client, what: Log, printer: Printer) -> Result<Exit, Failure> {
    match what {
        Log::List { kind, session, search, limit } => {
            let query = ListQuery { kind, session, q: search, after: None, limit: Some(limit) };
            printer.value(&client.log(&query).await?, |page| {
                let told =
                    page.items.iter().map(|e| hanging(&format!("{:>7}  {}  ", e.seq, e.at.strftime("%Y-%m-%d %H:%M:%S")), &e.sentence));
                let lines: Vec<String> = told.collect();
                if lines.is_empty() { "No event matches.".into() } else { lines.join("\n") }
            })?;
            Ok(Exit::Done)
        }
        Log::Verify => {
            let report = client.verify_log().await?;
            printer.value(&report, |r| {
                let rest = r.problems.iter().skip(1).map(|p| format!("\n  {}", p.sentence));
                r.sentence.clone()
                    + &rest.collect::<String>()
                    + &format!("\nPublic key of the checkpoints, newest first: {}", r.public_keys.join(" "))
            })?;
            Ok(if report.holds { Exit::Done } else { Exit::No })
        }
        Log::Checkpoint => {
            printer
                .value(&client.checkpoint().await?, |c| format!("{} events, root {}\nsigned {}\n{}", c.size, c.root, c.at, c.signature))?;
            Ok(Exit::Done)
        }
    }
}
