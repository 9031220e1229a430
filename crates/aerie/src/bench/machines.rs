//! Machines through agents: speed, delay on a slow line, thousands of agents, search and checks of many machines.

use super::served::{Served, Target, cpu_seconds, enrolled, machine, program, run_agents, serve, ssh, target, wait_online};
use super::world::resident;
use super::{Figure, Outcome, median};
use aerie_agent::AgentState;
use aerie_api::{CheckMany, MachineQuery};
use aerie_core::evidence::hex;
use aerie_service::{Keys, Purpose};
use aerie_store::AgentRow;
use jiff::Timestamp;
use std::collections::VecDeque;
use std::io::{Read as _, Write as _};
use std::net::SocketAddr;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::{TcpListener, TcpSocket};
use tokio::sync::mpsc;

const BULK: u64 = 256 << 20;
const RUNS: usize = 5;
const ECHOES: usize = 1500;
const AGENTS: usize = 2000;
const MACHINES: usize = 50_000;
const CHECKED: usize = 200;
/// The slow line: bits a second, and the time one way.
const SLOW_BITS: f64 = 20e6;
const SLOW_DELAY: Duration = Duration::from_micros(11_500);
/// Bytes that the slow line takes before it holds its sender back: the kernel doubles it, and that is about what is under way.
const SLOW_QUEUE: u32 = 24 << 10;
/// How late a timer may wake.
const LATE: Duration = Duration::from_millis(5);

pub(super) fn figures() -> Outcome<Vec<Figure>> {
    let mut found = vec![search()?, agent_memory()?];
    found.extend(tunnel()?);
    found.extend(many_agents()?);
    Ok(found)
}

fn tunnel() -> Outcome<Vec<Figure>> {
    let Target { running, key, directory } = target()?;
    let at = |via: &str| serde_json::json!({ "address": running.address.to_string(), "host_key": running.host_key, "via": via });
    let mut machines = vec![machine("plain", at("direct"))?, machine("tunnelled", at("agent"))?, machine("slow", at("agent"))?];
    for n in 0..CHECKED {
        machines.push(machine(&format!("checked-{n}"), at("direct"))?);
    }
    let served = serve(directory, machines, &[], Some(&key))?;
    let runtime = tokio::runtime::Runtime::new()?;
    let address = running.address.to_string();
    let fast = enrolled(&served, &runtime, "tunnelled", &address)?;
    let mut slow = enrolled(&served, &runtime, "slow", &address)?;
    slow.server = runtime.block_on(slow_line(served.https))?.to_string();
    run_agents(vec![fast, slow]);
    wait_online(&served, &runtime, 2)?;
    let (mut direct, mut through) = (vec![], vec![]);
    let (mut near, mut far) = (vec![], vec![]);
    for _ in 0..RUNS {
        direct.push(download(&served, "plain")?);
        through.push(download(&served, "tunnelled")?);
        near.push(median(echo(&served, "plain", ECHOES)?));
        far.push(median(echo(&served, "tunnelled", ECHOES)?));
    }
    let added = (median(far) - median(near)) / 1e3;
    let mut bulk = ssh(&served, "slow", &["cat /dev/zero"]).spawn()?;
    let mut drained = bulk.stdout.take().ok_or("no pipe")?;
    let draining = std::thread::spawn(move || std::io::copy(&mut drained, &mut std::io::sink()));
    let mut keys = echo(&served, "slow", 300)?;
    bulk.kill()?;
    bulk.wait()?;
    draining.join().map_err(|_| "the drain failed")??;
    keys.sort_by(f64::total_cmp);
    let (middle, late) =
        (keys.get(keys.len() / 2).copied().unwrap_or(f64::NAN) / 1e3, keys.get(keys.len() * 99 / 100).copied().unwrap_or(f64::NAN) / 1e3);
    let began = Instant::now();
    let mut ready = 0;
    runtime.block_on(served.client.check_machines(&CheckMany { machines: Some("name:checked-*".into()) }, |line| {
        ready += usize::from(matches!(line, aerie_api::CheckLine::Done(d) if d.ready));
    }))?;
    let checks = began.elapsed().as_secs_f64();
    Ok(vec![
        Figure::beside(
            "bulk output through an agent, against direct",
            "MiB/s",
            median(through),
            median(direct),
            "at least 0.8 of it",
            |r| r >= 0.8,
            RUNS,
        ),
        Figure::alone("round trip of a byte: added by the agent", "ms", added, "at most 0.3", added <= 0.3, RUNS),
        Figure::alone("keystroke beside bulk, 20 Mbit/s and 23 ms: median", "ms", middle, "(stated)", true, keys.len()),
        Figure::alone("keystroke beside bulk, 20 Mbit/s and 23 ms: p99", "ms", late, "at most 100", late <= 100.0, keys.len()),
        Figure::alone("200 machines checked", "s", checks, "under 10, all ready", checks < 10.0 && ready == CHECKED, 1),
    ])
}

