//! Goes through the records of a stream one by one; a broken record ends the walk, or is skipped and reported.

use kyanite_formats::Format;
use kyanite_formats::records::Layout;
use kyanite_formats::xml::StepName;
use kyanite_tree::{Arena, Passed, Span, TextPlaces, Value};

use crate::blocks::{Blocks, Then};
use crate::document::{Duplicates, Skipped};
use crate::input::{Beginning, InputOptions, XmlBeginning, cannot_read};
use crate::records::{InputPart, Next, Records, valid_start};
use crate::repairs::Repairs;
use crate::run_error::{Events, RunError};
use crate::transcode::Replaced;

/// A walk over the blocks of a stream.
pub(crate) struct Walk<'w, 'e> {
    options: &'w InputOptions,
    /// The names that lead to the elements that are records, if the stream is XML.
    elements: &'w [StepName],
    /// Whether names and attributes of the elements around these are wanted.
    keeps_around: bool,
    /// How records are told apart, if what says that stands before the walk.
    layout: Option<Layout<'w>>,
    steps: Steps<'w, 'e>,
}

/// Leads from one record of a block to the next.
pub(crate) struct Steps<'w, 'e> {
    events: &'w mut Events<'e>,
    skipped: Skipped,
    duplicates: Duplicates,
    repairs: Repairs,
}

/// What comes next in a block.
pub(crate) enum Step<'b> {
    /// A record.
    Record(Value<'b>),
    /// The end of the block, of which this number of bytes is used up.
    End(usize),
}

/// Looks at the records of a block, and gives how many bytes of it are used up.
pub(crate) type Visit<'v> = &'v mut dyn for<'b> FnMut(
    &mut Records<'b>,
    &'b Arena,
    &mut Steps<'_, '_>,
) -> Result<usize, RunError>;

impl Steps<'_, '_> {
    /// Reads on.
    pub(crate) fn next<'b>(&mut self, records: &mut Records<'b>) -> Result<Step<'b>, RunError> {
        loop {
            let next = records.next();
            let repairs = records.take_repairs();
            if !repairs.is_empty() {
                self.repairs.take(repairs, |span| records.place_of(span), self.events);
            }
            let step = match next {
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
        let (skipped, duplicates) = (Skipped::new(options.lenient), Duplicates::default());
        let repairs = Repairs::new(options.repairs);
        let steps = Steps { events, skipped, duplicates, repairs };
        Self { options, elements: &[], keeps_around: false, layout: None, steps }
    }

    /// The same walk, which goes on behind the beginning of a stream, where records are told apart so.
    pub(crate) fn behind(mut self, layout: Option<Layout<'w>>) -> Self {
        self.layout = layout;
        self
    }

    /// The same walk, over a document of XML, whose records are the elements that these names lead to. The elements around them
    /// are told by their reader if it `keeps_around`.
    pub(crate) fn over_elements(mut self, path: &'w [StepName], keeps_around: bool) -> Self {
        (self.elements, self.keeps_around) = (path, keeps_around);
        self
    }

    /// Walks to the end of a stream, from the place in it where `input` begins; gives how much of it was passed.
    pub(crate) fn over(
        mut self,
        blocks: &mut Blocks,
        input: InputPart<'_>,
        replaced: &Replaced,
        visit: Visit<'_>,
    ) -> Result<Passed, RunError> {
        let walked = self.blocks(blocks, input, visit);
        let Steps { events, skipped, duplicates, mut repairs } = self.steps;
        skipped.finish(events);
        duplicates.finish(events);
        repairs.take_replaced(replaced);
        repairs.finish(events);
        walked
    }

    fn blocks(
        &mut self,
        blocks: &mut Blocks,
        mut input: InputPart<'_>,
        visit: Visit<'_>,
    ) -> Result<Passed, RunError> {
        let held = XmlBeginning::default();
        let mut layout = self.layout;
        let is_xml = input.format == Format::Xml;
        if is_xml {
            blocks.cut_behind_tags();
        }
        loop {
            let block =
                blocks.next().map_err(|error| RunError::Input(cannot_read(input.name, &error)))?;
            let mut from = 0;
            let then = block.then;
            if layout.is_none() {
                let (text, _) = valid_start(block.bytes);
                let text = held.arena.text(text);
                let beginning = if is_xml {
                    let text = (text, then == Then::End);
                    Beginning::of_elements(
                        self.options,
                        text,
                        (self.elements, self.keeps_around),
                        &held,
                    )
                } else {
                    Beginning::read(input.format, self.options, text, &held.arena)
                };
                match beginning {
                    Ok(mut beginning) => {
                        from = beginning.from;
                        let places = TextPlaces::new(input.name, block.bytes);
                        let place = |span: Span| places.place(span.start, span.end);
                        let repairs = std::mem::take(&mut beginning.repairs);
                        self.steps.repairs.take(repairs, place, self.steps.events);
                        let Steps { events, duplicates, .. } = &mut self.steps;
                        beginning.tell((input.name, block.bytes), duplicates, events);
                        layout = Some(beginning.layout);
                    }
                    Err(error) if error.wants_more() && then != Then::End => {
                        blocks.put_back(0);
                        continue;
                    }
                    Err(error) => {
                        return Err(RunError::Input(error.diagnostic(input.name, block.bytes)));
                    }
                }
            }
            let Some(current) = layout else { continue };
            let (arena, all) = (Arena::new(), block.bytes);
            let mut records = Records::new(block, from, input, current, &arena, None);
            let used = visit(&mut records, &arena, &mut self.steps)?;
            let mut begin = None;
            if let Some(reader) = records.as_xml() {
                layout = Some(current.at(reader.place(&arena).keep(&held.arena)));
                begin = reader.record_name().map(str::to_owned);
            }
            drop(records);
            self.steps.events.read(used);
            input.before.pass(&all[..used]);
            input.base = input.base.behind(used);
            if then == Then::End {
                return Ok(input.before);
            }
            blocks.used(used);
            if let Some(begin) = begin {
                blocks.cut_before(&begin);
            }
        }
    }
}
