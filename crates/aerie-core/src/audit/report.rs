//! What is mailed now and then to those who look after it: who got into which machine, and what was found.

use super::finding::Importance;
use crate::wording::duration;
use jiff::civil::{Date, Time};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, ToSpan as _};
use serde::{Deserialize, Serialize};
use std::fmt::Write as _;

/// People whom one report is mailed to at most.
pub const MOST_RECIPIENTS: usize = 50;
/// Rows of totals, and findings, that a report lists; the rest are counted.
pub const MOST_ROWS: usize = 40;
/// Widest name in a table; a longer one is cut.
const WIDEST: usize = 40;

/// How often.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Every {
    /// Each day, about the day before.
    Day,
    /// Each Monday, about the week before.
    Week,
    /// On the first of each month, about the month before.
    Month,
}

impl Every {
    /// Every one.
    pub const ALL: [Self; 3] = [Self::Day, Self::Week, Self::Month];

    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Day => "day",
            Self::Week => "week",
            Self::Month => "month",
        }
    }

    /// That of a word.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|e| e.word() == word)
    }

    /// The first day of the day, week or month of a day.
    fn begin(self, day: Date) -> Date {
        match self {
            Self::Day => day,
            Self::Week => day.checked_sub(i64::from(day.weekday().to_monday_zero_offset()).days()).unwrap_or(day),
            Self::Month => day.first_of_month(),
        }
    }

    fn before(self, begin: Date) -> Date {
        let day = begin.yesterday().unwrap_or(begin);
        self.begin(day)
    }

    fn after(self, begin: Date) -> Date {
        let span = match self {
            Self::Day => 1.day(),
            Self::Week => 7.days(),
            Self::Month => 1.month(),
        };
        begin.checked_add(span).unwrap_or(begin)
    }
}

/// What is counted for each line of a report.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum By {
    /// Each person.
    Person,
    /// Each machine.
    Machine,
    /// Each address.
    Source,
    /// Each account of a machine.
    Account,
    /// Each rule.
    Rule,
    /// Each operating system.
    System,
}

impl By {
    /// Every one.
    pub const ALL: [Self; 6] = [Self::Person, Self::Machine, Self::Source, Self::Account, Self::Rule, Self::System];

    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Person => "person",
            Self::Machine => "machine",
            Self::Source => "source",
            Self::Account => "account",
            Self::Rule => "rule",
            Self::System => "system",
        }
    }

    /// That of a word.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|b| b.word() == word)
    }

    /// How a row is called that has no name.
    pub fn nameless(self) -> &'static str {
        match self {
            Self::Person => "Somebody",
            Self::Rule => "(no rule: around Aerie)",
            Self::System => "(not known)",
            Self::Machine | Self::Source | Self::Account => "(not told)",
        }
    }
}

/// A report that is mailed now and then.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Schedule {
    /// How often.
    pub every: Every,
    /// At which full hour, 0 to 23, in the zone of the rules.
    pub hour: i8,
    /// What is counted.
    pub by: By,
    /// Names of the people.
    pub to: Vec<String>,
}

impl Schedule {
    /// When it is due next, after an instant. An hour that a change of the clocks skips is the instant of the skip.
    pub fn next(&self, after: Timestamp, zone: &TimeZone) -> Timestamp {
        let mut begin = self.every.begin(after.to_zoned(zone.clone()).date());
        loop {
            let due = begin.to_datetime(Time::constant(self.hour.clamp(0, 23), 0, 0, 0));
            let due = zone.to_ambiguous_timestamp(due).compatible().unwrap_or(Timestamp::MAX);
            let later = self.every.after(begin);
            if due > after || later == begin {
                return due;
            }
            begin = later;
        }
    }

    /// The whole day, week or month before an instant.
    pub fn span(&self, at: Timestamp, zone: &TimeZone) -> (Timestamp, Timestamp) {
        let until = self.every.begin(at.to_zoned(zone.clone()).date());
        let midnight = |day: Date| day.to_zoned(zone.clone()).map(|z| z.timestamp()).unwrap_or(at);
        (midnight(self.every.before(until)), midnight(until))
    }

    /// The schedule in words: `each Monday at 07:00, by person`.
    pub fn sentence(&self) -> String {
        let when = match self.every {
            Every::Day => "Each day",
            Every::Week => "Each Monday",
            Every::Month => "On the first of each month",
        };
        format!("{when} at {:02}:00 about the {} before, by {}.", self.hour, self.every.word(), self.by.word())
    }
}

