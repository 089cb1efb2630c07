//! A rule over records, one by one, in memory that does not grow with their number.

mod parallel;

use std::collections::BTreeSet;

use kyanite_formats::Format;
use kyanite_formats::json::ValueTemplates;
use kyanite_formats::projection::Projection;
use kyanite_formats::records::Layout;
use kyanite_formats::xml::{Ancestry, RecordReader, StepName};
use kyanite_lang::{
    Arguments, Flow, HandedOn, Names, Partial, RecordState, RecordUnit, RuleError, Runner, Session,
    SpillSettings, Strategy, TupleStore, Way,
};
use kyanite_tree::{
    Arena, Base, Code, Diagnostic, Name, Origin, Passed, Place, Span, TextPlaces, Value, locate,
    locate_node,
};
use kyanite_xpath::Expression;

use crate::blocks::{Blocks, Then};
use crate::document::{Duplicates, Library, Skipped, record_location, say_format};
use crate::input::{Beginning, Input, Source, XmlBeginning, cannot_read};
use crate::parallel::ElementNames;
use crate::records::{InputPart, Next, Records, valid_start};
use crate::repairs::Repairs;
use crate::results::Results;
use crate::run::{Job, LossPolicy, Run, What, is_xml, rule_failed, settle_losses};
use crate::run_error::{Events, RunError, WayCounts};
use crate::sources::Sources;
use crate::types::Typer;
use parallel::Rest;

/// Where a run over records stands.
struct Progress<'g> {
    names: Names<'g>,
    state: RecordState,
    store: TupleStore<'g>,
    index: u64,
    done: bool,
}

impl Progress<'_> {
    /// Runs over one record and hands on what it gives.
    fn run<'a>(
        &mut self,
        runner: &mut Runner<'_, 'a>,
        record: Value<'a>,
        results: &mut Results<'_>,
    ) -> Result<(), RuleError> {
        let index = self.index;
        self.index += 1;
        let flow =
            runner.record(&mut self.state, &mut self.store, index, record, &mut |value| {
                results.take(value, |node| record_location(locate_node(record, node)?, index, &[]))
            })?;
        self.done = flow.is_break();
        Ok(())
    }
}

/// The most bytes of a record that are held where documents are not.
const HELD: usize = 16 << 20;

impl<'q> Run<'_, 'q, '_, '_> {
    /// Runs the rule over the records of an open source and of further inputs, as those of one list; `all` are these inputs.
    pub(crate) fn stream(
        &mut self,
        mut opened: Option<Source>,
        inputs: &[Input],
        unit: RecordUnit,
        all: &[Input],
    ) -> Result<(), RunError> {
        let plan = self.job.plan;
        if self.cut.is_some() {
            plan.can_be_cut(unit).map_err(|why| RunError::command(why.message(), why.advice()))?;
        }
        let arena = Arena::new();
        let sources = self.sources;
        let arguments =
            Arguments::read(plan, self.job.params, &arena).map_err(RunError::Command)?;
        let arguments = arguments.with_sources(&sources.values);
        let (names, state) = Runner::new(plan, &arguments, None, &arena, self.session)
            .and_then(|runner| runner.begin_records(unit))
            .map_err(|failure| {
                rule_failed(plan, &failure, sources.place(failure.origin(), || None))
            })?;
        let spill =
            SpillSettings { memory: self.job.options.memory, file: Box::new(tempfile::tempfile) };
        let store = TupleStore::new(plan, &arena, &spill);
        let mut progress = Progress { names, state, store, index: 0, done: false };
        let mut waiting = inputs.iter();
        let name = opened.as_ref().map(|source| source.name.clone());
        let name = name.filter(|_| self.names_documents);
        let is_table =
            |source: &Source| matches!(source.detected.format, Format::Csv | Format::Tsv);
        let strategy = self.strategy(unit, opened.as_ref().is_some_and(is_table));
        let mut results = Results::new(self.job, self.sink, name.as_deref());
        while !progress.done {
            let source = match opened.take() {
                Some(source) => source,
                None => match waiting.next() {
                    Some(input) => self.job.open(input, self.events)?,
                    None => break,
                },
            };
            let mut stream = Stream {
                job: self.job,
                session: self.session,
                events: self.events,
                results: &mut results,
                sources,
                unit,
                strategy: &strategy,
                typer: self.job.types.map(Typer::new),
            };
            let has_records = source.detected.format.has_records() || source.items.is_some();
            if has_records || unit == RecordUnit::Elements {
                stream.records(source, &mut progress)?;
            } else {
                stream.documents(source, &mut progress)?;
            }
        }
        if let Some(cut) = &mut self.cut {
            let portion = std::mem::take(&mut cut.portion);
            cut.state = Some(Partial::of(progress.state, unit, progress.index, portion));
            return Ok(());
        }
        let mut is_left = progress.store.has_packed(plan);
        let mut batch = Arena::new();
        let Progress { names, state, store, index, .. } = &mut progress;
        let ended = loop {
            if !is_left {
                break Runner::for_batch(plan, unit, names.clone(), &arena, self.session)
                    .end_records(state, store, Some(*index), &mut |value| {
                        results.take(value, |_| None)
                    });
            }
            let runner = Runner::for_batch(plan, unit, names.clone(), &batch, self.session);
            let mut take = |handed_on: HandedOn<'_>| match handed_on {
                HandedOn::Value(value) => results.take(Some(value), |_| None),
                HandedOn::Line(line) => results.take_line(line),
            };
            match runner.hand_on_packed(state, store, &mut take) {
                Ok(flow) => is_left = flow.is_continue(),
                Err(failure) => break Err(failure),
            }
            batch.reset();
        };
        match ended {
            Ok(()) => results.end(),
            Err(failure) => Err(self.with_place(all, &failure)),
        }
    }
}

