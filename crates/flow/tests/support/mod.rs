//! A sink for tests of how blocks are run over.

use std::ops::ControlFlow;

use kyanite_flow::{Part, Sink};
use kyanite_lang::{Flow, Written};
use kyanite_tree::Value;

/// Counts items, those that come in parts apart.
pub struct Counting<J: FnMut()> {
    pub one_by_one: u64,
    pub in_parts: u64,
    /// Called whenever a part comes.
    joined: J,
}

impl<J: FnMut()> Counting<J> {
    pub fn new(joined: J) -> Self {
        Self { one_by_one: 0, in_parts: 0, joined }
    }
}

impl<J: FnMut()> Sink for Counting<J> {
    fn item(&mut self, _value: Value<'_>) -> Flow {
        self.one_by_one += 1;
        ControlFlow::Continue(())
    }

    fn single(&mut self, _value: Option<Value<'_>>) -> Flow {
        ControlFlow::Continue(())
    }

    fn end_items(&mut self) {}

    fn pause(&mut self) {}

    fn written(&self) -> Written {
        Written::Values
    }

    fn is_closed(&self) -> bool {
        false
    }

    fn part(&self) -> Option<Part> {
        Some(Part::counting())
    }

    fn join(&mut self, part: &mut Part) -> Flow {
        self.in_parts += part.items;
        part.items = 0;
        (self.joined)();
        ControlFlow::Continue(())
    }
}
