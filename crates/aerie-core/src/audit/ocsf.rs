//! Access records and findings as events of the Open Cybersecurity Schema Framework, version 1.3: Authentication (class 3002) and Detection
//! Finding (class 2004).

use super::case::{Case, CaseState};
use super::finding::{Finding, Importance};
use super::record::{AccessRecord, Service};
use serde_json::{Map, Value, json};

/// Version of the schema.
const VERSION: &str = "1.3.0";
const AUTHENTICATION: u32 = 3002;
const DETECTION_FINDING: u32 = 2004;

fn metadata(uid: &str) -> Value {
    json!({ "version": VERSION, "uid": uid, "product": { "name": "Aerie", "vendor_name": "Aerie", "version": env!("CARGO_PKG_VERSION") } })
}

/// Drops what is not known: an empty text says nothing.
fn known(mut map: Map<String, Value>) -> Value {
    map.retain(|_, v| {
        !(v.is_null() || v.as_str() == Some("") || v.as_object().is_some_and(Map::is_empty) || v.as_array().is_some_and(Vec::is_empty))
    });
    Value::Object(map)
}

fn object(value: Value) -> Value {
    match value {
        Value::Object(map) => known(map),
        other => other,
    }
}

/// An access: a logon and, where its end is known, a logoff.
pub fn authentication(r: &AccessRecord) -> Vec<Value> {
    let event = |activity: u32, name: &str, at: jiff::Timestamp| {
        let protocol = match r.service {
            Service::Ssh => "SSH",
            Service::Vnc => "RFB",
            Service::Rdp => "RDP",
            Service::Windows | Service::Login | Service::Other => "",
        };
        object(json!({
            "category_uid": 3,
            "category_name": "Identity & Access Management",
            "class_uid": AUTHENTICATION,
            "class_name": "Authentication",
            "activity_id": activity,
            "activity_name": name,
            "type_uid": AUTHENTICATION * 100 + activity,
            "severity_id": 1,
            "status_id": 1,
            "status": "Success",
            "time": at.as_millisecond(),
            "metadata": metadata(&format!("{}-{activity}", r.id)),
            "is_remote": true,
            "auth_protocol_id": 99,
            "auth_protocol": r.method,
            "user": object(json!({ "name": r.account, "full_name": r.person })),
            "actor": object(json!({ "user": object(json!({ "name": r.person })) })),
            "src_endpoint": object(json!({ "ip": r.source, "port": (r.port != 0).then_some(r.port) })),
            "dst_endpoint": { "hostname": r.machine },
            "service": { "name": r.service.word() },
            "session": object(json!({ "uid": r.session, "created_time": r.begin.as_millisecond() })),
            "unmapped": object(json!({
                "protocol": protocol,
                "key": r.key,
                "through_aerie": r.session.is_some(),
                "lines": r.lines.iter().map(|l| json!({ "file": l.file, "number": l.number, "sha256": l.digest })).collect::<Vec<_>>(),
            })),
        }))
    };
    let end = r.end.map(|end| event(2, "Logoff", end));
    std::iter::once(event(1, "Logon", r.begin)).chain(end).collect()
}

