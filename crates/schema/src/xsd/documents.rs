//! The documents of a schema: those that are given, and those that they include, import and redefine (XSD 1.0 part 1
//! section 4.2).

use std::collections::{HashMap, HashSet};
use std::rc::Rc;

use kyanite_eval::uri::resolve;
use kyanite_tree::{Element, Origin, Value};

use super::components::Derivations;
use super::simple::{White, normalized};
use crate::Problem;

/// The namespace of XML Schema.
pub const XSD: &str = "http://www.w3.org/2001/XMLSchema";
/// The namespace of the attributes that documents say things about schemas with.
pub const XSI: &str = "http://www.w3.org/2001/XMLSchema-instance";
/// The namespace of the prefix `xml`.
pub const XML: &str = "http://www.w3.org/XML/1998/namespace";

/// A reference to a schema document.
#[derive(Clone, Copy, Debug)]
pub struct Reference<'r> {
    /// The namespace that it is for, if that is said.
    pub namespace: Option<&'r str>,
    /// Where it is, as written.
    pub location: Option<&'r str>,
    /// The URI of the document that refers to it.
    pub base: &'r str,
}

/// What reads schema documents that others refer to.
pub trait Documents<'s> {
    /// The document that is meant, with its URI; None where there is none.
    ///
    /// # Errors
    /// Why it cannot be read.
    fn find(&mut self, reference: Reference<'_>) -> Result<Option<(String, Value<'s>)>, Problem>;
}

/// Declarations of namespaces, innermost first.
#[derive(Debug)]
struct Scope<'s> {
    bindings: Vec<(&'s str, &'s str)>,
    outer: Option<Rc<Scope<'s>>>,
}

/// An element of a schema document.
#[derive(Clone, Debug)]
pub(super) struct Node<'s> {
    pub(super) element: &'s Element<'s>,
    pub(super) origin: Origin,
    scope: Rc<Scope<'s>>,
    /// The number of its document.
    pub(super) document: usize,
}

impl<'s> Node<'s> {
    fn new(
        element: &'s Element<'s>,
        origin: Origin,
        outer: Option<&Rc<Scope<'s>>>,
        document: usize,
    ) -> Self {
        let declared = element.attributes.iter().filter(|a| a.name.declares_namespace());
        let bindings: Vec<(&str, &str)> = declared
            .map(|a| (a.name.qualified().strip_prefix("xmlns:").unwrap_or_default(), a.value))
            .collect();
        let scope = match outer {
            Some(outer) if bindings.is_empty() => outer.clone(),
            outer => Rc::new(Scope { bindings, outer: outer.cloned() }),
        };
        Self { element, origin, scope, document }
    }

    /// Its local name, if it is an element of XML Schema.
    pub(super) fn word(&self) -> &'s str {
        if self.element.name.namespace() == XSD { self.element.name.local() } else { "" }
    }

    /// The elements of XML Schema in it.
    pub(super) fn children(&self) -> impl Iterator<Item = Node<'s>> + use<'s> {
        let (scope, document) = (self.scope.clone(), self.document);
        self.element.children().filter_map(move |child| {
            let element = child.as_element()?;
            let node = Node::new(element, child.origin(), Some(&scope), document);
            (node.element.name.namespace() == XSD).then_some(node)
        })
    }

    /// The child elements of that name.
    pub(super) fn called(&self, word: &'static str) -> impl Iterator<Item = Node<'s>> + use<'s> {
        self.children().filter(move |child| child.word() == word)
    }

    /// The value of an attribute, with the place of it.
    pub(super) fn attribute(&self, name: &str) -> Option<(&'s str, Origin)> {
        let is_it = |a: &&kyanite_tree::Attribute<'s>| {
            a.name.qualified() == name && a.name.namespace().is_empty()
        };
        self.element.attributes.iter().find(is_it).map(|a| (a.value, a.origin))
    }

    /// The value of an attribute, its white space collapsed.
    pub(super) fn token(&self, name: &str) -> Option<(String, Origin)> {
        let (value, origin) = self.attribute(name)?;
        Some((normalized(value, White::Collapse).into_owned(), origin))
    }

    /// What a prefix means here.
    pub(super) fn namespace(&self, prefix: &str) -> Option<&'s str> {
        if prefix == "xml" {
            return Some(XML);
        }
        let mut scope = Some(&self.scope);
        while let Some(here) = scope {
            let own = here.bindings.iter().rev().find(|(known, _)| *known == prefix);
            if let Some((_, uri)) = own {
                return (!uri.is_empty() || prefix.is_empty()).then_some(*uri);
            }
            scope = here.outer.as_ref();
        }
        prefix.is_empty().then_some("")
    }
}

