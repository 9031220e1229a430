//! Access that is asked for beforehand: who may approve it, what their answers come to, and the pass that follows.

use crate::policy::{Capability, Facts, ForwardTarget, Outcome, Pass, Policy, Request, Tracks};
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// Machines in one request at most.
pub const MOST_MACHINES: usize = 50;
/// Longest window of a request.
pub const LONGEST_WINDOW: SignedDuration = SignedDuration::from_hours(24 * 92);

/// What somebody asks for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Wish {
    /// Identifier.
    pub id: String,
    /// Who asks.
    pub person: String,
    /// For which machines.
    pub machines: Vec<String>,
    /// To do what.
    pub capabilities: Vec<Capability>,
    /// Where ports lead that are to be forwarded; to any that the rules allow where it is none.
    #[serde(default)]
    pub target: Option<ForwardTarget>,
    /// From when.
    pub from: Timestamp,
    /// Until when.
    pub until: Timestamp,
    /// Why.
    pub reason: String,
    /// Ticket; empty for none.
    pub ticket: String,
    /// When it was asked for.
    pub asked: Timestamp,
    /// When no answer becomes a no.
    pub expires: Timestamp,
    /// A session waits for it at this moment.
    pub waiting: bool,
}

/// What an approver changes in what was asked for: it only ever becomes less.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Changes {
    /// Until when, instead.
    pub until: Option<Timestamp>,
    /// To do what, instead.
    pub capabilities: Option<Vec<Capability>>,
    /// How long a session may last, in seconds.
    pub session_s: Option<u32>,
}

/// One approver's answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Answer {
    /// Who answered.
    pub by: String,
    /// The approver in whose place they did; the same person where they are one themselves.
    pub instead_of: String,
    /// Yes or no.
    pub yes: bool,
    /// Why; empty where nothing was said.
    pub why: String,
    /// When.
    pub at: Timestamp,
    /// What is changed.
    pub changes: Changes,
}

/// What the answers come to.
#[derive(Debug, Clone, PartialEq, Eq)]
#[must_use]
pub enum Verdict {
    /// More must answer: how many yeses there are.
    Open(usize),
    /// It is approved, and this is the pass.
    Approved(Pass),
    /// Somebody refused it.
    Refused(Answer),
}

/// Why something cannot be asked for or answered.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum ApprovalFault {
    /// Nothing there waits for an approval.
    #[error("no rule lets you have this with an approval")]
    NothingToApprove,
    /// No machine, no capability, too many, or a window that is none.
    #[error("name 1 to {MOST_MACHINES} machines, at least one capability, and a window of at most 92 days that lies ahead")]
    Form,
    /// One's own.
    #[error("nobody approves what they ask for themselves")]
    Own,
    /// Not one of those who may.
    #[error("the rules do not let you approve this")]
    NotYours,
    /// Answered by the same person already.
    #[error("you have answered this already")]
    Answered,
    /// More than was asked for.
    #[error("an approver may give less than was asked for, never more")]
    More,
}

/// What is asked for or approved, word by word: forwarded ports with where they lead.
pub fn uses(capabilities: &[Capability], target: Option<&ForwardTarget>) -> Vec<String> {
    let said = |c: &Capability| match (c, target) {
        (Capability::Forward, Some(target)) => format!("{} to {target}", c.word()),
        (Capability::Forward, None) => format!("{} to any port that the rules allow", c.word()),
        (other, _) => other.word().into(),
    };
    capabilities.iter().map(said).collect()
}

impl Wish {
    /// Whether it has a form that can be looked at.
    ///
    /// # Errors
    /// When it has none.
    pub fn check(&self, now: Timestamp) -> Result<(), ApprovalFault> {
        let window = self.until.duration_since(self.from);
        let good = (1..=MOST_MACHINES).contains(&self.machines.len())
            && !self.capabilities.is_empty()
            && (self.target.is_none() || self.capabilities.contains(&Capability::Forward))
            && self.until > now
            && window > SignedDuration::ZERO
            && window <= LONGEST_WINDOW;
        if good { Ok(()) } else { Err(ApprovalFault::Form) }
    }

