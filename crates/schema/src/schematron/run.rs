//! A document against a schema.

use std::cell::RefCell;
use std::collections::{HashMap, HashSet};

use kyanite_eval::time::DateTime;
use kyanite_tree::{Node, Origin, Severity};
use kyanite_xpath::{Context, Coverage, Documents, Error, Item, Sequence, Store};

use super::{Pattern, Piece, Query, Rule, Schema, Test};
use crate::{Finding, RulePlace};

/// What a rule found, or that it was looked at.
#[derive(Clone, Debug)]
pub enum Found {
    /// A pattern is looked at.
    Pattern(String),
    /// A rule fits a node.
    Fired {
        /// Its identifier.
        id: String,
        /// Its context, as written.
        context: String,
        /// Its role and its flag.
        role: String,
        /// See there.
        flag: String,
    },
    /// An assertion is broken, or a report is made.
    Told(Box<Told>),
}

/// What an assertion or a report says.
#[derive(Clone, Debug)]
pub struct Told {
    /// What is wrong, and by which rule.
    pub finding: Finding,
    /// How bad it is.
    pub severity: Severity,
    /// The path of the node, as an XPath.
    pub location: String,
    /// What says it.
    pub assertion: Assertion,
}

/// An assertion or a report, with what it says of a node.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Assertion {
    /// Whether it is an assertion, and not a report.
    pub is_assert: bool,
    /// The test, as written.
    pub test: String,
    /// Its identifier.
    pub id: String,
    /// What it is to the reader.
    pub role: String,
    /// What it sets.
    pub flag: String,
    /// Further texts, by their identifiers.
    pub diagnostics: Vec<(String, String)>,
    /// Properties, by their identifiers.
    pub properties: Vec<(String, String)>,
}

/// Nodes by their values.
type Valued<'d> = HashMap<String, Vec<Node<'d>>>;

/// A schema at work on one document.
pub struct Run<'r, 'd> {
    schema: &'r Schema,
    store: &'d Store<'d>,
    outside: &'r dyn Documents<'d>,
    now: Option<DateTime>,
    watches: Vec<Option<RefCell<Coverage>>>,
    /// Nodes by their values, for each key and document.
    keys: RefCell<HashMap<(String, usize), Valued<'d>>>,
}

/// What expressions can ask for: documents from outside, and the keys of the schema.
struct WithKeys<'w, 'r, 'd> {
    run: &'w Run<'r, 'd>,
}

impl<'d> Documents<'d> for WithKeys<'_, '_, 'd> {
    fn named(&self, uri: &str) -> Option<Item<'d>> {
        let full = kyanite_eval::uri::resolve(uri, &self.run.schema.uri);
        self.run.outside.named(full.as_deref().unwrap_or(uri))
    }

    fn names(&self) -> Vec<String> {
        self.run.outside.names()
    }

    fn all(&self) -> Vec<Item<'d>> {
        self.run.outside.all()
    }

    fn uri_of(&self, node: Node<'d>) -> Option<String> {
        self.run.outside.uri_of(node)
    }

    fn key(&self, name: &str, value: &str, node: Node<'d>) -> Option<Vec<Node<'d>>> {
        self.run.key(name, value, node)
    }
}

/// The values of the names in scope, in the order in which they were declared.
type Values<'d> = Vec<Sequence<'d>>;

impl<'r, 'd> Run<'r, 'd> {
    /// A schema at work; `outside` are documents that it may ask for by URI, `now` is the time that it may ask for.
    #[must_use]
    pub fn new(
        schema: &'r Schema,
        store: &'d Store<'d>,
        outside: &'r dyn Documents<'d>,
        now: Option<DateTime>,
    ) -> Self {
        let watches = (0..schema.expressions).map(|_| None).collect();
        Self { schema, store, outside, now, watches, keys: RefCell::default() }
    }

    /// Checks a document; `take` gets what is found, in the order of patterns and nodes.
    pub fn check(&mut self, root: Node<'d>, take: &mut dyn FnMut(Found)) {
        let schema = self.schema;
        let mut values: Values<'d> = Vec::new();
        for named in &schema.lets {
            let value = self.value(&named.value, Item::Node(root), &values, take);
            values.push(value);
        }
        for pattern in &schema.patterns {
            take(Found::Pattern(pattern.id.clone()));
            let roots = match &pattern.documents {
                None => vec![root],
                Some(query) => {
                    let uris = self.value(query, Item::Node(root), &values, take);
                    let documents = WithKeys { run: self };
                    let named = uris.items().iter().filter_map(|uri| {
                        let text = text_of(uri);
                        documents.named(&text)?.as_node()
                    });
                    named.collect()
                }
            };
            for root in roots {
                self.pattern(pattern, root, &values, take);
            }
        }
    }

