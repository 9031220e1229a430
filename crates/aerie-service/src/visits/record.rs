//! What is told to others of a visit when it is closed.

use crate::service::App;
use aerie_core::settings::Setting;
use aerie_core::visit::{RemarkKind, Visit};
use serde_json::{Map, Value, json};

/// The record of a visit, with the fields that the settings name.
pub(crate) fn record(app: &App, visit: &Visit) -> Value {
    let fields: Vec<String> = app.settings().text(Setting::TicketFields).split_whitespace().map(Into::into).collect();
    fields_of(visit, |word| fields.iter().any(|f| f == word))
}

fn fields_of(visit: &Visit, wanted: impl Fn(&str) -> bool) -> Value {
    let remarks = |kind: RemarkKind| -> Vec<Value> {
        let all = visit.remarks.iter().filter(|r| r.kind == kind);
        all.map(|r| json!({ "at": r.at, "who": r.who, "text": r.text })).collect()
    };
    let closed = visit.closed.as_ref();
    let mut record = Map::new();
    let mut put = |key: &str, value: Value| drop(record.insert(key.into(), value));
    put("kind", json!("visit-record"));
    put("visit", json!(visit.id));
    put("ticket", json!(visit.request.ticket));
    put("queue", json!(visit.request.queue));
    put("state", json!(visit.state.word()));
    if wanted("times") {
        let times = json!({
            "made": visit.made, "arrived": visit.arrived, "began": visit.began, "ended": visit.ended, "closed": closed.map(|c| c.at),
        });
        put("times", times);
    }
    if wanted("participants") {
        put("person", json!({ "name": visit.request.person, "mail": visit.request.mail }));
        put("helpers", json!(visit.helpers));
        put("closed_by", json!(closed.map(|c| &c.by)));
    }
    if wanted("outcome") {
        put("outcome", json!(closed.map(|c| c.outcome.word())));
    }
    if wanted("notes") {
        put("closing_notes", json!(closed.map(|c| &c.notes)));
        put("notes", json!(remarks(RemarkKind::Note)));
    }
    if wanted("consents") {
        put("consents", json!(remarks(RemarkKind::Consent)));
    }
    if wanted("device") {
        put("device", json!(visit.device));
    }
    if wanted("pictures") {
        put("pictures", json!(visit.pictures));
    }
    if wanted("files") {
        put("files", json!(visit.files));
    }
    if wanted("sessions") {
        put("sessions", json!(visit.sessions));
    }
    if wanted("chat") {
        put("chat", json!(remarks(RemarkKind::Chat)));
    }
    Value::Object(record)
}

#[cfg(test)]
mod tests {
    use super::*;
    use aerie_core::visit::{VisitRequest, VisitTimes};
    use jiff::{SignedDuration, Timestamp};

    #[test]
    fn what_is_said_stays_here_unless_the_settings_name_it() {
        let hour = SignedDuration::from_hours(1);
        let times = VisitTimes { pin: hour, queue: hour, close: hour };
        let request = VisitRequest { ticket: "OBS-1".into(), person: "Rhea".into(), ..VisitRequest::default() };
        let mut visit = Visit::new("v".into(), request, "mira", &times, Timestamp::UNIX_EPOCH);
        visit.remark(Timestamp::UNIX_EPOCH, RemarkKind::Chat, "", "my password is …");
        visit.remark(Timestamp::UNIX_EPOCH, RemarkKind::Note, "mira", "cable");
        let usual = Setting::TicketFields.default();
        let record = fields_of(&visit, |w| usual.split(' ').any(|f| f == w));
        assert!(!record.to_string().contains("password") && record["notes"][0]["text"] == "cable", "{record}");
        assert!(fields_of(&visit, |w| w == "chat").to_string().contains("password"));
        assert_eq!(fields_of(&visit, |_| false)["ticket"], "OBS-1");
    }
}
