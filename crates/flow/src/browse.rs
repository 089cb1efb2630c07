//! A document for the browser, held in memory if it fits, and the expressions that users type over it.

mod large;

use std::cell::RefCell;
use std::ops::ControlFlow;

use kyanite_formats::Format;
use kyanite_lang::{Arguments, Plan, RuleText, Runner, Session, Syntax, compile};
use kyanite_tree::{Arena, Location, Node, Origin, Value, locate};
use kyanite_xpath::{Context, Coverage, Expression, Item, Namespaces, Store, Version, item_value};

use crate::document::{Library, as_one};
use crate::input::{Input, InputOptions};
use crate::run::open;
use crate::run_error::{Events, RunError};

use large::{Opened, opened};

pub use large::{LargeDocument, RunningSearch};

/// A document that is held.
pub struct DocumentInMemory<'a> {
    /// The name of the input.
    pub name: String,
    /// Its format.
    pub format: Format,
    /// The document; several are a list.
    pub root: Value<'a>,
    /// The document as nodes, if it is XML, and where documents live that an XPath makes.
    nodes: Option<(Node<'a>, &'a Store<'a>)>,
}

/// What an expression selects.
#[derive(Debug, Default)]
pub struct Selected<'a> {
    /// The first places and values, in order; what was computed has no place.
    pub found: Vec<(Option<Location<'a>>, String)>,
    /// How many there are.
    pub count: usize,
    /// What is wrong with the expression, or which step found nothing.
    pub problem: Option<String>,
}

/// How many values of a path are asked for their names.
const LOOKED_AT: usize = 1000;

/// A document to be looked at.
pub enum BrowsedDocument<'a> {
    /// It is held.
    Held(DocumentInMemory<'a>),
    /// It is too large for that, or is still coming in.
    Large(LargeDocument),
}

/// Reads an input whole, unless it is too large for that; nodes of XML live in `store`, all else in its arena.
///
/// # Errors
/// [`RunError::Input`] when it cannot be read.
pub fn look_at<'a>(
    input: &Input,
    options: &InputOptions,
    store: &'a Store<'a>,
    events: &mut Events<'_>,
) -> Result<BrowsedDocument<'a>, RunError> {
    let source = match opened(input, open(input, options, events)?, options)? {
        Opened::Small(source) => source,
        Opened::Large(document) => return Ok(BrowsedDocument::Large(document)),
    };
    let format = source.detected.format;
    let arena = store.arena;
    let library = Library::new(arena);
    let roots = library.load(source, options, events)?.roots;
    let root = as_one(&roots, arena);
    let text = library.first_text().map(|(_, text)| text).filter(|_| format == Format::Xml);
    let node = text.and_then(|text| kyanite_xpath::document(text, store).ok());
    let nodes = node.map(|node| (node, store));
    Ok(BrowsedDocument::Held(DocumentInMemory { name: input.name(), format, root, nodes }))
}

