//! Where whoever is helped and whoever helps meet, while either has a page open.

use crate::service::App;
use aerie_api::ToVisited;
use aerie_core::desktop::Message;
use aerie_core::policy::Capability;
use aerie_core::session::EndReason;
use aerie_tunnel::Tunnel;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};
use subtle::ConstantTimeEq as _;
use tokio::sync::{broadcast, mpsc, oneshot};
use tokio_util::sync::CancellationToken;

/// Messages that the person's page may be behind; beyond, it is told how things stand anew.
const BEHIND: usize = 64;
/// Pieces of film that wait for the session; beyond, the film waits, and the browser that makes it leaves pictures out.
const PIECES: usize = 8;

/// How long the line is good that starts the program for a visit.
const LINE: Duration = Duration::from_secs(600);
/// How long the person may take to answer a question.
const ANSWER: Duration = Duration::from_secs(60);

#[derive(Debug, Default)]
struct Inner {
    /// How many pages the person has open.
    pages: u32,
    film: Option<Message>,
    session: Option<(String, mpsc::Sender<Message>)>,
    line: Option<Line>,
    program: Option<Program>,
    asked: Option<Asked>,
    /// Counts what was asked here: an answer counts for its own question alone.
    questions: u64,
    /// The session of whoever helps in a shell there.
    shell: Option<String>,
}

/// What is asked of the person at this moment.
#[derive(Debug)]
struct Asked {
    question: u64,
    what: Capability,
    answer: oneshot::Sender<bool>,
}

/// The line that starts the program for a visit: the first that comes with it has it from then on.
#[derive(Debug)]
struct Line {
    hash: [u8; 32],
    made: Instant,
    key: Option<String>,
    /// Whether its first start is in the log: one that comes again and again fills no log.
    noted: bool,
}

/// The program for a visit, as it runs on the person's computer.
#[derive(Debug, Clone)]
pub(crate) struct Program {
    pub(crate) tunnel: Tunnel,
    /// Ends it.
    pub(crate) over: CancellationToken,
}

/// A meeting.
#[derive(Debug)]
pub(crate) struct Meeting {
    /// The visit.
    pub(crate) visit: String,
    inner: Mutex<Inner>,
    to_person: broadcast::Sender<ToVisited>,
    /// How things stand changed.
    pub(crate) changed: broadcast::Sender<()>,
}

impl Meeting {
    pub(super) fn new(visit: &str) -> Self {
        Self { visit: visit.into(), inner: Mutex::default(), to_person: broadcast::channel(BEHIND).0, changed: broadcast::channel(4).0 }
    }

    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn handle_change(&self) {
        let _ = self.changed.send(());
    }

    /// A page of the person is there.
    pub(crate) fn come(&self) -> broadcast::Receiver<ToVisited> {
        self.lock().pages += 1;
        self.handle_change();
        self.to_person.subscribe()
    }

    /// It is gone; whether it was the last.
    pub(crate) fn go(&self) -> bool {
        let mut inner = self.lock();
        inner.pages = inner.pages.saturating_sub(1);
        let last = inner.pages == 0;
        if last {
            inner.film = None;
        }
        drop(inner);
        self.handle_change();
        last
    }

    pub(crate) fn is_here(&self) -> bool {
        self.lock().pages > 0
    }

    /// Whether there is something to be seen: film, or what the program for a visit shows.
    pub(crate) fn shares(&self) -> bool {
        let inner = self.lock();
        inner.film.is_some() || inner.program.is_some()
    }

    /// Whether a browser shares film of a screen.
    pub(crate) fn films(&self) -> bool {
        self.lock().film.is_some()
    }

    /// The session in which whoever helps looks at it.
    pub(crate) fn session(&self) -> Option<String> {
        self.lock().session.as_ref().map(|s| s.0.clone())
    }

    /// A session works in a shell there from here on.
    pub(crate) fn begin_shell(&self, id: &str) {
        self.lock().shell = Some(id.into());
        self.handle_change();
    }

    /// It does so no longer.
    pub(crate) fn end_shell(&self, id: &str) {
        self.lock().shell.take_if(|s| s == id);
        self.handle_change();
    }

    /// The session that works in a shell there.
    pub(crate) fn shell(&self) -> Option<String> {
        self.lock().shell.clone()
    }

    /// Says something to the person's page.
    pub(crate) fn tell(&self, what: ToVisited) {
        let _ = self.to_person.send(what);
    }

    /// The person shares their screen from here on, or no longer.
    pub(crate) async fn handle_film(&self, film: Option<Message>) {
        let to = {
            let mut inner = self.lock();
            inner.film = film.clone();
            inner.session.as_ref().map(|s| s.1.clone())
        };
        if let (Some(to), Some(film)) = (to, film) {
            let _ = to.send(film).await;
        }
        self.handle_change();
    }

