//! The core on one thread: decisions and log reading.

use super::{Figure, Outcome};
use aerie::commands::audit::{Alone, Reading};
use aerie_core::directory::{Directory, Machine, Person};
use aerie_core::policy::{Capability, Factor, Factors, Facts, Policy, Request, read};
use jiff::Timestamp;
use std::fmt::Write as _;
use std::io::Write as _;
use std::sync::Arc;
use std::time::Instant;

pub(super) fn figures() -> Outcome<Vec<Figure>> {
    let decisions = decisions()?;
    let (speed, grown) = scan()?;
    Ok(vec![
        Figure::alone("decide: 1,000 rules, 10,000 people, 10,000 machines", "million/s", decisions, "at least 1", decisions >= 1.0, 1),
        Figure::alone("audit scan of a 200 MB OpenSSH log", "MB/s", speed, "at least 300", speed >= 300.0, 3),
        Figure::alone("audit scan: memory it takes more for 200 than for 20 MB", "MB", grown, "does not grow", grown < 2.0, 1),
    ])
}

fn decisions() -> Outcome<f64> {
    let mut text = String::from("zone = \"Europe/Berlin\"\n[hours]\nday = [\"mon-fri 07:00-19:00\"]\nnight = [\"daily 18:00-07:30\"]\n");
    for n in 0..1000 {
        let kind = ["allow", "allow", "require", "forbid"][n % 4];
        let hours = ["", "hours = \"day\"\n", "hours = \"night\"\n"][n % 3];
        let capabilities = if n % 2 == 0 { "[\"shell\", \"exec\"]" } else { "[\"upload\", \"download\", \"forward\"]" };
        let demand = if kind == "require" { "factors = [\"key\", \"code\"]\nrecording = true\n" } else { "" };
        let label = if kind == "forbid" { "label:retired" } else { "!label:retired" };
        writeln!(
            text,
            "[[{kind}]]\nname = \"r{n}\"\npeople = \"group:g{}\"\nmachines = \"team=t{} & {label}\"\ncapabilities = {capabilities}\naccounts = [\"op\"]\n{hours}{demand}",
            n % 100,
            n % 50,
        )?;
    }
    let person =
        |n: usize| serde_json::json!({ "name": format!("p{n}"), "groups": [format!("g{}", n % 100), format!("g{}", n * 7 % 100)] });
    let machine = |n: usize| serde_json::json!({ "name": format!("m{n}"), "labels": [format!("team=t{}", n % 50)], "accounts": ["op"] });
    let people: Vec<Person> = (0..10_000).map(|n| serde_json::from_value(person(n))).collect::<Result<_, _>>()?;
    let machines: Vec<Machine> = (0..10_000).map(|n| serde_json::from_value(machine(n))).collect::<Result<_, _>>()?;
    let names: Vec<(String, String)> = (0..1 << 16).map(|n| (format!("p{}", n * 31 % 10_000), format!("m{}", n * 17 % 10_000))).collect();
    let now: Timestamp = "2026-11-23T09:00:00Z".parse()?;
    let document = read(&text).map_err(|e| format!("{e:?}"))?;
    let policy = Policy::compile(document, Arc::new(Directory::new(people, machines)), now);
    let facts = Facts::proved(Factors::of([Factor::Key]), now);
    let rounds = 3_000_000usize;
    let began = Instant::now();
    let mut granted = 0u64;
    for n in 0..rounds {
        let (person, machine) = &names[n & 0xffff];
        let capability = Capability::ALL[n % 5];
        let at = Timestamp::from_second(now.as_second() + (n % 86_400) as i64)?;
        let request = Request { person, capability, machine, account: None, at, from: None, facts };
        granted += u64::from(policy.decide(&request).granted(&request).is_some());
    }
    let speed = rounds as f64 / began.elapsed().as_secs_f64() / 1e6;
    assert!(granted > 0, "nothing was granted: the figure would mean nothing");
    Ok(speed)
}

/// A log as an exposed server has it: mostly guessing, some accesses.
fn write_log(path: &std::path::Path, bytes: u64) -> Outcome<()> {
    let mut out = std::io::BufWriter::new(std::fs::File::create(path)?);
    let (mut written, mut n) = (0u64, 0u64);
    while written < bytes {
        let (minute, second, day) = (n / 60 % 60, n % 60, n / 86_400 % 28 + 1);
        let stamp = format!("Nov {day:>2} {:02}:{minute:02}:{second:02}", n / 3600 % 24);
        let line = match n % 20 {
            0 => format!(
                "{stamp} dome-east sshd[{}]: Accepted publickey for operator from 10.20.4.{} port {} ssh2: ED25519 SHA256:ines\n",
                n % 30_000,
                n % 250,
                n % 60_000 + 1
            ),
            1 => format!(
                "{stamp} dome-east sshd[{}]: Disconnected from user operator 10.20.4.{} port {}\n",
                n % 30_000,
                (n - 1) % 250,
                (n - 1) % 60_000 + 1
            ),
            2..7 => format!(
                "{stamp} dome-east sshd[{}]: Invalid user admin{} from 203.0.113.{} port {}\n",
                n % 30_000,
                n % 999,
                n % 250,
                n % 60_000 + 1
            ),
            7..12 => {
                format!("{stamp} dome-east CRON[{}]: pam_unix(cron:session): session opened for user root(uid=0) by (uid=0)\n", n % 30_000)
            }
            _ => format!(
                "{stamp} dome-east sshd[{}]: Failed password for invalid user admin{} from 203.0.113.{} port {} ssh2\n",
                n % 30_000,
                n % 999,
                n % 250,
                n % 60_000 + 1
            ),
        };
        out.write_all(line.as_bytes())?;
        written += line.len() as u64;
        n += 1;
    }
    Ok(out.flush()?)
}

fn resident(pid: &str) -> Outcome<f64> {
    super::world::resident(pid)
}

fn scan() -> Outcome<(f64, f64)> {
    let directory = tempfile::tempdir()?;
    let at = |name: &str| directory.path().join(name);
    std::fs::write(
        at("rules.toml"),
        "[hours]\nnight = [\"daily 18:00-07:30\"]\n[[allow]]\nname = \"a\"\npeople = \"*\"\nmachines = \"*\"\ncapabilities = [\"shell\"]\naccounts = [\"operator\"]\nhours = \"night\"\n",
    )?;
    std::fs::write(
        at("people.json"),
        "{\"people\":[{\"name\":\"ines\",\"keys\":[{\"fingerprint\":\"SHA256:ines\"}]}],\"machines\":[{\"name\":\"dome-east\",\"accounts\":[\"operator\"]}]}",
    )?;
    let alone = Alone::load(&at("rules.toml"), &at("people.json"), Some(2026), Some("UTC")).map_err(|e| e.message)?;
    write_log(&at("small.log"), 20_000_000)?;
    write_log(&at("large.log"), 200_000_000)?;
    alone.scan(&at("small.log"), &Reading::default(), |_| {}).map_err(|e| e.message)?;
    let before = resident("self")?;
    let mut speeds = vec![];
    for _ in 0..3 {
        let began = Instant::now();
        let result = alone.scan(&at("large.log"), &Reading::default(), |_| {}).map_err(|e| e.message)?;
        speeds.push(200.0 / began.elapsed().as_secs_f64());
        assert!(result.accesses > 50_000 && !result.findings.is_empty(), "the log was not read");
    }
    Ok((super::median(speeds), resident("self")? - before))
}
