//! Spans, dates, durations and sizes as they are written.

use crate::policy::document::{DatedSpan, Span};
use jiff::SignedDuration;
use jiff::civil::Date;

/// Reads `mon-fri 08:00-18:00`, `sat,sun 10:00-14:00`, `daily 18:00-07:30`.
pub(super) fn parse_span(text: &str) -> Result<Span, String> {
    let (days, times) = text.split_once(' ').ok_or_else(|| format!("`{text}` does not say which days or which times"))?;
    let (begin, end) = times_of(times)?;
    Ok(Span { days: days_of(days)?, begin, end })
}

fn times_of(times: &str) -> Result<(u16, u16), String> {
    let (begin, end) = times.trim().split_once('-').ok_or_else(|| format!("`{times}` is not a span of time"))?;
    let (begin, end) = (minute(begin)?, minute(end)?);
    if begin == end {
        return Err(format!("`{times}` is empty: for the whole day write `00:00-24:00`"));
    }
    if begin == 1440 {
        return Err("a span cannot begin at 24:00: write 00:00 of the next day".into());
    }
    Ok((begin, end))
}

fn minute(text: &str) -> Result<u16, String> {
    let wrong = || format!("`{text}` is not a time of day");
    let (h, m) = text.trim().split_once(':').ok_or_else(wrong)?;
    let digits = |s: &str| if s.len() == 2 { s.parse::<u16>().ok() } else { None };
    match (digits(h), digits(m)) {
        (Some(h @ 0..24), Some(m @ 0..60)) => Ok(h * 60 + m),
        (Some(24), Some(0)) => Ok(1440),
        _ => Err(wrong()),
    }
}

fn days_of(text: &str) -> Result<u8, String> {
    const DAYS: [&str; 7] = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];
    if text == "daily" {
        return Ok(0x7f);
    }
    let day = |word: &str| DAYS.iter().position(|d| *d == word).ok_or_else(|| format!("`{word}` is not a day of the week"));
    let mut set = 0u8;
    for part in text.split(',') {
        match part.split_once('-') {
            None => set |= 1 << day(part)?,
            Some((first, last)) => {
                let (first, last) = (day(first)?, day(last)?);
                let length = (last + 7 - first) % 7;
                (0..=length).for_each(|i| set |= 1 << ((first + i) % 7));
            }
        }
    }
    Ok(set)
}

/// Reads `90s`, `20min`, `4h`, `1h 30min`.
pub(crate) fn parse_duration(text: &str) -> Option<SignedDuration> {
    let mut total = SignedDuration::ZERO;
    for part in text.split_whitespace() {
        let unit = part.find(|c: char| !c.is_ascii_digit())?;
        let n: i64 = part.get(..unit)?.parse().ok()?;
        let seconds = match part.get(unit..)? {
            "s" => 1,
            "min" => 60,
            "h" => 3600,
            "d" => 86_400,
            _ => return None,
        };
        total = total.checked_add(SignedDuration::from_secs(n.checked_mul(seconds)?))?;
    }
    Some(total)
}

/// Reads `2026-12-25`, `2026-12-24 12:00-24:00`, `2026-12-27..2027-01-02`, `2026-12-27..2027-01-02 18:00-07:30`.
pub(super) fn parse_dated(text: &str) -> Result<DatedSpan, String> {
    let (dates, times) = text.split_once(' ').map_or((text, None), |(d, t)| (d, Some(t.trim())));
    let date = |t: &str| t.parse::<Date>().map_err(|_| format!("`{t}` is not a date"));
    let (first, last) = dates.split_once("..").unwrap_or((dates, dates));
    let (first, last) = (date(first)?, date(last)?);
    if last < first {
        return Err(format!("`{dates}` ends before it begins"));
    }
    if (last - first).get_days() > MAX_DAYS {
        return Err(format!("`{dates}` is longer than {MAX_DAYS} days"));
    }
    let (begin, end) = times.map_or(Ok((0, 1440)), times_of)?;
    Ok(DatedSpan { first, last, begin, end })
}

/// Longest run of dates in one exception: a bit over a year.
const MAX_DAYS: i32 = 400;

/// Reads `500 kB`, `2GB`: powers of 1000.
pub(super) fn parse_size(text: &str) -> Option<u64> {
    let unit = text.find(|c: char| !c.is_ascii_digit())?;
    let n: u64 = text.get(..unit)?.parse().ok()?;
    let factor = match text.get(unit..)?.trim_start() {
        "kB" => 1_000,
        "MB" => 1_000_000,
        "GB" => 1_000_000_000,
        "TB" => 1_000_000_000_000,
        _ => return None,
    };
    n.checked_mul(factor).filter(|n| *n > 0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spans_of_days_and_times() {
        let s = |t: &str| parse_span(t).map(|s| (s.days, s.begin, s.end));
        assert_eq!(s("mon-fri 08:00-18:00"), Ok((0b001_1111, 480, 1080)));
        assert_eq!(s("fri-mon 22:00-24:00"), Ok((0b111_0001, 1320, 1440)));
        assert_eq!(s("sat,sun 10:00-09:30"), Ok((0b110_0000, 600, 570)));
        for bad in ["mon", "mon 8:00-18:00", "mon 08:00-25:00", "mun 08:00-09:00", "daily 08:00-08:00", "daily 24:00-08:00"] {
            assert!(s(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn durations_are_bounded_and_exact() {
        assert_eq!(parse_duration("1h 30min"), Some(SignedDuration::from_mins(90)));
        for bad in ["4", "h", "4 h", "99999999999999999999h", "-4h", "4hours"] {
            assert_eq!(parse_duration(bad), None, "{bad}");
        }
    }

    #[test]
    fn exceptions_are_dates_with_or_without_times() {
        let d = |t: &str| parse_dated(t).map(|s| (s.first.to_string(), s.last.to_string(), s.begin, s.end));
        assert_eq!(d("2026-12-25"), Ok(("2026-12-25".into(), "2026-12-25".into(), 0, 1440)));
        assert_eq!(d("2026-12-27..2027-01-02 18:00-07:30"), Ok(("2026-12-27".into(), "2027-01-02".into(), 1080, 450)));
        for bad in ["2026-02-30", "soon", "2027-01-02..2026-12-27", "2026-12-24 12:00", "2026-01-01..2029-01-01"] {
            assert!(d(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn sizes_are_powers_of_a_thousand() {
        assert_eq!((parse_size("2GB"), parse_size("500 kB")), (Some(2_000_000_000), Some(500_000)));
        for bad in ["2", "GB", "0MB", "-1MB", "99999999999999TB", "2 gb"] {
            assert_eq!(parse_size(bad), None, "{bad}");
        }
    }
}
