//! Enrolment: a code, and what comes of it.

use super::greet::refused;
use crate::identity::new_secret;
use crate::service::App;
use aerie_core::diagnostic::printable;
use aerie_core::directory::{Machine, Via};
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::tunnel::greeting::Answer;
use aerie_store::{AgentRow, CodeRow, StoreError};
use jiff::Timestamp;
use std::net::IpAddr;

/// What whoever enrols says of themselves.
pub(super) struct Comer {
    pub(super) key: String,
    pub(super) host: String,
    pub(super) name: Option<String>,
    pub(super) look: bool,
    pub(super) temporary: bool,
    pub(super) from: IpAddr,
}

/// A name made of what a computer calls itself.
fn name_of(host: &str) -> String {
    let short = host.split('.').next().unwrap_or(host).to_ascii_lowercase();
    let plain: String = short.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).take(64).collect();
    plain.trim_matches('-').to_string()
}

/// Enrols, or says which machine it would be.
pub(super) async fn enrol(app: &App, secret: &str, comer: Comer, now: Timestamp) -> Result<Answer, StoreError> {
    let code = app.store.code(&app.keys.token_hashes(&format!("enrol {secret}")), now).await?;
    let Some(code) = code else {
        return Ok(refused("code", "The code is not good: it was used, withdrawn or is over. Ask for another.", 60));
    };
    // Names in the directory are settled one after the other.
    let _turn = app.directory_turn.lock().await;
    let machine = match machine_for(app, &code, &comer) {
        Ok(machine) => machine,
        Err(why) => return Ok(refused("name", why, 60)),
    };
    if comer.look {
        return Ok(Answer::GoodFor { machine: machine.name, site: machine.site, note: machine.note });
    }
    if app.store.is_agent_revoked(&comer.key).await? || app.agents.with_key(&comer.key).is_some() {
        return Ok(refused("code", "This key was enrolled before.", 60));
    }
    let Ok(ticket) = new_secret() else { return Ok(refused("busy", "The service cannot enrol now.", 60)) };
    let row = AgentRow {
        machine: machine.name.clone(),
        key: comer.key.clone(),
        enrolled: now,
        enrolled_by: code.made_by.clone(),
        ticket: app.keys.token_hash(&ticket),
        next_ticket: None,
        temporary: comer.temporary,
        relay: vec![],
        last_seen: None,
        last_from: comer.from.to_string(),
        facts: None,
    };
    if !app.store.enrol_agent(&code.id, &row, now).await? {
        return Ok(refused("code", "The code is used up.", 60));
    }
    let host = printable(&comer.host).chars().take(100).collect::<String>();
    let event = NewEvent::new(now, EventKind::AgentChanged, &code.made_by)
        .machine(&machine.name)
        .from(comer.from)
        .says(format!(
            "An agent on a computer that calls itself {host} was enrolled for {}, with a code of {}.",
            machine.name, code.made_by
        ))
        .with("key", comer.key)
        .with("code", code.id);
    app.log.append(event).await?;
    app.agents.add(row);
    let known = app.rules.now().policy.directory().machine(&machine.name).cloned();
    if known.as_ref() != Some(&machine) {
        app.put_machines(std::slice::from_ref(&machine)).await?;
    }
    app.tell("machines");
    Ok(Answer::Enrolled { machine: machine.name, site: machine.site, ticket: ticket.to_string() })
}

/// The machine that a code makes of whoever comes.
fn machine_for(app: &App, code: &CodeRow, comer: &Comer) -> Result<Machine, String> {
    let rules = app.rules.now();
    let directory = rules.policy.directory();
    let via_agent = |m: Machine| if m.via == Via::Direct && m.address.is_empty() { Machine { via: Via::Agent, ..m } } else { m };
    if let Some(name) = &code.machine {
        let known = directory.machine(name).cloned().ok_or_else(|| format!("{name} is not on the list of machines any more."))?;
        return match &comer.name {
            Some(other) if other != name => Err(format!("The code is for {name} alone, not for {}.", printable(other))),
            _ => Ok(via_agent(known)),
        };
    }
    let name = comer.name.clone().unwrap_or_else(|| name_of(&comer.host));
    let machine = Machine {
        name: name.clone(),
        address: String::new(),
        via: Via::Agent,
        ways: vec![],
        site: code.site.clone(),
        owner: String::new(),
        labels: code.labels.iter().cloned().collect(),
        groups: Default::default(),
        posture: Default::default(),
        accounts: vec![],
        host_key: None,
        note: String::new(),
    };
    if let Err(e) = aerie_core::directory::machine_is_good(&machine) {
        return Err(format!("{e}: give the machine another name with --name."));
    }
    // Whoever has a code for a site must not become a machine that is there.
    if directory.machine(&name).is_some() {
        return Err(format!(
            "There is a machine called {name} already: give this one another name with --name, or ask for a code for {name} itself."
        ));
    }
    Ok(machine)
}

#[cfg(test)]
mod tests {
    use super::name_of;

    #[test]
    fn names_are_made_of_what_computers_call_themselves() {
        for (host, name) in [("Dome-East.corvid.example", "dome-east"), ("pc_17", "pc-17"), ("-x-", "x"), ("", "")] {
            assert_eq!(name_of(host), name);
        }
    }
}
