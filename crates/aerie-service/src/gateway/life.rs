//! Tends one live session: its limits, changes of the rules, and its end.

use super::connection::{Connection, Forwarded, OpenSession, lock};
use crate::audit;
use crate::known::Known;
use crate::sessions::Own;
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::policy::{Capabilities, Capability, Facts, ForwardTarget, Outcome, Request, Speech, Tracks};
use aerie_core::recording::Frame;
use aerie_core::session::{Effect, EndReason};
use jiff::Timestamp;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

/// How long carriers get to deliver what is under way when a session ends.
const DELIVERY: Duration = Duration::from_secs(2);

/// Runs until the session is over, and closes it.
pub(super) async fn tend(connection: Arc<Connection>, session: Arc<OpenSession>) {
    let reason = watch(&connection, &session).await;
    if reason == EndReason::RecordingFailed {
        notice(&connection, &session, &format!("This session ended {}.", reason.phrase())).await;
    }
    session.end(reason);
    session.carriers.close();
    let _ = tokio::time::timeout(DELIVERY, session.carriers.wait()).await;
    session.close_link().await;
    // A client that is disconnected drops what it has not shown yet: its channels are closed, and it may leave by itself.
    let _ = tokio::time::timeout(DELIVERY, connection.closed.cancelled()).await;
    // A person who left is gone; anybody else is shown out.
    if reason != EndReason::Left
        && let Some(handle) = connection.handle()
    {
        let says = format!("The session ended {}{}.", reason.phrase(), said_why(&session));
        let _ = handle.disconnect(russh::Disconnect::ByApplication, says, "en".into()).await;
    }
    close(&connection, &session, reason).await;
}

async fn watch(connection: &Connection, session: &OpenSession) -> EndReason {
    let (mut changes, mut asked) = (connection.app.rules.changes(), connection.app.asking.changes());
    forecast(connection, session);
    loop {
        let deadline = lock(&session.life).poll_timeout();
        let wait = deadline
            .map_or(Duration::from_secs(3600), |d| Duration::try_from(d.duration_since(Timestamp::now())).unwrap_or(Duration::ZERO));
        tokio::select! {
            biased;
            () = session.live.ended.cancelled() => return end_by_hand(connection, session).await,
            () = connection.signed_out.cancelled() => {
                notice(connection, session, &format!("This session ended {}.", EndReason::SignedOut.phrase())).await;
                return EndReason::SignedOut;
            }
            () = session.recording_failed.cancelled() => return EndReason::RecordingFailed,
            () = connection.closed.cancelled() => return EndReason::Left,
            () = session.link_closed().cancelled() => return EndReason::MachineClosed,
            changed = changes.changed() => {
                if changed.is_ok() {
                    decide(connection, session);
                }
            }
            changed = asked.changed() => {
                if changed.is_ok() {
                    decide(connection, session);
                }
            }
            said = session.live.heard() => match said {
                (true, text) => notice(connection, session, &text).await,
                (false, text) => {
                    if let Some(recording) = &session.recording {
                        recording.frame(0, Frame::Mark(text)).await;
                    }
                }
            },
            () = session.wake.notified() => forecast(connection, session),
            () = tokio::time::sleep(wait) => {}
        }
        if let Some(reason) = step(connection, session).await {
            return reason;
        }
    }
}

/// Looks at the time and carries out what follows from it.
async fn step(connection: &Connection, session: &OpenSession) -> Option<EndReason> {
    {
        let mut life = lock(&session.life);
        if let Ok(active) = Timestamp::from_millisecond(session.live.active_ms.load(Ordering::Relaxed)) {
            life.handle_activity(active);
        }
        life.handle_extension(jiff::SignedDuration::from_secs(session.live.extended_s.load(Ordering::Relaxed)));
        life.handle_timeout(Timestamp::now());
    }
    loop {
        let effect = lock(&session.life).poll_effect();
        match effect? {
            Effect::Notice(text) => notice(connection, session, &text).await,
            Effect::Decide => decide(connection, session),
            Effect::End(reason) => return Some(reason),
        }
    }
}

async fn end_by_hand(connection: &Connection, session: &OpenSession) -> EndReason {
    if let Some(why) = ended_saying(session) {
        notice(connection, session, &why).await;
    }
    session.live.end_reason().unwrap_or(EndReason::Ended)
}

/// The sentence for the person of a session that was ended; none while it goes on, and where they left themselves.
pub(super) fn ended_saying(session: &OpenSession) -> Option<String> {
    let reason = session.live.end_reason().filter(|r| *r != EndReason::Left)?;
    Some(format!("This session ended {}{}.", reason.phrase(), said_why(session)))
}

/// What whoever ended it said, as a sentence goes on.
fn said_why(session: &OpenSession) -> String {
    session.live.end_note().map(|n| format!(": {}", n.trim_end_matches('.'))).unwrap_or_default()
}

/// Decides again for everything that the session is used for.
fn decide(connection: &Connection, session: &OpenSession) {
    let rules = connection.app.rules.now();
    let granted = *lock(&session.granted);
    let mut holds_until: Option<Timestamp> = None;
    let known = connection.known();
    let forwards = lock(&session.forwards).clone();
    for question in questions(session, granted, &forwards) {
        let request = request(connection, &known, session, &question);
        let decision = rules.policy.decide(&request);
        // Limits that begin to be demanded count for what is live, too.
        let held = decision.granted(&request).map(|granted| session.take_grant(&granted));
        match held {
            Some(Ok(())) => holds_until = [holds_until, decision.holds_until].into_iter().flatten().min(),
            Some(Err(_)) | None => {
                let why = rules.policy.sentence(&request, &decision, Speech::Person);
                return lock(&session.life).handle_decision(Err(why));
            }
        }
    }
    lock(&session.life).handle_decision(Ok(holds_until));
    forecast(connection, session);
}

