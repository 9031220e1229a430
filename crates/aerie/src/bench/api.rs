//! The API under load, looking people up, and what checking a proof costs.

use super::{Figure, Outcome, median};
use aerie_core::factor::{CodeChecked, PinState, TotpSecret, pin_of};
use aerie_core::policy::Proofs;
use aerie_service::Keys;
use aerie_store::{Publication, Store, Token, TokenKind};
use jiff::{SignedDuration, Timestamp};
use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::net::{SocketAddr, TcpStream};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};

/// Connections that ask at a time.
const CONNECTIONS: usize = 1000;
/// Requests a second at which the time that one takes is measured.
const PACE: f64 = 20_000.0;
/// How long they ask.
const SPAN: Duration = Duration::from_secs(10);
/// People in the directory.
const PEOPLE: usize = 10_000;
const SECRET: &str = "a token of the benchmark";

struct Served {
    child: Child,
    address: SocketAddr,
    _directory: tempfile::TempDir,
}

impl Drop for Served {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

pub(super) fn figures() -> Outcome<Vec<Figure>> {
    let served = serve()?;
    let (speed, _) = load(served.address, None)?;
    // What it takes when it is asked as often as the goal has it: at full speed 1,000 who wait for each other wait 1,000 ÷ speed.
    let (_, p99) = load(served.address, Some(PACE))?;
    let search = search(served.address)?;
    let (code, pin) = proofs()?;
    Ok(vec![
        Figure::alone("authenticated API requests, 1,000 connections", "per second", speed, "at least 20,000", speed >= 20_000.0, 1),
        Figure::alone("the same at 20,000 a second, from when each was due: p99", "ms", p99, "under 10", p99 < 10.0, 1),
        Figure::alone("people found by letters among 10,000: median", "ms", search, "under 20", search < 20.0, 200),
        Figure::alone("checking a time-based code", "µs", code, "(stated)", true, 2000),
        Figure::alone("checking a PIN: its keyed hash", "µs", pin, "(stated)", true, 2000),
    ])
}

fn serve() -> Outcome<Served> {
    let directory = tempfile::Builder::new().prefix("aerie-bench-api-").tempdir()?;
    let keys = Keys::load(directory.path())?;
    tokio::runtime::Runtime::new()?.block_on(async {
        let store = Store::open(&directory.path().join("aerie.db")).await?;
        let person = |n: usize| {
            let role = if n == 0 { "administrator" } else { "technician" };
            serde_json::json!({ "name": format!("p{n}"), "full_name": format!("Person {n} of the {} Watch", n % 97), "organisation": format!("Observatory {}", n % 31),
                "groups": [format!("g{}", n % 100), format!("watch-{}", n % 97)], "roles": [role] })
        };
        let people = (0..PEOPLE).map(|n| serde_json::from_value(person(n))).collect::<Result<_, _>>()?;
        let file = aerie_core::directory::DirectoryFile { people, ..Default::default() };
        store.replace_directory(&file, store.directory_version().await?, "bench", Timestamp::now()).await?;
        store.publish_policy(Publication { text: "", by: "bench", ..Publication::default() }, Timestamp::now()).await?;
        let hash = keys.token_hash(SECRET);
        let token = Token::signed_in(TokenKind::Api, "p0", hash, Proofs::default(), Timestamp::now(), SignedDuration::from_hours(1));
        store.add_token(&Token { scopes: vec!["read".into()], ..token }).await?;
        store.close().await;
        Outcome::Ok(())
    })?;
    let program = std::env::current_exe()?.with_file_name("aerie");
    let mut child = Command::new(program)
        .args(["serve", "--http", "127.0.0.1:0", "--ssh", "127.0.0.1:0", "--data"])
        .arg(directory.path())
        .stderr(Stdio::piped())
        .spawn()?;
    let mut lines = BufReader::new(child.stderr.take().ok_or("no pipe")?).lines();
    let line = lines.find_map(|l| l.ok().filter(|l| l.contains("console is at"))).ok_or("the service did not start")?;
    std::thread::spawn(move || lines.for_each(drop));
    let port = line.split("localhost:").nth(1).and_then(|t| t.split(',').next()).ok_or("no port")?.parse::<u16>()?;
    Ok(Served { child, address: ([127, 0, 0, 1], port).into(), _directory: directory })
}

fn request(path: &str) -> Vec<u8> {
    format!("GET {path} HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer {SECRET}\r\n\r\n").into_bytes()
}

/// Length of the answer that begins here, once its head is there.
fn length(answer: &[u8]) -> Option<usize> {
    let head = answer.windows(4).position(|w| w == b"\r\n\r\n")? + 4;
    let text = std::str::from_utf8(answer.get(..head)?).ok()?;
    let body = text.lines().find_map(|l| l.to_ascii_lowercase().strip_prefix("content-length: ").map(str::to_string))?;
    Some(head + body.trim().parse::<usize>().ok()?)
}

/// Requests a second, and the slowest hundredth in milliseconds. With a pace each connection asks at instants of its own, and time counts
/// from when a request was due, so that a pause of the service is not left out. The load tool has one thread of the two processors.
fn load(address: SocketAddr, pace: Option<f64>) -> Outcome<(f64, f64)> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    let stop = Arc::new(AtomicBool::new(false));
    runtime.block_on(async {
        let ask: Arc<[u8]> = request("/api/v1/me").into();
        let mut tasks = vec![];
        let start = tokio::time::Instant::now() + Duration::from_millis(500);
        for n in 0..CONNECTIONS {
            let mut stream = tokio::net::TcpStream::connect(address).await?;
            stream.set_nodelay(true)?;
            let (ask, stop) = (ask.clone(), stop.clone());
            tasks.push(tokio::spawn(async move {
                let (mut took, mut buffer) = (Vec::with_capacity(1024), vec![0; 8192]);
                let mut due = start + Duration::from_secs_f64(pace.map_or(0.0, |p| n as f64 / p));
                while !stop.load(Ordering::Relaxed) {
                    let began = match pace {
                        Some(pace) => {
                            tokio::time::sleep_until(due).await;
                            let was = due;
                            due += Duration::from_secs_f64(CONNECTIONS as f64 / pace);
                            was.into_std()
                        }
                        None => Instant::now(),
                    };
                    stream.write_all(&ask).await.ok()?;
                    let mut have = 0;
                    loop {
                        have += stream.read(buffer.get_mut(have..)?).await.ok().filter(|n| *n > 0)?;
                        if length(buffer.get(..have)?).is_some_and(|n| have >= n) {
                            break;
                        }
                    }
                    if !buffer.starts_with(b"HTTP/1.1 200") {
                        return None;
                    }
                    took.push(began.elapsed().as_secs_f64() * 1000.0);
                }
                Some(took)
            }));
        }
        // The first second warms up and is not counted apart: it is a tenth of the whole.
        let began = Instant::now();
        tokio::time::sleep(SPAN).await;
        stop.store(true, Ordering::Relaxed);
        let span = began.elapsed().as_secs_f64();
        let mut all = vec![];
        for task in tasks {
            all.extend(task.await?.ok_or("a request was not answered")?);
        }
        all.sort_by(f64::total_cmp);
        let p99 = all.get(all.len() * 99 / 100).copied().unwrap_or(f64::NAN);
        Outcome::Ok((all.len() as f64 / span, p99))
    })
}

