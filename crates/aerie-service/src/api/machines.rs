//! Machines: the list of them, and what is known of one.

use super::caller::Caller;
use super::problem::Problem;
use crate::machines::{HeardOf, print_of, retire};
use crate::service::App;
use aerie_api::{
    AgentView, FoundAccountView, FoundKeyView, MachineChange, MachineDetail, MachinePage, MachineQuery, MachineView, NewMachine,
    OtherHostKeyView, Reason, RetiredView, WayView,
};
use aerie_core::directory::{Act, Directory, Machine, Via, Way, WayKind, machine_is_good};
use aerie_core::evidence::EventKind;
use aerie_core::policy::{Capability, Facts, Outcome, Refusal, Request};
use aerie_core::visit::QUEUE_LABEL;
use aerie_core::wording::{count, list as join};
use aerie_store::SessionFilter;
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use jiff::Timestamp;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

/// Rows of a page unless said otherwise, and at most.
const ROWS: u32 = 50;
const MOST_ROWS: u32 = 500;
/// Retired machines that are listed.
const RETIRED: u32 = 1000;
/// Machines whose states are counted for the sentence.
const MOST_TOLD: usize = 5_000;
/// Longest reason.
const LONGEST_WHY: usize = 500;

/// What is needed to show machines to somebody.
struct Showing<'a> {
    app: &'a App,
    heard: HeardOf,
    live: HashMap<String, u64>,
    favourites: HashSet<String>,
    recent: HashSet<String>,
    other_keys: HashSet<String>,
}

impl<'a> Showing<'a> {
    async fn load(app: &'a App, caller: &Caller) -> Result<(Self, HashMap<String, usize>), Problem> {
        let open = app.store.sessions(&SessionFilter { live: Some(true), limit: 10_000, ..SessionFilter::default() }).await?;
        let mut live: HashMap<String, u64> = HashMap::new();
        open.into_iter().for_each(|s| *live.entry(s.machine).or_default() += 1);
        let (favourites, recent) = app.store.favourites(&caller.person.name).await?;
        let order = favourites.iter().chain(&recent).rev().enumerate();
        let total = favourites.len() + recent.len();
        let first = order.map(|(n, m)| (m.clone(), total - n)).collect();
        let showing = Self {
            app,
            heard: HeardOf::load(app, caller.now).await?,
            live,
            favourites: favourites.into_iter().collect(),
            recent: recent.into_iter().collect(),
            other_keys: app.store.machines_with_other_keys().await?.into_iter().collect(),
        };
        Ok((showing, first))
    }

    fn view(&self, m: &Machine) -> MachineView {
        let (standing, heard) = self.heard.standing(self.app, m);
        let facts = self.app.agents.of(&m.name).and_then(|k| k.facts()).unwrap_or_default();
        let mut users: Vec<String> = facts.users.iter().map(|u| u.account.clone()).collect();
        users.sort_unstable();
        users.dedup();
        MachineView {
            name: m.name.clone(),
            address: m.ssh_target().map(|t| t.to_string()).unwrap_or_default(),
            via: m.via.word().into(),
            site: m.site.clone(),
            owner: m.owner.clone(),
            labels: m.labels.iter().cloned().collect(),
            accounts: m.accounts.clone(),
            state: standing.word().into(),
            note: m.note.clone(),
            live: self.live.get(&m.name).copied().unwrap_or(0),
            last_seen: heard.last,
            host: facts.host,
            system: format!("{} {}", facts.system.name, facts.system.version).trim().to_string(),
            users,
            favourite: self.favourites.contains(&m.name),
            recent: self.recent.contains(&m.name),
            other_host_key: self.other_keys.contains(&m.name),
        }
    }
}

/// Whether the rules give somebody anything on a machine, or their role shows it.
fn shows(app: &App, caller: &Caller, m: &Machine) -> bool {
    let rules = app.rules.now();
    let directory = rules.policy.directory();
    (caller.reads_all() && caller.seen().machine(directory, &m.name))
        || Capability::ALL.into_iter().any(|capability| {
            let request = Request {
                person: &caller.person.name,
                capability,
                machine: &m.name,
                account: None,
                at: Timestamp::now(),
                from: None,
                facts: Facts::default(),
            };
            !matches!(rules.policy.decide(&request).outcome, Outcome::Refused(Refusal::NoRule | Refusal::Forbidden))
        })
}

