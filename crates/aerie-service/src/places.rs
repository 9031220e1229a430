//! Places for strangers: so many in all, and so many for one address, so that whoever holds many keeps nobody else out.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, PoisonError};

/// Places that can be taken.
#[derive(Debug)]
pub(crate) struct Places {
    most: u32,
    most_from_one: u32,
    taken: Mutex<(u32, HashMap<IpAddr, u32>)>,
}

/// One of them; given back when dropped.
#[derive(Debug)]
pub(crate) struct Place(Arc<Places>, IpAddr);

impl Places {
    /// So many in all, and so many for one address.
    pub(crate) fn new(most: u32, most_from_one: u32) -> Arc<Self> {
        Arc::new(Self { most, most_from_one, taken: Mutex::default() })
    }

    /// A place for somebody from this address; none where too many are taken.
    pub(crate) fn enter(self: &Arc<Self>, from: IpAddr) -> Option<Place> {
        let mut guard = self.taken.lock().unwrap_or_else(PoisonError::into_inner);
        let (all, by_address) = &mut *guard;
        let here = by_address.get(&from).copied().unwrap_or(0);
        if *all >= self.most || here >= self.most_from_one {
            return None;
        }
        *all += 1;
        by_address.insert(from, here + 1);
        Some(Place(self.clone(), from))
    }
}

impl Drop for Place {
    fn drop(&mut self) {
        let mut guard = self.0.taken.lock().unwrap_or_else(PoisonError::into_inner);
        guard.0 -= 1;
        if let Some(n) = guard.1.get_mut(&self.1) {
            *n -= 1;
            if *n == 0 {
                guard.1.remove(&self.1);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_are_counted_in_all_and_for_each_address() {
        let places = Places::new(3, 2);
        let (a, b): (IpAddr, IpAddr) = ("192.0.2.1".parse().unwrap(), "192.0.2.2".parse().unwrap());
        let held = [places.enter(a), places.enter(a)];
        assert!(held.iter().all(Option::is_some) && places.enter(a).is_none());
        let other = places.enter(b);
        assert!(other.is_some() && places.enter(b).is_none());
        drop(held);
        assert!(places.enter(a).is_some() && places.enter(b).is_some());
        drop(other);
        assert!(places.taken.lock().unwrap().1.is_empty());
    }
}
