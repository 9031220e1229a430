//! The way to what there is to be seen.

use super::super::connection::Connection;
use crate::desktop::{DesktopError, Greeted, Stream, greet};
use crate::machines::{Steps, reach};
use crate::service::App;
use crate::vault::Secret;
use crate::visits::Program;
use aerie_core::desktop::{Options, RfbClient, SCREEN_TARGET, ScreenClient};
use aerie_core::directory::{Machine, Way};
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::visit::VISITED_SERVER;
use jiff::Timestamp;

/// Connects to the screen of whoever started the program for a visit: as the program shows it itself, or else to a desktop's server that runs
/// there for the person alone.
pub(super) async fn connect_visited(app: &App, program: &Program, steps: &Steps) -> Result<(Greeted, &'static str), DesktopError> {
    steps.say("greeting the program for a visit");
    let why = match program.tunnel.open(SCREEN_TARGET).await {
        Ok(stream) => {
            let client = Box::new(ScreenClient::new("Shared screen"));
            return Ok((greet(app, Box::new(stream), client, None).await?, "the program for a visit"));
        }
        Err(why) => why,
    };
    let Ok(stream) = program.tunnel.open(VISITED_SERVER).await else { return Err(DesktopError::Broken(why)) };
    let client = Box::new(RfbClient::new(Options { password: None, shared: true, only: None }));
    Ok((greet(app, Box::new(stream), client, None).await?, "a desktop's server there"))
}

/// Connects to the desktop's server by the machine's way, with the password that is kept for it, if one is.
pub(super) async fn connect(app: &App, machine: &Machine, way: &Way, steps: &Steps) -> Result<(Greeted, String), DesktopError> {
    let target = way.address.parse().map_err(|_| DesktopError::Broken(std::io::ErrorKind::AddrNotAvailable.into()))?;
    steps.say(format!("looking for a way to {}", machine.name));
    let reached = reach(app, machine, &target).await?;
    steps.say(format!("greeting the desktop of {} {}", machine.name, reached.how));
    let kept = app.vault.secrets(app, &machine.name, &way.name).await?;
    let password = kept.into_iter().find_map(Secret::password);
    let options = Options { password, shared: true, only: None };
    let stream: Box<dyn Stream> = Box::new(reached.stream);
    let pin = format!("{} {} {}", machine.name, way.name, way.address);
    let greeted = greet(app, stream, Box::new(RfbClient::new(options)), Some(&pin)).await?;
    Ok((greeted, reached.how))
}

pub(super) async fn failed(connection: &Connection, machine: &Machine, way: &Way, e: &DesktopError) -> String {
    let person = connection.person.person();
    let event = NewEvent::new(Timestamp::now(), EventKind::MachineFailed, person)
        .machine(&machine.name)
        .from(connection.from)
        .says(format!("{person} could not be taken to the desktop {} of {}: {e}.", way.name, machine.name))
        .with("error", e.code());
    connection.app.note(event).await;
    format!("{}: {e}.", machine.name)
}
