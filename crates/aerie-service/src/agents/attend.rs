//! Attends to one connection of an agent, from its greeting to its end.

use super::enrol::{Comer, enrol};
use super::greet::{Exporter, Proved, Socket, greet, refused, say};
use super::registry::{HOLD, Known};
use crate::identity::new_secret;
use crate::service::App;
use aerie_core::audit::{Finding, FindingKind};
use aerie_core::directory::{Machine, Via};
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::inventory::MachineFacts;
use aerie_core::tunnel::greeting::{Answer, Purpose};
use aerie_core::tunnel::{FromAgent, FromService, Side};
use aerie_store::StoreError;
use aerie_tunnel::{Broken, Inbox, Incoming, Tunnel};
use jiff::Timestamp;
use std::net::IpAddr;
use std::sync::Arc;
use std::time::Duration;
use subtle::ConstantTimeEq as _;
use tokio::io::{AsyncRead, AsyncWrite};

/// How long an agent may say nothing.
const QUIET: Duration = Duration::from_secs(75);
/// How long what agents say is gathered before it is taken over.
const GATHER: Duration = Duration::from_millis(300);
/// How long an agent may take to keep the ticket that it was handed: a write to its disk.
const KEEPS: Duration = Duration::from_secs(10);
/// A copy of an agent is told to come again after so many seconds: somebody must look first.
const CLONE_WAIT: u32 = 600;

/// Attends to whoever connected.
pub(crate) async fn attend<S>(app: Arc<App>, mut socket: Socket<S>, exporter: Exporter, from: IpAddr)
where
    S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
{
    let Some(place) = app.greeting.enter_or_displace(from) else {
        say(&mut socket, &refused("busy", "The service greets too many at once.", 5)).await;
        return;
    };
    let greeted = tokio::select! {
        greeted = greet(&app, &mut socket, &exporter) => greeted,
        () = place.given_up.cancelled() => None,
    };
    let Some(proved) = greeted else { return };
    let now = Timestamp::now();
    let answered = match proved.purpose.clone() {
        Purpose::Enrol { secret, host, name, look, temporary } => {
            let comer = Comer { key: proved.key.clone(), host, name, look, temporary, from };
            enrol(&app, &secret, comer, now).await
        }
        Purpose::Help { secret, host } => {
            drop(place);
            return super::help::help(&app, socket, &proved.key, &secret, &host).await;
        }
        Purpose::Serve { ticket, resume } => match admit(&app, &proved, ticket.as_deref(), from, now).await {
            Ok(Ok((known, ticket))) => {
                drop(place);
                return serve(&app, socket, &known, &proved, resume, ticket, from).await;
            }
            Ok(Err(answer)) => Ok(answer),
            Err(e) => Err(e),
        },
    };
    match answered {
        Ok(answer) => drop(say(&mut socket, &answer).await),
        Err(e) => {
            tracing::error!(error = %e, "an agent could not be attended to");
            say(&mut socket, &refused("busy", "The service cannot answer now.", 30)).await;
        }
    }
}

type Ticket = (String, [u8; 32]);

/// Says whether an agent may serve, and hands it its next ticket.
async fn admit(
    app: &App,
    proved: &Proved,
    ticket: Option<&str>,
    from: IpAddr,
    now: Timestamp,
) -> Result<Result<(Arc<Known>, Ticket), Answer>, StoreError> {
    let Some(known) = app.agents.with_key(&proved.key) else {
        let revoked = app.store.is_agent_revoked(&proved.key).await?;
        let (code, why) = match revoked {
            true => ("revoked", "This agent was revoked. If the machine is to be reached again, ask for a code and enrol it anew."),
            false => ("unknown", "The service does not know this agent: enrol it."),
        };
        return Ok(Err(refused(code, why, 3600)));
    };
    let _turn = known.turn.lock().await;
    let row = known.row();
    let shown = ticket.map(|t| app.keys.token_hashes(t)).unwrap_or_default();
    let is = |kept: &[u8; 32]| shown.iter().any(|s| bool::from(s.ct_eq(kept)));
    let good = [Some(row.ticket), row.next_ticket].into_iter().flatten().find(is);
    let taken_back = || shown.first().copied().filter(|_| app.agents.is_taken_back(&row.machine));
    let Some(came_with) = good.or_else(taken_back) else {
        // A copy that comes again and again fills no log.
        if known.is_new_copy() {
            let how = format!("one came from {from} with a ticket that is void");
            cloned(app, &row.machine, from, &how, now).await?;
        }
        let why = "Another copy of this agent connected before, or this one was put back to an earlier state. Find out which computer is the right one; \
                   then revoke the agent and enrol it anew.";
        return Ok(Err(refused("cloned", why, CLONE_WAIT)));
    };
    let Ok(next) = new_secret() else { return Ok(Err(refused("busy", "The service cannot answer now.", 30))) };
    let hash = app.keys.token_hash(&next);
    if good.is_none() {
        let event = NewEvent::new(now, EventKind::AgentChanged, "service").machine(&row.machine).from(from);
        app.log.append(event.says(format!("The agent of {} was taken back with a ticket that is not known here.", row.machine))).await?;
    }
    app.store.hand_ticket(&row.machine, &came_with, &hash, &from.to_string(), now).await?;
    known.change(|r| (r.ticket, r.next_ticket, r.last_from, r.last_seen) = (came_with, Some(hash), from.to_string(), Some(now)));
    let given = (next.to_string(), hash);
    drop(_turn);
    Ok(Ok((known, given)))
}

