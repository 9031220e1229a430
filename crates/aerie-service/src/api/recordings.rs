use super::caller::Caller;
use super::problem::Problem;
use super::sessions::find;
use crate::audit::integrity::verify_recording;
use crate::recorder::{places_of, read_from, read_recording};
use crate::service::App;
use aerie_api::{FilmView, FrameKind, FrameView, PictureQuery, RecordingReport, ScreenQuery, StretchView};
use aerie_core::desktop::{Framebuffer, Message};
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::recording::{Frame, Place, PlainText, TimedFrame};
use aerie_core::wording;
use axum::Json;
use axum::body::{Body, Bytes};
use axum::extract::{Path, Query, State};
use axum::http::header::{CONTENT_DISPOSITION, CONTENT_TYPE};
use axum::response::{IntoResponse, Response};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use jiff::Timestamp;
use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::Arc;
use tokio::sync::mpsc;
use tokio_stream::StreamExt as _;
use tokio_stream::wrappers::ReceiverStream;

/// Pieces that wait for a slow reader at most.
const PIECES: usize = 8;
/// Size of a piece.
const PIECE: usize = 64 << 10;

/// The same of a piece of it: many of them are one reading.
async fn open_piece(app: &App, caller: &Caller, id: &str) -> Result<PathBuf, Problem> {
    let row = find(app, caller, id).await?;
    if app.reads.begins(&caller.person.name, id, Timestamp::now()) {
        return Ok(open(app, caller, id, "watched").await?.0);
    }
    Ok(app.config.recordings().join(row.recording.ok_or_else(unrecorded)?))
}

fn unrecorded() -> Problem {
    Problem::not_found("This session was not recorded.")
}

/// The file of a recording that the caller may read; that they did is logged.
async fn open(app: &App, caller: &Caller, id: &str, doing: &str) -> Result<(PathBuf, aerie_store::SessionRow), Problem> {
    let row = find(app, caller, id).await?;
    let file = row.recording.clone().ok_or_else(unrecorded)?;
    let event = NewEvent::new(Timestamp::now(), EventKind::RecordingRead, &caller.person.name)
        .machine(&row.machine)
        .session(id)
        .says(format!("{} {doing} the recording of {} on {}.", caller.person.name, row.person, row.machine));
    app.log.append(event).await?;
    app.tell("log");
    Ok((app.config.recordings().join(file), row))
}

/// A frame for the console; none of those that are shown as pictures.
fn frame_view(f: TimedFrame) -> Option<FrameView> {
    let mut v = FrameView {
        at: f.at_ms,
        channel: f.channel,
        kind: FrameKind::Output,
        data: None,
        text: None,
        count: None,
        columns: None,
        rows: None,
    };
    let mut data = |kind, bytes: &[u8]| {
        v.kind = kind;
        v.data = Some(STANDARD.encode(bytes));
    };
    match f.frame {
        Frame::Output(b) => data(FrameKind::Output, &b),
        Frame::ErrorOutput(b) => data(FrameKind::Error, &b),
        Frame::Input(b) => data(FrameKind::Input, &b),
        Frame::Hidden(n) => (v.kind, v.count) = (FrameKind::Hidden, Some(n)),
        Frame::Size(c, r) => (v.kind, v.columns, v.rows) = (FrameKind::Size, Some(c), Some(r)),
        Frame::Opened(o) => (v.kind, v.text) = (FrameKind::Opened, Some(o.command.map_or(o.kind.clone(), |c| format!("{} {c}", o.kind)))),
        Frame::Closed(status) => (v.kind, v.count) = (FrameKind::Closed, status.map(u64::from)),
        Frame::File(t) => {
            (v.kind, v.text) = (FrameKind::File, Some(format!("{} {} ({}, {})", t.direction, t.path, wording::size(t.bytes), t.result)))
        }
        Frame::Mark(text) => (v.kind, v.text) = (FrameKind::Mark, Some(text)),
        Frame::Desktop(bytes) => (v.kind, v.text) = (FrameKind::Mark, Some(said(&bytes)?)),
        Frame::Passed(out, input) => {
            (v.kind, v.text) = (FrameKind::Passed, Some(format!("{} out, {} in", wording::size(out), wording::size(input))))
        }
    }
    Some(v)
}