    /// Whether both are about the same port, however it was written, or about any.
    pub fn is_for_same_port(&self, other: &Self) -> bool {
        match (&self.target, &other.target) {
            (Some(a), Some(b)) => a.is_at_same_place(b),
            (None, None) => true,
            (Some(_), None) | (None, Some(_)) => false,
        }
    }

    /// The pass that these answers would make.
    fn pass(&self, yes: &[&Answer]) -> Pass {
        let within = |c: &Capability| yes.iter().all(|a| a.changes.capabilities.as_ref().is_none_or(|given| given.contains(c)));
        Pass {
            id: self.id.clone(),
            person: self.person.clone(),
            machines: self.machines.clone(),
            capabilities: self.capabilities.iter().copied().filter(within).collect(),
            from: self.from,
            until: yes.iter().filter_map(|a| a.changes.until).fold(self.until, Timestamp::min),
            approved_by: yes.iter().map(|a| a.instead_of.clone()).collect(),
            session_s: yes.iter().filter_map(|a| a.changes.session_s).min(),
            target: self.target.clone(),
        }
    }
}

impl Policy {
    /// What is still to be approved of a use at some instant within the window, with a pass and without.
    fn to_approve(&self, wish: &Wish, machine: &str, capability: Capability, passes: &[Pass], at: Timestamp) -> Option<Vec<u16>> {
        let asked = |target: Option<&ForwardTarget>| {
            let facts = Facts { recorded: Tracks::all(), passes, target, ..Facts::default() };
            let request = Request { person: &wish.person, capability, machine, account: None, at, from: None, facts };
            match self.decide(&request).outcome {
                Outcome::Granted(_) => Some(vec![]),
                Outcome::Unmet { missing, .. } => Some(missing.approvals),
                Outcome::Refused(_) => None,
            }
        };
        // Of a port of the machine itself it is not said whether the directory names it.
        let service = wish.target.as_ref().filter(|t| t.is_itself()).map(|t| ForwardTarget::service(t.port()));
        asked(wish.target.as_ref()).or_else(|| asked(Some(&service?)))
    }

    /// Instants that stand for a window: rules with hours may count at one and not at another.
    fn instants(wish: &Wish, now: Timestamp) -> impl Iterator<Item = Timestamp> {
        let (first, last) = (wish.from.max(now), wish.until);
        let step = SignedDuration::from_mins(30);
        (0..=96).map_while(move |n| first.checked_add(step * n).ok().filter(|t| *t < last))
    }

    /// The approvals that what is asked for waits for, as indices into [`crate::policy::Document::approvals`].
    fn approvals_of(&self, wish: &Wish, now: Timestamp) -> BTreeSet<u16> {
        let mut all = BTreeSet::new();
        for machine in &wish.machines {
            for capability in &wish.capabilities {
                // The rules of the moment that comes first at which anything is to be approved.
                let first =
                    Self::instants(wish, now).find_map(|at| self.to_approve(wish, machine, *capability, &[], at).filter(|a| !a.is_empty()));
                all.extend(first.into_iter().flatten());
            }
        }
        all
    }

    /// Who may approve what is asked for: never whoever asks.
    ///
    /// # Errors
    /// When nothing in it waits for an approval.
    pub fn approvers_of(&self, wish: &Wish, now: Timestamp) -> Result<BTreeSet<String>, ApprovalFault> {
        let approvals = self.approvals_of(wish, now);
        if approvals.is_empty() {
            return Err(ApprovalFault::NothingToApprove);
        }
        let names = approvals.iter().flat_map(|id| self.approver_names(*id)).filter(|n| *n != wish.person);
        Ok(names.map(Into::into).collect())
    }

