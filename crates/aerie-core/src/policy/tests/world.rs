//! Generated worlds, and a naive evaluator that shares no code with the engine: it walks over every rule as it was generated,
//! and reads the wall clock.

use crate::directory::{Directory, DirectoryFile};
use crate::policy::{Capability, Consent, Factor, Facts, Policy, Proofs, Request, Tracks, read};
use jiff::civil::{DateTime, Weekday};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use proptest::prelude::*;
use std::net::IpAddr;
use std::sync::Arc;

pub(super) const PEOPLE: [&str; 4] = ["p0", "p1", "p2", "p3"];
pub(super) const MACHINES: [&str; 3] = ["m0", "m1", "m2"];
pub(super) const CAPABILITIES: [Capability; 4] = [Capability::Shell, Capability::Exec, Capability::Upload, Capability::View];
pub(super) const ADDRESSES: [&str; 4] = ["10.1.2.3", "10.9.2.3", "192.0.2.1", "2001:db8::7"];
pub(super) const ZONE: &str = "Europe/Berlin";

#[derive(Debug, Clone)]
pub(super) struct Person {
    a: bool,
    b: bool,
    outside: bool,
    ends: bool,
    suspended: bool,
}

#[derive(Debug, Clone)]
pub(super) struct Machine {
    ridge: bool,
    labelled: bool,
    managed: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Kind {
    Allow,
    Forbid,
    Require,
}

#[derive(Debug, Clone, Copy)]
pub(super) enum Who {
    All,
    A,
    Staff,
    NotB,
    Outside,
    OneOrB,
}

#[derive(Debug, Clone, Copy)]
pub(super) enum Where {
    All,
    Ridge,
    NotLabelled,
    OneOrLabelled,
    Net,
}

#[derive(Debug, Clone, Copy)]
pub(super) enum When {
    Always,
    Day,
    Night,
    Desk,
    Dates,
}

#[derive(Debug, Clone, Copy)]
pub(super) enum From {
    Anywhere,
    Ten,
    TenButNine,
    NotTen,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Demand {
    Key,
    FreshCode,
    Level2,
    ApprovalOfA,
    TwoOfStaff,
    Ticket,
    Reason,
    Recording,
    Consent,
    Device,
    Managed,
    Hour,
    TwoSessions,
}

#[derive(Debug, Clone)]
pub(super) struct Rule {
    pub(super) kind: Kind,
    who: Who,
    place: Where,
    capabilities: Vec<Capability>,
    accounts: Vec<&'static str>,
    when: When,
    from: From,
    demands: Vec<Demand>,
}

#[derive(Debug, Clone)]
pub(super) struct World {
    people: Vec<Person>,
    machines: Vec<Machine>,
    pub(super) rules: Vec<Rule>,
}

/// A question with facts that can be owned.
#[derive(Debug, Clone)]
pub(super) struct Question {
    pub(super) person: usize,
    pub(super) machine: usize,
    pub(super) capability: Capability,
    pub(super) account: Option<&'static str>,
    pub(super) at: Timestamp,
    pub(super) from: Option<IpAddr>,
    key: bool,
    password: bool,
    /// Minutes since the code was proved.
    code: Option<i64>,
    approved_by: Vec<&'static str>,
    ticket: Option<&'static str>,
    flags: (bool, bool, bool, bool),
    sessions: u32,
}

impl Question {
    pub(super) fn request(&self) -> Request<'_> {
        let mut proofs = Proofs::default();
        let ago = |minutes| self.at - SignedDuration::from_mins(minutes);
        for (factor, minutes) in
            [(Factor::Key, self.key.then_some(5)), (Factor::Password, self.password.then_some(5)), (Factor::Code, self.code)]
        {
            if let Some(minutes) = minutes {
                proofs.prove(factor, ago(minutes));
            }
        }
        let (reason, recorded, consent, device) = self.flags;
        Request {
            person: PEOPLE[self.person],
            capability: self.capability,
            machine: MACHINES[self.machine],
            account: self.account,
            at: self.at,
            from: self.from,
            facts: Facts {
                passes: &[],
                emergency: false,
                locked_down: false,
                proofs,
                begun: None,
                recorded: if recorded { Tracks::all() } else { Tracks::NONE },
                consent: consent.then_some(Consent::Ask),
                approved_by: &self.approved_by,
                ticket: self.ticket,
                reason,
                target: None,
                managed_device: device,
                sessions: self.sessions,
            },
        }
    }
}

impl World {
    pub(super) fn directory(&self) -> Arc<Directory> {
        let people: Vec<_> = self
            .people
            .iter()
            .zip(PEOPLE)
            .map(|(p, name)| {
                let groups: Vec<&str> = [("a", p.a), ("b", p.b)].into_iter().filter(|(_, is)| *is).map(|(g, _)| g).collect();
                serde_json::json!({
                    "name": name, "groups": groups, "organisation": if p.outside { "Brightcoat" } else { "Ridge" },
                    "suspended": p.suspended, "valid_until": p.ends.then_some("2026-10-28"),
                })
            })
            .collect();
        let machines: Vec<_> = self.machines.iter().zip(MACHINES).enumerate().map(|(i, (m, name))| {
            serde_json::json!({
                "name": name, "site": if m.ridge { "ridge" } else { "valley" }, "labels": if m.labelled { vec!["x"] } else { vec![] },
                "posture": if m.managed { vec!["managed"] } else { vec![] }, "accounts": ["one", "two"], "address": format!("10.{i}.0.1:22"),
            })
        }).collect();
        let groups = serde_json::json!([
            { "name": "staff", "of": "people", "groups": ["a", "c"] }, { "name": "c", "of": "people", "select": "person:p3" },
            { "name": "net", "of": "machines", "select": "address:10.1.0.0/16" },
        ]);
        let file: DirectoryFile =
            serde_json::from_value(serde_json::json!({ "people": people, "machines": machines, "groups": groups })).unwrap();
        Arc::new(file.into())
    }

