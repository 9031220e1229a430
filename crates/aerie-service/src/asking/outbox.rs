//! Notices to people: kept first, then delivered by mail and webhook, again and again until they are taken.

use crate::api::new_id;
use crate::keys::KeyError;
use crate::service::App;
use aerie_core::factor::message::{Message, content_digest};
use aerie_core::settings::Setting;
use aerie_store::{Notice, StoreError};
use jiff::{SignedDuration, Timestamp};
use lettre::message::Mailbox;
use lettre::transport::smtp::client::{Tls, TlsParameters};
use lettre::{AsyncSmtpTransport, AsyncTransport as _, Tokio1Executor};
use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::Duration;

/// Notices that are taken up at a time.
const AT_A_TIME: u32 = 50;
/// How long a server has to take a notice.
const PATIENCE: Duration = Duration::from_secs(20);
/// First and longest wait between tries.
const FIRST_WAIT: SignedDuration = SignedDuration::from_secs(5);
const LONGEST_WAIT: SignedDuration = SignedDuration::from_mins(15);
/// Longest error of a server that is kept, in characters.
const LONGEST_FAILURE: usize = 300;

/// The channel of what goes to the ticket desk.
const DESK: &str = "desk";

/// What people are told.
#[derive(Clone, Copy)]
pub(crate) struct Told<'a> {
    /// Stable word.
    pub(crate) kind: &'a str,
    /// Identifier of what it is about.
    pub(crate) about: &'a str,
    pub(crate) subject: &'a str,
    pub(crate) text: &'a str,
}

/// Puts a notice to each of these people into the outbox, and one for all into the webhook's. Nothing is sent here.
pub(crate) async fn tell_people(app: &App, people: &BTreeSet<String>, told: Told<'_>) {
    if let Err(e) = post(app, people, told).await {
        tracing::error!(error = %e, "a notice could not be kept");
    }
    app.asking.posted.notify_one();
}

async fn post(app: &App, people: &BTreeSet<String>, told: Told<'_>) -> Result<(), OutboxError> {
    let (now, settings, rules) = (Timestamp::now(), app.settings(), app.rules.now());
    let mut notices = vec![];
    let notice = |to: (&str, &str), body: String| sealed(app, now, to, (told.kind, told.subject), &body);
    if !settings.text(Setting::MailServer).is_empty() {
        let to = people.iter().filter_map(|p| rules.policy.directory().person(p)).filter(|p| !p.mail.is_empty());
        for p in to {
            notices.push(notice(("mail", &p.mail), told.text.into())?);
        }
    }
    if !settings.text(Setting::Webhook).is_empty() {
        let body = serde_json::json!({
            "kind": told.kind,
            "about": told.about,
            "subject": told.subject,
            "text": told.text,
            "people": people,
            "at": now,
        });
        notices.push(notice(("webhook", ""), body.to_string())?);
    }
    Ok(app.store.post(&notices).await?)
}

/// A notice whose body only this service reads: an invitation that waits for a mail server is as good as a password.
fn sealed(app: &App, now: Timestamp, to: (&str, &str), (kind, subject): (&str, &str), body: &str) -> Result<Notice, OutboxError> {
    let id = new_id(now);
    let sealed = app.keys.seal(body.as_bytes(), &purpose(&id))?;
    Ok(Notice::new(id, now, to, kind, subject, sealed))
}

fn purpose(id: &str) -> String {
    format!("notice {id}")
}

/// Why a notice could not be kept.
#[derive(Debug, thiserror::Error)]
pub(crate) enum OutboxError {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(transparent)]
    Keys(#[from] KeyError),
}

/// Puts the record of a visit into the outbox, for the ticket desk.
pub(crate) async fn tell_desk(app: &App, subject: &str, record: &str) -> Result<(), OutboxError> {
    app.store.post(&[sealed(app, Timestamp::now(), (DESK, ""), ("visit-record", subject), record)?]).await?;
    app.asking.posted.notify_one();
    Ok(())
}

/// Mails something to somebody who has no account here.
pub(crate) async fn mail_to(app: &App, mail: &str, told: Told<'_>) -> Result<(), OutboxError> {
    app.store.post(&[sealed(app, Timestamp::now(), ("mail", mail), (told.kind, told.subject), told.text)?]).await?;
    app.asking.posted.notify_one();
    Ok(())
}

/// Delivers what is due, and waits for more.
pub(crate) async fn deliver(app: Arc<App>) {
    // Whoever came first in this process decided; all use the same.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let client = reqwest::Client::builder().timeout(PATIENCE).redirect(reqwest::redirect::Policy::none()).build();
    let Ok(client) = client else { return tracing::error!("no client for webhooks could be made") };
    loop {
        if let Err(e) = deliver_due(&app, &client).await {
            tracing::error!(error = %e, "the outbox could not be worked through");
        }
        let next = app.store.next_due().await.ok().flatten();
        let wait = next.map_or(Duration::from_secs(3600), |n| {
            Duration::try_from(n.duration_since(Timestamp::now())).unwrap_or(Duration::from_millis(50))
        });
        tokio::select! {
            () = app.asking.posted.notified() => {}
            () = tokio::time::sleep(wait) => {}
            () = app.stopping.cancelled() => return,
        }
    }
}

