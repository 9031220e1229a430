//! Any text is a directory, as JSON or CSV, or is refused.
#![no_main]

use aerie_core::directory::{Directory, DirectoryFile, Members, differences, from_csv, to_csv, validate};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let Ok(text) = std::str::from_utf8(data) else { return };
    let empty = DirectoryFile::default();
    let json = serde_json::from_str::<DirectoryFile>(text).ok();
    let csv = [Members::People, Members::Machines].into_iter().filter_map(|of| from_csv(text, of, &empty).ok());
    for file in json.into_iter().chain(csv) {
        if validate(&file).is_ok() {
            for of in [Members::People, Members::Machines] {
                let again = from_csv(&to_csv(&file, of), of, &file).expect("what was written reads");
                assert!(differences(&file, &again).is_empty());
            }
        }
        let _ = Directory::from(file);
    }
});