async fn cloned(app: &App, machine: &str, from: IpAddr, how: &str, now: Timestamp) -> Result<(), StoreError> {
    let sentence = format!("Two copies of the agent of {machine} exist: {how}.");
    let finding =
        Finding { source: Some(from.to_string()), ..Finding::seen(FindingKind::AgentCloned, machine, machine, "", sentence, now) };
    crate::audit::keep(app, vec![finding]).await?;
    let event = NewEvent::new(now, EventKind::AgentRefused, "service")
        .machine(machine)
        .from(from)
        .says(format!("A copy of the agent of {machine} was turned away."))
        .with("reason", "cloned");
    app.note(event).await;
    app.tell("findings");
    Ok(())
}

async fn serve<S>(
    app: &Arc<App>,
    mut socket: Socket<S>,
    known: &Arc<Known>,
    proved: &Proved,
    resume: Option<(String, u64)>,
    ticket: Ticket,
    from: IpAddr,
) where
    S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
{
    let machine = known.machine();
    let site = app.rules.now().policy.directory().machine(&machine).map(|m| m.site.clone()).unwrap_or_default();
    let goes_on = resume.and_then(|(name, received)| Some((known.tunnel_named(&name)?, name, received)));
    let (tunnel, name, received, fresh) = match goes_on {
        Some((tunnel, name, received)) => (tunnel, name, Some(received), None),
        None => {
            let (tunnel, inbox) = Tunnel::new(Side::Opener);
            (tunnel, crate::api::new_id(Timestamp::now()), None, Some(inbox))
        }
    };
    let token = known.connected(&name, &tunnel, &proved.version, proved.ahead.as_secs(), Timestamp::now());
    // The connection before was cancelled just now; what it received counts only once it has stopped.
    let turn = tunnel.take().await;
    let resumed = received.map(|_| turn.received());
    let answer = Answer::Serving { machine: machine.clone(), site, ticket: ticket.0, tunnel: name, resumed };
    let resumes = received.is_none_or(|theirs| turn.resume(theirs).is_ok());
    if !resumes || say(&mut socket, &answer).await.is_none() {
        known.broke(&token);
        return;
    }
    if let Some(inbox) = fresh {
        app.tasks.spawn(listen(app.clone(), known.clone(), tunnel.clone(), inbox, ticket.1));
        tunnel.message(FromService::Trust(app.keys.user_authority_lines()).encode());
    }
    // A copy of an agent's files that comes to look, and keeps its ticket as it is, gets nowhere and is found.
    let online = async {
        if tokio::time::timeout(KEEPS, known.acknowledged()).await.is_err() {
            return;
        }
        if let Some(flaps) = known.is_news() {
            let how = if resumed.is_some() { "came back, and what was open goes on" } else { "connected" };
            let event = NewEvent::new(Timestamp::now(), EventKind::AgentConnected, &machine).machine(&machine).from(from);
            app.note(event.says(format!("The agent of {machine} {how}.")).with("flaps", flaps)).await;
        }
        app.agents.changed();
        app.tell("machines");
        std::future::pending().await
    };
    let broken = tokio::select! {
        broken = turn.run(socket, QUIET) => broken,
        () = token.cancelled() => Broken::Closed,
        () = app.stopping.cancelled() => Broken::Closed,
        () = online => {
            tunnel.end();
            let how = format!("one came from {from}, and did not keep the ticket that it was handed");
            if let Err(e) = cloned(app, &machine, from, &how, Timestamp::now()).await {
                tracing::error!(error = %e, machine, "a copy of an agent could not be noted");
            }
            Broken::Closed
        }
    };
    if let Broken::Violation(v) = &broken {
        tunnel.end();
        let event = NewEvent::new(Timestamp::now(), EventKind::AgentRefused, &machine).machine(&machine).from(from);
        app.note(event.says(format!("The agent of {machine} was cut off: {v}.")).with("reason", "violation")).await;
    }
    if known.broke(&token) {
        gone(app, known, &machine, from, &broken).await;
    }
}

/// What follows when an agent is gone: its tunnel is kept for a while, and then ended.
async fn gone(app: &Arc<App>, known: &Arc<Known>, machine: &str, from: IpAddr, broken: &Broken) {
    app.agents.changed();
    app.tell("machines");
    if app.stopping.is_cancelled() {
        return;
    }
    if let Some(flaps) = known.is_news() {
        let event = NewEvent::new(Timestamp::now(), EventKind::AgentGone, machine).machine(machine).from(from);
        app.note(event.says(format!("The agent of {machine} went away: {broken}.")).with("flaps", flaps)).await;
    }
    let (app, known, machine) = (app.clone(), known.clone(), machine.to_string());
    tokio::spawn(async move {
        tokio::select! {
            () = tokio::time::sleep(HOLD) => {}
            () = app.stopping.cancelled() => {}
        }
        if known.let_go() && known.row().temporary && !app.stopping.is_cancelled() {
            // It was there for this once: nothing of it is left.
            app.agents.remove(&machine);
            if let Err(e) = app.store.revoke_agent(&machine, "service", Timestamp::now()).await {
                tracing::error!(error = %e, "a temporary agent could not be forgotten");
            }
            app.tell("machines");
        }
    });
}

