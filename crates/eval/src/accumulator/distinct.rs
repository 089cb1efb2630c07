//! The different values among items, in the order in which they came first.

use foldhash::fast::RandomState;
use indexmap::IndexMap;
use kyanite_tree::{Arena, Key, Packed, Value, pack};

/// Different values so far, apart from the document that they came from.
#[derive(Clone, Debug, Default)]
pub(super) struct Distinct {
    /// Packed values, by what they are equal by.
    values: IndexMap<Box<str>, Box<str>, RandomState>,
    /// Scratch space for the key of an item.
    key: String,
}

impl PartialEq for Distinct {
    fn eq(&self, other: &Self) -> bool {
        self.values.iter().eq(other.values.iter())
    }
}

impl Eq for Distinct {}

impl Distinct {
    /// Takes an item; empty cells and elements are none.
    pub(super) fn add(&mut self, item: Value<'_>) {
        if is_nothing(item) {
            return;
        }
        self.key.clear();
        Key::add_to(Some(item), &mut self.key);
        if !self.values.contains_key(self.key.as_str()) {
            let mut packed = String::new();
            pack(Some(item), &mut packed);
            self.values.insert(self.key.as_str().into(), packed.into());
        }
    }

    /// Takes the items of another that came later.
    pub(super) fn extend(&mut self, later: &Self) {
        for (key, value) in &later.values {
            if !self.values.contains_key(key) {
                self.values.insert(key.clone(), value.clone());
            }
        }
    }

    /// The values as a list.
    pub(super) fn list<'a>(&self, arena: &'a Arena) -> Value<'a> {
        let values = self.values.values();
        let unpacked = values.filter_map(|packed| Packed::new(arena.text(packed)).next(arena)?);
        arena.list(&unpacked.collect::<Vec<_>>())
    }
}

/// Whether an item counts as none: an empty cell or element.
#[must_use]
pub fn is_nothing(item: Value<'_>) -> bool {
    matches!(item.simple(), Value::Untyped(_, ""))
}
