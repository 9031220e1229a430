//! The person at a machine agrees to one port and to no other; and nobody takes up all of their attention.

use super::{event, run, turn};
use crate::common::own::free_port;
use crate::common::{client, until, world};
use aerie_client::ListQuery;
use std::net::SocketAddr;
use tokio::io::{AsyncBufReadExt as _, AsyncReadExt as _, AsyncWriteExt as _, BufReader};
use tokio::net::TcpStream;
use tokio::process::Child;

/// Many more than the person is shown at a time.
const MANY: u16 = 60;

/// Greta may forward these ports of coude-1, where the user of the machine is asked or told.
async fn rule(before: &str, consent: &str, targets: &str) {
    let rule = format!(
        "\n[[allow]]\nname = \"asked-forward\"\npeople = \"person:greta\"\nmachines = \"name:coude-1\"\n\
         capabilities = [\"forward\"]\naccounts = [\"operator\"]\ntargets = {targets}\nconsent = \"{consent}\"\n"
    );
    let text = before.split("\n[[allow]]\nname = \"asked-forward\"").next().unwrap_or_default();
    let published = client().publish_policy(&(text.to_string() + &rule), None).await.unwrap();
    assert!(published.version.is_some(), "{:?}", published.diagnostics);
}

/// Runs something on coude-1 as the account whose user answers there.
async fn at_the_seat(script: &str) -> String {
    let e = run("ssh", &["sunniva+observer@coude-1@aerie", script], "").await;
    assert_eq!(e.status, Some(0), "{script}: {}", e.err);
    e.out
}

/// Echoes on a port of coude-1, each line after the name of the port.
async fn listener(port: u16) {
    at_the_seat(&format!(
        "setsid perl -MIO::Socket::INET -e '$s=IO::Socket::INET->new(Listen=>9,LocalAddr=>\"127.0.0.1\",LocalPort=>{port},ReuseAddr=>1) or die; \
         open F, \">\", \"/tmp/listens-{port}\"; close F; $SIG{{CHLD}}=\"IGNORE\"; \
         while($c=$s->accept){{ if(fork){{close $c; next}} $c->autoflush(1); while(<$c>){{ print $c \"{port} $_\" }} exit }}' \
         </dev/null >/dev/null 2>&1 & until test -e /tmp/listens-{port}; do sleep 0.1; done; echo $! > /tmp/listens-{port}"
    ))
    .await;
}

async fn stop_listening(port: u16) {
    at_the_seat(&format!("kill $(cat /tmp/listens-{port}); rm -f /tmp/listens-{port}")).await;
}

/// What the page of the agent shows, as a program reads it.
async fn shown() -> Vec<aerie_agent::consent::Item> {
    let said = at_the_seat("/opt/aerie/aerie agent answer --json").await;
    let state: aerie_agent::consent::State = serde_json::from_str(&said).unwrap();
    state.items.into_iter().filter(|i| i.who.contains("Greta") || i.who == "greta").collect()
}

/// The one question about this port that is asked, or answered and live.
async fn about(port: u16, standing: &str) -> aerie_agent::consent::Item {
    let target = format!("localhost:{port} ");
    until(&format!("{port} {standing}"), async || shown().await.into_iter().find(|i| i.does.contains(&target) && i.standing == standing))
        .await
}

/// Says something to one question.
async fn says(item: &aerie_agent::consent::Item, act: &str) {
    let body = serde_json::json!({ "id": item.id, "act": act }).to_string();
    let request = format!(
        "POST /answer HTTP/1.1\\r\\nHost: 127.0.0.1:7077\\r\\nContent-Type: application/json\\r\\nContent-Length: {}\\r\\nConnection: close\\r\\n\\r\\n",
        body.len()
    );
    let said =
        at_the_seat(&format!("exec 3<>/dev/tcp/127.0.0.1/7077; printf '{request}' >&3; printf '%s' '{body}' >&3; head -1 <&3")).await;
    assert!(said.contains(" 200 "), "{said}");
}

/// A connection whose client opens a port for each of its own (`ssh -D`).
struct Socks {
    at: SocketAddr,
    _ssh: Child,
}

impl Socks {
    async fn open() -> Self {
        let at = free_port();
        let code = world().people.codes.next("greta").await;
        let mut ssh = world().people.command("ssh", &code, &["-N", "-D", &at.to_string(), "greta+coude-1@aerie"]);
        let mut ssh = ssh.spawn().unwrap();
        let mut lines = BufReader::new(ssh.stderr.take().unwrap()).lines();
        until("the listener of the client", async || TcpStream::connect(at).await.ok()).await;
        // What the client says must be read, or it waits.
        tokio::spawn(async move {
            while let Ok(Some(line)) = lines.next_line().await {
                eprintln!("ssh: {line}");
            }
        });
        Self { at, _ssh: ssh }
    }

