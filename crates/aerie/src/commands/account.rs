//! Signing in and out, and where the token is kept.

use crate::output::{Printer, can_ask};
use crate::{Exit, Failure};
use aerie_client::Client;
use serde::{Deserialize, Serialize};
use std::io::{BufRead as _, Write as _};
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::PathBuf;

/// Environment variable that may hold a token; a token on the command line could be read by everybody on the machine.
const TOKEN_VARIABLE: &str = "AERIE_TOKEN";

#[derive(Serialize, Deserialize)]
struct Kept {
    server: String,
    token: String,
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
    format!("http://{}", aerie_service::DEFAULT_HTTP)
}

/// A client with the token that was kept for that service.
pub(super) fn client(server: Option<&str>) -> Result<Client, Failure> {
    let kept = kept();
    let server = server.map(Into::into).or_else(|| kept.as_ref().map(|k| k.server.clone())).unwrap_or_else(default_server);
    let token = std::env::var(TOKEN_VARIABLE).ok().or_else(|| kept.filter(|k| k.server == server).map(|k| k.token));
    match token {
        Some(token) => Ok(Client::new(&server, Some(token))),
        None => Err(Failure {
            exit: Exit::SignIn,
            message: format!("nobody is signed in to {server}: run `aerie sign-in NAME`, or set {TOKEN_VARIABLE}"),
        }),
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

pub(super) async fn sign_in(server: Option<&str>, person: &str, printer: Printer) -> Result<Exit, Failure> {
    let server = server.map_or_else(|| kept().map_or_else(default_server, |k| k.server), Into::into);
    let password = secret("Password: ")?;
    let code = secret("Code: ")?;
    let mut me = Client::new(&server, None).sign_in(person, &password, &code).await?;
    let token = me.token.take().ok_or_else(|| Failure::internal("the service gave no token"))?;
    keep(&Kept { server: server.clone(), token })?;
    printer.value(&me, |m| format!("Signed in to {server} as {} until {}.", m.full_name, m.until.strftime("%Y-%m-%d %H:%M UTC")))?;
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
