//! Copies over `exec`: what stock programs send works, and nothing that somebody writes by hand gets more than the right to copy.

use super::{run, small_rights};
use aerie_core::policy::Capability;
use aerie_core::session::{Asked, classify};
use proptest::prelude::*;
use std::collections::BTreeMap;
use std::path::Path;
use std::process::{Command, Stdio};

const TRAP: &str = "what nobody may read";

/// Lines that got more than their right in some way: by options that swallow others, arguments that are not on the line, options that
/// write, delete or run.
const LINES: &[&str] = &[
    "rsync --server -logDtpre --sender . ./",
    "rsync --server --sender -slogDtpre.iLsfxCIvu",
    "rsync --server --sender -logDtpre.iLsfxCIvu --log-file=written . trap",
    "rsync --server --sender -logDtpre.iLsfxCIvu --remove-source-files . trap",
    "rsync --server --sender -logDtprM--log-file=written . trap",
    "rsync --server --sender -rf'merge /etc/passwd' . trap",
    "rsync --server --sender -r --files-from=trap . .",
    "rsync --server --daemon --config=trap .",
    "rsync --server --sender -r --rsync-path='touch written' . trap",
    "rsync -r trap written",
    "scp -f -t written",
    "scp -t -f trap",
    "scp -ft trap",
    "scp -r -S ./trap -t written",
    "scp -o ProxyCommand='touch written' -f trap",
    "scp trap written",
    "scp -f trap; touch written",
    "scp -f $(touch written)",
    "scp -f `touch written`",
    "scp -f trap > written",
    "scp -f trap\ntouch written",
    "scp -f <(touch written)",
    "sftp-server",
    "/usr/lib/openssh/sftp-server",
    "sh -c 'touch written'",
    "cat trap",
];

#[tokio::test]
async fn no_line_gets_more_than_the_right_to_copy() {
    small_rights().await;
    let put = run("ssh", &["arlo+archive-db@aerie", "cat > trap"], TRAP).await;
    assert_eq!(put.status, Some(0), "{}", put.err);
    // Downloads alone, uploads alone, names alone.
    for person in ["sunniva", "greta", "tove"] {
        let to = format!("{person}+archive-db@aerie");
        for line in LINES {
            let e = run("ssh", &[&to, line], "").await;
            assert_eq!(e.status, Some(77), "{person}: {line}: {} {}", e.out, e.err);
            assert!(!e.out.contains(TRAP) && e.err.contains("aerie: "), "{person}: {line}: {}", e.out);
        }
    }
    // The other direction of each.
    for (person, line) in
        [("greta", "scp -f trap"), ("greta", "rsync --server --sender -logDtpre.iLsfxCIvu . trap"), ("sunniva", "scp -t written")]
    {
        let e = run("ssh", &[&format!("{person}+archive-db@aerie"), line], "").await;
        assert_eq!(e.status, Some(77), "{person}: {line}: {} {}", e.out, e.err);
    }
    let there = run("ssh", &["arlo+archive-db@aerie", "cat trap; ls"], "").await;
    assert!(there.out.starts_with(TRAP) && !there.out.contains("written"), "{}", there.out);
}

#[tokio::test]
async fn stock_programs_copy_in_every_mode() {
    small_rights().await;
    let here = tempfile::tempdir().unwrap();
    let at = |name: &str| here.path().join(name).display().to_string();
    let big: Vec<u8> = (0..3_000_000u32).map(|n| (n * 7 % 251) as u8).collect();
    std::fs::create_dir(at("plates of it's night")).unwrap();
    std::fs::write(at("plates of it's night/big"), &big).unwrap();
    std::fs::write(at("plates of it's night/-x"), "a name like an option").unwrap();
    // The rules let arlo copy both ways: the smaller right is used.
    let ways: &[(&str, &[&str], &[&str])] = &[
        ("scp", &["-O", "-r", "-p"], &["-O", "-r", "-p"]),
        ("scp", &["-O", "-r", "-q", "-v"], &["-O", "-r"]),
        ("scp", &["-r", "-p"], &["-r"]),
        ("rsync", &["-a"], &["-a"]),
        ("rsync", &["-azvv", "--stats", "--delete"], &["-avz"]),
        ("rsync", &["-aHXSi", "--numeric-ids", "--partial"], &["-aHXS", "--checksum"]),
        ("rsync", &["-rltn", "--size-only"], &["-rlt", "--bwlimit=100000", "--timeout=30"]),
        ("rsync", &["-a", "--inplace", "--append-verify", "--compress-choice=zstd"], &["-a", "--inplace"]),
    ];
    for (n, (program, up, down)) in ways.iter().enumerate() {
        let (there, back) = (format!("arlo+archive-db@aerie:copy {n}"), at(&format!("back-{n}")));
        let legacy = *program == "scp" && up.contains(&"-O");
        // The old form leaves the far end to a shell: its user quotes.
        let there = if legacy { there.replace(' ', "\\ ") } else { there };
        let from = at("plates of it's night") + if *program == "rsync" { "/" } else { "" };
        let e = run(program, &[up.to_vec(), vec![&from, &there]].concat(), "").await;
        assert_eq!(e.status, Some(0), "{program} {up:?}: {}", e.err);
        if up.contains(&"-rltn") {
            continue;
        }
        let source = if *program == "rsync" { format!("{there}/") } else { there.clone() };
        let e = run(program, &[down.to_vec(), vec![&source, &back]].concat(), "").await;
        assert_eq!(e.status, Some(0), "{program} {down:?}: {}", e.err);
        assert!(std::fs::read(format!("{back}/big")).unwrap() == big, "{program} {up:?}");
        assert_eq!(std::fs::read_to_string(format!("{back}/-x")).unwrap(), "a name like an option");
    }
    // Options that do more are for those who may run commands: of arlo they are carried as such, of sunniva they are not.
    let e = run("rsync", &["-a", "-s", "-M--log-file=rsync-log", "arlo+archive-db@aerie:copy 0/", &at("more")], "").await;
    assert_eq!(e.status, Some(0), "{}", e.err);
    for options in [
        &["-a", "-s"][..],
        &["-a", "-M--log-file=written"],
        &["-a", "--remove-source-files"],
        &["-s", "-M--remove-source-files", "--remove-source-files"],
    ] {
        let e = run("rsync", &[options, &["sunniva+archive-db@aerie:trap", &at("no")]].concat(), "").await;
        assert_ne!(e.status, Some(0), "{options:?}");
        assert!(e.err.contains("aerie: No rule lets you run commands"), "{options:?}: {}", e.err);
    }
}