/// Finds out when the hours or days of the rules will end the session, so that the person can be told in time.
fn forecast(connection: &Connection, session: &OpenSession) {
    let rules = connection.app.rules.now();
    let (granted, known) = (*lock(&session.granted), connection.known());
    let forwards = lock(&session.forwards).clone();
    let closes = questions(session, granted, &forwards)
        .into_iter()
        .filter_map(|question| {
            let now = request(connection, &known, session, &question);
            let until = rules.policy.decide(&now).holds_until?;
            let then = rules.policy.decide(&Request { at: until, ..now });
            (!matches!(then.outcome, Outcome::Granted(_))).then_some(until)
        })
        .min();
    let mut life = lock(&session.life);
    life.handle_forecast(closes);
    let ends = life.ends_at().map_or(0, |t| t.as_millisecond());
    session.live.ends_ms.store(ends, Ordering::Relaxed);
    let idle = life.idle_limit().map_or(0, |l| i64::try_from(l.as_millis()).unwrap_or(i64::MAX));
    session.live.idle_ms.store(idle, Ordering::Relaxed);
}

/// What is decided again: a capability on a machine, and of a forwarded port where it leads.
struct Asked<'a> {
    capability: Capability,
    machine: &'a str,
    account: Option<&'a str>,
    target: Option<ForwardTarget>,
}

/// Everything that the session is used for, on its machine and on those that are reached through it.
fn questions<'a>(session: &'a OpenSession, granted: Capabilities, forwards: &'a [Forwarded]) -> Vec<Asked<'a>> {
    let here = |capability, target| Asked { capability, machine: &session.machine, account: Some(&session.account), target };
    let mut all: Vec<Asked<'a>> = granted.iter().map(|c| here(c, None)).collect();
    for forward in forwards {
        all.push(here(Capability::Forward, Some(ForwardTarget::clone(&forward.target))));
        let itself = Some(ForwardTarget::itself(forward.target.port()));
        let beyond = forward.beyond.iter();
        all.extend(beyond.map(|m| Asked { capability: Capability::Forward, machine: m, account: None, target: itself.clone() }));
    }
    all
}

/// The question about a use that began with the session: a proof must have been fresh then, and nothing is promised any more. What
/// is recorded is recorded.
fn request<'a>(connection: &'a Connection, known: &'a Known, session: &'a OpenSession, asked: &'a Asked<'a>) -> Request<'a> {
    let Asked { capability, machine, account, target } = asked;
    let begun = Timestamp::from_millisecond(session.live.began_ms).ok();
    let recorded = if session.recording.is_some() { Tracks::all() } else { Tracks::NONE };
    let facts = connection.facts(known, (*capability, target.as_ref()), Own::Live(&session.live));
    let consent = connection.consent_at(machine, facts.consent);
    Request {
        person: connection.person.person(),
        capability: *capability,
        machine,
        account: *account,
        at: Timestamp::now(),
        from: Some(connection.from),
        facts: Facts { begun, recorded, consent, ..facts },
    }
}

pub(super) async fn notice(connection: &Connection, session: &OpenSession, text: &str) {
    if let Some(recording) = &session.recording {
        recording.frame(0, Frame::Mark(text.into())).await;
    }
    if let Some(desktop) = connection.app.desktops.get(&session.live.id) {
        desktop.screen.say(aerie_api::ToViewer::Notice { text: text.into() });
    }
    let readers = lock(&session.readers).clone();
    let Some(handle) = connection.handle() else { return };
    for channel in readers {
        let line = format!("\r\naerie: {text}\r\n");
        // Whoever watches sees what the person sees.
        session.live.stage.handle_output(u32::from(channel), &line.clone().into());
        // A reader that does not read must not hold up the end of the session.
        let _ = tokio::time::timeout(DELIVERY, handle.extended_data(channel, 1, line)).await;
    }
}

async fn close(connection: &Connection, session: &OpenSession, reason: EndReason) {
    let app = &connection.app;
    let (now, id) = (Timestamp::now(), session.live.id.as_str());
    let (bytes_out, bytes_in) = session.live.bytes();
    if let Err(e) = app.store.end_session(id, now, reason.word(), (bytes_out, bytes_in)).await {
        tracing::error!(error = %e, "the end of a session could not be stored");
    }
    app.live.remove(id);
    // A credential that was used may be changed now.
    app.vault.look();
    let event = |kind| NewEvent::new(now, kind, connection.person.person()).machine(&session.machine).session(id).from(connection.from);
    app.note(
        event(EventKind::SessionEnded)
            .says(format!("The session of {} on {} ended {}.", connection.person.person(), session.machine, reason.phrase()))
            .with("reason", reason.word())
            .with("bytes_out", bytes_out)
            .with("bytes_in", bytes_in),
    )
    .await;
    if let Some(recording) = &session.recording {
        match recording.finish().await {
            Some(info) => {
                let closed =
                    event(EventKind::RecordingClosed).says(format!("The recording of the session on {} was closed.", session.machine));
                app.note(closed.with("digest", info.digest.clone()).with("length_ms", info.length_ms)).await;
                if let Err(e) = app.store.set_session_recording(id, &info.digest, info.length_ms).await {
                    tracing::error!(error = %e, "the digest of a recording could not be stored");
                }
                audit::look_at_recording(app, id).await;
            }
            None => {
                app.note(
                    event(EventKind::RecordingFailed)
                        .says(format!("The recording of the session on {} could not be written to its end.", session.machine)),
                )
                .await
            }
        }
    }
    app.tell("sessions");
}
