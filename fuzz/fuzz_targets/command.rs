//! Whatever command line a client sends: what counts as a copy is built again so that a shell reads exactly those words, each option stands
//! where it can swallow no other, and reading it once more gives the same.
#![no_main]

use aerie_core::policy::Capability;
use aerie_core::session::{Asked, classify};
use libfuzzer_sys::fuzz_target;

/// Words as a POSIX shell splits them, without expansion: single quotes, backslashes and blanks are all that is left to read.
fn words(line: &str) -> Vec<String> {
    let (mut all, mut word, mut begun, mut quoted) = (vec![], String::new(), false, false);
    let mut chars = line.chars();
    while let Some(c) = chars.next() {
        match c {
            '\'' => (quoted, begun) = (!quoted, true),
            c if quoted => word.push(c),
            '\\' => {
                word.push(chars.next().expect("something behind a backslash"));
                begun = true;
            }
            ' ' => {
                if std::mem::take(&mut begun) {
                    all.push(std::mem::take(&mut word));
                }
            }
            c => {
                // Within a long option these are letters to every shell.
                let within = word.starts_with("--") && "=%".contains(c);
                assert!(within || !"\"$`;&|<>()#!{}^%=".contains(c) && !c.is_control(), "a shell would act on {c:?} in {line:?}");
                word.push(c);
                begun = true;
            }
        }
    }
    assert!(!quoted, "{line:?}");
    if begun {
        all.push(word);
    }
    all
}

fuzz_target!(|data: &[u8]| {
    let Asked::Copy(copy) = classify(data) else { return };
    for may_read in [false, true] {
        let Some(line) = copy.command_line(may_read) else {
            assert!(!may_read);
            continue;
        };
        let Asked::Copy(again) = classify(&line) else { panic!("it is no copy any more: {}", line.escape_ascii()) };
        assert_eq!(again.direction(), copy.direction());
        let text = String::from_utf8_lossy(&line).into_owned();
        // A receiver that may not read is told once more to take files whole.
        let second = again.command_line(may_read).map(|l| String::from_utf8_lossy(&l).into_owned());
        let without = |text: &str| text.split(' ').filter(|w| *w != "-W").collect::<Vec<_>>().join(" ");
        assert_eq!(second.as_deref().map(without), Some(without(&text)));
        let words = words(&text);
        let end = words.iter().position(|w| w == "--").expect("the end of the options");
        let (options, paths) = words.split_at(end);
        assert!(paths.len() > 1);
        let download = copy.direction() == Capability::Download;
        match words[0].as_str() {
            "scp" => {
                assert_eq!(options.last().map(String::as_str), Some(if download { "-f" } else { "-t" }));
                assert!(options[1..options.len() - 1].iter().all(|o| ["-r", "-p", "-d", "-v", "-q"].contains(&o.as_str())));
            }
            "rsync" => {
                assert_eq!(options[1], "--server");
                assert_eq!(options.get(2).is_some_and(|o| o == "--sender"), download);
                assert_eq!(options.iter().filter(|o| *o == "--sender").count(), usize::from(download));
                for option in &options[1..] {
                    // Nothing names a file, a program or a shell there, and nothing hides behind an option that takes a value.
                    for never in ["file", "log-file", "rsh", "rsync-path", "remove", "backup", "temp", "daemon", "config", "write", "read-batch", "partial-dir", "dest", "filter", "include", "exclude", "chmod", "chown", "usermap", "iconv", "secluded", "protect", "fuzzy", "super", "copy-as", "early", "pre-"] {
                        assert!(!option.starts_with("--") || option == "--delete-excluded" || option.starts_with("--log-format=") || !option.contains(never), "{text:?}");
                    }
                    if let Some(letters) = option.strip_prefix('-').filter(|o| !o.starts_with('-')) {
                        let before = letters.split_once("e.").map_or(letters, |(before, _)| before);
                        assert!(before.chars().all(|c| !"esMTBfFP@yh0".contains(c)), "{text:?}");
                    }
                }
            }
            other => panic!("{other}"),
        }
    }
});