impl<'a> DocumentInMemory<'a> {
    /// What a JSONPath, a rule on one line, or over XML an XPath selects; at most `most` are kept.
    #[must_use]
    pub fn select(&self, expression: &str, most: usize) -> Selected<'a> {
        match self.nodes {
            Some(nodes) if expression.trim_start().starts_with('/') => {
                by_xpath(nodes, expression, most)
            }
            _ => self.by_rule(expression, most),
        }
    }

    fn by_rule(&self, expression: &str, most: usize) -> Selected<'a> {
        let rule = RuleText::new("the expression", expression.to_owned());
        let plan = match compile(rule, Syntax::Rule) {
            Ok(plan) => plan,
            Err((rule, findings)) => {
                let first = findings.into_iter().next();
                let problem = first.map(|found| rule.diagnostic(found).message().to_owned());
                return Selected { problem, ..Selected::default() };
            }
        };
        let mut session = Session::new(&plan);
        let mut selected = Selected::default();
        let ran = self.each(&plan, &mut session, &mut |value| {
            selected.count += 1;
            if selected.found.len() < most {
                let place = locate(self.root, value.origin());
                selected.found.push((place, shown(value)));
            }
        });
        selected.problem = match ran {
            Err(message) => Some(message),
            Ok(()) if selected.count == 0 => {
                let report = session.coverage.report(&plan);
                report.first().map(|found| {
                    let advice = found.advice().map(|advice| format!("; {advice}"));
                    format!("{}{}", found.message(), advice.unwrap_or_default())
                })
            }
            Ok(()) => None,
        };
        selected
    }

    /// Runs a rule; `take` gets its values, one by one.
    fn each(
        &self,
        plan: &Plan,
        session: &mut Session,
        take: &mut dyn FnMut(Value<'_>),
    ) -> Result<(), String> {
        let arena = Arena::new();
        let arguments =
            Arguments::read(plan, &[], &arena).map_err(|_| "the rule has params".to_owned())?;
        let mut document = |value: Option<Value<'_>>| {
            match value {
                Some(Value::List(Origin::NONE, items)) => items.iter().for_each(|item| take(*item)),
                Some(value) => take(value),
                None => {}
            }
            ControlFlow::Continue(())
        };
        let ran = Runner::new(plan, &arguments, Some(self.root), &arena, session)
            .and_then(|mut runner| runner.document(&mut document).map(drop));
        ran.map_err(|failure| failure.message().to_owned())
    }

    /// The names that can follow a path: those of the members of what it selects, as first met.
    #[must_use]
    pub fn names_behind(&self, path: &str, most: usize) -> Vec<String> {
        let path = if path.is_empty() { "$" } else { path };
        let Ok(plan) = compile(RuleText::new("the path", path.to_owned()), Syntax::Rule) else {
            return Vec::new();
        };
        let (mut names, mut met) = (Vec::new(), 0);
        let ran = self.each(&plan, &mut Session::new(&plan), &mut |value| {
            met += 1;
            if met <= LOOKED_AT {
                add_names(value, most, &mut names);
            }
        });
        if ran.is_err() { Vec::new() } else { names }
    }
}

/// Adds the names of the members of a value that are not there yet, as long as there are fewer than `most`.
fn add_names(value: Value<'_>, most: usize, names: &mut Vec<String>) {
    let mut put = |name: String| {
        if names.len() < most && !names.contains(&name) {
            names.push(name);
        }
    };
    match value {
        Value::Map(_, map) => map.members().iter().for_each(|member| put(member.name.to_owned())),
        Value::Element(_, element) => {
            element.attributes.iter().for_each(|of| put(format!("@{}", of.name.local())));
            let children = element.children().filter_map(Value::as_element);
            children.for_each(|child| put(child.name.local().to_owned()));
        }
        _ => {}
    }
}

/// What an XPath selects in a document of XML.
fn by_xpath<'a>(
    (document, store): (Node<'a>, &'a Store<'a>),
    expression: &str,
    most: usize,
) -> Selected<'a> {
    let failed = |error: &kyanite_xpath::Error| Selected {
        problem: Some(error.message().to_owned()),
        ..Selected::default()
    };
    let compiled = Expression::compile(expression, Version::V31, Namespaces::new(), &[]);
    let compiled = match compiled {
        Ok(compiled) => compiled,
        Err(error) => return failed(&error),
    };
    let coverage = RefCell::new(Coverage::new(&compiled));
    let context = Context::of(Item::Node(document));
    let items = match compiled.evaluate(&context, store, &coverage) {
        Ok(items) => items,
        Err(error) => return failed(&error),
    };
    let mut selected = Selected { count: items.len(), ..Selected::default() };
    for item in items.items().iter().take(most) {
        let place = match item {
            Item::Node(node) => Some(node.location()),
            _ => None,
        };
        let text = item_value(item, store.arena).map(shown).unwrap_or_default();
        selected.found.push((place, text));
    }
    if selected.count == 0 {
        let report = coverage.borrow().report(&compiled);
        selected.problem = report.first().map(|found| found.message().to_owned());
    }
    selected
}

/// A value on one line.
fn shown(value: Value<'_>) -> String {
    match value {
        Value::Element(_, element) => match element.text {
            Some(text) => text.trim().to_owned(),
            None => format!("<{}>", element.name.qualified()),
        },
        other => kyanite_formats::json::compact(other),
    }
}
