//! What rules demand before and during a session, what is known of it, and what is missing.

use super::capability::{Consent, Factor, Factors, Postures, Tracks};
use super::target::ForwardTarget;
use jiff::{SignedDuration, Timestamp};

/// What rules demand. Demands combine to the strictest: see [`Demands::add`].
#[derive(Debug, Clone, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Demands {
    /// Factors that must have been proved.
    pub factors: Factors,
    /// How long ago each factor may have been proved, in seconds, in the order of [`Factor::ALL`]; 0 for any time.
    pub fresh: [u32; Factor::ALL.len()],
    /// Authenticator assurance level to be reached, 0 to 3.
    pub assurance: u8,
    /// What the person at the machine must have said.
    pub consent: Option<Consent>,
    /// Approvals, as indices into [`super::Document::approvals`], sorted.
    pub approvals: Vec<u16>,
    /// Patterns that a ticket must fit, as indices into [`super::Document::tickets`], sorted.
    pub tickets: Vec<u16>,
    /// A reason must be given.
    pub reason: bool,
    /// The person's own device must be managed.
    pub device: bool,
    /// What the machine must be, or nobody gets in.
    pub posture: Postures,
    /// What the machine should be: the person is warned.
    pub warn: Postures,
    /// Tracks that must be recorded; without a recorder there is no session.
    pub recording: Tracks,
    /// The screen of the machine is locked when a session that showed it is over.
    pub lock: bool,
    /// Bounds of the session.
    pub limits: Limits,
}

/// Bounds of a session; none means no bound.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Limits {
    /// How long it may last.
    pub session: Option<SignedDuration>,
    /// How long it may be idle.
    pub idle: Option<SignedDuration>,
    /// How many sessions the person may have at once, this one included.
    pub sessions: Option<u32>,
    /// How many bytes it may carry, both directions together.
    pub bytes: Option<u64>,
}

fn smaller<T: Ord>(a: Option<T>, b: Option<T>) -> Option<T> {
    match (a, b) {
        (Some(a), Some(b)) => Some(a.min(b)),
        (a, b) => a.or(b),
    }
}

fn no_larger<T: Ord>(a: Option<T>, b: Option<T>) -> bool {
    match (a, b) {
        (_, None) => true,
        (None, Some(_)) => false,
        (Some(a), Some(b)) => a <= b,
    }
}

/// The stricter of two ages, of which 0 is none.
fn fresher(a: u32, b: u32) -> u32 {
    a.wrapping_sub(1).min(b.wrapping_sub(1)).wrapping_add(1)
}

fn merge(into: &mut Vec<u16>, from: &[u16]) {
    for id in from {
        if let Err(at) = into.binary_search(id) {
            into.insert(at, *id);
        }
    }
}

impl Demands {
    /// Adds what another rule demands: factors, approvals and tracks add up, limits take the smallest, consent the strongest.
    pub fn add(&mut self, other: &Demands) {
        self.factors = self.factors.union(other.factors);
        for (mine, theirs) in self.fresh.iter_mut().zip(other.fresh) {
            *mine = fresher(*mine, theirs);
        }
        self.assurance = self.assurance.max(other.assurance);
        self.consent = self.consent.max(other.consent);
        merge(&mut self.approvals, &other.approvals);
        merge(&mut self.tickets, &other.tickets);
        self.reason |= other.reason;
        self.device |= other.device;
        self.posture = self.posture.union(other.posture);
        self.warn = self.warn.union(other.warn);
        self.recording = self.recording.union(other.recording);
        self.lock |= other.lock;
        let (mine, theirs) = (self.limits, other.limits);
        self.limits = Limits {
            session: smaller(mine.session, theirs.session),
            idle: smaller(mine.idle, theirs.idle),
            sessions: smaller(mine.sessions, theirs.sessions),
            bytes: smaller(mine.bytes, theirs.bytes),
        };
    }