/// Everything in a folder: names and contents.
fn state(of: &Path) -> BTreeMap<String, Vec<u8>> {
    let mut all = BTreeMap::new();
    for entry in std::fs::read_dir(of).unwrap() {
        let entry = entry.unwrap();
        let name = entry.file_name().to_string_lossy().into_owned();
        all.insert(name, if entry.path().is_file() { std::fs::read(entry.path()).unwrap() } else { vec![] });
    }
    all
}

fn arguments() -> impl Strategy<Value = String> {
    let options = prop::sample::select(vec![
        "-r",
        "-p",
        "-e",
        "-e.iLsf",
        "-re",
        "-re.x",
        "-s",
        "-se.x",
        "-M",
        "-M--log-file=w",
        "-f",
        "-t",
        "-S",
        "-o",
        "-v",
        "-T",
        "-B1",
        "-i",
        "-c",
        "-n",
        "-b",
        "-K",
        "--",
        "--sender",
        "--server",
        "--log-file=w",
        "--log-file",
        "--remove-source-files",
        "--delete",
        "--backup-dir=w",
        "--temp-dir=w",
        "--partial-dir=w",
        "--files-from=trap",
        "--link-dest=.",
        "--copy-dest=.",
        "--write-batch=w",
        "--daemon",
        "--config=trap",
        "--log-format=%f",
        "--list-only",
        "--append",
        "--mkpath",
        "--info=all",
        "--debug=all",
        "--rsh=touch w",
        "--super",
        "--fake-super",
        "--usermap=*:0",
        "--iconv=utf8",
        "--suffix=w",
        "--only-write-batch=w",
    ]);
    let others = prop::sample::select(vec![
        ".",
        "trap",
        "w",
        "'trap'",
        "\"w\"",
        "\\trap",
        "*",
        "~",
        "t?ap",
        "$(touch w)",
        "`touch w`",
        ";touch w",
        ">w",
        "|touch w",
        "''",
        "a=b",
    ]);
    let word = prop_oneof![3 => options.prop_map(str::to_string), 2 => others.prop_map(str::to_string)];
    let program = prop::sample::select(vec!["scp", "rsync --server", "rsync --server --sender"]);
    (program, prop::collection::vec(word, 0..6)).prop_map(|(p, words)| format!("{p} {}", words.join(" ")))
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, ..ProptestConfig::default() })]

    /// Whatever is taken for a copy and built again, a real shell and the real programs keep to its direction.
    #[test]
    fn what_is_built_goes_one_way(line in arguments(), said in prop::collection::vec(any::<u8>(), 0..40)) {
        let Asked::Copy(copy) = classify(line.as_bytes()) else { return Ok(()) };
        let Some(built) = copy.command_line(false) else { return Ok(()) };
        let there = tempfile::tempdir().unwrap();
        std::fs::write(there.path().join("trap"), TRAP).unwrap();
        let before = state(there.path());
        let mut far = Command::new("sh");
        far.arg("-c").arg(String::from_utf8(built.clone()).unwrap()).current_dir(there.path()).env("HOME", there.path());
        let mut far = far.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
        let _ = std::io::Write::write_all(&mut far.stdin.take().unwrap(), &said);
        let out = far.wait_with_output().unwrap().stdout;
        if copy.direction() == Capability::Download {
            prop_assert_eq!(state(there.path()), before, "{}", String::from_utf8_lossy(&built));
        } else {
            prop_assert!(!out.windows(TRAP.len()).any(|w| w == TRAP.as_bytes()), "{}", String::from_utf8_lossy(&built));
        }
    }
}
