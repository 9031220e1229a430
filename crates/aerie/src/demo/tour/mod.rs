//! The whole example without a person: each step is done with the real programs, and checked.

mod audit;
mod visit;

use super::browser::Browser;
use super::newcomer::Newcomer;
use super::people::{Ended, People};
use super::running::Running;
use crate::cli::Demo;
use crate::output::Printer;
use crate::{Exit, Failure};
use aerie_api::{EffectQuery, EffectView, RuleEdit, SessionView, WhyQuery};
use aerie_client::{Client, ClientError, FindingQuery, ListQuery, SessionQuery};
use jiff::tz::TimeZone;
use jiff::{Timestamp, Zoned};
use serde::Serialize;
use std::time::{Duration, Instant};

/// How long a step may take; waiting for a further code takes half a minute.
/// Sunniva at the spectrograph, in the account of the user who sits there.
const AT_COUDE: &str = "sunniva+observer@coude-1@aerie";
const STEP_LIMIT: Duration = Duration::from_secs(120);

/// One step of the tour.
#[derive(Debug, Serialize)]
pub struct Step {
    /// What was done.
    pub what: String,
    /// Whether it held.
    pub held: bool,
    /// What came of it.
    pub result: String,
    /// Milliseconds it took.
    pub took_ms: u64,
}

/// The tour.
struct Tour {
    people: People,
    client: Client,
    printer: Printer,
    steps: Vec<Step>,
}

type Found = Result<(bool, String), Failure>;

pub(crate) async fn run(options: &Demo, printer: Printer) -> Result<Exit, Failure> {
    let any = "127.0.0.1:0".parse().map_err(|_| Failure::internal("no address"))?;
    let options = Demo {
        keep: options.keep.clone(),
        describe: options.describe.clone(),
        tour: true,
        end_with_stdin: false,
        http: any,
        ssh: any,
        command: None,
    };
    let running = Running::start(&options).await?;
    if let Some(file) = &options.describe {
        running.describe(file)?;
    }
    let demo = running.description.clone();
    let client = Client::new(&demo.api, Some(demo.token.clone()));
    let mut tour = Tour { people: People::new(demo)?, client, printer, steps: vec![] };
    if !printer.json {
        let d = &tour.people.demo;
        printer.line(&format!(
            "Corvid Ridge Observatory: {} machines, {} people, {} past sessions.\n",
            d.machines.len(),
            d.people.len(),
            d.past_sessions
        ));
    }
    tour.go().await;
    let steps = tour.steps;
    running.stop().await?;
    let held = steps.iter().all(|s| s.held);
    let failed = steps.iter().filter(|s| !s.held).count();
    printer.value(&serde_json::json!({ "held": held, "steps": steps }), |_| match failed {
        0 => format!("\nAll {} steps held.", steps.len()),
        n => format!("\n{n} of {} steps did not hold.", steps.len()),
    })?;
    Ok(if held { Exit::Done } else { Exit::No })
}

impl Tour {
    async fn step(&mut self, what: &str, did: impl AsyncFnOnce(&Self) -> Found) {
        let began = Instant::now();
        let found = tokio::time::timeout(STEP_LIMIT, did(self)).await;
        self.note(what, found, began);
    }

    fn note(&mut self, what: &str, found: Result<Found, tokio::time::error::Elapsed>, began: Instant) {
        let (held, result) = match found {
            Ok(Ok(found)) => found,
            Ok(Err(e)) => (false, e.message),
            Err(_) => (false, format!("did not end within {} s", STEP_LIMIT.as_secs())),
        };
        if !self.printer.json {
            let word = if held { "held  " } else { "FAILED" };
            self.printer.line(&format!("{word}  {what}\n        {}", result.replace('\n', "\n        ")));
        }
        self.steps.push(Step { what: what.into(), held, result, took_ms: began.elapsed().as_millis() as u64 });
    }

