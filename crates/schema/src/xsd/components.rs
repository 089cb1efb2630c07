//! What a schema is made of (XSD 1.0 part 1 section 2.2), compiled: components refer to each other by numbers.

use std::collections::{HashMap, HashSet};

use foldhash::fast::RandomState;
use kyanite_tree::Origin;

use super::identity::Constraint;
use super::model::Model;
use super::simple::SimpleTypes;
use super::wildcard::Wildcard;

/// The number of a name.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub(super) struct NameId(pub(super) usize);

/// The number of an element declaration.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub(super) struct ElementId(pub(super) usize);

/// The number of a simple type.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub(super) struct SimpleId(pub(super) usize);

/// The number of a complex type.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub(super) struct ComplexId(pub(super) usize);

/// The number of an identity constraint.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub(super) struct ConstraintId(pub(super) usize);

/// A type.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub(super) enum TypeId {
    Simple(SimpleId),
    Complex(ComplexId),
}

/// Expanded names: namespaces, empty for none, and local names.
#[derive(Debug, Default)]
pub(super) struct Names {
    all: Vec<(String, String)>,
    numbers: HashMap<String, Vec<NameId>, RandomState>,
}

impl Names {
    /// The number of a name, which it gets unless it has one.
    pub(super) fn intern(&mut self, namespace: &str, local: &str) -> NameId {
        if let Some(known) = self.find(namespace, local) {
            return known;
        }
        let id = NameId(self.all.len());
        self.all.push((namespace.to_owned(), local.to_owned()));
        self.numbers.entry(local.to_owned()).or_default().push(id);
        id
    }

    /// The number of a name, if it has one.
    #[inline]
    pub(super) fn find(&self, namespace: &str, local: &str) -> Option<NameId> {
        let same = self.numbers.get(local)?;
        same.iter().copied().find(|id| self.all[id.0].0 == namespace)
    }

    pub(super) fn namespace(&self, id: NameId) -> &str {
        &self.all[id.0].0
    }

    pub(super) fn local(&self, id: NameId) -> &str {
        &self.all[id.0].1
    }
}

/// A set of ways to derive types, or to stand in for elements.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub(super) struct Derivations(u8);

impl Derivations {
    pub(super) const NONE: Self = Self(0);
    pub(super) const EXTENSION: Self = Self(1);
    pub(super) const RESTRICTION: Self = Self(2);
    pub(super) const SUBSTITUTION: Self = Self(4);
    pub(super) const LIST: Self = Self(8);
    pub(super) const UNION: Self = Self(16);

    pub(super) fn with(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }

    pub(super) fn and(self, other: Self) -> Self {
        Self(self.0 & other.0)
    }

    pub(super) fn has(self, other: Self) -> bool {
        self.0 & other.0 != 0
    }

    /// The derivation that a word of the standard names.
    pub(super) fn named(word: &str) -> Option<Self> {
        Some(match word {
            "extension" => Self::EXTENSION,
            "restriction" => Self::RESTRICTION,
            "substitution" => Self::SUBSTITUTION,
            "list" => Self::LIST,
            "union" => Self::UNION,
            _ => return None,
        })
    }
}

/// A value that stands where none is written, or the only one that may.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(super) struct Given {
    pub(super) text: String,
    pub(super) is_fixed: bool,
    pub(super) origin: Origin,
}

/// An element declaration.
#[derive(Clone, Debug)]
pub(super) struct ElementDeclaration {
    pub(super) name: NameId,
    pub(super) of_type: TypeId,
    pub(super) is_nillable: bool,
    pub(super) given: Option<Given>,
    pub(super) is_abstract: bool,
    pub(super) block: Derivations,
    pub(super) is_final: Derivations,
    /// The element that it can stand in for.
    pub(super) head: Option<ElementId>,
    pub(super) constraints: Vec<ConstraintId>,
    pub(super) origin: Origin,
}

/// An attribute declaration.
#[derive(Clone, Debug)]
pub(super) struct AttributeDeclaration {
    pub(super) name: NameId,
    pub(super) of_type: SimpleId,
    pub(super) given: Option<Given>,
    pub(super) origin: Origin,
}

/// An attribute that a complex type has.
#[derive(Clone, Debug)]
pub(super) struct AttributeUse {
    pub(super) declaration: AttributeDeclaration,
    pub(super) is_required: bool,
    /// Whether it is there only to take away one of the base.
    pub(super) is_prohibited: bool,
}