/// A finding, as it stands.
pub fn detection_finding(f: &Finding, case: &Case) -> Value {
    let (severity_id, severity) = match f.importance {
        Importance::Low => (2, "Low"),
        Importance::Medium => (3, "Medium"),
        Importance::High => (4, "High"),
        Importance::Critical => (5, "Critical"),
    };
    let (status_id, status, activity) = match case.state {
        CaseState::Open => (1, "New", 1),
        CaseState::Acknowledged | CaseState::InWork => (2, "In Progress", 2),
        CaseState::Accepted => (3, "Suppressed", 2),
        CaseState::Resolved => (4, "Resolved", 3),
    };
    let attacks: Vec<Value> = f.techniques().iter().map(|t| json!({ "technique": { "uid": t }, "version": "15.1" })).collect();
    let evidences: Vec<Value> = f
        .lines
        .iter()
        .map(|l| json!({ "data": { "file": l.file, "number": l.number, "offset": l.offset, "text": l.text, "sha256": l.digest } }))
        .collect();
    object(json!({
        "category_uid": 2,
        "category_name": "Findings",
        "class_uid": DETECTION_FINDING,
        "class_name": "Detection Finding",
        "activity_id": activity,
        "type_uid": DETECTION_FINDING * 100 + activity,
        "severity_id": severity_id,
        "severity": severity,
        "status_id": status_id,
        "status": status,
        "time": f.last.as_millisecond(),
        "count": f.count,
        "message": f.sentence,
        "metadata": metadata(&f.id),
        "finding_info": object(json!({
            "uid": f.id,
            "title": f.word(),
            "desc": f.sentence,
            "types": [f.word()],
            "first_seen_time": f.first.as_millisecond(),
            "last_seen_time": f.last.as_millisecond(),
            "attacks": attacks,
        })),
        "remediation": { "desc": f.mend },
        "device": object(json!({ "hostname": f.machine, "type_id": 0 })),
        "evidences": evidences,
        "unmapped": object(json!({
            "account": f.account,
            "person": f.person,
            "source": f.source,
            "session": f.session,
            "owner": case.owner,
            "controls": f.controls(),
            "detections": f.detection.as_ref().map(|d| d.version.clone()),
        })),
    }))
}

#[cfg(test)]
mod tests {
    use super::super::finding::FindingKind;
    use super::*;

    #[test]
    fn an_access_is_a_logon_and_a_logoff_with_the_fields_that_the_class_requires() {
        let at = |s: &str| s.parse().unwrap();
        let record = AccessRecord {
            id: "ab12".into(),
            service: Service::Ssh,
            machine: "dome-east".into(),
            account: "operator".into(),
            person: Some("ines".into()),
            source: "10.20.4.7".into(),
            port: 0,
            method: "publickey".into(),
            key: None,
            algorithm: String::new(),
            certificate: None,
            uses: String::new(),
            begin: at("2026-11-23T08:20:50Z"),
            end: Some(at("2026-11-23T09:20:50Z")),
            session: None,
            explained: false,
            lines: vec![],
        };
        let events = authentication(&record);
        let types: Vec<_> = events.iter().map(|e| (e["type_uid"].as_u64(), e["time"].as_i64())).collect();
        assert_eq!(types, [(Some(300_201), Some(1_795_422_050_000)), (Some(300_202), Some(1_795_425_650_000))]);
        for e in &events {
            for required in ["activity_id", "category_uid", "class_uid", "metadata", "severity_id", "time", "type_uid", "user"] {
                assert!(e.get(required).is_some(), "{required}");
            }
            assert!(e["src_endpoint"].get("port").is_none() && e["unmapped"].get("key").is_none());
        }
        assert_eq!(authentication(&AccessRecord { end: None, ..record }).len(), 1);
    }

    #[test]
    fn a_finding_says_how_far_it_is_and_which_techniques_it_is_about() {
        let finding = Finding::seen(
            FindingKind::AroundGateway,
            "x",
            "dome-east",
            "operator",
            "It happened.".into(),
            "2026-11-23T08:20:50Z".parse().unwrap(),
        );
        let table = [(CaseState::Open, 1, 1), (CaseState::InWork, 2, 2), (CaseState::Accepted, 3, 2), (CaseState::Resolved, 4, 3)];
        for (state, status, activity) in table {
            let e = detection_finding(&finding, &Case { state, ..Case::default() });
            assert_eq!((e["status_id"].as_u64(), e["activity_id"].as_u64()), (Some(status), Some(activity)), "{state:?}");
            assert_eq!(e["type_uid"].as_u64(), Some(200_400 + activity));
        }
        let e = detection_finding(&finding, &Case::default());
        assert_eq!(e["finding_info"]["attacks"][0]["technique"]["uid"], "T1021");
        assert_eq!((e["severity_id"].as_u64(), e["device"]["hostname"].as_str()), (Some(4), Some("dome-east")));
        assert!(e.get("evidences").is_none() && e["unmapped"]["controls"].as_array().unwrap().len() >= 3);
    }
}
