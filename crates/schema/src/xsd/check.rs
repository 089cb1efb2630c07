//! What has to hold of components once all are there: derivations, substitutions, models and given values
//! (XSD 1.0 part 1, the constraints on schemas).

use std::collections::HashMap;

use foldhash::fast::RandomState;
use kyanite_tree::Origin;

use super::compile::Compiler;
use super::complex::{is_within, lets_in};
use super::components::{
    ANY_TYPE, ComplexId, ComplexType, Components, Content, Derivations, ElementId, NameId, TypeId,
};
use super::model::{Leaf, Wider, ambiguous, wider};
use super::simple::{Role, shown};

impl Compiler<'_, '_> {
    /// Checks all components, and settles what elements can stand in for others.
    pub(super) fn check(&mut self) {
        self.settle_substitutes();
        let mut models = std::mem::take(&mut self.components.models);
        models.iter_mut().for_each(|model| model.settle_names(&self.components));
        self.components.models = models;
        self.check_given();
        for number in 0..self.components.complex.len() {
            let id = ComplexId(number);
            self.check_model(id);
            self.check_identifiers(id);
            if id != ANY_TYPE && self.components.complex(id).method == Derivations::RESTRICTION {
                self.check_restriction(id);
            }
        }
    }

    /// Finds for each head all elements that can stand in for it (section 3.3.6).
    fn settle_substitutes(&mut self) {
        let mut all: HashMap<ElementId, Vec<ElementId>, RandomState> = HashMap::default();
        for number in 0..self.components.elements.len() {
            let id = ElementId(number);
            let of_type = self.components.element(id).of_type;
            let mut head = self.components.element(id).head;
            let mut is_first = true;
            while let Some(above) = head {
                let known = self.components.element(above).clone();
                let methods = self.components.derived(of_type, known.of_type);
                let Some(methods) = methods else {
                    if is_first {
                        let (own, theirs) = (
                            self.components.type_name(of_type),
                            self.components.type_name(known.of_type),
                        );
                        let message = format!(
                            "this element cannot stand in for <{}>: its type, {own}, is not derived from {theirs}",
                            self.components.names.local(known.name)
                        );
                        let origin = self.components.element(id).origin;
                        self.problem(origin, message, None);
                    }
                    break;
                };
                if is_first && known.is_final.has(methods) {
                    let message = format!(
                        "<{}> is final: no element whose type is derived so can stand in for it",
                        self.components.names.local(known.name)
                    );
                    let origin = self.components.element(id).origin;
                    self.problem(origin, message, None);
                }
                let blocked = known.block.with(block_of(&self.components, known.of_type));
                if !known.block.has(Derivations::SUBSTITUTION) && !blocked.has(methods) {
                    all.entry(above).or_default().push(id);
                }
                head = known.head;
                is_first = false;
            }
        }
        self.components.substitutes = all;
    }

    /// Checks default and fixed values against their types (sections 3.2.6 and 3.3.6).
    fn check_given(&mut self) {
        for (of_type, given, node) in std::mem::take(&mut self.given) {
            let text_type = match of_type {
                TypeId::Simple(id) => Some(id),
                TypeId::Complex(id) => match self.components.complex(id).content {
                    Content::Simple(id) => Some(id),
                    Content::Elements(model) if self.components.complex(id).is_mixed => {
                        if !super::model::Run::new(&self.components.models[model])
                            .may_end(super::model::Run::start(&self.components.models[model]))
                        {
                            let message =
                                "an element that needs others in it can have no such value";
                            self.problem(given.origin, message, None);
                        }
                        None
                    }
                    _ => {
                        let message = "an element without text can have no such value";
                        self.problem(given.origin, message, None);
                        None
                    }
                },
            };
            let Some(id) = text_type else { continue };
            if self.simple().role(id) == Role::Id {
                let message = "an identifier can have no such value: there would be two of it";
                self.problem(given.origin, message, None);
                continue;
            }
            let prefixes = |prefix: &str| node.namespace(prefix).map(str::to_owned);
            if let Err(wrong) = self.simple().check(id, &given.text, &prefixes, &mut Vec::new()) {
                let message = format!(
                    "the value {} is none of the type: {}",
                    shown(&given.text),
                    wrong.message
                );
                self.problem(given.origin, message, wrong.advice);
            }
        }
    }

