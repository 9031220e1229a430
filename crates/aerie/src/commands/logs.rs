//! Which files are read, and in which order.

use crate::Failure;
use std::cmp::Reverse;
use std::path::{Path, PathBuf};

/// Files below a directory at most; more are the wrong directory.
const MOST_FILES: usize = 100_000;
/// How deep directories are looked into.
const DEEPEST: usize = 16;

/// A file name without the marks of rotation, and how old the piece is: `auth.log.2.gz` is older than `auth.log.1`, which is older than `auth.log`.
fn rotation(name: &str) -> (String, Reverse<u64>, u64) {
    let plain = [".gz", ".zst", ".zstd"].iter().find_map(|e| name.strip_suffix(e)).unwrap_or(name);
    let digits = |text: &str| if text.is_empty() || text.len() > 14 { None } else { text.parse::<u64>().ok() };
    if let Some((base, number)) = plain.rsplit_once('.')
        && let Some(number) = digits(number)
    {
        return (base.into(), Reverse(number), 0);
    }
    // `auth.log-20261101`: dates grow, and the file without one is the newest.
    if let Some((base, date)) = plain.rsplit_once('-')
        && let Some(date) = digits(date).filter(|_| date.len() >= 8)
    {
        return (base.into(), Reverse(1), date);
    }
    (plain.into(), Reverse(0), 0)
}

/// Sets of rotated files, each from its oldest piece to its newest.
pub(super) fn in_order(mut files: Vec<PathBuf>) -> Vec<PathBuf> {
    files.sort_by_cached_key(|p| {
        let name = p.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
        (p.parent().map(Path::to_path_buf), rotation(&name), name)
    });
    files
}

/// The same files with their numbers, each rotated set by itself: sets may be read beside each other, the pieces of one may not.
pub(super) fn sets(files: &[PathBuf]) -> Vec<Vec<(usize, PathBuf)>> {
    let of = |p: &Path| (p.parent().map(Path::to_path_buf), rotation(&p.file_name().unwrap_or_default().to_string_lossy()).0);
    let mut all: Vec<Vec<(usize, PathBuf)>> = vec![];
    for (n, file) in files.iter().enumerate() {
        match all.last_mut().filter(|set| set.first().is_some_and(|(_, first)| of(first) == of(file))) {
            Some(set) => set.push((n, file.clone())),
            None => all.push(vec![(n, file.clone())]),
        }
    }
    all
}

/// The files that are named, and those in the directories that are; `-` stands for standard input.
///
/// # Errors
/// When there are too many.
pub(super) fn expand(named: &[PathBuf]) -> Result<Vec<PathBuf>, Failure> {
    let mut all = vec![];
    for path in named {
        if path.is_dir() {
            let mut found = vec![];
            below(path, 0, &mut found)?;
            all.extend(in_order(found));
        } else {
            all.push(path.clone());
        }
    }
    Ok(all)
}

fn below(directory: &Path, depth: usize, found: &mut Vec<PathBuf>) -> Result<(), Failure> {
    let entries = std::fs::read_dir(directory).map_err(|e| Failure::file(directory.display(), &e))?;
    for entry in entries.flatten() {
        let Ok(kind) = entry.file_type() else { continue };
        // Links may lead in circles, and pipes have no end.
        if kind.is_dir() && depth < DEEPEST {
            below(&entry.path(), depth + 1, found)?;
        } else if kind.is_file() {
            found.push(entry.path());
        }
        if found.len() > MOST_FILES {
            return Err(Failure::usage(format!("{} holds more than {MOST_FILES} files: name those that are logs", directory.display())));
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rotated_files_are_read_from_the_oldest() {
        let names = [
            "auth.log",
            "auth.log.10.gz",
            "auth.log.2.gz",
            "auth.log.1",
            "wtmp",
            "wtmp.1",
            "secure-20261101",
            "secure-20261108.zst",
            "secure",
        ];
        let ordered: Vec<String> = in_order(names.iter().map(PathBuf::from).collect()).iter().map(|p| p.display().to_string()).collect();
        assert_eq!(
            ordered,
            [
                "auth.log.10.gz",
                "auth.log.2.gz",
                "auth.log.1",
                "auth.log",
                "secure-20261101",
                "secure-20261108.zst",
                "secure",
                "wtmp.1",
                "wtmp"
            ]
        );
    }

    #[test]
    fn pieces_of_one_log_stay_together_and_other_logs_are_by_themselves() {
        let files = ["a/auth.log.1", "a/auth.log", "b/auth.log", "a/wtmp", "-", "-"].map(PathBuf::from);
        let numbers: Vec<Vec<usize>> = sets(&files).iter().map(|set| set.iter().map(|(n, _)| *n).collect()).collect();
        assert_eq!(numbers, [vec![0, 1], vec![2], vec![3], vec![4, 5]]);
    }

    #[test]
    fn directories_are_looked_into_and_links_are_not() {
        let dir = tempfile::tempdir().unwrap();
        std::fs::create_dir(dir.path().join("old")).unwrap();
        std::fs::write(dir.path().join("old/auth.log.1"), "").unwrap();
        std::fs::write(dir.path().join("auth.log"), "").unwrap();
        std::os::unix::fs::symlink(dir.path(), dir.path().join("old/circle")).unwrap();
        assert_eq!(expand(&[dir.path().to_path_buf(), "-".into()]).unwrap().len(), 3);
    }
}