    pub(super) fn text(&self) -> String {
        let head = format!(
            "zone = \"{ZONE}\"\n[hours]\nday = [\"mon-fri 08:00-18:00\"]\nnight = [\"daily 22:00-06:00\"]\n\
             desk = {{ spans = [\"mon-fri 09:00-17:00\"], except = [\"2026-10-26\", \"2026-12-24..2026-12-31\"], also = [\"2026-10-25 00:30-05:00\"] }}\n"
        );
        self.rules.iter().enumerate().fold(head, |text, (i, r)| text + &r.text(i))
    }

    pub(super) fn policy(&self) -> Policy {
        let document = read(&self.text()).unwrap_or_else(|e| panic!("{e:?}\n{}", self.text()));
        Policy::compile(document, self.directory(), "2026-10-25T00:00:00Z".parse().unwrap())
    }

    /// 0 refused, 1 something missing, 2 granted: by walking over every rule.
    pub(super) fn naive(&self, q: &Question) -> u8 {
        let wall = q.at.to_zoned(TimeZone::get(ZONE).unwrap()).datetime();
        let person = &self.people[q.person];
        if person.suspended || (person.ends && wall.date() > "2026-10-28".parse().unwrap()) {
            return 0;
        }
        let counts = |r: &&Rule, kind: Kind| {
            r.kind == kind
                && r.selects(person, q.person, &self.machines[q.machine], q.machine)
                && r.capabilities.contains(&q.capability)
                && r.when.open(wall)
                && r.from.holds(q.from, kind)
        };
        let rules = |kind: Kind| self.rules.iter().filter(move |r| counts(r, kind)).collect::<Vec<_>>();
        let (allows, forbids, requires) = (rules(Kind::Allow), rules(Kind::Forbid), rules(Kind::Require));
        let mut best = 0;
        for allow in allows {
            let offered: Vec<&str> = match q.account {
                Some(asked) if allow.names(asked) => vec![asked],
                Some(_) => vec![],
                None if allow.accounts == ["*"] => vec!["one", "two"],
                None => allow.accounts.clone(),
            };
            for account in offered {
                let demands: Vec<Demand> =
                    std::iter::once(&allow).chain(requires.iter().filter(|r| r.names(account))).flat_map(|r| r.demands.clone()).collect();
                let unkempt = demands.contains(&Demand::Managed) && !self.machines[q.machine].managed;
                if unkempt || forbids.iter().any(|f| f.names(account)) {
                    continue;
                }
                best = best.max(if demands.iter().all(|d| self.met(*d, q)) { 2 } else { 1 });
                break;
            }
        }
        best
    }

    fn met(&self, demand: Demand, q: &Question) -> bool {
        let approvers = |fits: &dyn Fn(usize, &Person) -> bool| {
            (0..PEOPLE.len()).filter(|i| *i != q.person && q.approved_by.contains(&PEOPLE[*i]) && fits(*i, &self.people[*i])).count()
        };
        let (reason, recorded, consent, device) = q.flags;
        match demand {
            Demand::Key => q.key,
            Demand::FreshCode => q.code.is_some_and(|minutes| minutes < 15),
            Demand::Level2 => q.password && (q.key || q.code.is_some()),
            Demand::ApprovalOfA => approvers(&|_, p| p.a) >= 1,
            Demand::TwoOfStaff => approvers(&|i, p| p.a || i == 3) >= 2,
            Demand::Ticket => q.ticket.is_some_and(|t| t.starts_with("OBS-")),
            Demand::Reason => reason,
            // Of the tracks that are demanded, the terminal is none of an upload's.
            Demand::Recording => recorded || matches!(q.capability, Capability::Upload | Capability::View),
            Demand::Consent => consent,
            Demand::Device => device,
            Demand::TwoSessions => q.sessions < 2,
            Demand::Managed | Demand::Hour => true,
        }
    }
}

impl Rule {
    fn selects(&self, p: &Person, person: usize, m: &Machine, machine: usize) -> bool {
        let who = match self.who {
            Who::All => true,
            Who::A => p.a,
            Who::Staff => p.a || person == 3,
            Who::NotB => !p.b,
            Who::Outside => p.outside,
            Who::OneOrB => person == 1 || p.b,
        };
        let place = match self.place {
            Where::All => true,
            Where::Ridge => m.ridge,
            Where::NotLabelled => !m.labelled,
            Where::OneOrLabelled => machine == 1 || m.labelled,
            Where::Net => machine == 1,
        };
        who && place
    }

