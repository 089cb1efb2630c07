//! Surveys inputs: streams by blocks on all threads, YAML documents a few at a time, large XML documents part by part, all others whole.

mod at;
mod elements;
mod json;
mod partial;
mod yaml;

use std::ops::Range;

use kyanite_formats::json::{EventReader, PartStructure, Templates};
use kyanite_formats::record_view::{RecordShape, View};
use kyanite_formats::records::Layout;
use kyanite_formats::xml::StepName;
use kyanite_formats::{Format, csv, documents};
use kyanite_lang::Flow;
use kyanite_survey::{Batch, Bounds, Ended, Survey};
use kyanite_tree::{
    Arena, Base, Code, Diagnostic, Event, Passed, Pull, ScalarSpan, TextPlaces, ValueEvents,
    is_blank,
};

use crate::blocks::{Blocks, Framing};
use crate::consume::{Consumer, consume};
use crate::document::{Duplicates, Library, say_format};
use crate::in_order::{Made, Shared, Workers};
use crate::input::{Beginning, Input, InputOptions, Source, cannot_read};
use crate::pieces::Pieces;
use crate::range::ByteRange;
use crate::records::{InputPart, valid_start};
use crate::run::stack_size;
use crate::run_error::{Counters, Events, RunError};
use crate::stream::no_list_error;
use crate::transcode::Replaced;
use crate::walk::{Step, Walk};

pub use at::RecordPath;
pub use partial::{SurveyState, join_surveys, survey_part};

/// What is surveyed, and how.
#[derive(Clone, Copy, Debug)]
pub struct Surveyed<'s> {
    /// The inputs, surveyed as one.
    pub inputs: &'s [Input],
    /// How they are read; `memory` bounds what is kept of them.
    pub options: &'s InputOptions,
    /// The path to the records in each document; without it they are the items of a document that is a list, and else the document.
    pub at: Option<&'s RecordPath>,
    /// Only the records that begin in these bytes of the input.
    pub range: Option<&'s ByteRange>,
}

/// Surveys inputs.
///
/// # Errors
/// [`RunError::Input`] when one cannot be read, [`RunError::Command`] when a path leads to no records in any.
pub fn survey(what: Surveyed<'_>, events: &mut Events<'_>) -> Result<Survey, RunError> {
    let Found { mut survey, is_xml, .. } = look_through(what, events)?;
    if is_xml {
        survey.join_singles();
    }
    match what.at {
        Some(at) if survey.records() == 0 => Err(at.leads_nowhere()),
        _ => Ok(survey),
    }
}

/// What was found in inputs, before it is known whether there are others.
#[derive(Debug)]
struct Found {
    survey: Survey,
    /// Whether all of them are XML.
    is_xml: bool,
    /// How many lines of a stream of records were passed, and how many of these (a header) stand in front of its range.
    lines: u64,
    repeated_lines: u64,
}

/// Looks through inputs.
fn look_through(what: Surveyed<'_>, events: &mut Events<'_>) -> Result<Found, RunError> {
    let survey = Survey::new(Bounds { memory: what.options.memory });
    let mut found = Found { survey, is_xml: true, lines: 0, repeated_lines: 0 };
    if what.range.is_some() && (what.inputs.len() > 1 || what.at.is_some()) {
        let message = "a range is of the records of one stream, and they stand at no path";
        return Err(RunError::command(message, "survey one input, without --at"));
    }
    for input in what.inputs {
        let mut source = Source::open(input, what.options)?;
        if let Some(range) = what.range {
            source = source.in_range(input, range.clone(), what.options)?;
            found.repeated_lines = source.repeated_lines;
            if range.start == 0 {
                source.name = input.name();
            }
        }
        found.is_xml &= source.detected.format == Format::Xml;
        let run = SurveyRun { what, survey: &mut found.survey, events };
        found.lines = run.source(source)?;
    }
    Ok(found)
}

/// Inputs that are looked through.
struct SurveyRun<'l, 'e> {
    what: Surveyed<'l>,
    survey: &'l mut Survey,
    events: &'l mut Events<'e>,
}

/// Documents up to this part of the memory that there is are held whole.
const HELD: usize = 64;

/// The size that a record of a large document may always have, in bytes, however little memory is allowed.
const RECORD: usize = 16 << 20;

/// The most bytes that a record of a large document, which is held, may have.
fn largest_record(options: &InputOptions) -> usize {
    options.memory.max(RECORD)
}

/// How many usual blocks a batch has.
const BATCH: usize = 4;

/// How cells are told apart, and the names of their columns.
type Columns<'h> = (csv::Settings, Option<csv::Header<'h>>);

/// How far a stream was surveyed.
#[derive(Clone, Copy, Default)]
struct Done {
    base: Base,
    before: Passed,
}

