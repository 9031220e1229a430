use super::auditor::Auditor;
use super::clock::LogClock;
use super::finding::Finding;
use super::lines::LineSplitter;
use super::sshd::{Counts, LogLine, Observation, SshdLog};
use jiff::tz::TimeZone;

/// One log, held against the rules as its bytes come in. Feed [`Scan::handle_bytes`], then call [`Scan::finish`].
pub struct Scan<'a> {
    auditor: Auditor<'a>,
    log: SshdLog,
    lines: LineSplitter,
}

/// What a scan gave.
#[derive(Debug, Clone)]
pub struct Scanned {
    /// How much was read.
    pub counts: Counts,
    /// Accesses that were judged, and those of them that sessions of Aerie explain.
    pub judged: (u64, u64),
    /// The first lines that could not be understood.
    pub unclear: Vec<LogLine>,
    /// What was found, most important first.
    pub findings: Vec<Finding>,
}

impl<'a> Scan<'a> {
    /// Begins to scan the log of that name.
    pub fn new(auditor: Auditor<'a>, name: &str, clock: LogClock) -> Self {
        Self { auditor, log: SshdLog::new(name, clock), lines: LineSplitter::default() }
    }

    /// Takes the next bytes of the log, in pieces of any size.
    pub fn handle_bytes(&mut self, bytes: &[u8]) {
        let Self { auditor, log, lines } = self;
        lines.handle_bytes(bytes, &mut |line, offset| judge(auditor, log, line, offset));
    }

    /// Ends the scan; sentences tell times in `zone`.
    pub fn finish(self, zone: &TimeZone) -> Scanned {
        let Self { mut auditor, mut log, lines } = self;
        lines.finish(&mut |line, offset| judge(&mut auditor, &mut log, line, offset));
        let (judged, counts, unclear) = (auditor.judged(), log.counts(), log.unclear().to_vec());
        Scanned { counts, judged, unclear, findings: auditor.finish(zone) }
    }
}

fn judge(auditor: &mut Auditor<'_>, log: &mut SshdLog, line: &[u8], offset: u64) {
    log.handle_line(line, offset, |f| auditor.handle_failure(f));
    while let Some(observation) = log.poll_observation() {
        if let Observation::Began(access) = observation {
            auditor.handle_access(&access);
        }
    }
}
