//! The agent on this computer.

use crate::cli::{Agent, AskingFields, EnrolFields};
use crate::output::{Printer, can_ask};
use crate::{Exit, Failure};
use aerie_agent::consent::Asking;
use aerie_agent::{EnrolOptions, Leaving, Link, RunOptions, StateDir, StateError};
use aerie_core::tunnel::greeting::EnrolmentCode;
use std::io::{BufRead as _, Read as _, Write as _};

/// Longest text that is read for a code.
const LONGEST: u64 = 4096;

pub(crate) async fn run(what: Agent, printer: Printer) -> Result<Exit, Failure> {
    match what {
        Agent::Enrol { options, yes, place } => enrol(options, yes, StateDir::at(place.state), printer).await,
        Agent::Run { asking, place } => {
            let dir = StateDir::at(place.state);
            let state = dir.load().map_err(files)?;
            let _alone = dir.alone().map_err(files)?;
            printer.remark(&format!(
                "This computer is {} for {}. Ctrl-C ends the agent; its log is {}/agent.log.",
                state.machine,
                state.server,
                dir.path().display()
            ));
            serve(aerie_agent::run(Some(dir), state, RunOptions { asking: asked(asking), ..RunOptions::default() })).await
        }
        Agent::Answer(what) => super::asking::answer_here(&what, printer).await,
        Agent::Once { options, asking } => {
            let code = code(options.code_file.as_deref())?;
            let options = EnrolOptions { temporary: true, ..enrolment(options) };
            let state = aerie_agent::enrol(&code, &options).await.map_err(refused)?;
            printer.remark(&format!(
                "This computer is {} for {}, as long as this runs. Ctrl-C ends it, and nothing is left.",
                state.machine, state.server
            ));
            serve(aerie_agent::run(None, state, RunOptions { temporary: true, asking: asked(asking), page: None })).await
        }
        Agent::Visit => {
            let code = code(None)?;
            let told = move |line: &str| printer.remark(line);
            tokio::select! {
                left = aerie_agent::visit(&code, told) => {
                    left.map(|()| Exit::Done).map_err(|leaving| Failure { exit: Exit::No, message: leaving.to_string() })
                }
                stopped = super::serve::stop_signal() => stopped.map(|()| Exit::Done),
            }
        }
        Agent::Status { place } => status(&StateDir::at(place.state), printer),
        Agent::Unit { place } => {
            printer.line(&unit(&StateDir::at(place.state)));
            Ok(Exit::Done)
        }
    }
}

fn files(e: StateError) -> Failure {
    Failure { exit: Exit::No, message: e.to_string() }
}

fn refused(e: aerie_agent::Enrolled) -> Failure {
    Failure { exit: Exit::No, message: e.to_string() }
}

async fn serve(running: impl Future<Output = Result<std::convert::Infallible, Leaving>>) -> Result<Exit, Failure> {
    tokio::select! {
        left = running => match left {
            Err(leaving) => Err(Failure { exit: Exit::No, message: leaving.to_string() }),
        },
        stopped = super::serve::stop_signal() => stopped.map(|()| Exit::Done),
    }
}

/// Reads the code: never from the command line, where every other user of the computer could read it.
fn code(file: Option<&std::path::Path>) -> Result<EnrolmentCode, Failure> {
    let mut text = String::new();
    match file {
        Some(path) => {
            let file = std::fs::File::open(path).map_err(|e| Failure::file(path.display(), &e))?;
            file.take(LONGEST).read_to_string(&mut text).map_err(|e| Failure::file(path.display(), &e))?;
        }
        None => {
            if can_ask() {
                eprint!("Code: ");
                let _ = std::io::stderr().flush();
            }
            std::io::stdin().lock().take(LONGEST).read_line(&mut text).map_err(|e| Failure::file("standard input", &e))?;
        }
    }
    EnrolmentCode::parse(&text)
        .ok_or_else(|| Failure::usage("this is no enrolment code, or a part of it is missing: it reads NAME@HOST:PORT#…"))
}

/// How the person here is asked.
fn asked(given: AskingFields) -> Option<Asking> {
    let AskingFields { page, no_page, answered_by, answer_program, away_after } = given;
    let idle = jiff::SignedDuration::from_mins(away_after);
    (!no_page).then_some(Asking { port: page, people: answered_by, program: answer_program, idle })
}

fn enrolment(options: EnrolFields) -> EnrolOptions {
    EnrolOptions {
        name: options.name,
        allow: options.allow,
        trust_file: options.trust_file,
        log: options.log,
        lock_with: options.lock_with,
        temporary: false,
    }
}

