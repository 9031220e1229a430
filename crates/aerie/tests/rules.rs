//! Drafts, their effect, versions, reach, reviews and the directory, through the API of a running service; and what the gateway
//! asks because of the rules. Each test has the demo to itself for the time it changes the rules.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, unreachable_pub, reason = "a test that cannot go on fails")]

mod common;

use aerie_api::{DirectoryImport, DraftText, EffectQuery, NewReview, ReachQuery, ReviewDecision, RuleEdit};
use aerie_client::{Client, ClientError, ListQuery, SessionQuery};
use common::{client, until, world};
use std::process::Stdio;
use tokio::sync::{Mutex, MutexGuard};

async fn turn() -> MutexGuard<'static, ()> {
    static TURN: Mutex<()> = Mutex::const_new(());
    TURN.lock().await
}

async fn signed_in(person: &str) -> Client {
    let demo = &world().people.demo;
    let code = world().people.codes.next(person).await;
    let me = Client::new(&demo.api, None).sign_in(person, &format!("{person} watches the sky"), &code).await.unwrap();
    Client::new(&demo.api, me.token)
}

fn status(e: ClientError) -> Option<u16> {
    e.status()
}

fn draft(title: &str, text: &str) -> DraftText {
    DraftText { title: title.into(), text: Some(text.into()), base: None }
}

/// Puts rules in force whatever is, with the agreement of a second person where that is asked for.
async fn put_back(text: &str) {
    if client().publish_policy(text, None).await.is_ok() {
        return;
    }
    let back = client().begin_draft(&draft("back", text)).await.unwrap();
    let tove = signed_in("tove").await;
    tove.agree_to_draft(&back.id, back.revision).await.unwrap();
    client().publish_draft(&back.id, back.revision, "").await.unwrap();
}

#[tokio::test]
async fn two_drafts_at_once_do_not_overwrite_each_other() {
    let _turn = turn().await;
    let lena = client();
    let before = lena.policy().await.unwrap();
    let first = lena.begin_draft(&draft("first", &(before.text.clone() + "# first\n"))).await.unwrap();
    let second = lena.begin_draft(&draft("second", &(before.text.clone() + "# second\n"))).await.unwrap();
    // The same draft from two sides: the slower one is told.
    let changed = lena.change_draft(&first.id, first.revision, &draft("first", &(before.text.clone() + "# one\n"))).await.unwrap();
    assert_eq!(status(lena.change_draft(&first.id, first.revision, &draft("lost", "")).await.unwrap_err()), Some(412));
    assert_eq!(status(lena.publish_draft(&first.id, first.revision, "").await.unwrap_err()), Some(412));
    let published = lena.publish_draft(&first.id, changed.revision, "the first").await.unwrap();
    assert_eq!(published.version, Some(before.version + 1));
    // Two drafts of the same rules: the second was written against rules that are gone.
    assert_eq!(status(lena.publish_draft(&second.id, second.revision, "").await.unwrap_err()), Some(412));
    assert!(!lena.draft(&second.id).await.unwrap().current);
    let read = DraftText { base: published.version, ..draft("second", &(before.text.clone() + "# one\n# second\n")) };
    let again = lena.change_draft(&second.id, second.revision, &read).await.unwrap();
    lena.publish_draft(&second.id, again.revision, "").await.unwrap();
    assert!(lena.policy().await.unwrap().text.ends_with("# one\n# second\n"));
    assert_eq!(status(lena.draft(&first.id).await.unwrap_err()), Some(404));
    // History, and the way back.
    let versions = lena.policy_versions().await.unwrap();
    assert_eq!((versions[1].note.as_str(), versions[1].added, versions[0].added), ("the first", 1, 1));
    let restored = lena.restore_policy(before.version, "back").await.unwrap().version.unwrap();
    let newest = lena.policy_version(restored).await.unwrap();
    assert_eq!((newest.restored, newest.text.as_deref()), (Some(before.version), Some(before.text.as_str())));
    let logged = lena.log(&ListQuery { kind: Some("policy-published".into()), limit: Some(1), ..ListQuery::default() }).await.unwrap();
    assert!(logged.items[0].sentence.ends_with(&format!("which is version {} again.", before.version)), "{}", logged.items[0].sentence);
}

