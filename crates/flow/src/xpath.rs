//! An XPath over documents that are held whole.

use std::cell::RefCell;
use std::time::{SystemTime, UNIX_EPOCH};

use kyanite_eval::atomic::Atomic;
use kyanite_eval::time::{DateTime, Duration};
use kyanite_formats::xml;
use kyanite_lang::{Flow, Plan, RecordUnit, ResultShape, Session, Written, xpath_failure};
use kyanite_tree::{
    Advice, Arena, Code, Decimal, Diagnostic, Location, Node, Nodes, Step, Value, locate,
};
use kyanite_xpath::{
    Context, Coverage, Documents, Error, ErrorCode, Expression, Item, Sequence, Store, item_value,
};

use crate::blocks::Then;
use crate::document::Library;
use crate::input::{Input, Source, cannot_read};
use crate::part::Part;
use crate::records::valid_start;
use crate::results::Results;
use crate::run::{Job, LossPolicy, Run, Sink, What, open, rule_failed, settle_losses};
use crate::run_error::{Counters, Events, RunError};
use crate::sources::Sources;

/// Documents that were read, with the nodes of those that are XML.
struct Read<'d> {
    name: String,
    uri: Option<String>,
    /// Its value, but of XML.
    root: Option<Value<'d>>,
    /// What the expression is evaluated for; none where the document is null.
    item: Option<Item<'d>>,
}

/// The documents that the command line names.
struct Named<'r, 'd>(&'r [Read<'d>]);

impl<'d> Documents<'d> for Named<'_, 'd> {
    fn named(&self, uri: &str) -> Option<Item<'d>> {
        let is_it = |read: &&Read<'d>| {
            let file = read.name.rsplit('/').next();
            read.name == uri || read.uri.as_deref() == Some(uri) || file == Some(uri)
        };
        self.0.iter().find(is_it).and_then(|read| read.item.clone())
    }

    fn names(&self) -> Vec<String> {
        self.0.iter().map(|read| read.name.clone()).collect()
    }

    fn all(&self) -> Vec<Item<'d>> {
        self.0.iter().filter_map(|read| read.item.clone()).collect()
    }

    fn uri_of(&self, node: Node<'d>) -> Option<String> {
        let is_in = |read: &&Read<'d>| match &read.item {
            Some(Item::Node(root)) => std::ptr::eq(root.nodes(), node.nodes()),
            _ => false,
        };
        self.0.iter().find(is_in).and_then(|read| read.uri.clone())
    }
}

/// Runs a plan that is an XPath over inputs.
pub(crate) fn run(
    job: &Job<'_>,
    expression: &Expression,
    inputs: &[Input],
    sink: &mut dyn Sink,
    events: &mut Events<'_>,
) -> Result<(), RunError> {
    let coverage = RefCell::new(Coverage::new(expression));
    // Documents that are asked for by name stay; of others one is held at a time.
    let groups: Vec<&[Input]> = match (expression.asks_documents(), inputs) {
        (_, []) => vec![&[]],
        (true, all) => vec![all],
        (false, all) => all.chunks(1).collect(),
    };
    // Whether it is evaluated for each document, and needs no other.
    let goes_on = !inputs.is_empty() && !expression.asks_documents() && expression.uses_context();
    let names_documents = job.what == What::Paths && inputs.len() > 1;
    let (mut streamed, mut unresolved) = (Vec::new(), Unresolved::default());
    for group in groups {
        let mut sources = Vec::new();
        for input in group {
            let source = job.open(input, events)?;
            match Elements::of(job, group, source)? {
                Ok(elements) => {
                    streamed.extend(elements.run(job, input, sink, events)?);
                    unresolved.others += 1;
                }
                Err(source) => sources.push(source),
            }
        }
        if sources.is_empty() && !group.is_empty() {
            continue;
        }
        let mut over = |sources: Vec<Source>, then: Then, events: &mut Events<'_>| {
            let group = (sources, names_documents);
            whole(job, expression, group, sink, (events, &coverage), &mut unresolved)?;
            if then == Then::Pause {
                sink.pause();
            }
            Ok(if sink.is_closed() { Flow::Break(()) } else { Flow::Continue(()) })
        };
        if goes_on {
            // A group of this kind has one.
            for source in sources {
                let mut pieces = source.in_pieces(job.options);
                pieces.each(|piece, then| over(vec![piece], then, events))?;
                pieces.finish(job.options, events);
            }
        } else {
            let _ = over(sources, Then::End, events)?;
        }
        if sink.is_closed() {
            return Ok(());
        }
    }
    unresolved.settle(events)?;
    let own = coverage.borrow().report(expression);
    let own = own.into_iter().map(|finding| job.plan.rule().diagnostic(finding));
    streamed.into_iter().chain(own).for_each(|found| events.tell(found));
    Ok(())
}

