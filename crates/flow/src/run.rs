//! A rule over inputs: whole documents, or records one by one in flat memory.

use kyanite_formats::json;
use kyanite_lang::{
    Arguments, Failure, Flow, Names, Plan, RecordState, ResultShape, Runner, Session,
};
use kyanite_tree::{Arena, Origin, Problem, Spot, Value};

use crate::document::{
    Duplicates, Library, next_record, record_location, record_problem, refuse_utf16, skipped_record,
};
use crate::failed::{Events, Failed, Repeated};
use crate::input::{Input, InputOptions, Source, cannot_read};
use crate::records::Blocks;

/// What is wanted of the matches of a rule.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum What {
    /// Their values.
    Values,
    /// Where they are: normalized paths (RFC 9535 section 2.7).
    Paths,
}

/// A rule and how it is run.
pub struct Job<'j> {
    /// The rule.
    pub plan: &'j Plan,
    /// Its params, by name.
    pub params: &'j [(String, String)],
    /// How inputs are read.
    pub options: &'j InputOptions,
    /// Whether all inputs are one list.
    pub gather: bool,
    /// What is wanted.
    pub what: What,
}

/// Takes results.
pub trait Sink {
    /// One item of a list.
    fn item(&mut self, value: Value<'_>) -> Flow;
    /// The one result of a document, or nothing.
    fn single(&mut self, value: Option<Value<'_>>) -> Flow;
    /// All items of a document's list were given.
    fn end_items(&mut self);
}

/// Runs a rule over inputs.
///
/// # Errors
/// What ended the run early.
pub fn run(
    job: &Job<'_>,
    inputs: &[Input],
    sink: &mut dyn Sink,
    events: &mut Events<'_>,
) -> Result<(), Failed> {
    let mut session = Session::new(job.plan);
    let mut batch = Run { job, session: &mut session, sink, events };
    batch.all(inputs)?;
    for problem in session.watch.report(job.plan) {
        events.tell(problem);
    }
    Ok(())
}

/// A run under way.
struct Run<'r, 'e, 'j> {
    job: &'r Job<'j>,
    session: &'r mut Session,
    sink: &'r mut dyn Sink,
    events: &'r mut Events<'e>,
}

impl Run<'_, '_, '_> {
    fn all(&mut self, inputs: &[Input]) -> Result<(), Failed> {
        let by_record = self.job.plan.runs_by_record() && !self.job.options.unwrap;
        if !self.job.plan.reads_input() {
            let arena = Arena::new();
            let _ = self.document(None, &Library::new(&arena), &arena)?;
        } else if self.job.gather && by_record {
            let _ = self.stream(inputs)?;
        } else if self.job.gather {
            self.gathered(inputs)?;
        } else {
            for input in inputs {
                if self.one(input, by_record)?.is_break() {
                    break;
                }
            }
        }
        Ok(())
    }

    fn one(&mut self, input: &Input, by_record: bool) -> Result<Flow, Failed> {
        let source = self.open(input)?;
        if by_record && source.detected.format.has_records() {
            return self.stream_open(std::iter::once(Ok(source)));
        }
        let arena = Arena::new();
        let library = Library::new(&arena);
        let root = library.load(source, self.job.options, self.events)?;
        self.document(Some(root), &library, &arena)
    }

    fn open(&mut self, input: &Input) -> Result<Source, Failed> {
        let source = Source::open(input, self.job.options)?;
        self.events.tell(Problem::note(format!("{}: {}", source.name, source.detected)));
        Ok(source)
    }

    /// All documents as one list; lists of records are joined.
    fn gathered(&mut self, inputs: &[Input]) -> Result<(), Failed> {
        let arena = Arena::new();
        let library = Library::new(&arena);
        let mut items = Vec::new();
        for input in inputs {
            let source = self.open(input)?;
            let has_records = source.detected.format.has_records();
            match (library.load(source, self.job.options, self.events)?, has_records) {
                (Value::List(_, records), true) => items.extend_from_slice(records),
                (root, _) => items.push(root),
            }
        }
        let root = arena.list(&items);
        self.document(Some(root), &library, &arena).map(|_| ())
    }

