//! Live sessions: ending all of them, watching them, and the page that shows a thousand.

use super::served::{CONSOLE_SECRET, RULES, Served, Target, cpu_seconds, machine, serve, ssh, target};
use super::{Figure, Outcome, median};
use aerie::demo::browser::Browser;
use aerie_api::{ForwardQuery, StopOrder};
use aerie_client::{Client, SessionQuery};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use std::io::Read as _;
use std::process::{Child, Stdio};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

/// Sessions that are ended together.
const MANY: usize = 500;
/// Watchers of one busy terminal.
const WATCHERS: usize = 10;
/// How long a terminal is watched.
const SPAN: Duration = Duration::from_secs(20);
/// Sessions on the page.
const ON_THE_PAGE: usize = 1000;
/// Machines that they are on.
const MACHINES: usize = 50;
/// A screen of 24 lines twenty times a second, with the instant at which it was drawn: what a full-screen program does when it is busy.
const BUSY: &str = "bash -c 'while :; do printf \"\\e[H\"; for i in {1..23}; do printf \"%078d\\r\\n\" $RANDOM; done; printf \"@%s@\" $EPOCHREALTIME; sleep 0.05; done'";

pub(super) fn figures() -> Outcome<Vec<Figure>> {
    let Target { running, key, directory } = target()?;
    let at = serde_json::json!({ "address": running.address.to_string(), "host_key": running.host_key });
    let served = serve(directory, vec![machine("plain", at)?], &[], Some(&key))?;
    let runtime = tokio::runtime::Runtime::new()?;
    let mut found = watched(&served, &runtime)?;
    found.extend(ended(&served, &runtime)?);
    drop(served);
    found.extend(the_page()?);
    Ok(found)
}

/// The page Now alone.
pub(super) fn the_page() -> Outcome<Vec<Figure>> {
    tokio::runtime::Runtime::new()?.block_on(page())
}

/// Seconds since the epoch.
fn now() -> f64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0.0, |d| d.as_secs_f64())
}

/// Shells with a terminal, each at its prompt.
fn shells(served: &Served, count: usize) -> Outcome<Vec<Child>> {
    let mut all = vec![];
    for _ in 0..count {
        let mut child = ssh(served, "plain", &["-tt"]).stdin(Stdio::piped()).stderr(Stdio::null()).spawn()?;
        child.stdout.as_mut().ok_or("no pipe")?.read_exact(&mut [0])?;
        all.push(child);
    }
    Ok(all)
}

/// Seconds from doing something to the end of the last of these sessions, as those who work in them see it.
fn until_over(all: Vec<Child>, act: impl FnOnce() -> Outcome<()>) -> Outcome<f64> {
    let waiting: Vec<_> = all
        .into_iter()
        .map(|mut child| {
            std::thread::Builder::new().stack_size(128 << 10).spawn(move || {
                let mut out = child.stdout.take();
                let mut piece = [0; 4096];
                while out.as_mut().is_some_and(|o| o.read(&mut piece).is_ok_and(|n| n > 0)) {}
                let at = Instant::now();
                let _ = child.wait();
                at
            })
        })
        .collect::<Result<_, _>>()?;
    let began = Instant::now();
    act()?;
    let mut last = began;
    for one in waiting {
        last = last.max(one.join().map_err(|_| "a reader failed")?);
    }
    Ok(last.duration_since(began).as_secs_f64())
}

fn ended(served: &Served, runtime: &tokio::runtime::Runtime) -> Outcome<Vec<Figure>> {
    let client = &served.client;
    let open = shells(served, MANY)?;
    let stopped = until_over(open, || {
        let order = StopOrder { all: Some(true), why: "the benchmark".into(), ..StopOrder::default() };
        let stopped = runtime.block_on(client.stop(&order))?;
        if stopped.ended == MANY as u64 { Ok(()) } else { Err(stopped.sentence.into()) }
    })?;
    let open = shells(served, MANY)?;
    let without = RULES.replace("\"shell\", ", "");
    let withdrawn = until_over(open, || runtime.block_on(client.publish_policy(&without, None)).map(drop).map_err(Into::into))?;
    runtime.block_on(client.publish_policy(RULES, None))?;
    Ok(vec![
        Figure::alone("500 sessions: from stopping all to the end of the last", "s", stopped, "at most 1", stopped <= 1.0, MANY),
        Figure::alone(
            "500 sessions: from withdrawing the rule to the end of the last",
            "s",
            withdrawn,
            "at most 1",
            withdrawn <= 1.0,
            MANY,
        ),
    ])
}

