use memchr::memmem::Finder as Needle;
use std::collections::HashMap;

/// Longest text to look for.
const MAX_QUERY: usize = 200;
/// Between the texts of two machines, and in no text.
const BREAK: u8 = 0;

/// What a machine is found by: any of these texts.
#[derive(Debug, Clone, Default)]
pub struct Entry {
    /// Name.
    pub name: String,
    /// Everything else.
    pub texts: Vec<String>,
}

/// Finds machines by a few letters of anything, over tens of thousands of them, in one pass over memory.
#[derive(Debug, Default)]
pub struct Finder {
    names: Vec<String>,
    /// The texts of all, in lower case, one machine after the other.
    hay: Vec<u8>,
    /// Where each begins.
    starts: Vec<usize>,
}

impl Finder {
    /// Takes every machine, in the order in which those that match equally well are listed.
    pub fn new(entries: impl IntoIterator<Item = Entry>) -> Self {
        let mut all = Self::default();
        for entry in entries {
            all.starts.push(all.hay.len());
            for text in std::iter::once(&entry.name).chain(&entry.texts) {
                all.hay.extend(text.to_lowercase().bytes().filter(|b| *b != BREAK));
                all.hay.push(b'\n');
            }
            all.hay.push(BREAK);
            all.names.push(entry.name);
        }
        all
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.names.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.names.is_empty()
    }

    /// Names of the machines that hold every word of the query, best first: those given in `first` (favourites and recent
    /// ones, with the lowest number first), then names that begin with the query, names that hold it, and the rest.
    pub fn find(&self, query: &str, first: &HashMap<String, usize>) -> Vec<&str> {
        let query: String = query.to_lowercase().chars().take(MAX_QUERY).collect();
        let mut words: Vec<&str> = query.split_whitespace().collect();
        // The longest is the rarest, most likely.
        words.sort_by_key(|w| std::cmp::Reverse(w.len()));
        let mut found: Vec<usize> = match words.first() {
            None => (0..self.names.len()).collect(),
            Some(word) => self.holding(word),
        };
        for word in words.iter().skip(1) {
            let needle = Needle::new(word);
            found.retain(|at| needle.find(self.text(*at)).is_some());
        }
        let whole = query.trim();
        let rank = |at: &usize| {
            let name = self.names.get(*at).map_or("", String::as_str);
            let kind = match () {
                () if whole.is_empty() => 2,
                () if name.starts_with(whole) => 0,
                () if name.contains(whole) => 1,
                () => 2,
            };
            (first.get(name).copied().unwrap_or(usize::MAX), kind, *at)
        };
        found.sort_by_cached_key(rank);
        found.into_iter().filter_map(|at| self.names.get(at).map(String::as_str)).collect()
    }

    fn text(&self, at: usize) -> &[u8] {
        let from = self.starts.get(at).copied().unwrap_or(0);
        let to = self.starts.get(at + 1).copied().unwrap_or(self.hay.len());
        self.hay.get(from..to).unwrap_or_default()
    }

    fn holding(&self, word: &str) -> Vec<usize> {
        let needle = Needle::new(word);
        let (mut found, mut from) = (vec![], 0);
        while let Some(hit) = self.hay.get(from..).and_then(|rest| needle.find(rest)) {
            let place = from + hit;
            let at = self.starts.partition_point(|s| *s <= place).saturating_sub(1);
            found.push(at);
            from = self.starts.get(at + 1).copied().unwrap_or(self.hay.len());
        }
        found
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn finder() -> Finder {
        let of = |name: &str, texts: &[&str]| Entry { name: name.into(), texts: texts.iter().map(ToString::to_string).collect() };
        Finder::new([
            of("archive-db", &["valley", "10.30.0.5", "Debian GNU/Linux 12"]),
            of("dome-east", &["ridge", "10.20.0.7", "sunniva"]),
            of("dome-west", &["ridge", "10.20.0.8", "near dome-east"]),
            of("east-gate", &["ridge"]),
        ])
    }

    #[test]
    fn a_few_letters_of_anything_find_it() {
        let f = finder();
        let none = HashMap::new();
        for (query, names) in [
            ("sunn", &["dome-east"][..]),
            ("10.20", &["dome-east", "dome-west"]),
            ("DEBIAN", &["archive-db"]),
            ("ridge dome", &["dome-east", "dome-west"]),
            ("east", &["east-gate", "dome-east", "dome-west"]),
            ("nothing", &[]),
            // Texts of two machines or fields do not run together.
            ("12dome", &[]),
            ("", &["archive-db", "dome-east", "dome-west", "east-gate"]),
        ] {
            assert_eq!(f.find(query, &none), names, "{query}");
        }
        assert_eq!(f.find("east", &HashMap::from([("dome-west".to_string(), 0)])), ["dome-west", "east-gate", "dome-east"]);
        assert_eq!(f.find("", &HashMap::from([("dome-west".to_string(), 1), ("east-gate".into(), 0)]))[..2], ["east-gate", "dome-west"]);
    }

    proptest! {
        #[test]
        fn what_is_found_is_what_holds_it(names in proptest::collection::vec("[ab]{1,4}", 0..12), query in "[ab]{1,2}") {
            let f = Finder::new(names.iter().map(|n| Entry { name: n.clone(), texts: vec![] }));
            let mut found = f.find(&query, &HashMap::new());
            let mut expected: Vec<&str> = names.iter().filter(|n| n.contains(&query)).map(String::as_str).collect();
            found.sort_unstable();
            expected.sort_unstable();
            prop_assert_eq!(found, expected);
        }
    }
}