#[tokio::test]
async fn a_second_person_agrees_and_it_is_never_the_author() {
    let _turn = turn().await;
    let (lena, tove) = (client(), signed_in("tove").await);
    let before = lena.policy().await.unwrap().text;
    let guarded = before.replacen("zone =", "second_person = true\nzone =", 1);
    lena.publish_policy(&guarded, None).await.unwrap();
    assert_eq!(status(lena.publish_policy(&before, None).await.unwrap_err()), Some(403));
    assert_eq!(status(lena.restore_policy(1, "").await.unwrap_err()), Some(403));
    let back = lena.begin_draft(&draft("back", &before)).await.unwrap();
    assert!(back.second_person);
    assert_eq!(status(lena.agree_to_draft(&back.id, back.revision).await.unwrap_err()), Some(403));
    assert_eq!(status(lena.publish_draft(&back.id, back.revision, "").await.unwrap_err()), Some(403));
    tove.agree_to_draft(&back.id, back.revision).await.unwrap();
    // A change after the agreement loses it, and whoever made it cannot agree.
    let changed = tove.change_draft(&back.id, back.revision, &draft("back", &(before.clone() + "# more\n"))).await.unwrap();
    assert_eq!(changed.agreed_by, None);
    assert_eq!(status(tove.agree_to_draft(&back.id, changed.revision).await.unwrap_err()), Some(403));
    assert_eq!(status(lena.publish_draft(&back.id, changed.revision, "").await.unwrap_err()), Some(403));
    // Nor does it help when somebody else changes it again: who wrote in it once wrote in it.
    let own = lena.change_draft(&back.id, changed.revision, &draft("back", &before)).await.unwrap();
    assert_eq!(status(tove.agree_to_draft(&back.id, own.revision).await.unwrap_err()), Some(403));
    let again = lena.begin_draft(&draft("back", &before)).await.unwrap();
    tove.agree_to_draft(&again.id, again.revision).await.unwrap();
    let version = lena.publish_draft(&again.id, again.revision, "").await.unwrap().version.unwrap();
    assert_eq!(lena.policy_version(version).await.unwrap().agreed_by.as_deref(), Some("tove"));
}

#[tokio::test]
async fn an_effect_is_told_before_and_broken_guardrails_keep_rules_out() {
    let _turn = turn().await;
    let lena = client();
    let policy = lena.policy().await.unwrap();
    let ask = async |text: &str| lena.policy_effect(&EffectQuery { text: text.into(), against: None, days: Some(60) }).await;
    let same = ask(&policy.text).await.unwrap();
    assert_eq!((same.sentence.as_str(), same.guardrails, same.tests, same.ok), ("Nobody gains or loses anything.", 2, 3, true));
    let fields = serde_json::from_value(serde_json::json!({ "people": "group:night-operators | group:suppliers" })).unwrap();
    let edit = RuleEdit { text: policy.text.clone(), name: Some("archive".into()), effect: None, fields: Some(fields) };
    let broken = lena.edit_policy(&edit).await.unwrap().text;
    let told = ask(&broken).await.unwrap();
    assert!(told.ok && told.guardrails == 2, "a supplier is kept out by the forbid");
    assert!(told.changes.iter().any(|c| c.turn == "loses" && c.people == ["arlo"]), "{:?}", told.changes);
    assert!(told.past.refused > 0, "{:?}", told.past);
    let open =
        broken.replace("people = \"group:suppliers\"\nmachines = \"site=archive\"", "people = \"person:jun\"\nmachines = \"site=archive\"");
    assert_eq!(ask(&open).await.unwrap().guardrails, 1);
    let ClientError::Problem(p) = lena.publish_policy(&open, None).await.unwrap_err() else { panic!() };
    assert!(
        p.diagnostics.iter().any(|d| d.code == "policy/guardrail" && d.message.contains("Piet Hallsworth could")),
        "{:?}",
        p.diagnostics
    );
    assert_eq!(lena.policy().await.unwrap().version, policy.version);
}

