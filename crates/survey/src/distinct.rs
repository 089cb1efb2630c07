//! How many different values there are: exactly up to a bound, then estimated.
//!
//! The estimate keeps the smallest hashes (Bar-Yossef et al., "Counting distinct elements in a data stream", 2002, algorithm 2): if the
//! k-th smallest of hashes that are spread evenly over 0 to 1 is h, there are about (k − 1)/h of them, with a standard error of
//! 1/√(k − 2). The set of the k smallest hashes is the same in whatever order values come.

use serde::{Deserialize, Serialize};

/// How many hashes are kept.
const KEPT: usize = 1024;

/// A number of different values.
#[derive(Clone, Copy, PartialEq, Debug)]
pub struct Count {
    /// How many there are.
    pub count: u64,
    /// The standard error of the count as a share of it; 0 where it is exact.
    pub error: f64,
}

/// The smallest hashes of some values, each once, in order.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[serde(transparent)]
pub(crate) struct Distinct {
    smallest: Vec<u64>,
}

impl Distinct {
    /// Takes the hashes of values, in any order.
    pub(crate) fn add(&mut self, mut hashes: Vec<u64>) {
        hashes.sort_unstable();
        hashes.dedup();
        self.merge_sorted(&hashes);
    }

    /// Takes what another counted.
    pub(crate) fn merge(&mut self, other: &Self) {
        self.merge_sorted(&other.smallest);
    }

    fn merge_sorted(&mut self, hashes: &[u64]) {
        let hashes = match self.smallest.last() {
            // Of hashes that are spread evenly nearly all of a long stream are above the last one kept.
            Some(last) if self.smallest.len() == KEPT => {
                &hashes[..hashes.partition_point(|hash| hash < last)]
            }
            _ => hashes,
        };
        if hashes.is_empty() {
            return;
        }
        let mut merged = Vec::with_capacity((self.smallest.len() + hashes.len()).min(KEPT));
        let (mut own, mut others) = (self.smallest.iter().peekable(), hashes.iter().peekable());
        while merged.len() < KEPT {
            let next = match (own.peek(), others.peek()) {
                (Some(a), Some(b)) if a == b => {
                    others.next();
                    own.next()
                }
                (Some(a), Some(b)) if a > b => others.next(),
                (Some(_), _) => own.next(),
                (None, _) => others.next(),
            };
            let Some(next) = next else { break };
            merged.push(*next);
        }
        self.smallest = merged;
    }

    /// How many bytes are held.
    pub(crate) fn held(&self) -> usize {
        self.smallest.capacity() * 8
    }

    /// How many different values there were.
    #[allow(clippy::cast_possible_truncation, clippy::cast_precision_loss, clippy::cast_sign_loss)]
    pub(crate) fn count(&self) -> Count {
        let kept = self.smallest.len();
        match self.smallest.last() {
            Some(last) if kept == KEPT => {
                let share = (*last as f64) / (u64::MAX as f64);
                let count = ((kept - 1) as f64 / share).round() as u64;
                Count { count, error: 1.0 / ((kept - 2) as f64).sqrt() }
            }
            _ => Count { count: kept as u64, error: 0.0 },
        }
    }

    /// The share of the values counted here that the other counted as well, as far as the hashes that both would keep tell.
    #[allow(clippy::cast_precision_loss)]
    pub(crate) fn share_in(&self, other: &Self) -> f64 {
        let limit = |of: &Self| {
            if of.smallest.len() == KEPT {
                of.smallest.last().copied().unwrap_or(u64::MAX)
            } else {
                u64::MAX
            }
        };
        let limit = limit(self).min(limit(other));
        let own: Vec<&u64> = self.smallest.iter().take_while(|hash| **hash <= limit).collect();
        let common = own.iter().filter(|hash| other.smallest.binary_search(hash).is_ok()).count();
        if own.is_empty() { 0.0 } else { common as f64 / own.len() as f64 }
    }
}

#[cfg(test)]
mod tests {
    use std::hash::BuildHasher;

    use foldhash::quality::FixedState;

    use super::*;

    fn of(values: std::ops::Range<u32>) -> Distinct {
        let state = FixedState::with_seed(1);
        let mut distinct = Distinct::default();
        distinct.add(values.map(|value| state.hash_one(value)).collect());
        distinct
    }

    #[test]
    fn few_are_counted_and_many_estimated() {
        assert_eq!(of(0..1000).count(), Count { count: 1000, error: 0.0 });
        for (from, to) in [(0, 100_000), (5, 2_000_000)] {
            let Count { count, error } = of(from..to).count();
            let truth = f64::from(to - from);
            assert!((count as f64 / truth - 1.0).abs() < 4.0 * error, "{count} of {truth}");
        }
    }

    #[test]
    fn parts_make_what_the_whole_makes() {
        let whole = of(0..50_000);
        let mut joined = of(20_000..50_000);
        joined.merge(&of(0..30_000));
        assert_eq!(joined.smallest, whole.smallest);
    }

    #[test]
    fn what_is_in_common() {
        assert!((of(0..100).share_in(&of(50..400)) - 0.5).abs() < 1e-9);
        assert!((of(0..40_000).share_in(&of(0..80_000)) - 1.0).abs() < 1e-9);
        assert!((of(0..80_000).share_in(&of(0..40_000)) - 0.5).abs() < 0.1);
        assert!(of(0..10).share_in(&of(20..30)) < 1e-9);
    }
}
