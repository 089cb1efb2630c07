//! A rule over inputs: whole documents, or records one by one in flat memory.

use std::rc::Rc;
use std::time::SystemTime;

use kyanite_formats::Format;
use kyanite_formats::losses::{Loss, Losses};
use kyanite_formats::xml::{self, StepName};
use kyanite_lang::{
    Arguments, Flow, Partial, Plan, Portion, RecordUnit, RuleError, Runner, Session, Strategy, Way,
    Ways, Written,
};
use kyanite_schema::json;
use kyanite_tree::{Advice, Arena, Code, Diagnostic, Origin, Place, Setting, Value, locate_node};

use crate::blocks::Then;
use crate::document::{Library, Loaded};
use crate::input::{Input, InputOptions, Source};
use crate::part::Part;
use crate::range::ByteRange;
use crate::results::{Nowhere, Results};
use crate::run_error::{Counters, Events, RunError};
use crate::sources::Sources;
use crate::types::{DocumentTypes, Typer};

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
    /// What its sources are, by name.
    pub sources: &'j [(String, Input)],
    /// How inputs are read.
    pub options: &'j InputOptions,
    /// The bytes of the input in which the records begin that are run over, if not all are.
    pub range: Option<ByteRange>,
    /// Whether all inputs are one list.
    pub gather: bool,
    /// What is wanted.
    pub what: What,
    /// Whether all of the input is to be carried over, so that what readers cannot keep is a loss as well.
    pub carries_all: bool,
    /// What is done about losses.
    pub losses: LossPolicy,
    /// The time at which the run is, for expressions that ask.
    pub now: Option<SystemTime>,
    /// What inputs have types from that have none of their own.
    pub types: Option<&'j DocumentTypes<'j>>,
    /// What each item of the result keeps to, where items are looked at one by one.
    pub ensures: Option<&'j [json::Schema<'j>]>,
    /// Whether documents may be held in memory; if not, only rules run that go from record to record.
    pub holds: bool,
}

impl<'j> Job<'j> {
    /// The rule, run over each input for its values; losses are counted.
    #[must_use]
    pub fn new(plan: &'j Plan, options: &'j InputOptions) -> Self {
        Self {
            plan,
            params: &[],
            sources: &[],
            options,
            range: None,
            gather: false,
            what: What::Values,
            carries_all: false,
            losses: LossPolicy::Count,
            now: None,
            types: None,
            ensures: None,
            holds: true,
        }
    }

    /// Refuses to hold a document where none may be held.
    pub(crate) fn may_hold(&self) -> Result<(), RunError> {
        if self.holds {
            return Ok(());
        }
        Err(RunError::command(
            "this needs the whole document at once, and that is too large to be held",
            "go from record to record, as in $[*].name or $.routes[*].id",
        ))
    }

    /// Opens an input, and says how it is read. What has types of its own is refused where they were to come from a schema.
    pub(crate) fn open(&self, input: &Input, events: &mut Events<'_>) -> Result<Source, RunError> {
        let mut source = open(input, self.options, events)?;
        if let Some(range) = &self.range {
            source = source.in_range(input, range.clone(), self.options)?;
        }
        self.types.map_or(Ok(()), |types| types.check(&source))?;
        Ok(source)
    }

    /// Whether documents are the result just as they are, and may be written so.
    fn copies_documents(&self) -> bool {
        let is_switched_off = self.options.avoid.contain(Way::Copies);
        self.plan.gives_document()
            && self.what == What::Values
            && self.types.is_none()
            && !self.options.unwrap
            && !is_switched_off
    }

    /// Reads an open input to its end, with types where a schema has them.
    pub(crate) fn load<'a>(
        &self,
        source: Source,
        library: &Library<'a>,
        arena: &'a Arena,
        events: &mut Events<'_>,
    ) -> Result<Loaded<'a>, RunError> {
        let has_records = source.detected.format.has_records();
        let mut loaded = library.load(source, self.options, events)?;
        if let Some(types) = self.types {
            let mut typer = Typer::new(types);
            for root in &mut loaded.roots {
                *root = typer.document(*root, has_records, arena);
            }
            loaded.losses.add_all(&typer.take_losses());
        }
        Ok(loaded)
    }
}

