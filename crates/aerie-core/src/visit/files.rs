//! Files that pass between the two of a visit, through the service: whoever gets one takes it by hand, and that is what they agree to.

use super::{RemarkKind, Visit, VisitFault, VisitState};
use crate::wording;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// Files of one visit at most.
pub const MOST_FILES: usize = 20;
/// Bytes of one at most: it is held in memory while it is sent.
pub const LARGEST_FILE: usize = 16 << 20;
/// Characters of a name.
const LONGEST_NAME: usize = 150;

/// Which way a file goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FileWay {
    /// From whoever helps: an upload.
    ToPerson,
    /// To whoever helps: a download.
    FromPerson,
}

impl FileWay {
    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Self::ToPerson => "to-person",
            Self::FromPerson => "from-person",
        }
    }
}

/// What became of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FileState {
    /// It waits to be taken.
    Offered,
    /// It was taken.
    Taken,
    /// Whoever was to get it did not want it.
    Refused,
    /// The visit was over before.
    Lost,
}

impl FileState {
    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Offered => "offered",
            Self::Taken => "taken",
            Self::Refused => "refused",
            Self::Lost => "lost",
        }
    }
}

/// A file that was given.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct GivenFile {
    /// Identifier.
    pub id: String,
    /// Its name, without folders, printable.
    pub name: String,
    /// Bytes.
    pub bytes: u64,
    /// SHA-256 of it, hexadecimal.
    pub sha256: String,
    /// Which way it goes.
    pub way: FileWay,
    /// Who gave it, or was to take it: whoever helps.
    pub helper: String,
    /// When it was given.
    pub at: Timestamp,
    /// What became of it.
    pub state: FileState,
    /// When that was.
    pub settled: Option<Timestamp>,
}

