//! Members with few different values: which shapes the records have that hold each.

use std::collections::BTreeMap;

use foldhash::fast::FixedState;
use indexmap::IndexMap;
use indexmap::map::serde_seq;
use serde::{Deserialize, Serialize};

use crate::values::Scalar;

/// The most different values of a member that tells kinds of records apart.
pub(crate) const MOST_VALUES: usize = 24;

/// The longest value of an enumeration, in bytes.
pub(crate) const LONGEST: usize = 64;

/// The most pairs of a value and a shape that are counted.
const MOST_PAIRS: usize = 65_536;

/// For each value, how many records of each shape hold it.
pub(crate) type ByValue = IndexMap<(Scalar, Box<str>), BTreeMap<u64, u64>, FixedState>;

/// Whether a member has few values, and which.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Enumerated {
    /// Nothing was seen yet.
    #[default]
    Nothing,
    /// These few.
    Few(#[serde(with = "serde_seq")] ByValue),
    /// Too many.
    Many,
}

impl Enumerated {
    /// Takes what later records have.
    pub(crate) fn merge(&mut self, later: Self) {
        match (&mut *self, later) {
            (Self::Many, _) | (_, Self::Nothing) => {}
            (Self::Nothing, later) => *self = later,
            (_, Self::Many) => *self = Self::Many,
            (Self::Few(own), Self::Few(later)) => {
                for (value, shapes) in later {
                    let counts = own.entry(value).or_default();
                    shapes
                        .into_iter()
                        .for_each(|(shape, count)| *counts.entry(shape).or_default() += count);
                }
                let pairs: usize = own.values().map(BTreeMap::len).sum();
                if own.len() > MOST_VALUES || pairs > MOST_PAIRS {
                    *self = Self::Many;
                }
            }
        }
    }
}
