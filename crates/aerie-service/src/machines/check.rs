//! Whether a machine is ready: everything that must hold for somebody to be taken there, in order.

use super::host_key::print_of;
use super::link::{LinkError, MachineLink, Purpose, Steps, pin_of};
use super::path::{PathError, PathStream, reach, resolve};
use super::run::run;
use crate::service::App;
use aerie_core::directory::{Machine, Via, WayKind};
use aerie_core::inventory::{CheckName, CheckOutcome, CheckResult, agent_version, clock, host_key as compare_keys, loopback_only};
use aerie_core::tunnel::Target;
use jiff::{SignedDuration, Timestamp};
use std::time::{Duration, Instant};
use tokio::io::AsyncReadExt as _;

/// How long a server has for its first line.
const PATIENCE: Duration = Duration::from_secs(5);
/// Longest first line that is read.
const MAX_BANNER: usize = 512;

/// Checks a machine; `each` hears of every result as it comes.
pub(crate) async fn check(
    app: &App,
    machine: &Machine,
    each: impl Fn(&CheckResult) + Sync,
) -> Result<Vec<CheckResult>, aerie_store::StoreError> {
    let mut checking = Checking { app, machine, results: vec![], each: &each };
    checking.all().await;
    let results = checking.results;
    app.store.put_check(&machine.name, &results, Timestamp::now()).await?;
    app.tell("machines");
    Ok(results)
}

struct Checking<'a> {
    app: &'a App,
    machine: &'a Machine,
    results: Vec<CheckResult>,
    each: &'a (dyn Fn(&CheckResult) + Sync),
}

