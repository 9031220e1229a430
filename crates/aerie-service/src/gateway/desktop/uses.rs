//! What a desktop session may be used for besides seeing it: asked for, agreed to, given back.

use super::super::admission::attend;
use super::super::connection::{Connection, lock};
use super::{ASKED, Desktop};
use crate::desktop::{Order, asked_here};
use crate::machines::Steps;
use crate::sessions::Own;
use aerie_api::ToViewer;
use aerie_core::policy::{Capabilities, Capability, Consent, Outcome};
use aerie_core::visit::WITH_PROGRAM;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use tokio_util::sync::CancellationToken;

impl Desktop {
    /// Whether the session may be used so now.
    pub(crate) fn may(&self, capability: Capability) -> bool {
        !self.session.live.ended.is_cancelled() && lock(&self.session.uses).iter().any(|(c, over)| *c == capability && !over.is_cancelled())
    }

    /// What the session may be used for, in the words of [`ToViewer::Uses`].
    pub(crate) fn uses(&self) -> ToViewer {
        let (rules, known) = (self.connection.app.rules.now(), self.connection.known());
        let asking = lock(&self.asking).clone();
        let state = |c: Capability| {
            if self.may(c) {
                return "on";
            }
            if self.visit.is_some() && (self.film || !WITH_PROGRAM.contains(&c)) {
                return "refused";
            }
            if asking.contains(&c) {
                return "asked";
            }
            let facts = self.connection.facts(&known, (c, None), Own::Live(&self.session.live));
            let (person, account) = (self.person(), Some(self.session.account.as_str()));
            let request = Connection::request(person, &self.session.machine, account, c, self.connection.from, facts);
            match rules.policy.decide(&request).outcome {
                // Whatever the rules say, whoever is helped is asked.
                Outcome::Granted(_) if self.visit.is_some() => "ask",
                Outcome::Granted(_) => "at-once",
                Outcome::Unmet { missing, .. } if missing.consent.is_some() || !missing.approvals.is_empty() => "ask",
                Outcome::Unmet { .. } | Outcome::Refused(_) => "refused",
            }
        };
        let all = std::iter::once(Capability::View).chain(ASKED);
        ToViewer::Uses { uses: all.map(|c| (c.word().into(), state(c).into())).collect() }
    }

    /// Tells everybody who looks what it may be used for.
    pub(crate) fn tell_uses(&self) {
        self.screen.say(self.uses());
        if let Some(meeting) = &self.visit {
            meeting.handle_change();
        }
    }

    /// Asks for a further capability; whoever must agree is asked, and it is told when they did.
    pub(crate) fn ask(self: &Arc<Self>, word: &str) {
        let Some(capability) = asked_here(word).filter(|c| !self.may(*c)) else { return };
        if self.visit.is_some() && (self.film || !WITH_PROGRAM.contains(&capability)) {
            return;
        }
        {
            let mut asking = lock(&self.asking);
            if asking.contains(&capability) {
                return;
            }
            asking.push(capability);
        }
        self.tell_uses();
        let this = self.clone();
        self.connection.app.tasks.spawn(async move {
            let ended = this.session.live.ended.clone();
            let asked = tokio::select! { asked = this.asked(capability) => asked, () = ended.cancelled() => return };
            lock(&this.asking).retain(|c| *c != capability);
            match asked {
                Ok(over) => {
                    this.tell_uses();
                    let copies = capability == Capability::ClipboardOut;
                    if copies {
                        this.order(Order::Copied(true)).await;
                    }
                    over.cancelled().await;
                    if copies {
                        this.order(Order::Copied(false)).await;
                    }
                    // Taken back, given back, or the end.
                    this.order(Order::Release).await;
                }
                Err(text) => this.screen.say(ToViewer::Refused { capability: Some(capability.word().into()), text }),
            }
            this.tell_uses();
        });
    }

    async fn asked(&self, capability: Capability) -> Result<CancellationToken, String> {
        let (steps, mut said) = Steps::new();
        let (connection, screen) = (&self.connection, &self.screen);
        if let Some(meeting) = &self.visit {
            if !meeting.ask(capability).await {
                return Err(format!("The person did not agree that you {} their computer.", capability.phrase()));
            }
            connection.consents.give(capability, Consent::Ask);
        }
        let admitting = connection.admit(capability, &steps);
        tokio::pin!(admitting);
        let admitted = loop {
            tokio::select! {
                biased;
                admitted = &mut admitting => break admitted?,
                Some(text) = said.recv() => screen.say(ToViewer::Step { text }),
            }
        };
        let session = connection.session(&admitted.granted, &steps).await?;
        self.lock.fetch_or(admitted.granted.grant().demands.lock, Ordering::SeqCst);
        let over = session.live.ended.child_token();
        lock(&session.uses).push((capability, over.clone()));
        attend(connection, &session, admitted.consenting).await;
        session.live.mark(&format!("{} may now {} the machine.", self.person(), capability.phrase()));
        Ok(over)
    }

    /// Gives a capability back.
    pub(crate) fn give_back(&self, word: &str) {
        let Some(capability) = asked_here(word) else { return };
        if self.visit.is_some() {
            self.connection.consents.take_back(&capability.into());
        }
        let mut uses = lock(&self.session.uses);
        uses.iter().filter(|(c, _)| *c == capability).for_each(|(_, over)| over.cancel());
        uses.retain(|(c, _)| *c != capability);
        drop(uses);
        let mut granted = lock(&self.session.granted);
        *granted = Capabilities::of(granted.iter().filter(|c| *c != capability));
    }
}
