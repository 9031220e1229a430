//! Measures the rules at the size of a real organisation, and how their cost grows. Prints lines of JSON, one a figure.

mod other;
mod world;

use aerie_core::directory::{Bits, Directory};
use aerie_core::policy::{Capability, Factor, Factors, Facts, Policy, Reach, Request, breaches, check, compare, read};
use jiff::{SignedDuration, Timestamp};
use other::Other;
use std::sync::Arc;
use std::time::Instant;
use world::{Chance, Rule, Size, directory, rules, text};

const QUESTIONS: usize = 20_000;

fn now() -> Timestamp {
    "2026-11-23T12:00:00Z".parse().expect("an instant")
}

fn figure(name: &str, value: f64, unit: &str, goal: Option<&str>, met: Option<bool>) {
    println!("{}", serde_json::json!({ "name": name, "value": value, "unit": unit, "goal": goal, "met": met }));
}

fn timed<T>(work: impl FnOnce() -> T) -> (T, f64) {
    let began = Instant::now();
    let done = work();
    (done, began.elapsed().as_secs_f64() * 1000.0)
}

/// Resident memory at its highest so far, in MB.
fn peak() -> f64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let kb = status.lines().find_map(|l| l.strip_prefix("VmHWM:")?.trim().strip_suffix(" kB")?.trim().parse::<f64>().ok());
    kb.unwrap_or(0.0) / 1000.0
}

struct Question {
    person: String,
    machine: String,
    capability: Capability,
    at: Timestamp,
    from: &'static str,
}

fn questions(size: Size) -> Vec<Question> {
    let mut chance = Chance(3);
    (0..QUESTIONS)
        .map(|_| Question {
            person: format!("p{}", chance.below(size.people)),
            machine: format!("m{}", chance.below(size.machines)),
            capability: [Capability::Shell, Capability::Exec, Capability::View, Capability::Download][chance.below(4)],
            at: now() + SignedDuration::from_mins(chance.below(7 * 24 * 60) as i64),
            from: ["10.1.2.3", "10.9.2.3", "192.0.2.1"][chance.below(3)],
        })
        .collect()
}

/// Questions about what some `allow` speaks of: a random one of its people, machines and capabilities.
fn near_questions(policy: &Policy) -> Vec<Question> {
    let (mut chance, directory) = (Chance(5), policy.directory());
    let allows: Vec<_> = policy.document().rules.iter().filter(|r| r.effect.word() == "allow").collect();
    let mut found = vec![];
    while found.len() < QUESTIONS {
        let rule = allows[chance.below(allows.len())];
        let people: Vec<usize> = directory.select_people(&rule.people.0).iter().collect();
        let machines: Vec<usize> = directory.select_machines(&rule.machines.0).iter().collect();
        let capabilities: Vec<Capability> = rule.capabilities.iter().collect();
        // Ten questions a rule: to select anew for each would take longer than to ask.
        for _ in 0..10 {
            if people.is_empty() || machines.is_empty() {
                break;
            }
            found.push(Question {
                person: directory.people()[people[chance.below(people.len())]].name.clone(),
                machine: directory.machines()[machines[chance.below(machines.len())]].name.clone(),
                capability: capabilities[chance.below(capabilities.len())],
                at: now() + SignedDuration::from_mins(chance.below(7 * 24 * 60) as i64),
                from: ["10.1.2.3", "10.9.2.3", "192.0.2.1"][chance.below(3)],
            });
        }
    }
    found
}

fn request(q: &Question) -> Request<'_> {
    Request {
        person: &q.person,
        capability: q.capability,
        machine: &q.machine,
        account: None,
        at: q.at,
        from: q.from.parse().ok(),
        facts: Facts::proved(Factors::of([Factor::Key, Factor::Code]), q.at),
    }
}

/// What it costs to look at the clock twice, in nanoseconds: the median, which is no part of what is measured between.
fn clock_cost() -> f64 {
    let mut times: Vec<f64> = (0..QUESTIONS).map(|_| Instant::now().elapsed().as_nanos() as f64).collect();
    times.sort_by(f64::total_cmp);
    times[times.len() / 2]
}