/// Milliseconds to find people by a few letters, the way there and back included.
fn search(address: SocketAddr) -> Outcome<f64> {
    let mut stream = TcpStream::connect(address)?;
    stream.set_nodelay(true)?;
    let mut took = vec![];
    for n in 0..200 {
        let letters = ["watch-4", "person%2099", "p77", "observatory%203", "nobody%20at%20all"][n % 5];
        let began = Instant::now();
        stream.write_all(&request(&format!("/api/v1/people?q={letters}")))?;
        let (mut answer, mut piece) = (vec![], [0; 16384]);
        while length(&answer).is_none_or(|n| answer.len() < n) {
            let n = stream.read(&mut piece)?;
            if n == 0 {
                return Err("the search was not answered".into());
            }
            answer.extend_from_slice(piece.get(..n).unwrap_or_default());
        }
        took.push(began.elapsed().as_secs_f64() * 1000.0);
    }
    Ok(median(took))
}

/// Microseconds to check a code, and a PIN.
fn proofs() -> Outcome<(f64, f64)> {
    let now = Timestamp::now();
    let secret = TotpSecret::from_bytes([7; 20]);
    let began = Instant::now();
    for n in 0..2000 {
        if std::hint::black_box(secret.check(&format!("{n:06}"), now, None)) == CodeChecked::Used {
            return Err("nothing was used".into());
        }
    }
    let code = began.elapsed().as_secs_f64() * 1e6 / 2000.0;
    let directory = tempfile::tempdir()?;
    let keys = Keys::load(directory.path())?;
    let state = PinState { made: now, ends: Some(now + SignedDuration::from_mins(10)), tries_left: 5, used: None };
    let began = Instant::now();
    for n in 0..2000 {
        let hashes = keys.token_hashes(&format!("pin {}", &*pin_of(n, 8)));
        std::hint::black_box((hashes, state.is_live(now)));
    }
    Ok((code, began.elapsed().as_secs_f64() * 1e6 / 2000.0))
}
