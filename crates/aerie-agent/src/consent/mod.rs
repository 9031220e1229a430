//! Asks the person at the machine, on the service's behalf, and shows that somebody is connected.
//!
//! The answer is taken on a page of the machine's own loopback, from its terminal (`aerie agent answer` speaks to the same page), or
//! from a program of the administrator's choice. Who answers is known from the kernel: the user of the connecting socket.

mod desk;
mod page;
mod peer;
mod presence;
mod seat;

pub use page::{Answering, Item, State};

use crate::serve::Note;
use aerie_core::policy::Consent;
use aerie_core::session::consent::{FromMachine, MAX_LINE, Question, ToMachine, Witness, line, nobody_there};
use aerie_tunnel::TunnelStream;
use desk::{Desk, Shown};
use jiff::{SignedDuration, Timestamp};
use std::path::PathBuf;
use std::process::Stdio;
use std::sync::Arc;
use std::time::Duration;
use tokio::io::{AsyncBufReadExt as _, AsyncReadExt as _, AsyncWriteExt as _, BufReader};
use tokio::sync::{mpsc, oneshot};

/// Questions and signs that are shown at a time.
const MOST_SHOWN: usize = 64;
/// Those of one person: half of the places, so that nobody keeps others from being asked about.
const MOST_OF_ONE: usize = MOST_SHOWN / 2;
/// How long the service has to take the last word.
const PARTING: Duration = Duration::from_secs(10);
/// Where the page is, unless told otherwise.
pub const PORT: u16 = 7077;

/// How an agent asks.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Asking {
    /// TCP port of the page on loopback; 0 for any that is free.
    pub port: u16,
    /// Accounts that may answer; none for those who are logged in at the moment.
    pub people: Vec<String>,
    /// A program that answers instead: JSON on its standard input, an answer on its standard output.
    pub program: Option<PathBuf>,
    /// After so long without a key nobody is held to be there.
    pub idle: SignedDuration,
}

impl Default for Asking {
    fn default() -> Self {
        Self { port: PORT, people: vec![], program: None, idle: SignedDuration::from_mins(10) }
    }
}

/// A PIN that somebody typed on the page, and where the service's word on it goes.
pub(crate) struct Typed {
    pub(crate) pin: String,
    pub(crate) answer: oneshot::Sender<(bool, String)>,
}

/// Asks for one agent.
pub(crate) struct Asker {
    asking: Asking,
    desk: Arc<Desk>,
    note: Note,
}

impl Asker {
    /// Opens the page. Gives where it is; without it a program and the terminals are left.
    /// PINs that are typed there go to `pins`.
    pub(crate) async fn start(asking: Asking, machine: String, note: Note, pins: mpsc::Sender<Typed>) -> (Arc<Self>, Option<u16>) {
        let desk = Arc::new(Desk::new(MOST_SHOWN, MOST_OF_ONE));
        let served = page::serve(desk.clone(), &asking, machine, pins).await;
        let port = match served {
            Ok(port) => {
                note(&format!("questions are answered at http://127.0.0.1:{port}/"));
                Some(port)
            }
            Err(e) => {
                note(&format!("the page for questions could not be opened: {e}"));
                None
            }
        };
        (Arc::new(Self { asking, desk, note }), port)
    }

    /// Serves one question to its end.
    pub(crate) async fn serve(&self, stream: TunnelStream) {
        let (read, mut write) = tokio::io::split(stream);
        let mut read = BufReader::new(read);
        let mut kept = vec![];
        let Some(ToMachine::Question(question)) = next(&mut read, &mut kept).await else { return };
        let Some(mut shown) = self.desk.show(question.clone()) else {
            let _ = write
                .write_all(&line(&FromMachine::Refused(Witness { console: "too many questions at once".into(), ..Witness::default() })))
                .await;
            return;
        };
        (self.note)(&format!("{} ({}) asks to {} this computer as {}", question.who, question.person, question.does(), question.account));
        if let Some(first) = self.first_answer(&question, &mut shown, &mut read, &mut kept).await {
            (self.note)(&format!("answered: {first:?}"));
            let no = first.worth(question.mode).is_none();
            if write.write_all(&line(&first)).await.is_err() {
                return;
            }
            if no {
                return part(&mut read, &mut kept, &mut write).await;
            }
        } else {
            return;
        }
        shown.answered();
        loop {
            tokio::select! {
                said = next(&mut read, &mut kept) => match said {
                    Some(ToMachine::Began(at)) => {
                        shown.began(at);
                        self.tell(&format!("{} is connected to this computer ({}).", question.who, question.capability.word()));
                    }
                    Some(ToMachine::Talk(talk)) => shown.take(talk),
                    Some(ToMachine::Question(_)) => {}
                    Some(ToMachine::Over(_)) | None => break,
                },
                act = shown.next() => {
                    if !matches!(act, FromMachine::Said(_)) {
                        (self.note)(&format!("{act:?}"));
                    }
                    let stop = matches!(act, FromMachine::Refused(_));
                    if write.write_all(&line(&act)).await.is_err() || stop {
                        break;
                    }
                }
            }
        }
        part(&mut read, &mut kept, &mut write).await;
    }

