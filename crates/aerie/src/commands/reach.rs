use crate::cli::Reach;
use crate::output::{Align, Printer, hanging, table};
use crate::{Exit, Failure};
use aerie_api::{MatrixView, PermissionView, ReachQuery, ReachView};
use aerie_client::Client;

pub(super) async fn run(client: &Client, question: Reach, printer: Printer) -> Result<Exit, Failure> {
    if let Some(cut) = &question.matrix {
        let (rows, columns) =
            cut.split_once(':').ok_or_else(|| Failure::usage("write the matrix as ROWS:COLUMNS, for instance group:site"))?;
        printer.value(&client.reach_matrix(rows, columns).await?, matrix)?;
        return Ok(Exit::Done);
    }
    let query = ReachQuery {
        person: question.person,
        machine: question.machine,
        people: question.people,
        machines: question.machines,
        capability: question.capability,
        days: Some(question.days),
        version: question.rules,
    };
    if question.csv {
        printer.line(client.reach_csv(&query).await?.trim_end());
        return Ok(Exit::Done);
    }
    let found = client.reach(&query).await?;
    printer.value(&found, told)?;
    Ok(if found.entries.is_empty() { Exit::No } else { Exit::Done })
}

fn told(view: &ReachView) -> String {
    let mut lines = vec![view.sentence.clone()];
    for entry in &view.entries {
        lines.push(String::new());
        lines.push(hanging("", &format!("{} on {}", entry.people.join(" "), entry.machines.join(" "))));
        lines.extend(entry.permissions.iter().map(|p| hanging("  ", &permission(p))));
    }
    lines.join("\n")
}

fn permission(p: &PermissionView) -> String {
    let account = p.account.as_deref().unwrap_or("any other account");
    let from = if p.from == "anywhere" { String::new() } else { format!(", from {}", p.from) };
    let ways: Vec<String> = p.demands.iter().map(|d| d.join(", ")).collect();
    let with = if ways.iter().any(String::is_empty) { String::new() } else { format!(", with {}", ways.join("; or with ")) };
    let to = p.to.as_ref().map(|t| format!(" to {t}")).unwrap_or_default();
    format!("{}{to} as {account}, {}{from}{with}", p.capabilities.join(" "), p.when)
}

fn matrix(view: &MatrixView) -> String {
    let mut heads = vec![("", Align::Left)];
    heads.extend(view.columns.iter().map(|c| (c.name.as_str(), Align::Right)));
    let cell = |c: &aerie_api::MatrixCell| if c.pairs == 0 { "-".to_string() } else { format!("{}/{}", c.pairs, c.of) };
    let rows: Vec<Vec<String>> = view
        .rows
        .iter()
        .zip(&view.cells)
        .map(|(head, cells)| std::iter::once(head.name.clone()).chain(cells.iter().map(cell)).collect())
        .collect();
    format!("{}\n\n{}", view.sentence, table(&heads, &rows))
}
