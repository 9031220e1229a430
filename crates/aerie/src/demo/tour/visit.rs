//! The part of the tour in which people are helped: a screen behind an agent, and a visit that begins at an incident.

use super::{Found, Tour};
use crate::Failure;
use crate::demo::browser::Browser;
use crate::demo::desk::{Incident, Started};
use aerie_api::{DesktopQuery, FromViewer, ToViewer};
use aerie_client::{DesktopLink, FromService};
use aerie_lab::XScreen;
use serde_json::json;
use std::process::Stdio;
use std::time::Duration;

/// Where the shell's window is on the screen of coude-1.
const SHELL: (u16, u16) = (600, 500);
const ENTER: u32 = 0xff0d;
/// Title of the page that Rhea shares.
const PLOTTER: &str = "What the plotter says";

/// Whether the machines have a screen: the packages for it are installed.
pub(super) fn has_screens() -> bool {
    std::path::Path::new("/usr/bin/Xtigervnc").exists()
}

fn gone() -> Failure {
    Failure::internal("the service went away")
}

/// Reads on until something is said of which this makes something.
async fn until<T>(link: &mut DesktopLink, mut find: impl FnMut(&FromService) -> Option<T>) -> Result<T, Failure> {
    loop {
        let said = link.next().await.ok_or_else(gone)?;
        if let FromService::Told(ToViewer::Refused { text, .. } | ToViewer::Ended { text }) = &said {
            return Err(Failure::internal(text.clone()));
        }
        if let Some(found) = find(&said) {
            return Ok(found);
        }
    }
}

fn is_on(said: &FromService, capability: &str) -> Option<()> {
    let FromService::Told(ToViewer::Uses { uses }) = said else { return None };
    uses.iter().any(|(c, state)| c == capability && state == "on").then_some(())
}

impl Tour {
    /// Mira looks at the screen of coude-1, and takes the keyboard when Sunniva, who sits there, agrees.
    pub(super) async fn screen(&self) -> Found {
        let mira = self.as_person("mira").await?;
        let mut link = mira.desktop("coude-1", &DesktopQuery::default()).await?;
        link.say(&FromViewer::Begin { reason: String::new(), ticket: String::new() }).await;
        let session = until(&mut link, |s| match s {
            FromService::Told(ToViewer::Began { session, .. }) => Some(session.clone()),
            _ => None,
        })
        .await?;
        // Before it is given, what she types goes nowhere.
        link.say(&FromViewer::Key(u32::from('x'), true)).await;
        let agree = format!("{} agent answer --wait --say agree", aerie_lab::PROGRAM);
        let agrees = [super::AT_COUDE, agree.as_str()];
        let reads = ["sunniva+coude-1@aerie", "until [ -s typed-here ]; do sleep 0.1; done; cat typed-here"];
        let there = async {
            self.people.run("ssh", "sunniva", &agrees, "").await?;
            self.people.run("ssh", "sunniva", &reads, "").await
        };
        let works = async {
            self.live("sunniva").await?;
            link.say(&FromViewer::Ask("control".into())).await;
            until(&mut link, |s| is_on(s, "control")).await?;
            // The window manager takes its time with the window that was clicked: what was typed before goes to the one before, and is typed again.
            loop {
                for buttons in [0, 1, 0] {
                    link.say(&FromViewer::At(SHELL.0, SHELL.1, buttons)).await;
                }
                tokio::time::sleep(Duration::from_millis(500)).await;
                for key in "\nhostname > ~/typed-here\n".chars().map(|c| if c == '\n' { ENTER } else { u32::from(c) }) {
                    link.say(&FromViewer::Key(key, true)).await;
                    link.say(&FromViewer::Key(key, false)).await;
                }
                // What is shown meanwhile is taken, so that the picture goes on.
                let _ = tokio::time::timeout(Duration::from_secs(1), async { while link.next().await.is_some() {} }).await;
            }
        };
        let there = tokio::select! {
            there = there => there?,
            failed = works => {
                let failed: Result<std::convert::Infallible, Failure> = failed;
                return failed.map(|never| match never {});
            }
        };
        let typed = there.out;
        link.say(&FromViewer::Leave).await;
        while link.next().await.is_some() {}
        let uses = self.client.session(&session).await?.uses.join(", ");
        let held = typed.trim() == "coude-1" && uses == "view, control";
        Ok((held, format!("Seen at once, and told of; controlled when it was allowed. What she typed arrived on {}.", typed.trim())))
    }

