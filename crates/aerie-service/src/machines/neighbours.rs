//! Finds the machines behind an address: a user who reaches one through another machine needs a right on both.

use crate::service::App;
use aerie_core::directory::{Machine, Via};
use aerie_core::policy::ForwardTarget;
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use std::sync::Mutex;
use std::time::Duration;

/// How long the name of a target is looked up.
const LOOKING_UP: Duration = Duration::from_secs(2);

/// The addresses at which machines were last reached, by machine name.
#[derive(Debug, Default)]
pub(crate) struct Neighbours(Mutex<BTreeMap<String, IpAddr>>);

impl Neighbours {
    /// Notes where a machine was reached.
    pub(crate) fn note(&self, machine: &str, address: IpAddr) {
        self.lock().insert(machine.into(), address.to_canonical());
    }

    fn is_at(&self, machine: &str, target: &ForwardTarget) -> bool {
        self.lock().get(machine).is_some_and(|a| target.is_at(*a))
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, BTreeMap<String, IpAddr>> {
        self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }
}

/// What is decided about where a port is forwarded through a machine: the machine itself, or one of its services, where the target is
/// one of its own addresses.
pub(crate) fn decided(app: &App, through: &str, target: &ForwardTarget) -> ForwardTarget {
    let rules = app.rules.now();
    let Some(own) = rules.policy.directory().machine(through) else { return target.clone() };
    if !target.is_itself() && !is_at(app, own, target) {
        return target.clone();
    }
    let is_service = |address: &str| address_of(address).is_some_and(|a| a.is_itself() && a.port() == target.port());
    if own.ways.iter().any(|w| is_service(&w.address)) {
        ForwardTarget::service(target.port())
    } else {
        ForwardTarget::itself(target.port())
    }
}

/// The other machines that are reached where a port leads that is forwarded through this one, by name: as far as the directory, the
/// agents and the resolver of this host know. Asks the resolver: decide about the target first.
pub(crate) async fn beyond(app: &App, through: &str, target: &ForwardTarget) -> Vec<String> {
    let mut targets = vec![target.clone()];
    if target.is_name() {
        let looked_up = tokio::time::timeout(LOOKING_UP, tokio::net::lookup_host((target.host(), target.port()))).await;
        let found = looked_up.ok().and_then(Result::ok).into_iter().flatten();
        targets.extend(found.filter_map(|a| ForwardTarget::new(&a.ip().to_string(), a.port().into()).ok()));
    }
    let rules = app.rules.now();
    let directory = rules.policy.directory();
    let Some(own) = directory.machine(through) else { return vec![] };
    let others = directory.machines().iter().filter(|m| m.name != own.name);
    let found: BTreeSet<&str> = others.filter(|m| targets.iter().any(|t| leads_to(app, own, m, t))).map(|m| m.name.as_str()).collect();
    found.into_iter().map(String::from).collect()
}

fn leads_to(app: &App, through: &Machine, other: &Machine, target: &ForwardTarget) -> bool {
    if target.is_itself() {
        // Machines that are reached directly at loopback addresses stand on one host.
        let on_loopback = |m: &Machine| m.via == Via::Direct && address_of(&m.address).is_some_and(|a| a.is_itself());
        return on_loopback(through) && on_loopback(other) && !target.leads_to(&through.address) && target.leads_to(&other.address);
    }
    let way = |address: &str| address_of(address).is_some_and(|a| a == *target);
    is_at(app, other, target) || other.ways.iter().any(|w| way(&w.address))
}

/// Whether a target that is not of a loopback interface is an address or name of this machine.
fn is_at(app: &App, machine: &Machine, target: &ForwardTarget) -> bool {
    let facts = || app.agents.of(&machine.name).and_then(|k| k.facts());
    let told = || facts().is_some_and(|f| f.addresses.iter().filter_map(|a| a.parse::<IpAddr>().ok()).any(|a| target.is_at(a)));
    target.is_named(&machine.name) || target.leads_to(&machine.address) || app.neighbours.is_at(&machine.name, target) || told()
}

fn address_of(address: &str) -> Option<ForwardTarget> {
    address.parse().ok()
}