/// List machines, favourites and recent ones first.
///
/// Those who may not read everything see the machines that the rules give them something on.
#[utoipa::path(get, path = "/machines", operation_id = "machines", params(MachineQuery), responses((status = 200, body = MachinePage)))]
pub(super) async fn list(
    State(app): State<Arc<App>>,
    caller: Caller,
    Query(query): Query<MachineQuery>,
) -> Result<Json<MachinePage>, Problem> {
    let (showing, first) = Showing::load(&app, &caller).await?;
    let (finder, sites) = app.inventory.finder(&app).await;
    let rules = app.rules.now();
    let directory = rules.policy.directory();
    // Whoever sees everything is asked about no machine by itself.
    let everything = caller.reads_all() && caller.seen().is_everything();
    // A queue of visits is looked for by its name: there is nothing to be reached.
    let searched = query.q.as_deref().is_some_and(|q| !q.trim().is_empty());
    let fits = |m: &&Machine| {
        (searched || !m.labels.contains(QUEUE_LABEL))
            && query.site.as_ref().is_none_or(|s| *s == m.site)
            && query.state.as_ref().is_none_or(|s| showing.heard.standing(&app, m).0.word() == s)
            && (everything || shows(&app, &caller, m))
    };
    let names = finder.find(query.q.as_deref().unwrap_or_default(), &first);
    let found: Vec<&Machine> = names.iter().filter_map(|n| directory.machine(n)).filter(fits).collect();
    let from = match &query.after {
        None => 0,
        Some(after) => found.iter().position(|m| m.name == *after).map_or(found.len(), |at| at + 1),
    };
    let rows = query.limit.unwrap_or(ROWS).clamp(1, MOST_ROWS) as usize;
    let page: Vec<MachineView> = found.iter().skip(from).take(rows).map(|m| showing.view(m)).collect();
    let next = (from + rows < found.len()).then(|| page.last().map(|m| m.name.clone())).flatten();
    Ok(Json(MachinePage {
        sentence: sentence(&app, &showing, &found),
        total: found.len() as u64,
        machines: page,
        next,
        sites: if everything { sites.to_vec() } else { vec![] },
    }))
}

fn sentence(app: &App, showing: &Showing<'_>, found: &[&Machine]) -> String {
    let mut states: HashMap<&str, u64> = HashMap::new();
    // Of thousands nobody wants to know; to look at each would take longer than to find them.
    let told = if found.len() > MOST_TOLD { &[] } else { found };
    told.iter().for_each(|m| *states.entry(showing.heard.standing(app, m).0.word()).or_default() += 1);
    let of = |word: &str| states.get(word).copied().unwrap_or(0);
    let mut parts = vec![];
    for (word, said) in [
        ("online", "have their agent online"),
        ("offline", "have an agent that is offline"),
        ("code issued", "wait for their agent to be enrolled"),
        ("incomplete", "lack an address or host key"),
    ] {
        match of(word) {
            0 => {}
            1 => parts.push(format!(
                "1 {}",
                said.replacen("have", "has", 1).replace("their", "its").replacen("wait", "waits", 1).replacen("lack ", "lacks ", 1)
            )),
            n => parts.push(format!("{n} {said}")),
        }
    }
    let keys = told.iter().filter(|m| showing.other_keys.contains(&m.name)).count() as u64;
    if keys > 0 {
        parts.push(format!("{} another host key", if keys == 1 { "1 shows".into() } else { format!("{keys} show") }));
    }
    let all = count(found.len() as u64, "machine");
    if parts.is_empty() { format!("{all}.") } else { format!("{all}; {}.", join(&parts)) }
}

fn missing() -> Problem {
    Problem::not_found("There is no such machine, or it is not yours to see.")
}

/// The machine of that name, for somebody who looks after it.
pub(super) fn managed(app: &App, caller: &Caller, name: &str) -> Result<Machine, Problem> {
    let seen = caller.within(Act::ManageMachines).ok_or_else(|| Problem::not_allowed("Only administrators look after machines."))?;
    let rules = app.rules.now();
    let directory = rules.policy.directory();
    directory.machine(name).filter(|_| seen.machine(directory, name)).cloned().ok_or_else(missing)
}

