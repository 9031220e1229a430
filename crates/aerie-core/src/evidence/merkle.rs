//! Merkle tree hashing of RFC 9162 section 2.1.

use sha2::{Digest as _, Sha256};

/// SHA-256.
pub type Hash = [u8; 32];

/// Hash of a leaf (RFC 9162 section 2.1.1): SHA-256 over 0x00 and the entry.
pub fn leaf_hash(entry: &[u8]) -> Hash {
    Sha256::new().chain_update([0]).chain_update(entry).finalize().into()
}

fn node_hash(left: &Hash, right: &Hash) -> Hash {
    Sha256::new().chain_update([1]).chain_update(left).chain_update(right).finalize().into()
}

/// The growing edge of a tree: the roots of its complete subtrees, largest first. Takes 32 bytes per bit of the size.
#[derive(Debug, Clone, Default)]
pub struct Tree {
    size: u64,
    peaks: Vec<Hash>,
}

impl Tree {
    /// Number of leaves.
    pub fn size(&self) -> u64 {
        self.size
    }

    /// Adds a leaf.
    pub fn push(&mut self, leaf: Hash) {
        let mut hash = leaf;
        let mut n = self.size;
        while n & 1 == 1 {
            if let Some(left) = self.peaks.pop() {
                hash = node_hash(&left, &hash);
            }
            n >>= 1;
        }
        self.peaks.push(hash);
        self.size += 1;
    }

    /// Root of the tree; of the empty tree the hash of nothing.
    pub fn root(&self) -> Hash {
        let mut peaks = self.peaks.iter().rev();
        match peaks.next() {
            None => Sha256::digest([]).into(),
            Some(last) => peaks.fold(*last, |right, left| node_hash(left, &right)),
        }
    }
}

/// The largest power of two smaller than `n` (n > 1).
fn split(n: usize) -> usize {
    1 << (usize::BITS - 1 - (n - 1).leading_zeros())
}

fn root_of(leaves: &[Hash]) -> Hash {
    let mut tree = Tree::default();
    leaves.iter().for_each(|l| tree.push(*l));
    tree.root()
}

/// Proof that the leaf at `index` is in the tree over `leaves` (RFC 9162 section 2.1.3.1); none where there is no such leaf.
pub fn inclusion_proof(leaves: &[Hash], index: usize) -> Option<Vec<Hash>> {
    if index >= leaves.len() {
        return None;
    }
    if leaves.len() == 1 {
        return Some(vec![]);
    }
    let (left, right) = leaves.split_at(split(leaves.len()));
    let (inside, at, outside) = if index < left.len() { (left, index, right) } else { (right, index - left.len(), left) };
    let mut proof = inclusion_proof(inside, at)?;
    proof.push(root_of(outside));
    Some(proof)
}

/// A whole tree in memory, for many proofs: 64 bytes a leaf, and each proof costs as many steps as the tree is high.
#[derive(Debug)]
pub struct Proofs {
    /// Leaves first, the root last. Where a level is odd, its last node goes up as it is.
    levels: Vec<Vec<Hash>>,
}

impl Proofs {
    /// Over these leaves.
    pub fn new(leaves: Vec<Hash>) -> Self {
        let mut levels = vec![leaves];
        while let Some(below) = levels.last().filter(|l| l.len() > 1) {
            let up = below.chunks(2).map(|pair| match pair {
                [left, right] => node_hash(left, right),
                [alone, ..] => *alone,
                [] => Hash::default(),
            });
            let up = up.collect();
            levels.push(up);
        }
        Self { levels }
    }

    /// Number of leaves.
    pub fn size(&self) -> usize {
        self.levels.first().map_or(0, Vec::len)
    }

    /// The same as [`inclusion_proof`].
    pub fn proof(&self, index: usize) -> Option<Vec<Hash>> {
        let mut at = index;
        let mut proof = vec![];
        self.levels.first()?.get(index)?;
        for level in &self.levels {
            proof.extend(level.get(at ^ 1).filter(|_| level.len() > 1));
            at >>= 1;
        }
        Some(proof)
    }
}

/// Whether the proof leads from the leaf to the root (RFC 9162 section 2.1.3.2).
pub fn verify_inclusion(leaf: &Hash, index: u64, size: u64, proof: &[Hash], root: &Hash) -> bool {
    if index >= size {
        return false;
    }
    let (mut node, mut last, mut hash) = (index, size - 1, *leaf);
    for step in proof {
        if last == 0 {
            return false;
        }
        if node & 1 == 1 || node == last {
            hash = node_hash(step, &hash);
            while node & 1 == 0 && node != 0 {
                node >>= 1;
                last >>= 1;
            }
        } else {
            hash = node_hash(&hash, step);
        }
        node >>= 1;
        last >>= 1;
    }
    last == 0 && hash == *root
}

#[cfg(test)]
mod tests {
    use super::super::hex;
    use super::*;
    use proptest::prelude::*;

    /// The tree as RFC 9162 defines it, by recursion.
    fn naive(leaves: &[Hash]) -> Hash {
        match leaves {
            [] => Sha256::digest([]).into(),
            [one] => *one,
            _ => {
                let (l, r) = leaves.split_at(split(leaves.len()));
                node_hash(&naive(l), &naive(r))
            }
        }
    }

    #[test]
    fn known_roots() {
        assert_eq!(hex(&Tree::default().root()), "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855");
        assert_eq!(hex(&leaf_hash(b"")), "6e340b9cffb37a989ca544e6bb780a2c78901d3fb33738768511a30617afa01d");
    }

    proptest! {
        #[test]
        fn roots_and_proofs_agree_with_the_definition(n in 1usize..70, at in 0usize..70, flip in 0usize..70) {
            let leaves: Vec<Hash> = (0..n).map(|i| leaf_hash(&i.to_be_bytes())).collect();
            let root = root_of(&leaves);
            prop_assert_eq!(root, naive(&leaves));
            let at = at % n;
            let proof = inclusion_proof(&leaves, at).unwrap();
            prop_assert!(verify_inclusion(&leaves[at], at as u64, n as u64, &proof, &root));
            prop_assert!(!verify_inclusion(&leaf_hash(b"other"), at as u64, n as u64, &proof, &root));
            let other = flip % n;
            prop_assert_eq!(verify_inclusion(&leaves[at], other as u64, n as u64, &proof, &root), other == at);
        }
    }
}