/// The text of a document that is held whole.
#[derive(Clone, Copy, Debug)]
pub enum DocumentText<'t> {
    /// One of JSON, and how deep it may nest.
    Json(&'t str, usize),
    /// One of XML, and how it is read.
    Xml(&'t str, xml::Options),
}

/// Takes results.
pub trait Sink {
    /// One item of a list.
    fn item(&mut self, value: Value<'_>) -> Flow;
    /// The one result of a document, or nothing.
    fn single(&mut self, value: Option<Value<'_>>) -> Flow;
    /// The one result is this document; tells whether it is taken so, and not as a value.
    fn document(&mut self, _document: DocumentText<'_>) -> bool {
        false
    }
    /// All items of a document's list were given.
    fn end_items(&mut self);
    /// The input pauses: what was taken so far goes on its way.
    fn pause(&mut self);
    /// Whether nothing more can be taken.
    fn is_closed(&self) -> bool;
    /// What it takes in place of values.
    fn written(&self) -> Written;
    /// What takes items that follow those so far on another thread, if that can be.
    fn part(&self) -> Option<Part> {
        None
    }
    /// Takes the items of a part.
    fn join(&mut self, _part: &mut Part) -> Flow {
        Flow::Continue(())
    }
    /// Elements of XML may be among the results.
    fn expect_elements(&mut self) {}
    /// Values of types that only some formats have may be among the results.
    fn expect_foreign_types(&mut self) {}
    /// The members of the results are called so, if there are any.
    fn expect_columns(&mut self, _columns: &[&str]) {}
    /// What the output could not carry since this was last asked, where it was read.
    fn take_losses(&mut self) -> Vec<(Loss, Origin)> {
        Vec::new()
    }
    /// What a reader could not keep.
    fn add_losses(&mut self, _losses: &Losses) {}
    /// Whether something waits for the places of values that were read.
    fn waits_for_places(&self) -> bool {
        false
    }
    /// Completes the failure of the output with the place of the value that it is about.
    fn place_failure(&mut self, _find: &dyn Fn(Origin) -> Option<Place>) {}
}

/// What is done about what a format cannot carry.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub enum LossPolicy {
    /// Counted.
    #[default]
    Count,
    /// Each is told, with its place.
    List,
    /// The first ends the run.
    Refuse,
}

/// The stack that a thread needs which runs rules over documents of that depth: values are written and compared level by level.
#[must_use]
pub fn stack_size(depth: usize) -> usize {
    const LEAST: usize = 64 << 20;
    const PER_LEVEL: usize = 1 << 10;
    LEAST + PER_LEVEL * depth
}

/// Runs a plan that is a rule.
pub(crate) fn rule(
    job: &Job<'_>,
    inputs: &[Input],
    sink: &mut dyn Sink,
    events: &mut Events<'_>,
) -> Result<(), RunError> {
    rule_until(job, inputs, sink, events, None).map(|_| ())
}

/// Runs a plan that is a rule: to its end, or as far as the state that these records come to, which is then given.
pub(crate) fn rule_until(
    job: &Job<'_>,
    inputs: &[Input],
    sink: &mut dyn Sink,
    events: &mut Events<'_>,
    portion: Option<Portion>,
) -> Result<Option<Partial>, RunError> {
    let mut session = Session::new(job.plan);
    let arena = Arena::new();
    let sources = Sources::load(job.plan, job.sources, job.options, &arena, events)?;
    if let Some((false, columns)) = job.plan.columns(RecordUnit::Items) {
        sink.expect_columns(&columns);
    }
    let cut = portion.map(|portion| Cut { portion, state: None });
    let (sources, names_documents) = (&sources, false);
    let session = &mut session;
    let mut run = Run { job, sources, session, sink, events, names_documents, cut, strategy: None };
    if sources.has_foreign_types() || job.plan.decodes() {
        run.sink.expect_foreign_types();
    }
    run.all(inputs)?;
    let state = run.cut.and_then(|cut| cut.state);
    if !job.carries_all {
        session.coverage.report(job.plan).into_iter().for_each(|problem| events.tell(problem));
    }
    Ok(state)
}

/// A run under way.
pub(crate) struct Run<'r, 'q, 'e, 'j> {
    pub(crate) job: &'q Job<'j>,
    pub(crate) sources: &'q Sources<'q>,
    pub(crate) session: &'r mut Session,
    pub(crate) sink: &'r mut dyn Sink,
    pub(crate) events: &'r mut Events<'e>,
    /// Whether places are told with the input that they are in.
    pub(crate) names_documents: bool,
    /// Where the run stops at the state that its records came to, if it does.
    pub(crate) cut: Option<Cut>,
    /// How records of the unit that was met last are taken.
    pub(crate) strategy: Option<((RecordUnit, Written), Rc<Strategy>)>,
}

/// A run over a part of the records, that is not ended.
pub(crate) struct Cut {
    /// Which records these are.
    pub(crate) portion: Portion,
    /// What they came to.
    pub(crate) state: Option<Partial>,
}

impl<'q> Run<'_, 'q, '_, '_> {
    fn all(&mut self, inputs: &[Input]) -> Result<(), RunError> {
        let Job { plan, options, what, losses, .. } = self.job;
        // Where tuples are kept, places are not.
        let needs_places = *what == What::Paths && !plan.keeps_places()
            || *losses != LossPolicy::Count && plan.holds_tuples();
        // Of records that are kept, it is not known which of several inputs they were in.
        let needs_inputs = self.job.gather && plan.asks_documents() && plan.keeps_records();
        let by_record = plan.runs_by_record() && !options.unwrap && !needs_places && !needs_inputs;
        self.names_documents = *what == What::Paths && !self.job.gather && inputs.len() > 1;
        if !self.job.plan.reads_input() {
            let arena = Arena::new();
            self.session.documents = self.sources.uris(None, None);
            self.document(None, &Library::new(&arena), &arena, None)?;
        } else if self.job.gather && by_record {
            self.stream(None, inputs, RecordUnit::Items, inputs)?;
        } else if self.job.gather {
            self.gathered(inputs)?;
        } else {
            for input in inputs {
                self.one(input, by_record)?;
                if self.sink.is_closed() {
                    break;
                }
            }
        }
        Ok(())
    }

    /// How records of a unit are taken, which is settled once; whether they are rows of a table.
    pub(crate) fn strategy(&mut self, unit: RecordUnit, is_table: bool) -> Rc<Strategy> {
        let written = match self.sink.written() {
            Written::Rows if !is_table => Written::Values,
            written => written,
        };
        match &self.strategy {
            Some((known, strategy)) if *known == (unit, written) => Rc::clone(strategy),
            _ => {
                let Job { plan, options, types, .. } = self.job;
                // What a schema gives types is a value.
                let typed = types.map(|_| [Way::Copies, Way::Fields, Way::Lines].map(Ways::from));
                let off = typed.into_iter().flatten().chain([options.avoid]).collect();
                let strategy = Rc::new(plan.strategy(unit, written, off));
                self.strategy = Some(((unit, written), Rc::clone(&strategy)));
                strategy
            }
        }
    }

    fn one(&mut self, input: &Input, by_record: bool) -> Result<(), RunError> {
        let source = self.job.open(input, self.events)?;
        if by_record && source.detected.format.has_records() {
            return self.stream(Some(source), &[], RecordUnit::Items, std::slice::from_ref(input));
        }
        let Job { plan, options, what, losses, .. } = self.job;
        // Where an element at any depth stands is not known to its schema.
        let has_place = |path: Vec<StepName>| !path.iter().any(|step| step.at_any_depth);
        let may_go_through = *what == What::Values
            && (self.job.types.is_none() || plan.element_path().is_none_or(has_place))
            && (*losses == LossPolicy::Count || !plan.holds_tuples())
            && !options.unwrap
            && source.looks_like.is_none();
        // Where an element stands among its siblings is known only in the whole document, and the root element is that.
        let is_below_root = |path: Vec<StepName>| path.len() > 1;
        if may_go_through && source.has_elements() && plan.element_path().is_some_and(is_below_root)
        {
            let inputs = std::slice::from_ref(input);
            return self.stream(Some(source), &[], RecordUnit::Elements, inputs);
        }
        if may_go_through && !options.lenient && source.detected.format == Format::Json {
            let (path, unit) = match (by_record, plan.element_path()) {
                (true, _) => (Vec::new(), RecordUnit::Items),
                (false, Some(path)) if path.iter().all(|step| step.namespace.is_none()) => {
                    (path.into_iter().map(|step| step.name).collect(), RecordUnit::Elements)
                }
                _ => return self.whole(source),
            };
            let source = source.go_through(path, self.cut.is_some())?;
            if source.items.is_some() {
                return self.stream(Some(source), &[], unit, std::slice::from_ref(input));
            }
            return self.whole(source);
        }
        self.whole(source)
    }

    /// Runs the rule over the documents of an open source, each held whole.
    fn whole(&mut self, source: Source) -> Result<(), RunError> {
        self.job.may_hold()?;
        self.may_end(&source.name)?;
        let mut pieces = source.in_pieces(self.job.options);
        pieces.each(|piece, then| {
            self.held(piece)?;
            if self.sink.is_closed() {
                return Ok(Flow::Break(()));
            }
            if then == Then::Pause {
                self.sink.pause();
            }
            Ok(Flow::Continue(()))
        })?;
        pieces.finish(self.job.options, self.events);
        Ok(())
    }

    /// Runs the rule over documents that are held together.
    fn held(&mut self, source: Source) -> Result<(), RunError> {
        let arena = Arena::new();
        let library = Library::new(&arena);
        let (name, uri) = (source.name.clone(), source.uri.clone());
        let loaded = if self.job.copies_documents() {
            let mut take = |document: DocumentText<'_>| self.sink.document(document);
            library.load_unless(source, self.job.options, self.events, &mut take)?
        } else {
            self.job.load(source, &library, &arena, self.events)?
        };
        self.session.documents = self.sources.uris(uri, Some(&library));
        self.reader_losses(&loaded.losses);
        for root in loaded.roots {
            self.document(Some(root), &library, &arena, Some(&name))?;
            if self.sink.is_closed() {
                break;
            }
        }
        Ok(())
    }

    /// Refuses to end a run over a part: one whose documents are held whole would.
    fn may_end(&self, name: &str) -> Result<(), RunError> {
        if self.cut.is_none() {
            return Ok(());
        }
        let message = format!("{name} is not read record by record, so it has no parts");
        Err(RunError::command(message, "run the rule over all of it"))
    }

    fn reader_losses(&mut self, losses: &Losses) {
        if self.job.carries_all {
            self.sink.add_losses(losses);
        }
    }

    /// The message for a rule that failed on tuples that were kept until the end. Where their values were read is no longer
    /// known then, but the same inputs, held whole, make it fail at the same value.
    pub(crate) fn with_place(&mut self, inputs: &[Input], failure: &RuleError) -> RunError {
        let plan = self.job.plan;
        let sizes: Option<u64> = inputs
            .iter()
            .map(|input| if let Input::File(_) = input { input.size() } else { None })
            .sum();
        if plan.holds_tuples() && sizes.is_some_and(|size| size <= READ_AGAIN) {
            let mut session = Session::new(plan);
            let mut events = Events { tell: &mut |_| {}, counters: &Counters::default() };
            let mut again = Run {
                job: self.job,
                sources: self.sources,
                session: &mut session,
                sink: &mut Nowhere,
                events: &mut events,
                names_documents: false,
                cut: None,
                strategy: None,
            };
            let ran = match inputs {
                [input] if !self.job.gather => {
                    self.job.open(input, again.events).and_then(|source| again.whole(source))
                }
                several => again.gathered(several),
            };
            if let Err(failed @ RunError::Rule(_)) = ran {
                return failed;
            }
        }
        rule_failed(plan, failure, None)
    }

    /// Runs the rule over all documents as one list.
    fn gathered(&mut self, inputs: &[Input]) -> Result<(), RunError> {
        self.may_end("the list of all inputs")?;
        let arena = Arena::new();
        let library = Library::new(&arena);
        let (root, losses) = gather(self.job, inputs, &library, &arena, self.events)?;
        self.session.documents = self.sources.uris(None, Some(&library));
        self.reader_losses(&losses);
        self.document(Some(root), &library, &arena, None)
    }

    /// Runs the rule over one whole document.
    fn document<'a>(
        &mut self,
        root: Option<Value<'a>>,
        library: &Library<'a>,
        arena: &'a Arena,
        name: Option<&str>,
    ) -> Result<(), RunError>
    where
        'q: 'a,
    {
        let (plan, sources) = (self.job.plan, self.sources);
        let arguments = Arguments::read(plan, self.job.params, arena).map_err(RunError::Command)?;
        let arguments = arguments.with_sources(&sources.values);
        if root.is_some_and(is_xml) {
            self.sink.expect_elements();
        }
        if library.has_foreign_types() {
            self.sink.expect_foreign_types();
        }
        let name = name.filter(|_| self.names_documents);
        let mut results = Results::new(self.job, self.sink, name);
        let ran =
            Runner::new(plan, &arguments, root, arena, self.session).and_then(|mut runner| {
                runner.document(&mut |value| results.take(value, |node| locate_node(root?, node)))
            });
        let find = |origin| sources.place(origin, || library.place(origin));
        self.session.coverage.place_recovered(|failure| find(failure.origin()));
        let _ = ran.map_err(|failure| rule_failed(plan, &failure, find(failure.origin())))?;
        results.end()?;
        settle_losses(self.sink, self.job.losses, &find, self.events)
    }
}