impl Done {
    fn pass(&mut self, bytes: &[u8]) {
        self.before.pass(bytes);
        self.base = self.base.behind(bytes.len());
    }
}

impl SurveyRun<'_, '_> {
    /// Surveys an input; gives how many lines of a stream of records were passed.
    fn source(mut self, source: Source) -> Result<u64, RunError> {
        let (options, format) = (self.what.options, source.detected.format);
        let is_plain = !options.unwrap && source.looks_like.is_none();
        if format.has_records() && !options.unwrap && self.what.at.is_none() {
            if let Some(message) = source.contradiction() {
                let told = Diagnostic::warning(Code::InputFormat, message);
                self.events.tell(told.advise_opt(source.looks_like.map(say_format)));
            }
            let Source { name, reader, live, replaced, .. } = source;
            let may_share = live.is_none() && !options.lenient;
            let mut blocks = Blocks::new(reader, live);
            let (held, mut done, mut layout) = (Arena::new(), Done::default(), None);
            match format {
                Format::JsonLines if may_share => {
                    (blocks, done) = self.values_on_threads(blocks, &name)?;
                }
                Format::Csv | Format::Tsv if may_share => {
                    let columns;
                    (done, columns) = self.header(&mut blocks, (&name, format), &held)?;
                    if let Some((settings, header)) = columns {
                        layout = Some(Layout::Csv { settings, header });
                        let work = |block: &[u8]| rows_of(block, (settings, header));
                        (blocks, done) = self.on_threads(blocks, &name, done, &work)?;
                    }
                }
                _ => {}
            }
            let input = InputPart { name: &name, format, base: done.base, before: done.before };
            return self.records(&mut blocks, (input, layout), &replaced, &[]).map(Passed::lines);
        }
        self.documents(source, format, is_plain).map(|()| 0)
    }

    /// Surveys an input that is one document, or several.
    fn documents(
        &mut self,
        source: Source,
        format: Format,
        is_plain: bool,
    ) -> Result<(), RunError> {
        let options = self.what.options;
        if let Some(at) = self.what.at.filter(|at| format == Format::Xml && at.leads_to_elements())
            && is_plain
        {
            return self.elements(source, at);
        }
        let may_be_large = match format {
            Format::Xml => self.what.at.is_none(),
            Format::Yaml => self.what.at.is_none_or(RecordPath::ends_in_items),
            Format::Json => {
                self.what.at.is_some_and(|at| at.ends_in_items() && at.to_one_list().is_none())
            }
            _ => false,
        };
        if may_be_large && is_plain && !options.lenient {
            return self.document(source);
        }
        let names = self.what.at.map_or(Some(Vec::new()), RecordPath::to_one_list);
        if let Some(names) = names.filter(|_| format == Format::Json && is_plain) {
            let mut source = source.go_through(names, false)?;
            if let Some(items) = source.items.take() {
                let Source { name, replaced, .. } = source;
                let (mut blocks, done) = self.values_on_threads(*items, &name)?;
                let format = Format::JsonLines;
                let input = InputPart { name: &name, format, base: done.base, before: done.before };
                let passed = self.records(&mut blocks, (input, None), &replaced, &[])?;
                return no_list_error(&blocks, &name, passed);
            }
            return match options.lenient {
                true => self.whole(source),
                false => self.document(source),
            };
        }
        self.whole(source)
    }

    /// Surveys blocks of JSON values on several threads, as far as each is well-formed.
    fn values_on_threads(
        &mut self,
        blocks: Blocks,
        name: &str,
    ) -> Result<(Blocks, Done), RunError> {
        let depth = self.what.options.limits.depth;
        let known = Shared::new(Templates::default);
        let work = |block: &[u8]| known.with(|templates| values_of(block, depth, templates));
        self.on_threads(blocks, name, Done::default(), &work)
    }

    /// Surveys blocks of records on several threads, as far as each is clean.
    fn on_threads(
        &mut self,
        blocks: Blocks,
        name: &str,
        mut done: Done,
        work: &(dyn Fn(&[u8]) -> Made<Ended> + Sync),
    ) -> Result<(Blocks, Done), RunError> {
        let (survey, events) = (&mut *self.survey, &*self.events);
        let options = self.what.options;
        let mut take = |block: &[u8], ended: Ended| {
            events.counters.count(ended.records());
            survey.take(ended, name, done.before.lines());
            done.pass(block);
            events.read(block.len());
        };
        // What a batch costs is spread over more records.
        let blocks = blocks.larger(BATCH);
        let stack = stack_size(options.limits.depth);
        let workers = Workers { threads: options.threads, stack };
        let left = workers.run(blocks, name, work, &mut take)?;
        Ok((left, done))
    }

