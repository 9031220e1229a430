//! Verification of a whole log.

use super::checkpoint::{Checkpoint, VerifyingKey};
use super::hex;
use super::merkle::{Hash, Tree, leaf_hash};
use hmac::{Hmac, KeyInit as _, Mac as _};
use sha2::Sha256;
use subtle::ConstantTimeEq as _;

/// One row of the stored log.
#[derive(Debug, Clone)]
pub struct Row {
    /// Its place.
    pub seq: u64,
    /// Canonical JSON; none where retention removed it.
    pub body: Option<String>,
    /// Stored leaf hash.
    pub leaf: Hash,
    /// Keyed hash over place and leaf, by [`LogKey::seal`].
    pub seal: [u8; 16],
}

/// The secret that seals each row, so that the holder of it can tell exactly which row was rewritten. Without it the
/// checkpoints still tell between which two of them something was.
#[derive(Clone)]
pub struct LogKey(Vec<[u8; 32]>);

impl LogKey {
    /// From every generation of the key, oldest first; the last one seals.
    pub fn new(generations: Vec<[u8; 32]>) -> Self {
        Self(generations)
    }

    /// Seals a row.
    pub fn seal(&self, seq: u64, leaf: &Hash) -> [u8; 16] {
        self.0.last().map(|key| seal(key, seq, leaf)).unwrap_or_default()
    }

    /// The text of a row, where it is at its place what was sealed there; none where it was changed, moved or removed.
    pub fn sealed_body<'r>(&self, row: &'r Row) -> Option<&'r str> {
        let body = row.body.as_deref()?;
        let written_for = serde_json::from_str::<serde_json::Value>(body).ok()?.get("seq")?.as_u64()?;
        (self.sealed(row) && leaf_hash(body.as_bytes()) == row.leaf && written_for == row.seq).then_some(body)
    }

    /// Whether one of the generations sealed a row so.
    fn sealed(&self, row: &Row) -> bool {
        self.0.iter().rev().any(|key| bool::from(seal(key, row.seq, &row.leaf).ct_eq(&row.seal)))
    }
}

fn seal(key: &[u8; 32], seq: u64, leaf: &Hash) -> [u8; 16] {
    let mut seal = [0; 16];
    // HMAC takes keys of any length: this cannot fail.
    if let Ok(mac) = <Hmac<Sha256>>::new_from_slice(key) {
        let full = mac.chain_update(seq.to_be_bytes()).chain_update(leaf).finalize().into_bytes();
        full.iter().zip(seal.iter_mut()).for_each(|(from, to)| *to = *from);
    }
    seal
}

/// What is wrong at one place of the log.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Problem {
    /// First event concerned.
    pub first: u64,
    /// Last event concerned.
    pub last: u64,
    /// What is wrong.
    pub kind: ProblemKind,
    /// The same as a sentence.
    pub sentence: String,
}

/// What can be wrong.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ProblemKind {
    /// An event's text is not what was logged.
    Changed,
    /// Events are missing.
    Removed,
    /// An event was added that the service did not write.
    Inserted,
    /// An event stands at another place than it was written for.
    Moved,
    /// Something between two checkpoints differs from what was signed.
    Range,
    /// A checkpoint is not signed by the key.
    Checkpoint,
}

/// The result of a verification.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Report {
    /// Events looked at.
    pub events: u64,
    /// Checkpoints that held.
    pub checkpoints: u64,
    /// Root over all events, hexadecimal.
    pub root: String,
    /// What is wrong, in the order of the log; at most [`Verifier::MOST_PROBLEMS`].
    pub problems: Vec<Problem>,
}

impl Report {
    /// Whether nothing is wrong.
    pub fn holds(&self) -> bool {
        self.problems.is_empty()
    }

    /// The result in one sentence.
    pub fn sentence(&self) -> String {
        match self.problems.as_slice() {
            [] => format!("The log holds: {} events, {} checkpoints, root {}.", self.events, self.checkpoints, self.root),
            [one] => format!("The log does not hold: {}", one.sentence),
            [first, ..] => format!("The log does not hold, at {} places; the first: {}", self.problems.len(), first.sentence),
        }
    }
}

/// Verifies a log: feed every row in order to [`Verifier::handle_row`], then call [`Verifier::finish`].
pub struct Verifier<'a> {
    keys: Vec<VerifyingKey>,
    seals: Option<&'a LogKey>,
    checkpoints: std::iter::Peekable<std::vec::IntoIter<Checkpoint>>,
    tree: Tree,
    held: u64,
    /// Everything before this was confirmed by a checkpoint.
    confirmed: u64,
    /// A problem was told since then, so that a checkpoint that does not fit needs none of its own.
    explained: bool,
    /// The first checkpoint that does not fit makes all later ones not fit.
    broken: bool,
    next: u64,
    rows: u64,
    problems: Vec<Problem>,
}

