//! A way through a content model: elements that may stand in this order.

use super::expressions::Expression;
use super::{Model, State};

/// Decides where a model leaves open what stands.
pub(in crate::xsd) trait Decide {
    /// How deep an element nests at least that fits a particle; None where none can be made.
    fn height(&self, leaf: u32) -> Option<u32>;
    /// How often something is there that nests at least so deep, between two bounds.
    fn repeat(&mut self, least: u64, most: Option<u64>, height: Option<u32>) -> u64;
    /// Which of some alternatives is taken, each with how deep it nests at least.
    fn alternative(&mut self, heights: &[Option<u32>]) -> usize;
}

impl Model {
    /// How deep elements nest at least that fit the model.
    pub(in crate::xsd) fn height(&self, of_leaf: &dyn Fn(u32) -> Option<u32>) -> Option<u32> {
        self.height_of(self.start, of_leaf)
    }

    fn height_of(&self, state: State, of_leaf: &dyn Fn(u32) -> Option<u32>) -> Option<u32> {
        match self.expressions.of(state) {
            Expression::Never => None,
            Expression::Empty | Expression::Repeat(_, 0, _) => Some(0),
            Expression::Leaf(leaf) => of_leaf(*leaf),
            Expression::Sequence(..) => {
                let (mut at, mut highest) = (state, 0);
                while let Expression::Sequence(first, rest) = self.expressions.of(at) {
                    highest = highest.max(self.height_of(*first, of_leaf)?);
                    at = *rest;
                }
                Some(highest.max(self.height_of(at, of_leaf)?))
            }
            Expression::Choice(states) => {
                states.iter().filter_map(|state| self.height_of(*state, of_leaf)).min()
            }
            Expression::Repeat(inner, ..) => self.height_of(*inner, of_leaf),
            Expression::All(particles) => {
                let needed = particles.iter().filter(|(_, is_needed)| *is_needed);
                let heights: Option<Vec<u32>> = needed.map(|(leaf, _)| of_leaf(*leaf)).collect();
                heights.map(|heights| heights.into_iter().max().unwrap_or(0))
            }
        }
    }

    /// Particles of a way through the model, in order; at most `most`.
    pub(in crate::xsd) fn route(&self, decide: &mut dyn Decide, most: usize) -> Option<Vec<u32>> {
        let mut route = Vec::new();
        self.go(self.start, decide, most, &mut route)?;
        Some(route)
    }

    fn go(
        &self,
        state: State,
        decide: &mut dyn Decide,
        most: usize,
        route: &mut Vec<u32>,
    ) -> Option<()> {
        if route.len() > most {
            return None;
        }
        match self.expressions.of(state) {
            Expression::Never => return None,
            Expression::Empty => {}
            Expression::Leaf(leaf) => route.push(*leaf),
            Expression::Sequence(..) => {
                let mut at = state;
                while let Expression::Sequence(first, rest) = self.expressions.of(at) {
                    self.go(*first, decide, most, route)?;
                    at = *rest;
                }
                self.go(at, decide, most, route)?;
            }
            Expression::Choice(states) => {
                let heights: Vec<Option<u32>> = states
                    .iter()
                    .map(|state| self.height_of(*state, &|leaf| decide.height(leaf)))
                    .collect();
                let state = *states.get(decide.alternative(&heights))?;
                self.go(state, decide, most, route)?;
            }
            Expression::Repeat(inner, least, bound) => {
                let height = self.height_of(*inner, &|leaf| decide.height(leaf));
                for _ in 0..decide.repeat(*least, *bound, height) {
                    self.go(*inner, decide, most, route)?;
                }
            }
            Expression::All(particles) => {
                for (leaf, is_needed) in particles {
                    let height = decide.height(*leaf);
                    if decide.repeat(u64::from(*is_needed), Some(1), height) > 0 {
                        route.push(*leaf);
                    }
                }
            }
        }
        Some(())
    }
}
