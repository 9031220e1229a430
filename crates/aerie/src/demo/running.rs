//! Starts everything that the demo consists of, and ends it.

use super::{closed, desk, history, plans, scenario, sink};
use crate::Failure;
use crate::cli::Demo;
use crate::commands::serve::enrol;
use aerie_client::{Client, ScanQuery};
use aerie_core::directory::{RegisteredKey, Via};
use aerie_core::factor::TotpSecret;
use aerie_core::policy::{Factor, Factors, Network, Proofs};
use aerie_core::settings::Setting;
use aerie_lab::{Lab, MachineSpec, RunningMachine, SshServer, UPLINK};
use aerie_service::{Config, DEFAULT_HTTPS, DataDirectory, Keys, PASSWORD_COST, Service, Syslog, fingerprint};
use aerie_store::{Publication, Store, Token, TokenKind};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::net::{SocketAddr, TcpListener};
use std::os::unix::fs::{OpenOptionsExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};

/// A running demo, for people and scripts.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Description {
    /// Address of the console.
    pub console: String,
    /// Address of the API.
    pub api: String,
    /// The ticket desk.
    pub desk: String,
    /// Where agents connect from this computer.
    pub agents: Option<SocketAddr>,
    /// Where logs are taken.
    pub syslog: Vec<SocketAddr>,
    /// The gateway.
    pub ssh: SshDescription,
    /// Directory of everything.
    pub directory: String,
    /// Data directory of the service.
    pub data: String,
    /// A token of the administrator.
    pub token: String,
    /// File with the token.
    pub token_file: String,
    /// People to try.
    pub people: Vec<PersonDescription>,
    /// Machines.
    pub machines: Vec<MachineDescription>,
    /// Sessions of the month before.
    pub past_sessions: usize,
    /// What a person should know of how the machines are kept apart.
    pub remark: Option<String>,
}

/// How to reach the gateway.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct SshDescription {
    /// Host.
    pub host: String,
    /// Port.
    pub port: u16,
    /// Configuration for `ssh -F`.
    pub config: String,
    /// Known hosts.
    pub known_hosts: String,
}

/// One of the demo's people.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct PersonDescription {
    /// Name.
    pub name: String,
    /// Name as people write it.
    pub full_name: String,
    /// Roles.
    pub roles: Vec<String>,
    /// Password.
    pub password: String,
    /// TOTP secret in base32.
    pub totp_secret: String,
    /// File of the SSH key.
    pub key_file: String,
}

/// One of the demo's machines.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct MachineDescription {
    /// Name.
    pub name: String,
    /// Where its SSH server listens.
    pub address: SocketAddr,
    /// Accounts.
    pub accounts: Vec<String>,
    /// Its log.
    pub log: String,
}

impl Description {
    /// The key file of one of the people.
    pub fn key_file(&self, person: &str) -> &str {
        self.people.iter().find(|p| p.name == person).map_or("", |p| &p.key_file)
    }
}

/// A running demo. Dropping it ends the machines; [`Running::stop`] ends it in order.
pub struct Running {
    /// What it is.
    pub description: Description,
    service: Service,
    machines: Vec<RunningMachine>,
    /// Takes the mails, while it is held.
    _sink: sink::Sink,
    /// Starts visits and takes their records, while it is held.
    _desk: desk::Desk,
    temporary: Option<tempfile::TempDir>,
}

fn failed(what: impl std::fmt::Display) -> impl FnOnce(std::io::Error) -> Failure {
    move |e| Failure::file(what, &e)
}

/// Where things lie.
struct Places {
    root: PathBuf,
}

impl Places {
    fn data(&self) -> PathBuf {
        self.root.join("data")
    }

    fn key(&self, person: &str) -> PathBuf {
        self.root.join("keys").join(person)
    }

    fn log(&self, machine: &str) -> PathBuf {
        self.root.join("machines").join(machine).join("log/auth.log")
    }
}

