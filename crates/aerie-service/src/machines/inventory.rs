//! The list of machines: how they stand, how they are found, and which have left.

use crate::service::App;
use aerie_core::directory::{Machine, MachineState};
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::inventory::{Entry, Finder, Heard, MachineStanding, is_stale};
use aerie_core::settings::Setting;
use aerie_store::StoreError;
use jiff::Timestamp;
use std::collections::{BTreeSet, HashMap, HashSet};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

/// How old what machines are found by may be, where only facts changed: building it anew takes a while with thousands.
const FRESH: Duration = Duration::from_secs(2);
/// Sites that are offered to choose from.
const MOST_SITES: usize = 500;
/// How often what is stale is looked for.
const LOOK: Duration = Duration::from_secs(60);

/// What machines are found by.
#[derive(Debug, Default)]
pub(crate) struct Inventory(Mutex<Option<Built>>);

#[derive(Debug, Clone)]
struct Built {
    finder: Arc<Finder>,
    /// Sites that there are.
    sites: Arc<Vec<String>>,
    directory: u64,
    facts: u64,
    at: Instant,
}

impl Inventory {
    /// The finder over all machines, as they are now, and the sites that there are, by name.
    pub(crate) async fn finder(&self, app: &Arc<App>) -> (Arc<Finder>, Arc<Vec<String>>) {
        let rules = app.rules.now();
        let facts = app.agents.changes();
        let kept = self.0.lock().unwrap_or_else(PoisonError::into_inner).clone();
        if let Some(b) = kept.filter(|b| b.directory == rules.directory_version && (b.facts == facts || b.at.elapsed() < FRESH)) {
            return (b.finder, b.sites);
        }
        let (work, directory) = (app.clone(), rules.directory_version);
        let built = tokio::task::spawn_blocking(move || {
            let rules = work.rules.now();
            let machines = rules.policy.directory().machines();
            let sites: BTreeSet<&str> = machines.iter().map(|m| m.site.as_str()).filter(|s| !s.is_empty()).collect();
            let sites: Vec<String> = sites.into_iter().take(MOST_SITES).map(Into::into).collect();
            (Arc::new(Finder::new(machines.iter().map(|m| entry(&work, m)))), Arc::new(sites))
        })
        .await;
        let (finder, sites) = built.unwrap_or_default();
        let fresh = Built { finder: finder.clone(), sites: sites.clone(), directory, facts, at: Instant::now() };
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = Some(fresh);
        (finder, sites)
    }
}

fn entry(app: &App, m: &Machine) -> Entry {
    let mut texts = vec![m.address.clone(), m.site.clone(), m.owner.clone(), m.note.clone()];
    texts.extend(m.labels.iter().cloned());
    texts.extend(m.groups.iter().cloned());
    texts.extend(m.accounts.iter().cloned());
    if let Some(facts) = app.agents.of(&m.name).and_then(|k| k.facts()) {
        texts.push(facts.host);
        texts.push(format!("{} {}", facts.system.name, facts.system.version));
        texts.push(facts.hardware.model);
        texts.extend(facts.addresses);
        texts.extend(facts.users.into_iter().map(|u| u.account));
    }
    Entry { name: m.name.clone(), texts }
}

/// What was heard of every machine.
pub(crate) struct HeardOf {
    by_others: HashMap<String, Timestamp>,
    codes: HashSet<String>,
}

impl HeardOf {
    pub(crate) async fn load(app: &App, now: Timestamp) -> Result<Self, StoreError> {
        let codes = app.store.codes(now).await?.into_iter().filter_map(|c| c.machine).collect();
        Ok(Self { by_others: app.store.heard().await?, codes })
    }

    pub(crate) fn of(&self, app: &App, machine: &str) -> Heard {
        let by_agent = app.agents.heard(machine);
        let last = by_agent.last.max(self.by_others.get(machine).copied());
        Heard { code_issued: self.codes.contains(machine), last, ..by_agent }
    }

    pub(crate) fn standing(&self, app: &App, machine: &Machine) -> (MachineStanding, Heard) {
        let heard = self.of(app, &machine.name);
        (MachineStanding::of(heard, machine.state() == MachineState::Ready), heard)
    }
}

/// Takes machines off the list, with their agents. Sessions to them end, since no rule speaks of them any more.
pub(crate) async fn retire(app: &App, machines: &[Machine], by: &str, why: &str) -> Result<(), StoreError> {
    let now = Timestamp::now();
    let _turn = app.directory_turn.lock().await;
    for machine in machines {
        let event = NewEvent::new(now, EventKind::MachineChanged, by).machine(&machine.name);
        app.log.append(event.says(format!("{by} retired {}: {why}", machine.name)).with("change", "retired")).await?;
    }
    app.store.retire_machines(machines, app.store.directory_version().await?, by, why, now).await?;
    app.rules.reload().await?;
    machines.iter().for_each(|m| app.agents.remove(&m.name));
    app.tell("machines");
    Ok(())
}

/// Notes who is connected, and retires what was not heard of for too long, until the service stops.
pub(crate) async fn tend(app: Arc<App>) {
    let mut rounds = crate::rounds::Rounds::new(&app, LOOK);
    while let Some(now) = rounds.next().await {
        if let Err(e) = look(&app, now).await {
            tracing::error!(error = %e, "the list of machines could not be tended");
        }
    }
}

async fn look(app: &App, now: Timestamp) -> Result<(), StoreError> {
    let connected: Vec<String> = app.agents.all().iter().filter(|k| k.connected_since().is_some()).map(|k| k.machine()).collect();
    if !connected.is_empty() {
        app.store.agents_seen(&connected, now).await?;
        connected.iter().filter_map(|m| app.agents.of(m)).for_each(|k| k.seen(now));
    }
    let days = app.settings().number(Setting::StaleDays);
    if days == 0 {
        return Ok(());
    }
    let (heard, rules) = (HeardOf::load(app, now).await?, app.rules.now());
    let machines = rules.policy.directory().machines();
    let stale: Vec<Machine> = machines.iter().filter(|m| is_stale(heard.of(app, &m.name), days, now)).cloned().collect();
    if stale.is_empty() {
        return Ok(());
    }
    retire(app, &stale, "service", &format!("nothing was heard of it for {days} days.")).await
}
