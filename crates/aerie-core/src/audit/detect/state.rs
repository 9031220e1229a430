//! What detections remember, and when they find something.

use super::form::{Form, Step};
use super::hashing::{Key, Taken};
use super::signal::{Field, Signal};
use crate::audit::{LogLine, Raised};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use std::collections::{HashMap, VecDeque};

/// Keys that a detection remembers; beyond, the oldest are forgotten. A botnet has tens of thousands of addresses.
pub const MOST_KEYS: usize = 50_000;
/// Values that are remembered of one key.
pub(super) const MOST_VALUES: usize = 500;
/// Lines of evidence that are kept before it is known whether they are needed.
const EARLY_LINES: usize = 3;
/// Accesses of one key that are open at a time.
const MOST_OPEN: usize = 100;

/// What was found.
#[derive(Debug, Default)]
pub(super) struct Hit {
    /// Signals that it is made of.
    pub(super) count: u64,
    /// The first of them.
    pub(super) first: Option<Timestamp>,
    /// Lines that were kept before.
    pub(super) lines: Vec<LogLine>,
    /// Signals of the first step of a sequence.
    pub(super) times: u64,
    /// What it usually is, or the other of two.
    pub(super) usual: String,
}

impl Hit {
    fn once() -> Option<Self> {
        Some(Self { count: 1, ..Self::default() })
    }
}

/// Something for each key, and for no more than [`MOST_KEYS`].
pub(super) struct Keyed<T> {
    of: HashMap<Key, T, Taken>,
    order: VecDeque<Key>,
}

impl<T> Default for Keyed<T> {
    fn default() -> Self {
        Self { of: HashMap::default(), order: VecDeque::new() }
    }
}

impl<T: Default> Keyed<T> {
    /// Does something with what is kept for a key. For a known key nothing is allocated.
    fn with<R>(&mut self, key: Key, what: impl FnOnce(&mut T) -> R) -> R {
        if let Some(kept) = self.of.get_mut(&key) {
            return what(kept);
        }
        if self.order.len() >= MOST_KEYS
            && let Some(oldest) = self.order.pop_front()
        {
            self.of.remove(&oldest);
        }
        let mut kept = T::default();
        let done = what(&mut kept);
        self.order.push_back(key);
        self.of.insert(key, kept);
        done
    }
}

/// What a detection remembers.
pub(super) enum State {
    Match,
    Count(Keyed<Counted>),
    Sequence(Keyed<Followed>),
    Absence(Keyed<Vec<Awaited>>),
    First(Keyed<Learnt>),
    Baseline(Keyed<VecDeque<(Timestamp, i64)>>),
    Overlap(Keyed<VecDeque<Open>>),
}

/// What is counted of one key. Of a flood of addresses each has one of these, and most come once in a window: what they take is small, so
/// that many of them stay near the processor.
#[derive(Default)]
pub(super) struct Counted {
    /// The newest, in milliseconds since the epoch, and what stood for its value.
    last: Option<i64>,
    value: u64,
    /// Once there are several within the window.
    more: Option<Box<Several>>,
}

#[derive(Default)]
struct Several {
    /// When; the newest, at most as many as are asked for.
    times: VecDeque<i64>,
    /// Different values, each as it was seen last, in no order; at most as many as are asked for.
    values: Vec<(u64, i64)>,
    lines: Vec<LogLine>,
    firing: bool,
}

#[derive(Default)]
pub(super) struct Followed {
    step: u32,
    /// Signals of the step that is being filled.
    filled: u32,
    /// Signals of the first step.
    times: u64,
    /// When the last came, in milliseconds since the epoch.
    last: Option<i64>,
    /// Lines of the steps that are done.
    lines: Box<[LogLine]>,
}

pub(super) struct Awaited {
    /// Told when nothing followed.
    pub(super) raised: Raised,
    due: Timestamp,
}

#[derive(Default)]
pub(super) struct Learnt {
    since: Option<Timestamp>,
    seen: HashMap<Box<str>, Timestamp>,
}

pub(super) struct Open {
    at: Timestamp,
    value: String,
    machine: String,
    source: String,
    lines: Vec<LogLine>,
}

/// What came of a signal.
pub(super) enum Came {
    Nothing,
    Found(Hit),
    /// To be told when nothing follows until then.
    Await(Timestamp),
}