/// A schema document, and what it says of all that is in it.
#[derive(Clone, Debug)]
pub(super) struct SchemaDocument<'s> {
    pub(super) root: Node<'s>,
    /// The namespace of what it declares: its own, or that of the document that includes it.
    pub(super) target: String,
    /// Whether it has taken up the namespace of the one that includes it: names without a namespace are in that, too.
    pub(super) is_adopted: bool,
    pub(super) elements_qualified: bool,
    pub(super) attributes_qualified: bool,
    pub(super) block: Derivations,
    pub(super) is_final: Derivations,
    /// Namespaces that it imports.
    pub(super) imports: HashSet<String>,
}

/// A definition at the top of a document.
#[derive(Clone, Debug)]
pub(super) struct Definition<'s> {
    pub(super) node: Node<'s>,
    /// Whether it stands in a `redefine`.
    pub(super) redefines: bool,
}

/// The symbol spaces of XML Schema (part 1 section 2.5).
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub(super) enum Space {
    Type,
    Element,
    Attribute,
    Group,
    AttributeGroup,
    Notation,
}

impl Space {
    /// The space of what an element at the top defines.
    pub(super) fn of(word: &str) -> Option<Self> {
        Some(match word {
            "simpleType" | "complexType" => Self::Type,
            "element" => Self::Element,
            "attribute" => Self::Attribute,
            "group" => Self::Group,
            "attributeGroup" => Self::AttributeGroup,
            "notation" => Self::Notation,
            _ => return None,
        })
    }

    pub(super) fn word(self) -> &'static str {
        match self {
            Self::Type => "type",
            Self::Element => "element",
            Self::Attribute => "attribute",
            Self::Group => "group",
            Self::AttributeGroup => "attribute group",
            Self::Notation => "notation",
        }
    }
}

/// An expanded name.
pub(super) type Expanded = (String, String);

/// All documents of a schema.
pub(super) struct Collection<'s, 'd> {
    source: &'d mut dyn Documents<'s>,
    pub(super) documents: Vec<SchemaDocument<'s>>,
    /// Documents that were read, by URI and the namespace that they took up.
    known: HashSet<(String, String)>,
    /// Definitions by their names; of those that were redefined the last is the one that counts.
    pub(super) definitions: HashMap<(Space, Expanded), Vec<Definition<'s>>>,
    /// In the order that they were met.
    pub(super) order: Vec<(Space, Expanded)>,
    /// Namespaces whose documents could not be read, and the locations that were tried.
    pub(super) unread: HashMap<String, String>,
    pub(super) problems: Vec<Problem>,
}

impl<'s, 'd> Collection<'s, 'd> {
    pub(super) fn new(source: &'d mut dyn Documents<'s>) -> Self {
        Self {
            source,
            documents: Vec::new(),
            known: HashSet::new(),
            definitions: HashMap::new(),
            order: Vec::new(),
            unread: HashMap::new(),
            problems: Vec::new(),
        }
    }

    pub(super) fn problem(
        &mut self,
        origin: Origin,
        message: impl Into<String>,
        advice: Option<String>,
    ) {
        self.problems.push(Problem::new(origin, message, advice));
    }

    /// Takes up a document and all that it leads to.
    pub(super) fn add(&mut self, uri: &str, root: Value<'s>) {
        // Documents that others lead to are read one after another, not inside each other.
        let mut left = vec![(uri.to_owned(), root, None, false)];
        while let Some((uri, root, adopter, is_redefined)) = left.pop() {
            self.take(&uri, root, adopter, is_redefined, &mut left);
        }
    }

