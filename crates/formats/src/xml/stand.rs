//! Rewinds a reader whose element does not end within the text at hand.

use kyanite_tree::{Content, Value};

use super::cursor::Cursor;
use super::entities::Budget;
use super::read::Reader;

/// Where a reader stood before it read an element, or what is in it.
pub(super) struct Stand<'a> {
    cursor: Cursor<'a>,
    budget: Budget,
    scope: usize,
    open: usize,
    outer: usize,
    repairs: usize,
}

impl<'a> Stand<'a> {
    pub(super) fn of(reader: &Reader<'a>) -> Self {
        Self {
            cursor: reader.cursor.clone(),
            budget: reader.budget,
            scope: reader.scope.depth(),
            open: reader.open.len(),
            outer: reader.outer.len(),
            repairs: reader.repairs.len(),
        }
    }

    /// Whether it stood in the text itself, and not in that of an entity.
    pub(super) fn is_in_text(&self) -> bool {
        self.outer == 0
    }

    /// Has the reader stand there again.
    pub(super) fn restore(self, reader: &mut Reader<'a>) {
        reader.cursor = self.cursor;
        reader.budget = self.budget;
        reader.scope.leave(self.scope);
        reader.open.truncate(self.open);
        reader.outer.truncate(self.outer);
        reader.repairs.truncate(self.repairs);
        reader.forget();
    }
}

impl<'a> Reader<'a> {
    /// Forgets what was read and is not needed.
    pub(super) fn forget(&mut self) {
        self.nodes.clear();
        self.text = None;
        self.is_joined = false;
    }

    /// The element that was read last.
    pub(super) fn last_element(&self) -> Option<Value<'a>> {
        match self.nodes.last() {
            Some(Content::Element(origin, element)) => Some(Value::Element(*origin, element)),
            _ => None,
        }
    }
}
