//! Whether the service can do its work, and what clients must know to trust it: for anybody.

use super::problem::Problem;
use crate::service::App;
use aerie_api::{HealthCheck, HealthView, ServiceTrust};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use jiff::Timestamp;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// A result is given again for so long: strangers may ask, and looking writes to the disk.
const GOOD_FOR: Duration = Duration::from_secs(5);
/// Room that the disk must have: the log and every recording stop without it.
const LEAST_ROOM: u64 = 64 << 20;

/// The last result.
#[derive(Debug, Default)]
pub(crate) struct Health(tokio::sync::Mutex<Option<(Instant, HealthView)>>);

impl Health {
    async fn look(&self, app: &App) -> HealthView {
        let mut last = self.0.lock().await;
        if let Some((_, view)) = last.as_ref().filter(|(at, _)| at.elapsed() < GOOD_FOR) {
            return view.clone();
        }
        let view = look(app).await;
        *last = Some((Instant::now(), view.clone()));
        view
    }
}

async fn look(app: &App) -> HealthView {
    let database = app.store.probe(Timestamp::now()).await.is_ok();
    let log = app.log.is_writable();
    let (data, recordings) = (app.config.data.clone(), app.config.recordings());
    let (room, recorder) = tokio::task::spawn_blocking(move || {
        let room = nix::sys::statvfs::statvfs(&data).is_ok_and(|s| s.blocks_available().saturating_mul(s.fragment_size()) >= LEAST_ROOM);
        let probe = recordings.join(".probe");
        let written = std::fs::write(&probe, b"probe").is_ok();
        (room, std::fs::remove_file(&probe).is_ok() && written)
    })
    .await
    .unwrap_or_default();
    let recorder = recorder && app.recorder.is_running();
    let checks = [("database", database), ("event-log", log), ("disk-space", room), ("recorder", recorder)];
    let ready = checks.iter().all(|c| c.1) && !app.stopping.is_cancelled();
    HealthView {
        status: if ready { "ready" } else { "not-ready" }.into(),
        checks: checks.into_iter().map(|(name, ok)| HealthCheck { name: name.into(), ok }).collect(),
    }
}

/// Whether the service can do its work: 200 when it is ready, 503 when it is not.
#[utoipa::path(get, path = "/health", operation_id = "health", responses((status = 200, body = HealthView), (status = 503, body = HealthView)))]
pub(super) async fn health(State(app): State<Arc<App>>) -> (StatusCode, Json<HealthView>) {
    let view = app.health.look(&app).await;
    let status = if view.status == "ready" { StatusCode::OK } else { StatusCode::SERVICE_UNAVAILABLE };
    (status, Json(view))
}

/// Public keys and certificates with which clients recognise the service.
#[utoipa::path(get, path = "/trust", operation_id = "trust", responses((status = 200, body = ServiceTrust)))]
pub(super) async fn trust(State(app): State<Arc<App>>) -> Result<Json<ServiceTrust>, Problem> {
    let (host, machines) = (app.keys.host()?, app.keys.host_authority()?);
    let line = |key: &russh::keys::PrivateKey| key.public_key().to_openssh().unwrap_or_default();
    let authority = app.keys.tls_authority_pem();
    Ok(Json(ServiceTrust {
        tls_authority_fingerprint: authority.as_deref().and_then(crate::keys::certificate_fingerprint).unwrap_or_default(),
        tls_authority: authority.unwrap_or_default(),
        gateway_fingerprint: crate::keys::fingerprint(host.public_key()),
        gateway_host_key: line(&host),
        gateway_older_host_key: match app.settings().flag(aerie_core::settings::Setting::OlderClients) {
            true => Some(line(&app.keys.host_for_old_clients()?)),
            false => None,
        },
        machines_authority_fingerprint: crate::keys::fingerprint(machines.public_key()),
        machines_authority: line(&machines),
    }))
}