#[tokio::test]
async fn reach_is_the_same_from_every_side_and_own_alone_for_technicians() {
    let _turn = turn().await;
    let lena = client();
    let machine = lena.reach(&ReachQuery { machine: Some("dome-east".into()), ..ReachQuery::default() }).await.unwrap();
    let people: Vec<&String> = machine.entries.iter().flat_map(|e| &e.people).collect();
    assert!(people.contains(&&"ines".to_string()) && people.contains(&&"mira".to_string()) && !people.contains(&&"arlo".to_string()));
    let person = lena.reach(&ReachQuery { person: Some("ines".into()), ..ReachQuery::default() }).await.unwrap();
    let own: Vec<_> = person.entries.iter().filter(|e| e.machines.contains(&"dome-east".into())).flat_map(|e| &e.permissions).collect();
    let other: Vec<_> = machine.entries.iter().filter(|e| e.people.contains(&"ines".into())).flat_map(|e| &e.permissions).collect();
    assert_eq!(format!("{own:?}"), format!("{other:?}"));
    let shell =
        ReachQuery { machine: Some("archive-db".into()), capability: Some("shell".into()), days: Some(366), ..ReachQuery::default() };
    let year = lena.reach(&shell).await.unwrap();
    let desk = year.entries.iter().find(|e| e.people == ["mira"]).unwrap();
    assert_eq!(desk.permissions[0].spans.len(), 2, "the windows of maintenance in the coming year");
    let csv = lena.reach_csv(&shell).await.unwrap();
    assert!(csv.starts_with("people,machines,") && csv.contains("\"in the hours maintenance\""), "{csv}");
    let matrix = lena.reach_matrix("group", "site").await.unwrap();
    let row = matrix.rows.iter().position(|r| r.name == "night-operators").unwrap();
    let column = matrix.columns.iter().position(|c| c.name == "ridge").unwrap();
    assert_eq!((matrix.cells[row][column].pairs, matrix.cells[row][column].of), (4, 8));
    let arlo = signed_in("arlo").await;
    let asked = arlo.reach(&ReachQuery { person: Some("ines".into()), ..ReachQuery::default() }).await.unwrap();
    assert!(asked.entries.iter().all(|e| e.people == ["arlo"]));
    assert_eq!(status(arlo.reach_matrix("group", "site").await.unwrap_err()), Some(403));
    for bad in ["site", "(", "group:x y"] {
        assert_eq!(status(lena.reach(&ReachQuery { people: Some(bad.into()), ..ReachQuery::default() }).await.unwrap_err()), Some(400));
    }
}

#[tokio::test]
async fn a_review_ends_in_a_draft_that_withdraws() {
    let _turn = turn().await;
    let (lena, arlo) = (client(), signed_in("arlo").await);
    let scope = NewReview { title: "The archive".into(), people: None, machines: Some("site=archive".into()), days: 7 };
    let review = lena.begin_review(&scope).await.unwrap();
    let entry = |person: &str| review.entries.iter().find(|e| e.person == person).unwrap();
    assert!(entry("sunniva").owners.contains(&"arlo".to_string()));
    // Whoever looks after the machine decides, but not on what is their own.
    let decision = |word: &str| ReviewDecision { decision: word.into(), note: "looked at".into() };
    let theirs = arlo.review(&review.id).await.unwrap();
    assert!(theirs.entries.iter().all(|e| e.person != "arlo") && !theirs.entries.is_empty());
    arlo.decide_entry(&review.id, entry("sunniva").n, &decision("withdraw")).await.unwrap();
    assert_eq!(status(arlo.decide_entry(&review.id, entry("arlo").n, &decision("keep")).await.unwrap_err()), Some(404));
    assert_eq!(status(lena.decide_entry(&review.id, entry("arlo").n, &decision("perhaps")).await.unwrap_err()), Some(400));
    lena.decide_entry(&review.id, entry("arlo").n, &decision("keep")).await.unwrap();
    assert_eq!(status(arlo.close_review(&review.id).await.unwrap_err()), Some(403));
    let closed = lena.close_review(&review.id).await.unwrap();
    assert!(closed.sentence.contains("1 kept, 1 withdrawn; "), "{}", closed.sentence);
    let draft = lena.draft(&closed.draft.unwrap()).await.unwrap();
    assert!(draft.text.unwrap().contains("people = \"group:instrument-scientists & !person:sunniva\""));
    lena.drop_draft(&draft.id).await.unwrap();
    assert_eq!(status(lena.decide_entry(&review.id, 1, &decision("keep")).await.unwrap_err()), Some(412));
    let logged = lena.log(&ListQuery { kind: Some("review-decided".into()), limit: Some(2), ..ListQuery::default() }).await.unwrap();
    assert!(logged.items.iter().any(|e| e.actor == "arlo" && e.sentence.contains("withdrew")));
}

