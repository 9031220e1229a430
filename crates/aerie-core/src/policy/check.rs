//! Holds a rule document against a directory: names that nobody has, rules that do nothing, demands that nobody can meet,
//! guardrails that do not hold, and tests that have another answer.

use super::capability::{Capabilities, Capability, Factor};
use super::case;
use super::compile::{Gate, Policy, gate_of};
use super::document::{Document, Effect, Place, Rule};
use super::guard::breaches;
use crate::diagnostic::{Diagnostic, Severity, nearest, odd_letter};
use crate::directory::selector::{Atom, Subject};
use crate::directory::{Bits, Directory, Role};
use crate::wording;
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeSet;

/// Guardrails are proved for this long from now on: a bit over a year, so that every day of every calendar comes.
pub const PROVED_AHEAD: SignedDuration = SignedDuration::from_hours(24 * 366);
/// After so many unknown names the nearest known one is no longer looked for.
const MOST_HINTS: usize = 25;

/// Everything about the document that the directory makes doubtful, in the order of the text. A document with errors cannot be
/// published.
pub fn check(policy: &Policy, now: Timestamp) -> Vec<Diagnostic> {
    let (document, directory) = (policy.document(), policy.directory());
    let mut found = unknown_names(document, directory);
    let rules = Rules::new(policy);
    for (at, rule) in document.rules.iter().enumerate() {
        found.extend(never_matches(rule, &rules, at));
        found.extend(covered(policy, rule, &rules, at));
        found.extend(endless_outsiders(policy, rule, &rules, at));
        found.extend(unmeetable(policy, rule, &rules, at));
        found.extend(leaky(policy, rule, &rules, at));
    }
    for guard in &document.guards {
        let (people, machines) = (directory.select_people(&guard.rule.people.0), directory.select_machines(&guard.rule.machines.0));
        found.extend(void(&guard.rule, people.is_empty(), machines.is_empty()));
    }
    found.extend(unapprovable(policy));
    if found.iter().all(|d| d.severity != Severity::Error) {
        let to = now.saturating_add(PROVED_AHEAD).unwrap_or(Timestamp::MAX);
        for breach in breaches(policy, now, to) {
            let message = format!("the guardrail `{}` does not hold: {}", breach.guard, breach.sentence(policy));
            found.push(Diagnostic::error("policy/guardrail", breach.span.clone(), message).help(match breach.lacking {
                true => "demand what the guardrail asks for, or narrow the rules that are named",
                false => "narrow the rules that are named, or add a `forbid`",
            }));
        }
        found.extend(case::failures(policy, now));
    }
    found.sort_by_key(|d| d.span.start);
    found
}

/// Whom and what each rule selects.
struct Rules {
    people: Vec<Bits>,
    machines: Vec<Bits>,
}

impl Rules {
    fn new(policy: &Policy) -> Self {
        let (rules, directory) = (&policy.document().rules, policy.directory());
        Self {
            people: rules.iter().map(|r| directory.select_people(&r.people.0)).collect(),
            machines: rules.iter().map(|r| directory.select_machines(&r.machines.0)).collect(),
        }
    }

    fn of(&self, at: usize) -> Option<(&Bits, &Bits)> {
        self.people.get(at).zip(self.machines.get(at))
    }

    /// Rules that concern somebody and something that this one concerns: the only ones that can cover it.
    fn neighbours(&self, policy: &Policy, at: usize, capability: Capability) -> Vec<usize> {
        let first = |bits: &Bits| bits.iter().next();
        match self.of(at).and_then(|(p, m)| first(p).zip(first(m))) {
            Some((person, machine)) => {
                let all = [true, false].into_iter().flat_map(|allows| policy.common(person, machine, capability, allows));
                all.filter(|i| *i != at && *i < self.people.len()).collect()
            }
            None => vec![],
        }
    }

    /// Whether everybody and everything of the first is selected by the second.
    fn within(&self, inner: usize, outer: usize) -> bool {
        let (Some((p, m)), Some((q, n))) = (self.of(inner), self.of(outer)) else { return false };
        p.within(q) && m.within(n)
    }
}

fn warning(code: &str, rule: &Rule, message: String) -> Diagnostic {
    Diagnostic::warning(&format!("policy/{code}"), rule.span.clone(), message)
}

fn void(rule: &Rule, nobody: bool, nowhere: bool) -> Option<Diagnostic> {
    let backwards = rule.first_day.zip(rule.last_day).is_some_and(|(a, b)| a > b);
    let what = match () {
        () if nobody => "nobody is selected",
        () if nowhere => "no machine is selected",
        () if rule.capabilities.is_empty() => "no capability is named",
        () if backwards => "its last day is before its first",
        () => return None,
    };
    let effect = match rule.effect {
        Effect::Allow => "it allows nothing",
        Effect::Forbid => "it forbids nothing",
        Effect::Require => "it demands nothing",
        Effect::Never => "it guards nothing",
    };
    Some(warning("never-matches", rule, format!("`{}` matches nothing: {what}, so {effect}", rule.name)))
}

