//! The desktop of a machine over HTTPS: a session like any other, whose picture goes to a browser and whose keys come from there.

use super::admission::attend;
use super::connection::{Admitted, Connection, OpenSession, Stated, lock};
use crate::desktop::{DesktopError, Driver, Greeted, Order, Screen, Stream, asked_here, greet};
use crate::machines::{Steps, reach};
use crate::service::App;
use crate::sessions::LiveSession;
use crate::vault::Secret;
use crate::visits::{Meeting, Program};
use aerie_api::ToViewer;
use aerie_core::desktop::{Message, Options, Quality, RfbClient, SCREEN_TARGET, Saying, ScreenClient};
use aerie_core::directory::{Machine, Way};
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::policy::{Capabilities, Capability, Consent, Outcome};
use aerie_core::recording::{Frame, Opened, Transfer};
use aerie_core::session::consent::{PICTURE_WIDTH, Talk};
use aerie_core::session::{EndReason, LoginName, PersonProved};
use aerie_core::tunnel::LOCK_TARGET;
use aerie_core::visit::{VISITED_SERVER, WITH_PROGRAM};
use jiff::Timestamp;
use std::collections::HashMap;
use std::net::IpAddr;
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

/// How long locking a screen may take.
const LOCKING: Duration = Duration::from_secs(15);

/// What can be used in a desktop session besides seeing it.
const ASKED: [Capability; 3] = [Capability::Control, Capability::ClipboardIn, Capability::ClipboardOut];