/// A source under way, with what it needs of the run.
struct Stream<'r, 's, 'e, 'j, 'q> {
    job: &'r Job<'j>,
    session: &'r mut Session,
    events: &'r mut Events<'e>,
    results: &'r mut Results<'s>,
    sources: &'q Sources<'q>,
    unit: RecordUnit,
    /// How records are taken.
    strategy: &'r Strategy,
    /// What gives records their types.
    typer: Option<Typer<'r>>,
}

impl<'q> Stream<'_, '_, '_, '_, 'q> {
    /// Whole documents, each of which is one record of the gathered list.
    fn documents(&mut self, source: Source, progress: &mut Progress<'_>) -> Result<(), RunError> {
        let mut pieces = source.in_pieces(self.job.options);
        pieces.each(|piece, then| {
            self.held(piece, progress)?;
            self.results.end_block(then);
            Ok(if progress.done { Flow::Break(()) } else { Flow::Continue(()) })
        })?;
        pieces.finish(self.job.options, self.events);
        Ok(())
    }

    /// Documents that are held together, each of which is a record.
    fn held(&mut self, source: Source, progress: &mut Progress<'_>) -> Result<(), RunError> {
        let arena = Arena::new();
        let library = Library::new(&arena);
        let uri = source.uri.clone();
        let loaded = self.job.load(source, &library, &arena, self.events)?;
        self.session.documents = self.sources.uris(uri, Some(&library));
        if self.job.carries_all {
            self.results.sink().add_losses(&loaded.losses);
        }
        for record in loaded.roots {
            if is_xml(record) {
                self.results.sink().expect_elements();
            }
            if library.has_foreign_types() {
                self.results.sink().expect_foreign_types();
            }
            let names = progress.names.clone();
            let mut runner =
                Runner::for_batch(self.job.plan, self.unit, names, &arena, self.session);
            runner.take_up(&progress.store);
            let ran = progress.run(&mut runner, record, self.results);
            let ran = ran.and_then(|()| runner.put_down(&progress.state, &mut progress.store));
            ran.map_err(|failure| {
                let place =
                    self.sources.place(failure.origin(), || library.place(failure.origin()));
                rule_failed(self.job.plan, &failure, place)
            })?;
            let find = |origin| self.sources.place(origin, || library.place(origin));
            settle_losses(self.results.sink(), self.job.losses, &find, self.events)?;
            if progress.done {
                break;
            }
        }
        Ok(())
    }

