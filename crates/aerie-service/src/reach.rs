//! Maps of who reaches what that were asked for lately: a page asks several times for the same one.

use aerie_core::policy::{Policy, Reach};
use jiff::Timestamp;
use std::sync::{Arc, Mutex};

/// How many are kept.
const KEPT: usize = 4;

#[derive(Debug)]
struct Known {
    reach: Arc<Reach>,
    from: Timestamp,
    days: u32,
}

/// The last few maps.
#[derive(Debug, Default)]
pub(crate) struct ReachCache(Mutex<Vec<Known>>);

impl ReachCache {
    fn all(&self) -> std::sync::MutexGuard<'_, Vec<Known>> {
        self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    /// The map of these rules from that day on.
    pub(crate) fn get(&self, policy: &Arc<Policy>, from: Timestamp, days: u32) -> Option<Arc<Reach>> {
        let all = self.all();
        all.iter().find(|k| Arc::ptr_eq(k.reach.policy(), policy) && k.from == from && k.days == days).map(|k| k.reach.clone())
    }

    /// Keeps a map; the oldest is dropped.
    pub(crate) fn keep(&self, reach: Arc<Reach>, from: Timestamp, days: u32) {
        let mut all = self.all();
        all.truncate(KEPT - 1);
        all.insert(0, Known { reach, from, days });
    }
}
