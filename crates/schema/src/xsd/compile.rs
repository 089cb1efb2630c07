//! From schema documents to components: names, elements, attributes and identity constraints (XSD 1.0 part 1 section 3).

use std::collections::HashMap;

use kyanite_tree::{Origin, near_words};

use super::builtin::{self, ANY_SIMPLE};
use super::components::{
    ANY_TYPE, AttributeDeclaration, AttributeUse, ComplexId, ComplexType, Components, ConstraintId,
    Content, Derivations, ElementDeclaration, ElementId, Given, NameId, SimpleId, TypeId,
};
use super::documents::{Collection, Definition, Expanded, Node, Space, XSD, XSI};
use super::identity::{Constraint, Kind, paths};
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

    /// The element declaration of a name.
    pub(super) fn global_element(&mut self, name: &Expanded, origin: Origin) -> Option<ElementId> {
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

    fn refuse_at_top(&mut self, node: &Node<'s>, attribute: &str) {
        if let Some((_, origin)) = node.attribute(attribute) {
            let message =
                format!("{attribute} cannot stand on <{}> at the top of a schema", node.word());
            self.problem(origin, message, None);
        }
    }

    /// Declares an element; its type may be completed later.
    pub(super) fn declare_element(
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
        if let (Some((_, origin)), Some(_)) = (&named, &inner) {
            let message = "the type is given twice: by an attribute, and inside the element";
            self.problem(*origin, message, Some("take one away".into()));
        }
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

    /// The value that a declaration gives.
    pub(super) fn given_value(&mut self, node: &Node<'s>) -> Option<Given> {
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

    /// The attribute declaration of a name at the top.
    pub(super) fn global_attribute(&mut self, name: &Expanded) -> Option<AttributeDeclaration> {
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
        if let (Some((_, origin)), Some(_)) = (&named, &inner) {
            let message = "the type is given twice: by an attribute, and inside the element";
            self.problem(*origin, message, Some("take one away".into()));
        }
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
    pub(super) fn attribute_use(&mut self, node: &Node<'s>) -> Option<AttributeUse> {
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
    pub(super) fn is_same_value(&self, id: SimpleId, a: &str, b: &str) -> bool {
        let value = |text: &str| self.simple().value(id, text, &|_| Some(String::new()));
        match (value(a), value(b)) {
            (Some(a), Some(b)) => a.is_same(&b),
            _ => a == b,
        }
    }

    /// `any` or `anyAttribute`.
    pub(super) fn wildcard(&mut self, node: &Node<'s>) -> Wildcard {
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

    /// The identity constraints of an element.
    fn constraints(&mut self, node: &Node<'s>) -> Vec<ConstraintId> {
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
    fn settle_references(&mut self) {
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
                let message =
                    format!("the key has {wanted} fields, and this reference to it {there}");
                self.problem(origin, message, None);
            }
            self.components.constraints[id.0].kind = Kind::Reference(ConstraintId(found));
            self.components.constraints[found].is_referred = true;
        }
    }
}