    async fn go(&mut self) {
        self.step("Lena signs in with password and code", async |t| t.sign_in().await).await;
        self.step("Sunniva runs a command on spectro-1, with key and code", async |t| t.command().await).await;
        self.step("Arlo works in a shell on archive-db, with his key alone", async |t| t.shell().await).await;
        self.step("The recording of that shell verifies, and has no secret in it", async |t| t.recording().await).await;
        self.step("Arlo copies a file to archive-db and back (scp, sftp, rsync)", async |t| t.files().await).await;
        self.step("Amara reaches spectro-1 by the jump form", async |t| t.jump().await).await;
        self.step("Amara forwards a port to a program on guide-cam", async |t| t.forward().await).await;
        self.step("Arlo is refused on dome-east", async |t| t.refused().await).await;
        self.step("The hours of the night are kept", async |t| t.hours().await).await;
        self.step("Machines in a closed network are reached through an agent and a relay", async |t| t.closed().await).await;
        self.step("A kept password lets Mira in, is changed afterwards, and nobody saw it", async |t| t.kept().await).await;
        let apart = self.people.demo.remark.is_none();
        if apart {
            self.step("Jun is let onto coude-1 by whoever sits there, who then stops it", async |t| t.consent().await).await;
        } else if !self.printer.json {
            self.printer
                .line("left out  The person at coude-1: the accounts of machines share one user here, so answers cannot be told apart.");
        }
        if apart && visit::has_screens() {
            self.step("Mira sees the screen of coude-1, and has the keyboard when whoever sits there agrees", async |t| t.screen().await)
                .await;
        } else if !self.printer.json {
            self.printer.line("left out  The screen of coude-1: tigervnc-standalone-server is not installed (`make packages`).");
        }
        self.step("In an emergency Mira waits for nobody, and everybody hears of it", async |t| t.emergency().await).await;
        self.step("Mira waits for a scientist, who gives her less than she asked for", async |t| t.approval().await).await;
        self.step("All sessions are stopped, and the service is locked down and opened again", async |t| t.stop().await).await;
        self.helped().await;
        self.newcomer().await;
        self.step("A rule that would break a guardrail cannot be published", async |t| t.guardrail().await).await;
        self.step("A draft shows who gains and loses what", async |t| t.compare().await).await;
        self.step("The past month under the draft shows what it would have refused", async |t| t.backtest().await).await;
        self.step("Somebody signs in to spectro-1 around the gateway, and the audit finds it", async |t| t.around().await).await;
        self.step("The audits of a month found what was planted", async |t| t.planted().await).await;
        self.step("A finding is taken on, settled and in the log", async |t| t.case().await).await;
        self.step("The log of coude-1 comes by its agent, and shows the session there", async |t| t.shipped().await).await;
        self.step("A session that other rules would refuse is told, and no finding changes", async |t| t.again().await).await;
        self.step("The week as the auditor gets it by mail", async |t| t.report().await).await;
        self.step("The log verifies", async |t| t.log().await).await;
        self.step("Evidence for an outsider verifies without the service, and not once it was changed", async |t| t.evidence().await).await;
    }

    /// Somebody new comes; in a real browser, where there is one.
    /// Somebody who needs help and somebody who gives it, each at a browser of their own.
    async fn helped(&mut self) {
        let browsers = async { Ok::<_, Failure>(Browser::start(false).await?.zip(Browser::start(false).await?)) };
        match browsers.await {
            Ok(Some((rhea, mira))) => {
                let what = "A visit from an incident: PIN, consent, what is shared, a note, a picture, and the record on it";
                self.step(what, async |t| t.visit(&rhea, &mira).await).await;
                rhea.quit().await;
                mira.quit().await;
            }
            // It is said once that there is no browser.
            Ok(None) => {}
            Err(e) => self.step("Two browsers start", async |_| Err(e)).await,
        }
    }