    /// Refuses models in which one cannot tell which particle an element is, or one name has two types.
    fn check_model(&mut self, id: ComplexId) {
        let complex = self.components.complex(id);
        let Content::Elements(number) = complex.content else { return };
        let (model, origin) = (&self.components.models[number], complex.origin);
        let mut types: HashMap<NameId, (TypeId, Origin)> = HashMap::new();
        let mut found = None;
        for (leaf, origin) in &model.leaves {
            let Leaf::Element(id) = leaf else { continue };
            let declared = self.components.element(*id);
            match types.get(&declared.name) {
                Some((known, _)) if *known != declared.of_type => {
                    let name = self.components.names.local(declared.name);
                    let message = format!("<{name}> has two types in one content");
                    found = Some((
                        *origin,
                        message,
                        "elements of one name have one type where they stand beside each other",
                    ));
                    break;
                }
                Some(_) => {}
                None => {
                    types.insert(declared.name, (declared.of_type, *origin));
                }
            }
        }
        let twice = ambiguous(model, &self.components).map(|(_, second)| {
            let (leaf, place) = &model.leaves[second as usize];
            let what = match leaf {
                Leaf::Element(id) => {
                    format!("<{}>", self.components.names.local(self.components.element(*id).name))
                }
                Leaf::Wildcard(wildcard) => wildcard.namespaces.phrase(),
            };
            let message = format!(
                "it cannot be told which particle {what} is here: another one fits the same element"
            );
            (if place.is_known() { *place } else { origin }, message)
        });
        if let Some((origin, message, advice)) = found {
            self.problem(origin, message, Some(advice.into()));
        }
        if let Some((origin, message)) = twice {
            let advice =
                "write it so that the next element alone decides (Unique Particle Attribution)";
            self.problem(origin, message, Some(advice.into()));
        }
    }

    /// A type has one identifier at most (section 3.4.6).
    fn check_identifiers(&mut self, id: ComplexId) {
        let complex = self.components.complex(id);
        let is_id = |used: &&super::components::AttributeUse| {
            self.components.simple.role(used.declaration.of_type) == Role::Id
        };
        if let Some(second) = complex.attributes.iter().filter(is_id).nth(1) {
            let origin = second.declaration.origin;
            self.problem(origin, "a type can have one attribute of type xs:ID only", None);
        }
    }

    /// Whether a complex type is a restriction of its base (section 3.4.6, Derivation Valid (Restriction, Complex)).
    fn check_restriction(&mut self, id: ComplexId) {
        let complex = self.components.complex(id).clone();
        let TypeId::Complex(base_id) = complex.base else { return };
        let base = self.components.complex(base_id).clone();
        if base_id != ANY_TYPE {
            self.check_attributes(&complex, &base);
        }
        let origin = complex.origin;
        let is_emptiable = |components: &Components, content: &Content| match content {
            Content::Empty => true,
            Content::Simple(_) => false,
            Content::Elements(model) => {
                let model = &components.models[*model];
                super::model::Run::new(model).may_end(super::model::Run::start(model))
            }
        };
        let fault = match (&complex.content, &base.content) {
            _ if base_id == ANY_TYPE => None,
            (Content::Simple(own), Content::Simple(theirs)) => {
                (!self.components.simple.is_derived(*own, *theirs))
                    .then(|| "the type of the text is not derived from that of the base".to_owned())
            }
            (Content::Simple(_), other) => (!base.is_mixed
                || !is_emptiable(&self.components, other))
            .then(|| "the base has elements that cannot be left out".to_owned()),
            (_, Content::Simple(_)) => Some("the base has only text".to_owned()),
            _ if complex.is_mixed && !base.is_mixed => {
                Some("in the base no text may stand between elements".to_owned())
            }
            (Content::Empty, other) => (!is_emptiable(&self.components, other))
                .then(|| "the base has elements that cannot be left out".to_owned()),
            (Content::Elements(own), Content::Empty) => {
                let model = &self.components.models[*own];
                (!model.leaves.is_empty()).then(|| "the base is empty".to_owned())
            }
            (Content::Elements(own), Content::Elements(theirs)) => {
                let models = (&self.components.models[*own], &self.components.models[*theirs]);
                let components = &self.components;
                let name = |id: ElementId| components.names.local(components.element(id).name);
                wider(models, components, &|own, theirs| self.restricts(own, theirs)).map(|why| {
                    match why {
                        Wider::Ends => "less may stand in it than the base needs".to_owned(),
                        Wider::Particle(leaf) => match &models.0.leaves[leaf as usize].0 {
                            Leaf::Element(id) => {
                                format!("<{}> may stand where the base does not have it", name(*id))
                            }
                            Leaf::Wildcard(wildcard) => format!(
                                "{} may stand where the base does not have it",
                                wildcard.namespaces.phrase()
                            ),
                        },
                        Wider::Element(own) => {
                            format!("<{}> is no restriction of what the base has there", name(own))
                        }
                    }
                })
            }
        };
        if let Some(fault) = fault {
            let name = base.name.as_deref().unwrap_or("its base");
            self.problem(origin, format!("this is no restriction of {name}: {fault}"), None);
        }
    }

