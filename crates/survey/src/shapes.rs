//! The shapes of records: which paths a record has, and of which sorts the values there are.

use foldhash::fast::FixedState;
use indexmap::IndexMap;
use indexmap::map::Entry;

use crate::paths::Sort;

/// The most shapes that are told apart.
const MOST: usize = 65_536;

/// A path, and a sort of values there.
pub(crate) type Feature = (usize, Sort);

/// How many records have a shape.
#[derive(Clone, Debug)]
pub(crate) struct Shape {
    pub(crate) count: u64,
    /// In the order in which the first record of the shape has them.
    pub(crate) features: Box<[Feature]>,
}

/// Shapes by the hashes of their features, which do not depend on how paths are numbered.
#[derive(Clone, Debug, Default)]
pub(crate) struct Shapes {
    pub(crate) all: IndexMap<u64, Shape, FixedState>,
    /// How many records have shapes beyond the most that are told apart.
    pub(crate) others: u64,
    /// Whether none is told apart any more.
    is_given_up: bool,
}

impl Shapes {
    /// About how many bytes are held.
    pub(crate) fn held(&self) -> usize {
        self.all.values().map(|shape| shape.features.len() * size_of::<Feature>() + 64).sum()
    }

    /// Whether none is told apart any more.
    pub(crate) fn is_given_up(&self) -> bool {
        self.is_given_up
    }

    /// No longer tells any apart.
    pub(crate) fn give_up(&mut self) {
        self.others += self.all.values().map(|shape| shape.count).sum::<u64>();
        (self.all, self.is_given_up) = (IndexMap::default(), true);
    }

    /// Counts records of a shape; gives its number, if it is told apart.
    pub(crate) fn add(
        &mut self,
        hash: u64,
        count: u64,
        features: impl FnOnce() -> Box<[Feature]>,
    ) -> Option<usize> {
        let is_full = self.is_given_up || self.all.len() >= MOST;
        match self.all.entry(hash) {
            Entry::Occupied(mut known) => {
                known.get_mut().count += count;
                Some(known.index())
            }
            Entry::Vacant(_) if is_full => {
                self.others += count;
                None
            }
            Entry::Vacant(new) => {
                let number = new.index();
                new.insert(Shape { count, features: features() });
                Some(number)
            }
        }
    }
}
