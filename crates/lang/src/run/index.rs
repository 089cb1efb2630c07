//! Indexes over lists, for joins.

use std::collections::HashMap;
use std::sync::Arc;

use kyanite_tree::{Key, Value};

/// Lists shorter than this are scanned.
pub(super) const SHORT: usize = 8;

/// The positions of the items of a list by what an expression gives for them.
#[derive(Debug, Default)]
pub(super) struct Index {
    by_key: HashMap<Key, Vec<u32>>,
    /// Those for which it gives nothing.
    absent: Vec<u32>,
}

/// Indexes by the address of their list, or of their condition, and the number of the test.
pub(super) type Indexes = HashMap<(usize, usize), Arc<Index>>;

impl Index {
    pub(super) fn add(&mut self, position: usize, value: Option<Value<'_>>) {
        // Past 4 thousand million items nothing fits in memory.
        let position = position as u32;
        match value.map(Value::simple) {
            None => self.absent.push(position),
            Some(value) => {
                self.by_key.entry(Key::of(value)).or_default().push(position);
                if let Some(number) = spelled(value) {
                    self.by_key.entry(number).or_default().push(position);
                }
            }
        }
    }

    /// The positions of the items that may equal `value`, in order.
    pub(super) fn find(&self, value: Option<Value<'_>>) -> Vec<u32> {
        let Some(value) = value.map(Value::simple) else { return self.absent.clone() };
        let of = |key: &Key| self.by_key.get(key).map(Vec::as_slice).unwrap_or_default();
        let mut found = of(&Key::of(value)).to_vec();
        if let Some(number) = spelled(value) {
            found.extend_from_slice(of(&number));
            found.sort_unstable();
            found.dedup();
        }
        found
    }
}

/// The key of the number that untyped text spells: it is equal to that number, too.
fn spelled(value: Value<'_>) -> Option<Key> {
    let Value::Untyped(_, text) = value else { return None };
    Key::of_spelled(text)
}
