//! Places for strangers: so many in all, and so many for one network, so that whoever holds many keeps nobody else out.

use aerie_core::factor::Place as Network;
use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, PoisonError};
use tokio_util::sync::CancellationToken;

/// Places that can be taken. An IPv4 address is one network, and so is an IPv6 /64: that is what one customer has.
#[derive(Debug)]
pub(crate) struct Places {
    most: usize,
    most_from_one: usize,
    taken: Mutex<Taken>,
}

#[derive(Debug, Default)]
struct Taken {
    next: u64,
    /// By network: the places in the order in which they were taken.
    networks: HashMap<Network, Vec<(u64, CancellationToken)>>,
    all: usize,
}

/// One of them; given back when dropped.
#[derive(Debug)]
pub(crate) struct Place {
    places: Arc<Places>,
    network: Network,
    id: u64,
    /// Cancelled when somebody else needs it more: whoever holds many, or holds it for long, gives way.
    pub(crate) given_up: CancellationToken,
}

impl Places {
    /// So many in all, and so many for one network.
    pub(crate) fn new(most: u32, most_from_one: u32) -> Arc<Self> {
        Arc::new(Self { most: most as usize, most_from_one: most_from_one as usize, taken: Mutex::default() })
    }

    fn taken(&self) -> std::sync::MutexGuard<'_, Taken> {
        self.taken.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A place for somebody from this address; none where too many are taken.
    pub(crate) fn enter(self: &Arc<Self>, from: IpAddr) -> Option<Place> {
        self.take(from, false)
    }

    /// A place for somebody from this address. Where all are taken, the oldest of the network that holds most gives way, so that a flood
    /// displaces itself; none where that would be this network.
    pub(crate) fn enter_or_displace(self: &Arc<Self>, from: IpAddr) -> Option<Place> {
        self.take(from, true)
    }

    fn take(self: &Arc<Self>, from: IpAddr, displace: bool) -> Option<Place> {
        let (network, mut taken) = (Network::from(from), self.taken());
        let here = taken.networks.get(&network).map_or(0, Vec::len);
        if here >= self.most_from_one {
            return None;
        }
        if taken.all >= self.most {
            let crowd = taken.networks.iter().max_by_key(|(_, places)| (places.len(), std::cmp::Reverse(places.first().map(|p| p.0))));
            let crowd = crowd.filter(|(_, places)| displace && places.len() > here).map(|(n, _)| *n)?;
            let places = taken.networks.get_mut(&crowd)?;
            places.remove(0).1.cancel();
            if places.is_empty() {
                taken.networks.remove(&crowd);
            }
            taken.all -= 1;
        }
        taken.next += 1;
        taken.all += 1;
        let (id, given_up) = (taken.next, CancellationToken::new());
        taken.networks.entry(network).or_default().push((id, given_up.clone()));
        Some(Place { places: self.clone(), network, id, given_up })
    }
}

impl Drop for Place {
    fn drop(&mut self) {
        let mut taken = self.places.taken();
        let Some(places) = taken.networks.get_mut(&self.network) else { return };
        let Some(at) = places.iter().position(|p| p.0 == self.id) else { return };
        places.remove(at);
        if places.is_empty() {
            taken.networks.remove(&self.network);
        }
        taken.all -= 1;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ip(text: &str) -> IpAddr {
        text.parse().unwrap()
    }

    #[test]
    fn places_are_counted_in_all_and_for_each_network() {
        let places = Places::new(3, 2);
        let (a, b) = (ip("192.0.2.1"), ip("192.0.2.2"));
        let held = [places.enter(a), places.enter(a)];
        assert!(held.iter().all(Option::is_some) && places.enter(a).is_none());
        let other = places.enter(b);
        assert!(other.is_some() && places.enter(b).is_none());
        drop(held);
        assert!(places.enter(a).is_some() && places.enter(b).is_some());
        drop(other);
        assert!(places.taken().networks.is_empty());
        // One customer of IPv6 is one network, whatever address they take.
        let held: Vec<_> = (1..=2).map(|n| places.enter(ip(&format!("2001:db8:1:1::{n}")))).collect();
        assert!(held.iter().all(Option::is_some) && places.enter(ip("2001:db8:1:1:ffff::9")).is_none());
        assert!(places.enter(ip("2001:db8:1:2::1")).is_some());
    }

    #[test]
    fn a_flood_displaces_itself_and_nobody_else() {
        let places = Places::new(512, 64);
        let honest = places.enter_or_displace(ip("198.51.100.7")).unwrap();
        let flood: Vec<_> =
            (1..=16).flat_map(|n| (0..64).map(move |_| n)).filter_map(|n| places.enter_or_displace(ip(&format!("192.0.2.{n}")))).collect();
        assert!(flood.len() > 512 && !honest.given_up.is_cancelled());
        let late = places.enter_or_displace(ip("198.51.100.8"));
        assert!(late.is_some_and(|p| !p.given_up.is_cancelled()) && !honest.given_up.is_cancelled());
        // One is the honest one's, and one was the late one's.
        assert_eq!(flood.iter().filter(|p| !p.given_up.is_cancelled()).count(), 510);
        drop((flood, honest));
        assert_eq!(places.taken().all, 0);
    }
}
