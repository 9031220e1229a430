//! What the person at the machine agreed to in one session: a yes counts for the use that they were asked about.

use super::connection::{Intent, lock};
use aerie_core::policy::{Capability, Consent, ForwardTarget};
use std::sync::Mutex;

/// The answers of a connection's session.
#[derive(Debug, Default)]
pub(super) struct Consents(Mutex<Vec<(Intent, Consent)>>);

impl Consents {
    /// Records a yes.
    pub(super) fn give(&self, intent: impl Into<Intent>, consent: Consent) {
        let intent = intent.into();
        let mut all = lock(&self.0);
        all.retain(|(i, _)| !i.is_same(&intent));
        all.push((intent, consent));
    }

    /// Removes a yes.
    pub(super) fn take_back(&self, intent: &Intent) {
        lock(&self.0).retain(|(i, _)| !i.is_same(intent));
    }

    /// What was agreed to for this use. Of forwarded ports in general, where none is named, one that was agreed to is enough.
    pub(super) fn of(&self, capability: Capability, target: Option<&ForwardTarget>) -> Option<Consent> {
        let all = lock(&self.0);
        let mut agreed = all.iter().filter(|(i, _)| i.capability == capability);
        match target {
            None => agreed.next(),
            Some(target) => agreed.find(|(i, _)| i.target.as_ref().is_some_and(|t| t.is_same(target))),
        }
        .map(|(_, consent)| *consent)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_yes_to_one_port_is_none_to_another() {
        let consents = Consents::default();
        let to = |text: &str| text.parse::<ForwardTarget>().unwrap();
        let of = |text: &str| consents.of(Capability::Forward, Some(&to(text)));
        consents.give(to("localhost:5432"), Consent::Ask);
        consents.give(to("db.corvid-ridge.example:22"), Consent::Notice);
        assert_eq!(
            (of("127.0.0.1:5432"), of("localhost:22"), of("DB.corvid-ridge.example:22")),
            (Some(Consent::Ask), None, Some(Consent::Notice))
        );
        assert_eq!(consents.of(Capability::Forward, None), Some(Consent::Ask));
        assert_eq!(consents.of(Capability::Shell, None), None);
        consents.take_back(&to("localhost:5432").into());
        assert_eq!((of("localhost:5432"), consents.of(Capability::Forward, None)), (None, Some(Consent::Notice)));
        consents.give(Capability::View, Consent::Ask);
        consents.give(Capability::View, Consent::Notice);
        assert_eq!(consents.of(Capability::View, None), Some(Consent::Notice));
    }
}
