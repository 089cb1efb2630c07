//! The structural index of a part of a text, for single values in it that are read by their events.

use std::ops::Range;

use kyanite_scan::Structure;

use super::events::EventReader;

/// The structure of a line or, where a value has several, of all that is left of the text.
#[derive(Debug, Default)]
pub struct PartStructure {
    structure: Structure,
    known: Range<usize>,
}

impl PartStructure {
    /// A reader of the events of the value that begins at byte `at` of a text, always the same one; and the byte of the text that its
    /// offsets are counted from. `None` if the part is not well-formed.
    pub fn events<'t, 's>(
        &'s mut self,
        text: &'t str,
        at: usize,
    ) -> Option<(EventReader<'t, 's>, usize)> {
        let bytes = text.as_bytes();
        if !self.known.contains(&at) {
            let line = memchr::memchr(b'\n', &bytes[at..]).map_or(bytes.len(), |end| at + end + 1);
            self.find(bytes, at..line);
        }
        if !self.structure.is_closed() && self.known.end < bytes.len() {
            self.find(bytes, at..bytes.len());
        }
        let from = self.known.start;
        let mut events = EventReader::new(text.get(self.known.clone())?, &self.structure)?;
        events.seek(at - from);
        Some((events, from))
    }

    fn find(&mut self, bytes: &[u8], part: Range<usize>) {
        self.structure.find(&bytes[part.clone()]);
        self.known = part;
    }
}
