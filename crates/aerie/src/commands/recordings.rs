use super::sessions;
use crate::cli::Recordings;
use crate::output::Printer;
use crate::{Exit, Failure};
use aerie_api::FrameKind;
use aerie_client::{Client, SessionQuery};
use aerie_core::recording::TerminalFilter;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use std::io::{IsTerminal as _, Write as _};
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::Path;
use std::time::Duration;

pub(super) async fn run(client: &Client, what: Recordings, printer: Printer) -> Result<Exit, Failure> {
    match what {
        Recordings::List { limit } => {
            let mut page = client.sessions(&SessionQuery { limit: Some(limit), ..SessionQuery::default() }).await?;
            page.items.retain(|s| s.recorded);
            printer.value(&page, |p| sessions::list(&p.items, p.next.is_some()))?;
            Ok(Exit::Done)
        }
        Recordings::Play { id, speed, skip_idle } => play(client, &id, speed, skip_idle).await,
        Recordings::Verify { id } => {
            let report = client.verify_recording(&id).await?;
            printer.value(&report, |r| r.sentence.clone())?;
            Ok(if report.holds { Exit::Done } else { Exit::No })
        }
        Recordings::Export { id, film: Some(file) } => film(client, &id, &file, printer).await,
        Recordings::Export { id, film: None } => {
            printer.line(client.recording_text(&id).await?.trim_end());
            Ok(Exit::Done)
        }
    }
}

/// Has a film made, says how far it is, and writes it.
async fn film(client: &Client, id: &str, file: &Path, printer: Printer) -> Result<Exit, Failure> {
    let failed = |e: std::io::Error| Failure::file(file.display(), &e);
    let mut out = std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(file).map_err(failed)?;
    let made = async {
        let mut film = client.make_film(id).await?;
        while film.state == "waiting" {
            if std::io::stderr().is_terminal() {
                eprint!("\r{} of {} s ", film.reached / 1000, film.length / 1000);
            }
            tokio::time::sleep(Duration::from_millis(500)).await;
            film = client.film(id).await?;
        }
        if film.state == "done" { Ok(client.fetch_film(id).await?) } else { Err(Failure::internal(film.failure)) }
    };
    let written = async { out.write_all(&made.await?).map_err(failed) };
    if let Err(e) = written.await {
        let _ = std::fs::remove_file(file);
        return Err(e);
    }
    printer.remark(&format!("The film is in {}.", file.display()));
    Ok(Exit::Done)
}

async fn play(client: &Client, id: &str, speed: f64, skip_idle: f64) -> Result<Exit, Failure> {
    if !(speed.is_finite() && speed > 0.0 && skip_idle.is_finite() && skip_idle >= 0.0) {
        return Err(Failure::usage("--speed must be more than 0, and --skip-idle not less"));
    }
    let frames = client.frames(id).await?;
    let mut last = 0;
    let mut filter = TerminalFilter::default();
    for frame in frames {
        let pause = (frame.at.saturating_sub(last) as f64 / 1000.0 / speed).min(skip_idle);
        last = frame.at;
        tokio::time::sleep(Duration::try_from_secs_f64(pause).unwrap_or_default()).await;
        let bytes = match (frame.kind, frame.data, frame.text) {
            (FrameKind::Output | FrameKind::Error, Some(data), _) => STANDARD.decode(data).unwrap_or_default(),
            (FrameKind::Mark, _, Some(text)) => format!("\r\n[{text}]\r\n").into_bytes(),
            _ => continue,
        };
        let mut out = std::io::stdout().lock();
        if out.write_all(&filter.piece(&bytes)).and_then(|()| out.flush()).is_err() {
            return Ok(Exit::Done);
        }
    }
    // Whatever the recording left switched on must not stay on.
    let _ = std::io::stdout().lock().write_all(TerminalFilter::RESET);
    Ok(Exit::Done)
}