fn download(served: &Served, machine: &str) -> Outcome<f64> {
    let mut child = ssh(served, machine, &[&format!("echo; head -c {BULK} /dev/zero")]).spawn()?;
    let mut out = child.stdout.take().ok_or("no pipe")?;
    out.read_exact(&mut [0])?;
    let began = Instant::now();
    let seen = std::io::copy(&mut out, &mut std::io::sink())?;
    let speed = seen as f64 / f64::from(1 << 20) / began.elapsed().as_secs_f64();
    child.wait()?;
    if seen == BULK { Ok(speed) } else { Err(format!("{machine}: {seen} bytes of {BULK}").into()) }
}

/// Round trips of a byte, in microseconds.
fn echo(served: &Served, machine: &str, count: usize) -> Outcome<Vec<f64>> {
    let mut child = ssh(served, machine, &["cat"]).stdin(Stdio::piped()).spawn()?;
    let (mut stdin, mut stdout) = (child.stdin.take().ok_or("no pipe")?, child.stdout.take().ok_or("no pipe")?);
    let mut trips = vec![];
    for n in 0..count + 20 {
        let began = Instant::now();
        stdin.write_all(b"x")?;
        stdin.flush()?;
        stdout.read_exact(&mut [0])?;
        if n >= 20 {
            trips.push(began.elapsed().as_secs_f64() * 1e6);
        }
    }
    drop(stdin);
    child.wait()?;
    Ok(trips)
}

/// A line of [`SLOW_BITS`] and [`SLOW_DELAY`] to the service; gives where it begins.
async fn slow_line(to: SocketAddr) -> Outcome<SocketAddr> {
    let socket = TcpSocket::new_v4()?;
    socket.set_recv_buffer_size(SLOW_QUEUE)?;
    socket.bind("127.0.0.1:0".parse()?)?;
    let listener: TcpListener = socket.listen(64)?;
    let at = listener.local_addr()?;
    tokio::spawn(async move {
        while let Ok((near, _)) = listener.accept().await {
            tokio::spawn(async move {
                let socket = TcpSocket::new_v4()?;
                socket.set_recv_buffer_size(SLOW_QUEUE)?;
                let far = socket.connect(to).await?;
                let _ = (near.set_nodelay(true), far.set_nodelay(true));
                let ((near_in, near_out), (far_in, far_out)) = (near.into_split(), far.into_split());
                tokio::join!(one_way(near_in, far_out), one_way(far_in, near_out));
                std::io::Result::Ok(())
            });
        }
    });
    Ok(at)
}

/// Takes bytes as fast as the line carries them, and delivers each piece after the delay.
async fn one_way(mut from: impl tokio::io::AsyncRead + Unpin, mut to: impl tokio::io::AsyncWrite + Unpin) {
    let (send, mut receive) = mpsc::unbounded_channel::<(tokio::time::Instant, Vec<u8>)>();
    let taking = async move {
        let mut free = tokio::time::Instant::now();
        let mut piece = vec![0; 1448];
        while let Ok(n @ 1..) = from.read(&mut piece).await {
            // The line is busy for as long as the bytes take. Timers wake a little late: what they lose is caught up with.
            let now = tokio::time::Instant::now();
            free = if free + LATE < now { now } else { free } + Duration::from_secs_f64(n as f64 * 8.0 / SLOW_BITS);
            tokio::time::sleep_until(free).await;
            if send.send((free + SLOW_DELAY, piece.get(..n).unwrap_or_default().to_vec())).is_err() {
                return;
            }
        }
    };
    let delivering = async move {
        let mut waiting = VecDeque::new();
        while let Some(next) = match waiting.pop_front() {
            Some(next) => Some(next),
            None => receive.recv().await,
        } {
            tokio::time::sleep_until(next.0).await;
            if to.write_all(&next.1).await.is_err() {
                return;
            }
            while let Ok(more) = receive.try_recv() {
                waiting.push_back(more);
            }
        }
        let _ = to.shutdown().await;
    };
    tokio::join!(taking, delivering);
}

/// The real program as an agent, idle.
fn agent_memory() -> Outcome<Figure> {
    let directory = tempfile::Builder::new().prefix("aerie-bench-").tempdir()?;
    let served = serve(directory, vec![machine("quiet", serde_json::json!({ "via": "agent" }))?], &[], None)?;
    let runtime = tokio::runtime::Runtime::new()?;
    let state = enrolled(&served, &runtime, "quiet", "127.0.0.1:22")?;
    let place = served.directory.path().join("agent");
    aerie_agent::StateDir::at(Some(place.clone())).save(&state)?;
    let mut child =
        Command::new(program()?.with_file_name("aerie-agent")).args(["run", "--state"]).arg(&place).stderr(Stdio::null()).spawn()?;
    wait_online(&served, &runtime, 1)?;
    std::thread::sleep(Duration::from_secs(5));
    let memory = resident(&child.id().to_string())?;
    child.kill()?;
    child.wait()?;
    Ok(Figure::alone("resident memory of an idle agent", "MB", memory, "at most 8", memory <= 8.0, 1))
}

