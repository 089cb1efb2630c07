//! Elements that schemas declare, with their types, values and constraints (part 1 section 3.3).

use kyanite_tree::{Origin, counted, near_words};

use super::Compiler;
use crate::xsd::components::{
    ANY_TYPE, ConstraintId, ElementDeclaration, ElementId, Given, TypeId,
};
use crate::xsd::documents::{Definition, Expanded, Node, Space};
use crate::xsd::identity::{Constraint, Kind, paths};
use crate::xsd::simple::shown;
use crate::xsd::value::is_nc_name;

impl<'s> Compiler<'s, '_> {
    /// The element declaration of a name.
    pub(in crate::xsd) fn global_element(
        &mut self,
        name: &Expanded,
        origin: Origin,
    ) -> Option<ElementId> {
        match self.elements.get(name) {
            Some(Some(known)) => return Some(*known),
            Some(None) => {
                self.problem(
                    origin,
                    format!("the element {:?} stands in for itself", name.1),
                    None,
                );
                return None;
            }
            None => {}
        }
        let Definition { node, .. } = self.definition(&(Space::Element, name.clone(), 0))?;
        self.elements.insert(name.clone(), None);
        for attribute in ["ref", "form", "minOccurs", "maxOccurs"] {
            self.refuse_at_top(&node, attribute);
        }
        let head = node.token("substitutionGroup").and_then(|(head, origin)| {
            let head = self.expand(&node, &head, origin)?;
            self.find(Space::Element, &node, &head, origin)?;
            self.global_element(&head, origin)
        });
        let id = self.declare_element(&node, name, head);
        self.elements.insert(name.clone(), Some(id));
        let name = self.components.elements[id.0].name;
        self.components.global_elements.insert(name, id);
        Some(id)
    }

    pub(super) fn refuse_at_top(&mut self, node: &Node<'s>, attribute: &str) {
        if let Some((_, origin)) = node.attribute(attribute) {
            let message =
                format!("{attribute} cannot stand on <{}> at the top of a schema", node.word());
            self.problem(origin, message, None);
        }
    }

    /// Refuses a type that is both named and defined in place.
    pub(super) fn refuse_two_types(
        &mut self,
        named: Option<&(String, Origin)>,
        inner: Option<&Node<'s>>,
    ) {
        if let (Some((_, origin)), Some(_)) = (named, inner) {
            let message = "the type is given twice: by an attribute, and inside the element";
            self.problem(*origin, message, Some("take one away".into()));
        }
    }

    /// Declares an element; its type may be completed later.
    pub(in crate::xsd) fn declare_element(
        &mut self,
        node: &Node<'s>,
        (namespace, local): &Expanded,
        head: Option<ElementId>,
    ) -> ElementId {
        if !is_nc_name(local) {
            self.problem(node.origin, format!("{} is no name of an element", shown(local)), None);
        }
        let document = &self.collection.documents[node.document];
        let (usual_block, usual_final) = (document.block, document.is_final);
        let name = self.components.names.intern(namespace, local);
        let id = ElementId(self.components.elements.len());
        let flag = |compiler: &mut Self, attribute: &str| compiler.boolean(node, attribute);
        let (is_nillable, is_abstract) = (flag(self, "nillable"), flag(self, "abstract"));
        let block = match node.token("block") {
            Some(_) => self.collection.derivations(node, "block"),
            None => usual_block,
        };
        let is_final = match node.token("final") {
            Some(_) => self.collection.derivations(node, "final"),
            None => usual_final,
        };
        let given = self.given_value(node);
        self.document(node);
        // Its own number is known before what is in it is read.
        self.components.elements.push(ElementDeclaration {
            name,
            of_type: TypeId::Complex(ANY_TYPE),
            is_nillable,
            given,
            is_abstract,
            block,
            is_final,
            head,
            constraints: Vec::new(),
            origin: node.origin,
        });
        let inner =
            node.children().find(|child| matches!(child.word(), "simpleType" | "complexType"));
        let named = node.token("type");
        self.refuse_two_types(named.as_ref(), inner.as_ref());
        let of_type = match (named, inner) {
            (Some((name, origin)), _) => self.type_named(node, &name, origin),
            (None, Some(inner)) if inner.word() == "simpleType" => {
                Some(TypeId::Simple(self.define_simple(&inner, None)))
            }
            (None, Some(inner)) => {
                let name = Some(format!("the type of <{local}>"));
                Some(TypeId::Complex(self.declare_complex(&inner, name, None)))
            }
            (None, None) => head.map(|head| self.components.element(head).of_type),
        };
        let of_type = of_type.unwrap_or(TypeId::Complex(ANY_TYPE));
        if let Some(given) = self.components.elements[id.0].given.clone() {
            self.given.push((of_type, given, node.clone()));
        }
        let constraints = self.constraints(node);
        let made = &mut self.components.elements[id.0];
        (made.of_type, made.constraints) = (of_type, constraints);
        id
    }

    /// The value that a declaration gives.
    pub(in crate::xsd) fn given_value(&mut self, node: &Node<'s>) -> Option<Given> {
        let fixed = node.attribute("fixed");
        let default = node.attribute("default");
        if let (Some((_, origin)), Some(_)) = (fixed, default) {
            self.problem(
                origin,
                "a value cannot be both fixed and a default",
                Some("take one away".into()),
            );
        }
        let (text, origin) = fixed.or(default)?;
        Some(Given { text: text.to_owned(), is_fixed: fixed.is_some(), origin })
    }

    /// The identity constraints of an element.
    pub(super) fn constraints(&mut self, node: &Node<'s>) -> Vec<ConstraintId> {
        let mut found = Vec::new();
        for child in node.children().filter(|c| matches!(c.word(), "unique" | "key" | "keyref")) {
            let Some((name, _)) = child.token("name") else {
                self.problem(child.origin, format!("<{}> needs a name", child.word()), None);
                continue;
            };
            let target = self.collection.documents[child.document].target.clone();
            let name = self.components.names.intern(&target, &name);
            let read = |compiler: &mut Self, node: &Node<'s>, is_field: bool| {
                let Some((text, origin)) = node.attribute("xpath") else {
                    compiler.problem(
                        node.origin,
                        format!("<{}> needs an xpath", node.word()),
                        None,
                    );
                    return None;
                };
                match paths(text, node, is_field) {
                    Ok(paths) => Some((paths, text.to_owned())),
                    Err(why) => {
                        let message = format!(
                            "{} cannot be the path of a <{}>: {why}",
                            shown(text),
                            node.word()
                        );
                        let advice = "paths are made of names, *, ., .//, | and, at the end of a field, @name";
                        compiler.problem(origin, message, Some(advice.into()));
                        None
                    }
                }
            };
            let Some(selector) =
                child.called("selector").next().and_then(|node| read(self, &node, false))
            else {
                continue;
            };
            let fields: Vec<(Vec<_>, String)> =
                child.called("field").filter_map(|node| read(self, &node, true)).collect();
            if fields.is_empty() {
                self.problem(child.origin, format!("<{}> needs a <field>", child.word()), None);
                continue;
            }
            let written: Vec<&str> = fields.iter().map(|(_, written)| written.as_str()).collect();
            let written = written.join(", ");
            let id = ConstraintId(self.components.constraints.len());
            let kind = match child.word() {
                "unique" => Kind::Unique,
                "key" => Kind::Key,
                _ => {
                    let Some((refer, origin)) = child.token("refer") else {
                        self.problem(child.origin, "<keyref> needs refer", None);
                        continue;
                    };
                    let Some(expanded) = self.expand(&child, &refer, origin) else { continue };
                    let refer = self.components.names.intern(&expanded.0, &expanded.1);
                    self.references.push((id, refer, origin));
                    Kind::Reference(id)
                }
            };
            let is_known = self.components.constraints.iter().any(|known| known.name == name);
            if is_known {
                let name = self.shown_name(name);
                self.problem(
                    child.origin,
                    format!("two identity constraints are called {name:?}"),
                    None,
                );
            }
            let fields = fields.into_iter().map(|(paths, _)| paths).collect();
            let (selector, is_referred, origin) = (selector.0, false, child.origin);
            self.components.constraints.push(Constraint {
                name,
                kind,
                selector,
                fields,
                written,
                is_referred,
                origin,
            });
            found.push(id);
        }
        found
    }

    /// Has keyrefs refer to what they name.
    pub(super) fn settle_references(&mut self) {
        for (id, refer, origin) in std::mem::take(&mut self.references) {
            let all = &self.components.constraints;
            let found = all
                .iter()
                .position(|known| known.name == refer && !matches!(known.kind, Kind::Reference(_)));
            let Some(found) = found else {
                let local = self.components.names.local(refer).to_owned();
                let names: Vec<&str> =
                    all.iter().map(|known| self.components.names.local(known.name)).collect();
                let advice = near_words(&local, names.iter().copied());
                self.problem(origin, format!("no key is called {local:?}"), advice);
                continue;
            };
            let (wanted, there) = (all[found].fields.len(), all[id.0].fields.len());
            if wanted != there {
                let message = format!(
                    "the key has {}, and this reference to it {there}",
                    counted(wanted, "field")
                );
                self.problem(origin, message, None);
            }
            self.components.constraints[id.0].kind = Kind::Reference(ConstraintId(found));
            self.components.constraints[found].is_referred = true;
        }
    }
}
