//! A service of a test's own, with agents and people of its own.

use super::{AERIE, until};
use aerie_agent::{AgentState, EnrolOptions, Leaving, RunOptions, StateDir};
use aerie_api::{ForwardQuery, MachineChange, NewCode, NewMachine, WayView};
use aerie_client::{Client, ListQuery};
use aerie_core::policy::{Factor, Factors, Proofs};
use aerie_core::tunnel::greeting::EnrolmentCode;
use aerie_service::Keys;
use aerie_store::{Publication, Store, Token, TokenKind};
use jiff::{SignedDuration, Timestamp};
use std::net::{SocketAddr, TcpListener as StdListener};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use tokio::io::{AsyncWriteExt as _, copy};
use tokio::net::{TcpListener, TcpStream};

pub const RULES: &str =
    "[[allow]]\nname = \"all\"\npeople = \"*\"\nmachines = \"*\"\ncapabilities = [\"shell\", \"forward\"]\naccounts = [\"operator\"]\n";

/// The token of the administrator.
pub const ADMIN: &str = "a-token-of-the-administrator";

/// A service of the test's own, with an administrator and somebody who may forward ports.
pub struct Own {
    pub directory: tempfile::TempDir,
    pub https: SocketAddr,
    pub child: Child,
    pub admin: String,
    pub worker: String,
}

pub fn free_port() -> SocketAddr {
    StdListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap()
}

pub fn token(person: &str, secret: &str, kind: TokenKind, keys: &Keys) -> Token {
    let now = Timestamp::now();
    let proofs = Proofs::at(Factors::of([Factor::Password, Factor::Code]), now);
    Token::signed_in(kind, person, keys.token_hash(secret), proofs, now, SignedDuration::from_hours(10))
}

impl Own {
    pub async fn start() -> Self {
        Self::with(RULES, &[("lena", "administrator", ""), ("sunniva", "technician", "")]).await
    }

    /// With these rules, and people with a role and groups. Each has a token for the console's API, and one as a client.
    pub async fn with(rules: &str, people: &[(&str, &str, &str)]) -> Self {
        let directory = Self::prepared(rules, people).await;
        let (admin, worker) = (ADMIN.to_string(), Self::secret("sunniva"));
        let https = free_port();
        let child = Self::run(directory.path(), https);
        let own = Self { directory, https, child, admin, worker };
        own.up().await;
        own
    }

    /// The data directory of such a service, which does not run yet.
    pub async fn prepared(rules: &str, people: &[(&str, &str, &str)]) -> tempfile::TempDir {
        super::bounded();
        aerie_client::provide_tls();
        let directory = tempfile::tempdir().unwrap();
        let keys = Keys::load(directory.path()).unwrap();
        let store = Store::open(&directory.path().join("aerie.db")).await.unwrap();
        for (name, role, groups) in people {
            let groups: Vec<&str> = groups.split_whitespace().collect();
            let person = serde_json::json!({ "name": name, "roles": [role], "groups": groups, "mail": format!("{name}@corvid.example") });
            store.put_person(&serde_json::from_value(person).unwrap()).await.unwrap();
            store.add_token(&token(name, &Self::secret(name), TokenKind::Client, &keys)).await.unwrap();
        }
        store.publish_policy(Publication { text: rules, by: "test", ..Publication::default() }, Timestamp::now()).await.unwrap();
        store.add_token(&Token { id: "admin".into(), ..token("lena", ADMIN, TokenKind::Client, &keys) }).await.unwrap();
        store.close().await;
        directory
    }

    pub fn secret(person: &str) -> String {
        format!("a-token-of-{person}-as-a-client")
    }

    /// A client of somebody who signed in with a password and a code.
    pub fn as_client(&self, person: &str) -> Client {
        self.client(&Self::secret(person))
    }

    pub fn run(data: &Path, https: SocketAddr) -> Child {
        Self::run_with(data, https, &[])
    }

    /// With more options.
    pub fn run_with(data: &Path, https: SocketAddr, more: &[&str]) -> Child {
        let mut command = Command::new("setpriv");
        command.args(["--pdeathsig", "KILL", AERIE, "serve", "--ssh", "127.0.0.1:0", "--https", &https.to_string()]).args(more);
        command.arg("--data").arg(data).stderr(Stdio::null()).spawn().unwrap()
    }

