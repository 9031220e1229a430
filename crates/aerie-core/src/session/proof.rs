use crate::policy::{Factor, Factors, Proofs};
use jiff::Timestamp;

/// Proof of who somebody is. Only [`SignIn`] makes one.
///
/// ```compile_fail
/// // There is no other way to come by one.
/// let forged = aerie_core::session::PersonProved { person: "ines".into(), proofs: Default::default() };
/// ```
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PersonProved {
    person: String,
    proofs: Proofs,
}

impl PersonProved {
    /// Name of the person.
    pub fn person(&self) -> &str {
        &self.person
    }

    /// Factors that were proved.
    pub fn factors(&self) -> Factors {
        self.proofs.factors()
    }

    /// Factors that were proved, and when.
    pub fn proofs(&self) -> Proofs {
        self.proofs
    }
}

/// One dialogue in which somebody proves who they are. All factors are of one person: a factor of another ends it.
#[derive(Debug, Default)]
pub struct SignIn {
    person: Option<String>,
    proofs: Proofs,
}

impl SignIn {
    /// Takes a factor that was checked. Returns false, and takes nothing, where another person began the dialogue.
    #[must_use]
    pub fn handle_factor(&mut self, person: &str, factor: Factor, at: Timestamp) -> bool {
        if self.person.as_deref().is_some_and(|p| p != person) {
            return false;
        }
        self.person.get_or_insert_with(|| person.into());
        self.proofs.prove(factor, at);
        true
    }

    /// The factors proved so far.
    pub fn factors(&self) -> Factors {
        self.proofs.factors()
    }

    /// The factors proved so far, and when.
    pub fn proofs(&self) -> Proofs {
        self.proofs
    }

    /// The person, once they proved anything.
    pub fn proved(&self) -> Option<PersonProved> {
        let person = self.person.clone()?;
        (!self.factors().is_empty()).then_some(PersonProved { person, proofs: self.proofs })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn factors_of_two_people_never_add_up() {
        let mut s = SignIn::default();
        assert!(s.proved().is_none());
        assert!(s.handle_factor("ines", Factor::Key, Timestamp::UNIX_EPOCH));
        assert!(!s.handle_factor("noa", Factor::Code, Timestamp::UNIX_EPOCH));
        assert_eq!(s.proved().map(|p| (p.person().to_string(), p.factors())), Some(("ines".into(), Factors::of([Factor::Key]))));
    }
}
