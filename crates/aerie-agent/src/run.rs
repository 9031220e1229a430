//! The life of an agent: connects, serves, and comes again when the connection breaks.

use crate::connect::{ConnectError, Proved, connect, tls_config};
use crate::consent::{Asker, Asking, Typed};
use crate::files::{AgentState, StateDir};
use crate::serve::{Note, Serving};
use crate::status::{Link, Status};
use aerie_core::inventory::MachineFacts;
use aerie_core::tunnel::greeting::{Answer, Purpose};
use aerie_core::tunnel::{AllowList, FromAgent, FromService, Side};
use aerie_tunnel::{Broken, Inbox, Incoming, Tunnel};
use jiff::{SignedDuration, Timestamp};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};
use tokio::sync::{mpsc, oneshot};

/// How long the service may say nothing.
const QUIET: Duration = Duration::from_secs(45);
/// First and longest wait between tries.
const FIRST_WAIT: Duration = Duration::from_millis(500);
const LONGEST_WAIT: Duration = Duration::from_secs(60);
/// A connection that held so long was a good one: the waits begin anew.
const GOOD: Duration = Duration::from_secs(30);
/// How long a broken tunnel is kept to go on; the service keeps it a little longer.
const KEEP: Duration = Duration::from_secs(120);
/// How often facts are told, where they changed.
const FACTS: Duration = Duration::from_secs(60);

/// How an agent runs.
#[derive(Debug, Clone, Default)]
pub struct RunOptions {
    /// It keeps nothing, and is gone with its terminal.
    pub temporary: bool,
    /// How the person at the machine is asked; none to ask nobody, so that what needs a consent is refused.
    pub asking: Option<Asking>,
    /// Told the port of the page for questions, once it is open.
    pub page: Option<tokio::sync::mpsc::UnboundedSender<u16>>,
}