    /// A piece of film; nobody looks without a session, and then it is not kept either.
    pub(crate) async fn handle_piece(&self, piece: Message) {
        let to = self.lock().session.as_ref().map(|s| s.1.clone());
        if let Some(to) = to {
            let _ = to.send(piece).await;
        }
    }

    /// A session looks from here on: gives what it takes. One before it gets nothing more.
    pub(crate) fn begin_session(&self, id: &str) -> mpsc::Receiver<Message> {
        let (send, receive) = mpsc::channel(PIECES);
        let mut inner = self.lock();
        if let Some(film) = &inner.film {
            let _ = send.try_send(film.clone());
        }
        inner.session = Some((id.into(), send));
        drop(inner);
        self.tell(ToVisited::Key);
        self.handle_change();
        receive
    }

    /// It looks no longer.
    pub(crate) fn end_session(&self, id: &str) {
        let mut inner = self.lock();
        if inner.session.as_ref().is_some_and(|s| s.0 == id) {
            inner.session = None;
        }
        drop(inner);
        self.handle_change();
    }

    /// The person was given a line that starts the program; the one before is void.
    pub(crate) fn give_line(&self, hash: [u8; 32]) {
        self.lock().line = Some(Line { hash, made: Instant::now(), key: None, noted: false });
    }

    /// Whether this is the secret of the line, shown by whoever has it: the first that came in time.
    pub(super) fn takes_line(&self, hashes: &[[u8; 32]], key: &str) -> bool {
        let mut inner = self.lock();
        let Some(line) = &mut inner.line else { return false };
        let same = hashes.iter().fold(subtle::Choice::from(0), |any, h| any | h.ct_eq(&line.hash));
        let good = match &line.key {
            Some(first) => first == key,
            None => line.made.elapsed() < LINE,
        };
        let taken = bool::from(same) && good;
        if taken {
            line.key = Some(key.into());
        }
        taken
    }

    /// Whether the program was started for the first time with this line.
    pub(crate) fn is_first_start(&self) -> bool {
        self.lock().line.as_mut().is_some_and(|l| !std::mem::replace(&mut l.noted, true))
    }

    /// The program runs; one before it is ended.
    pub(crate) fn handle_program(&self, program: Program) {
        if let Some(before) = self.lock().program.replace(program) {
            before.over.cancel();
        }
        self.handle_change();
    }

    /// One that was ended runs no longer.
    pub(crate) fn program_gone(&self) {
        self.lock().program.take_if(|p| p.over.is_cancelled());
        self.handle_change();
    }

    /// The program for a visit, where it runs.
    pub(crate) fn program(&self) -> Option<Program> {
        self.lock().program.clone()
    }

    /// Asks the person whether whoever helps may do this; false where they refuse, or say nothing.
    pub(crate) async fn ask(&self, what: Capability) -> bool {
        let (answer, answered) = oneshot::channel();
        let question = {
            let mut inner = self.lock();
            inner.questions += 1;
            inner.asked = Some(Asked { question: inner.questions, what, answer });
            inner.questions
        };
        self.handle_change();
        let yes = matches!(tokio::time::timeout(ANSWER, answered).await, Ok(Ok(true)));
        self.lock().asked.take_if(|a| a.question == question);
        self.handle_change();
        yes
    }

    /// What is asked of the person now, and the number of the question.
    pub(crate) fn asked(&self) -> Option<(u64, Capability)> {
        self.lock().asked.as_ref().map(|a| (a.question, a.what))
    }

    /// The person answers this question; false where it is not the one that is asked. A no is a no to whatever is asked of that kind.
    pub(crate) fn answer(&self, question: u64, what: Capability, yes: bool) -> bool {
        let asked = self.lock().asked.take_if(|a| a.what == what && (a.question == question || !yes));
        asked.is_some_and(|a| a.answer.send(yes).is_ok())
    }

    /// Whoever asked has the visit no longer.
    pub(super) fn ask_no_more(&self) {
        self.lock().asked = None;
        self.handle_change();
    }

    /// The visit is over: so is what looks, and the program.
    pub(super) fn end_sessions(&self, app: &App) {
        if let Some(program) = self.program() {
            program.over.cancel();
        }
        self.end_looking(app, "the visit is over");
    }

    /// Whoever looks does so no longer.
    pub(super) fn end_looking(&self, app: &App, why: &str) {
        for live in [self.session(), self.shell()].into_iter().flatten().filter_map(|id| app.live.get(&id)) {
            live.end_saying(EndReason::Left, why);
        }
    }
}
