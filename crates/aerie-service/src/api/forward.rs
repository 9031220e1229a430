//! Ports of machines over HTTPS, for whoever has no other way.

use super::agents::{socket, switching, upgrade_of};
use super::caller::Caller;
use super::desktop::stated;
use super::problem::Problem;
use crate::gateway::Ports;
use crate::service::App;
use aerie_api::ForwardQuery;
use aerie_store::TokenKind;
use axum::extract::{Path, Query, Request, State};
use axum::response::Response;
use std::sync::Arc;
use tokio_util::sync::CancellationToken;

/// Forward a TCP service of a machine: a WebSocket that carries the tunnel's protocol (docs/formats/agent.md), with a session of
/// its own.
#[utoipa::path(get, path = "/machines/{name}/forward", operation_id = "forward", params(("name" = String, Path), ForwardQuery), responses((status = 101, description = "The tunnel's protocol begins"), (status = 403), (status = 404)))]
pub(super) async fn forward(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(name): Path<String>,
    Query(query): Query<ForwardQuery>,
    mut request: Request,
) -> Result<Response, Problem> {
    caller.must_be_full()?;
    // Another site's page could make a browser open this, with the cookie of whoever looks at it.
    if caller.entry.token.kind != TokenKind::Client {
        return Err(Problem::not_allowed("Ports are forwarded by `aerie forward`, signed in with `aerie sign-in`."));
    }
    let refused = || Problem::not_allowed(format!("No rule lets you forward ports of {name}, or it has no such way."));
    let machine = app.rules.now().policy.directory().machine(&name).cloned().ok_or_else(refused)?;
    let way = machine.way(&query.way).cloned().ok_or_else(refused)?;
    let by = caller.signed_in_by().ok_or_else(Problem::sign_in_first)?;
    let (upgrade, key) = upgrade_of(&mut request)?;
    // It may wait for others; whoever leaves meanwhile is waited for no longer.
    let left = CancellationToken::new();
    let here = left.clone().drop_guard();
    let (beginning, said) = (app.clone(), (query.reason.and_then(stated), query.ticket.and_then(stated)));
    let begin = async move { Ports::begin(&beginning, by, machine, way, said, left).await };
    let ports = app.tasks.spawn(begin).await?.map_err(Problem::not_allowed)?;
    here.disarm();
    app.tasks.spawn(async move {
        match socket(upgrade).await {
            Some(socket) => ports.serve(socket).await,
            None => ports.give_up(),
        }
    });
    Ok(switching(&key))
}