/// A machine, with what its agent says, its last check, and the credentials that are kept for it.
#[utoipa::path(get, path = "/machines/{name}", operation_id = "machine", params(("name" = String, Path)), responses((status = 200, body = MachineDetail), (status = 404)))]
pub(super) async fn show(State(app): State<Arc<App>>, caller: Caller, Path(name): Path<String>) -> Result<Json<MachineDetail>, Problem> {
    let machine = app.rules.now().policy.directory().machine(&name).cloned().filter(|m| shows(&app, &caller, m)).ok_or_else(missing)?;
    let (showing, _) = Showing::load(&app, &caller).await?;
    let view = showing.view(&machine);
    let all = caller.sees_machine(&app, &name);
    let manages = managed(&app, &caller, &name).is_ok();
    let known = app.agents.of(&name);
    let agent = known.as_ref().filter(|_| all).map(|k| {
        let row = k.row();
        AgentView {
            state: if k.connected_since().is_some() { "online" } else { "offline" }.into(),
            since: k.connected_since(),
            last_seen: row.last_seen,
            last_from: row.last_from,
            version: k.version(),
            key: row.key,
            enrolled: row.enrolled,
            enrolled_by: row.enrolled_by,
            temporary: row.temporary,
            clock_ahead_s: k.clock_ahead_s(),
            relay: row.relay,
        }
    });
    let other = app.store.other_host_key(&name).await?;
    let check = app.store.check_of(&name).await?.map(|(at, results)| super::checks::view(&name, at, &results));
    let found = if all { found(&app, &machine).await? } else { vec![] };
    let credentials = if all { super::vault::of(&app, Some(&name)).await? } else { vec![] };
    let sentence = about(&machine, &view, check.as_ref().map(|c| c.ready));
    Ok(Json(MachineDetail {
        sentence,
        ways: machine.ways.iter().map(WayView::from).collect(),
        groups: machine.groups.iter().cloned().collect(),
        posture: machine.posture.iter().map(|p| p.word().into()).collect(),
        host_key: machine.host_key.as_deref().map(print_of),
        other_host_key: other.map(|o| OtherHostKeyView { fingerprint: print_of(&o.line), first: o.first, last: o.last }),
        facts: known.filter(|_| all).and_then(|k| k.facts()),
        agent,
        check,
        found,
        credentials,
        may: if manages { vec!["manage".into()] } else { vec![] },
        machine: view,
    }))
}

fn about(m: &Machine, view: &MachineView, ready: Option<bool>) -> String {
    let place = if m.site.is_empty() { String::new() } else { format!(" at {}", m.site) };
    let way = match (m.via, view.state.as_str()) {
        (Via::Direct, "incomplete") => "lacks an address or a pinned host key".into(),
        (Via::Direct, _) => "is reached directly".into(),
        (Via::Agent, "online") => "is reached through its agent, which is online".into(),
        (Via::Agent, "code issued") => "waits for its agent to be enrolled".into(),
        (Via::Agent, _) => "is reached through its agent, which is offline".into(),
        (Via::Relay, _) => "is reached through a relay".to_string(),
    };
    let live = if view.live == 0 { String::new() } else { format!(" {} live on it.", super::machines::are(view.live)) };
    let key = if view.other_host_key {
        " It shows another host key than the pinned one, and nobody is taken there until somebody accepts it."
    } else {
        ""
    };
    let check = match ready {
        // What is said of its key says it.
        _ if view.other_host_key => "",
        Some(true) => " It was ready when it was last checked.",
        Some(false) => " Its last check found what must be mended.",
        None => "",
    };
    format!("{}{place} {way}.{key}{live}{check}", m.name)
}

fn are(n: u64) -> String {
    format!("{} {}", count(n, "session"), if n == 1 { "is" } else { "are" })
}

async fn found(app: &App, machine: &Machine) -> Result<Vec<FoundAccountView>, Problem> {
    let kept = app.vault.public_keys(app, &machine.name).await?;
    let rules = app.rules.now();
    let directory: &Directory = rules.policy.directory();
    let owner = |print: &str| {
        let person = directory.owner_of_key(print).map(|p| p.name.clone());
        person.or_else(|| kept.contains(print).then(|| "vault".into()))
    };
    let accounts = app.store.accounts_of(&machine.name).await?;
    Ok(accounts
        .into_iter()
        .map(|a| FoundAccountView {
            login: !a.keys.is_empty() || !(a.shell.ends_with("nologin") || a.shell.ends_with("false") || a.shell.ends_with("sync")),
            listed: machine.accounts.contains(&a.account),
            account: a.account,
            number: a.number,
            shell: a.shell,
            keys: a
                .keys
                .into_iter()
                .map(|k| FoundKeyView { owner: owner(&k.fingerprint), fingerprint: k.fingerprint, kind: k.kind, comment: k.comment })
                .collect(),
        })
        .collect())
}