/// What stands in an element.
#[derive(Clone, Debug)]
pub(super) enum Content {
    Empty,
    Simple(SimpleId),
    /// Elements, by the number of the model.
    Elements(usize),
}

/// A complex type.
#[derive(Clone, Debug)]
pub(super) struct ComplexType {
    /// Its name as it is shown; nothing for one without a name.
    pub(super) name: Option<String>,
    pub(super) base: TypeId,
    /// How it is derived from its base.
    pub(super) method: Derivations,
    pub(super) content: Content,
    /// Whether text may stand between elements.
    pub(super) is_mixed: bool,
    /// In the order of their names.
    pub(super) attributes: Vec<AttributeUse>,
    pub(super) other_attributes: Option<Wildcard>,
    pub(super) is_abstract: bool,
    pub(super) block: Derivations,
    pub(super) is_final: Derivations,
    pub(super) origin: Origin,
}

impl ComplexType {
    pub(super) fn attribute(&self, name: NameId) -> Option<&AttributeUse> {
        let at = self.attributes.binary_search_by_key(&name, |used| used.declaration.name).ok()?;
        self.attributes.get(at)
    }
}

/// A compiled schema.
#[derive(Debug, Default)]
pub(super) struct Components {
    pub(super) names: Names,
    pub(super) elements: Vec<ElementDeclaration>,
    pub(super) simple: SimpleTypes,
    pub(super) complex: Vec<ComplexType>,
    pub(super) models: Vec<Model>,
    pub(super) constraints: Vec<Constraint>,
    pub(super) global_elements: HashMap<NameId, ElementId, RandomState>,
    pub(super) global_attributes: HashMap<NameId, AttributeDeclaration, RandomState>,
    /// What the documentation says of elements, attributes and types, by where they are declared.
    pub(super) documentation: HashMap<Origin, String, RandomState>,
    pub(super) global_types: HashMap<NameId, TypeId, RandomState>,
    pub(super) notations: HashSet<NameId>,
    /// For each element that others can stand in for, all of these that may.
    pub(super) substitutes: HashMap<ElementId, Vec<ElementId>, RandomState>,
}

/// The type above all types, by its number.
pub(super) const ANY_TYPE: ComplexId = ComplexId(0);

impl Components {
    pub(super) fn element(&self, id: ElementId) -> &ElementDeclaration {
        &self.elements[id.0]
    }

    pub(super) fn complex(&self, id: ComplexId) -> &ComplexType {
        &self.complex[id.0]
    }

    /// The name of a type in messages.
    pub(super) fn type_name(&self, id: TypeId) -> &str {
        match id {
            TypeId::Simple(id) => self.simple.name(id),
            TypeId::Complex(id) => {
                self.complex(id).name.as_deref().unwrap_or("a type without a name")
            }
        }
    }

    /// The type that a type is derived from, and how; nothing of the type above all.
    pub(super) fn base(&self, id: TypeId) -> Option<(TypeId, Derivations)> {
        match id {
            TypeId::Simple(id) => Some(match self.simple.get(id).base {
                Some(base) => (TypeId::Simple(base), Derivations::RESTRICTION),
                None => (TypeId::Complex(ANY_TYPE), Derivations::RESTRICTION),
            }),
            TypeId::Complex(ANY_TYPE) => None,
            TypeId::Complex(id) => {
                let known = self.complex(id);
                Some((known.base, known.method))
            }
        }
    }

    /// The ways in which a type is derived from another; None where it is not.
    pub(super) fn derived(&self, id: TypeId, from: TypeId) -> Option<Derivations> {
        let (mut at, mut methods) = (id, Derivations::NONE);
        // As many steps as there are types: a schema that failed may have circles.
        for _ in 0..=self.complex.len() + self.simple.0.len() {
            if at == from {
                return Some(methods);
            }
            if let (TypeId::Simple(own), TypeId::Simple(from)) = (at, from)
                && self.simple.is_derived(own, from)
            {
                return Some(methods.with(Derivations::RESTRICTION));
            }
            let (base, method) = self.base(at)?;
            (at, methods) = (base, methods.with(method));
        }
        None
    }

    /// The simple type of the text of elements of a type, if they have only text.
    pub(super) fn text_type(&self, id: TypeId) -> Option<SimpleId> {
        match id {
            TypeId::Simple(id) => Some(id),
            TypeId::Complex(id) => match self.complex(id).content {
                Content::Simple(id) => Some(id),
                _ => None,
            },
        }
    }
}
