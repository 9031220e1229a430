//! The audit of a large log: reading, records, rules and detections together, beside programs that only count.

use super::{Figure, Outcome, median};
use aerie_core::audit::detect::DetectionSet;
use aerie_core::audit::read::Format;
use aerie_core::audit::{Auditor, Behaviour, Happened, History, LogClock, Recorded, Scan, Scanned, World};
use aerie_core::directory::{Directory, Machine, Person};
use aerie_core::policy::{Policy, read};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use std::fmt::Write as _;
use std::io::Write as _;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::Arc;

/// Lines of the log.
const LINES: u64 = 2_000_000;
const ROUNDS: usize = 3;
/// How often the log is read in a row to see whether memory grows: 25 times 200 MB are 5 GB.
const REPEATED: usize = 25;

/// What the log is known to hold.
#[derive(Debug, Default, PartialEq, Eq)]
struct Truth {
    accesses: u64,
    failed: u64,
    bytes: u64,
}

/// A log as an exposed server has it: most of it guessing, from 20,000 addresses.
fn write_log(path: &Path) -> Outcome<Truth> {
    let mut out = std::io::BufWriter::new(std::fs::File::create(path)?);
    let (mut truth, mut line) = (Truth::default(), String::new());
    let mut chance = 0x5eed_u64;
    for n in 0..LINES {
        chance = chance.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        let (a, b) = (chance >> 33, chance >> 45);
        let (second, day) = (n % 60, n / 75_000 + 1);
        let (hour, minute) = (n * 24 / 75_000 % 24, n * 1440 / 75_000 % 60);
        line.clear();
        write!(line, "Nov {day:>2} {hour:02}:{minute:02}:{second:02} dome-east ")?;
        let pid = a % 30_000;
        match n % 20 {
            0 => {
                truth.accesses += 1;
                write!(
                    line,
                    "sshd[{pid}]: Accepted publickey for operator from 10.20.{}.{} port {} ssh2: ED25519 SHA256:k{}",
                    a % 8,
                    b % 250,
                    n % 60_000 + 1,
                    b % 500
                )?;
            }
            1 => write!(line, "sshd[{pid}]: Disconnected from user operator 10.20.{}.{} port {}", a % 8, b % 250, (n - 1) % 60_000 + 1)?,
            2..7 => write!(line, "sshd[{pid}]: Invalid user admin{} from 203.0.{}.{} port {}", a % 999, a % 80, b % 250, n % 60_000 + 1)?,
            7..10 => write!(line, "CRON[{pid}]: pam_unix(cron:session): session opened for user root(uid=0) by root(uid=0)")?,
            _ => {
                truth.failed += 1;
                write!(
                    line,
                    "sshd[{pid}]: Failed password for invalid user admin{} from 203.0.{}.{} port {} ssh2",
                    a % 999,
                    a % 80,
                    b % 250,
                    n % 60_000 + 1
                )?;
            }
        }
        line.push('\n');
        out.write_all(line.as_bytes())?;
        truth.bytes += line.len() as u64;
    }
    out.flush()?;
    Ok(truth)
}

fn world() -> Outcome<Arc<World>> {
    let mut text = String::from("zone = \"UTC\"\n[hours]\nnight = [\"daily 18:00-07:30\"]\n");
    for n in 0..2000 {
        let hours = if n % 3 == 0 { "hours = \"night\"\n" } else { "" };
        let (people, machines) =
            (format!("group:g{}", n % 100), if n % 50 == 0 { "name:dome-east".to_string() } else { format!("name:m{}", n % 500) });
        writeln!(
            text,
            "[[allow]]\nname = \"r{n}\"\npeople = \"{people}\"\nmachines = \"{machines}\"\ncapabilities = [\"shell\"]\naccounts = [\"operator\"]\n{hours}"
        )?;
    }
    let person = |n: usize| serde_json::json!({ "name": format!("p{n}"), "groups": [format!("g{}", n % 100)], "keys": [{ "fingerprint": format!("SHA256:k{n}") }] });
    let machine = |name: &str| serde_json::json!({ "name": name, "accounts": ["operator"] });
    let people: Vec<Person> = (0..500).map(|n| serde_json::from_value(person(n))).collect::<Result<_, _>>()?;
    let names = (0..500).map(|n| format!("m{n}")).chain(["dome-east".to_string()]);
    let machines: Vec<Machine> = names.map(|n| serde_json::from_value(machine(&n))).collect::<Result<_, _>>()?;
    let document = read(&text).map_err(|e| format!("{e:?}"))?;
    let policy = Policy::compile(document, Arc::new(Directory::new(people, machines)), "2026-11-15T00:00:00Z".parse()?);
    Ok(Arc::new(World {
        history: History::new(vec![(Timestamp::UNIX_EPOCH, Arc::new(policy))]),
        sessions: None,
        own: std::collections::HashMap::new(),
        authorities: None,
        detections: Arc::new(DetectionSet::shipped()),
    }))
}

fn scan(world: &Arc<World>) -> Scan {
    let clock = LogClock::of_year(TimeZone::UTC, 2026);
    Scan::new(Auditor::new(world.clone()), "large.log", clock, Some(Format::Lines), None)
}

