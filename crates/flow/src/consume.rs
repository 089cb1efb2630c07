//! Records of JSON that are consumed by their events, without values in memory: most of them since they follow a template.

use std::ops::Range;

use kyanite_formats::json::{EventReader, Templates};
use kyanite_formats::records::Structure;
use kyanite_tree::Event;

/// Consumes records by their events, or leaves them.
pub(crate) trait Consumer<'t> {
    /// Where the record ends whose events are those from byte `at` on; nothing if it is left. `start` is where it begins in the block.
    fn consume(
        &mut self,
        events: &mut EventReader<'t, '_>,
        at: usize,
        start: usize,
    ) -> Option<usize>;

    /// The record that was consumed last is the first of that template.
    fn learn(&mut self, template: usize);

    /// Consumes a record that follows a template and has these scalars, each with the byte of the block that it ends with; false if it
    /// has to be looked at by its events.
    fn consume_alike(&mut self, template: usize, scalars: &[(Event<'t>, usize)]) -> bool;

    /// A record was consumed that stands between two bytes of the block.
    fn consumed(&mut self, _start: usize, _end: usize) {}
}

/// How far records were consumed.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Consumed {
    pub(crate) records: usize,
    /// Where the next one begins, or blanks before it.
    pub(crate) end: usize,
}

/// The structure of a part of a block: of a line, or of all that is left where records have several.
#[derive(Debug, Default)]
pub(crate) struct PartStructure {
    structure: Structure,
    known: Range<usize>,
}

impl PartStructure {
    /// Has records consumed from byte `from` of a block on, a blank behind each, until one is left.
    pub(crate) fn consume<'t, T: Consumer<'t>>(
        &mut self,
        (text, from): (&'t str, usize),
        templates: &mut Templates,
        by: &mut T,
    ) -> Consumed {
        let bytes = text.as_bytes();
        let mut scalars = Vec::new();
        let mut done = Consumed { records: 0, end: from };
        loop {
            let at = done.end + bytes[done.end..].iter().take_while(is_blank).count();
            if at == bytes.len() {
                return done;
            }
            let followed = match templates.are_useful() {
                true => templates.follow(text, at, &mut scalars),
                false => None,
            };
            let end = match followed {
                Some(followed) if by.consume_alike(followed.template, &scalars) => followed.end,
                _ => match self.by_events((text, at), templates, by) {
                    Some(end) => end,
                    None => return done,
                },
            };
            by.consumed(at, end);
            done = Consumed { records: done.records + 1, end: end + 1 };
        }
    }

    /// Has the record consumed by its events that begins at byte `at`; gives where it ends, before a blank.
    fn by_events<'t, T: Consumer<'t>>(
        &mut self,
        (text, at): (&'t str, usize),
        templates: &mut Templates,
        by: &mut T,
    ) -> Option<usize> {
        let bytes = text.as_bytes();
        if !self.known.contains(&at) {
            let line = memchr::memchr(b'\n', &bytes[at..]).map_or(bytes.len(), |end| at + end + 1);
            self.find(bytes, at..line);
        }
        if !self.structure.is_closed() && self.known.end < bytes.len() {
            self.find(bytes, at..bytes.len());
        }
        let mut events = EventReader::new(&text[self.known.clone()], &self.structure)?;
        let from = at - self.known.start;
        events.seek(from);
        let end = self.known.start + by.consume(&mut events, from, at)?;
        // Where the block ends, more of a record may come.
        bytes.get(end).filter(is_blank)?;
        if templates.are_useful()
            && let Some(template) = templates.learn(&mut events, from)
        {
            by.learn(template);
        }
        Some(end)
    }

    fn find(&mut self, bytes: &[u8], part: Range<usize>) {
        self.structure.find(&bytes[part.clone()]);
        self.known = part;
    }
}

fn is_blank(byte: &&u8) -> bool {
    matches!(byte, b' ' | b'\t' | b'\r' | b'\n')
}
