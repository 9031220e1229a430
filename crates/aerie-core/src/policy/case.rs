//! Runs the questions that stand in a document, and says which have another answer.

use super::compile::Policy;
use super::decide::Request;
use super::demand::{Facts, Proofs};
use super::document::{Case, CaseTime, Expectation};
use super::sentence::Speech;
use super::{Capability, Tracks};
use crate::diagnostic::Diagnostic;
use jiff::{Timestamp, ToSpan as _};

/// The instants at which a question is put.
fn instants(policy: &Policy, case: &Case, now: Timestamp) -> Vec<Timestamp> {
    match case.at {
        CaseTime::At(at) => vec![at],
        CaseTime::Daily(time) => {
            let today = now.to_zoned(policy.zone().clone()).date();
            let at = |day: i64| today.saturating_add(day.days()).to_datetime(time).to_zoned(policy.zone().clone()).ok();
            (0..7).filter_map(at).map(|z| z.timestamp()).collect()
        }
    }
}

/// The answer to one question that is not the one expected; none where it is.
fn wrong(policy: &Policy, case: &Case, capability: Capability, at: Timestamp) -> Option<String> {
    let approved_by: Vec<&str> = case.approved_by.iter().map(String::as_str).collect();
    let request = Request {
        person: &case.person,
        capability,
        machine: &case.machine,
        account: case.account.as_deref(),
        at,
        from: case.from,
        facts: Facts {
            proofs: Proofs::at(case.factors, at),
            recorded: Tracks::all(),
            approved_by: &approved_by,
            ticket: case.ticket.as_deref(),
            reason: case.reason,
            target: case.target.as_ref(),
            ..Facts::default()
        },
    };
    let decision = policy.decide(&request);
    let answer = Expectation::of(&decision.outcome);
    let cited = case.because.as_ref().is_none_or(|name| decision.because.iter().any(|r| *r.name == **name));
    if answer == case.expect && cited {
        return None;
    }
    let said = policy.sentence(&request, &decision, Speech::Insider);
    let day = at.to_zoned(policy.zone().clone()).strftime("%A %Y-%m-%d %H:%M");
    Some(match (answer == case.expect, &case.because) {
        (true, Some(name)) => format!("it is {} on {day}, and not because of `{name}`: {said}", answer.word()),
        (true, None) | (false, _) => format!("expected {}, and it is {} on {day}: {said}", case.expect.word(), answer.word()),
    })
}

/// An error for each test with another answer than the one expected.
pub(super) fn failures(policy: &Policy, now: Timestamp) -> Vec<Diagnostic> {
    let first_wrong = |case: &Case| {
        let at = instants(policy, case, now);
        case.capabilities.iter().flat_map(|c| at.iter().map(move |t| (c, *t))).find_map(|(c, t)| wrong(policy, case, c, t))
    };
    let failed = policy.document().cases.iter().filter_map(|case| Some((case, first_wrong(case)?)));
    failed
        .map(|(case, why)| {
            let message = format!("the test `{}` fails: {}", case.name, why.trim_end_matches('.'));
            Diagnostic::error("policy/test-failed", case.span.clone(), message).help("mend the rules, or the test if it is wrong")
        })
        .collect()
}