/// A name that is good on every computer: the last part of a path, printable, of bounded length. None where nothing is left.
pub fn file_name(given: &str) -> Option<String> {
    let last = given.rsplit(['/', '\\']).next().unwrap_or_default();
    let plain: String = crate::diagnostic::printable(last).chars().filter(|c| !r#"<>:"|?*"#.contains(*c)).collect();
    let name: String = plain.trim_matches([' ', '.']).chars().take(LONGEST_NAME).collect();
    if name.is_empty() { None } else { Some(name) }
}

impl Visit {
    /// Somebody gives a file: it waits to be taken.
    ///
    /// # Errors
    /// While the person did not agree to be helped, when it is over, or has as many files as it can have.
    pub fn give_file(&mut self, mut file: GivenFile, now: Timestamp) -> Result<(), VisitFault> {
        self.must_be(&[VisitState::Waiting, VisitState::Active], "waiting or active")?;
        if self.agreed.as_ref().is_none_or(Vec::is_empty) {
            return Err(VisitFault::NotAgreed);
        }
        if self.files.len() >= MOST_FILES {
            return Err(VisitFault::ManyFiles);
        }
        (file.at, file.state, file.settled) = (now, FileState::Offered, None);
        let who = if file.way == FileWay::ToPerson { file.helper.clone() } else { String::new() };
        self.remark(now, RemarkKind::Step, &who, &format!("gave {} ({})", file.name, wording::size(file.bytes)));
        self.files.push(file);
        Ok(())
    }

    /// It is taken or refused by whoever was to get it. Who helps may take one again while the visit is not closed.
    ///
    /// # Errors
    /// When there is no such file that goes this way, or it is not to be had any more.
    pub fn settle_file(&mut self, id: &str, way: FileWay, taken: bool, now: Timestamp) -> Result<GivenFile, VisitFault> {
        if self.closed.is_some() {
            return Err(VisitFault::Closed);
        }
        let (technician, ended) = (self.technician.clone().unwrap_or_default(), self.ended.is_some());
        let file = self.files.iter_mut().find(|f| f.id == id && f.way == way).ok_or(VisitFault::NoFile)?;
        let first = file.state == FileState::Offered;
        let again = taken && file.state == FileState::Taken;
        if ended && way == FileWay::ToPerson || !first && !again {
            return Err(VisitFault::NoFile);
        }
        if first {
            file.state = if taken { FileState::Taken } else { FileState::Refused };
            file.settled = Some(now);
        }
        let file = file.clone();
        if first {
            let who = if way == FileWay::FromPerson { technician } else { String::new() };
            let verb = if taken { "took" } else { "refused" };
            self.remark(now, RemarkKind::Step, &who, &format!("{verb} {}", file.name));
        }
        Ok(file)
    }

    /// Nobody takes any more what waits to be taken: by the person when the visit is over, by whoever helps when it is closed.
    pub(super) fn lose_files(&mut self, way: FileWay, now: Timestamp) {
        for file in self.files.iter_mut().filter(|f| f.way == way && f.state == FileState::Offered) {
            (file.state, file.settled) = (FileState::Lost, Some(now));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::tests::{TIMES, request, t};
    use super::super::{Outcome, Visit};
    use super::*;
    use crate::policy::{Capabilities, Capability};

    fn file(id: &str, way: FileWay) -> GivenFile {
        GivenFile {
            id: id.into(),
            name: "log.txt".into(),
            bytes: 1200,
            sha256: String::new(),
            way,
            helper: "mira".into(),
            at: t(0),
            state: FileState::Taken,
            settled: Some(t(0)),
        }
    }

    fn agreed() -> Visit {
        let mut v = Visit::new("v".into(), request(), "mira", &TIMES, t(0));
        v.handle_arrival(super::super::Device::default(), &TIMES, t(1)).unwrap();
        assert_eq!(v.give_file(file("a", FileWay::ToPerson), t(2)), Err(VisitFault::NotAgreed));
        v.handle_answer(v.question, Capabilities::of([Capability::View]), t(3)).unwrap();
        v
    }

    #[test]
    fn a_file_is_taken_once_by_whoever_it_is_for() {
        let mut v = agreed();
        v.give_file(file("a", FileWay::ToPerson), t(4)).unwrap();
        v.give_file(file("b", FileWay::FromPerson), t(5)).unwrap();
        assert_eq!(v.files.iter().map(|f| (f.state, f.settled)).collect::<Vec<_>>(), [(FileState::Offered, None); 2]);
        assert_eq!(v.settle_file("a", FileWay::FromPerson, true, t(6)), Err(VisitFault::NoFile), "it goes the other way");
        assert_eq!(v.settle_file("a", FileWay::ToPerson, false, t(6)).unwrap().state, FileState::Refused);
        assert_eq!(v.settle_file("a", FileWay::ToPerson, true, t(7)), Err(VisitFault::NoFile), "a no stays one");
        assert_eq!(v.settle_file("b", FileWay::FromPerson, true, t(8)).unwrap().settled, Some(t(8)));
        assert_eq!(v.settle_file("b", FileWay::FromPerson, true, t(9)).unwrap().settled, Some(t(8)), "again, as long as it is there");
        let said: Vec<&str> = v.remarks.iter().filter(|r| r.kind == RemarkKind::Step).map(|r| r.text.as_str()).collect();
        assert_eq!(said, ["came", "gave log.txt (1.2 kB)", "gave log.txt (1.2 kB)", "refused log.txt", "took log.txt"]);
    }

    #[test]
    fn what_nobody_took_is_lost_and_there_is_an_end_to_it() {
        let mut v = agreed();
        v.give_file(file("a", FileWay::ToPerson), t(4)).unwrap();
        v.give_file(file("b", FileWay::FromPerson), t(4)).unwrap();
        v.handle_end(t(5));
        assert_eq!((v.files[0].state, v.files[1].state), (FileState::Lost, FileState::Offered));
        assert_eq!(v.settle_file("a", FileWay::ToPerson, true, t(6)), Err(VisitFault::NoFile));
        v.close("mira", Outcome::Solved, "", t(7)).unwrap();
        assert_eq!((v.files[1].state, v.files[1].settled), (FileState::Lost, Some(t(7))));
        assert_eq!(v.settle_file("b", FileWay::FromPerson, true, t(8)), Err(VisitFault::Closed));
        let mut v = agreed();
        for _ in 0..MOST_FILES {
            v.give_file(file("a", FileWay::ToPerson), t(4)).unwrap();
        }
        assert_eq!(v.give_file(file("a", FileWay::ToPerson), t(4)), Err(VisitFault::ManyFiles));
    }

    #[test]
    fn a_name_is_one_and_nothing_besides() {
        let table = [
            ("report.pdf", Some("report.pdf")),
            ("../../etc/passwd", Some("passwd")),
            ("C:\\Users\\rhea\\a b.txt", Some("a b.txt")),
            ("a\u{202e}txt.exe", Some("a\u{fffd}txt.exe")),
            (" ..hidden. ", Some("hidden")),
            ("a<b>:\"c|?*", Some("abc")),
            ("..", None),
            ("/", None),
            ("", None),
        ];
        for (given, name) in table {
            assert_eq!(file_name(given).as_deref(), name, "{given:?}");
        }
        assert_eq!(file_name(&"x".repeat(500)).unwrap().len(), LONGEST_NAME);
    }
}
