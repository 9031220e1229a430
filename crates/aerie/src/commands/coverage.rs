//! For which machines and days there is evidence at all.

use crate::cli::CoverageFields;
use crate::output::{Printer, hanging};
use crate::{Exit, Failure};
use aerie_api::{CoverageView, MachineCoverage};
use aerie_client::Client;
use std::fmt::Write as _;

pub(super) async fn run(client: &Client, which: CoverageFields, printer: Printer) -> Result<Exit, Failure> {
    printer.value(&client.coverage(which.days, which.until).await?, show)?;
    Ok(Exit::Done)
}

/// A strip of days for each machine: `█` for a day of which its log tells, `▪` for one with sessions through Aerie alone, `·` for none.
fn show(c: &CoverageView) -> String {
    let (Some(first), Some(last)) = (c.days.first(), c.days.last()) else { return c.sentence.clone() };
    let longest = c.machines.iter().map(|m| m.machine.chars().count()).max().unwrap_or(0);
    let mut text = format!("{}\n\n{:longest$}  {first} … {last}\n", hanging("", &c.sentence), "");
    for m in &c.machines {
        let note = if m.registered { "" } else { "  (not registered)" };
        let days = if m.covered == 1 { "day" } else { "days" };
        let _ = writeln!(text, "{:longest$}  {}  {} {days}{note}", m.machine, strip(m), m.covered);
    }
    text += "\n█ its log tells of that day   ▪ sessions through Aerie alone   · nothing";
    text
}

fn strip(m: &MachineCoverage) -> String {
    let day = |(lines, sessions): (&u64, &u64)| match (lines, sessions) {
        (0, 0) => '·',
        (0, _) => '▪',
        _ => '█',
    };
    m.lines.iter().zip(&m.sessions).map(day).collect()
}
