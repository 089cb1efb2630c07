//! Targets of writers: memory, or an output that takes text while a value is still being written.

/// Takes the text of a value.
pub trait Target {
    /// The text that has not gone on yet; its last byte always is among it.
    fn bytes(&mut self) -> &mut Vec<u8>;

    /// A part of the value is complete, so that text may go on.
    fn part(&mut self) {}
}

impl Target for Vec<u8> {
    fn bytes(&mut self) -> &mut Vec<u8> {
        self
    }
}

/// Bytes that are collected before they go on.
const ENOUGH: usize = 64 * 1024;

/// Hands text on as soon as there is enough of it.
pub struct Draining<'d> {
    bytes: &'d mut Vec<u8>,
    drain: &'d mut dyn FnMut(&[u8]),
}

impl<'d> Draining<'d> {
    /// Text behind `bytes`, which goes to `drain` with these.
    pub fn new(bytes: &'d mut Vec<u8>, drain: &'d mut dyn FnMut(&[u8])) -> Self {
        Self { bytes, drain }
    }
}

impl Target for Draining<'_> {
    fn bytes(&mut self) -> &mut Vec<u8> {
        self.bytes
    }

    fn part(&mut self) {
        if self.bytes.len() >= ENOUGH
            && let Some(last) = self.bytes.pop()
        {
            (self.drain)(self.bytes);
            self.bytes.clear();
            self.bytes.push(last);
        }
    }
}

#[cfg(test)]
mod tests {
    use kyanite_tree::{Arena, Value};

    use super::*;
    use crate::json::{self, Style};
    use crate::losses::Losses;
    use crate::{xml, yaml};

    /// What goes on piece by piece is what is written at once, in pieces that do not grow with it.
    #[test]
    fn pieces_are_the_whole() {
        let arena = Arena::new();
        let rows = (0..30_000).map(|number| {
            let inner = [("n", arena.integer(number)), ("t", Value::text("some text"))];
            arena.map([("row", arena.map(inner)), ("e", arena.list(&[]))])
        });
        let list = arena.list(&rows.collect::<Vec<_>>());
        let value = arena.map([("rows", list), ("last", Value::NULL)]);
        let (mut whole, mut pieces, mut longest): (Vec<u8>, Vec<u8>, usize) = Default::default();
        for format in 0..3 {
            whole.clear();
            pieces.clear();
            let mut left = Vec::new();
            let mut drain = |bytes: &[u8]| {
                longest = longest.max(bytes.len());
                pieces.extend_from_slice(bytes);
            };
            let mut target = Draining::new(&mut left, &mut drain);
            match format {
                0 => {
                    json::write(value, Style::Indented(2), &mut whole);
                    json::write(value, Style::Indented(2), &mut target);
                }
                1 => {
                    yaml::write(value, 2, &mut whole);
                    yaml::write(value, 2, &mut target);
                }
                _ => {
                    let (layout, mut losses) = (xml::Layout::default(), Losses::default());
                    xml::write(value, &layout, &mut whole, &mut losses).unwrap();
                    xml::write(value, &layout, &mut target, &mut losses).unwrap();
                }
            }
            pieces.append(&mut left);
            assert!(whole == pieces && whole.len() > 20 * ENOUGH, "{format}");
            assert!(longest < 2 * ENOUGH, "{longest}");
        }
    }
}