    async fn newcomer(&mut self) {
        let browser = match Browser::start(false).await {
            Ok(Some(browser)) => browser,
            Ok(None) => {
                if !self.printer.json {
                    self.printer.line("left out  The steps in a browser: chromium-driver is not installed (`make packages`).");
                }
                return;
            }
            Err(e) => {
                self.step("A browser starts", async |_| Err(e)).await;
                return;
            }
        };
        // Each borrows the tour for its own time alone.
        macro_rules! steps {
            ($($what:literal: |$n:ident| $did:expr;)*) => { $({
                let began = Instant::now();
                let found = { let $n = Newcomer { people: &self.people, client: &self.client, browser: &browser }; tokio::time::timeout(STEP_LIMIT, $did).await };
                self.note($what, found, began);
            })* };
        }
        steps! {
            "Oona takes her invitation, and must enrol before anything else": |n| n.comes();
            "Oona signs in with her passkey alone": |n| n.signs_in();
            "A weak SSH key is refused, a good one registered": |n| n.keys();
            "The archive wants her passkey in the terminal as well": |n| n.steps_up("first");
            "Oona rotates her key": |n| n.rotates();
        }
        browser.quit().await;
    }

    async fn sign_in(&self) -> Found {
        let code = self.people.codes.next("lena").await;
        let me = Client::new(&self.people.demo.api, None).sign_in("lena", "lena watches the sky", &code).await?;
        let again = Client::new(&self.people.demo.api, None).sign_in("lena", "lena watches the sky", &code).await;
        let now = self.client.now().await?;
        Ok((again.is_err(), format!("{} is signed in; the same code a second time is refused. {}", me.full_name, now.sentence)))
    }

    async fn command(&self) -> Found {
        let e = self.people.run("ssh", "sunniva", &["sunniva+spectro-1@aerie", "hostname; echo to stderr >&2; exit 7"], "").await?;
        let held = e.status == Some(7) && e.out == "spectro-1\n" && e.err.contains("to stderr");
        Ok((held, format!("said {:?}, exit status {}", e.out.trim(), status(&e))))
    }

    async fn closed(&self) -> Found {
        if !self.people.demo.machines.iter().any(|m| m.name == "coude-1" && m.address.port() == 22) {
            return Ok((true, "left out: without namespaces no machine stands in a closed network".into()));
        }
        let mut held = true;
        let mut said = vec![];
        for (login, name) in [("sunniva+coude-1@aerie", "coude-1"), ("sunniva+comb-1@aerie", "comb-1")] {
            let e = self.people.run("ssh", "sunniva", &[login, "hostname"], "").await?;
            held &= e.status == Some(0) && e.out.trim() == name;
            said.push(format!("{login} said {:?}", e.out.trim()));
        }
        Ok((held, format!("{}; nothing listens for them anywhere", said.join(", "))))
    }

