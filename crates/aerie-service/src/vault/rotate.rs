//! Changes credentials on the real machine, step by step, so that a failure anywhere locks nobody out.

use super::Secret;
use crate::machines::{MachineLink, Purpose, Steps, run};
use crate::service::App;
use aerie_core::audit::{Finding, FindingKind};
use aerie_core::directory::Machine;
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::vault::{Ended, Fault, Phase, Rotation, SecretKind, Step, Which};
use aerie_store::{StoreError, VaultRow};
use jiff::Timestamp;
use std::sync::Arc;
use std::time::Duration;

/// How often credentials that are due are looked for.
const LOOK: Duration = Duration::from_secs(60);

/// Adds a line to the keys of the account that runs it. Reads the line from its input.
const ADD_KEY: &str = "umask 077; mkdir -p ~/.ssh && IFS= read -r line && { [ ! -s ~/.ssh/authorized_keys ] || [ -z \"$(tail -c 1 ~/.ssh/authorized_keys)\" ] || echo >> ~/.ssh/authorized_keys; } \
                       && printf '%s\\n' \"$line\" >> ~/.ssh/authorized_keys";
/// Takes a line from them. The new file is written beside and put in place whole.
const REMOVE_KEY: &str = "umask 077; IFS= read -r line && f=~/.ssh/authorized_keys && { grep -vF -- \"$line\" \"$f\" > \"$f.aerie\"; [ $? -le 1 ]; } \
                          && mv \"$f.aerie\" \"$f\"";

/// How a change ended, for whoever asked for it.
#[derive(Debug)]
pub(crate) struct Rotated {
    pub(crate) ended: Ended,
    /// What went wrong, where something did.
    pub(crate) why: String,
    /// Whether the machine is the one for which it was entered.
    bound: bool,
}

impl Rotated {
    pub(crate) fn sentence(&self, machine: &str, account: &str) -> String {
        let of = format!("The credential of {account} on {machine}");
        match self.ended {
            Ended::Changed => format!("{of} was changed; the one before is void."),
            Ended::Unchanged => format!("{of} was not changed, and the one so far is good: {}.", self.why),
            Ended::Later => {
                format!("{of} could not be settled now and is tried again; both the one before and the next are kept: {}.", self.why)
            }
            Ended::Stuck if !self.bound => format!("{of} was not offered and not changed: {}.", self.why),
            Ended::Stuck => format!("{of} is lost: neither the one before nor the next lets Aerie in. Somebody must look."),
        }
    }
}

/// Changes the credential of an account now. None where there is none, or it is being changed already.
pub(crate) async fn rotate(app: &App, machine: &str, account: &str, by: &str) -> Result<Option<Rotated>, StoreError> {
    rotate_if(app, machine, account, by, |_| true).await
}

/// The same, if it is wanted of the credential as it is once nobody else changes it.
async fn rotate_if(
    app: &App,
    machine: &str,
    account: &str,
    by: &str,
    wanted: impl Fn(&VaultRow) -> bool,
) -> Result<Option<Rotated>, StoreError> {
    let Some(_changing) = app.vault.begin(machine, account) else { return Ok(None) };
    let Some(row) = app.store.vault_entry(machine, account).await?.filter(wanted) else { return Ok(None) };
    let Some(known) = app.rules.now().policy.directory().machine(machine).cloned() else { return Ok(None) };
    let bound = super::is_bound_here(app, &row);
    let mut work = Work { app, machine: known, row, by, why: String::new() };
    // It would be shown to a server that it was not entered for.
    let ended = if bound {
        work.all().await?
    } else {
        work.why = "the machine has another host key or address than when it was entered: enter it again".into();
        Ended::Stuck
    };
    let rotated = Rotated { ended, why: work.why, bound };
    work.row.failed = (ended != Ended::Changed).then(Timestamp::now);
    work.row.failure = if ended == Ended::Changed { String::new() } else { rotated.why.clone() };
    let sentence = rotated.sentence(machine, account);
    app.store.put_vault(&work.row, by, &sentence, Timestamp::now()).await?;
    let word = match ended {
        Ended::Changed => "changed",
        Ended::Unchanged => "unchanged",
        Ended::Later => "later",
        Ended::Stuck => "stuck",
    };
    let now = Timestamp::now();
    app.log
        .append(
            NewEvent::new(now, EventKind::CredentialRotated, by)
                .machine(machine)
                .says(&*sentence)
                .with("account", account)
                .with("ended", word),
        )
        .await?;
    if ended == Ended::Stuck {
        let cause = format!("{machine} {account}");
        crate::audit::keep(app, vec![Finding::seen(FindingKind::CredentialStuck, &cause, machine, account, sentence, now)]).await?;
        app.tell("findings");
    }
    app.tell("vault");
    Ok(Some(rotated))
}

struct Work<'a> {
    app: &'a App,
    machine: Machine,
    row: VaultRow,
    by: &'a str,
    why: String,
}

