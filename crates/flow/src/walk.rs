//! Records of a stream one by one, for whoever only looks at them: broken ones end the walk, or are left out and told.

use kyanite_tree::{Arena, Passed, Value};

use crate::document::{Duplicates, Skipped};
use crate::failed::{Events, Failed};
use crate::input::{Beginning, Held, InputOptions, cannot_read};
use crate::records::{Blocks, InputPart, Next, Records, Then, valid_start};
use crate::repairs::Repairs;
use crate::transcode::Replaced;

/// A walk over the blocks of a stream.
pub(crate) struct Walk<'w, 'e> {
    options: &'w InputOptions,
    steps: Steps<'w, 'e>,
}

/// Leads from one record of a block to the next.
pub(crate) struct Steps<'w, 'e> {
    events: &'w mut Events<'e>,
    skipped: Skipped,
    duplicates: Duplicates,
}

/// What comes next in a block.
pub(crate) enum Step<'b> {
    /// A record.
    Record(Value<'b>),
    /// Nothing; so many bytes of the block are used up.
    End(usize),
}

/// Looks at the records of a block, and gives how many bytes of it are used up.
pub(crate) type Visit<'v> = &'v mut dyn for<'b> FnMut(
    &mut Records<'b>,
    &'b Arena,
    &mut Steps<'_, '_>,
) -> Result<usize, Failed>;

impl Steps<'_, '_> {
    /// Reads on.
    pub(crate) fn next<'b>(&mut self, records: &mut Records<'b>) -> Result<Step<'b>, Failed> {
        loop {
            let step = match records.next() {
                Next::Record(record) => Step::Record(record),
                Next::End(used) => Step::End(used),
                Next::Broken(problem) => {
                    self.skipped.or_fail(problem, self.events)?;
                    match records.skip_broken() {
                        Some(used) => Step::End(used),
                        None => continue,
                    }
                }
            };
            self.duplicates.tell(records.take_duplicates(), self.events, |offset| {
                Some(records.place_at(offset))
            });
            return Ok(step);
        }
    }
}

impl<'w, 'e> Walk<'w, 'e> {
    /// A walk over an input that is read so.
    pub(crate) fn new(options: &'w InputOptions, events: &'w mut Events<'e>) -> Self {
        let (skipped, duplicates) = (Skipped::new(options.lenient), Duplicates::new());
        Self { options, steps: Steps { events, skipped, duplicates } }
    }

    /// Walks to the end of a stream, from the place in it where `input` begins; gives how much of it was passed.
    pub(crate) fn over(
        mut self,
        blocks: &mut Blocks,
        input: InputPart<'_>,
        replaced: &Replaced,
        visit: Visit<'_>,
    ) -> Result<Passed, Failed> {
        let walked = self.blocks(blocks, input, visit);
        let Steps { events, skipped, duplicates } = self.steps;
        skipped.finish(events);
        duplicates.finish(events);
        let mut repairs = Repairs::new(self.options.repairs);
        repairs.take_replaced(replaced);
        repairs.finish(events);
        walked
    }

    fn blocks(
        &mut self,
        blocks: &mut Blocks,
        mut input: InputPart<'_>,
        visit: Visit<'_>,
    ) -> Result<Passed, Failed> {
        let held = Held::default();
        let mut layout = None;
        loop {
            let block =
                blocks.next().map_err(|error| Failed::Input(cannot_read(input.name, &error)))?;
            let mut from = 0;
            let then = block.then;
            if layout.is_none() {
                let (text, _) = valid_start(block.bytes);
                let text = held.arena.text(text);
                match Beginning::read(input.format, self.options, text, &held.arena) {
                    Ok(beginning) => {
                        from = beginning.from;
                        self.steps
                            .duplicates
                            .tell(beginning.duplicates, self.steps.events, |_| None);
                        layout = Some(beginning.layout);
                    }
                    Err(error) if error.wants_more() && then != Then::End => {
                        blocks.put_back(0);
                        continue;
                    }
                    Err(error) => {
                        return Err(Failed::Input(error.diagnostic(input.name, block.bytes)));
                    }
                }
            }
            let Some(layout) = layout else { continue };
            let (arena, all) = (Arena::new(), block.bytes);
            let mut records = Records::new(block, from, input, layout, &arena, None);
            let used = visit(&mut records, &arena, &mut self.steps)?;
            drop(records);
            self.steps.events.read(used);
            input.before.pass(&all[..used]);
            input.base = input.base.behind(used);
            if then == Then::End {
                return Ok(input.before);
            }
            blocks.used(used);
        }
    }
}