impl State {
    pub(super) fn of(form: &Form) -> Self {
        match form {
            Form::Match { .. } => Self::Match,
            Form::Count { .. } => Self::Count(Keyed::default()),
            Form::Sequence { .. } => Self::Sequence(Keyed::default()),
            Form::Absence { .. } => Self::Absence(Keyed::default()),
            Form::First { .. } => Self::First(Keyed::default()),
            Form::Baseline { .. } => Self::Baseline(Keyed::default()),
            Form::Overlap { .. } => Self::Overlap(Keyed::default()),
        }
    }

    /// Takes a signal that fits one of the form's patterns, or the end of an access. `value` gives what stands for a field of it.
    pub(super) fn handle(
        &mut self,
        form: &Form,
        key: Key,
        signal: &Signal<'_>,
        zone: &TimeZone,
        value: impl FnOnce(Field) -> Option<Key>,
    ) -> Came {
        let found = match (self, form) {
            (Self::Match, Form::Match { .. }) => Hit::once(),
            (Self::Count(keyed), Form::Count { distinct, at_least, within, .. }) => {
                let value = match distinct.map(value) {
                    Some(None) => return Came::Nothing,
                    Some(Some(value)) => Some(value as u64),
                    None => None,
                };
                keyed.with(key, |c| c.handle(signal, value, *at_least, within.get()))
            }
            (Self::Sequence(keyed), Form::Sequence { steps, within, .. }) => {
                // What cannot begin a sequence needs no room of its own.
                let begins = steps.first().is_some_and(|s| s.of.fits(signal, zone));
                if !begins && !keyed.of.contains_key(&key) {
                    return Came::Nothing;
                }
                keyed.with(key, |f| f.handle(signal, steps, within.get(), zone))
            }
            (Self::Absence(keyed), Form::Absence { then, within, .. }) => {
                if then.fits(signal, zone) {
                    keyed.with(key, Vec::clear);
                    return Came::Nothing;
                }
                return Came::Await(signal.at.saturating_add(within.get()).unwrap_or(signal.at));
            }
            (Self::First(keyed), Form::First { value, learn, after, only_again, .. }) => {
                let value = value.map(|field| signal.text(field, zone));
                if value.as_ref().is_some_and(|v| v.is_empty()) {
                    return Came::Nothing;
                }
                let (after, value) = (after.map(|a| a.get()), value.unwrap_or_default());
                keyed.with(key, |l| l.handle(signal.at, &value, learn.get(), after, *only_again))
            }
            (Self::Baseline(keyed), Form::Baseline { field, over, samples, beyond, .. }) => {
                let Some(number) = signal.number(*field, zone) else { return Came::Nothing };
                keyed.with(key, |kept| baseline(kept, signal.at, number, *field, over.get(), (*samples, *beyond)))
            }
            (Self::Overlap(keyed), Form::Overlap { of, differ, .. }) => {
                let begins = of.fits(signal, zone);
                let value = if begins { signal.text(*differ, zone).into_owned() } else { String::new() };
                if begins && value.is_empty() {
                    return Came::Nothing;
                }
                keyed.with(key, |open| overlap(open, signal, begins.then_some(value)))
            }
            // The state was made of this form.
            _ => None,
        };
        found.map_or(Came::Nothing, Came::Found)
    }

    /// Keeps what is to be told when nothing follows.
    pub(super) fn keep_awaited(&mut self, key: Key, raised: Raised, due: Timestamp) {
        if let Self::Absence(keyed) = self {
            keyed.with(key, |all| {
                if all.len() < MOST_OPEN {
                    all.push(Awaited { raised, due });
                }
            });
        }
    }

    /// What is overdue.
    pub(super) fn overdue(&mut self, now: Timestamp, told: &mut Vec<Raised>) {
        let Self::Absence(keyed) = self else { return };
        for all in keyed.of.values_mut() {
            let (due, rest): (Vec<_>, Vec<_>) = std::mem::take(all).into_iter().partition(|a| a.due <= now);
            *all = rest;
            told.extend(due.into_iter().map(|a| a.raised));
        }
    }
}