impl<'a> Verifier<'a> {
    /// How many problems are kept; a log that was rewritten wholesale has no use for more.
    pub const MOST_PROBLEMS: usize = 100;

    /// For a log whose checkpoints were signed by the holder of these keys, one after the other. `checkpoints` may be in any
    /// order.
    pub fn new(keys: Vec<VerifyingKey>, seals: Option<&'a LogKey>, mut checkpoints: Vec<Checkpoint>) -> Self {
        checkpoints.sort_by_key(|c| c.size);
        Self {
            keys,
            seals,
            checkpoints: checkpoints.into_iter().peekable(),
            tree: Tree::default(),
            held: 0,
            confirmed: 0,
            explained: false,
            broken: false,
            next: 0,
            rows: 0,
            problems: vec![],
        }
    }

    fn tell(&mut self, first: u64, last: u64, kind: ProblemKind, sentence: String) {
        self.explained = true;
        if self.problems.len() < Self::MOST_PROBLEMS {
            self.problems.push(Problem { first, last, kind, sentence });
        }
    }

    /// Takes the next row.
    pub fn handle_row(&mut self, row: &Row) {
        self.rows += 1;
        if row.seq > self.next {
            let (first, last) = (self.next, row.seq - 1);
            let what = if first == last { format!("event {first} was removed") } else { format!("events {first} to {last} were removed") };
            self.tell(first, last, ProblemKind::Removed, format!("{what}."));
        } else if row.seq < self.next {
            self.tell(row.seq, row.seq, ProblemKind::Inserted, format!("event {} stands in the log twice.", row.seq));
        }
        self.next = self.next.max(row.seq + 1);
        let sealed = self.seals.is_none_or(|k| k.sealed(row));
        let hash = row.body.as_ref().map(|b| leaf_hash(b.as_bytes()));
        let written_for =
            row.body.as_deref().and_then(|b| serde_json::from_str::<serde_json::Value>(b).ok()).and_then(|v| v.get("seq")?.as_u64());
        let n = row.seq;
        match (hash, written_for) {
            (Some(_), Some(place)) if place != n => {
                self.tell(n, n, ProblemKind::Moved, format!("event {n} was written as event {place}: events were moved or exchanged."));
            }
            (Some(h), _) if h != row.leaf => {
                self.tell(n, n, ProblemKind::Changed, format!("event {n} was changed: its text does not give its hash."))
            }
            _ if !sealed => self.tell(n, n, ProblemKind::Changed, format!("event {n} was changed or added: the service did not seal it.")),
            _ => {}
        }
        self.tree.push(row.leaf);
        self.pass_checkpoints();
    }

    fn pass_checkpoints(&mut self) {
        while let Some(checkpoint) = self.checkpoints.next_if(|c| c.size <= self.tree.size()) {
            self.pass(&checkpoint);
        }
    }

    fn pass(&mut self, checkpoint: &Checkpoint) {
        let size = checkpoint.size;
        match checkpoint.verify_by_any(&self.keys) {
            Err(e) => self.tell(
                size.saturating_sub(1),
                size.saturating_sub(1),
                ProblemKind::Checkpoint,
                format!("the checkpoint at {size} events does not count: {e}."),
            ),
            Ok(root) if size == self.tree.size() && root == self.tree.root() => {
                self.held += 1;
                self.confirmed = size;
                self.explained = false;
            }
            Ok(_) => {
                if !self.explained && !self.broken {
                    let (first, last) = (self.confirmed, size.saturating_sub(1));
                    self.tell(
                        first,
                        last,
                        ProblemKind::Range,
                        format!("something among the events {first} to {last} is not what was signed at {size} events."),
                    );
                }
                self.broken = true;
            }
        }
    }

    /// Ends the verification. `size` is how many events the log should have, as its newest head or checkpoint says.
    pub fn finish(mut self, size: u64) -> Report {
        let signed = self.checkpoints.clone().map(|c| c.size).max().unwrap_or(0).max(size);
        if signed > self.next {
            let (first, last) = (self.next, signed - 1);
            self.tell(first, last, ProblemKind::Removed, format!("the end of the log is missing: events {first} to {last}."));
        }
        Report { events: self.rows, checkpoints: self.held, root: hex(&self.tree.root()), problems: self.problems }
    }
}

