//! Any files are a pack or none; and of a pack that was changed, what still holds says what it said before.
#![no_main]

use aerie_core::evidence::{
    Checkpoint, EventKind, NewEvent, Proofs, ProvedEvent, SigningKey, Tree, contents, contents_digest, explanation, leaf_hash, verify_pack,
};
use libfuzzer_sys::fuzz_target;
use std::collections::BTreeMap;
use std::sync::OnceLock;

type Files = BTreeMap<String, Vec<u8>>;

const NAMES: [&str; 8] =
    ["findings.ndjson", "recordings.ndjson", "README.txt", "contents.json", "events.ndjson", "checkpoint.json", "keys.json", "added.txt"];

fn key() -> SigningKey {
    SigningKey::from_bytes(&[3; 32])
}

fn good() -> &'static Files {
    static GOOD: OnceLock<Files> = OnceLock::new();
    GOOD.get_or_init(|| {
        let at = "2026-11-23T00:00:00Z".parse().expect("a time");
        let mut files = Files::new();
        files.insert("findings.ndjson".into(), b"{\"id\":\"f1\"}\n".to_vec());
        files.insert("recordings.ndjson".into(), b"{\"session\":\"s-1\",\"digest\":\"abcd\"}\n".to_vec());
        files.insert("README.txt".into(), explanation("A test.", "now").into_bytes());
        let contents = contents(&files);
        let events = [
            NewEvent::new(at, EventKind::SessionBegan, "ines").session("s-1"),
            NewEvent::new(at, EventKind::RecordingClosed, "service").session("s-1").with("digest", "abcd"),
            NewEvent::new(at, EventKind::EvidenceExported, "lena").with("contents", contents_digest(&contents)),
        ];
        let bodies: Vec<String> = events.into_iter().zip(0..).map(|(e, seq)| e.at_place(seq).body()).collect();
        let (mut tree, leaves) = (Tree::default(), bodies.iter().map(|b| leaf_hash(b.as_bytes())).collect::<Vec<_>>());
        leaves.iter().for_each(|l| tree.push(*l));
        let proofs = Proofs::new(leaves);
        let mut lines = String::new();
        for (seq, body) in (0u64..).zip(&bodies) {
            let proof = proofs.proof(seq as usize).expect("a proof").iter().map(|h| aerie_core::evidence::hex(h)).collect();
            lines += &(serde_json::to_string(&ProvedEvent { seq, body: body.clone(), proof }).expect("an event") + "\n");
        }
        files.insert("contents.json".into(), contents.into_bytes());
        files.insert("events.ndjson".into(), lines.into_bytes());
        let checkpoint = Checkpoint::sign(&key(), tree.size(), &tree.root(), at);
        files.insert("checkpoint.json".into(), serde_json::to_vec(&checkpoint).expect("a checkpoint"));
        files.insert("keys.json".into(), format!("[\"{}\"]", aerie_core::evidence::hex(key().verifying_key().as_bytes())).into_bytes());
        let report = verify_pack(&files, &[key().verifying_key()]);
        assert!(report.holds() && report.events == 3 && report.recordings == 1, "{report:?}");
        files
    })
}

/// What a pack says, however its lines are written.
fn says(files: &Files) -> (Vec<(u64, String)>, Vec<u8>, Vec<u8>) {
    let text = String::from_utf8_lossy(&files["events.ndjson"]).into_owned();
    let events = text.lines().filter_map(|l| serde_json::from_str::<ProvedEvent>(l).ok()).map(|e| (e.seq, e.body)).collect();
    (events, files["findings.ndjson"].clone(), files["recordings.ndjson"].clone())
}

fuzz_target!(|data: &[u8]| {
    let mut files: Files = NAMES.iter().zip(data.split(|b| *b == 0xff)).map(|(n, b)| (n.to_string(), b.to_vec())).collect();
    assert!(!verify_pack(&files, &[key().verifying_key()]).holds(), "nobody else has the key");
    verify_pack(&files, &[]);
    // A good one with changes: file, what is done, where, and a byte.
    files = good().clone();
    for change in data.chunks_exact(5).take(6) {
        let name = NAMES[usize::from(change[0]) % NAMES.len()];
        if change[1] % 4 == 3 {
            if let (Some(other), Some(_)) = (files.get(NAMES[usize::from(change[4]) % NAMES.len()]).cloned(), files.get(name)) {
                files.insert(name.into(), other);
            }
            continue;
        }
        let file = files.entry(name.into()).or_default();
        let at = usize::from(u16::from_le_bytes([change[2], change[3]])) % (file.len() + 1);
        match change[1] % 4 {
            0 => file.truncate(at),
            1 => file.insert(at, change[4]),
            _ if at < file.len() => file[at] ^= change[4],
            _ => {}
        }
    }
    let report = verify_pack(&files, &[key().verifying_key()]);
    if report.holds() {
        let (events, findings, recordings) = says(&files);
        let (all, before, digests) = says(good());
        assert!(events.iter().all(|e| all.contains(e)), "{events:?}");
        assert_eq!((findings, recordings), (before, digests));
        assert!(!files.contains_key("added.txt"));
    }
});
