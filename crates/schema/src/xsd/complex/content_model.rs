//! Content models: groups and particles of complex types (part 1 sections 3.7 to 3.9).

use kyanite_tree::Origin;

use super::DEEPEST;
use crate::xsd::compile::Compiler;
use crate::xsd::documents::{Definition, Expanded, Node, Space};
use crate::xsd::model::{Particle, Term};
use crate::xsd::simple::shown;

pub(super) fn nothing(origin: Origin) -> Particle {
    Particle { least: 1, most: Some(1), term: Term::Sequence([].into()), origin }
}

/// Whether a particle is a group in any order.
pub(super) fn is_all(particle: &Particle) -> bool {
    match &particle.term {
        Term::All(_) => true,
        Term::Sequence(inner) => matches!(&inner[..], [one] if is_all(one)),
        _ => false,
    }
}

/// Whether nothing stands in a particle (section 3.4.2, the effective content is empty).
pub(super) fn is_void(particle: &Particle) -> bool {
    if particle.most == Some(0) {
        return true;
    }
    match &particle.term {
        Term::Sequence(inner) | Term::All(inner) => {
            inner.is_empty() || matches!(&inner[..], [one] if is_void(one))
        }
        Term::Choice(inner) => inner.is_empty() && particle.least == 0,
        Term::Element(_) | Term::Wildcard(_) => false,
    }
}

