//! For which machines and days there is evidence at all. What no log tells of, no audit can find.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// Hosts that are followed: a log with more has names made up.
const MOST_HOSTS: usize = 10_000;
/// Days of one host that are followed, some eleven years: a log with more has days made up.
const MOST_DAYS: usize = 4000;
/// Seconds of a day.
const DAY: i64 = 86_400;
/// Days in a row without a line that are a gap.
const GAP: i64 = 2;
/// Days that a machine must have written on to be known for writing daily.
const KNOWN_DAYS: usize = 10;
/// Of a hundred days outside of a gap, so many have lines where a machine writes daily.
const DAILY: i64 = 95;

/// That a machine wrote something on a day.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Covered {
    /// Machine.
    pub machine: String,
    /// Days since 1970-01-01, of UTC.
    pub day: i64,
    /// Lines, records or events.
    pub lines: u64,
}

/// Counts lines for each host and day.
#[derive(Debug, Default)]
pub struct Coverage {
    hosts: HashMap<String, BTreeMap<i64, u64>>,
    /// Host and day of the last line, and how many there were: lines come in runs.
    run: Option<(String, i64, u64)>,
}

impl Coverage {
    /// Takes a line.
    pub fn handle(&mut self, host: &str, at: Timestamp) {
        let day = at.as_second().div_euclid(DAY);
        if let Some((known, of, lines)) = &mut self.run
            && *of == day
            && known == host
        {
            *lines += 1;
            return;
        }
        if let Some((host, day, lines)) = self.run.replace((host.into(), day, 1)) {
            self.add(host, day, lines);
        }
    }

    fn add(&mut self, host: String, day: i64, lines: u64) {
        if self.hosts.len() < MOST_HOSTS || self.hosts.contains_key(&host) {
            let days = self.hosts.entry(host).or_default();
            if days.len() < MOST_DAYS || days.contains_key(&day) {
                *days.entry(day).or_default() += lines;
            }
        }
    }

    /// What was counted, by the names of machines.
    pub fn covered(&self, machine: impl Fn(&str) -> String) -> Vec<Covered> {
        let mut all: BTreeMap<(String, i64), u64> = BTreeMap::new();
        let kept = self.hosts.iter().flat_map(|(host, days)| days.iter().map(move |(day, lines)| (host, *day, *lines)));
        let last = self.run.iter().map(|(host, day, lines)| (host, *day, *lines));
        for (host, day, lines) in kept.chain(last) {
            *all.entry((machine(host), day)).or_default() += lines;
        }
        all.into_iter().map(|((machine, day), lines)| Covered { machine, day, lines }).collect()
    }
}

/// Days on which a machine that writes daily wrote nothing: first and last of each gap of at least two days. A machine that writes now and
/// then has none.
pub fn gaps(days: &BTreeSet<i64>) -> Vec<(i64, i64)> {
    let (Some(first), Some(last)) = (days.first(), days.last()) else { return vec![] };
    let (span, written) = (last - first + 1, days.len() as i64);
    let daily = |gap: i64| days.len() >= KNOWN_DAYS && written * 100 >= (span - gap) * DAILY;
    days.iter().zip(days.iter().skip(1)).filter(|(a, b)| *b - *a > GAP && daily(*b - *a - 1)).map(|(a, b)| (a + 1, b - 1)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn at(day: i64, second: i64) -> Timestamp {
        Timestamp::from_second(day * DAY + second).unwrap()
    }

    #[test]
    fn lines_are_counted_for_machine_and_day() {
        let mut c = Coverage::default();
        for (host, day, second) in [("a", 5, 0), ("a", 5, 9), ("b", 5, 9), ("a", 5, 10), ("a.example", 6, 1), ("a", -1, 1)] {
            c.handle(host, at(day, second));
        }
        let told: Vec<_> = c.covered(|h| h.split('.').next().unwrap().into()).into_iter().map(|c| (c.machine, c.day, c.lines)).collect();
        let expected = [("a", -1, 1), ("a", 5, 3), ("a", 6, 1), ("b", 5, 1)].map(|(m, d, n)| (m.to_string(), d, n));
        assert_eq!(told, expected);
    }

    #[test]
    fn days_that_are_made_up_cost_bounded_memory() {
        let mut c = Coverage::default();
        (0..MOST_DAYS as i64 + 500).for_each(|day| c.handle("a", at(day, 1)));
        // The run that goes on is told beside those that are kept.
        assert_eq!(c.covered(|h| h.into()).len(), MOST_DAYS + 1);
        assert!(c.covered(|h| h.into()).iter().any(|d| d.day == 0));
    }

    #[test]
    fn only_machines_that_write_daily_have_gaps() {
        let days = |list: &[std::ops::RangeInclusive<i64>]| list.iter().cloned().flatten().collect::<BTreeSet<i64>>();
        assert_eq!(gaps(&days(&[1..=12, 15..=20])), [(13, 14)]);
        assert_eq!(gaps(&days(&[1..=12, 14..=20])), []);
        assert_eq!(gaps(&days(&[1..=4, 8..=12])), []);
        assert_eq!(gaps(&days(&[1..=5, 7..=8, 10..=20, 22..=23, 26..=28])), []);
        assert_eq!(gaps(&(0..30).map(|n| n * 4).collect()), []);
        assert_eq!(gaps(&BTreeSet::new()), []);
    }

    proptest! {
        #[test]
        fn nothing_is_lost_however_lines_are_mixed(lines in prop::collection::vec((0usize..4, 0i64..5), 0..80)) {
            let mut c = Coverage::default();
            let mut expected: BTreeMap<(String, i64), u64> = BTreeMap::new();
            for (host, day) in &lines {
                let host = format!("h{host}");
                c.handle(&host, at(*day, 5));
                *expected.entry((host, *day)).or_default() += 1;
            }
            let found: BTreeMap<(String, i64), u64> = c.covered(|h| h.to_string()).into_iter().map(|c| ((c.machine, c.day), c.lines)).collect();
            prop_assert_eq!(found, expected);
        }
    }
}
