//! What is on a machine: accounts, and the keys that let somebody in. Those that nobody owns are findings.

use super::link::{LinkError, MachineLink, Purpose, Steps};
use super::run::run;
use crate::service::App;
use aerie_core::audit::{Finding, FindingKind};
use aerie_core::directory::Machine;
use aerie_store::{FoundAccount, FoundKey};
use jiff::Timestamp;
use russh::keys::PublicKey;

/// Lists accounts, then the authorised keys of each that may be read. Plain POSIX, and changes nothing.
const SCRIPT: &str = r#"getent passwd 2>/dev/null || cat /etc/passwd
echo '#keys'
files=$(sed -n 's/^[[:space:]]*[Aa]uthorized[Kk]eys[Ff]ile[[:space:]]*//p' /etc/ssh/sshd_config 2>/dev/null | head -n 1)
[ -n "$files" ] || files='.ssh/authorized_keys .ssh/authorized_keys2'
(getent passwd 2>/dev/null || cat /etc/passwd) | while IFS=: read -r name _ _ _ _ home _; do
  for file in $files; do
    path=$(printf '%s' "$file" | sed "s#%u#$name#g; s#%h#$home#g")
    case $path in /*) ;; *) path="$home/$path" ;; esac
    if [ -r "$path" ]; then sed "s#^#$name #" "$path" 2>/dev/null
    elif command -v sudo >/dev/null 2>&1; then sudo -n cat "$path" 2>/dev/null | sed "s#^#$name #"; fi
  done
done
exit 0
"#;
/// Accounts and keys that are kept of one machine.
const MOST: usize = 2000;

/// Looks, keeps what was found, and raises findings.
pub(crate) async fn discover(app: &App, machine: &Machine, account: &str) -> Result<Vec<FoundAccount>, LinkError> {
    let link = MachineLink::open(app, machine, account, Purpose::Own("discovery"), &Steps::default()).await?;
    let ran = run(&link, "sh -s", SCRIPT.as_bytes()).await;
    link.close().await;
    let now = Timestamp::now();
    let found = read(&ran.ok_or(LinkError::Silent)?.output, now);
    app.store.put_accounts(&machine.name, &found).await?;
    let rules = app.rules.now();
    let kept = app.vault.public_keys(app, &machine.name).await?;
    let mut findings = vec![];
    for (account, key) in found.iter().flat_map(|a| a.keys.iter().map(move |k| (&a.account, k))) {
        if rules.policy.directory().owner_of_key(&key.fingerprint).is_none() && !kept.contains(&key.fingerprint) {
            let sentence = format!("A key on {} that nobody owns lets somebody in as {account}: {}.", machine.name, key.fingerprint);
            let cause = format!("{} {account} {}", machine.name, key.fingerprint);
            findings.push(Finding::seen(FindingKind::UnownedKey, &cause, &machine.name, account, sentence, now));
        }
    }
    crate::audit::keep(app, findings).await?;
    app.tell("findings");
    app.tell("machines");
    Ok(found)
}

fn read(output: &str, now: Timestamp) -> Vec<FoundAccount> {
    let (accounts, keys) = output.split_once("#keys\n").unwrap_or((output, ""));
    let account = |line: &str| {
        let fields: Vec<&str> = line.split(':').collect();
        let [name, _, number, _, _, _, shell] = fields.as_slice() else { return None };
        let plain = |t: &str| aerie_core::diagnostic::printable(t).chars().take(64).collect::<String>();
        Some(FoundAccount { account: plain(name), number: number.parse().ok()?, shell: plain(shell), keys: vec![], seen: now })
    };
    let mut found: Vec<FoundAccount> = accounts.lines().filter_map(account).take(MOST).collect();
    found.dedup_by(|a, b| a.account == b.account);
    for line in keys.lines().take(MOST) {
        let Some((name, rest)) = line.split_once(' ') else { continue };
        let Some(key) = key_in(rest) else { continue };
        if let Some(account) = found.iter_mut().find(|a| a.account == name)
            && !account.keys.contains(&key)
        {
            account.keys.push(key);
        }
    }
    found
}

/// The key of a line of authorized_keys(5), whatever options stand before it.
fn key_in(line: &str) -> Option<FoundKey> {
    let words: Vec<&str> = line.split_whitespace().collect();
    let at = words.iter().position(|w| w.starts_with("ssh-") || w.starts_with("ecdsa-") || w.starts_with("sk-"))?;
    let (kind, blob) = (words.get(at)?, words.get(at + 1)?);
    let key = PublicKey::from_openssh(&format!("{kind} {blob}")).ok()?;
    let comment = aerie_core::diagnostic::printable(&words.get(at + 2..).unwrap_or_default().join(" "));
    Some(FoundKey { fingerprint: crate::keys::fingerprint(&key), kind: (*kind).into(), comment: comment.chars().take(100).collect() })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn accounts_and_keys_are_read() {
        let key = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIBh7a4nMVqcJ8Pf5cGzQ1yDtk3N6J7oQ4lCwS5z0m1Qe";
        let text = format!(
            "root:x:0:0:root:/root:/bin/bash\noperator:x:1000:1000:Op:/home/operator:/bin/bash\nbroken\n#keys\noperator {key} ines@ws\n\
             operator from=\"10.0.0.0/8\",no-pty {key}\noperator # a comment\nnobody-there {key}\n"
        );
        let found = read(&text, Timestamp::UNIX_EPOCH);
        assert_eq!(
            found.iter().map(|a| (a.account.as_str(), a.number, a.keys.len())).collect::<Vec<_>>(),
            [("root", 0, 0), ("operator", 1000, 2)]
        );
        let first = &found[1].keys[0];
        assert!(first.fingerprint.starts_with("SHA256:") && first.comment == "ines@ws");
        assert!(read("", Timestamp::UNIX_EPOCH).is_empty());
    }
}
