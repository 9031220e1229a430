//! The part of the tour in which somebody new comes: an invitation, a passkey, SSH keys, and a machine that wants proof.

use super::browser::Browser;
use super::people::People;
use crate::Failure;
use aerie_client::Client;
use serde_json::{Value, json};
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::Duration;
use tokio::io::AsyncBufReadExt as _;
use tokio::process::Command;

type Found = Result<(bool, String), Failure>;

/// Oona, who keeps the archive, at her browser and her terminal.
pub(super) struct Newcomer<'a> {
    pub(super) people: &'a People,
    pub(super) client: &'a Client,
    pub(super) browser: &'a Browser,
}

fn text<'v>(value: &'v Value, key: &str) -> &'v str {
    value.get(key).and_then(Value::as_str).unwrap_or_default()
}

impl Newcomer<'_> {
    fn key(&self, name: &str) -> PathBuf {
        self.people.directory().join(format!("oona-{name}"))
    }

    /// She opens her invitation, sets a password, and enrols a passkey before anything else.
    pub(super) async fn comes(&self) -> Found {
        let invitation = self.client.invite("oona").await?;
        let mailed = self.people.mailed_link("/welcome#").await.ok_or_else(|| Failure::internal("no mail came"))?;
        let b = self.browser;
        b.goto(&mailed).await?;
        b.enter("input[name=password]", "seven grey herons at dawn\n").await?;
        let advice = b.says("[data-testid=advice]", "nothing else is possible before").await?;
        let (closed, _) = b.api("GET", "/machines", json!(null)).await?;
        b.click("[data-testid=add-passkey]").await?;
        b.enter("input[name=label]", "archive laptop\n").await?;
        b.says("[data-testid=passkey-row]", "archive laptop").await?;
        let (open, _) = b.api("GET", "/machines", json!(null)).await?;
        let hidden = invitation.mailed && invitation.link.is_empty();
        Ok((
            hidden && closed == 403 && open == 200,
            format!("The link was mailed to her, and shown to nobody else. {advice} She enrols a passkey, and is in."),
        ))
    }

    /// She signs out, and in again with the passkey alone.
    pub(super) async fn signs_in(&self) -> Found {
        let b = self.browser;
        b.api("POST", "/sign-out", json!({})).await?;
        b.goto(&format!("{}/sign-in", self.people.demo.console)).await?;
        b.click("[data-testid=passkey]").await?;
        b.says("[data-testid=account]", "Oona Sandberg").await?;
        let (_, me) = b.api("GET", "/me", json!(null)).await?;
        let factors: Vec<&str> = me.get("factors").and_then(Value::as_array).into_iter().flatten().filter_map(Value::as_str).collect();
        Ok((factors.contains(&"passkey"), format!("No name, no password: she proved {}.", aerie_core::wording::list(&factors))))
    }

    async fn keygen(&self, file: &Path, kind: &[&str]) -> Result<(), Failure> {
        let _ = std::fs::remove_file(file);
        let made = Command::new("ssh-keygen").args(["-q", "-N", "", "-C", "oona"]).args(kind).arg("-f").arg(file).status().await;
        if made.is_ok_and(|s| s.success()) { Ok(()) } else { Err(Failure::internal("ssh-keygen made no key")) }
    }

    /// Registers a key with a signature over the service's question: status and what the service says.
    async fn register(&self, file: &Path) -> Result<(u64, Value), Failure> {
        let (_, question) = self.browser.api("POST", "/me/keys/question", json!({})).await?;
        let asked = self.people.directory().join("question");
        let failed = |e: std::io::Error| Failure::file("a temporary file", &e);
        std::fs::write(&asked, text(&question, "text")).map_err(failed)?;
        let _ = std::fs::remove_file(asked.with_extension("sig"));
        let signed = Command::new("ssh-keygen")
            .args(["-q", "-Y", "sign", "-n", text(&question, "namespace"), "-f"])
            .arg(file)
            .arg(&asked)
            .status()
            .await;
        if !signed.is_ok_and(|s| s.success()) {
            return Err(Failure::internal("ssh-keygen did not sign"));
        }
        let body = json!({
            "public": std::fs::read_to_string(file.with_extension("pub")).map_err(failed)?, "label": "archive laptop", "expires": null,
            "text": text(&question, "text"), "signature": std::fs::read_to_string(asked.with_extension("sig")).map_err(failed)?,
        });
        self.browser.api("POST", "/me/keys", body).await
    }

    /// A weak key is refused, a good one registered.
    pub(super) async fn keys(&self) -> Found {
        let (weak, good) = (self.key("weak"), self.key("first"));
        self.keygen(&weak, &["-t", "rsa", "-b", "2048"]).await?;
        self.keygen(&good, &["-t", "ed25519"]).await?;
        let (status, problem) = self.register(&weak).await?;
        let said = text(&problem, "detail").to_string();
        let (registered, _) = self.register(&good).await?;
        Ok((status == 422 && registered == 200, format!("{said} Her Ed25519 key is registered, with proof that she has it.")))
    }

    /// The archive wants her passkey in the terminal too: she confirms the number that it shows in the browser.
    pub(super) async fn steps_up(&self, key: &str) -> Found {
        let mut ssh = Command::new("ssh");
        ssh.args(["-F", &self.people.demo.ssh.config, "-o", "IdentitiesOnly=yes", "-i"])
            .arg(self.key(key))
            .args(["oona+archive-db@aerie", "hostname"]);
        ssh.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped()).kill_on_drop(true);
        let mut child = ssh.spawn().map_err(|e| Failure::file("ssh", &e))?;
        let mut lines = tokio::io::BufReader::new(child.stderr.take().ok_or_else(|| Failure::internal("no pipe"))?).lines();
        let mut shown = String::new();
        while !shown.contains("the number ") {
            let line = tokio::time::timeout(Duration::from_secs(30), lines.next_line()).await;
            let line = line
                .ok()
                .and_then(Result::ok)
                .flatten()
                .ok_or_else(|| Failure::internal(format!("the terminal shows no link: {shown}")))?;
            shown = format!("{shown} {}", line.trim());
        }
        let link = shown.split_whitespace().find(|w| w.contains("/confirm/")).unwrap_or_default().to_string();
        let number: String = shown.split("the number ").nth(1).unwrap_or_default().chars().take(2).collect();
        self.browser.goto(&link).await?;
        self.browser.says("section", "Oona Sandberg signs in to archive-db").await?;
        self.browser.enter("input[name=number]", &format!("{number}\n")).await?;
        self.browser.says("[data-testid=confirmed]", "Confirmed").await?;
        let done = tokio::time::timeout(Duration::from_secs(60), child.wait_with_output()).await;
        let output = done.map_err(|_| Failure::internal("ssh did not go on"))?.map_err(|e| Failure::file("ssh", &e))?;
        let host = String::from_utf8_lossy(&output.stdout).trim().to_string();
        Ok((host == "archive-db", format!("The terminal showed a link and {number}; confirmed in the browser, it went on to {host}.")))
    }

    /// A new key is added and used; then the old one is proposed for removal, and removed.
    pub(super) async fn rotates(&self) -> Found {
        let second = self.key("second");
        self.keygen(&second, &["-t", "ed25519"]).await?;
        self.register(&second).await?;
        let (worked, _) = self.steps_up("second").await?;
        self.browser.goto(&format!("{}/account", self.people.demo.console)).await?;
        let said = self.browser.says("[data-testid=key-row]", "To be removed").await?;
        self.browser.click("[data-testid=key-row] button").await?;
        self.browser.says("[data-testid=key-row]", "ssh-ed25519").await?;
        let left = async || -> Result<usize, Failure> { Ok(self.client.person("oona").await?.ssh_keys.len()) };
        let mut keys = left().await?;
        for _ in 0..200 {
            if keys == 1 {
                break;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
            keys = left().await?;
        }
        let why = said.split("To be removed").nth(1).unwrap_or_default();
        Ok((worked && keys == 1, format!("The new key works; of the old one her account says: to be removed{why} It is.")))
    }
}
