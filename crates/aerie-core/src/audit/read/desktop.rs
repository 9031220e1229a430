//! Logs of servers that show a desktop: TigerVNC's (`Xvnc … -Log *:stderr:30`, as version 1.12 writes it) and the session manager of xrdp
//! (`xrdp-sesman.log`, as version 0.9 writes it). Both name no host.

use super::super::line::digits;
use jiff::civil::DateTime;
use std::collections::VecDeque;

/// Connections of a VNC server that are followed at a time.
const MOST_PENDING: usize = 200;

/// Who came from where.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Peer {
    /// Account; empty where the server has none.
    pub account: String,
    /// Address.
    pub source: String,
    /// Port there; 0 where it is not told.
    pub port: u16,
}

/// What a line of such a log shows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Shown {
    /// Somebody got in, by this method.
    Accepted(Peer, &'static str),
    /// Somebody did not.
    Failed(Peer),
    /// A connection is over.
    Closed(Peer),
    /// It begins like a line about an access and does not go on like one.
    Unclear,
}

/// An address and a port, as `127.0.0.1::39366` or `[::1]::39366`.
fn peer(account: &str, text: &str, between: &str) -> Option<Peer> {
    let (address, port) = text.rsplit_once(between)?;
    let address = address.trim_start_matches('[').trim_end_matches(']');
    let address = address.strip_prefix("::ffff:").unwrap_or(address);
    let plausible =
        !address.is_empty() && address.len() <= 255 && address.bytes().all(|b| b.is_ascii_alphanumeric() || b".:%-_".contains(&b));
    let port = u16::try_from(digits(port.as_bytes())?).ok()?;
    plausible.then(|| Peer { account: account.into(), source: address.into(), port })
}

/// Follows a TigerVNC server's log. Its lines about signing in name no connection: they are of the one that was accepted last.
#[derive(Debug, Default)]
pub struct VncLog {
    /// Accepted, and not signed in yet, with how it asked to.
    pending: VecDeque<(Peer, &'static str)>,
}

impl VncLog {
    /// The time of a line that says nothing else: `Fri Nov 27 15:40:00 2026`.
    pub fn time(line: &str) -> Option<DateTime> {
        DateTime::strptime("%a %b %e %H:%M:%S %Y", line).ok()
    }

    /// Takes a line that begins with a blank; none where it is of no interest.
    pub fn handle_line(&mut self, line: &str) -> Option<Shown> {
        let (part, text) = line.trim_start().split_once(": ")?;
        let text = text.trim_start();
        match part {
            "Connections" => {
                let (what, who) = text.split_once(": ")?;
                match (what, peer("", who, "::")) {
                    ("accepted", Some(peer)) => {
                        if self.pending.len() >= MOST_PENDING {
                            self.pending.pop_front();
                        }
                        self.pending.push_back((peer, "none"));
                        None
                    }
                    ("closed", Some(peer)) => {
                        self.pending.retain(|(p, _)| *p != peer);
                        Some(Shown::Closed(peer))
                    }
                    ("accepted" | "closed", None) => Some(Shown::Unclear),
                    _ => None,
                }
            }
            "SConnection" => {
                let kind = text.strip_prefix("Client requests security type ")?;
                if let Some((_, method)) = self.pending.back_mut() {
                    *method = if kind.starts_with("None") { "none" } else { "password" };
                }
                None
            }
            "VNCSConnST" if text.starts_with("Server default pixel format") => {
                self.pending.pop_back().map(|(peer, method)| Shown::Accepted(peer, method))
            }
            "VNCSConnST" => {
                let (who, why) = text.strip_prefix("closing ")?.split_once(": ")?;
                why.contains("uthentication").then(|| peer("", who, "::")).flatten().map(Shown::Failed)
            }
            _ => None,
        }
    }
}

/// A line of xrdp's session manager: `[20261123-08:20:51] [INFO ] ++ created session (access granted): username ines, ip ::ffff:10.20.9.4:51234 - socket: 12`.
pub fn xrdp_line(line: &str) -> Option<(DateTime, Option<Shown>)> {
    let (stamp, rest) = line.strip_prefix('[')?.split_once("] ")?;
    let at = DateTime::strptime("%Y%m%d-%H:%M:%S", stamp).ok()?;
    Some((at, xrdp_text(rest.strip_prefix('[')?.split_once("] ")?.1)))
}

/// What the session manager says, whatever stands before it.
pub fn xrdp_text(text: &str) -> Option<Shown> {
    let created = |rest: &str| {
        let (account, rest) = rest.split_once(", ip ")?;
        Some(Shown::Accepted(peer(account, rest.split_once(" - socket")?.0, ":")?, "password"))
    };
    let ended = |rest: &str| {
        let (account, _) = rest.split_once(", ")?;
        Some(Shown::Closed(peer(account, rest.rsplit_once(", ip ")?.1, ":")?))
    };
    // The name is chosen by a stranger; what stands behind the last ` ip=` is not.
    let failed = |rest: &str| {
        let (account, rest) = rest.rsplit_once(" ip=")?;
        let (who, _) = rest.rsplit_once(" time=")?;
        let alone = || Peer { account: account.into(), source: who.into(), port: 0 };
        Some(Shown::Failed(peer(account, who, ":").unwrap_or_else(alone)))
    };
    let read = |begin: &str, how: &dyn Fn(&str) -> Option<Shown>| text.strip_prefix(begin).map(|rest| how(rest).unwrap_or(Shown::Unclear));
    read("++ created session (access granted): username ", &created)
        .or_else(|| read("++ terminated session:  username ", &ended))
        .or_else(|| read("AUTHFAIL: user=", &failed))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_real_vnc_server_wrote_is_one_access_and_one_failure() {
        let mut log = VncLog::default();
        let lines = include_str!("cases/tigervnc.log").lines();
        let told: Vec<String> = lines
            .filter(|l| VncLog::time(l).is_none())
            .filter_map(|l| log.handle_line(l))
            .map(|shown| match shown {
                Shown::Accepted(p, how) => format!("{} in, {how}", p.port),
                Shown::Failed(p) => format!("{} failed", p.port),
                Shown::Closed(p) => format!("{} out", p.port),
                Shown::Unclear => "unclear".into(),
            })
            .collect();
        assert_eq!(told, ["39366 in, none", "39366 out", "39376 failed", "39376 out", "39386 out"]);
    }

    #[test]
    fn the_session_manager_of_xrdp_is_understood() {
        let of = |line: &str| xrdp_line(line).unwrap().1;
        let from = |account: &str, port| Peer { account: account.into(), source: "10.20.9.4".into(), port };
        let begin = "[20261123-08:20:51] [INFO ] ";
        let table = [
            (
                "++ created session (access granted): username ines, ip ::ffff:10.20.9.4:51234 - socket: 12",
                Some(Shown::Accepted(from("ines", 51234), "password")),
            ),
            (
                "++ terminated session:  username ines, display :10.0, session_pid 1234, ip ::ffff:10.20.9.4:51234",
                Some(Shown::Closed(from("ines", 51234))),
            ),
            ("AUTHFAIL: user=a ip=1.2.3.4 time=9 ip=10.20.9.4 time=1763886050", Some(Shown::Failed(from("a ip=1.2.3.4 time=9", 0)))),
            ("++ created session (access granted): username ines", Some(Shown::Unclear)),
            ("starting xrdp-sesman with pid 12", None),
        ];
        for (text, shown) in table {
            assert_eq!(of(&format!("{begin}{text}")), shown, "{text}");
        }
        assert_eq!(xrdp_line("[20261323-09:20:51] [INFO ] x"), None);
    }
}