/// One row of totals.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReportRow {
    /// Person, machine, …
    pub name: String,
    /// Accesses.
    pub count: u64,
    /// Those of them that no session explains.
    pub around: u64,
    /// Seconds together.
    pub seconds: u64,
    /// The longest.
    pub longest: u64,
}

/// One finding of a report.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReportFinding {
    /// Identifier.
    pub id: String,
    /// How much it matters.
    pub importance: Importance,
    /// Word of its state.
    pub state: String,
    /// What happened.
    pub sentence: String,
}

/// A report.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Report {
    /// From when.
    pub from: Timestamp,
    /// Until when, not included.
    pub until: Timestamp,
    /// The zone in which it is told.
    pub zone: TimeZone,
    /// How many got in, in a sentence.
    pub sentence: String,
    /// What is counted.
    pub by: By,
    /// Totals, most accesses first.
    pub totals: Vec<ReportRow>,
    /// What was found in that time and is not settled, most important first.
    pub findings: Vec<ReportFinding>,
    /// For which machines and days there is evidence, in a sentence.
    pub coverage: String,
    /// Address of the console; empty where it is not known.
    pub address: String,
}

impl Report {
    fn period(&self) -> String {
        let date = |t: Timestamp| t.to_zoned(self.zone.clone()).strftime("%-d %B %Y").to_string();
        let last = self.until.checked_sub(SignedDuration::from_secs(1)).unwrap_or(self.until);
        let (first, last) = (date(self.from), date(last));
        if first == last { first } else { format!("{first} to {last}") }
    }

    /// Subject of the mail.
    pub fn subject(&self) -> String {
        let waiting = match self.findings.len() {
            0 => "nothing to look at".to_string(),
            1 => "1 finding to look at".to_string(),
            n => format!("{n} findings to look at"),
        };
        format!("Remote access, {}: {waiting}", self.period())
    }

    /// The report as plain text, at most 100 characters wide but for sentences.
    pub fn text(&self) -> String {
        let mut out = format!("Remote access, {} ({})\n\n{}\n", self.period(), self.zone.iana_name().unwrap_or("UTC"), self.sentence);
        if !self.totals.is_empty() {
            let name = |r: &ReportRow| if r.name.is_empty() { self.by.nameless().to_string() } else { cut(&r.name) };
            let width = self.totals.iter().take(MOST_ROWS).map(|r| name(r).chars().count()).max().unwrap_or(0).max(8);
            let _ = writeln!(
                out,
                "\n{:width$}  {:>8}  {:>7}  {:>11}  {:>11}  {:>11}",
                self.by.word(),
                "accesses",
                "around",
                "together",
                "average",
                "longest"
            );
            for r in self.totals.iter().take(MOST_ROWS) {
                let time = |s: u64| duration(SignedDuration::from_secs(i64::try_from(s).unwrap_or(i64::MAX)));
                let average = r.seconds.checked_div(r.count).unwrap_or(0);
                let (name, around) = (name(r), if r.around == 0 { "–".to_string() } else { r.around.to_string() });
                let (together, average, longest) = (time(r.seconds), time(average), time(r.longest));
                let _ = writeln!(out, "{name:width$}  {:>8}  {around:>7}  {together:>11}  {average:>11}  {longest:>11}", r.count);
            }
            more(&mut out, self.totals.len());
        }
        let _ = match self.findings.len() {
            0 => writeln!(out, "\nNothing was found in that time that is not settled."),
            _ => writeln!(out, "\nFound in that time, and not settled:"),
        };
        for f in self.findings.iter().take(MOST_ROWS) {
            let _ = writeln!(out, "- {} ({}, {})", f.sentence, f.importance.word(), f.state);
            if !self.address.is_empty() {
                let _ = writeln!(out, "  {}/findings/{}", self.address, f.id);
            }
        }
        more(&mut out, self.findings.len());
        let _ = writeln!(out, "\n{}", self.coverage);
        out
    }
}

fn more(out: &mut String, count: usize) {
    if count > MOST_ROWS {
        let _ = writeln!(out, "and {} more", count - MOST_ROWS);
    }
}

