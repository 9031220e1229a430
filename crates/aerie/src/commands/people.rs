//! People, for those who look after them.

use crate::cli::{People, PersonFields};
use crate::output::{Align, Printer, table};
use crate::{Exit, Failure};
use aerie_api::{InvitationView, NewPerson, PeopleQuery, PersonChange, PersonDetail, PersonView};
use aerie_client::Client;
use jiff::Timestamp;

pub(super) async fn run(client: &Client, what: People, printer: Printer) -> Result<Exit, Failure> {
    match what {
        People::List { search, role, group, not_good, limit } => {
            let standing = not_good.then(|| "not-good".to_string());
            let query = PeopleQuery { q: search, role, group, standing, after: None, limit: Some(limit) };
            printer.value(&client.people(&query).await?, |page| listed(&page.items, page.next.is_some()))?;
        }
        People::Show { person } => printer.value(&client.person(&person).await?, shown)?,
        People::Add { person, with, invite } => {
            let made = client.add_person(&NewPerson { name: person.clone(), with: change(with), invite: false }).await?;
            if invite {
                return invitation(client, &person, printer).await;
            }
            printer.value(&made, |p| format!("Added. {}", p.sentence))?;
        }
        People::Change { person, with } => {
            printer.value(&client.change_person(&person, &change(with)).await?, |p| format!("Changed. {}", p.sentence))?
        }
        People::Suspend { person } => suspend(client, &person, true, printer).await?,
        People::Restore { person } => suspend(client, &person, false, printer).await?,
        People::Remove { person } => {
            client.remove_person(&person).await?;
            printer.remark(&format!("{person} is removed; what they did stays in the log."));
        }
        People::Invite { person } => return invitation(client, &person, printer).await,
        People::TemporaryCode { person } => printer.value(&client.give_temporary_code(&person).await?, |c| {
            let until = c.expires.map(|t| t.strftime("%H:%M UTC").to_string()).unwrap_or_default();
            format!("{}\n\nRead it out to {person}: it does once in place of their code, until {until}.", c.codes.join("\n"))
        })?,
        People::TakeFactor { person, factor } => {
            client.take_factor(&person, &factor).await?;
            printer.remark(&format!("{person} no longer signs in with that."));
        }
        People::TakeKey { person, fingerprint } => {
            client.remove_key_of(&person, &fingerprint).await?;
            printer.remark(&format!("The key is no longer {person}'s."));
        }
        People::SignOut { person } => {
            client.sign_out_person(&person).await?;
            printer.remark(&format!("{person} is signed out everywhere."));
        }
    }
    Ok(Exit::Done)
}

async fn suspend(client: &Client, person: &str, suspended: bool, printer: Printer) -> Result<(), Failure> {
    let change = PersonChange { suspended: Some(suspended), ..PersonChange::default() };
    printer.value(&client.change_person(person, &change).await?, |p| p.sentence.clone())
}

async fn invitation(client: &Client, person: &str, printer: Printer) -> Result<Exit, Failure> {
    printer.value(&client.invite(person).await?, |i: &InvitationView| {
        let until = i.expires.strftime("%Y-%m-%d %H:%M UTC");
        match &i.proposal {
            Some(p) => format!("{} signs in already: a second administrator must agree first: aerie proposals agree {}", i.person, p.id),
            None if i.mailed => format!("The invitation was mailed to {}: it is good once, until {until}.", i.person),
            None => format!("{}\n\nHand this link to {}: it is good once, until {until}.", i.link, i.person),
        }
    })?;
    Ok(Exit::Done)
}

fn change(with: PersonFields) -> PersonChange {
    let list = |of: Option<Vec<String>>| of.map(|l| l.into_iter().filter(|i| !i.is_empty()).collect());
    PersonChange {
        full_name: with.full_name,
        mail: with.mail,
        organisation: with.organisation,
        groups: list(with.groups),
        roles: list(with.roles),
        valid_from: with.valid_from,
        valid_until: with.valid_until,
        scopes: None,
        suspended: None,
    }
}

fn listed(all: &[PersonView], more: bool) -> String {
    if all.is_empty() {
        return "Nobody is found.".into();
    }
    let rows: Vec<_> = all
        .iter()
        .map(|p| {
            vec![
                p.name.clone(),
                p.full_name.clone(),
                p.organisation.clone(),
                p.groups.join(" "),
                p.roles.join(" "),
                p.keys.to_string(),
                p.factors.join(" "),
                p.standing.clone(),
            ]
        })
        .collect();
    let left = Align::Left;
    let heads = [
        ("person", left),
        ("name", left),
        ("organisation", left),
        ("groups", left),
        ("roles", left),
        ("keys", Align::Right),
        ("factors", left),
        ("account", left),
    ];
    let rest = if more { "\n\nThere are more: say a few letters with -q, or a larger --limit." } else { "" };
    table(&heads, &rows) + rest
}

