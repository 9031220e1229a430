//! Evidence for somebody outside: files that prove themselves with the public key of the checkpoints alone (docs/formats/evidence.md).
//!
//! What the log itself holds (events) is proved by inclusion in a signed tree. What it does not hold (findings, access records) is listed
//! in `contents.json` with its digests, and the digest of that list is in an event of the log, which is proved in turn.

use super::checkpoint::{Checkpoint, VerifyingKey};
use super::merkle::{leaf_hash, verify_inclusion};
use super::{hex, unhex};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use sha2::{Digest as _, Sha256};
use std::collections::{BTreeMap, BTreeSet};

/// Bytes of all files of a pack at most.
pub const MOST_PACK: u64 = 1 << 30;
/// Problems that are told.
const MOST_PROBLEMS: usize = 50;

/// Files that are proved by themselves, and not by `contents.json`.
const OWN_PROOF: [&str; 4] = ["contents.json", "events.ndjson", "checkpoint.json", "keys.json"];

/// An event with the proof that it is in the log.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ProvedEvent {
    /// Its place.
    pub seq: u64,
    /// Its text, canonical JSON; what is hashed is this text as it stands.
    pub body: String,
    /// Hashes from the leaf to the root, hexadecimal (RFC 9162 section 2.1.3).
    pub proof: Vec<String>,
}

/// The digest of a recording, which an event of the log has too.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RecordingDigest {
    /// The session.
    pub session: String,
    /// Digest of its recording, hexadecimal.
    pub digest: String,
}

/// What came of verifying a pack.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct PackReport {
    /// Files that are as `contents.json` says.
    pub files: u64,
    /// Events that are in the signed log.
    pub events: u64,
    /// Recordings whose digest the log has.
    pub recordings: u64,
    /// Events that the signed log had.
    pub size: u64,
    /// When it was signed, as it says.
    pub signed: String,
    /// The key that signed it, hexadecimal.
    pub key: String,
    /// Whether that key was given by whoever verifies, and does not come from the pack alone.
    pub key_known: bool,
    /// What is wrong.
    pub problems: Vec<String>,
}

impl PackReport {
    /// Whether nothing is wrong.
    pub fn holds(&self) -> bool {
        self.problems.is_empty()
    }

    /// The result in one sentence.
    pub fn sentence(&self) -> String {
        match self.problems.first() {
            None => format!(
                "The pack holds: {} files, {} events and {} recordings are as the log of {} events says that was signed at {}.",
                self.files, self.events, self.recordings, self.size, self.signed
            ),
            Some(first) if self.problems.len() == 1 => format!("The pack does not hold: {first}"),
            Some(first) => format!("The pack does not hold, in {} ways; the first: {first}", self.problems.len()),
        }
    }
}

/// `contents.json`: the digest and size of each file that is not proved by itself.
pub fn contents(files: &BTreeMap<String, Vec<u8>>) -> String {
    let listed: BTreeMap<&str, Value> = files
        .iter()
        .filter(|(name, _)| !OWN_PROOF.contains(&name.as_str()))
        .map(|(name, bytes)| (name.as_str(), serde_json::json!({ "sha256": hex(&Sha256::digest(bytes)), "bytes": bytes.len() })))
        .collect();
    super::canonical_json(&serde_json::json!({ "format": "aerie evidence 1", "files": listed }))
}

/// The digest of `contents.json`, as the event of the log has it.
pub fn contents_digest(contents: &str) -> String {
    hex(&Sha256::digest(contents))
}

