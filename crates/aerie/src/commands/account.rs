//! Signing in and out, and where the token is kept.

use crate::output::{Printer, can_ask};
use crate::{Exit, Failure};
use aerie_api::{InvitationTaken, Me};
use aerie_client::{Client, RequestKey};
use serde::{Deserialize, Serialize};
use std::io::{BufRead as _, Write as _};
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::PathBuf;

/// Environment variable that may hold a token; a token on the command line could be read by everybody on the machine.
const TOKEN_VARIABLE: &str = "AERIE_TOKEN";

/// Environment variable that may hold the file of the Ed25519 key that a token is bound to.
const KEY_VARIABLE: &str = "AERIE_TOKEN_KEY";

#[derive(Serialize, Deserialize)]
struct Kept {
    server: String,
    token: String,
    /// Fingerprint of the service's own authority, where it is not a public one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    authority: Option<String>,
}

fn file() -> PathBuf {
    let base = std::env::var_os("XDG_CONFIG_HOME")
        .map(PathBuf::from)
        .or_else(|| std::env::var_os("HOME").map(|h| PathBuf::from(h).join(".config")));
    base.unwrap_or_else(|| PathBuf::from(".")).join("aerie/client.json")
}

fn kept() -> Option<Kept> {
    serde_json::from_slice(&std::fs::read(file()).ok()?).ok()
}

fn default_server() -> String {
    format!("https://{}", aerie_service::DEFAULT_HTTPS.replace("127.0.0.1", "localhost"))
}

/// Which service is meant, and whose certificates it shows.
fn meant(server: Option<&str>, authority: Option<String>) -> (String, Option<String>) {
    let kept = kept();
    let server = server.map(Into::into).or_else(|| kept.as_ref().map(|k| k.server.clone())).unwrap_or_else(default_server);
    let authority = authority.or_else(|| kept.filter(|k| k.server == server).and_then(|k| k.authority));
    (server, authority)
}

/// A client with the token that was kept for that service.
pub(super) fn client(server: Option<&str>) -> Result<Client, Failure> {
    let (server, authority) = meant(server, None);
    let token = std::env::var(TOKEN_VARIABLE).ok().or_else(|| kept().filter(|k| k.server == server).map(|k| k.token));
    let Some(token) = token else {
        return Err(Failure {
            exit: Exit::SignIn,
            message: format!("nobody is signed in to {server}: run `aerie sign-in NAME`, or set {TOKEN_VARIABLE}"),
        });
    };
    let client = Client::trusting(&server, Some(token), authority.as_deref());
    match std::env::var_os(KEY_VARIABLE) {
        Some(file) => Ok(client.with_key(request_key(std::path::Path::new(&file))?)),
        None => Ok(client),
    }
}

/// The Ed25519 key in a file, for signing requests.
fn request_key(file: &std::path::Path) -> Result<RequestKey, Failure> {
    let text = std::fs::read_to_string(file).map_err(|e| Failure::file(file.display(), &e))?;
    let key = russh::keys::decode_secret_key(&text, None);
    let seed = key.ok().and_then(|k| k.key_data().ed25519().map(|e| e.private.to_bytes()));
    seed.map(|s| RequestKey::from_seed(&s))
        .ok_or_else(|| Failure::usage(format!("{} is no Ed25519 key without passphrase", file.display())))
}

/// Keeps the token of somebody who signed in, and says what comes next.
pub(super) fn keep_me(server: &str, authority: Option<String>, mut me: Me, printer: Printer) -> Result<Exit, Failure> {
    let token = me.token.take().ok_or_else(|| Failure::internal("the service gave no token"))?;
    keep(&Kept { server: server.into(), token, authority })?;
    printer.value(&me, |m| {
        let until = m.until.strftime("%Y-%m-%d %H:%M UTC");
        let message = if m.message.is_empty() { String::new() } else { format!("\n\n{}", m.message) };
        match m.stage.as_str() {
            "enrolling" => format!(
                "Signed in to {server} as {}. A second factor is needed before anything else: run `aerie factors code`.",
                m.full_name
            ),
            _ => format!("Signed in to {server} as {} until {until}, or half an hour without use.{message}", m.full_name),
        }
    })?;
    Ok(Exit::Done)
}