/// An instant for a list; a dash where there is none.
pub(super) fn when(at: Option<Timestamp>) -> String {
    at.map_or_else(|| "-".into(), |t| t.strftime("%Y-%m-%d %H:%M").to_string())
}

/// Somebody, with how they sign in.
pub(super) fn shown(p: &PersonDetail) -> String {
    let mut text = format!("{}\n", p.sentence);
    let mut line = |head: &str, value: String| {
        if !value.is_empty() {
            text.push_str(&format!("\n{head:<14}{value}"));
        }
    };
    let day = |d: Option<jiff::civil::Date>| d.map(|d| d.to_string()).unwrap_or_default();
    line("name", format!("{} ({})", p.person.full_name, p.person.name));
    line("organisation", p.person.organisation.clone());
    line("roles", p.person.roles.join(" "));
    for (role, scope) in &p.scopes {
        line("scope", format!("{role}: people {}, machines {}", scope.people, scope.machines));
    }
    line("groups", p.all_groups.join(" "));
    line("account", p.person.standing.clone());
    line("first day", day(p.valid_from));
    line("last day", day(p.valid_until));
    line("invited until", p.invited_until.map(|t| when(Some(t)) + " UTC").unwrap_or_default());
    line("factors", p.person.factors.join(" "));
    line("recovery", if p.recovery_codes > 0 { format!("{} codes left", p.recovery_codes) } else { String::new() });
    for section in [passkeys(p), ssh_keys(p), devices(p), tokens(p)].into_iter().flatten() {
        text += "\n\n";
        text += &section;
    }
    text
}

pub(super) fn passkeys(p: &PersonDetail) -> Option<String> {
    let rows: Vec<_> = p
        .passkeys
        .iter()
        .map(|k| vec![k.label.clone(), k.kind.clone(), when(k.last_used), k.last_from.clone().unwrap_or_default(), k.id.clone()])
        .collect();
    let left = Align::Left;
    (!rows.is_empty())
        .then(|| table(&[("passkey", left), ("kind", left), ("last used", left), ("from", left), ("identifier", left)], &rows))
}

pub(super) fn ssh_keys(p: &PersonDetail) -> Option<String> {
    let rows: Vec<_> = p
        .ssh_keys
        .iter()
        .map(|k| {
            let expires = k.expires.map_or_else(|| "-".into(), |d| d.to_string());
            let remove = k.remove_because.as_ref().map(|w| format!("remove: {w}")).unwrap_or_default();
            vec![k.label.clone(), k.kind.clone(), k.fingerprint.clone(), when(k.last_used), expires, remove]
        })
        .collect();
    let left = Align::Left;
    let heads = [("SSH key", left), ("kind", left), ("fingerprint", left), ("last used", left), ("last day", left), ("", left)];
    (!rows.is_empty()).then(|| table(&heads, &rows))
}

pub(super) fn devices(p: &PersonDetail) -> Option<String> {
    let rows: Vec<_> = p
        .devices
        .iter()
        .map(|d| {
            let this = if d.this { "this one" } else { "" };
            vec![
                d.name.clone(),
                d.factors.join(" "),
                when(Some(d.last_used)),
                d.last_from.clone(),
                when(Some(d.until)),
                d.id.clone(),
                this.into(),
            ]
        })
        .collect();
    let left = Align::Left;
    let heads =
        [("signed in", left), ("with", left), ("last used", left), ("from", left), ("until", left), ("identifier", left), ("", left)];
    (!rows.is_empty()).then(|| table(&heads, &rows))
}

pub(super) fn tokens(p: &PersonDetail) -> Option<String> {
    let rows: Vec<_> = p
        .tokens
        .iter()
        .map(|t| {
            let scopes = if t.scopes.is_empty() { "everything".into() } else { t.scopes.join(" ") };
            let bound = if t.key.is_some() { "signed requests" } else { "" };
            vec![t.name.clone(), scopes, when(Some(t.expires)), when(Some(t.last_used)), t.last_from.clone(), t.id.clone(), bound.into()]
        })
        .collect();
    let left = Align::Left;
    let heads =
        [("token", left), ("for", left), ("good until", left), ("last used", left), ("from", left), ("identifier", left), ("", left)];
    (!rows.is_empty()).then(|| table(&heads, &rows))
}
