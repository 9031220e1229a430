//! Holds signals against detections.

use super::document::{Detection, DetectionSet, Stage};
use super::hashing::{Hashing, Once};
use super::signal::{Field, Signal, What};
use super::state::{Came, Hit, State};
use crate::audit::finding::{Cause, Detected, FindingKind, Findings, Raised};
use crate::diagnostic::printable;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use std::sync::Arc;

/// What overdue things are looked for at least this often, by the clock of the signals.
const LOOK_EVERY: jiff::SignedDuration = jiff::SignedDuration::from_mins(10);

/// Holds signals against detections.
///
/// Feed [`Detector::handle_signal`] in the order of time, and [`Detector::handle_time`] when time has passed without any.
pub struct Detector {
    set: Arc<DetectionSet>,
    zone: TimeZone,
    states: Vec<(usize, State)>,
    /// Which of the states look at a kind of signal.
    of_kind: Vec<Vec<usize>>,
    hashing: Hashing,
    looked: Option<Timestamp>,
    has_absences: bool,
}

impl Detector {
    /// For those detections of a set that belong to a stage.
    pub fn new(set: Arc<DetectionSet>, zone: TimeZone, stage: Stage) -> Self {
        Self::only(set, zone, |d| d.enabled && d.stage() == stage)
    }

    pub(super) fn only(set: Arc<DetectionSet>, zone: TimeZone, which: impl Fn(&Detection) -> bool) -> Self {
        let states: Vec<(usize, State)> =
            set.all().iter().enumerate().filter(|(_, d)| which(d)).map(|(n, d)| (n, State::of(&d.form))).collect();
        let looks = |state: &(usize, State), what: What| {
            let form = set.all().get(state.0).map(|d| &d.form);
            let overlaps = matches!(state.1, State::Overlap(_)) && what == What::End;
            overlaps || form.is_some_and(|f| f.patterns().any(|p| p.what == what))
        };
        let of_kind =
            What::ALL.iter().map(|what| states.iter().enumerate().filter(|(_, s)| looks(s, *what)).map(|(n, _)| n).collect()).collect();
        let has_absences = states.iter().any(|(_, s)| matches!(s, State::Absence(_)));
        Self { set, zone, states, of_kind, hashing: Hashing::default(), looked: None, has_absences }
    }

    /// Whether nothing looks at signals of a kind.
    pub fn is_deaf_to(&self, what: What) -> bool {
        self.of_kind.get(what as usize).is_none_or(Vec::is_empty)
    }

    /// Takes a signal.
    pub fn handle_signal(&mut self, signal: &Signal<'_>, findings: &mut Findings) {
        if self.has_absences && self.looked.is_none_or(|l| signal.at.duration_since(l) > LOOK_EVERY) {
            self.handle_time(signal.at, findings);
        }
        let Self { set, zone, states, of_kind, hashing, .. } = self;
        let mut once = Once::default();
        for at in of_kind.get(signal.what as usize).into_iter().flatten() {
            let Some((number, state)) = states.get_mut(*at) else { continue };
            let Some(detection) = set.all().get(*number) else { continue };
            let ends = signal.what == What::End && matches!(state, State::Overlap(_));
            if !ends && !detection.form.looks_at(signal, zone) {
                continue;
            }
            let Some(key) = hashing.key(detection.form.by(), signal, zone, &mut once) else { continue };
            match state.handle(&detection.form, key, signal, zone, |field| hashing.field(field, signal, zone, &mut once)) {
                Came::Nothing => {}
                Came::Found(hit) => raise(detection, set.version(), signal, hit, zone, findings),
                Came::Await(due) => {
                    let hit = Hit { count: 1, ..Hit::default() };
                    state.keep_awaited(key, raised(detection, set.version(), signal, hit, zone), due);
                }
            }
        }
    }

