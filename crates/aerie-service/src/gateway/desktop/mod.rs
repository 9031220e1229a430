//! The desktop of a machine over HTTPS: a session like any other, whose picture goes to a browser and whose keys come from there.

mod connect;
mod hands;
mod told;
mod uses;
mod windows;

use self::connect::{connect, connect_visited, failed};
use super::admission::attend;
use super::connection::{Admitted, Connection, OpenSession, SignedInBy, Stated, lock};
use crate::desktop::{Driver, Greeted, Order, Screen};
use crate::machines::Steps;
use crate::pace::Pace;
use crate::service::App;
use crate::sessions::LiveSession;
use crate::visits::Meeting;
use aerie_api::ToViewer;
use aerie_core::desktop::Message;
use aerie_core::directory::{Machine, Way};
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::policy::{Capability, Consent};
use aerie_core::recording::{Frame, Opened};
use aerie_core::session::{EndReason, LoginName};
use aerie_core::tunnel::LOCK_TARGET;
use jiff::Timestamp;
use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::sync::{Notify, mpsc};
use tokio_util::sync::CancellationToken;

/// Keys and movements that wait for the machine.
const ORDERS: usize = 256;
/// Bytes of film in a second: ten times what a browser is asked for.
const MOST_FILM: usize = 3 << 20;
/// How long a session waits for its person after their window is gone: a network that breaks off, a page that is loaded again.
const WAITS: Duration = Duration::from_secs(120);

/// Where lines are drawn for whoever sits there, the picture below them is made anew so often at most: making one takes milliseconds.
const PICTURE_EVERY: Duration = Duration::from_secs(1);

/// How long locking a screen may take.
const LOCKING: Duration = Duration::from_secs(15);

/// What can be used in a desktop session besides seeing it.
const ASKED: [Capability; 3] = [Capability::Control, Capability::ClipboardIn, Capability::ClipboardOut];

/// Who begins a session, and what they said.
pub(crate) struct Beginning {
    pub(crate) by: SignedInBy,
    pub(crate) reason: Option<String>,
    pub(crate) ticket: Option<String>,
}

/// A desktop session.
pub(crate) struct Desktop {
    connection: Arc<Connection>,
    session: Arc<OpenSession>,
    pub(crate) screen: Arc<Screen>,
    orders: mpsc::Sender<Order>,
    /// Which window of its person has it; windows before it are out.
    window: AtomicU64,
    /// A window came or went.
    windows: Notify,
    /// Capabilities that are being asked for.
    asking: Mutex<Vec<Capability>>,
    began: Timestamp,
    /// Where the person is met who shares it.
    visit: Option<Arc<Meeting>>,
    /// Film shows what is there, and takes no keys.
    film: bool,
    /// The rules want its screen locked at the end.
    lock: AtomicBool,
    /// What the person at the machine was last shown of it.
    pictured: Mutex<Option<Pictured>>,
}

/// A picture of the screen that was made for whoever sits there.
#[derive(Clone, Copy)]
struct Pictured {
    at: tokio::time::Instant,
    of: (u16, u16),
    size: (u16, u16),
}

/// How a session began, for the log and the recording.
struct How<'a> {
    kind: &'a str,
    name: &'a str,
    title: &'a str,
    how: &'a str,
    visit: Option<Arc<Meeting>>,
}

/// What there is to be seen.
enum Source {
    /// The desktop's server of a machine, and what is done there.
    Server(Box<Greeted>, mpsc::Receiver<Order>),
    /// Film of a screen that somebody shares.
    Film(mpsc::Receiver<Message>),
}

/// The desktop sessions that are live, by the identifier of the session.
#[derive(Default)]
pub(crate) struct Desktops(Mutex<HashMap<String, Arc<Desktop>>>);

impl Desktops {
    pub(crate) fn get(&self, id: &str) -> Option<Arc<Desktop>> {
        lock(&self.0).get(id).cloned()
    }
}

impl Desktop {
    /// Begins the session, if the rules allow it; where others must be asked first, waits for them. `closed` is cancelled when the
    /// person leaves before.
    ///
    /// # Errors
    /// The sentence that refuses it.
    pub(crate) async fn begin(
        app: &Arc<App>,
        machine: Machine,
        way: Way,
        who: Beginning,
        steps: &Steps,
        closed: CancellationToken,
    ) -> Result<Arc<Self>, String> {
        let Beginning { by, reason, ticket } = who;
        let login = LoginName { person: by.person.person().into(), machine: Some(machine.name.clone()), account: None, emergency: false };
        let connection = Connection::new(app.clone(), by, login, Stated { ticket, reason }, closed);
        steps.say(format!("asking the rules whether you may see the screen of {}", machine.name));
        let admitted = connection.admit(Capability::View, steps).await?;
        let (greeted, how) = match connect(app, &machine, &way, steps).await {
            Ok(connected) => connected,
            Err(e) => {
                let why = failed(&connection, &machine, &way, &e).await;
                if let Some(consenting) = admitted.consenting {
                    consenting.over("the desktop could not be reached").await;
                }
                return Err(why);
            }
        };
        let began = How { kind: "desktop", name: &way.name, title: &greeted.title, how: &how, visit: None };
        let (desktop, inbox) = Self::go_live(&connection, admitted, &machine, began, false, steps).await?;
        desktop.session.carriers.spawn(desktop.clone().carry(Source::Server(Box::new(greeted), inbox)));
        Ok(desktop)
    }

