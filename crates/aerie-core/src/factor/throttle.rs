use jiff::{SignedDuration, Timestamp};
use std::collections::{HashMap, VecDeque};
use std::net::IpAddr;

/// Wrong tries of one place at one account before each further one has to wait, twice as long each time.
const FREE: u32 = 5;
/// The longest that one place waits for one account.
const LONGEST: SignedDuration = SignedDuration::from_mins(15);
/// Wrong tries of one place over all accounts within an hour: a household that mistypes stays below, somebody who tries one
/// password on every account does not.
const FROM_ONE_PLACE: u32 = 60;
/// Wrong tries at one account within an hour from places that it never signed in from. At this rate the commonest 9,000
/// passwords, none of which can be set, take more than three days; and those who have signed in there before are not concerned.
const FROM_STRANGERS: u32 = 100;
/// Time over which the two hourly counts run.
const HOUR: SignedDuration = SignedDuration::from_hours(1);
/// Time after which a place that failed is forgotten.
const FORGET: SignedDuration = SignedDuration::from_hours(24);
/// Characters of an account's name that are kept: a stranger chooses it, and no name is longer. What is longer is counted with
/// others that begin alike.
const NAME: usize = 64;
/// Entries kept, some 200 bytes each. Beyond it the one that was longest idle goes.
const MOST: usize = 50_000;

/// Where tries come from, as far as they are counted together: an IPv4 address, or the network of an IPv6 one (/64, which
/// is what one customer has).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Place(IpAddr);

impl From<IpAddr> for Place {
    fn from(address: IpAddr) -> Self {
        Self(match address.to_canonical() {
            IpAddr::V6(a) => {
                let [a, b, c, d, ..] = a.segments();
                IpAddr::V6(std::net::Ipv6Addr::new(a, b, c, d, 0, 0, 0, 0))
            }
            v4 @ IpAddr::V4(_) => v4,
        })
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Hash)]
enum Count {
    /// One place, or one known device, at one account.
    Pair(String, Source),
    /// One place, whatever account.
    Place(Place),
    /// One account, from strangers.
    Account(String),
}

/// Who tries.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Source {
    /// A place that the account has not signed in from.
    Stranger(Place),
    /// A browser or place that the account has signed in from: whatever strangers do, it has tries of its own. Named by
    /// anything that tells them apart.
    Known([u8; 16]),
}

