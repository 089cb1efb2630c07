//! One block of records, run over on whichever thread has it.

use std::io;
use std::ops::Range;
use std::sync::PoisonError;

use kyanite_formats::json;
use kyanite_formats::records::SlotTemplates;
use kyanite_formats::xml::LineOrRecord;
use kyanite_formats::{csv, xml};
use kyanite_lang::{Coverage, PackedTuples, Runner, Session, TupleStore};
use kyanite_tree::{Arena, Base, Passed, ScalarSpan};

use super::{AsLines, BlockResult, ElementNames, Enclosing, WorkerBlock, WorkerContext};
use crate::Sink;
use crate::blocks::{Block, Then};
use crate::consume::{Consumer, consume};
use crate::part::Part;
use crate::records::{Next, Records, valid_start};
use crate::rows::PartRows;
use crate::run_error::WayCounts;
use crate::types::Typer;

/// What a thread uses for one block after another.
pub(super) struct Worker<'w> {
    arena: Arena,
    session: Session,
    layouts: KnownLayouts,
    typer: Option<Typer<'w>>,
}

/// What records so far looked like.
struct KnownLayouts {
    slots: SlotTemplates,
    values: json::ValueTemplates,
    templates: json::Templates,
    lines: json::LineWriter,
}

impl KnownLayouts {
    fn new(context: WorkerContext<'_>) -> Self {
        let lines = match context.lines {
            Some(AsLines::Values { style: (style, level), .. }) => {
                json::LineWriter::new(style, level)
            }
            _ => json::LineWriter::default(),
        };
        match context.learns {
            true => Self {
                slots: SlotTemplates::default(),
                values: json::ValueTemplates::default(),
                templates: json::Templates::default(),
                lines,
            },
            false => Self {
                slots: SlotTemplates::unused(),
                values: json::ValueTemplates::unused(),
                templates: json::Templates::unused(),
                lines,
            },
        }
    }
}

impl<'w> Worker<'w> {
    pub(super) fn new(context: WorkerContext<'w>) -> Self {
        let mut session = Session::new(context.plan);
        session.documents = context.documents.clone();
        let typer = context.types.map(|(types, _)| Typer::new(types));
        Self { arena: Arena::new(), session, layouts: KnownLayouts::new(context), typer }
    }

    /// Runs over the block on a worker block, if it could be read.
    pub(super) fn run_read(
        &mut self,
        context: WorkerContext<'_>,
        mut read: io::Result<WorkerBlock>,
    ) -> io::Result<WorkerBlock> {
        if let Ok(worker_block) = &mut read {
            self.run(context, worker_block);
        }
        read
    }

    /// Runs over the block on a worker block.
    fn run(&mut self, context: WorkerContext<'_>, worker_block: &mut WorkerBlock) {
        self.session.restart(context.plan);
        let typer = self.typer.as_mut();
        let spill = (&self.arena, &mut self.layouts, typer);
        worker_block.result =
            block(context, &worker_block.bytes, &mut worker_block.part, spill, &mut self.session);
        if worker_block.result.is_some() {
            worker_block.part.end_lines();
        }
        self.arena.reset();
        worker_block.passed = Passed::default();
        worker_block.passed.pass(&worker_block.bytes);
    }
}

