//! Any text is a rule document or is refused with places that can be shown; what is read compiles, decides and can be edited.
#![no_main]

use aerie_core::directory::{Directory, DirectoryFile};
use aerie_core::policy::{Capability, Facts, Policy, Request, check, read, remove_rule, rule_fields};
use libfuzzer_sys::fuzz_target;
use std::sync::{Arc, OnceLock};

fn directory() -> Arc<Directory> {
    static ONE: OnceLock<Arc<Directory>> = OnceLock::new();
    ONE.get_or_init(|| {
        let text = include_str!("../../demo/directory.json");
        let file: DirectoryFile = serde_json::from_str(text).unwrap_or_default();
        Arc::new(file.into())
    })
    .clone()
}

fuzz_target!(|data: &[u8]| {
    let Ok(text) = std::str::from_utf8(data) else { return };
    let now = "2026-11-23T12:00:00Z".parse().unwrap_or_default();
    match read(text) {
        Err(errors) => errors.iter().for_each(|e| assert!(!e.render("rules.toml", text).is_empty())),
        Ok(document) => {
            let policy = Policy::compile(document, directory(), now);
            check(&policy, now).iter().for_each(|d| assert!(!d.render("rules.toml", text).is_empty()));
            for capability in Capability::ALL {
                let request =
                    Request { person: "ines", capability, machine: "dome-east", account: None, at: now, from: None, facts: Facts::default() };
                let decision = policy.decide(&request);
                assert!(decision.holds_until.is_none_or(|t| t > now));
                policy.explain(&request);
            }
            for name in rule_fields(text).unwrap_or_default().into_keys() {
                let shorter = remove_rule(text, &name).expect("a rule that was read can be removed");
                let _ = read(&shorter);
            }
        }
    }
});