    /// Whether this person may give this answer, after the others.
    ///
    /// # Errors
    /// Why they may not.
    pub fn may_answer(&self, wish: &Wish, before: &[Answer], answer: &Answer, now: Timestamp) -> Result<(), ApprovalFault> {
        if answer.by == wish.person || answer.instead_of == wish.person {
            return Err(ApprovalFault::Own);
        }
        if !self.approvers_of(wish, now)?.contains(&answer.instead_of) {
            return Err(ApprovalFault::NotYours);
        }
        // One person is one voice, for whomever they speak.
        if before.iter().any(|a| a.by == answer.by || a.instead_of == answer.instead_of) {
            return Err(ApprovalFault::Answered);
        }
        let c = &answer.changes;
        let more = c.until.is_some_and(|u| u > wish.until || u <= now)
            || c.capabilities.as_ref().is_some_and(|all| all.is_empty() || !all.iter().all(|one| wish.capabilities.contains(one)))
            || c.session_s == Some(0);
        if more { Err(ApprovalFault::More) } else { Ok(()) }
    }

    /// Those who could approve what this person may do on this machine with an approval.
    pub fn approvers_for(&self, person: &str, machine: &str, now: Timestamp) -> BTreeSet<String> {
        let wish = Wish {
            id: String::new(),
            person: person.into(),
            machines: vec![machine.into()],
            capabilities: Capability::ALL.into_iter().filter(|c| c.is_of_sessions()).collect(),
            target: None,
            from: now,
            until: now.saturating_add(SignedDuration::from_mins(1)).unwrap_or(now),
            reason: String::new(),
            ticket: String::new(),
            asked: now,
            expires: now,
            waiting: true,
        };
        self.approvers_of(&wish, now).unwrap_or_default()
    }

