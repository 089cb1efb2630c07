//! Documents that are valid by an XML Schema, made up.

mod values;
mod write;

use std::collections::HashMap;

use super::Schema;
use super::components::{ANY_TYPE, Components, Content, ElementId, NameId, TypeId};
use super::documents::XSI;
use super::model::{Decide, Leaf};
use super::wildcard::{Namespaces, Process, Wildcard};
use crate::sample::{Choices, DEEP, MOST, SampleSettings, TRIES};

/// Elements do not nest deeper.
const DEEPEST: u32 = 64;

/// A namespace, empty for none, and a local name.
type Named = (String, String);

/// An element under way.
#[derive(Debug)]
struct Node {
    name: Named,
    attributes: Vec<(Named, Text)>,
    children: Vec<Node>,
    text: Option<Text>,
}

/// A text under way.
#[derive(Clone, Debug)]
enum Text {
    Plain(String),
    /// The name of something, with the prefix that its namespace will have.
    Name(Named),
    /// An identifier of the document.
    Reference,
}

impl Schema {
    /// Texts of documents, the first of which that is valid is a sample; none where the root that is asked for is not there, or
    /// nothing can stand in it. `prefixes` are wanted for namespaces.
    pub fn samples<'t>(
        &'t self,
        settings: SampleSettings<'t>,
        prefixes: &'t [(String, String)],
    ) -> impl Iterator<Item = String> + 't {
        let heights = heights(&self.components);
        let roots = self.roots();
        let root = match settings.root {
            Some(wanted) => {
                let local = wanted.rsplit(':').next().unwrap_or(wanted);
                let names = &self.components.names;
                let name = |id: &ElementId| self.components.element(*id).name;
                roots.into_iter().find(|id| names.local(name(id)) == local)
            }
            None => roots.into_iter().find(|id| heights.contains_key(id)),
        };
        (0..TRIES).filter_map(move |number| {
            let choices = Choices::new(settings, number);
            let mut sampler = Sampler {
                components: &self.components,
                heights: &heights,
                choices,
                identifiers: Vec::new(),
                varies: number % 2 == 0,
            };
            let node = sampler.element(root?, 0)?;
            Some(write::document(&node, prefixes, &sampler.identifiers))
        })
    }

    /// The elements that a document can begin with, those first that stand in no other.
    fn roots(&self) -> Vec<ElementId> {
        let components = &self.components;
        let mut inner: Vec<NameId> = Vec::new();
        for model in &components.models {
            inner.extend(model.leaves.iter().filter_map(|(leaf, _)| match leaf {
                Leaf::Element(id) => Some(components.element(*id).name),
                Leaf::Wildcard(_) => None,
            }));
        }
        let mut all: Vec<(bool, NameId, ElementId)> = components
            .global_elements
            .iter()
            .filter(|(_, id)| !components.element(**id).is_abstract)
            .map(|(name, id)| (inner.contains(name), *name, *id))
            .collect();
        all.sort_unstable();
        all.into_iter().map(|(_, _, id)| id).collect()
    }

    /// The local names of the elements that a document can begin with.
    #[must_use]
    pub fn root_names(&self) -> Vec<&str> {
        let names = &self.components.names;
        self.roots().into_iter().map(|id| names.local(self.components.element(id).name)).collect()
    }
}

/// How deep each element nests at least; those that nest without end are not among them.
fn heights(components: &Components) -> HashMap<ElementId, u32> {
    let mut known: HashMap<ElementId, u32> = HashMap::new();
    // Each round knows what nests one level more.
    loop {
        let mut found = Vec::new();
        for number in 0..components.elements.len() {
            let id = ElementId(number);
            if known.contains_key(&id) {
                continue;
            }
            let of_element = |id: ElementId| {
                let others = components.substitutes.get(&id).into_iter().flatten();
                std::iter::once(&id).chain(others).filter_map(|id| known.get(id)).min().copied()
            };
            let height = types_of(components, id).into_iter().filter_map(|of_type| {
                let TypeId::Complex(complex) = of_type else { return Some(0) };
                let Content::Elements(model) = components.complex(complex).content else {
                    return Some(0);
                };
                components.models[model].height(&|leaf| match &components.models[model]
                    .leaves
                    .get(leaf as usize)?
                    .0
                {
                    Leaf::Element(id) => of_element(*id).map(|height| height + 1),
                    Leaf::Wildcard(wildcard) => (wildcard.process != Process::Strict).then_some(1),
                })
            });
            found.extend(height.min().map(|height| (id, height)));
        }
        if found.is_empty() {
            return known;
        }
        known.extend(found);
    }
}

