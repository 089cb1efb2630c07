//! From schema documents to components: names, elements, attributes and identity constraints (XSD 1.0 part 1 section 3).

mod attributes;
mod elements;

use std::collections::HashMap;

use kyanite_tree::{Origin, near_words};

use super::builtin;
use super::components::{
    ANY_TYPE, ComplexId, ComplexType, Components, ConstraintId, Content, Derivations, ElementId,
    Given, NameId, SimpleId, TypeId,
};
use super::documents::{Collection, Definition, Expanded, Node, Space, XSD};
use super::model::{Particle, Term};
use super::simple::{SimpleTypes, White, normalized, shown};
use super::value::is_nc_name;
use super::wildcard::{Namespaces, Process, Wildcard};
use crate::Problem;

/// Something at the top of the documents, of which redefinitions made several; the last counts.
pub(super) type Level = (Space, Expanded, usize);

/// A compilation under way.
pub(super) struct Compiler<'s, 'd> {
    pub(super) collection: Collection<'s, 'd>,
    pub(super) components: Components,
    /// Types that were asked for; nothing while one is being made.
    types: HashMap<(Expanded, usize), Option<TypeId>>,
    elements: HashMap<Expanded, Option<ElementId>>,
    /// Groups, and those that are being made.
    pub(super) groups: HashMap<(Expanded, usize), Option<Particle>>,
    pub(super) attribute_groups: HashMap<(Expanded, usize), Option<super::complex::Attributes>>,
    /// Complex types that are not made yet, with what defines them.
    pub(super) open: HashMap<ComplexId, (Node<'s>, Option<Level>)>,
    /// Complex types that are being made.
    pub(super) making: Vec<ComplexId>,
    /// The content of complex types, by their numbers.
    pub(super) particles: HashMap<ComplexId, Particle>,
    /// The definitions that are being read, innermost last.
    pub(super) within: Vec<Level>,
    /// References of keyrefs, settled at the end.
    references: Vec<(ConstraintId, NameId, Origin)>,
    /// Default and fixed values, with the node that says them.
    pub(super) given: Vec<(TypeId, Given, Node<'s>)>,
    pub(super) depth: usize,
}

impl<'s, 'd> Compiler<'s, 'd> {
    pub(super) fn new(collection: Collection<'s, 'd>) -> Self {
        let mut components = Components::default();
        for (name, made) in builtin::types() {
            let id = SimpleId(components.simple.0.len());
            let name = components.names.intern(XSD, name);
            components.simple.0.push(made);
            components.global_types.insert(name, TypeId::Simple(id));
        }
        let any_type = components.names.intern(XSD, "anyType");
        components.global_types.insert(any_type, TypeId::Complex(ANY_TYPE));
        let anything =
            |origin| Wildcard { namespaces: Namespaces::Any, process: Process::Lax, origin };
        let any = Particle {
            least: 0,
            most: None,
            term: Term::Wildcard(anything(Origin::NONE)),
            origin: Origin::NONE,
        };
        components.complex.push(ComplexType {
            name: Some("xs:anyType".into()),
            base: TypeId::Complex(ANY_TYPE),
            method: Derivations::RESTRICTION,
            content: Content::Empty,
            is_mixed: true,
            attributes: Vec::new(),
            other_attributes: Some(anything(Origin::NONE)),
            is_abstract: false,
            block: Derivations::NONE,
            is_final: Derivations::NONE,
            origin: Origin::NONE,
        });
        let mut compiler = Self {
            collection,
            components,
            types: HashMap::new(),
            elements: HashMap::new(),
            groups: HashMap::new(),
            attribute_groups: HashMap::new(),
            open: HashMap::new(),
            making: Vec::new(),
            particles: HashMap::new(),
            within: Vec::new(),
            references: Vec::new(),
            given: Vec::new(),
            depth: 0,
        };
        compiler.components.complex[ANY_TYPE.0].content = compiler.content(&any, Origin::NONE);
        compiler.particles.insert(ANY_TYPE, any);
        compiler
    }

    /// Compiles all that the documents define.
    pub(super) fn run(mut self) -> Result<Components, Vec<Problem>> {
        for (space, name) in self.collection.order.clone() {
            let levels =
                self.collection.definitions.get(&(space, name.clone())).map_or(0, Vec::len);
            let Some(level) = levels.checked_sub(1) else { continue };
            match space {
                Space::Type => {
                    self.defined_type(&name, level, Origin::NONE);
                }
                Space::Element => {
                    self.global_element(&name, Origin::NONE);
                }
                Space::Attribute => {
                    self.global_attribute(&name);
                }
                Space::Group => {
                    self.group(&name, level, Origin::NONE);
                }
                Space::AttributeGroup => {
                    self.attribute_group(&name, level, Origin::NONE);
                }
                Space::Notation => {
                    let id = self.components.names.intern(&name.0, &name.1);
                    self.components.notations.insert(id);
                }
            }
        }
        while let Some(id) = self.open.keys().min().copied() {
            self.complete(id);
        }
        self.settle_references();
        if self.collection.problems.is_empty() {
            self.check();
        }
        if !self.collection.problems.is_empty() {
            return Err(self.collection.problems);
        }
        Ok(self.components)
    }

    pub(super) fn problem(
        &mut self,
        origin: Origin,
        message: impl Into<String>,
        advice: Option<String>,
    ) {
        self.collection.problem(origin, message, advice);
    }

    pub(super) fn simple(&self) -> &SimpleTypes {
        &self.components.simple
    }

    /// An expanded name as it is shown.
    pub(super) fn shown_name(&self, name: NameId) -> String {
        self.components.names.local(name).to_owned()
    }

    /// The expanded name that a qualified name at a node means.
    pub(super) fn expand(
        &mut self,
        node: &Node<'s>,
        name: &str,
        origin: Origin,
    ) -> Option<Expanded> {
        let (prefix, local) = name.split_once(':').unwrap_or(("", name));
        if !is_nc_name(local) || (prefix.is_empty() && name.starts_with(':')) {
            self.problem(origin, format!("{} is no name", shown(name)), None);
            return None;
        }
        let Some(namespace) = node.namespace(prefix) else {
            let message = format!("the prefix {prefix:?} is not declared");
            let advice = format!("declare it on the schema: xmlns:{prefix}=\"uri\"");
            self.problem(origin, message, Some(advice));
            return None;
        };
        let document = &self.collection.documents[node.document];
        let namespace = match namespace {
            "" if document.is_adopted => document.target.clone(),
            other => other.to_owned(),
        };
        Some((namespace, local.to_owned()))
    }

    /// The definition that a name means, and which of several; the redefinition itself means the one before it.
    fn level(&self, space: Space, name: &Expanded) -> Option<usize> {
        let all = self.collection.definitions.get(&(space, name.clone()))?;
        let inside = self.within.iter().rev().find(|(within, known, level)| {
            *within == space && known == name && all.get(*level).is_some_and(|it| it.redefines)
        });
        match inside {
            Some((_, _, level)) => level.checked_sub(1),
            None => all.len().checked_sub(1),
        }
    }

    pub(super) fn definition(&self, level: &Level) -> Option<Definition<'s>> {
        let (space, name, number) = level;
        self.collection.definitions.get(&(*space, name.clone()))?.get(*number).cloned()
    }

    /// Finds a definition, or says that there is none.
    pub(super) fn find(
        &mut self,
        space: Space,
        node: &Node<'s>,
        name: &Expanded,
        origin: Origin,
    ) -> Option<usize> {
        if let Some(level) = self.level(space, name) {
            self.need_import(node, name, origin);
            return Some(level);
        }
        let (namespace, local) = name;
        let document = &self.collection.documents[node.document];
        let is_known = *namespace == document.target || document.imports.contains(namespace);
        let word = space.word();
        if let Some(uri) = self.collection.unread.get(namespace).cloned() {
            let message =
                format!("no {word} is called {local:?}: the schema of {namespace} is not there");
            let (advice, missing) = (None, Some(uri));
            self.collection.problems.push(Problem { message, advice, origin, missing });
            return None;
        }
        if !is_known {
            let message = format!(
                "no {word} is called {local:?} in the namespace {namespace:?}, which is not imported"
            );
            let near: Vec<&Expanded> = self
                .collection
                .order
                .iter()
                .filter(|(of, (_, name))| *of == space && name == local)
                .map(|(_, name)| name)
                .collect();
            let advice = match near.first() {
                Some((other, _)) if !other.is_empty() => {
                    format!("there is one in {other}: declare a prefix for that")
                }
                Some(_) => "there is one in no namespace".to_owned(),
                None => "import the namespace".to_owned(),
            };
            self.problem(origin, message, Some(advice));
            return None;
        }
        let same = self
            .collection
            .order
            .iter()
            .filter(|(of, (other, _))| *of == space && other == namespace);
        let known: Vec<&str> = same.map(|(_, (_, local))| local.as_str()).collect();
        let advice = near_words(local, known.iter().copied());
        self.problem(origin, format!("no {word} is called {local:?}"), advice);
        None
    }

    /// Refuses a reference to another namespace that the document does not import (section 3.15.3).
    fn need_import(&mut self, node: &Node<'s>, (namespace, local): &Expanded, origin: Origin) {
        let document = &self.collection.documents[node.document];
        if *namespace != document.target && !document.imports.contains(namespace) {
            let message = format!(
                "{local:?} is in the namespace {namespace:?}, which this document does not import"
            );
            let advice = "import it: <import namespace=\"…\"/>".to_owned();
            self.problem(origin, message, Some(advice));
        }
    }

    /// The type of a name.
    pub(super) fn type_named(
        &mut self,
        node: &Node<'s>,
        name: &str,
        origin: Origin,
    ) -> Option<TypeId> {
        let expanded = self.expand(node, name, origin)?;
        if expanded.0 == XSD {
            let known = self.components.names.find(XSD, &expanded.1);
            let builtin = known.and_then(|id| self.components.global_types.get(&id).copied());
            if let Some(builtin) = builtin {
                return Some(builtin);
            }
            if self.collection.documents[node.document].target != XSD {
                let names = &self.components.names;
                let builtins = self.components.global_types.keys();
                let builtins: Vec<&str> = builtins
                    .filter(|id| names.namespace(**id) == XSD)
                    .map(|id| names.local(*id))
                    .collect();
                let advice = near_words(&expanded.1, builtins.iter().copied());
                let message = format!("no type of XML Schema is called {:?}", expanded.1);
                self.problem(origin, message, advice);
                return None;
            }
        }
        let level = self.find(Space::Type, node, &expanded, origin)?;
        self.defined_type(&expanded, level, origin)
    }

    /// The type that a definition makes. Complex types get a number at once, and are completed when that is needed.
    pub(super) fn defined_type(
        &mut self,
        name: &Expanded,
        level: usize,
        origin: Origin,
    ) -> Option<TypeId> {
        let key = (name.clone(), level);
        match self.types.get(&key) {
            Some(Some(known)) => return Some(*known),
            Some(None) => {
                self.problem(origin, format!("the type {:?} is derived from itself", name.1), None);
                return None;
            }
            None => {}
        }
        let place = (Space::Type, name.clone(), level);
        let Definition { node, .. } = self.definition(&place)?;
        if name.0 == XSD
            && self
                .components
                .names
                .find(XSD, &name.1)
                .is_some_and(|id| self.components.global_types.contains_key(&id))
        {
            // The schema for schemas defines what is built in.
            return None;
        }
        let id = if node.word() == "complexType" {
            let id = self.declare_complex(&node, Some(name.1.clone()), Some(place));
            self.types.insert(key.clone(), Some(TypeId::Complex(id)));
            TypeId::Complex(id)
        } else {
            self.types.insert(key.clone(), None);
            self.within.push(place);
            let id = self.define_simple(&node, Some(name.1.clone()));
            self.within.pop();
            self.types.insert(key.clone(), Some(TypeId::Simple(id)));
            TypeId::Simple(id)
        };
        let is_last = self
            .collection
            .definitions
            .get(&(Space::Type, name.clone()))
            .is_some_and(|all| all.len() == level + 1);
        if is_last {
            let name = self.components.names.intern(&name.0, &name.1);
            self.components.global_types.insert(name, id);
        }
        Some(id)
    }

    /// Keeps what the documentation of a component says: its texts, white space collapsed (XSD 1.0 part 1 section 3.13.2).
    pub(super) fn document(&mut self, node: &Node<'s>) {
        let mut texts = Vec::new();
        for documented in node.called("annotation").flat_map(|it| it.called("documentation")) {
            let mut text = String::new();
            documented.element.string_value(&mut text);
            texts.push(normalized(&text, White::Collapse).into_owned());
        }
        texts.retain(|text| !text.is_empty());
        if !texts.is_empty() {
            self.components.documentation.insert(node.origin, texts.join("\n\n"));
        }
    }

    /// A complex type without content, which is completed later.
    pub(super) fn declare_complex(
        &mut self,
        node: &Node<'s>,
        name: Option<String>,
        level: Option<Level>,
    ) -> ComplexId {
        self.document(node);
        let id = ComplexId(self.components.complex.len());
        self.components.complex.push(ComplexType {
            name,
            base: TypeId::Complex(ANY_TYPE),
            method: Derivations::RESTRICTION,
            content: Content::Empty,
            is_mixed: false,
            attributes: Vec::new(),
            other_attributes: None,
            is_abstract: false,
            block: Derivations::NONE,
            is_final: Derivations::NONE,
            origin: node.origin,
        });
        self.open.insert(id, (node.clone(), level));
        id
    }

    /// An attribute that is `true`, `false`, or not there.
    pub(super) fn boolean(&mut self, node: &Node<'s>, attribute: &str) -> bool {
        match node.token(attribute) {
            None => false,
            Some((word, _)) if matches!(word.as_str(), "true" | "1") => true,
            Some((word, _)) if matches!(word.as_str(), "false" | "0") => false,
            Some((word, origin)) => {
                self.problem(
                    origin,
                    format!("{attribute} takes true or false, and here is {}", shown(&word)),
                    None,
                );
                false
            }
        }
    }
}