/// The page that explains a pack to whoever gets it.
pub fn explanation(what: &str, made: &str) -> String {
    format!(
        "EVIDENCE OF REMOTE ACCESS
{what}
Put together {made}.

What is in it
  findings.ndjson    violations of the rules, each with its sentence and the lines that show it
  accesses.ndjson    who got into which machine, and when; lines of the machines' logs with file, offset and SHA-256
  sessions.ndjson    the sessions that the service carried
  recordings.ndjson  the digest of each session's recording
  events.ndjson      what the service logged, each event with the proof that it is in the log
  checkpoint.json    the signed size and root of that log
  keys.json          the public keys (Ed25519, hexadecimal) with which checkpoints are signed
  contents.json      digest and size of every file above that is not proved by itself

How to verify it, without trust in the service
  aerie log verify THIS-FILE --key KEY
where KEY is the public key as you got it by another way than this pack: from the organisation's security page, on
paper, or from an earlier pack. Without --key the pack is held against the keys in it, which shows that it was not
changed since it was signed, and not by whom.

How it is proved, for those who verify it with tools of their own
  1 The signature in checkpoint.json is Ed25519 over four lines, each ended by a line feed: `aerie checkpoint 1`,
    the size, the root, the time.
  2 The leaf of an event is SHA-256 over a zero byte and its body, byte for byte. The proof leads from there to the
    root (RFC 9162, section 2.1.3.2), at the place `seq` in a tree of that size.
  3 One event of the kind `evidence-exported` has in `data.contents` the SHA-256 of contents.json. So the files that
    contents.json lists were what they are when that event was logged.
  4 Each digest in recordings.ndjson is in an event of the kind `recording-closed` of that session.

What it does not prove: that nothing else happened. Whether logs of a machine are there for a day at all is in
coverage.json; what no log tells of, nobody can find in one.
"
    )
}

/// Verifies the files of a pack. `known` are keys that whoever verifies got by another way; with none, the pack's own count.
pub fn verify_pack(files: &BTreeMap<String, Vec<u8>>, known: &[VerifyingKey]) -> PackReport {
    let mut report = PackReport { key_known: !known.is_empty(), ..PackReport::default() };
    if let Err(problem) = verify(files, known, &mut report) {
        tell(&mut report, problem);
    }
    report
}

fn tell(report: &mut PackReport, problem: String) {
    if report.problems.len() < MOST_PROBLEMS {
        report.problems.push(problem);
    }
}

fn verify(files: &BTreeMap<String, Vec<u8>>, known: &[VerifyingKey], report: &mut PackReport) -> Result<(), String> {
    let text = |name: &str| {
        let bytes = files.get(name).ok_or_else(|| format!("{name} is missing."))?;
        std::str::from_utf8(bytes).map_err(|_| format!("{name} is no text."))
    };
    let keys = if known.is_empty() { own_keys(text("keys.json")?)? } else { known.to_vec() };
    let checkpoint: Checkpoint = serde_json::from_str(text("checkpoint.json")?).map_err(|e| format!("checkpoint.json: {e}."))?;
    let (key, root) = keys
        .iter()
        .find_map(|k| checkpoint.verify(k).ok().map(|root| (k, root)))
        .ok_or("the checkpoint is not signed by any of the keys.")?;
    report.key = hex(key.as_bytes());
    report.size = checkpoint.size;
    report.signed = checkpoint.at.to_string();

    let contents_text = text("contents.json")?;
    let wanted = contents_digest(contents_text);
    let (mut bound, mut digests) = (false, BTreeSet::new());
    for (n, line) in text("events.ndjson")?.lines().enumerate() {
        let event: ProvedEvent = match serde_json::from_str(line) {
            Ok(event) => event,
            Err(e) => {
                tell(report, format!("line {} of events.ndjson is no event: {e}.", n + 1));
                continue;
            }
        };
        match check_event(&event, checkpoint.size, &root) {
            Err(problem) => tell(report, problem),
            Ok(body) => {
                report.events += 1;
                let kind = body.get("kind").and_then(Value::as_str);
                let data = |key: &str| body.get("data").and_then(|d| d.get(key)).and_then(Value::as_str);
                bound |= kind == Some("evidence-exported") && data("contents") == Some(&wanted);
                if let (Some("recording-closed"), Some(session), Some(digest)) =
                    (kind, body.get("session").and_then(Value::as_str), data("digest"))
                {
                    digests.insert((session.to_string(), digest.to_string()));
                }
            }
        }
    }
    if !bound {
        tell(report, "no event of the log has the digest of contents.json: the files that it lists may be of another time.".into());
    }
    check_files(files, contents_text, report)?;
    for (n, line) in text("recordings.ndjson")?.lines().enumerate() {
        match serde_json::from_str::<RecordingDigest>(line) {
            Ok(r) if digests.contains(&(r.session.clone(), r.digest.clone())) => report.recordings += 1,
            Ok(r) => tell(report, format!("no event of the log has this digest for the recording of session {}.", r.session)),
            Err(e) => tell(report, format!("line {} of recordings.ndjson: {e}.", n + 1)),
        }
    }
    Ok(())
}