impl Counted {
    fn handle(&mut self, signal: &Signal<'_>, value: Option<u64>, at_least: usize, within: SignedDuration) -> Option<Hit> {
        let (at, within) = (signal.at.as_millisecond(), i64::try_from(within.as_millis()).unwrap_or(i64::MAX));
        let (count, first) = match self.last {
            Some(last) if at - last <= within => {
                let more = self.several(value.is_some());
                match value {
                    Some(value) => more.handle_value(value, at, at_least, within),
                    None => more.handle_time(at, at_least, within),
                }
            }
            // Whatever was before is over.
            _ => {
                *self = Self { last: None, value: value.unwrap_or_default(), more: None };
                (1, at)
            }
        };
        self.last = self.last.max(Some(at));
        if count < at_least {
            // The last before it is enough, and each of the last few may be that.
            if count + EARLY_LINES >= at_least {
                let more = self.several(value.is_some());
                more.firing = false;
                more.lines.truncate(EARLY_LINES - 1);
                more.lines.extend((signal.lines)());
            } else if let Some(more) = &mut self.more {
                more.firing = false;
                more.lines.clear();
            }
            return None;
        }
        let more = self.several(value.is_some());
        let again = std::mem::replace(&mut more.firing, true);
        // Of different values, a burst counts once.
        if again && value.is_some() {
            return None;
        }
        let count = if again || value.is_some() { 1 } else { at_least as u64 };
        let first = Timestamp::from_millisecond(first).ok();
        Some(Hit { count, first, lines: std::mem::take(&mut more.lines), ..Hit::default() })
    }

    /// Room for several; what there is of one is in it.
    fn several(&mut self, distinct: bool) -> &mut Several {
        let (last, value) = (self.last, self.value);
        self.more.get_or_insert_with(|| {
            let values = last.filter(|_| distinct).map(|last| (value, last));
            Box::new(Several {
                times: last.filter(|_| !distinct).into_iter().collect(),
                values: values.into_iter().collect(),
                ..Several::default()
            })
        })
    }
}

impl Several {
    /// How many there are within the window, up to as many as are asked for, and when the first of them was.
    fn handle_time(&mut self, at: i64, at_least: usize, within: i64) -> (usize, i64) {
        while self.times.front().is_some_and(|t| at - t > within) {
            self.times.pop_front();
        }
        if self.times.len() >= at_least {
            self.times.pop_front();
        }
        self.times.push_back(at);
        (self.times.len(), self.times.front().copied().unwrap_or(at))
    }

    /// The same of different values. What is older is thrown out only when it would count.
    fn handle_value(&mut self, value: u64, at: i64, at_least: usize, within: i64) -> (usize, i64) {
        match self.values.iter_mut().find(|(v, _)| *v == value) {
            Some((_, last)) => *last = at,
            None => {
                if self.values.len() >= at_least {
                    self.values.retain(|(_, t)| at - t <= within);
                }
                // One that is pushed out for another is the oldest.
                let oldest = self.values.iter().enumerate().min_by_key(|(_, (_, t))| *t).map(|(n, _)| n);
                if let Some(oldest) = oldest.filter(|_| self.values.len() >= at_least) {
                    self.values.swap_remove(oldest);
                }
                self.values.push((value, at));
            }
        }
        if self.values.len() >= at_least {
            self.values.retain(|(_, t)| at - t <= within);
        }
        (self.values.len(), self.values.iter().map(|(_, t)| *t).min().unwrap_or(at))
    }
}

impl Followed {
    fn handle(&mut self, signal: &Signal<'_>, steps: &[Step], within: SignedDuration, zone: &TimeZone) -> Option<Hit> {
        let (at, within) = (signal.at.as_millisecond(), i64::try_from(within.as_millis()).unwrap_or(i64::MAX));
        if self.last.is_some_and(|last| at - last > within) {
            *self = Self::default();
        }
        let fits = |step: u32| steps.get(step as usize).is_some_and(|s| s.of.fits(signal, zone));
        let enough = |step: u32, filled: u32| steps.get(step as usize).is_some_and(|s| filled as usize >= s.at_least);
        if self.step > 0 && self.filled == 0 && fits(self.step - 1) && !fits(self.step) {
            // More of the step before: it goes on.
            self.times += u64::from(self.step == 1);
            self.last = Some(at);
            return None;
        }
        if !fits(self.step) {
            // What comes out of turn begins anew.
            *self = Self::default();
            if !fits(0) {
                return None;
            }
        }
        self.last = Some(at);
        self.times += u64::from(self.step == 0);
        self.filled = self.filled.saturating_add(1);
        if !enough(self.step, self.filled) {
            return None;
        }
        self.step += 1;
        self.filled = 0;
        if (self.step as usize) < steps.len() {
            let mut lines = std::mem::take(&mut self.lines).into_vec();
            lines.extend((signal.lines)());
            self.lines = lines.into();
            return None;
        }
        let done = std::mem::take(self);
        Some(Hit { count: 1, first: Some(signal.at), lines: done.lines.into_vec(), times: done.times, ..Hit::default() })
    }
}

