//! Changes one rule of a document and leaves everything else as it was written: comments, order, blank lines.

use super::document::Effect;
use serde_json::Value as Json;
use std::collections::BTreeMap;
use toml_edit::{Array, ArrayOfTables, DocumentMut, InlineTable, Item, Table, Value};

/// Why a document was not changed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum EditError {
    /// It is not TOML.
    #[error("the document cannot be read: {0}")]
    Syntax(String),
    /// There is no such rule.
    #[error("there is no rule `{0}`")]
    NoSuchRule(String),
    /// There is one already.
    #[error("there is a rule `{0}` already")]
    NameTaken(String),
    /// A value has no form in the document.
    #[error("the value of `{0}` has no form in the document")]
    Value(String),
}

/// Keys in the order in which a new rule is written.
const ORDER: [&str; 24] = [
    "name",
    "note",
    "people",
    "machines",
    "capabilities",
    "accounts",
    "targets",
    "hours",
    "from",
    "first_day",
    "last_day",
    "factors",
    "assurance",
    "consent",
    "approval",
    "ticket",
    "reason",
    "device",
    "posture",
    "recording",
    "lock",
    "limits",
    "emergency",
    "unless",
];

fn parse(text: &str) -> Result<DocumentMut, EditError> {
    text.parse().map_err(|e: toml_edit::TomlError| EditError::Syntax(e.message().trim().to_string()))
}

fn tables<'d>(document: &'d mut DocumentMut, word: &str) -> Option<&'d mut ArrayOfTables> {
    document.get_mut(word)?.as_array_of_tables_mut()
}

/// Where the rule of that name stands: effect and place among its kind.
fn find(document: &mut DocumentMut, name: &str) -> Option<(Effect, usize)> {
    Effect::ALL.into_iter().find_map(|effect| {
        let at = tables(document, effect.word())?.iter().position(|t| t.get("name").and_then(Item::as_str) == Some(name))?;
        Some((effect, at))
    })
}

/// Adds a rule at the end of its kind.
///
/// # Errors
/// When the name is taken or a value cannot be written.
pub fn add_rule(text: &str, effect: Effect, fields: &BTreeMap<String, Json>) -> Result<String, EditError> {
    let mut document = parse(text)?;
    let name = fields.get("name").and_then(Json::as_str).unwrap_or_default();
    if find(&mut document, name).is_some() {
        return Err(EditError::NameTaken(name.into()));
    }
    let mut table = Table::new();
    let rank = |k: &&String| ORDER.iter().position(|o| *o == k.as_str()).unwrap_or(ORDER.len());
    let mut keys: Vec<&String> = fields.keys().collect();
    keys.sort_by_key(rank);
    for key in keys {
        if let Some(value) = fields.get(key).filter(|v| !v.is_null()) {
            table.insert(key, Item::Value(written(key, value)?));
        }
    }
    if !text.is_empty() {
        table.decor_mut().set_prefix("\n");
    }
    let list = document.entry(effect.word()).or_insert_with(|| Item::ArrayOfTables(ArrayOfTables::new()));
    list.as_array_of_tables_mut().ok_or_else(|| EditError::Value(effect.word().into()))?.push(table);
    Ok(document.to_string())
}

/// Changes the fields that are given of the rule of that name; a null removes one.
///
/// # Errors
/// When there is no such rule, a new name is taken, or a value cannot be written.
pub fn change_rule(text: &str, name: &str, fields: &BTreeMap<String, Json>) -> Result<String, EditError> {
    let mut document = parse(text)?;
    let missing = || EditError::NoSuchRule(name.into());
    let (effect, at) = find(&mut document, name).ok_or_else(missing)?;
    if let Some(new) = fields.get("name").and_then(Json::as_str).filter(|n| *n != name)
        && find(&mut document, new).is_some()
    {
        return Err(EditError::NameTaken(new.into()));
    }
    let table = tables(&mut document, effect.word()).and_then(|t| t.get_mut(at)).ok_or_else(missing)?;
    for (key, value) in fields {
        if value.is_null() {
            table.remove(key);
            continue;
        }
        let mut new = written(key, value)?;
        match table.get_mut(key) {
            Some(Item::Value(old)) => {
                if plain(old) == plain(&new) {
                    continue;
                }
                // The comment behind a value belongs to the line, and stays.
                *new.decor_mut() = old.decor().clone();
                *old = new;
            }
            Some(_) | None => drop(table.insert(key, Item::Value(new))),
        }
    }
    Ok(document.to_string())
}

