//! Security events of Windows, exported as XML (`wevtutil qe Security /f:xml`, or the event viewer's export): logons and logoffs by
//! their numbers.

use jiff::Timestamp;
use quick_xml::Reader;
use quick_xml::events::Event;

/// Longest event, in bytes: real ones have some kilobytes.
pub const LONGEST_EVENT: usize = 64 << 10;

/// What an event says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// 4624: somebody logged on.
    Logon,
    /// 4625: somebody did not.
    Failure,
    /// 4634 and 4647: a logon is over.
    Logoff,
    /// 4648: somebody used other credentials than their own.
    ExplicitCredentials,
    /// 4740: an account was locked out.
    LockedOut,
    /// Any other.
    Other,
}

/// One event.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WindowsEvent {
    /// What it says.
    pub kind: Kind,
    /// Name of the computer, in lower case, without its domain.
    pub host: String,
    /// When.
    pub at: Timestamp,
    /// Account.
    pub account: String,
    /// Address it came from; empty for one at the machine itself.
    pub source: String,
    /// Port there.
    pub port: u16,
    /// Type of the logon: 3 over the network, 10 a remote desktop, 2 and 11 at the machine.
    pub logon_type: u16,
    /// Identifier of the logon, which its end names again.
    pub logon_id: String,
}

impl WindowsEvent {
    /// Reads one `<Event>` element; none where it is none.
    pub fn read(xml: &[u8]) -> Option<Self> {
        let (mut id, mut host, mut at) = (String::new(), String::new(), None);
        let mut data: Vec<(String, String)> = vec![];
        let (mut path, mut name, mut value) = (Vec::<String>::new(), String::new(), String::new());
        let mut reader = Reader::from_str(std::str::from_utf8(xml).ok()?);
        loop {
            match reader.read_event().ok()? {
                Event::Start(e) => {
                    value.clear();
                    name = attribute(&e, "Name").unwrap_or_default();
                    at = at.or_else(|| time_of(&e));
                    path.push(e.local_name().as_ref().to_string());
                    if path.len() > 16 || data.len() > 200 {
                        return None;
                    }
                }
                Event::Empty(e) => at = at.or_else(|| time_of(&e)),
                Event::Text(t) => value.push_str(&t.xml10_content()),
                Event::GeneralRef(r) => {
                    let character = r.resolve_char_ref().ok().flatten().or(match &*r {
                        "amp" => Some('&'),
                        "lt" => Some('<'),
                        "gt" => Some('>'),
                        "quot" => Some('"'),
                        "apos" => Some('\''),
                        _ => None,
                    });
                    value.push(character?);
                }
                Event::End(_) => match path.pop()?.as_str() {
                    "EventID" => id = std::mem::take(&mut value),
                    "Computer" => host = std::mem::take(&mut value),
                    "Data" => data.push((std::mem::take(&mut name), std::mem::take(&mut value))),
                    _ => {}
                },
                Event::Eof => break,
                _ => {}
            }
        }
        let of = |wanted: &str| data.iter().find(|(n, _)| n == wanted).map_or("", |(_, v)| v.trim());
        let kind = match id.trim() {
            "4624" => Kind::Logon,
            "4625" => Kind::Failure,
            "4634" | "4647" => Kind::Logoff,
            "4648" => Kind::ExplicitCredentials,
            "4740" => Kind::LockedOut,
            "" => return None,
            _ => Kind::Other,
        };
        let source = of("IpAddress").trim_start_matches("::ffff:");
        Some(Self {
            kind,
            host: host.split('.').next().unwrap_or_default().to_lowercase(),
            at: at?,
            account: of("TargetUserName").into(),
            source: if matches!(source, "-" | "127.0.0.1" | "::1") { String::new() } else { source.into() },
            port: of("IpPort").parse().unwrap_or(0),
            logon_type: of("LogonType").parse().unwrap_or(0),
            logon_id: of("TargetLogonId").into(),
        })
    }

    /// Whether it is of somebody elsewhere who gets to a desktop or shell: types 10 (remote desktop) and 3 (network) with an address.
    pub fn is_remote(&self) -> bool {
        !self.source.is_empty() && matches!(self.logon_type, 3 | 7 | 10) && !self.account.ends_with('$')
    }
}

fn attribute(e: &quick_xml::events::BytesStart<'_>, wanted: &str) -> Option<String> {
    let found = e.attributes().flatten().find(|a| a.key.local_name().as_ref() == wanted)?;
    Some(found.value.into_owned())
}

fn time_of(e: &quick_xml::events::BytesStart<'_>) -> Option<Timestamp> {
    (e.local_name().as_ref() == "TimeCreated").then(|| attribute(e, "SystemTime")?.parse().ok())?
}

