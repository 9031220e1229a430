//! Waits, on behalf of a connection, for those whom the rules want to be asked; and hears of it when a consent is taken back.

use super::connection::{Admitted, Connection, Intent, OpenSession, lock};
use super::consents::{Answer, Asking, MOST_TARGETS, Other, Turn};
use super::life::notice;
use crate::api::new_id;
use crate::asking::{self, AskError, Consenting, Waiting, ask_person};
use crate::machines::Steps;
use crate::service::App;
use crate::sessions::Own;
use aerie_core::approval::Wish;
use aerie_core::desktop::{Message, Saying};
use aerie_core::evidence::{EventKind, NewEvent};
use aerie_core::policy::{AccessGranted, Capabilities, Capability, Consent, Decision, Outcome, Request};
use aerie_core::recording::Frame;
use aerie_core::session::consent::{FromMachine, LONGEST_SAID, Question, Talk};
use aerie_core::session::{Admission, Awaited, EndReason, Said, Step};
use aerie_core::wording;
use aerie_store::{RequestState, WaitRow};
use jiff::{SignedDuration, Timestamp};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::mpsc;

/// What somebody at a machine says takes so long at least: nobody fills a recording.
const SAYING: Duration = Duration::from_millis(300);
/// What is asked for where nothing limits a session.
const USUAL_WINDOW: SignedDuration = SignedDuration::from_hours(8);

/// What a use that waits is waiting with.
#[derive(Default)]
struct Waited<'a> {
    id: String,
    request: Option<String>,
    consenting: Option<Consenting>,
    /// It asks; channels that want the same wait for what comes of it.
    asking: Option<Asking<'a>>,
    /// Another channel asks.
    other: Option<Other>,
}

impl Connection {
    /// Decides; where others must be asked first, asks them, tells the person whom and how long, and goes on by itself.
    ///
    /// # Errors
    /// The sentence for the person.
    pub(super) async fn admit(self: &Arc<Self>, intent: impl Into<Intent>, steps: &Steps) -> Result<Admitted, String> {
        let intent = intent.into();
        let Some(machine) = self.login.machine.clone() else {
            return self.authorise(intent).await.map(|granted| Admitted { granted, consenting: None });
        };
        let mut waited = Waited { id: new_id(Timestamp::now()), ..Waited::default() };
        let result = self.wait(&machine, &intent, steps, &mut waited).await;
        if let Some(asking) = waited.asking.take() {
            asking.finish(result.as_ref().map(drop).map_err(|(_, why)| why.clone()));
        }
        asking::end_wait(&self.app, &waited.id).await;
        if let (Err(_), Some(request)) = (&result, &waited.request) {
            match asking::withdraw(&self.app, request, self.person.person(), Timestamp::now()).await {
                // It was answered, or ended by itself.
                Ok(()) | Err(AskError::NotOpen) => {}
                Err(e) => tracing::warn!(error = %e, "a request could not be withdrawn"),
            }
        }
        match result {
            Ok(granted) => Ok(Admitted { granted, consenting: waited.consenting }),
            Err((reason, why)) => {
                if reason != EndReason::Refused {
                    let event = NewEvent::new(Timestamp::now(), EventKind::SessionNotBegun, self.person.person())
                        .machine(&machine)
                        .session(&waited.id)
                        .from(self.from)
                        .says(format!("{} was not let onto {machine}, {}.", self.person.person(), reason.phrase()))
                        .with("reason", reason.word())
                        .with("capability", intent.capability.word());
                    self.app.note(event).await;
                }
                if let Some(consenting) = waited.consenting {
                    consenting.over(reason.phrase()).await;
                }
                Err(why)
            }
        }
    }