    /// Says how late it is: what should have followed by then and did not is found.
    pub fn handle_time(&mut self, now: Timestamp, findings: &mut Findings) {
        self.looked = Some(now);
        let mut told = vec![];
        self.states.iter_mut().for_each(|(_, s)| s.overdue(now, &mut told));
        told.sort_by_key(|r| r.at);
        told.into_iter().for_each(|r| findings.handle_raised(r));
    }
}

/// What makes occurrences one finding.
struct Parts<'a> {
    machine: &'a str,
    account: &'a str,
    person: Option<&'a str>,
    source: Option<&'a str>,
    session: Option<&'a str>,
}

fn raise(d: &Detection, version: &str, signal: &Signal<'_>, mut hit: Hit, zone: &TimeZone, findings: &mut Findings) {
    let parts = parts(d, signal);
    let cause = Cause {
        kind: &d.name,
        machine: parts.machine,
        account: parts.account,
        person: parts.person,
        source: parts.source,
        session: parts.session,
    };
    let early = std::mem::take(&mut hit.lines);
    let known = findings.handle_known(cause, signal.at, hit.count, || {
        let mut lines = early.clone();
        lines.extend((signal.lines)());
        lines
    });
    if !known {
        hit.lines = early;
        findings.handle_raised(raised(d, version, signal, hit, zone));
    }
}

fn parts<'a>(d: &Detection, signal: &Signal<'a>) -> Parts<'a> {
    let by = |field: Field| d.form.tells_apart(field);
    Parts {
        machine: if by(Field::Machine) { signal.machine } else { "" },
        account: if by(Field::Account) { signal.account } else { "" },
        person: signal.person.filter(|_| by(Field::Person)),
        source: Some(signal.source).filter(|s| !s.is_empty() && (by(Field::Source) || by(Field::Network))),
        session: signal.session.filter(|_| by(Field::Session)),
    }
}

fn raised(d: &Detection, version: &str, signal: &Signal<'_>, mut hit: Hit, zone: &TimeZone) -> Raised {
    let parts = parts(d, signal);
    hit.lines.extend((signal.lines)());
    let fill = |text: &str| fill(text, signal, &hit, zone);
    let (what, why) = (fill(&d.says), fill(&d.because));
    Raised {
        kind: FindingKind::Detected,
        what,
        why,
        machine: parts.machine.into(),
        account: parts.account.into(),
        person: parts.person.map(Into::into),
        source: parts.source.map(Into::into),
        at: signal.at,
        first: hit.first.unwrap_or(signal.at),
        count: hit.count,
        lines: hit.lines,
        session: parts.session.map(Into::into),
        moment_ms: signal.moment_ms,
        about: Some(Arc::new(Detected {
            name: d.name.clone(),
            importance: d.importance,
            mend: d.mend.clone(),
            techniques: d.techniques.clone(),
            controls: d.controls.clone(),
            version: version.into(),
        })),
    }
}

/// A sentence with what its braces stand for.
fn fill(text: &str, signal: &Signal<'_>, hit: &Hit, zone: &TimeZone) -> String {
    let mut out = String::with_capacity(text.len() + 40);
    let mut rest = text;
    while let Some((before, (word, after))) = rest.split_once('{').and_then(|(b, r)| Some((b, r.split_once('}')?))) {
        out.push_str(before);
        out.push_str(&value(word, signal, hit, zone));
        rest = after;
    }
    out.push_str(rest);
    out
}

fn value(word: &str, signal: &Signal<'_>, hit: &Hit, zone: &TimeZone) -> String {
    match word {
        "who" => signal.shown.or(signal.person).unwrap_or("Somebody").into(),
        "times" => hit.times.to_string(),
        "usual" => printable(&hit.usual),
        "size" => crate::wording::size(signal.bytes.unwrap_or(0)),
        _ => {
            let field = Field::ALL.iter().copied().find(|f| f.word() == word);
            let text = field.map_or(String::new(), |f| signal.text(f, zone).into_owned());
            if text.is_empty() { "?".into() } else { printable(&text) }
        }
    }
}
