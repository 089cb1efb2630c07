//! Runs the blocks of a stream independently of each other, and puts their results in order.

use std::collections::BTreeSet;
use std::sync::{PoisonError, RwLock};

use kyanite_formats::records::Layout;
use kyanite_lang::{SpillSettings, Strategy, Way, Written};
use kyanite_tree::Arena;
use kyanite_xpath::Expression;

use super::{Aside, BlockEnd, Progress, Stream, no_list_error, value_templates};
use crate::blocks::{Block, Blocks, Then};
use crate::input::{XmlBeginning, cannot_read};
use crate::parallel::{self, AsLines, BlockResult, WorkerBlock, WorkerContext};
use crate::part::Part;
use crate::records::{InputPart, Records};
use crate::rows::RowKeys;
use crate::run::{rule_failed, stack_size};
use crate::run_error::RunError;

impl<'q> Stream<'_, '_, '_, '_, 'q> {
    /// Runs over the blocks that are left apart from each other, several at the same time if there are threads for it.
    pub(super) fn in_parallel<'b, 'g: 'b>(
        &mut self,
        rest: Rest<'b>,
        progress: &mut Progress<'g>,
        aside: &mut Aside,
    ) -> Result<(), RunError> {
        let Rest { mut blocks, mut layout, strategy, mut input, part, held, mut namespaces } = rest;
        let header = &held.arena;
        let (name, threads) = (input.name, self.job.options.threads);
        let stack = stack_size(self.job.options.limits.depth);
        let names = progress.names.clone();
        let state = progress.state.of_part(self.job.plan);
        let unit = self.unit;
        let are_lines = strategy.takes(Way::Copies);
        let row_lines = match (layout, part.written()) {
            (Layout::Csv { header: Some(header), .. }, written) if are_lines => match written {
                Written::Json => header.json_lines(),
                _ => part.indent().and_then(|indent| header.yaml_items(indent)),
            },
            _ => None,
        };
        let row_names = strategy.row_names.as_ref().filter(|_| !part.expects_elements());
        let row_keys = row_names.map(RowKeys::of);
        let lines = match (layout, &row_lines) {
            (Layout::Csv { settings, header }, Some(lines)) => {
                Some(AsLines::Rows { settings, header, lines })
            }
            (Layout::Xml { elements, place, .. }, _) if are_lines => {
                Some(AsLines::Elements { elements, place })
            }
            (Layout::Json { depth, .. }, _) if are_lines => {
                part.json_style().map(|style| AsLines::Values { depth, style })
            }
            _ => None,
        };
        // A path that has to be explained is told about by whole records.
        let explains_nothing = self.session.coverage.explains_nothing(self.job.plan);
        // Members are in fields for lines that wait, and for nothing else.
        let has_rows = row_keys.is_some() || !strategy.rows_wait;
        let field_plan = strategy.field_plan.as_ref().filter(|_| explains_nothing && has_rows);
        let needed = strategy
            .projection
            .as_ref()
            .map_or(layout, |projection| layout.with_projection(projection));
        let prefilter = self.job.plan.xpath().and_then(Expression::record_prefilter);
        let prefilter = prefilter.filter(|_| strategy.takes(Way::Prefilter));
        let documents = self.session.documents.clone();
        let cutoff = RwLock::new(progress.store.cutoff());
        let path = self.path_of_elements();
        let context = WorkerContext {
            plan: self.job.plan,
            documents: &documents,
            unit,
            layout: needed.with_prefilter(prefilter),
            input,
            names: &names,
            state: &state,
            // What the tuples of a block take there is room for.
            spill: &SpillSettings { memory: usize::MAX, file: Box::new(tempfile::tempfile) },
            cutoff: &cutoff,
            field_plan,
            row_keys: row_keys.as_ref(),
            learns: strategy.takes(Way::Templates),
            lines,
            written: part.written(),
            looks_above: self.looks_above(),
            types: self.job.types.map(|types| (types, &*path)),
            ensures: self.job.ensures.filter(|_| part.ensures),
        };
        let assumed = layout.place();
        let mut carried: Vec<u8> = Vec::new();
        // How many bytes have to be there before what was carried over is tried again.
        let mut enough = 0;
        let (mut arena, mut templates) = (Arena::new(), value_templates(strategy));
        let commit = |done: &mut WorkerBlock| {
            let (bytes, then) = (&mut done.bytes, done.then);
            let is_last = then == Then::End;
            // Whether a document ends where it should is seen only in its turn.
            let is_open_end = is_last && assumed.is_some();
            // What was carried over from the block before changes where this one begins.
            let is_there = carried.is_empty() && layout.place() == assumed && !is_open_end;
            let result = done.result.take().filter(|_| is_there);
            let coverage = &self.session.coverage;
            let mut result = result.filter(|result| {
                !coverage.learns_from(&result.coverage, self.job.plan)
                    && held.dropped.adopt(&result.met.dropped)
            });
            if let Some(BlockResult { enclosing: Some(enclosing), .. }) = &result {
                // What stands in elements that began before the block is run over now that these are known.
                let head = Block { bytes: &bytes[..enclosing.head], then: Then::More };
                let records = Records::new(head, 0, input, layout, &arena, None);
                let BlockEnd { used, place, .. } = self.block(records, &arena, progress, aside)?;
                let place = place.unwrap_or_default();
                let behind =
                    enclosing.behind(place, layout, header).filter(|_| used == enclosing.head);
                layout = layout.at(behind.unwrap_or_else(|| place.keep(header)));
                arena.reset();
                if progress.done {
                    return Ok(false);
                }
                if behind.is_none() {
                    result = None;
                    input.before.pass(&bytes[..used]);
                    self.events.read(used);
                    bytes.drain(..used);
                }
            }
            if let Some(result) = result
                && progress
                    .store
                    .join(self.job.plan, &progress.state, &result.tuples)
                    .map_err(|failure| rule_failed(self.job.plan, &failure, None))?
                && progress.state.join(&result.state).is_ok()
            {
                if result.tuples.are_any() {
                    *cutoff.write().unwrap_or_else(PoisonError::into_inner) =
                        progress.store.cutoff();
                }
                self.session.coverage.join(&result.coverage);
                namespaces.extend(result.met.namespaces);
                progress.index += result.records;
                self.events.counters.take(result.taken);
                input.before.pass_all(done.passed);
                self.events.read(bytes.len());
                let flow = self.results.sink().join(&mut done.part);
                self.results.end_block(then);
                return Ok(flow.is_continue());
            }
            if !carried.is_empty() {
                carried.extend_from_slice(bytes);
                std::mem::swap(&mut carried, bytes);
                carried.clear();
            }
            // A record of many blocks is not tried again with each of them.
            if then == Then::More && bytes.len() < enough {
                carried.extend_from_slice(bytes);
                return Ok(true);
            }
            loop {
                let block = Block { bytes, then };
                let current = self.as_needed(layout, strategy.projection.as_ref());
                self.count_followed(&mut templates);
                let records = Records::new(block, 0, input, current, &arena, Some(&mut templates));
                let end = self.block(records, &arena, progress, aside)?;
                let used = end.used;
                let _ = held.dropped.adopt(&end.met.dropped);
                namespaces.extend(end.met.namespaces);
                if let Some(place) = end.place {
                    layout = layout.at(place.keep(header));
                }
                arena.reset();
                input.before.pass(&bytes[..used]);
                self.events.read(used);
                let is_done = progress.done || is_last && used == bytes.len();
                bytes.drain(..used);
                if is_done {
                    return Ok(false);
                }
                if !is_last {
                    enough = if used == 0 { bytes.len() * 2 } else { 0 };
                    carried.extend_from_slice(bytes);
                    return Ok(true);
                }
            }
        };
        let parts = || part.again().by_lines(context.gives_lines());
        let failed = |error| RunError::Input(cannot_read(name, &error));
        parallel::run(context, threads, stack, &mut blocks, parts, commit, failed)?;
        self.count_followed(&mut templates);
        if !progress.done && !self.results.sink().is_closed() {
            no_list_error(&blocks, name, input.before)?;
        }
        self.tell_namespaces(&namespaces, progress, header);
        Ok(())
    }
}

/// What is left of a stream.
pub(super) struct Rest<'b> {
    pub(super) blocks: Blocks,
    pub(super) layout: Layout<'b>,
    pub(super) strategy: &'b Strategy,
    pub(super) input: InputPart<'b>,
    /// What takes items apart from the output.
    pub(super) part: Part,
    /// What the layout lives in.
    pub(super) held: &'b XmlBeginning<'b>,
    /// Namespaces of the records so far that a name without prefix means.
    pub(super) namespaces: BTreeSet<String>,
}
