//! The console in headless Chromium.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, unreachable_pub, reason = "a test that cannot go on fails")]

mod common;

use common::world;
use std::process::{Command, Stdio};
use std::sync::OnceLock;
use std::time::Duration;
use thirtyfour::prelude::*;

/// Port of Chromium's driver, which is ended with the tests, with everything that it started.
fn driver() -> u16 {
    static PORT: OnceLock<u16> = OnceLock::new();
    *PORT.get_or_init(|| {
        let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let (started, is_started) = std::sync::mpsc::channel();
        // `setpriv` ends it with the thread that started it, whichever way that ends: this one ends with the tests.
        std::thread::spawn(move || {
            let mut child = Command::new("setpriv")
                .args(["--pdeathsig", "KILL", "chromedriver", &format!("--port={port}")])
                .stdin(Stdio::null())
                .stdout(Stdio::piped())
                .stderr(Stdio::null())
                .spawn()
                .expect("chromedriver: run `make test`, which installs it");
            for line in std::io::BufRead::lines(std::io::BufReader::new(child.stdout.take().unwrap())) {
                if line.is_ok_and(|l| l.contains("started successfully")) {
                    let _ = started.send(());
                }
            }
            let _ = child.wait();
        });
        is_started.recv_timeout(Duration::from_secs(30)).expect("chromedriver did not start");
        port
    })
}

/// A browser window; to be quit at the end of the test.
async fn browser(width: u32, height: u32, dark: bool) -> WebDriver {
    aerie_client::provide_tls();
    let mut caps = DesiredCapabilities::chrome();
    for flag in aerie::demo::CHROMIUM_FLAGS {
        caps.add_arg(flag).unwrap();
    }
    let driver = WebDriver::new(format!("http://127.0.0.1:{}", driver()), caps).await.unwrap();
    let tools = driver.cdp();
    let size = serde_json::json!({ "width": width, "height": height, "deviceScaleFactor": 1, "mobile": false });
    tools.send_raw("Emulation.setDeviceMetricsOverride", size).await.unwrap();
    colours(&driver, dark).await;
    driver
}

/// Turns the browser's wish for light or dark pages.
async fn colours(d: &WebDriver, dark: bool) {
    let scheme = serde_json::json!({ "features": [{ "name": "prefers-color-scheme", "value": if dark { "dark" } else { "light" } }] });
    d.cdp().send_raw("Emulation.setEmulatedMedia", scheme).await.unwrap();
}

async fn goto(d: &WebDriver, path: &str) {
    d.goto(format!("{}{path}", world().people.demo.console)).await.unwrap();
}

async fn find(d: &WebDriver, css: &str) -> WebElement {
    d.query(By::Css(css)).wait(Duration::from_secs(20), Duration::from_millis(50)).first().await.unwrap()
}

async fn text_of(d: &WebDriver, css: &str) -> String {
    find(d, css).await.text().await.unwrap()
}