/// The types that an element may have: its own, or those that xsi:type can name in place of one that is abstract.
fn types_of(components: &Components, id: ElementId) -> Vec<TypeId> {
    let declared = components.element(id);
    if declared.is_abstract {
        return Vec::new();
    }
    let own = declared.of_type;
    let is_abstract = matches!(own, TypeId::Complex(id) if components.complex(id).is_abstract);
    if !is_abstract {
        return vec![own];
    }
    let others = components.global_types.values().copied().filter(|other| {
        matches!(other, TypeId::Complex(id) if !components.complex(*id).is_abstract)
            && *other != own
            && components.derived(*other, own).is_some()
    });
    let mut others: Vec<TypeId> = others.collect();
    others.sort_unstable();
    others
}

struct Sampler<'s> {
    components: &'s Components,
    heights: &'s HashMap<ElementId, u32>,
    choices: Choices,
    /// Identifiers that were given.
    identifiers: Vec<String>,
    /// Whether values differ from each other as far as they can.
    varies: bool,
}

/// Decides along one model.
struct Along<'d, 's> {
    sampler: &'d mut Sampler<'s>,
    leaves: &'s [(Leaf, kyanite_tree::Origin)],
    depth: u32,
}

impl Decide for Along<'_, '_> {
    fn height(&self, leaf: u32) -> Option<u32> {
        match &self.leaves.get(leaf as usize)?.0 {
            Leaf::Element(id) => self.sampler.standing(*id).map(|(_, height)| height + 1),
            Leaf::Wildcard(wildcard) => self.sampler.wildcard(wildcard).map(|_| 1),
        }
    }

    fn repeat(&mut self, least: u64, most: Option<u64>, height: Option<u32>) -> u64 {
        let is_full = !self.sampler.choices.is_minimal && self.depth < DEEP && height.is_some();
        let more = if is_full && least == 0 { 1 } else { 0 };
        let more =
            if is_full && most.is_none() { more + self.sampler.choices.below(2) } else { more };
        most.unwrap_or(u64::MAX).min(least.saturating_add(more as u64))
    }

    fn alternative(&mut self, heights: &[Option<u32>]) -> usize {
        let possible = heights.iter().enumerate().filter(|(_, height)| height.is_some());
        if self.sampler.choices.is_minimal || self.depth >= DEEP {
            return possible.min_by_key(|(_, height)| **height).map_or(0, |(at, _)| at);
        }
        let possible: Vec<usize> = possible.map(|(at, _)| at).collect();
        possible.get(self.sampler.choices.below(possible.len())).copied().unwrap_or(0)
    }
}

impl<'s> Sampler<'s> {
    fn name(&self, id: NameId) -> Named {
        let names = &self.components.names;
        (names.namespace(id).to_owned(), names.local(id).to_owned())
    }

    /// The element that stands where this one may: itself, or one in its place; with how deep it nests at least.
    fn standing(&self, id: ElementId) -> Option<(ElementId, u32)> {
        if let Some(height) = self.heights.get(&id) {
            return Some((id, *height));
        }
        let others = self.components.substitutes.get(&id)?;
        let known = others.iter().filter_map(|id| Some((*id, *self.heights.get(id)?)));
        known.min_by_key(|(_, height)| *height)
    }

