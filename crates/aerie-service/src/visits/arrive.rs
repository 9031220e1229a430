//! The PIN of a visit, typed on the service's page by a stranger, or on the page of a machine's agent by whoever sits there.

use super::{VisitError, change, note};
use crate::identity::PinTried;
use crate::service::App;
use aerie_core::audit::{Finding, FindingKind};
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::visit::{Device, Visit};
use aerie_store::{Pin, StoreError};
use jiff::Timestamp;
use std::net::IpAddr;

/// What became of it.
pub(crate) enum Arrived {
    /// It was right; with the visit, where it is of one.
    Right(Box<Pin>, Option<Box<Visit>>),
    /// It is nobody's.
    Wrong,
    /// Nobody may try for so many seconds.
    Wait(i64),
}

/// Tries a PIN; a right one is used up, and its visit has its person. `device` is what is known of where they sit.
///
/// # Errors
/// When the store refuses, or the visit waits for nobody any more.
pub(crate) async fn arrive(app: &App, visit: Option<&str>, pin: &str, from: IpAddr, device: Device) -> Result<Arrived, VisitError> {
    let now = Timestamp::now();
    let who = if device.machine.is_empty() { "stranger" } else { &device.machine };
    let event = |says: &str| {
        let event = NewEvent::new(now, EventKind::PinTried, who).from(from).says(says);
        if device.machine.is_empty() { event } else { event.machine(&device.machine) }
    };
    match app.identity.try_pin(visit, pin, from, &app.settings().pins(), now).await? {
        PinTried::Right(pin) => {
            let right = event("Somebody typed the right PIN of a visit.").with("pin", pin.id.clone()).with("right", true);
            app.log.append(right).await?;
            app.tell("pins");
            let machine = device.machine.clone();
            match change(app, &pin.id, |v, times, now| v.handle_arrival(device, times, now)).await {
                Ok((visit, ())) => {
                    if !machine.is_empty() {
                        app.visits.sit(&machine, &visit.id);
                        note(app, &visit, "stranger", format!("{} is at {machine}.", visit.request.person)).await;
                    }
                    Ok(Arrived::Right(pin, Some(Box::new(visit))))
                }
                // A PIN of nothing but itself.
                Err(VisitError::Missing) => Ok(Arrived::Right(pin, None)),
                Err(e) => Err(e),
            }
        }
        PinTried::Wrong => {
            app.note(event("Somebody typed a PIN that is nobody's.").with("right", false)).await;
            app.tell("pins");
            Ok(Arrived::Wrong)
        }
        PinTried::Wait(seconds) => Ok(Arrived::Wait(seconds)),
        PinTried::Sprayed(seconds) => {
            sprayed(app, now).await;
            Ok(Arrived::Wait(seconds))
        }
    }
}

/// What the person at a managed machine is told of the PIN that they typed there.
pub(crate) async fn arrive_at(app: &App, machine: &str, pin: &str, from: IpAddr) -> (bool, String) {
    let device = Device { machine: machine.into(), host: machine.into(), address: from.to_string(), ..Device::default() };
    match arrive(app, None, pin, from, device).await {
        Ok(Arrived::Right(pin, visit)) => {
            let rules = app.rules.now();
            let helper = visit.and_then(|v| v.technician).unwrap_or(pin.issued_by);
            let helper = rules.policy.directory().person(&helper).map_or(helper.clone(), |p| p.shown().to_string());
            (true, format!("{helper} knows that you are here. What they want to do on this computer is asked above."))
        }
        Ok(Arrived::Wrong) => (false, "That PIN is not right, was used, or is over. Ask for another.".into()),
        Ok(Arrived::Wait(seconds)) => (false, format!("Too many wrong PINs: try again in {seconds} seconds.")),
        Err(e) => {
            tracing::warn!(error = %e, "a PIN could not be looked at");
            (false, "That visit waits for nobody any more.".into())
        }
    }
}

/// Somebody began a session on a machine: where they help whoever sits there, it belongs to that visit.
pub(crate) async fn joined(app: &App, person: &str, machine: &str, session: &str) {
    let Some(id) = app.visits.at(machine) else { return };
    let theirs = app.store.visit(&id).await.ok().flatten().is_some_and(|v| v.technician.as_deref() == Some(person));
    if theirs && let Err(e) = change(app, &id, |v, _, now| v.handle_joined(session, now)).await {
        tracing::debug!(error = %e, "a session does not belong to the visit there");
    }
}

/// Makes a finding of it that PINs were sprayed: one an hour, however often somebody tries.
async fn sprayed(app: &App, now: Timestamp) {
    let cause = format!("pins {}", now.as_second() / 3600);
    let wrong = app.settings().pins().everywhere;
    let sentence = format!("{wrong} wrong PINs were tried within ten minutes; nobody may try one for a while.");
    let finding = Finding::seen(FindingKind::PinSpraying, &cause, "", "", sentence, now);
    match crate::audit::keep(app, vec![finding]).await {
        Ok(_) => app.tell("findings"),
        Err(e) => tracing::error!(error = %e, "a finding could not be kept"),
    }
}

/// Who sits where, as it was before a restart.
///
/// # Errors
/// When the store refuses.
pub(super) async fn seat(app: &App) -> Result<(), StoreError> {
    let open = app.store.visits(&aerie_store::VisitFilter { open: true, limit: 1000 }).await?;
    open.iter().filter(|v| !v.device.machine.is_empty() && v.ended.is_none()).for_each(|v| app.visits.sit(&v.device.machine, &v.id));
    Ok(())
}