fn changed(before: &Machine, change: MachineChange) -> Result<Machine, Problem> {
    let mut m = before.clone();
    let wrong = |why: String| Problem::not_good(format!("{why}."));
    if let Some(via) = change.via {
        m.via = match via.as_str() {
            "direct" => Via::Direct,
            "agent" => Via::Agent,
            "relay" => Via::Relay,
            _ => return Err(Problem::not_good("`via` is direct, agent or relay.")),
        };
    }
    m.address = change.address.unwrap_or(m.address);
    m.site = change.site.unwrap_or(m.site);
    m.owner = change.owner.unwrap_or(m.owner);
    m.note = change.note.unwrap_or(m.note);
    m.accounts = change.accounts.unwrap_or(m.accounts);
    m.labels = change.labels.map_or(m.labels, |l| l.into_iter().collect());
    m.groups = change.groups.map_or(m.groups, |g| g.into_iter().collect());
    if let Some(ways) = change.ways {
        let way = |w: WayView| {
            let kind = [WayKind::Desktop, WayKind::Web, WayKind::Tcp].into_iter().find(|k| k.word() == w.kind);
            let kind = kind.ok_or_else(|| Problem::not_good("A way is desktop, web or tcp."))?;
            Ok::<Way, Problem>(Way { name: w.name, kind, address: w.address })
        };
        m.ways = ways.into_iter().map(way).collect::<Result<_, _>>()?;
    }
    let plain =
        |t: &String| !t.is_empty() && t.len() <= 64 && aerie_core::diagnostic::printable(t) == *t && !t.contains(char::is_whitespace);
    if m.labels.len() > 100 || m.groups.len() > 100 || !m.labels.iter().chain(&m.groups).all(plain) {
        return Err(Problem::not_good("Labels and groups are words of at most 64 characters, at most 100 of each."));
    }
    machine_is_good(&m).map_err(|e| wrong(e.to_string()))?;
    Ok(m)
}

/// Keeps a changed machine and notes it; the caller has the directory's turn.
async fn keep(app: &App, caller: &Caller, before: Option<&Machine>, after: &Machine) -> Result<(), Problem> {
    // Whoever looks after some machines must not put one into their scope or out of it.
    let seen = caller.within(Act::ManageMachines).unwrap_or_default();
    let alone = Directory::new(vec![], vec![after.clone()]);
    if !seen.is_everything() && !seen.machine(&alone, &after.name) {
        return Err(Problem::not_allowed("This would be outside of the machines that you look after."));
    }
    let shown = match before {
        None => format!("{} registered {}.", caller.person.name, after.name),
        Some(before) => {
            let of = |m: &Machine| aerie_core::directory::DirectoryFile { machines: vec![m.clone()], ..Default::default() };
            let told = aerie_core::directory::differences(&of(before), &of(after));
            format!("{} changed {}: {}", caller.person.name, after.name, told.iter().map(|d| d.sentence()).collect::<Vec<_>>().join(" "))
        }
    };
    app.log.append(caller.event(EventKind::MachineChanged).machine(&after.name).says(shown)).await?;
    app.put_machines(std::slice::from_ref(after)).await?;
    app.tell("machines");
    app.tell("rules");
    Ok(())
}

/// Register a machine.
#[utoipa::path(post, path = "/machines", operation_id = "addMachine", request_body = NewMachine, responses((status = 200, body = MachineView), (status = 403), (status = 409), (status = 422)))]
pub(super) async fn add(State(app): State<Arc<App>>, caller: Caller, Json(given): Json<NewMachine>) -> Result<Json<MachineView>, Problem> {
    caller.within(Act::ManageMachines).ok_or_else(|| Problem::not_allowed("Only administrators register machines."))?;
    caller.must_be_fresh()?;
    let _turn = app.directory_turn.lock().await;
    if app.rules.now().policy.directory().machine(&given.name).is_some() {
        return Err(Problem::exists(format!("There is a machine called {} already.", given.name)));
    }
    let empty: Machine =
        serde_json::from_value(serde_json::json!({ "name": given.name })).map_err(|_| Problem::bad_request("A machine has a name."))?;
    let machine = changed(&empty, given.about)?;
    keep(&app, &caller, None, &machine).await?;
    let (showing, _) = Showing::load(&app, &caller).await?;
    Ok(Json(showing.view(&machine)))
}

/// Change what is known of a machine. A changed address or way does not change its pinned host key.
#[utoipa::path(patch, path = "/machines/{name}", operation_id = "changeMachine", params(("name" = String, Path)), request_body = MachineChange, responses((status = 200, body = MachineView), (status = 403), (status = 404), (status = 422)))]
pub(super) async fn change(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(name): Path<String>,
    Json(given): Json<MachineChange>,
) -> Result<Json<MachineView>, Problem> {
    caller.must_be_fresh()?;
    let _turn = app.directory_turn.lock().await;
    let before = managed(&app, &caller, &name)?;
    let after = changed(&before, given)?;
    if after != before {
        keep(&app, &caller, Some(&before), &after).await?;
    }
    let (showing, _) = Showing::load(&app, &caller).await?;
    Ok(Json(showing.view(&after)))
}