fn never_matches(rule: &Rule, rules: &Rules, at: usize) -> Option<Diagnostic> {
    let (people, machines) = rules.of(at)?;
    let hint = match (people.is_empty(), machines.is_empty()) {
        (true, _) => Some(format!("`{}` holds nobody", rule.people.0)),
        (false, true) => Some(format!("`{}` holds no machine", rule.machines.0)),
        (false, false) => None,
    };
    let found = void(rule, people.is_empty(), machines.is_empty())?;
    Some(match hint {
        Some(h) => found.help(h),
        None => found,
    })
}

/// Whether the first is open only when the second is.
fn gate_within(inner: Option<Gate>, outer: Option<Gate>) -> bool {
    match (inner, outer) {
        (_, None) => true,
        (None, Some(_)) => false,
        (Some(a), Some(b)) => (b.hours.is_none() || a.hours == b.hours) && b.begins <= a.begins && a.ends <= b.ends,
    }
}

fn accounts_within(inner: &Rule, outer: &Rule) -> bool {
    let any = |r: &Rule| r.accounts.is_empty() || r.accounts.iter().any(|a| &**a == "*");
    any(outer) || (!any(inner) && inner.accounts.iter().all(|a| outer.accounts.contains(a)))
}

/// Whether the targets of the first are those of the second, as far as one of them speaks of ports.
fn targets_within(inner: &Rule, outer: &Rule) -> bool {
    match (inner.effect, outer.effect) {
        _ if !inner.capabilities.contains(Capability::Forward) => true,
        (Effect::Allow, Effect::Allow) => inner.targets.given_by(&outer.targets),
        // A name that is allowed may be an address that is forbidden; only what forbids all surely forbids it.
        (Effect::Allow, _) => outer.targets.is_unsaid(),
        (_, _) => inner.targets.within(&outer.targets),
    }
}

/// Another rule that makes this one needless or void.
fn covered(policy: &Policy, rule: &Rule, rules: &Rules, at: usize) -> Option<Diagnostic> {
    let one = rule.capabilities.iter().next()?;
    let gate = |r: &Rule| gate_of(r, policy.zone());
    for other_at in rules.neighbours(policy, at, one) {
        let Some(other) = policy.document().rules.get(other_at) else { continue };
        let fits = rule.capabilities.within(other.capabilities)
            && accounts_within(rule, other)
            && targets_within(rule, other)
            && gate_within(gate(rule), gate(other))
            && (other.from.is_anywhere() || other.from == rule.from)
            && rules.within(at, other_at);
        if !fits {
            continue;
        }
        let place = format!("`{}` on line {}", other.name, other.line);
        let same = rules.within(other_at, at) && other.capabilities == rule.capabilities && gate(rule) == gate(other);
        let later = !same || other_at < at;
        let message = match (rule.effect, other.effect) {
            (Effect::Allow, Effect::Forbid) => format!("{place} forbids all that `{}` allows, so it allows nothing", rule.name),
            (Effect::Allow, Effect::Allow) if later && !other.emergency && other.demands.within(&rule.demands) => {
                format!("`{}` gives nothing that {place} does not give under the same demands or fewer", rule.name)
            }
            (Effect::Forbid, Effect::Forbid) if later => format!("`{}` forbids nothing that {place} does not forbid", rule.name),
            (Effect::Require, Effect::Require) if later && rule.demands.within(&other.demands) => {
                format!("`{}` demands nothing that {place} does not demand", rule.name)
            }
            _ => continue,
        };
        let code = if other.effect == Effect::Forbid && rule.effect == Effect::Allow { "void" } else { "covered" };
        return Some(warning(code, rule, message).help("remove one of the two, or change what one of them selects"));
    }
    None
}

/// An `allow` that never ends for people of other organisations.
fn endless_outsiders(policy: &Policy, rule: &Rule, rules: &Rules, at: usize) -> Option<Diagnostic> {
    let home = &policy.document().home;
    if rule.effect != Effect::Allow || rule.last_day.is_some() || home.is_empty() {
        return None;
    }
    let outside = |p: &&crate::directory::Person| !home.contains(&p.organisation) && p.valid_until.is_none() && !p.suspended;
    let people = rules.of(at)?.0.iter().filter_map(|i| policy.directory().people().get(i));
    let names: Vec<&str> = people.filter(outside).map(|p| p.name.as_str()).collect();
    let first: Vec<&str> = names.iter().take(3).copied().collect();
    let more = if names.len() > 3 { format!(" and {} others", names.len() - 3) } else { String::new() };
    (!names.is_empty()).then(|| {
        warning("no-end", rule, format!("`{}` has no end for people of other organisations: {}{more}", rule.name, wording::list(&first)))
            .help("add `last_day = …`, or give their accounts a last day")
    })
}