    /// Rhea starts the program for a visit on a screen of hers, and Mira types there when she agrees. Whether it arrived.
    async fn lend(&self, rhea: &Browser, mira: &Browser) -> Result<bool, Failure> {
        let failed = |e: std::io::Error| Failure::internal(format!("the screen of whoever is helped: {e}"));
        let mut screen =
            XScreen::start("Xtigervnc", &["-geometry", "800x600", "-SecurityTypes", "None", "-rfbport", "-1"]).map_err(failed)?;
        // One terminal that fills it: the pointer, and with it the keyboard, is there from the first on.
        let (dir, typed) = (std::path::Path::new(&self.people.demo.directory), "typed-by-mira");
        let script = format!("read line; echo \"$line\" > '{}'; sleep 1000", dir.join(typed).display());
        screen.terminal("140x50+0+0", &[], &script).map_err(failed)?;
        rhea.click("[data-testid=program-offer]").await?;
        rhea.click("[data-testid=want-program]").await?;
        let line = rhea.says("[data-testid=program-line]", "visit").await?;
        let mut program = screen.shell(&line).stdout(Stdio::null()).spawn().map_err(failed)?;
        rhea.says("[data-testid=program-runs]", "sees your whole screen").await?;
        mira.click("[data-testid=ask-control]").await?;
        rhea.says("[data-testid=wants]", "use your keyboard and mouse").await?;
        rhea.click("[data-testid=allow-control]").await?;
        mira.says("[data-testid=desktop-sentence]", "You control the computer of Rhea Calder.").await?;
        mira.enter("[data-testid=desktop-keys]", "the ribbon\n").await?;
        let arrived = async {
            loop {
                match std::fs::read_to_string(dir.join(typed)) {
                    Ok(text) if text.ends_with('\n') => return text == "the ribbon\n",
                    _ => tokio::time::sleep(Duration::from_millis(50)).await,
                }
            }
        };
        let arrived = tokio::time::timeout(Duration::from_secs(20), arrived).await.unwrap_or(false);
        let _ = program.kill();
        let _ = program.wait();
        Ok(arrived)
    }

    /// A visit from an incident to its record there: Rhea at one browser, Mira at another.
    pub(super) async fn visit(&self, rhea: &Browser, mira: &Browser) -> Found {
        let demo = &self.people.demo;
        let foreign = |e: reqwest::Error| Failure::internal(format!("the ticket desk: {e}"));
        let http = reqwest::Client::new();
        let answer = http.post(format!("{}/incidents/OBS-2101/visit", demo.desk)).send().await.map_err(foreign)?;
        let started: Started = answer.error_for_status().map_err(foreign)?.json().await.map_err(foreign)?;

        rhea.goto(&started.link).await?;
        rhea.enter("input[name=pin]", &format!("{}\n", started.pin)).await?;
        let asked = rhea.says("[data-testid=visited-heading]", "would like to help you").await?;
        rhea.click("[data-testid=allow]").await?;
        rhea.open_beside(&format!("{}/plotter", demo.desk), PLOTTER).await?;
        // A browser that gives no picture says so, and one chooses again.
        loop {
            rhea.click("[data-testid=share]").await?;
            rhea.says("[data-testid=sharing]", "waits to be looked at").await?;
            if rhea.either("[data-testid=sharing][data-pictured=true]", "[data-testid=no-picture]").await? {
                break;
            }
            rhea.click("[data-testid=stop-sharing]").await?;
        }

        mira.goto(&format!("{}/sign-in", demo.console)).await?;
        let password = demo.people.iter().find(|p| p.name == "mira").map(|p| p.password.clone()).unwrap_or_default();
        let code = self.people.codes.next("mira").await;
        mira.api("POST", "/sign-in", json!({ "person": "mira", "password": password, "code": code })).await?;
        mira.goto(&format!("{}/visits/{}", demo.console, started.visit)).await?;
        mira.click("[data-testid=look]").await?;
        rhea.says("[data-testid=sharing]", "sees what you share, and it is recorded").await?;
        seen(mira).await?;
        mira.click("[data-testid=keep-picture]").await?;
        mira.says("[data-testid=visit-picture]", "").await?;
        mira.enter("input[name=note]", "The ribbon was not seated\n").await?;
        mira.says("[data-testid=remarks]", "The ribbon was not seated").await?;
        let typed = self.lend(rhea, mira).await?;
        mira.enter("textarea[name=closing]", "Seat the ribbon until it clicks.").await?;
        mira.click("[data-testid=close-visit]").await?;
        mira.says("[data-testid=visit-sentence]", "is closed: solved").await?;
        rhea.says("[data-testid=visited-heading]", "The visit is over").await?;

        let record = async {
            loop {
                let incidents: Vec<Incident> = http.get(format!("{}/incidents", demo.desk)).send().await?.json().await?;
                let incident = incidents.into_iter().find(|i| i.number == "OBS-2101");
                let record =
                    incident.and_then(|i| i.work_notes.into_iter().find_map(|n| serde_json::from_str::<serde_json::Value>(&n).ok()));
                if let Some(record) = record {
                    return Ok::<_, reqwest::Error>(record);
                }
                tokio::time::sleep(Duration::from_millis(50)).await;
            }
        };
        let record = record.await.map_err(foreign)?;
        let count = |key: &str| record.get(key).and_then(|v| v.as_array()).map_or(0, Vec::len);
        let held = typed && count("pictures") == 1 && count("notes") == 1 && count("consents") == 2 && count("sessions") == 2;
        let found = format!(
            "{asked}; and, when Rhea allowed it, with keyboard and mouse. The record on OBS-2101 has both consents, a note, a picture and the sessions; the chat stayed here."
        );
        Ok((held && record.get("chat").is_none(), found))
    }
}

/// Waits until the canvas shows more than one colour.
async fn seen(browser: &Browser) -> Result<(), Failure> {
    let script = "const c = document.querySelector('[data-testid=desktop]'); if (!c) return false; \
                  const p = c.getContext('2d').getImageData(0, 0, c.width, c.height).data; \
                  for (let i = 4; i < p.length; i += 4) if (Math.abs(p[i] - p[0]) > 40) return true; return false;";
    let waiting = async {
        while browser.run(script).await?.as_bool() != Some(true) {
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        Ok(())
    };
    tokio::time::timeout(Duration::from_secs(20), waiting).await.map_err(|_| Failure::internal("nothing was seen of the shared screen"))?
}