    /// The answer to the question; none where the service asks no longer.
    async fn first_answer<R: tokio::io::AsyncRead + Unpin>(
        &self,
        question: &Question,
        shown: &mut Shown,
        read: &mut BufReader<R>,
        kept: &mut Vec<u8>,
    ) -> Option<FromMachine> {
        let logins = presence::now();
        let there = || logins.iter().flatten().map(|p| p.login.account.clone()).collect::<std::collections::BTreeSet<_>>();
        if question.mode == Consent::Notice {
            self.tell(&format!("{} will {} this computer.", question.who, question.does()));
            let account = there().into_iter().collect::<Vec<_>>().join(" ");
            return Some(FromMachine::Told(Witness { account, console: "page and terminals".into() }));
        }
        // Where the machine keeps no list of who is logged in, somebody may be there.
        if question.mode == Consent::IfPresent
            && let Some(why) = logins.as_ref().and_then(|l| nobody_there(l, self.asking.idle))
        {
            return Some(FromMachine::Nobody(why));
        }
        let reason = if question.reason.is_empty() { String::new() } else { format!(": “{}”", question.reason) };
        self.tell(&format!(
            "{}{} asks to {} this computer{reason}. Answer at http://127.0.0.1:{}/ or with: {} answer",
            question.who,
            if question.organisation.is_empty() { String::new() } else { format!(" ({})", question.organisation) },
            question.does(),
            shown.port(),
            crate::called(),
        ));
        let patience = Duration::try_from(question.until.duration_since(Timestamp::now())).unwrap_or(Duration::ZERO);
        let program = async {
            match &self.asking.program {
                Some(program) => answer_of(program, question).await,
                None => std::future::pending().await,
            }
        };
        tokio::select! {
            answer = shown.next() => Some(answer),
            answer = program => Some(answer),
            // The service says so when it asks no longer; whatever else it says now has no meaning.
            _ = next(read, kept) => None,
            // No answer is the service's to say: it knows until when it waited.
            () = tokio::time::sleep(patience + PARTING) => None,
        }
    }

    /// A line to every terminal of this machine, and a notice on its desktop: what is said there is a notice, and no answer is taken
    /// from it.
    fn tell(&self, text: &str) {
        let text: String = aerie_core::diagnostic::printable(text);
        presence::write_to_terminals(&format!("\r\n\x07aerie: {text}\r\n"));
        if std::env::var_os("DBUS_SESSION_BUS_ADDRESS").is_some() {
            let notice = tokio::process::Command::new("notify-send")
                .args(["--app-name=Aerie", "--", "Aerie", &text])
                .stdin(Stdio::null())
                .stdout(Stdio::null())
                .stderr(Stdio::null())
                .spawn();
            if let Ok(mut notice) = notice {
                tokio::spawn(async move { drop(notice.wait().await) });
            }
        }
    }
}

/// What was said must arrive before the stream is gone: the service closes it when it has read everything.
async fn part<R, W>(read: &mut BufReader<R>, kept: &mut Vec<u8>, write: &mut W)
where
    R: tokio::io::AsyncRead + Unpin,
    W: tokio::io::AsyncWrite + Unpin,
{
    let _ = write.shutdown().await;
    let rest = async { while next(read, kept).await.is_some() {} };
    let _ = tokio::time::timeout(PARTING, rest).await;
}

/// The next thing that the service says; none when it is gone, or says what cannot be read.
async fn next<R: tokio::io::AsyncRead + Unpin>(read: &mut BufReader<R>, kept: &mut Vec<u8>) -> Option<ToMachine> {
    loop {
        let left = MAX_LINE.saturating_sub(kept.len()) as u64 + 1;
        let n = (&mut *read).take(left).read_until(b'\n', kept).await.ok()?;
        if kept.last() == Some(&b'\n') {
            let said = serde_json::from_slice(kept).ok();
            kept.clear();
            return said;
        }
        if n == 0 || kept.len() > MAX_LINE {
            return None;
        }
    }
}

/// What the administrator's program says: `{"answer": "agree"}`; anything else, and a program that fails, is a no.
async fn answer_of(program: &std::path::Path, question: &Question) -> FromMachine {
    #[derive(serde::Deserialize)]
    struct Given {
        answer: String,
        #[serde(default)]
        account: String,
    }
    let console = format!("program {}", program.display());
    let ask = async {
        let mut child = tokio::process::Command::new(program)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .kill_on_drop(true)
            .spawn()
            .ok()?;
        let mut input = child.stdin.take()?;
        input.write_all(&line(question)).await.ok()?;
        drop(input);
        let mut out = vec![];
        child.stdout.take()?.take(MAX_LINE as u64).read_to_end(&mut out).await.ok()?;
        child.wait().await.ok().filter(std::process::ExitStatus::success)?;
        serde_json::from_slice::<Given>(&out).ok()
    };
    let given = ask.await;
    let account = given.as_ref().map(|g| g.account.clone()).unwrap_or_default();
    let witness = Witness { account, console };
    if given.is_some_and(|g| g.answer == "agree") { FromMachine::Agreed(witness) } else { FromMachine::Refused(witness) }
}