    /// Whether an element declaration is a restriction of another one (section 3.9.6, NameAndTypeOK).
    fn restricts(&self, own: ElementId, theirs: ElementId) -> bool {
        if own == theirs {
            return true;
        }
        let (own, theirs) = (self.components.element(own), self.components.element(theirs));
        let is_fixed_alike = match theirs.given.as_ref().filter(|given| given.is_fixed) {
            None => true,
            Some(fixed) => own.given.as_ref().is_some_and(|given| {
                given.is_fixed
                    && match self.components.text_type(own.of_type) {
                        Some(id) => self.is_same_value(id, &given.text, &fixed.text),
                        None => given.text == fixed.text,
                    }
            }),
        };
        let methods = self.components.derived(own.of_type, theirs.of_type);
        let is_derived = methods.is_some_and(|methods| !methods.has(Derivations::EXTENSION));
        (theirs.is_nillable || !own.is_nillable) && is_fixed_alike && is_derived
    }

    fn check_attributes(&mut self, complex: &ComplexType, base: &ComplexType) {
        for used in &complex.attributes {
            let declared = &used.declaration;
            let name = self.shown_name(declared.name);
            let fault = match base.attribute(declared.name) {
                Some(known) => {
                    let theirs = &known.declaration;
                    let fixed = theirs.given.as_ref().filter(|given| given.is_fixed);
                    let keeps_fixed = fixed.is_none_or(|fixed| {
                        declared.given.as_ref().is_some_and(|given| {
                            given.is_fixed
                                && self.is_same_value(declared.of_type, &given.text, &fixed.text)
                        })
                    });
                    if known.is_required && !used.is_required {
                        Some("is required in the base")
                    } else if !self.simple().is_derived(declared.of_type, theirs.of_type) {
                        Some("has a type that is not derived from that of the base")
                    } else if !keeps_fixed {
                        Some("has a fixed value in the base")
                    } else {
                        None
                    }
                }
                None if lets_in(
                    base.other_attributes.as_ref(),
                    self.components.names.namespace(declared.name),
                ) =>
                {
                    None
                }
                None => Some("is none of the base"),
            };
            if let Some(fault) = fault {
                self.problem(declared.origin, format!("the attribute {name:?} {fault}"), None);
            }
        }
        for known in base.attributes.iter().filter(|known| known.is_required) {
            if complex.attribute(known.declaration.name).is_none() {
                let name = self.shown_name(known.declaration.name);
                let message = format!(
                    "the attribute {name:?} is required in the base, and cannot be left out"
                );
                self.problem(complex.origin, message, None);
            }
        }
        if let Some(own) = &complex.other_attributes
            && !is_within(own, base.other_attributes.as_ref())
        {
            self.problem(own.origin, "this wildcard has more than that of the base", None);
        }
    }
}

/// The derivations that a type does not let stand in for it.
pub(super) fn block_of(components: &Components, id: TypeId) -> Derivations {
    match id {
        TypeId::Complex(id) => components.complex(id).block,
        TypeId::Simple(_) => Derivations::NONE,
    }
}