impl Checking<'_> {
    /// Notes a result; says whether what comes after it can be looked at.
    fn note(&mut self, result: CheckResult) -> bool {
        (self.each)(&result);
        let goes_on = result.outcome != CheckOutcome::Fail;
        self.results.push(result);
        goes_on
    }

    async fn all(&mut self) {
        let reached = self.until_signed_in().await;
        if !reached {
            let seen: Vec<CheckName> = self.results.iter().map(|r| r.check).collect();
            let left = [CheckName::HostKey, CheckName::Account, CheckName::SignIn, CheckName::Files];
            for check in left.into_iter().filter(|c| !seen.contains(c)) {
                self.note(CheckResult::skip(check, "not looked at: what comes before it does not hold"));
            }
        }
        self.desktop().await;
        self.loopback();
    }

    /// The checks that build on each other.
    async fn until_signed_in(&mut self) -> bool {
        let Some(target) = self.registered() else { return false };
        if !self.way() {
            return false;
        }
        if self.machine.via == Via::Direct && !self.resolves(&target).await {
            return false;
        }
        if !self.answers(&target).await {
            return false;
        }
        self.signs_in().await
    }

    fn registered(&mut self) -> Option<Target> {
        let m = self.machine;
        let missing: Vec<&str> = [
            (m.ssh_target().is_none(), "an address"),
            (m.host_key.is_none(), "a pinned host key"),
            (m.accounts.is_empty(), "an account that may be used"),
        ]
        .into_iter()
        .filter(|(missing, _)| *missing)
        .map(|(_, what)| what)
        .collect();
        let result = if missing.is_empty() {
            CheckResult::pass(CheckName::Registered, m.ssh_target().map(|t| t.to_string()).unwrap_or_default())
        } else {
            let mend = format!(
                "Add it with `aerie machines change {0}`, and pin the host key with `aerie machines host-key {0}`; an agent tells its own.",
                m.name
            );
            CheckResult::fail(CheckName::Registered, format!("It lacks {}", aerie_core::wording::list(&missing)), mend)
        };
        let goes_on = self.note(result);
        m.ssh_target().filter(|_| goes_on)
    }

    fn way(&mut self) -> bool {
        let m = self.machine;
        let known = self.app.agents.of(&m.name);
        let way = match (m.via, &known) {
            (Via::Direct, _) => CheckResult::pass(CheckName::Way, "directly, over the network"),
            (Via::Relay, _) => CheckResult::pass(CheckName::Way, format!("through a relay of the site {}", m.site)),
            (Via::Agent, Some(k)) if k.connected_since().is_some() => {
                CheckResult::pass(CheckName::Way, "through its agent, which is connected")
            }
            (Via::Agent, Some(_)) => {
                let mend = "See on the machine what `aerie agent status` says.";
                CheckResult::fail(CheckName::Way, "Its agent is not connected", mend)
            }
            (Via::Agent, None) => {
                let mend = format!("Issue a code with `aerie machines code {}` and enrol an agent on it.", m.name);
                CheckResult::fail(CheckName::Way, "It has no agent", mend)
            }
        };
        let goes_on = self.note(way);
        match known.filter(|k| k.connected_since().is_some()) {
            Some(k) => {
                self.note(agent_version(&k.version(), env!("CARGO_PKG_VERSION")));
                self.note(clock(SignedDuration::from_secs(k.clock_ahead_s())));
            }
            None => {
                self.note(CheckResult::skip(CheckName::AgentVersion, "no agent of its own is connected"));
            }
        }
        goes_on
    }

    async fn resolves(&mut self, target: &Target) -> bool {
        let result = match resolve(target).await {
            Ok(found) if !found.is_empty() => {
                let shown: Vec<String> = found.iter().map(|a| a.ip().to_string()).collect();
                CheckResult::pass(CheckName::Resolves, shown.join(", "))
            }
            Ok(_) => CheckResult::fail(
                CheckName::Resolves,
                format!("{} has no address", target.host),
                "Set its address, or add it to the name server.",
            ),
            Err(e) => CheckResult::fail(
                CheckName::Resolves,
                capital(&e.to_string()),
                "Set its address, or add it to the name server that the service asks.",
            ),
        };
        self.note(result)
    }

    /// Port and first line.
    async fn answers(&mut self, target: &Target) -> bool {
        let began = Instant::now();
        let mut stream = match reach(self.app, self.machine, target).await {
            Ok(reached) => {
                let seen = format!("{target} takes connections {} ({} ms)", reached.how, began.elapsed().as_millis());
                self.note(CheckResult::pass(CheckName::Port, seen));
                reached.stream
            }
            Err(e) => return self.note(CheckResult::fail(CheckName::Port, capital(&e.to_string()), mend_of(&e))),
        };
        let banner = first_line(&mut stream).await;
        drop(stream);
        match banner {
            Some(line) if line.starts_with("SSH-2.0-") => self.note(CheckResult::pass(CheckName::Banner, line)),
            Some(line) => {
                let shown = aerie_core::diagnostic::printable(&line).chars().take(80).collect::<String>();
                self.note(CheckResult::fail(
                    CheckName::Banner,
                    format!("Something else answers: {shown}"),
                    "Correct the port of its address.",
                ))
            }
            None => self.note(CheckResult::fail(
                CheckName::Banner,
                "Nothing says anything on that port",
                "Is the SSH server running, and does it let this address in?",
            )),
        }
    }

    /// Says of the host key what the first connection showed.
    async fn key(&mut self, opened: Result<(), &LinkError>) -> bool {
        let pinned = match pin_of(self.machine) {
            Ok(pinned) => crate::keys::fingerprint(&pinned),
            Err(e) => return self.note(CheckResult::fail(CheckName::HostKey, capital(&e.to_string()), "Pin the key again.")),
        };
        let result = match opened {
            Err(LinkError::OtherKey) => {
                let other = self.app.store.other_host_key(&self.machine.name).await.ok().flatten();
                compare_keys(&pinned, &other.map_or_else(|| "another key".into(), |o| print_of(&o.line)))
            }
            Err(e @ (LinkError::Protocol(_) | LinkError::Silent)) => CheckResult::fail(
                CheckName::HostKey,
                capital(&e.to_string()),
                "The server may speak algorithms that are too old: it must know Ed25519 or what its pinned key is of, curve25519 and AES-GCM or ChaCha20.",
            ),
            Err(e @ (LinkError::Path(_) | LinkError::NotReady | LinkError::BadPin | LinkError::Store(_))) => {
                CheckResult::fail(CheckName::HostKey, capital(&e.to_string()), "Check it again.")
            }
            Ok(()) | Err(LinkError::Refused | LinkError::CredentialRefused | LinkError::Certificate(_)) => compare_keys(&pinned, &pinned),
        };
        self.note(result)
    }

    fn account(&mut self) -> bool {
        let seen = self.machine.accounts.join(", ");
        self.note(CheckResult::pass(CheckName::Account, format!("{seen} may be used")))
    }

    /// Signs in for each account, and copies nothing but asks whether files could be.
    async fn signs_in(&mut self) -> bool {
        let (mut bad, mut good) = (vec![], vec![]);
        let mut first: Option<MachineLink> = None;
        for (n, account) in self.machine.accounts.iter().enumerate() {
            let opened = MachineLink::open(self.app, self.machine, account, Purpose::Own("check"), &Steps::default()).await;
            if n == 0 && !(self.key(opened.as_ref().map(drop)).await && self.account()) {
                return false;
            }
            match opened {
                Ok(link) => {
                    good.push(format!("{account} {}", if link.by_vault { "with the kept credential" } else { "with a certificate" }));
                    match &first {
                        None => first = Some(link),
                        Some(_) => link.close().await,
                    }
                }
                Err(e) => bad.push((account.clone(), e)),
            }
        }
        let result = match (bad.first(), &first) {
            (None, _) => CheckResult::pass(CheckName::SignIn, good.join(", ")),
            (Some((account, e)), _) => {
                let seen = format!("As {account}: {e}");
                match e {
                    LinkError::CredentialRefused => {
                        CheckResult::fail(CheckName::SignIn, seen, "Put the account's credential into the vault anew (`aerie vault put`).")
                    }
                    _ => CheckResult::fail(
                        CheckName::SignIn,
                        seen,
                        format!(
                            "Is there such an account? Let its SSH server trust Aerie's authority: `aerie machines trust {}` says how.",
                            self.machine.name
                        ),
                    ),
                }
            }
        };
        self.note(result);
        let Some(link) = first else { return false };
        if self.machine.via != Via::Agent {
            self.clock_of(&link).await;
        }
        let result = match files(&link).await {
            true => CheckResult::pass(CheckName::Files, "SFTP answers"),
            false => CheckResult::warn(
                CheckName::Files,
                "SFTP is not there",
                "Add `Subsystem sftp internal-sftp` to its sshd_config, if files are to be copied.",
            ),
        };
        self.note(result);
        link.close().await;
        true
    }

    async fn clock_of(&mut self, link: &MachineLink) {
        let before = Timestamp::now();
        let Some(ran) = run(link, "date +%s", b"").await else { return };
        let Ok(theirs) = ran.output.trim().parse::<i64>() else { return };
        let ours = before.as_second() + (Timestamp::now().as_second() - before.as_second()) / 2;
        self.note(clock(SignedDuration::from_secs(theirs - ours)));
    }

    async fn desktop(&mut self) {
        let Some(way) = self.machine.ways.iter().find(|w| w.kind == WayKind::Desktop) else {
            self.note(CheckResult::skip(CheckName::Desktop, "no desktop is registered"));
            return;
        };
        let Ok(target) = way.address.parse::<Target>() else { return };
        let result = match reach(self.app, self.machine, &target).await {
            Ok(mut reached) => match first_line(&mut reached.stream).await {
                Some(line) if line.starts_with("RFB ") => CheckResult::pass(CheckName::Desktop, format!("{line} at {target}")),
                _ => CheckResult::fail(
                    CheckName::Desktop,
                    format!("What answers at {target} is no RFB server"),
                    "Correct the address of the way, or start the desktop server.",
                ),
            },
            Err(e) => CheckResult::fail(CheckName::Desktop, format!("{target}: {e}"), mend_of(&e)),
        };
        self.note(result);
    }

    fn loopback(&mut self) {
        let facts = self.app.agents.of(&self.machine.name).and_then(|k| k.facts());
        let result = match facts {
            Some(facts) => loopback_only(&facts.listening),
            None => CheckResult::skip(CheckName::Loopback, "only an agent sees what listens on a machine"),
        };
        self.note(result);
    }
}

