use super::*;
use crate::audit::{Finding, FindingKind, Findings, LogLine};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use proptest::prelude::*;
use std::sync::Arc;

fn t(second: i64) -> Timestamp {
    Timestamp::from_second(1_780_000_000 + second).unwrap()
}

fn set(form: &str) -> Result<DetectionSet, String> {
    let head = "name = \"tried\"\nsays = \"{who} at {source}\"\nbecause = \"so it is\"\nmend = \"Nothing.\"\nimportance = \"low\"\n";
    DetectionSet::parse(&format!("[[detection]]\n{head}{form}"))
}

fn found(set: DetectionSet, stage: Stage, signals: &[Signal<'_>]) -> Vec<Finding> {
    let mut detector = Detector::new(Arc::new(set), TimeZone::UTC, stage);
    let mut findings = Findings::default();
    signals.iter().for_each(|s| detector.handle_signal(s, &mut findings));
    findings.finish(&TimeZone::UTC)
}

#[test]
fn what_is_shipped_is_sound_and_tested() {
    let set = DetectionSet::parse(DetectionSet::shipped_text()).unwrap();
    assert_eq!(set, DetectionSet::shipped());
    let failures = set.failures();
    assert!(failures.is_empty(), "{failures:#?}");
    for d in set.all() {
        assert!(!d.cases.is_empty() && !d.title.is_empty() && d.mend.ends_with('.'), "{}", d.name);
        assert!(!d.techniques.is_empty() && d.controls.iter().any(|c| c.starts_with("NIST SP 800-53 ")), "{}", d.name);
        assert!(d.controls.iter().any(|c| c.starts_with("ISO/IEC 27001 A.")), "{}", d.name);
        assert!(d.techniques.iter().all(|t| t.starts_with('T') && t.len() >= 5), "{}", d.name);
    }
    for kind in FindingKind::ALL {
        assert!(set.named(kind.word()).is_none());
    }
}

#[test]
fn a_case_that_does_not_come_out_is_told() {
    let text = "form.match = { of = { what = \"access\" }, by = [\"machine\"] }\n\
                [[detection.test]]\nname = \"two\"\nsignals = [{ what = \"access\", machine = \"a\" }]\nfinds = 2\n\
                [[detection.test]]\nname = \"said\"\nsignals = [{ what = \"access\", machine = \"a\", colour = \"red\" }]\nfinds = 1\n";
    let failures = set(text).unwrap().failures();
    let told: Vec<_> = failures.iter().map(|f| (f.case.as_str(), f.why.split('.').next().unwrap())).collect();
    assert_eq!(told, [("two", "it finds 1 where 2 are expected"), ("said", "there is no field `colour`")]);
}

#[test]
fn mistakes_are_told_with_their_place() {
    let table = [
        ("form.count = { of = { what = \"acces\" }, by = [\"machine\"], at_least = 2, within = \"1h\" }", "unknown variant"),
        ("form.count = { of = { what = \"access\" }, by = [\"machine\"], at_least = 1, within = \"1h\" }", "`at_least` is 2 to 1000"),
        ("form.count = { of = { what = \"access\" }, by = [], at_least = 2, within = \"1h\" }", "`by` has 1 to 4"),
        ("form.count = { of = { what = \"access\" }, by = [\"machine\"], at_least = 2, within = \"500d\" }", "no span of time"),
        ("form.count = { of = { what = \"access\" }, by = [\"colour\"], at_least = 2, within = \"1h\" }", "unknown variant `colour`"),
        (
            "form.baseline = { of = { what = \"end\" }, by = [\"person\"], field = \"day\", over = \"9d\", samples = 3, beyond = 2 }",
            "a baseline is of",
        ),
        ("form.sequence = { by = [\"person\"], within = \"9d\", steps = [{ of = { what = \"access\" } }] }", "2 to 5 steps"),
        ("form.guess = {}", "unknown variant `guess`"),
        ("", "missing field `form`"),
    ];
    for (text, says) in table {
        let said = set(text).unwrap_err();
        assert!(said.contains(says), "{text}: {said}");
    }
    let said = set("form.match = { of = { what = \"acces\" }, by = [\"machine\"] }").unwrap_err();
    assert!(said.contains("line 7, column") && said.contains('^'), "{said}");
    let twice = DetectionSet::shipped_text().replace("name = \"spraying\"", "name = \"guessing\"");
    assert!(DetectionSet::parse(&twice).unwrap_err().contains("two detections"));
    let taken = DetectionSet::shipped_text().replace("name = \"spraying\"", "name = \"around-gateway\"");
    assert!(DetectionSet::parse(&taken).unwrap_err().contains("without a detection"));
    let word = DetectionSet::shipped_text().replace("{source} tried", "{origin} tried");
    assert!(DetectionSet::parse(&word).unwrap_err().contains("nothing called `{origin}`"));
}

#[test]
fn evidence_is_the_lines_around_the_moment_and_bounded() {
    let form = "form.count = { of = { what = \"failure\" }, by = [\"source\"], at_least = 10, within = \"1h\" }";
    let lines: Vec<_> =
        (0..200).map(|n| LogLine { file: "auth.log".into(), number: n, offset: n, text: n.to_string(), digest: String::new() }).collect();
    let makers: Vec<_> = lines.iter().map(|l| move || vec![l.clone()]).collect();
    let signals: Vec<_> = makers
        .iter()
        .enumerate()
        .map(|(n, m)| Signal { source: "203.0.113.9", lines: m, ..Signal::new(What::Failure, t(n as i64), "m") })
        .collect();
    let all = found(set(form).unwrap(), Stage::Lines, &signals);
    assert_eq!((all.len(), all[0].count, all[0].lines.len()), (1, 200, crate::audit::MOST_LINES));
    assert_eq!(all[0].lines.iter().map(|l| l.number).take(5).collect::<Vec<_>>(), [6, 7, 8, 9, 10]);
    assert_eq!((all[0].first, all[0].last, all[0].word()), (t(0), t(199), "tried"));
}

#[test]
fn a_stranger_cannot_fill_the_memory() {
    let form = "form.count = { of = { what = \"failure\" }, by = [\"source\"], distinct = \"account\", at_least = 3, within = \"1h\" }";
    let mut detector = Detector::new(Arc::new(set(form).unwrap()), TimeZone::UTC, Stage::Lines);
    let mut findings = Findings::default();
    for n in 0..MOST_KEYS + 10 {
        let source = format!("2001:db8::{n:x}");
        detector.handle_signal(&Signal { source: &source, account: "a", ..Signal::new(What::Failure, t(0), "m") }, &mut findings);
    }
    // The first address is forgotten, the last is not.
    for (source, finds) in [("2001:db8::0", 0), (&*format!("2001:db8::{:x}", MOST_KEYS + 9), 1)] {
        for account in ["b", "c"] {
            detector.handle_signal(&Signal { source, account, ..Signal::new(What::Failure, t(1), "m") }, &mut findings);
        }
        let so_far = findings.count();
        assert_eq!(so_far, finds, "{source}");
    }
}

#[test]
fn what_a_stranger_names_is_shown_harmless() {
    let form = "form.match = { of = { what = \"failure\" }, by = [\"source\"] }";
    let evil = Signal { source: "\x1b[31m{account}\n", ..Signal::new(What::Failure, t(0), "m") };
    let all = found(set(form).unwrap(), Stage::Lines, &[evil]);
    assert!(
        !all[0].sentence.contains('\x1b') && !all[0].sentence.contains('\n') && all[0].sentence.contains("{account}"),
        "{}",
        all[0].sentence
    );
}

proptest! {
    /// Counting agrees with looking at every window anew.
    #[test]
    fn counts_agree_with_the_plain_definition(
        steps in prop::collection::vec((0i64..40, 0u8..3, 0u8..6), 1..120),
        at_least in 2usize..6,
        distinct: bool,
    ) {
        let extra = if distinct { "distinct = \"account\", " } else { "" };
        let form = format!("form.count = {{ of = {{ what = \"failure\" }}, by = [\"source\"], {extra}at_least = {at_least}, within = \"60s\" }}");
        let mut at = 0;
        let made: Vec<(i64, String, String)> = steps.iter().map(|(gap, s, a)| { at += gap; (at, format!("s{s}"), format!("a{a}")) }).collect();
        let signals: Vec<_> = made
            .iter()
            .map(|(at, source, account)| Signal { source, account, ..Signal::new(What::Failure, t(*at), "m") })
            .collect();
        let mut expected = std::collections::BTreeSet::new();
        for (n, (at, source, _)) in made.iter().enumerate() {
            let window = made[..=n].iter().filter(|(then, s, _)| s == source && at - then <= 60);
            let count = match distinct {
                true => window.map(|(_, _, a)| a).collect::<std::collections::BTreeSet<_>>().len(),
                false => window.count(),
            };
            if count >= at_least {
                expected.insert(source.clone());
            }
        }
        let all = found(set(&form).unwrap(), Stage::Lines, &signals);
        let sources: std::collections::BTreeSet<String> = all.iter().filter_map(|f| f.source.clone()).collect();
        prop_assert_eq!(sources, expected);
    }

    /// An overlap is found where two accesses of a person from different networks are open at a time, and nowhere else.
    #[test]
    fn overlaps_agree_with_the_plain_definition(spans in prop::collection::vec((0i64..500, 1i64..60, 0u8..3), 1..20)) {
        let form = "form.overlap = { of = { what = \"access\" }, by = [\"person\"], differ = \"source\" }";
        let mut spans = spans;
        spans.sort_unstable();
        let sources = ["a", "b", "c"];
        // Each on a machine of its own, so that ends belong to their beginnings.
        let machines: Vec<String> = (0..spans.len()).map(|n| format!("m{n}")).collect();
        let mut signals = vec![];
        for (n, (begin, long, s)) in spans.iter().enumerate() {
            let one = |what, at| Signal { person: Some("ines"), source: sources[*s as usize], ..Signal::new(what, t(at), &machines[n]) };
            signals.push((*begin, 1, one(What::Access, *begin)));
            signals.push((begin + long, 0, one(What::End, begin + long)));
        }
        signals.sort_by_key(|(at, order, _)| (*at, *order));
        let signals: Vec<_> = signals.into_iter().map(|(_, _, s)| s).collect();
        let meets = spans.iter().enumerate().any(|(n, (begin, _, s))| {
            spans[..n].iter().any(|(b, l, other)| s != other && b + l > *begin)
        });
        prop_assert_eq!(!found(set(form).unwrap(), Stage::Records, &signals).is_empty(), meets);
    }
}

#[test]
fn stages_follow_what_a_detection_looks_at() {
    let shipped = DetectionSet::shipped();
    for (name, stage) in
        [("guessed", Stage::Lines), ("key-added", Stage::Lines), ("two-places", Stage::Records), ("odd-hour", Stage::Records)]
    {
        assert_eq!(shipped.named(name).unwrap().stage(), stage, "{name}");
    }
    // One that is switched off is silent.
    let off = set("enabled = false\nform.match = { of = { what = \"failure\" }, by = [\"source\"] }").unwrap();
    assert!(found(off, Stage::Lines, &[Signal { source: "x", ..Signal::new(What::Failure, t(0), "m") }]).is_empty());
}
