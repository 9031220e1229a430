//! Machines, agents' codes, checks and credentials.

use super::account::secret;
use super::people::when;
use crate::cli::{Forward, MachineFields, Machines, Vault};
use crate::output::{Align, Printer, hanging, table};
use crate::{Exit, Failure};
use aerie_api::{
    AcceptHostKey, CheckLine, CheckMany, CheckOutNote, CheckView, CodeView, CredentialView, ForwardQuery, IssuedCode, MachineChange,
    MachineCheckView, MachineDetail, MachinePage, MachineQuery, NewCode, NewCredential, NewMachine, WayView,
};
use aerie_client::Client;
use std::io::{IsTerminal as _, Read as _, Write as _};
use std::net::Ipv4Addr;

const LEFT: Align = Align::Left;
/// Longest credential that is read.
const LONGEST: u64 = 64 << 10;

pub(super) async fn run(client: &Client, what: Machines, printer: Printer) -> Result<Exit, Failure> {
    match what {
        Machines::List { letters, state, site, limit } => {
            let q = (!letters.is_empty()).then(|| letters.join(" "));
            let page = client.machines(&MachineQuery { q, state, site, after: None, limit: Some(limit) }).await?;
            printer.value(&page, listed)?;
        }
        Machines::Show { machine } => printer.value(&client.machine(&machine).await?, shown)?,
        Machines::Add { machine, about } => {
            let view = client.add_machine(&NewMachine { name: machine, about: change(*about)? }).await?;
            printer.value(&view, |m| {
                format!(
                    "{} is registered ({}).\nNext: `aerie machines check {}`, or `aerie machines code {}` for an agent.",
                    m.name, m.state, m.name, m.name
                )
            })?;
        }
        Machines::Change { machine, about } => {
            printer
                .value(&client.change_machine(&machine, &change(*about)?).await?, |m| format!("{} is changed ({}).", m.name, m.state))?;
        }
        Machines::Favourite { machine, no } => client.favour_machine(&machine, !no).await?,
        Machines::Retire { machine, why } => {
            client.retire_machine(&machine, &why).await?;
            printer.remark(&format!("{machine} left the list; `aerie machines restore {machine}` brings it back."));
        }
        Machines::Retired => printer.value(&client.retired_machines().await?, |all| {
            if all.is_empty() {
                return "No machine left the list.".into();
            }
            let rows: Vec<_> =
                all.iter().map(|r| vec![r.name.clone(), r.site.clone(), when(Some(r.at)), r.by.clone(), r.why.clone()]).collect();
            table(&[("machine", LEFT), ("site", LEFT), ("left", LEFT), ("by", LEFT), ("why", LEFT)], &rows)
        })?,
        Machines::Restore { machine } => {
            printer.value(&client.restore_machine(&machine).await?, |m| {
                format!("{} is back ({}). An agent must be enrolled anew.", m.name, m.state)
            })?;
        }
        Machines::Code { machine, site, uses, hours, labels } => {
            printer.value(&client.issue_code(&NewCode { machine, site, uses, hours, labels }).await?, issued)?;
        }
        Machines::Codes => printer.value(&client.codes().await?, |all| codes(all))?,
        Machines::WithdrawCode { id } => {
            client.withdraw_code(&id).await?;
            printer.remark("The code is withdrawn.");
        }
        Machines::RevokeAgent { machine, why } => {
            client.revoke_agent(&machine, &why).await?;
            printer.remark(&format!("The agent of {machine} is revoked and cut off."));
        }
        Machines::AcceptAgents { minutes, why } => {
            client.accept_agents(minutes, &why).await?;
            printer.remark(&match minutes {
                0 => "Agents are no longer taken back without their tickets.".into(),
                n => format!(
                    "For {n} min each agent may come back once though this service does not know its ticket. A copy could too: look at `aerie log list --kind agent-connected` afterwards."
                ),
            });
        }
        Machines::Relay { machine, entries, none } => {
            if none || !entries.is_empty() {
                client.set_relay(&machine, entries).await?;
            }
            let allowed = client.machine(&machine).await?.agent.map(|a| a.relay).unwrap_or_default();
            printer.value(&allowed, |allowed| match allowed.as_slice() {
                [] => format!("The agent of {machine} may reach nothing for other machines."),
                some => format!("The agent of {machine} may reach for other machines: {}.", some.join(", ")),
            })?;
        }
        Machines::Check { machine, all } => return check(client, machine.as_deref(), all, printer).await,
        Machines::Trust { machine } => printer.value(&client.machine_trust(&machine).await?, |t| t.script.clone())?,
        Machines::HostKey { machine, accept: Some(fingerprint), why } => {
            client.accept_host_key(&machine, &AcceptHostKey { fingerprint, why: why.unwrap_or_default() }).await?;
            printer.remark(&format!("It is the pinned host key of {machine} now."));
        }
        Machines::HostKey { machine, accept: None, .. } => {
            let key = client.host_key(&machine).await?;
            printer.value(&key, |k| k.sentence.clone())?;
            return Ok(if key.pinned.as_ref() == Some(&key.shown) { Exit::Done } else { Exit::No });
        }
        Machines::Discover { machine } => {
            client.discover(&machine).await?;
            printer.value(&client.machine(&machine).await?, found)?;
        }
    }
    Ok(Exit::Done)
}

