//! A use of a machine from the question to the moment before it is live: what it waits for, how long, and how the wait ends.

use super::life::EndReason;
use crate::policy::{AccessGranted, Consent, Decision, Missing, Outcome, Request};
use jiff::{SignedDuration, Timestamp};
use std::collections::VecDeque;

/// How long others have to answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Patience {
    /// Those who approve.
    pub approval: SignedDuration,
    /// The person at the machine.
    pub consent: SignedDuration,
}

/// Whom a use waits for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Awaited {
    /// Those who may give these approvals: indices into [`crate::policy::Document::approvals`].
    Approvers(Vec<u16>),
    /// The person at the machine, in this way.
    Person(Consent),
}

/// Where a use stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Phase {
    /// It was asked for, and nothing is decided.
    Asked,
    /// It waits for somebody, until then.
    Waiting(Awaited, Timestamp),
    /// Everything that is demanded is there.
    Granted(Box<AccessGranted>),
    /// It is over before it began.
    Over(EndReason),
}

/// What the shell around it must do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Step {
    /// Decide, and hand the answer to [`Admission::handle_decision`].
    Decide,
    /// Ask them; they have until then.
    Ask(Awaited, Timestamp),
    /// Tell them that nobody waits for their answer any more.
    Withdraw(Awaited),
    /// Take the person to the machine.
    Go(Box<AccessGranted>),
    /// Tell the person why, and do no more. Comes once, and last.
    End(EndReason, String),
}

/// What somebody who was asked said.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Said {
    /// Yes, as far as it is theirs to say.
    Yes,
    /// No, with the sentence for the person who asked.
    No(String),
}

/// One use of a machine that was asked for.
///
/// Call [`Admission::poll_step`] until there is none after each input: decisions, answers, ends, and
/// [`Admission::handle_timeout`] when [`Admission::poll_timeout`] has come. Nothing but a decision leads to [`Step::Go`].
#[derive(Debug)]
pub struct Admission {
    phase: Phase,
    patience: Patience,
    steps: VecDeque<Step>,
}

impl Admission {
    /// A use that was just asked for.
    pub fn new(patience: Patience) -> Self {
        Self { phase: Phase::Asked, patience, steps: [Step::Decide].into() }
    }

    /// Where it stands.
    pub fn phase(&self) -> &Phase {
        &self.phase
    }

    /// Whether it is over, one way or the other: nothing is waited for.
    pub fn is_settled(&self) -> bool {
        matches!(self.phase, Phase::Granted(_) | Phase::Over(_))
    }

    /// Takes what was decided. `why` is the decision's sentence for the person.
    pub fn handle_decision(&mut self, decision: &Decision, request: &Request<'_>, why: &str, now: Timestamp) {
        if self.is_settled() {
            return;
        }
        match &decision.outcome {
            Outcome::Granted(_) => {
                let Some(granted) = decision.granted(request).map(Box::new) else { return };
                self.leave();
                self.phase = Phase::Granted(granted.clone());
                self.steps.push_back(Step::Go(granted));
            }
            Outcome::Unmet { missing, .. } => match awaited(missing) {
                Some(awaited) => self.wait(awaited, now),
                None => self.end(EndReason::Refused, why),
            },
            Outcome::Refused(_) => self.end(EndReason::Refused, why),
        }
    }

    fn wait(&mut self, awaited: Awaited, now: Timestamp) {
        let patience = match &awaited {
            Awaited::Approvers(_) => self.patience.approval,
            Awaited::Person(_) => self.patience.consent,
        };
        let until = match &self.phase {
            // One of two approvals, or another rule: whoever waits for the same waits on, and no longer.
            Phase::Waiting(before, _) if *before == awaited => return,
            Phase::Waiting(Awaited::Approvers(_), until) if matches!(awaited, Awaited::Approvers(_)) => *until,
            Phase::Asked | Phase::Waiting(..) | Phase::Granted(_) | Phase::Over(_) => {
                now.saturating_add(patience).unwrap_or(Timestamp::MAX)
            }
        };
        self.leave();
        self.phase = Phase::Waiting(awaited.clone(), until);
        self.steps.push_back(Step::Ask(awaited, until));
    }

    /// Takes what those who approve said. A yes is held against the rules by deciding again.
    pub fn handle_approvers(&mut self, said: Said) {
        if matches!(self.phase, Phase::Waiting(Awaited::Approvers(_), _)) {
            self.said(said, EndReason::ApproverRefused);
        }
    }

