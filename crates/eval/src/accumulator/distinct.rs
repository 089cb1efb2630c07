//! The different values among items, in the order in which they came first.

use std::hash::BuildHasher;

use foldhash::fast::RandomState;
use hashbrown::HashTable;
use kyanite_tree::{Arena, Key, Packed, Value, pack};

/// Different values so far, apart from the document that they came from.
#[derive(Clone, Debug, Default)]
pub(super) struct Distinct {
    /// What each value is equal by, and itself, packed; one behind the other.
    text: String,
    /// Where these end of each value.
    ends: Vec<[usize; 2]>,
    /// The positions of the values, by what they are equal by.
    positions: HashTable<usize>,
    hasher: RandomState,
}

impl PartialEq for Distinct {
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text && self.ends == other.ends
    }
}

impl Eq for Distinct {}

impl Distinct {
    /// Takes an item; empty cells and elements are none.
    pub(super) fn add(&mut self, item: Value<'_>) {
        if !is_nothing(item) {
            self.insert(|text| Key::add_to(Some(item), text), |text| pack(Some(item), text));
        }
    }

    /// Takes the items of another that came later.
    pub(super) fn extend(&mut self, later: &Self) {
        for position in 0..later.ends.len() {
            let (key, value) = entry(&later.text, &later.ends, position);
            self.insert(|text| text.push_str(key), |text| text.push_str(value));
        }
    }

    /// Adds a value, unless there is one that is equal by the same.
    fn insert(&mut self, key: impl FnOnce(&mut String), value: impl FnOnce(&mut String)) {
        let begin = self.text.len();
        key(&mut self.text);
        let (text, ends) = (&self.text, &self.ends);
        let key = &text[begin..];
        let hash = self.hasher.hash_one(key);
        if self.positions.find(hash, |known| entry(text, ends, *known).0 == key).is_some() {
            self.text.truncate(begin);
            return;
        }
        let rehash = |known: &usize| self.hasher.hash_one(entry(text, ends, *known).0);
        self.positions.insert_unique(hash, ends.len(), rehash);
        let middle = self.text.len();
        value(&mut self.text);
        self.ends.push([middle, self.text.len()]);
    }

    /// The values as a list.
    pub(super) fn list<'a>(&self, arena: &'a Arena) -> Value<'a> {
        let values = (0..self.ends.len()).map(|position| entry(&self.text, &self.ends, position).1);
        let unpacked = values.filter_map(|packed| Packed::new(arena.text(packed)).next(arena)?);
        arena.list(&unpacked.collect::<Vec<_>>())
    }
}

/// What the value at a position is equal by, and itself, packed.
fn entry<'t>(text: &'t str, ends: &[[usize; 2]], position: usize) -> (&'t str, &'t str) {
    let begin = position.checked_sub(1).map_or(0, |before| ends[before][1]);
    let [middle, end] = ends[position];
    (&text[begin..middle], &text[middle..end])
}

/// Whether an item counts as none: an empty cell or element.
#[must_use]
pub fn is_nothing(item: Value<'_>) -> bool {
    matches!(item.simple(), Value::Untyped(_, ""))
}
