//! Consumes JSON records by their events, without building values; most records follow a template, and only their scalars are read.

use std::ops::Range;

use kyanite_formats::Followed;
use kyanite_formats::json::{EventReader, PartStructure, Templates};
use kyanite_tree::ScalarSpan;

/// Consumes records by their events, or leaves them.
pub(crate) trait Consumer<'t> {
    /// Where the record ends whose events are those from byte `at` on; None if it is left. `start` is where it begins in the block.
    fn consume(
        &mut self,
        events: &mut EventReader<'t, '_>,
        at: usize,
        start: usize,
    ) -> Option<usize>;

    /// The record that was consumed last is the first of that template.
    fn learn(&mut self, template: usize);

    /// Consumes the record that stands at `record` in the text of the block, follows a template and has these scalars; false if it has
    /// to be looked at by its events.
    fn consume_alike(
        &mut self,
        block: (&'t str, Range<usize>),
        template: usize,
        scalars: &[ScalarSpan],
    ) -> bool;

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

/// Has records consumed from byte `from` of a block on, a blank behind each, until one is left. `part` is that of the block.
pub(crate) fn consume<'t, T: Consumer<'t>>(
    (text, from): (&'t str, usize),
    part: &mut PartStructure,
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
            Some(Followed { template, end })
                if by.consume_alike((text, at..end), template, &scalars) =>
            {
                end
            }
            _ => match by_events((text, at), part, templates, by) {
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
    (text, at): (&'t str, usize),
    part: &mut PartStructure,
    templates: &mut Templates,
    by: &mut T,
) -> Option<usize> {
    let (mut events, before) = part.events(text, at)?;
    let end = before + by.consume(&mut events, at - before, at)?;
    // Where the block ends, more of a record may come.
    text.as_bytes().get(end).filter(is_blank)?;
    if templates.are_useful()
        && let Some(template) = templates.learn(&mut events, at - before)
    {
        by.learn(template);
    }
    Some(end)
}

fn is_blank(byte: &&u8) -> bool {
    matches!(byte, b' ' | b'\t' | b'\r' | b'\n')
}