    /// Whether whatever meets the other demands meets these too: these are no stricter in anything.
    pub fn within(&self, other: &Demands) -> bool {
        let fresh = self.fresh.iter().zip(other.fresh).all(|(mine, theirs)| fresher(*mine, theirs) == theirs);
        let (mine, theirs) = (self.limits, other.limits);
        self.factors.within(other.factors)
            && fresh
            && self.assurance <= other.assurance.max(other.factors.assurance())
            && self.consent <= other.consent
            && self.approvals.iter().all(|a| other.approvals.binary_search(a).is_ok())
            && self.tickets.iter().all(|t| other.tickets.binary_search(t).is_ok())
            && self.reason <= other.reason
            && self.device <= other.device
            && self.posture.within(other.posture)
            && self.warn.within(other.warn)
            && self.recording.within(other.recording)
            && self.lock <= other.lock
            && no_larger(theirs.session, mine.session)
            && no_larger(theirs.idle, mine.idle)
            && no_larger(theirs.sessions, mine.sessions)
            && no_larger(theirs.bytes, mine.bytes)
    }

    /// What is demanded in an emergency: nobody is waited for, whoever sits there is told, the reason is given, and everything is
    /// recorded.
    pub(super) fn in_emergency(&mut self) {
        self.approvals.clear();
        self.consent = self.consent.map(|_| Consent::Notice);
        self.reason = true;
        self.recording = Tracks::all();
    }

    /// Whether nothing is demanded.
    pub fn is_nothing(&self) -> bool {
        *self == Demands::default()
    }
}

/// When which factor was proved.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Proofs {
    at: [Option<Timestamp>; Factor::ALL.len()],
}

impl Proofs {
    /// These factors, all proved at this instant.
    pub fn at(factors: Factors, at: Timestamp) -> Self {
        let mut proofs = Self::default();
        factors.iter().for_each(|f| proofs.prove(f, at));
        proofs
    }

    /// Notes that a factor was proved; the later instant counts.
    pub fn prove(&mut self, factor: Factor, at: Timestamp) {
        if let Some(slot) = self.at.get_mut(factor as usize) {
            *slot = (*slot).max(Some(at));
        }
    }

    /// When that factor was proved.
    pub fn when(&self, factor: Factor) -> Option<Timestamp> {
        self.at.get(factor as usize).copied().flatten()
    }

    /// The factors that were proved.
    pub fn factors(&self) -> Factors {
        Factors::of(Factor::ALL.into_iter().filter(|f| self.when(*f).is_some()))
    }
}

/// What is known besides who, what, where and when.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Facts<'a> {
    /// Factors that were proved, and when.
    pub proofs: Proofs,
    /// When the use began that is decided again: a proof must have been fresh then. None for a use that begins now.
    pub begun: Option<Timestamp>,
    /// Tracks that are (or were) recorded.
    pub recorded: Tracks,
    /// What the person at the machine said.
    pub consent: Option<Consent>,
    /// Names of those who approved. The person's own approval never counts.
    pub approved_by: &'a [&'a str],
    /// Ticket that was named.
    pub ticket: Option<&'a str>,
    /// A reason was given.
    pub reason: bool,
    /// Where a forwarded port leads; none asks whether one may lead anywhere.
    pub target: Option<&'a ForwardTarget>,
    /// The person's own device is known to be managed.
    pub managed_device: bool,
    /// Other sessions that the person has open.
    pub sessions: u32,
    /// What was asked for and approved beforehand. Those of other people, machines, capabilities or hours count for nothing.
    pub passes: &'a [Pass],
    /// The person declared an emergency.
    pub emergency: bool,
    /// Nobody new is let in, but in an emergency, or to watch what goes on.
    pub locked_down: bool,
}

/// Time-limited access that was asked for and approved: whoever approved it is taken to have approved each use within it.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Pass {
    /// Its identifier.
    pub id: String,
    /// Whose it is.
    pub person: String,
    /// Machines that it is for.
    pub machines: Vec<String>,
    /// What it is for.
    pub capabilities: Vec<super::Capability>,
    /// First instant.
    pub from: Timestamp,
    /// The instant from which on it is over.
    pub until: Timestamp,
    /// Who approved.
    pub approved_by: Vec<String>,
    /// How long a session under it may last, in seconds.
    pub session_s: Option<u32>,
    /// Where ports may lead that are forwarded under it; to any that the rules allow where it is none.
    #[serde(default)]
    pub target: Option<super::ForwardTarget>,
}

