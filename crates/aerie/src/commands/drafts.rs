use super::rules::{read_file, told};
use crate::cli::DraftCommand;
use crate::output::{Align, Printer, table};
use crate::{Exit, Failure};
use aerie_api::{DraftText, DraftView};
use aerie_client::Client;

pub(super) async fn run(client: &Client, what: DraftCommand, printer: Printer) -> Result<Exit, Failure> {
    match what {
        DraftCommand::List => printer.value(&client.drafts().await?, |all| {
            let rows: Vec<_> = all.iter().map(row).collect();
            let left = Align::Left;
            let heads = [
                ("draft", left),
                ("about", left),
                ("revision", Align::Right),
                ("base", Align::Right),
                ("changed by", left),
                ("agreed", left),
            ];
            if rows.is_empty() { "There are no drafts.".into() } else { table(&heads, &rows) }
        })?,
        DraftCommand::Show { id } => printer.value(&client.draft(&id).await?, |d| d.text.clone().unwrap_or_default())?,
        DraftCommand::Begin { title, file } => {
            let text = file.as_deref().map(read_file).transpose()?;
            printer.value(&client.begin_draft(&DraftText { title, text, base: None }).await?, stands)?;
        }
        DraftCommand::Change { id, file, revision, base } => {
            let known = client.draft(&id).await?;
            let draft = DraftText { title: known.title, text: Some(read_file(&file)?), base };
            printer.value(&client.change_draft(&id, revision, &draft).await?, stands)?;
        }
        DraftCommand::Agree { id, revision } => printer.value(&client.agree_to_draft(&id, revision).await?, stands)?,
        DraftCommand::Publish { id, revision, note } => {
            let done = client.publish_draft(&id, revision, &note).await?;
            printer.value(&done, |c| format!("{}Version {} is in force.", told(c, ""), c.version.unwrap_or(0)))?;
        }
        DraftCommand::Drop { id } => {
            client.drop_draft(&id).await?;
            printer.remark("The draft is dropped.");
        }
    }
    Ok(Exit::Done)
}

fn row(d: &DraftView) -> Vec<String> {
    let base = if d.current { d.base.to_string() } else { format!("{} (no longer in force)", d.base) };
    vec![
        d.id.clone(),
        d.title.clone(),
        d.revision.to_string(),
        base,
        d.changed_by.clone(),
        d.agreed_by.clone().unwrap_or_else(|| "no".into()),
    ]
}

fn stands(d: &DraftView) -> String {
    let agreed = d.agreed_by.as_ref().map(|by| format!(", {by} agreed")).unwrap_or_default();
    format!("Draft {}, revision {}, against version {}{agreed}.", d.id, d.revision, d.base)
}
