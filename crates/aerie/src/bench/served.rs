//! A service of the bench's own, with machines, agents, and the bench as its administrator.

use super::Outcome;
use aerie_agent::{AgentState, EnrolOptions, RunOptions};
use aerie_api::{MachineQuery, NewCode};
use aerie_client::Client;
use aerie_core::directory::{DirectoryFile, Machine, RegisteredKey};
use aerie_core::policy::{Factor, Factors, Proofs};
use aerie_core::tunnel::greeting::EnrolmentCode;
use aerie_lab::{Lab, MachineSpec, RunningMachine, SshServer};
use aerie_service::{Keys, Purpose, fingerprint};
use aerie_store::{AgentRow, Publication, Store, Token, TokenKind};
use jiff::{SignedDuration, Timestamp};
use russh::keys::ssh_key::private::{Ed25519Keypair, KeypairData};
use russh::keys::{PrivateKey, ssh_key};
use std::io::{BufRead as _, BufReader, Write as _};
use std::net::SocketAddr;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

/// Of a client whose person signed in with password and code.
const CLIENT_SECRET: &str = "a token of the benchmark as a client";
/// The same person's, as of the console.
pub(super) const CONSOLE_SECRET: &str = "a-token-of-the-benchmark-as-a-browser";
/// What everybody may.
pub(super) const RULES: &str = "[[allow]]\nname = \"all\"\npeople = \"*\"\nmachines = \"*\"\ncapabilities = [\"shell\", \"exec\", \"forward\", \"watch\", \"view\", \"control\"]\naccounts = [\"operator\"]\nrecording = true\n";

/// A service in a process of its own.
pub(super) struct Served {
    pub(super) child: Child,
    pub(super) https: SocketAddr,
    pub(super) ssh: SocketAddr,
    /// With password and code.
    pub(super) client: Client,
    pub(super) directory: tempfile::TempDir,
}

impl Drop for Served {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

pub(super) fn program() -> Outcome<PathBuf> {
    Ok(std::env::current_exe()?.with_file_name("aerie"))
}

pub(super) fn free_port() -> Outcome<SocketAddr> {
    Ok(std::net::TcpListener::bind("127.0.0.1:0")?.local_addr()?)
}

pub(super) fn machine(name: &str, more: serde_json::Value) -> Outcome<Machine> {
    let mut all = serde_json::json!({ "name": name, "accounts": ["operator"] });
    if let (Some(all), Some(more)) = (all.as_object_mut(), more.as_object()) {
        all.extend(more.clone());
    }
    Ok(serde_json::from_value(all)?)
}

/// Starts a service with these machines and agents, and the bench as its administrator.
pub(super) fn serve(
    directory: tempfile::TempDir,
    machines: Vec<Machine>,
    agents: &[AgentRow],
    key: Option<&PrivateKey>,
) -> Outcome<Served> {
    aerie_client::provide_tls();
    let data = directory.path().join("data");
    std::fs::create_dir_all(&data)?;
    let keys = Keys::load(&data)?;
    tokio::runtime::Runtime::new()?.block_on(async {
        let store = Store::open(&data.join("aerie.db")).await?;
        let mut person: aerie_core::directory::Person =
            serde_json::from_value(serde_json::json!({ "name": "runner", "roles": ["administrator"] }))?;
        person.keys =
            key.map(|k| RegisteredKey { fingerprint: fingerprint(k.public_key()), ..RegisteredKey::default() }).into_iter().collect();
        let file = DirectoryFile { people: vec![person], machines, groups: vec![] };
        store.replace_directory(&file, store.directory_version().await?, "bench", Timestamp::now()).await?;
        store.publish_policy(Publication { text: RULES, by: "bench", ..Publication::default() }, Timestamp::now()).await?;
        store.put_agents(agents).await?;
        let now = Timestamp::now();
        let proofs = Proofs::at(Factors::of([Factor::Password, Factor::Code]), now);
        for (secret, kind) in [(CLIENT_SECRET, TokenKind::Client), (CONSOLE_SECRET, TokenKind::Console)] {
            let token = Token::signed_in(kind, "runner", keys.token_hash(secret), proofs, now, SignedDuration::from_hours(1));
            store.add_token(&Token { id: kind.word().into(), ..token }).await?;
        }
        store.close().await;
        Outcome::Ok(())
    })?;
    let (https, ssh) = (free_port()?, free_port()?);
    let mut child = Command::new(program()?)
        .args(["serve", "--https", &https.to_string(), "--ssh", &ssh.to_string(), "--data"])
        .arg(&data)
        .stderr(Stdio::piped())
        .spawn()?;
    let mut lines = BufReader::new(child.stderr.take().ok_or("no pipe")?).lines();
    lines.find_map(|l| l.ok().filter(|l| l.contains("TrustedUserCAKeys"))).ok_or("the service did not start")?;
    std::thread::spawn(move || lines.for_each(drop));
    let authority =
        Keys::load(&data)?.list().into_iter().find(|k| k.purpose == Some(Purpose::TlsAuthority) && k.in_use).ok_or("no authority")?;
    let address = format!("https://localhost:{}", https.port());
    let client = Client::trusting(&address, Some(CLIENT_SECRET.into()), Some(&authority.public));
    Ok(Served { child, https, ssh, client, directory })
}

/// A machine of the lab, its key for the gateway, and what `ssh` needs.
pub(super) struct Target {
    pub(super) running: RunningMachine,
    pub(super) key: PrivateKey,
    pub(super) directory: tempfile::TempDir,
}

pub(super) fn target() -> Outcome<Target> {
    let directory = tempfile::Builder::new().prefix("aerie-bench-").tempdir()?;
    let data = directory.path().join("data");
    std::fs::create_dir(&data)?;
    let keys = Keys::load(&data)?;
    let key = PrivateKey::new(KeypairData::Ed25519(Ed25519Keypair::from_seed(&[7; 32])), "runner")?;
    let mut file = std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(directory.path().join("key"))?;
    file.write_all(key.to_openssh(ssh_key::LineEnding::LF)?.as_bytes())?;
    let cache = std::env::var("HOME").map_or_else(|_| std::env::temp_dir(), |h| Path::new(&h).join(".cache")).join("aerie");
    let mut lab = Lab::new(&std::env::current_exe()?, &directory.path().join("machines"), SshServer::find(&cache)?)?;
    let spec = MachineSpec { name: "target".into(), authority: keys.user_authority_lines().join("\n"), ..MachineSpec::default() };
    Ok(Target { running: lab.start(&spec)?, key, directory })
}

pub(super) fn ssh(served: &Served, machine: &str, arguments: &[&str]) -> Command {
    let mut ssh = Command::new("ssh");
    ssh.arg("-i").arg(served.directory.path().join("key")).args(["-p", &served.ssh.port().to_string(), "-l", &format!("runner+{machine}")]);
    for option in [
        "IdentitiesOnly=yes",
        "StrictHostKeyChecking=no",
        "UserKnownHostsFile=/dev/null",
        "LogLevel=ERROR",
        "BatchMode=yes",
        "Ciphers=aes256-gcm@openssh.com",
    ] {
        ssh.args(["-o", option]);
    }
    ssh.arg("127.0.0.1").args(arguments).stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::inherit());
    ssh
}