/// Waits until an element says something.
async fn says(d: &WebDriver, css: &str, text: &str) {
    let mut seen = String::new();
    for _ in 0..400 {
        if let Ok(e) = d.find(By::Css(css)).await {
            seen = e.text().await.unwrap_or_default();
            if seen.contains(text) {
                return;
            }
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("{css} says {seen:?} and not {text:?}");
}

async fn sign_in(d: &WebDriver, person: &str) {
    goto(d, "/sign-in").await;
    find(d, "input[name=person]").await.send_keys(person).await.unwrap();
    find(d, "input[name=password]").await.send_keys(format!("{person} watches the sky\n")).await.unwrap();
    give_code(d, person).await;
}

/// Gives codes until one is taken: on a slow machine the first can be too old when it arrives.
async fn give_code(d: &WebDriver, person: &str) {
    // A later code uses up the earlier ones: of two who sign in at once, one waits.
    static TURN: tokio::sync::Mutex<()> = tokio::sync::Mutex::const_new(());
    let _turn = TURN.lock().await;
    for _ in 0..3 {
        let field = find(d, "input[name=code]").await;
        field.clear().await.unwrap();
        let code = world().people.codes.next(person).await;
        field.send_keys(code + "\n").await.unwrap();
        for _ in 0..400 {
            if d.find(By::Css("[data-testid=account]")).await.is_ok() {
                return;
            }
            let told = match d.find(By::Css("[role=alert]")).await {
                Ok(alert) => alert.text().await.unwrap_or_default(),
                Err(_) => String::new(),
            };
            if told.contains("of another time") || told.contains("next code") {
                break;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }
    panic!("no code of {person} was taken");
}

/// What axe finds wrong with the page. Marks on a strip stand where their time is, and may be as near to each other as what happened: the size of
/// what is drawn is essential there (WCAG 2.2, success criterion 2.5.8), and lists have the same links.
async fn faults(d: &WebDriver) -> Vec<String> {
    let axe = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/node_modules/axe-core/axe.min.js")).unwrap();
    d.execute(axe, vec![]).await.unwrap();
    let script = "const done = arguments[0]; axe.run(document, { runOnly: ['wcag2a','wcag2aa','wcag21a','wcag21aa','wcag22aa'] })
        .then(r => done(r.violations.map(v => ({ ...v, nodes: v.nodes.filter(n => v.id !== 'target-size' || !document.querySelector(n.target.join(' '))?.closest('[data-testid=strip]')) }))
            .filter(v => v.nodes.length).map(v => v.id + ': ' + v.nodes.map(n => n.target.join(' ') + ' ' + (n.any[0]?.message ?? '')).slice(0, 3).join('; '))))";
    let found = d.execute_async(script, vec![]).await.unwrap();
    found.convert().unwrap()
}

#[tokio::test]
async fn signing_in_needs_the_right_code_and_leads_to_where_one_was_going() {
    let d = browser(1280, 800, false).await;
    goto(&d, "/log").await;
    find(&d, "input[name=person]").await.send_keys("greta").await.unwrap();
    find(&d, "input[name=password]").await.send_keys("greta guesses\n").await.unwrap();
    says(&d, "[role=alert]", "Name, password or code is not right").await;
    assert!(faults(&d).await.is_empty());
    find(&d, "input[name=password]").await.clear().await.unwrap();
    find(&d, "input[name=password]").await.send_keys("greta watches the sky\n").await.unwrap();
    find(&d, "input[name=code]").await.send_keys("000000\n").await.unwrap();
    says(&d, "[role=alert]", "Name, password or code is not right").await;
    assert!(faults(&d).await.is_empty());
    give_code(&d, "greta").await;
    says(&d, "h1", "Everything that happened").await;
    find(&d, "[data-testid=verify-log]").await.click().await.unwrap();
    says(&d, "h1", "The log holds").await;
    // An auditor ends nothing.
    goto(&d, "/sessions").await;
    find(&d, "[data-testid=session]").await;
    assert!(d.find(By::XPath("//button[text()='End']")).await.is_err());
    d.quit().await.unwrap();
}

#[tokio::test]
async fn a_finding_leads_to_the_moment_in_the_recording() {
    let d = browser(1280, 800, false).await;
    sign_in(&d, "lena").await;
    says(&d, "[data-testid=sentence]", "findings").await;
    assert_eq!(faults(&d).await, Vec::<String>::new(), "now");
    goto(&d, "/findings").await;
    find(&d, "[data-testid=finding]").await;
    assert_eq!(faults(&d).await, Vec::<String>::new(), "findings");
    let link = d.query(By::XPath("//a[contains(., 'added a key to an account')]")).first().await.unwrap();
    link.click().await.unwrap();
    says(&d, "[data-testid=evidence]", "authorized_keys").await;
    assert_eq!(faults(&d).await, Vec::<String>::new(), "finding");
    find(&d, "[data-testid=to-moment]").await.click().await.unwrap();
    says(&d, "[data-testid=screen] .xterm-rows", "authorized_keys").await;
    assert_eq!(faults(&d).await, Vec::<String>::new(), "session");
    // The position is that of the finding, and playing goes on from there.
    let before = text_of(&d, "[data-testid=position]").await;
    assert_ne!(before, "00:00:00");
    find(&d, "[data-testid=play]").await.click().await.unwrap();
    for _ in 0..400 {
        if text_of(&d, "[data-testid=position]").await != before {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    assert_ne!(text_of(&d, "[data-testid=position]").await, before);
    find(&d, "[data-testid=verify]").await.click().await.unwrap();
    says(&d, "[role=status]", "complete and unaltered").await;
    // The strict policy was broken by nothing: the colours of the terminal are there.
    let colour = find(&d, "[data-testid=screen] .xterm-rows span[class*=xterm-fg]").await.css_value("color").await.unwrap();
    assert!(colour.starts_with("rgba(") && colour != "rgba(0, 0, 0, 1)" && colour != "rgba(230, 228, 221, 1)", "{colour}");
    d.quit().await.unwrap();
}

#[tokio::test]
async fn sessions_are_searched_and_a_live_one_is_shown_and_ended() {
    let d = browser(1280, 800, true).await;
    sign_in(&d, "lena").await;
    let mut ssh = world().people.command("ssh", "", &["-tt", "arlo+archive-db@aerie"]).stdin(Stdio::piped()).spawn().unwrap();
    // Other tests have sessions of their own.
    goto(&d, "/sessions?state=live&q=archive-db").await;
    says(&d, "[data-testid=session]", "Arlo Whitfield on archive-db").await;
    assert_eq!(faults(&d).await, Vec::<String>::new(), "sessions, dark");
    d.find(By::XPath("//tr[contains(., 'Arlo')]//button[text()='End']")).await.unwrap().click().await.unwrap();
    let ended = tokio::time::timeout(Duration::from_secs(20), ssh.wait()).await.unwrap().unwrap();
    assert_ne!(ended.code(), Some(0));
    says(&d, "[data-state=empty]", "No session matches").await;
    let search = find(&d, "[data-testid=search]").await;
    goto(&d, "/sessions").await;
    drop(search);
    find(&d, "[data-testid=search]").await.send_keys("mast-2\n").await.unwrap();
    says(&d, "[data-testid=session]", "Mira Castellane").await;
    assert!(d.current_url().await.unwrap().as_str().ends_with("?q=mast-2"));
    d.quit().await.unwrap();
}

#[tokio::test]
async fn a_technician_sees_their_own_sessions_only() {
    let d = browser(1280, 800, false).await;
    sign_in(&d, "tomasz").await;
    says(&d, "h1", "Your sessions").await;
    find(&d, "[data-testid=session]").await;
    for row in d.find_all(By::Css("[data-testid=session]")).await.unwrap() {
        assert!(row.text().await.unwrap().contains("Tomasz Brandt"));
    }
    goto(&d, "/findings").await;
    says(&d, "[data-state=error]", "Only administrators and auditors").await;
    d.quit().await.unwrap();
}

#[tokio::test]
async fn a_draft_shows_its_problems_and_its_effect_before_it_is_published() {
    let d = browser(1280, 800, false).await;
    sign_in(&d, "tove").await;
    goto(&d, "/rules").await;
    says(&d, "h1", "is in force").await;
    find(&d, "[data-testid=rule][data-effect=never]").await;
    assert_eq!(faults(&d).await, Vec::<String>::new(), "rules");
    find(&d, "[data-testid=begin-draft]").await.click().await.unwrap();
    says(&d, "[data-testid=effect]", "Nobody gains or loses anything").await;
    // A rule through the form, without knowing how it is written.
    find(&d, "[data-testid=add-rule]").await.click().await.unwrap();
    find(&d, "[data-testid=rule-form] input[name=name]").await.send_keys("guests-see-plates").await.unwrap();
    find(&d, "input[name=people]").await.send_keys("group:visiting-observers").await.unwrap();
    find(&d, "input[name=machines]").await.send_keys("name:archive-db").await.unwrap();
    find(&d, "input[type=checkbox][value=download]").await.click().await.unwrap();
    find(&d, "input[name=accounts]").await.send_keys("archivist").await.unwrap();
    assert_eq!(faults(&d).await, Vec::<String>::new(), "rule form");
    find(&d, "input[name=accounts]").await.send_keys(Key::Enter).await.unwrap();
    d.query(By::XPath("//*[@data-testid='problem'][contains(., 'no-outsider-in-the-archive')]")).first().await.unwrap();
    says(&d, "[data-testid=change][data-turn=gains]", "Jun Takeda").await;
    assert!(!find(&d, "[data-testid=publish]").await.is_enabled().await.unwrap());
    assert_eq!(faults(&d).await, Vec::<String>::new(), "draft");
    // The card leads back to the form, and there the rule is removed again.
    d.query(By::Css("button[aria-label='Change guests-see-plates']")).first().await.unwrap().click().await.unwrap();
    d.query(By::XPath("//button[contains(., 'Remove the rule')]")).first().await.unwrap().click().await.unwrap();
    says(&d, "[data-testid=effect]", "Nobody gains or loses anything").await;
    assert!(find(&d, "[data-testid=publish]").await.is_enabled().await.unwrap());
    d.query(By::XPath("//button[contains(., 'Drop')]")).first().await.unwrap().click().await.unwrap();
    says(&d, "h1", "is in force").await;
    d.quit().await.unwrap();
}

#[tokio::test]
async fn reach_leads_from_groups_to_one_person_on_one_machine_and_why() {
    let d = browser(1280, 800, true).await;
    sign_in(&d, "tove").await;
    goto(&d, "/reach").await;
    says(&d, "h1", "and 13 machines").await;
    assert_eq!(faults(&d).await, Vec::<String>::new(), "reach");
    d.query(By::Css("[aria-label^='night-operators on ridge']")).first().await.unwrap().click().await.unwrap();
    d.query(By::Css("[aria-label^='ines on dome-east']")).first().await.unwrap().click().await.unwrap();
    says(&d, "h1", "Ines Okafor can reach dome-east").await;
    says(&d, "[data-testid=reach-entry]", "in the hours night").await;
    says(&d, "[data-testid=why]", "dome-east").await;
    assert_eq!(faults(&d).await, Vec::<String>::new(), "one pair");
    for (path, thing) in [("/rules/history", "version"), ("/rules/use", "rule-use"), ("/reviews", "review")] {
        goto(&d, path).await;
        find(&d, &format!("[data-testid={thing}]")).await;
        assert_eq!(faults(&d).await, Vec::<String>::new(), "{path}");
    }
    find(&d, "[data-testid=review] a").await.click().await.unwrap();
    find(&d, "[data-testid=entry]").await;
    assert_eq!(faults(&d).await, Vec::<String>::new(), "a review");
    d.quit().await.unwrap();
}

#[tokio::test]
async fn a_machine_is_found_checked_step_by_step_and_enrolled() {
    let d = browser(1280, 800, false).await;
    sign_in(&d, "tove").await;
    // A code for each sign-in takes half a minute: the colours are turned instead.
    let faultless = async |page: &str| {
        for dark in [true, false] {
            colours(&d, dark).await;
            assert_eq!(faults(&d).await, Vec::<String>::new(), "{page}, dark: {dark}");
        }
    };
    goto(&d, "/machines").await;
    says(&d, "h1", "11 machines").await;
    faultless("machines").await;
    type_into(&d, "[data-testid=find-machines]", "dome linux coud").await;
    says(&d, "h1", "1 machine;").await;
    click(&d, "[data-testid=machine-row] a").await;
    says(&d, "h1", "coude-1 at basement is reached through its agent").await;
    click(&d, "[data-testid=check-machine]").await;
    find(&d, "[data-check=sign-in][data-outcome=pass]").await;
    find(&d, "[data-check=loopback][data-outcome=pass]").await;
    faultless("a machine").await;
    goto(&d, "/machines/flat-lamp").await;
    click(&d, "[data-testid=check-machine]").await;
    find(&d, "[data-check=host-key][data-outcome=fail]").await;
    says(&d, "#other-key", "another host key").await;
    faultless("a changed host key").await;
    goto(&d, "/machines").await;
    click(&d, "[data-testid=add-machine]").await;
    type_into(&d, "input[name=machine-name]", "sky-2").await;
    type_into(&d, "input[name=machine-accounts]", "operator\n").await;
    says(&d, "h1", "sky-2").await;
    click(&d, "[data-testid=issue-code]").await;
    says(&d, "[data-testid=enrolment-code]", "sky-2@").await;
    faultless("a code").await;
    common::client().retire_machine("sky-2", "the test is over").await.unwrap();
    d.quit().await.unwrap();
}

#[tokio::test]
async fn pages_that_were_left_hold_no_connection() {
    let d = browser(1280, 800, false).await;
    sign_in(&d, "greta").await;
    // A browser opens six connections to one service; each page holds one while it is shown.
    for _ in 0..8 {
        goto(&d, "/findings").await;
        find(&d, "[data-testid=finding]").await;
    }
    d.quit().await.unwrap();
}

#[tokio::test]
async fn the_keyboard_alone_is_enough() {
    let d = browser(1280, 800, false).await;
    sign_in(&d, "greta").await;
    find(&d, "[data-testid=strip]").await;
    d.action_chain().send_keys("/").perform().await.unwrap();
    d.action_chain().send_keys("tomasz").send_keys(Key::Enter).perform().await.unwrap();
    says(&d, "[data-testid=session]", "Tomasz Brandt").await;
    // The account menu opens, and the entry that is typed changes the colours.
    find(&d, "[data-testid=account]").await.send_keys(Key::Enter).await.unwrap();
    find(&d, "[role=menuitem][data-headlessui-state=active]").await;
    d.action_chain().send_keys("dark").perform().await.unwrap();
    says(&d, "[role=menuitem][data-headlessui-state=active]", "Dark colours").await;
    d.action_chain().send_keys(Key::Enter).perform().await.unwrap();
    let theme = || async { find(&d, "html").await.attr("data-theme").await.unwrap().unwrap() };
    for _ in 0..100 {
        if theme().await == "dark" {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    assert_eq!(theme().await, "dark");
    d.quit().await.unwrap();
}

/// An authenticator of the browser's own: one that verifies its user, as a laptop has, or a key that is only touched.
async fn authenticator(d: &WebDriver, verifies: bool) {
    let tools = d.cdp();
    tools.send_raw("WebAuthn.enable", serde_json::json!({})).await.unwrap();
    let options = serde_json::json!({ "options": {
        "protocol": "ctap2", "transport": if verifies { "internal" } else { "usb" }, "hasResidentKey": verifies,
        "hasUserVerification": verifies, "isUserVerified": verifies, "automaticPresenceSimulation": true,
    } });
    tools.send_raw("WebAuthn.addVirtualAuthenticator", options).await.unwrap();
}

async fn type_into(d: &WebDriver, css: &str, text: &str) {
    find(d, css).await.send_keys(text).await.unwrap();
}

async fn click(d: &WebDriver, css: &str) {
    find(d, css).await.click().await.unwrap();
}

#[tokio::test]
async fn a_passkey_is_enrolled_signs_in_and_confirms_a_sign_in_at_the_gateway() {
    let d = browser(1280, 800, false).await;
    assert!(common::client().invite("oona").await.unwrap().mailed);
    let link = world().people.mailed_link("/welcome#").await.unwrap();
    d.goto(&link).await.unwrap();
    says(&d, "h1", "Welcome, Oona Sandberg").await;
    // The secret stands no longer in the address, where a shoulder or a history could read it.
    assert!(!d.current_url().await.unwrap().as_str().contains('#'));
    assert_eq!(faults(&d).await, Vec::<String>::new());
    type_into(&d, "input[name=password]", "oona oona oona\n").await;
    says(&d, "[role=alert]", "not taken").await;
    find(&d, "input[name=password]").await.clear().await.unwrap();
    type_into(&d, "input[name=password]", "seven grey herons at dawn\n").await;
    says(&d, "[data-testid=advice]", "nothing else is possible before").await;
    // Until then every other page leads here.
    goto(&d, "/sessions").await;
    says(&d, "[data-testid=advice]", "nothing else is possible before").await;
    authenticator(&d, true).await;
    click(&d, "[data-testid=add-passkey]").await;
    type_into(&d, "input[name=label]", "archive laptop\n").await;
    says(&d, "[data-testid=passkey-row]", "archive laptop").await;
    assert_eq!(faults(&d).await, Vec::<String>::new());

    // An SSH key, with a signature of the real ssh-keygen.
    let directory = tempfile::tempdir().unwrap();
    let key = directory.path().join("key");
    let made = Command::new("ssh-keygen").args(["-q", "-t", "ed25519", "-N", "", "-f"]).arg(&key).status().unwrap();
    assert!(made.success());
    click(&d, "[data-testid=add-key]").await;
    let command = text_of(&d, "[data-testid=sign-command]").await.replace("~/.ssh/id_ed25519", &key.display().to_string());
    let signed = Command::new("sh").args(["-c", &command]).output().unwrap();
    let fill = async |css: &str, value: &str| {
        let script = "arguments[0].value = arguments[1]; arguments[0].dispatchEvent(new Event('input'))";
        let field = find(&d, css).await.to_json().unwrap();
        d.execute(script, vec![field, value.into()]).await.unwrap();
    };
    fill("textarea[name=public]", &std::fs::read_to_string(key.with_extension("pub")).unwrap()).await;
    fill("textarea[name=signature]", &String::from_utf8(signed.stdout).unwrap()).await;
    type_into(&d, "input[name=key-label]", "archive laptop\n").await;
    says(&d, "[data-testid=key-row]", "ssh-ed25519").await;

    // Out, and in again with the passkey alone; an address elsewhere is not gone to.
    click(&d, "[data-testid=account]").await;
    click(&d, "[data-testid=sign-out]").await;
    find(&d, "[data-testid=passkey]").await;
    goto(&d, "/sign-in?to=//elsewhere.example/").await;
    click(&d, "[data-testid=passkey]").await;
    says(&d, "[data-testid=account]", "Oona Sandberg").await;
    assert!(d.current_url().await.unwrap().as_str().starts_with(&world().people.demo.console));

    // The archive wants the passkey in the terminal as well: it shows a link and a number, and goes on by itself.
    let ssh = &world().people.demo.ssh;
    let mut child = tokio::process::Command::new("ssh")
        .args(["-F", "/dev/null", "-o", "IdentitiesOnly=yes", "-o", "StrictHostKeyChecking=yes", "-o"])
        .arg(format!("UserKnownHostsFile={}", ssh.known_hosts))
        .arg("-i")
        .arg(&key)
        .args(["-p", &ssh.port.to_string(), "oona+archive-db@127.0.0.1", "hostname"])
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .kill_on_drop(true)
        .spawn()
        .unwrap();
    let mut lines = tokio::io::AsyncBufReadExt::lines(tokio::io::BufReader::new(child.stderr.take().unwrap()));
    let mut shown = String::new();
    while !shown.contains("the number") {
        shown += &lines.next_line().await.unwrap().expect("the terminal shows no link");
        shown.push(' ');
    }
    let link = shown.split_whitespace().find(|w| w.contains("/confirm/")).unwrap().to_string();
    let number: String = shown.split("the number ").nth(1).unwrap().chars().take(2).collect();
    d.goto(&link).await.unwrap();
    says(&d, "section", "Oona Sandberg signs in to archive-db in a terminal").await;
    assert_eq!(faults(&d).await, Vec::<String>::new());
    let wrong = if number == "10" { "11" } else { "10" };
    type_into(&d, "input[name=number]", &format!("{wrong}\n")).await;
    says(&d, "[role=alert]", "not the number").await;
    find(&d, "input[name=number]").await.clear().await.unwrap();
    type_into(&d, "input[name=number]", &format!("{number}\n")).await;
    says(&d, "[data-testid=confirmed]", "Confirmed").await;
    let out = tokio::time::timeout(Duration::from_secs(60), child.wait_with_output()).await.unwrap().unwrap();
    assert_eq!((out.status.code(), String::from_utf8_lossy(&out.stdout).trim()), (Some(0), "archive-db"));
    // A used link is nobody's.
    d.goto(&link).await.unwrap();
    says(&d, "[role=alert]", "Nobody waits here").await;
    d.quit().await.unwrap();
}

#[tokio::test]
async fn a_security_key_is_the_second_step_and_recovery_codes_are_shown_once() {
    let d = browser(1280, 800, true).await;
    sign_in(&d, "jun").await;
    authenticator(&d, false).await;
    goto(&d, "/account").await;
    click(&d, "[data-testid=add-security-key]").await;
    type_into(&d, "input[name=label]", "blue key\n").await;
    says(&d, "[data-testid=passkey-row]", "blue key").await;
    click(&d, "[data-testid=make-recovery]").await;
    assert_eq!(text_of(&d, "[data-testid=recovery-codes]").await.lines().count(), 10);
    assert_eq!(faults(&d).await, Vec::<String>::new());
    click(&d, "[data-testid=account]").await;
    click(&d, "[data-testid=sign-out]").await;
    type_into(&d, "input[name=person]", "jun").await;
    type_into(&d, "input[name=password]", "jun watches the sky\n").await;
    // Either does: the code, or the key.
    find(&d, "input[name=code]").await;
    assert_eq!(faults(&d).await, Vec::<String>::new());
    click(&d, "[data-testid=prove-security-key]").await;
    says(&d, "[data-testid=account]", "Jun Takeda").await;
    d.quit().await.unwrap();
}

#[tokio::test]
async fn people_are_found_shown_and_looked_after() {
    let d = browser(1280, 800, false).await;
    sign_in(&d, "tove").await;
    goto(&d, "/people").await;
    find(&d, "[data-testid=person-row]").await;
    assert_eq!(faults(&d).await, Vec::<String>::new());
    type_into(&d, "[data-testid=find-people]", "tomasz").await;
    says(&d, "h1", "1 person is found").await;
    click(&d, "[data-testid=person-row] a").await;
    says(&d, "h1", "Tomasz Brandt can sign in with").await;
    assert_eq!(faults(&d).await, Vec::<String>::new());
    click(&d, "[data-testid=temporary-code]").await;
    assert_eq!(text_of(&d, "[data-testid=shown-code]").await.len(), 14);
    click(&d, "[data-testid=suspend]").await;
    says(&d, "h1", "Tomasz Brandt is suspended").await;
    click(&d, "[data-testid=suspend]").await;
    says(&d, "h1", "Tomasz Brandt can sign in with").await;
    goto(&d, "/people").await;
    click(&d, "[data-testid=add-person]").await;
    type_into(&d, "input[name=new-name]", "rosalind").await;
    type_into(&d, "input[name=new-full-name]", "Rosalind Achebe\n").await;
    says(&d, "h1", "Rosalind Achebe has nothing to sign in with").await;
    click(&d, "[data-testid=invite]").await;
    assert!(text_of(&d, "[data-testid=invitation]").await.contains("/welcome#"));
    goto(&d, "/settings").await;
    find(&d, "[data-testid=service-key]").await;
    assert_eq!(faults(&d).await, Vec::<String>::new());
    goto(&d, "/pins").await;
    type_into(&d, "input[name=note]", "the printer in the library\n").await;
    let pin = text_of(&d, "[data-testid=new-pin]").await;
    says(&d, "[data-testid=pin]", "5 tries left").await;
    assert_eq!(faults(&d).await, Vec::<String>::new());
    goto(&d, "/visit").await;
    type_into(&d, "input[name=pin]", &format!("{pin}\n")).await;
    says(&d, "[data-testid=taken]", "the printer in the library").await;
    goto(&d, "/visit").await;
    type_into(&d, "input[name=pin]", "0000 0000\n").await;
    says(&d, "[role=alert]", "not right").await;
    assert_eq!(faults(&d).await, Vec::<String>::new());
    d.quit().await.unwrap();
}

/// Mira's rights on spectro-1 take turns: with a pass she needs no emergency.
static MIRA: tokio::sync::Mutex<()> = tokio::sync::Mutex::const_new(());

#[tokio::test]
async fn a_request_is_answered_with_less_and_whoever_waits_goes_on() {
    let _turn = MIRA.lock().await;
    let p = &world().people;
    let code = p.codes.next("mira").await;
    let mut ssh = p.command("ssh", &code, &["mira+spectro-1@aerie", "hostname"]);
    let waiting = ssh.env("AERIE_REASON", "The slit wheel stalls.").spawn().unwrap();
    let d = browser(1280, 800, false).await;
    sign_in(&d, "sunniva").await;
    goto(&d, "/requests").await;
    // One that waits, and the one with which the demo begins.
    says(&d, "h1", "2 requests wait for your answer, and somebody sits at a terminal and waits.").await;
    says(&d, "[data-testid=request]", "The slit wheel stalls").await;
    assert_eq!(faults(&d).await, Vec::<String>::new());
    click(&d, "[data-testid=request] input[value=upload]").await;
    find(&d, "[data-testid=request] select option[value='1']").await.click().await.unwrap();
    click(&d, "[data-testid=request] button[data-kind=main]").await;
    says(&d, "h1", "1 request waits for your answer.").await;
    says(&d, "[data-testid=pass]", "Mira Castellane may use exec and shell on spectro-1").await;
    let done = tokio::time::timeout(Duration::from_secs(30), waiting.wait_with_output()).await.unwrap().unwrap();
    assert_eq!(String::from_utf8_lossy(&done.stdout).trim(), "spectro-1", "{}", String::from_utf8_lossy(&done.stderr));
    // A no needs a word.
    let refuse = d.query(By::XPath("//button[normalize-space()='Refuse']")).first().await.unwrap();
    assert!(!refuse.is_enabled().await.unwrap());
    type_into(&d, "[data-testid=request] input[name=why]", "Not while the exposure runs.").await;
    refuse.click().await.unwrap();
    says(&d, "h1", "No request waits for your answer.").await;
    says(&d, "[aria-label='Other requests']", "refused by sunniva: Not while the exposure runs.").await;
    // Whoever is away names a deputy, and takes it back.
    type_into(&d, "input[name=deputy]", "amara\n").await;
    says(&d, "[data-testid=deputy]", "amara answers in your place").await;
    assert_eq!(faults(&d).await, Vec::<String>::new());
    click(&d, "[data-testid=deputy] button").await;
    find(&d, "input[name=deputy]").await;
    // A pass is withdrawn where it was given.
    click(&d, "[data-testid=pass] button").await;
    says(&d, "main", "Nothing that concerns you was approved and is good now.").await;
    d.quit().await.unwrap();
}

#[tokio::test]
async fn a_live_terminal_is_watched_and_shared() {
    let p = &world().people;
    let mut ssh = p.command("ssh", "", &["-tt", "arlo+plate-scanner@aerie"]).stdin(Stdio::piped()).spawn().unwrap();
    let d = browser(1280, 800, false).await;
    sign_in(&d, "tove").await;
    goto(&d, "/watch").await;
    let tile = "//li[@data-testid='tile'][contains(., 'plate-scanner')]";
    let seen = async |text: &str| {
        let path = format!("{tile}//div[contains(@class, 'xterm-rows')][contains(., '{text}')]");
        d.query(By::XPath(&path)).wait(Duration::from_secs(20), Duration::from_millis(50)).first().await.unwrap();
    };
    seen("plate-scanner").await;
    tokio::io::AsyncWriteExt::write_all(ssh.stdin.as_mut().unwrap(), b"echo plate $((6*7))\n").await.unwrap();
    seen("plate 42").await;
    // Whoever is watched is told.
    seen("tove watches this session").await;
    assert_eq!(faults(&d).await, Vec::<String>::new());
    d.query(By::XPath(format!("{tile}//button[normalize-space()='Larger']"))).first().await.unwrap().click().await.unwrap();
    seen("plate 42").await;
    // On its own page it is shown too, and somebody is invited.
    d.query(By::XPath(format!("{tile}//a"))).first().await.unwrap().click().await.unwrap();
    says(&d, "[data-testid=live-terminal] .xterm-rows", "plate 42").await;
    type_into(&d, "input[name=guest]", "amara\n").await;
    says(&d, "[data-testid=live-people]", "Invited: amara").await;
    assert_eq!(faults(&d).await, Vec::<String>::new());
    // Stopping asks for a reason, and can be left.
    goto(&d, "/").await;
    d.query(By::XPath("//button[contains(., 'End every session')]")).first().await.unwrap().click().await.unwrap();
    says(&d, "[role=dialog]", "reads the reason").await;
    assert_eq!(faults(&d).await, Vec::<String>::new());
    d.query(By::XPath("//button[normalize-space()='Cancel']")).first().await.unwrap().click().await.unwrap();
    let _ = ssh.kill().await;
    d.quit().await.unwrap();
}

/// Somebody asks for the consent of whoever is at a machine, and its page is open.
struct Consenting {
    own: common::own::Own,
    agent: tokio::task::JoinHandle<Result<std::convert::Infallible, aerie_agent::Leaving>>,
    opening: tokio::task::JoinHandle<Result<(), aerie_client::ClientError>>,
    d: WebDriver,
}

async fn consenting(reason: &'static str) -> Consenting {
    use aerie_agent::consent::Asking;
    const RULES: &str = "[[allow]]\nname = \"asked\"\npeople = \"*\"\nmachines = \"*\"\ncapabilities = [\"forward\"]\naccounts = [\"operator\"]\nconsent = \"ask\"\nlimits = { session = \"1h\" }\n";
    let own = common::own::Own::with(RULES, &[("lena", "administrator", ""), ("sunniva", "technician", "")]).await;
    let echo = common::own::echo().await;
    let state = common::own::enrolled(&own, "dome", &[echo.to_string()], &[("echo", echo.to_string())]).await;
    let (told, mut page) = tokio::sync::mpsc::unbounded_channel();
    let me = String::from_utf8(Command::new("id").arg("-un").output().unwrap().stdout).unwrap().trim().to_string();
    let asking = Asking { port: 0, people: vec![me], ..Asking::default() };
    let options = aerie_agent::RunOptions { asking: Some(asking), page: Some(told), ..Default::default() };
    let agent = tokio::spawn(aerie_agent::run(None, state, options));
    own.online("dome").await;
    let d = browser(1280, 800, false).await;
    d.goto(format!("http://127.0.0.1:{}/", page.recv().await.unwrap())).await.unwrap();
    says(&d, "#sentence", "Nobody is connected to this computer.").await;
    let client = own.as_client("sunniva");
    let opening = tokio::spawn(async move {
        let query = aerie_api::ForwardQuery { way: "echo".into(), reason: Some(reason.into()), ..Default::default() };
        client.forward("dome", &query).await.map(drop)
    });
    says(&d, "#sentence", "Somebody asks for your consent.").await;
    Consenting { own, agent, opening, d }
}

#[tokio::test]
async fn the_person_at_the_machine_answers_on_its_own_page() {
    let Consenting { own, agent, opening, d } = consenting("The <b>shutter</b> sticks.").await;
    // What the other side says is text and nothing else.
    says(&d, "article.asked", "The <b>shutter</b> sticks.").await;
    assert_eq!(faults(&d).await, Vec::<String>::new());
    click(&d, "button[data-act=agree]").await;
    opening.await.unwrap().unwrap();
    own.event("consent", "agreed that sunniva").await;
    agent.abort();
    d.quit().await.unwrap();
}

#[tokio::test]
async fn an_emergency_stays_open_until_somebody_else_has_looked_at_it() {
    let _turn = MIRA.lock().await;
    let p = &world().people;
    let done = p.run_because("ssh", "mira", "The cryostat warms up", &["mira+spectro-1+emergency@aerie", "hostname"]).await.unwrap();
    assert_eq!(done.out.trim(), "spectro-1", "{}", done.err);
    let d = browser(1280, 800, false).await;
    sign_in(&d, "greta").await;
    goto(&d, "/findings").await;
    says(&d, "main", "in an emergency").await;
    d.find(By::XPath("//a[contains(., 'in an emergency')]")).await.unwrap().click().await.unwrap();
    says(&d, "h1", "The cryostat warms up").await;
    assert_eq!(faults(&d).await, Vec::<String>::new());
    type_into(&d, "input[name=note]", "She refilled the cryostat; it was right.\n").await;
    says(&d, "[data-testid=settled]", "Settled by greta").await;
    d.quit().await.unwrap();
}

#[tokio::test]
async fn a_finding_is_worked_on_and_others_like_it_are_kept_from_coming_up() {
    let d = browser(1280, 800, false).await;
    sign_in(&d, "lena").await;
    goto(&d, "/findings?kind=spraying").await;
    d.query(By::XPath("//a[contains(., 'tried many accounts')]")).first().await.unwrap().click().await.unwrap();
    says(&d, "[data-testid=case]", "Open, nobody's").await;
    let button = async |name: &str| {
        let path = format!("//main//button[normalize-space()='{name}']");
        d.query(By::XPath(path)).first().await.unwrap().click().await.unwrap();
    };
    button("Acknowledge").await;
    says(&d, "[data-testid=case]", "Acknowledged, nobody's").await;
    button("Give to …").await;
    type_into(&d, "input[name=owner]", "\u{e009}a\u{e009}greta\n").await;
    says(&d, "[data-testid=case]", "greta's").await;
    button("Resolve").await;
    assert_eq!(faults(&d).await, Vec::<String>::new(), "finding with a form");
    type_into(&d, "textarea[name=why]", "Closed to that network.").await;
    d.find(By::Css("#case-step button[data-kind=main]")).await.unwrap().click().await.unwrap();
    says(&d, "[data-testid=settled]", "Settled by lena").await;
    says(&d, "main", "lena resolved it: Closed to that network.").await;
    button("Open again").await;
    type_into(&d, "textarea[name=why]", "It goes on.").await;
    d.find(By::Css("#case-step button[data-kind=main]")).await.unwrap().click().await.unwrap();
    says(&d, "[data-testid=case]", "Open, greta's").await;
    button("Suppress others like it …").await;
    d.execute("const i = document.querySelector('input[name=until]'); i.value = new Date(Date.now() + 9e8).toISOString().slice(0, 10); i.dispatchEvent(new Event('input'));", vec![])
        .await
        .unwrap();
    type_into(&d, "input[name=suppress-why]", "A scanner of our own.\n").await;
    says(&d, "main", "does not come up until").await;
    goto(&d, "/suppressions").await;
    says(&d, "[data-testid=suppression]", "A scanner of our own.").await;
    assert_eq!(faults(&d).await, Vec::<String>::new(), "suppressions");
    button("Let them come up").await;
    says(&d, "h1", "Every finding comes up").await;
    goto(&d, "/coverage").await;
    says(&d, "h1", "no log of").await;
    find(&d, "[data-testid=coverage] svg rect").await;
    assert_eq!(faults(&d).await, Vec::<String>::new(), "coverage");
    goto(&d, "/detections").await;
    says(&d, "h1", "detections look for what deserves attention").await;
    button("Change the text").await;
    assert_eq!(faults(&d).await, Vec::<String>::new(), "detections");
    type_into(&d, "textarea[name=text]", "x").await;
    type_into(&d, "input[name=why]", "A slip\n").await;
    says(&d, "[role=alert]", "The detections: TOML parse error").await;
    d.quit().await.unwrap();
}

#[tokio::test]
async fn reports_are_shown_and_mailed_and_the_past_is_judged_again() {
    let d = browser(1280, 800, false).await;
    sign_in(&d, "greta").await;
    goto(&d, "/reports").await;
    says(&d, "h1", "No report is mailed yet.").await;
    says(&d, "[data-testid=sample]", "around").await;
    assert_eq!(faults(&d).await, Vec::<String>::new(), "reports");
    // One for herself, by rule; the sample follows what is chosen.
    d.execute("const s = document.querySelector('select[name=by]'); s.value = 'rule'; s.dispatchEvent(new Event('change'));", vec![])
        .await
        .unwrap();
    says(&d, "[data-testid=sample]", "night-dome").await;
    click(&d, "form.sheet button[data-kind=main]").await;
    says(&d, "[data-testid=report]", "Each Monday at 07:00 about the week before, by rule.").await;
    says(&d, "[data-testid=report]", "To Greta Moss · not mailed yet").await;
    type_into(&d, "input[name=to]", "arlo\n").await;
    says(&d, "[role=alert]", "arlo may not read everything").await;
    click(&d, "[data-testid=report] button").await;
    says(&d, "h1", "No report is mailed yet.").await;
    goto(&d, "/rules/history").await;
    click(&d, "[data-testid=again]").await;
    says(&d, "[data-testid=judged]", "judges none otherwise than the rules of their moment").await;
    assert_eq!(faults(&d).await, Vec::<String>::new(), "judged again");
    // On paper there is nothing to press.
    let media = serde_json::json!({ "media": "print" });
    d.cdp().send_raw("Emulation.setEmulatedMedia", media).await.unwrap();
    goto(&d, "/accesses").await;
    says(&d, "h1", "around Aerie").await;
    let shown = d.find(By::Css("header")).await.unwrap().is_displayed().await.unwrap();
    assert!(!shown && d.find(By::Css("[data-testid=total]")).await.unwrap().is_displayed().await.unwrap());
    d.quit().await.unwrap();
}

#[tokio::test]
async fn who_was_where_is_shown_over_time_and_narrowed_to_one() {
    let d = browser(1280, 800, false).await;
    sign_in(&d, "greta").await;
    goto(&d, "/accesses").await;
    says(&d, "h1", "around Aerie").await;
    find(&d, "[data-testid=span-chart] svg").await;
    says(&d, "main", "Amara Lindqvist").await;
    assert_eq!(faults(&d).await, Vec::<String>::new());
    // Whom one picks is looked at closer, by machine.
    d.find(By::XPath("//tr[@data-testid='total']//button[normalize-space()='Amara Lindqvist']")).await.unwrap().click().await.unwrap();
    says(&d, "main", "Of amara alone.").await;
    says(&d, "[data-testid=total]", "spectro-1").await;
    click(&d, "input[name=around]").await;
    says(&d, "h1", "3 accesses, 3 of them around Aerie.").await;
    // The lines that show it open below it.
    click(&d, "[data-testid=access] button").await;
    says(&d, "[data-testid=access]", "Accepted publickey for operator").await;
    assert_eq!(faults(&d).await, Vec::<String>::new());
    d.quit().await.unwrap();
}

/// Waits until the picture of a desktop has bright parts of some size: windows, and not the pointer alone.
async fn seen(d: &WebDriver) {
    let script = "const c = document.querySelector('[data-testid=desktop]'); if (!c) return false;
        const p = c.getContext('2d', { alpha: false }).getImageData(0, 0, c.width, c.height).data;
        let n = 0; for (let i = 4; i < p.length; i += 4) if (Math.abs(p[i] - p[0]) > 40) n++; return n > 2000;";
    for _ in 0..400 {
        if d.execute(script, vec![]).await.unwrap().json().as_bool() == Some(true) {
            return;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let page = d.execute("return document.body.innerText", vec![]).await.unwrap();
    panic!("nothing is seen of the desktop: {}", page.json());
}

/// Opens the screen of coude-1 and has the keyboard there.
async fn desktop(d: &WebDriver) {
    goto(d, "/machines/coude-1").await;
    click(d, "[data-testid=open-desktop]").await;
    says(d, "[data-testid=desktop-sentence]", "You control coude-1 as operator.").await;
    seen(d).await;
}

#[tokio::test]
async fn a_desktop_is_controlled_with_this_keyboard_and_played_afterwards() {
    let d = browser(1280, 800, false).await;
    sign_in(&d, "sunniva").await;
    desktop(&d).await;
    click(&d, "[data-testid=beside]").await;
    assert_eq!(faults(&d).await, Vec::<String>::new());
    // Keys go to the machine as this page's textarea gets them; the pointer stands on the shell's window first.
    let picture = find(&d, "[data-testid=desktop]").await;
    d.action_chain().move_to_element_center(&picture).click().perform().await.unwrap();
    find(&d, "[data-testid=desktop-keys]").await.send_keys("echo Über > ~/console-test\n").await.unwrap();
    let file = async || {
        let read = world().people.run("ssh", "sunniva", &["sunniva+coude-1@aerie", "cat console-test"], "").await.ok()?;
        (read.status == Some(0)).then_some(read.out)
    };
    assert_eq!(common::until("what was typed, on the machine", file).await, "Über\n");
    // Out of the picture by keyboard alone: the machine gets every other key.
    let field = find(&d, "[data-testid=desktop-keys]").await;
    field.send_keys(thirtyfour::Key::Control + thirtyfour::Key::Alt + thirtyfour::Key::Shift).await.unwrap();
    let focused = d.execute("return document.activeElement.id", vec![]).await.unwrap();
    assert_eq!(focused.json(), "desktop-back");
    type_into(&d, "textarea[name=words]", "the slit is open\n").await;
    says(&d, "[data-testid=said]", "the slit is open").await;
    // Whoever may watch sees it small among what is live, and among what is watched; whoever is watched is told.
    let watcher = browser(1280, 800, true).await;
    sign_in(&watcher, "lena").await;
    for (page, wish) in [("/", Some("[data-testid=small-pictures]")), ("/watch", None)] {
        goto(&watcher, page).await;
        if let Some(button) = wish {
            click(&watcher, button).await;
        }
        seen(&watcher).await;
        assert_eq!(faults(&watcher).await, Vec::<String>::new(), "{page}");
    }
    says(&d, "main, body", "lena watches").await;
    watcher.quit().await.unwrap();
    click(&d, "[data-testid=leave]").await;
    says(&d, "[data-testid=desktop-over]", "because the person left").await;
    d.query(By::LinkText("Its record and recording")).first().await.unwrap().click().await.unwrap();
    seen(&d).await;
    says(&d, "[data-testid=position]", "00:00:").await;
    assert_eq!(d.find_all(By::Css("[aria-label='Pictures along the time line'] img")).await.unwrap().len(), 8);
    assert_eq!(faults(&d).await, Vec::<String>::new());
    d.quit().await.unwrap();
}

/// A visit of Rhea's at the service desk, up to the screen that she shares: her browser, and Mira's.
async fn visiting(dark: bool) -> (WebDriver, WebDriver) {
    let (rhea, mira) = (browser(1280, 800, dark).await, browser(1280, 800, dark).await);
    sign_in(&mira, "mira").await;
    goto(&mira, "/visits").await;
    click(&mira, "[data-testid=new-visit]").await;
    type_into(&mira, "input[name=person]", "Rhea Calder").await;
    type_into(&mira, "input[name=ticket]", "OBS-2102").await;
    type_into(&mira, "input[name=reason]", "The plotter prints stripes\n").await;
    let pin = text_of(&mira, "[data-testid=new-pin]").await;
    let link = find(&mira, "[data-testid=to-visit]").await.attr("href").await.unwrap().unwrap();
    let visit = link.rsplit('/').next().unwrap().to_string();
    goto(&rhea, &format!("/visit/{visit}")).await;
    assert_eq!(faults(&rhea).await, Vec::<String>::new());
    type_into(&rhea, "input[name=pin]", &(pin + "\n")).await;
    says(&rhea, "[data-testid=visited-heading]", "Mira Castellane would like to help you").await;
    (rhea, mira)
}

async fn shares(rhea: &WebDriver) {
    click(rhea, "[data-testid=allow]").await;
    // A page that is not there yet cannot be chosen.
    let here = rhea.window().await.unwrap();
    let beside = rhea.new_window().await.unwrap();
    rhea.switch_to_window(beside).await.unwrap();
    rhea.goto(format!("{}/plotter", world().people.demo.desk)).await.unwrap();
    assert_eq!(rhea.title().await.unwrap(), "What the plotter says");
    rhea.switch_to_window(here).await.unwrap();
    click(rhea, "[data-testid=share]").await;
    says(rhea, "[data-testid=sharing]", "it is recorded").await;
}

#[tokio::test]
async fn somebody_without_an_account_shares_their_screen_and_stops_it() {
    let (rhea, mira) = visiting(false).await;
    assert_eq!(faults(&rhea).await, Vec::<String>::new());
    shares(&rhea).await;
    assert_eq!(faults(&mira).await, Vec::<String>::new());
    click(&mira, "[data-testid=to-visit]").await;
    click(&mira, "[data-testid=look]").await;
    seen(&mira).await;
    assert_eq!(faults(&mira).await, Vec::<String>::new());
    says(&rhea, "[data-testid=sharing]", "Mira Castellane sees what you share").await;
    // A file each way, by hand.
    let dir = tempfile::tempdir().unwrap();
    let (given, theirs) = (dir.path().join("mend the plotter.sh"), dir.path().join("error.log"));
    std::fs::write(&given, "#!/bin/sh\n").unwrap();
    std::fs::write(&theirs, "stripes").unwrap();
    find(&mira, "input[name=give]").await.send_keys(given.to_str().unwrap()).await.unwrap();
    says(&mira, "[data-testid=visit-files]", "waits to be taken").await;
    says(&rhea, "[data-testid=offered-file]", "mend the plotter.sh (10 B) from Mira Castellane").await;
    click(&rhea, "[data-testid=take-file]").await;
    says(&rhea, "[data-testid=offered-file]", "saved").await;
    find(&rhea, "input[name=give]").await.send_keys(theirs.to_str().unwrap()).await.unwrap();
    says(&mira, "[data-testid=visit-files]", "error.log").await;
    assert_eq!(faults(&mira).await, Vec::<String>::new());
    assert_eq!(faults(&rhea).await, Vec::<String>::new());
    click(&rhea, "[data-testid=stop-sharing]").await;
    says(&rhea, "[data-testid=visited-heading]", "Share your screen with Mira Castellane").await;
    type_into(&rhea, "input[name=words]", "thank you\n").await;
    says(&mira, "[data-testid=remarks]", "thank you").await;
    click(&rhea, "[data-testid=leave-visit]").await;
    says(&rhea, "[data-testid=visited-heading]", "The visit is over").await;
    says(&mira, "[data-testid=visit-sentence]", "is over and not closed yet").await;
    click(&mira, "[data-testid=close-visit]").await;
    says(&mira, "[data-testid=visit-sentence]", "is closed: solved").await;
    // The page by which people ask themselves.
    goto(&rhea, "/help/help-workstations").await;
    assert_eq!(faults(&rhea).await, Vec::<String>::new());
    rhea.quit().await.unwrap();
    mira.quit().await.unwrap();
}

#[tokio::test]
async fn with_the_program_for_a_visit_keyboard_and_mouse_are_lent_and_taken_back() {
    let (dir, temporary) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let mut screen = common::screen::Screen::tiger(dir.path(), common::screen::Way::Open);
    let file = dir.path().join("line");
    screen.terminal(&common::viewer::keeps_a_line(&file));
    let (rhea, mira) = visiting(false).await;
    click(&rhea, "[data-testid=allow]").await;
    click(&rhea, "[data-testid=program-offer]").await;
    click(&rhea, "[data-testid=want-program]").await;
    let line = text_of(&rhea, "[data-testid=program-line]").await;
    assert_eq!(faults(&rhea).await, Vec::<String>::new());
    let mut program = screen.starts(&line, temporary.path());
    says(&rhea, "[data-testid=program-runs]", "nobody looks yet").await;
    click(&mira, "[data-testid=to-visit]").await;
    click(&mira, "[data-testid=look]").await;
    seen(&mira).await;
    click(&mira, "[data-testid=ask-control]").await;
    says(&rhea, "[data-testid=wants]", "Mira Castellane asks to use your keyboard and mouse").await;
    assert_eq!(faults(&rhea).await, Vec::<String>::new());
    click(&rhea, "[data-testid=allow-control]").await;
    says(&mira, "[data-testid=desktop-sentence]", "You control the computer of Rhea Calder.").await;
    says(&rhea, "[data-testid=visited-heading]", "Mira Castellane controls your computer").await;
    // Without a window manager the keyboard goes where the pointer is: at the top left of the screen, where the terminal is.
    let picture = find(&mira, "[data-testid=desktop]").await;
    mira.action_chain().move_to_element_center(&picture).move_by_offset(-150, -100).click().perform().await.unwrap();
    find(&mira, "[data-testid=desktop-keys]").await.send_keys("Ribbon seated: ÄÖ\n").await.unwrap();
    assert_eq!(common::viewer::line_in(&file).await, "Ribbon seated: ÄÖ\n");
    assert_eq!(faults(&mira).await, Vec::<String>::new());
    click(&rhea, "[data-testid=take-back]").await;
    find(&mira, "[data-testid=ask-control]").await;
    // A shell, with a yes of its own.
    click(&mira, "[data-testid=ask-shell]").await;
    says(&rhea, "[data-testid=wants]", "asks to work in a shell on this computer").await;
    assert_eq!(faults(&rhea).await, Vec::<String>::new());
    click(&rhea, "[data-testid=allow-shell]").await;
    find(&mira, "[data-testid=live-terminal] textarea").await.send_keys("echo seen-$((40+2))\n").await.unwrap();
    says(&mira, "[data-testid=live-terminal]", "seen-42").await;
    // The terminal there is as large as the one that is seen here.
    let rows = mira.find_all(By::Css("[data-testid=live-terminal] .xterm-rows > div")).await.unwrap().len();
    assert!(rows > 12, "{rows}");
    find(&mira, "[data-testid=live-terminal] textarea").await.send_keys("echo cells-$(stty size | cut -d' ' -f1)-\n").await.unwrap();
    says(&mira, "[data-testid=live-terminal]", &format!("cells-{rows}-")).await;
    assert_eq!(faults(&mira).await, Vec::<String>::new());
    click(&rhea, "[data-testid=take-back-shell]").await;
    find(&mira, "[data-testid=ask-shell]").await;
    click(&rhea, "[data-testid=leave-visit]").await;
    says(&rhea, "[data-testid=visited-heading]", "The visit is over").await;
    assert!(tokio::task::spawn_blocking(move || program.wait()).await.unwrap().unwrap().success());
    rhea.quit().await.unwrap();
    mira.quit().await.unwrap();
}

/// Pictures of a desktop, its playback, and a visit.
async fn help_shots(out: &std::path::Path) {
    let worker = browser(1280, 800, false).await;
    sign_in(&worker, "sunniva").await;
    desktop(&worker).await;
    click(&worker, "[data-testid=beside]").await;
    type_into(&worker, "textarea[name=words]", "The slit is at 0.9 arcsec; I keep it there.\n").await;
    says(&worker, "[data-testid=said]", "0.9").await;
    // So that there is something to be played.
    tokio::time::sleep(Duration::from_secs(12)).await;
    worker.screenshot(&out.join("desktop-light.png")).await.unwrap();
    click(&worker, "[data-testid=leave]").await;
    says(&worker, "[data-testid=desktop-over]", "left").await;
    worker.query(By::LinkText("Its record and recording")).first().await.unwrap().click().await.unwrap();
    seen(&worker).await;
    // The pictures along the time line.
    let loaded = "return document.images.length >= 8 && [...document.images].every(i => i.complete)";
    common::until("every picture", async || worker.execute(loaded, vec![]).await.ok()?.json().as_bool()?.then_some(())).await;
    worker.screenshot(&out.join("playback-light.png")).await.unwrap();
    worker.quit().await.unwrap();
    let asking = browser(1280, 800, false).await;
    goto(&asking, "/help/help-workstations").await;
    type_into(&asking, "input[name=person]", "Tobin Ash").await;
    type_into(&asking, "input[name=reason]", "Spectra do not open after the update\n").await;
    says(&asking, "[data-testid=visited-heading]", "You are next").await;
    let (rhea, mira) = visiting(false).await;
    rhea.screenshot(&out.join("visit-light.png")).await.unwrap();
    mira.screenshot(&out.join("queue-light.png")).await.unwrap();
    for d in [asking, rhea, mira] {
        d.quit().await.unwrap();
    }
}

/// Pictures for the documentation: `make screenshots`.
#[tokio::test]
#[ignore = "writes docs/screenshots"]
async fn screenshots() {
    let out = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/screenshots");
    std::fs::create_dir_all(&out).unwrap();
    let (width, height) = (1280, 800);
    for dark in [false, true] {
        let d = browser(width, height, dark).await;
        let shot = async |name: &str| {
            tokio::time::sleep(Duration::from_millis(700)).await;
            let theme = if dark { "dark" } else { "light" };
            d.screenshot(&out.join(format!("{name}-{theme}.png"))).await.unwrap();
        };
        sign_in(&d, "lena").await;
        let mut ssh = world().people.command("ssh", "", &["-tt", "arlo+archive-db@aerie"]).stdin(Stdio::piped()).spawn().unwrap();
        says(&d, "[data-testid=sentence]", "live").await;
        if !dark {
            // Somebody waits for an approver, and stays there until the pictures are taken.
            let code = world().people.codes.next("mira").await;
            let mut waiting = world().people.command("ssh", &code, &["mira+spectro-1@aerie", "hostname"]);
            let mut waiting = waiting.env("AERIE_REASON", "The slit wheel stalls.").spawn().unwrap();
            find(&d, "[data-testid=waits]").await;
            shot("now").await;
            let approver = browser(width, height, false).await;
            sign_in(&approver, "sunniva").await;
            goto(&approver, "/requests").await;
            says(&approver, "h1", "2 requests wait").await;
            approver.screenshot(&out.join("requests-light.png")).await.unwrap();
            approver.quit().await.unwrap();
            let _ = waiting.kill().await;
            let consenting = consenting("The shutter sticks half way; I would like to see its log.").await;
            find(&consenting.d, "article.asked").await;
            consenting.d.screenshot(&out.join("consent-light.png")).await.unwrap();
            consenting.agent.abort();
            consenting.d.quit().await.unwrap();
            goto(&d, "/findings").await;
            find(&d, "[data-testid=finding]").await;
            shot("findings").await;
            goto(&d, "/accesses").await;
            find(&d, "[data-testid=access]").await;
            shot("accesses").await;
            goto(&d, "/rules").await;
            find(&d, "[data-testid=rule]").await;
            shot("rules").await;
            goto(&d, "/reach?person=ines&machine=dome-east").await;
            find(&d, "[data-testid=why]").await;
            find(&d, "[data-testid=reach-entry]").await;
            shot("reach-pair").await;
            goto(&d, "/machines").await;
            find(&d, "[data-testid=machine-row]").await;
            shot("machines").await;
            goto(&d, "/machines/coude-1").await;
            click(&d, "[data-testid=check-machine]").await;
            says(&d, "#ready", "just now").await;
            shot("machine").await;
            help_shots(&out).await;
        }
        if dark {
            // One page in dark colours shows that there are such; the others are of the same cloth.
            goto(&d, "/watch").await;
            says(&d, "[data-testid=live-terminal] .xterm-rows", "watches this session").await;
            shot("watch").await;
            d.quit().await.unwrap();
            let _ = ssh.kill().await;
            return;
        }
        goto(&d, "/rules").await;
        find(&d, "[data-testid=draft]").await.click().await.unwrap();
        find(&d, "[data-testid=judged]").await;
        shot("draft").await;
        goto(&d, "/findings").await;
        d.query(By::XPath("//a[contains(., 'added a key to an account')]")).first().await.unwrap().click().await.unwrap();
        find(&d, "[data-testid=evidence]").await;
        shot("finding").await;
        find(&d, "[data-testid=to-moment]").await.click().await.unwrap();
        says(&d, "[data-testid=screen] .xterm-rows", "authorized_keys").await;
        shot("session").await;
        let _ = ssh.kill().await;
        d.quit().await.unwrap();
    }
}

#[tokio::test]
async fn every_page_of_the_navigation_opens_for_each_role() {
    for person in ["lena", "sunniva", "tove", "greta"] {
        let d = browser(400, 800, false).await;
        sign_in(&d, person).await;
        let links = d.query(By::Css("nav[aria-label=Main] a")).all_from_selector_required().await.unwrap();
        let mut pages = vec![];
        for link in links {
            pages.push(link.attr("href").await.unwrap().unwrap());
        }
        assert!(pages.len() >= 6, "{person}: {pages:?}");
        // The page that one comes to first is one of them.
        let first = d.current_url().await.unwrap().path().to_string();
        assert!(pages.contains(&first), "{person}: {first}");
        for page in &pages {
            goto(&d, page).await;
            find(&d, "h1").await;
            assert!(d.find_all(By::Css("[role=alert]")).await.unwrap().is_empty(), "{person} {page}");
            // A page is no wider than the screen: what is wider scrolls within it.
            let wide = d.execute("return document.documentElement.scrollWidth", vec![]).await.unwrap();
            assert!(wide.json().as_u64().is_some_and(|w| w <= 400), "{person} {page}: {}", wide.json());
        }
        d.quit().await.unwrap();
    }
}