/// A reason as it goes into the log.
pub(super) fn why(text: &str) -> Result<String, Problem> {
    let text = aerie_core::diagnostic::printable(text.trim());
    match text.chars().count() {
        0 => Err(Problem::not_good("Say why: it goes into the log.")),
        n if n > LONGEST_WHY => Err(Problem::not_good(format!("A reason has at most {LONGEST_WHY} characters."))),
        _ => Ok(text),
    }
}

/// Take a machine off the list, with its agent. Its sessions end; what was logged stays, and it can be brought back.
#[utoipa::path(post, path = "/machines/{name}/retire", operation_id = "retireMachine", params(("name" = String, Path)), request_body = Reason, responses((status = 204), (status = 403), (status = 404)))]
pub(super) async fn leave(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(name): Path<String>,
    Json(given): Json<Reason>,
) -> Result<StatusCode, Problem> {
    caller.must_be_fresh()?;
    let machine = managed(&app, &caller, &name)?;
    retire(&app, &[machine], &caller.person.name, &why(&given.why)?).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Machines that left the list, newest first.
#[utoipa::path(get, path = "/retired-machines", operation_id = "retiredMachines", responses((status = 200, body = Vec<RetiredView>), (status = 403)))]
pub(super) async fn retired(State(app): State<Arc<App>>, caller: Caller) -> Result<Json<Vec<RetiredView>>, Problem> {
    let seen = caller.within(Act::ManageMachines).filter(super::caller::Seen::is_everything);
    seen.ok_or_else(|| Problem::not_allowed("Only administrators without a scope see machines that left the list."))?;
    let all = app.store.retired_machines(RETIRED).await?;
    Ok(Json(all.into_iter().map(|r| RetiredView { name: r.machine.name, site: r.machine.site, at: r.at, by: r.by, why: r.why }).collect()))
}

/// Bring a machine back. Its agent must be enrolled anew.
#[utoipa::path(post, path = "/retired-machines/{name}/restore", operation_id = "restoreMachine", params(("name" = String, Path)), responses((status = 200, body = MachineView), (status = 403), (status = 404), (status = 409)))]
pub(super) async fn restore(State(app): State<Arc<App>>, caller: Caller, Path(name): Path<String>) -> Result<Json<MachineView>, Problem> {
    let seen = caller.within(Act::ManageMachines).filter(super::caller::Seen::is_everything);
    seen.ok_or_else(|| Problem::not_allowed("Only administrators without a scope bring machines back."))?;
    caller.must_be_fresh()?;
    let _turn = app.directory_turn.lock().await;
    if app.rules.now().policy.directory().machine(&name).is_some() {
        return Err(Problem::exists(format!("There is a machine called {name} now.")));
    }
    let kept = app.store.retired_machines(u32::MAX).await?.into_iter().find(|r| r.machine.name == name);
    let machine = kept.ok_or_else(missing)?.machine;
    let event = caller.event(EventKind::MachineChanged).machine(&name).says(format!("{} brought {name} back.", caller.person.name));
    app.log.append(event.with("change", "restored")).await?;
    app.put_machines(std::slice::from_ref(&machine)).await?;
    app.store.heard_of(&name, caller.now).await?;
    app.tell("machines");
    let (showing, _) = Showing::load(&app, &caller).await?;
    Ok(Json(showing.view(&machine)))
}

async fn favour(app: &App, caller: &Caller, name: &str, yes: bool) -> Result<StatusCode, Problem> {
    let rules = app.rules.now();
    rules.policy.directory().machine(name).filter(|m| shows(app, caller, m)).ok_or_else(missing)?;
    app.store.set_favourite(&caller.person.name, name, yes).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Make a machine one of one's favourites.
#[utoipa::path(put, path = "/machines/{name}/favourite", operation_id = "favourMachine", params(("name" = String, Path)), responses((status = 204), (status = 404)))]
pub(super) async fn favourite(State(app): State<Arc<App>>, caller: Caller, Path(name): Path<String>) -> Result<StatusCode, Problem> {
    favour(&app, &caller, &name, true).await
}

/// Make it one no more.
#[utoipa::path(delete, path = "/machines/{name}/favourite", operation_id = "unfavourMachine", params(("name" = String, Path)), responses((status = 204), (status = 404)))]
pub(super) async fn no_favourite(State(app): State<Arc<App>>, caller: Caller, Path(name): Path<String>) -> Result<StatusCode, Problem> {
    favour(&app, &caller, &name, false).await
}