    /// Reads what stands before the rows of a table; gives how these are laid out if each is a record that has a name once.
    fn header<'h>(
        &mut self,
        blocks: &mut Blocks,
        (name, format): (&str, Format),
        held: &'h Arena,
    ) -> Result<(Done, Option<Columns<'h>>), RunError> {
        let options = self.what.options;
        let block = blocks.next().map_err(|error| RunError::Input(cannot_read(name, &error)))?;
        let text = held.text(valid_start(block.bytes).0);
        let read = Beginning::read(format, options, text, held);
        let columns = read.as_ref().ok().and_then(|read| match read.layout {
            Layout::Csv { settings, header } => Some((settings, header)),
            _ => None,
        });
        let names_differ = |(_, header): &Columns<'_>| !header.is_some_and(|h| h.repeats());
        let mut done = Done::default();
        let (Ok(mut beginning), Some(columns)) = (read, columns.filter(names_differ)) else {
            blocks.put_back(0);
            return Ok((done, None));
        };
        beginning.tell((name, block.bytes), &mut Duplicates::default(), self.events);
        let from = beginning.from;
        done.pass(&block.bytes[..from]);
        self.events.read(from);
        blocks.put_back(from);
        Ok((done, Some(columns)))
    }

    /// Surveys records one after another; gives how much of the input was passed. The records of XML are the elements at `path`.
    fn records(
        &mut self,
        blocks: &mut Blocks,
        (input, layout): (InputPart<'_>, Option<Layout<'_>>),
        replaced: &Replaced,
        path: &[StepName],
    ) -> Result<Passed, RunError> {
        let (is_xml, mut view) = (input.format == Format::Xml, view(self.what.options));
        let survey = &mut *self.survey;
        let counters = self.events.counters;
        let walk =
            Walk::new(self.what.options, self.events).behind(layout).over_elements(path, false);
        walk.over(blocks, input, replaced, &mut |records, arena, steps| {
            let mut batch = Batch::new(arena);
            let base = records.base();
            let used = loop {
                match steps.next(records)? {
                    Step::Record(record) => {
                        let record = if is_xml { view.record(record, arena) } else { record };
                        batch.record(&mut ValueEvents::new(record, base));
                    }
                    Step::End(used) => break used,
                }
            };
            let ended = batch.end(&mut |offset| records.line(offset));
            counters.count(ended.records());
            survey.take(ended, input.name, records.lines_before());
            Ok(used)
        })
    }

    /// Surveys the elements at a path of XML one after another.
    fn elements(&mut self, source: Source, at: &RecordPath) -> Result<(), RunError> {
        let Source { name, reader, live, replaced, .. } = source;
        let path = at.element_names();
        let (base, before) = (Base::default(), Passed::default());
        let input = InputPart { name: &name, format: Format::Xml, base, before };
        self.records(&mut Blocks::new(reader, live), (input, None), &replaced, &path).map(drop)
    }

    /// Surveys a document: a large one part by part, if it is one of XML, a map of JSON, or one of YAML.
    fn document(&mut self, mut source: Source) -> Result<(), RunError> {
        let most = self.what.options.memory / HELD;
        let opened = Blocks::of_large(source.reader, source.live.take(), most);
        let blocks =
            match opened.map_err(|error| RunError::Input(cannot_read(&source.name, &error)))? {
                Framing::Whole(reader) => return self.whole(Source { reader, ..source }),
                Framing::Blocks(blocks) => *blocks,
            };
        let from = (source.name.as_str(), &source.replaced);
        match source.detected.format {
            Format::Xml => elements::survey(from, blocks, self.what, self.survey, self.events),
            Format::Json if self.what.at.is_some() || is_map(blocks.beginning()) => {
                json::survey(from, blocks, self.what, self.survey, self.events)
            }
            // Of several documents each is held.
            Format::Yaml if documents::last_begin(Format::Yaml, blocks.beginning()).is_none() => {
                yaml::survey(from, blocks, self.what, self.survey, self.events)
            }
            _ => self.whole(Source { reader: blocks.into_reader(), ..source }),
        }
    }

    /// Surveys documents that are held whole, a few at a time; as long as nothing is to be said of them, on several threads.
    fn whole(&mut self, source: Source) -> Result<(), RunError> {
        let (what, name, format) = (self.what, source.name.clone(), source.detected.format);
        let options = what.options;
        let is_plain = source.looks_like.is_none();
        let mut pieces = source.in_pieces(options);
        if let Pieces::Several(several) = &mut pieces
            && is_plain
        {
            let (survey, events) = (&mut *self.survey, &*self.events);
            let workers =
                Workers { threads: options.threads, stack: stack_size(options.limits.depth) };
            several.on_threads(
                workers,
                &|block| documents_of(block, format, what),
                &mut |block, ended: Option<Ended>, before| {
                    let Some(ended) = ended else { return };
                    events.counters.count(ended.records());
                    events.read(block.len());
                    survey.take(ended, &name, before.lines());
                },
            )?;
        }
        pieces.each(|piece, _| {
            self.survey.take(held(piece, what, self.events)?, &name, 0);
            Ok(Flow::Continue(()))
        })?;
        pieces.finish(options, self.events);
        Ok(())
    }
}