/// Who begins a session, and what they said.
pub(crate) struct Beginning {
    pub(crate) person: PersonProved,
    pub(crate) from: IpAddr,
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
        let Beginning { person, from, reason, ticket } = who;
        let login = LoginName { person: person.person().into(), machine: Some(machine.name.clone()), account: None, emergency: false };
        let connection = Connection::over_https(app.clone(), person, login, from, Stated { ticket, reason }, closed);
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
        let Beginning { person, from, reason, ticket } = who;
        let login = LoginName { person: person.person().into(), machine: Some(queue.name.clone()), account: None, emergency: false };
        let connection = Connection::over_https(app.clone(), person, login, from, Stated { ticket, reason }, closed);
        lock(&connection.consents).insert(Capability::View, Consent::Ask);
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
        let (mut second, mut came) = (tokio::time::Instant::now(), 0);
        while let Some(message) = film.recv().await {
            if came > MOST_FILM {
                tokio::time::sleep_until(second + Duration::from_secs(1)).await;
            }
            if second.elapsed() >= Duration::from_secs(1) {
                (second, came) = (tokio::time::Instant::now(), 0);
            }
            let begins = matches!(message, Message::Piece { key: true, .. });
            let kept = self.screen.tell(message);
            came += kept.len();
            self.session.live.note_out(kept.len(), Timestamp::now().as_millisecond(), false);
            let Some(recording) = &self.session.recording else { continue };
            if begins {
                recording.whole(0, self.screen.whole()).await;
            } else {
                recording.frame(0, Frame::Desktop(kept)).await;
            }
        }
        self.session.live.end_saying(EndReason::MachineClosed, "another session has the screen now");
    }

    /// Where the person is met, where it is a visit.
    pub(crate) fn visit(&self) -> Option<&Arc<Meeting>> {
        self.visit.as_ref()
    }

    /// Ends the session when its person has had no window for too long.
    async fn wait_for_windows(self: Arc<Self>) {
        loop {
            let changed = self.windows.notified();
            let waiting = async {
                match self.screen.has_room() {
                    Some(_) => std::future::pending().await,
                    None => tokio::time::sleep(WAITS).await,
                }
            };
            tokio::select! {
                () = self.session.live.ended.cancelled() => break,
                () = changed => {}
                () = waiting => {
                    self.session.live.end(EndReason::PathLost);
                    break;
                }
            }
        }
        // The tending of the session waits for the person to be gone.
        self.connection.closed.cancel();
    }

    /// The person ends it.
    pub(crate) fn leave(&self) {
        self.session.live.end(EndReason::Left);
    }

    /// A window of the person takes it; the one before is out. Gives the number of the window.
    pub(crate) fn open_window(&self) -> u64 {
        let number = self.window.fetch_add(1, Ordering::SeqCst) + 1;
        self.screen.begin_pace();
        self.windows.notify_waiters();
        number
    }

    /// Whether a window still has it.
    pub(crate) fn has(&self, window: u64) -> bool {
        self.window.load(Ordering::SeqCst) == window
    }

    /// A window is gone. Nothing stays pressed.
    pub(crate) async fn close_window(&self, window: u64) {
        if self.has(window) {
            self.screen.handle_drawn(None);
            self.windows.notify_waiters();
            self.order(Order::Release).await;
        }
    }

    /// Another window of the person came.
    pub(crate) async fn replaced(&self, window: u64) {
        loop {
            let changed = self.windows.notified();
            tokio::pin!(changed);
            changed.as_mut().enable();
            if !self.has(window) {
                return;
            }
            changed.await;
        }
    }

    /// Nothing stays pressed: somebody else has the keyboard.
    pub(crate) async fn let_go(&self) {
        self.order(Order::Release).await;
    }

    async fn order(&self, order: Order) {
        let _ = self.orders.send(order).await;
    }

    /// Whether the session may be used so now.
    pub(crate) fn may(&self, capability: Capability) -> bool {
        !self.session.live.ended.is_cancelled() && lock(&self.session.uses).iter().any(|(c, over)| *c == capability && !over.is_cancelled())
    }

    /// A key or movement of somebody; `guest` has the keyboard by the stage. False where it may not be.
    pub(crate) async fn act(&self, order: Order, guest: Option<&str>) -> bool {
        let stage = &self.session.live.stage;
        match guest {
            Some(person) if stage.people().2.as_deref() != Some(person) => return false,
            Some(_) => {}
            None if !self.may(Capability::Control) => return false,
            // While somebody else has the keyboard, a key of the person takes it back, and does nothing else.
            None => {
                if matches!(order, Order::Key(..) | Order::At(_, _, 1..)) && stage.give_keyboard(None) {
                    self.order(Order::Release).await;
                    return true;
                }
                if stage.people().2.is_some() {
                    return true;
                }
            }
        }
        if !matches!(order, Order::Refresh) {
            self.session.live.note_in(8, Timestamp::now().as_millisecond());
        }
        self.order(order).await;
        true
    }

    /// How exactly colours are sent, to all who look.
    pub(crate) async fn set_quality(&self, quality: Quality) {
        self.order(Order::Quality(quality)).await;
    }

    /// The whole picture is asked of the machine anew.
    pub(crate) async fn refresh(&self) {
        if let Some(meeting) = self.visit.as_ref().filter(|_| self.film) {
            return meeting.tell(aerie_api::ToVisited::Key);
        }
        self.order(Order::Refresh).await;
    }

    /// Text for the machine's clipboard. False where it may not be.
    pub(crate) async fn paste(&self, text: String) -> bool {
        if !self.may(Capability::ClipboardIn) {
            return false;
        }
        self.note_clipboard("put", "into", text.len()).await;
        self.order(Order::Paste(text)).await;
        true
    }

    /// Text of the machine's clipboard goes to the person.
    pub(crate) async fn note_copied(&self, bytes: usize) {
        self.note_clipboard("took", "out of", bytes).await;
    }

    async fn note_clipboard(&self, verb: &str, way: &str, bytes: usize) {
        let size = aerie_core::wording::size(bytes as u64);
        let says = format!("{} {verb} text of {size} {way} the clipboard of {}.", self.person(), self.session.machine);
        let direction = if way == "into" { "in" } else { "out" };
        self.session.live.mark(&says);
        let event = self.event(EventKind::ClipboardUsed, says).with("direction", direction).with("bytes", bytes as u64);
        self.connection.app.note(event).await;
    }

    /// A file went one way or the other beside it.
    pub(crate) async fn note_file(&self, transfer: Transfer) {
        if let Some(recording) = &self.session.recording {
            recording.frame(0, Frame::File(transfer)).await;
        }
    }

    /// Something said or drawn by somebody who takes part.
    pub(crate) async fn tell(&self, message: Message) {
        if let Message::Said { saying: Saying::Note, who, text } = &message {
            let says = format!("{who} noted of the session on {}: {text}", self.session.machine);
            self.connection.app.note(self.event(EventKind::SessionJoined, says).with("note", true)).await;
        }
        self.show_person(&message);
        let kept = self.screen.tell(message);
        if let Some(recording) = &self.session.recording {
            recording.frame(0, Frame::Desktop(kept)).await;
        }
    }

    /// Shows the person at the machine, on the page of its agent, what is said and where somebody points.
    fn show_person(&self, message: &Message) {
        let talk = &self.session.live.talk;
        match message {
            Message::Said { saying: Saying::Chat, who, text } => talk.say(Talk::Said { who: who.clone(), text: text.clone() }),
            Message::Drawn { points, .. } if points.is_empty() => talk.say(Talk::Line(vec![])),
            Message::Drawn { points, .. } if talk.is_shown() => {
                let Some(small) = self.screen.small(PICTURE_WIDTH) else { return };
                let Ok(png) = crate::desktop::png_of(small.size, &small.rgb) else { return };
                Talk::picture(small.size, &png).into_iter().for_each(|t| talk.say(t));
                talk.say(Talk::line(points, small.of, small.size));
            }
            _ => {}
        }
    }

    /// What the session may be used for, in the words of [`ToViewer::Uses`].
    pub(crate) fn uses(&self) -> ToViewer {
        let (rules, known) = (self.connection.app.rules.now(), self.connection.known());
        let asking = lock(&self.asking).clone();
        let state = |c: Capability| {
            if self.may(c) {
                return "on";
            }
            if self.visit.is_some() && (self.film || !WITH_PROGRAM.contains(&c)) {
                return "refused";
            }
            if asking.contains(&c) {
                return "asked";
            }
            let facts = self.connection.facts(&known, c, Some(&self.session.live));
            let (person, account) = (self.person(), Some(self.session.account.as_str()));
            let request = Connection::request(person, &self.session.machine, account, c, self.connection.from, facts);
            match rules.policy.decide(&request).outcome {
                // Whatever the rules say, whoever is helped is asked.
                Outcome::Granted(_) if self.visit.is_some() => "ask",
                Outcome::Granted(_) => "at-once",
                Outcome::Unmet { missing, .. } if missing.consent.is_some() || !missing.approvals.is_empty() => "ask",
                Outcome::Unmet { .. } | Outcome::Refused(_) => "refused",
            }
        };
        let all = std::iter::once(Capability::View).chain(ASKED);
        ToViewer::Uses { uses: all.map(|c| (c.word().into(), state(c).into())).collect() }
    }

    /// Tells everybody who looks what it may be used for.
    pub(crate) fn tell_uses(&self) {
        self.screen.say(self.uses());
        if let Some(meeting) = &self.visit {
            meeting.handle_change();
        }
    }

    /// Asks for a further capability; whoever must agree is asked, and it is told when they did.
    pub(crate) fn ask(self: &Arc<Self>, word: &str) {
        let Some(capability) = asked_here(word).filter(|c| !self.may(*c)) else { return };
        if self.visit.is_some() && (self.film || !WITH_PROGRAM.contains(&capability)) {
            return;
        }
        {
            let mut asking = lock(&self.asking);
            if asking.contains(&capability) {
                return;
            }
            asking.push(capability);
        }
        self.tell_uses();
        let this = self.clone();
        self.connection.app.tasks.spawn(async move {
            let ended = this.session.live.ended.clone();
            let asked = tokio::select! { asked = this.asked(capability) => asked, () = ended.cancelled() => return };
            lock(&this.asking).retain(|c| *c != capability);
            match asked {
                Ok(over) => {
                    this.tell_uses();
                    let copies = capability == Capability::ClipboardOut;
                    if copies {
                        this.order(Order::Copied(true)).await;
                    }
                    over.cancelled().await;
                    if copies {
                        this.order(Order::Copied(false)).await;
                    }
                    // Taken back, given back, or the end.
                    this.order(Order::Release).await;
                }
                Err(text) => this.screen.say(ToViewer::Refused { capability: Some(capability.word().into()), text }),
            }
            this.tell_uses();
        });
    }

    async fn asked(&self, capability: Capability) -> Result<CancellationToken, String> {
        let (steps, mut said) = Steps::new();
        let (connection, screen) = (&self.connection, &self.screen);
        if let Some(meeting) = &self.visit {
            if !meeting.ask(capability).await {
                return Err(format!("The person did not agree that you {} their computer.", capability.phrase()));
            }
            lock(&connection.consents).insert(capability, Consent::Ask);
        }
        let admitting = connection.admit(capability, &steps);
        tokio::pin!(admitting);
        let admitted = loop {
            tokio::select! {
                biased;
                admitted = &mut admitting => break admitted?,
                Some(text) = said.recv() => screen.say(ToViewer::Step { text }),
            }
        };
        let session = connection.session(&admitted.granted, &steps).await?;
        self.lock.fetch_or(admitted.granted.grant().demands.lock, Ordering::SeqCst);
        let over = session.live.ended.child_token();
        lock(&session.uses).push((capability, over.clone()));
        attend(connection, &session, admitted.consenting).await;
        session.live.mark(&format!("{} may now {} the machine.", self.person(), capability.phrase()));
        Ok(over)
    }

    /// Gives a capability back.
    pub(crate) fn give_back(&self, word: &str) {
        let Some(capability) = asked_here(word) else { return };
        if self.visit.is_some() {
            lock(&self.connection.consents).remove(&capability);
        }
        let mut uses = lock(&self.session.uses);
        uses.iter().filter(|(c, _)| *c == capability).for_each(|(_, over)| over.cancel());
        uses.retain(|(c, _)| *c != capability);
        drop(uses);
        let mut granted = lock(&self.session.granted);
        *granted = Capabilities::of(granted.iter().filter(|c| *c != capability));
    }

    fn event(&self, kind: EventKind, says: String) -> NewEvent {
        NewEvent::new(Timestamp::now(), kind, self.person()).machine(&self.session.machine).session(self.id()).says(says)
    }
}

