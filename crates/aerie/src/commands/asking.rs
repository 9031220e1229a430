//! Requests, passes, stopping, live sessions, and the answers given at a machine.

use super::people::when;
use crate::cli::{AnswerHere, Ask, Lockdown, Passes, Requests, Stop};
use crate::output::{Align, Printer, can_ask, hanging, table};
use crate::{Exit, Failure};
use aerie_agent::consent::{Answering, Item, State};
use aerie_api::{DeputyView, LiveLine, NewAnswer, NewRequest, RequestView, StopOrder};
use aerie_client::Client;
use aerie_core::recording::TerminalFilter;
use base64::Engine as _;
use jiff::{SignedDuration, Timestamp};
use std::io::{BufRead as _, Read as _, Write as _};

const LEFT: Align = Align::Left;

/// An instant, or a time from now.
fn time(text: &str) -> Result<Timestamp, Failure> {
    let relative = || text.parse::<SignedDuration>().ok().filter(|d| d.is_positive()).and_then(|d| Timestamp::now().checked_add(d).ok());
    text.parse().ok().or_else(relative).ok_or_else(|| Failure::usage(format!("`{text}` is no time: write 4h, or 2026-11-24T18:00:00Z")))
}

pub(super) async fn ask(client: &Client, what: Ask, printer: Printer) -> Result<Exit, Failure> {
    let Ask { machines, capabilities, target, until, from, reason, ticket } = what;
    let new = NewRequest { machines, capabilities, target, from, until: time(&until)?, reason, ticket };
    printer.value(&client.ask_access(&new).await?, |r| {
        format!("{}\nRequest {}; it waits for {} until {}.", r.sentence, r.id, r.approvers.join(" or "), when(Some(r.expires)))
    })?;
    Ok(Exit::Done)
}

pub(super) async fn requests(client: &Client, what: Requests, printer: Printer) -> Result<Exit, Failure> {
    match what {
        Requests::List { state } => printer.value(&client.requests(state.as_deref()).await?, |all| {
            if all.is_empty() {
                return "There are no requests that concern you.".into();
            }
            let line = |r: &RequestView| {
                let state = if r.yours { "for you" } else { &r.state };
                hanging(&format!("{state:<9} {}  ", r.id), &r.sentence)
            };
            all.iter().map(line).collect::<Vec<_>>().join("\n")
        })?,
        Requests::Show { id } => printer.value(&client.request(&id).await?, shown)?,
        Requests::Answer(a) => {
            let until = a.until.as_deref().map(time).transpose()?;
            let given = NewAnswer { yes: a.yes, why: a.why, until, capabilities: a.only, session_minutes: a.session };
            printer.value(&client.answer(&a.id, &given).await?, shown)?;
        }
        Requests::Withdraw { id } => {
            client.withdraw_request(&id).await?;
            printer.remark("The request is withdrawn.");
        }
        Requests::Deputy { deputy: Some(deputy), until, .. } => {
            let until = time(until.as_deref().unwrap_or("72h"))?;
            client.set_deputy(&DeputyView { person: String::new(), deputy: deputy.clone(), until }).await?;
            printer.remark(&format!("{deputy} may answer in your place until {}.", when(Some(until))));
        }
        Requests::Deputy { end: true, .. } => {
            client.end_deputy().await?;
            printer.remark("You answer yourself again.");
        }
        Requests::Deputy { .. } => printer.value(&client.deputies().await?, |all| {
            if all.is_empty() {
                return "Nobody answers in another's place.".into();
            }
            all.iter()
                .map(|d| format!("{} answers in place of {} until {}.", d.deputy, d.person, when(Some(d.until))))
                .collect::<Vec<_>>()
                .join("\n")
        })?,
    }
    Ok(Exit::Done)
}