impl Pass {
    /// Whether it speaks of this use, at whatever time. It speaks of forwarded ports in general, too, where it names one.
    pub fn concerns(&self, request: &super::Request<'_>) -> bool {
        let there = match (&self.target, request.target()) {
            (Some(own), Some(asked)) => own.is_at_same_place(asked),
            (None, _) | (Some(_), None) => true,
        };
        there
            && self.person == request.person
            && self.capabilities.contains(&request.capability)
            && self.machines.iter().any(|m| m == request.machine)
    }
}

impl Facts<'_> {
    /// These factors proved at this instant, and everything recorded.
    pub fn proved(factors: Factors, at: Timestamp) -> Self {
        Self { proofs: Proofs::at(factors, at), recorded: Tracks::all(), ..Self::default() }
    }
}

/// What is still missing.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Missing {
    /// Factors that were not proved.
    pub factors: Factors,
    /// Factors that were proved too long ago.
    pub stale: Factors,
    /// The assurance level that is not reached.
    pub assurance: Option<u8>,
    /// What the person at the machine has not said.
    pub consent: Option<Consent>,
    /// Approvals, as indices into [`super::Document::approvals`].
    pub approvals: Vec<u16>,
    /// A ticket that fits these patterns, as indices into [`super::Document::tickets`].
    pub tickets: Vec<u16>,
    /// A reason.
    pub reason: bool,
    /// A managed device.
    pub device: bool,
    /// Tracks of a recording.
    pub recording: Tracks,
    /// The most sessions at once, which are open already.
    pub sessions: Option<u32>,
}

impl Missing {
    /// Whether nothing is missing.
    pub fn is_nothing(&self) -> bool {
        self.count() == 0
    }

    /// How many things are missing.
    pub fn count(&self) -> u32 {
        let lists = self.approvals.len() + self.tickets.len();
        self.factors.len()
            + self.stale.len()
            + u32::try_from(lists).unwrap_or(u32::MAX)
            + [
                self.assurance.is_some(),
                self.consent.is_some(),
                self.reason,
                self.device,
                !self.recording.is_empty(),
                self.sessions.is_some(),
            ]
            .into_iter()
            .map(u32::from)
            .sum::<u32>()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn demands() -> impl Strategy<Value = Demands> {
        let sets = (0u16..64, 0u16..32, 0u16..16, 0u16..16);
        let ids = prop::collection::btree_set(0u16..4, 0..3);
        let limit = prop::option::of(1u32..4);
        (sets, prop::array::uniform6(0u32..3), 0u8..4, 0usize..4, ids.clone(), ids, any::<(bool, bool, bool)>(), limit.clone(), limit)
            .prop_map(|((factors, tracks, posture, warn), fresh, assurance, consent, approvals, tickets, (reason, device, lock), a, b)| {
                Demands {
                    factors: Factors::of(Factor::ALL.into_iter().filter(|f| factors & (1 << *f as u16) != 0)),
                    fresh,
                    assurance,
                    consent: [None, Some(Consent::Notice), Some(Consent::IfPresent), Some(Consent::Ask)][consent],
                    approvals: approvals.into_iter().collect(),
                    tickets: tickets.into_iter().collect(),
                    reason,
                    device,
                    lock,
                    posture: Postures::of(super::super::Posture::ALL.into_iter().filter(|p| posture & (1 << *p as u16) != 0)),
                    warn: Postures::of(super::super::Posture::ALL.into_iter().filter(|p| warn & (1 << *p as u16) != 0)),
                    recording: Tracks::of(super::super::Track::ALL.into_iter().filter(|t| tracks & (1 << *t as u16) != 0)),
                    limits: Limits { session: a.map(|h| SignedDuration::from_hours(h.into())), sessions: b, ..Limits::default() },
                }
            })
    }

    proptest! {
        #[test]
        fn demands_add_up_to_the_least_that_is_as_strict_as_both(a in demands(), b in demands()) {
            let mut both = a.clone();
            both.add(&b);
            prop_assert!(a.within(&both) && b.within(&both));
            let mut other = b.clone();
            other.add(&a);
            prop_assert_eq!(&both, &other);
            let mut again = both.clone();
            again.add(&a);
            prop_assert_eq!(again, both);
        }

        #[test]
        fn strictness_is_an_order(a in demands(), b in demands(), c in demands()) {
            prop_assert!(a.within(&a));
            if a.within(&b) && b.within(&c) {
                prop_assert!(a.within(&c));
            }
        }
    }
}