    /// A stream to a port of the machine (RFC 1928); none where it is refused.
    async fn to(&self, port: u16) -> Option<Stream> {
        let mut stream = TcpStream::connect(self.at).await.unwrap();
        stream.write_all(&[5, 1, 0]).await.unwrap();
        stream.read_exact(&mut [0; 2]).await.unwrap();
        let mut asked = vec![5, 1, 0, 3, 9];
        asked.extend(b"localhost");
        asked.extend(port.to_be_bytes());
        stream.write_all(&asked).await.unwrap();
        let mut answer = [0; 10];
        let reached = stream.read_exact(&mut answer).await.is_ok() && answer[1] == 0;
        reached.then(|| Stream(BufReader::new(stream), port))
    }
}

struct Stream(BufReader<TcpStream>, u16);

impl Stream {
    /// Whether the port answers.
    async fn works(&mut self) -> bool {
        let mut line = String::new();
        self.0.write_all(b"here\n").await.is_ok() && self.0.read_line(&mut line).await.is_ok() && line == format!("{} here\n", self.1)
    }

    async fn ends(mut self) {
        let ended = tokio::time::timeout(std::time::Duration::from_secs(20), self.0.read(&mut [0; 8])).await.expect("it goes on");
        assert!(matches!(ended, Ok(0) | Err(_)));
    }
}

async fn consents_to(port: u16, answer: &str) -> usize {
    let text = format!("localhost:{port} through coude-1");
    let query = ListQuery { kind: Some("consent".into()), q: Some(text), ..ListQuery::default() };
    client().log(&query).await.unwrap().items.iter().filter(|e| e.data["answer"] == answer).count()
}

#[tokio::test]
async fn a_port_that_is_taken_back_leaves_the_others() {
    let _turn = turn().await;
    let before = client().policy().await.unwrap().text;
    let (first, second) = (7201, 7202);
    rule(&before, "ask", &format!("[\"localhost:{first}\", \"localhost:{second}\"]")).await;
    listener(first).await;
    listener(second).await;
    let socks = Socks::open().await;
    // A browser opens several at once: the person is asked once.
    let several = async { tokio::join!(socks.to(first), socks.to(first), socks.to(first)) };
    let (several, ()) = tokio::join!(several, async { says(&about(first, "asked").await, "agree").await });
    let (Some(mut a), Some(mut b), Some(mut c)) = several else { panic!("not all of the three were let through") };
    assert!(a.works().await && b.works().await && c.works().await);
    assert_eq!(consents_to(first, "agreed").await, 1);
    let (other, ()) = tokio::join!(socks.to(second), async { says(&about(second, "asked").await, "agree").await });
    let mut other = other.expect("the second port");
    assert!(other.works().await);
    says(&about(first, "live").await, "stop").await;
    for stream in [a, b, c] {
        stream.ends().await;
    }
    assert!(other.works().await, "nobody took this back");
    until("it is gone from the page", async || (shown().await.len() == 1).then_some(())).await;
    assert!(socks.to(second).await.unwrap().works().await, "and the yes to it stands");
    // A no counts for all that wait for it, and for nothing that is there.
    let several = async { tokio::join!(socks.to(first), socks.to(first)) };
    let (several, ()) = tokio::join!(several, async { says(&about(first, "asked").await, "refuse").await });
    assert!(several.0.is_none() && several.1.is_none());
    assert_eq!(consents_to(first, "refused").await, 2, "taken back once, and refused once");
    assert!(other.works().await);
    event("session-not-begun", "greta was not let onto coude-1").await;
    stop_listening(first).await;
    stop_listening(second).await;
    client().publish_policy(&before, None).await.unwrap();
}

#[tokio::test]
async fn ports_that_are_not_used_any_more_leave_room_for_others() {
    let _turn = turn().await;
    let before = client().policy().await.unwrap().text;
    let live = 7210;
    // Where sessions are recorded, a range names no port.
    let targets: Vec<String> = (live..=live + MANY).map(|port| format!("localhost:{port}")).collect();
    rule(&before, "notice", &format!("{targets:?}")).await;
    listener(live).await;
    let socks = Socks::open().await;
    let mut stream = socks.to(live).await.expect("the first port");
    for port in 1..=MANY {
        assert!(socks.to(live + port).await.is_none(), "nothing listens there");
    }
    assert_eq!(consents_to(live + MANY, "told").await, 1, "the last is told as the first");
    let items = shown().await;
    assert!(items.len() <= 17 && items.iter().any(|i| i.does.contains("localhost:7210 ")), "{items:?}");
    assert!(stream.works().await);
    drop(stream);
    stop_listening(live).await;
    client().publish_policy(&before, None).await.unwrap();
}
