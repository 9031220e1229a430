//! The gateway beside plain OpenSSH.

use super::world::{Way, World};
use super::{Figure, Outcome, median};
use std::io::{Read as _, Write as _};
use std::process::{Child, Stdio};
use std::time::{Duration, Instant};

const WAYS: [Way; 3] = [Way::Direct, Way::Jump, Way::Gateway];
const BULK: u64 = 512 << 20;
const BULK_RUNS: usize = 5;
const ECHO_RUNS: usize = 5;
const ECHOES: usize = 1500;
const START_RUNS: usize = 15;
const IDLE: usize = 300;

pub(super) fn figures(world: &World) -> Outcome<Vec<Figure>> {
    let mut found = vec![];
    let (down, up) = (interleaved(BULK_RUNS, |way| download(world, way))?, interleaved(BULK_RUNS, |way| upload(world, way))?);
    for (names, speeds) in [
        (["bulk output, against ssh -J", "bulk output, against direct"], down),
        (["bulk input, against ssh -J", "bulk input, against direct"], up),
    ] {
        let [direct, jump, gateway] = speeds;
        found.push(Figure::beside(names[0], "MiB/s", gateway, jump, "at least 1.4 times", |r| r >= 1.4, BULK_RUNS));
        found.push(Figure::beside(names[1], "MiB/s", gateway, direct, "at least 0.85 of it", |r| r >= 0.85, BULK_RUNS));
    }
    let [direct, jump, gateway] = interleaved(ECHO_RUNS, |way| echo(world, way))?;
    found.push(Figure::beside("round trip of a byte, against ssh -J", "µs", gateway, jump, "at most 1.0 times", |r| r <= 1.0, ECHO_RUNS));
    found.push(Figure::beside("round trip of a byte, against direct", "µs", gateway, direct, "(none)", |_| true, ECHO_RUNS));
    let [direct, jump, gateway] = interleaved(START_RUNS, |way| first_prompt(world, way))?;
    found.push(Figure::beside("time to first prompt, against ssh -J", "ms", gateway, jump, "at most 0.7 times", |r| r <= 0.7, START_RUNS));
    found.push(Figure::beside("time to first prompt, against direct", "ms", gateway, direct, "(none)", |_| true, START_RUNS));
    found.extend(memory(world)?);
    Ok(found)
}

/// Medians of each way, measured in turns.
fn interleaved(runs: usize, mut measure: impl FnMut(Way) -> Outcome<f64>) -> Outcome<[f64; 3]> {
    let mut values = [vec![], vec![], vec![]];
    for _ in 0..runs {
        for (way, values) in WAYS.into_iter().zip(&mut values) {
            values.push(measure(way)?);
        }
    }
    Ok(values.map(median))
}

fn mib_per_second(began: Instant, bytes: u64) -> f64 {
    bytes as f64 / f64::from(1 << 20) / began.elapsed().as_secs_f64()
}

/// Reads to the end and counts.
fn drain(child: &mut Child) -> Outcome<u64> {
    let mut out = child.stdout.take().ok_or("no pipe")?;
    let mut piece = vec![0; 256 << 10];
    let mut seen = 0;
    loop {
        match out.read(&mut piece)? {
            0 => return Ok(seen),
            n => seen += n as u64,
        }
    }
}

fn download(world: &World, way: Way) -> Outcome<f64> {
    let mut child = world.ssh(way, &[&format!("echo; head -c {BULK} /dev/zero")]).spawn()?;
    // The first byte says that the connection stands: setting up is measured elsewhere.
    let out = child.stdout.as_mut().ok_or("no pipe")?;
    out.read_exact(&mut [0])?;
    let began = Instant::now();
    let seen = drain(&mut child)?;
    let speed = mib_per_second(began, seen);
    child.wait()?;
    if seen == BULK { Ok(speed) } else { Err(format!("{way:?}: {seen} bytes of {BULK}").into()) }
}

fn upload(world: &World, way: Way) -> Outcome<f64> {
    let mut child = world.ssh(way, &["echo; cat | wc -c"]).stdin(Stdio::piped()).spawn()?;
    child.stdout.as_mut().ok_or("no pipe")?.read_exact(&mut [0])?;
    let mut stdin = child.stdin.take().ok_or("no pipe")?;
    let piece = vec![0; 256 << 10];
    let began = Instant::now();
    for _ in 0..BULK / piece.len() as u64 {
        stdin.write_all(&piece)?;
    }
    drop(stdin);
    let mut text = String::new();
    child.stdout.take().ok_or("no pipe")?.read_to_string(&mut text)?;
    let speed = mib_per_second(began, BULK);
    child.wait()?;
    if text.trim() == BULK.to_string() { Ok(speed) } else { Err(format!("{way:?}: {text:?}").into()) }
}