/// What somebody said or noted in a desktop session.
fn said(message: &[u8]) -> Option<String> {
    match Message::decode(message)? {
        Message::Said { who, text, .. } => Some(format!("{who}: {text}")),
        _ => None,
    }
}

/// Streams what `write` makes of each frame.
fn stream(
    app: &Arc<App>,
    path: PathBuf,
    kind: &'static str,
    mut write: impl FnMut(Option<TimedFrame>, &mut Vec<u8>) + Send + 'static,
) -> Response {
    let (send, pieces) = mpsc::channel::<Bytes>(PIECES);
    let app = app.clone();
    tokio::task::spawn_blocking(move || {
        let mut piece = vec![];
        let read = read_recording(&path, &app.keys, |f| {
            write(Some(f), &mut piece);
            piece.len() < PIECE || send.blocking_send(std::mem::take(&mut piece).into()).is_ok()
        });
        if let Err(e) = read {
            tracing::warn!(error = %e, "a recording does not read to its end");
        }
        write(None, &mut piece);
        let _ = send.blocking_send(piece.into());
    });
    let body = Body::from_stream(ReceiverStream::new(pieces).map(Ok::<_, std::io::Error>));
    ([(CONTENT_TYPE, kind)], body).into_response()
}

/// The frames of a recording, a line of JSON each.
///
/// Of a live session: those up to a second ago.
#[utoipa::path(get, path = "/recordings/{id}/frames", operation_id = "recordingFrames", params(("id" = String, Path)), responses((status = 200, body = String, content_type = "application/x-ndjson")))]
pub(super) async fn frames(State(app): State<Arc<App>>, caller: Caller, Path(id): Path<String>) -> Result<Response, Problem> {
    let (path, _) = open(&app, &caller, &id, "watched").await?;
    Ok(stream(&app, path, "application/x-ndjson", |frame, out| {
        if let Some(view) = frame.and_then(frame_view)
            && serde_json::to_writer(&mut *out, &view).is_ok()
        {
            out.push(b'\n');
        }
    }))
}

/// A recording as plain text: what the terminal showed, with times.
#[utoipa::path(get, path = "/recordings/{id}/text", operation_id = "recordingText", params(("id" = String, Path)), responses((status = 200, body = String, content_type = "text/plain")))]
pub(super) async fn text(State(app): State<Arc<App>>, caller: Caller, Path(id): Path<String>) -> Result<Response, Problem> {
    let (path, row) = open(&app, &caller, &id, "exported").await?;
    let mut screens: HashMap<u32, PlainText> = HashMap::new();
    let began = row.began;
    Ok(stream(&app, path, "text/plain; charset=utf-8", move |frame, out| {
        let mut put = |at_ms: u64, line: &str| {
            let at = began + jiff::SignedDuration::from_millis(i64::try_from(at_ms).unwrap_or(0));
            out.extend_from_slice(format!("{}  {line}\n", at.strftime("%H:%M:%S")).as_bytes());
        };
        match frame {
            Some(TimedFrame { at_ms, channel, frame: Frame::Output(b) | Frame::ErrorOutput(b) }) => {
                screens.entry(channel).or_default().handle_output(&b).iter().for_each(|line| put(at_ms, line));
            }
            Some(f) => {
                let (at_ms, channel) = (f.at_ms, f.channel);
                if matches!(f.frame, Frame::Closed(_))
                    && let Some(rest) = screens.remove(&channel).map(|s| s.rest()).filter(|r| !r.is_empty())
                {
                    put(at_ms, &rest);
                }
                if let Some(remark) = remark(f.frame) {
                    put(at_ms, &format!("[{remark}]"));
                }
            }
            None => screens.values().map(PlainText::rest).filter(|r| !r.is_empty()).for_each(|rest| put(0, &rest)),
        }
    }))
}

