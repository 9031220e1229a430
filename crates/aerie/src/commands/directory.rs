use crate::cli::DirectoryCommand;
use crate::output::Printer;
use crate::{Exit, Failure};
use aerie_api::DirectoryImport;
use aerie_client::Client;
use aerie_core::directory::{DirectoryFile, Members, to_csv};

pub(super) async fn run(client: &Client, what: DirectoryCommand, printer: Printer) -> Result<Exit, Failure> {
    match what {
        DirectoryCommand::Export { format } => {
            let known = client.directory().await?;
            if format == "json" {
                printer.line(&serde_json::to_string_pretty(&known).map_err(|e| Failure::internal(e.to_string()))?);
                return Ok(Exit::Done);
            }
            let file = DirectoryFile { people: known.people, machines: known.machines, groups: known.groups };
            let of = match format.as_str() {
                "csv-people" => Members::People,
                "csv-machines" => Members::Machines,
                _ => return Err(Failure::usage("the format is json, csv-people or csv-machines")),
            };
            printer.line(to_csv(&file, of).trim_end());
        }
        DirectoryCommand::Import { file, format, dry_run } => {
            let text = std::fs::read_to_string(&file).map_err(|e| Failure::file(file.display(), &e))?;
            let name = file.to_string_lossy().into_owned();
            let guessed = match (name.ends_with(".csv"), name.contains("machine")) {
                (false, _) => "json",
                (true, true) => "csv-machines",
                (true, false) => "csv-people",
            };
            let format = format.unwrap_or_else(|| guessed.into());
            let done = client.import_directory(&DirectoryImport { format, text, dry_run }).await?;
            printer.value(&done, |d| {
                let mut lines = d.differences.clone();
                lines.extend(d.changes.iter().map(|c| c.sentence.clone()));
                let ending = match (d.done, d.differences.is_empty()) {
                    (true, _) => "It is done.",
                    (false, true) => "Nothing was to be done.",
                    (false, false) => "Nothing was changed; leave out --dry-run to do it.",
                };
                format!("{}\n{}\n{ending}", d.sentence, lines.join("\n"))
            })?;
        }
    }
    Ok(Exit::Done)
}