    /// Begins a session on the screen that somebody shares from their browser, to which they agreed on their page.
    ///
    /// # Errors
    /// The sentence that refuses it.
    pub(crate) async fn begin_shared(
        app: &Arc<App>,
        queue: Machine,
        meeting: Arc<Meeting>,
        who: Beginning,
        steps: &Steps,
        closed: CancellationToken,
    ) -> Result<Arc<Self>, String> {
        let Beginning { by, reason, ticket } = who;
        let login = LoginName { person: by.person.person().into(), machine: Some(queue.name.clone()), account: None, emergency: false };
        let connection = Connection::new(app.clone(), by, login, Stated { ticket, reason }, closed);
        connection.consents.give(Capability::View, Consent::Ask);
        steps.say(format!("asking the rules whether you may help in {}", queue.name));
        let admitted = connection.admit(Capability::View, steps).await?;
        let greeted = match meeting.program() {
            Some(program) => match connect_visited(app, &program, steps).await {
                Ok(connected) => Some(connected),
                // What the browser shares is there all the same.
                Err(_) if meeting.films() => None,
                Err(e) => return Err(format!("The program for a visit runs, and shows no screen: {e}.")),
            },
            None => None,
        };
        let how = greeted.as_ref().map_or("the person's browser", |g| g.1);
        let began = How { kind: "shared", name: "the visit", title: "Shared screen", how, visit: Some(meeting.clone()) };
        let film = greeted.is_none();
        let (desktop, inbox) = Self::go_live(&connection, admitted, &queue, began, film, steps).await?;
        let id = desktop.id().to_string();
        let begun = crate::visits::change(app, &meeting.visit, |v, _, now| v.handle_began(&id, Capability::View, now)).await;
        if let Err(e) = begun {
            // Nothing carries it, so nothing else would forget it.
            lock(&app.desktops.0).remove(&id);
            desktop.live().end_saying(EndReason::ConsentRefused, &e.to_string());
            return Err(format!("{e}."));
        }
        let pieces = meeting.begin_session(&id);
        let source = match greeted {
            Some((greeted, _)) => Source::Server(Box::new(greeted), inbox),
            None => Source::Film(pieces),
        };
        desktop.session.carriers.spawn(desktop.clone().carry(source));
        Ok(desktop)
    }

    async fn go_live(
        connection: &Arc<Connection>,
        admitted: Admitted,
        machine: &Machine,
        began: How<'_>,
        film: bool,
        steps: &Steps,
    ) -> Result<(Arc<Self>, mpsc::Receiver<Order>), String> {
        let app = &connection.app;
        let session = connection.session(&admitted.granted, steps).await?;
        let (orders, inbox) = mpsc::channel(ORDERS);
        let desktop = Arc::new(Self {
            connection: connection.clone(),
            session: session.clone(),
            screen: Arc::new(Screen::new()),
            orders,
            window: 0.into(),
            windows: Notify::new(),
            asking: Mutex::default(),
            began: Timestamp::now(),
            visit: began.visit,
            film,
            lock: admitted.granted.grant().demands.lock.into(),
            pictured: Mutex::default(),
        });
        desktop.screen.set_title(began.title);
        lock(&session.uses).push((Capability::View, session.live.ended.child_token()));
        attend(connection, &session, admitted.consenting).await;
        let opened = Opened { kind: began.kind.into(), command: Some(began.name.into()), terminal: false };
        if let Some(recording) = &session.recording {
            recording.frame(0, Frame::Opened(opened)).await;
        }
        let person = connection.person.person();
        let event = desktop.event(EventKind::ChannelOpened, format!("{person} saw the screen of {} ({}).", machine.name, began.name));
        app.note(event.with("kind", began.kind).with("way", began.how).with("title", began.title)).await;
        lock(&app.desktops.0).insert(desktop.id().into(), desktop.clone());
        app.tasks.spawn(desktop.clone().wait_for_windows());
        Ok((desktop, inbox))
    }

    pub(crate) fn id(&self) -> &str {
        &self.session.live.id
    }

    /// The session.
    pub(crate) fn live(&self) -> &Arc<LiveSession> {
        &self.session.live
    }

