//! People, keys and secrets of the demo: invented, and the same each time.

use aerie_core::directory::{DirectoryFile, Machine, Person};
use aerie_core::factor::TotpSecret;
use aerie_core::recording::MasterKey;
use aerie_core::visit::QUEUE_LABEL;
use jiff::Timestamp;
use russh::keys::PrivateKey;
use russh::keys::ssh_key::private::{Ed25519Keypair, KeypairData};

pub(super) const RULES: &str = include_str!("../../../../demo/rules.toml");
const DIRECTORY: &str = include_str!("../../../../demo/directory.json");

/// People, machines and groups, without keys and addresses.
pub(super) fn directory() -> DirectoryFile {
    serde_json::from_str(DIRECTORY).unwrap_or_default()
}

/// The demo's people, without their keys.
pub(super) fn people() -> Vec<Person> {
    directory().people
}

/// The demo's machines, without addresses.
pub(super) fn machines() -> Vec<Machine> {
    directory().machines.into_iter().filter(|m| !m.labels.contains(QUEUE_LABEL)).collect()
}

/// The demo's queues of visits, which are machines of the directory and nowhere else.
pub(super) fn queues() -> Vec<Machine> {
    directory().machines.into_iter().filter(|m| m.labels.contains(QUEUE_LABEL)).collect()
}

/// Bytes that depend on a purpose alone. Nothing in the demo is secret.
pub(super) fn bytes(purpose: &str) -> [u8; 32] {
    MasterKey::new(*b"corvid ridge observatory, a demo").derive(purpose)
}

/// The TOTP secret of one of the demo's people.
pub fn totp_secret(person: &str) -> [u8; 20] {
    let mut secret = [0; 20];
    secret.iter_mut().zip(bytes(&format!("code of {person}"))).for_each(|(to, from)| *to = from);
    secret
}

/// The code of one of the demo's people at an instant.
pub fn code_for(person: &str, at: Timestamp) -> String {
    TotpSecret::from_bytes(totp_secret(person)).code_at(at)
}

pub(super) fn password(person: &str) -> String {
    format!("{person} watches the sky")
}

/// The SSH key of one of the demo's people.
pub(super) fn key(person: &str) -> Option<PrivateKey> {
    let pair = Ed25519Keypair::from_seed(&bytes(&format!("key of {person}")));
    PrivateKey::new(KeypairData::Ed25519(pair), format!("{person}@observatory")).ok()
}

/// Files that stand in the home of each machine's operator.
pub(super) fn files(machine: &str) -> Vec<(String, String)> {
    let log: String = (0..400)
        .map(|i| {
            let az = 143.0 + f64::from(i % 37) / 50.0;
            format!("01:{:02}:{:02} az={az:.2} target=143.25 err={:.2}\n", 12 + i / 60, i % 60, (az - 143.25).abs())
        })
        .collect();
    vec![
        ("notes.txt".into(), format!("Log of the operator on {machine}\n22:40 seeing 0.8, humidity 31 %\n23:15 mirror covers open\n")),
        ("log/azimuth.log".into(), log),
    ]
}
