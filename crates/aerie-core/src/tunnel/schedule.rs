use super::mux::PIECE;
use std::collections::VecDeque;

/// Which stream sends next: deficit round robin with streams that send little first, as in RFC 8290 section 3. A keystroke
/// passes any amount of bulk data, without anybody saying which is which.
#[derive(Debug, Default)]
pub(super) struct Schedule {
    /// Streams that had nothing to send until now.
    fresh: VecDeque<u32>,
    /// Streams that have used up their quantum.
    rest: VecDeque<u32>,
}

/// What the schedule knows of a stream.
#[derive(Debug, Default)]
pub(super) struct Turn {
    deficit: usize,
    listed: bool,
}

/// Bytes that a stream sends in one turn.
const QUANTUM: usize = PIECE;

impl Schedule {
    /// A stream has something to send.
    pub(super) fn wake(&mut self, stream: u32, turn: &mut Turn) {
        if !turn.listed {
            *turn = Turn { deficit: QUANTUM, listed: true };
            self.fresh.push_back(stream);
        }
    }

    /// The stream whose turn it is, and whether it is one of the fresh.
    pub(super) fn next(&self) -> Option<(u32, bool)> {
        self.fresh.front().map(|s| (*s, true)).or_else(|| self.rest.front().map(|s| (*s, false)))
    }

    /// The stream whose turn it is has sent so many bytes, and has more to send or not.
    pub(super) fn sent(&mut self, fresh: bool, turn: &mut Turn, bytes: usize, more: bool) {
        turn.deficit = turn.deficit.saturating_sub(bytes);
        if more && turn.deficit > 0 {
            return;
        }
        let list = if fresh { &mut self.fresh } else { &mut self.rest };
        let Some(stream) = list.pop_front() else { return };
        if more {
            turn.deficit = QUANTUM;
            self.rest.push_back(stream);
        } else if fresh && !self.rest.is_empty() {
            // It waits one round before it counts as fresh again: a stream that sends all the time in small pieces must not
            // starve the others.
            self.rest.push_back(stream);
        } else {
            turn.listed = false;
        }
    }

    /// The stream whose turn it is no longer exists.
    pub(super) fn skip(&mut self, fresh: bool) {
        let list = if fresh { &mut self.fresh } else { &mut self.rest };
        list.pop_front();
    }
}