    async fn wait<'a>(
        self: &'a Arc<Self>,
        machine: &str,
        intent: &Intent,
        steps: &Steps,
        waited: &mut Waited<'a>,
    ) -> Result<AccessGranted, (EndReason, String)> {
        let mut admission = Admission::new(asking::patience(&self.app));
        let (mut rules, mut asked) = (self.app.rules.changes(), self.app.asking.changes());
        let failed = |why: String| (EndReason::Refused, why);
        loop {
            while let Some(step) = admission.poll_step() {
                match step {
                    Step::Decide => {
                        let taken = |d: &Decision, r: &Request<'_>, why: &str| admission.handle_decision(d, r, why, Timestamp::now());
                        self.decide(machine, intent, taken).await.map_err(failed)?;
                    }
                    Step::Ask(whom, until) => {
                        let asked = self.ask(machine, intent, (whom, until), steps, waited).await;
                        asked.unwrap_or_else(|why| refuse(&mut admission, &why));
                    }
                    Step::Withdraw(_) => asking::end_wait(&self.app, &waited.id).await,
                    Step::Go(granted) => return Ok(*granted),
                    Step::End(reason, why) => return Err((reason, why)),
                }
            }
            let wait = admission
                .poll_timeout()
                .map_or(Duration::from_secs(3600), |t| Duration::try_from(t.duration_since(Timestamp::now())).unwrap_or(Duration::ZERO));
            let (awaits_person, awaits_other) = (waited.consenting.is_some(), waited.other.is_some());
            tokio::select! {
                biased;
                () = self.closed.cancelled() => admission.handle_end(EndReason::Left),
                () = self.signed_out.cancelled() => admission.handle_end(EndReason::SignedOut),
                () = self.app.stopping.cancelled() => admission.handle_end(EndReason::ServiceStopping),
                said = next(&mut waited.consenting), if awaits_person => {
                    let answer = self.heard(machine, intent, said, waited).await;
                    if matches!(answer, Said::No(_)) && let Some(consenting) = waited.consenting.take() {
                        consenting.over("it was refused").await;
                    }
                    admission.handle_person(answer);
                }
                answer = answer_to(&mut waited.other), if awaits_other => {
                    waited.other = None;
                    match answer {
                        Ok(()) => admission.handle_change(),
                        Err(why) => refuse(&mut admission, &why),
                    }
                }
                _ = asked.changed() => match self.answered(waited).await {
                    Some(said) => admission.handle_approvers(said),
                    // A pass that was withdrawn, or a lockdown.
                    None => admission.handle_change(),
                },
                _ = rules.changed() => admission.handle_change(),
                () = tokio::time::sleep(wait) => admission.handle_timeout(Timestamp::now()),
            }
        }
    }

    /// Asks; where another channel asks the same, waits for its answer. The error is a sentence for the person.
    async fn ask<'a>(
        &'a self,
        machine: &str,
        intent: &Intent,
        (whom, until): (Awaited, Timestamp),
        steps: &Steps,
        waited: &mut Waited<'a>,
    ) -> Result<(), String> {
        if waited.asking.is_none() {
            match self.consents.ask(intent) {
                Turn::Ours(asking) => waited.asking = Some(asking),
                Turn::Another(other) => {
                    steps.say("waiting for the answer to the same question");
                    waited.other = Some(other);
                    return Ok(());
                }
                Turn::Full => {
                    return Err(format!(
                        "{MOST_TARGETS} forwarded ports of this connection wait for an answer at {machine} or are in use. Close one, and try again."
                    ));
                }
            }
        }
        match whom {
            Awaited::Approvers(_) => self.ask_approvers(machine, intent, until, steps, waited).await,
            Awaited::Person(mode) => {
                waited.consenting = Some(self.ask_at_machine(machine, intent, (mode, until), steps, waited).await?);
                Ok(())
            }
        }
    }

    /// Capabilities here that wait for an approval and nothing else, this one first: all are asked for together.
    fn waiting_for_approval(&self, machine: &str, intent: &Intent) -> (Vec<Capability>, SignedDuration) {
        let (rules, known, capability) = (self.app.rules.now(), self.known(), intent.capability);
        let (mut all, mut window) = (vec![capability], USUAL_WINDOW);
        for other in Capability::ALL.into_iter().filter(|c| c.is_of_sessions()) {
            let target = intent.target.as_ref().filter(|_| other == capability);
            let facts = self.facts(&known, (other, target), Own::None);
            let request = Self::request(self.person.person(), machine, self.login.account.as_deref(), other, self.from, facts);
            if let Outcome::Unmet { missing, grant } = rules.policy.decide(&request).outcome
                && !missing.approvals.is_empty()
            {
                if other == capability {
                    window = grant.demands.limits.session.unwrap_or(USUAL_WINDOW);
                } else {
                    all.push(other);
                }
            }
        }
        (all, window)
    }

    async fn ask_approvers(
        &self,
        machine: &str,
        intent: &Intent,
        until: Timestamp,
        steps: &Steps,
        waited: &mut Waited<'_>,
    ) -> Result<(), String> {
        let now = Timestamp::now();
        let (capabilities, window) = self.waiting_for_approval(machine, intent);
        let wish = Wish {
            id: String::new(),
            person: self.person.person().into(),
            machines: vec![machine.into()],
            capabilities,
            target: intent.target.clone(),
            from: now,
            // The pass must outlast the wait for it.
            until: until.saturating_add(window).unwrap_or(Timestamp::MAX),
            reason: self.stated.reason.clone().unwrap_or_default(),
            ticket: self.stated.ticket.clone().unwrap_or_default(),
            asked: now,
            expires: until,
            waiting: true,
        };
        let row = asking::ask(&self.app, wish, self.from).await.map_err(|e| format!("{e}."))?;
        let rules = self.app.rules.now();
        let approvers = rules.policy.approvers_of(&row.wish, now).unwrap_or_default();
        let whom = match approvers.len() {
            0 => return Err("Nobody may approve this but you.".into()),
            1..=3 => {
                let names: Vec<String> =
                    approvers.iter().map(|n| rules.policy.directory().person(n).map_or(n.clone(), |p| p.shown().into())).collect();
                format!("the approval of {}", names.join(" or "))
            }
            n => format!("the approval of one of {n} people"),
        };
        waited.request = Some(row.wish.id.clone());
        let until_words = wording::instant(until, now, rules.policy.zone());
        steps.say(format!("waiting for {whom} (request {}, until {until_words})", row.wish.id));
        let kept = WaitRow { id: waited.id.clone(), person: self.person.person().into(), machine: machine.into(), whom, since: now };
        asking::begin_wait(&self.app, Waiting { row: kept, until, request: waited.request.clone() }, self.from).await;
        // An answer that came before the request was one of this use.
        self.app.asking.look_again();
        Ok(())
    }

    /// What became of the request that this use waits for; none while it is open.
    async fn answered(&self, waited: &Waited<'_>) -> Option<Said> {
        let row = self.app.store.request(waited.request.as_deref()?).await.ok()??;
        match row.state {
            RequestState::Open => None,
            RequestState::Approved => Some(Said::Yes),
            RequestState::Refused => {
                let no = row.answers.iter().find(|a| !a.yes);
                let why = no.map(|a| a.why.as_str()).filter(|w| !w.is_empty()).map(|w| format!(": {w}")).unwrap_or_default();
                let by = no.map_or("An approver", |a| a.by.as_str());
                Some(Said::No(format!("{by} did not approve it{}.", why.trim_end_matches('.'))))
            }
            RequestState::Withdrawn => Some(Said::No("The request was withdrawn.".into())),
            RequestState::Expired => Some(Said::No("Nobody answered in time, and no answer is a no.".into())),
        }
    }

    async fn ask_at_machine(
        &self,
        machine: &str,
        intent: &Intent,
        (mode, until): (Consent, Timestamp),
        steps: &Steps,
        waited: &Waited<'_>,
    ) -> Result<Consenting, String> {
        let (rules, known, now, capability) = (self.app.rules.now(), self.known(), Timestamp::now(), intent.capability);
        let facts = self.facts(&known, intent.what(), Own::None);
        let request = Self::request(self.person.person(), machine, self.login.account.as_deref(), capability, self.from, facts);
        let Outcome::Unmet { grant, .. } = rules.policy.decide(&request).outcome else { return Err("The rules changed.".into()) };
        let person = rules.policy.directory().person(self.person.person());
        let question = Question {
            id: waited.id.clone(),
            who: person.map_or(self.person.person().into(), |p| p.shown().into()),
            person: self.person.person().into(),
            organisation: person.map(|p| p.organisation.clone()).unwrap_or_default(),
            machine: machine.into(),
            account: grant.account.to_string(),
            capability,
            target: intent.target.as_ref().map(ToString::to_string),
            reason: self.stated.reason.clone().unwrap_or_default(),
            at_most_s: grant.demands.limits.session.and_then(|l| u64::try_from(l.as_secs()).ok()),
            recorded: !grant.demands.recording.is_empty(),
            mode,
            until,
        };
        let consenting = ask_person(&self.app, question, intent.target.clone()).await?;
        if mode != Consent::Notice {
            let seconds = until.duration_since(now).as_secs();
            steps.say(format!("waiting for the person at {machine} to agree ({})", wording::duration(SignedDuration::from_secs(seconds))));
            let kept = WaitRow {
                id: waited.id.clone(),
                person: self.person.person().into(),
                machine: machine.into(),
                whom: format!("the person at {machine}"),
                since: now,
            };
            asking::begin_wait(&self.app, Waiting { row: kept, until, request: None }, self.from).await;
        }
        Ok(consenting)
    }

    /// The account from which a yes comes, where this person acts in it, acted in it, may come to by the rules, or has the keyboard of the
    /// screen: it may be they who answer, or a process that they left.
    async fn answers_themselves<'w>(&self, machine: &str, said: &'w FromMachine) -> Option<&'w str> {
        let account = match said {
            FromMachine::Agreed(w) | FromMachine::SwitchedOff(false, w) => w.account.as_str(),
            FromMachine::Told(_) | FromMachine::Nobody(_) | FromMachine::Refused(_) | FromMachine::SwitchedOff(true, _) => return None,
            FromMachine::Said(_) => return None,
        };
        let (person, rules) = (self.person.person(), self.app.rules.now());
        let theirs = self.app.live.works_as(person, machine, account)
            || self.app.live.controls(person, machine)
            || rules.policy.may_ever_act_as(person, machine, account)
            // What cannot be known may be so.
            || self.app.store.acted_as(person, machine, account, &looking()).await.unwrap_or(true);
        theirs.then_some(account)
    }

    /// Takes what the agent said to the question: evidence first.
    async fn heard(&self, machine: &str, intent: &Intent, said: Option<FromMachine>, waited: &Waited<'_>) -> Said {
        let Some((said, consenting)) = said.zip(waited.consenting.as_ref()) else {
            return Said::No(format!("The agent of {machine} went away before anybody answered."));
        };
        let mode = consenting.question.mode;
        note_consent(self, &waited.id, machine, intent, &said).await;
        let own = self.answers_themselves(machine, &said).await;
        match (said.worth(mode), own) {
            (Some(_), Some(account)) => Said::No(format!(
                "An answer from {account} does not count: you use this account on {machine}, may use it, or control its screen. Another user of {machine} must answer."
            )),
            (Some(consent), None) => {
                self.consents.give(intent.clone(), consent);
                Said::Yes
            }
            (None, _) => Said::No(match said {
                FromMachine::Nobody(why) => format!("Nobody is at {machine} to agree ({why})."),
                FromMachine::Refused(_) | FromMachine::SwitchedOff(..) => format!("The person at {machine} did not agree."),
                FromMachine::Told(_) | FromMachine::Agreed(_) => format!("The person at {machine} was told, and not asked."),
                FromMachine::Said(_) => format!("The person at {machine} said something, and gave no answer."),
            }),
        }
    }
}