/// Delays, in milliseconds, of the screens that came by: found in a stream of bytes as they arrive.
#[derive(Default)]
struct Delays {
    rest: Vec<u8>,
    found: Vec<f64>,
}

impl Delays {
    fn take(&mut self, bytes: &[u8]) {
        let at = now();
        self.rest.extend_from_slice(bytes);
        while let Some(begin) = self.rest.iter().position(|b| *b == b'@') {
            let Some(length) = self.rest.iter().skip(begin + 1).position(|b| *b == b'@') else { break };
            let text: Vec<u8> = self.rest.drain(..begin + length + 2).skip(begin + 1).take(length).collect();
            if let Some(drawn) = std::str::from_utf8(&text).ok().and_then(|t| t.parse::<f64>().ok()) {
                self.found.push((at - drawn) * 1e3);
            }
        }
    }
}

fn watched(served: &Served, runtime: &tokio::runtime::Runtime) -> Outcome<Vec<Figure>> {
    let mut child = ssh(served, "plain", &["-tt", BUSY]).stdin(Stdio::piped()).stderr(Stdio::null()).spawn()?;
    let mut out = child.stdout.take().ok_or("no pipe")?;
    let own = std::thread::spawn(move || {
        let (mut delays, mut piece) = (Delays::default(), [0; 16384]);
        while let Ok(n @ 1..) = out.read(&mut piece) {
            delays.take(piece.get(..n).unwrap_or_default());
        }
        delays.found
    });
    let live = SessionQuery { state: Some("live".into()), ..SessionQuery::default() };
    let id = runtime.block_on(async {
        loop {
            if let Some(s) = served.client.sessions(&live).await?.items.into_iter().next() {
                return Outcome::Ok(s.id);
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    })?;
    let pid = served.child.id();
    let share = |began: f64| -> Outcome<f64> { Ok((cpu_seconds(pid)? - began) / SPAN.as_secs_f64() * 100.0) };
    let began = cpu_seconds(pid)?;
    std::thread::sleep(SPAN);
    let alone = share(began)?;
    let seen = Arc::new(Mutex::new(vec![]));
    let watchers: Vec<_> = (0..WATCHERS)
        .map(|_| {
            let (client, id, seen) = (served.client.clone(), id.clone(), seen.clone());
            runtime.spawn(async move {
                let mut delays = Delays::default();
                let each = |line: aerie_api::LiveLine| {
                    if line.kind == "output" {
                        delays.take(&line.data.and_then(|d| STANDARD.decode(d).ok()).unwrap_or_default());
                        seen.lock().unwrap_or_else(PoisonError::into_inner).append(&mut delays.found);
                    }
                    true
                };
                client.watch_live(&id, each).await
            })
        })
        .collect();
    std::thread::sleep(Duration::from_secs(2));
    let began = cpu_seconds(pid)?;
    std::thread::sleep(SPAN);
    let each = (share(began)? - alone) / WATCHERS as f64;
    watchers.into_iter().for_each(|w| w.abort());
    child.kill()?;
    child.wait()?;
    let own = median(own.join().map_err(|_| "the reader failed")?);
    let mut seen = std::mem::take(&mut *seen.lock().unwrap_or_else(PoisonError::into_inner));
    seen.sort_by(f64::total_cmp);
    let late = seen.get(seen.len() * 99 / 100).copied().unwrap_or(f64::NAN) - own;
    let added = median(seen.clone()) - own;
    Ok(vec![
        Figure::alone("a busy terminal watched: added to the delay of its own, median", "ms", added, "(stated)", true, seen.len()),
        Figure::alone("a busy terminal watched: added to the delay of its own, p99", "ms", late, "at most 100", late <= 100.0, seen.len()),
        Figure::alone("a busy terminal watched: share of a core for each watcher", "%", each, "at most 3", each <= 3.0, WATCHERS),
    ])
}

async fn page() -> Outcome<Vec<Figure>> {
    let echo = tokio::net::TcpListener::bind("127.0.0.1:0").await?;
    let at = echo.local_addr()?.to_string();
    let of = |n: usize| {
        let ways = serde_json::json!([{ "name": "panel", "kind": "web", "address": at }]);
        machine(&format!("antenna-{n}"), serde_json::json!({ "address": at, "site": "array", "ways": ways }))
    };
    let machines = (0..MACHINES).map(of).collect::<Outcome<_>>()?;
    let directory = tempfile::Builder::new().prefix("aerie-bench-").tempdir()?;
    let served = tokio::task::spawn_blocking(move || serve(directory, machines, &[], None).map_err(|e| e.to_string())).await??;
    let open = |n: usize| forwarded(served.client.clone(), format!("antenna-{}", n % MACHINES));
    let mut sessions = vec![];
    for n in 0..ON_THE_PAGE {
        sessions.push(open(n).await?);
    }
    let Some(browser) = Browser::start(true).await.map_err(|e| e.message)? else {
        return Err("chromium-driver is not installed (`make packages`)".into());
    };
    let failed = |e: aerie::Failure| e.message;
    let base = format!("https://localhost:{}", served.https.port());
    browser.goto(&format!("{base}/sign-in")).await.map_err(failed)?;
    browser.cookie("__Host-aerie", CONSOLE_SECRET).await.map_err(failed)?;
    browser.goto(&format!("{base}/")).await.map_err(failed)?;
    browser.says("h1", &format!("{ON_THE_PAGE} sessions")).await.map_err(failed)?;
    // What comes up when the page is opened is over.
    tokio::time::sleep(Duration::from_secs(3)).await;
    let watch = "window.long = []; window.gaps = []; let last; \
                 new PerformanceObserver((l) => l.getEntries().forEach((e) => long.push(e.duration))).observe({ type: 'longtask' }); \
                 requestAnimationFrame(function frame(t) { if (last) gaps.push(t - last); last = t; requestAnimationFrame(frame); });";
    browser.run(watch).await.map_err(failed)?;
    let mut seconds = tokio::time::interval(Duration::from_secs(1));
    for n in 0..SPAN.as_secs() as usize {
        seconds.tick().await;
        // One session ends and another begins each second.
        drop(sessions.swap_remove(0));
        sessions.push(open(n).await?);
    }
    let seen = browser.run("return [long, gaps]").await.map_err(failed)?;
    browser.quit().await;
    let numbers = |i: usize| -> Vec<f64> {
        seen.get(i).and_then(|v| v.as_array()).map(|a| a.iter().filter_map(serde_json::Value::as_f64).collect()).unwrap_or_default()
    };
    let (long, gaps) = (numbers(0), numbers(1));
    let longest = long.iter().copied().fold(0.0, f64::max);
    let dropped = gaps.iter().map(|g| (g / (1000.0 / 60.0)).round() - 1.0).filter(|d| *d > 0.0).sum::<f64>();
    let share = dropped / (gaps.len() as f64 + dropped) * 100.0;
    Ok(vec![
        Figure::alone(
            "Now with 1,000 live sessions, one changing each second: long tasks",
            "in 20 s",
            long.len() as f64,
            "none",
            long.is_empty(),
            1,
        ),
        Figure::alone("the longest of them", "ms", longest, "under 50", longest < 50.0, long.len()),
        Figure::alone("frames that were dropped meanwhile", "%", share, "none", share < 0.5, gaps.len()),
    ])
}

/// A port that is forwarded; it ends when this is dropped.
async fn forwarded(client: Client, machine: String) -> Outcome<tokio::task::JoinSet<()>> {
    let query = ForwardQuery { way: "panel".into(), ..ForwardQuery::default() };
    let forwarding = client.forward(&machine, &query).await?;
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await?;
    let mut held = tokio::task::JoinSet::new();
    held.spawn(async move { drop(forwarding.serve(listener, |_| {}).await) });
    Ok(held)
}