#[tokio::test]
async fn a_directory_is_taken_in_whole_or_not_at_all_and_ends_what_it_withdraws() {
    let _turn = turn().await;
    let lena = client();
    let known = serde_json::to_value(lena.directory().await.unwrap()).unwrap();
    let import = async |text: String, format: &str, dry_run: bool| {
        lena.import_directory(&DirectoryImport { format: format.into(), text, dry_run }).await
    };
    let changed = |change: &dyn Fn(&mut serde_json::Value)| {
        let mut file = known.clone();
        change(&mut file);
        file.to_string()
    };
    let nothing = import(known.to_string(), "json", true).await.unwrap();
    assert!(nothing.differences.is_empty() && !nothing.done);
    // What cannot be taken in is refused with its reason.
    let cyclic = changed(&|f| {
        let staff = f["groups"].as_array_mut().unwrap().iter_mut().find(|g| g["name"] == "staff").unwrap();
        staff["groups"] = serde_json::json!(["staff"]);
    });
    let no_administrator = changed(&|f| f["people"].as_array_mut().unwrap().iter_mut().for_each(|p| p["roles"] = serde_json::json!([])));
    let twice = changed(&|f| {
        let first = f["people"][0].clone();
        f["people"].as_array_mut().unwrap().push(first);
    });
    for (text, why) in [(cyclic, "circle"), (no_administrator, "no administrator"), (twice, "given twice"), ("{".into(), "taken in")] {
        let e = import(text, "json", false).await.unwrap_err().to_string();
        assert!(e.contains(why), "{e}");
    }
    // A directory of a large organisation fits.
    let large = changed(&|f| {
        let machine = |i: usize| serde_json::json!({ "name": format!("m{i}"), "note": "n".repeat(2_500) });
        f["machines"].as_array_mut().unwrap().extend((0..3_000).map(machine));
    });
    assert!(large.len() > 5 << 20);
    assert_eq!(import(large, "json", true).await.unwrap().differences.len(), 3_000);
    // A dry run says what would change, in people and in reach, and changes nothing.
    let csv = "name,groups\narlo,archive\n";
    let dry = import(csv.into(), "csv-people", true).await.unwrap();
    assert_eq!(dry.differences, ["The person arlo is changed: groups from archive, archivists to archive."]);
    assert!(dry.changes.iter().any(|c| c.turn == "loses" && c.people == ["arlo"]) && !dry.done);
    // Done, it ends the live session of whoever lost the right, and says so.
    let mut shell = world().people.command("ssh", "", &["-tt", "arlo+archive-db@aerie"]).stdin(Stdio::piped()).spawn().unwrap();
    let live = SessionQuery { state: Some("live".into()), person: Some("arlo".into()), ..SessionQuery::default() };
    let id = until("a live session", async || lena.sessions(&live).await.unwrap().items.pop()).await.id;
    assert!(import(csv.into(), "csv-people", false).await.unwrap().done);
    tokio::time::timeout(std::time::Duration::from_secs(20), shell.wait()).await.unwrap().unwrap();
    let ended = until("its end", async || lena.session(&id).await.ok().filter(|s| s.ended.is_some())).await;
    assert_eq!(ended.end_reason.as_deref(), Some("because the rules no longer allow it"));
    assert!(import(known.to_string(), "json", false).await.unwrap().done);
    // Whoever stays keeps password and code.
    signed_in("arlo").await;
}