/// Directory for what may be kept between demos: unpacked packages.
fn cache() -> PathBuf {
    let base =
        std::env::var_os("XDG_CACHE_HOME").map(PathBuf::from).or_else(|| std::env::var_os("HOME").map(|h| PathBuf::from(h).join(".cache")));
    base.unwrap_or_else(std::env::temp_dir).join("aerie")
}

/// The wanted address, or a free port where it is taken.
fn free(wanted: SocketAddr) -> SocketAddr {
    if TcpListener::bind(wanted).is_ok() { wanted } else { SocketAddr::new(wanted.ip(), 0) }
}

impl Running {
    /// Starts everything.
    ///
    /// # Errors
    /// When something that is needed is missing; says what to do.
    pub async fn start(options: &Demo) -> Result<Self, Failure> {
        let temporary = if options.keep.is_some() {
            None
        } else {
            Some(tempfile::Builder::new().prefix("aerie-demo-").tempdir().map_err(failed("a temporary directory"))?)
        };
        let root = options.keep.clone().or_else(|| temporary.as_ref().map(|t| t.path().to_path_buf())).unwrap_or_default();
        std::fs::create_dir_all(&root).map_err(failed(root.display()))?;
        let places = Places { root: root.canonicalize().map_err(failed(root.display()))? };
        // The machines' users go through it to nothing but what is theirs.
        std::fs::set_permissions(&places.root, std::fs::Permissions::from_mode(0o755)).map_err(failed(root.display()))?;
        let held = DataDirectory::take(&places.data()).map_err(|e| Failure::usage(e.to_string()))?;
        let usual = DEFAULT_HTTPS.parse().map_err(|_| Failure::internal("an address"))?;
        // Where the console takes any port, so does this: several demos may start at once.
        let https = if options.http.port() == 0 { options.http } else { free(usual) };
        let here = Network::parse("127.0.0.1").map_err(Failure::internal)?;
        let syslog = Syslog {
            plain: Some("127.0.0.1:0".parse().map_err(|_| Failure::internal("no address"))?),
            from: vec![here],
            ..Syslog::default()
        };
        let config = Config {
            data: places.data(),
            address: None,
            https: Some(https),
            http: Some(free(options.http)),
            ssh: free(options.ssh),
            syslog,
        };
        let keys = Keys::load(&config.data).map_err(|e| Failure::internal(e.to_string()))?;
        let store = Store::open(&config.data.join("aerie.db")).await?;
        let fresh = store.policies().await?.is_empty();
        let zone = TimeZone::get("Atlantic/Canary").unwrap_or(TimeZone::UTC);
        let mut past = vec![];
        if fresh {
            let made = history::make(&config, &keys, &store, &zone).await?;
            write_logs(&places, &made.logs)?;
            past = made.sessions;
        }
        let mut lab = Lab::new(
            &std::env::current_exe().map_err(failed("this program"))?,
            &places.root.join("machines"),
            SshServer::find(&cache()).map_err(lab_failed)?,
        )
        .map_err(lab_failed)?;
        let mut machines = start_machines(&mut lab, &keys)?;
        enrol_everybody(&store, &keys, &machines, &places, fresh).await?;
        // What a password may cost is measured by a service that is used for long; the demo starts at once.
        store.set_meta(PASSWORD_COST, b"19456 2").await?;
        // Inside their networks this is where the service is found.
        store.set_setting(Setting::AgentAddress, UPLINK, "setup", "the demo's closed networks", Timestamp::now()).await?;
        let sink = sink::Sink::start(&places.root).await.map_err(failed("the mail server"))?;
        let (mail, from) = (format!("smtp://{}", sink.mail), "Aerie <aerie@corvid-ridge.example>");
        let hook = format!("http://{}/notices", sink.hooks);
        let signs = keys.checkpoint_key().map_err(|e| Failure::internal(e.to_string()))?.verifying_key();
        let desk = desk::Desk::start(signs.to_bytes()).await.map_err(failed("the ticket desk"))?;
        let records = desk.records();
        let (step_up, idle) = (longest(Setting::ProvedMinutes), longest(Setting::SignedInIdle));
        for (setting, value) in [(Setting::ProvedMinutes, step_up), (Setting::SignedInIdle, idle)] {
            store.set_setting(setting, &value, "setup", "the demo is one long sign-in", Timestamp::now()).await?;
        }
        let settings =
            [(Setting::MailServer, mail.as_str()), (Setting::MailFrom, from), (Setting::Webhook, &hook), (Setting::TicketDesk, &records)];
        for (setting, value) in settings {
            store.set_setting(setting, value, "setup", "the demo's own mail server and receiver", Timestamp::now()).await?;
        }
        if fresh {
            store.put_request(&plans::request(Timestamp::now())).await?;
        }
        // Scripts and tests are Lena, who signed in a moment ago; the demo does not ask her again for as long as a sign-in lasts.
        let token = make_token(&store, &keys, TokenKind::Client, "lena", &[]).await?;
        // The desk starts visits in the name of who works at it, and does nothing else.
        let desk_token = make_token(&store, &keys, TokenKind::Api, "mira", &["visits"]).await?;
        store.close().await;
        drop(held);
        let service = Service::start(config).await?;
        service.look_at_recordings(&past).await;
        let described = describe(&service, &machines, &places, &token, past.len(), lab.mode().remark())?;
        let description = Description { desk: format!("http://{}", desk.address), ..described };
        let client = Client::new(&description.api, Some(description.token.clone()));
        desk.connect(Client::new(&description.api, Some(desk_token)));
        if let Some(https) = service.https() {
            closed::enrol(&client, &mut machines, https).await?;
        }
        let running = Self { description, service, machines, temporary, _sink: sink, _desk: desk };
        if fresh {
            running.audit_logs().await?;
            plans::begin(&client).await?;
            closed::begin(&client).await?;
        }
        Ok(running)
    }

