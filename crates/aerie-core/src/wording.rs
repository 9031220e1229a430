//! Words that are used alike in console, terminal and reports: durations, lists, instants.

use jiff::{SignedDuration, Timestamp, tz::TimeZone};

/// A duration for a sentence: `46 s`, `16 min`, `2 h 41 min`, `3 d 4 h`.
pub fn duration(d: SignedDuration) -> String {
    let s = d.as_secs().max(0);
    let pair = |a: i64, unit: &str, b: i64, small: &str| {
        if b == 0 { format!("{a} {unit}") } else { format!("{a} {unit} {b} {small}") }
    };
    match s {
        0..60 => format!("{s} s"),
        60..3600 => pair(s / 60, "min", if s < 600 { s % 60 } else { 0 }, "s"),
        3600..86_400 => pair(s / 3600, "h", s % 3600 / 60, "min"),
        _ => pair(s / 86_400, "d", s % 86_400 / 3600, "h"),
    }
}

/// `a`, `a and b`, `a, b and c`.
pub fn list<S: AsRef<str>>(items: &[S]) -> String {
    match items {
        [] => String::new(),
        [one] => one.as_ref().into(),
        [head @ .., last] => {
            let head: Vec<&str> = head.iter().map(AsRef::as_ref).collect();
            format!("{} and {}", head.join(", "), last.as_ref())
        }
    }
}

/// The wall-clock time of an instant as one says it on the day of `now`: `07:30`, `Tuesday 07:30`, `2026-12-01 07:30`.
pub fn instant(at: Timestamp, now: Timestamp, zone: &TimeZone) -> String {
    let (there, here) = (at.to_zoned(zone.clone()), now.to_zoned(zone.clone()));
    let away = at.duration_since(now).abs();
    if there.date() == here.date() || (at > now && away < SignedDuration::from_hours(12)) {
        there.strftime("%H:%M").to_string()
    } else if at > now && away < SignedDuration::from_hours(6 * 24) {
        there.strftime("%A %H:%M").to_string()
    } else {
        there.strftime("%Y-%m-%d %H:%M").to_string()
    }
}

/// `1 session`, `3 sessions`.
pub fn count(n: u64, noun: &str) -> String {
    let ending = if n == 1 { "" } else { "s" };
    format!("{n} {noun}{ending}")
}

/// A size for a sentence: `812 B`, `1.2 MB` (powers of 1000).
pub fn size(bytes: u64) -> String {
    const UNITS: [&str; 5] = ["kB", "MB", "GB", "TB", "PB"];
    if bytes < 1000 {
        return format!("{bytes} B");
    }
    let mut value = bytes as f64;
    let mut unit = "B";
    for u in UNITS {
        if value < 999.95 {
            break;
        }
        value /= 1000.0;
        unit = u;
    }
    format!("{value:.1} {unit}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn durations_read_like_speech() {
        let s = |n| duration(SignedDuration::from_secs(n));
        assert_eq!([s(46), s(65), s(960), s(9660), s(273_600)], ["46 s", "1 min 5 s", "16 min", "2 h 41 min", "3 d 4 h"]);
        assert_eq!(s(-5), "0 s");
    }

    #[test]
    fn lists_and_sizes() {
        assert_eq!(list(&["a", "b", "c"]), "a, b and c");
        assert_eq!(list::<&str>(&[]), "");
        assert_eq!((size(812), size(1_234_567), size(999_999)), ("812 B".into(), "1.2 MB".into(), "1.0 MB".into()));
        assert_eq!((count(1, "session"), count(0, "session")), ("1 session".into(), "0 sessions".into()));
    }
}