/// A demand that nobody can meet.
fn unmeetable(policy: &Policy, rule: &Rule, rules: &Rules, at: usize) -> Vec<Diagnostic> {
    let mut found = vec![];
    let Some((people, machines)) = rules.of(at) else { return found };
    let persons = || people.iter().filter_map(|i| policy.directory().people().get(i));
    if people.is_empty() || machines.is_empty() {
        return found;
    }
    // A directory from a file may say nothing about what is enrolled.
    let told = policy.directory().people().iter().any(|p| !p.factors().is_empty());
    for factor in rule.demands.factors.iter().filter(|_| told).filter(|f| !persons().any(|p| p.factors().contains(*f))) {
        let message = format!("`{}` demands {}, and nobody whom it concerns has one", rule.name, factor.phrase());
        found.push(warning("nobody-enrolled", rule, message).help("enrol it for those who need it, or nobody gets in"));
    }
    if told && rule.demands.assurance > 0 && !persons().any(|p| p.factors().assurance() >= rule.demands.assurance) {
        let message = format!(
            "`{}` demands assurance level {}, and the factors of nobody whom it concerns reach it",
            rule.name, rule.demands.assurance
        );
        let level = if rule.demands.assurance == 3 { "a security key and a password" } else { "a password beside a key, or a passkey" };
        found.push(warning("nobody-enrolled", rule, message).help(format!("level {} takes {level}", rule.demands.assurance)));
    }
    let kept = |i: usize| policy.directory().machines().get(i).is_some_and(|m| rule.demands.posture.within(m.postures()));
    if !rule.demands.posture.is_empty() && !machines.iter().any(kept) {
        let message = format!("`{}` demands a machine that is {}, and none is", rule.name, wording::list(&rule.demands.posture.words()));
        found.push(warning("no-machine", rule, message).help("nobody gets in until one is"));
    }
    found
}

/// Approvals that too few people may give.
fn unapprovable(policy: &Policy) -> Vec<Diagnostic> {
    let approvals = policy.document().approvals.iter().zip(&policy.approvers);
    let few = approvals.filter(|(a, may)| may.len() < usize::from(a.count));
    few.map(|(a, may)| {
        let message = match may.len() {
            0 => format!("nobody can approve: `{}` holds nobody", a.text),
            n => format!("{} must approve, and `{}` holds {n}", a.count, a.text),
        };
        Diagnostic::warning("policy/no-approver", a.span.clone(), message)
            .help("nobody approves their own request: name at least one more than are needed")
    })
    .collect()
}

/// Copies that are forbidden to people who may run commands.
fn leaky(policy: &Policy, rule: &Rule, rules: &Rules, at: usize) -> Option<Diagnostic> {
    let copies = Capabilities::of([Capability::Upload, Capability::Download]);
    let commands = Capabilities::of([Capability::Shell, Capability::Exec]);
    let forbids =
        rule.effect == Effect::Forbid && !rule.capabilities.both(copies).is_empty() && rule.capabilities.both(commands).is_empty();
    let (people, machines) = rules.of(at).filter(|_| forbids)?;
    let around = |(i, other): &(usize, &Rule)| {
        let gives = other.effect == Effect::Allow && !other.capabilities.both(commands).is_empty();
        gives && rules.of(*i).is_some_and(|(p, m)| p.meets(people) && m.meets(machines))
    };
    let (_, other) = policy.document().rules.iter().enumerate().find(around)?;
    let message = format!(
        "`{}` forbids copies to people who may run commands there (`{}`, line {}): a command can copy too",
        rule.name, other.name, other.line
    );
    Some(warning("copies-by-command", rule, message).help("forbid `shell` and `exec` as well, or rely on the recording"))
}

fn unknown_names(document: &Document, directory: &Directory) -> Vec<Diagnostic> {
    let names = Names::of(directory);
    let mut found = vec![];
    let mut atoms: Vec<(Subject, Atom, Place)> = vec![];
    let mut of = |subject: Subject, selector: &crate::directory::selector::Selector, whole: &Place| {
        for atom in selector.atoms() {
            let from = (whole.start + 1 + atom.span.start).min(whole.end);
            atoms.push((subject, atom.clone(), from..(whole.start + 1 + atom.span.end).min(whole.end).max(from)));
        }
    };
    for rule in document.rules.iter().chain(document.guards.iter().map(|g| &g.rule)) {
        of(Subject::People, &rule.people.0, &rule.people.1);
        of(Subject::Machines, &rule.machines.0, &rule.machines.1);
    }
    document.approvals.iter().for_each(|a| of(Subject::People, &a.from, &a.span));
    for (subject, atom, span) in atoms {
        let hints = found.len() < MOST_HINTS;
        found.extend(match subject {
            Subject::People => names.person_atom(&atom, span, hints),
            Subject::Machines => names.machine_atom(&atom, span, hints),
        });
    }
    for case in &document.cases {
        let atom = |value: &str| Atom { key: String::new(), value: value.into(), own: false, span: 0..0 };
        let hints = found.len() < MOST_HINTS;
        found.extend(unknown("person", &names.people, &atom(&case.person), case.span.clone(), hints));
        found.extend(unknown("machine", &names.machines, &atom(&case.machine), case.span.clone(), hints));
    }
    found
}

