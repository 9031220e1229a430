//! The one sentence that every decision has.

use super::capability::{Consent, Tracks};
use super::compile::Policy;
use super::decide::{Decision, Grant, Outcome, Refusal, Request};
use super::demand::{Demands, Missing};
use super::document::Rule;
use crate::directory::Standing;
use crate::wording;
use jiff::SignedDuration;

/// Whom a sentence is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Speech {
    /// Somebody who may read the rules: names people, rules and lines.
    Insider,
    /// The person themselves, at the gateway: "you", and nothing about which machines, people or rules exist.
    Person,
}

impl Policy {
    /// The sentence for a decision.
    pub fn sentence(&self, request: &Request<'_>, decision: &Decision, speech: Speech) -> String {
        let voice = Voice { policy: self, request, decision, speech };
        match &decision.outcome {
            Outcome::Granted(grant) => voice.granted(grant),
            Outcome::Unmet { missing, .. } => voice.unmet(missing),
            Outcome::Refused(refusal) => voice.refused(*refusal),
        }
    }
}

impl Policy {
    /// What is missing, each as the object of "needs".
    pub fn needs(&self, missing: &Missing, speech: Speech) -> Vec<String> {
        let mut needs: Vec<String> = missing.factors.iter().map(|f| f.phrase().to_string()).collect();
        needs.extend(missing.stale.iter().map(|f| format!("{} proved again", f.phrase())));
        needs.extend(missing.assurance.map(|level| format!("assurance level {level}")));
        needs.extend(missing.approvals.iter().map(|id| self.approval(*id, speech)));
        needs.extend(missing.consent.map(|c| c.phrase().to_string()));
        needs.extend(missing.tickets.iter().map(|id| self.ticket(*id)));
        needs.extend(missing.reason.then(|| "a reason".to_string()));
        needs.extend(missing.device.then(|| "a managed device".to_string()));
        needs.extend((!missing.recording.is_empty()).then(|| recording(missing.recording)));
        needs.extend(missing.sessions.map(|n| format!("fewer than {} open", wording::count(n.into(), "session"))));
        needs
    }

    /// What is demanded, each as the object of "with".
    pub fn demanded(&self, demands: &Demands) -> Vec<String> {
        let seconds = |s: u32| wording::duration(SignedDuration::from_secs(s.into()));
        let mut all: Vec<String> = demands
            .factors
            .iter()
            .map(|f| match demands.fresh.get(f as usize).copied().unwrap_or(0) {
                0 => f.phrase().to_string(),
                age => format!("{} proved within {}", f.phrase(), seconds(age)),
            })
            .collect();
        all.extend((demands.assurance > 0).then(|| format!("assurance level {}", demands.assurance)));
        all.extend(demands.approvals.iter().map(|id| self.approval(*id, Speech::Insider)));
        all.extend(
            demands.consent.map(|c| if c == Consent::IfPresent { "consent if anybody is there".into() } else { c.phrase().to_string() }),
        );
        all.extend(demands.tickets.iter().map(|id| self.ticket(*id)));
        all.extend(demands.reason.then(|| "a reason".to_string()));
        all.extend(demands.device.then(|| "a managed device".to_string()));
        all.extend(demands.posture.iter().map(|p| format!("a machine that is {}", p.phrase())));
        all.extend((!demands.warn.is_empty()).then(|| {
            let good: Vec<&str> = demands.warn.iter().map(super::Posture::phrase).collect();
            format!("a warning where the machine is not {}", good.join(" or not "))
        }));
        all.extend((!demands.recording.is_empty()).then(|| recording(demands.recording)));
        all.extend(demands.lock.then(|| "its screen locked at the end".to_string()));
        let limits = demands.limits;
        all.extend(limits.session.map(|d| format!("at most {}", wording::duration(d))));
        all.extend(limits.idle.map(|d| format!("at most {} idle", wording::duration(d))));
        all.extend(limits.sessions.map(|n| format!("at most {} at once", wording::count(n.into(), "session"))));
        all.extend(limits.bytes.map(|n| format!("at most {}", wording::size(n))));
        all
    }

    fn approval(&self, id: u16, speech: Speech) -> String {
        match self.document.approvals.get(usize::from(id)) {
            Some(a) if speech == Speech::Insider && a.count > 1 => format!("the approval of {} of {}", a.count, a.text),
            Some(a) if speech == Speech::Insider => format!("the approval of {}", a.text),
            Some(a) if a.count > 1 => format!("the approval of {} people", a.count),
            Some(_) | None => "an approval".into(),
        }
    }

    fn ticket(&self, id: u16) -> String {
        match self.document.tickets.get(usize::from(id)).map(|t| &**t) {
            Some(pattern) if pattern != "*" => format!("a ticket of the form {pattern}"),
            Some(_) | None => "a ticket".into(),
        }
    }
}

fn recording(tracks: Tracks) -> String {
    if tracks == Tracks::all() {
        return "a recording".into();
    }
    let parts: Vec<&str> = tracks.iter().map(super::Track::phrase).collect();
    format!("a recording of {}", wording::list(&parts))
}

struct Voice<'a> {
    policy: &'a Policy,
    request: &'a Request<'a>,
    decision: &'a Decision,
    speech: Speech,
}