/// Words of the capabilities that only look.
fn looking() -> Vec<&'static str> {
    Capability::ALL.into_iter().filter(|c| !c.acts()).map(Capability::word).collect()
}

/// Refuses, for either kind of wait.
fn refuse(admission: &mut Admission, why: &str) {
    admission.handle_approvers(Said::No(why.into()));
    admission.handle_person(Said::No(why.into()));
}

async fn answer_to(other: &mut Option<Other>) -> Answer {
    match other {
        Some(other) => other.answer().await,
        None => std::future::pending().await,
    }
}

async fn next(consenting: &mut Option<Consenting>) -> Option<FromMachine> {
    match consenting {
        Some(c) => c.next().await,
        None => std::future::pending().await,
    }
}

async fn note_consent(connection: &Connection, id: &str, machine: &str, intent: &Intent, said: &FromMachine) {
    let (person, does, capability) = (connection.person.person(), intent.does(), intent.capability);
    let (word, witness, sentence) = match said {
        FromMachine::Told(w) => ("told", Some(w), format!("{w} was told that {person} will {does} {machine}.")),
        FromMachine::Nobody(why) => ("nobody", None, format!("Nobody was at {machine} to be asked whether {person} may {does} it: {why}.")),
        FromMachine::Agreed(w) => ("agreed", Some(w), format!("{w} agreed that {person} may {does} {machine}.")),
        FromMachine::Refused(w) => ("refused", Some(w), format!("{w} did not agree that {person} may {does} {machine}.")),
        FromMachine::SwitchedOff(true, w) => {
            ("switched-off", Some(w), format!("{w} kept {person} from {} for the time being.", capability.word()))
        }
        FromMachine::SwitchedOff(false, w) => ("switched-on", Some(w), format!("{w} let {person} use {} again.", capability.word())),
        FromMachine::Said(_) => ("said", None, format!("Somebody at {machine} said something, and gave no answer.")),
    };
    let sentence = aerie_core::diagnostic::printable(&sentence);
    let mut event = NewEvent::new(Timestamp::now(), EventKind::ConsentGiven, person)
        .machine(machine)
        .session(id)
        .from(connection.from)
        .says(sentence)
        .with("answer", word)
        .with("capability", capability.word());
    if let Some(w) = witness {
        let plain = |t: &str| aerie_core::diagnostic::printable(t).chars().take(200).collect::<String>();
        event = event.with("account", plain(&w.account)).with("console", plain(&w.console));
    }
    connection.app.note(event).await;
}

