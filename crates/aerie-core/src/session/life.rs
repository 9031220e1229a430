use super::proof::PersonProved;
use crate::policy::AccessGranted;
use crate::recording::Armed;
use crate::wording;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use std::collections::VecDeque;

/// A notice comes this long before the end, or after two thirds of a shorter time.
const NOTICE: SignedDuration = SignedDuration::from_mins(5);

/// Why a session is over. The list is closed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum EndReason {
    /// The person left.
    Left,
    /// The machine closed the connection.
    MachineClosed,
    /// Nothing was typed or shown for too long.
    Idle,
    /// The session limit is reached.
    TimeUp,
    /// It carried as many bytes as the rules allow.
    VolumeUp,
    /// The rules, or the hour, no longer allow it.
    RightWithdrawn,
    /// The rules do not allow it: it never began.
    Refused,
    /// The person at the machine did not agree.
    ConsentRefused,
    /// The person at the machine agrees no longer.
    ConsentTakenBack,
    /// Whoever was asked did not answer in time.
    NoAnswer,
    /// Somebody who was to approve refused.
    ApproverRefused,
    /// Somebody who may do so ended it.
    Ended,
    /// The recording could not be written.
    RecordingFailed,
    /// What its person signed in with, or signed in to, is over.
    SignedOut,
    /// The connection to the person or the machine was lost.
    PathLost,
    /// The service stopped.
    ServiceStopping,
    /// The service stopped without being able to say so.
    ServiceCrashed,
}

impl EndReason {
    /// Every reason.
    pub const ALL: [EndReason; 17] = [
        Self::Left,
        Self::MachineClosed,
        Self::Idle,
        Self::TimeUp,
        Self::VolumeUp,
        Self::RightWithdrawn,
        Self::Refused,
        Self::ConsentRefused,
        Self::ConsentTakenBack,
        Self::NoAnswer,
        Self::ApproverRefused,
        Self::Ended,
        Self::RecordingFailed,
        Self::SignedOut,
        Self::PathLost,
        Self::ServiceStopping,
        Self::ServiceCrashed,
    ];

    /// Its stable word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Left => "left",
            Self::MachineClosed => "machine-closed",
            Self::Idle => "idle",
            Self::TimeUp => "time-up",
            Self::VolumeUp => "volume-up",
            Self::RightWithdrawn => "right-withdrawn",
            Self::Refused => "refused",
            Self::ConsentRefused => "consent-refused",
            Self::ConsentTakenBack => "consent-taken-back",
            Self::NoAnswer => "no-answer",
            Self::ApproverRefused => "approver-refused",
            Self::Ended => "ended",
            Self::RecordingFailed => "recording-failed",
            Self::SignedOut => "signed-out",
            Self::PathLost => "path-lost",
            Self::ServiceStopping => "service-stopping",
            Self::ServiceCrashed => "service-crashed",
        }
    }

    /// The reason as the rest of a sentence that begins with "The session ended".
    pub fn phrase(self) -> &'static str {
        match self {
            Self::Left => "because the person left",
            Self::MachineClosed => "because the machine closed it",
            Self::Idle => "because it was idle for too long",
            Self::TimeUp => "because its time was up",
            Self::VolumeUp => "because it carried as much as the rules allow",
            Self::RightWithdrawn => "because the rules no longer allow it",
            Self::Refused => "because the rules do not allow it",
            Self::ConsentRefused => "because the person at the machine did not agree",
            Self::ConsentTakenBack => "because the person at the machine agrees no longer",
            Self::NoAnswer => "because nobody answered in time",
            Self::ApproverRefused => "because it was not approved",
            Self::Ended => "because an administrator ended it",
            Self::RecordingFailed => "because it could not be recorded",
            Self::SignedOut => "because the sign-in on which it rested is over",
            Self::PathLost => "because the connection was lost",
            Self::ServiceStopping => "because the service was stopped",
            Self::ServiceCrashed => "when the service stopped unexpectedly",
        }
    }

    /// The reason of that word.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|r| r.word() == word)
    }
}

/// What the shell around a live session must do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Effect {
    /// Tell the person.
    Notice(String),
    /// Decide again, and hand the answer to [`Live::handle_decision`].
    Decide,
    /// End the session. Comes once, and last.
    End(EndReason),
}

/// The rules demand a recording, and there is no recorder.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("the rules demand a recording, and there is no recorder")]
pub struct NotArmed;

