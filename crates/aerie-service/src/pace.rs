//! How fast somebody may send: what is beyond it is not lost, it waits, and so does whoever sends.

use std::time::Duration;
use tokio::time::Instant;

const SECOND: Duration = Duration::from_secs(1);

/// So much in a second.
pub(crate) struct Pace {
    most: usize,
    since: Instant,
    spent: usize,
}

impl Pace {
    /// At most so much in each second, beginning now.
    pub(crate) fn new(most: usize, now: Instant) -> Self {
        Self { most, since: now, spent: 0 }
    }

    /// Spends so much, after the second in which there is room for it has begun.
    pub(crate) async fn spend(&mut self, amount: usize) {
        tokio::time::sleep_until(self.handle_spent(amount, Instant::now())).await;
    }

    /// Until when whoever spends so much must wait: now, while the second's worth is not spent. One amount passes however large it is, so that
    /// nothing is too large to be sent at all.
    fn handle_spent(&mut self, amount: usize, now: Instant) -> Instant {
        let next = self.since + SECOND;
        if now >= next {
            (self.since, self.spent) = (now, 0);
        } else if self.spent >= self.most {
            (self.since, self.spent) = (next, 0);
        }
        self.spent += amount;
        now.max(self.since)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_beyond_a_second_waits_for_the_next() {
        let began = Instant::now();
        let (mut now, mut pace) = (began, Pace::new(3, began));
        let mut at = vec![];
        for _ in 0..7 {
            now = pace.handle_spent(1, now);
            at.push((now - began).as_secs());
        }
        assert_eq!(at, [0, 0, 0, 1, 1, 1, 2]);
    }

    #[test]
    fn what_is_not_spent_is_not_saved_up_and_large_ones_pass() {
        let began = Instant::now();
        let mut pace = Pace::new(3, began);
        let later = began + 60 * SECOND;
        assert_eq!(pace.handle_spent(1000, later), later, "nothing was spent before it");
        assert_eq!(pace.handle_spent(1, later), later + SECOND, "after it, everything waits");
        assert_eq!(pace.handle_spent(1, later + SECOND), later + SECOND);
    }
}