/// What is tried.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Target<'a> {
    /// An account: tries at it from strangers are counted together, wherever they come from.
    Account(&'a str),
    /// Something that is nobody's, and looked up by a secret alone: what one place does concerns no other.
    Nobody(&'a str),
}

#[derive(Debug)]
struct Tally {
    failures: u32,
    since: Timestamp,
    last: Timestamp,
}

/// Counts wrong tries, and says how long the next has to wait. Guessing is hopeless, and nobody can lock out somebody else
/// for ever: whoever signed in from a browser or place before is counted apart from strangers.
#[derive(Debug, Default)]
pub struct Throttle {
    counts: HashMap<Count, Tally>,
    /// Order of arrival, for forgetting.
    order: VecDeque<Count>,
}

impl Throttle {
    fn keys(target: Target<'_>, source: &Source, place: Place) -> Vec<(Count, Option<u32>)> {
        let (Target::Account(name) | Target::Nobody(name)) = target;
        let name: String = name.chars().take(NAME).collect();
        let mut keys = vec![(Count::Pair(name.clone(), source.clone()), None)];
        if let Source::Stranger(_) = source {
            keys.push((Count::Place(place), Some(FROM_ONE_PLACE)));
            if let Target::Account(_) = target {
                keys.push((Count::Account(name), Some(FROM_STRANGERS)));
            }
        }
        keys
    }

    /// Takes a try before anything is compared, so that of many at once no more are made than one after the other: it counts as a wrong
    /// one until [`Throttle::handle_success`] or [`Throttle::give_back`].
    ///
    /// # Errors
    /// How long it has to wait; then nothing was counted.
    pub fn reserve(&mut self, target: Target<'_>, source: &Source, place: Place, now: Timestamp) -> Result<(), SignedDuration> {
        match self.wait(target, source, place, now) {
            Some(wait) => Err(wait),
            None => {
                self.handle_failure(target, source, place, now);
                Ok(())
            }
        }
    }

    /// A try that was reserved was none: nothing was compared, or it was right.
    pub fn give_back(&mut self, target: Target<'_>, source: &Source, place: Place) {
        for (key, _) in Self::keys(target, source, place) {
            if let Some(tally) = self.counts.get_mut(&key) {
                tally.failures = tally.failures.saturating_sub(1);
            }
        }
    }

    /// How long this try has to wait; none where it may be made now.
    pub fn wait(&mut self, target: Target<'_>, source: &Source, place: Place, now: Timestamp) -> Option<SignedDuration> {
        let waits = Self::keys(target, source, place).into_iter().filter_map(|(key, hourly)| {
            let tally = self.counts.get_mut(&key)?;
            // What seems to lie ahead is from before the clock went back: it counts from now, and no longer than it ever would.
            (tally.last, tally.since) = (tally.last.min(now), tally.since.min(now));
            let (last, since) = (tally.last, tally.since);
            match hourly {
                None if tally.failures >= FREE => {
                    let doublings = (tally.failures - FREE).min(20);
                    let wait = SignedDuration::from_secs(2i64 << doublings).min(LONGEST);
                    Some(wait - now.duration_since(last))
                }
                Some(most) if tally.failures >= most => Some(HOUR - now.duration_since(since)),
                None | Some(_) => None,
            }
        });
        waits.filter(|w| w.is_positive()).max()
    }

    /// Notes a wrong try.
    pub fn handle_failure(&mut self, target: Target<'_>, source: &Source, place: Place, now: Timestamp) {
        for (key, hourly) in Self::keys(target, source, place) {
            let fresh = Tally { failures: 0, since: now, last: now };
            if !self.counts.contains_key(&key) {
                self.order.push_back(key.clone());
            }
            let tally = self.counts.entry(key).or_insert(fresh);
            let window = if hourly.is_some() { HOUR } else { FORGET };
            if now.duration_since(if hourly.is_some() { tally.since } else { tally.last }) >= window {
                *tally = Tally { failures: 0, since: now, last: now };
            }
            tally.failures = tally.failures.saturating_add(1);
            tally.last = now;
        }
        while self.order.len() > MOST {
            if let Some(oldest) = self.order.pop_front() {
                self.counts.remove(&oldest);
            }
        }
    }

    /// Notes that a reserved try was right: it is given back, this source's wrong tries at this account are forgotten, and nobody else's.
    /// What a place did to other accounts stays.
    pub fn handle_success(&mut self, account: &str, source: &Source, place: Place) {
        self.give_back(Target::Account(account), source, place);
        self.forget(account, source);
    }

    /// Forgets the wrong tries of a source at an account.
    pub fn forget(&mut self, account: &str, source: &Source) {
        let account = account.chars().take(NAME).collect();
        if let Some(tally) = self.counts.get_mut(&Count::Pair(account, source.clone())) {
            tally.failures = 0;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn t(s: i64) -> Timestamp {
        Timestamp::from_second(1_780_000_000 + s).unwrap()
    }

    fn place(n: u32) -> Place {
        IpAddr::V4(std::net::Ipv4Addr::from(0x0a00_0000 + n)).into()
    }

    fn stranger(n: u32) -> Source {
        Source::Stranger(place(n))
    }

    #[test]
    fn waits_grow_and_end() {
        let mut b = Throttle::default();
        for i in 0..5 {
            assert_eq!(b.wait(Target::Account("ines"), &stranger(1), place(1), t(0)), None, "{i}");
            b.handle_failure(Target::Account("ines"), &stranger(1), place(1), t(0));
        }
        assert_eq!(b.wait(Target::Account("ines"), &stranger(1), place(1), t(0)), Some(SignedDuration::from_secs(2)));
        for _ in 0..40 {
            b.handle_failure(Target::Account("ines"), &stranger(1), place(1), t(2));
        }
        assert_eq!(b.wait(Target::Account("ines"), &stranger(1), place(1), t(2)), Some(LONGEST));
        assert_eq!(b.wait(Target::Account("ines"), &stranger(1), place(1), t(2) + LONGEST), None);
        // Another account from there, and the same account from elsewhere, are not concerned.
        assert_eq!(b.wait(Target::Account("noor"), &stranger(1), place(1), t(2)), None);
        assert_eq!(b.wait(Target::Account("ines"), &stranger(2), place(2), t(2)), None);
    }

    #[test]
    fn one_password_on_every_account_is_stopped_at_its_place() {
        let mut b = Throttle::default();
        for i in 0..FROM_ONE_PLACE {
            assert_eq!(b.wait(Target::Account(&format!("p{i}")), &stranger(1), place(1), t(0)), None);
            b.handle_failure(Target::Account(&format!("p{i}")), &stranger(1), place(1), t(0));
        }
        assert_eq!(b.wait(Target::Account("lena"), &stranger(1), place(1), t(0)), Some(HOUR));
        // Somebody in the same building who signed in before is let in.
        assert_eq!(b.wait(Target::Account("lena"), &Source::Known([1; 16]), place(1), t(0)), None);
        assert_eq!(b.wait(Target::Account("lena"), &stranger(1), place(1), t(3600)), None);
    }

    #[test]
    fn a_thousand_places_do_not_lock_out_whoever_signed_in_before() {
        let mut b = Throttle::default();
        for i in 0..FROM_STRANGERS {
            b.handle_failure(Target::Account("ines"), &stranger(i), place(i), t(0));
        }
        assert!(b.wait(Target::Account("ines"), &stranger(9_999), place(9_999), t(1)).is_some());
        assert_eq!(b.wait(Target::Account("ines"), &Source::Known([7; 16]), place(5), t(1)), None);
        // A known browser has tries of its own, and no more than others.
        for _ in 0..FREE {
            b.handle_failure(Target::Account("ines"), &Source::Known([7; 16]), place(5), t(1));
        }
        assert!(b.wait(Target::Account("ines"), &Source::Known([7; 16]), place(5), t(1)).is_some());
    }

    #[test]
    fn success_forgets_only_what_is_its_own() {
        let mut b = Throttle::default();
        for _ in 0..FREE {
            b.handle_failure(Target::Account("ines"), &stranger(1), place(1), t(0));
            b.handle_failure(Target::Account("ines"), &stranger(2), place(2), t(0));
        }
        b.handle_success("ines", &stranger(1), place(1));
        assert_eq!(b.wait(Target::Account("ines"), &stranger(1), place(1), t(0)), None);
        assert!(b.wait(Target::Account("ines"), &stranger(2), place(2), t(0)).is_some());
    }

    #[test]
    fn a_clock_that_goes_back_lengthens_no_wait_beyond_its_limit() {
        let mut b = Throttle::default();
        for _ in 0..30 {
            b.handle_failure(Target::Account("ines"), &stranger(1), place(1), t(0));
        }
        assert_eq!(b.wait(Target::Account("ines"), &stranger(1), place(1), t(-3600)), Some(LONGEST));
        assert_eq!(b.wait(Target::Account("ines"), &stranger(1), place(1), t(-3600) + LONGEST), None);
    }

    #[test]
    fn memory_has_a_limit() {
        let mut b = Throttle::default();
        for i in 0..u32::try_from(MOST).unwrap() + 10 {
            b.handle_failure(Target::Account(&format!("p{i}")), &Source::Known([0; 16]), place(0), t(0));
        }
        assert_eq!((b.counts.len(), b.order.len()), (MOST, MOST));
    }

    #[test]
    fn of_a_name_that_a_stranger_makes_up_little_is_kept() {
        let mut b = Throttle::default();
        let (longest, endless) = ("n".repeat(NAME), "n".repeat(5 << 20));
        for _ in 0..FREE {
            b.handle_failure(Target::Account(&endless), &stranger(1), place(1), t(0));
        }
        let kept = |c: &Count| match c {
            Count::Pair(name, _) | Count::Account(name) => name.len(),
            Count::Place(_) => 0,
        };
        assert!(b.counts.keys().chain(&b.order).all(|c| kept(c) <= NAME));
        assert!(b.wait(Target::Account(&endless), &stranger(1), place(1), t(0)).is_some());
        // A name at the limit is counted whole; one that differs within it is another.
        assert!(b.wait(Target::Account(&longest), &stranger(1), place(1), t(0)).is_some());
        assert_eq!(b.wait(Target::Account(longest.get(1..).unwrap()), &stranger(1), place(1), t(0)), None);
        b.handle_success(&endless, &stranger(1), place(1));
        assert_eq!(b.wait(Target::Account(&longest), &stranger(1), place(1), t(0)), None);
    }

    #[test]
    fn an_ipv6_customer_is_one_place() {
        let at = |a: &str| Place::from(a.parse::<IpAddr>().unwrap());
        assert_eq!(at("2001:db8:1:2::1"), at("2001:db8:1:2:ffff::9"));
        assert_ne!(at("2001:db8:1:2::1"), at("2001:db8:1:3::1"));
        assert_eq!(at("::ffff:10.0.0.1"), at("10.0.0.1"));
    }

    #[test]
    fn a_burst_makes_no_more_tries_than_one_after_the_other() {
        let mut b = Throttle::default();
        let made = (0..300).filter(|_| b.reserve(Target::Account("ines"), &stranger(1), place(1), t(0)).is_ok()).count();
        assert_eq!(made, FREE as usize);
        // What was right, or was no try, costs nothing.
        let mut b = Throttle::default();
        for _ in 0..300 {
            b.reserve(Target::Account("ines"), &stranger(1), place(1), t(0)).unwrap();
            b.give_back(Target::Account("ines"), &stranger(1), place(1));
        }
        assert_eq!(b.wait(Target::Account("ines"), &stranger(1), place(1), t(0)), None);
    }

    #[test]
    fn what_is_nobodys_is_counted_by_place_alone() {
        let mut b = Throttle::default();
        for i in 0..10_000 {
            let _ = b.reserve(Target::Nobody("help"), &stranger(i % 200), place(i % 200), t(0));
        }
        assert!(b.reserve(Target::Nobody("help"), &stranger(7), place(7), t(0)).is_err());
        assert_eq!(b.reserve(Target::Nobody("help"), &stranger(900), place(900), t(0)), Ok(()));
    }
}