fn change(f: MachineFields) -> Result<MachineChange, Failure> {
    let way = |text: &String| {
        let parts = text.split_once('=').and_then(|(name, rest)| Some((name, rest.split_once('@')?)));
        let (name, (kind, address)) = parts.ok_or_else(|| Failure::usage(format!("`{text}` is no way: write NAME=KIND@HOST:PORT")))?;
        Ok::<_, Failure>(WayView { name: name.into(), kind: kind.into(), address: address.into() })
    };
    // `--labels ""` takes all away.
    let list = |l: Option<Vec<String>>| l.map(|l| l.into_iter().filter(|t| !t.is_empty()).collect::<Vec<_>>());
    Ok(MachineChange {
        address: f.address,
        via: f.via,
        site: f.site,
        owner: f.owner,
        labels: list(f.labels),
        groups: list(f.groups),
        accounts: list(f.accounts),
        ways: list(f.ways).map(|w| w.iter().map(way).collect()).transpose()?,
        note: f.note,
    })
}

fn listed(page: &MachinePage) -> String {
    let rows: Vec<_> = page
        .machines
        .iter()
        .map(|m| {
            let mark = if m.favourite { "*" } else { "" };
            let state = if m.other_host_key { "other host key".into() } else { m.state.clone() };
            let live = if m.live == 0 { String::new() } else { m.live.to_string() };
            vec![
                format!("{}{mark}", m.name),
                m.site.clone(),
                m.via.clone(),
                state,
                live,
                m.accounts.join(" "),
                m.labels.join(" "),
                m.note.clone(),
            ]
        })
        .collect();
    let more = page.next.as_ref().map(|_| format!("\n… {} more: name a few letters, or raise --limit.", page.total - rows.len() as u64));
    if rows.is_empty() {
        return page.sentence.clone();
    }
    let heads = [
        ("machine", LEFT),
        ("site", LEFT),
        ("way", LEFT),
        ("state", LEFT),
        ("live", Align::Right),
        ("accounts", LEFT),
        ("labels", LEFT),
        ("for", LEFT),
    ];
    format!("{}\n\n{}{}", page.sentence, table(&heads, &rows), more.unwrap_or_default())
}

fn shown(d: &MachineDetail) -> String {
    let (m, mut lines) = (&d.machine, vec![d.sentence.clone(), String::new()]);
    let mut line = |name: &str, value: String| {
        if !value.is_empty() {
            lines.push(hanging(&format!("{name:<12}"), &value));
        }
    };
    line("address", m.address.clone());
    line("way", m.via.clone());
    line("state", m.state.clone());
    line("last seen", when(m.last_seen));
    line("owner", m.owner.clone());
    line("labels", m.labels.join(" "));
    line("groups", d.groups.join(" "));
    line("accounts", m.accounts.join(" "));
    line("posture", d.posture.join(", "));
    line("for", m.note.clone());
    for way in &d.ways {
        line("way in", format!("{} ({}) at {}", way.name, way.kind, way.address));
    }
    line("host key", d.host_key.clone().unwrap_or_default());
    if let Some(other) = &d.other_host_key {
        line("shows now", format!("{} since {}", other.fingerprint, when(Some(other.first))));
    }
    if let Some(f) = &d.facts {
        line("host", f.host.clone());
        line("addresses", f.addresses.join(", "));
        line("system", format!("{} {} ({})", f.system.name, f.system.version, f.system.kernel));
        line(
            "hardware",
            format!("{} {}, {} cores, {} MiB", f.hardware.model, f.hardware.processor, f.hardware.cores, f.hardware.memory_mib)
                .trim()
                .into(),
        );
        line("started", when(f.booted));
        line("logged in", f.users.iter().map(|u| format!("{} on {}", u.account, u.terminal)).collect::<Vec<_>>().join(", "));
        line("listens", f.listening.iter().map(|l| format!("{}:{}", l.address, l.port)).collect::<Vec<_>>().join(", "));
    }
    if let Some(a) = &d.agent {
        line(
            "agent",
            format!("{}, version {}, from {}, enrolled {} by {}", a.state, a.version, a.last_from, when(Some(a.enrolled)), a.enrolled_by),
        );
        line("relays", a.relay.join(", "));
    }
    for c in &d.credentials {
        line("kept", c.sentence.clone());
    }
    lines.join("\n")
}