/// Hears of it when the person at the machine takes back what they agreed to: for as long as the session lasts, and of a forwarded port
/// until it is refused, or until another port needs its place while nothing leads there.
pub(super) async fn attend(connection: &Arc<Connection>, session: &Arc<OpenSession>, consenting: Option<Consenting>) {
    let Some(mut consenting) = consenting else { return };
    consenting.began(Timestamp::now()).await;
    let (connection, session) = (connection.clone(), session.clone());
    let app = connection.app.clone();
    app.tasks.spawn(async move {
        let intent = Intent { capability: consenting.question.capability, target: consenting.target.clone() };
        let (ended, unseen) = (session.live.ended.clone(), connection.consents.show(&intent));
        // One of several consents has what is said to the person.
        let mut talk = session.live.talk.take();
        loop {
            let said = tokio::select! {
                biased;
                () = ended.cancelled() => break,
                () = unseen.cancelled() => break,
                said = consenting.next() => said,
                Some(talk) = heard_for_them(&mut talk) => {
                    consenting.talk(talk).await;
                    continue;
                }
            };
            if let Some(FromMachine::Said(text)) = &said {
                say_for_them(&connection.app, &session, text).await;
                continue;
            }
            let Some(said) = said else {
                // With the agent the sign on the machine is gone, and the way to stop it.
                session.live.end_saying(EndReason::PathLost, "the agent that asked the person at the machine is gone");
                break;
            };
            note_consent(&connection, &session.live.id, &session.machine, &intent, &said).await;
            take_back(&connection, &session, &intent, &said, consenting.question.mode).await;
            // The agent says no more about it. What else the session is used for goes on.
            if matches!(said, FromMachine::Refused(_)) {
                break;
            }
        }
        connection.consents.hide(&intent, &unseen);
        session.live.talk.put(talk);
        let why = session.live.end_reason().map_or("it is over", EndReason::phrase);
        consenting.over(why).await;
    });
}

