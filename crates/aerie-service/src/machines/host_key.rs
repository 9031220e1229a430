//! Pinned host keys: another one blocks, is a finding, and counts only once somebody accepted it.

use super::link::{LinkError, greet};
use super::path::reach;
use crate::service::App;
use aerie_core::audit::{Finding, FindingKind};
use aerie_core::directory::Machine;
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_store::StoreError;
use jiff::Timestamp;
use russh::keys::PublicKey;

fn line(key: &PublicKey) -> String {
    let text = key.to_openssh().unwrap_or_default();
    text.split(' ').take(2).collect::<Vec<_>>().join(" ")
}

pub(crate) fn print_of(line: &str) -> String {
    PublicKey::from_openssh(line).map(|k| crate::keys::fingerprint(&k)).unwrap_or_else(|_| "a key that cannot be read".into())
}

fn finding(machine: &Machine, shown: &str, now: Timestamp) -> Finding {
    let pinned = machine.host_key.as_deref().map(print_of).unwrap_or_default();
    let shown = print_of(shown);
    let sentence = format!("{} shows another host key than the pinned one: {shown} instead of {pinned}.", machine.name);
    Finding::seen(FindingKind::HostKeyChanged, &format!("{} {shown}", machine.name), &machine.name, "", sentence, now)
}

/// Notes that a machine showed another key.
pub(super) async fn differs(app: &App, machine: &Machine, shown: &PublicKey) -> Result<(), StoreError> {
    let (now, shown) = (Timestamp::now(), line(shown));
    app.store.set_other_host_key(&machine.name, Some(&shown), now).await?;
    crate::audit::keep(app, vec![finding(machine, &shown, now)]).await?;
    app.tell("findings");
    app.tell("machines");
    Ok(())
}

/// The host key that a machine shows now.
pub(crate) async fn shown_key(app: &App, machine: &Machine) -> Result<String, LinkError> {
    let target = machine.ssh_target().ok_or(LinkError::NotReady)?;
    let reached = reach(app, machine, &target).await?;
    match greet(reached.stream, None).await? {
        Err(key) => Ok(line(&key)),
        Ok(_) => Err(LinkError::NotReady),
    }
}

/// Pins a key, in place of the one so far. The caller has seen that the machine shows it.
pub(crate) async fn accept(app: &App, machine: &Machine, shown: &str, by: &str, why: &str) -> Result<(), StoreError> {
    let now = Timestamp::now();
    let event = NewEvent::new(now, EventKind::MachineChanged, by)
        .machine(&machine.name)
        .says(format!("{by} accepted {} as the host key of {}.", print_of(shown), machine.name))
        .with("before", machine.host_key.as_deref().map(print_of).unwrap_or_else(|| "none".into()))
        .with("reason", why);
    app.log.append(event).await?;
    {
        let _turn = app.directory_turn.lock().await;
        let fresh = app.rules.now().policy.directory().machine(&machine.name).cloned().unwrap_or_else(|| machine.clone());
        app.put_machines(&[Machine { host_key: Some(shown.into()), ..fresh }]).await?;
    }
    app.store.set_other_host_key(&machine.name, None, now).await?;
    if app.store.settle_finding(&finding(machine, shown, now).id, by, why, now).await? {
        let event = NewEvent::new(now, EventKind::FindingSettled, by).machine(&machine.name);
        app.note(event.says(format!("{by} settled the finding about the host key of {}: it is the machine's own.", machine.name))).await;
    }
    app.tell("findings");
    app.tell("machines");
    Ok(())
}