    /// Takes what the person at the machine said. A yes is held against the rules by deciding again.
    pub fn handle_person(&mut self, said: Said) {
        if matches!(self.phase, Phase::Waiting(Awaited::Person(_), _)) {
            self.said(said, EndReason::ConsentRefused);
        }
    }

    fn said(&mut self, said: Said, refused: EndReason) {
        match said {
            Said::Yes => self.steps.push_back(Step::Decide),
            Said::No(why) => self.end(refused, &why),
        }
    }

    /// Rules, passes or facts changed.
    pub fn handle_change(&mut self) {
        if !self.is_settled() && self.steps.back() != Some(&Step::Decide) {
            self.steps.push_back(Step::Decide);
        }
    }

    /// Something ends it: the person left, or the service stops.
    pub fn handle_end(&mut self, reason: EndReason) {
        self.end(reason, &format!("It ended {}.", reason.phrase()));
    }

    /// Looks at the time.
    pub fn handle_timeout(&mut self, now: Timestamp) {
        if self.poll_timeout().is_some_and(|t| now >= t) {
            let whom = if matches!(self.phase, Phase::Waiting(Awaited::Person(_), _)) {
                "The person at the machine"
            } else {
                "Nobody who may approve"
            };
            let verb = if whom.starts_with("Nobody") { "answered" } else { "did not answer" };
            self.end(EndReason::NoAnswer, &format!("{whom} {verb} in time, and no answer is a no."));
        }
    }

    /// The instant at which no answer becomes a no.
    pub fn poll_timeout(&self) -> Option<Timestamp> {
        match &self.phase {
            Phase::Waiting(_, until) => Some(*until),
            Phase::Asked | Phase::Granted(_) | Phase::Over(_) => None,
        }
    }

    /// What must be done next.
    pub fn poll_step(&mut self) -> Option<Step> {
        self.steps.pop_front()
    }

    fn leave(&mut self) {
        if let Phase::Waiting(awaited, _) = &self.phase {
            self.steps.push_back(Step::Withdraw(awaited.clone()));
        }
    }

    fn end(&mut self, reason: EndReason, why: &str) {
        if !self.is_settled() {
            self.leave();
            self.phase = Phase::Over(reason);
            // What was still to be decided leads nowhere.
            self.steps.retain(|s| !matches!(s, Step::Decide | Step::Ask(..)));
            self.steps.push_back(Step::End(reason, why.into()));
        }
    }
}