/// What stands in brackets in the text: everything that the terminal did not show.
fn remark(frame: Frame) -> Option<String> {
    match frame {
        Frame::Opened(o) => Some(o.command.map_or(o.kind.clone(), |c| format!("{}: {c}", o.kind))),
        Frame::Closed(Some(status)) => Some(format!("ended with status {status}")),
        Frame::Closed(None) => Some("ended".into()),
        Frame::File(t) => Some(format!("{} {} ({}, {})", t.direction, t.path, wording::size(t.bytes), t.result)),
        Frame::Hidden(n) => Some(format!("{n} characters typed without echo")),
        Frame::Mark(text) => Some(text),
        Frame::Desktop(bytes) => said(&bytes),
        Frame::Passed(out, input) => Some(format!("{} out and {} in went by", wording::size(out), wording::size(input))),
        Frame::Size(..) | Frame::Input(_) | Frame::Output(_) | Frame::ErrorOutput(_) => None,
    }
}

/// Verify a recording: that it is what was written, whole, and the one in the log.
#[utoipa::path(post, path = "/recordings/{id}/verify", operation_id = "verifyRecording", params(("id" = String, Path)), responses((status = 200, body = RecordingReport)))]
pub(super) async fn verify(State(app): State<Arc<App>>, caller: Caller, Path(id): Path<String>) -> Result<Json<RecordingReport>, Problem> {
    let (path, row) = open(&app, &caller, &id, "verified").await?;
    Ok(Json(verify_recording(&app, path, &row).await))
}

/// What a desktop showed from a moment on: from the last whole picture before it. Each message of docs/formats/desktop.md comes with its length (four
/// bytes) and the milliseconds since the beginning (eight bytes) in front of it, most significant byte first.
#[utoipa::path(get, path = "/recordings/{id}/screen", operation_id = "recordedScreen", params(("id" = String, Path), ScreenQuery), responses((status = 200, body = String, content_type = "application/octet-stream")))]
pub(super) async fn screen(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(id): Path<String>,
    Query(q): Query<ScreenQuery>,
) -> Result<Response, Problem> {
    let path = open_piece(&app, &caller, &id).await?;
    let (send, pieces) = mpsc::channel::<Bytes>(PIECES);
    tokio::task::spawn_blocking(move || {
        let (mut piece, mut picture) = (vec![], false);
        let read = read_from(&path, &app.keys, q.from, |f| {
            if picture && f.at_ms > q.until {
                return false;
            }
            let Frame::Desktop(message) = f.frame else { return true };
            picture = true;
            piece.extend((message.len() as u32).to_be_bytes());
            piece.extend(f.at_ms.to_be_bytes());
            piece.extend(message);
            piece.len() < PIECE || send.blocking_send(std::mem::take(&mut piece).into()).is_ok()
        });
        if let Err(e) = read {
            tracing::warn!(error = %e, "a recording does not read to its end");
        }
        let _ = send.blocking_send(piece.into());
    });
    let body = Body::from_stream(ReceiverStream::new(pieces).map(Ok::<_, std::io::Error>));
    Ok(([(CONTENT_TYPE, "application/octet-stream")], body).into_response())
}

/// The stretches of a recorded desktop: where a player may begin, and how much happened. Where nothing happens none begins.
#[utoipa::path(get, path = "/recordings/{id}/stretches", operation_id = "recordedStretches", params(("id" = String, Path)), responses((status = 200, body = Vec<StretchView>)))]
pub(super) async fn stretches(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(id): Path<String>,
) -> Result<Json<Vec<StretchView>>, Problem> {
    let path = open_piece(&app, &caller, &id).await?;
    let places = Place::decode_all(&tokio::fs::read(places_of(&path)).await.unwrap_or_default());
    let end = tokio::fs::metadata(&path).await.map_or(0, |m| m.len());
    let ends = places.iter().skip(1).map(|p| p.offset).chain([end]);
    Ok(Json(places.iter().zip(ends).map(|(p, end)| StretchView { at: p.first_ms, bytes: end.saturating_sub(p.offset) }).collect()))
}

async fn film_view(app: &App, row: &aerie_store::SessionRow) -> Result<Json<FilmView>, Problem> {
    let film = app.store.film(&row.id).await?;
    let (state, reached, failure) = film.map_or(("none".into(), 0, String::new()), |f| (f.state, f.reached, f.failure));
    Ok(Json(FilmView { state, reached, length: row.length_ms, failure }))
}

