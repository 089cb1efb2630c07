//! Attributes that schemas declare and use, and wildcards (part 1 sections 3.2, 3.5 and 3.10).

use super::Compiler;
use crate::xsd::builtin::ANY_SIMPLE;
use crate::xsd::components::{AttributeDeclaration, AttributeUse, Given, SimpleId, TypeId};
use crate::xsd::documents::{Definition, Expanded, Node, Space, XSI};
use crate::xsd::simple::shown;
use crate::xsd::value::is_nc_name;
use crate::xsd::wildcard::{Namespaces, Process, Wildcard};

impl<'s> Compiler<'s, '_> {
    /// The attribute declaration of a name at the top.
    pub(in crate::xsd) fn global_attribute(
        &mut self,
        name: &Expanded,
    ) -> Option<AttributeDeclaration> {
        let id = self.components.names.intern(&name.0, &name.1);
        if let Some(known) = self.components.global_attributes.get(&id) {
            return Some(known.clone());
        }
        let Definition { node, .. } = self.definition(&(Space::Attribute, name.clone(), 0))?;
        for attribute in ["ref", "form", "use"] {
            self.refuse_at_top(&node, attribute);
        }
        let made = self.declare_attribute(&node, name);
        self.components.global_attributes.insert(id, made.clone());
        Some(made)
    }

    fn declare_attribute(
        &mut self,
        node: &Node<'s>,
        (namespace, local): &Expanded,
    ) -> AttributeDeclaration {
        if !is_nc_name(local) || local == "xmlns" {
            self.problem(node.origin, format!("{} is no name of an attribute", shown(local)), None);
        }
        if namespace == XSI {
            self.problem(node.origin, "attributes of this namespace cannot be declared", None);
        }
        let inner = node.called("simpleType").next();
        let named = node.token("type");
        self.refuse_two_types(named.as_ref(), inner.as_ref());
        let of_type = match (named, inner) {
            (Some((name, origin)), _) => self.simple_named(node, &name, origin),
            (None, Some(inner)) => Some(self.define_simple(&inner, None)),
            (None, None) => None,
        };
        let of_type = of_type.unwrap_or(ANY_SIMPLE);
        let given = self.given_value(node);
        if let Some(given) = &given {
            self.given.push((TypeId::Simple(of_type), given.clone(), node.clone()));
        }
        self.document(node);
        let name = self.components.names.intern(namespace, local);
        AttributeDeclaration { name, of_type, given, origin: node.origin }
    }

    /// An attribute in a complex type or a group.
    pub(in crate::xsd) fn attribute_use(&mut self, node: &Node<'s>) -> Option<AttributeUse> {
        let (is_required, is_prohibited) = match node.token("use") {
            None => (false, false),
            Some((word, origin)) => match word.as_str() {
                "optional" => (false, false),
                "required" => (true, false),
                "prohibited" => (false, true),
                _ => {
                    let message = format!(
                        "use takes optional, required or prohibited, and here is {}",
                        shown(&word)
                    );
                    self.problem(origin, message, None);
                    (false, false)
                }
            },
        };
        let declaration = match (node.token("ref"), node.token("name")) {
            (Some((name, origin)), None) => {
                for attribute in ["form", "type"] {
                    if let Some((_, origin)) = node.attribute(attribute) {
                        self.problem(origin, format!("{attribute} cannot stand beside ref"), None);
                    }
                }
                let expanded = self.expand(node, &name, origin)?;
                self.find(Space::Attribute, node, &expanded, origin)?;
                let mut declared = self.global_attribute(&expanded)?;
                if let Some(own) = self.given_value(node) {
                    let is_other = |fixed: &Given| {
                        fixed.is_fixed
                            && (!own.is_fixed
                                || !self.is_same_value(declared.of_type, &fixed.text, &own.text))
                    };
                    if declared.given.as_ref().is_some_and(is_other) {
                        self.problem(
                            own.origin,
                            "the attribute has another fixed value where it is declared",
                            None,
                        );
                    }
                    self.given.push((TypeId::Simple(declared.of_type), own.clone(), node.clone()));
                    declared.given = Some(own);
                }
                declared
            }
            (None, Some((name, _))) => {
                let document = &self.collection.documents[node.document];
                let is_qualified = match node.token("form") {
                    Some((form, _)) => form == "qualified",
                    None => document.attributes_qualified,
                };
                let namespace = if is_qualified { document.target.clone() } else { String::new() };
                self.declare_attribute(node, &(namespace, name))
            }
            _ => {
                self.problem(node.origin, "an attribute needs either a name or a ref", None);
                return None;
            }
        };
        if let Some(given) = declaration
            .given
            .as_ref()
            .filter(|given| !given.is_fixed && is_required && node.attribute("default").is_some())
        {
            let origin = given.origin;
            self.problem(origin, "an attribute that is required has no use for a default", None);
        }
        Some(AttributeUse { declaration, is_required, is_prohibited })
    }

    /// Whether two texts spell the same value of a type.
    pub(in crate::xsd) fn is_same_value(&self, id: SimpleId, a: &str, b: &str) -> bool {
        let value = |text: &str| self.simple().value(id, text, &|_| Some(String::new()));
        match (value(a), value(b)) {
            (Some(a), Some(b)) => a.is_same(&b),
            _ => a == b,
        }
    }

    /// `any` or `anyAttribute`.
    pub(in crate::xsd) fn wildcard(&mut self, node: &Node<'s>) -> Wildcard {
        let target = self.collection.documents[node.document].target.clone();
        let process = match node.token("processContents") {
            None => Process::Strict,
            Some((word, origin)) => match word.as_str() {
                "strict" => Process::Strict,
                "lax" => Process::Lax,
                "skip" => Process::Skip,
                _ => {
                    let message = format!(
                        "processContents takes strict, lax or skip, and here is {}",
                        shown(&word)
                    );
                    self.problem(origin, message, None);
                    Process::Strict
                }
            },
        };
        let words = node.token("namespace").map_or("##any".to_owned(), |(words, _)| words);
        let namespaces = match words.as_str() {
            "##any" => Namespaces::Any,
            "##other" => Namespaces::Not(target),
            words => {
                let mut some = Vec::new();
                for word in words.split(' ').filter(|word| !word.is_empty()) {
                    match word {
                        "##targetNamespace" => some.push(target.clone()),
                        "##local" => some.push(String::new()),
                        word if word.starts_with("##") => {
                            let message = format!("{word:?} stands for no namespaces here");
                            let advice = "there are: ##any and ##other alone, ##targetNamespace and ##local in a list";
                            self.problem(node.origin, message, Some(advice.into()));
                        }
                        word => some.push(word.to_owned()),
                    }
                }
                Namespaces::some(some)
            }
        };
        Wildcard { namespaces, process, origin: node.origin }
    }
}