/// A session that was granted and is live: its limits on the time line.
///
/// Call [`Live::handle_activity`] when bytes flow, [`Live::handle_timeout`] when [`Live::poll_timeout`] has come, and carry
/// out [`Live::poll_effect`] until there is none. Holding one proves that the person was proved, access was granted and the
/// recorder was armed where the rules demand it:
///
/// ```compile_fail
/// # use aerie_core::session::*;
/// fn without_a_decision(person: PersonProved, now: jiff::Timestamp) -> Live {
///     Live::begin(person, None, now).unwrap()
/// }
/// ```
#[derive(Debug)]
pub struct Live {
    person: PersonProved,
    recorded: bool,
    begun: Timestamp,
    active: Timestamp,
    session_limit: Option<SignedDuration>,
    /// By how much somebody extended it.
    extra: SignedDuration,
    idle_limit: Option<SignedDuration>,
    volume_limit: Option<u64>,
    /// When the hours or days of the rules end.
    closes: Option<Timestamp>,
    decide_at: Option<Timestamp>,
    told_end: bool,
    told_idle: bool,
    ended: bool,
    effects: VecDeque<Effect>,
}

impl Live {
    /// Begins a session.
    ///
    /// # Errors
    /// When the grant demands a recording and no recorder is armed.
    pub fn begin(person: PersonProved, granted: &AccessGranted, recorder: Option<&Armed>, now: Timestamp) -> Result<Self, NotArmed> {
        let mut live = Self {
            person,
            recorded: recorder.is_some(),
            begun: now,
            active: now,
            session_limit: None,
            extra: SignedDuration::ZERO,
            idle_limit: None,
            volume_limit: None,
            closes: None,
            decide_at: None,
            told_end: false,
            told_idle: false,
            ended: false,
            effects: VecDeque::new(),
        };
        live.handle_grant(granted)?;
        Ok(live)
    }

    /// The person.
    pub fn person(&self) -> &PersonProved {
        &self.person
    }

    /// Takes a further grant within the session: limits become the strictest of all.
    ///
    /// # Errors
    /// When it demands a recording and the session has none.
    pub fn handle_grant(&mut self, granted: &AccessGranted) -> Result<(), NotArmed> {
        let grant = granted.grant();
        if !grant.demands.recording.is_empty() && !self.recorded {
            return Err(NotArmed);
        }
        self.session_limit = earlier(self.session_limit, grant.demands.limits.session);
        self.idle_limit = earlier(self.idle_limit, grant.demands.limits.idle);
        self.volume_limit = earlier(self.volume_limit, grant.demands.limits.bytes);
        self.decide_at = earlier(self.decide_at, granted.holds_until());
        Ok(())
    }

    /// How many bytes the session may carry, both directions together.
    pub fn volume_limit(&self) -> Option<u64> {
        self.volume_limit
    }

    /// Takes the instant at which the rules will end the session by the passing of time, as far as it is known now.
    pub fn handle_forecast(&mut self, closes: Option<Timestamp>) {
        self.closes = closes;
    }

    /// Takes the answer to [`Effect::Decide`], or to a change of the rules: until when access is granted still, or that it is
    /// not (with the sentence that says why).
    pub fn handle_decision(&mut self, answer: Result<Option<Timestamp>, String>) {
        match answer {
            Ok(holds_until) => self.decide_at = holds_until,
            Err(why) => {
                self.effects.push_back(Effect::Notice(why));
                self.handle_end(EndReason::RightWithdrawn);
            }
        }
    }

    /// Bytes last flowed, in either direction, at this instant.
    pub fn handle_activity(&mut self, at: Timestamp) {
        if at > self.active {
            self.active = at;
            self.told_idle = false;
        }
    }

    /// Somebody who may do so extended the limit of the session: by so much in all. The hours of the rules stay what they are.
    pub fn handle_extension(&mut self, extra: SignedDuration) {
        if extra > self.extra {
            self.extra = extra;
            self.told_end = false;
        }
    }

    /// Something ends the session. The first reason counts.
    pub fn handle_end(&mut self, reason: EndReason) {
        if !self.ended {
            self.ended = true;
            self.effects.push_back(Effect::End(reason));
        }
    }