/// Inputs up to this many bytes are read again for the place of a failure.
const READ_AGAIN: u64 = 1 << 30;

/// All documents as one list; lists of records are joined.
pub(crate) fn gather<'a>(
    job: &Job<'_>,
    inputs: &[Input],
    library: &Library<'a>,
    arena: &'a Arena,
    events: &mut Events<'_>,
) -> Result<(Value<'a>, Losses), RunError> {
    let (mut items, mut losses) = (Vec::new(), Losses::new(true));
    for input in inputs {
        let source = job.open(input, events)?;
        let has_records = source.detected.format.has_records();
        let loaded = job.load(source, library, arena, events)?;
        losses.add_all(&loaded.losses);
        for root in loaded.roots {
            match (root, has_records) {
                (Value::List(_, records), true) => items.extend_from_slice(records),
                (root, _) => items.push(root),
            }
        }
    }
    Ok((arena.list(&items), losses))
}

/// Whether a document is XML, or a list of documents some of which are.
pub(crate) fn is_xml(root: Value<'_>) -> bool {
    let is_element = |value: &Value<'_>| matches!(value, Value::Element(..));
    match root {
        Value::List(_, items) => items.iter().any(is_element),
        root => is_element(&root),
    }
}

/// Does about new losses what is to be done, and completes a failure of the output.
pub(crate) fn settle_losses(
    sink: &mut dyn Sink,
    policy: LossPolicy,
    find: &dyn Fn(Origin) -> Option<Place>,
    events: &mut Events<'_>,
) -> Result<(), RunError> {
    sink.place_failure(find);
    if policy == LossPolicy::Count {
        return Ok(());
    }
    for (loss, origin) in sink.take_losses() {
        let place = find(origin);
        let message = format!("this is lost: {}", loss.word());
        match policy {
            LossPolicy::Refuse => {
                let advice = Advice::words("leave ")
                    .setting(Setting::Strict)
                    .then(" out to convert all else");
                let refused = Diagnostic::error(Code::Loss, message).at_opt(place);
                return Err(RunError::Output(refused.advise(advice)));
            }
            _ => events.tell(Diagnostic::warning(Code::Loss, message).at_opt(place)),
        }
    }
    Ok(())
}

/// The message for a rule that failed on the data.
pub(crate) fn rule_failed(plan: &Plan, failure: &RuleError, place: Option<Place>) -> RunError {
    let told = plan.rule().failed(failure.clone(), place);
    // A temporary file that cannot be written is no fault of the rule.
    if failure.code() == Code::OutputFailed { RunError::Output(told) } else { RunError::Rule(told) }
}

/// Opens an input and says how it is read.
pub(crate) fn open(
    input: &Input,
    options: &InputOptions,
    events: &mut Events<'_>,
) -> Result<Source, RunError> {
    let source = Source::open(input, options)?;
    events.tell(Diagnostic::note(Code::InputRead, format!("{}: {}", source.name, source.detected)));
    Ok(source)
}