fn own_keys(text: &str) -> Result<Vec<VerifyingKey>, String> {
    let all: Vec<String> = serde_json::from_str(text).map_err(|e| format!("keys.json: {e}."))?;
    let key = |text: &String| VerifyingKey::from_bytes(unhex(text)?.as_slice().try_into().ok()?).ok();
    all.iter().map(key).collect::<Option<Vec<_>>>().filter(|k| !k.is_empty()).ok_or_else(|| "keys.json has no keys.".into())
}

/// Whether an event is in the signed tree; gives what it says.
fn check_event(event: &ProvedEvent, size: u64, root: &super::Hash) -> Result<Value, String> {
    let seq = event.seq;
    let proof: Option<Vec<super::Hash>> = event.proof.iter().map(|h| unhex(h)?.try_into().ok()).collect();
    let proof = proof.ok_or_else(|| format!("the proof of event {seq} is no list of hashes."))?;
    if !verify_inclusion(&leaf_hash(event.body.as_bytes()), seq, size, &proof, root) {
        return Err(format!("event {seq} is not in the signed log, or its text was changed."));
    }
    let body: Value = serde_json::from_str(&event.body).map_err(|_| format!("event {seq} is no JSON."))?;
    if body.get("seq").and_then(Value::as_u64) != Some(seq) {
        return Err(format!("event {seq} was written for another place."));
    }
    Ok(body)
}

