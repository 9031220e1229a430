//! PINs, settings and keys of the service.

use super::people::when;
use crate::cli::{Pins, Proposals, ServiceKeys, Settings, Trust};
use crate::output::{Align, Printer, table};
use crate::{Exit, Failure};
use aerie_api::{IssuedPin, NewPin, PinView, Rotation, ServiceKeyView, SettingValue, SettingView};
use aerie_client::Client;
use std::io::Read as _;

const LEFT: Align = Align::Left;

pub(super) async fn pins(client: &Client, what: Pins, printer: Printer) -> Result<Exit, Failure> {
    match what {
        Pins::List => printer.value(&client.pins().await?, |all| listed(all))?,
        Pins::Issue { note } => printer.value(&client.issue_pin(&NewPin { note }).await?, issued)?,
        Pins::Withdraw { id } => {
            client.withdraw_pin(&id).await?;
            printer.remark("The PIN is withdrawn.");
        }
        Pins::SetMachine { machine, note } => printer.value(&client.set_machine_pin(&machine, &NewPin { note }).await?, issued)?,
        Pins::RemoveMachine { machine } => {
            client.remove_machine_pin(&machine).await?;
            printer.remark(&format!("{machine} has no standing PIN any more."));
        }
    }
    Ok(Exit::Done)
}

fn listed(all: &[PinView]) -> String {
    let rows: Vec<_> = all
        .iter()
        .map(|p| {
            let what = p.machine.clone().unwrap_or_else(|| "visit".into());
            let ends = p.ends.map_or_else(|| "stands".into(), |t| when(Some(t)));
            let tries = if p.machine.is_some() { String::new() } else { p.tries_left.to_string() };
            vec![p.id.clone(), what, p.note.clone(), p.issued_by.clone(), p.state.clone(), tries, ends]
        })
        .collect();
    if rows.is_empty() {
        return "There are no PINs.".into();
    }
    table(
        &[("pin", LEFT), ("for", LEFT), ("note", LEFT), ("issued by", LEFT), ("state", LEFT), ("tries", Align::Right), ("ends", LEFT)],
        &rows,
    )
}

/// A PIN in groups of four: it is read out.
pub(super) fn spaced(pin: &str) -> String {
    let digits: Vec<char> = pin.chars().collect();
    digits.chunks(4).map(|c| c.iter().collect::<String>()).collect::<Vec<_>>().join(" ")
}

fn issued(p: &IssuedPin) -> String {
    let about = match (&p.link, p.about.ends) {
        (Some(link), Some(ends)) => {
            format!(
                "It is good once, until {} UTC, for {} wrong tries. The page for it: {link}",
                ends.strftime("%H:%M"),
                p.about.tries_left
            )
        }
        _ => format!("It stands for {} until it is changed. It is not shown again.", p.about.machine.clone().unwrap_or_default()),
    };
    format!("{}\n\n{about}", spaced(&p.pin))
}

pub(super) async fn proposals(client: &Client, what: Proposals, printer: Printer) -> Result<Exit, Failure> {
    match what {
        Proposals::List => printer.value(&client.proposals().await?, |all| {
            let rows: Vec<_> = all.iter().map(|p| vec![p.id.clone(), p.by.clone(), p.sentence.clone(), when(Some(p.expires))]).collect();
            if rows.is_empty() {
                return "Nothing waits for a second administrator.".into();
            }
            table(&[("proposal", LEFT), ("by", LEFT), ("what", LEFT), ("expires", LEFT)], &rows)
        })?,
        Proposals::Agree { id } => printer.value(&client.agree_to_proposal(&id).await?, |agreed| {
            let link = agreed.link.as_ref().map(|l| format!("\nHand this link to {}, it is good once: {}", l.person, l.link));
            format!("Done: {}{}", agreed.proposal.sentence, link.unwrap_or_default())
        })?,
        Proposals::Discard { id } => {
            client.drop_proposal(&id).await?;
            printer.remark("The proposal is discarded.");
        }
    }
    Ok(Exit::Done)
}