/// Hears what an agent says as long as its tunnel lives, over however many connections.
async fn listen(app: Arc<App>, known: Arc<Known>, tunnel: Tunnel, mut inbox: Inbox, ticket: [u8; 32]) {
    let machine = known.machine();
    loop {
        let incoming = tokio::select! {
            incoming = inbox.next() => incoming,
            () = app.stopping.cancelled() => None,
            () = known.revoked.cancelled() => None,
        };
        let Some(incoming) = incoming else { break };
        // An agent opens no streams: the tunnel's protocol forbids it.
        let Incoming::Message(bytes) = incoming else { continue };
        let done = match FromAgent::decode(&bytes) {
            Some(FromAgent::TicketKept) => {
                known.acknowledge();
                let handed = known.row().next_ticket.unwrap_or(ticket);
                known.change(|r| {
                    if r.next_ticket == Some(handed) {
                        (r.ticket, r.next_ticket) = (handed, None);
                    }
                });
                app.store.ticket_kept(&machine, &handed).await
            }
            // Before it kept its ticket it speaks for no machine.
            _ if !known.has_acknowledged() => Ok(()),
            Some(FromAgent::VisitPin(pin)) => {
                let from = known.row().last_from.parse().unwrap_or(IpAddr::from([0, 0, 0, 0]));
                let (right, text) = crate::visits::arrive_at(&app, &machine, &pin, from).await;
                tunnel.message(FromService::VisitTaken { right, text }.encode());
                Ok(())
            }
            // More often than it has news is only noise.
            Some(FromAgent::Facts(facts)) if known.may_tell() => heard(&app, &known, facts.bounded()).await,
            Some(FromAgent::Facts(_)) => Ok(()),
            None => Ok(()),
        };
        if let Err(e) = done {
            tracing::error!(error = %e, machine, "what an agent said could not be kept");
        }
    }
    tunnel.end();
}

/// Takes what an agent says of its machine.
async fn heard(app: &Arc<App>, known: &Arc<Known>, facts: MachineFacts) -> Result<(), StoreError> {
    let (machine, now) = (known.machine(), Timestamp::now());
    app.store.set_facts(&machine, &facts, now).await?;
    if !facts.log.is_empty() && !known.begin_log() {
        known.again.notify_one();
    } else if !facts.log.is_empty() {
        let (app, known) = (app.clone(), known.clone());
        app.tasks.clone().spawn(async move {
            super::logs::take(app, known.clone()).await;
            known.end_log();
        });
    }
    known.change(|r| (r.facts, r.last_seen) = (Some(facts), Some(now)));
    app.agents.changed();
    app.tell("machines");
    app.agents.look_again(&machine);
    Ok(())
}

/// What follows from the word of agents, for all that said something lately at once: the posture that rules ask for, and the
/// host key of machines that have none pinned yet.
pub(crate) async fn follow(app: Arc<App>) {
    loop {
        tokio::select! {
            () = app.agents.said() => {}
            () = app.stopping.cancelled() => return,
        }
        // Those that come at the same moment are taken together: each change builds the directory anew.
        tokio::time::sleep(GATHER).await;
        if let Err(e) = take_over(&app).await {
            tracing::error!(error = %e, "what agents said could not be taken over");
        }
    }
}

async fn take_over(app: &App) -> Result<(), StoreError> {
    let _turn = app.directory_turn.lock().await;
    let rules = app.rules.now();
    let mut changed = vec![];
    for name in app.agents.take_said() {
        let Some((before, facts)) = rules.policy.directory().machine(&name).zip(app.agents.of(&name).and_then(|k| k.facts())) else {
            continue;
        };
        let mut after = before.clone();
        after.posture = facts.postures();
        if before.host_key.is_none() && before.via == Via::Agent {
            after.host_key = facts.host_keys.first().cloned();
        }
        if after != *before {
            note_change(app, before, &after).await;
            changed.push(after);
        }
    }
    if changed.is_empty() { Ok(()) } else { app.put_machines(&changed).await }
}

async fn note_change(app: &App, before: &Machine, after: &Machine) {
    let mut said = vec![];
    if after.posture != before.posture {
        let words: Vec<&str> = after.posture.iter().map(|p| p.word()).collect();
        said.push(format!("its posture is {}", if words.is_empty() { "unknown".into() } else { words.join(", ") }));
    }
    if after.host_key != before.host_key {
        said.push("its host key is pinned as its agent reads it".into());
    }
    let event = NewEvent::new(Timestamp::now(), EventKind::MachineChanged, &after.name).machine(&after.name);
    app.note(event.says(format!("The agent of {} says: {}.", after.name, said.join("; ")))).await;
}
