//! One's own account: how one signs in, keys, tokens, and where one is signed in.

use super::account::{client, replace_token, secret};
use super::people::{devices as device_table, passkeys, ssh_keys, tokens as token_table, when};
use crate::cli::{Devices, Factors, Keys, Tokens};
use crate::output::Printer;
use crate::{Exit, Failure};
use aerie_api::{AccountView, CodeProof, Me, NewApiToken, NewSshKey, PasswordChange};
use aerie_client::Client;
use std::path::Path;
use std::process::{Command, Stdio};

pub(super) async fn factors(server: Option<&str>, what: Factors, printer: Printer) -> Result<Exit, Failure> {
    let client = client(server)?;
    match what {
        Factors::List => printer.value(&client.account().await?, account)?,
        Factors::Password => {
            let current = secret("Password now (empty where a code was proved lately): ")?;
            let new = secret("New password: ")?;
            let given = PasswordChange { current: Some(current).filter(|c| !c.is_empty()), new };
            done(server, client.change_password(&given).await?, "The password is set; everywhere else you are signed out.", printer)?;
        }
        Factors::Code => enrol_code(server, &client, printer).await?,
        Factors::RecoveryCodes => printer.value(&client.make_recovery_codes().await?, |c| {
            format!(
                "{}\n\nPrint these or keep them where only you can read them. Each is good once; they are not shown again.",
                c.codes.join("\n")
            )
        })?,
        Factors::Remove { factor } if factor == "code" => {
            client.remove_code().await?;
            printer.remark("Codes are given up.");
        }
        Factors::Remove { factor } => {
            client.remove_passkey(&factor).await?;
            printer.remark("The passkey is removed.");
        }
    }
    Ok(Exit::Done)
}

fn done(server: Option<&str>, me: Me, said: &str, printer: Printer) -> Result<(), Failure> {
    replace_token(server, &me)?;
    printer.value(&Me { token: None, ..me }, |_| said.into())
}

async fn enrol_code(server: Option<&str>, client: &Client, printer: Printer) -> Result<(), Failure> {
    let offer = client.offer_code().await?;
    printer.remark(&format!("{}\nScan it with an authenticator app, or type the secret: {}\n", qr(&offer.qr), offer.secret));
    let code = secret("The code that the app shows: ")?;
    let me = client.enrol_code(&CodeProof { secret: offer.secret, code }).await?;
    done(server, me, "You sign in with codes from now on. Make recovery codes: `aerie factors recovery-codes`.", printer)
}

/// A QR code for a terminal: two rows of modules in a line, with the quiet zone that scanners need (ISO/IEC 18004 section 9.1).
/// It is drawn in dark on light whatever the terminal's colours are.
fn qr(rows: &[String]) -> String {
    const QUIET: usize = 4;
    let dark = |x: usize, y: usize| {
        let at = |n: usize| n.checked_sub(QUIET);
        at(y).zip(at(x)).and_then(|(y, x)| rows.get(y)?.as_bytes().get(x)).is_some_and(|b| *b == b'1')
    };
    let size = rows.len() + 2 * QUIET;
    let mut text = String::new();
    for y in (0..size).step_by(2) {
        text.push_str("\u{1b}[38;2;0;0;0;48;2;255;255;255m");
        for x in 0..size {
            text.push(match (dark(x, y), dark(x, y + 1)) {
                (true, true) => '\u{2588}',
                (true, false) => '\u{2580}',
                (false, true) => '\u{2584}',
                (false, false) => ' ',
            });
        }
        text.push_str("\u{1b}[0m\n");
    }
    text
}

fn account(a: &AccountView) -> String {
    let mut lines = vec![a.detail.sentence.clone()];
    if !a.advice.is_empty() {
        lines.push(a.advice.clone());
    }
    let password = match (a.password, a.password_set) {
        (false, _) => "none".into(),
        (true, at) => format!("set {}", when(at)),
    };
    lines.push(String::new());
    lines.push(format!("password        {password}"));
    lines.push(format!("codes           {}", if a.code { "enrolled" } else { "not enrolled: aerie factors code" }));
    lines.push(format!("recovery codes  {} left", a.detail.recovery_codes));
    lines.extend(
        [passkeys(&a.detail), ssh_keys(&a.detail), device_table(&a.detail), token_table(&a.detail)]
            .into_iter()
            .flatten()
            .map(|t| format!("\n{t}")),
    );
    lines.join("\n")
}

