//! Films of recorded desktops and terminals, in an open format (WebM) that any player plays: made one at a time, in the order in which they were wanted, and
//! begun again when the service was stopped meanwhile. Encoding is the work of Debian's `ffmpeg`, which gets pictures and gives a file.

mod terminal;

use crate::recorder::read_recording;
use crate::service::App;
use aerie_core::desktop::{Framebuffer, Message};
use aerie_core::recording::Frame;
use jiff::{SignedDuration, Timestamp};
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;
use terminal::Terminals;

/// How long a film is there to be fetched, and how often old ones are looked for.
const KEPT: SignedDuration = SignedDuration::from_hours(24);
const LOOK: Duration = Duration::from_secs(600);
/// How often it is told how far a film is.
const TELL: Duration = Duration::from_millis(500);
/// Milliseconds between pictures: short recordings get more of them. A long one would else take as long to make as to watch.
const FINE: (u64, u64) = (30 * 60_000, 200);
const MIDDLE: (u64, u64) = (3 * 3_600_000, 500);
const COARSE: u64 = 1000;

/// Where the film of a session is.
pub(crate) fn path_of(app: &App, session: &str) -> PathBuf {
    app.config.recordings().join(format!("{session}.webm"))
}

/// Makes films, one after the other.
pub(crate) async fn make(app: Arc<App>) {
    loop {
        match app.store.next_film().await {
            Ok(Some(film)) => {
                let failure = one(&app, &film.session).await.err();
                if let Some(why) = &failure {
                    tracing::warn!(session = film.session, why, "a film could not be made");
                }
                if let Err(e) = app.store.film_ended(&film.session, failure.as_deref()).await {
                    tracing::error!(error = %e, "a film could not be noted");
                    return;
                }
                app.tell("sessions");
                continue;
            }
            Ok(None) => {}
            Err(e) => tracing::error!(error = %e, "films could not be looked at"),
        }
        if let Err(e) = forget_old(&app).await {
            tracing::error!(error = %e, "films could not be removed");
        }
        tokio::select! {
            () = app.films.notified() => {}
            () = tokio::time::sleep(LOOK) => {}
            () = app.stopping.cancelled() => return,
        }
    }
}

/// Removes films that were made long enough ago to be fetched.
async fn forget_old(app: &App) -> Result<(), aerie_store::StoreError> {
    for session in app.store.films_before(Timestamp::now() - KEPT).await? {
        let _ = tokio::fs::remove_file(path_of(app, &session)).await;
        app.store.forget_film(&session).await?;
    }
    Ok(())
}

async fn one(app: &Arc<App>, session: &str) -> Result<(), String> {
    let row = app.store.session(session).await.map_err(|e| e.to_string())?.ok_or("the session is not there")?;
    let recording = app.config.recordings().join(row.recording.ok_or("the session was not recorded")?);
    let (target, length) = (path_of(app, session), u64::try_from(row.length_ms).unwrap_or(0));
    let partial = target.with_extension("webm-partial");
    // A film is not encrypted, as its recording is: nobody else on this computer reads it.
    let private = tokio::fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&partial).await;
    private.map_err(|e| e.to_string())?;
    let reached = Arc::new(AtomicU64::new(0));
    let (working, keys, stopping) = (reached.clone(), app.keys.clone(), app.stopping.clone());
    let into = partial.clone();
    let making = tokio::task::spawn_blocking(move || {
        let mut film = Film { into: &into, step: step_of(length), picture: None, terminals: None, next_ms: 0, encoder: None };
        let mut trouble = Ok(());
        let read = read_recording(&recording, &keys, |f| {
            working.store(f.at_ms, Ordering::Relaxed);
            trouble = film.handle(f.at_ms, f.channel, f.frame);
            !stopping.is_cancelled() && trouble.is_ok()
        });
        read.map_err(|e| e.to_string())?;
        trouble?;
        if stopping.is_cancelled() {
            return Err("the service was stopped".to_string());
        }
        film.finish(length)
    });
    tokio::pin!(making);
    let made = loop {
        tokio::select! {
            made = &mut making => break made.map_err(|e| e.to_string())?,
            () = tokio::time::sleep(TELL) => {
                let now = i64::try_from(reached.load(Ordering::Relaxed)).unwrap_or(0);
                let _ = app.store.film_reached(session, now).await;
            }
        }
    };
    if app.stopping.is_cancelled() {
        // It stays wanted, and is begun again with the next start.
        std::future::pending::<()>().await;
    }
    made?;
    tokio::fs::rename(&partial, &target).await.map_err(|e| e.to_string())
}

fn step_of(length: u64) -> u64 {
    [FINE, MIDDLE].iter().find(|(most, _)| length <= *most).map_or(COARSE, |(_, step)| *step)
}

/// A film that is being made.
struct Film<'a> {
    into: &'a Path,
    step: u64,
    picture: Option<Framebuffer>,
    terminals: Option<Terminals>,
    next_ms: u64,
    encoder: Option<Encoding>,
}

/// The encoder, and the size of the pictures that it takes.
struct Encoding {
    child: Child,
    pipe: ChildStdin,
    size: (u16, u16),
}