fn mend_of(e: &PathError) -> &'static str {
    match e {
        PathError::Unresolved(_) => "Set its address, or add it to the name server.",
        PathError::Unreachable(_) | PathError::Silent => {
            "Is the machine on, and does a firewall stand between? Where no port may be opened to it, enrol an agent on it."
        }
        PathError::AgentGone => "See on the machine what `aerie agent status` says.",
        PathError::NoAgent => "Issue a code and enrol an agent on it.",
        PathError::AgentRefused(_) => {
            "Is the server running there? What an agent connects to is on its own list: `aerie agent status` on the machine shows it."
        }
        PathError::NoRelay => "Let an agent of the site reach it: `aerie machines relay`, and `--allow` when that agent is enrolled.",
        PathError::RelaysRefused(_) => "See from those machines whether it answers, and what `aerie agent status` says there.",
    }
}

fn capital(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map(|c| c.to_uppercase().chain(letters).collect()).unwrap_or_default()
}

async fn first_line(stream: &mut PathStream) -> Option<String> {
    let mut line = vec![];
    let reading = async {
        let mut byte = [0; 1];
        while line.len() < MAX_BANNER && stream.read(&mut byte).await.ok()? == 1 {
            match byte {
                [b'\n'] => return Some(()),
                [b] => line.push(b),
            }
        }
        None
    };
    tokio::time::timeout(PATIENCE, reading).await.ok()??;
    Some(String::from_utf8_lossy(&line).trim_end().to_string())
}

/// Whether the SFTP subsystem is there.
async fn files(link: &MachineLink) -> bool {
    let asking = async {
        let mut channel = link.handle.channel_open_session().await.ok()?;
        channel.request_subsystem(true, "sftp").await.ok()?;
        loop {
            match channel.wait().await? {
                russh::ChannelMsg::Success => return Some(()),
                russh::ChannelMsg::Failure | russh::ChannelMsg::Close => return None,
                _ => {}
            }
        }
    };
    tokio::time::timeout(PATIENCE, asking).await.ok().flatten().is_some()
}