    /// Looks at the time.
    pub fn handle_timeout(&mut self, now: Timestamp) {
        if self.ended {
            return;
        }
        let reached = |t: Option<Timestamp>| t.is_some_and(|t| now >= t);
        let (end, reason) = self.end();
        if reached(end) {
            self.effects.push_back(Effect::Notice(format!("This session ended {}.", reason.phrase())));
            return self.handle_end(reason);
        }
        if reached(self.idle_end()) {
            self.effects.push_back(Effect::Notice(format!("This session ended {}.", EndReason::Idle.phrase())));
            return self.handle_end(EndReason::Idle);
        }
        if !self.told_end && reached(self.notice_of_end()) {
            self.told_end = true;
            let left = end.map_or(SignedDuration::ZERO, |e| e.duration_since(now));
            self.effects.push_back(Effect::Notice(format!("This session ends in {}.", wording::duration(rounded(left)))));
        }
        if !self.told_idle && reached(self.notice_of_idle()) {
            self.told_idle = true;
            let left = self.idle_end().map_or(SignedDuration::ZERO, |e| e.duration_since(now));
            self.effects
                .push_back(Effect::Notice(format!("Nothing happens here: this session ends in {}.", wording::duration(rounded(left)))));
        }
        if reached(self.decide_at) {
            self.decide_at = None;
            self.effects.push_back(Effect::Decide);
        }
    }

    /// The next instant at which [`Live::handle_timeout`] has something to do.
    pub fn poll_timeout(&self) -> Option<Timestamp> {
        if self.ended {
            return None;
        }
        let notice = if self.told_end { None } else { self.notice_of_end() };
        let idle_notice = if self.told_idle { None } else { self.notice_of_idle() };
        [self.end().0, self.idle_end(), notice, idle_notice, self.decide_at].into_iter().flatten().min()
    }

    /// What must be done next.
    pub fn poll_effect(&mut self) -> Option<Effect> {
        self.effects.pop_front()
    }

    /// When the session ends at the latest, as far as is known now.
    pub fn ends_at(&self) -> Option<Timestamp> {
        self.end().0
    }

    /// How long nothing may be typed.
    pub fn idle_limit(&self) -> Option<SignedDuration> {
        self.idle_limit
    }

    fn end(&self) -> (Option<Timestamp>, EndReason) {
        let limit = self.session_limit.and_then(|l| self.begun.checked_add(l.saturating_add(self.extra)).ok());
        match (limit, self.closes) {
            (Some(l), Some(c)) if c < l => (Some(c), EndReason::RightWithdrawn),
            (None, Some(c)) => (Some(c), EndReason::RightWithdrawn),
            (limit, _) => (limit, EndReason::TimeUp),
        }
    }

    fn idle_end(&self) -> Option<Timestamp> {
        self.active.checked_add(self.idle_limit?).ok()
    }

    fn notice_of_end(&self) -> Option<Timestamp> {
        notice(self.begun, self.end().0?)
    }

    fn notice_of_idle(&self) -> Option<Timestamp> {
        notice(self.active, self.idle_end()?)
    }
}

fn earlier<T: Ord>(a: Option<T>, b: Option<T>) -> Option<T> {
    match (a, b) {
        (Some(a), Some(b)) => Some(a.min(b)),
        (a, b) => a.or(b),
    }
}

fn notice(begin: Timestamp, end: Timestamp) -> Option<Timestamp> {
    let lead = NOTICE.min(end.duration_since(begin) / 3);
    end.checked_sub(lead).ok()
}