pub(super) async fn trust(client: &Client, what: &Trust, printer: Printer) -> Result<Exit, Failure> {
    let known = client.trust().await?;
    if what.tls {
        printer.value(&known, |t| t.tls_authority.trim_end().into())?;
        return Ok(if known.tls_authority.is_empty() { Exit::No } else { Exit::Done });
    }
    printer.value(&known, |t| match &what.known_hosts {
        Some(pattern) => {
            let gateway = what.gateway.as_deref().unwrap_or("GATEWAY:7022");
            // As OpenSSH writes hosts with a port of their own (sshd(8), known_hosts).
            let host = gateway.rsplit_once(':').map_or_else(|| gateway.into(), |(host, port)| format!("[{host}]:{port}"));
            let gateways = [Some(&t.gateway_host_key), t.gateway_older_host_key.as_ref()].into_iter().flatten();
            let mut lines: Vec<String> = gateways.map(|key| format!("{host} {key}")).collect();
            lines.push(format!("@cert-authority {pattern} {}", t.machines_authority));
            lines.join("\n")
        }
        None => format!(
            "TLS authority of the console       {}\nHost key of the SSH gateway        {}\nHost authority for `ssh -J`        {}",
            t.tls_authority_fingerprint, t.gateway_fingerprint, t.machines_authority_fingerprint
        ),
    })?;
    Ok(Exit::Done)
}

pub(super) async fn settings(client: &Client, what: Settings, printer: Printer) -> Result<Exit, Failure> {
    match what {
        Settings::List => printer.value(&client.settings().await?, |all| {
            let first = |s: &SettingView| s.value.lines().next().unwrap_or_default().to_string();
            let rows: Vec<_> = all
                .iter()
                .map(|s| {
                    vec![
                        s.name.clone(),
                        first(s),
                        if s.value == s.default { String::new() } else { "set".into() },
                        s.bounds.clone().unwrap_or_default(),
                        s.about.clone(),
                    ]
                })
                .collect();
            table(&[("setting", LEFT), ("value", LEFT), ("", LEFT), ("takes", LEFT), ("", LEFT)], &rows)
        })?,
        Settings::Set { setting, value, why } => {
            let value = if value == "-" { standard_input()? } else { value };
            printer.value(&client.change_setting(&setting, &SettingValue { value, why }).await?, |s| match &s.proposal {
                Some(p) => {
                    format!("A second administrator must agree: aerie proposals agree {}. Until then {} stays as it is.", p.id, s.name)
                }
                None => format!("{} is now {}.", s.name, if s.value.is_empty() { "empty" } else { &s.value }),
            })?;
        }
        Settings::Changes => printer.value(&client.setting_changes().await?, |all| {
            let short = |t: &str| t.lines().next().unwrap_or_default().chars().take(40).collect::<String>();
            let rows: Vec<_> = all
                .iter()
                .map(|c| vec![when(Some(c.at)), c.by.clone(), c.name.clone(), short(&c.before), short(&c.after), c.why.clone()])
                .collect();
            if rows.is_empty() {
                return "Nobody changed a setting yet.".into();
            }
            table(&[("when", LEFT), ("who", LEFT), ("setting", LEFT), ("before", LEFT), ("after", LEFT), ("why", LEFT)], &rows)
        })?,
    }
    Ok(Exit::Done)
}

fn standard_input() -> Result<String, Failure> {
    let mut text = String::new();
    std::io::stdin().take(1 << 20).read_to_string(&mut text).map_err(|e| Failure::file("standard input", &e))?;
    Ok(text)
}

pub(super) async fn keys(client: &Client, what: ServiceKeys, printer: Printer) -> Result<Exit, Failure> {
    match what {
        ServiceKeys::List => printer.value(&client.service_keys().await?, |all| key_table(all))?,
        ServiceKeys::Rotate { purpose, why } => {
            let all = client.rotate_key(&Rotation { purpose: purpose.clone(), why }).await?;
            printer.value(&all, |all| {
                let new = all.iter().find(|k| k.purpose == purpose && k.in_use);
                let public = new.filter(|k| !k.public.is_empty()).map(|k| format!("\n{}", k.public)).unwrap_or_default();
                let about = new.map(|k| k.about.clone()).unwrap_or_default();
                format!("The key `{purpose}` is rotated. {about}{public}")
            })?;
        }
    }
    Ok(Exit::Done)
}

fn key_table(all: &[ServiceKeyView]) -> String {
    let rows: Vec<_> = all
        .iter()
        .map(|k| {
            let state = if k.in_use { "in use" } else { "verifies" };
            vec![k.purpose.clone(), k.generation.to_string(), state.into(), when(Some(k.made)), k.about.clone()]
        })
        .collect();
    table(&[("key", LEFT), ("no.", Align::Right), ("", LEFT), ("since", LEFT), ("what it does", LEFT)], &rows)
}