/// Whether a text of JSON begins as a map does.
fn is_map(beginning: &[u8]) -> bool {
    let text = beginning.strip_prefix("\u{feff}".as_bytes()).unwrap_or(beginning);
    text.trim_ascii_start().starts_with(b"{")
}

/// The view of elements as records.
fn view(options: &InputOptions) -> View {
    let without_namespaces = options.drop_namespaces;
    View::new(&RecordShape { without_namespaces, ..RecordShape::default() }, true)
}

/// Surveys documents that are held together.
fn held(source: Source, what: Surveyed<'_>, events: &mut Events<'_>) -> Result<Ended, RunError> {
    let arena = Arena::new();
    let library = Library::new(&arena);
    let roots = library.load(source, what.options, events)?.roots;
    let (mut batch, mut view) = (Batch::new(&arena), view(what.options));
    for root in roots {
        let root = view.record(root, &arena);
        match what.at {
            Some(at) => at.each(root, &mut |record| {
                batch.record(&mut ValueEvents::new(record, Base::default()));
            }),
            None => {
                batch.document(&mut ValueEvents::new(root, Base::default()));
            }
        }
    }
    Ok(batch.end(&mut |offset| {
        library.line_column(Base::default().origin(offset)).map_or(0, |at| at.line)
    }))
}

/// Surveys the documents of a block; it is not clean if anything is to be said of them.
fn documents_of(block: &[u8], format: Format, what: Surveyed<'_>) -> Made<Option<Ended>> {
    let mut is_clean = true;
    let counters = Counters::default();
    let mut events = Events { tell: &mut |_| is_clean = false, counters: &counters };
    let ended = held(Source::of_bytes("", block.to_vec(), format), what, &mut events).ok();
    is_clean &= ended.is_some();
    Made { value: ended, is_clean }
}

/// Surveys the values of a block of JSON; it is not clean unless all of it is well-formed, each value ends before a blank, and the
/// nesting is no deeper than is read.
fn values_of(block: &[u8], depth: usize, templates: &mut Templates) -> Made<Ended> {
    let arena = Arena::new();
    let (text, invalid) = valid_start(block);
    let mut counted = Counted(Batch::new(&arena).within(depth));
    let passed = consume((text, 0), &mut PartStructure::default(), templates, &mut counted);
    let is_clean = invalid == 0 && is_blank(&text[passed.end..]);
    let places = TextPlaces::new("", block);
    let value = counted.0.end(&mut |offset| places.line_column(offset).line);
    Made { value, is_clean }
}

/// Surveys the rows of a block; it is not clean unless all are whole, and have as many cells as there are names.
fn rows_of(block: &[u8], (settings, header): Columns<'_>) -> Made<Ended> {
    let arena = Arena::new();
    let (text, invalid) = valid_start(block);
    let mut reader = csv::Reader::new(text, &arena, settings, header, Base::default());
    reader.seek(0);
    let mut batch = Batch::new(&arena);
    let is_clean = loop {
        match reader.next_events() {
            Ok(Some(mut row)) => {
                batch.record(&mut row);
            }
            Ok(None) => break invalid == 0,
            Err(_) => break false,
        }
    };
    let places = TextPlaces::new("", block);
    Made { value: batch.end(&mut |offset| places.line_column(offset).line), is_clean }
}

/// Takes all records, and counts them.
struct Counted<'t>(Batch<'t>);

impl<'t> Consumer<'t> for Counted<'t> {
    fn consume(
        &mut self,
        events: &mut EventReader<'t, '_>,
        at: usize,
        start: usize,
    ) -> Option<usize> {
        let before = start - at;
        self.0.record(&mut Moved { events, before }).then(|| events.end())?
    }

    fn learn(&mut self, template: usize) {
        self.0.learn(template);
    }

    fn consume_alike(
        &mut self,
        (text, _): (&'t str, Range<usize>),
        template: usize,
        scalars: &[ScalarSpan],
    ) -> bool {
        self.0.record_alike(template, (text, scalars))
    }
}

/// Events of a part of a block.
struct Moved<'e, 't, 's> {
    events: &'e mut EventReader<'t, 's>,
    /// How much of the block stands before it.
    before: usize,
}

impl<'t> Pull<'t> for Moved<'_, 't, '_> {
    #[inline]
    fn next_event(&mut self) -> Option<Event<'t>> {
        self.events.next_event()
    }

    fn offset(&self) -> usize {
        self.before + self.events.offset()
    }
}