    /// Writes the description to a file, whole or not at all; only its owner can read it.
    ///
    /// # Errors
    /// When the file cannot be written.
    pub fn describe(&self, file: &Path) -> Result<(), Failure> {
        let json = serde_json::to_vec_pretty(&self.description).map_err(|e| Failure::internal(e.to_string()))?;
        let partial = file.with_extension("partial");
        let _ = std::fs::remove_file(&partial);
        write_private(&partial, &json)?;
        std::fs::rename(&partial, file).map_err(failed(file.display()))
    }

    /// Ends everything in order.
    ///
    /// # Errors
    /// When the service does not end in order; the machines end all the same.
    pub async fn stop(self) -> Result<(), Failure> {
        let Self { service, machines, temporary, _sink, _desk, .. } = self;
        let stopped = service.stop().await;
        drop(machines);
        drop(temporary);
        Ok(stopped?)
    }

    async fn audit_logs(&self) -> Result<(), Failure> {
        let client = Client::new(&self.description.api, Some(self.description.token.clone()));
        for machine in &self.description.machines {
            let Ok(log) = tokio::fs::File::open(&machine.log).await else { continue };
            let query = ScanQuery { name: Some(format!("{}/auth.log", machine.name)), zone: Some("UTC".into()), ..ScanQuery::default() };
            client.scan(&query, log).await?;
        }
        Ok(())
    }
}

fn lab_failed(e: aerie_lab::LabError) -> Failure {
    Failure::internal(e.to_string())
}

fn write_logs(places: &Places, logs: &BTreeMap<String, String>) -> Result<(), Failure> {
    for (machine, text) in logs {
        let path = places.log(machine);
        if let Some(parent) = path.parent() {
            std::fs::create_dir_all(parent).map_err(failed(path.display()))?;
        }
        std::fs::write(&path, text).map_err(failed(path.display()))?;
    }
    Ok(())
}

