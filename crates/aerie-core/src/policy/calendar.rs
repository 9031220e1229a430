//! Hours on the time line: weekly spans in a time zone become intervals of instants.

use super::document::{DatedSpan, Hours, Span};
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
    hours: Hours,
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
        let ready = intervals(hours, middle, READY_DAYS);
        let range = |days: i32| begin_of(shift(middle, days), 0, &hours.zone).unwrap_or(0);
        // The outermost days are left out: their intervals may continue beyond what was computed.
        let ready_range = (range(2 - READY_DAYS), range(READY_DAYS - 2));
        Self { hours: hours.clone(), ready, ready_range }
    }

    /// Whether the hours are open at this instant, and until when.
    pub fn at(&self, at: Timestamp) -> Opening {
        let t = at.as_second();
        let (from, to) = self.ready_range;
        if from <= t && t < to {
            let answer = look_up(&self.ready, t);
            let dated = !self.hours.except.is_empty() || !self.hours.also.is_empty();
            if answer.until.map_or(!dated, |u| u.as_second() < to) {
                return answer;
            }
        }
        let zone = &self.hours.zone;
        let date = at.to_zoned(zone.clone()).date();
        let far = begin_of(shift(date, 8), 0, zone).unwrap_or(i64::MAX);
        let mut answer = look_up(&intervals(&self.hours, date, 9), t);
        // A week and a day of one state means that the week never changes it: only a date can.
        answer.until = answer.until.filter(|u| u.as_second() < far).or_else(|| self.next_dated(date, answer.open));
        answer
    }

    /// The next change that a dated exception brings after a week without change.
    fn next_dated(&self, after: Date, open: bool) -> Option<Timestamp> {
        let dated = self.hours.except.iter().chain(&self.hours.also);
        // Each exception is looked at from just before its first date, and beyond its last one.
        let mut dates: Vec<Date> = dated.flat_map(|d| [d.first, shift(d.last, 1)]).filter(|d| *d > after).collect();
        dates.sort_unstable();
        dates
            .iter()
            .find_map(|date| {
                let (from, to) = (begin_of(shift(*date, -1), 0, &self.hours.zone)?, begin_of(shift(*date, 8), 0, &self.hours.zone)?);
                let spans = intervals(&self.hours, *date, 9);
                let edges = spans.iter().flat_map(|(begin, end)| [(*begin, true), (*end, false)]);
                let after = begin_of(shift(after, 7), 0, &self.hours.zone)?;
                edges.filter(|(t, opens)| *opens != open && *t >= from && *t < to && *t > after).map(|(t, _)| t).min()
            })
            .and_then(|t| Timestamp::from_second(t).ok())
    }

    /// The intervals in which the hours are open between two instants (seconds since the epoch), cut to them: sorted,
    /// disjoint and not touching.
    pub fn intervals(&self, from: i64, to: i64) -> Vec<(i64, i64)> {
        let cut = |all: &[(i64, i64)]| -> Vec<(i64, i64)> {
            all.iter().map(|(b, e)| ((*b).max(from), (*e).min(to))).filter(|(b, e)| b < e).collect()
        };
        if self.ready_range.0 <= from && to < self.ready_range.1 {
            return cut(&self.ready);
        }
        let date = |t: i64| Timestamp::from_second(t).unwrap_or(Timestamp::MAX).to_zoned(self.hours.zone.clone()).date();
        let (first, last) = (date(from), date(to));
        let days = (last - first).get_days() / 2 + 3;
        cut(&intervals(&self.hours, shift(first, days - 2), days + 1))
    }

    /// The hours that it was made from.
    pub fn hours(&self) -> &Hours {
        &self.hours
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

/// The merged intervals of the days around `middle`: the weekly spans, without the exceptions, and with the additions.
fn intervals(hours: &Hours, middle: Date, days: i32) -> Vec<(i64, i64)> {
    let (first, last) = (shift(middle, -days), shift(middle, days));
    let dates = (-days..=days).map(|d| shift(middle, d));
    let weekly = merged(dates.flat_map(|date| hours.spans.iter().filter_map(move |s| on_day(s, date, &hours.zone))).collect());
    let dated = |spans: &[DatedSpan]| {
        let of = |s: &DatedSpan| {
            let (begin, end) = (s.first.max(first), s.last.min(last));
            let (span, length) = (*s, if begin <= end { (end - begin).get_days() } else { -1 });
            (0..=length).filter_map(move |d| interval(span.begin, span.end, shift(begin, d), &hours.zone))
        };
        merged(spans.iter().flat_map(of).collect())
    };
    if hours.except.is_empty() && hours.also.is_empty() {
        return weekly;
    }
    let mut open = without(&weekly, &dated(&hours.except));
    open.extend(dated(&hours.also));
    merged(open)
}

/// Sorted, disjoint and not touching.
pub(super) fn merged(mut all: Vec<(i64, i64)>) -> Vec<(i64, i64)> {
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

/// What is in `all` and in none of `gaps`; both sorted and disjoint.
fn without(all: &[(i64, i64)], gaps: &[(i64, i64)]) -> Vec<(i64, i64)> {
    let mut left = vec![];
    for &(begin, end) in all {
        let mut from = begin;
        let first = gaps.partition_point(|g| g.1 <= begin);
        for gap in gaps.iter().skip(first).take_while(|g| g.0 < end) {
            if from < gap.0 {
                left.push((from, gap.0));
            }
            from = gap.1;
        }
        if from < end {
            left.push((from, end));
        }
    }
    left
}

fn on_day(span: &Span, date: Date, zone: &TimeZone) -> Option<(i64, i64)> {
    let day = date.weekday().to_monday_zero_offset();
    if span.days & (1 << day) == 0 {
        return None;
    }
    interval(span.begin, span.end, date, zone)
}

fn interval(begin: u16, end: u16, date: Date, zone: &TimeZone) -> Option<(i64, i64)> {
    let last = if end <= begin { shift(date, 1) } else { date };
    let interval = (begin_of(date, begin, zone)?, end_of(last, end, zone)?);
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
            except: vec![],
            also: vec![],
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

    fn dated(first: &str, last: &str, begin: u16, end: u16) -> DatedSpan {
        DatedSpan { first: first.parse().unwrap(), last: last.parse().unwrap(), begin, end }
    }

    #[test]
    fn holidays_close_the_hours_and_maintenance_windows_open_them() {
        let mut desk = hours("UTC", &[(0x1f, 480, 1080)]);
        desk.except = vec![dated("2026-12-24", "2026-12-24", 720, 1440), dated("2026-12-25", "2026-12-26", 0, 1440)];
        desk.also = vec![dated("2026-12-26", "2026-12-26", 1320, 120)];
        let c = Calendar::new(&desk, t("2026-11-01T00:00:00Z"));
        assert_eq!(c.at(t("2026-12-24T09:00:00Z")), Opening { open: true, until: Some(t("2026-12-24T12:00:00Z")) });
        assert_eq!(c.at(t("2026-12-25T09:00:00Z")), Opening { open: false, until: Some(t("2026-12-26T22:00:00Z")) });
        assert_eq!(c.at(t("2026-12-27T01:00:00Z")), Opening { open: true, until: Some(t("2026-12-27T02:00:00Z")) });
        // Far from the year that is kept at hand the answer is the same.
        let far = Calendar::new(&desk, t("2021-11-01T00:00:00Z"));
        for at in ["2026-12-24T09:00:00Z", "2026-12-25T09:00:00Z", "2026-12-27T01:00:00Z", "2026-12-30T12:00:00Z"] {
            assert_eq!(far.at(t(at)), c.at(t(at)), "{at}");
        }
    }

    #[test]
    fn hours_of_dates_alone_open_on_those_dates() {
        let mut window = hours("UTC", &[]);
        window.also = vec![dated("2027-02-03", "2027-02-03", 600, 660)];
        let c = Calendar::new(&window, t("2026-11-01T00:00:00Z"));
        assert_eq!(c.at(t("2026-11-02T00:00:00Z")), Opening { open: false, until: Some(t("2027-02-03T10:00:00Z")) });
        let far = Calendar::new(&window, t("2020-11-01T00:00:00Z"));
        assert_eq!(far.at(t("2026-11-02T00:00:00Z")), Opening { open: false, until: Some(t("2027-02-03T10:00:00Z")) });
        assert_eq!(far.at(t("2027-02-03T10:30:00Z")), Opening { open: true, until: Some(t("2027-02-03T11:00:00Z")) });
    }

    proptest! {
        #[test]
        fn intervals_agree_with_asking_instant_by_instant(
            days in 1u8..0x80, begin in 0u16..1440, end in 1u16..=1440, from in 1_700_000_000i64..1_900_000_000, step in 1i64..50_000,
            except in 0i32..30, zone in prop::sample::select(vec!["UTC", "Europe/Berlin", "Atlantic/Canary", "Australia/Lord_Howe"]),
        ) {
            prop_assume!(begin != end);
            let mut h = hours(zone, &[(days, begin, end)]);
            let day = shift(Timestamp::from_second(from).unwrap().to_zoned(h.zone.clone()).date(), except);
            h.except = vec![DatedSpan { first: day, last: shift(day, 2), begin: 0, end: 1440 }];
            h.also = vec![DatedSpan { first: shift(day, 1), last: shift(day, 1), begin: 600, end: 700 }];
            let calendar = Calendar::new(&h, Timestamp::from_second(1_800_000_000).unwrap());
            let to = from + 30 * 86_400;
            let spans = calendar.intervals(from, to);
            for t in (from..to).step_by(step as usize + 10_000) {
                let inside = spans.iter().any(|(b, e)| *b <= t && t < *e);
                prop_assert_eq!(calendar.at(Timestamp::from_second(t).unwrap()).open, inside);
            }
        }

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