impl<'s> Compiler<'s, '_> {
    /// The particle of a model group.
    pub(in crate::xsd) fn group(
        &mut self,
        name: &Expanded,
        level: usize,
        origin: Origin,
    ) -> Option<Particle> {
        let key = (name.clone(), level);
        match self.groups.get(&key) {
            Some(Some(known)) => return Some(known.clone()),
            Some(None) => {
                self.problem(origin, format!("the group {:?} holds itself", name.1), None);
                return None;
            }
            None => {}
        }
        let place = (Space::Group, name.clone(), level);
        let Definition { node, .. } = self.definition(&place)?;
        for attribute in ["ref", "minOccurs", "maxOccurs"] {
            if let Some((_, origin)) = node.attribute(attribute) {
                self.problem(
                    origin,
                    format!("{attribute} cannot stand on <group> at the top of a schema"),
                    None,
                );
            }
        }
        self.groups.insert(key.clone(), None);
        let made = self.inside(place, node.origin, |compiler| compiler.particle_in(&node))?;
        let made = made.unwrap_or_else(|| nothing(node.origin));
        self.groups.insert(key, Some(made.clone()));
        Some(made)
    }

    /// The particle of the group that stands in a node, if one does.
    pub(super) fn particle_in(&mut self, node: &Node<'s>) -> Option<Particle> {
        let group = node
            .children()
            .find(|c| matches!(c.word(), "group" | "all" | "choice" | "sequence"))?;
        self.particle(&group, true)
    }

    /// A particle; `<all>` may only stand at the top of a model.
    pub(super) fn particle(&mut self, node: &Node<'s>, is_top: bool) -> Option<Particle> {
        let (least, most) = self.occurrence(node)?;
        if self.depth > DEEPEST {
            self.problem(
                node.origin,
                format!("groups stand more than {DEEPEST} levels deep inside each other"),
                None,
            );
            return None;
        }
        self.depth += 1;
        let term = self.term(node, (least, most), is_top);
        self.depth -= 1;
        Some(Particle { least, most, term: term?, origin: node.origin })
    }

    pub(super) fn term(
        &mut self,
        node: &Node<'s>,
        (least, most): (u64, Option<u64>),
        is_top: bool,
    ) -> Option<Term> {
        match node.word() {
            "element" => self.element_term(node),
            "any" => Some(Term::Wildcard(self.wildcard(node))),
            "group" => {
                let (name, origin) = match node.token("ref") {
                    Some(found) => found,
                    None => {
                        self.problem(node.origin, "a reference to a group needs ref", None);
                        return None;
                    }
                };
                let name = self.expand(node, &name, origin)?;
                let level = self.find(Space::Group, node, &name, origin)?;
                let group = self.group(&name, level, origin)?;
                if is_all(&group) && !(is_top && most == Some(1)) {
                    let message =
                        "a group in any order (<all>) can only be the whole content, once";
                    self.problem(node.origin, message, None);
                }
                Some(Term::Sequence([group].into()))
            }
            "all" => {
                if !is_top || most != Some(1) || least > 1 {
                    let message = "<all> can only be the whole content, once";
                    self.problem(
                        node.origin,
                        message,
                        Some("use a choice that is repeated, or a sequence".into()),
                    );
                }
                let mut particles = Vec::new();
                for child in node.called("element") {
                    let Some(particle) = self.particle(&child, false) else { continue };
                    if particle.most.is_none_or(|most| most > 1) {
                        let message = "in <all> each element may stand once at most";
                        self.problem(child.origin, message, None);
                    }
                    particles.push(particle);
                }
                Some(Term::All(particles.into()))
            }
            word => {
                let children: Vec<Node<'s>> =
                    node.children().filter(|child| child.word() != "annotation").collect();
                let particles: Vec<Particle> =
                    children.iter().filter_map(|child| self.particle(child, false)).collect();
                let particles = particles.into();
                Some(if word == "choice" {
                    Term::Choice(particles)
                } else {
                    Term::Sequence(particles)
                })
            }
        }
    }

    fn element_term(&mut self, node: &Node<'s>) -> Option<Term> {
        let id = match (node.token("ref"), node.token("name")) {
            (Some((name, origin)), None) => {
                let beside = ["type", "nillable", "default", "fixed", "block", "form"];
                for attribute in beside {
                    if let Some((_, origin)) = node.attribute(attribute) {
                        self.problem(origin, format!("{attribute} cannot stand beside ref"), None);
                    }
                }
                let name = self.expand(node, &name, origin)?;
                self.find(Space::Element, node, &name, origin)?;
                self.global_element(&name, origin)?
            }
            (None, Some((name, _))) => {
                for attribute in ["substitutionGroup", "abstract", "final"] {
                    if let Some((_, origin)) = node.attribute(attribute) {
                        let message = format!(
                            "{attribute} can only stand on an element at the top of a schema"
                        );
                        self.problem(origin, message, None);
                    }
                }
                let document = &self.collection.documents[node.document];
                let is_qualified = match node.token("form") {
                    Some((form, _)) => form == "qualified",
                    None => document.elements_qualified,
                };
                let namespace = if is_qualified { document.target.clone() } else { String::new() };
                self.declare_element(node, &(namespace, name), None)
            }
            _ => {
                self.problem(
                    node.origin,
                    "an element in a group needs either a name or a ref",
                    None,
                );
                return None;
            }
        };
        Some(Term::Element(id))
    }

    /// How often a particle may occur.
    fn occurrence(&mut self, node: &Node<'s>) -> Option<(u64, Option<u64>)> {
        let count = |text: &str| {
            let is_number = !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit());
            is_number.then(|| text.parse().unwrap_or(u64::MAX))
        };
        let (mut least, mut most) = (1, Some(1));
        if let Some((text, origin)) = node.token("minOccurs") {
            match count(&text) {
                Some(count) => least = count,
                None => {
                    let message =
                        format!("minOccurs takes a whole number, and here is {}", shown(&text));
                    self.problem(origin, message, None);
                    return None;
                }
            }
        }
        if let Some((text, origin)) = node.token("maxOccurs") {
            match count(&text) {
                _ if text == "unbounded" => most = None,
                Some(count) => most = Some(count),
                None => {
                    let message = format!(
                        "maxOccurs takes a whole number or unbounded, and here is {}",
                        shown(&text)
                    );
                    self.problem(origin, message, None);
                    return None;
                }
            }
        }
        if let Some(most) = most.filter(|most| least > *most) {
            let message = format!("minOccurs is {least}, and maxOccurs {most}: nothing is both");
            self.problem(node.origin, message, None);
            return None;
        }
        Some((least, most))
    }
}