fn start_machines(lab: &mut Lab, keys: &Keys) -> Result<Vec<RunningMachine>, Failure> {
    let authority = keys.user_authority_lines().join("\n");
    let mut running = vec![];
    for machine in scenario::machines() {
        // One machine has a key of its own user on it: the way around the gateway that the audit finds. Another has a key that
        // nobody knows.
        let whose = match machine.name.as_str() {
            "spectro-1" => Some("amara"),
            "archive-db" => Some("whoever imported plates"),
            _ => None,
        };
        let around = whose.and_then(scenario::key).and_then(|k| k.public_key().to_openssh().ok());
        let spec = MachineSpec {
            network: closed::network(&machine.name, &running),
            passwords: closed::passwords(&machine.name),
            files: scenario::files(&machine.name),
            name: machine.name,
            authority: authority.clone(),
            direct_keys: around.into_iter().map(|k| ("operator".to_string(), k)).collect(),
        };
        running.push(lab.start(&spec).map_err(lab_failed)?);
    }
    Ok(running)
}

/// The largest value of a setting.
fn longest(setting: Setting) -> String {
    match setting.kind() {
        aerie_core::settings::Kind::Number { most, .. } => most.to_string(),
        _ => String::new(),
    }
}

/// A token, good for a week at most: of a program for these scopes, or of somebody who signed in with password and code.
async fn make_token(store: &Store, keys: &Keys, kind: TokenKind, person: &str, scopes: &[&str]) -> Result<String, Failure> {
    let mut bytes = [0; 32];
    getrandom::fill(&mut bytes).map_err(|e| Failure::internal(e.to_string()))?;
    let secret = URL_SAFE_NO_PAD.encode(bytes);
    let now = Timestamp::now();
    let week = SignedDuration::from_hours(24 * 7);
    let proofs = match kind {
        TokenKind::Api => Proofs::default(),
        TokenKind::Console | TokenKind::Client => Proofs::at(Factors::of([Factor::Password, Factor::Code]), now),
    };
    let kept = Token::signed_in(kind, person, keys.token_hash(&secret), proofs, now, week);
    let kept = Token { name: "demo".into(), scopes: scopes.iter().map(|s| (*s).to_string()).collect(), ..kept };
    store.add_token(&kept).await?;
    Ok(secret)
}

async fn enrol_everybody(store: &Store, keys: &Keys, machines: &[RunningMachine], places: &Places, fresh: bool) -> Result<(), Failure> {
    std::fs::create_dir_all(places.root.join("keys")).map_err(failed("keys"))?;
    if fresh {
        store.replace_directory(&scenario::directory(), store.directory_version().await?, "setup", Timestamp::now()).await?;
    }
    for mut person in scenario::people() {
        let key = scenario::key(&person.name).ok_or_else(|| Failure::internal("a key could not be made"))?;
        // Oona comes with her invitation: the tour shows how.
        if person.name == "oona" {
            if fresh {
                store.put_person(&person).await?;
            }
            continue;
        }
        person.keys = vec![RegisteredKey {
            fingerprint: fingerprint(key.public_key()),
            label: "workstation".into(),
            public: key.public_key().to_openssh().map(|l| l.split(' ').take(2).collect::<Vec<_>>().join(" ")).unwrap_or_default(),
            ..RegisteredKey::default()
        }];
        let path = places.key(&person.name);
        let text = key.to_openssh(Default::default()).map_err(|e| Failure::internal(e.to_string()))?;
        let _ = std::fs::remove_file(&path);
        write_private(&path, text.as_bytes())?;
        if fresh {
            let name = person.name.clone();
            store.put_person(&person).await?;
            // Nobody signs in as the backup with a password.
            if name != "backup-runner" {
                enrol(store, keys, &name, &scenario::password(&name), scenario::totp_secret(&name)).await?;
            }
        }
    }
    for (mut machine, running) in scenario::machines().into_iter().zip(machines) {
        machine.address = running.address.to_string();
        machine.host_key = closed::earlier_host_key(&machine.name).or_else(|| Some(running.host_key.clone()));
        machine.accounts = running.accounts.clone();
        if !running.closed {
            machine.via = Via::Direct;
        } else if machine.via == Via::Agent {
            // Its agent says so.
            (machine.address, machine.host_key) = (String::new(), None);
        }
        store.put_machine(&machine).await?;
    }
    for queue in scenario::queues() {
        store.put_machine(&queue).await?;
    }
    // Without namespaces the machines have the account of whoever started them, and nobody else's.
    if machines.iter().all(|m| m.accounts.len() == 1)
        && let Some(account) = machines.first().and_then(|m| m.accounts.first())
    {
        let rules = scenario::RULES.replace("\"operator\"", &format!("\"{account}\"")).replace("\"archivist\"", &format!("\"{account}\""));
        store.publish_policy(Publication { text: &rules, by: "lena", ..Publication::default() }, Timestamp::now()).await?;
    }
    Ok(())
}