/// The whole way: read, records, rules, detections on lines, detections on records. Gives findings of the last.
fn whole(world: &Arc<World>, path: &Path) -> Outcome<(Scanned, usize)> {
    use std::io::Read as _;
    let mut records = vec![];
    let mut each = |told: Recorded| {
        if let Recorded::Began(r) = told {
            records.push(Happened::from(&r));
        }
    };
    let (mut scan, mut file, mut piece) = (scan(world), std::fs::File::open(path)?, vec![0; 1 << 20]);
    loop {
        let n = file.read(&mut piece)?;
        if n == 0 {
            break;
        }
        scan.handle_bytes(piece.get(..n).unwrap_or(&[]), &mut each);
    }
    let scanned = scan.finish(&TimeZone::UTC, &mut each);
    let mut behaviour = Behaviour::new(&world.history, world.detections.clone());
    records.into_iter().for_each(|r| behaviour.handle(r));
    Ok((scanned, behaviour.finish("2026-12-01T00:00:00Z".parse()?).len()))
}

/// Seconds of processor time that this process (or its children that ended) used so far.
fn used(whose: nix::sys::resource::UsageWho) -> Outcome<f64> {
    let usage = nix::sys::resource::getrusage(whose)?;
    let seconds = |t: nix::sys::time::TimeVal| t.tv_sec() as f64 + t.tv_usec() as f64 / 1e6;
    Ok(seconds(usage.user_time()) + seconds(usage.system_time()))
}

/// Processor seconds of a program; none where it is not installed.
fn peer(program: &str, arguments: &[&str], input: Option<&str>) -> Outcome<Option<f64>> {
    let before = used(nix::sys::resource::UsageWho::RUSAGE_CHILDREN)?;
    let mut command = Command::new(program);
    // A pipe: to nowhere, some programs stop at the first match.
    command.args(arguments).stdout(Stdio::piped()).stderr(Stdio::null());
    command.stdin(if input.is_some() { Stdio::piped() } else { Stdio::null() });
    let Ok(mut child) = command.spawn() else { return Ok(None) };
    if let (Some(text), Some(mut stdin)) = (input, child.stdin.take()) {
        stdin.write_all(text.as_bytes())?;
    }
    child.wait_with_output()?;
    Ok(Some(used(nix::sys::resource::UsageWho::RUSAGE_CHILDREN)? - before))
}

pub(super) fn figures() -> Outcome<Vec<Figure>> {
    let directory = tempfile::tempdir()?;
    let path = directory.path().join("large.log");
    let truth = write_log(&path)?;
    let file = path.display().to_string();
    let world = world()?;
    let counting = r#"/Failed password/ { for (i = 1; i < NF; i++) if ($i == "from") n[$(i + 1)]++ } END { for (a in n) print n[a], a }"#;
    let load = format!(
        "CREATE TABLE l (t TEXT);\n.mode list\n.separator \"\\001\"\n.import {file} l\nSELECT substr(t, instr(t, ' from ') + 6, 14) AS a, count(*) FROM l WHERE t LIKE '%Failed password%' GROUP BY a;\n"
    );
    let (mut ours, mut mawk, mut gawk, mut grep, mut sqlite) = (vec![], vec![], vec![], vec![], vec![]);
    for _ in 0..ROUNDS {
        let before = used(nix::sys::resource::UsageWho::RUSAGE_SELF)?;
        let (scanned, together) = whole(&world, &path)?;
        ours.push(used(nix::sys::resource::UsageWho::RUSAGE_SELF)? - before);
        let found = Truth { accesses: scanned.counts.accepted, failed: scanned.counts.failed, bytes: truth.bytes };
        assert_eq!(found, truth, "the log was not read");
        assert!(scanned.counts.lines == LINES && scanned.findings.len() + together > 100, "nothing was found");
        mawk.extend(peer("mawk", &[counting, &file], None)?);
        gawk.extend(peer("gawk", &[counting, &file], None)?);
        grep.extend(peer("grep", &["-c", "Failed password", &file], None)?);
        sqlite.extend(peer("sqlite3", &[":memory:"], Some(&load))?);
    }
    // Memory: the same lines again and again, in one scan that never ends.
    let text = std::fs::read(&path)?;
    let mut endless = scan(&world);
    text.chunks(1 << 20).for_each(|piece| endless.handle_bytes(piece, &mut |_| {}));
    let once = super::world::resident("self")?;
    for _ in 1..REPEATED {
        text.chunks(1 << 20).for_each(|piece| endless.handle_bytes(piece, &mut |_| {}));
    }
    let grown = super::world::resident("self")? - once;
    let own = once - text.len() as f64 / 1e6;
    drop(endless);
    let seconds = median(ours);
    let speed = LINES as f64 / 1e6 / seconds;
    let mut figures = vec![
        Figure::alone("whole audit of 2 million lines, one processor", "million lines/s", speed, "at least 1", speed >= 1.0, ROUNDS),
        Figure::alone("the same: memory of the scan, after 200 MB", "MB", own, "at most 200", own <= 200.0, 1),
        Figure::alone("the same: memory it takes more for 5 GB than for 200 MB", "MB", grown, "does not grow", grown < 5.0, 1),
    ];
    for (name, times, goal) in [
        ("whole audit, against mawk counting failures", mawk, "no slower"),
        ("whole audit, against gawk counting failures", gawk, "(stated)"),
        ("whole audit, against grep -c", grep, "(stated)"),
        ("whole audit, against SQLite: load and count", sqlite, "(stated)"),
    ] {
        if !times.is_empty() {
            let judged = |ratio: f64| goal != "no slower" || ratio <= 1.0;
            figures.push(Figure::beside(name, "CPU seconds", seconds, median(times), goal, judged, ROUNDS));
        }
    }
    Ok(figures)
}
