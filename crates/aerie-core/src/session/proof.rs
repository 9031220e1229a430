use crate::policy::{Factor, Factors};

/// Proof of who somebody is. Only [`SignIn`] makes one.
///
/// ```compile_fail
/// // There is no other way to come by one.
/// let forged = aerie_core::session::PersonProved { person: "ines".into(), factors: Default::default() };
/// ```
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PersonProved {
    person: String,
    factors: Factors,
}

impl PersonProved {
    /// Name of the person.
    pub fn person(&self) -> &str {
        &self.person
    }

    /// Factors that were proved.
    pub fn factors(&self) -> Factors {
        self.factors
    }
}

/// One dialogue in which somebody proves who they are. All factors are of one person: a factor of another ends it.
#[derive(Debug, Default)]
pub struct SignIn {
    person: Option<String>,
    factors: Factors,
}

impl SignIn {
    /// Takes a factor that was checked. Returns false, and takes nothing, where another person began the dialogue.
    #[must_use]
    pub fn handle_factor(&mut self, person: &str, factor: Factor) -> bool {
        if self.person.as_deref().is_some_and(|p| p != person) {
            return false;
        }
        self.person.get_or_insert_with(|| person.into());
        self.factors = self.factors.union(Factors::of([factor]));
        true
    }

    /// The factors proved so far.
    pub fn factors(&self) -> Factors {
        self.factors
    }

    /// The person, once they proved anything.
    pub fn proved(&self) -> Option<PersonProved> {
        let person = self.person.clone()?;
        (!self.factors.is_empty()).then_some(PersonProved { person, factors: self.factors })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn factors_of_two_people_never_add_up() {
        let mut s = SignIn::default();
        assert!(s.proved().is_none());
        assert!(s.handle_factor("ines", Factor::Key));
        assert!(!s.handle_factor("noa", Factor::Code));
        assert_eq!(s.proved().map(|p| (p.person().to_string(), p.factors())), Some(("ines".into(), Factors::of([Factor::Key]))));
    }
}