    /// Runs the rule over one whole document.
    fn document<'a>(
        &mut self,
        root: Option<Value<'a>>,
        library: &Library<'a>,
        arena: &'a Arena,
    ) -> Result<Flow, Failed>
    where
        Self: 'a,
    {
        let plan = self.job.plan;
        let arguments = Arguments::read(plan, self.job.params, arena).map_err(Failed::Command)?;
        let shape = plan.result_shape();
        let what = self.job.what;
        let sink = &mut *self.sink;
        let mut unplaced = None;
        let ran =
            Runner::new(plan, &arguments, root, arena, self.session).and_then(|mut runner| {
                runner.document(&mut |value| match (what, shape) {
                    (What::Values, ResultShape::Single) => sink.single(value),
                    (What::Values, ResultShape::Items) => {
                        value.map_or(Flow::Continue(()), |item| sink.item(item))
                    }
                    (What::Paths, _) => {
                        let Some(value) = value else { return Flow::Continue(()) };
                        match root.and_then(|root| kyanite_tree::locate(root, value.origin())) {
                            Some(location) => sink.item(Value::text(&location.to_string())),
                            None => {
                                unplaced = Some(value.kind());
                                Flow::Break(())
                            }
                        }
                    }
                })
            });
        let flow =
            ran.map_err(|failure| self.rule_failed(&failure, library.spot(failure.origin)))?;
        if let Some(kind) = unplaced {
            return Err(computed(kind));
        }
        if (what, shape) != (What::Values, ResultShape::Single) {
            self.sink.end_items();
        }
        // A rule that stops early on its own is no reason to leave out the next document.
        let _ = flow;
        Ok(Flow::Continue(()))
    }

    fn rule_failed(&self, failure: &Failure, spot: Option<Spot>) -> Failed {
        Failed::Rule(failure.problem(self.job.plan.rule(), spot))
    }

    /// The records of all inputs, as those of one list.
    fn stream(&mut self, inputs: &[Input]) -> Result<Flow, Failed> {
        let options = self.job.options;
        self.stream_open(inputs.iter().map(|input| Source::open(input, options)))
    }

    fn stream_open(
        &mut self,
        sources: impl Iterator<Item = Result<Source, Failed>>,
    ) -> Result<Flow, Failed> {
        let plan = self.job.plan;
        let arena = Arena::new();
        let arguments = Arguments::read(plan, self.job.params, &arena).map_err(Failed::Command)?;
        let (names, state) = Runner::new(plan, &arguments, None, &arena, self.session)
            .and_then(Runner::begin_records)
            .map_err(|failure| self.rule_failed(&failure, None))?;
        let mut stream = Stream { names, state, index: 0, given: false, done: false };
        for source in sources {
            let source = source?;
            if source.detected.format.has_records() {
                self.records(source, &mut stream)?;
            } else {
                self.one_record(source, &mut stream)?;
            }
            if stream.done {
                break;
            }
        }
        Runner::end_records(plan, self.session, stream.index);
        match (self.job.what, plan.result_shape()) {
            (What::Values, ResultShape::Single) if !stream.given => {
                let _ = self.sink.single(None);
            }
            (What::Values, ResultShape::Single) => {}
            _ => self.sink.end_items(),
        }
        Ok(Flow::Continue(()))
    }

    /// A whole document that is one record of the gathered list.
    fn one_record(&mut self, source: Source, stream: &mut Stream<'_>) -> Result<(), Failed> {
        let arena = Arena::new();
        let library = Library::new(&arena);
        let record = library.load(source, self.job.options, self.events)?;
        let names = stream.names.clone();
        let mut runner = Runner::for_batch(self.job.plan, names, &arena, self.session);
        run_record(&mut runner, self.job, stream, record, self.sink).map_err(|stop| match stop {
            Stop::Failed(failure) => self.rule_failed(&failure, library.spot(failure.origin)),
            Stop::Computed(kind) => computed(kind),
        })
    }

    /// Runs over a stream of records, block by block.
    fn records(&mut self, source: Source, stream: &mut Stream<'_>) -> Result<(), Failed> {
        let name = source.name;
        let mut blocks = Blocks::new(source.reader);
        let mut arena = Arena::new();
        let mut lines = 0;
        let (mut skipped, mut duplicates) =
            (Repeated::new("broken records were skipped"), Duplicates::new());
        loop {
            let block = blocks.next().map_err(|error| Failed::Input(cannot_read(&name, &error)))?;
            let is_last = block.is_last;
            if lines == 0 {
                refuse_utf16(&name, block.bytes)?;
            }
            let used = self.block(
                block.bytes,
                is_last,
                &name,
                lines,
                &arena,
                stream,
                &mut skipped,
                &mut duplicates,
            )?;
            lines += memchr::memchr_iter(b'\n', &block.bytes[..used]).count() as u64;
            self.events.read(used);
            arena.reset();
            if stream.done || (is_last && used == block.bytes.len()) {
                break;
            }
            blocks.used(used);
        }
        skipped.finish(self.events);
        duplicates.finish(self.events);
        Ok(())
    }

    /// Runs over the records of one block; gives how many of its bytes were used.
    #[expect(
        clippy::too_many_arguments,
        reason = "the state of one loop, split from it to be readable"
    )]
    fn block(
        &mut self,
        bytes: &[u8],
        is_last: bool,
        name: &str,
        lines: u64,
        arena: &Arena,
        stream: &mut Stream<'_>,
        skipped: &mut Repeated,
        duplicates: &mut Duplicates,
    ) -> Result<usize, Failed> {
        let (text, invalid) = valid_start(bytes);
        let options = json::ReaderOptions { depth: self.job.options.depth, ..Default::default() };
        let mut reader = json::Reader::new(text, arena, options);
        let spot_of = |offset: usize| {
            let mut spot = Spot::of(name, text.as_bytes(), offset, json::value_end(text, offset));
            spot.at = spot.at.below(lines);
            spot
        };
        let names = stream.names.clone();
        let mut runner = Runner::for_batch(self.job.plan, names, arena, self.session);
        loop {
            let start = reader.position();
            let error = match reader.next_value() {
                Ok(Some(record)) => {
                    let index = stream.index;
                    let ran = run_record(&mut runner, self.job, stream, record, self.sink);
                    ran.map_err(|stop| match stop {
                        Stop::Failed(failure) => {
                            let location = record_location(record, index, failure.origin);
                            let spot =
                                failure.origin.is_known().then(|| spot_of(failure.origin.offset()));
                            let spot = spot.map(|spot| match location {
                                Some(location) => spot.with_path(location.readable()),
                                None => spot,
                            });
                            Failed::Rule(failure.problem(self.job.plan.rule(), spot))
                        }
                        Stop::Computed(kind) => computed(kind),
                    })?;
                    duplicates.tell(reader.take_duplicates(), self.events, |offset| {
                        Some(spot_of(offset))
                    });
                    if stream.done {
                        return Ok(reader.position());
                    }
                    continue;
                }
                Ok(None) if invalid.is_none() => return Ok(bytes.len()),
                Err(error) if error.wants_more() && invalid.is_none() && !is_last => {
                    return Ok(start);
                }
                Err(error) if !error.wants_more() => error,
                // The text was cut off where it stops being UTF-8.
                Ok(None) | Err(_) if invalid.is_some() => {
                    let length = invalid.unwrap_or(1);
                    json::ReadError::new(json::ErrorKind::NotUtf8, text.len(), text.len() + length)
                }
                Ok(None) => return Ok(bytes.len()),
                Err(error) => error,
            };
            let shown = String::from_utf8_lossy(bytes);
            let problem = if error.kind == json::ErrorKind::NotUtf8 {
                let mut problem = error.problem(name, bytes);
                problem.spots.iter_mut().for_each(|spot| spot.at = spot.at.below(lines));
                problem
            } else {
                record_problem(&error, name, text, start, lines)
            };
            if !self.job.options.lenient {
                return Err(Failed::Input(problem));
            }
            skipped.tell(self.events, || skipped_record(problem));
            if invalid.is_some() && error.kind == json::ErrorKind::NotUtf8 {
                // The broken bytes are in the line behind the text; the next block begins with the line after it.
                let line = memchr::memchr(b'\n', &bytes[text.len()..]);
                return Ok(line.map_or(bytes.len(), |at| text.len() + at + 1));
            }
            drop(shown);
            reader.seek(next_record(text, start));
        }
    }
}

