//! How often elements may stand in a content model, whatever their order: what is left of it where elements are members of maps.

use std::collections::BTreeSet;

use indexmap::IndexMap;

use super::expressions::Expression;
use super::{Leaf, Model, State};
use crate::xsd::components::{Components, ElementId, NameId};

/// An element in a model.
#[derive(Clone, Copy, Debug)]
pub(in crate::xsd) struct Often {
    pub(in crate::xsd) element: ElementId,
    pub(in crate::xsd) least: u64,
    /// Without it, any number of times.
    pub(in crate::xsd) most: Option<u64>,
}

/// What a model says of the elements in it.
#[derive(Debug, Default)]
pub(in crate::xsd) struct Occurrence {
    /// Each name, in the order of the model.
    pub(in crate::xsd) elements: IndexMap<NameId, Often>,
    /// Sets of names, all of one of which have to be there.
    pub(in crate::xsd) needed: Vec<BTreeSet<NameId>>,
    /// Whether other elements may stand there as well.
    pub(in crate::xsd) is_open: bool,
    /// Whether elements of one name may stand before and behind those of another.
    pub(in crate::xsd) interleaves: bool,
}

/// So many sets of names are told apart.
const MOST_SETS: usize = 16;

impl Model {
    /// How often elements may stand in it.
    pub(in crate::xsd) fn occurrence(&self, components: &Components) -> Occurrence {
        let walk = Walk { model: self, components };
        Occurrence {
            elements: walk.elements(self.start),
            needed: walk.needed(self.start),
            is_open: self.leaves.iter().any(|(leaf, _)| matches!(leaf, Leaf::Wildcard(_))),
            interleaves: walk.interleaves(self.start),
        }
    }
}

struct Walk<'m> {
    model: &'m Model,
    components: &'m Components,
}

