//! The demo: Corvid Ridge Observatory, an invented consortium, with real machines and a month of history.

pub mod browser;
mod closed;
pub mod desk;
mod history;
mod newcomer;
pub mod people;
mod plans;
mod running;
mod scenario;
mod script;
pub mod sink;
pub mod tour;

pub use browser::CHROMIUM_FLAGS;
pub use running::{Description, MachineDescription, PersonDescription, Running};
pub use scenario::{code_for, totp_secret};

use crate::cli::{Demo, DemoCommand};
use crate::commands::serve::stop_signal;
use crate::output::Printer;
use crate::{Exit, Failure};
use jiff::Timestamp;

pub(crate) async fn run(options: Demo, printer: Printer) -> Result<Exit, Failure> {
    if let Some(DemoCommand::Code { person }) = &options.command {
        return code(person, printer);
    }
    if options.tour {
        return tour::run(&options, printer).await;
    }
    let running = Running::start(&options).await?;
    if let Some(file) = &options.describe {
        running.describe(file)?;
    }
    if printer.json {
        printer.value(&running.description, |_| String::new())?;
    } else {
        printer.line(&welcome(&running));
    }
    if options.end_with_stdin {
        let closed = tokio::task::spawn_blocking(|| std::io::copy(&mut std::io::stdin(), &mut std::io::sink()));
        tokio::select! {
            _ = closed => {}
            stopped = stop_signal() => stopped?,
        }
    } else {
        stop_signal().await?;
    }
    eprintln!("\nStopping.");
    running.stop().await?;
    Ok(Exit::Done)
}

fn code(person: &str, printer: Printer) -> Result<Exit, Failure> {
    if !scenario::people().iter().any(|p| p.name == person) {
        return Err(Failure::usage(format!("the demo has nobody called {person}")));
    }
    let now = Timestamp::now();
    let left = 30 - now.as_second().rem_euclid(30);
    let shown = serde_json::json!({ "person": person, "code": code_for(person, now), "seconds_left": left });
    printer.value(&shown, |_| format!("{}  (good for {left} s, and once)", code_for(person, now)))?;
    Ok(Exit::Done)
}

/// What somebody who started the demo needs to know next.
fn welcome(running: &Running) -> String {
    // As it was called, so that the lines can be pasted.
    let aerie = std::env::args().next().unwrap_or_else(|| "aerie".into());
    let d = &running.description;
    let config = &d.ssh.config;
    let mut text = format!(
        "\nCorvid Ridge Observatory is up: {} machines, {} people, {} past sessions.\n",
        d.machines.len(),
        d.people.len(),
        d.past_sessions
    );
    if let Some(remark) = &d.remark {
        text += &format!("\nNote: {remark}\n");
    }
    text += &format!("\nConsole   {}\n", d.console);
    for (name, role) in [
        ("lena", "administrator: sees and may do everything"),
        ("greta", "auditor: sees everything, changes nothing"),
        ("sunniva", "technician: sees her own sessions"),
    ] {
        if let Some(p) = d.people.iter().find(|p| p.name == name) {
            text += &format!("          {:<8} password {:<28} {role}\n", p.name, p.password);
        }
    }
    text += &format!("          Codes: {aerie} demo code lena   (a code is good once; the next comes after 30 s)\n");
    text += "\nSSH       paste one of these; where a code is asked for, `demo code NAME` has it\n";
    for (line, what) in [
        ("sunniva+spectro-1@aerie".to_string(), "a recorded shell, with key and code"),
        ("arlo+archive-db@aerie".into(), "a recorded shell, with a key alone"),
        ("backup-runner+archive-db@aerie hostname".into(), "one command, without anybody there"),
        ("arlo+dome-east@aerie".into(), "refused: no rule gives it"),
        ("sunniva+coude-1@aerie".into(), "through an agent in a closed network"),
        ("mira+flat-lamp@aerie".into(), "stopped: it shows another host key"),
    ] {
        text += &format!("          ssh -F {config} {line:<40} # {what}\n");
    }
    text += &format!("          ssh -F {config} -i {} -J sunniva@aerie operator@spectro-1   # the jump form\n", d.key_file("sunniva"));
    text += &format!("\nClient    export AERIE_SERVER={} AERIE_TOKEN=$(cat {})\n", d.api, d.token_file);
    text += &format!(
        "          {aerie} now · {aerie} machines list · {aerie} machines check coude-1 · {aerie} sessions list · {aerie} findings list · {aerie} log verify\n"
    );
    text += &format!("          {aerie} why ines shell dome-east --at 12:00\n");
    if let Some(m) = d.machines.iter().find(|m| m.name == "dome-east") {
        text += &format!("          {aerie} audit scan {} --zone UTC\n", m.log);
    }
    text += "\nCtrl-C ends everything.";
    text
}