    fn take(
        &mut self,
        uri: &str,
        root: Value<'s>,
        adopter: Option<String>,
        is_redefined: bool,
        left: &mut Vec<(String, Value<'s>, Option<String>, bool)>,
    ) {
        let element = match root {
            Value::Element(_, document) if document.is_document() => document
                .children()
                .next()
                .and_then(|root| Some((root.as_element()?, root.origin()))),
            other => other.as_element().map(|element| (element, other.origin())),
        };
        let Some((element, origin)) = element else {
            self.problem(root.origin(), "this is no XML Schema", None);
            return;
        };
        let number = self.documents.len();
        let root = Node::new(element, origin, None, number);
        if root.word() != "schema" {
            let name = element.name.qualified();
            let message =
                format!("<{name}> is no schema: an XML Schema is <schema> in the namespace {XSD}");
            self.problem(origin, message, None);
            return;
        }
        let own = root.attribute("targetNamespace").map(|(uri, _)| uri.to_owned());
        let target = match (&own, &adopter) {
            (Some(own), Some(adopter)) if own != adopter => {
                let message = format!(
                    "this schema is for the namespace {own}, and the one that includes it for {adopter}"
                );
                self.problem(origin, message, Some("import it instead".into()));
                return;
            }
            (Some(own), _) => own.clone(),
            (None, adopter) => adopter.clone().unwrap_or_default(),
        };
        if !self.known.insert((uri.to_owned(), target.clone())) && !is_redefined {
            return;
        }
        let qualified = |name: &str| root.token(name).is_some_and(|(word, _)| word == "qualified");
        let document = SchemaDocument {
            is_adopted: own.is_none() && !target.is_empty(),
            target: target.clone(),
            elements_qualified: qualified("elementFormDefault"),
            attributes_qualified: qualified("attributeFormDefault"),
            block: self.derivations(&root, "blockDefault"),
            is_final: self.derivations(&root, "finalDefault"),
            imports: HashSet::new(),
            root: root.clone(),
        };
        self.documents.push(document);
        for child in root.children() {
            match child.word() {
                "include" | "redefine" => self.include(&child, uri, &target, left),
                "import" => self.import(&child, uri, &target, left),
                _ => self.define(child, false),
            }
        }
    }

    fn include(
        &mut self,
        node: &Node<'s>,
        base: &str,
        target: &str,
        left: &mut Vec<(String, Value<'s>, Option<String>, bool)>,
    ) {
        let redefines = node.word() == "redefine";
        let Some((location, origin)) = node.token("schemaLocation") else {
            self.problem(node.origin, format!("<{}> needs a schemaLocation", node.word()), None);
            return;
        };
        let reference = Reference { namespace: Some(target), location: Some(&location), base };
        match self.source.find(reference) {
            Ok(Some((uri, root))) => {
                if redefines {
                    // What is redefined has to be there before.
                    let mut inner = vec![(uri, root, Some(target.to_owned()), true)];
                    while let Some((uri, root, adopter, is_redefined)) = inner.pop() {
                        let is_known = self.known.contains(&(uri.clone(), target.to_owned()));
                        if !is_known {
                            self.take(&uri, root, adopter, is_redefined, &mut inner);
                        }
                    }
                } else {
                    left.push((uri, root, Some(target.to_owned()), false));
                }
            }
            Ok(None) => self.missing(&location, base, origin),
            Err(problem) => self.problems.push(problem),
        }
        if redefines {
            for child in node.children().filter(|child| child.word() != "annotation") {
                self.define(child, true);
            }
        }
    }

    fn missing(&mut self, location: &str, base: &str, origin: Origin) {
        let uri = resolve(location, base).unwrap_or_else(|| location.to_owned());
        let message = format!("the schema refers to {uri}, which is not there");
        self.problems.push(Problem { message, advice: None, origin, missing: Some(uri) });
    }

    fn import(
        &mut self,
        node: &Node<'s>,
        base: &str,
        target: &str,
        left: &mut Vec<(String, Value<'s>, Option<String>, bool)>,
    ) {
        let namespace = node.attribute("namespace").map(|(uri, _)| uri.to_owned());
        if namespace.as_deref().unwrap_or_default() == target {
            let message = "a schema cannot import its own namespace";
            self.problem(node.origin, message, Some("include the document instead".into()));
            return;
        }
        if let Some(document) = self.documents.get_mut(node.document) {
            document.imports.insert(namespace.clone().unwrap_or_default());
        }
        let location = node.token("schemaLocation").map(|(location, _)| location);
        let reference = Reference {
            namespace: Some(namespace.as_deref().unwrap_or_default()),
            location: location.as_deref(),
            base,
        };
        match self.source.find(reference) {
            Ok(Some((uri, root))) => {
                let found = root_target(root);
                if found.as_deref() != namespace.as_deref() && found.is_some() {
                    let found = found.unwrap_or_default();
                    let message = format!(
                        "{uri} is for the namespace {found}, and is imported for {}",
                        namespace.unwrap_or_default()
                    );
                    self.problem(node.origin, message, None);
                    return;
                }
                left.push((uri, root, None, false));
            }
            // It is an error only if something of it is needed (section 4.2.3).
            Ok(None) => {
                let looked_for =
                    location.and_then(|location| resolve(&location, base).or(Some(location)));
                let namespace = namespace.unwrap_or_default();
                let looked_for = looked_for.unwrap_or_else(|| namespace.clone());
                self.unread.entry(namespace).or_insert(looked_for);
            }
            Err(problem) => self.problems.push(problem),
        }
    }

    /// Takes up a definition at the top of a document.
    fn define(&mut self, node: Node<'s>, redefines: bool) {
        // What cannot stand here is said where the form of documents is checked.
        let Some(space) = Space::of(node.word()) else { return };
        let Some((name, origin)) = node.token("name") else {
            let message = format!("<{}> at the top of a schema needs a name", node.word());
            self.problem(node.origin, message, None);
            return;
        };
        let target = self.documents.get(node.document).map(|document| document.target.clone());
        let key = (space, (target.unwrap_or_default(), name.clone()));
        let there = self.definitions.entry(key.clone()).or_default();
        match (there.is_empty(), redefines) {
            (true, true) => {
                let message = format!("there is no {} {name:?} to redefine", space.word());
                self.problem(origin, message, None);
                return;
            }
            (false, false) => {
                // A document that is included twice, by two ways, is the same.
                if there.iter().any(|known| known.node.origin == node.origin) {
                    return;
                }
                let message = format!("the {} {name:?} is defined twice", space.word());
                self.problem(origin, message, Some("take one away, or rename it".into()));
                return;
            }
            _ => {}
        }
        if there.is_empty() {
            self.order.push(key);
        }
        there.push(Definition { node, redefines });
    }

    /// The derivations that an attribute lists.
    pub(super) fn derivations(&mut self, node: &Node<'s>, name: &str) -> Derivations {
        let Some((words, origin)) = node.token(name) else { return Derivations::NONE };
        let all = [
            Derivations::EXTENSION,
            Derivations::RESTRICTION,
            Derivations::SUBSTITUTION,
            Derivations::LIST,
            Derivations::UNION,
        ];
        let mut found = Derivations::NONE;
        for word in words.split(' ').filter(|word| !word.is_empty()) {
            match Derivations::named(word) {
                Some(one) => found = found.with(one),
                None if word == "#all" => {
                    found = all.into_iter().fold(found, Derivations::with);
                }
                None => {
                    let message = format!("{word:?} in {name} is no derivation");
                    let advice =
                        "there are: extension, restriction, substitution, list, union, #all";
                    self.problem(origin, message, Some(advice.into()));
                }
            }
        }
        found
    }
}

/// The namespace that a schema document is for; None where it is for none, or is no schema.
fn root_target(root: Value<'_>) -> Option<String> {
    let element = root.as_element()?;
    let element =
        if element.is_document() { element.children().next()?.as_element()? } else { element };
    element.attribute("targetNamespace").map(|attribute| attribute.value.to_owned())
}