fn check_files(files: &BTreeMap<String, Vec<u8>>, contents_text: &str, report: &mut PackReport) -> Result<(), String> {
    let listed: Value = serde_json::from_str(contents_text).map_err(|e| format!("contents.json: {e}."))?;
    let listed = listed.get("files").and_then(Value::as_object).ok_or("contents.json lists no files.")?;
    for (name, said) in listed {
        match files.get(name) {
            None => tell(report, format!("{name} is missing.")),
            Some(bytes) if said.get("sha256").and_then(Value::as_str) == Some(&hex(&Sha256::digest(bytes))) => report.files += 1,
            Some(_) => tell(report, format!("{name} was changed.")),
        }
    }
    for name in files.keys().filter(|n| !listed.contains_key(*n) && !OWN_PROOF.contains(&n.as_str())) {
        tell(report, format!("{} was added.", crate::diagnostic::printable(name)));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::super::{EventKind, NewEvent, Proofs, SigningKey, Tree};
    use super::*;

    fn key() -> SigningKey {
        SigningKey::from_bytes(&[3; 32])
    }

    /// A pack over a log of some events, of which some are in it.
    fn pack() -> BTreeMap<String, Vec<u8>> {
        let at = "2026-11-23T00:00:00Z".parse().unwrap();
        let mut files: BTreeMap<String, Vec<u8>> = BTreeMap::new();
        files.insert("findings.ndjson".into(), b"{\"id\":\"f1\"}\n".to_vec());
        files.insert("recordings.ndjson".into(), b"{\"session\":\"s-1\",\"digest\":\"abcd\"}\n".to_vec());
        files.insert("README.txt".into(), explanation("A test.", "now").into_bytes());
        let contents = contents(&files);
        let bodies: Vec<String> = (0..21u64)
            .map(|seq| {
                match seq {
                    7 => NewEvent::new(at, EventKind::RecordingClosed, "ines").session("s-1").with("digest", "abcd"),
                    20 => NewEvent::new(at, EventKind::EvidenceExported, "greta").with("contents", contents_digest(&contents)),
                    _ => NewEvent::new(at, EventKind::SignIn, "ines"),
                }
                .at_place(seq)
                .body()
            })
            .collect();
        let leaves: Vec<_> = bodies.iter().map(|b| leaf_hash(b.as_bytes())).collect();
        let mut tree = Tree::default();
        leaves.iter().for_each(|l| tree.push(*l));
        let proofs = Proofs::new(leaves);
        let event = |seq: usize| {
            let proof = proofs.proof(seq).unwrap().iter().map(|h| hex(h)).collect();
            serde_json::to_string(&ProvedEvent { seq: seq as u64, body: bodies[seq].clone(), proof }).unwrap() + "\n"
        };
        files.insert("events.ndjson".into(), [3, 7, 20].map(event).concat().into_bytes());
        files.insert("checkpoint.json".into(), serde_json::to_vec(&Checkpoint::sign(&key(), 21, &tree.root(), at)).unwrap());
        files.insert("keys.json".into(), serde_json::to_vec(&[hex(key().verifying_key().as_bytes())]).unwrap());
        files.insert("contents.json".into(), contents.into_bytes());
        files
    }

    #[test]
    fn a_pack_proves_itself() {
        let report = verify_pack(&pack(), &[]);
        assert_eq!((report.holds(), report.files, report.events, report.recordings, report.size), (true, 3, 3, 1, 21), "{report:#?}");
        assert!(!report.key_known && verify_pack(&pack(), &[key().verifying_key()]).key_known);
        assert!(report.sentence().starts_with("The pack holds: 3 files, 3 events and 1 recordings"));
    }

    #[test]
    fn whatever_is_changed_is_found() {
        type Tamper = fn(&mut BTreeMap<String, Vec<u8>>);
        fn replace(files: &mut BTreeMap<String, Vec<u8>>, name: &str, from: &str, to: &str) {
            let text = String::from_utf8(files[name].clone()).unwrap();
            assert!(text.contains(from), "{name}: {text}");
            files.insert(name.into(), text.replacen(from, to, 1).into_bytes());
        }
        let table: [(Tamper, &str); 13] = [
            (|f| replace(f, "findings.ndjson", "f1", "f2"), "findings.ndjson was changed"),
            (|f| drop(f.remove("findings.ndjson")), "findings.ndjson is missing"),
            (|f| drop(f.insert("more.txt".into(), vec![])), "more.txt was added"),
            (|f| replace(f, "events.ndjson", "ines", "noor"), "event 3 is not in the signed log"),
            (|f| replace(f, "events.ndjson", "\"seq\":3,", "\"seq\":4,"), "event 4 is not in the signed log"),
            (|f| replace(f, "events.ndjson", "{", "["), "line 1 of events.ndjson"),
            (|f| replace(f, "recordings.ndjson", "abcd", "abce"), "recordings.ndjson was changed"),
            (|f| replace(f, "checkpoint.json", "\"size\":21", "\"size\":22"), "not signed by any"),
            (|f| replace(f, "contents.json", "aerie evidence 1", "aerie evidence 2"), "no event of the log has the digest"),
            (|f| drop(f.remove("contents.json")), "contents.json is missing"),
            (|f| drop(f.insert("keys.json".into(), b"[]".to_vec())), "no keys"),
            (|f| drop(f.insert("keys.json".into(), b"[\"00\"]".to_vec())), "no keys"),
            (|f| drop(f.insert("checkpoint.json".into(), vec![0xff])), "no text"),
        ];
        for (tamper, says) in table {
            let mut files = pack();
            tamper(&mut files);
            let report = verify_pack(&files, &[]);
            assert!(report.problems.iter().any(|p| p.contains(says)), "{says}: {report:#?}");
        }
        let other = SigningKey::from_bytes(&[4; 32]).verifying_key();
        assert!(verify_pack(&pack(), &[other]).problems[0].contains("not signed by any"));
        assert!(!verify_pack(&BTreeMap::new(), &[]).holds());
    }

    #[test]
    fn recordings_of_which_the_log_knows_nothing_do_not_count() {
        // Contents that were listed and logged rightly, over a recording that never was.
        let mut files = pack();
        files.insert("recordings.ndjson".into(), b"{\"session\":\"s-2\",\"digest\":\"abcd\"}\n".to_vec());
        let report = verify_pack(&files, &[]);
        assert!(report.problems.iter().any(|p| p.contains("recording of session s-2")), "{report:#?}");
    }
}