    fn pattern(
        &mut self,
        pattern: &Pattern,
        root: Node<'d>,
        outer: &Values<'d>,
        take: &mut dyn FnMut(Found),
    ) {
        let mut values = outer.clone();
        for named in &pattern.lets {
            let value = self.value(&named.value, Item::Node(root), &values, take);
            values.push(value);
        }
        // For each node the first rule that fits it is the one for it (section 6.5).
        let mut fired: Vec<(Node<'d>, &Rule)> = Vec::new();
        let mut taken: HashSet<(usize, u32)> = HashSet::new();
        for rule in &pattern.rules {
            let found = self.value(&rule.context, Item::Node(root), &values, take);
            for node in found.items().iter().filter_map(Item::as_node) {
                if taken.insert((std::ptr::from_ref(node.nodes()) as usize, node.id())) {
                    fired.push((node, rule));
                }
            }
        }
        fired.sort_by_key(|(node, _)| node.id());
        for (node, rule) in fired {
            let Rule { id, written, role, flag, .. } = rule;
            take(Found::Fired {
                id: id.clone(),
                context: written.clone(),
                role: role.clone(),
                flag: flag.clone(),
            });
            let before = values.len();
            for named in &rule.lets {
                let value = self.value(&named.value, Item::Node(node), &values, take);
                values.push(value);
            }
            for test in &rule.tests {
                self.test(test, node, &values, take);
            }
            values.truncate(before);
        }
    }

    fn test(
        &mut self,
        test: &Test,
        node: Node<'d>,
        values: &Values<'d>,
        take: &mut dyn FnMut(Found),
    ) {
        let truth =
            self.evaluate(&test.test, Item::Node(node), values).and_then(|value| value.truth());
        let holds = match truth {
            Ok(holds) => holds,
            Err(error) => {
                take(self.failed(&test.test, &error, node));
                return;
            }
        };
        if holds == test.is_assert {
            return;
        }
        let message = self.text(&test.message, node, values);
        let text_of_all = |run: &mut Self,
                           texts: &[(String, Vec<Piece>)]|
         -> Vec<(String, String)> {
            texts.iter().map(|(id, pieces)| (id.clone(), run.text(pieces, node, values))).collect()
        };
        let diagnostics = text_of_all(self, &test.diagnostics);
        let properties = text_of_all(self, &test.properties);
        let subject = test.subject.as_ref().and_then(|subject| {
            let found = self.evaluate(subject, Item::Node(node), values).ok()?;
            found.first().and_then(Item::as_node)
        });
        let place = subject.unwrap_or(node);
        let keyword = if test.is_assert { "assert" } else { "report" };
        let shown = if message.is_empty() { test.test.text.clone() } else { message };
        let advice = (!diagnostics.is_empty()).then(|| {
            let texts: Vec<&str> = diagnostics.iter().map(|(_, text)| text.as_str()).collect();
            kyanite_tree::Advice::words(texts.join("; "))
        });
        let finding = Finding {
            message: shown,
            advice,
            origin: origin_of(place),
            rule: RulePlace { origin: test.origin, keyword },
            unit: None,
        };
        take(Found::Told(Box::new(Told {
            finding,
            severity: test.severity,
            location: path_of(place),
            assertion: Assertion {
                is_assert: test.is_assert,
                test: test.test.text.clone(),
                id: test.id.clone(),
                role: test.role.clone(),
                flag: test.flag.clone(),
                diagnostics,
                properties,
            },
        })));
    }

    /// That an expression cannot be evaluated.
    fn failed(&self, query: &Query, error: &Error, node: Node<'d>) -> Found {
        let message = format!("the expression {} fails here: {}", query.text, error.message());
        let advice = error.advice().map(|advice| kyanite_tree::Advice::words(advice.to_string()));
        let rule = RulePlace { origin: query.origin, keyword: "xpath" };
        let finding = Finding { message, advice, origin: origin_of(node), rule, unit: None };
        Found::Told(Box::new(Told {
            finding,
            severity: Severity::Error,
            location: path_of(node),
            assertion: Assertion {
                is_assert: true,
                test: query.text.clone(),
                id: String::new(),
                role: String::new(),
                flag: String::new(),
                diagnostics: Vec::new(),
                properties: Vec::new(),
            },
        }))
    }

    /// The value of an expression; where it fails that is said, and the value is empty.
    fn value(
        &mut self,
        query: &Query,
        item: Item<'d>,
        values: &Values<'d>,
        take: &mut dyn FnMut(Found),
    ) -> Sequence<'d> {
        let node = item.as_node();
        match self.evaluate(query, item, values) {
            Ok(value) => value,
            Err(error) => {
                if let Some(node) = node {
                    take(self.failed(query, &error, node));
                }
                Sequence::Empty
            }
        }
    }