impl Encoding {
    fn start(into: &Path, arguments: &[&str], size: (u16, u16)) -> Result<Self, String> {
        let mut command = Command::new("ffmpeg");
        command.args(["-v", "error", "-nostdin", "-y"]).args(arguments).args(["-f", "webm"]).arg(into);
        let mut child = command
            .stdin(Stdio::piped())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .map_err(|e| format!("ffmpeg could not be started ({e}): it comes with Debian's package of that name"))?;
        let pipe = child.stdin.take().ok_or("ffmpeg takes nothing")?;
        Ok(Self { child, pipe, size })
    }

    fn put(&mut self, bytes: &[u8]) -> Result<(), String> {
        self.pipe.write_all(bytes).map_err(|e| format!("ffmpeg broke off ({e})"))
    }

    fn finish(self) -> Result<(), String> {
        let Self { mut child, pipe, .. } = self;
        drop(pipe);
        let status = child.wait().map_err(|e| e.to_string())?;
        if status.success() { Ok(()) } else { Err(format!("ffmpeg ended with {status}")) }
    }
}

impl Film<'_> {
    fn handle(&mut self, at_ms: u64, channel: u32, frame: Frame) -> Result<(), String> {
        let Frame::Desktop(bytes) = frame else { return self.terminal(at_ms, channel, &frame) };
        let Some(message) = Message::decode(&bytes) else { return Ok(()) };
        match &message {
            Message::Piece { data, .. } => return self.piece(at_ms, data),
            Message::Film { codec, width, height } => return self.film(codec, (*width, *height)),
            _ => {}
        }
        self.until(at_ms)?;
        match (&message, &mut self.picture) {
            (Message::Size(w, h), none @ None) => {
                *none = Framebuffer::new(*w, *h).ok();
                self.next_ms = at_ms;
            }
            // What does not fit is not shown; the recording verifies by itself.
            (_, Some(picture)) => drop(picture.show(&message)),
            (_, None) => {}
        }
        Ok(())
    }

    fn terminal(&mut self, at_ms: u64, channel: u32, frame: &Frame) -> Result<(), String> {
        if matches!(frame, Frame::Opened(o) if o.terminal) && self.terminals.is_none() {
            (self.terminals, self.next_ms) = (Some(Terminals::new()?), at_ms);
        }
        self.until(at_ms)?;
        if let Some(terminals) = &mut self.terminals {
            terminals.handle(channel, frame);
        }
        Ok(())
    }

    /// Writes the pictures that are due before a moment.
    fn until(&mut self, at_ms: u64) -> Result<(), String> {
        // The picture is drawn when one is due: a terminal that floods the screen is not drawn line by line.
        if self.next_ms < at_ms
            && let Some(drawn) = self.terminals.as_mut().and_then(Terminals::draw)
        {
            self.picture = Some(drawn);
        }
        let Some(picture) = &self.picture else { return Ok(()) };
        while self.next_ms < at_ms {
            if self.encoder.is_none() {
                let (w, h) = picture.size();
                let (size, rate) = (format!("{w}x{h}"), format!("1000/{}", self.step));
                let arguments = ["-f", "rawvideo", "-pix_fmt", "rgb0", "-s", &size, "-r", &rate, "-i", "-"];
                let coding =
                    ["-c:v", "libvpx-vp9", "-deadline", "realtime", "-cpu-used", "8", "-crf", "30", "-b:v", "0", "-pix_fmt", "yuv420p"];
                self.encoder = Some(Encoding::start(self.into, &[&arguments[..], &coding[..]].concat(), (w, h))?);
            }
            if let Some(encoder) = &mut self.encoder {
                let (w, h) = encoder.size;
                if picture.size() == encoder.size {
                    encoder.put(picture.pixels())?;
                } else {
                    // A screen that changed its size is shown as far as it fits.
                    let mut fitted = picture.clone();
                    fitted.resize(w, h).map_err(|e| e.to_string())?;
                    encoder.put(fitted.pixels())?;
                }
            }
            self.next_ms += self.step;
        }
        Ok(())
    }

    /// What somebody shared is film already: it is put into its container as it is (IVF, as the VP8 tools have it, goes in).
    fn film(&mut self, codec: &str, (w, h): (u16, u16)) -> Result<(), String> {
        if self.encoder.is_some() {
            return Ok(());
        }
        let fourcc = if codec.starts_with("vp8") { b"VP80" } else { b"VP90" };
        let mut head = b"DKIF".to_vec();
        head.extend([0, 0, 32, 0]);
        head.extend_from_slice(fourcc);
        head.extend([w, h].iter().flat_map(|n| n.to_le_bytes()));
        head.extend([1000u32, 1, 0, 0].iter().flat_map(|n| n.to_le_bytes()));
        let mut encoder = Encoding::start(self.into, &["-f", "ivf", "-i", "-", "-c", "copy"], (w, h))?;
        encoder.put(&head)?;
        self.encoder = Some(encoder);
        Ok(())
    }

    fn piece(&mut self, at_ms: u64, data: &[u8]) -> Result<(), String> {
        let Some(encoder) = &mut self.encoder else { return Ok(()) };
        let mut piece = (data.len() as u32).to_le_bytes().to_vec();
        // Two pieces never have the same time.
        self.next_ms = at_ms.max(self.next_ms + 1);
        piece.extend(self.next_ms.to_le_bytes());
        piece.extend_from_slice(data);
        encoder.put(&piece)
    }

    fn finish(mut self, length: u64) -> Result<(), String> {
        // The last picture is to be seen, too.
        self.until(length + self.step)?;
        self.encoder.ok_or("nothing was shown")?.finish()
    }
}