fn cut(name: &str) -> String {
    let name = crate::diagnostic::printable(name);
    if name.chars().count() <= WIDEST { name } else { name.chars().take(WIDEST - 1).chain(['…']).collect() }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn t(text: &str) -> Timestamp {
        text.parse().unwrap()
    }

    fn schedule(every: Every, hour: i8) -> Schedule {
        Schedule { every, hour, by: By::Person, to: vec!["ada".into()] }
    }

    #[test]
    fn reports_are_due_at_their_hour_also_when_the_clocks_change() {
        let zone = TimeZone::get("Europe/Madrid").unwrap();
        let table = [
            (Every::Day, 7, "2026-11-27T05:00:00Z", "2026-11-27T06:00:00Z"),
            (Every::Day, 7, "2026-11-27T06:00:00Z", "2026-11-28T06:00:00Z"),
            // Summer time begins on 29 March at 2: the hour from 2 to 3 is skipped.
            (Every::Day, 2, "2026-03-28T12:00:00Z", "2026-03-29T01:00:00Z"),
            // It ends on 25 October at 3: the hour from 2 to 3 comes twice, and counts the first time.
            (Every::Day, 2, "2026-10-24T12:00:00Z", "2026-10-25T00:00:00Z"),
            (Every::Day, 2, "2026-10-25T00:00:00Z", "2026-10-26T01:00:00Z"),
            (Every::Week, 7, "2026-11-27T12:00:00Z", "2026-11-30T06:00:00Z"),
            (Every::Month, 0, "2026-12-31T12:00:00Z", "2026-12-31T23:00:00Z"),
        ];
        for (every, hour, after, due) in table {
            assert_eq!(schedule(every, hour).next(t(after), &zone), t(due), "{every:?} {hour} after {after}");
        }
    }

    #[test]
    fn a_report_is_about_the_whole_span_before() {
        let zone = TimeZone::get("Europe/Madrid").unwrap();
        let span = |every, at: &str| {
            let (from, until) = schedule(every, 7).span(t(at), &zone);
            (from.to_string(), until.to_string())
        };
        let pair = |a: &str, b: &str| (a.to_string(), b.to_string());
        assert_eq!(span(Every::Day, "2026-11-27T06:00:00Z"), pair("2026-11-25T23:00:00Z", "2026-11-26T23:00:00Z"));
        assert_eq!(span(Every::Week, "2026-11-30T06:00:00Z"), pair("2026-11-22T23:00:00Z", "2026-11-29T23:00:00Z"));
        assert_eq!(span(Every::Month, "2026-11-01T06:00:00Z"), pair("2026-09-30T22:00:00Z", "2026-10-31T23:00:00Z"));
    }

    #[test]
    fn the_text_says_what_there_is_and_how_much_more() {
        let row = |name: &str| ReportRow { name: name.into(), count: 4, around: 1, seconds: 7200, longest: 3600 };
        let finding = |n: usize| ReportFinding {
            id: format!("f{n}"),
            importance: Importance::High,
            state: "open".into(),
            sentence: "Somebody was there.".into(),
        };
        let mut report = Report {
            from: t("2026-11-15T23:00:00Z"),
            until: t("2026-11-22T23:00:00Z"),
            zone: TimeZone::get("Europe/Madrid").unwrap(),
            sentence: "8 accesses by 1 person, 2 of them around Aerie.".into(),
            by: By::Person,
            totals: vec![row("Ines Okafor"), row("")],
            findings: vec![finding(0)],
            coverage: "There is evidence of 9 of 11 machines.".into(),
            address: "https://aerie.example".into(),
        };
        assert_eq!(report.subject(), "Remote access, 16 November 2026 to 22 November 2026: 1 finding to look at");
        let expected = "\
Remote access, 16 November 2026 to 22 November 2026 (Europe/Madrid)

8 accesses by 1 person, 2 of them around Aerie.

person       accesses   around     together      average      longest
Ines Okafor         4        1          2 h       30 min          1 h
Somebody            4        1          2 h       30 min          1 h

Found in that time, and not settled:
- Somebody was there. (high, open)
  https://aerie.example/findings/f0

There is evidence of 9 of 11 machines.
";
        assert_eq!(report.text(), expected);
        report.totals = vec![row("\u{1b}[31m and a name that is longer than any column of a table may be"); MOST_ROWS + 2];
        report.findings = vec![];
        let text = report.text();
        assert!(text.contains("and 2 more") && text.contains("Nothing was found") && !text.contains('\u{1b}') && text.contains('…'));
        assert_eq!(report.subject(), "Remote access, 16 November 2026 to 22 November 2026: nothing to look at");
    }

    #[test]
    fn words_read_back() {
        for e in Every::ALL {
            assert_eq!((Every::from_word(e.word()), serde_json::to_value(e).unwrap()), (Some(e), e.word().into()));
        }
        for b in By::ALL {
            assert_eq!((By::from_word(b.word()), serde_json::to_value(b).unwrap()), (Some(b), b.word().into()));
        }
    }
}