impl Learnt {
    fn handle(
        &mut self,
        at: Timestamp,
        value: &str,
        learn: SignedDuration,
        after: Option<SignedDuration>,
        only_again: bool,
    ) -> Option<Hit> {
        let since = *self.since.get_or_insert(at);
        let before = self.seen.get_mut(value).map(|last| {
            let before = *last;
            *last = before.max(at);
            before
        });
        if before.is_none() {
            if self.seen.len() >= MOST_VALUES {
                let oldest = self.seen.iter().min_by_key(|(_, t)| **t).map(|(v, _)| v.clone());
                oldest.map(|v| self.seen.remove(&v));
            }
            self.seen.insert(value.into(), at);
        }
        let is_new = match before {
            None => !only_again && at.duration_since(since) >= learn,
            Some(last) => after.is_some_and(|a| at.duration_since(last) >= a),
        };
        let usual = before.map_or(String::new(), |last| crate::wording::duration(at.duration_since(last)));
        is_new.then(|| Hit { count: 1, usual, ..Hit::default() })
    }
}

fn baseline(
    kept: &mut VecDeque<(Timestamp, i64)>,
    at: Timestamp,
    number: i64,
    field: Field,
    over: SignedDuration,
    (samples, beyond): (usize, f64),
) -> Option<Hit> {
    while kept.front().is_some_and(|(t, _)| at.duration_since(*t) > over) {
        kept.pop_front();
    }
    let far = kept.len() >= samples
        && match field {
            Field::Hour => {
                // Around the clock: 23 and 1 are two hours apart.
                let apart = |h: i64| (h - number).abs().min(24 - (h - number).abs());
                kept.iter().all(|(_, h)| apart(*h) as f64 > beyond)
            }
            _ => number as f64 > greatest(kept) as f64 * beyond,
        };
    let hit = far.then(|| {
        let usual = if field == Field::Hour { hours_of(kept) } else { greatest(kept).to_string() };
        Hit { count: 1, usual, ..Hit::default() }
    });
    if kept.len() >= MOST_VALUES {
        kept.pop_front();
    }
    kept.push_back((at, number));
    hit
}

fn greatest(kept: &VecDeque<(Timestamp, i64)>) -> i64 {
    kept.iter().map(|(_, n)| *n).max().unwrap_or(0)
}

/// The hours that occur, as spans: `9 to 12 and 14 h`.
fn hours_of(kept: &VecDeque<(Timestamp, i64)>) -> String {
    let mut hours: Vec<i64> = kept.iter().map(|(_, h)| *h).collect();
    hours.sort_unstable();
    hours.dedup();
    let mut spans: Vec<(i64, i64)> = vec![];
    for h in hours {
        match spans.last_mut() {
            Some((_, to)) if *to + 1 == h => *to = h,
            _ => spans.push((h, h)),
        }
    }
    let told: Vec<String> = spans.iter().map(|(a, b)| if a == b { a.to_string() } else { format!("{a} to {b}") }).collect();
    crate::wording::list(&told)
}

fn overlap(open: &mut VecDeque<Open>, signal: &Signal<'_>, begins: Option<String>) -> Option<Hit> {
    let Some(value) = begins else {
        // The end of the oldest with this machine and address.
        if let Some(at) = open.iter().position(|o| o.machine == signal.machine && o.source == signal.source) {
            open.remove(at);
        }
        return None;
    };
    let other = open.iter().find(|o| o.value != value).map(|o| Hit {
        count: 1,
        first: Some(o.at),
        lines: o.lines.clone(),
        usual: o.value.clone(),
        ..Hit::default()
    });
    if open.len() >= MOST_OPEN {
        open.pop_front();
    }
    open.push_back(Open { at: signal.at, value, machine: signal.machine.into(), source: signal.source.into(), lines: (signal.lines)() });
    other
}