/// Documents that do not say what a prefix of the expression means, while others may.
#[derive(Default)]
struct Unresolved {
    /// What fails for each of them, and what is to be said if others do not.
    documents: Vec<(RunError, Diagnostic)>,
    /// How many others there are.
    others: usize,
}

impl Unresolved {
    /// Fails where no document said it, and tells of those that did not.
    fn settle(self, events: &mut Events<'_>) -> Result<(), RunError> {
        for (failed, warning) in self.documents {
            if self.others == 0 {
                return Err(failed);
            }
            events.tell(warning);
        }
        Ok(())
    }
}

/// Evaluates the expression over documents that are held.
fn whole(
    job: &Job<'_>,
    expression: &Expression,
    (sources, names_documents): (Vec<Source>, bool),
    sink: &mut dyn Sink,
    (events, coverage): (&mut Events<'_>, &RefCell<Coverage>),
    unresolved: &mut Unresolved,
) -> Result<(), RunError> {
    if !sources.is_empty() {
        job.may_hold()?;
    }
    let arena = Arena::new();
    let store = Store::new(&arena);
    let library = Library::of_nodes(&arena);
    let read = read(job, sources, &library, &store, events)?;
    let documents = Named(&read);
    let evaluated: Vec<Option<&Read<'_>>> =
        if expression.uses_context() { read.iter().map(Some).collect() } else { vec![None] };
    for document in evaluated {
        let context = Context {
            item: document.and_then(|read| read.item.clone()),
            variables: variables(job),
            documents: &documents,
            now: job.now.and_then(utc),
            zone: 0,
        };
        let one = One { job, library: &library, document };
        let name = document.map(|read| read.name.as_str()).filter(|_| names_documents);
        let found = match (expression.evaluate(&context, &store, coverage), document) {
            (Err(error), Some(document)) if error.code() == ErrorCode::Prefix => {
                let message =
                    format!("nothing was looked for in {}: {}", document.name, error.message());
                let warning = Diagnostic::warning(Code::PathEmpty, message)
                    .advise_opt(error.advice().cloned().map(Advice::elsewhere));
                unresolved.documents.push((one.failed(&error), warning));
                continue;
            }
            (found, _) => found.map_err(|error| one.failed(&error))?,
        };
        unresolved.others += 1;
        one.give(&found, &arena, name, sink)?;
        settle_losses(sink, job.losses, &|origin| library.place(origin), events)?;
        if sink.is_closed() {
            break;
        }
    }
    Ok(())
}

/// An XML document whose elements are looked at one by one.
struct Elements {
    plan: Plan,
    source: Source,
    /// Whether only the number of what is found is wanted.
    is_counted: bool,
}

impl Elements {
    /// The same source, ready to go through its elements, or as it is where the document has to be held.
    fn of(
        job: &Job<'_>,
        inputs: &[Input],
        mut source: Source,
    ) -> Result<Result<Self, Source>, RunError> {
        let is_fit = inputs.len() == 1
            && job.what == What::Values
            && job.losses == LossPolicy::Count
            && !job.options.unwrap
            && !job.options.drop_namespaces
            && source.has_elements();
        if !is_fit || job.plan.xpath().is_none_or(|xpath| xpath.needs_document().is_some()) {
            return Ok(Err(source));
        }
        let head = source
            .look_ahead()
            .map_err(|error| RunError::Input(cannot_read(&source.name, &error)))?;
        let (text, _) = valid_start(&head);
        let root = xml::root_namespaces(text, xml::Options::default());
        let names: Vec<String> = job.params.iter().map(|(name, _)| name.clone()).collect();
        let streamed = root.and_then(|root| job.plan.streamed(&root, &names));
        Ok(match streamed {
            Some((plan, is_counted)) => Ok(Self { plan, source, is_counted }),
            None => Err(source),
        })
    }

    /// Runs over the elements; gives what is to be said at the end.
    fn run(
        self,
        job: &Job<'_>,
        input: &Input,
        sink: &mut dyn Sink,
        events: &mut Events<'_>,
    ) -> Result<Vec<Diagnostic>, RunError> {
        let Self { plan, source, is_counted } = self;
        let (job_of_whole, job) = (job, Job { plan: &plan, range: job.range.clone(), ..*job });
        let mut session = Session::new(&plan);
        let arena = Arena::new();
        let sources = Sources::load(&plan, &[], job.options, &arena, events)?;
        let mut counting = Counting(0);
        let mut run = Run {
            job: &job,
            sources: &sources,
            session: &mut session,
            sink: if is_counted { &mut counting } else { &mut *sink },
            events,
            names_documents: false,
            cut: None,
            strategy: None,
        };
        run.stream(Some(source), &[], RecordUnit::Elements, std::slice::from_ref(input))?;
        if is_counted {
            let _ = sink.single(Some(arena.integer(counting.0)));
        }
        let report = session.coverage.report(&plan);
        // What the document has elsewhere is seen only where it is held; a small one is read again for that.
        let is_small =
            matches!(input, Input::File(_)) && input.size().is_some_and(|size| size <= READ_AGAIN);
        match job_of_whole.plan.xpath() {
            Some(expression)
                if is_small && report.iter().any(|found| found.code() == Code::PathEmpty) =>
            {
                explain_whole(job_of_whole, expression, input)
            }
            _ => Ok(report),
        }
    }
}

/// Documents up to this many bytes are read again for what is said of an expression that found nothing.
const READ_AGAIN: u64 = 256 << 20;

/// What is said of an expression over a document that is held; its results are known.
fn explain_whole(
    job: &Job<'_>,
    expression: &Expression,
    input: &Input,
) -> Result<Vec<Diagnostic>, RunError> {
    let coverage = RefCell::new(Coverage::new(expression));
    let mut events = Events { tell: &mut |_| {}, counters: &Counters::default() };
    let source = open(input, job.options, &mut events)?;
    let unresolved = &mut Unresolved::default();
    let said = (&mut events, &coverage);
    whole(job, expression, (vec![source], false), &mut Counting(0), said, unresolved)?;
    let report = coverage.borrow().report(expression);
    Ok(report.into_iter().map(|finding| job.plan.rule().diagnostic(finding)).collect())
}

/// Counts items.
struct Counting(i64);

impl Sink for Counting {
    fn item(&mut self, _: Value<'_>) -> Flow {
        self.0 += 1;
        Flow::Continue(())
    }

    fn single(&mut self, value: Option<Value<'_>>) -> Flow {
        self.0 += i64::from(value.is_some());
        Flow::Continue(())
    }

    fn end_items(&mut self) {}

    fn pause(&mut self) {}

    fn written(&self) -> Written {
        Written::Values
    }

    fn is_closed(&self) -> bool {
        false
    }

    fn part(&self) -> Option<Part> {
        Some(Part::counting())
    }

    fn join(&mut self, part: &mut Part) -> Flow {
        self.0 += i64::try_from(part.items).unwrap_or(i64::MAX);
        Flow::Continue(())
    }
}

/// Reads inputs whole.
fn read<'d>(
    job: &Job<'_>,
    sources: Vec<Source>,
    library: &Library<'d>,
    store: &'d Store<'d>,
    events: &mut Events<'_>,
) -> Result<Vec<Read<'d>>, RunError> {
    let mut all = Vec::new();
    for source in sources {
        let (name, uri) = (source.name.clone(), source.uri.clone());
        let loaded = library.load(source, job.options, events)?;
        let mut add = |root: Option<Value<'d>>, item: Option<Item<'d>>| {
            all.push(Read { name: name.clone(), uri: uri.clone(), root, item });
        };
        if let Some(nodes) = loaded.nodes {
            add(None, Some(Item::Node(store.keep(nodes))));
        }
        for root in loaded.roots {
            add(
                Some(root),
                match root {
                    Value::Null(_) => None,
                    // An element is there where a text held XML.
                    Value::Element(..) => Some(Item::Node(store.keep(Nodes::of(root)))),
                    other => Some(Item::Value(other)),
                },
            );
        }
    }
    Ok(all)
}

