//! Hours on the time line: weekly spans in a time zone become intervals of instants.

use super::document::{Hours, Span};
use jiff::civil::{Date, Time};
use jiff::tz::{AmbiguousOffset, TimeZone};
use jiff::{Timestamp, ToSpan as _};

/// Days before and after the middle for which a calendar keeps its intervals at hand: a bit over a year each way. Instants
/// beyond are answered from intervals made for that week, more slowly and alike.
const READY_DAYS: i32 = 400;

/// Hours prepared for quick answers.
///
/// A span covers the instants from its beginning to its end on the zone's wall clock. Where the clock shows a time twice, a
/// beginning is its first and an end its second occurrence; where the clock skips a time, the instant of the skip counts.
#[derive(Debug, Clone)]
pub struct Calendar {
    zone: TimeZone,
    spans: Vec<Span>,
    /// Sorted, disjoint and not touching, in seconds since the epoch.
    ready: Vec<(i64, i64)>,
    ready_range: (i64, i64),
}

/// Whether hours are open at an instant, and when that changes next.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Opening {
    /// Whether the instant lies within the hours.
    pub open: bool,
    /// The next instant at which that changes; none where it never does.
    pub until: Option<Timestamp>,
}

impl Calendar {
    /// Prepares hours around an instant.
    pub fn new(hours: &Hours, around: Timestamp) -> Self {
        let middle = around.to_zoned(hours.zone.clone()).date();
        let ready = intervals(&hours.spans, &hours.zone, middle, READY_DAYS);
        let range = |days: i32| begin_of(shift(middle, days), 0, &hours.zone).unwrap_or(0);
        // The outermost days are left out: their intervals may continue beyond what was computed.
        let ready_range = (range(2 - READY_DAYS), range(READY_DAYS - 2));
        Self { zone: hours.zone.clone(), spans: hours.spans.clone(), ready, ready_range }
    }

    /// Whether the hours are open at this instant, and until when.
    pub fn at(&self, at: Timestamp) -> Opening {
        let t = at.as_second();
        let (from, to) = self.ready_range;
        if from <= t && t < to {
            let answer = look_up(&self.ready, t);
            if answer.until.is_none_or(|u| u.as_second() < to) {
                return answer;
            }
        }
        let date = at.to_zoned(self.zone.clone()).date();
        let mut answer = look_up(&intervals(&self.spans, &self.zone, date, 9), t);
        // A week and a day of one state means that the state never changes.
        let far = begin_of(shift(date, 8), 0, &self.zone).unwrap_or(i64::MAX);
        answer.until = answer.until.filter(|u| u.as_second() < far);
        answer
    }
}

fn look_up(intervals: &[(i64, i64)], t: i64) -> Opening {
    let next = intervals.partition_point(|(_, end)| *end <= t);
    match intervals.get(next) {
        Some((begin, end)) if *begin <= t => Opening { open: true, until: Timestamp::from_second(*end).ok() },
        Some((begin, _)) => Opening { open: false, until: Timestamp::from_second(*begin).ok() },
        None => Opening { open: false, until: None },
    }
}

/// The merged intervals of the days around `middle`.
fn intervals(spans: &[Span], zone: &TimeZone, middle: Date, days: i32) -> Vec<(i64, i64)> {
    let mut all: Vec<(i64, i64)> =
        (-days..=days).map(|d| shift(middle, d)).flat_map(|date| spans.iter().filter_map(move |s| on_day(s, date, zone))).collect();
    all.sort_unstable();
    let mut merged: Vec<(i64, i64)> = Vec::with_capacity(all.len());
    for (begin, end) in all {
        match merged.last_mut() {
            Some(last) if begin <= last.1 => last.1 = last.1.max(end),
            _ => merged.push((begin, end)),
        }
    }
    merged
}

fn on_day(span: &Span, date: Date, zone: &TimeZone) -> Option<(i64, i64)> {
    let day = date.weekday().to_monday_zero_offset();
    if span.days & (1 << day) == 0 {
        return None;
    }
    let last = if span.end <= span.begin { shift(date, 1) } else { date };
    let interval = (begin_of(date, span.begin, zone)?, end_of(last, span.end, zone)?);
    (interval.0 < interval.1).then_some(interval)
}

fn shift(date: Date, days: i32) -> Date {
    date.saturating_add(days.days())
}

fn begin_of(date: Date, minute: u16, zone: &TimeZone) -> Option<i64> {
    instant(date, minute, zone, false)
}

fn end_of(date: Date, minute: u16, zone: &TimeZone) -> Option<i64> {
    if minute == 1440 { instant(shift(date, 1), 0, zone, true) } else { instant(date, minute, zone, true) }
}