    pub fn client(&self, token: &str) -> Client {
        let keys = Keys::load(self.directory.path()).unwrap();
        let authority = keys.list().into_iter().find(|k| k.purpose == Some(aerie_service::Purpose::TlsAuthority) && k.in_use).unwrap();
        Client::trusting(&format!("https://localhost:{}", self.https.port()), Some(token.into()), Some(&authority.public))
    }

    /// The address of a path of its API.
    pub fn url(&self, path: &str) -> String {
        format!("https://localhost:{}{path}", self.https.port())
    }

    /// A client that speaks HTTP and nothing of the API.
    pub fn http() -> reqwest::Client {
        reqwest::Client::builder().danger_accept_invalid_certs(true).build().unwrap()
    }

    pub fn admin(&self) -> Client {
        self.client(&self.admin)
    }

    /// Changes a setting.
    pub async fn set(&self, setting: &str, value: &str) {
        let value = aerie_api::SettingValue { value: value.into(), why: "for the test".into() };
        self.admin().change_setting(setting, &value).await.unwrap();
    }

    pub async fn up(&self) {
        until("a service that answers", async || {
            TcpStream::connect(self.https).await.ok()?;
            self.admin().me().await.ok()
        })
        .await;
    }

    pub async fn kill(&mut self) {
        self.child.kill().unwrap();
        self.child.wait().unwrap();
    }

    pub async fn code_for(&self, name: &str, ways: &[(&str, String)]) -> EnrolmentCode {
        let ways = ways.iter().map(|(n, a)| WayView { name: (*n).into(), kind: "tcp".into(), address: a.clone() }).collect();
        let about = MachineChange {
            via: Some("agent".into()),
            accounts: Some(vec!["operator".into()]),
            ways: Some(ways),
            ..MachineChange::default()
        };
        self.admin().add_machine(&NewMachine { name: name.into(), about }).await.unwrap();
        self.issue(NewCode { machine: Some(name.into()), ..NewCode::default() }).await
    }

    pub async fn issue(&self, new: NewCode) -> EnrolmentCode {
        EnrolmentCode::parse(&self.admin().issue_code(&new).await.unwrap().code).unwrap()
    }

    pub async fn state(&self, name: &str) -> String {
        self.admin().machine(name).await.unwrap().machine.state
    }

    pub async fn online(&self, name: &str) {
        until(&format!("{name} online"), async || (self.state(name).await == "online").then_some(())).await;
    }

    pub async fn event(&self, kind: &str, text: &str) -> aerie_api::EventView {
        until(&format!("an event {kind} with {text:?}"), async || {
            let query = ListQuery { kind: Some(kind.into()), q: Some(text.into()), limit: Some(1), ..ListQuery::default() };
            self.admin().log(&query).await.ok()?.items.into_iter().next()
        })
        .await
    }
}

impl Drop for Own {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

pub async fn enrolled(own: &Own, name: &str, allow: &[String], ways: &[(&str, String)]) -> AgentState {
    let code = own.code_for(name, ways).await;
    aerie_agent::enrol(&code, &EnrolOptions { allow: allow.to_vec(), ..EnrolOptions::default() }).await.unwrap()
}

pub type Running = tokio::task::JoinHandle<Result<std::convert::Infallible, Leaving>>;

/// Runs an agent that keeps its files here, as the program does.
pub fn run(dir: &tempfile::TempDir, state: &AgentState) -> Running {
    let dir = StateDir::at(Some(dir.path().join("agent")));
    dir.save(state).unwrap();
    tokio::spawn(aerie_agent::run(Some(dir), state.clone(), RunOptions::default()))
}

/// A service on a machine that sends back what it gets.
pub async fn echo() -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let at = listener.local_addr().unwrap();
    tokio::spawn(async move {
        loop {
            let (stream, _) = listener.accept().await.unwrap();
            tokio::spawn(async move {
                let (mut read, mut write) = stream.into_split();
                let _ = copy(&mut read, &mut write).await;
                let _ = write.shutdown().await;
            });
        }
    });
    at
}

/// Opens a port to a way, and gives where it is on this computer.
pub async fn forwarded(own: &Own, machine: &str, way: &str) -> SocketAddr {
    let forwarding = own.client(&own.worker).forward(machine, &ForwardQuery { way: way.into(), ..ForwardQuery::default() }).await.unwrap();
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let at = listener.local_addr().unwrap();
    tokio::spawn(forwarding.serve(listener, |_| {}));
    at
}
