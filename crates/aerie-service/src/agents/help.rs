//! The program for a visit: an agent that is there for one visit, keeps nothing, and is no machine of the directory.

use super::greet::{Socket, refused, say};
use crate::service::App;
use crate::visits::{self, Meeting, Program, change};
use aerie_core::diagnostic::printable;
use aerie_core::inventory::MachineFacts;
use aerie_core::tunnel::greeting::Answer;
use aerie_core::tunnel::{FromAgent, Side};
use aerie_core::visit::Visit;
use aerie_tunnel::{Inbox, Incoming, Tunnel};
use std::sync::Arc;
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio_util::sync::CancellationToken;

/// How long it may say nothing.
const QUIET: Duration = Duration::from_secs(75);
/// What it says of its computer is taken so often.
const TELLS: Duration = Duration::from_secs(5);
/// People who are logged in that are shown.
const MOST_PEOPLE: usize = 5;

/// Lets the program serve the visit whose line was typed on that computer.
pub(super) async fn help<S>(app: &Arc<App>, mut socket: Socket<S>, key: &str, secret: &str, host: &str)
where
    S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
{
    let over = refused(
        "unknown",
        "This line is good no longer: the visit is over, or another line was made. The page of the visit shows a new one.",
        60,
    );
    let hashes = app.keys.token_hashes(&format!("program {secret}"));
    let meeting = app.visits.of_line(&hashes, key);
    let visit = match &meeting {
        Some(meeting) => app.store.visit(&meeting.visit).await.ok().flatten().filter(|v| v.ended.is_none() && v.closed.is_none()),
        None => None,
    };
    let Some((meeting, visit)) = meeting.zip(visit) else {
        say(&mut socket, &over).await;
        return;
    };
    let (helper, organisation) = helper(app, &visit);
    if say(&mut socket, &Answer::Helping { helper, organisation }).await.is_none() {
        return;
    }
    let (tunnel, inbox) = Tunnel::new(Side::Opener);
    let program = Program { tunnel: tunnel.clone(), over: CancellationToken::new() };
    meeting.handle_program(program.clone());
    if meeting.is_first_start() {
        let host: String = printable(host).chars().take(100).collect();
        visits::note(
            app,
            &visit,
            "stranger",
            format!("{} started the program for a visit on a computer that calls itself {host}.", visit.request.person),
        )
        .await;
    }
    tokio::select! {
        _ = tunnel.run(socket, QUIET) => {}
        () = listen(app, &meeting, inbox) => {}
        () = program.over.cancelled() => {}
        () = app.stopping.cancelled() => {}
    }
    program.over.cancel();
    tunnel.end();
    meeting.program_gone();
    app.tell("visits");
}

/// Who helps, as people write it, and their organisation; empty while nobody does.
pub(crate) fn helper(app: &App, visit: &Visit) -> (String, String) {
    let rules = app.rules.now();
    let helper = visit.technician.as_deref().and_then(|t| rules.policy.directory().person(t));
    let name = helper.map(|h| h.shown().to_string()).or(visit.technician.clone()).unwrap_or_default();
    (name, helper.map(|h| h.organisation.clone()).unwrap_or_default())
}

/// Hears what it says of its computer.
async fn listen(app: &Arc<App>, meeting: &Meeting, mut inbox: Inbox) {
    while let Some(incoming) = inbox.next().await {
        let Incoming::Message(bytes) = incoming else { continue };
        let Some(FromAgent::Facts(facts)) = FromAgent::decode(&bytes) else { continue };
        if take(app, meeting, facts.bounded()).await.is_none() {
            return;
        }
        tokio::time::sleep(TELLS).await;
    }
}

async fn take(app: &App, meeting: &Meeting, facts: MachineFacts) -> Option<()> {
    let known = change(app, &meeting.visit, |visit, _, _| {
        let device = &mut visit.device;
        let system = format!("{} {}", facts.system.name, facts.system.version);
        if !system.trim().is_empty() {
            device.system = system.trim().into();
        }
        device.people = facts.users.iter().map(|u| u.account.clone()).take(MOST_PEOPLE).collect();
        device.people.dedup();
        device.disorder = disorder(&facts);
        device.host = facts.host.clone();
        Ok(())
    });
    known.await.ok().map(drop)
}

/// What is known not to be in order.
fn disorder(facts: &MachineFacts) -> Vec<String> {
    let order = &facts.order;
    let found = [
        (order.encrypted == Some(false), "disk not encrypted"),
        (order.firewall == Some(false), "firewall off"),
        (order.updates.is_some_and(|n| n > 0), "updates pending"),
    ];
    found.iter().filter(|(bad, _)| *bad).map(|(_, words)| (*words).to_string()).collect()
}