fn echo(world: &World, way: Way) -> Outcome<f64> {
    let mut child = world.ssh(way, &["cat"]).stdin(Stdio::piped()).spawn()?;
    let (mut stdin, mut stdout) = (child.stdin.take().ok_or("no pipe")?, child.stdout.take().ok_or("no pipe")?);
    let mut trips = vec![];
    for n in 0..ECHOES + 100 {
        let began = Instant::now();
        stdin.write_all(b"x")?;
        stdin.flush()?;
        stdout.read_exact(&mut [0])?;
        // The first hundred warm up.
        if n >= 100 {
            trips.push(began.elapsed().as_secs_f64() * 1e6);
        }
    }
    drop(stdin);
    child.wait()?;
    Ok(median(trips))
}

fn first_prompt(world: &World, way: Way) -> Outcome<f64> {
    let began = Instant::now();
    let mut child = world.ssh(way, &["-tt"]).stdin(Stdio::piped()).spawn()?;
    child.stdout.as_mut().ok_or("no pipe")?.read_exact(&mut [0])?;
    let took = began.elapsed().as_secs_f64() * 1e3;
    child.kill()?;
    child.wait()?;
    Ok(took)
}

fn memory(world: &World) -> Outcome<Vec<Figure>> {
    let idle = settled(world)?;
    let mut most = idle;
    // A gigabyte through a loop of the machine's own.
    let mut child = world.ssh(Way::Gateway, &["cat"]).stdin(Stdio::piped()).spawn()?;
    let mut stdin = child.stdin.take().ok_or("no pipe")?;
    let feeding = std::thread::spawn(move || {
        let piece = vec![7; 1 << 20];
        (0..1024).try_for_each(|_| stdin.write_all(&piece))
    });
    let reading = std::thread::spawn(move || drain(&mut child).map_err(|e| e.to_string()));
    while !reading.is_finished() {
        most = most.max(world.memory()?);
        std::thread::sleep(Duration::from_millis(20));
    }
    feeding.join().map_err(|_| "the feeder failed")??;
    let seen = reading.join().map_err(|_| "the reader failed")??;
    let whole = seen == 1 << 30;
    let gigabyte = most - idle;

    // A reader that stops for a minute, and twenty channels of one connection of which one is stalled.
    let mut stopped = world.ssh(Way::Gateway, &[&format!("head -c {} /dev/zero", 256 << 20)]).spawn()?;
    let control = world.path("control");
    let option = format!("-oControlPath={}", control.display());
    let mut master = world.ssh(Way::Gateway, &["-MN", &option]).spawn()?;
    while !control.exists() {
        std::thread::sleep(Duration::from_millis(10));
    }
    let mut stalled = world.ssh(Way::Gateway, &[&option, "cat /dev/zero"]).spawn()?;
    let others: Vec<Child> =
        (0..19).map(|_| world.ssh(Way::Gateway, &[&option, "head -c 20000000 /dev/zero"]).spawn()).collect::<Result<_, _>>()?;
    let mut others_whole = true;
    for mut other in others {
        others_whole &= drain(&mut other)? == 20_000_000;
        other.wait()?;
    }
    let mut most = idle;
    let until = Instant::now() + Duration::from_secs(60);
    while Instant::now() < until {
        most = most.max(world.memory()?);
        std::thread::sleep(Duration::from_millis(200));
    }
    let after = drain(&mut stopped)?;
    stopped.wait()?;
    for child in [&mut stalled, &mut master] {
        child.kill()?;
        child.wait()?;
    }
    let stalls = most - idle;
    let finished = others_whole && after == 256 << 20;

    let before = settled(world)?;
    let mut sessions = vec![];
    for _ in 0..IDLE {
        let mut child = world.ssh(Way::Gateway, &["-tt"]).stdin(Stdio::piped()).spawn()?;
        child.stdout.as_mut().ok_or("no pipe")?.read_exact(&mut [0])?;
        sessions.push(child);
    }
    let open = settled(world)?;
    for child in &mut sessions {
        child.kill()?;
        child.wait()?;
    }
    let each = (open - before) * 1024.0 / IDLE as f64;
    Ok(vec![
        Figure::alone("1 GB through cat: memory over idle", "MB", gigabyte, "finishes, under 64", whole && gigabyte < 64.0, 1),
        Figure::alone(
            "stalled channel and reader stopped for a minute: over idle",
            "MB",
            stalls,
            "finish, under 64",
            finished && stalls < 64.0,
            1,
        ),
        Figure::alone("memory per idle recorded session, 300 open", "KB", each, "at most 150", each <= 150.0, 1),
    ])
}

/// Memory once it has not changed for a second.
fn settled(world: &World) -> Outcome<f64> {
    let mut last = world.memory()?;
    loop {
        std::thread::sleep(Duration::from_secs(2));
        let now = world.memory()?;
        if (now - last).abs() < 0.3 {
            return Ok(now);
        }
        last = now;
    }
}