fn many_agents() -> Outcome<Vec<Figure>> {
    let directory = tempfile::Builder::new().prefix("aerie-bench-").tempdir()?;
    let data = directory.path().join("data");
    std::fs::create_dir_all(&data)?;
    let keys = Keys::load(&data)?;
    let service_key = keys.list().into_iter().find(|k| k.purpose == Some(Purpose::Agents) && k.in_use).ok_or("no key")?.public;
    let (mut machines, mut rows, mut states) = (vec![], vec![], vec![]);
    for n in 0..AGENTS {
        let name = format!("antenna-{n}");
        machines.push(machine(&name, serde_json::json!({ "via": "agent", "site": "array", "posture": ["managed"] }))?);
        let mut seed = [0; 32];
        getrandom::fill(&mut seed)?;
        let key = ed25519_dalek::SigningKey::from_bytes(&seed);
        let ticket = format!("ticket {n}");
        rows.push(AgentRow {
            machine: name.clone(),
            key: hex(key.verifying_key().as_bytes()),
            enrolled: Timestamp::now(),
            enrolled_by: "runner".into(),
            ticket: keys.token_hash(&ticket),
            next_ticket: None,
            temporary: false,
            relay: vec![],
            last_seen: None,
            last_from: String::new(),
            facts: None,
        });
        states.push((name, hex(&seed), ticket));
    }
    let served = serve(directory, machines, &rows, None)?;
    let runtime = tokio::runtime::Runtime::new()?;
    let pid = served.child.id();
    wait_online(&served, &runtime, 0)?;
    std::thread::sleep(Duration::from_secs(3));
    let before = resident(&pid.to_string())?;
    let began = Instant::now();
    let states = states.into_iter().map(|(machine, key, ticket)| AgentState {
        server: format!("127.0.0.1:{}", served.https.port()),
        machine,
        site: "array".into(),
        key,
        service_key: service_key.clone(),
        ticket: Some(ticket),
        allow: vec!["127.0.0.1:22".into()],
        trust_file: None,
        log: None,
        lock_with: None,
    });
    run_agents(states.collect());
    wait_online(&served, &runtime, AGENTS as u64)?;
    let came = began.elapsed().as_secs_f64();
    // The greeting and the first facts are over when nothing is done any more.
    std::thread::sleep(Duration::from_secs(20));
    let each = (resident(&pid.to_string())? - before) * 1024.0 / AGENTS as f64;
    let used = cpu_seconds(pid)?;
    std::thread::sleep(Duration::from_secs(60));
    let share = (cpu_seconds(pid)? - used) / 60.0 * 100.0;
    Ok(vec![
        Figure::alone("2,000 agents: until all were connected", "s", came, "(stated)", true, 1),
        Figure::alone("2,000 agents: memory of the service for each", "KB", each, "at most 30", each <= 30.0, 1),
        Figure::alone("2,000 idle agents: share of a core", "%", share, "under 3", share < 3.0, 1),
    ])
}

fn search() -> Outcome<Figure> {
    let directory = tempfile::Builder::new().prefix("aerie-bench-").tempdir()?;
    let of = |n: usize| {
        let more = serde_json::json!({ "address": format!("10.{}.{}.{}:22", n / 65_536, n / 256 % 256, n % 256), "site": format!("site-{}", n % 40),
            "owner": format!("crew {}", n % 300), "labels": [format!("rack-{}", n % 900), "linux"], "note": format!("Unit {n} of the array") });
        machine(&format!("unit-{n}"), more)
    };
    let machines = (0..MACHINES).map(of).collect::<Outcome<_>>()?;
    let served = serve(directory, machines, &[], None)?;
    let runtime = tokio::runtime::Runtime::new()?;
    let mut times: Vec<f64> = vec![];
    runtime.block_on(async {
        for n in 0..220 {
            let q = match n % 4 {
                0 => format!("unit-{}", n * 211),
                1 => format!("crew {} rack", n),
                2 => format!("10.0.{}.", n % 190),
                _ => "array".into(),
            };
            let began = Instant::now();
            let page = served.client.machines(&MachineQuery { q: Some(q.clone()), ..MachineQuery::default() }).await?;
            if page.total == 0 && n % 4 != 1 {
                return Err(format!("nothing was found for {q}").into());
            }
            if n >= 20 {
                times.push(began.elapsed().as_secs_f64() * 1e3);
            }
        }
        Outcome::Ok(())
    })?;
    times.sort_by(f64::total_cmp);
    let p99 = times.get(times.len() * 99 / 100).copied().unwrap_or(f64::NAN);
    Ok(Figure::alone("search over 50,000 machines: p99", "ms", p99, "under 20", p99 < 20.0, times.len()))
}
