//! A service, a machine behind it, and a jump host beside it: all real.

use super::Outcome;
use aerie_core::directory::RegisteredKey;
use aerie_lab::{Lab, MachineSpec, Network, RunningMachine, SshServer};
use aerie_service::{Keys, fingerprint};
use aerie_store::{Publication, Store};
use jiff::Timestamp;
use russh::keys::PrivateKey;
use russh::keys::ssh_key::private::{Ed25519Keypair, KeypairData};
use std::io::{BufRead as _, BufReader};
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::Path;
use std::process::{Child, Command, Stdio};

const RULES: &str = "[[allow]]\nname = \"all\"\npeople = \"*\"\nmachines = \"*\"\ncapabilities = [\"shell\", \"exec\", \"upload\", \"download\", \"forward\"]\naccounts = [\"operator\"]\nfactors = [\"key\"]\nrecording = true\n";

/// How `ssh` gets to the machine.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Way {
    /// Straight to it.
    Direct,
    /// `ssh -J` through a plain OpenSSH server.
    Jump,
    /// Through Aerie, recorded.
    Gateway,
}

pub(super) struct World {
    directory: tempfile::TempDir,
    service: Child,
    _machines: [RunningMachine; 2],
}

impl Drop for World {
    fn drop(&mut self) {
        let _ = self.service.kill();
        let _ = self.service.wait();
    }
}

/// Resident memory of a process in MB.
pub(super) fn resident(pid: &str) -> Outcome<f64> {
    let status = std::fs::read_to_string(format!("/proc/{pid}/status"))?;
    let line = status.lines().find(|l| l.starts_with("VmRSS:")).ok_or("no VmRSS")?;
    let kib: f64 = line.split_whitespace().nth(1).ok_or("no VmRSS")?.parse()?;
    Ok(kib / 1024.0)
}

impl World {
    pub(super) fn start() -> Outcome<Self> {
        let directory = tempfile::Builder::new().prefix("aerie-bench-").tempdir()?;
        std::fs::set_permissions(directory.path(), std::os::unix::fs::PermissionsExt::from_mode(0o755))?;
        let data = directory.path().join("data");
        std::fs::create_dir(&data)?;
        let keys = Keys::load(&data)?;
        let key = PrivateKey::new(KeypairData::Ed25519(Ed25519Keypair::from_seed(&[7; 32])), "runner")?;
        let path = directory.path().join("key");
        let mut file = std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(&path)?;
        std::io::Write::write_all(&mut file, key.to_openssh(Default::default())?.as_bytes())?;
        let cache = std::env::var("HOME").map_or_else(|_| std::env::temp_dir(), |h| Path::new(&h).join(".cache")).join("aerie");
        let mut lab = Lab::new(&std::env::current_exe()?, &directory.path().join("machines"), SshServer::find(&cache)?)?;
        let spec = |name: &str, host_network| -> Outcome<MachineSpec> {
            Ok(MachineSpec {
                name: name.into(),
                authority: keys.user_authority_lines().join("\n"),
                direct_keys: vec![("operator".into(), key.public_key().to_openssh()?)],
                network: if host_network { Network::Host } else { Network::Reachable },
                passwords: vec![],
                files: vec![],
            })
        };
        let (target, jump) = (lab.start(&spec("target", false)?)?, lab.start(&spec("jump", true)?)?);
        let runtime = tokio::runtime::Runtime::new()?;
        runtime.block_on(async {
            let store = Store::open(&data.join("aerie.db")).await?;
            let mut person: aerie_core::directory::Person = serde_json::from_value(serde_json::json!({ "name": "runner" }))?;
            person.keys = vec![RegisteredKey { fingerprint: fingerprint(key.public_key()), ..RegisteredKey::default() }];
            store.put_person(&person).await?;
            let mut machine: aerie_core::directory::Machine =
                serde_json::from_value(serde_json::json!({ "name": "target", "accounts": ["operator"] }))?;
            machine.address = target.address.to_string();
            machine.host_key = Some(target.host_key.clone());
            store.put_machine(&machine).await?;
            store.publish_policy(Publication { text: RULES, by: "bench", ..Publication::default() }, Timestamp::now()).await?;
            store.close().await;
            Outcome::Ok(())
        })?;
        let program = std::env::current_exe()?.with_file_name("aerie");
        let mut service = Command::new(program)
            .args(["serve", "--http", "127.0.0.1:0", "--ssh", "127.0.0.1:0", "--data"])
            .arg(&data)
            .stderr(Stdio::piped())
            .spawn()?;
        let mut lines = BufReader::new(service.stderr.take().ok_or("no pipe")?).lines();
        let line = lines.find_map(|l| l.ok().filter(|l| l.contains("SSH gateway at"))).ok_or("the service did not start")?;
        std::thread::spawn(move || lines.for_each(drop));
        let port =
            line.split("gateway at ").nth(1).and_then(|t| t.split(". ").next()).and_then(|a| a.rsplit(':').next()).ok_or("no port")?;
        // The same ciphers on every way, so that protocols are compared and not ciphers.
        let config = format!(
            "Host direct\n Port {}\n User operator\nHost jumphost\n Port {}\n User operator\nHost jump\n Port {}\n User operator\n ProxyJump jumphost\n\
             Host gateway\n Port {port}\n User runner+target\n\
             Host *\n HostName 127.0.0.1\n IdentityFile {}\n IdentitiesOnly yes\n StrictHostKeyChecking no\n UserKnownHostsFile /dev/null\n LogLevel ERROR\n \
             BatchMode yes\n Ciphers aes256-gcm@openssh.com\n Compression no\n",
            target.address.port(),
            jump.address.port(),
            target.address.port(),
            path.display()
        );
        std::fs::write(directory.path().join("config"), config)?;
        Ok(Self { directory, service, _machines: [target, jump] })
    }

    /// An `ssh` that goes this way.
    pub(super) fn ssh(&self, way: Way, arguments: &[&str]) -> Command {
        let host = match way {
            Way::Direct => "direct",
            Way::Jump => "jump",
            Way::Gateway => "gateway",
        };
        let (options, command): (Vec<&str>, Vec<&str>) = arguments.iter().partition(|a| a.starts_with('-'));
        let mut ssh = Command::new("ssh");
        ssh.arg("-F").arg(self.directory.path().join("config")).args(options).arg(host).args(command);
        ssh.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::inherit());
        ssh
    }

    /// Path for a file of one's own.
    pub(super) fn path(&self, name: &str) -> std::path::PathBuf {
        self.directory.path().join(name)
    }

    /// Resident memory of the service in MB.
    pub(super) fn memory(&self) -> Outcome<f64> {
        resident(&self.service.id().to_string())
    }
}
