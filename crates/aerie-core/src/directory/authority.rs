use super::{Directory, Person, Role, Scope};
use crate::wording::list;

macro_rules! acts {
    ($($(#[$doc:meta])* $act:ident $word:literal: [$($role:ident)*];)*) => {
        /// What somebody may do in Aerie itself, and which roles may.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
        pub enum Act { $($(#[$doc])* $act,)* }

        impl Act {
            /// Every act.
            pub const ALL: &[Act] = &[$(Self::$act,)*];

            /// Its stable word.
            pub fn word(self) -> &'static str {
                match self { $(Self::$act => $word,)* }
            }

            /// The roles that may; within their scope, where they have one.
            pub fn roles(self) -> &'static [Role] {
                match self { $(Self::$act => &[$(Role::$role,)*],)* }
            }
        }
    };
}

acts! {
    /// Read sessions, recordings, findings and the log.
    ReadEverything "read-everything": [Administrator Auditor];
    /// Read people, machines, and who reaches what.
    ReadDirectory "read-directory": [Administrator Auditor PolicyAuthor Approver];
    /// Read rules, drafts, and what they would have done.
    ReadRules "read-rules": [Administrator Auditor PolicyAuthor];
    /// Write drafts, and agree to those of others.
    WriteRules "write-rules": [Administrator PolicyAuthor];
    /// Publish rules on one's own account.
    PublishRules "publish-rules": [Administrator];
    /// Create, change, suspend and remove people, and reset how they sign in.
    ManagePeople "manage-people": [Administrator];
    /// Take in directories, machines and groups.
    ManageDirectory "manage-directory": [Administrator];
    /// Change settings and keys of the service.
    ManageService "manage-service": [Administrator];
    /// End sessions of others.
    EndSessions "end-sessions": [Administrator];
    /// Begin and close reviews.
    ManageReviews "manage-reviews": [Administrator];
    /// Decide on permissions under review.
    DecideReviews "decide-reviews": [Administrator Approver];
    /// Hold logs against the rules, and have the log signed.
    Audit "audit": [Administrator];
    /// Issue one-time PINs.
    IssuePins "issue-pins": [Administrator Technician];
    /// Register, change and retire machines, issue enrolment codes, revoke agents, look after credentials, and give a machine
    /// its standing PIN.
    ManageMachines "manage-machines": [Administrator];
}

/// How far somebody may.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[must_use]
pub enum Authority<'a> {
    /// Not at all.
    None,
    /// For these people and machines.
    Within(&'a Scope),
    /// For all.
    Everywhere,
}

impl Person {
    /// How far this person may do something. A role without scope counts for all; of several with a scope the first in the
    /// order of [`Act::roles`] counts.
    pub fn authority(&self, act: Act) -> Authority<'_> {
        let mut held = act.roles().iter().filter(|r| self.roles.contains(r)).map(|r| self.scopes.get(r)).peekable();
        let Some(first) = held.peek().copied() else { return Authority::None };
        match held.find(Option::is_none) {
            Some(_) => Authority::Everywhere,
            None => first.map_or(Authority::None, Authority::Within),
        }
    }

    /// Whether this person may do something everywhere.
    pub fn may_everywhere(&self, act: Act) -> bool {
        self.authority(act) == Authority::Everywhere
    }
}

/// What somebody would have more of after a change. Nobody may bring that about for themselves.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{}", self.sentence())]
pub struct Raised {
    /// Each as a phrase: `the role approver`, `the group night-operators`.
    pub what: Vec<String>,
}

impl Raised {
    fn sentence(&self) -> String {
        format!("nobody raises their own rights, and this would give you {}: somebody else must do it", list(&self.what))
    }
}

/// Whether a person has more after a change of the directory than before: roles, wider scopes, groups by whatever way, a longer
/// or restored account, another organisation.
///
/// # Errors
/// Says what they would gain.
pub fn raised(before: &Directory, after: &Directory, person: &str) -> Result<(), Raised> {
    let (Some(old), Some(new)) = (before.person(person), after.person(person)) else { return Ok(()) };
    let mut what: Vec<String> = new.roles.difference(&old.roles).map(|r| format!("the role {}", r.word())).collect();
    // Which of two selectors is wider cannot be told in general: any other scope counts, and its loss most of all.
    let widened = old.scopes.iter().filter(|(role, scope)| new.roles.contains(role) && new.scopes.get(role) != Some(scope));
    what.extend(widened.map(|(role, _)| format!("another scope of the role {}", role.word())));
    let known = before.groups_of(person);
    what.extend(after.groups_of(person).into_iter().filter(|g| !known.contains(g)).map(|g| format!("the group {g}")));
    if new.organisation != old.organisation {
        what.push("another organisation".into());
    }
    if old.suspended && !new.suspended {
        what.push("your account back".into());
    }
    let longer = |old: Option<jiff::civil::Date>, new| old.is_some_and(|o| new != Some(o));
    if longer(old.valid_until, new.valid_until) || longer(old.valid_from, new.valid_from) {
        what.push("other dates of your account".into());
    }
    if what.is_empty() { Ok(()) } else { Err(Raised { what }) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::{Value, json};

    fn person(more: Value) -> Person {
        let mut all = json!({ "name": "ines" });
        all.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        serde_json::from_value(all).unwrap()
    }

    fn directory(more: Value, groups: Value) -> Directory {
        Directory::with_groups(vec![person(more)], vec![], serde_json::from_value(groups).unwrap())
    }

    #[test]
    fn a_scope_limits_a_role_and_another_role_without_one_lifts_it() {
        let scope = json!({ "administrator": { "machines": "site=ridge" } });
        let scoped = person(json!({ "roles": ["administrator"], "scopes": scope }));
        assert!(matches!(scoped.authority(Act::ReadEverything), Authority::Within(s) if s.machines == "site=ridge"));
        assert!(!scoped.may_everywhere(Act::ManagePeople));
        let both = person(json!({ "roles": ["administrator", "auditor"], "scopes": scope }));
        assert_eq!(both.authority(Act::ReadEverything), Authority::Everywhere);
        assert!(matches!(both.authority(Act::ManagePeople), Authority::Within(_)));
        assert_eq!(person(json!({})).authority(Act::IssuePins), Authority::None);
    }

    #[test]
    fn auditors_change_nothing_and_technicians_read_nothing_of_others() {
        let changing = Act::ALL.iter().filter(|a| !matches!(a, Act::ReadEverything | Act::ReadDirectory | Act::ReadRules));
        for act in changing {
            assert!(!act.roles().contains(&Role::Auditor), "{act:?}");
        }
        for act in Act::ALL {
            assert!(*act == Act::IssuePins || !act.roles().contains(&Role::Technician), "{act:?}");
            assert!(act.roles().contains(&Role::Administrator), "{act:?}");
        }
    }

    #[test]
    fn whatever_somebody_gains_is_told_and_losing_is_no_gain() {
        let none = json!([]);
        let base = json!({ "groups": ["day"], "roles": ["administrator"], "organisation": "ridge", "valid_until": "2026-12-31",
                           "scopes": { "administrator": { "machines": "site=ridge" } } });
        let before = directory(base.clone(), none.clone());
        let with = |key: &str, value: Value| {
            let mut all = base.clone();
            all[key] = value;
            all
        };
        let gains = [
            ("roles", json!(["administrator", "approver"]), "the role approver"),
            ("scopes", json!({}), "another scope of the role administrator"),
            ("groups", json!(["day", "night"]), "the group night"),
            ("organisation", json!("valley"), "another organisation"),
            ("valid_until", json!(null), "other dates of your account"),
        ];
        for (key, value, said) in gains {
            assert_eq!(raised(&before, &directory(with(key, value), none.clone()), "ines").unwrap_err().what, [said]);
        }
        for (key, value) in [("roles", json!([])), ("groups", json!([])), ("suspended", json!(true)), ("full_name", json!("Ines"))] {
            assert_eq!(raised(&before, &directory(with(key, value), none.clone()), "ines"), Ok(()), "{key}");
        }
        // A group that begins to hold one's own is gained as well.
        let nested = json!([{ "of": "people", "name": "trusted", "groups": ["day"] }]);
        assert_eq!(raised(&before, &directory(base.clone(), nested), "ines").unwrap_err().what, ["the group trusted"]);
        assert_eq!(raised(&before, &directory(base, none), "somebody"), Ok(()));
    }

    #[test]
    fn a_key_of_two_people_is_nobodys() {
        let with_key = |name: &str| person(json!({ "name": name, "keys": [{ "fingerprint": "SHA256:same" }] }));
        let both = Directory::new(vec![with_key("ines"), with_key("noor")], vec![]);
        assert!(both.owner_of_key("SHA256:same").is_none());
        assert_eq!(both.shared_keys(), [("SHA256:same", vec!["ines", "noor"])]);
        assert_eq!(Directory::new(vec![with_key("ines")], vec![]).owner_of_key("SHA256:same").map(|p| p.name.as_str()), Some("ines"));
    }
}
