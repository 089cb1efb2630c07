//! Schematron documents: what they include, what is abstract in them, and what of them a phase uses.

use std::collections::HashMap;
use std::rc::Rc;

use kyanite_tree::{Content, Element, Origin, Value};

use super::{Documents, SCHEMATRON, XSLT};
use crate::Problem;

/// An element of a schema, with the parameters that are put into its texts.
#[derive(Clone, Debug)]
pub(super) struct Node<'s> {
    pub(super) element: &'s Element<'s>,
    pub(super) origin: Origin,
    parameters: Rc<Vec<(String, String)>>,
    /// The URI of its document.
    base: Rc<str>,
}

impl<'s> Node<'s> {
    pub(super) fn root(value: Value<'s>, uri: &str) -> Option<Self> {
        let element = value.as_element()?;
        let (element, origin) = match element.is_document() {
            true => {
                let root = element.children().next()?;
                (root.as_element()?, root.origin())
            }
            false => (element, value.origin()),
        };
        Some(Self { element, origin, parameters: Rc::default(), base: uri.into() })
    }

    /// Its local name, if it is an element of Schematron.
    pub(super) fn word(&self) -> &'s str {
        if self.element.name.namespace() == SCHEMATRON { self.element.name.local() } else { "" }
    }

    pub(super) fn base(&self) -> &str {
        &self.base
    }

    /// The same with parameters for its texts.
    pub(super) fn with(&self, parameters: Rc<Vec<(String, String)>>) -> Self {
        Self { parameters, ..self.clone() }
    }

    /// An attribute, parameters put in.
    pub(super) fn attribute(&self, name: &str) -> Option<(String, Origin)> {
        let is_it = |a: &&kyanite_tree::Attribute<'s>| a.name.qualified() == name;
        let found = self.element.attributes.iter().find(is_it)?;
        Some((self.filled(found.value), found.origin))
    }

    pub(super) fn text_of(&self, name: &str) -> String {
        self.attribute(name).map(|(value, _)| value).unwrap_or_default()
    }

    /// A text with parameters put in: `$name` by what the pattern says for it (section 6.5).
    pub(super) fn filled(&self, text: &str) -> String {
        if self.parameters.is_empty() || !text.contains('$') {
            return text.to_owned();
        }
        let mut out = String::new();
        let mut rest = text;
        while let Some(at) = rest.find('$') {
            out.push_str(&rest[..at]);
            rest = &rest[at..];
            // The longest name that stands here is the one that is meant.
            let fits = |(name, _): &&(String, String)| {
                let behind = rest[1..].strip_prefix(name.as_str());
                behind.is_some_and(|behind| {
                    !behind
                        .starts_with(|c: char| c.is_alphanumeric() || matches!(c, '_' | '-' | '.'))
                })
            };
            match self.parameters.iter().find(fits) {
                Some((name, value)) => {
                    out.push_str(value);
                    rest = &rest[1 + name.len()..];
                }
                None => {
                    out.push('$');
                    rest = &rest[1..];
                }
            }
        }
        out.push_str(rest);
        out
    }

    /// What stands in it: texts, and elements of any namespace.
    pub(super) fn content(&self) -> impl Iterator<Item = Part<'s>> + use<'_, 's> {
        self.element.content.iter().filter_map(|content| match content {
            Content::Text(_, text) => Some(Part::Text(self.filled(text))),
            Content::Element(origin, element) => Some(Part::Element(Self {
                element,
                origin: *origin,
                parameters: self.parameters.clone(),
                base: self.base.clone(),
            })),
            _ => None,
        })
    }

    /// The child elements.
    pub(super) fn children(&self) -> Vec<Self> {
        let element = |part| match part {
            Part::Element(node) => Some(node),
            Part::Text(_) => None,
        };
        self.content().filter_map(element).collect()
    }

    /// The children of Schematron with that name.
    pub(super) fn called(&self, word: &str) -> Vec<Self> {
        self.children().into_iter().filter(|child| child.word() == word).collect()
    }

    /// Whether it is an element of XSLT, and which.
    pub(super) fn xslt_word(&self) -> &'s str {
        if self.element.name.namespace() == XSLT { self.element.name.local() } else { "" }
    }
}

/// A piece of the content of an element.
pub(super) enum Part<'s> {
    Text(String),
    Element(Node<'s>),
}