#[cfg(test)]
mod tests {
    use super::super::{EventKind, NewEvent, SigningKey};
    use super::*;

    struct Log {
        key: SigningKey,
        seals: LogKey,
        rows: Vec<Row>,
        checkpoints: Vec<Checkpoint>,
    }

    fn log(n: u64) -> Log {
        let (key, seals) = (SigningKey::from_bytes(&[3; 32]), LogKey::new(vec![[4; 32]]));
        let at = "2026-11-23T00:00:00Z".parse().unwrap();
        let (mut rows, mut tree, mut checkpoints) = (vec![], Tree::default(), vec![]);
        for seq in 0..n {
            let body = NewEvent::new(at, EventKind::SignIn, "ines").at_place(seq).body();
            let leaf = leaf_hash(body.as_bytes());
            tree.push(leaf);
            rows.push(Row { seq, leaf, seal: seals.seal(seq, &leaf), body: Some(body) });
            if seq % 10 == 9 {
                checkpoints.push(Checkpoint::sign(&key, seq + 1, &tree.root(), at));
            }
        }
        Log { key, seals, rows, checkpoints }
    }

    fn verify(log: &Log, with_seals: bool) -> Report {
        let mut v = Verifier::new(vec![log.key.verifying_key()], with_seals.then_some(&log.seals), log.checkpoints.clone());
        log.rows.iter().for_each(|r| v.handle_row(r));
        v.finish(30)
    }

    fn found(log: &Log, with_seals: bool) -> Vec<(u64, u64, ProblemKind)> {
        verify(log, with_seals).problems.iter().map(|p| (p.first, p.last, p.kind)).collect()
    }

    fn rewrite(row: &mut Row) {
        let body = row.body.take().unwrap().replace("ines", "noa");
        row.leaf = leaf_hash(body.as_bytes());
        row.body = Some(body);
    }

    #[test]
    fn an_untouched_log_holds() {
        let report = verify(&log(30), true);
        assert!(report.holds(), "{report:?}");
        assert_eq!((report.events, report.checkpoints), (30, 3));
    }

    #[test]
    fn every_kind_of_tampering_is_found_and_placed() {
        use ProblemKind::*;
        type Tamper = fn(&mut Log);
        type Found = Vec<(u64, u64, ProblemKind)>;
        let table: [(&str, Tamper, bool, Found); 9] = [
            (
                "text changed",
                |l| l.rows[13].body = Some(l.rows[13].body.as_ref().unwrap().replace("ines", "noa")),
                false,
                vec![(13, 13, Changed)],
            ),
            ("text and hash changed, seals known", |l| rewrite(&mut l.rows[13]), true, vec![(13, 13, Changed)]),
            ("text and hash changed, public key alone", |l| rewrite(&mut l.rows[13]), false, vec![(10, 19, Range)]),
            ("one removed", |l| drop(l.rows.remove(13)), true, vec![(13, 13, Removed)]),
            ("end removed", |l| l.rows.truncate(25), true, vec![(25, 29, Removed)]),
            (
                "end removed with its checkpoint",
                |l| {
                    l.rows.truncate(15);
                    l.checkpoints.truncate(1)
                },
                false,
                vec![(15, 29, Removed)],
            ),
            (
                "two exchanged",
                |l| {
                    let (a, b) = (l.rows[4].clone(), l.rows[5].clone());
                    l.rows[4] = Row { seq: 4, ..b };
                    l.rows[5] = Row { seq: 5, ..a }
                },
                false,
                vec![(4, 4, Moved), (5, 5, Moved)],
            ),
            (
                "one added at the end",
                |l| {
                    let mut r = l.rows[29].clone();
                    r.seq = 30;
                    r.body = Some(r.body.unwrap().replace("29", "30"));
                    r.leaf = leaf_hash(r.body.as_ref().unwrap().as_bytes());
                    l.rows.push(r)
                },
                true,
                vec![(30, 30, Changed)],
            ),
            ("a checkpoint forged", |l| l.checkpoints[1].root = "00".repeat(32), false, vec![(19, 19, Checkpoint)]),
        ];
        for (what, tamper, with_seals, expected) in table {
            let mut log = log(30);
            tamper(&mut log);
            assert_eq!(found(&log, with_seals), expected, "{what}");
        }
    }

    #[test]
    fn retention_removes_texts_and_the_proof_stays() {
        let mut log = log(30);
        log.rows[3].body = None;
        assert!(verify(&log, true).holds());
    }
}
