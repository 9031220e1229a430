use jiff::civil::DateTime;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};

/// A log that steps back by more than this has passed into another year; one that steps back by less has a clock that was
/// set, or lines of several processes.
const ROLL_OVER: SignedDuration = SignedDuration::from_hours(24 * 180);

/// Gives the instants of stamps that name neither year nor zone.
///
/// The year of the first line is the latest for which the line is not in the future of `newest`; from there on it moves on
/// when the months start again.
#[derive(Debug, Clone)]
pub struct LogClock {
    zone: TimeZone,
    newest: Timestamp,
    year: Option<i16>,
    last: Option<Timestamp>,
    /// Stamp up to the minute, and its instant: lines come in runs.
    minute: Option<([u8; 12], i64)>,
}

impl LogClock {
    /// For a log written in `zone`, whose first line is not later than `newest` (the file's time, or now).
    pub fn new(zone: TimeZone, newest: Timestamp) -> Self {
        Self { zone, newest, year: None, last: None, minute: None }
    }

    /// For a log whose first line was written in this year.
    pub fn of_year(zone: TimeZone, year: i16) -> Self {
        Self { zone, newest: Timestamp::MAX, year: Some(year), last: None, minute: None }
    }

    /// The instant of a time that names a year and no zone.
    pub fn civil(&self, at: DateTime) -> Option<Timestamp> {
        self.zone.to_ambiguous_timestamp(at).compatible().ok()
    }

    /// The instant of a stamp such as `Nov 23 08:20:50` or `Nov  3 08:20:50`; none where it is not one.
    pub fn read(&mut self, stamp: &[u8]) -> Option<Timestamp> {
        let key: [u8; 12] = stamp.get(..12)?.try_into().ok()?;
        let second = match stamp.get(12..15)? {
            [b':', a, b] if a.is_ascii_digit() && b.is_ascii_digit() => i64::from(a - b'0') * 10 + i64::from(b - b'0'),
            _ => return None,
        };
        let minute = match self.minute {
            Some((k, at)) if k == key => at,
            _ => {
                let at = self.minute_of(&key)?;
                self.minute = Some((key, at));
                at
            }
        };
        let at = Timestamp::from_second(minute.checked_add(second.min(60))?).ok()?;
        self.last = Some(self.last.map_or(at, |l| l.max(at)));
        Some(at)
    }

    fn minute_of(&mut self, stamp: &[u8; 12]) -> Option<i64> {
        const MONTHS: [&[u8]; 12] = [b"Jan", b"Feb", b"Mar", b"Apr", b"May", b"Jun", b"Jul", b"Aug", b"Sep", b"Oct", b"Nov", b"Dec"];
        let [m1, m2, m3, b' ', d1, d2, b' ', h1, h2, b':', n1, n2] = *stamp else { return None };
        let month = MONTHS.iter().position(|m| **m == [m1, m2, m3])? as i8 + 1;
        let day = if d1 == b' ' { number(b'0', d2)? } else { number(d1, d2)? };
        let at = |year: i16| {
            let wall = DateTime::new(year, month, day, number(h1, h2)?, number(n1, n2)?, 0, 0).ok()?;
            self.zone.to_ambiguous_timestamp(wall).compatible().ok()
        };
        let year = match (self.year, self.last) {
            (None, _) => {
                let newest = self.newest.to_zoned(self.zone.clone()).year();
                let latest = self.newest.saturating_add(SignedDuration::from_hours(24)).unwrap_or(self.newest);
                (newest - 4..=newest + 1).rev().find(|y| at(*y).is_some_and(|t| t <= latest))?
            }
            (Some(year), Some(last)) if at(year).is_some_and(|t| last.duration_since(t) > ROLL_OVER) => year + 1,
            // A line from before the turn of the year that was written after one from behind it.
            (Some(year), Some(last)) if at(year).is_some_and(|t| t.duration_since(last) > ROLL_OVER) => year - 1,
            (Some(year), _) => year,
        };
        let instant = at(year)?;
        if self.last.is_none_or(|l| instant >= l) {
            self.year = Some(year);
        }
        Some(instant.as_second())
    }
}

fn number(a: u8, b: u8) -> Option<i8> {
    (a.is_ascii_digit() && b.is_ascii_digit()).then(|| ((a - b'0') * 10 + (b - b'0')) as i8)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn t(text: &str) -> Timestamp {
        text.parse().unwrap()
    }

    #[test]
    fn the_year_is_found_and_rolls_over() {
        let mut c = LogClock::new(TimeZone::UTC, t("2026-02-01T00:00:00Z"));
        assert_eq!(c.read(b"Dec 31 23:59:58"), Some(t("2025-12-31T23:59:58Z")));
        assert_eq!(c.read(b"Jan  1 00:00:01"), Some(t("2026-01-01T00:00:01Z")));
        assert_eq!(c.read(b"Dec 31 23:59:59"), Some(t("2025-12-31T23:59:59Z")));
        assert_eq!(c.read(b"Jan  1 00:00:02"), Some(t("2026-01-01T00:00:02Z")));
    }

    #[test]
    fn a_clock_that_is_set_back_stays_in_its_year() {
        let mut c = LogClock::of_year(TimeZone::UTC, 2026);
        assert_eq!(c.read(b"Nov 23 08:20:50"), Some(t("2026-11-23T08:20:50Z")));
        assert_eq!(c.read(b"Nov 20 08:20:50"), Some(t("2026-11-20T08:20:50Z")));
    }

    #[test]
    fn zones_count_and_nonsense_is_refused() {
        let mut c = LogClock::of_year(TimeZone::get("Asia/Tokyo").unwrap(), 2026);
        assert_eq!(c.read(b"Nov 23 08:20:50"), Some(t("2026-11-22T23:20:50Z")));
        for bad in [
            &b"Nov 23 08:20"[..],
            b"Nev 23 08:20:50",
            b"Nov 32 08:20:50",
            b"Nov 23 08:61:50",
            b"Nov 23 08:20:5x",
            b"2026-11-23T08:2",
            b"Feb 30 00:00:00",
        ] {
            assert_eq!(c.read(bad), None, "{}", String::from_utf8_lossy(bad));
        }
    }
}