/// Whom to wait for; none where something is missing that no wait brings. Approval comes before consent: whoever sits at the machine
/// is not disturbed for what is then refused.
fn awaited(missing: &Missing) -> Option<Awaited> {
    let rest = Missing { approvals: vec![], consent: None, ..missing.clone() };
    if !rest.is_nothing() {
        return None;
    }
    if !missing.approvals.is_empty() {
        return Some(Awaited::Approvers(missing.approvals.clone()));
    }
    missing.consent.map(Awaited::Person)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::directory::{Directory, DirectoryFile};
    use crate::policy::{Capability, Factor, Facts, Pass, Policy, Tracks, read};
    use crate::session::{Effect, Live, SignIn};
    use proptest::prelude::*;
    use std::sync::Arc;

    fn t(s: i64) -> Timestamp {
        Timestamp::from_second(1_780_000_000 + s).unwrap()
    }

    const PATIENCE: Patience = Patience { approval: SignedDuration::from_secs(600), consent: SignedDuration::from_secs(60) };

    fn policy(demands: &str) -> Policy {
        let file: DirectoryFile = serde_json::from_value(serde_json::json!({
            "people": [{ "name": "ines" }, { "name": "arlo", "groups": ["owners"] }, { "name": "lena", "groups": ["owners"] }],
            "machines": [{ "name": "dome", "accounts": ["op"] }],
        }))
        .unwrap();
        let directory: Directory = file.into();
        let text = format!(
            "[[allow]]\nname = \"a\"\npeople = \"person:ines\"\nmachines = \"*\"\ncapabilities = [\"shell\"]\naccounts = [\"op\"]\nlimits = {{ session = \"1h\" }}\n{demands}"
        );
        Policy::compile(read(&text).unwrap(), Arc::new(directory), t(0))
    }

    /// Everything that is known of one attempt, and what became of it: the shell, in so far as a test needs one.
    struct Attempt {
        policy: Policy,
        approved: Vec<&'static str>,
        consent: Option<Consent>,
        admission: Admission,
        live: Option<Live>,
        said: Vec<String>,
        ends: Vec<EndReason>,
    }

    impl Attempt {
        fn new(demands: &str) -> Self {
            let policy = policy(demands);
            Self { policy, approved: vec![], consent: None, admission: Admission::new(PATIENCE), live: None, said: vec![], ends: vec![] }
        }

        fn step(&mut self, now: i64) {
            while let Some(step) = self.admission.poll_step() {
                match step {
                    Step::Decide => {
                        let mut facts =
                            Facts { recorded: Tracks::all(), approved_by: &self.approved, consent: self.consent, ..Facts::default() };
                        facts.proofs.prove(Factor::Key, t(0));
                        let request = Request {
                            person: "ines",
                            capability: Capability::Shell,
                            machine: "dome",
                            account: None,
                            at: t(now),
                            from: None,
                            facts,
                        };
                        let decision = self.policy.decide(&request);
                        self.admission.handle_decision(&decision, &request, "No.", t(now));
                    }
                    Step::Ask(Awaited::Approvers(_), until) => {
                        self.said.push(format!("approvers until {}", until.as_second() - t(0).as_second()))
                    }
                    Step::Ask(Awaited::Person(c), until) => {
                        self.said.push(format!("{} until {}", c.word(), until.as_second() - t(0).as_second()))
                    }
                    Step::Withdraw(Awaited::Approvers(_)) => self.said.push("approvers may rest".into()),
                    Step::Withdraw(Awaited::Person(_)) => self.said.push("person may rest".into()),
                    Step::Go(granted) => {
                        self.said.push("go".into());
                        let mut sign_in = SignIn::default();
                        assert!(sign_in.handle_factor("ines", Factor::Key, t(0)));
                        self.live = Some(Live::begin(sign_in.proved().unwrap(), &granted, None, t(now)).unwrap());
                    }
                    Step::End(reason, _) => self.ends.push(reason),
                }
            }
            let Some(live) = &mut self.live else { return };
            while let Some(effect) = live.poll_effect() {
                if let Effect::End(reason) = effect {
                    self.ends.push(reason);
                }
            }
        }
    }

    const BOTH: &str =
        "[[require]]\nname = \"r\"\nmachines = \"*\"\napproval = { from = \"group:owners\", count = 2 }\nconsent = \"ask\"\n";

    #[test]
    fn a_use_waits_for_approvers_then_for_the_person_then_goes() {
        let mut a = Attempt::new(BOTH);
        a.step(0);
        a.approved.push("arlo");
        a.admission.handle_approvers(Said::Yes);
        a.step(100);
        assert_eq!(a.said, ["approvers until 600"], "one of two is not enough, and gives no more time");
        // What the person at the machine is not asked yet they cannot answer.
        a.admission.handle_person(Said::Yes);
        a.approved.push("lena");
        a.admission.handle_approvers(Said::Yes);
        a.step(200);
        assert_eq!(a.said[1..], ["approvers may rest", "ask until 260"]);
        a.consent = Some(Consent::Ask);
        a.admission.handle_person(Said::Yes);
        a.step(210);
        assert_eq!(a.said[3..], ["person may rest", "go"]);
        assert!(a.ends.is_empty() && a.live.is_some());
    }

    #[test]
    fn each_no_has_its_reason() {
        type Act = fn(&mut Admission);
        let table: [(Act, EndReason); 5] = [
            (|a| a.handle_approvers(Said::No("Not tonight.".into())), EndReason::ApproverRefused),
            (|a| a.handle_timeout(t(600)), EndReason::NoAnswer),
            (|a| a.handle_end(EndReason::Left), EndReason::Left),
            (|a| a.handle_end(EndReason::ServiceStopping), EndReason::ServiceStopping),
            // A yes that no approver gave changes nothing; the rules are asked.
            (
                |a| {
                    a.handle_approvers(Said::Yes);
                    a.handle_timeout(t(601))
                },
                EndReason::NoAnswer,
            ),
        ];
        for (act, reason) in table {
            let mut a = Attempt::new(BOTH);
            a.step(0);
            act(&mut a.admission);
            a.step(1);
            assert_eq!(a.ends, [reason]);
            assert_eq!(a.said.last().unwrap(), "approvers may rest");
        }
        let mut a = Attempt::new("[[require]]\nname = \"r\"\nmachines = \"*\"\nconsent = \"ask\"\n");
        a.step(0);
        a.admission.handle_timeout(t(59));
        a.step(59);
        assert!(a.ends.is_empty());
        a.admission.handle_person(Said::No("Somebody else sits here.".into()));
        a.step(59);
        a.admission.handle_person(Said::Yes);
        a.step(60);
        assert_eq!(a.ends, [EndReason::ConsentRefused]);
    }

    #[test]
    fn a_clock_that_jumps_ends_a_wait_at_its_instant_and_lets_nobody_in() {
        let mut a = Attempt::new(BOTH);
        a.step(0);
        // Back by an hour: the wait is not over, and its end stays the instant that was told.
        a.admission.handle_timeout(t(-3600));
        a.step(-3600);
        assert!(a.ends.is_empty() && a.admission.poll_timeout() == Some(t(600)));
        // Forward by a day: it is over at once, and a yes that comes then changes nothing.
        a.admission.handle_timeout(t(86_400));
        a.approved.extend(["arlo", "lena"]);
        a.admission.handle_approvers(Said::Yes);
        a.step(86_400);
        assert_eq!((a.ends, a.live.is_some()), (vec![EndReason::NoAnswer], false));
    }

    #[test]
    fn what_no_wait_brings_is_not_waited_for() {
        let mut a = Attempt::new(&format!("{BOTH}factors = [\"code\"]\n"));
        a.step(0);
        assert_eq!((a.said.len(), a.ends), (0, vec![EndReason::Refused]));
    }

    #[test]
    fn a_pass_stands_for_its_approvers_within_its_time() {
        let policy = policy("[[require]]\nname = \"r\"\nmachines = \"*\"\napproval = \"group:owners\"\n");
        let pass = |person: &str, by: &str, until: i64| Pass {
            id: "p1".into(),
            person: person.into(),
            machines: vec!["dome".into()],
            capabilities: vec![Capability::Shell],
            from: t(0),
            until: t(until),
            approved_by: vec![by.into()],
            session_s: Some(1200),
            target: None,
        };
        let outcome = |pass: Pass, at: i64| {
            let passes = [pass];
            let facts = Facts { recorded: Tracks::all(), passes: &passes, ..Facts::default() };
            let request =
                Request { person: "ines", capability: Capability::Shell, machine: "dome", account: None, at: t(at), from: None, facts };
            policy.decide(&request)
        };
        let good = outcome(pass("ines", "arlo", 100), 99);
        assert_eq!(good.holds_until, Some(t(100)));
        let Outcome::Granted(grant) = good.outcome else { panic!() };
        assert_eq!((grant.demands.limits.session, grant.pass.as_deref()), (Some(SignedDuration::from_mins(20)), Some("p1")));
        for (other, at) in [
            (pass("ines", "arlo", 100), 100),
            (pass("ines", "arlo", 100), -1),
            (pass("lena", "arlo", 100), 5),
            (pass("ines", "ines", 100), 5),
        ] {
            assert!(matches!(outcome(other, at).outcome, Outcome::Unmet { .. }));
        }
    }

    proptest! {
        #[test]
        fn no_path_is_live_with_an_unmet_demand_and_every_path_ends_once(inputs in prop::collection::vec((0i64..200, 0u8..9), 0..30)) {
            let run = || {
                let mut a = Attempt::new(BOTH);
                let mut now = 0;
                a.step(0);
                for (wait, what) in inputs.iter().chain([&(700, 0), &(4000, 0)]) {
                    now += wait;
                    a.admission.handle_timeout(t(now));
                    if let Some(live) = &mut a.live { live.handle_timeout(t(now)); }
                    a.step(now);
                    match what {
                        1 => { a.approved.push("arlo"); a.admission.handle_approvers(Said::Yes) }
                        2 => { a.approved.push("lena"); a.admission.handle_approvers(Said::Yes) }
                        // Their own approval, and a yes without one.
                        3 => { a.approved.push("ines"); a.admission.handle_approvers(Said::Yes) }
                        4 => { a.consent = Some(Consent::Ask); a.admission.handle_person(Said::Yes) }
                        5 => a.admission.handle_person(Said::Yes),
                        6 => a.admission.handle_change(),
                        7 => a.admission.handle_end(EndReason::Left),
                        8 => { if let Some(live) = &mut a.live { live.handle_end(EndReason::ConsentTakenBack) } }
                        _ => {}
                    }
                    a.step(now);
                    if a.live.is_some() {
                        prop_assert!(a.approved.contains(&"arlo") && a.approved.contains(&"lena") && a.consent == Some(Consent::Ask));
                    }
                }
                Ok((a.said, a.ends))
            };
            let (said, ends) = run()?;
            prop_assert_eq!(ends.len(), 1);
            prop_assert_eq!((said, ends), run()?);
        }
    }
}
