//! The one sentence that every decision has.

use super::capability::Factor;
use super::compile::Policy;
use super::decide::{Decision, Missing, Outcome, Refusal, Request};
use crate::directory::Standing;
use crate::wording;

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
            Outcome::Granted(grant) => voice.granted(&grant.account),
            Outcome::Unmet { missing, .. } => voice.unmet(*missing),
            Outcome::Refused(refusal) => voice.refused(*refusal),
        }
    }
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
        format!("{} {}", self.request.capability.phrase(), self.request.machine)
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

    fn until(&self) -> String {
        self.decision
            .holds_until
            .map(|t| format!(" until {}", wording::instant(t, self.request.at, self.policy.zone())))
            .unwrap_or_default()
    }

    fn granted(&self, account: &str) -> String {
        format!("{} may {} as {account}{}{}.", self.starting(), self.does(), self.until(), self.cited())
    }

    fn unmet(&self, missing: Missing) -> String {
        let mut needs: Vec<&str> = missing
            .factors
            .iter()
            .map(|f| match f {
                Factor::Key => "a registered key",
                Factor::Code => "a code",
                Factor::Password => "a password",
            })
            .collect();
        if missing.recording {
            needs.push("a recording");
        }
        let verb = if self.speech == Speech::Person { "need" } else { "needs" };
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
            Refusal::Days => format!("{} may {does} on other days only{cited}.", self.starting()),
            Refusal::Address => format!("{} may {does} from other addresses only{cited}.", self.starting()),
            Refusal::Hours => {
                let next = self
                    .decision
                    .holds_until
                    .map(|t| format!("; the hours begin at {}", wording::instant(t, self.request.at, self.policy.zone())));
                format!("{} may not {does} at this hour{}{cited}.", self.starting(), next.unwrap_or_default())
            }
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