pub(super) async fn keys(client: &Client, what: Keys, printer: Printer) -> Result<Exit, Failure> {
    match what {
        Keys::List => {
            let account = client.account().await?;
            printer.value(&account.detail.ssh_keys, |_| {
                ssh_keys(&account.detail).unwrap_or_else(|| "You have no SSH key: aerie keys add FILE".into())
            })?;
        }
        Keys::Add { file, label, expires } => {
            let public = public_key(&file)?;
            let question = client.key_question().await?;
            let signature = sign(&file, &question.namespace, &question.text)?;
            let comment = public.split_whitespace().nth(2).unwrap_or("key").to_string();
            let key = NewSshKey { public, label: label.unwrap_or(comment), expires, text: question.text, signature };
            let all = client.register_key(&key).await?;
            printer.value(&all, |all| {
                let old: Vec<&str> =
                    all.iter().filter(|k| k.label == key.label && k.remove_because.is_none()).map(|k| k.fingerprint.as_str()).collect();
                let next = if old.len() > 1 { " Use it once; then the earlier one of that name is proposed for removal." } else { "" };
                format!("The key `{}` is registered.{next}", key.label)
            })?;
        }
        Keys::Remove { fingerprint } => {
            client.remove_key(&fingerprint).await?;
            printer.remark("The key is removed.");
        }
    }
    Ok(Exit::Done)
}

/// The public key beside a private one, or the file itself.
fn public_key(file: &Path) -> Result<String, Failure> {
    let beside = file.with_extension("pub");
    let read = |path: &Path| std::fs::read_to_string(path).map_err(|e| Failure::file(path.display(), &e));
    let text = if file.extension().is_some_and(|e| e == "pub") {
        read(file)?
    } else if beside.exists() {
        read(&beside)?
    } else {
        derived(file)?
    };
    Ok(text.trim().to_string())
}

/// The public half of a private key, as ssh-keygen gives it.
fn derived(file: &Path) -> Result<String, Failure> {
    let out = Command::new("ssh-keygen").arg("-y").arg("-f").arg(file).stderr(Stdio::inherit()).output();
    let out = out.map_err(|e| Failure::file("ssh-keygen", &e))?;
    if out.status.success() {
        Ok(String::from_utf8_lossy(&out.stdout).into_owned())
    } else {
        Err(Failure::usage(format!("ssh-keygen cannot read the key {}", file.display())))
    }
}

/// A signature by ssh-keygen, which asks for passphrase, agent or touch by itself.
fn sign(file: &Path, namespace: &str, text: &str) -> Result<String, Failure> {
    let failed = |e: std::io::Error| Failure::file("ssh-keygen", &e);
    let directory = tempfile::tempdir().map_err(failed)?;
    let path = directory.path().join("question");
    std::fs::write(&path, text).map_err(failed)?;
    let status =
        Command::new("ssh-keygen").args(["-q", "-Y", "sign", "-n", namespace, "-f"]).arg(file).arg(&path).stdin(Stdio::inherit()).status();
    if !status.map_err(failed)?.success() {
        return Err(Failure::usage(format!("ssh-keygen could not sign with {}", file.display())));
    }
    std::fs::read_to_string(path.with_extension("sig")).map_err(failed)
}

pub(super) async fn tokens(client: &Client, what: Tokens, printer: Printer) -> Result<Exit, Failure> {
    match what {
        Tokens::List => {
            let account = client.account().await?;
            printer.value(&account.detail.tokens, |_| token_table(&account.detail).unwrap_or_else(|| "You have no tokens.".into()))?;
        }
        Tokens::Add { name, scopes, days, key } => {
            let key = key.as_deref().map(public_key).transpose()?;
            let bound = key.is_some();
            let made = client.make_token(&NewApiToken { name, scopes, days, key }).await?;
            printer.value(&made, |t| {
                let how = if bound {
                    "Set AERIE_TOKEN to it, and AERIE_TOKEN_KEY to the file of the private key."
                } else {
                    "Set AERIE_TOKEN to it."
                };
                format!("{}\n\nIt is not shown again. {how} It is good until {} UTC.", t.secret, when(Some(t.token.expires)))
            })?;
        }
        Tokens::Withdraw { id } => {
            client.end_device(&id).await?;
            printer.remark("The token is withdrawn.");
        }
    }
    Ok(Exit::Done)
}

pub(super) async fn devices(client: &Client, what: Devices, printer: Printer) -> Result<Exit, Failure> {
    match what {
        Devices::List => {
            let account = client.account().await?;
            printer
                .value(&account.detail.devices, |_| device_table(&account.detail).unwrap_or_else(|| "You are signed in nowhere.".into()))?;
        }
        Devices::End { id } => {
            client.end_device(&id).await?;
            printer.remark("That place is signed out.");
        }
        Devices::EndOthers => {
            client.sign_out_elsewhere().await?;
            printer.remark("Everywhere else you are signed out.");
        }
    }
    Ok(Exit::Done)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_qr_code_has_its_quiet_zone() {
        let rows = vec!["1".repeat(21); 21];
        let text = qr(&rows);
        let lines: Vec<&str> =
            text.lines().map(|l| l.trim_start_matches("\u{1b}[38;2;0;0;0;48;2;255;255;255m").trim_end_matches("\u{1b}[0m")).collect();
        assert_eq!(lines.len(), 15);
        assert!(lines[..2].iter().all(|l| l.chars().count() == 29 && l.trim().is_empty()));
        assert_eq!(lines[2], format!("    {}    ", "\u{2588}".repeat(21)));
    }
}