/// Removes the rule of that name. Comments that a blank line parts from it stay.
///
/// # Errors
/// When there is no such rule.
pub fn remove_rule(text: &str, name: &str) -> Result<String, EditError> {
    let mut document = parse(text)?;
    let missing = || EditError::NoSuchRule(name.into());
    let (effect, at) = find(&mut document, name).ok_or_else(missing)?;
    let list = tables(&mut document, effect.word()).ok_or_else(missing)?;
    let table = list.get(at).ok_or_else(missing)?;
    let (position, prefix) = (table.position(), table.decor().prefix().and_then(|p| p.as_str()).unwrap_or("").to_string());
    list.remove(at);
    let empty = list.is_empty();
    if empty {
        document.remove(effect.word());
    }
    if let Some((kept, _)) = prefix.rsplit_once("\n\n").filter(|(k, _)| !k.trim().is_empty()) {
        keep(&mut document, position, &format!("{kept}\n"));
    }
    Ok(document.to_string())
}

/// Fields of a rule: key and value.
pub type Fields = BTreeMap<String, Json>;

/// The fields of every rule as they are written, by name.
///
/// # Errors
/// When the document is not TOML.
pub fn rule_fields(text: &str) -> Result<BTreeMap<String, Fields>, EditError> {
    let mut document = parse(text)?;
    let mut all = BTreeMap::new();
    for effect in Effect::ALL {
        for table in tables(&mut document, effect.word()).into_iter().flat_map(|t| t.iter()) {
            let fields: Fields = table.iter().map(|(k, v)| (k.to_string(), json_of(v))).collect();
            if let Some(name) = fields.get("name").and_then(Json::as_str) {
                all.insert(name.to_string(), fields.clone());
            }
        }
    }
    Ok(all)
}

/// The text of one rule alone, with the comments right above it.
pub fn rule_text(text: &str, name: &str) -> Option<String> {
    let mut document = parse(text).ok()?;
    let (effect, at) = find(&mut document, name)?;
    let table = tables(&mut document, effect.word())?.get(at)?.clone();
    let mut alone = DocumentMut::new();
    let mut list = ArrayOfTables::new();
    list.push(table);
    alone.insert(effect.word(), Item::ArrayOfTables(list));
    let shown = alone.to_string();
    Some(shown.rsplit("\n\n").next().unwrap_or(&shown).trim().to_string() + "\n")
}

fn json_of(item: &Item) -> Json {
    match item {
        Item::Value(value) => json_of_value(value),
        Item::Table(table) => Json::Object(table.iter().map(|(k, v)| (k.to_string(), json_of(v))).collect()),
        Item::ArrayOfTables(list) => {
            let table = |t: &Table| Json::Object(t.iter().map(|(k, v)| (k.to_string(), json_of(v))).collect());
            Json::Array(list.iter().map(table).collect())
        }
        Item::None => Json::Null,
    }
}

fn json_of_value(value: &Value) -> Json {
    match value {
        Value::String(s) => s.value().as_str().into(),
        Value::Integer(n) => (*n.value()).into(),
        Value::Float(n) => (*n.value()).into(),
        Value::Boolean(b) => (*b.value()).into(),
        Value::Datetime(d) => d.value().to_string().into(),
        Value::Array(list) => Json::Array(list.iter().map(json_of_value).collect()),
        Value::InlineTable(table) => Json::Object(table.iter().map(|(k, v)| (k.to_string(), json_of_value(v))).collect()),
    }
}

/// Puts comments before the table that follows a position, or at the end of the document.
fn keep(document: &mut DocumentMut, position: Option<isize>, comments: &str) {
    let mut next: Option<(isize, Effect, usize)> = None;
    for effect in Effect::ALL {
        for (at, table) in tables(document, effect.word()).into_iter().flat_map(|t| t.iter().enumerate().collect::<Vec<_>>()) {
            if let Some(p) = table.position().filter(|p| Some(*p) > position)
                && next.as_ref().is_none_or(|n| p < n.0)
            {
                next = Some((p, effect, at));
            }
        }
    }
    match next.and_then(|(_, effect, at)| tables(document, effect.word())?.get_mut(at)) {
        Some(table) => {
            let own = table.decor().prefix().and_then(|p| p.as_str()).unwrap_or("").to_string();
            table.decor_mut().set_prefix(format!("{comments}{own}"));
        }
        None => {
            let own = document.trailing().as_str().unwrap_or("").to_string();
            document.set_trailing(format!("{comments}{own}"));
        }
    }
}

/// A value without its surroundings, for comparing.
fn plain(value: &Value) -> String {
    let mut bare = value.clone();
    bare.decor_mut().clear();
    if let Value::Array(list) = &mut bare {
        list.iter_mut().for_each(|v| v.decor_mut().clear());
        list.set_trailing("");
        list.set_trailing_comma(false);
    }
    bare.to_string().replace(", ", ",")
}