    /// What the answers come to under these rules: the gate's own decision says whether they are enough.
    pub fn weigh(&self, wish: &Wish, answers: &[Answer], now: Timestamp) -> Verdict {
        if let Some(no) = answers.iter().find(|a| !a.yes) {
            return Verdict::Refused(no.clone());
        }
        let yes: Vec<&Answer> = answers.iter().collect();
        let pass = wish.pass(&yes);
        let passes = std::slice::from_ref(&pass);
        let enough = !yes.is_empty()
            && wish.machines.iter().all(|machine| {
                pass.capabilities.iter().all(|capability| {
                    let uses = Self::instants(wish, now).filter(|at| *at < pass.until);
                    uses.filter_map(|at| self.to_approve(wish, machine, *capability, passes, at)).all(|missing| missing.is_empty())
                })
            });
        if enough { Verdict::Approved(pass) } else { Verdict::Open(yes.len()) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::directory::{Directory, DirectoryFile};
    use crate::policy::read;
    use std::sync::Arc;

    fn t(s: i64) -> Timestamp {
        Timestamp::from_second(1_780_000_000 + s).unwrap()
    }

    fn policy(count: u16) -> Policy {
        let file: DirectoryFile = serde_json::from_value(serde_json::json!({
            "people": [
                { "name": "ines", "groups": ["owners"] },
                { "name": "arlo", "groups": ["owners"] }, { "name": "lena", "groups": ["owners"] }, { "name": "noa" },
            ],
            "machines": [{ "name": "dome", "accounts": ["op"] }, { "name": "mast", "accounts": ["op"] }],
        }))
        .unwrap();
        let directory: Directory = file.into();
        let text = format!(
            "[[allow]]\nname = \"a\"\npeople = \"*\"\nmachines = \"name:dome\"\ncapabilities = [\"shell\", \"upload\"]\naccounts = [\"op\"]\n\
             approval = {{ from = \"group:owners\", count = {count} }}\n\
             [[allow]]\nname = \"b\"\npeople = \"*\"\nmachines = \"name:mast\"\ncapabilities = [\"shell\"]\naccounts = [\"op\"]\n"
        );
        Policy::compile(read(&text).unwrap(), Arc::new(directory), t(0))
    }

    fn wish(person: &str) -> Wish {
        Wish {
            id: "w1".into(),
            person: person.into(),
            machines: vec!["dome".into()],
            capabilities: vec![Capability::Shell, Capability::Upload],
            target: None,
            from: t(0),
            until: t(7200),
            reason: "The shutter sticks.".into(),
            ticket: String::new(),
            asked: t(0),
            expires: t(600),
            waiting: false,
        }
    }

    fn answer(by: &str) -> Answer {
        Answer { by: by.into(), instead_of: by.into(), yes: true, why: String::new(), at: t(1), changes: Changes::default() }
    }

    #[test]
    fn approvers_are_those_of_the_rules_and_never_whoever_asks() {
        let p = policy(1);
        let names = |w: &Wish| p.approvers_of(w, t(1)).map(|n| n.into_iter().collect::<Vec<_>>().join(" "));
        assert_eq!(names(&wish("noa")).as_deref(), Ok("arlo ines lena"));
        assert_eq!(names(&wish("ines")).as_deref(), Ok("arlo lena"));
        let other = |machine: &str| Wish { machines: vec![machine.into()], capabilities: vec![Capability::Shell], ..wish("noa") };
        assert_eq!(names(&other("mast")), Err(ApprovalFault::NothingToApprove));
        assert_eq!(names(&other("gone")), Err(ApprovalFault::NothingToApprove));
    }

    #[test]
    fn whoever_may_not_answer_is_told_why() {
        let (p, w) = (policy(2), wish("ines"));
        let deputy = |by: &str, of: &str| Answer { instead_of: of.into(), ..answer(by) };
        let changed = |changes: Changes| Answer { changes, ..answer("lena") };
        let table = [
            (answer("lena"), Ok(())),
            (deputy("noa", "lena"), Ok(())),
            (answer("ines"), Err(ApprovalFault::Own)),
            // As somebody else's deputy, or with one of their own as deputy, it would still be their own.
            (deputy("ines", "lena"), Err(ApprovalFault::Own)),
            (deputy("noa", "ines"), Err(ApprovalFault::Own)),
            (answer("noa"), Err(ApprovalFault::NotYours)),
            (answer("arlo"), Err(ApprovalFault::Answered)),
            (deputy("arlo", "lena"), Err(ApprovalFault::Answered)),
            (deputy("noa", "arlo"), Err(ApprovalFault::Answered)),
            (changed(Changes { until: Some(t(7201)), ..Changes::default() }), Err(ApprovalFault::More)),
            (changed(Changes { capabilities: Some(vec![Capability::Forward]), ..Changes::default() }), Err(ApprovalFault::More)),
            (changed(Changes { capabilities: Some(vec![]), ..Changes::default() }), Err(ApprovalFault::More)),
            (changed(Changes { until: Some(t(60)), capabilities: Some(vec![Capability::Shell]), session_s: Some(30) }), Ok(())),
        ];
        for (a, expected) in table {
            assert_eq!(p.may_answer(&w, &[answer("arlo")], &a, t(5)), expected, "{a:?}");
        }
    }

    #[test]
    fn two_of_two_make_a_pass_with_the_least_of_both() {
        let (p, w) = (policy(2), wish("noa"));
        assert_eq!(p.weigh(&w, &[], t(5)), Verdict::Open(0));
        assert_eq!(p.weigh(&w, &[answer("arlo")], t(5)), Verdict::Open(1));
        let shorter = Answer { changes: Changes { until: Some(t(3600)), ..Changes::default() }, ..answer("arlo") };
        let fewer = Answer {
            changes: Changes { capabilities: Some(vec![Capability::Shell]), session_s: Some(900), ..Changes::default() },
            ..answer("lena")
        };
        let Verdict::Approved(pass) = p.weigh(&w, &[shorter, fewer], t(5)) else { panic!() };
        assert_eq!((pass.until, pass.capabilities, pass.session_s), (t(3600), vec![Capability::Shell], Some(900)));
        let no = Answer { yes: false, ..answer("lena") };
        assert_eq!(p.weigh(&w, &[answer("arlo"), no.clone()], t(5)), Verdict::Refused(no));
        // Whoever has lost the right since does not count.
        assert_eq!(p.weigh(&w, &[answer("arlo"), answer("noa")], t(5)), Verdict::Open(2));
    }

    #[test]
    fn an_approval_of_one_port_is_none_of_another() {
        let file: DirectoryFile = serde_json::from_value(serde_json::json!({
            "people": [{ "name": "ines" }, { "name": "noa" }],
            "machines": [{ "name": "dome", "accounts": ["op"] }],
        }))
        .unwrap();
        let rule = |name: &str, targets: &str, from: &str| {
            format!(
                "[[allow]]\nname = \"{name}\"\npeople = \"*\"\nmachines = \"*\"\ncapabilities = [\"forward\"]\naccounts = [\"op\"]\n\
                 targets = {targets}\napproval = {{ from = \"person:{from}\", count = 1 }}\n"
            )
        };
        let text = rule("shown", "[\"localhost:8080\", \"localhost:8081\"]", "ines") + &rule("beyond", "[\"10.0.0.0/8:*\"]", "noa");
        let p = Policy::compile(read(&text).unwrap(), Arc::new(file.into()), t(0));
        let to = |text: &str| text.parse::<ForwardTarget>().unwrap();
        let asked = |target: Option<&str>| Wish { capabilities: vec![Capability::Forward], target: target.map(to), ..wish("zoe") };
        let approvers = |w: &Wish| p.approvers_of(w, t(1)).map(|n| n.into_iter().collect::<Vec<_>>().join(" "));
        // Those who may approve are those of the rules that lead there.
        assert_eq!(approvers(&Wish { person: "noa".into(), ..asked(Some("localhost:8080")) }).as_deref(), Ok("ines"));
        assert_eq!(approvers(&Wish { person: "ines".into(), ..asked(Some("10.1.2.3:22")) }).as_deref(), Ok("noa"));
        assert_eq!(approvers(&Wish { person: "ines".into(), ..asked(Some("192.168.0.1:22")) }), Err(ApprovalFault::NothingToApprove));

        let w = Wish { person: "noa".into(), ..asked(Some("127.0.0.1:8080")) };
        let Verdict::Approved(pass) = p.weigh(&w, &[answer("ines")], t(5)) else { panic!() };
        let kept: Pass = serde_json::from_str(&serde_json::to_string(&pass).unwrap()).unwrap();
        assert_eq!(kept, pass);
        let passes = [kept];
        let granted = |target: Option<ForwardTarget>| {
            let facts = Facts { recorded: Tracks::all(), passes: &passes, target: target.as_ref(), ..Facts::default() };
            let request =
                Request { person: "noa", capability: Capability::Forward, machine: "dome", account: None, at: t(6), from: None, facts };
            matches!(p.decide(&request).outcome, Outcome::Granted(_))
        };
        assert!(granted(Some(to("localhost:8080"))) && granted(Some(ForwardTarget::service(8080))));
        assert!(!granted(Some(to("localhost:8081"))) && !granted(Some(to("10.1.2.3:22"))));
        assert!(w.is_for_same_port(&asked(Some("localhost:8080"))) && asked(None).is_for_same_port(&asked(None)));
        assert!(
            !w.is_for_same_port(&asked(Some("localhost:8081"))) && !w.is_for_same_port(&asked(None)) && !asked(None).is_for_same_port(&w)
        );
        assert_eq!(uses(&pass.capabilities, pass.target.as_ref()), ["forward to 127.0.0.1:8080"]);
        assert_eq!(uses(&[Capability::Shell, Capability::Forward], None), ["shell", "forward to any port that the rules allow"]);
        // What was kept before ports were named stands for all of them.
        let mut old = serde_json::to_value(&pass).unwrap();
        old.as_object_mut().unwrap().remove("target");
        assert_eq!(serde_json::from_value::<Pass>(old).unwrap().target, None);
    }

    #[test]
    fn a_wish_has_a_form() {
        assert_eq!(wish("noa").check(t(5)), Ok(()));
        let bad = [
            Wish { machines: vec![], ..wish("noa") },
            Wish { machines: vec!["dome".into(); 51], ..wish("noa") },
            Wish { capabilities: vec![], ..wish("noa") },
            Wish { target: Some(ForwardTarget::itself(22)), ..wish("noa") },
            Wish { until: t(0), ..wish("noa") },
            Wish { until: t(93 * 86_400), ..wish("noa") },
        ];
        for w in bad {
            assert_eq!(w.check(t(5)), Err(ApprovalFault::Form));
        }
    }
}