/// The values of the variables: params are text without a type.
fn variables<'d>(job: &Job<'_>) -> Vec<Sequence<'d>> {
    let value = |(_, text): &(String, String)| Sequence::atomic(Atomic::untyped(text.clone()));
    job.params.iter().map(value).collect()
}

/// A time of the clock as the languages have it, in UTC.
pub(crate) fn utc(time: SystemTime) -> Option<DateTime> {
    let since = time.duration_since(UNIX_EPOCH).ok()?;
    let seconds =
        Decimal::parse(&format!("{}.{:06}", since.as_secs(), since.subsec_micros())).ok()?;
    let epoch: DateTime = "1970-01-01T00:00:00Z".parse().ok()?;
    epoch.plus(&Duration::of_seconds(seconds)).ok()
}

/// One evaluation, and what it is about.
struct One<'o, 'd> {
    job: &'o Job<'o>,
    library: &'o Library<'d>,
    document: Option<&'o Read<'d>>,
}

impl<'d> One<'_, 'd> {
    /// Hands on what was found.
    fn give(
        &self,
        found: &Sequence<'d>,
        arena: &'d Arena,
        name: Option<&str>,
        sink: &mut dyn Sink,
    ) -> Result<(), RunError> {
        if found.items().iter().any(is_node) {
            sink.expect_elements();
        }
        if self.library.has_foreign_types() {
            sink.expect_foreign_types();
        }
        let mut results = Results::new(self.job, sink, name);
        let single = self.job.plan.result_shape() == ResultShape::Single;
        if single && self.job.what == What::Values && found.len() > 1 {
            let items: Result<Vec<_>, Error> =
                found.items().iter().map(|item| item_value(item, arena)).collect();
            let list = arena.list(&items.map_err(|error| self.failed(&error))?);
            let _ = results.take(Some(list), |_| None);
            return results.end();
        }
        for item in found.items() {
            let value = item_value(item, arena).map_err(|error| self.failed(&error))?;
            if let Flow::Break(()) = results.take(Some(value), |_| self.location(item)) {
                break;
            }
        }
        results.end()
    }

    /// Where an item stands in its document.
    fn location(&self, item: &Item<'d>) -> Option<Location<'d>> {
        match item {
            Item::Node(node) => Some(node.location()),
            Item::Value(value) => {
                let found = locate(self.document?.root?, value.origin())?;
                Some(Location::new(found.steps().iter().map(|step| lookup(*step)).collect()))
            }
            _ => None,
        }
    }

    /// The message for an evaluation that failed.
    fn failed(&self, error: &Error) -> RunError {
        let place = Some(error.origin()).filter(|origin| origin.is_known());
        let place = place.and_then(|origin| {
            let place = self.library.place(origin)?;
            let root = self.document.and_then(|read| read.item.as_ref()?.as_node());
            let node = root.and_then(|root| root.nodes().at(origin));
            Some(match node {
                Some(node) => place.with_path(node.location().readable()),
                None => place,
            })
        });
        rule_failed(self.job.plan, &xpath_failure(error), place)
    }
}

fn is_node(item: &Item<'_>) -> bool {
    matches!(item, Item::Node(_))
}

/// A step into maps and lists as a lookup of XPath.
fn lookup(step: Step<'_>) -> Step<'_> {
    match step {
        Step::Name(name) => Step::Lookup(name),
        Step::Index(index) => Step::Member(index),
        other => other,
    }
}