fn written(key: &str, value: &Json) -> Result<Value, EditError> {
    let wrong = || EditError::Value(key.into());
    Ok(match value {
        Json::String(text) if key == "first_day" || key == "last_day" => {
            let date: toml_edit::Datetime = text.parse().map_err(|_| wrong())?;
            date.into()
        }
        Json::String(text) => text.as_str().into(),
        Json::Bool(b) => (*b).into(),
        Json::Number(n) => n.as_i64().ok_or_else(wrong)?.into(),
        Json::Array(items) => {
            let mut list = Array::new();
            for item in items {
                list.push(written("", item)?);
            }
            list.into()
        }
        Json::Object(fields) => {
            let mut table = InlineTable::new();
            for (k, v) in fields.iter().filter(|(_, v)| !v.is_null()) {
                table.insert(k, written("", v)?);
            }
            table.into()
        }
        Json::Null => return Err(wrong()),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    const TEXT: &str = r#"# Head of the document.
zone = "UTC"   # why UTC

# ---- domes ----

# The night shift.
[[allow]]
name = "night-dome"   # cited often
people = "group:night"        # the shift
machines = "label:dome"
capabilities = [
  "shell",   # to look
  "exec",
]
accounts = ["operator"]

# ---- the rest ----

[[forbid]]
name = "no-retired"
machines = "label:retired"
# The end.
"#;

    fn fields(json: Json) -> BTreeMap<String, Json> {
        serde_json::from_value(json).unwrap()
    }

    #[test]
    fn a_change_touches_its_own_line_alone() {
        let changed =
            change_rule(TEXT, "night-dome", &fields(json!({ "people": "group:day", "capabilities": ["shell", "exec"] }))).unwrap();
        assert_eq!(changed, TEXT.replace("\"group:night\"        # the shift", "\"group:day\"        # the shift"));
        let added = change_rule(TEXT, "night-dome", &fields(json!({ "last_day": "2026-12-31", "limits": { "session": "4h" } }))).unwrap();
        assert_eq!(
            added,
            TEXT.replace(
                "accounts = [\"operator\"]\n",
                "accounts = [\"operator\"]\nlast_day = 2026-12-31\nlimits = { session = \"4h\" }\n"
            )
        );
        assert_eq!(change_rule(&added, "night-dome", &fields(json!({ "last_day": null, "limits": null }))).unwrap(), TEXT);
    }

    #[test]
    fn a_new_rule_is_written_in_the_usual_order() {
        let rule = fields(json!({ "machines": "*", "name": "key", "factors": ["key"], "recording": true, "note": null }));
        let added = add_rule(TEXT, Effect::Require, &rule).unwrap();
        assert_eq!(
            added,
            TEXT.replace(
                "# The end.\n",
                "\n[[require]]\nname = \"key\"\nmachines = \"*\"\nfactors = [\"key\"]\nrecording = true\n# The end.\n"
            )
        );
        assert_eq!(add_rule(&added, Effect::Allow, &rule), Err(EditError::NameTaken("key".into())));
        assert_eq!(
            add_rule("", Effect::Require, &rule).unwrap(),
            "[[require]]\nname = \"key\"\nmachines = \"*\"\nfactors = [\"key\"]\nrecording = true\n"
        );
    }

    #[test]
    fn removing_a_rule_keeps_the_comments_that_are_not_its_own() {
        let removed = remove_rule(TEXT, "night-dome").unwrap();
        for kept in ["# Head of the document.", "# why UTC", "# ---- domes ----", "# ---- the rest ----", "# The end."] {
            assert!(removed.contains(kept), "{kept}:\n{removed}");
        }
        assert!(!removed.contains("night-dome") && !removed.contains("# The night shift."), "{removed}");
        let removed = remove_rule(TEXT, "no-retired").unwrap();
        assert!(removed.contains("# ---- the rest ----") && removed.contains("# The end.") && !removed.contains("[[forbid]]"), "{removed}");
        assert_eq!(remove_rule(TEXT, "nothing"), Err(EditError::NoSuchRule("nothing".into())));
    }

    #[test]
    fn fields_and_text_of_a_rule_can_be_taken_out() {
        let fields = &rule_fields(TEXT).unwrap()["night-dome"];
        assert_eq!((fields["people"].clone(), fields["capabilities"].clone()), (json!("group:night"), json!(["shell", "exec"])));
        let alone = rule_text(TEXT, "night-dome").unwrap();
        assert!(alone.starts_with("# The night shift.\n[[allow]]\n") && alone.ends_with("accounts = [\"operator\"]\n"), "{alone}");
        assert_eq!(rule_text(TEXT, "nothing"), None);
    }

    #[test]
    fn an_edited_document_still_reads() {
        let changed =
            change_rule(TEXT, "night-dome", &fields(json!({ "approval": { "from": "group:owners", "count": 2 }, "name": "dome" })))
                .unwrap();
        let read = crate::policy::read(&changed).unwrap();
        assert_eq!((read.rules.len(), read.approvals[0].count, &*read.rules[0].name), (2, 2, "dome"));
    }
}