struct Names<'a> {
    people: BTreeSet<&'a str>,
    groups: BTreeSet<&'a str>,
    organisations: BTreeSet<&'a str>,
    machines: BTreeSet<&'a str>,
    machine_groups: BTreeSet<&'a str>,
    labels: BTreeSet<&'a str>,
    sites: BTreeSet<&'a str>,
    owners: BTreeSet<&'a str>,
}

impl<'a> Names<'a> {
    fn of(d: &'a Directory) -> Self {
        let labels = d.machines().iter().flat_map(|m| &m.labels);
        Self {
            people: d.people().iter().map(|p| p.name.as_str()).collect(),
            groups: d.groups(),
            organisations: d.people().iter().map(|p| p.organisation.as_str()).collect(),
            machines: d.machines().iter().map(|m| m.name.as_str()).collect(),
            machine_groups: d.machine_groups(),
            labels: labels.flat_map(|l| [l.as_str(), l.split('=').next().unwrap_or(l)]).collect(),
            sites: d.machines().iter().map(|m| m.site.as_str()).collect(),
            owners: d.machines().iter().map(|m| m.owner.as_str()).collect(),
        }
    }

    fn person_atom(&self, atom: &Atom, span: Place, hints: bool) -> Option<Diagnostic> {
        match atom.key.as_str() {
            "person" => unknown("person", &self.people, atom, span, hints),
            "group" => unknown("group", &self.groups, atom, span, hints),
            "role" => unknown("role", &Role::ALL.map(Role::word).into(), atom, span, hints),
            "factor" => unknown("factor", &Factor::ALL.map(Factor::word).into(), atom, span, hints),
            "begins" | "ends" => dated(atom, span),
            _ => unknown("organisation", &self.organisations, atom, span, hints),
        }
    }

    fn machine_atom(&self, atom: &Atom, span: Place, hints: bool) -> Option<Diagnostic> {
        match atom.key.as_str() {
            "name" => unknown("machine", &self.machines, atom, span, hints),
            "label" => unknown("label", &self.labels, atom, span, hints),
            "site" => unknown("site", &self.sites, atom, span, hints),
            "group" => unknown("group", &self.machine_groups, atom, span, hints),
            "owner" => unknown("owner", &self.owners, atom, span, hints),
            "posture" => unknown("posture", &super::Posture::ALL.map(super::Posture::word).into(), atom, span, hints),
            // A range or address is right whether or not any machine is there already.
            "address" => None,
            _ => unknown("label", &self.labels, &Atom { value: atom.key.clone(), ..atom.clone() }, span, hints),
        }
    }
}

/// The first or last day of an account: a date, `never`, or a pattern.
fn dated(atom: &Atom, span: Place) -> Option<Diagnostic> {
    let fine = atom.value == "never" || atom.value.contains('*') || atom.value.parse::<jiff::civil::Date>().is_ok();
    (!fine).then(|| {
        Diagnostic::error("policy/date", span, format!("`{}` is not a date", atom.value))
            .help("write for instance `2026-12-31`, `2026-*` or `never`")
    })
}

/// An unknown name is an error: a slip of the pen in a `forbid` would otherwise silently allow.
fn unknown(kind: &str, known: &BTreeSet<&str>, atom: &Atom, span: Place, hints: bool) -> Option<Diagnostic> {
    if atom.value.contains('*') || known.contains(atom.value.as_str()) {
        return None;
    }
    let error = Diagnostic::error(&format!("policy/unknown-{kind}"), span, format!("there is no {kind} `{}`", atom.value));
    let meant = if hints { nearest(&atom.value, known.iter().copied().filter(|k| !k.is_empty())) } else { None };
    Some(match (meant, odd_letter(&atom.value)) {
        (Some(k), Some(odd)) => error.help(format!("did you mean `{k}`? {odd}")),
        (Some(k), None) => error.help(format!("did you mean `{k}`?")),
        (None, Some(odd)) => error.help(odd),
        (None, None) => error.help(format!("register the {kind} first, or remove the condition")),
    })
}
