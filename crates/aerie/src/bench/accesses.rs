//! A million access records: keeping them, and finding them by what the console's page filters by.

use super::{Figure, Outcome};
use aerie_core::audit::{AccessRecord, Recorded, Service};
use aerie_store::{AccessFilter, Store, TotalOf};
use jiff::{SignedDuration, Timestamp};
use std::time::Instant;

const RECORDS: i64 = 1_000_000;
const GROUP: i64 = 1000;
/// Seconds between two of them: a million are eight months.
const APART: i64 = 20;
const ROUNDS: usize = 20;

fn record(n: i64, first: Timestamp) -> Outcome<AccessRecord> {
    let begin = first.checked_add(SignedDuration::from_secs(n * APART))?;
    Ok(AccessRecord {
        id: format!("{n:024x}"),
        service: Service::Ssh,
        machine: format!("unit-{}", n * 7919 % 2000),
        account: "operator".into(),
        person: (n % 3 != 0).then(|| format!("p{}", n * 104_729 % 500)),
        source: format!("10.{}.{}.{}", n % 200, n % 250, n % 99),
        port: 0,
        method: "publickey".into(),
        key: None,
        algorithm: String::new(),
        certificate: None,
        uses: String::new(),
        begin,
        end: Some(begin.checked_add(SignedDuration::from_mins(10))?),
        session: None,
        explained: false,
        lines: vec![],
    })
}

pub(super) fn figures() -> Outcome<Vec<Figure>> {
    let directory = tempfile::tempdir()?;
    tokio::runtime::Runtime::new()?.block_on(async {
        let store = Store::open(&directory.path().join("aerie.db")).await?;
        let first = Timestamp::now().checked_sub(SignedDuration::from_secs(RECORDS * APART))?;
        let began = Instant::now();
        for group in 0..RECORDS / GROUP {
            let records =
                (group * GROUP..(group + 1) * GROUP).map(|n| Ok(Recorded::Began(record(n, first)?))).collect::<Outcome<Vec<_>>>()?;
            store.put_accesses(&records).await?;
        }
        let kept = RECORDS as f64 / began.elapsed().as_secs_f64();
        let page = AccessFilter { limit: 50, ..AccessFilter::default() };
        let middle = first.checked_add(SignedDuration::from_secs(RECORDS * APART / 2))?;
        let month = Timestamp::now().checked_sub(SignedDuration::from_hours(30 * 24))?;
        let filters = [
            page.clone(),
            AccessFilter { before: Some((middle, "x".into())), ..page.clone() },
            AccessFilter { machine: Some("unit-7".into()), ..page.clone() },
            AccessFilter { person: Some("p7".into()), ..page.clone() },
            AccessFilter { through: Some(false), since: Some(month), ..page.clone() },
            AccessFilter { text: Some("10.7.7".into()), ..page.clone() },
        ];
        let mut times = vec![];
        for _ in 0..ROUNDS {
            for f in &filters {
                let began = Instant::now();
                if store.accesses(f).await?.is_empty() {
                    return Err("nothing was found".into());
                }
                times.push(began.elapsed().as_secs_f64() * 1e3);
            }
        }
        times.sort_by(f64::total_cmp);
        let p99 = times.get(times.len() * 99 / 100).copied().unwrap_or(f64::NAN);
        let timed = async |f: &AccessFilter| -> Outcome<f64> {
            let began = Instant::now();
            store.access_totals(f, TotalOf::Person).await?;
            Ok(began.elapsed().as_secs_f64() * 1e3)
        };
        let rare = AccessFilter { text: Some("nobody at all".into()), ..page.clone() };
        let began = Instant::now();
        store.accesses(&rare).await?;
        let rare = began.elapsed().as_secs_f64() * 1e3;
        let (whole, lately) = (timed(&page).await?, timed(&AccessFilter { since: Some(month), ..page.clone() }).await?);
        Ok(vec![
            Figure::alone("access records kept", "per second", kept, "(stated)", true, 1),
            Figure::alone(
                "a page of 1 million access records, by what the page filters by: p99",
                "ms",
                p99,
                "under 100",
                p99 < 100.0,
                times.len(),
            ),
            Figure::alone("the same for a text that is nowhere", "ms", rare, "under 100", rare < 100.0, 1),
            Figure::alone("totals of the last 30 days of them", "ms", lately, "(stated)", true, 1),
            Figure::alone("totals of all of them", "ms", whole, "(stated)", true, 1),
        ])
    })
}