/// Why an agent stopped.
#[derive(Debug, thiserror::Error)]
pub enum Leaving {
    /// The service does not want it any more.
    #[error("{0}")]
    Refused(String),
    /// Its files.
    #[error(transparent)]
    State(#[from] crate::StateError),
    /// Its list.
    #[error(transparent)]
    Allow(#[from] aerie_core::tunnel::TargetError),
    /// TLS.
    #[error(transparent)]
    Tls(#[from] rustls::Error),
}

struct Agent {
    dir: Option<StateDir>,
    state: AgentState,
    serving: Arc<Serving>,
    temporary: bool,
    behind: SignedDuration,
    facts: Option<MachineFacts>,
    /// PINs that are typed on the page, and who waits for the word on one.
    pins: mpsc::Receiver<Typed>,
    typed: Option<oneshot::Sender<(bool, String)>>,
}

/// A tunnel whose streams outlive a connection.
struct Standing {
    tunnel: Tunnel,
    inbox: Inbox,
    name: String,
    broke: Option<Instant>,
}

/// Runs until the service turns the agent away for good. `dir` is where it is kept; none for one that keeps nothing. Dropping
/// the future ends everything.
///
/// # Errors
/// Why it stopped; connections that break are no reason.
pub async fn run(dir: Option<StateDir>, state: AgentState, options: RunOptions) -> Result<std::convert::Infallible, Leaving> {
    let log = dir.clone();
    let note: Note = Arc::new(move |line| match &log {
        Some(dir) => dir.note(line),
        None => tracing::info!("{line}"),
    });
    let (to_pins, pins) = mpsc::channel(1);
    let asker = match options.asking {
        Some(asking) => {
            let (asker, port) = Asker::start(asking, state.machine.clone(), note.clone(), to_pins).await;
            if let (Some(told), Some(port)) = (&options.page, port) {
                let _ = told.send(port);
            }
            Some(asker)
        }
        None => None,
    };
    let serving = Arc::new(Serving {
        allow: AllowList::parse(state.allow.iter().map(String::as_str))?,
        turned_away: AtomicU64::new(0),
        note,
        asker,
        log: state.log.clone(),
        lock_with: state.lock_with.clone(),
    });
    let mut agent =
        Agent { dir, state, serving, temporary: options.temporary, behind: SignedDuration::ZERO, facts: None, pins, typed: None };
    let result = agent.live().await;
    if let Err(leaving) = &result {
        (agent.serving.note)(&format!("stopped: {leaving}"));
        agent.say(Link::Stopped { why: leaving.to_string() });
    }
    result
}

impl Agent {
    fn say(&self, link: Link) {
        let Some(dir) = &self.dir else { return };
        dir.say(&Status {
            machine: self.state.machine.clone(),
            site: self.state.site.clone(),
            server: self.state.server.clone(),
            host: crate::facts::host(),
            link,
            clock_behind_s: self.behind.as_secs(),
            allow: self.state.allow.clone(),
            turned_away: self.serving.turned_away.load(Ordering::Relaxed),
            at: Timestamp::now(),
        });
    }

    async fn live(&mut self) -> Result<std::convert::Infallible, Leaving> {
        let (tls, key) = (tls_config()?, self.state.signing_key()?);
        let mut wait = FIRST_WAIT;
        let mut standing: Option<Standing> = None;
        loop {
            standing = standing.filter(|s| s.broke.is_none_or(|b| b.elapsed() < KEEP));
            let resume = match &standing {
                Some(s) => Some((s.name.clone(), s.tunnel.take().await.received())),
                None => None,
            };
            let (pinned, ticket) = (self.state.service_key.clone(), self.state.ticket.clone());
            let connected = connect(&self.state.server, &tls, &key, |k| k == pinned, || Purpose::Serve { ticket, resume }).await;
            let why = match connected {
                Ok(proved) => {
                    let began = Instant::now();
                    self.behind = proved.behind;
                    let broken = self.serve(proved, &mut standing).await?;
                    if began.elapsed() >= GOOD {
                        wait = FIRST_WAIT;
                    }
                    broken
                }
                Err(ConnectError::Refused { code, why, wait: asked }) => {
                    if matches!(code.as_str(), "revoked" | "unknown" | "protocol") {
                        return Err(Leaving::Refused(why));
                    }
                    wait = wait.max(asked);
                    why
                }
                Err(e) => e.to_string(),
            };
            // Anywhere between half and the whole: agents that lost the service together must not come back together.
            let pause = wait / 2 + wait.mul_f64(chance() / 2.0);
            let why = format!("{}.", why.trim_end_matches('.'));
            (self.serving.note)(&format!("not connected: {why} Next try in {:.1} s.", pause.as_secs_f64()));
            let next = Timestamp::now() + SignedDuration::try_from(pause).unwrap_or(SignedDuration::ZERO);
            self.say(Link::Trying { why, next });
            tokio::time::sleep(pause).await;
            wait = (wait * 2).min(LONGEST_WAIT.max(wait));
        }
    }

    /// Serves over one connection until it breaks; says why it did.
    async fn serve(&mut self, proved: Proved, standing: &mut Option<Standing>) -> Result<String, Leaving> {
        let Proved { socket, service_key, answer, .. } = proved;
        let Answer::Serving { machine, site, ticket, tunnel: name, resumed } = answer else {
            return Ok("the service answered what was not asked".into());
        };
        (self.state.machine, self.state.site, self.state.service_key, self.state.ticket) = (machine, site, service_key, Some(ticket));
        if let Some(dir) = &self.dir {
            dir.save(&self.state)?;
        }
        let goes_on = match (standing.as_ref(), resumed) {
            (Some(s), Some(received)) if s.name == name => s.tunnel.take().await.resume(received).is_ok(),
            _ => false,
        };
        if !goes_on {
            if let Some(old) = standing.take() {
                old.tunnel.end();
            }
            let (tunnel, inbox) = Tunnel::new(Side::Acceptor);
            *standing = Some(Standing { tunnel, inbox, name, broke: None });
        }
        let Some(Standing { tunnel, inbox, broke, .. }) = standing else { return Ok(String::new()) };
        *broke = None;
        tunnel.message(FromAgent::TicketKept.encode());
        (self.serving.note)(if goes_on { "connected again; what was open goes on" } else { "connected" });
        self.say(Link::Connected { since: Timestamp::now() });
        let broken = tokio::select! {
            broken = tunnel.run(socket, QUIET) => broken,
            () = self.talk(tunnel, inbox) => Broken::Closed,
        };
        *broke = Some(Instant::now());
        if matches!(broken, Broken::Violation(_)) {
            tunnel.end();
            *standing = None;
        }
        Ok(broken.to_string())
    }

    /// Does what the service asks for, and tells what is new, as long as the tunnel lives.
    async fn talk(&mut self, tunnel: &Tunnel, inbox: &mut Inbox) {
        // Whoever it connects to now may not know them.
        self.facts = None;
        let mut tell = tokio::time::interval(FACTS);
        tell.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        loop {
            tokio::select! {
                _ = tell.tick() => self.tell_facts(tunnel).await,
                Some(typed) = self.pins.recv(), if self.typed.as_ref().is_none_or(oneshot::Sender::is_closed) => {
                    tunnel.message(FromAgent::VisitPin(typed.pin).encode());
                    self.typed = Some(typed.answer);
                }
                next = inbox.next() => match next {
                    // It outlives the connection, and ends with the tunnel.
                    Some(Incoming::Asked(asked)) => drop(tokio::spawn(self.serving.clone().serve(asked))),
                    Some(Incoming::Message(bytes)) => {
                        match FromService::decode(&bytes) {
                            Some(FromService::Trust(lines)) => (self.serving.note)(&self.trust(&lines)),
                            Some(FromService::VisitTaken { right, text }) => {
                                if let Some(waiting) = self.typed.take() {
                                    let _ = waiting.send((right, text));
                                }
                            }
                            None => {}
                        }
                    }
                    None => return,
                },
            }
        }
    }

    async fn tell_facts(&mut self, tunnel: &Tunnel) {
        let (allow, temporary) = (self.state.allow.clone(), self.temporary);
        // Reading files of the system may block on a slow disk.
        let Ok(mut facts) = tokio::task::spawn_blocking(move || crate::facts::gather(&allow, temporary)).await else { return };
        facts.log = self.state.log.clone().unwrap_or_default();
        if self.facts.as_ref() != Some(&facts) {
            self.facts = Some(facts.clone());
            facts.clock = Some(Timestamp::now());
            tunnel.message(FromAgent::Facts(Box::new(facts)).encode());
        }
    }

    /// Puts the service's SSH authorities where the SSH server reads them, if whoever enrolled the agent said where. Gives the line
    /// for the log.
    fn trust(&self, lines: &[String]) -> String {
        let Some(path) = &self.state.trust_file else {
            return "authorities are kept nowhere: it was enrolled without --trust-file".into();
        };
        let good = |l: &String| l.starts_with("ssh-ed25519 ") && l.len() < 1000 && aerie_core::diagnostic::printable(l) == *l;
        if lines.is_empty() || lines.len() > 20 || !lines.iter().all(good) {
            return "the service sent what are no authorities".into();
        }
        let text = lines.iter().map(|l| format!("{l}\n")).collect::<String>();
        if std::fs::read_to_string(path).is_ok_and(|known| known == text) {
            return format!("{} holds the authorities", path.display());
        }
        let partial = path.with_extension("partial");
        match std::fs::write(&partial, text).and_then(|()| std::fs::rename(&partial, path)) {
            Ok(()) => format!("{} holds the authorities now", path.display()),
            Err(e) => format!("the authorities could not be put into {}: {e}", path.display()),
        }
    }
}

/// A number between 0 and 1.
fn chance() -> f64 {
    let mut bytes = [0; 4];
    let _ = getrandom::fill(&mut bytes);
    f64::from(u32::from_le_bytes(bytes)) / f64::from(u32::MAX)
}
