//! The event log, and packs of evidence.

use super::accesses::{instant, zone_of};
use super::account;
use crate::cli::Log;
use crate::output::{Printer, hanging};
use crate::{Exit, Failure};
use aerie_api::EvidenceQuery;
use aerie_client::ListQuery;
use aerie_core::evidence::{MOST_PACK, VerifyingKey, unhex, verify_pack};
use aerie_core::wording::size;
use jiff::Timestamp;
use std::collections::BTreeMap;
use std::io::{Read as _, Write as _};
use std::path::Path;

pub(super) async fn run(server: Option<&str>, what: Log, printer: Printer) -> Result<Exit, Failure> {
    if let Log::Verify { pack: Some(pack), key } = &what {
        return verify(pack, key, printer);
    }
    let client = account::client(server)?;
    match what {
        Log::Export { file, from, until, machine, person } => {
            let (zone, now) = (zone_of(&client).await?, Timestamp::now());
            let until = until.map_or(Ok(now), |u| instant(&u, &zone, now))?;
            let query = EvidenceQuery { from: instant(&from, &zone, now)?, until, machine, person };
            let failed = |e: std::io::Error| Failure::file(file.display(), &e);
            // Before anything is logged: what is there is not written over.
            let mut out = std::fs::OpenOptions::new().write(true).create_new(true).open(&file).map_err(failed)?;
            let bytes = client.evidence(&query).await.inspect_err(|_| drop(std::fs::remove_file(&file)))?;
            out.write_all(&bytes).and_then(|()| out.sync_all()).map_err(failed)?;
            let written = serde_json::json!({ "file": file, "bytes": bytes.len() });
            printer.value(&written, |_| {
                let key = "Give whoever gets it the public key by another way: `aerie log verify` prints it.";
                let name = file.display();
                format!("{} written to {name}. It verifies with `aerie log verify {name}`.\n{key}", size(bytes.len() as u64))
            })?;
            Ok(Exit::Done)
        }
        Log::List { kind, session, search, limit } => {
            let query = ListQuery { kind, session, q: search, after: None, limit: Some(limit) };
            printer.value(&client.log(&query).await?, |page| {
                let told =
                    page.items.iter().map(|e| hanging(&format!("{:>7}  {}  ", e.seq, e.at.strftime("%Y-%m-%d %H:%M:%S")), &e.sentence));
                let lines: Vec<String> = told.collect();
                if lines.is_empty() { "No event matches.".into() } else { lines.join("\n") }
            })?;
            Ok(Exit::Done)
        }
        Log::Verify { .. } => {
            let report = client.verify_log().await?;
            printer.value(&report, |r| {
                let rest = r.problems.iter().skip(1).map(|p| format!("\n  {}", p.sentence));
                r.sentence.clone()
                    + &rest.collect::<String>()
                    + &format!("\nPublic key of the checkpoints, newest first: {}", r.public_keys.join(" "))
            })?;
            Ok(if report.holds { Exit::Done } else { Exit::No })
        }
        Log::Checkpoint => {
            printer
                .value(&client.checkpoint().await?, |c| format!("{} events, root {}\nsigned {}\n{}", c.size, c.root, c.at, c.signature))?;
            Ok(Exit::Done)
        }
    }
}

/// Files of a pack at most.
const MOST_FILES: usize = 100;

/// Verifies a pack, without a service.
fn verify(pack: &Path, keys: &[String], printer: Printer) -> Result<Exit, Failure> {
    let known = keys.iter().map(|text| key(text)).collect::<Result<Vec<_>, _>>()?;
    let file = std::fs::File::open(pack).map_err(|e| Failure::file(pack.display(), &e))?;
    let report = verify_pack(&unpack(file)?, &known);
    printer.value(&serde_json::json!({ "holds": report.holds(), "sentence": report.sentence(), "report": report }), |_| {
        let mut text = report.sentence();
        report.problems.iter().skip(1).for_each(|p| text += &format!("\n  {p}"));
        if !report.key.is_empty() {
            text += &format!("\nSigned with the key {}", report.key);
            text += if report.key_known {
                ", which you gave."
            } else {
                ", which is in the pack itself: compare it with the one that you got by another way, or give that with --key."
            };
        }
        text
    })?;
    Ok(if report.holds() { Exit::Done } else { Exit::No })
}

/// Reads a public key.
pub(crate) fn key(text: &str) -> Result<VerifyingKey, Failure> {
    let bytes = unhex(text.trim()).and_then(|b| <[u8; 32]>::try_from(b).ok());
    bytes.and_then(|b| VerifyingKey::from_bytes(&b).ok()).ok_or_else(|| Failure::usage("a key is 64 hexadecimal digits"))
}

/// The files of a pack, whose names are kept as names: nothing is written.
pub(crate) fn unpack(packed: impl std::io::Read) -> Result<BTreeMap<String, Vec<u8>>, Failure> {
    let failed = |e: std::io::Error| Failure::file("the pack", &e);
    let mut archive = tar::Archive::new(flate2::read::GzDecoder::new(packed).take(MOST_PACK));
    let (mut files, mut total) = (BTreeMap::new(), 0u64);
    for entry in archive.entries().map_err(failed)? {
        let mut entry = entry.map_err(failed)?;
        let name = String::from_utf8_lossy(&entry.path_bytes()).into_owned();
        let mut bytes = vec![];
        total = total.saturating_add(entry.size());
        if files.len() >= MOST_FILES || total > MOST_PACK {
            return Err(Failure { exit: Exit::File, message: "the pack is too large, or has too many files".into() });
        }
        entry.read_to_end(&mut bytes).map_err(failed)?;
        files.insert(name, bytes);
    }
    Ok(files)
}