/// Replaces the kept token with that of a step up.
pub(super) fn replace_token(server: Option<&str>, me: &Me) -> Result<(), Failure> {
    let (server, authority) = meant(server, None);
    match (&me.token, std::env::var_os(TOKEN_VARIABLE)) {
        (Some(token), None) => keep(&Kept { server, token: token.clone(), authority }),
        _ => Ok(()),
    }
}

/// A secret from the terminal without echo, or a line of standard input.
pub(super) fn secret(prompt: &str) -> Result<String, Failure> {
    if can_ask() {
        return rpassword::prompt_password(prompt).map_err(|e| Failure::file("the terminal", &e));
    }
    let mut line = String::new();
    std::io::stdin().lock().read_line(&mut line).map_err(|e| Failure::file("standard input", &e))?;
    Ok(line.trim_end_matches(['\r', '\n']).to_string())
}

pub(super) async fn sign_in(server: Option<&str>, authority: Option<String>, person: &str, printer: Printer) -> Result<Exit, Failure> {
    let (server, authority) = meant(server, authority);
    let password = secret("Password: ")?;
    let code = secret("Code (of the app, or a recovery code; empty where you have none): ")?;
    let me = Client::trusting(&server, None, authority.as_deref()).sign_in(person, &password, &code).await?;
    if me.stage == "proving" {
        return Err(Failure {
            exit: Exit::SignIn,
            message: format!(
                "a code is needed here, and you have enrolled {}: take one from your app, or enrol an app or make recovery codes on your own account's page, {server}/account",
                me.wanted.join(", ")
            ),
        });
    }
    keep_me(&server, authority, me, printer)
}

/// Takes an invitation. Its link is asked for, since a command line can be read by everybody on the machine.
pub(super) async fn join(server: Option<&str>, authority: Option<String>, printer: Printer) -> Result<Exit, Failure> {
    let link = secret("Link: ")?;
    let (address, link_secret) = link.split_once("/welcome#").ok_or_else(|| Failure::usage("this is no link of an invitation"))?;
    let server = server.map_or_else(|| address.to_string(), Into::into);
    let (server, authority) = meant(Some(&server), authority);
    let client = Client::trusting(&server, None, authority.as_deref());
    let facts = client.open_invitation(link_secret).await?;
    let mut taken = InvitationTaken { secret: link_secret.into(), password: String::new(), person: None, full_name: None, token: true };
    if facts.person.is_empty() {
        printer.remark("Nobody is here yet: you are the first administrator.");
        taken.person = Some(line("Your name for signing in (small letters): ")?);
        taken.full_name = Some(line("Your name as people write it: ")?);
    } else {
        printer.remark(&format!("{} invites {} ({}).", facts.by, facts.full_name, facts.person));
    }
    taken.password = secret(&format!("New password, at least {} characters: ", facts.password_length))?;
    let me = client.take_invitation(&taken).await?;
    keep_me(&server, authority, me, printer)
}

/// A line that may be seen.
fn line(prompt: &str) -> Result<String, Failure> {
    if can_ask() {
        eprint!("{prompt}");
    }
    let mut line = String::new();
    std::io::stdin().lock().read_line(&mut line).map_err(|e| Failure::file("standard input", &e))?;
    Ok(line.trim().to_string())
}

/// Proves a code again.
pub(super) async fn step_up(server: Option<&str>, printer: Printer) -> Result<Exit, Failure> {
    let me = client(server)?.step_up(&secret("Code: ")?).await?;
    replace_token(server, &me)?;
    printer.value(&Me { token: None, ..me }, |m| format!("{} proved themselves again.", m.full_name))?;
    Ok(Exit::Done)
}

fn keep(kept: &Kept) -> Result<(), Failure> {
    let path = file();
    let failed = |e: std::io::Error| Failure::file(path.display(), &e);
    if let Some(parent) = path.parent() {
        std::fs::create_dir_all(parent).map_err(failed)?;
    }
    let _ = std::fs::remove_file(&path);
    let mut out = std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(&path).map_err(failed)?;
    out.write_all(&serde_json::to_vec_pretty(kept).map_err(|e| Failure::internal(e.to_string()))?).map_err(failed)
}

pub(super) async fn sign_out(server: Option<&str>, printer: Printer) -> Result<Exit, Failure> {
    let client = client(server)?;
    let gone = client.sign_out().await;
    let _ = std::fs::remove_file(file());
    gone?;
    printer.remark("Signed out.");
    Ok(Exit::Done)
}
