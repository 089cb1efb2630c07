//! Complex type definitions, and the groups that they are made of (XSD 1.0 part 1 sections 3.4 to 3.9).

mod content_model;

use kyanite_tree::Origin;

use super::compile::{Compiler, Level};
use super::components::{
    ANY_TYPE, AttributeUse, ComplexId, Content, Derivations, SimpleId, TypeId,
};
use super::documents::{Definition, Expanded, Node, Space};
use super::model::{MOST_PARTICLES, Model, Particle, Term};
use super::wildcard::{Namespaces, Wildcard};
use content_model::{is_all, is_void};

/// How many complex types may be derived from each other, and groups stand inside each other.
const DEEPEST: usize = 1_000;

/// The attributes of a type or a group.
#[derive(Clone, Debug, Default)]
pub(super) struct Attributes {
    pub(super) uses: Vec<AttributeUse>,
    pub(super) others: Option<Wildcard>,
}

impl<'s> Compiler<'s, '_> {
    /// Completes a complex type, if it is not complete already.
    pub(super) fn complete(&mut self, id: ComplexId) {
        let Some((node, level)) = self.open.remove(&id) else { return };
        self.making.push(id);
        // What stands in a type has nothing to do with the definition that first asked for it.
        let outer = std::mem::replace(&mut self.within, level.into_iter().collect());
        if self.making.len() > DEEPEST {
            let message =
                format!("complex types are derived more than {DEEPEST} times from each other");
            self.problem(node.origin, message, None);
        } else {
            self.complex_type(id, &node);
        }
        self.within = outer;
        self.making.pop();
    }

    fn complex_type(&mut self, id: ComplexId, node: &Node<'s>) {
        let is_abstract = self.boolean(node, "abstract");
        let mut is_mixed = self.boolean(node, "mixed");
        let document = &self.collection.documents[node.document];
        let kept = Derivations::EXTENSION.with(Derivations::RESTRICTION);
        let (usual_block, usual_final) = (document.block.and(kept), document.is_final.and(kept));
        let block = match node.token("block") {
            Some(_) => self.collection.derivations(node, "block"),
            None => usual_block,
        };
        let is_final = match node.token("final") {
            Some(_) => self.collection.derivations(node, "final"),
            None => usual_final,
        };
        let made = &mut self.components.complex[id.0];
        (made.is_abstract, made.block, made.is_final) = (is_abstract, block, is_final);
        let inner =
            node.children().find(|c| matches!(c.word(), "simpleContent" | "complexContent"));
        let Some(inner) = inner else {
            // A restriction of the type above all.
            let attributes = self.attributes(node);
            let particle = self.particle_in(node);
            self.settle(
                id,
                (TypeId::Complex(ANY_TYPE), Derivations::RESTRICTION),
                is_mixed,
                attributes,
            );
            self.settle_content(id, particle, is_mixed, node.origin);
            return;
        };
        if let Some(beside) = node
            .children()
            .find(|c| !matches!(c.word(), "annotation" | "simpleContent" | "complexContent"))
        {
            let message = format!("<{}> cannot stand beside <{}>", beside.word(), inner.word());
            self.problem(beside.origin, message, Some("write it inside".into()));
        }
        if inner.word() == "complexContent" && inner.attribute("mixed").is_some() {
            is_mixed = self.boolean(&inner, "mixed");
        }
        let Some(derivation) = inner.children().find(|c| c.word() != "annotation") else { return };
        let Some((name, origin)) = derivation.token("base") else {
            self.problem(derivation.origin, format!("<{}> needs a base", derivation.word()), None);
            return;
        };
        let Some(base) = self.type_named(&derivation, &name, origin) else { return };
        if let TypeId::Complex(base) = base {
            if self.making.contains(&base) {
                self.problem(origin, format!("the type {name} is derived from itself"), None);
                return;
            }
            self.complete(base);
        }
        let method = match derivation.word() {
            "extension" => Derivations::EXTENSION,
            _ => Derivations::RESTRICTION,
        };
        let forbidden = match base {
            TypeId::Complex(base) => self.components.complex(base).is_final,
            TypeId::Simple(base) => self.simple().get(base).is_final,
        };
        if forbidden.has(method) {
            let word = derivation.word();
            self.problem(origin, format!("the type {name} is final: it allows no {word}"), None);
        }
        let derived = (base, method);
        if inner.word() == "simpleContent" {
            self.simple_content(id, derived, &derivation, (name, origin));
        } else {
            self.complex_content(id, derived, &derivation, is_mixed, (name, origin));
        }
    }

    /// Content that is only text (section 3.4.2, simple content).
    fn simple_content(
        &mut self,
        id: ComplexId,
        (base, method): (TypeId, Derivations),
        node: &Node<'s>,
        (name, origin): (String, Origin),
    ) {
        let is_extension = method == Derivations::EXTENSION;
        let content = match base {
            TypeId::Simple(base) if is_extension => Some(base),
            TypeId::Simple(_) => None,
            TypeId::Complex(base) => match self.components.complex(base).content.clone() {
                Content::Simple(content) if is_extension => Some(content),
                Content::Simple(content) => self.restrict_content(Some(content), node),
                // Text with elements that may be left out can become text alone.
                Content::Elements(_) | Content::Empty
                    if !is_extension && self.components.complex(base).is_mixed =>
                {
                    self.restrict_content(None, node)
                }
                _ => None,
            },
        };
        let Some(content) = content else {
            let message = match is_extension {
                true => format!("{name} has elements, and simple content has only text"),
                false => format!(
                    "{name} is no complex type with simple content, of which a restriction can be made"
                ),
            };
            let advice = match base {
                TypeId::Simple(_) => "extend the type, or restrict it in a <simpleType>",
                TypeId::Complex(_) => "use <complexContent>",
            };
            self.problem(origin, message, Some(advice.into()));
            return;
        };
        let attributes = self.attributes(node);
        self.settle(id, (base, method), false, attributes);
        self.components.complex[id.0].content = Content::Simple(content);
    }

    /// The type of text with the facets of a restriction of the text of the base, if that is only text.
    fn restrict_content(&mut self, content: Option<SimpleId>, node: &Node<'s>) -> Option<SimpleId> {
        let inner = node.called("simpleType").next();
        let from = match inner {
            Some(inner) => {
                let from = self.define_simple(&inner, None);
                if content.is_some_and(|content| !self.simple().is_derived(from, content)) {
                    let message = "the type of the text is not derived from that of the base";
                    self.problem(inner.origin, message, None);
                }
                from
            }
            None => content?,
        };
        let has_facets = node.children().any(|child| {
            !matches!(
                child.word(),
                "annotation" | "simpleType" | "attribute" | "attributeGroup" | "anyAttribute"
            )
        });
        if !has_facets {
            return Some(from);
        }
        let made = self.restrict(from, node)?;
        Some(self.add_simple(made))
    }

    /// Content with elements (section 3.4.2, complex content).
    fn complex_content(
        &mut self,
        id: ComplexId,
        (base, method): (TypeId, Derivations),
        node: &Node<'s>,
        is_mixed: bool,
        (name, origin): (String, Origin),
    ) {
        let TypeId::Complex(base_id) = base else {
            let message =
                format!("{name} is a simple type, and complex content needs a complex one");
            self.problem(origin, message, Some("use <simpleContent>".into()));
            return;
        };
        let base_type = self.components.complex(base_id).clone();
        let attributes = self.attributes(node);
        let own = self.particle_in(node);
        let own = own.filter(|own| !is_void(own));
        if method == Derivations::RESTRICTION {
            self.settle(id, (base, method), is_mixed, attributes);
            self.settle_content(id, own, is_mixed, node.origin);
            return;
        }
        if let Content::Simple(_) = base_type.content {
            if own.is_some() {
                let message = format!("{name} has only text, and cannot be extended by elements");
                self.problem(origin, message, None);
            }
            self.settle(id, (base, method), false, attributes);
            self.components.complex[id.0].content = base_type.content;
            return;
        }
        let of_base = self.particles.get(&base_id).cloned();
        let particle = match (of_base, own) {
            (Some(before), Some(own)) => {
                if is_all(&before) || is_all(&own) {
                    let message =
                        "content in any order (<all>) cannot be extended, nor extend other content";
                    self.problem(node.origin, message, Some("write a sequence".into()));
                }
                let origin = own.origin;
                let term = Term::Sequence([before, own].into());
                Some(Particle { least: 1, most: Some(1), term, origin })
            }
            (before, own) => before.or(own),
        };
        let has_content = particle.is_some() && self.particles.contains_key(&base_id);
        if has_content && base_type.is_mixed != is_mixed && base_id != ANY_TYPE {
            let message = match base_type.is_mixed {
                true => format!(
                    "in {name} text may stand between elements, and in an extension of it, too"
                ),
                false => format!(
                    "in {name} no text may stand between elements, and so in no extension of it"
                ),
            };
            let advice =
                if base_type.is_mixed { "write mixed=\"true\"" } else { "take mixed away" };
            self.problem(node.origin, message, Some(advice.into()));
        }
        let is_mixed = is_mixed || !has_content && base_type.is_mixed;
        self.settle(id, (base, method), is_mixed, attributes);
        self.settle_content(id, particle, is_mixed, node.origin);
    }

    fn settle_content(
        &mut self,
        id: ComplexId,
        particle: Option<Particle>,
        is_mixed: bool,
        origin: Origin,
    ) {
        match particle.filter(|particle| !is_void(particle)) {
            Some(particle) => {
                self.components.complex[id.0].content = self.content(&particle, origin);
                self.particles.insert(id, particle);
            }
            None if is_mixed => {
                let term = Term::Sequence([].into());
                let nothing = Particle { least: 1, most: Some(1), term, origin };
                self.components.complex[id.0].content = self.content(&nothing, origin);
            }
            None => self.components.complex[id.0].content = Content::Empty,
        }
    }

    /// The model of a particle.
    pub(super) fn content(&mut self, particle: &Particle, origin: Origin) -> Content {
        match Model::new(particle) {
            Ok(model) => {
                self.components.models.push(model);
                Content::Elements(self.components.models.len() - 1)
            }
            Err(_) => {
                let message = format!("this content has more than {MOST_PARTICLES} particles");
                self.problem(origin, message, Some("make its groups smaller".into()));
                Content::Empty
            }
        }
    }

    /// Settles what a complex type is derived from, and its attributes, with those of the base (section 3.4.2).
    fn settle(
        &mut self,
        id: ComplexId,
        (base, method): (TypeId, Derivations),
        is_mixed: bool,
        own: Attributes,
    ) {
        let inherited = match base {
            TypeId::Complex(base) => {
                let base = self.components.complex(base);
                Attributes { uses: base.attributes.clone(), others: base.other_attributes.clone() }
            }
            TypeId::Simple(_) => Attributes::default(),
        };
        let is_extension = method == Derivations::EXTENSION;
        let mut uses = own.uses;
        for use_of_base in inherited.uses {
            let name = use_of_base.declaration.name;
            match uses.iter().find(|own| own.declaration.name == name) {
                None => uses.push(use_of_base),
                Some(own) if is_extension && !own.is_prohibited => {
                    let (origin, name) = (own.declaration.origin, self.shown_name(name));
                    self.problem(
                        origin,
                        format!("the base has the attribute {name:?} already"),
                        None,
                    );
                }
                Some(_) => {}
            }
        }
        uses.retain(|used| !used.is_prohibited);
        uses.sort_by_key(|used| used.declaration.name);
        let others = match (own.others, inherited.others) {
            (Some(own), Some(inherited)) if is_extension => {
                match own.namespaces.or(&inherited.namespaces) {
                    Some(namespaces) => Some(Wildcard { namespaces, ..own }),
                    None => {
                        let message = "the namespaces of this wildcard and of that of the base cannot be said as one";
                        self.problem(own.origin, message, None);
                        None
                    }
                }
            }
            (None, inherited) if is_extension => inherited,
            (own, _) => own,
        };
        let made = &mut self.components.complex[id.0];
        (made.base, made.method, made.is_mixed) = (base, method, is_mixed);
        (made.attributes, made.other_attributes) = (uses, others);
    }

    /// The attributes that stand in a node, those of groups among them.
    pub(super) fn attributes(&mut self, node: &Node<'s>) -> Attributes {
        let mut all = Attributes::default();
        let mut own_wildcard = None;
        let mut of_groups: Option<Wildcard> = None;
        for child in node.children() {
            match child.word() {
                "attribute" => {
                    if let Some(used) = self.attribute_use(&child) {
                        self.add_use(&mut all.uses, used, child.origin);
                    }
                }
                "attributeGroup" => {
                    let Some((name, origin)) = child.token("ref") else {
                        self.problem(
                            child.origin,
                            "a reference to an attribute group needs ref",
                            None,
                        );
                        continue;
                    };
                    let Some(name) = self.expand(&child, &name, origin) else { continue };
                    let Some(level) = self.find(Space::AttributeGroup, &child, &name, origin)
                    else {
                        continue;
                    };
                    let Some(group) = self.attribute_group(&name, level, origin) else { continue };
                    for used in group.uses {
                        self.add_use(&mut all.uses, used, child.origin);
                    }
                    of_groups = match (of_groups, group.others) {
                        (Some(a), Some(b)) => self.intersection(a, &b, child.origin),
                        (a, b) => a.or(b),
                    };
                }
                "anyAttribute" => own_wildcard = Some(self.wildcard(&child)),
                _ => {}
            }
        }
        all.others = match (own_wildcard, of_groups) {
            (Some(own), Some(groups)) => {
                let origin = own.origin;
                self.intersection(own, &groups, origin)
            }
            (own, groups) => own.or(groups),
        };
        all
    }

    fn intersection(&mut self, a: Wildcard, b: &Wildcard, origin: Origin) -> Option<Wildcard> {
        match a.namespaces.and(&b.namespaces) {
            Some(namespaces) => Some(Wildcard { namespaces, ..a }),
            None => {
                self.problem(origin, "what two wildcards have in common cannot be said", None);
                None
            }
        }
    }

    fn add_use(&mut self, uses: &mut Vec<AttributeUse>, used: AttributeUse, origin: Origin) {
        let name = used.declaration.name;
        if uses.iter().any(|known| known.declaration.name == name) {
            let name = self.shown_name(name);
            self.problem(origin, format!("the attribute {name:?} is given twice"), None);
        } else {
            uses.push(used);
        }
    }

    /// The attributes of a group.
    pub(super) fn attribute_group(
        &mut self,
        name: &Expanded,
        level: usize,
        origin: Origin,
    ) -> Option<Attributes> {
        let key = (name.clone(), level);
        match self.attribute_groups.get(&key) {
            Some(Some(known)) => return Some(known.clone()),
            Some(None) => {
                self.problem(
                    origin,
                    format!("the attribute group {:?} holds itself", name.1),
                    None,
                );
                return None;
            }
            None => {}
        }
        let place = (Space::AttributeGroup, name.clone(), level);
        let Definition { node, .. } = self.definition(&place)?;
        self.attribute_groups.insert(key.clone(), None);
        let made = self.inside(place, node.origin, |compiler| compiler.attributes(&node))?;
        self.attribute_groups.insert(key, Some(made.clone()));
        Some(made)
    }

    /// Reads something inside a definition.
    fn inside<T>(
        &mut self,
        place: Level,
        origin: Origin,
        read: impl FnOnce(&mut Self) -> T,
    ) -> Option<T> {
        if self.within.len() > DEEPEST {
            let message = format!("groups stand more than {DEEPEST} levels deep inside each other");
            self.problem(origin, message, None);
            return None;
        }
        self.within.push(place);
        let made = read(self);
        self.within.pop();
        Some(made)
    }
}

/// Whether a wildcard of a type is within that of its base (section 3.4.6).
pub(super) fn is_within(own: &Wildcard, base: Option<&Wildcard>) -> bool {
    base.is_some_and(|base| own.namespaces.is_in(&base.namespaces) && own.process >= base.process)
}

/// Whether the namespaces of a wildcard have that of an attribute.
pub(super) fn lets_in(wildcard: Option<&Wildcard>, namespace: &str) -> bool {
    wildcard.is_some_and(|wildcard| Namespaces::has(&wildcard.namespaces, namespace))
}