    fn evaluate(
        &mut self,
        query: &Query,
        item: Item<'d>,
        values: &Values<'d>,
    ) -> Result<Sequence<'d>, Error> {
        if let Some(place) = self.watches.get_mut(query.number) {
            place.get_or_insert_with(|| RefCell::new(Coverage::new(&query.expression)));
        }
        self.evaluate_again(query, item, values)
    }

    fn evaluate_again(
        &self,
        query: &Query,
        item: Item<'d>,
        values: &Values<'d>,
    ) -> Result<Sequence<'d>, Error> {
        let documents = WithKeys { run: self };
        let context = Context {
            item: Some(item),
            variables: values.clone(),
            documents: &documents,
            now: self.now.clone(),
            zone: 0,
        };
        match self.watches.get(query.number).and_then(Option::as_ref) {
            Some(watch) => query.expression.evaluate(&context, self.store, watch),
            None => {
                let watch = RefCell::new(Coverage::new(&query.expression));
                query.expression.evaluate(&context, self.store, &watch)
            }
        }
    }

    /// The text of pieces about a node, its white space normalized.
    fn text(&mut self, pieces: &[Piece], node: Node<'d>, values: &Values<'d>) -> String {
        let mut text = String::new();
        for piece in pieces {
            match piece {
                Piece::Text(piece) => text.push_str(piece),
                Piece::Name(None) => text.push_str(node.name().qualified()),
                Piece::Name(Some(query)) => {
                    let found =
                        self.evaluate(query, Item::Node(node), values).unwrap_or(Sequence::Empty);
                    match found.first() {
                        Some(Item::Node(named)) => text.push_str(named.name().qualified()),
                        Some(other) => text.push_str(&text_of(other)),
                        None => {}
                    }
                }
                Piece::Value(query) => {
                    let found =
                        self.evaluate(query, Item::Node(node), values).unwrap_or(Sequence::Empty);
                    let texts: Vec<String> = found.items().iter().map(text_of).collect();
                    text.push_str(&texts.join(" "));
                }
            }
        }
        text.split_whitespace().collect::<Vec<_>>().join(" ")
    }

    /// The nodes that have a value for a key, in the document of a node.
    fn key(&self, name: &str, value: &str, node: Node<'d>) -> Option<Vec<Node<'d>>> {
        let declared: Vec<_> = self.schema.keys.iter().filter(|key| key.name == name).collect();
        if declared.is_empty() {
            return None;
        }
        let place = (name.to_owned(), std::ptr::from_ref(node.nodes()) as usize);
        if !self.keys.borrow().contains_key(&place) {
            // A key that asks for itself finds nothing.
            self.keys.borrow_mut().insert(place.clone(), HashMap::new());
            let mut table: Valued<'d> = HashMap::new();
            let root = node.nodes().root();
            let values = Vec::new();
            for key in declared {
                let matched = self.evaluate_again(&key.matches, Item::Node(root), &values);
                for node in matched.iter().flat_map(|found| found.items()).filter_map(Item::as_node)
                {
                    let found = self.evaluate_again(&key.value, Item::Node(node), &values);
                    for value in found.iter().flat_map(|found| found.items()) {
                        table.entry(text_of(value)).or_default().push(node);
                    }
                }
            }
            self.keys.borrow_mut().insert(place.clone(), table);
        }
        let keys = self.keys.borrow();
        Some(keys.get(&place)?.get(value).cloned().unwrap_or_default())
    }
}

/// Where a node was read; that of the nearest around it, if it was not.
fn origin_of(node: Node<'_>) -> Origin {
    let own = node.origin();
    if own.is_known() {
        return own;
    }
    node.ancestors().map(Node::origin).find(|origin| origin.is_known()).unwrap_or(Origin::NONE)
}

/// The path of a node; that of the document is `/`.
fn path_of(node: Node<'_>) -> String {
    if node.parent().is_none() { "/".to_owned() } else { node.location().to_string() }
}

/// The text of an item.
fn text_of(item: &Item<'_>) -> String {
    match item {
        Item::Node(node) => node.string_value().into_owned(),
        other => other.as_atomic().map(|atomic| atomic.to_text().to_string()).unwrap_or_default(),
    }
}