    /// Runs over a stream of records, and tells what was met along the way.
    fn records(&mut self, source: Source, progress: &mut Progress<'_>) -> Result<(), RunError> {
        let options = self.job.options;
        // A broken record of XML is no record that could be left out.
        let leaves_out = options.lenient && source.detected.format != Format::Xml;
        let mut aside = Aside {
            skipped: Skipped::new(leaves_out),
            duplicates: Duplicates::default(),
            repairs: Repairs::new(options.repairs),
        };
        let replaced = source.replaced.clone();
        self.session.documents = self.sources.uris(source.uri.clone(), None);
        let before = progress.index;
        let ran = self.blocks(source, progress, &mut aside);
        self.events.counters.count(progress.index - before);
        let Aside { skipped, duplicates, mut repairs } = aside;
        skipped.finish(self.events);
        duplicates.finish(self.events);
        repairs.take_replaced(&replaced);
        repairs.finish(self.events);
        ran
    }

    /// Runs over a stream of records, block by block.
    fn blocks(
        &mut self,
        source: Source,
        progress: &mut Progress<'_>,
        aside: &mut Aside,
    ) -> Result<(), RunError> {
        if let Some(message) = source.contradiction() {
            self.events.tell(
                Diagnostic::warning(Code::InputFormat, message)
                    .advise_opt(source.looks_like.map(say_format)),
            );
        }
        let (name, format, options) = (source.name, source.detected.format, self.job.options);
        let is_xml = format == Format::Xml;
        let elements = if is_xml { self.job.plan.element_path() } else { None }.unwrap_or_default();
        if is_xml {
            self.results.sink().expect_elements();
        }
        let mut blocks = match source.items {
            Some(blocks) => *blocks,
            None => {
                let mut blocks = Blocks::new(source.reader, source.live);
                if is_xml {
                    blocks.cut_behind_tags();
                }
                blocks
            }
        };
        if !self.job.holds {
            blocks = blocks.at_most(HELD);
        }
        let (held, mut arena) = (XmlBeginning::default(), Arena::new());
        let header = &held.arena;
        // Elements that stood where one on the path could have stood.
        let mut others: Vec<(usize, String, String)> = Vec::new();
        let mut namespaces = BTreeSet::new();
        let strategy = self.strategy;
        let mut templates = value_templates(strategy);
        let mut settled = None;
        let mut input =
            InputPart { name: &name, format, base: Base::default(), before: Passed::default() };
        loop {
            let block =
                blocks.next().map_err(|error| RunError::Input(cannot_read(&name, &error)))?;
            let (bytes, is_last) = (block.bytes, block.then == Then::End);
            let mut from = 0;
            let mut layout = match settled {
                Some(layout) => layout,
                None => {
                    let text = valid_start(bytes).0;
                    let beginning = if is_xml {
                        let path = (&*elements, self.looks_above());
                        Beginning::of_elements(options, (text, is_last), path, &held)
                    } else {
                        Beginning::read(format, options, text, header)
                    };
                    match beginning {
                        Err(error) if error.wants_more() && !is_last => {
                            blocks.used(0);
                            continue;
                        }
                        Err(error) => return Err(RunError::Input(error.diagnostic(&name, bytes))),
                        Ok(mut beginning) => {
                            beginning.tell((&name, bytes), &mut aside.duplicates, self.events);
                            let places = TextPlaces::new(&name, bytes);
                            let place = |span: Span| places.place(span.start, span.end);
                            aside.repairs.take(beginning.repairs, place, self.events);
                            if let Layout::Csv { header: Some(header), .. } = beginning.layout
                                && let Some((true, others)) = self.job.plan.columns(self.unit)
                            {
                                let columns = [header.names(), &others].concat();
                                self.results.sink().expect_columns(&columns);
                            }
                            from = beginning.from;
                            *settled.insert(beginning.layout)
                        }
                    }
                }
            };
            if strategy.takes(Way::Threads)
                && self.may_part(is_last, progress.index)
                && let Some(part) = self.results.sink().part()
                && (!part.ensures || self.job.ensures.is_some())
            {
                input.before.pass(&bytes[..from]);
                blocks.put_back(from);
                let rest = Rest { blocks, layout, strategy, input, part, held: &held, namespaces };
                return self.in_parallel(rest, progress, aside);
            }
            let current = self.as_needed(layout, strategy.projection.as_ref());
            self.count_followed(&mut templates);
            let records = Records::new(block, from, input, current, &arena, Some(&mut templates));
            let end = self.block(records, &arena, progress, aside)?;
            let used = end.used;
            let _ = held.dropped.adopt(&end.met.dropped);
            namespaces.extend(end.met.namespaces);
            if let Some(place) = end.place {
                layout = layout.at(place.keep(header));
                others.extend(end.others.iter().map(|(level, name)| {
                    (*level, name.qualified().to_owned(), name.namespace().to_owned())
                }));
                others.truncate(OTHERS);
            }
            let record_name = end.record_name.map(str::to_owned);
            let line_bracket = end.line_bracket;
            input.before.pass(&bytes[..used]);
            input.base = input.base.behind(used);
            self.events.read(used);
            // Nobody may be left who wants results.
            if progress.done || self.results.sink().is_closed() {
                break;
            }
            if is_last && used == bytes.len() {
                no_list_error(&blocks, &name, input.before)?;
                break;
            }
            blocks.used(used);
            if let Some(name) = record_name {
                blocks.cut_before(&name);
            }
            if let Some(bracket) = line_bracket {
                blocks.cut_before_line(bracket);
            }
            arena.reset();
            settled = Some(layout);
        }
        self.count_followed(&mut templates);
        if is_xml && progress.index == 0 {
            let others: Vec<(usize, Name<'_>)> = others
                .iter()
                .map(|(level, name, namespace)| (*level, Name::new(name, namespace)))
                .collect();
            let names = progress.names.clone();
            Runner::for_batch(self.job.plan, self.unit, names, header, self.session)
                .no_elements(&others);
        }
        if let Some(typer) = self.typer.as_mut().filter(|_| self.job.carries_all) {
            self.results.sink().add_losses(&typer.take_losses());
        }
        self.tell_namespaces(&namespaces, progress, header);
        Ok(())
    }

    /// Counts the records that were known by those before them.
    fn count_followed(&self, templates: &mut ValueTemplates) {
        let by_templates = templates.take_followed();
        self.events.counters.take(WayCounts { by_templates, ..WayCounts::default() });
    }

    /// Says it where a step without prefix led to records of several namespaces.
    fn tell_namespaces(
        &mut self,
        namespaces: &BTreeSet<String>,
        progress: &Progress<'_>,
        arena: &Arena,
    ) {
        if namespaces.len() > 1 {
            let names = progress.names.clone();
            Runner::for_batch(self.job.plan, self.unit, names, arena, self.session)
                .mixed_elements(namespaces.iter().map(String::as_str));
        }
    }

    /// The names that lead to the elements that are records.
    fn path_of_elements(&self) -> Vec<StepName> {
        match self.unit {
            RecordUnit::Elements => self.job.plan.element_path().unwrap_or_default(),
            RecordUnit::Items => Vec::new(),
        }
    }

    /// Whether names and attributes of elements around records are wanted.
    fn looks_above(&self) -> bool {
        self.job.plan.xpath().is_some_and(Expression::looks_above)
    }

    /// The layout for reading no more of records than is needed. As long as a path has selected nothing, that is all: the
    /// report may have to name what else is there.
    fn as_needed<'l>(&self, layout: Layout<'l>, projection: Option<&'l Projection>) -> Layout<'l> {
        match projection.filter(|_| self.session.coverage.has_seen_enough(self.job.plan)) {
            Some(projection) => layout.with_projection(projection),
            None => layout,
        }
    }

    /// Whether the blocks that are left can be run over apart from each other; `records` came before them.
    fn may_part(&self, is_last: bool, records: u64) -> bool {
        let Job { what, losses, .. } = self.job;
        !is_last
            // Blocks begin where elements of one sort do, once the first of them is known.
            && (records > 0 || self.unit == RecordUnit::Items)
            && *what == What::Values
            && *losses == LossPolicy::Count
            && self.session.coverage.may_look_away(self.job.plan, records)
    }

    /// Runs over the records of one block; gives how many of its bytes were used.
    fn block<'a, 'g: 'a>(
        &mut self,
        mut records: Records<'a>,
        arena: &'a Arena,
        progress: &mut Progress<'g>,
        aside: &mut Aside,
    ) -> Result<BlockEnd<'a>, RunError> {
        let plan = self.job.plan;
        let (path, looks_above) = (self.path_of_elements(), self.looks_above());
        let sources = self.sources;
        let names = progress.names.clone();
        let mut runner = Runner::for_batch(plan, self.unit, names, arena, self.session);
        runner.take_up(&progress.store);
        let used = loop {
            let next = records.next();
            let repairs = records.take_repairs();
            if !repairs.is_empty() {
                aside.repairs.take(repairs, |span| records.place_of(span), self.events);
            }
            match next {
                Next::End(used) => break used,
                Next::Broken(problem) => {
                    aside.skipped.or_fail(problem, self.events)?;
                    if let Some(used) = records.skip_broken() {
                        break used;
                    }
                }
                Next::Record(record) => {
                    let index = progress.index;
                    let record = match &mut self.typer {
                        Some(typer) => typer.record(record, &path, arena),
                        None => record,
                    };
                    if let Some(reader) = records.as_xml().filter(|_| looks_above) {
                        runner.stands_within(reader.around());
                    }
                    let ran = progress.run(&mut runner, record, self.results);
                    let place = |failure: &RuleError| {
                        let own = || record_place(&records, record, index, failure, &path);
                        sources.place(failure.origin(), own)
                    };
                    runner.place_recovered(place);
                    ran.map_err(|failure| rule_failed(plan, &failure, place(&failure)))?;
                    aside.duplicates.tell(records.take_duplicates(), self.events, |offset| {
                        Some(records.place_at(offset))
                    });
                    let waits = self.results.sink().waits_for_places();
                    if progress.done || waits || self.job.losses != LossPolicy::Count {
                        let find =
                            |origin: Origin| origin.is_known().then(|| records.place(origin));
                        settle_losses(self.results.sink(), self.job.losses, &find, self.events)?;
                    }
                    if progress.done {
                        break records.used();
                    }
                }
            }
        };
        runner.put_down(&progress.state, &mut progress.store).map_err(|failure| {
            let own = || failure.origin().is_known().then(|| records.place(failure.origin()));
            let place = sources.place(failure.origin(), own);
            rule_failed(plan, &failure, place)
        })?;
        self.results.end_block(records.then());
        Ok(BlockEnd::of(&mut records, used, arena))
    }
}

