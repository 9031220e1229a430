//! Any bytes are a file of keys or none; and from one that was changed no key comes that was not sealed for its purpose and generation.
#![no_main]

use aerie_core::recording::MasterKey;
use aerie_core::vault::{KeyFile, SealedKey};
use libfuzzer_sys::fuzz_target;
use std::sync::OnceLock;

fn master() -> MasterKey {
    MasterKey::new([1; 32])
}

fn good() -> &'static (KeyFile, String) {
    static GOOD: OnceLock<(KeyFile, String)> = OnceLock::new();
    GOOD.get_or_init(|| {
        let made = "2026-11-23T00:00:00Z".parse().expect("a time");
        let key = |purpose: &str, generation: u32| SealedKey {
            purpose: purpose.into(),
            generation,
            made,
            sealed: vec![SealedKey::seal(&master(), purpose, generation, &[generation as u8; 32], [9; 24]).expect("a seal")],
            certificate: None,
        };
        let file = KeyFile::new(made, vec![key("secrets", 1), key("tokens", 1), key("tokens", 2)]);
        let text = String::from_utf8(file.text().expect("text")).expect("text");
        (file, text)
    })
}

fn check(bytes: &[u8]) {
    let Ok(file) = KeyFile::read(bytes) else { return };
    assert_eq!(KeyFile::read(&file.text().expect("text")), Ok(file.clone()));
    for key in &file.keys {
        if let Some(seed) = key.open(&master()) {
            assert!(good().0.keys.iter().any(|g| (&g.purpose, g.generation) == (&key.purpose, key.generation)));
            assert_eq!(*seed, [key.generation as u8; 32]);
        }
    }
}

fuzz_target!(|data: &[u8]| {
    check(data);
    let mut bytes = good().1.clone().into_bytes();
    for change in data.chunks_exact(4).take(8) {
        let at = usize::from(u16::from_le_bytes([change[1], change[2]])) % bytes.len().max(1);
        match change[0] % 4 {
            0 => bytes.truncate(at),
            1 => bytes.insert(at.min(bytes.len()), change[3]),
            2 if at < bytes.len() => bytes[at] = change[3],
            _ => drop(bytes.drain(at.min(bytes.len())..(at + usize::from(change[3])).min(bytes.len()))),
        }
    }
    check(&bytes);
});