/// Runs over one block. Returns None if the block must be run again in order, for the messages about it.
fn block(
    context: WorkerContext<'_>,
    bytes: &[u8],
    part: &mut Part,
    (arena, layouts, mut typer): (&Arena, &mut KnownLayouts, Option<&mut Typer<'_>>),
    session: &mut Session,
) -> Option<BlockResult> {
    let WorkerContext {
        plan,
        unit,
        layout,
        input,
        names,
        state,
        spill,
        field_plan,
        row_keys,
        lines,
        ..
    } = context;
    let mut state = state.of_part(plan);
    if let Some(lines) = lines {
        let (text, 0) = valid_start(bytes) else { return None };
        let met = as_lines(lines, text, part, (arena, layouts), input.base)?;
        let by_templates = layouts.templates.take_followed();
        let taken = WayCounts { by_templates, copied: part.items, ..WayCounts::default() };
        return Some(BlockResult {
            coverage: Coverage::empty(),
            state,
            tuples: PackedTuples::default(),
            records: part.items,
            taken,
            met,
            enclosing: None,
        });
    }
    let cutoff = context.cutoff.read().unwrap_or_else(PoisonError::into_inner).clone();
    let mut store = TupleStore::new(plan, arena, spill).with_cutoff(&cutoff);
    let (mut count, mut head, mut in_fields, mut lines) = (0, 0, 0, 0);
    let (met, enclosing) = {
        let block = Block { bytes, then: Then::More };
        let KnownLayouts { slots, values, .. } = &mut *layouts;
        let mut records = Records::new(block, 0, input, layout, arena, Some(values));
        let runner = Runner::for_batch(plan, unit, names.clone(), arena, session);
        let mut rows = row_keys.and_then(|keys| Some((keys, PartRows::of(part, keys)?)));
        let to_rows = rows.as_mut().map(|(keys, rows)| (keys.names, rows.sink()));
        let mut runner = runner.with_field_plan(field_plan).with_rows(to_rows);
        loop {
            let next = records.next_slotted(field_plan, slots, runner.slots());
            let passed_over = records.take_passed_over();
            if let Some(reader) = records.as_xml().filter(|_| context.looks_above) {
                // The root is the same wherever a block begins.
                if reader.still_open() > 1 && matches!(next, Next::Record(_)) {
                    head = records.used();
                    continue;
                }
                runner.stands_within(reader.around());
            }
            runner.passed_over(&passed_over);
            count += passed_over.records;
            match next {
                Next::Record(record) => {
                    in_fields += u64::from(matches!(record, json::Slotted::Slots(_)));
                    let record = match (&mut typer, context.types, record) {
                        (Some(typer), Some((_, path)), json::Slotted::Value(record)) => {
                            json::Slotted::Value(typer.record(record, path, arena))
                        }
                        (_, _, record) => record,
                    };
                    let ran = runner.slotted(&mut state, &mut store, count, record, &mut |value| {
                        match value {
                            Some(value) if context.allows(value) => part.item(value),
                            // What is wrong with it is found out in its turn.
                            Some(_) => {
                                part.failed = true;
                                kyanite_lang::Flow::Break(())
                            }
                            None => kyanite_lang::Flow::Continue(()),
                        }
                    });
                    count += 1;
                    if ran.is_err() || part.failed {
                        return None;
                    }
                    runner.write_records(|out| records.write_line(slots, out));
                }
                Next::End(used) if used == bytes.len() => break,
                Next::End(_) | Next::Broken(_) => return None,
            }
        }
        runner.put_down(&state, &mut store).ok()?;
        if let Some((_, rows)) = rows {
            lines = rows.end(part);
        }
        if part.failed {
            return None;
        }
        if typer.is_some_and(|typer| !typer.take_losses().is_empty()) {
            return None;
        }
        if !records.take_duplicates().is_empty() || !records.take_repairs().is_empty() {
            return None;
        }
        // The next block is run over as if it began where this one did.
        let place = records.as_xml().map(|reader| reader.place(arena));
        if place != layout.place() {
            return None;
        }
        let enclosing = match records.as_xml().filter(|_| context.looks_above) {
            Some(reader) => Some(Enclosing::of(reader, head)?),
            None => None,
        };
        (records.as_xml_mut().map(ElementNames::of).unwrap_or_default(), enclosing)
    };
    let coverage = std::mem::replace(&mut session.coverage, Coverage::empty());
    let by_templates = layouts.slots.take_followed() + layouts.values.take_followed();
    let taken = WayCounts { by_templates, in_fields, copied: 0, lines };
    let tuples = store.into_tuples();
    Some(BlockResult { coverage, state, tuples, records: count, taken, met, enclosing })
}

/// Writes the records of a block as lines. Returns None if the block must be run again in order, for the messages about it.
fn as_lines(
    lines: AsLines<'_>,
    text: &str,
    part: &mut Part,
    (arena, layouts): (&Arena, &mut KnownLayouts),
    base: Base,
) -> Option<ElementNames> {
    match lines {
        AsLines::Rows { settings, header, lines } => {
            let mut rows = csv::Reader::new(text, arena, settings, header, base);
            while rows.next_line(lines, &mut part.bytes).ok()? {
                part.items += 1;
            }
        }
        AsLines::Values { depth, .. } => {
            let options = json::ReaderOptions { depth, origins: json::Origins::Text(base) };
            let mut values = json::Reader::new(text, arena, options);
            let mut structure = json::PartStructure::default();
            loop {
                let KnownLayouts { templates, lines, .. } = &mut *layouts;
                let mut copied = Copied::new(lines, depth, part);
                let from = (text, values.position());
                let done = consume(from, &mut structure, templates, &mut copied);
                copied.end();
                values.seek(done.end);
                match values.next_value().ok()? {
                    Some(value) if part.item(value).is_break() => return None,
                    Some(_) => {}
                    None => break,
                }
            }
            if !values.take_duplicates().is_empty() {
                return None;
            }
        }
        AsLines::Elements { elements, place } => {
            let mut reader = xml::RecordReader::new(text, arena, elements.at(base), place);
            loop {
                let view = part.renderer.as_mut()?.view();
                match reader.next_line(view, &mut part.bytes).ok()? {
                    Some(LineOrRecord::Line) => part.items += 1,
                    Some(LineOrRecord::Record(record)) => {
                        if part.item(record).is_break() {
                            return None;
                        }
                    }
                    None => break,
                }
            }
            // The next block is run over as if it began where this one did.
            if reader.place(arena) != place || !reader.take_repairs().is_empty() {
                return None;
            }
            return Some(ElementNames::of(&mut reader));
        }
    }
    Some(ElementNames::default())
}

/// Writes records as items of JSON.
struct Copied<'c> {
    lines: &'c mut json::LineWriter,
    depth: usize,
    part: &'c mut Part,
    /// Up to where the part has whole items.
    whole: usize,
    /// Where what was written of the item under way begins.
    item: usize,
}