async fn enrol(given: EnrolFields, yes: bool, dir: StateDir, printer: Printer) -> Result<Exit, Failure> {
    if dir.is_enrolled() {
        return Err(files(StateError::Enrolled(dir.path().display().to_string())));
    }
    let code = code(given.code_file.as_deref())?;
    if given.log.as_deref().is_some_and(|log| log != aerie_agent::JOURNAL && !log.starts_with('/')) {
        return Err(Failure::usage("--log takes `journal` or the whole path of a file"));
    }
    let options = enrolment(given);
    let found = aerie_agent::look(&code, &options).await.map_err(refused)?;
    let place = if found.site.is_empty() { String::new() } else { format!(" at {}", found.site) };
    let note = if found.note.is_empty() { String::new() } else { format!(" ({})", found.note) };
    printer
        .remark(&format!("The code makes this computer, which calls itself {}, the machine {}{place}{note}.", found.host, found.machine));
    if !yes && can_ask() {
        eprint!("Is this the right computer? [y/N] ");
        let _ = std::io::stderr().flush();
        let mut answer = String::new();
        std::io::stdin().lock().take(LONGEST).read_line(&mut answer).map_err(|e| Failure::file("standard input", &e))?;
        if !matches!(answer.trim().to_ascii_lowercase().as_str(), "y" | "yes") {
            return Err(Failure { exit: Exit::No, message: "nothing was enrolled; the code is still good".into() });
        }
    }
    let state = aerie_agent::enrol(&code, &options).await.map_err(refused)?;
    dir.save(&state).map_err(files)?;
    let shown = serde_json::json!({ "machine": state.machine, "site": state.site, "server": state.server, "allow": state.allow });
    printer.value(&shown, |_| {
        format!(
            "Enrolled as {}. It will connect to: {}.\nRun it with `{called} run`, or let systemd do so: `{called} unit > /etc/systemd/system/aerie-agent.service`.",
            state.machine,
            state.allow.join(", "),
            called = aerie_agent::called(),
        )
    })?;
    Ok(Exit::Done)
}

fn status(dir: &StateDir, printer: Printer) -> Result<Exit, Failure> {
    let state = dir.load().map_err(files)?;
    let runs = dir.runs();
    let Some(status) = dir.status() else {
        printer.line(&format!(
            "This computer is enrolled as {} for {}, and its agent has not run yet: `{} run`.",
            state.machine,
            state.server,
            aerie_agent::called()
        ));
        return Ok(Exit::No);
    };
    let shown = serde_json::json!({ "runs": runs, "status": status });
    printer.value(&shown, |_| status.sentence(runs))?;
    Ok(if runs && matches!(status.link, Link::Connected { .. }) { Exit::Done } else { Exit::No })
}

/// A unit that gives the agent no more than it needs.
fn unit(dir: &StateDir) -> String {
    let program = std::env::current_exe().map(|p| p.display().to_string()).unwrap_or_else(|_| "/usr/local/bin/aerie-agent".into());
    // Without rights, root reads only what it owns or its groups may read.
    let groups = match dir.load().ok().and_then(|state| state.log) {
        Some(log) if log == aerie_agent::JOURNAL => "SupplementaryGroups=systemd-journal\n",
        Some(_) => "SupplementaryGroups=adm\n",
        None => "",
    };
    let command = if aerie_agent::called() == "aerie-agent" { "" } else { " agent" };
    format!(
        "[Unit]\nDescription=Aerie agent\nWants=network-online.target\nAfter=network-online.target\n\n[Service]\nExecStart={program}{command} run --state {state}\n\
         Restart=always\nRestartSec=5\n# It needs no rights: with DynamicUser, enrol it with --state {state} and give that directory to its user.\nNoNewPrivileges=yes\n\
         ProtectSystem=strict\nProtectHome=yes\nReadWritePaths={state}\nPrivateTmp=yes\nPrivateDevices=yes\nProtectKernelTunables=yes\nProtectKernelModules=yes\n\
         ProtectControlGroups=yes\nRestrictAddressFamilies=AF_INET AF_INET6 AF_UNIX AF_NETLINK\nRestrictNamespaces=yes\nLockPersonality=yes\nMemoryDenyWriteExecute=yes\n\
         CapabilityBoundingSet=\n{groups}SystemCallArchitectures=native\nMemoryMax=64M\n\n[Install]\nWantedBy=multi-user.target",
        state = dir.path().display()
    )
}