/// What readers learn, if they learn anything.
fn value_templates(strategy: &Strategy) -> ValueTemplates {
    match strategy.takes(Way::Templates) {
        true => ValueTemplates::default(),
        false => ValueTemplates::unused(),
    }
}

/// What is told about an input besides its results.
struct Aside {
    skipped: Skipped,
    duplicates: Duplicates,
    repairs: Repairs,
}

/// Names of elements that are kept for the report of a path that leads nowhere.
const OTHERS: usize = 200;

/// Where the records of a block ended.
struct BlockEnd<'a> {
    /// How many of its bytes were used.
    used: usize,
    /// Which elements are open there, if the records are elements.
    place: Option<Ancestry<'a>>,
    /// How the tags of records begin.
    record_name: Option<&'a str>,
    /// How records of several lines begin.
    line_bracket: Option<u8>,
    /// Elements that stood where one on the path could have stood.
    others: Vec<(usize, Name<'a>)>,
    /// What was met of names of elements.
    met: ElementNames,
}

impl<'a> BlockEnd<'a> {
    fn of(records: &mut Records<'a>, used: usize, arena: &'a Arena) -> Self {
        let met = records.as_xml_mut().map(ElementNames::of).unwrap_or_default();
        let line_bracket = records.line_bracket();
        let reader = records.as_xml();
        Self {
            used,
            place: reader.map(|reader| reader.place(arena)),
            record_name: reader.and_then(RecordReader::record_name),
            line_bracket,
            others: reader.map(|reader| reader.others().to_vec()).unwrap_or_default(),
            met,
        }
    }
}

/// Fails where something is wrong with a document around its items.
pub(crate) fn no_list_error(blocks: &Blocks, name: &str, before: Passed) -> Result<(), RunError> {
    let Some((list_error, after)) = blocks.list_error() else { return Ok(()) };
    let place = Place::of(name, after, 0, 1).behind(before);
    Err(RunError::Input(list_error.diagnostic().at(place)))
}

/// The place in the input that a failure is about.
fn record_place(
    records: &Records<'_>,
    record: Value<'_>,
    index: u64,
    failure: &RuleError,
    path: &[StepName],
) -> Option<Place> {
    let origin = failure.origin();
    let place = origin.is_known().then(|| records.place(origin))?;
    Some(match locate(record, origin).and_then(|found| record_location(found, index, path)) {
        Some(location) => place.with_path(location.readable()),
        None => place,
    })
}
