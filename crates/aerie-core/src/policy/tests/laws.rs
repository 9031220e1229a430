//! The laws that every answer must keep, over generated policies, directories and instants, the days on which the clocks change
//! included.

use super::world::{ADDRESSES, CAPABILITIES, Kind, MACHINES, PEOPLE, World, instant, question, rule, world};
use crate::policy::*;
use jiff::Timestamp;
use proptest::prelude::*;
use std::net::IpAddr;
use std::sync::Arc;

fn width(d: &Decision) -> u8 {
    match d.outcome {
        Outcome::Refused(_) => 0,
        Outcome::Unmet { .. } => 1,
        Outcome::Granted(_) => 2,
    }
}

fn week(from: Timestamp) -> (Timestamp, Timestamp) {
    (from, from + jiff::SignedDuration::from_hours(7 * 24))
}

/// Every pair, capability, account and address.
fn everywhere() -> impl Iterator<Item = (usize, usize, Capability, &'static str, IpAddr)> {
    let pairs = (0..PEOPLE.len()).flat_map(|p| (0..MACHINES.len()).map(move |m| (p, m)));
    pairs.flat_map(|(p, m)| {
        CAPABILITIES.into_iter().flat_map(move |c| {
            ["one", "two", "three"].into_iter().flat_map(move |a| ADDRESSES.into_iter().map(move |f| (p, m, c, a, f.parse().unwrap())))
        })
    })
}

