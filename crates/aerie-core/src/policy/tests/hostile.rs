//! Broken and hostile documents: an error in bounded time and memory, never a panic.

use crate::policy::*;
use proptest::prelude::*;

#[test]
fn a_line_of_a_megabyte_is_read_or_refused() {
    let long = "x".repeat(1 << 20);
    for text in [
        format!("zone = \"{long}\""),
        format!("[[forbid]]\nname = \"{long}\""),
        format!("[[forbid]]\nname = \"a\"\npeople = \"person:{long}"),
        long.clone(),
    ] {
        let errors = read(&text).unwrap_err();
        assert!(errors[0].render("rules.toml", &text).len() < 4 * text.len());
    }
}

#[test]
fn too_many_rules_are_refused_and_the_most_are_not() {
    let rules = |n: usize| (0..n).fold(String::new(), |t, i| t + &format!("[[forbid]]\nname=\"r{i}\"\n"));
    assert_eq!(read(&rules(MAX_RULES)).unwrap().rules.len(), MAX_RULES);
    assert_eq!(read(&rules(MAX_RULES + 1)).unwrap_err()[0].code, "policy/too-many");
    assert_eq!(read(&rules(100_000)).unwrap_err()[0].code, "policy/too-many");
}

#[test]
fn different_conditions_have_a_limit() {
    let day = |i: usize| jiff::civil::date(2027, 1, 1).saturating_add(jiff::ToSpan::days(i as i64));
    let dated = |n: usize| (0..n).fold(String::new(), |t, i| t + &format!("[[forbid]]\nname=\"r{i}\"\nlast_day={}\n", day(i)));
    assert!(read(&dated(MAX_GATES)).is_ok());
    assert_eq!(read(&dated(MAX_GATES + 1)).unwrap_err()[0].code, "policy/too-many");
    let ranged = |n: usize| {
        (0..n).fold(String::new(), |t, i| t + &format!("[[forbid]]\nname=\"r{i}\"\nfrom=[\"10.{}.{}.0/24\"]\n", i / 250, i % 250))
    };
    assert!(read(&ranged(MAX_RANGES)).is_ok());
    assert_eq!(read(&ranged(MAX_RANGES + 1)).unwrap_err()[0].code, "policy/too-many");
}

#[test]
fn the_most_conditions_at_once_are_still_computed() {
    // Each rule has its own days and its own range, and all concern the same person and machine.
    let day = |i: usize| jiff::civil::date(2026, 11, 24).saturating_add(jiff::ToSpan::days(i as i64));
    let rule = |i: usize| {
        format!(
            "[[allow]]\nname=\"r{i}\"\npeople=\"*\"\nmachines=\"*\"\ncapabilities=[\"shell\"]\naccounts=[\"a\"]\nlast_day={}\nfrom=[\"10.{}.{}.0/24\"]\n",
            day(i),
            i / 250,
            i % 250
        )
    };
    let text = (0..150).fold(String::from("[[never]]\nname=\"g\"\ncapabilities=[\"view\"]\n"), |t, i| t + &rule(i));
    let file: crate::directory::DirectoryFile =
        serde_json::from_value(serde_json::json!({ "people": [{ "name": "p" }], "machines": [{ "name": "m" }] })).unwrap();
    let now = "2026-11-23T12:00:00Z".parse().unwrap();
    let policy = std::sync::Arc::new(Policy::compile(read(&text).unwrap(), std::sync::Arc::new(file.into()), now));
    assert!(check(&policy, now).iter().all(|d| d.code != "policy/guardrail"));
    let reach = Reach::of(policy, now, now + jiff::SignedDuration::from_hours(24 * 200));
    assert_eq!(reach.between(0, 0).len(), 150);
}

#[test]
fn after_a_hundred_errors_the_rest_is_left() {
    let text = (0..5_000).fold(String::new(), |t, i| t + &format!("[[forbid]]\nname=\"r{i}\"\nhours=\"nowhere\"\n"));
    let errors = read(&text).unwrap_err();
    assert_eq!((errors.len(), errors.last().map(|e| e.code.as_str())), (101, Some("policy/too-many")));
}

#[test]
fn deep_nesting_is_refused() {
    for text in
        [format!("a = {}", "[".repeat(100_000)), format!("a = {}", "{a=".repeat(50_000)), format!("[{}]", vec!["a"; 50_000].join("."))]
    {
        assert!(read(&text).is_err());
    }
}

#[test]
fn letters_that_look_alike_are_named() {
    let text = "[[forbid]]\nname = \"night-d\u{43e}me\"";
    let errors = read(text).unwrap_err();
    assert_eq!(
        (errors[0].code.as_str(), errors[0].help.as_deref()),
        ("policy/name", Some("`\u{43e}` is U+043E, which may look like another letter"))
    );
}

const REAL: &str = include_str!("../../../../../demo/rules.toml");

/// A real document with a piece cut out, and something spoilt put in elsewhere.
fn spoilt() -> impl Strategy<Value = String> {
    let place = 0.0f64..1.0;
    let bad = prop::sample::select(vec![
        "",
        "\"",
        "[",
        "]]",
        "\u{0}",
        "\n[[allow]]\n",
        "= {",
        "\u{202e}",
        "'''",
        "9999-99-99",
        "[[never]]\nname = 1\n",
        "\u{43e}",
    ]);
    (place.clone(), place.clone(), place, bad).prop_map(|(from, length, to, bad)| {
        let at = |text: &str, part: f64| (0..=(text.len() as f64 * part) as usize).rev().find(|i| text.is_char_boundary(*i)).unwrap_or(0);
        let (a, b) = (at(REAL, from), at(REAL, (from + length * 0.05).min(1.0)));
        let mut text = format!("{}{}", &REAL[..a], &REAL[b..]);
        text.insert_str(at(&text, to), bad);
        text
    })
}

proptest! {
    #[test]
    fn any_text_is_read_or_refused_without_a_panic(text in "(\\[\\[allow\\]\\]|\\[\\[never\\]\\]|\\[\\[test\\]\\]|name|hours|unless|=|\"|\\[|\\]|\\{|\\}|[a-z0-9 :*&|!\n-]){0,80}") {
        if let Err(errors) = read(&text) {
            for e in errors {
                prop_assert!(!e.render("rules.toml", &text).is_empty());
            }
        }
    }

    #[test]
    fn a_spoilt_document_is_read_checked_and_edited_or_refused(text in spoilt()) {
        match read(&text) {
            Err(errors) => prop_assert!(errors.iter().all(|e| !e.render("rules.toml", &text).is_empty())),
            Ok(document) => {
                let file: crate::directory::DirectoryFile = serde_json::from_str(include_str!("../../../../../demo/directory.json")).unwrap();
                let now = "2026-11-23T12:00:00Z".parse().unwrap();
                let policy = Policy::compile(document, std::sync::Arc::new(file.into()), now);
                for d in check(&policy, now) {
                    prop_assert!(!d.render("rules.toml", &text).is_empty());
                }
                for name in rule_fields(&text).unwrap().into_keys() {
                    prop_assert!(remove_rule(&text, &name).is_ok());
                    prop_assert!(rule_text(&text, &name).is_some());
                }
            }
        }
    }
}
