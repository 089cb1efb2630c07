//! What a document type declaration says that readers go by: entities, and the types and defaults of attributes.

use std::collections::{HashMap, HashSet};

/// An entity (XML 1.0 section 4.2).
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Entity<'a> {
    /// Its replacement text.
    Internal(&'a str),
    /// A text outside the document; never fetched.
    External,
    /// Data that is no XML.
    Unparsed,
}

/// An attribute that was declared for an element.
#[derive(Clone, Copy, Debug)]
pub(super) struct Declared<'a> {
    pub(super) name: &'a str,
    /// Whether its type is another than CDATA.
    pub(super) is_tokens: bool,
    pub(super) default: Option<&'a str>,
}

/// The declarations of a document.
#[derive(Clone, Debug, Default)]
pub(super) struct Dtd<'a> {
    general: HashMap<&'a str, Entity<'a>>,
    parameter: HashMap<&'a str, Entity<'a>>,
    attributes: HashMap<&'a str, Vec<Declared<'a>>>,
    /// Elements and attributes that were declared for them.
    known: HashSet<(&'a str, &'a str)>,
    /// Whether some declarations lie outside the document, so that not every name can be known.
    pub(super) has_unread: bool,
    /// Whether the document says that nothing outside it matters.
    pub(super) is_standalone: bool,
}

impl<'a> Dtd<'a> {
    /// The general entity called `name`, and its name as declared.
    pub(super) fn entity(&self, name: &str) -> Option<(&'a str, Entity<'a>)> {
        self.general.get_key_value(name).map(|(name, entity)| (*name, *entity))
    }

    /// The names of unparsed entities, in order.
    pub(super) fn unparsed(&self) -> Vec<&'a str> {
        let all = self.general.iter().filter(|(_, entity)| matches!(entity, Entity::Unparsed));
        let mut names: Vec<&str> = all.map(|(name, _)| *name).collect();
        names.sort_unstable();
        names
    }

    /// The parameter entity called `name`.
    pub(super) fn parameter(&self, name: &str) -> Option<Entity<'a>> {
        self.parameter.get(name).copied()
    }

    /// Whether an undeclared entity may be declared in a part that was not read (section 4.1, Entity Declared).
    pub(super) fn is_open(&self) -> bool {
        self.has_unread && !self.is_standalone
    }

    /// Declares a general entity; the first declaration counts.
    pub(super) fn declare_entity(&mut self, name: &'a str, entity: Entity<'a>) {
        self.general.entry(name).or_insert(entity);
    }

    /// Declares a parameter entity; the first declaration counts.
    pub(super) fn declare_parameter(&mut self, name: &'a str, entity: Entity<'a>) {
        self.parameter.entry(name).or_insert(entity);
    }

    /// Declares an attribute of the element called `element`; the first declaration counts.
    pub(super) fn declare_attribute(&mut self, element: &'a str, declared: Declared<'a>) {
        if self.known.insert((element, declared.name)) {
            self.attributes.entry(element).or_default().push(declared);
        }
    }

    /// Whether attributes were declared for any element.
    pub(super) fn has_attributes(&self) -> bool {
        !self.attributes.is_empty()
    }

    /// The attributes that were declared for an element.
    #[inline]
    pub(super) fn attributes_of(&self, element: &str) -> &[Declared<'a>] {
        if self.attributes.is_empty() {
            return &[];
        }
        self.attributes.get(element).map_or(&[], Vec::as_slice)
    }
}