/// Where a run over records stands.
struct Stream<'g> {
    names: Names<'g>,
    state: RecordState,
    index: u64,
    /// Whether a single result was given.
    given: bool,
    done: bool,
}

enum Stop {
    Failed(Box<Failure>),
    Computed(kyanite_tree::Kind),
}

/// Runs over one record and hands on what it gives.
fn run_record<'a>(
    runner: &mut Runner<'_, 'a>,
    job: &Job<'_>,
    stream: &mut Stream<'_>,
    record: Value<'a>,
    sink: &mut dyn Sink,
) -> Result<(), Stop> {
    let (what, shape, index) = (job.what, job.plan.result_shape(), stream.index);
    stream.index += 1;
    let given = &mut stream.given;
    let mut unplaced = None;
    let flow = runner
        .record(&mut stream.state, index, record, &mut |value| {
            *given = true;
            match (what, shape, value) {
                (What::Values, ResultShape::Single, value) => sink.single(value),
                (_, _, None) => Flow::Continue(()),
                (What::Values, ResultShape::Items, Some(item)) => sink.item(item),
                (What::Paths, _, Some(value)) => {
                    match record_location(record, index, value.origin()) {
                        Some(location) => sink.item(Value::text(&location.to_string())),
                        None => {
                            unplaced = Some(value.kind());
                            Flow::Break(())
                        }
                    }
                }
            }
        })
        .map_err(Stop::Failed)?;
    if let Some(kind) = unplaced {
        return Err(Stop::Computed(kind));
    }
    stream.done = flow.is_break();
    Ok(())
}

/// The part of `bytes` up to the first that is not UTF-8, and how many bytes are wrong there.
fn valid_start(bytes: &[u8]) -> (&str, Option<usize>) {
    match std::str::from_utf8(bytes) {
        Ok(text) => (text, None),
        Err(error) => {
            let valid = &bytes[..error.valid_up_to()];
            (std::str::from_utf8(valid).unwrap_or_default(), Some(error.error_len().unwrap_or(1)))
        }
    }
}

/// A match that was computed is nowhere in the input.
fn computed(kind: kyanite_tree::Kind) -> Failed {
    let problem = Problem::error(format!(
        "--paths shows places in the input, but this rule gives {} it computed",
        kind.phrase()
    ))
    .advise("return nodes of the input, or leave --paths out");
    Failed::Command(vec![problem])
}

/// Origins of records count from their block.
const _: u16 = Origin::INPUT;
