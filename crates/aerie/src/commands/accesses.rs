//! Who got into which machine, and when.

use crate::cli::{AccessFields, Accesses};
use crate::output::{Align, Printer, table};
use crate::{Exit, Failure};
use aerie_api::{AccessQuery, AccessReport, AccessView};
use aerie_client::Client;
use aerie_core::wording;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use std::io::Write as _;

pub(super) async fn run(client: &Client, what: Accesses, printer: Printer) -> Result<Exit, Failure> {
    match what {
        Accesses::List { which, limit } => {
            let (query, zone) = query(client, which).await?;
            let page = client.accesses(&AccessQuery { limit: Some(limit), ..query }).await?;
            printer.value(&page, |p| list(&p.items, &zone, p.next.is_some()))?;
        }
        Accesses::Show { id } => {
            let zone = zone_of(client).await?;
            printer.value(&client.access(&id).await?, |a| show(a, &zone))?;
        }
        Accesses::Report { which, by } => {
            let (query, zone) = query(client, which).await?;
            let heading = by.clone();
            printer.value(&client.access_report(&query, &by).await?, |r| report(r, &heading, &zone))?;
        }
        Accesses::Export { which, form } => {
            let (query, _) = query(client, which).await?;
            let text = match form.as_str() {
                "csv" => client.accesses_csv(&query).await?,
                form => client.accesses_ndjson(&query, form == "ocsf").await?,
            };
            std::io::stdout().lock().write_all(text.as_bytes()).map_err(|e| Failure::file("standard output", &e))?;
        }
    }
    Ok(Exit::Done)
}

/// The zone in which the service's rules tell times.
pub(super) async fn zone_of(client: &Client) -> Result<TimeZone, Failure> {
    Ok(TimeZone::get(&client.now().await?.zone).unwrap_or(TimeZone::UTC))
}

async fn query(client: &Client, which: AccessFields) -> Result<(AccessQuery, TimeZone), Failure> {
    let zone = zone_of(client).await?;
    let read = |text: &Option<String>| text.as_deref().map(|t| instant(t, &zone, Timestamp::now())).transpose();
    let query = AccessQuery {
        from: read(&which.from)?,
        until: read(&which.until)?,
        person: which.person,
        machine: which.machine,
        through: which.around.then(|| "around".into()),
        q: which.search,
        ..AccessQuery::default()
    };
    Ok((query, zone))
}

/// `2026-11-01` in the zone, an instant, or `30d` before now.
pub(super) fn instant(text: &str, zone: &TimeZone, now: Timestamp) -> Result<Timestamp, Failure> {
    let day = || text.parse::<jiff::civil::Date>().ok()?.to_zoned(zone.clone()).ok().map(|z| z.timestamp());
    let back = || {
        let hours: i64 = match (text.strip_suffix('d'), text.strip_suffix('h')) {
            (Some(days), _) => days.parse::<i64>().ok().filter(|d| (0..=36_600).contains(d))? * 24,
            (_, Some(hours)) => hours.parse().ok().filter(|h| (0..=878_400).contains(h))?,
            (None, None) => return None,
        };
        now.checked_sub(SignedDuration::from_hours(hours)).ok()
    };
    text.parse()
        .ok()
        .or_else(day)
        .or_else(back)
        .ok_or_else(|| Failure::usage(format!("`{text}` is no time: write 2026-11-01, 2026-11-01T08:00:00Z, 30d or 12h")))
}

pub(super) fn told(at: Timestamp, zone: &TimeZone) -> String {
    at.to_zoned(zone.clone()).strftime("%Y-%m-%d %H:%M").to_string()
}

fn long(seconds: i64) -> String {
    wording::duration(SignedDuration::from_secs(seconds))
}

fn list(items: &[AccessView], zone: &TimeZone, more: bool) -> String {
    if items.is_empty() {
        return "No access matches.".into();
    }
    let left = Align::Left;
    let heads =
        [("began", left), ("for", Align::Right), ("person", left), ("account", left), ("from", left), ("way", left), ("access", left)];
    let rows: Vec<Vec<String>> = items
        .iter()
        .map(|a| {
            vec![
                told(a.began, zone),
                a.seconds.map_or("?".into(), long),
                a.person.clone().unwrap_or_else(|| "?".into()),
                format!("{}@{}", a.account, a.machine),
                a.source.clone(),
                if a.session.is_some() { "through Aerie".into() } else { format!("around it, {}", a.service) },
                a.id.clone(),
            ]
        })
        .collect();
    let rest = if more { "\n… and more: --limit, or `aerie accesses export`" } else { "" };
    format!("{}{rest}", table(&heads, &rows))
}

fn show(a: &AccessView, zone: &TimeZone) -> String {
    let mut text = format!("{}\n\nBegan {}", a.sentence, told(a.began, zone));
    text += &a.ended.map_or(", its end is not known".into(), |e| format!(", ended {}", told(e, zone)));
    if let Some(key) = &a.key {
        text += &format!("\nKey {key}");
    }
    if let Some(certificate) = &a.certificate {
        text += &format!("\nCertificate {certificate}");
    }
    if !a.uses.is_empty() {
        text += &format!("\nUsed for {}", a.uses.join(", "));
    }
    if let Some(session) = &a.session {
        text += &format!("\nSession {session}: `aerie sessions show {session}`");
    }
    if a.lines.is_empty() {
        text += "\nNo log of the machine that was read shows it.";
    }
    for l in &a.lines {
        text += &format!("\n  {}:{}  {}", l.file, l.number, l.text);
    }
    text
}

fn report(r: &AccessReport, by: &str, zone: &TimeZone) -> String {
    if r.totals.is_empty() {
        return r.sentence.clone();
    }
    let right = Align::Right;
    let heads = [
        (by, Align::Left),
        ("accesses", right),
        ("around", right),
        ("together", right),
        ("average", right),
        ("longest", right),
        ("first", Align::Left),
        ("last", Align::Left),
    ];
    let seconds = |s: u64| long(i64::try_from(s).unwrap_or(i64::MAX));
    let rows: Vec<Vec<String>> = r
        .totals
        .iter()
        .map(|t| {
            vec![
                t.shown.clone(),
                t.count.to_string(),
                t.around.to_string(),
                seconds(t.seconds),
                seconds(t.seconds.checked_div(t.count).unwrap_or(0)),
                seconds(t.longest),
                told(t.first, zone),
                told(t.last, zone),
            ]
        })
        .collect();
    format!("{}\n\n{}", r.sentence, table(&heads, &rows))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_are_days_instants_or_spans_back() {
        let zone = TimeZone::get("Asia/Tokyo").unwrap();
        let now: Timestamp = "2026-11-23T00:00:00Z".parse().unwrap();
        let table = [
            ("2026-11-22", "2026-11-21T15:00:00Z"),
            ("2026-11-22T08:00:00Z", "2026-11-22T08:00:00Z"),
            ("2d", "2026-11-21T00:00:00Z"),
            ("12h", "2026-11-22T12:00:00Z"),
        ];
        for (text, at) in table {
            assert_eq!(instant(text, &zone, now).unwrap().to_string(), at);
        }
        for bad in ["", "yesterday", "-3d", "99999999d", "2026-13-01"] {
            assert!(instant(bad, &zone, now).is_err(), "{bad}");
        }
    }
}