fn found(d: &MachineDetail) -> String {
    let rows: Vec<_> = d
        .found
        .iter()
        .filter(|a| a.login)
        .map(|a| {
            let keys: Vec<String> =
                a.keys.iter().map(|k| format!("{} ({})", k.fingerprint, k.owner.as_deref().unwrap_or("nobody's"))).collect();
            vec![a.account.clone(), a.number.to_string(), if a.listed { "yes" } else { "" }.into(), a.shell.clone(), keys.join(", ")]
        })
        .collect();
    if rows.is_empty() {
        return format!("No account on {} lets anybody in.", d.machine.name);
    }
    table(&[("account", LEFT), ("number", Align::Right), ("listed", LEFT), ("shell", LEFT), ("keys", LEFT)], &rows)
}

fn issued(c: &IssuedCode) -> String {
    let until = when(Some(c.about.expires));
    let uses = if c.about.uses_left == 1 { "once".into() } else { format!("{} times", c.about.uses_left) };
    format!("{}\n\nIt is good {uses}, until {until}, and is not shown again.\n{}", c.code, c.steps.join("\n"))
}

fn codes(all: &[CodeView]) -> String {
    if all.is_empty() {
        return "No code is out.".into();
    }
    let whom = |c: &CodeView| c.machine.clone().unwrap_or_else(|| format!("any of {}", c.site));
    let rows: Vec<_> =
        all.iter().map(|c| vec![c.id.clone(), whom(c), c.uses_left.to_string(), c.made_by.clone(), when(Some(c.expires))]).collect();
    table(&[("code", LEFT), ("for", LEFT), ("uses", Align::Right), ("issued by", LEFT), ("ends", LEFT)], &rows)
}

/// A mark and a word for an outcome.
fn mark(outcome: &str) -> &'static str {
    match outcome {
        "pass" => "✓ pass",
        "warn" => "! warn",
        "fail" => "✗ fail",
        _ => "· skip",
    }
}

fn step(r: &CheckView) -> String {
    let line = hanging(&format!("{:<7} {:<46} ", mark(&r.outcome), r.title), &r.seen);
    if r.mend.is_empty() { line } else { format!("{line}\n{}", hanging("        → ", &r.mend)) }
}

async fn check(client: &Client, machine: Option<&str>, all: Option<String>, printer: Printer) -> Result<Exit, Failure> {
    let mut done: Vec<MachineCheckView> = vec![];
    let single = machine.is_some();
    let progress = std::io::stderr().is_terminal() && !single;
    let each = |line: CheckLine| match line {
        CheckLine::Step { result, .. } if single && !printer.json => printer.line(&step(&result)),
        CheckLine::Step { .. } => {}
        CheckLine::Done(view) => {
            done.push(view);
            if progress {
                eprint!("\r{} checked", done.len());
                let _ = std::io::stderr().flush();
            }
        }
        CheckLine::Failed { machine, why } => printer.remark(&format!("{machine}: {why}")),
    };
    match machine {
        Some(name) => client.check_machine(name, each).await?,
        None => client.check_machines(&CheckMany { machines: all }, each).await?,
    }
    if progress {
        eprintln!();
    }
    done.sort_by(|a, b| (a.ready, &a.machine).cmp(&(b.ready, &b.machine)));
    let ready = done.iter().filter(|d| d.ready).count();
    if printer.json {
        printer.value(&done, |_| String::new())?;
    } else if single {
        printer.line(&done.iter().map(|d| format!("\n{}", d.sentence)).collect::<String>());
    } else {
        let rows: Vec<_> = done
            .iter()
            .map(|d| {
                let of = |o: &str| d.results.iter().filter(|r| r.outcome == o).count().to_string();
                vec![d.machine.clone(), mark(if d.ready { "pass" } else { "fail" }).into(), of("warn"), of("fail"), d.sentence.clone()]
            })
            .collect();
        printer.line(&table(&[("machine", LEFT), ("", LEFT), ("warn", Align::Right), ("fail", Align::Right), ("", LEFT)], &rows));
        printer.line(&format!("\n{ready} of {} are ready.", done.len()));
    }
    Ok(if ready == done.len() { Exit::Done } else { Exit::No })
}