/// Runs an agent in a thread of its own, for as long as the bench runs.
pub(super) fn run_agents(states: Vec<AgentState>) {
    std::thread::spawn(move || {
        let Ok(runtime) = tokio::runtime::Builder::new_current_thread().enable_all().build() else { return };
        runtime.block_on(async {
            let mut all = tokio::task::JoinSet::new();
            for state in states {
                all.spawn(aerie_agent::run(None, state, RunOptions::default()));
            }
            while all.join_next().await.is_some() {}
        });
    });
}

pub(super) fn enrolled(served: &Served, runtime: &tokio::runtime::Runtime, name: &str, allow: &str) -> Outcome<AgentState> {
    runtime.block_on(async {
        let code = served.client.issue_code(&NewCode { machine: Some(name.into()), ..NewCode::default() }).await?.code;
        let code = EnrolmentCode::parse(&code).ok_or("no code")?;
        Ok(aerie_agent::enrol(&code, &EnrolOptions { allow: vec![allow.into()], ..EnrolOptions::default() }).await?)
    })
}

pub(super) fn wait_online(served: &Served, runtime: &tokio::runtime::Runtime, count: u64) -> Outcome<()> {
    runtime.block_on(async {
        for _ in 0..1200 {
            let query = MachineQuery { state: Some("online".into()), limit: Some(1), ..MachineQuery::default() };
            if served.client.machines(&query).await?.total >= count {
                return Ok(());
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        Err("the agents did not come online".into())
    })
}

pub(super) fn cpu_seconds(pid: u32) -> Outcome<f64> {
    let text = std::fs::read_to_string(format!("/proc/{pid}/stat"))?;
    let fields: Vec<&str> = text.rsplit(')').next().unwrap_or_default().split_whitespace().collect();
    let ticks: f64 = [11, 12].iter().filter_map(|i| fields.get(*i)?.parse::<f64>().ok()).sum();
    Ok(ticks / 100.0)
}