async fn deliver_due(app: &Arc<App>, client: &reqwest::Client) -> Result<(), StoreError> {
    loop {
        let due = app.store.due(Timestamp::now(), AT_A_TIME).await?;
        if due.is_empty() {
            return Ok(());
        }
        // One server that hangs must not hold up the other kind.
        let (mails, hooks): (Vec<_>, Vec<_>) = due.into_iter().partition(|n| n.channel == "mail");
        let mail = async {
            for n in &mails {
                settle(app, n, opened(app, n, async |body| send_mail(app, n, body).await).await).await?;
            }
            Ok::<_, StoreError>(())
        };
        let hook = async {
            for n in &hooks {
                settle(app, n, opened(app, n, async |body| send_hook(app, client, n, body).await).await).await?;
            }
            Ok::<_, StoreError>(())
        };
        let (a, b) = tokio::join!(mail, hook);
        a.and(b)?;
        app.tell("outbox");
    }
}

/// Sends a notice whose body can be read.
async fn opened(app: &App, n: &Notice, send: impl AsyncFnOnce(String) -> Result<(), String>) -> Result<(), String> {
    let body = app.keys.open(&n.sealed, &purpose(&n.id)).and_then(|b| String::from_utf8(b.to_vec()).ok());
    send(body.ok_or("what it says cannot be decrypted with the keys of this service")?).await
}

async fn settle(app: &App, n: &Notice, result: Result<(), String>) -> Result<(), StoreError> {
    let now = Timestamp::now();
    match result {
        Ok(()) => app.store.delivered(&n.id, now).await,
        Err(why) => {
            let wait = (FIRST_WAIT * 2_i32.saturating_pow(n.tries.min(20))).min(LONGEST_WAIT);
            tracing::warn!(notice = n.id, channel = n.channel, why, "a notice could not be delivered; it is tried again");
            let why: String = aerie_core::diagnostic::printable(&why).chars().take(LONGEST_FAILURE).collect();
            app.store.undelivered(&n.id, &why, now + wait).await
        }
    }
}

/// The server of the settings, with TLS unless it is this machine and told to do without.
fn transport(server: &str) -> Result<AsyncSmtpTransport<Tokio1Executor>, String> {
    let said = |e: &dyn std::fmt::Display| format!("the mail server `{server}`: {e}");
    let (scheme, rest) = server.split_once("://").unwrap_or(("starttls", server));
    let (host, port) = rest.rsplit_once(':').ok_or_else(|| said(&"write host:port"))?;
    let port: u16 = port.parse().map_err(|e| said(&e))?;
    let local = host == "localhost" || host.parse::<std::net::IpAddr>().is_ok_and(|ip| ip.is_loopback());
    let tls = || TlsParameters::new(host.to_string()).map_err(|e| said(&e));
    let tls = match scheme {
        "starttls" => Tls::Required(tls()?),
        "smtps" => Tls::Wrapper(tls()?),
        "smtp" if local => Tls::None,
        _ => return Err(said(&"without TLS it may be on this machine alone")),
    };
    Ok(AsyncSmtpTransport::<Tokio1Executor>::builder_dangerous(host).port(port).tls(tls).timeout(Some(PATIENCE)).build())
}

async fn send_mail(app: &App, n: &Notice, body: String) -> Result<(), String> {
    let settings = app.settings();
    let from: Mailbox = settings.text(Setting::MailFrom).parse().map_err(|e| format!("the sender of notices: {e}"))?;
    let to: Mailbox = n.recipient.parse().map_err(|e| format!("the address {}: {e}", n.recipient))?;
    let domain = from.email.domain().to_string();
    let mail = lettre::Message::builder()
        .message_id(Some(format!("<{}@{domain}>", n.id)))
        .from(from)
        .to(to)
        .subject(&n.subject)
        .header(lettre::message::header::ContentType::TEXT_PLAIN)
        .body(body)
        .map_err(|e| e.to_string())?;
    let send = transport(settings.text(Setting::MailServer))?;
    send.send(mail).await.map(drop).map_err(|e| e.to_string())
}

/// Posts the notice, signed as RFC 9421 has it with the key that signs the log's checkpoints. A receiver that honours
/// `Idempotency-Key` takes it once.
async fn send_hook(app: &App, client: &reqwest::Client, n: &Notice, body: String) -> Result<(), String> {
    let settings = app.settings();
    let url = url::Url::parse(settings.text(if n.channel == DESK { Setting::TicketDesk } else { Setting::Webhook }))
        .map_err(|e| format!("the webhook's address: {e}"))?;
    let authority = match url.port() {
        Some(port) => format!("{}:{port}", url.host_str().unwrap_or_default()),
        None => url.host_str().unwrap_or_default().to_string(),
    };
    let digest = content_digest(body.as_bytes());
    let message = Message {
        method: "POST",
        authority: &authority,
        path: url.path(),
        query: url.query().unwrap_or_default(),
        authorization: "",
        content_digest: Some(&digest),
    };
    let key = app.keys.checkpoint_key().map_err(|e| e.to_string())?;
    let (input, signature) = message.sign(&key, &n.id, Timestamp::now());
    let sent = client
        .post(url.clone())
        .header("content-type", "application/json")
        .header("content-digest", &digest)
        .header("idempotency-key", &n.id)
        .header("signature-input", input)
        .header("signature", signature)
        .body(body)
        .send()
        .await
        // The address may hold a secret of the receiver's.
        .map_err(|e| e.without_url().to_string())?;
    if sent.status().is_success() { Ok(()) } else { Err(format!("the receiver answered {}", sent.status())) }
}