async fn heard_for_them(talk: &mut Option<mpsc::Receiver<Talk>>) -> Option<Talk> {
    match talk {
        Some(talk) => talk.recv().await,
        None => std::future::pending().await,
    }
}

/// The person at the machine says something to those who take part.
async fn say_for_them(app: &App, session: &OpenSession, text: &str) {
    let text: String = aerie_core::diagnostic::printable(text.trim()).chars().take(LONGEST_SAID).collect();
    if let Some(desktop) = app.desktops.get(&session.live.id).filter(|_| !text.is_empty()) {
        let who = format!("the person at {}", session.machine);
        desktop.tell(Message::Said { saying: Saying::Chat, who, text }).await;
    }
    tokio::time::sleep(SAYING).await;
}

/// Ends what rested on a consent; with the last of it the session.
async fn take_back(connection: &Arc<Connection>, session: &Arc<OpenSession>, intent: &Intent, said: &FromMachine, mode: Consent) {
    let capability = intent.capability;
    if let Some(account) = connection.answers_themselves(&session.machine, said).await {
        let text = format!("What was switched off at {} stays off: {account}, which you use or may use, switched it on.", session.machine);
        return notice(connection, session, &text).await;
    }
    if let Some(consent) = said.worth(mode) {
        connection.consents.give(intent.clone(), consent);
        return notice(connection, session, &format!("The person at {} lets you use {} again.", session.machine, capability.word())).await;
    }
    connection.consents.take_back(intent);
    let nothing_left = session.stop_uses(intent);
    if !lock(&session.uses).iter().any(|(c, _)| *c == capability) {
        let mut granted = lock(&session.granted);
        *granted = Capabilities::of(granted.iter().filter(|c| *c != capability));
    }
    if let Some(recording) = &session.recording {
        recording.frame(0, Frame::Mark(format!("The person at the machine stopped {}.", capability.word()))).await;
    }
    if nothing_left {
        session.live.end(EndReason::ConsentTakenBack);
    } else {
        notice(connection, session, &format!("The person at {} stopped {}.", session.machine, capability.word())).await;
    }
}
