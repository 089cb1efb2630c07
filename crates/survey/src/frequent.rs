//! The values that occur most often.
//!
//! Up to a bound all values are counted exactly. Past it those that are rare are dropped, and the most that a dropped one can have
//! occurred is kept as `floor` (the merging of Agarwal et al., "Mergeable summaries", 2012): each value is counted at most that much
//! too low, and one that is not listed occurred at most that often.

use foldhash::fast::FixedState;
use indexmap::IndexMap;
use indexmap::map::serde_seq;
use serde::{Deserialize, Serialize};

use crate::state::total;
use crate::values::Scalar;

/// The different values that are counted exactly.
const EXACT: usize = 4096;

/// How many are left when there are more.
const LEFT: usize = 1024;

/// The values of one batch that are kept, once these are more than are counted exactly in short.
pub(crate) const OF_BATCH: usize = 512;

/// Counts of values.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub(crate) struct FrequentValues {
    #[serde(with = "serde_seq")]
    counts: IndexMap<(Scalar, Box<str>), u64, FixedState>,
    floor: u64,
}

impl FrequentValues {
    /// Takes a value that occurred so often.
    pub(crate) fn add(&mut self, sort: Scalar, text: &str, count: u64) {
        *self.counts.entry((sort, text.into())).or_default() += count;
        if self.counts.len() > EXACT {
            self.prune();
        }
    }

    /// Values that occurred up to so often were left out.
    pub(crate) fn leave_out(&mut self, most: u64) {
        self.floor += most;
    }

    /// Takes what another counted later.
    pub(crate) fn merge(&mut self, other: Self) {
        self.floor += other.floor;
        for ((sort, text), count) in other.counts {
            *self.counts.entry((sort, text)).or_default() += count;
        }
        if self.counts.len() > EXACT {
            self.prune();
        }
    }

    /// Whether these counts are possible for `values` values.
    pub(crate) fn is_sound(&self, values: u64) -> bool {
        total(self.counts.values()).is_some_and(|counted| counted <= values) && self.floor <= values
    }

    fn prune(&mut self) {
        let mut counts: Vec<u64> = self.counts.values().copied().collect();
        counts.sort_unstable_by(|a, b| b.cmp(a));
        let most = counts.get(LEFT).copied().unwrap_or_default();
        self.counts.retain(|_, count| *count > most);
        self.floor += most;
    }

    /// All values and how often each occurred, as first met, if all are there.
    pub(crate) fn all(&self) -> Option<impl Iterator<Item = (Scalar, &str, u64)>> {
        let all = self.counts.iter().map(|((sort, text), count)| (*sort, &**text, *count));
        (self.floor == 0).then_some(all)
    }

    /// How many different values there are, if all are there.
    pub(crate) fn exact_count(&self) -> Option<u64> {
        (self.floor == 0).then_some(self.counts.len() as u64)
    }

    /// About how many bytes are held.
    pub(crate) fn held(&self) -> usize {
        self.counts.len() * 64
    }

    /// The most by which a count is too low.
    pub(crate) fn error(&self) -> u64 {
        self.floor
    }

    /// Those that certainly occur most often, the most frequent first.
    pub(crate) fn top(&self, most: usize) -> Vec<(Scalar, &str, u64)> {
        let mut top: Vec<(Scalar, &str, u64)> = self
            .counts
            .iter()
            // What is not listed may have occurred as often as the floor says.
            .filter(|(_, count)| **count > self.floor)
            // Of many, those that are there once are not frequent.
            .filter(|(_, count)| **count > 1 || self.counts.len() <= most)
            .map(|((sort, text), count)| (*sort, &**text, *count))
            .collect();
        top.sort_by_key(|(_, _, count)| std::cmp::Reverse(*count));
        top.truncate(most);
        top
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_frequent_is_found_among_many() {
        let mut frequent = FrequentValues::default();
        for number in 0..200_000_u32 {
            frequent.add(Scalar::Text, &number.to_string(), 1);
            if number % 50 == 0 {
                frequent.add(Scalar::Text, "brim", 1);
            }
        }
        let top = frequent.top(3);
        assert_eq!(top.first().map(|(_, text, _)| *text), Some("brim"));
        assert!(top[0].2 + frequent.error() >= 4000 && top[0].2 <= 4000);
        assert!(frequent.all().is_none() && frequent.exact_count().is_none());
    }

    #[test]
    fn few_are_exact() {
        let mut frequent = FrequentValues::default();
        let mut later = FrequentValues::default();
        frequent.add(Scalar::Text, "a", 2);
        later.add(Scalar::Number, "1", 5);
        later.add(Scalar::Text, "a", 2);
        frequent.merge(later);
        assert_eq!(frequent.exact_count(), Some(2));
        assert_eq!(frequent.top(5), [(Scalar::Number, "1", 5), (Scalar::Text, "a", 4)]);
    }
}
