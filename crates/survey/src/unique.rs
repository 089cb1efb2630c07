//! Members that could be a key: a scalar in every record, each time another.
//!
//! Values are told apart by hashes of 64 bits: among ten million the chance that any two that differ are taken for the same is one in
//! 300,000.

use std::collections::HashSet;

use foldhash::fast::FixedState;
use serde::{Deserialize, Serialize};

use crate::values::Scalar;

/// A path is given up once more than one value in this number came before.
const REPEATED: u64 = 50;

/// How many values that came before are kept to be shown.
const SHOWN: usize = 3;

/// The values of one batch, each once, with how often those that were repeated came.
#[derive(Clone, Debug, Default)]
pub(crate) struct BatchKeys {
    hashes: Vec<u64>,
    /// Where the text of each ends.
    ends: Vec<usize>,
    text: String,
    repeated: Vec<(Box<str>, u64)>,
}

/// Whether the values at a path are a key so far.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Keys {
    /// They may be.
    Open {
        #[serde(serialize_with = "crate::state::in_order")]
        hashes: HashSet<u64, FixedState>,
        /// How many came before.
        repeated: u64,
        /// Some of these.
        shown: Vec<Box<str>>,
    },
    /// They are none.
    No,
    /// There were too many to be told apart in the memory that there is.
    Unknown,
}

impl BatchKeys {
    /// The values of a batch, which differ from each other, with how often each occurred, if these could be a key; `hashes` are theirs,
    /// and `total` is how many there were.
    pub(crate) fn of<'v>(
        values: impl ExactSizeIterator<Item = (Scalar, &'v str, u64)>,
        hashes: &[u64],
        total: u64,
    ) -> Option<Self> {
        if total - (values.len() as u64).min(total) > most_repeated(total) {
            return None;
        }
        let mut keys = Self { hashes: hashes.to_vec(), ..Self::default() };
        for (_, text, count) in values {
            keys.text.push_str(text);
            keys.ends.push(keys.text.len());
            if count > 1 {
                keys.repeated.push((text.into(), count - 1));
            }
        }
        Some(keys)
    }
}

/// How many of the `total` values of a key may have come before, by mistake.
fn most_repeated(total: u64) -> u64 {
    1 + total / REPEATED
}

/// Adds a value that came before to those that are shown.
fn show(shown: &mut Vec<Box<str>>, text: &str) {
    if shown.len() < SHOWN && !shown.iter().any(|other| **other == *text) {
        shown.push(text.into());
    }
}

impl Default for Keys {
    fn default() -> Self {
        Self::Open { hashes: HashSet::default(), repeated: 0, shown: Vec::new() }
    }
}

impl Keys {
    /// Takes the values of a batch, if they could be a key there.
    pub(crate) fn take(&mut self, batch: Option<BatchKeys>) {
        let Self::Open { hashes, repeated, shown } = self else { return };
        let Some(batch) = batch else {
            *self = Self::No;
            return;
        };
        for (text, count) in &batch.repeated {
            *repeated += count;
            show(shown, text);
        }
        let mut start = 0;
        for (hash, end) in batch.hashes.into_iter().zip(batch.ends) {
            if !hashes.insert(hash) {
                *repeated += 1;
                show(shown, &batch.text[start..end]);
            }
            start = end;
        }
        if *repeated > most_repeated(hashes.len() as u64) {
            *self = Self::No;
        }
    }

    /// Takes the values of later records, if `is_always` there before them. Of values that are in both only the number is known, so none
    /// of these is shown.
    pub(crate) fn join(&mut self, later: Self, is_always: bool) {
        *self = match (std::mem::take(self), later) {
            (Self::No, _) | (_, Self::No) => Self::No,
            _ if !is_always => Self::No,
            (Self::Unknown, _) | (_, Self::Unknown) => Self::Unknown,
            (
                Self::Open { mut hashes, mut repeated, mut shown },
                Self::Open { hashes: later, repeated: later_repeated, shown: later_shown },
            ) => {
                repeated += later_repeated;
                for hash in later {
                    repeated += u64::from(!hashes.insert(hash));
                }
                later_shown.iter().for_each(|text| show(&mut shown, text));
                match repeated > most_repeated(hashes.len() as u64) {
                    true => Self::No,
                    false => Self::Open { hashes, repeated, shown },
                }
            }
        };
    }

    /// How many different values there are, where this is known.
    pub(crate) fn different(&self) -> Option<u64> {
        match self {
            Self::Open { hashes, .. } => Some(hashes.len() as u64),
            Self::No | Self::Unknown => None,
        }
    }

    /// About how many bytes are held.
    pub(crate) fn held(&self) -> usize {
        match self {
            Self::Open { hashes, .. } => hashes.capacity() * 9,
            Self::No | Self::Unknown => 0,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::values::hash_of;

    fn of(values: &[&str]) -> Option<BatchKeys> {
        let mut counts: Vec<(Scalar, &str, u64)> = Vec::new();
        for value in values {
            match counts.iter_mut().find(|(_, text, _)| text == value) {
                Some(found) => found.2 += 1,
                None => counts.push((Scalar::Text, value, 1)),
            }
        }
        let hashes: Vec<u64> = counts.iter().map(|(sort, text, _)| hash_of(*sort, text)).collect();
        BatchKeys::of(counts.into_iter(), &hashes, values.len() as u64)
    }

    #[test]
    fn what_came_before_is_found_within_and_between_batches() {
        let mut keys = Keys::default();
        keys.take(of(&["a", "b", "c"]));
        keys.take(of(&["d", "b", "e"]));
        assert!(matches!(&keys, Keys::Open { repeated: 1, shown, .. } if *shown == ["b".into()]));
        keys.take(of(&["f", "f", "g"]));
        assert!(matches!(keys, Keys::No));
        assert!(of(&["a", "a", "a"]).is_none());
    }
}
