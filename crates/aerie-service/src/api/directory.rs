use super::caller::{Caller, Reader};
use super::problem::Problem;
use crate::service::App;
use aerie_api::{DirectoryExport, KeyView, MachineView, PersonView};
use aerie_core::directory::{Machine, MachineState, Person, Standing};
use aerie_core::evidence::hex;
use aerie_core::policy::{Capability, Facts, Outcome, Refusal, Request};
use aerie_store::SessionFilter;
use axum::Json;
use axum::extract::State;
use jiff::Timestamp;
use std::collections::HashMap;
use std::sync::Arc;

/// List machines.
///
/// Those who may not read everything see the machines that the rules give them something on.
#[utoipa::path(get, path = "/machines", operation_id = "machines", responses((status = 200, body = Vec<MachineView>)))]
pub(super) async fn machines(State(app): State<Arc<App>>, caller: Caller) -> Result<Json<Vec<MachineView>>, Problem> {
    let rules = app.rules.now();
    let live = app.store.sessions(&SessionFilter { live: Some(true), limit: 10_000, ..SessionFilter::default() }).await?;
    let mut counts: HashMap<&str, u64> = HashMap::new();
    live.iter().for_each(|s| *counts.entry(&s.machine).or_default() += 1);
    let shown = |m: &&Machine| {
        caller.reads_all()
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
    };
    Ok(Json(rules.policy.directory().machines().iter().filter(shown).map(|m| machine_view(m, &counts)).collect()))
}

fn machine_view(m: &Machine, live: &HashMap<&str, u64>) -> MachineView {
    MachineView {
        name: m.name.clone(),
        address: m.address.clone(),
        site: m.site.clone(),
        owner: m.owner.clone(),
        labels: m.labels.iter().cloned().collect(),
        accounts: m.accounts.clone(),
        state: if m.state() == MachineState::Ready { "ready" } else { "incomplete" }.into(),
        note: m.note.clone(),
        live: live.get(m.name.as_str()).copied().unwrap_or(0),
    }
}

/// List people.
#[utoipa::path(get, path = "/people", operation_id = "people", responses((status = 200, body = Vec<PersonView>)))]
pub(super) async fn people(State(app): State<Arc<App>>, _: Reader) -> Result<Json<Vec<PersonView>>, Problem> {
    let rules = app.rules.now();
    let day = Timestamp::now().to_zoned(rules.policy.zone().clone()).date();
    let mut all = vec![];
    for p in rules.policy.directory().people() {
        all.push(person_view(p, day, app.identity.has_code(&p.name).await?));
    }
    Ok(Json(all))
}

fn person_view(p: &Person, day: jiff::civil::Date, code: bool) -> PersonView {
    PersonView {
        name: p.name.clone(),
        full_name: p.full_name.clone(),
        organisation: p.organisation.clone(),
        groups: p.groups.iter().cloned().collect(),
        roles: p.roles.iter().map(|r| r.word().into()).collect(),
        standing: match p.standing(day) {
            Standing::Good => "good".into(),
            Standing::Suspended => "suspended".into(),
            Standing::NotYet(first) => format!("not before {first}"),
            Standing::Expired(last) => format!("ended {last}"),
        },
        keys: p.keys.iter().map(|k| KeyView { fingerprint: k.fingerprint.clone(), label: k.label.clone() }).collect(),
        code,
    }
}

/// People, machines and keys as a file, for auditing logs elsewhere.
#[utoipa::path(get, path = "/directory", operation_id = "directory", responses((status = 200, body = DirectoryExport)))]
pub(super) async fn export(State(app): State<Arc<App>>, _: Reader) -> Json<DirectoryExport> {
    let rules = app.rules.now();
    Json(DirectoryExport {
        people: rules.policy.directory().people().to_vec(),
        machines: rules.policy.directory().machines().to_vec(),
        authority: crate::keys::fingerprint(app.keys.user_authority.public_key()),
        checkpoint_key: hex(app.log.public_key().as_bytes()),
    })
}