    /// Whose session it is.
    pub(crate) fn person(&self) -> &str {
        self.connection.person.person()
    }

    /// What a viewer is told first.
    pub(crate) fn told_first(&self, own: bool) -> ToViewer {
        ToViewer::Began {
            session: self.id().into(),
            machine: self.session.machine.clone(),
            account: self.session.account.clone(),
            title: self.screen.title(),
            person: self.person().into(),
            recorded: self.session.recording.is_some(),
            began: self.began,
            own,
        }
    }

    /// Carries the picture and what is done on it, until either side ends.
    async fn carry(self: Arc<Self>, source: Source) {
        let live = self.session.live.clone();
        let ended = live.ended.clone();
        let carrying = async {
            match source {
                Source::Server(greeted, inbox) => {
                    Driver::new(&live, &self.screen, self.session.recording.clone()).run(*greeted, inbox).await
                }
                Source::Film(film) => {
                    self.show_film(film).await;
                    Ok(())
                }
            }
        };
        let result = tokio::select! {
            biased;
            () = ended.cancelled() => Ok(()),
            result = carrying => result,
        };
        if let Some(meeting) = &self.visit {
            meeting.end_session(self.id());
            // Where the person started the program meanwhile, it goes on where the film ended: they said so by starting it.
            let goes_on = self.film && meeting.program().is_some();
            if !goes_on {
                let (id, who) = (self.id(), self.person());
                let over = crate::visits::change(&self.connection.app, &meeting.visit, |v, _, _| {
                    v.handle_session_over(id, who);
                    Ok(())
                });
                if let Err(e) = over.await {
                    tracing::warn!(error = %e, "a visit could not be told that a session is over");
                }
            }
        }
        if let Err(e) = result {
            let person = self.person();
            let says = format!("The desktop of {} ended under {person}: {e}.", self.session.machine);
            self.connection.app.note(self.event(EventKind::MachineFailed, says).with("error", e.code())).await;
            live.end_saying(EndReason::MachineClosed, &e.to_string());
        }
        if self.lock.load(Ordering::SeqCst) {
            self.lock_screen().await;
        }
        if let Some(recording) = &self.session.recording {
            recording.frame(0, Frame::Closed(None)).await;
        }
        lock(&self.connection.app.desktops.0).remove(self.id());
    }

    /// Has the machine's agent lock its screen: RFB has no message for it. That nobody can is in the log.
    async fn lock_screen(&self) {
        let (app, machine) = (&self.connection.app, &self.session.machine);
        let agent = app.agents.of(machine).and_then(|known| known.tunnel());
        let done = match (&self.visit, agent) {
            (Some(_), _) => Err("whoever is helped sits at it".to_string()),
            (None, None) => Err("no agent of it is connected".into()),
            (None, Some(tunnel)) => match tokio::time::timeout(LOCKING, tunnel.open(LOCK_TARGET)).await {
                Ok(Ok(_)) => Ok(()),
                Ok(Err(e)) => Err(e.to_string()),
                Err(_) => Err("its agent does not answer".into()),
            },
        };
        let says = match &done {
            Ok(()) => format!("The screen of {machine} was locked at the end of the session of {}.", self.person()),
            Err(why) => format!("The screen of {machine} could not be locked at the end of the session of {}: {why}.", self.person()),
        };
        if let Some(recording) = &self.session.recording {
            recording.frame(0, Frame::Mark(says.clone())).await;
        }
        app.note(self.event(EventKind::MachineLocked, says).with("locked", done.is_ok())).await;
    }

    /// Shows and records the film of somebody's screen until they leave, as fast as film may come: beyond that their browser is held up.
    async fn show_film(&self, mut film: mpsc::Receiver<Message>) {
        let mut pace = Pace::new(MOST_FILM, tokio::time::Instant::now());
        while let Some(message) = film.recv().await {
            let begins = matches!(message, Message::Piece { key: true, .. });
            let kept = self.screen.tell(message);
            let size = kept.len();
            self.session.live.note_out(size, Timestamp::now().as_millisecond(), false);
            match &self.session.recording {
                Some(recording) if begins => recording.whole(0, self.screen.whole()).await,
                Some(recording) => recording.frame(0, Frame::Desktop(kept)).await,
                None => {}
            }
            pace.spend(size).await;
        }
        self.session.live.end_saying(EndReason::MachineClosed, "another session has the screen now");
    }

    /// Where the person is met, where it is a visit.
    pub(crate) fn visit(&self) -> Option<&Arc<Meeting>> {
        self.visit.as_ref()
    }

    fn event(&self, kind: EventKind, says: String) -> NewEvent {
        NewEvent::new(Timestamp::now(), kind, self.person()).machine(&self.session.machine).session(self.id()).says(says)
    }
}