/// Connects to the screen of whoever started the program for a visit: as the program shows it itself, or else to a desktop's server that runs
/// there for the person alone.
async fn connect_visited(app: &App, program: &Program, steps: &Steps) -> Result<(Greeted, &'static str), DesktopError> {
    steps.say("greeting the program for a visit");
    let why = match program.tunnel.open(SCREEN_TARGET).await {
        Ok(stream) => {
            let client = Box::new(ScreenClient::new("Shared screen"));
            return Ok((greet(app, Box::new(stream), client, None).await?, "the program for a visit"));
        }
        Err(why) => why,
    };
    let Ok(stream) = program.tunnel.open(VISITED_SERVER).await else { return Err(DesktopError::Broken(why)) };
    let client = Box::new(RfbClient::new(Options { password: None, shared: true, only: None }));
    Ok((greet(app, Box::new(stream), client, None).await?, "a desktop's server there"))
}

/// Connects to the desktop's server by the machine's way, with the password that is kept for it, if one is.
async fn connect(app: &App, machine: &Machine, way: &Way, steps: &Steps) -> Result<(Greeted, String), DesktopError> {
    let target = way.address.parse().map_err(|_| DesktopError::Broken(std::io::ErrorKind::AddrNotAvailable.into()))?;
    steps.say(format!("looking for a way to {}", machine.name));
    let reached = reach(app, machine, &target).await?;
    steps.say(format!("greeting the desktop of {} {}", machine.name, reached.how));
    let kept = app.vault.secrets(app, &machine.name, &way.name).await?;
    let password = kept.into_iter().find_map(Secret::password);
    let options = Options { password, shared: true, only: None };
    let stream: Box<dyn Stream> = Box::new(reached.stream);
    let pin = format!("{} {} {}", machine.name, way.name, way.address);
    let greeted = greet(app, stream, Box::new(RfbClient::new(options)), Some(&pin)).await?;
    Ok((greeted, reached.how))
}

async fn failed(connection: &Connection, machine: &Machine, way: &Way, e: &DesktopError) -> String {
    let person = connection.person.person();
    let event = NewEvent::new(Timestamp::now(), EventKind::MachineFailed, person)
        .machine(&machine.name)
        .from(connection.from)
        .says(format!("{person} could not be taken to the desktop {} of {}: {e}.", way.name, machine.name))
        .with("error", e.code());
    connection.app.note(event).await;
    format!("{}: {e}.", machine.name)
}
