//! Attributes and texts against their types (XSD 1.0 part 1 sections 3.2.4 and 3.4.4).

use std::cell::Cell;

use kyanite_tree::{Attribute, Origin, near_words};

use super::{Mode, Places, SHOWN_NAMES, Validator};
use crate::RulePlace;
use crate::xsd::components::{AttributeDeclaration, ComplexType, Given, NameId, SimpleId, TypeId};
use crate::xsd::documents::XSI;
use crate::xsd::keys::Met;
use crate::xsd::simple::{Role, Wrong, shown};
use crate::xsd::wildcard::Process;

impl<'s> Validator<'s> {
    /// Checks the attributes of the element that begins.
    pub(super) fn attributes(
        &mut self,
        mode: Mode,
        attributes: &[Attribute<'_>],
        origin: Origin,
        places: Places<'_>,
    ) {
        let components = self.components;
        let complex = match mode {
            Mode::Typed(TypeId::Complex(id)) => Some(components.complex(id)),
            _ => None,
        };
        let mut met = std::mem::take(&mut self.met);
        met.clear();
        for attribute in attributes {
            if attribute.name.declares_namespace() || attribute.name.namespace() == XSI {
                continue;
            }
            let id = components.names.find(attribute.name.namespace(), attribute.name.local());
            let used = complex.zip(id).and_then(|(complex, id)| complex.attribute(id));
            if let Some(used) = used {
                met.extend(id);
                self.attribute(&used.declaration, attribute, places);
                continue;
            }
            let global = id.and_then(|id| components.global_attributes.get(&id));
            let (Mode::Typed(of_type), wildcard) =
                (mode, complex.and_then(|complex| complex.other_attributes.as_ref()))
            else {
                if let Some(global) = global {
                    self.attribute(global, attribute, places);
                }
                continue;
            };
            match wildcard.filter(|it| it.namespaces.has(attribute.name.namespace())) {
                Some(wildcard) => match (wildcard.process, global) {
                    (Process::Strict, None) => {
                        let rule = RulePlace { origin: wildcard.origin, keyword: "anyAttribute" };
                        let message =
                            format!("the schema has no attribute {}", attribute.name.qualified());
                        self.tell_attribute(message, None, attribute, rule);
                    }
                    (Process::Strict | Process::Lax, Some(global)) => {
                        self.attribute(global, attribute, places);
                    }
                    _ => {}
                },
                None => self.odd_attribute(attribute, of_type),
            }
        }
        self.require(complex, &met, attributes, origin);
        self.met = met;
    }

    /// Says which attributes are missing of those that the type of an element needs; it has those that were met.
    fn require(
        &mut self,
        complex: Option<&ComplexType>,
        met: &[NameId],
        attributes: &[Attribute<'_>],
        origin: Origin,
    ) {
        let components = self.components;
        let Some(complex) = complex else { return };
        let missing = complex.attributes.iter().filter(|used| used.is_required);
        // Few are required, and an element has few attributes or a schema that lists them.
        for used in missing.filter(|used| !met.contains(&used.declaration.name)) {
            let name = components.names.local(used.declaration.name);
            let there = attributes.iter().map(|attribute| attribute.name.qualified());
            let advice = near_words(name, there);
            let rule = RulePlace { origin: used.declaration.origin, keyword: "use" };
            self.tell(format!("the attribute {name:?} is missing"), advice, Some(origin), rule);
        }
    }

    /// Says that an attribute may not stand on an element of that type.
    pub(super) fn odd_attribute(&mut self, attribute: &Attribute<'_>, of_type: TypeId) {
        let components = self.components;
        let name = attribute.name.qualified();
        let known: Vec<&str> = match of_type {
            TypeId::Complex(id) => components
                .complex(id)
                .attributes
                .iter()
                .map(|used| components.names.local(used.declaration.name))
                .collect(),
            TypeId::Simple(_) => Vec::new(),
        };
        let advice = near_words(attribute.name.local(), known.iter().copied()).or_else(|| {
            let is_few = !known.is_empty() && known.len() <= SHOWN_NAMES;
            is_few.then(|| format!("there may be: {}", known.join(", ")))
        });
        let message = format!("the attribute {name:?} may not stand here");
        self.tell_attribute(message, advice, attribute, self.type_place(of_type));
    }

    /// Checks the value of an attribute.
    pub(super) fn attribute(
        &mut self,
        declared: &'s AttributeDeclaration,
        attribute: &Attribute<'_>,
        places: Places<'_>,
    ) {
        let value = attribute.value;
        match self.simple(declared.of_type, value) {
            Err(wrong) => {
                self.tell_wrong(wrong, declared.origin, Some(attribute), attribute.origin);
            }
            Ok(()) => {
                let fixed = declared.given.as_ref().filter(|given| given.is_fixed);
                self.note_check(declared.of_type, fixed, attribute.origin);
                self.take_named(attribute.origin, Some(attribute.name.qualified()), places);
                if let Some(fixed) = fixed
                    && !self.is_fixed_value(declared.of_type, value, &fixed.text)
                {
                    let message =
                        format!("expected {}, found {}", shown(&fixed.text), shown(value));
                    let rule = RulePlace { origin: fixed.origin, keyword: "fixed" };
                    self.tell_attribute(message, None, attribute, rule);
                }
            }
        }
    }

    pub(super) fn is_fixed_value(&self, id: SimpleId, text: &str, fixed: &str) -> bool {
        if text == fixed {
            return true;
        }
        let value =
            |text: &str| self.components.simple.value(id, text, &|prefix| self.namespace(prefix));
        match (value(text), value(fixed)) {
            (Some(text), Some(fixed)) => text.is_same(&fixed),
            _ => false,
        }
    }

    /// Checks a text against a simple type; names that it gives or refers to are kept.
    pub(super) fn simple(&mut self, id: SimpleId, text: &str) -> Result<(), Wrong> {
        self.named.clear();
        if self.recent.has(id.0, text) {
            return Ok(());
        }
        let mut named = std::mem::take(&mut self.named);
        // What depends on a prefix may mean something else where the prefix does.
        let has_asked = Cell::new(false);
        let prefixes = |prefix: &str| {
            has_asked.set(true);
            self.namespace(prefix)
        };
        let checked = self.components.simple.check(id, text, &prefixes, &mut named);
        if checked.is_ok() && named.is_empty() && !has_asked.get() {
            self.recent.keep(id.0, text);
        }
        self.named = named;
        checked
    }

    /// Notes for whoever learns that a text is a value of a type. Identifiers are never the same.
    fn note_check(&mut self, of_type: SimpleId, fixed: Option<&'s Given>, origin: Origin) {
        let Some(learning) = &mut self.learning else { return };
        learning.check(of_type, fixed.map(|fixed| fixed.text.as_str()), origin);
        if !self.named.is_empty() {
            learning.refuse();
        }
    }

    /// Takes up identifiers that the last text gave or referred to.
    pub(super) fn take_named(
        &mut self,
        origin: Origin,
        attribute: Option<&str>,
        places: Places<'_>,
    ) {
        if self.named.is_empty() {
            return;
        }
        for (role, name) in std::mem::take(&mut self.named) {
            match role {
                Role::Id if self.identifiers.contains(&name) => {
                    let rule = RulePlace { origin: Origin::NONE, keyword: "ID" };
                    let message = format!("the identifier {name:?} is given twice");
                    let path = self.path_of(attribute);
                    self.push(message, None, origin, rule, path);
                }
                Role::Id => {
                    self.references.remove(&name);
                    self.identifiers.insert(name);
                }
                Role::Reference if !self.identifiers.contains(&name) => {
                    let path = self.path_of(attribute);
                    let met = || Met { shown: String::new(), origin, at: places(origin), path };
                    self.references.entry(name).or_insert_with(met);
                }
                Role::Entity if !self.entities.contains(&name) => {
                    let rule = RulePlace { origin: Origin::NONE, keyword: "ENTITY" };
                    let message =
                        format!("the document declares no unparsed entity that is called {name:?}");
                    let known = self.entities.iter().map(String::as_str);
                    let advice = near_words(&name, known);
                    let path = self.path_of(attribute);
                    self.push(message, advice, origin, rule, path);
                }
                _ => {}
            }
        }
    }

    /// Checks the text of an element that ends.
    pub(super) fn end_text(&mut self, places: Places<'_>) {
        let Some(frame) = self.frames.last() else { return };
        let components = self.components;
        let Mode::Typed(of_type) = frame.mode else { return };
        let declared = frame.declared;
        let given = declared.and_then(|id| components.element(id).given.as_ref());
        let origin = if frame.text_origin.is_known() { frame.text_origin } else { frame.origin };
        let has_elements = frame.model.is_some() && frame.has_content;
        let text_start = frame.text_start;
        let texts = std::mem::take(&mut self.texts);
        let text = &texts[text_start..];
        match components.text_type(of_type) {
            Some(id) => {
                let effective = match given {
                    Some(given) if text.is_empty() => given.text.as_str(),
                    _ => text,
                };
                match self.simple(id, effective) {
                    Err(wrong) => {
                        let declared =
                            declared.map_or(Origin::NONE, |id| components.element(id).origin);
                        self.tell_wrong(wrong, declared, None, origin);
                    }
                    Ok(()) => {
                        let fixed = given.filter(|given| given.is_fixed);
                        self.note_check(id, fixed, origin);
                        self.take_named(origin, None, places);
                        if let Some(fixed) = fixed
                            && !self.is_fixed_value(id, effective, &fixed.text)
                        {
                            self.not_fixed(&fixed.text, effective, origin, fixed.origin);
                        }
                    }
                }
            }
            // Mixed content with a fixed value is just that text.
            None => {
                if let Some(learning) = &mut self.learning {
                    learning.refuse();
                }
                if let Some(fixed) = given.filter(|given| given.is_fixed)
                    && (has_elements || !text.is_empty() && text != fixed.text)
                {
                    self.not_fixed(&fixed.text, text, origin, fixed.origin);
                }
            }
        }
        self.texts = texts;
    }

    pub(super) fn not_fixed(&mut self, fixed: &str, text: &str, origin: Origin, rule: Origin) {
        let message = format!("expected {}, found {}", shown(fixed), shown(text));
        let rule = RulePlace { origin: rule, keyword: "fixed" };
        self.tell(message, None, Some(origin), rule);
    }
}