fn write_private(path: &Path, bytes: &[u8]) -> Result<(), Failure> {
    let mut file = std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(path).map_err(failed(path.display()))?;
    std::io::Write::write_all(&mut file, bytes).map_err(failed(path.display()))
}

fn describe(
    service: &Service,
    machines: &[RunningMachine],
    places: &Places,
    token: &str,
    past_sessions: usize,
    remark: Option<&str>,
) -> Result<Description, Failure> {
    let (port, known_hosts, config, token_file) =
        (service.ssh().port(), places.root.join("known_hosts"), places.root.join("ssh_config"), places.root.join("token"));
    let (host_key, authority) = service.host_keys();
    let write = |path: &Path, text: String| std::fs::write(path, text).map_err(failed(path.display()));
    let names: Vec<&str> = machines.iter().map(|m| m.name.as_str()).collect();
    write(&known_hosts, format!("[127.0.0.1]:{port} {host_key}\n@cert-authority {} {authority}\n", names.join(",")))?;
    let people: Vec<PersonDescription> = scenario::people()
        .into_iter()
        .map(|p| PersonDescription {
            password: scenario::password(&p.name),
            totp_secret: TotpSecret::from_bytes(scenario::totp_secret(&p.name)).to_base32(),
            key_file: places.key(&p.name).display().to_string(),
            full_name: p.full_name.clone(),
            roles: p.roles.iter().map(|r| r.word().into()).collect(),
            name: p.name,
        })
        .collect();
    let identities: String =
        people.iter().map(|p| format!("Match originalhost aerie user {0},{0}+*\n  IdentityFile {1}\n", p.name, p.key_file)).collect();
    write(
        &config,
        format!(
            "Host aerie\n  HostName 127.0.0.1\n  Port {port}\n\n{identities}\nHost *\n  IdentitiesOnly yes\n  UserKnownHostsFile {}\n  GlobalKnownHostsFile /dev/null\n  \
             StrictHostKeyChecking yes\n",
            known_hosts.display()
        ),
    )?;
    let _ = std::fs::remove_file(&token_file);
    write_private(&token_file, token.as_bytes())?;
    Ok(Description {
        console: format!("http://localhost:{}", service.http().port()),
        api: format!("http://{}", service.http()),
        desk: String::new(),
        agents: service.https(),
        syslog: service.syslog().to_vec(),
        ssh: SshDescription {
            host: "127.0.0.1".into(),
            port,
            config: config.display().to_string(),
            known_hosts: known_hosts.display().to_string(),
        },
        directory: places.root.display().to_string(),
        data: places.data().display().to_string(),
        token: token.into(),
        token_file: token_file.display().to_string(),
        people,
        machines: machines
            .iter()
            .map(|m| MachineDescription {
                name: m.name.clone(),
                address: m.address,
                accounts: m.accounts.clone(),
                log: m.log.display().to_string(),
            })
            .collect(),
        past_sessions,
        remark: remark.map(Into::into),
    })
}