/// A schema as it was read.
#[derive(Default)]
pub(super) struct Source<'s> {
    /// Elements at the top, in order, those of included documents in place of the inclusion.
    pub(super) top: Vec<Node<'s>>,
    pub(super) abstract_patterns: HashMap<String, Node<'s>>,
    pub(super) abstract_rules: HashMap<String, Node<'s>>,
    pub(super) diagnostics: HashMap<String, Node<'s>>,
    pub(super) properties: HashMap<String, Node<'s>>,
}

/// How many documents may include each other.
const DEEPEST: usize = 100;

/// Reads documents into one.
pub(super) struct Reader<'s, 'd> {
    documents: &'d mut dyn Documents<'s>,
    pub(super) problems: Vec<Problem>,
    depth: usize,
}

impl<'s, 'd> Reader<'s, 'd> {
    pub(super) fn new(documents: &'d mut dyn Documents<'s>) -> Self {
        Self { documents, problems: Vec::new(), depth: 0 }
    }

    pub(super) fn problem(
        &mut self,
        origin: Origin,
        message: impl Into<String>,
        advice: Option<String>,
    ) {
        self.problems.push(Problem::new(origin, message, advice));
    }

    /// The elements in a node, those of documents that it includes in place of the inclusion (section 5.4.4).
    pub(super) fn children(&mut self, node: &Node<'s>) -> Vec<Node<'s>> {
        let mut all = Vec::new();
        for child in node.children() {
            if child.word() == "include" {
                all.extend(self.included(&child));
            } else {
                all.push(child);
            }
        }
        all
    }

    fn included(&mut self, node: &Node<'s>) -> Vec<Node<'s>> {
        let Some((href, origin)) = node.attribute("href") else {
            self.problem(node.origin, "<include> needs href", None);
            return Vec::new();
        };
        if self.depth >= DEEPEST {
            self.problem(origin, "schemas include each other without end", None);
            return Vec::new();
        }
        let Some(root) = self.find(&href, node, origin) else { return Vec::new() };
        if root.word() == "include" {
            self.depth += 1;
            let found = self.included(&root);
            self.depth -= 1;
            return found;
        }
        vec![root]
    }

    /// The root of the document that a reference means, or the element with the identifier at its end.
    pub(super) fn find(&mut self, href: &str, node: &Node<'s>, origin: Origin) -> Option<Node<'s>> {
        let (path, id) = href.split_once('#').unwrap_or((href, ""));
        let root = match self.documents.find(path, node.base()) {
            Ok(Some((uri, value))) => Node::root(value, &uri),
            Ok(None) => {
                let uri = kyanite_eval::uri::resolve(path, node.base())
                    .unwrap_or_else(|| path.to_owned());
                let message = format!("the schema refers to {uri}, which is not there");
                self.problems.push(Problem { message, advice: None, origin, missing: Some(uri) });
                None
            }
            Err(problem) => {
                self.problems.push(problem);
                None
            }
        }?;
        if id.is_empty() {
            return Some(root);
        }
        let mut left = vec![root];
        while let Some(node) = left.pop() {
            if node.text_of("id") == id {
                return Some(node);
            }
            left.extend(node.children());
        }
        self.problem(origin, format!("nothing in {path} has the identifier {id:?}"), None);
        None
    }

    /// Reads the schema.
    pub(super) fn read(&mut self, root: &Node<'s>) -> Source<'s> {
        let mut source = Source::default();
        for child in self.children(root) {
            self.take(child, &mut source);
        }
        source
    }

    fn take(&mut self, child: Node<'s>, source: &mut Source<'s>) {
        match child.word() {
            "diagnostics" => index(self.children(&child), &mut source.diagnostics),
            "properties" => index(self.children(&child), &mut source.properties),
            "rules" => index(self.children(&child), &mut source.abstract_rules),
            "pattern" => {
                for rule in self.children(&child) {
                    if rule.word() == "rule" && rule.text_of("abstract") == "true" {
                        index(vec![rule], &mut source.abstract_rules);
                    }
                }
                if child.text_of("abstract") == "true" {
                    index(vec![child], &mut source.abstract_patterns);
                } else {
                    source.top.push(child);
                }
            }
            _ => source.top.push(child),
        }
    }
}

/// Takes up elements by their identifiers.
fn index<'s>(nodes: Vec<Node<'s>>, known: &mut HashMap<String, Node<'s>>) {
    for node in nodes {
        let id = node.text_of("id");
        if !id.is_empty() {
            known.entry(id).or_insert(node);
        }
    }
}