impl Voice<'_> {
    fn who(&self) -> String {
        match self.speech {
            Speech::Person => "you".into(),
            Speech::Insider => self.policy.directory.person(self.request.person).map_or(self.request.person, |p| p.shown()).to_string(),
        }
    }

    fn starting(&self) -> String {
        let who = self.who();
        if self.speech == Speech::Person { "You".into() } else { who }
    }

    fn does(&self) -> String {
        let to = self.request.target().map(|t| format!(" to {t}")).unwrap_or_default();
        format!("{} {}{to}", self.request.capability.phrase(), self.request.machine)
    }

    fn cited(&self) -> String {
        match (self.speech, self.decision.because.as_slice()) {
            (Speech::Person, _) | (Speech::Insider, []) => String::new(),
            (Speech::Insider, rules) => {
                let names: Vec<String> = rules.iter().map(|r| format!("{}, line {}", r.name, r.line)).collect();
                format!(" ({})", names.join("; "))
            }
        }
    }

    /// The first rule that is cited.
    fn cited_rule(&self) -> Option<&Rule> {
        let name = &self.decision.because.first()?.name;
        self.policy.document.rules.iter().find(|r| r.name == *name)
    }

    fn until(&self) -> String {
        self.decision
            .holds_until
            .map(|t| format!(" until {}", wording::instant(t, self.request.at, self.policy.zone())))
            .unwrap_or_default()
    }

    fn granted(&self, grant: &Grant) -> String {
        let warning = if grant.warnings.is_empty() {
            String::new()
        } else {
            let lacks: Vec<&str> = grant.warnings.iter().map(super::Posture::phrase).collect();
            format!(" Beware: {} is not {}.", self.request.machine, wording::list(&lacks))
        };
        format!("{} may {} as {}{}{}.{warning}", self.starting(), self.does(), grant.account, self.until(), self.cited())
    }

    fn unmet(&self, missing: &Missing) -> String {
        if let (Some(most), 1) = (missing.sessions, missing.count()) {
            let (has, may) = if self.speech == Speech::Person { ("have", "You") } else { ("has", "") };
            let who = if may.is_empty() { self.starting() } else { may.into() };
            return format!(
                "{who} {has} {} open already, and that is all that the rules allow at once{}.",
                wording::count(most.into(), "session"),
                self.cited()
            );
        }
        let verb = if self.speech == Speech::Person { "need" } else { "needs" };
        let needs = self.policy.needs(missing, self.speech);
        format!("{} {verb} {} to {}{}.", self.starting(), wording::list(&needs), self.does(), self.cited())
    }

    fn refused(&self, refusal: Refusal) -> String {
        let (who, does, cited) = (self.who(), self.does(), self.cited());
        match refusal {
            Refusal::UnknownPerson if self.speech == Speech::Insider => format!("There is nobody called {}.", self.request.person),
            Refusal::UnknownMachine if self.speech == Speech::Insider => format!("There is no machine called {}.", self.request.machine),
            // A stranger cannot tell a machine that is not there from one that is not for them.
            Refusal::UnknownPerson | Refusal::UnknownMachine | Refusal::NoRule => format!("No rule lets {who} {does}."),
            Refusal::Standing => self.standing(),
            Refusal::Account => match self.request.account {
                Some(account) => format!("No rule lets {who} {does} as {account}{cited}."),
                None => format!("No account that {who} may use is on {}{cited}.", self.request.machine),
            },
            Refusal::Target => {
                let gives = self.cited_rule().map(|r| format!(": the rules give {}", r.targets)).filter(|_| self.speech == Speech::Insider);
                format!("No rule lets {who} {does}{}{cited}.", gives.unwrap_or_default())
            }
            Refusal::UnnamedPort => {
                format!("{} may not {does}: sessions there are recorded, and no rule names this port{cited}.", self.starting())
            }
            Refusal::Days => format!("{} may {does} on other days only{cited}.", self.starting()),
            Refusal::Address => format!("{} may {does} from other addresses only{cited}.", self.starting()),
            Refusal::Hours => {
                let next = self
                    .decision
                    .holds_until
                    .map(|t| format!("; the hours begin at {}", wording::instant(t, self.request.at, self.policy.zone())));
                format!("{} may not {does} at this hour{}{cited}.", self.starting(), next.unwrap_or_default())
            }
            Refusal::Posture => {
                let machine = self.policy.directory.machine(self.request.machine);
                let known = machine.map(|m| m.postures()).unwrap_or_default();
                let wanted = self.cited_rule();
                let lacks: Vec<&str> =
                    wanted.map_or(vec![], |r| r.demands.posture.without(known).iter().map(super::Posture::phrase).collect());
                format!("{} may not {does}: it is not {}{cited}.", self.starting(), wording::list(&lacks))
            }
            Refusal::LockedDown => format!("{} may not {does} now: the service is locked down.", self.starting()),
            Refusal::Forbidden => format!("A rule forbids {who} to {does}{cited}."),
        }
    }

    fn standing(&self) -> String {
        let day = self.request.at.to_zoned(self.policy.zone().clone()).date();
        let standing = self.policy.directory.person(self.request.person).map(|p| p.standing(day));
        let account = if self.speech == Speech::Person { "Your account".into() } else { format!("The account of {}", self.who()) };
        match standing {
            Some(Standing::NotYet(first)) => format!("{account} is good from {first} on."),
            Some(Standing::Expired(last)) => format!("{account} ended on {last}."),
            Some(Standing::Suspended | Standing::Good) | None => format!("{account} is suspended."),
        }
    }
}