pub(super) async fn vault(client: &Client, what: Vault, printer: Printer) -> Result<Exit, Failure> {
    match what {
        Vault::List => printer.value(&client.vault().await?, |all| credentials(all))?,
        Vault::Put { machine, account, kind, changer, after_use, days, keep } => {
            let secret = if keep { None } else { Some(read_secret(&kind, &account, &machine)?) };
            let view = client.put_credential(&machine, &account, &NewCredential { kind, secret, changer, after_use, days }).await?;
            printer.value(&view, |c| c.sentence.clone())?;
        }
        Vault::Rotate { machine, account } => {
            let done = client.rotate_credential(&machine, &account).await?;
            printer.value(&done, |r| r.sentence.clone())?;
            return Ok(if done.ended == "changed" { Exit::Done } else { Exit::No });
        }
        Vault::CheckOut { machine, account, reason, ticket } => {
            let out = client.check_out(&machine, &account, &CheckOutNote { reason, ticket }).await?;
            printer.value(&out, |o| o.secret.clone())?;
            printer.remark(&out.sentence);
        }
        Vault::History { machine, account } => printer.value(&client.credential_history(&machine, &account).await?, |all| {
            let rows: Vec<_> = all.iter().map(|e| vec![when(Some(e.at)), e.by.clone(), e.what.clone()]).collect();
            table(&[("when", LEFT), ("who", LEFT), ("what", LEFT)], &rows)
        })?,
        Vault::Remove { machine, account } => {
            client.remove_credential(&machine, &account).await?;
            printer.remark(&format!("Nothing is kept for {account} on {machine} any more; the account keeps its credential."));
        }
    }
    Ok(Exit::Done)
}

fn read_secret(kind: &str, account: &str, machine: &str) -> Result<String, Failure> {
    if kind == "password" && std::io::stdin().is_terminal() {
        return Ok(secret(&format!("Password of {account} on {machine}: "))?.to_string());
    }
    let mut text = String::new();
    std::io::stdin().take(LONGEST).read_to_string(&mut text).map_err(|e| Failure::file("standard input", &e))?;
    Ok(if kind == "password" { text.trim_end_matches(['\n', '\r']).to_string() } else { text })
}

fn credentials(all: &[CredentialView]) -> String {
    if all.is_empty() {
        return "Nothing is kept: machines are signed in to with certificates.".into();
    }
    let rows: Vec<_> =
        all.iter().map(|c| vec![c.machine.clone(), c.account.clone(), when(Some(c.changed)), when(c.used), c.sentence.clone()]).collect();
    table(&[("machine", LEFT), ("account", LEFT), ("changed", LEFT), ("last used", LEFT), ("", LEFT)], &rows)
}

pub(super) async fn forward(client: &Client, what: Forward, printer: Printer) -> Result<Exit, Failure> {
    let Forward { machine, way, port, reason, ticket } = what;
    let failed = |e: std::io::Error| Failure::file(format!("port {port} of this computer"), &e);
    let listener = tokio::net::TcpListener::bind((Ipv4Addr::LOCALHOST, port)).await.map_err(failed)?;
    let address = listener.local_addr().map_err(failed)?;
    let forwarding = client.forward(&machine, &ForwardQuery { way: way.clone(), reason, ticket }).await?;
    let about = serde_json::json!({ "machine": machine, "way": way, "address": address.to_string() });
    printer.value(&about, |_| format!("{address} leads to {way} of {machine}. Ctrl-C ends it."))?;
    let serving = forwarding.serve(listener, |e| eprintln!("aerie: {e}"));
    tokio::select! {
        broken = serving => Err(Failure { exit: Exit::No, message: format!("the session ended: {broken}") }),
        stopped = super::serve::stop_signal() => stopped.map(|()| Exit::Done),
    }
}