#[tokio::test]
async fn a_role_with_a_scope_sees_what_is_within() {
    let _turn = turn().await;
    let lena = client();
    let known = serde_json::to_value(lena.directory().await.unwrap()).unwrap();
    let mut scoped = known.clone();
    let greta = scoped["people"].as_array_mut().unwrap().iter_mut().find(|p| p["name"] == "greta").unwrap();
    greta["scopes"] = serde_json::json!({ "auditor": { "people": "group:staff", "machines": "site=ridge" } });
    let import = async |file: &serde_json::Value| {
        let text = file.to_string();
        lena.import_directory(&DirectoryImport { format: "json".into(), text, dry_run: false }).await.unwrap()
    };
    import(&scoped).await;
    let auditor = signed_in("greta").await;
    let machines: Vec<String> = auditor.machines(&Default::default()).await.unwrap().machines.into_iter().map(|m| m.name).collect();
    assert_eq!(machines, ["dome-east", "dome-west", "guide-cam", "spectro-1"]);
    assert!(auditor.people(&Default::default()).await.unwrap().items.iter().all(|p| p.organisation.starts_with("Corvid")));
    let sessions = auditor.sessions(&SessionQuery { limit: Some(200), ..SessionQuery::default() }).await.unwrap().items;
    assert!(!sessions.is_empty() && sessions.iter().all(|s| machines.contains(&s.machine)));
    let arlo = lena.sessions(&SessionQuery { person: Some("arlo".into()), limit: Some(1), ..SessionQuery::default() }).await.unwrap();
    assert_eq!(status(auditor.session(&arlo.items[0].id).await.unwrap_err()), Some(404));
    assert!(auditor.findings(&aerie_client::FindingQuery::default()).await.unwrap().items.iter().all(|f| machines.contains(&f.machine)));
    let reach = auditor.reach(&ReachQuery::default()).await.unwrap();
    assert!(reach.entries.iter().all(|e| e.machines.iter().all(|m| machines.contains(m))));
    for refused in [auditor.policy().await.err(), auditor.log(&ListQuery::default()).await.err(), auditor.directory().await.err()] {
        assert_eq!(refused.and_then(status), Some(403));
    }
    import(&known).await;
    assert!(auditor.policy().await.is_ok());
}

#[tokio::test]
async fn the_gateway_asks_for_what_the_rules_demand() {
    let _turn = turn().await;
    let lena = client();
    let before = lena.policy().await.unwrap().text;
    let demanding = |more: &str| format!("{before}\n[[require]]\nname = \"asked\"\nmachines = \"name:archive-db\"\n{more}\n");
    let run = async |answer: &str| world().people.run_with("ssh", answer, &["-tt", "arlo+archive-db@aerie"], "exit\n").await.unwrap();
    lena.publish_policy(&demanding("ticket = \"OBS-*\"\nreason = true"), None).await.unwrap();
    assert_eq!(run("nothing of the form").await.status, Some(255));
    let done = run("OBS-7 new mirror").await;
    assert_ne!(done.status, Some(255), "{}", done.err);
    let began = lena.log(&ListQuery { kind: Some("sign-in".into()), limit: Some(1), ..ListQuery::default() }).await.unwrap();
    assert_eq!(
        (began.items[0].data["ticket"].as_str(), began.items[0].data["reason"].as_str()),
        (Some("OBS-7 new mirror"), Some("OBS-7 new mirror"))
    );
    // What this gateway cannot ask for keeps everybody out, and the sentence says what it takes.
    for (demand, needs) in [
        ("consent = \"ask\"", "Nobody at archive-db can be asked: its agent is not connected."),
        ("device = \"managed\"", "a managed device"),
        ("factors = [\"passkey\"]", "a passkey"),
    ] {
        put_back(&demanding(demand)).await;
        let refused = run("").await;
        assert_eq!(refused.status, Some(77), "{demand}");
        assert!(refused.err.contains(needs), "{}", refused.err);
    }
    put_back(&demanding("posture = [\"managed\"]")).await;
    let refused = run("").await;
    assert!(refused.err.contains("it is not managed"), "{}", refused.err);
    put_back(&demanding("limits = { bytes = \"1kB\" }")).await;
    let query = SessionQuery { person: Some("arlo".into()), limit: Some(1), ..SessionQuery::default() };
    world().people.run_with("ssh", "", &["-tt", "arlo+archive-db@aerie"], "seq 1 4000\n").await.unwrap();
    let newest = until("its end", async || lena.sessions(&query).await.unwrap().items.pop().filter(|s| s.ended.is_some())).await;
    assert_eq!(newest.end_reason.as_deref(), Some("because it carried as much as the rules allow"));
    put_back(&before).await;
}