fn rounded(d: SignedDuration) -> SignedDuration {
    SignedDuration::from_secs((d.as_millis() as i64 + 500) / 1000)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::directory::Directory;
    use crate::policy::{Capability, Factor, Factors, Facts, Policy, Request, read};
    use crate::session::SignIn;
    use proptest::prelude::*;
    use std::sync::Arc;

    fn t(s: i64) -> Timestamp {
        Timestamp::from_second(1_780_000_000 + s).unwrap()
    }

    fn granted(limits: &str, recording: bool) -> AccessGranted {
        let text = format!(
            "[[allow]]\nname = \"a\"\npeople = \"*\"\nmachines = \"*\"\ncapabilities = [\"shell\"]\naccounts = [\"op\"]\nrecording = {recording}\nlimits = {{ {limits} }}\n"
        );
        let person = serde_json::from_value(serde_json::json!({ "name": "ines" })).unwrap();
        let machine = serde_json::from_value(serde_json::json!({ "name": "dome", "accounts": ["op"] })).unwrap();
        let policy = Policy::compile(read(&text).unwrap(), Arc::new(Directory::new(vec![person], vec![machine])), t(0));
        let facts = Facts::proved(Factors::of([Factor::Key]), t(0));
        let request =
            Request { person: "ines", capability: Capability::Shell, machine: "dome", account: None, at: t(0), from: None, facts };
        policy.decide(&request).granted(&request).unwrap()
    }

    fn person() -> PersonProved {
        let mut s = SignIn::default();
        assert!(s.handle_factor("ines", Factor::Key, t(0)));
        s.proved().unwrap()
    }

    fn run(live: &mut Live, until: i64) -> Vec<(i64, Effect)> {
        let mut seen = vec![];
        while let Some(at) = live.poll_timeout().filter(|at| *at <= t(until)) {
            live.handle_timeout(at);
            while let Some(e) = live.poll_effect() {
                seen.push((at.as_second() - t(0).as_second(), e));
            }
        }
        seen
    }

    #[test]
    fn a_mandatory_recording_without_a_recorder_is_no_session() {
        assert_eq!(Live::begin(person(), &granted("", true), None, t(0)).err(), Some(NotArmed));
    }

    #[test]
    fn a_session_is_warned_and_ended_at_its_limit() {
        let mut live = Live::begin(person(), &granted("session = \"1h\"", false), None, t(0)).unwrap();
        let seen = run(&mut live, 10_000);
        assert_eq!(
            seen,
            vec![
                (3300, Effect::Notice("This session ends in 5 min.".into())),
                (3600, Effect::Notice("This session ended because its time was up.".into())),
                (3600, Effect::End(EndReason::TimeUp)),
            ]
        );
    }

    #[test]
    fn an_extension_moves_the_end_and_is_warned_of_again() {
        let mut live = Live::begin(person(), &granted("session = \"1h\"", false), None, t(0)).unwrap();
        assert_eq!(run(&mut live, 3300).len(), 1);
        live.handle_extension(SignedDuration::from_mins(30));
        let seen = run(&mut live, 10_000);
        assert_eq!((seen[0].0, seen.last().unwrap()), (5100, &(5400, Effect::End(EndReason::TimeUp))));
        live.handle_extension(SignedDuration::from_mins(60));
        assert_eq!(live.poll_effect(), None, "what is over stays over");
    }

    #[test]
    fn activity_puts_off_the_idle_end_and_its_notice() {
        let mut live = Live::begin(person(), &granted("idle = \"30s\"", false), None, t(0)).unwrap();
        assert_eq!(run(&mut live, 25).len(), 1);
        live.handle_activity(t(25));
        let seen = run(&mut live, 100);
        assert_eq!(seen[0], (45, Effect::Notice("Nothing happens here: this session ends in 10 s.".into())));
        assert_eq!(seen.last().unwrap(), &(55, Effect::End(EndReason::Idle)));
    }

    #[test]
    fn the_end_of_the_hours_is_announced_and_kept() {
        let mut live = Live::begin(person(), &granted("session = \"8h\"", false), None, t(0)).unwrap();
        live.handle_forecast(Some(t(900)));
        let seen = run(&mut live, 10_000);
        assert_eq!(seen[0].0, 600);
        assert_eq!(seen.last().unwrap(), &(900, Effect::End(EndReason::RightWithdrawn)));
    }

    #[test]
    fn a_withdrawn_right_ends_the_session_with_the_reason() {
        let mut live = Live::begin(person(), &granted("", false), None, t(0)).unwrap();
        live.handle_decision(Err("No rule lets you.".into()));
        live.handle_end(EndReason::Left);
        assert_eq!(live.poll_effect(), Some(Effect::Notice("No rule lets you.".into())));
        assert_eq!(live.poll_effect(), Some(Effect::End(EndReason::RightWithdrawn)));
        assert_eq!(live.poll_effect(), None);
        assert_eq!(live.poll_timeout(), None);
    }

    #[test]
    fn every_reason_has_a_word_of_its_own() {
        for r in EndReason::ALL {
            assert_eq!(EndReason::from_word(r.word()), Some(r));
            assert_eq!(serde_json::to_value(r).unwrap(), r.word());
        }
    }

    proptest! {
        #[test]
        fn a_session_ends_exactly_once_and_not_late(steps in prop::collection::vec((0i64..400, 0u8..4), 1..40)) {
            let mut live = Live::begin(person(), &granted("session = \"20min\", idle = \"3min\"", false), None, t(0)).unwrap();
            let (mut now, mut ends, mut ended_at, mut active) = (0, 0, None, 0);
            for (step, what) in steps.into_iter().chain([(5000, 0)]) {
                let target = now + step;
                for (at, e) in run(&mut live, target) {
                    if let Effect::End(_) = e { ends += 1; ended_at = Some(at); }
                }
                now = target;
                match what {
                    1 => { live.handle_activity(t(now)); active = now; }
                    2 => live.handle_decision(Ok(Some(t(now + 10)))),
                    _ => {}
                }
            }
            prop_assert_eq!(ends, 1);
            prop_assert!(ended_at.unwrap() <= 1200.min(active.max(ended_at.unwrap()) + 180));
        }
    }
}