    /// The element that a wildcard lets stand: one that is declared, or nothing of those that need not be.
    fn wildcard(&self, wildcard: &Wildcard) -> Option<Option<ElementId>> {
        if wildcard.process != Process::Strict {
            return Some(None);
        }
        let names = &self.components.names;
        let mut all: Vec<(NameId, ElementId)> = self
            .components
            .global_elements
            .iter()
            .map(|(name, id)| (*name, *id))
            .filter(|(name, id)| {
                wildcard.namespaces.has(names.namespace(*name)) && self.heights.contains_key(id)
            })
            .collect();
        all.sort_unstable();
        all.first().map(|(_, id)| Some(*id))
    }

    fn element(&mut self, id: ElementId, depth: u32) -> Option<Node> {
        self.choices.spend()?;
        if depth > DEEPEST {
            return None;
        }
        let declared = self.components.element(id);
        let types = types_of(self.components, id);
        let of_type = *types.get(self.choices.below(types.len()))?;
        let mut node = Node {
            name: self.name(declared.name),
            attributes: Vec::new(),
            children: Vec::new(),
            text: None,
        };
        if of_type != declared.of_type {
            let named = self.components.global_types.iter().find(|(_, known)| **known == of_type);
            let name = self.name(*named?.0);
            node.attributes.push(((XSI.to_owned(), "type".to_owned()), Text::Name(name)));
        }
        let fixed = declared.given.as_ref().filter(|given| given.is_fixed);
        match of_type {
            TypeId::Simple(simple) => {
                node.text = Some(match fixed {
                    Some(fixed) => Text::Plain(fixed.text.clone()),
                    None => self.text(simple)?,
                });
            }
            TypeId::Complex(ANY_TYPE) => {}
            TypeId::Complex(complex) => {
                let known = self.components.complex(complex);
                for used in known.attributes.iter().filter(|used| !used.is_prohibited) {
                    let is_full = !self.choices.is_minimal && depth <= DEEP;
                    if !used.is_required && !is_full {
                        continue;
                    }
                    let declared = &used.declaration;
                    let fixed = declared.given.as_ref().filter(|given| given.is_fixed);
                    let text = match fixed {
                        Some(fixed) => Some(Text::Plain(fixed.text.clone())),
                        None => self.text(declared.of_type),
                    };
                    match text {
                        Some(text) => node.attributes.push((self.name(declared.name), text)),
                        None if used.is_required => return None,
                        None => {}
                    }
                }
                match known.content {
                    Content::Empty => {}
                    Content::Simple(simple) => {
                        node.text = Some(match fixed {
                            Some(fixed) => Text::Plain(fixed.text.clone()),
                            None => self.text(simple)?,
                        });
                    }
                    Content::Elements(model) => {
                        let components = self.components;
                        let model = &components.models[model];
                        let left = self.choices.left.min(MOST);
                        let mut along = Along { sampler: self, leaves: &model.leaves, depth };
                        let route = model.route(&mut along, left)?;
                        for leaf in route {
                            let child =
                                self.particle(&model.leaves.get(leaf as usize)?.0, depth)?;
                            node.children.push(child);
                        }
                        if known.is_mixed && node.children.is_empty() {
                            node.text = Some(Text::Plain("text".to_owned()));
                        }
                    }
                }
            }
        }
        Some(node)
    }

    fn particle(&mut self, leaf: &Leaf, depth: u32) -> Option<Node> {
        match leaf {
            Leaf::Element(id) => {
                let (id, _) = self.standing(*id)?;
                self.element(id, depth + 1)
            }
            Leaf::Wildcard(wildcard) => match self.wildcard(wildcard)? {
                Some(id) => self.element(id, depth + 1),
                None => {
                    let namespace = match &wildcard.namespaces {
                        Namespaces::Any | Namespaces::Not(_) => "urn:other".to_owned(),
                        Namespaces::Some(some) => some.first()?.clone(),
                    };
                    let name = (namespace, "other".to_owned());
                    Some(Node { name, attributes: Vec::new(), children: Vec::new(), text: None })
                }
            },
        }
    }
}