/// Nanoseconds of each question, without those of the clock, sorted.
fn decide_times(policy: &Policy, all: &[Question]) -> Vec<f64> {
    let requests: Vec<Request<'_>> = all.iter().map(request).collect();
    requests.iter().for_each(|r| drop(std::hint::black_box(policy.decide(r))));
    let clock = clock_cost();
    let mut times: Vec<f64> = requests
        .iter()
        .map(|r| {
            let began = Instant::now();
            std::hint::black_box(policy.decide(r));
            (began.elapsed().as_nanos() as f64 - clock).max(0.0)
        })
        .collect();
    times.sort_by(f64::total_cmp);
    times
}

fn compiled(rules: &[Rule], directory: &Arc<Directory>) -> Policy {
    Policy::compile(read(&text(rules)).expect("rules"), directory.clone(), now())
}

fn full() {
    let size = Size::FULL;
    let (directory, took) = timed(|| Arc::new(directory(size)));
    figure("directory: 10,000 people, 50,000 machines into look-up tables", took, "ms", None, None);
    let before_rules = peak();
    let rules = rules(size);
    let source = text(&rules);
    let (document, took) = timed(|| read(&source).expect("rules"));
    figure("read: 2,000 rules", took, "ms", None, None);
    let (policy, took) = timed(|| Arc::new(Policy::compile(document, directory.clone(), now())));
    figure("compile: 2,000 rules for 10,000 people, 50,000 machines", took, "ms", Some("at most 500"), Some(took <= 500.0));
    figure("two looks at the clock, taken off each question below", clock_cost(), "ns", None, None);
    let questions = questions(size);
    let times = decide_times(&policy, &questions);
    let at = |part: f64| times[((times.len() - 1) as f64 * part) as usize] / 1000.0;
    figure("decide: median", at(0.5), "µs", Some("at most 1"), Some(at(0.5) <= 1.0));
    figure("decide: p99", at(0.99), "µs", Some("at most 5"), Some(at(0.99) <= 5.0));
    let near = near_questions(&policy);
    let near_times = decide_times(&policy, &near);
    let near_at = |part: f64| near_times[((near_times.len() - 1) as f64 * part) as usize] / 1000.0;
    let granted = near.iter().filter(|q| policy.decide(&request(q)).granted(&request(q)).is_some()).count();
    figure("decide, of what some rule speaks of: median", near_at(0.5), "µs", Some("at most 1"), Some(near_at(0.5) <= 1.0));
    figure("decide, of what some rule speaks of: p99", near_at(0.99), "µs", Some("at most 5"), Some(near_at(0.99) <= 5.0));
    figure("of these granted", 100.0 * granted as f64 / near.len() as f64, "%", None, None);
    against(&policy, &rules, &questions, &near, at(0.5));
    let to = now() + SignedDuration::from_hours(7 * 24);
    let (reach, took) = timed(|| Reach::of(policy.clone(), now(), to));
    figure("reach map of the whole space, a week", took, "ms", Some("at most 1,000"), Some(took <= 1000.0));
    figure("memory at its highest, directory included", peak(), "MB", Some("at most 500"), Some(peak() <= 500.0));
    figure("of which the directory and its making", before_rules, "MB", None, None);
    let everything = (Bits::all(size.people), Bits::all(size.machines));
    let (listed, took) = timed(|| reach.among(&everything.0, &everything.1));
    figure("the whole map as groups of people and machines with their permissions", took, "ms", None, None);
    figure("such groups", listed.len() as f64, "", None, None);
    drop(listed);
    let classes = reach.size();
    figure("classes of people", classes.people as f64, "", None, None);
    figure("classes of machines", classes.machines as f64, "", None, None);
    figure("pairs of classes with access", classes.cells as f64, "", None, None);
    figure("different answers", classes.profiles as f64, "", None, None);
    drop(reach);
    let year = now() + SignedDuration::from_hours(366 * 24);
    let (found, took) = timed(|| breaches(&policy, now(), year));
    figure("guardrails: 3 proved over the coming year", took, "ms", Some("at most 2,000"), Some(took <= 2000.0));
    assert!(found.is_empty(), "{found:?}");
    let mut changed = rules.clone();
    changed.iter_mut().step_by(40).for_each(|r| r.hours = if r.hours.is_none() && r.effect == "allow" { Some("night") } else { None });
    changed.truncate(rules.len() - 20);
    let after = compiled(&changed, &directory);
    let (told, took) = timed(|| compare(&policy, &after, now(), year));
    figure("compare of two versions (50 rules changed, 20 gone), a year", took, "ms", Some("at most 2,000"), Some(took <= 2000.0));
    figure("changes told", told.changes.len() as f64, "", None, None);
    let (found, took) = timed(|| check(&policy, now()));
    figure("check of the document, guardrails included", took, "ms", None, None);
    figure("warnings", found.len() as f64, "", None, None);
}

