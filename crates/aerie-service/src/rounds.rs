//! What is done again and again while the service runs.

use crate::service::App;
use jiff::Timestamp;
use std::sync::Arc;
use std::time::Duration;
use tokio::time::Interval;
use tokio_util::sync::CancellationToken;

/// How often the log is signed.
const SIGNED: Duration = Duration::from_secs(300);
/// How often everything is held against the detections, besides whenever a log was read.
const LOOKED_AT: Duration = Duration::from_secs(3600);
/// How often what is over is swept.
const SWEPT: Duration = Duration::from_secs(60);

/// Rounds that begin at an interval until the service stops.
pub(crate) struct Rounds {
    tick: Interval,
    stopping: CancellationToken,
}

impl Rounds {
    /// The first begins at once.
    pub(crate) fn new(app: &App, every: Duration) -> Self {
        Self { tick: tokio::time::interval(every), stopping: app.stopping.clone() }
    }

    /// The first begins after the interval.
    fn later(app: &App, every: Duration) -> Self {
        Self { tick: tokio::time::interval_at(tokio::time::Instant::now() + every, every), stopping: app.stopping.clone() }
    }

    /// Waits for the next, and gives the time; none when the service stops.
    pub(crate) async fn next(&mut self) -> Option<Timestamp> {
        tokio::select! {
            _ = self.tick.tick() => Some(Timestamp::now()),
            () = self.stopping.cancelled() => None,
        }
    }
}

/// Holds everything against the detections, and opens what was accepted until now.
pub(crate) async fn look(app: Arc<App>) {
    let mut rounds = Rounds::later(&app, LOOKED_AT);
    while let Some(now) = rounds.next().await {
        if let Err(e) = crate::audit::look_again(&app).await {
            tracing::error!(error = %e, "accesses could not be held against the detections");
        }
        if let Err(e) = crate::audit::integrity::look_at_integrity(&app, now).await {
            tracing::error!(error = %e, "log and recordings could not be held against what was signed");
        }
        match app.store.end_acceptances(now).await {
            Ok(opened) if opened.is_empty() => {}
            Ok(_) => app.tell("findings"),
            Err(e) => tracing::error!(error = %e, "findings that were accepted could not be opened again"),
        }
    }
}

/// Sweeps what is over, mails the reports that are due, and renews the certificate in time.
pub(crate) async fn sweep(app: Arc<App>) {
    let mut rounds = Rounds::new(&app, SWEPT);
    while let Some(now) = rounds.next().await {
        if let Err(e) = app.sweep(now).await {
            tracing::error!(error = %e, "what is over could not be swept");
        }
        if let Err(e) = crate::audit::report::mail_due(&app, now).await {
            tracing::error!(error = %e, "reports could not be mailed");
        }
        if let Err(e) = app.renew_tls(now) {
            tracing::error!(error = %e, "the certificate could not be renewed");
        }
    }
}

/// Signs the log, and reminds of reviews.
pub(crate) async fn sign(app: Arc<App>) {
    let mut rounds = Rounds::later(&app, SIGNED);
    while let Some(now) = rounds.next().await {
        if let Err(e) = app.log.checkpoint(now).await {
            tracing::error!(error = %e, "the log could not be signed");
        }
        if let Err(e) = crate::api::remind(&app, now).await {
            tracing::error!(error = %e, "a review could not be reminded of");
        }
    }
}