impl Walk<'_> {
    fn expression(&self, state: State) -> &Expression {
        self.model.expressions.of(state)
    }

    /// The parts of a sequence; of all else the one that it is.
    fn parts(&self, state: State) -> Vec<State> {
        let (mut parts, mut at) = (Vec::new(), state);
        while let Expression::Sequence(first, rest) = self.expression(at) {
            parts.push(*first);
            at = *rest;
        }
        parts.push(at);
        parts
    }

    fn leaf(&self, leaf: u32) -> Option<(NameId, ElementId)> {
        match self.model.leaves.get(leaf as usize)?.0 {
            Leaf::Element(id) => Some((self.components.element(id).name, id)),
            Leaf::Wildcard(_) => None,
        }
    }

    fn elements(&self, state: State) -> IndexMap<NameId, Often> {
        let mut found: IndexMap<NameId, Often> = IndexMap::new();
        match self.expression(state) {
            Expression::Never | Expression::Empty => {}
            Expression::Leaf(leaf) => found.extend(
                self.leaf(*leaf)
                    .map(|(name, element)| (name, Often { element, least: 1, most: Some(1) })),
            ),
            Expression::Sequence(..) => {
                for part in self.parts(state) {
                    for (name, often) in self.elements(part) {
                        let sum = found.entry(name).or_insert(Often {
                            element: often.element,
                            least: 0,
                            most: Some(0),
                        });
                        sum.least = sum.least.saturating_add(often.least);
                        sum.most = sum.most.zip(often.most).map(|(a, b)| a.saturating_add(b));
                    }
                }
            }
            Expression::Choice(states) => {
                for (number, state) in states.iter().enumerate() {
                    let alternative = self.elements(*state);
                    found.values_mut().for_each(|often| often.least = 0);
                    for (name, often) in alternative {
                        let known = found.get(&name).map_or(Some(0), |known| known.most);
                        let most = known.zip(often.most).map(|(a, b)| a.max(b));
                        // What one alternative has not need not be there.
                        let least = if number == 0 { often.least } else { 0 };
                        found.insert(name, Often { element: often.element, least, most });
                    }
                }
                let sets = self.needed(state);
                for (name, often) in &mut found {
                    if sets.iter().all(|set| set.contains(name)) {
                        often.least = often.least.max(1);
                    }
                }
            }
            Expression::Repeat(inner, least, most) => {
                found = self.elements(*inner);
                for often in found.values_mut() {
                    often.least = often.least.saturating_mul(*least);
                    often.most = often.most.zip(*most).map(|(a, b)| a.saturating_mul(b));
                }
            }
            Expression::All(particles) => {
                for (leaf, is_needed) in particles {
                    let often = |(name, element)| {
                        (name, Often { element, least: u64::from(*is_needed), most: Some(1) })
                    };
                    found.extend(self.leaf(*leaf).map(often));
                }
            }
        }
        found
    }

    fn needed(&self, state: State) -> Vec<BTreeSet<NameId>> {
        let nothing = || vec![BTreeSet::new()];
        let sets = match self.expression(state) {
            Expression::Never | Expression::Empty => nothing(),
            Expression::Leaf(leaf) => {
                vec![self.leaf(*leaf).into_iter().map(|(name, _)| name).collect()]
            }
            Expression::Sequence(..) => {
                let mut sets = nothing();
                for part in self.parts(state) {
                    let more = self.needed(part);
                    if sets.len() * more.len() > MOST_SETS {
                        continue;
                    }
                    let pairs = sets.iter().flat_map(|set| more.iter().map(move |m| set | m));
                    sets = pairs.collect();
                }
                sets
            }
            Expression::Choice(states) => {
                states.iter().flat_map(|state| self.needed(*state)).collect()
            }
            Expression::Repeat(_, 0, _) => nothing(),
            Expression::Repeat(inner, ..) => self.needed(*inner),
            Expression::All(particles) => {
                let needed = particles.iter().filter(|(_, is_needed)| *is_needed);
                vec![needed.filter_map(|(leaf, _)| Some(self.leaf(*leaf)?.0)).collect()]
            }
        };
        let is_least = |set: &BTreeSet<NameId>| {
            !sets.iter().any(|other| other.len() < set.len() && other.is_subset(set))
        };
        let mut least: Vec<BTreeSet<NameId>> =
            sets.iter().filter(|set| is_least(set)).cloned().collect();
        least.sort();
        least.dedup();
        // Of too many sets only their common part is told.
        if least.len() > MOST_SETS {
            let common = least.iter().skip(1).fold(least[0].clone(), |all, set| &all & set);
            return vec![common];
        }
        least
    }

    /// Whether a wildcard is in an expression.
    fn is_open(&self, state: State) -> bool {
        match self.expression(state) {
            Expression::Leaf(leaf) => self.leaf(*leaf).is_none(),
            Expression::Sequence(..) => self.parts(state).iter().any(|part| self.is_open(*part)),
            Expression::Choice(states) => states.iter().any(|state| self.is_open(*state)),
            Expression::Repeat(inner, ..) => self.is_open(*inner),
            _ => false,
        }
    }

    fn interleaves(&self, state: State) -> bool {
        match self.expression(state) {
            Expression::Sequence(..) => {
                let parts = self.parts(state);
                let mut last_met: IndexMap<NameId, usize> = IndexMap::new();
                for (at, part) in parts.iter().enumerate() {
                    if self.interleaves(*part) {
                        return true;
                    }
                    let names = self.elements(*part);
                    for name in names.keys() {
                        let before = last_met.insert(*name, at);
                        let is_alone = names.len() == 1
                            && before.is_some_and(|before| {
                                before + 1 == at && self.elements(parts[before]).len() == 1
                            });
                        if before.is_some() && !is_alone {
                            return true;
                        }
                    }
                }
                false
            }
            Expression::Choice(states) => states.iter().any(|state| self.interleaves(*state)),
            Expression::Repeat(inner, ..) => {
                let others = usize::from(self.is_open(*inner));
                self.elements(*inner).len() + others > 1 || self.interleaves(*inner)
            }
            _ => false,
        }
    }
}
