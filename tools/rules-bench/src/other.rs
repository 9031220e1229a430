//! The same question put to a general-purpose policy engine, translated as faithfully as it allows: people and machines become
//! entities with their groups as parents and their labels as attributes; hours become two facts of the context, which are worked
//! out beforehand and not counted; `require` becomes a `forbid` unless the factors are in the context.

use crate::world::Rule;
use aerie_core::directory::Directory;
use cedar_policy::{Authorizer, Context, Decision, Entities, EntityUid, PolicySet, Request};
use serde_json::{Value, json};
use std::fmt::Write as _;
use std::str::FromStr as _;

pub struct Other {
    authorizer: Authorizer,
    policies: PolicySet,
}

pub fn text(rules: &[Rule]) -> String {
    let mut text = String::new();
    for r in rules {
        let principal = match (&r.group, r.outside) {
            (Some(g), _) => format!("principal in Group::\"{g}\""),
            (None, _) => "principal".into(),
        };
        let actions: Vec<String> = r.capabilities.iter().map(|c| format!("Action::\"{c}\"")).collect();
        let action = if actions.is_empty() { "action".into() } else { format!("action in [{}]", actions.join(", ")) };
        let mut conditions: Vec<String> = r.site.iter().map(|s| format!("resource.site == \"{s}\"")).collect();
        conditions.extend(r.label.iter().map(|l| format!("resource.labels.contains(\"{l}\")")));
        conditions.extend(r.tier.map(|t| format!("resource.tier == {t}")));
        conditions.push("!resource.labels.contains(\"retired\")".into());
        conditions.extend(r.outside.then(|| "principal.organisation == \"Brightcoat\"".to_string()));
        conditions.extend(r.hours.map(|h| format!("context.{h}")));
        conditions.extend(r.from.then(|| "context.from.isInRange(ip(\"10.0.0.0/8\")) && !context.from.isInRange(ip(\"10.9.0.0/16\"))".to_string()));
        let unless: Vec<String> = r.factors.iter().map(|f| format!("context.factors.contains(\"{f}\")")).collect();
        let kind = if r.effect == "allow" { "permit" } else { "forbid" };
        let _ = write!(text, "{kind} ({principal}, {action}, resource) when {{ {} }}", conditions.join(" && "));
        if !unless.is_empty() {
            let _ = write!(text, " unless {{ {} }}", unless.join(" && "));
        }
        text += ";\n";
    }
    text
}

impl Other {
    pub fn new(rules: &[Rule]) -> Self {
        Self { authorizer: Authorizer::new(), policies: PolicySet::from_str(&text(rules)).expect("policies") }
    }

    /// The two entities of a question, with their groups: only they, so that the engine need not look through all.
    pub fn entities(&self, directory: &Directory, person: &str, machine: &str) -> Entities {
        let (p, m) = (directory.person(person).expect("a person"), directory.machine(machine).expect("a machine"));
        let parents: Vec<Value> = p.groups.iter().map(|g| json!({ "type": "Group", "id": g })).collect();
        let mut all: Vec<Value> = p.groups.iter().map(|g| json!({ "uid": { "type": "Group", "id": g }, "attrs": {}, "parents": [] })).collect();
        all.push(json!({ "uid": { "type": "Person", "id": person }, "attrs": { "organisation": p.organisation }, "parents": parents }));
        let tier: i64 = m.labels.iter().find_map(|l| l.strip_prefix("tier=")?.parse().ok()).unwrap_or(0);
        let labels: Vec<&String> = m.labels.iter().collect();
        all.push(json!({ "uid": { "type": "Machine", "id": machine }, "attrs": { "site": m.site, "labels": labels, "tier": tier }, "parents": [] }));
        Entities::from_json_value(Value::Array(all), None).expect("entities")
    }

    pub fn request(&self, person: &str, action: &str, machine: &str, night: bool, desk: bool, from: &str) -> Request {
        let uid = |kind: &str, id: &str| EntityUid::from_str(&format!("{kind}::\"{id}\"")).expect("a name");
        let context = json!({ "night": night, "desk": desk, "factors": ["key", "code"], "from": { "__extn": { "fn": "ip", "arg": from } } });
        let context = Context::from_json_value(context, None).expect("a context");
        Request::new(uid("Person", person), uid("Action", action), uid("Machine", machine), context, None).expect("a request")
    }

    pub fn allows(&self, request: &Request, entities: &Entities) -> bool {
        self.authorizer.is_authorized(request, &self.policies, entities).decision() == Decision::Allow
    }
}
