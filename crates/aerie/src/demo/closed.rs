//! The demo's machines that nobody gets into from outside: their agents, the relay, a kept password, a host key that changed.

use super::scenario;
use crate::Failure;
use aerie_api::{MachineQuery, NewCode, NewCredential};
use aerie_client::Client;
use aerie_lab::{Network, PROGRAM, RunningMachine};
use std::net::SocketAddr;
use std::time::Duration;

/// How long an agent may take to come online.
const PATIENCE: Duration = Duration::from_secs(60);
/// Machines with an agent of their own, and what each agent connects to.
const AGENTS: [(&str, &str); 2] =
    [("coude-1", "127.0.0.1:22,127.0.0.1:8080,127.0.0.1:5901,127.0.0.2:22"), ("plate-scanner", "127.0.0.1:22")];
/// The machine that is reached through the first of them.
pub(super) const RELAYED: &str = "comb-1";
/// Where it stands, as its relay sees it.
const RELAYED_AT: &str = "127.0.0.2:22";
/// The machine whose password is kept.
const KEPT: &str = "chiller-2";
/// The machine that was set up anew.
const ANEW: &str = "flat-lamp";

/// The password that the chiller came with.
fn factory_password() -> String {
    scenario::password("chiller")
}

/// The network that a machine stands in, given those that run already.
pub(super) fn network(machine: &str, running: &[RunningMachine]) -> Network {
    if AGENTS.iter().any(|(name, _)| *name == machine) {
        return Network::Closed;
    }
    let beside = running.iter().find(|r| r.name == AGENTS[0].0).filter(|r| machine == RELAYED && r.closed);
    beside.map_or(Network::Reachable, |r| Network::Beside(r.pid()))
}

/// Passwords of a machine's accounts.
pub(super) fn passwords(machine: &str) -> Vec<(String, String)> {
    if machine == KEPT { vec![("operator".into(), factory_password())] } else { vec![] }
}

/// The host key that was pinned for a machine before it was set up anew.
pub(super) fn earlier_host_key(machine: &str) -> Option<String> {
    let key = scenario::key("flat-lamp as it was").filter(|_| machine == ANEW)?;
    key.public_key().to_openssh().ok().map(|l| l.split(' ').take(2).collect::<Vec<_>>().join(" "))
}

/// Enrols the agents inside their machines, as an administrator and somebody at the machine would, and waits for them.
pub(super) async fn enrol(client: &Client, machines: &mut [RunningMachine], service: SocketAddr) -> Result<(), Failure> {
    let gone = |e: std::io::Error| Failure::internal(format!("a machine of the demo is gone: {e}"));
    let mut enrolled = vec![];
    for (name, allow) in AGENTS {
        let Some(machine) = machines.iter_mut().find(|m| m.name == name && m.closed) else { continue };
        machine.uplink.lead_to(service);
        let code = client.issue_code(&NewCode { machine: Some(name.into()), ..NewCode::default() }).await?.code;
        if name == "coude-1" {
            machine.run(QUICKLOOK, "").map_err(gone)?;
            machine.run(&format!("cat > /opt/screen.sh && exec sh /opt/screen.sh {SCREEN_PORT}"), SCREEN).map_err(gone)?;
        }
        let command = format!(
            "{PROGRAM} agent enrol --yes --allow {allow} --log /var/log/auth.log --trust-file /etc/ssh/authority.pub && exec {PROGRAM} agent run --answered-by observer"
        );
        machine.run(&command, &code).map_err(gone)?;
        enrolled.push(name);
    }
    for name in &enrolled {
        online(client, name).await?;
    }
    if enrolled.contains(&AGENTS[0].0) {
        client.set_relay(AGENTS[0].0, vec![RELAYED_AT.into()]).await?;
    }
    Ok(())
}

/// A small page that the spectrograph shows to whoever works at it.
const QUICKLOOK: &str = "mkdir -p /srv/quicklook && echo '<h1>coude-1</h1><p>Last exposure: 1800 s, order 96.</p>' > /srv/quicklook/index.html && \
                         cd /srv/quicklook && exec perl -MIO::Socket::INET -e '$s=IO::Socket::INET->new(LocalAddr=>\"127.0.0.1\",LocalPort=>8080,Listen=>9,ReuseAddr=>1); \
                         while($c=$s->accept){while(<$c>){last if /^\\r?$/}open F,\"index.html\";print $c \"HTTP/1.0 200 OK\\r\\ncontent-type: text/html\\r\\n\\r\\n\",<F>;close $c}'";

/// The screen of the spectrograph's control computer.
const SCREEN: &str = include_str!("../../../../demo/screen.sh");
const SCREEN_PORT: &str = "5901";

async fn online(client: &Client, name: &str) -> Result<(), Failure> {
    let waiting = async {
        loop {
            let found = client.machines(&MachineQuery { q: Some(name.into()), ..MachineQuery::default() }).await?;
            let ready = found.machines.iter().any(|m| m.name == name && m.state == "online" && !m.host.is_empty());
            if ready && client.machine(name).await?.host_key.is_some() {
                return Ok(());
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    };
    tokio::time::timeout(PATIENCE, waiting).await.map_err(|_| Failure::internal(format!("the agent of {name} did not come online")))?
}

/// Puts the chiller's password into the vault and changes it, looks at what is on the machines, and at the lamp that shows
/// another host key.
pub(super) async fn begin(client: &Client) -> Result<(), Failure> {
    let kept =
        NewCredential { kind: "password".into(), secret: Some(factory_password()), changer: "root".into(), after_use: true, days: 30 };
    client.put_credential(KEPT, "operator", &kept).await?;
    client.rotate_credential(KEPT, "operator").await?;
    client.discover("spectro-1").await?;
    client.discover("archive-db").await?;
    client.check_machine(ANEW, |_| {}).await?;
    Ok(())
}