/// Cuts a stream into `<Event>` elements, in pieces of any size.
#[derive(Debug, Default)]
pub struct EventSplitter {
    rest: Vec<u8>,
    offset: u64,
    /// Bytes that were in no element, or in one that was too long.
    pub skipped: u64,
}

impl EventSplitter {
    /// Takes a piece and calls back for each element that it completes, with the element's offset in the stream.
    pub fn handle_bytes(&mut self, piece: &[u8], each: &mut impl FnMut(&[u8], u64)) {
        // A piece at a time, so that what is kept stays bounded however much comes at once.
        for part in piece.chunks(LONGEST_EVENT) {
            self.rest.extend_from_slice(part);
            self.cut(each);
        }
    }

    fn cut(&mut self, each: &mut impl FnMut(&[u8], u64)) {
        const BEGIN: &[u8] = b"<Event";
        const END: &[u8] = b"</Event>";
        loop {
            let begin = element_in(&self.rest, BEGIN);
            let Some(begin) = begin else {
                // What may be the beginning of one stays.
                return self.drop_first(self.rest.len().saturating_sub(BEGIN.len()));
            };
            self.drop_first(begin);
            let Some(end) = memchr::memmem::find(&self.rest, END) else {
                if self.rest.len() > LONGEST_EVENT {
                    self.drop_first(BEGIN.len());
                    continue;
                }
                return;
            };
            let whole = end + END.len();
            each(self.rest.get(..whole).unwrap_or_default(), self.offset);
            self.offset += whole as u64;
            self.rest.drain(..whole);
        }
    }

    fn drop_first(&mut self, n: usize) {
        self.skipped += n as u64;
        self.offset += n as u64;
        self.rest.drain(..n.min(self.rest.len()));
    }
}

/// Where an element begins that is called so, and not only begins so, as `<Events>` does.
fn element_in(text: &[u8], begin: &[u8]) -> Option<usize> {
    memchr::memmem::find_iter(text, begin).find(|at| matches!(text.get(at + begin.len()), Some(b' ' | b'>' | b'\t' | b'\r' | b'\n') | None))
}

#[cfg(test)]
mod tests {
    use super::*;

    const LOGON: &str = "<Event xmlns='http://schemas.microsoft.com/win/2004/08/events/event'><System><Provider Name='Microsoft-Windows-Security-Auditing'/><EventID>4624</EventID><TimeCreated SystemTime='2026-11-23T08:20:50.1234567Z'/><Computer>STAFF-3.corvid.example</Computer></System><EventData><Data Name='TargetUserName'>ines&amp;x</Data><Data Name='TargetLogonId'>0x1f2</Data><Data Name='LogonType'>10</Data><Data Name='IpAddress'>10.20.9.4</Data><Data Name='IpPort'>51234</Data></EventData></Event>";

    #[test]
    fn a_logon_is_read_with_what_is_needed() {
        let e = WindowsEvent::read(LOGON.as_bytes()).unwrap();
        assert_eq!(
            (e.kind, e.host.as_str(), e.account.as_str(), e.source.as_str(), e.port),
            (Kind::Logon, "staff-3", "ines&x", "10.20.9.4", 51234)
        );
        assert!(e.is_remote() && e.at == "2026-11-23T08:20:50.1234567Z".parse().unwrap());
        let other = |from: &str, to: &str| WindowsEvent::read(LOGON.replace(from, to).as_bytes());
        assert_eq!(other("4624", "4647").unwrap().kind, Kind::Logoff);
        assert!(!other(">10<", ">2<").unwrap().is_remote() && !other("10.20.9.4", "-").unwrap().is_remote());
        assert_eq!(other("<EventID>4624</EventID>", ""), None);
        assert_eq!(other("&amp;", "&other;"), None);
        assert_eq!(other("SystemTime", "Other"), None);
    }

    #[test]
    fn elements_are_cut_out_of_pieces_of_any_size() {
        let file = format!("<?xml version='1.0'?><Events>\r\n{LOGON}\r\n{LOGON}</Events> rubbish <Event");
        for size in [1, 7, 64, 100_000] {
            let (mut found, mut splitter) = (vec![], EventSplitter::default());
            for piece in file.as_bytes().chunks(size) {
                splitter.handle_bytes(piece, &mut |e, at| found.push((e.len(), at)));
            }
            assert_eq!(found, [(LOGON.len(), 31), (LOGON.len(), 33 + LOGON.len() as u64)], "{size}");
        }
        let mut endless = EventSplitter::default();
        for _ in 0..50 {
            endless.handle_bytes(format!("<Event {}", "x".repeat(50_000)).as_bytes(), &mut |_, _| panic!("none is whole"));
        }
        assert!(endless.rest.len() <= 2 * LONGEST_EVENT && endless.skipped > 0);
    }
}