fn ask(p: usize, m: usize, capability: Capability, account: &'static str, from: IpAddr, at: Timestamp) -> Request<'static> {
    Request { person: PEOPLE[p], capability, machine: MACHINES[m], account: Some(account), at, from: Some(from), facts: Facts::default() }
}

fn inside(spans: &[(i64, i64)], at: Timestamp) -> bool {
    spans.iter().any(|(b, e)| *b <= at.as_second() && at.as_second() < *e)
}

/// Whether an address lies where an example does, as far as the rules of this pair can tell.
fn same_side(policy: &Policy, example: Option<IpAddr>, address: IpAddr) -> bool {
    example.is_none_or(|e| policy.sources.iter().all(|s| s.contain(e) == s.contain(address)))
}

fn more_than_once(world: &World, policy: &Policy, at: Timestamp) -> Result<(), TestCaseError> {
    let (from, to) = week(at - jiff::SignedDuration::from_hours(50));
    let reach = Reach::of(Arc::new(policy.clone()), from, to);
    for (p, m, capability, account, address) in everywhere() {
        let request = ask(p, m, capability, account, address, at);
        let refused = matches!(policy.decide(&request).outcome, Outcome::Refused(_));
        let permissions = reach.between(p, m);
        let named: Vec<&str> = policy.document().rules.iter().flat_map(|r| &r.accounts).map(|a| &**a).collect();
        let fits = |x: &&Permission| {
            x.capabilities.contains(capability)
                && inside(&x.spans, at)
                && x.account.as_deref().map_or(!named.contains(&account), |a| a == account)
        };
        // An account that another pair's rules name is any other one here.
        let mut fitting: Vec<&Permission> = permissions.iter().filter(fits).collect();
        if fitting.is_empty() && !permissions.iter().any(|x| x.account.as_deref() == Some(account)) {
            let other = |x: &&Permission| x.account.is_none() && x.capabilities.contains(capability) && inside(&x.spans, at);
            let own =
                policy.rules_for(p, m, capability).any(|r| policy.rule(r).is_some_and(|r| r.accounts.iter().any(|a| &**a == account)));
            fitting = if own { vec![] } else { permissions.iter().filter(other).collect() };
        }
        let sides: Vec<_> = policy.rules_for(p, m, capability).filter_map(|r| policy.conditions[r].source).collect();
        let here = |x: &&&Permission| {
            let alike =
                |e: &IpAddr| sides.iter().all(|s| policy.sources[*s as usize].contain(*e) == policy.sources[*s as usize].contain(address));
            x.from_examples.is_empty() || x.from_examples.iter().any(alike)
        };
        let found: Vec<&&Permission> = fitting.iter().filter(here).collect();
        prop_assert_eq!(found.is_empty(), refused, "{:?} {}\n{:#?}\n{}", request, account, permissions, world.text());
        // Meeting any one of the alternatives opens, and what decides says the same.
        if let Outcome::Unmet { grant, .. } = policy.decide(&request).outcome {
            let mut demanded = grant.demands;
            demanded.recording = demanded.recording.both(capability.tracks());
            prop_assert!(found.iter().any(|x| x.demands.iter().any(|d| d.within(&demanded))));
        }
    }
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1500))]

    #[test]
    fn the_engine_agrees_with_the_naive_evaluator(world in world(), questions in prop::collection::vec(question(), 8)) {
        let policy = world.policy();
        for q in &questions {
            prop_assert_eq!(width(&policy.decide(&q.request())), world.naive(q), "{:?}\n{}", q, world.text());
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(150))]

    #[test]
    fn adding_a_rule_moves_access_only_its_own_way(world in world(), more in rule(), q in question()) {
        // A stated account keeps the choice of account out of the law.
        let mut q = q;
        q.account = q.account.or(Some("one"));
        let before = width(&world.policy().decide(&q.request()));
        let allow = more.kind == Kind::Allow;
        let mut wider = world.clone();
        wider.rules.push(more);
        let after = width(&wider.policy().decide(&q.request()));
        prop_assert!(if allow { after >= before } else { after <= before }, "from {} to {}", before, after);
    }

    #[test]
    fn the_order_of_rules_never_matters(world in world(), turn in 0usize..9, q in question()) {
        let text = world.text();
        let (head, rules) = text.split_at(text.find("[[").unwrap_or(text.len()));
        let mut pieces: Vec<String> = rules.split("[[").filter(|p| !p.is_empty()).map(|p| format!("[[{p}")).collect();
        let turn = turn % pieces.len().max(1);
        pieces.rotate_left(turn);
        let turned = Policy::compile(read(&(head.to_string() + &pieces.concat())).unwrap(), world.directory(), q.at);
        let (before, after) = (world.policy().decide(&q.request()), turned.decide(&q.request()));
        prop_assert_eq!(width(&before), width(&after));
        prop_assert_eq!(before.holds_until, after.holds_until);
        prop_assert_eq!(before.because.first().map(|r| r.name.clone()), after.because.first().map(|r| r.name.clone()));
    }

    #[test]
    fn a_decision_holds_as_long_as_it_says(world in world(), q in question(), part in 0.0f64..1.0) {
        let p = world.policy();
        let (request, d) = (q.request(), p.decide(&q.request()));
        let span = d.holds_until.map_or(30.0 * 86_400.0, |u| u.duration_since(q.at).as_secs_f64());
        let later = Timestamp::from_second(q.at.as_second() + (span * part) as i64).unwrap();
        prop_assume!(d.holds_until.is_none_or(|u| later < u));
        prop_assert_eq!(p.decide(&Request { at: later, ..request }).outcome, d.outcome);
    }

    #[test]
    fn the_map_agrees_with_deciding_every_pair(world in world(), at in instant()) {
        more_than_once(&world, &world.policy(), at)?;
    }

    #[test]
    fn a_comparison_tells_everything_and_nothing_else(before in world(), changed in rule(), at in instant(), drop in any::<bool>(), q in question()) {
        let mut after = before.clone();
        if drop && !after.rules.is_empty() {
            after.rules.remove(0);
        }
        after.rules.push(changed);
        let (old, new) = (before.policy(), after.policy());
        let (from, to) = week(at - jiff::SignedDuration::from_hours(50));
        let comparison = compare(&old, &new, from, to);
        for (p, m, capability, account, address) in everywhere() {
            let request = Request { facts: q.request().facts, ..ask(p, m, capability, account, address, at) };
            let (was, is) = (width(&old.decide(&request)), width(&new.decide(&request)));
            let bare = Request { facts: Facts::default(), ..request };
            let (open_before, open_after) =
                (width(&old.decide(&bare)) > 0, width(&new.decide(&bare)) > 0);
            let named = |p: &Policy| p.rules_for(request_person(p, &request), request_machine(p, &request), capability)
                .any(|r| p.rule(r).is_some_and(|r| r.accounts.iter().any(|a| &**a == account)));
            let known = named(&old) || named(&new) || comparison.changes.iter().any(|c| c.account.as_deref() == Some(account)
                && c.people.contains(&PEOPLE[p].to_string()) && c.machines.contains(&MACHINES[m].to_string()));
            let covering: Vec<Turn> = comparison.changes.iter().filter(|c| {
                c.people.iter().any(|n| n == PEOPLE[p]) && c.machines.iter().any(|n| n == MACHINES[m]) && c.capabilities.contains(capability)
                    && c.account.as_deref().map_or(!known, |a| a == account) && inside(&c.spans, at)
            }).map(|c| c.turn).collect();
            let all: Vec<IpAddr> = ADDRESSES.iter().map(|a| a.parse().unwrap()).collect();
            // Where addresses matter, a turn of the same pair at another address may stand beside this one.
            let alone = all.iter().all(|f| same_side(&old, Some(address), *f) && same_side(&new, Some(address), *f));
            match (open_before, open_after) {
                (false, true) => prop_assert!(covering.contains(&Turn::Gains), "{:?}\n{}\n{}\n{:#?}", bare, before.text(), after.text(), comparison),
                (true, false) => prop_assert!(covering.contains(&Turn::Loses), "{:?}\n{}\n{}\n{:#?}", bare, before.text(), after.text(), comparison),
                (true, true) if was > is => prop_assert!(covering.iter().any(|t| matches!(t, Turn::Harder | Turn::Different)), "{:?}", comparison),
                (true, true) if was < is => prop_assert!(covering.iter().any(|t| matches!(t, Turn::Easier | Turn::Different)), "{:?}", comparison),
                (false, false) if alone => prop_assert!(covering.is_empty(), "{:?} {:?}", bare, comparison),
                _ => {}
            }
        }
    }

    #[test]
    fn nothing_changes_between_a_policy_and_itself(world in world(), at in instant()) {
        let (from, to) = week(at);
        prop_assert_eq!(compare(&world.policy(), &world.policy(), from, to).changes, vec![]);
    }

    #[test]
    fn a_guardrail_holds_exactly_where_no_decision_breaks_it(
        world in world(), guard in rule(), at in prop::collection::vec(instant(), 12), unless in any::<bool>(),
    ) {
        let body = guard.text(99);
        let body: String = body.lines().skip(1).filter(|l| !["factors", "approval", "assurance", "ticket", "reason", "recording", "lock", "consent", "device", "posture", "limits"].iter().any(|k| l.starts_with(k))).map(|l| format!("{l}\n")).collect();
        let text = format!("{}[[never]]\n{body}{}", world.text(), if unless { "unless = { factors = [\"key\"] }\n" } else { "" });
        let policy = Policy::compile(read(&text).unwrap(), world.directory(), at[0]);
        let from = Timestamp::from_second(1_780_000_000).unwrap();
        let to = Timestamp::from_second(1_811_000_000).unwrap();
        let found = breaches(&policy, from, to);
        for breach in &found {
            let request = Request {
                person: &breach.person, capability: breach.capability, machine: &breach.machine, account: Some(breach.account.as_deref().unwrap_or("*")),
                at: breach.at, from: breach.from, facts: Facts::default(),
            };
            let decision = policy.decide(&request);
            prop_assert!(!matches!(decision.outcome, Outcome::Refused(_)), "{:?}", breach);
            prop_assert!(!breach.because.is_empty());
        }
        let g = &policy.document().guards[0];
        for at in at {
            for (p, m, capability, account, address) in everywhere() {
                let request = ask(p, m, capability, account, address, at);
                let outcome = policy.decide(&request).outcome;
                let harmless = unless && matches!(&outcome, Outcome::Unmet { grant, .. } if grant.demands.factors.contains(Factor::Key));
                let concerned = policy.rules_for(p, m, capability).any(|r| r >= policy.document().rules.len())
                    && g.rule.concerns_account(account)
                    && (g.rule.from.is_anywhere() || g.rule.from.contain(address))
                    && g.rule.hours.is_none_or(|h| policy.calendars[h].at(at).open);
                let dated = g.rule.first_day.is_some();
                if concerned && !dated && !harmless && !matches!(outcome, Outcome::Refused(_)) {
                    prop_assert!(!found.is_empty(), "{:?}\n{}", request, text);
                }
            }
        }
    }
}

fn request_person(p: &Policy, r: &Request<'_>) -> usize {
    p.directory().person_index(r.person).unwrap_or(usize::MAX)
}

fn request_machine(p: &Policy, r: &Request<'_>) -> usize {
    p.directory().machine_index(r.machine).unwrap_or(usize::MAX)
}