impl Work<'_> {
    async fn all(&mut self) -> Result<Ended, StoreError> {
        let mut rotation = Rotation::new(self.row.phase);
        loop {
            let step = rotation.poll();
            let result = match step {
                Step::End(ended) => return Ok(ended),
                Step::Prepare => self.prepare().await?,
                Step::Apply => self.apply().await,
                Step::Try(which) => self.try_in(which).await,
                Step::Commit => {
                    if let Some(new) = self.row.other.take() {
                        self.row.other = Some(std::mem::replace(&mut self.row.current, new));
                    }
                    (self.row.phase, self.row.changed) = (Phase::Verified, Timestamp::now());
                    self.keep().await?
                }
                Step::Clean => self.clean().await,
                Step::Discard | Step::Settle => {
                    (self.row.other, self.row.phase) = (None, Phase::Settled);
                    self.keep().await?
                }
            };
            rotation.handle(result);
        }
    }

    async fn keep(&self) -> Result<Result<(), Fault>, StoreError> {
        // What cannot be kept must not be gone on from.
        self.app.store.put_vault(&self.row, self.by, "", Timestamp::now()).await?;
        Ok(Ok(()))
    }

    async fn prepare(&mut self) -> Result<Result<(), Fault>, StoreError> {
        let made = Secret::make(self.row.kind).and_then(|s| s.seal(&self.app.keys, &self.row));
        let Ok(sealed) = made else {
            self.why = "no new one could be made".into();
            return Ok(Err(Fault::Refused));
        };
        (self.row.other, self.row.phase) = (Some(sealed), Phase::Prepared);
        self.keep().await
    }

    fn secret(&self, which: Which) -> Option<Secret> {
        let sealed = match which {
            Which::Old => Some(&self.row.current),
            Which::New => self.row.other.as_ref(),
        };
        Secret::open(&self.app.keys, &self.row, sealed?)
    }

    async fn apply(&mut self) -> Result<(), Fault> {
        let (Some(new), account) = (self.secret(Which::New), self.row.account.clone()) else { return Err(Fault::Refused) };
        let (as_whom, command, input) = match self.row.kind {
            SecretKind::Password => {
                let changer = if self.row.changer.is_empty() { account.clone() } else { self.row.changer.clone() };
                let command = if changer == "root" { "/usr/sbin/chpasswd" } else { "sudo -n /usr/sbin/chpasswd" };
                (changer, command, format!("{account}:{}\n", &*new.text()))
            }
            SecretKind::Key => (account, ADD_KEY, format!("{}\n", new.public_line().ok_or(Fault::Refused)?)),
        };
        self.command(&as_whom, command, &zeroize::Zeroizing::new(input)).await
    }

    async fn clean(&mut self) -> Result<(), Fault> {
        // A password took the place of the one before; a key must be taken away.
        let Some(line) = self.secret(Which::New).and_then(|s| s.public_line()) else { return Ok(()) };
        let account = self.row.account.clone();
        self.command(&account, REMOVE_KEY, &format!("{line}\n")).await
    }

    async fn command(&mut self, account: &str, command: &str, input: &str) -> Result<(), Fault> {
        let link = match MachineLink::open(self.app, &self.machine, account, Purpose::Own("rotation"), &Steps::default()).await {
            Ok(link) => link,
            Err(e) => {
                self.why = format!("as {account}: {e}");
                return Err(if e.is_refusal() { Fault::Refused } else { Fault::Unknown });
            }
        };
        let ran = run(&link, command, input.as_bytes()).await;
        link.close().await;
        match ran {
            Some(r) if r.status == Some(0) => Ok(()),
            Some(r) => {
                self.why = format!("the machine said: {}", if r.errors.is_empty() { "no".into() } else { r.errors });
                Err(Fault::Refused)
            }
            None => {
                self.why = "the machine's answer was lost".into();
                Err(Fault::Unknown)
            }
        }
    }

    async fn try_in(&mut self, which: Which) -> Result<(), Fault> {
        let Some(secret) = self.secret(which) else { return Err(Fault::Refused) };
        let account = self.row.account.clone();
        match MachineLink::open(self.app, &self.machine, &account, Purpose::Try(&secret), &Steps::default()).await {
            Ok(link) => {
                link.close().await;
                Ok(())
            }
            Err(e) => {
                if self.why.is_empty() {
                    self.why = e.to_string();
                }
                Err(if e.is_refusal() { Fault::Refused } else { Fault::Unknown })
            }
        }
    }
}

/// Changes what is due, until the service stops.
pub(crate) async fn tend(app: Arc<App>) {
    let mut tick = tokio::time::interval(LOOK);
    loop {
        tokio::select! {
            _ = tick.tick() => {}
            () = app.vault.due.notified() => {}
            () = app.stopping.cancelled() => return,
        }
        if let Err(e) = change_due(&app).await {
            tracing::error!(error = %e, "credentials could not be changed");
        }
    }
}

async fn change_due(app: &App) -> Result<(), StoreError> {
    let now = Timestamp::now();
    // What was due a moment ago may have been changed by hand since.
    let due = |row: &VaultRow| {
        let in_use = app.live.is_used(&row.machine, &row.account);
        let unfinished = row.phase != Phase::Settled && row.failed.is_none();
        row.schedule.is_due(row.changed, row.used, in_use, row.failed, now) || (unfinished && !in_use)
    };
    for row in app.store.vault().await? {
        if due(&row) {
            rotate_if(app, &row.machine, &row.account, "service", due).await?;
        }
        if app.stopping.is_cancelled() {
            break;
        }
    }
    Ok(())
}
