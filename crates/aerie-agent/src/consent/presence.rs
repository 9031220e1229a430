//! Who is at this machine, from its own files.

use aerie_core::session::consent::Presence;
use jiff::{SignedDuration, Timestamp};
use std::fs::{self, OpenOptions};
use std::io::Write as _;
use std::os::unix::fs::{FileTypeExt as _, MetadataExt as _, OpenOptionsExt as _};
use std::path::{Path, PathBuf};

/// The terminal of a login, if its name is one below /dev.
fn device(terminal: &str) -> Option<PathBuf> {
    let plain = !terminal.is_empty() && !terminal.contains("..") && terminal.chars().all(|c| c.is_ascii_alphanumeric() || c == '/');
    let path = Path::new("/dev").join(terminal);
    let is_terminal = plain && fs::metadata(&path).is_ok_and(|m| m.file_type().is_char_device());
    is_terminal.then_some(path)
}

/// Logins, with the time since a key was pressed (a terminal's time of access: tty_io.c of Linux keeps it to some seconds). None where
/// the machine keeps no such list.
pub(super) fn now() -> Option<Vec<Presence>> {
    let logins = crate::facts::logins()?;
    let now = Timestamp::now();
    let idle = |terminal: &str| {
        let read = fs::metadata(device(terminal)?).ok()?.atime();
        Some(now.duration_since(Timestamp::from_second(read).ok()?).max(SignedDuration::ZERO))
    };
    Some(logins.into_iter().map(|login| Presence { idle: idle(&login.terminal), login }).collect())
}

/// Writes a line to the terminals of those who are logged in. One that does not read loses it.
pub(super) fn write_to_terminals(text: &str) {
    for login in crate::facts::logins().unwrap_or_default() {
        let Some(path) = device(&login.terminal) else { continue };
        let opened = OpenOptions::new().write(true).custom_flags(nix::libc::O_NOCTTY | nix::libc::O_NONBLOCK).open(path);
        if let Ok(mut terminal) = opened {
            let _ = terminal.write_all(text.as_bytes());
        }
    }
}