    fn names(&self, account: &str) -> bool {
        self.accounts == ["*"] || self.accounts.contains(&account)
    }

    pub(super) fn text(&self, at: usize) -> String {
        let kind = match self.kind {
            Kind::Allow => "allow",
            Kind::Forbid => "forbid",
            Kind::Require => "require",
        };
        let who = match self.who {
            Who::All => "*",
            Who::A => "group:a",
            Who::Staff => "group:staff",
            Who::NotB => "!group:b",
            Who::Outside => "organisation:Bright*",
            Who::OneOrB => "person:p1 | group:b",
        };
        let place = match self.place {
            Where::All => "*",
            Where::Ridge => "site=ridge",
            Where::NotLabelled => "!label:x",
            Where::OneOrLabelled => "name:m1 | label:x",
            Where::Net => "group:net & address:10.1.0.0/24",
        };
        let capabilities: Vec<&str> = self.capabilities.iter().map(|c| c.word()).collect();
        let mut text = format!(
            "[[{kind}]]\nname = \"r{at}\"\npeople = \"{who}\"\nmachines = \"{place}\"\ncapabilities = {capabilities:?}\naccounts = {:?}\n",
            self.accounts
        );
        text += match self.when {
            When::Always => "",
            When::Day => "hours = \"day\"\n",
            When::Night => "hours = \"night\"\n",
            When::Desk => "hours = \"desk\"\n",
            When::Dates => "first_day = 2026-10-24\nlast_day = 2026-10-31\n",
        };
        text += match self.from {
            From::Anywhere => "",
            From::Ten => "from = [\"10.0.0.0/8\", \"2001:db8::/32\"]\n",
            From::TenButNine => "from = [\"10.0.0.0/8\", \"!10.9.0.0/16\"]\n",
            From::NotTen => "from = [\"!10.0.0.0/8\"]\n",
        };
        let has = |d: Demand| self.demands.contains(&d);
        let mut factors = vec![];
        factors.extend(has(Demand::Key).then_some("key"));
        factors.extend(has(Demand::FreshCode).then_some("code within 15min"));
        if !factors.is_empty() {
            text += &format!("factors = {factors:?}\n");
        }
        if has(Demand::ApprovalOfA) {
            text += "approval = \"group:a\"\n";
        } else if has(Demand::TwoOfStaff) {
            text += "approval = { from = \"group:staff\", count = 2 }\n";
        }
        for (demand, line) in [
            (Demand::Level2, "assurance = 2\n"),
            (Demand::Ticket, "ticket = \"OBS-*\"\n"),
            (Demand::Reason, "reason = true\n"),
            (Demand::Recording, "recording = [\"terminal\"]\n"),
            (Demand::Consent, "consent = \"ask\"\n"),
            (Demand::Device, "device = \"managed\"\n"),
            (Demand::Managed, "posture = [\"managed\"]\n"),
        ] {
            if has(demand) {
                text += line;
            }
        }
        match (has(Demand::Hour), has(Demand::TwoSessions)) {
            (false, false) => {}
            (hour, sessions) => {
                let mut limits = vec![];
                limits.extend(hour.then_some("session = \"1h\""));
                limits.extend(sessions.then_some("sessions = 2"));
                text += &format!("limits = {{ {} }}\n", limits.join(", "));
            }
        }
        text
    }
}

impl When {
    fn open(self, wall: DateTime) -> bool {
        let minute = i32::from(wall.hour()) * 60 + i32::from(wall.minute());
        let weekday = !matches!(wall.weekday(), Weekday::Saturday | Weekday::Sunday);
        let date = (wall.year(), wall.month(), wall.day());
        match self {
            When::Always => true,
            When::Day => weekday && (480..1080).contains(&minute),
            When::Night => !(360..1320).contains(&minute),
            When::Desk if date == (2026, 10, 25) => (30..300).contains(&minute),
            When::Desk => {
                weekday && (540..1020).contains(&minute) && date != (2026, 10, 26) && !((2026, 12, 24)..=(2026, 12, 31)).contains(&date)
            }
            When::Dates => ((2026, 10, 24)..=(2026, 10, 31)).contains(&date),
        }
    }
}

impl From {
    fn holds(self, from: Option<IpAddr>, kind: Kind) -> bool {
        let Some(from) = from else { return matches!(self, From::Anywhere) || kind != Kind::Allow };
        let text = from.to_string();
        match self {
            From::Anywhere => true,
            From::Ten => text.starts_with("10.") || text.starts_with("2001:db8:"),
            From::TenButNine => text.starts_with("10.") && !text.starts_with("10.9."),
            From::NotTen => !text.starts_with("10."),
        }
    }
}

pub(super) fn rule() -> impl Strategy<Value = Rule> {
    let kind = prop::sample::select(vec![Kind::Allow, Kind::Allow, Kind::Allow, Kind::Forbid, Kind::Require, Kind::Require]);
    let who = prop::sample::select(vec![Who::All, Who::A, Who::Staff, Who::NotB, Who::Outside, Who::OneOrB]);
    let place = prop::sample::select(vec![Where::All, Where::Ridge, Where::NotLabelled, Where::OneOrLabelled, Where::Net]);
    let capabilities = prop::sample::subsequence(CAPABILITIES.to_vec(), 1..=CAPABILITIES.len());
    let accounts = prop::sample::select(vec![vec!["one"], vec!["two", "one"], vec!["*"]]);
    let when = prop::sample::select(vec![When::Always, When::Always, When::Day, When::Night, When::Desk, When::Dates]);
    let from = prop::sample::select(vec![From::Anywhere, From::Anywhere, From::Anywhere, From::Ten, From::TenButNine, From::NotTen]);
    use Demand::*;
    let all = vec![Key, FreshCode, Level2, ApprovalOfA, TwoOfStaff, Ticket, Reason, Recording, Consent, Device, Managed, Hour, TwoSessions];
    (kind, who, place, capabilities, accounts, when, from, prop::sample::subsequence(all, 0..3)).prop_map(
        |(kind, who, place, capabilities, accounts, when, from, mut demands)| {
            if kind == Kind::Forbid {
                demands.clear();
            }
            // One approval stands in a rule.
            if demands.contains(&ApprovalOfA) {
                demands.retain(|d| *d != TwoOfStaff);
            }
            Rule { kind, who, place, capabilities, accounts, when, from, demands }
        },
    )
}

pub(super) fn world() -> impl Strategy<Value = World> {
    let person = any::<(bool, bool, bool)>().prop_flat_map(|(a, b, outside)| {
        (prop::bool::weighted(0.2), prop::bool::weighted(0.1)).prop_map(move |(ends, suspended)| Person { a, b, outside, ends, suspended })
    });
    let machine = any::<(bool, bool, bool)>().prop_map(|(ridge, labelled, managed)| Machine { ridge, labelled, managed });
    (prop::collection::vec(person, PEOPLE.len()), prop::collection::vec(machine, MACHINES.len()), prop::collection::vec(rule(), 0..9))
        .prop_map(|(people, machines, rules)| World { people, machines, rules })
}

/// Instants around the clock changes of both kinds, and any within a year.
pub(super) fn instant() -> impl Strategy<Value = Timestamp> {
    let seconds = prop_oneof![1_792_800_000i64..1_793_300_000, 1_806_100_000i64..1_806_300_000, 1_780_000_000i64..1_811_000_000];
    seconds.prop_map(|s| Timestamp::from_second(s).unwrap())
}

pub(super) fn question() -> impl Strategy<Value = Question> {
    let account = prop::sample::select(vec![None, Some("one"), Some("two"), Some("three")]);
    let from = prop::sample::select(vec![None, Some(ADDRESSES[0]), Some(ADDRESSES[1]), Some(ADDRESSES[2]), Some(ADDRESSES[3])]);
    let code = prop::sample::select(vec![None, Some(3), Some(14), Some(15), Some(600)]);
    let approved = prop::sample::subsequence(PEOPLE.to_vec(), 0..=PEOPLE.len());
    let ticket = prop::sample::select(vec![None, Some(""), Some("OBS-7"), Some("X-7")]);
    let where_and_who = (0..PEOPLE.len(), 0..MACHINES.len(), prop::sample::select(CAPABILITIES.to_vec()), account, instant(), from);
    (where_and_who, any::<(bool, bool)>(), code, approved, ticket, any::<(bool, bool, bool, bool)>(), 0u32..4).prop_map(
        |((person, machine, capability, account, at, from), (key, password), code, approved_by, ticket, flags, sessions)| Question {
            person,
            machine,
            capability,
            account,
            at,
            from: from.map(|f| f.parse().unwrap()),
            key,
            password,
            code,
            approved_by,
            ticket,
            flags,
            sessions,
        },
    )
}