/// The instant at which the zone's clock shows that minute; `last` chooses the second of two.
fn instant(date: Date, minute: u16, zone: &TimeZone, last: bool) -> Option<i64> {
    let time = Time::new((minute / 60) as i8, (minute % 60) as i8, 0, 0).ok()?;
    let wall = date.to_datetime(time);
    let ambiguous = zone.to_ambiguous_timestamp(wall);
    let at = match ambiguous.offset() {
        AmbiguousOffset::Unambiguous { .. } => ambiguous.compatible().ok()?,
        AmbiguousOffset::Fold { .. } if last => ambiguous.later().ok()?,
        AmbiguousOffset::Fold { .. } => ambiguous.earlier().ok()?,
        AmbiguousOffset::Gap { .. } => {
            // The clock jumped over it: the instant of the jump, between the two readings.
            let early = ambiguous.earlier().ok()?;
            zone.following(early).next()?.timestamp()
        }
    };
    Some(at.as_second())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn hours(zone: &str, spans: &[(u8, u16, u16)]) -> Hours {
        Hours {
            name: "test".into(),
            zone: TimeZone::get(zone).unwrap(),
            spans: spans.iter().map(|&(days, begin, end)| Span { days, begin, end }).collect(),
            line: 1,
        }
    }

    fn t(text: &str) -> Timestamp {
        text.parse().unwrap()
    }

    #[test]
    fn a_night_runs_through_midnight() {
        let c = Calendar::new(&hours("Atlantic/Canary", &[(0x7f, 18 * 60, 7 * 60 + 30)]), t("2026-11-23T00:00:00Z"));
        assert_eq!(c.at(t("2026-11-23T03:00:00Z")), Opening { open: true, until: Some(t("2026-11-23T07:30:00Z")) });
        assert_eq!(c.at(t("2026-11-23T12:00:00Z")), Opening { open: false, until: Some(t("2026-11-23T18:00:00Z")) });
        assert!(!c.at(t("2026-11-23T07:30:00Z")).open);
        assert!(c.at(t("2026-11-23T18:00:00Z")).open);
    }

    #[test]
    fn clock_changes_lengthen_and_shorten_the_night() {
        // Berlin: 2026-03-29 02:00 becomes 03:00, 2026-10-25 03:00 becomes 02:00.
        let night = hours("Europe/Berlin", &[(0x7f, 22 * 60, 2 * 60 + 30)]);
        let c = Calendar::new(&night, t("2026-06-01T00:00:00Z"));
        // Spring: 02:30 is skipped, so the night ends with the jump at 01:00 UTC.
        assert_eq!(c.at(t("2026-03-29T00:30:00Z")).until, Some(t("2026-03-29T01:00:00Z")));
        // Autumn: 02:30 comes twice; the night ends with the second, without a hole between.
        assert_eq!(c.at(t("2026-10-25T00:00:00Z")), Opening { open: true, until: Some(t("2026-10-25T01:30:00Z")) });
        // A beginning within the skipped hour begins with the jump.
        let early = Calendar::new(&hours("Europe/Berlin", &[(0x7f, 150, 300)]), t("2026-06-01T00:00:00Z"));
        assert_eq!(early.at(t("2026-03-29T00:59:59Z")).until, Some(t("2026-03-29T01:00:00Z")));
    }

    #[test]
    fn hours_without_a_gap_never_change() {
        let c = Calendar::new(&hours("UTC", &[(0x7f, 0, 1440)]), t("2026-06-01T00:00:00Z"));
        assert_eq!(c.at(t("2026-06-01T10:00:00Z")), Opening { open: true, until: None });
        assert_eq!(c.at(t("1999-06-01T10:00:00Z")), Opening { open: true, until: None });
    }

    proptest! {
        #[test]
        fn the_prepared_calendar_agrees_with_the_wall_clock(
            days in 1u8..0x80, begin in 0u16..1440, end in 0u16..=1440, second in 1_700_000_000i64..1_900_000_000,
            zone in prop::sample::select(vec!["UTC", "Asia/Kathmandu", "Africa/Nairobi", "Asia/Tokyo"]),
        ) {
            // Zones without clock changes: there the plain reading of the clock is the whole truth.
            prop_assume!(begin != end);
            let h = hours(zone, &[(days, begin, end)]);
            let at = Timestamp::from_second(second).unwrap();
            let wall = at.to_zoned(h.zone.clone());
            let minute = wall.hour() as u16 * 60 + wall.minute() as u16;
            let on = |d: i8| days & (1 << d.rem_euclid(7)) != 0;
            let today = wall.weekday().to_monday_zero_offset();
            let naive = if begin < end {
                on(today) && begin <= minute && minute < end
            } else {
                (on(today) && minute >= begin) || (on(today - 1) && minute < end)
            };
            let calendar = Calendar::new(&h, Timestamp::from_second(1_780_000_000).unwrap());
            let answer = calendar.at(at);
            prop_assert_eq!(answer.open, naive);
            if let Some(until) = answer.until {
                prop_assert!(until > at);
                prop_assert_eq!(calendar.at(until).open, !naive);
                prop_assert_eq!(calendar.at(until - 1.second()).open, naive);
            }
        }
    }
}
