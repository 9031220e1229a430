//! The program for a visit: lets somebody help on this computer, once. It keeps nothing and opens no port; it shows the screen, opens a
//! shell when that is asked for, and connects to a desktop's server of this computer, and to nothing else.

use crate::connect::{ConnectError, connect, tls_config};
use crate::enrol::new_key;
use crate::run::Leaving;
use crate::serve::{Note, carry, dial_one};
use aerie_core::tunnel::greeting::{Answer, EnrolmentCode, Purpose};
use aerie_core::tunnel::{FromAgent, Side};
use aerie_core::visit::{SHELL_TARGET, VISITED_SERVER};
use aerie_tunnel::{Asked, Inbox, Incoming, Tunnel};
use std::sync::Arc;
use std::time::Duration;

/// How long the service may say nothing.
const QUIET: Duration = Duration::from_secs(45);
/// How often facts are told.
const FACTS: Duration = Duration::from_secs(60);
/// How long it waits before it comes again.
const WAIT: Duration = Duration::from_secs(2);

/// Serves one visit until it is over. What it does is told to `note`. Dropping the future ends everything.
///
/// # Errors
/// Why it never began; that the visit is over is no error.
pub async fn visit(code: &EnrolmentCode, note: impl Fn(&str) + Send + Sync + 'static) -> Result<(), Leaving> {
    let (tls, note) = (tls_config()?, Arc::new(note) as Note);
    let _gathering = crate::shell::Gathering::begin();
    let key = new_key().map_err(|e| Leaving::Refused(e.to_string()))?;
    let purpose = || Purpose::Help { secret: code.secret.clone(), host: crate::facts::host() };
    let mut began = false;
    loop {
        match connect(&code.server, &tls, &key, |k| code.knows(k), purpose).await {
            Ok(proved) => {
                let Answer::Helping { helper, organisation } = proved.answer else {
                    return Err(Leaving::Refused("the service answered what was not asked".into()));
                };
                began = true;
                let of = if organisation.is_empty() { String::new() } else { format!(" of {organisation}") };
                let who = if helper.is_empty() { "whoever helps you".into() } else { format!("{helper}{of}") };
                note(&format!("{who} can see this screen when you agree on the page of the visit. Ctrl-C ends it, and nothing is left."));
                let (tunnel, inbox) = Tunnel::new(Side::Acceptor);
                tokio::select! {
                    _ = tunnel.run(proved.socket, QUIET) => {}
                    () = talk(&tunnel, inbox, &note) => {}
                }
                tunnel.end();
            }
            // Whoever was let in once, and is not any more, has seen the end of it.
            Err(ConnectError::Refused { code, .. }) if began && code == "unknown" => {
                note("The visit is over. Nobody sees this screen any more.");
                return Ok(());
            }
            Err(ConnectError::Refused { why, .. }) => return Err(Leaving::Refused(why)),
            Err(e) if !began => return Err(Leaving::Refused(e.to_string())),
            Err(e) => note(&format!("{e}. Trying again …")),
        }
        tokio::time::sleep(WAIT).await;
    }
}

/// Does what the service asks for, and tells what this computer is, as long as the tunnel lives.
async fn talk(tunnel: &Tunnel, mut inbox: Inbox, note: &Note) {
    let mut tell = tokio::time::interval(FACTS);
    tell.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            _ = tell.tick() => {
                // Reading files of the system may block on a slow disk.
                let Ok(facts) = tokio::task::spawn_blocking(|| crate::facts::gather(&[], true)).await else { return };
                tunnel.message(FromAgent::Facts(Box::new(facts)).encode());
            }
            next = inbox.next() => match next {
                Some(Incoming::Asked(asked)) => drop(tokio::spawn(serve(asked, note.clone()))),
                Some(Incoming::Message(_)) => {}
                None => return,
            },
        }
    }
}

async fn serve(asked: Asked, note: Note) {
    if crate::screen::is_asked(&asked) {
        return crate::screen::serve(asked, &note).await;
    }
    if asked.target == SHELL_TARGET {
        return crate::shell::serve(asked, &note).await;
    }
    let served = match VISITED_SERVER.parse() {
        Ok(address) if asked.target == VISITED_SERVER => dial_one(address).await.map_err(|e| e.to_string()),
        _ => Err("this program connects to nothing else".into()),
    };
    match served {
        Err(why) => asked.refuse(&why),
        Ok(neighbour) => {
            note("The screen is seen now.");
            carry(asked, neighbour).await;
            note("The screen is seen no longer.");
        }
    }
}
