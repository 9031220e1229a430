use super::caller::Caller;
use crate::service::App;
use axum::extract::State;
use axum::response::sse::{Event, KeepAlive, Sse};
use std::convert::Infallible;
use std::sync::Arc;
use tokio_stream::wrappers::BroadcastStream;
use tokio_stream::{Stream, StreamExt as _};

/// What changes, as it changes (server-sent events): `sessions`, `findings`, `log`, `rules`.
#[utoipa::path(get, path = "/updates", operation_id = "updates", responses((status = 200, body = String, content_type = "text/event-stream")))]
pub(super) async fn updates(State(app): State<Arc<App>>, _: Caller) -> Sse<impl Stream<Item = Result<Event, Infallible>>> {
    let stopping = app.stopping.clone();
    // Whoever falls behind looks at everything anew.
    let changes =
        BroadcastStream::new(app.updates.subscribe()).map(|change| Ok(Event::default().event("change").data(change.unwrap_or("all"))));
    let (send, receive) = tokio::sync::mpsc::channel(16);
    tokio::spawn(async move {
        tokio::pin!(changes);
        loop {
            let next = tokio::select! { n = changes.next() => n, () = stopping.cancelled() => None, () = send.closed() => None };
            let Some(event) = next else { return };
            if send.send(event).await.is_err() {
                return;
            }
        }
    });
    Sse::new(tokio_stream::wrappers::ReceiverStream::new(receive)).keep_alive(KeepAlive::default())
}
