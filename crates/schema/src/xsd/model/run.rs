//! One pass over the children of an element: from state to state of its content model.

use std::collections::HashMap;

use foldhash::fast::RandomState;

use super::expressions::Expressions;
use super::{Leaf, Model, State};
use crate::xsd::components::{ElementId, NameId};

/// What an element fits.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(in crate::xsd) enum Fit {
    Element(ElementId),
    /// The wildcard of that particle.
    Wildcard(u32),
}

/// The state behind an element, and what that fits.
pub(in crate::xsd) type Step = (State, Fit);

/// A model at work: its states, as far as documents led there. It grows with what it meets, so each thread has its own.
#[derive(Debug)]
pub(in crate::xsd) struct Run {
    pub(super) expressions: Expressions,
    steps: HashMap<(State, NameId), Option<Step>, RandomState>,
}

/// So many steps are kept; with more, all are worked out again.
const KEPT: usize = 100_000;

impl Run {
    pub(in crate::xsd) fn new(model: &Model) -> Self {
        Self { expressions: model.expressions.clone(), steps: HashMap::default() }
    }

    pub(in crate::xsd) fn start(model: &Model) -> State {
        model.start
    }

    /// The state behind an element, and what that fits; None where it may not stand here. Of names that no schema has only
    /// the namespace counts.
    #[inline]
    pub(in crate::xsd) fn step(
        &mut self,
        model: &Model,
        state: State,
        (name, namespace): (Option<NameId>, &str),
    ) -> Option<Step> {
        if let Some(name) = name
            && let Some(known) = self.steps.get(&(state, name))
        {
            return *known;
        }
        self.step_anew(model, state, (name, namespace))
    }

    fn step_anew(
        &mut self,
        model: &Model,
        state: State,
        (name, namespace): (Option<NameId>, &str),
    ) -> Option<Step> {
        let mut first = Vec::new();
        self.expressions.first(state, &mut first);
        let leaf = first.into_iter().find(|leaf| model.fits(*leaf, name, namespace));
        let step = leaf.map(|leaf| {
            // One particle, not all that fit: by the unique attribution of particles there is no other.
            let next = self
                .expressions
                .derivative(state, &|other| other == leaf || model.fits(other, name, namespace));
            let fit = match &model.leaves[leaf as usize].0 {
                Leaf::Wildcard(_) => Fit::Wildcard(leaf),
                Leaf::Element(declared) => {
                    let own = name.and_then(|name| model.by_name.get(&name));
                    let own = own.and_then(|all| all.iter().find(|(known, _)| *known == leaf));
                    Fit::Element(own.map_or(*declared, |(_, id)| *id))
                }
            };
            (next, fit)
        });
        if let Some(name) = name {
            if self.steps.len() >= KEPT {
                self.steps.clear();
            }
            self.steps.insert((state, name), step);
        }
        step
    }

    /// Whether nothing more has to follow.
    pub(in crate::xsd) fn may_end(&self, state: State) -> bool {
        self.expressions.may_be_empty(state)
    }

    /// The particles that may come next.
    pub(in crate::xsd) fn first(&self, state: State) -> Vec<u32> {
        let mut found = Vec::new();
        self.expressions.first(state, &mut found);
        let mut seen = std::collections::HashSet::new();
        found.retain(|leaf| seen.insert(*leaf));
        found
    }

    /// The state behind a particle.
    pub(in crate::xsd) fn behind(&mut self, state: State, leaf: u32) -> State {
        self.expressions.derivative(state, &|other| other == leaf)
    }
}
