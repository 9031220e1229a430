//! One line of an OpenSSH server's log, in the traditional syslog form (RFC 3164 section 4.1).

use crate::policy::Capability;

/// How somebody proved who they are, as far as the server says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Proof<'a> {
    /// `publickey`, `password`, `keyboard-interactive/pam`, …
    pub method: &'a str,
    /// Fingerprint of the key.
    pub key: Option<&'a str>,
    /// Its kind: `ED25519`, `RSA`, …
    pub algorithm: &'a str,
    /// The certificate, where one was used.
    pub certificate: Option<Certificate<'a>>,
}

/// A user certificate as the server logs it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Certificate<'a> {
    /// Key id.
    pub id: &'a str,
    /// Serial number.
    pub serial: u64,
    /// Fingerprint of the authority that signed it.
    pub authority: &'a str,
}

/// Who came from where.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Login<'a> {
    /// Account on the machine; chosen by the stranger where the login failed.
    pub account: &'a str,
    /// Address.
    pub source: &'a str,
    /// Port there.
    pub port: u16,
}

/// What a line says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Message<'a> {
    /// Somebody got in.
    Accepted(Login<'a>, Proof<'a>),
    /// Somebody did not; whether there is such an account.
    Failed(Login<'a>, bool),
    /// A connection that had got in is over; the account where the line names it.
    Closed {
        /// Address.
        source: &'a str,
        /// Port there.
        port: u16,
    },
    /// The session of an account is over, told by PAM under the same process.
    SessionClosed,
    /// Somebody who had got in used it for something.
    Used {
        /// For what.
        capability: Capability,
        /// Address and port, where the line names them.
        from: Option<(&'a str, u16)>,
        /// Account, where it does not.
        account: &'a str,
    },
    /// Nothing about an access.
    Other,
    /// It begins like a line about an access and does not go on like one.
    Unclear,
}

/// A line of the server's log.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SshdLine<'a> {
    /// The first fifteen bytes: `Nov 23 08:20:50`.
    pub stamp: &'a [u8],
    /// Host name.
    pub host: &'a str,
    /// Process.
    pub pid: u32,
    /// What it says.
    pub message: Message<'a>,
}

/// Reads a line; none where it is not one of the SSH server's.
///
/// Names that a stranger chose are taken from the left of the last ` from `, and never looked into, so that a user name that
/// imitates log text stays a user name.
pub fn parse_line(line: &[u8]) -> Option<SshdLine<'_>> {
    let (stamp, rest) = line.split_at_checked(15)?;
    let rest = rest.strip_prefix(b" ")?;
    let space = memchr::memchr(b' ', rest.get(..256.min(rest.len()))?)?;
    let (host, rest) = rest.split_at_checked(space)?;
    let tag = rest.get(1..)?;
    if !tag.starts_with(b"sshd") {
        return None;
    }
    let after = tag.get(4..)?;
    let after = after.strip_prefix(b"-session").or_else(|| after.strip_prefix(b"-auth")).unwrap_or(after);
    let number = after.strip_prefix(b"[")?;
    let close = memchr::memchr(b']', number.get(..12.min(number.len()))?)?;
    let pid = digits(number.get(..close)?)?;
    let text = number.get(close..)?.strip_prefix(b"]: ")?;
    let message = match std::str::from_utf8(text) {
        Ok(text) => message(text),
        // OpenSSH escapes what is not printable: a line with other bytes is not as it was written.
        Err(_) => Message::Unclear,
    };
    Some(SshdLine { stamp, host: std::str::from_utf8(host).ok()?, pid, message })
}

pub(super) fn digits(bytes: &[u8]) -> Option<u32> {
    if bytes.is_empty() {
        return None;
    }
    bytes.iter().try_fold(0u32, |n, b| if b.is_ascii_digit() { n.checked_mul(10)?.checked_add(u32::from(b - b'0')) } else { None })
}

pub(super) fn message(text: &str) -> Message<'_> {
    match text.as_bytes().first() {
        Some(b'A') => text.strip_prefix("Accepted ").map_or(Message::Other, |t| accepted(t).unwrap_or(Message::Unclear)),
        Some(b'F') => text.strip_prefix("Failed ").map_or(Message::Other, |t| failed(t).unwrap_or(Message::Unclear)),
        Some(b'D') => text.strip_prefix("Disconnected from user ").map_or(Message::Other, |t| closed(t).unwrap_or(Message::Unclear)),
        Some(b'C') => {
            let rest = text.strip_prefix("Connection closed by ").or_else(|| text.strip_prefix("Connection reset by "));
            rest.and_then(dropped).unwrap_or(Message::Other)
        }
        Some(b'T') => {
            text.strip_prefix("Timeout, client not responding from user ").map_or(Message::Other, |t| closed(t).unwrap_or(Message::Unclear))
        }
        Some(b'S') => text.strip_prefix("Starting session: ").map_or(Message::Other, |t| started(t).unwrap_or(Message::Unclear)),
        Some(b's') => text.strip_prefix("subsystem request for ").map_or(Message::Other, |t| subsystem(t).unwrap_or(Message::Other)),
        Some(b'p') if text.starts_with("pam_unix(sshd:session): session closed for user ") => Message::SessionClosed,
        _ => Message::Other,
    }
}