/// The same questions to the other engine: the times of random ones stand beside each other, and the answers must agree, on as many
/// again of which some rule speaks. Accounts with a last day are left out: the other engine is not told of them.
fn against(policy: &Policy, rules: &[Rule], questions: &[Question], near: &[Question], own: f64) {
    let other = Other::new(rules);
    let open = |name: &str, at: Timestamp| policy.calendar(name).is_some_and(|c| c.at(at).open);
    let endless = |q: &&Question| policy.directory().person(&q.person).is_some_and(|p| p.valid_until.is_none());
    let granted = |q: &Question| policy.decide(&request(q)).granted(&request(q)).is_some();
    let ask = |q: &Question| {
        let entities = other.entities(policy.directory(), &q.person, &q.machine);
        let asked = other.request(&q.person, q.capability.word(), &q.machine, open("night", q.at), open("desk", q.at), q.from);
        let began = Instant::now();
        let allowed = std::hint::black_box(other.allows(&asked, &entities));
        (allowed, began.elapsed().as_nanos() as f64 / 1000.0)
    };
    let random: Vec<&Question> = questions.iter().filter(endless).take(300).collect();
    let yes: Vec<&Question> = near.iter().filter(endless).step_by(7).take(300).collect();
    let mut times: Vec<f64> = random.iter().map(|q| ask(q).1).collect();
    times.sort_by(f64::total_cmp);
    let median = times[times.len() / 2];
    let all = random.len() + yes.len();
    let agree = random.iter().chain(&yes).filter(|q| ask(q).0 == granted(q)).count();
    figure("the same questions to cedar-policy 4: median", median, "µs", None, None);
    figure("questions of which the answers were compared, half of them at random", all as f64, "", None, None);
    figure("of them granted by ours", random.iter().chain(&yes).filter(|q| granted(q)).count() as f64, "", None, None);
    figure("of them answered alike", agree as f64, "", Some("all"), Some(agree == all));
    figure("times as fast as cedar-policy", median / own, "×", Some("at least 50"), Some(median / own >= 50.0));
}

/// How cost grows: people × machines grow a hundredfold at the same rules and groups; then the rules grow.
fn growth() {
    let base = Size { people: 100, machines: 500, rules: 2_000, groups: 200 };
    for factor in [1, 10, 100] {
        let size = Size { people: base.people * factor, machines: base.machines * factor, ..base };
        grow(&format!("people × {factor}, machines × {factor}"), size);
    }
    for factor in [1, 10, 100] {
        grow(&format!("rules × {factor}"), Size { people: 10_000, machines: 50_000, rules: 20 * factor, groups: 200 });
    }
}

fn grow(name: &str, size: Size) {
    let directory = Arc::new(directory(size));
    let rules = rules(size);
    let (policy, compile) = timed(|| Arc::new(compiled(&rules, &directory)));
    let times = decide_times(&policy, &questions(size));
    let (reach, map) = timed(|| Reach::of(policy.clone(), now(), now() + SignedDuration::from_hours(7 * 24)));
    let (_, guards) = timed(|| breaches(&policy, now(), now() + SignedDuration::from_hours(366 * 24)));
    let classes = reach.size();
    println!(
        "{}",
        serde_json::json!({
            "growth": name, "people": size.people, "machines": size.machines, "rules": size.rules,
            "compile_ms": compile, "decide_ns": times[times.len() / 2], "reach_ms": map, "guard_ms": guards,
            "people_classes": classes.people, "machine_classes": classes.machines, "pairs": classes.cells, "answers": classes.profiles,
        })
    );
}

fn main() {
    full();
    growth();
}
