//! Records of JSON that are passed over by their events, without values in memory: most of them since they follow a template.

use std::ops::Range;

use kyanite_formats::json::{EventReader, Templates};
use kyanite_formats::records::Structure;
use kyanite_tree::Event;

/// Takes records by their events, or leaves them.
pub(crate) trait Take<'t> {
    /// Where the record ends whose events are those from byte `at` on, if it is taken. `start` is where it begins in the block.
    fn takes(&mut self, events: &mut EventReader<'t, '_>, at: usize, start: usize)
    -> Option<usize>;

    /// The record that was taken last is the first of that template.
    fn learn(&mut self, template: usize);

    /// Whether a record is taken that follows a template and has these scalars, each with the byte of the block that it ends with.
    fn takes_alike(&mut self, template: usize, scalars: &[(Event<'t>, usize)]) -> bool;

    /// A record was taken that stands between two bytes of the block.
    fn taken(&mut self, _start: usize, _end: usize) {}
}

/// How far records were passed over.
#[derive(Clone, Copy, Debug)]
pub(crate) struct PassedOver {
    pub(crate) records: usize,
    /// Where the next one begins, or blanks before it.
    pub(crate) end: usize,
}

/// The structure of a part of a block: of a line, or of all that is left where records have several.
#[derive(Debug, Default)]
pub(crate) struct Parts {
    structure: Structure,
    known: Range<usize>,
}

impl Parts {
    /// Passes over records from byte `from` of a block on, a blank behind each, until one is not taken.
    pub(crate) fn pass<'t, T: Take<'t>>(
        &mut self,
        (text, from): (&'t str, usize),
        templates: &mut Templates,
        by: &mut T,
    ) -> PassedOver {
        let bytes = text.as_bytes();
        let mut scalars = Vec::new();
        let mut passed = PassedOver { records: 0, end: from };
        loop {
            let at = passed.end + bytes[passed.end..].iter().take_while(is_blank).count();
            if at == bytes.len() {
                return passed;
            }
            let followed = match templates.are_useful() {
                true => templates.follow(text, at, &mut scalars),
                false => None,
            };
            let end = match followed {
                Some(followed) if by.takes_alike(followed.template, &scalars) => followed.end,
                _ => match self.take((text, at), templates, by) {
                    Some(end) => end,
                    None => return passed,
                },
            };
            by.taken(at, end);
            passed = PassedOver { records: passed.records + 1, end: end + 1 };
        }
    }

    /// Takes the record that begins at byte `at` by its events; gives where it ends, before a blank.
    fn take<'t, T: Take<'t>>(
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
        let end = self.known.start + by.takes(&mut events, from, at)?;
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
