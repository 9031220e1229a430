//! An organisation with realistic labels: teams, cross-cutting groups, sites, kinds of machines. Seeded: the same each time.

use aerie_core::directory::{Directory, DirectoryFile};
use serde_json::{Value, json};
use std::fmt::Write as _;

/// Sizes.
#[derive(Debug, Clone, Copy)]
pub struct Size {
    pub people: usize,
    pub machines: usize,
    pub rules: usize,
    pub groups: usize,
}

impl Size {
    pub const FULL: Size = Size { people: 10_000, machines: 50_000, rules: 2_000, groups: 200 };
}

/// A small generator (SplitMix64), so that no crate is needed.
pub struct Chance(pub u64);

impl Chance {
    pub fn below(&mut self, n: usize) -> usize {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        ((z ^ (z >> 31)) % n.max(1) as u64) as usize
    }
}

pub const KINDS: [&str; 20] = [
    "dome", "camera", "spectrograph", "mast", "pump", "archive", "gateway", "desk", "printer", "crane", "clock", "laser", "chiller", "guider",
    "router", "store", "compute", "console", "weather", "mirror",
];

fn sites(size: Size) -> usize {
    (size.groups / 5).clamp(2, 40)
}

pub fn directory(size: Size) -> Directory {
    let mut chance = Chance(7);
    let teams = size.groups * 3 / 4;
    let people: Vec<Value> = (0..size.people)
        .map(|i| {
            // Each in one team; one in ten in a cross-cutting group as well; every tenth from outside, with a last day.
            let mut groups = vec![format!("team-{}", chance.below(teams))];
            if chance.below(10) == 0 {
                groups.push(format!("group-{}", chance.below(size.groups - teams)));
            }
            let outside = chance.below(10) == 0;
            let until = (outside && chance.below(2) == 0).then(|| format!("2027-{:02}-28", 1 + chance.below(12)));
            json!({
                "name": format!("p{i}"), "organisation": if outside { "Brightcoat" } else { "Ridge" }, "groups": groups, "valid_until": until,
                "keys": [{ "fingerprint": format!("SHA256:{i}") }], "enrolled": ["code", "password"],
            })
        })
        .collect();
    let machines: Vec<Value> = (0..size.machines)
        .map(|i| {
            let kind = KINDS[chance.below(KINDS.len())];
            let site = chance.below(sites(size));
            let tier = 1 + chance.below(3);
            let mut labels = vec![kind.to_string(), format!("tier={tier}")];
            if chance.below(20) == 0 {
                labels.push("retired".into());
            }
            json!({ "name": format!("m{i}"), "site": format!("site-{site}"), "labels": labels, "owner": format!("crew-{}", chance.below(30)),
                "accounts": ["operator"], "address": format!("10.{site}.{}.{}:22", i / 250 % 250, i % 250) })
        })
        .collect();
    let file: DirectoryFile = serde_json::from_value(json!({ "people": people, "machines": machines })).expect("a directory");
    file.into()
}

/// One rule, for both engines.
#[derive(Debug, Clone)]
pub struct Rule {
    pub effect: &'static str,
    pub group: Option<String>,
    pub outside: bool,
    pub site: Option<String>,
    pub label: Option<String>,
    pub tier: Option<usize>,
    pub capabilities: Vec<&'static str>,
    pub hours: Option<&'static str>,
    pub from: bool,
    pub factors: Vec<&'static str>,
}

pub fn rules(size: Size) -> Vec<Rule> {
    let mut chance = Chance(11);
    let teams = size.groups * 3 / 4;
    let all: [&'static [&'static str]; 4] = [&["shell", "exec"], &["shell", "exec", "upload", "download"], &["view", "control"], &["download"]];
    (0..size.rules)
        .map(|i| {
            // Of a hundred rules 80 allow, 12 require, 8 forbid.
            let effect = match i % 100 {
                0..80 => "allow",
                80..92 => "require",
                _ => "forbid",
            };
            let team = chance.below(teams);
            let group = match effect {
                "allow" if chance.below(5) == 0 => Some(format!("group-{}", chance.below(size.groups - teams))),
                "allow" => Some(format!("team-{team}")),
                _ => None,
            };
            Rule {
                effect,
                group,
                outside: effect == "forbid",
                site: Some(format!("site-{}", chance.below(sites(size)))).filter(|_| effect == "allow" || chance.below(2) == 0),
                label: Some(KINDS[chance.below(KINDS.len())].to_string()).filter(|_| effect != "require" || chance.below(2) == 0),
                tier: (chance.below(6) == 0).then(|| 1 + chance.below(3)),
                capabilities: if effect == "allow" { all[chance.below(4)].to_vec() } else { vec![] },
                hours: [None, None, Some("night"), Some("desk")][chance.below(4)].filter(|_| effect == "allow"),
                from: effect == "allow" && chance.below(10) == 0,
                factors: if effect == "require" { [vec!["key"], vec!["key", "code"]][chance.below(2)].clone() } else { vec![] },
            }
        })
        .collect()
}

/// The rules as a document, with guardrails.
pub fn text(rules: &[Rule]) -> String {
    let mut text = String::from(
        "zone = \"Atlantic/Canary\"\n[hours]\nnight = [\"daily 18:00-07:30\"]\ndesk = { spans = [\"mon-fri 08:00-18:00\"], except = [\"2026-12-24..2027-01-06\"] }\n",
    );
    for (i, r) in rules.iter().enumerate() {
        let mut place: Vec<String> = r.site.iter().map(|s| format!("site={s}")).collect();
        place.extend(r.label.iter().map(|l| format!("label:{l}")));
        place.extend(r.tier.map(|t| format!("tier={t}")));
        place.push("!label:retired".into());
        let people = match (&r.group, r.outside) {
            (Some(g), _) => format!("group:{g}"),
            (None, true) => "organisation:Brightcoat".into(),
            (None, false) => "*".into(),
        };
        let _ = write!(text, "[[{}]]\nname = \"r{i}\"\npeople = \"{people}\"\nmachines = \"{}\"\n", r.effect, place.join(" & "));
        if !r.capabilities.is_empty() {
            let _ = writeln!(text, "capabilities = {:?}\naccounts = [\"operator\"]", r.capabilities);
        }
        if let Some(h) = r.hours {
            let _ = writeln!(text, "hours = \"{h}\"");
        }
        if r.from {
            text += "from = [\"10.0.0.0/8\", \"!10.9.0.0/16\"]\n";
        }
        if !r.factors.is_empty() {
            let _ = writeln!(text, "factors = {:?}", r.factors);
        }
    }
    for (i, kind) in ["crane", "laser"].iter().enumerate() {
        let _ = write!(text, "[[never]]\nname = \"g{i}\"\npeople = \"organisation:Brightcoat\"\nmachines = \"label:{kind} & label:retired\"\n");
    }
    text += "[[never]]\nname = \"g9\"\nmachines = \"label:retired\"\ncapabilities = [\"shell\", \"control\"]\n";
    text
}