/// `publickey for operator from 10.20.4.7 port 51514 ssh2: ED25519-CERT SHA256:… ID … (serial 5) CA ED25519 SHA256:…`
fn accepted(text: &str) -> Option<Message<'_>> {
    let (method, rest) = cut(text, " for ")?;
    // An account that exists has no white space in its name, while the key id further right may say anything.
    let (account, rest) = cut(rest, " from ")?;
    let (source, rest) = cut(rest, " port ")?;
    let (port, rest) = rest.split_once(' ')?;
    let detail = rest.strip_prefix("ssh2").or_else(|| rest.strip_prefix("ssh1"))?;
    let mut proof = Proof { method, key: None, algorithm: "", certificate: None };
    if let Some(detail) = detail.strip_prefix(": ") {
        let (kind, rest) = detail.split_once(' ')?;
        proof.key = rest.split(' ').next();
        proof.algorithm = kind.strip_suffix("-CERT").unwrap_or(kind);
        if kind.ends_with("-CERT") {
            let (_, id) = rest.split_once(" ID ")?;
            let (id, authority) = id.rsplit_once(" CA ")?;
            let (id, serial) = id.rsplit_once(" (serial ")?;
            let serial = serial.strip_suffix(')')?.parse().ok()?;
            let authority = authority.split(' ').nth(1)?;
            proof.certificate = Some(Certificate { id, serial, authority });
        }
    }
    Some(Message::Accepted(login(account, source, port)?, proof))
}

/// `password for invalid user admin from 203.0.113.9 port 4242 ssh2`
fn failed(text: &str) -> Option<Message<'_>> {
    let (_, rest) = cut(text, " for ")?;
    let (rest, exists) = rest.strip_prefix("invalid user ").map_or((rest, true), |r| (r, false));
    let (account, rest) = cut_last(rest, " from ")?;
    let (source, rest) = cut(rest, " port ")?;
    let port = rest.split(' ').next()?;
    Some(Message::Failed(login(account, source, port)?, exists))
}

/// `operator 10.20.4.7 port 51514`
fn closed(text: &str) -> Option<Message<'_>> {
    let (rest, port) = text.rsplit_once(" port ")?;
    let (_, source) = rest.rsplit_once(' ')?;
    let Login { source, port, .. } = login("", source, port)?;
    Some(Message::Closed { source, port })
}

/// `10.20.4.7 port 51514`, and nothing more: before anybody got in, `[preauth]` follows, or a name stands in front.
fn dropped(text: &str) -> Option<Message<'_>> {
    let (source, port) = text.split_once(" port ")?;
    let Login { source, port, .. } = login("", source, port).filter(|l| !l.source.contains(' '))?;
    Some(Message::Closed { source, port })
}

/// `shell on pts/0 for operator from 10.20.4.7 port 51514 id 0`, at log level VERBOSE. A forced command may say anything and stands before
/// the account.
fn started(text: &str) -> Option<Message<'_>> {
    let capability = match text.split([' ', '\'']).next()? {
        "shell" => Capability::Shell,
        "command" | "forced-command" => Capability::Exec,
        "subsystem" if text.starts_with("subsystem 'sftp'") => Capability::Browse,
        "subsystem" => return Some(Message::Other),
        _ => return None,
    };
    let (_, from) = cut_last(text, " from ")?;
    let (source, rest) = cut(from, " port ")?;
    let Login { source, port, .. } = login("", source, rest.split(' ').next()?)?;
    Some(Message::Used { capability, from: Some((source, port)), account: "" })
}

/// `sftp by user operator`; `…, subsystem not found` where there is none.
fn subsystem(text: &str) -> Option<Message<'_>> {
    let account = text.strip_prefix("sftp by user ")?;
    let plain = !account.is_empty() && !account.contains([' ', ',']);
    plain.then_some(Message::Used { capability: Capability::Browse, from: None, account })
}

/// What stands before and behind the first place of a short text.
fn cut<'a>(text: &'a str, at: &str) -> Option<(&'a str, &'a str)> {
    let (first, bytes) = (*at.as_bytes().first()?, text.as_bytes());
    let found = memchr::memchr_iter(first, bytes).find(|n| bytes.get(*n..).is_some_and(|rest| rest.starts_with(at.as_bytes())))?;
    Some((text.get(..found)?, text.get(found + at.len()..)?))
}

/// What stands before and behind the last place of a short text.
fn cut_last<'a>(text: &'a str, at: &str) -> Option<(&'a str, &'a str)> {
    let (first, bytes) = (*at.as_bytes().first()?, text.as_bytes());
    let found = memchr::memrchr_iter(first, bytes).find(|n| bytes.get(*n..).is_some_and(|rest| rest.starts_with(at.as_bytes())))?;
    Some((text.get(..found)?, text.get(found + at.len()..)?))
}

fn login<'a>(account: &'a str, source: &'a str, port: &str) -> Option<Login<'a>> {
    let port = u16::try_from(digits(port.as_bytes())?).ok()?;
    // An address, with a zone where it is link-local; or a name, where the server looks names up.
    let plausible = !source.is_empty() && source.len() <= 255 && source.bytes().all(|b| b.is_ascii_alphanumeric() || b".:%-_".contains(&b));
    (plausible && account.len() <= 512).then_some(Login { account, source, port })
}
