//! An XPath over documents that are held whole.

use std::cell::RefCell;
use std::time::{SystemTime, UNIX_EPOCH};

use kyanite_eval::atomic::Atomic;
use kyanite_eval::time::{DateTime, Duration};
use kyanite_lang::{Flow, ResultShape};
use kyanite_tree::{Arena, Decimal, Diagnostic, Location, Node, Nodes, Step, Value, locate};
use kyanite_xpath::{
    Context, Documents, Error, Expression, Item, Sequence, Store, Watch, item_value,
};

use crate::document::Library;
use crate::failed::{Events, Failed};
use crate::input::Input;
use crate::run::{Job, Results, Sink, What, open, settle_losses};

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
) -> Result<(), Failed> {
    let watch = RefCell::new(Watch::new(expression));
    // Documents that are asked for by name stay; of others one is held at a time.
    let asks = expression.asks_documents();
    let groups: Vec<&[Input]> = match (asks, inputs) {
        (_, []) => vec![&[]],
        (true, all) => vec![all],
        (false, all) => all.chunks(1).collect(),
    };
    let names_documents = job.what == What::Paths && inputs.len() > 1;
    for group in groups {
        let arena = Arena::new();
        let store = Store::new(&arena);
        let library = Library::of_nodes(&arena);
        let read = read(job, group, &library, &store, events)?;
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
            let found = expression.evaluate(&context, &store, &watch);
            let found = found.map_err(|error| one.failed(&error))?;
            one.give(&found, &arena, name, sink)?;
            settle_losses(sink, job.losses, &|origin| library.place(origin), events)?;
            if sink.is_closed() {
                return Ok(());
            }
        }
    }
    for finding in watch.borrow().report(expression) {
        events.tell(job.plan.rule().diagnostic(finding));
    }
    Ok(())
}

/// Reads inputs whole.
fn read<'d>(
    job: &Job<'_>,
    inputs: &[Input],
    library: &Library<'d>,
    store: &'d Store<'d>,
    events: &mut Events<'_>,
) -> Result<Vec<Read<'d>>, Failed> {
    let mut all = Vec::new();
    for input in inputs {
        let source = open(input, job.options, events)?;
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
fn utc(time: SystemTime) -> Option<DateTime> {
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
    ) -> Result<(), Failed> {
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
    fn failed(&self, error: &Error) -> Failed {
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
        let rule = self.job.plan.rule();
        let told = rule.diagnostic(kyanite_lang::xpath_finding(error));
        let mut shown = Diagnostic::error(told.code(), told.message().to_owned()).at_opt(place);
        for place in told.places() {
            shown = shown.at(place.clone());
        }
        Failed::Rule(shown.advise_opt(told.advice().cloned()))
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