fn shown(r: &RequestView) -> String {
    let ticket = if r.ticket.is_empty() { String::new() } else { format!("Ticket {}. ", r.ticket) };
    let mut text = format!("{}\n{ticket}It is {}", r.sentence, r.state);
    text += &match r.state.as_str() {
        "open" => format!(" and waits for {} until {}.", r.approvers.join(" or "), when(Some(r.expires))),
        _ => ".".into(),
    };
    for a in &r.answers {
        let verb = if a.yes { "approved" } else { "refused" };
        let place = if a.by == a.instead_of { String::new() } else { format!(" in place of {}", a.instead_of) };
        let why = if a.why.is_empty() { String::new() } else { format!(": {}", a.why) };
        text += &format!("\n{} {verb} it{place}{why}", a.by);
    }
    if r.yours {
        text += &format!("\nAnswer with `aerie requests answer {} --yes`, or `--no --why …`.", r.id);
    }
    text
}

pub(super) async fn passes(client: &Client, what: Passes, printer: Printer) -> Result<Exit, Failure> {
    match what {
        Passes::List => printer.value(&client.passes().await?, |all| {
            if all.is_empty() {
                return "There are no passes that concern you.".into();
            }
            let row = |p: &aerie_api::PassView| vec![p.id.clone(), p.state.clone(), p.sentence.clone(), p.approved_by.join(" ")];
            table(&[("pass", LEFT), ("state", LEFT), ("what", LEFT), ("approved by", LEFT)], &all.iter().map(row).collect::<Vec<_>>())
        })?,
        Passes::Withdraw { id, why } => {
            client.withdraw_pass(&id, &why).await?;
            printer.remark("The pass is withdrawn, and sessions that rested on it end.");
        }
    }
    Ok(Exit::Done)
}

pub(super) async fn stop(client: &Client, what: Stop, printer: Printer) -> Result<Exit, Failure> {
    let w = what.which;
    let order =
        StopOrder { session: w.session, person: w.person, machine: w.machine, rule: w.rule, all: w.all.then_some(true), why: what.why };
    printer.value(&client.stop(&order).await?, |s| s.sentence.clone())?;
    Ok(Exit::Done)
}

pub(super) async fn lockdown(client: &Client, what: Lockdown, printer: Printer) -> Result<Exit, Failure> {
    match what {
        Lockdown::Begin { why } => {
            client.lock_down(&why).await?;
            printer.remark(
                "Nobody new comes in now, but in an emergency; sessions that are live go on. `aerie lockdown lift` opens it again.",
            );
        }
        Lockdown::Lift { why } => {
            client.lift(&why).await?;
            printer.remark("The service is open again.");
        }
    }
    Ok(Exit::Done)
}

pub(super) async fn notices(client: &Client, printer: Printer) -> Result<Exit, Failure> {
    printer.value(&client.notices().await?, |all| {
        if all.is_empty() {
            return "No notice was sent, and none waits.".into();
        }
        let row = |n: &aerie_api::NoticeView| {
            let state = match (n.sent, n.tries) {
                (Some(_), _) => "sent".to_string(),
                (None, 0) => "waits".into(),
                (None, tries) => format!("failed {tries} times: {}", n.failure),
            };
            vec![when(Some(n.made)), n.channel.clone(), n.recipient.clone(), n.subject.clone(), state]
        };
        table(&[("made", LEFT), ("by", LEFT), ("to", LEFT), ("subject", LEFT), ("state", LEFT)], &all.iter().map(row).collect::<Vec<_>>())
    })?;
    Ok(Exit::Done)
}