/// Have a film made of a recorded desktop or terminal (WebM). It is made in the background, and goes on after a restart.
#[utoipa::path(post, path = "/recordings/{id}/film", operation_id = "makeFilm", params(("id" = String, Path)), responses((status = 200, body = FilmView), (status = 404), (status = 422)))]
pub(super) async fn make_film(State(app): State<Arc<App>>, caller: Caller, Path(id): Path<String>) -> Result<Json<FilmView>, Problem> {
    let (_, row) = open(&app, &caller, &id, "exported a film of").await?;
    if row.ended.is_none() || !row.uses.split(' ').any(|u| matches!(u, "view" | "shell" | "exec")) {
        return Err(Problem::not_good("Films are made of sessions that are over, with a desktop or a terminal."));
    }
    app.store.want_film(&id, &caller.person.name, Timestamp::now()).await?;
    app.films.notify_one();
    film_view(&app, &row).await
}

/// How far a film is.
#[utoipa::path(get, path = "/recordings/{id}/film", operation_id = "film", params(("id" = String, Path)), responses((status = 200, body = FilmView), (status = 404)))]
pub(super) async fn film(State(app): State<Arc<App>>, caller: Caller, Path(id): Path<String>) -> Result<Json<FilmView>, Problem> {
    let row = find(&app, &caller, &id).await?;
    film_view(&app, &row).await
}

/// A film that was made (WebM).
#[utoipa::path(get, path = "/recordings/{id}/film.webm", operation_id = "fetchFilm", params(("id" = String, Path)), responses((status = 200, body = String, content_type = "video/webm"), (status = 404)))]
pub(super) async fn fetch_film(State(app): State<Arc<App>>, caller: Caller, Path(id): Path<String>) -> Result<Response, Problem> {
    open(&app, &caller, &id, "fetched the film of").await?;
    let missing = || Problem::not_found("There is no film of it: have one made.");
    app.store.film(&id).await?.filter(|f| f.state == "done").ok_or_else(missing)?;
    let file = tokio::fs::File::open(crate::films::path_of(&app, &id)).await.map_err(|_| missing())?;
    let body = Body::from_stream(tokio_util::io::ReaderStream::new(file));
    let name = format!("attachment; filename=\"{id}.webm\"");
    Ok(([(CONTENT_TYPE, "video/webm".to_string()), (CONTENT_DISPOSITION, name)], body).into_response())
}

/// One picture of a desktop, as PNG (ISO/IEC 15948).
#[utoipa::path(get, path = "/recordings/{id}/picture", operation_id = "recordedPicture", params(("id" = String, Path), PictureQuery), responses((status = 200, body = String, content_type = "image/png"), (status = 404)))]
pub(super) async fn picture(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(id): Path<String>,
    Query(q): Query<PictureQuery>,
) -> Result<Response, Problem> {
    let path = open_piece(&app, &caller, &id).await?;
    let keys = app.keys.clone();
    let drawn = tokio::task::spawn_blocking(move || picture_at(&path, &keys, q.at)).await?;
    let picture = drawn.ok_or_else(|| Problem::not_found("It shows no desktop at that moment."))?;
    let most = q.width.unwrap_or(u16::MAX);
    let png = tokio::task::spawn_blocking(move || crate::desktop::png(&picture, most)).await?.map_err(|e| Problem::internal(&e))?;
    let name = format!("inline; filename=\"{id}-{}.png\"", q.at);
    Ok(([(CONTENT_TYPE, "image/png".to_string()), (CONTENT_DISPOSITION, name)], png).into_response())
}

/// The desktop as it was at a moment.
fn picture_at(path: &std::path::Path, keys: &crate::Keys, at_ms: u64) -> Option<Framebuffer> {
    let mut picture: Option<Framebuffer> = None;
    let read = read_from(path, keys, at_ms, |f| {
        if f.at_ms > at_ms && picture.is_some() {
            return false;
        }
        if let Frame::Desktop(bytes) = f.frame
            && let Some(message) = Message::decode(&bytes)
        {
            match (&message, &mut picture) {
                (Message::Size(w, h), none @ None) => *none = Framebuffer::new(*w, *h).ok(),
                (_, Some(picture)) => drop(picture.show(&message)),
                (_, None) => {}
            }
        }
        true
    });
    read.ok().and(picture)
}