impl<'c> Copied<'c> {
    fn new(lines: &'c mut json::LineWriter, depth: usize, part: &'c mut Part) -> Self {
        let whole = part.bytes.len();
        Self { lines, depth, part, whole, item: whole }
    }

    /// Begins an item; gives where what is written of it begins.
    fn begin(&mut self) -> usize {
        self.part.bytes.truncate(self.whole);
        if let Some(renderer) = &self.part.renderer {
            renderer.begin_json_item(&mut self.part.bytes);
        }
        self.part.bytes.len()
    }

    /// Forgets an item of which there is only a part.
    fn end(self) {
        self.part.bytes.truncate(self.whole);
    }
}

impl<'t> Consumer<'t> for Copied<'_> {
    fn consume(
        &mut self,
        events: &mut json::EventReader<'t, '_>,
        _: usize,
        _: usize,
    ) -> Option<usize> {
        self.item = self.begin();
        self.lines.by_events(events, self.depth, &mut self.part.bytes)
    }

    fn learn(&mut self, template: usize) {
        self.lines.learn(template, &self.part.bytes[self.item..]);
    }

    fn consume_alike(
        &mut self,
        record: (&'t str, Range<usize>),
        template: usize,
        scalars: &[ScalarSpan],
    ) -> bool {
        self.begin();
        self.lines.by_template(record, template, scalars, &mut self.part.bytes)
    }

    fn consumed(&mut self, _: usize, _: usize) {
        if let Some(renderer) = &mut self.part.renderer {
            renderer.end_json_item(&mut self.part.bytes);
        }
        self.part.items += 1;
        self.whole = self.part.bytes.len();
    }
}