/// Shows a live session in this terminal.
pub(super) async fn watch(client: &Client, id: &str, printer: Printer) -> Result<Exit, Failure> {
    printer.remark(&format!("Watching {id}; Ctrl-C leaves."));
    let mut refused = None;
    let mut filter = TerminalFilter::default();
    let each = |line: LiveLine| {
        if printer.json {
            printer.line(&serde_json::to_string(&line).unwrap_or_default());
        } else if let Some(data) = line.data.as_ref().and_then(|d| base64::engine::general_purpose::STANDARD.decode(d).ok()) {
            let mut out = std::io::stdout().lock();
            let _ = out.write_all(&filter.piece(&data)).and_then(|()| out.flush());
        }
        let over = matches!(line.kind.as_str(), "refused" | "ended");
        if over {
            refused = line.sentence.clone().map(|s| (line.kind == "refused", s));
        }
        !over
    };
    tokio::select! {
        done = client.watch_live(id, each) => done?,
        stopped = super::serve::stop_signal() => stopped?,
    }
    if !printer.json {
        let _ = std::io::stdout().lock().write_all(TerminalFilter::RESET);
    }
    match refused {
        Some((true, why)) => Err(Failure { exit: Exit::No, message: why }),
        Some((false, why)) => {
            printer.remark(&why);
            Ok(Exit::Done)
        }
        None => Ok(Exit::Done),
    }
}

/// Answers what is asked of the person at this computer, on the page of its agent.
pub(super) async fn answer_here(what: &AnswerHere, printer: Printer) -> Result<Exit, Failure> {
    let page = format!("http://127.0.0.1:{}", what.page);
    let no_agent = |_| Failure { exit: Exit::No, message: format!("no agent of this computer asks at {page}") };
    aerie_client::provide_tls();
    let http = reqwest::Client::builder().tls_certs_only(std::iter::empty()).build().map_err(|e| Failure::internal(e.to_string()))?;
    let mut after = 0;
    loop {
        let state: State =
            http.get(format!("{page}/state?after={after}")).send().await.map_err(no_agent)?.json().await.map_err(no_agent)?;
        after = state.version;
        let stopping = what.say.as_deref() == Some("stop");
        let open: Vec<&Item> = state.items.iter().filter(|i| i.standing == "asked" || (stopping && i.standing != "answered")).collect();
        if printer.json && what.say.is_none() {
            printer.value(&state, |_| String::new())?;
            return Ok(Exit::Done);
        }
        if open.is_empty() && what.wait {
            continue;
        }
        if open.is_empty() {
            let live = state
                .items
                .iter()
                .filter(|i| i.standing == "live")
                .map(|i| format!("{} is connected as {}: {}.", i.who, i.account, i.does));
            let live: Vec<String> = live.collect();
            printer.line(if live.is_empty() { "Nothing is asked, and nobody is connected.".into() } else { live.join("\n") }.as_str());
            return Ok(Exit::Done);
        }
        for item in open {
            let act = match &what.say {
                Some(said) => said.clone(),
                None => asked(item)?,
            };
            let answer = Answering { id: item.id.clone(), act: act.clone() };
            let sent = http.post(format!("{page}/answer")).json(&answer).send().await.map_err(no_agent)?;
            let good = sent.status().is_success();
            let said = sent.text().await.unwrap_or_default();
            if !good {
                return Err(Failure { exit: Exit::No, message: said.trim().trim_end_matches('.').to_string() });
            }
            printer.remark(&format!("{}: {act}.", item.who));
        }
        return Ok(Exit::Done);
    }
}

fn asked(item: &Item) -> Result<String, Failure> {
    if !can_ask() {
        return Err(Failure::usage("say --say agree or --say refuse: there is no terminal to ask in"));
    }
    let clean = aerie_core::diagnostic::printable;
    let of = if item.organisation.is_empty() { String::new() } else { format!(" ({})", clean(&item.organisation)) };
    let why = if item.reason.is_empty() { "no reason is given".into() } else { clean(&item.reason) };
    let long = if item.at_most.is_empty() { String::new() } else { format!(" for at most {}", item.at_most) };
    eprint!("{}{of} asks to {} as {}{long}: {why}\nDo you agree? [y/N] ", clean(&item.who), clean(&item.does), clean(&item.account));
    let _ = std::io::stderr().flush();
    let mut answer = String::new();
    std::io::stdin().lock().take(100).read_line(&mut answer).map_err(|e| Failure::file("standard input", &e))?;
    Ok(if matches!(answer.trim().to_ascii_lowercase().as_str(), "y" | "yes") { "agree" } else { "refuse" }.into())
}