    /// Somebody's session, once it is live; the newest.
    async fn live(&self, person: &str) -> Result<SessionView, Failure> {
        let query = SessionQuery { state: Some("live".into()), person: Some(person.into()), limit: Some(1), ..SessionQuery::default() };
        loop {
            if let Some(live) = self.client.sessions(&query).await?.items.into_iter().next() {
                return Ok(live);
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// A client of somebody who signed in with password and code.
    async fn as_person(&self, person: &str) -> Result<Client, Failure> {
        let password = self.people.demo.people.iter().find(|p| p.name == person).map(|p| p.password.clone()).unwrap_or_default();
        let code = self.people.codes.next(person).await;
        let me = Client::new(&self.people.demo.api, None).sign_in(person, &password, &code).await?;
        Ok(Client::new(&self.people.demo.api, me.token))
    }

    async fn consent(&self) -> Found {
        let here = |say: &str| format!("{} agent answer --wait --say {say}", aerie_lab::PROGRAM);
        // Sunniva sits at coude-1, in an account that no other user may use.
        let (agree, stop) = (here("agree"), here("stop"));
        let arguments = [AT_COUDE, agree.as_str()];
        let agrees = self.people.run("ssh", "sunniva", &arguments, "");
        let works = self.people.run("ssh", "jun", &["jun+coude-1@aerie", "echo in; exec sleep 60"], "");
        let stops = async {
            self.live("jun").await?;
            self.people.run("ssh", "sunniva", &[AT_COUDE, &stop], "").await
        };
        let agreed = async {
            let agreed = agrees.await?;
            stops.await?;
            Ok::<_, Failure>(agreed)
        };
        let (agreed, worked) = tokio::join!(agreed, works);
        let (agreed, worked) = (agreed?, worked?);
        let held =
            agreed.status == Some(0) && worked.out.contains("in") && worked.err.contains("the person at the machine agrees no longer");
        let told = worked.err.lines().filter(|l| l.contains("aerie:")).map(str::trim).collect::<Vec<_>>().join("\n");
        Ok((held, told))
    }

    async fn approval(&self) -> Found {
        let amara = self.as_person("amara").await?;
        let works = self.people.run_because("ssh", "mira", "The slit wheel stalls", &["mira+spectro-1@aerie", "hostname"]);
        let answers = async {
            loop {
                let open = amara.requests(Some("open")).await?;
                if let Some(request) = open.into_iter().find(|r| r.waiting && r.yours) {
                    let until = Some(Timestamp::now() + jiff::SignedDuration::from_mins(30));
                    let given = aerie_api::NewAnswer { yes: true, until, ..Default::default() };
                    return Ok::<_, Failure>(amara.answer(&request.id, &given).await?);
                }
                tokio::time::sleep(Duration::from_millis(50)).await;
            }
        };
        let (worked, answered) = tokio::join!(works, answers);
        let (worked, answered) = (worked?, answered?);
        let pass = amara.passes().await?.into_iter().find(|p| p.id == answered.id);
        let held = worked.out.trim() == "spectro-1" && pass.as_ref().is_some_and(|p| p.until < answered.until);
        let waited = worked.err.lines().find(|l| l.contains("waiting for")).unwrap_or_default().trim().to_string();
        Ok((held, format!("{waited}\n{}", pass.map(|p| p.sentence).unwrap_or_default())))
    }

    async fn emergency(&self) -> Found {
        let worked =
            self.people.run_because("ssh", "mira", "The cryostat warms up", &["mira+spectro-1+emergency@aerie", "hostname"]).await?;
        let query = FindingQuery { kind: Some("emergency-used".into()), limit: Some(1), ..FindingQuery::default() };
        let finding = self.client.findings(&query).await?.items.into_iter().next();
        let own = match &finding {
            Some(f) => self.as_person("mira").await?.review_finding(&f.id, "It was fine").await.is_err(),
            None => false,
        };
        let notices = self.client.notices().await?;
        let of = |channel: &str| notices.iter().filter(|n| n.channel == channel && n.subject.starts_with("Emergency")).count();
        let (told, hooks) = (of("mail"), of("webhook"));
        let open = finding.as_ref().is_some_and(|f| f.settled.is_none());
        let sentence = finding.map(|f| f.sentence).unwrap_or_default();
        Ok((
            worked.out.trim() == "spectro-1" && open && own && told > 0 && hooks > 0,
            format!("{sentence}\n{told} people were told by mail, and a webhook; she cannot close it herself"),
        ))
    }

    async fn stop(&self) -> Found {
        let works = self.people.run("ssh", "amara", &["amara+guide-cam@aerie", "sleep 60"], "");
        let stops = async {
            self.live("amara").await?;
            let order = aerie_api::StopOrder { all: Some(true), why: "Lightning on the ridge".into(), ..Default::default() };
            let stopped = self.client.stop(&order).await?;
            self.client.lock_down("Lightning on the ridge").await?;
            Ok::<_, Failure>(stopped)
        };
        let (worked, stopped) = tokio::join!(works, stops);
        let (worked, stopped) = (worked?, stopped?);
        let kept_out = self.people.run("ssh", "amara", &["amara+guide-cam@aerie", "hostname"], "").await?;
        self.as_person("tove").await?.lift("The storm is over").await?;
        let again = self.people.run("ssh", "amara", &["amara+guide-cam@aerie", "hostname"], "").await?;
        let held = worked.err.contains("Lightning on the ridge") && kept_out.err.contains("locked down") && again.out.trim() == "guide-cam";
        Ok((held, format!("{}\n{}", stopped.sentence, kept_out.err.trim())))
    }

    async fn kept(&self) -> Found {
        let e = self.people.run("ssh", "mira", &["mira+chiller-2@aerie", "id -un"], "").await?;
        let mut credential = self.client.machine("chiller-2").await?.credentials.into_iter().next();
        while credential.as_ref().is_some_and(|c| c.used.is_some_and(|u| u > c.changed)) {
            tokio::time::sleep(Duration::from_millis(100)).await;
            credential = self.client.machine("chiller-2").await?.credentials.into_iter().next();
        }
        let held = e.status == Some(0) && e.out.trim() == "operator" && credential.is_some();
        Ok((held, format!("she was {}; {}", e.out.trim(), credential.map(|c| c.sentence).unwrap_or_default())))
    }

    async fn shell(&self) -> Found {
        // The prompt comes when nothing is echoed any more, and is not in what is typed for it.
        let input = "echo on $(hostname) as $(whoami)\nstty -echo; printf 'Pass%s: ' word; read -r secret; stty echo; echo\n";
        let mut child = self
            .people
            .command("ssh", "", &["-tt", "arlo+archive-db@aerie"])
            .stdin(std::process::Stdio::piped())
            .spawn()
            .map_err(|e| Failure::file("ssh", &e))?;
        let (Some(mut stdin), Some(stdout)) = (child.stdin.take(), child.stdout.take()) else { return Err(Failure::internal("no pipes")) };
        use tokio::io::AsyncWriteExt as _;
        let send = async |stdin: &mut tokio::process::ChildStdin, text: &str| {
            stdin.write_all(text.as_bytes()).await.map_err(|e| Failure::file("ssh", &e))
        };
        let mut screen = Screen { from: stdout, seen: String::new() };
        screen.until("archive-db:~$").await?;
        for line in input.lines() {
            send(&mut stdin, &format!("{line}\n")).await?;
            screen.until(if line.starts_with("echo") { "on archive-db as archivist" } else { "Password: " }).await?;
        }
        send(&mut stdin, "swordfish-77\n").await?;
        screen.until("archive-db:~$").await?;
        send(&mut stdin, "exit 5\n").await?;
        let ended = child.wait().await.map_err(|e| Failure::file("ssh", &e))?;
        Ok((ended.code() == Some(5), format!("on archive-db as archivist, exit status {}", ended.code().unwrap_or(-1))))
    }

    /// The newest session of a person, once it is closed.
    async fn newest(&self, person: &str, machine: &str) -> Result<SessionView, Failure> {
        let query = SessionQuery { person: Some(person.into()), machine: Some(machine.into()), limit: Some(1), ..SessionQuery::default() };
        for _ in 0..200 {
            let found = self.client.sessions(&query).await?.items.into_iter().next();
            if let Some(s) = found.filter(|s| s.ended.is_some() && s.digest.is_some()) {
                return Ok(s);
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        Err(Failure::internal(format!("no session of {person} on {machine} was closed")))
    }

    async fn recording(&self) -> Found {
        let session = self.newest("arlo", "archive-db").await?;
        let report = self.client.verify_recording(&session.id).await?;
        let text = self.client.recording_text(&session.id).await?;
        let held = report.holds
            && report.complete
            && report.in_log == Some(true)
            && text.contains("on archive-db as archivist")
            && !text.contains("swordfish");
        Ok((held, format!("{} Its digest is the one in the log; what was typed at the password prompt is not in it.", report.sentence)))
    }

    async fn files(&self) -> Found {
        let here = self.people.directory();
        let text: String = (0..20_000).map(|n| format!("plate {n}\n")).collect();
        let file = here.join("plates.txt");
        std::fs::write(&file, &text).map_err(|e| Failure::file(file.display(), &e))?;
        let (local, back) = (file.display().to_string(), here.join("back"));
        let mut said = vec![];
        let ways: [(&str, Vec<String>, &str); 3] = [
            ("scp", vec![local.clone(), "arlo+archive-db@aerie:/tmp/a.txt".into()], ""),
            ("sftp", vec!["-b".into(), "-".into(), "arlo+archive-db@aerie".into()], "get /tmp/a.txt BACK"),
            ("rsync", vec!["-a".into(), local, "arlo+archive-db@aerie:/tmp/b.txt".into()], ""),
        ];
        let mut held = true;
        for (program, arguments, input) in ways {
            let arguments: Vec<&str> = arguments.iter().map(String::as_str).collect();
            let input = input.replace("BACK", &back.display().to_string());
            let e = self.people.run_with(program, "", &arguments, &input).await?;
            held &= e.status == Some(0);
            said.push(format!("{program} {}", status(&e)));
        }
        held &= std::fs::read_to_string(&back).is_ok_and(|b| b == text);
        let copied =
            self.client.log(&ListQuery { kind: Some("file-transferred".into()), limit: Some(2), ..ListQuery::default() }).await?.items;
        held &= copied.len() == 2;
        said.extend(copied.into_iter().map(|e| e.sentence));
        Ok((held, said.join("\n")))
    }

    async fn jump(&self) -> Found {
        let key = self.people.demo.key_file("amara").to_string();
        let e = self.people.run("ssh", "amara", &["-i", &key, "-J", "amara@aerie", "operator@spectro-1", "hostname"], "").await?;
        Ok((e.status == Some(0) && e.out == "spectro-1\n", format!("said {:?} {}", e.out.trim(), e.err.trim())))
    }

    async fn forward(&self) -> Found {
        // A program on the machine listens, and answers once.
        let port = std::net::TcpListener::bind("127.0.0.1:0").and_then(|l| l.local_addr()).map_err(|e| Failure::file("a port", &e))?.port();
        let listen = "perl -MIO::Socket::INET -e '$s=IO::Socket::INET->new(Listen=>1,LocalAddr=>\"127.0.0.1\",LocalPort=>8123,ReuseAddr=>1) or die; \
                      syswrite(STDOUT,\"ready\\n\"); $c=$s->accept; print $c \"frame 812\\n\"'";
        let code = self.people.codes.next("amara").await;
        let to = format!("{port}:127.0.0.1:8123");
        let mut child = self
            .people
            .command("ssh", &code, &["-L", &to, "amara+guide-cam@aerie", listen])
            .spawn()
            .map_err(|e| Failure::file("ssh", &e))?;
        let Some(stdout) = child.stdout.take() else { return Err(Failure::internal("no pipe")) };
        Screen { from: stdout, seen: String::new() }.until("ready").await?;
        let mut said = String::new();
        let mut stream = tokio::net::TcpStream::connect(("127.0.0.1", port)).await.map_err(|e| Failure::file("the forwarded port", &e))?;
        tokio::io::AsyncReadExt::read_to_string(&mut stream, &mut said).await.map_err(|e| Failure::file("the forwarded port", &e))?;
        // The client waits for the near end of the port to be closed too.
        drop(stream);
        let _ = child.wait().await;
        Ok((said == "frame 812\n", format!("the port behind it said {:?}", said.trim())))
    }

    async fn refused(&self) -> Found {
        let e = self.people.run_with("ssh", "", &["arlo+dome-east@aerie", "hostname"], "").await?;
        let nowhere = self.people.run_with("ssh", "", &["arlo+dome-north@aerie", "hostname"], "").await?;
        let same = e.err.replace("dome-east", "M") == nowhere.err.replace("dome-north", "M");
        Ok((e.status == Some(77) && e.out.is_empty() && same, format!("{}A machine that does not exist gets the same answer.", e.err)))
    }

    async fn hours(&self) -> Found {
        let zone = TimeZone::get("Atlantic/Canary").unwrap_or(TimeZone::UTC);
        let today = Zoned::now().with_time_zone(zone.clone()).date();
        let at = |hour| today.at(hour, 0, 0, 0).to_zoned(zone.clone()).map(|z| z.timestamp()).unwrap_or_else(|_| Timestamp::now());
        let ask = |hour| WhyQuery {
            person: "ines".into(),
            capability: "shell".into(),
            machine: "dome-east".into(),
            at: Some(at(hour)),
            account: None,
            target: None,
            from: None,
            factors: None,
            version: None,
        };
        let (noon, night) = (self.client.why(&ask(12)).await?, self.client.why(&ask(23)).await?);
        Ok((noon.outcome == "refused" && night.outcome == "unmet", format!("{}\n{}", noon.sentence, night.sentence)))
    }

    async fn guardrail(&self) -> Found {
        let fields = serde_json::json!({
            "name": "suppliers-look-up-plates", "people": "group:visiting-observers", "machines": "name:archive-db",
            "capabilities": ["download"], "accounts": ["archivist"],
        });
        let fields = serde_json::from_value(fields).map_err(|e| Failure::internal(e.to_string()))?;
        let edit = RuleEdit { text: self.client.policy().await?.text, name: None, effect: Some("allow".into()), fields: Some(fields) };
        let text = self.client.edit_policy(&edit).await?.text;
        let before = self.client.policy().await?.version;
        match self.client.publish_policy(&text, None).await {
            Ok(_) => Ok((false, "it was published".into())),
            Err(ClientError::Problem(p)) => {
                let told = p.diagnostics.iter().find(|d| d.code == "policy/guardrail").map(|d| d.message.clone());
                let kept = self.client.policy().await?.version == before;
                Ok((kept && told.is_some(), told.unwrap_or(p.detail)))
            }
            Err(e) => Err(e.into()),
        }
    }

    async fn effect(&self) -> Result<EffectView, Failure> {
        let query = EffectQuery { text: super::plans::draft()?, against: None, days: Some(60) };
        Ok(self.client.policy_effect(&query).await?)
    }

    async fn compare(&self) -> Found {
        let effect = self.effect().await?;
        let turns = |word: &str| effect.changes.iter().any(|c| c.turn == word);
        let told: Vec<&str> = effect.changes.iter().map(|c| c.sentence.as_str()).collect();
        Ok((effect.ok && turns("gains") && turns("loses"), format!("{}\n{}", effect.sentence, told.join("\n"))))
    }

    async fn backtest(&self) -> Found {
        let past = self.effect().await?.past;
        let told: Vec<&str> = past.judged.iter().map(|j| j.sentence.as_str()).collect();
        Ok((past.refused > 0, format!("{}\n{}", past.sentence, told.join("\n"))))
    }
}

fn status(e: &Ended) -> String {
    e.status.map_or("by a signal".into(), |s| s.to_string())
}

/// What a terminal shows.
struct Screen {
    from: tokio::process::ChildStdout,
    seen: String,
}

impl Screen {
    /// Reads until a text is shown that was not shown before.
    async fn until(&mut self, text: &str) -> Result<(), Failure> {
        use tokio::io::AsyncReadExt as _;
        let mut piece = [0; 4096];
        let waiting = async {
            loop {
                if let Some(at) = self.seen.find(text) {
                    self.seen.drain(..at + text.len());
                    return Ok(());
                }
                let n = self.from.read(&mut piece).await.map_err(|e| Failure::file("ssh", &e))?;
                if n == 0 {
                    return Err(Failure::internal(format!("{text:?} was not shown")));
                }
                self.seen.push_str(&String::from_utf8_lossy(piece.get(..n).unwrap_or(&[])));
            }
        };
        tokio::time::timeout(Duration::from_secs(20), waiting)
            .await
            .map_err(|_| Failure::internal(format!("{text:?} was not shown in time")))?
    }
}
