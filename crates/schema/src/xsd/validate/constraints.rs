//! What identity constraints see of the elements of a document.

use kyanite_tree::{Attribute, Name, Origin};

use super::{Found, Mode, Places, Validator};
use crate::xsd::builtin::ANY_SIMPLE;
use crate::xsd::components::{ElementId, SimpleId, TypeId};
use crate::xsd::identity::{Kind, Path};
use crate::xsd::keys::{Begun, Broken, Field, FieldValue, Met};
use crate::{Finding, RulePlace};

impl<'s> Validator<'s> {
    pub(super) fn begin_keys(
        &mut self,
        name: Name<'_>,
        declared: Option<ElementId>,
        mode: Mode,
        attributes: &[Attribute<'_>],
        (origin, places): (Origin, Places<'_>),
    ) {
        let constraints = declared.map_or(&[][..], |id| &self.components.element(id).constraints);
        if self.keys.is_idle() && constraints.is_empty() {
            return;
        }
        if !constraints.is_empty()
            && let Some(learning) = &mut self.learning
        {
            learning.refuse();
        }
        let mut keys = std::mem::take(&mut self.keys);
        // Levels count from the element on which the first constraint stands.
        let mut broken = Vec::new();
        let met = || Met { shown: String::new(), origin, at: places(origin), path: String::new() };
        let values = |path: &Path, each: &mut dyn FnMut(FieldValue)| {
            self.field_values(path, mode, attributes, each);
        };
        let begun = Begun {
            namespace: name.namespace(),
            local: name.local(),
            constraints,
            met: &met,
            attributes: &values,
        };
        keys.begin(self.components, &begun, &mut broken);
        self.keys = keys;
        self.tell_broken(broken);
    }

    /// Gives the values of the attributes that a field means, those that are given by the schema among them.
    fn field_values(
        &self,
        path: &Path,
        mode: Mode,
        attributes: &[Attribute<'_>],
        each: &mut dyn FnMut(FieldValue),
    ) {
        let Some(test) = &path.attribute else { return };
        let components = self.components;
        let complex = match mode {
            Mode::Typed(TypeId::Complex(id)) => Some(components.complex(id)),
            _ => None,
        };
        for attribute in attributes.iter().filter(|attribute| !attribute.name.declares_namespace())
        {
            let (namespace, local) = (attribute.name.namespace(), attribute.name.local());
            if !test.fits(namespace, local) {
                continue;
            }
            let id = components.names.find(namespace, local);
            let used = complex.zip(id).and_then(|(complex, id)| complex.attribute(id));
            let declared = used.map(|used| &used.declaration);
            let declared = declared.or_else(|| components.global_attributes.get(&id?));
            let of_type = declared.map_or(ANY_SIMPLE, |declared| declared.of_type);
            each(self.field_value(of_type, attribute.value, attribute.origin));
        }
        for used in complex.into_iter().flat_map(|complex| &complex.attributes) {
            let declared = &used.declaration;
            let (namespace, local) =
                (components.names.namespace(declared.name), components.names.local(declared.name));
            let is_there = || {
                attributes
                    .iter()
                    .any(|a| a.name.local() == local && a.name.namespace() == namespace)
            };
            if let Some(given) = &declared.given
                && test.fits(namespace, local)
                && !is_there()
            {
                each(self.field_value(declared.of_type, &given.text, Origin::NONE));
            }
        }
    }

    /// The value of a field that a text spells, which is at `origin` if it is written.
    pub(super) fn field_value(&self, id: SimpleId, text: &str, origin: Origin) -> FieldValue {
        let mut key = String::new();
        let prefixes = |prefix: &str| self.namespace(prefix);
        self.components.simple.write_key(id, text, &prefixes, &mut key)?;
        Some(Field::new(key, text.trim(), id, origin))
    }

    pub(super) fn end_keys(&mut self) {
        if self.keys.is_idle() {
            return;
        }
        let mut keys = std::mem::take(&mut self.keys);
        let Some(frame) = self.frames.last() else { return };
        let text_type = match frame.mode {
            Mode::Typed(id) => self.components.text_type(id),
            _ => None,
        };
        let given = frame.declared.and_then(|id| self.components.element(id).given.as_ref());
        let (is_nil, text) = (frame.is_nil, &self.texts[frame.text_start..]);
        let origin = frame.text_origin;
        let value = || {
            let id = text_type.filter(|_| !is_nil)?;
            let text = match given {
                Some(given) if text.is_empty() => given.text.as_str(),
                _ => text,
            };
            self.field_value(id, text, origin)
        };
        let mut broken = Vec::new();
        let path = || self.path_of(None);
        keys.end(self.components, (&value, &path), &mut broken);
        self.keys = keys;
        self.tell_broken(broken);
    }

    pub(super) fn tell_broken(&mut self, broken: Vec<Broken>) {
        for Broken { message, constraint, met, above } in broken {
            let path = above.map_or(met.path, |above| self.path_above(above));
            let constraint = &self.components.constraints[constraint.0];
            let keyword = match constraint.kind {
                Kind::Unique => "unique",
                Kind::Key => "key",
                Kind::Reference(_) => "keyref",
            };
            let rule = RulePlace { origin: constraint.origin, keyword };
            let finding = Finding { message, advice: None, origin: met.origin, rule, unit: None };
            self.found.push(Found { finding, path, at: Some(met.at) });
        }
    }
}
