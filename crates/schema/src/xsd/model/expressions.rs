//! Expressions over the elements of a content model, and their derivatives (Brzozowski, Derivatives of Regular Expressions, 1964).

use std::collections::HashMap;
use std::sync::Arc;

use super::{EMPTY, NEVER, State, WIDE};

/// A regular expression over the particles of a model.
#[derive(Clone, PartialEq, Eq, Hash, Debug)]
pub(super) enum Expression {
    /// Nothing fits.
    Never,
    /// Only no element at all fits.
    Empty,
    Leaf(u32),
    Sequence(State, State),
    /// In order, each once.
    Choice(Arc<[State]>),
    Repeat(State, u64, Option<u64>),
    /// Each of some particles at most once, in any order, with those that must be there.
    All(Vec<(u32, bool)>),
}

/// Expressions, each once.
#[derive(Clone, Debug, Default)]
pub(super) struct Expressions {
    all: Vec<(Expression, bool)>,
    numbers: HashMap<Expression, State>,
}

/// An expression with smaller counts that is ambiguous if the given one is.
pub(super) fn few(
    expressions: &mut Expressions,
    state: State,
    known: &mut HashMap<State, State>,
) -> State {
    if let Some(known) = known.get(&state) {
        return *known;
    }
    let smaller = match expressions.all[state as usize].0.clone() {
        Expression::Sequence(first, rest) => {
            let (first, rest) = (few(expressions, first, known), few(expressions, rest, known));
            expressions.sequence(first, rest)
        }
        Expression::Choice(states) => {
            let states: Vec<State> =
                states.iter().map(|state| few(expressions, *state, known)).collect();
            expressions.choice(states)
        }
        Expression::Repeat(inner, least, most) => {
            let inner = few(expressions, inner, known);
            let small = least.min(2);
            let most = most.map(|most| if most == least { small } else { most.min(small + 1) });
            expressions.repeat(inner, small, most)
        }
        _ => state,
    };
    known.insert(state, smaller);
    smaller
}

impl Expressions {
    pub(super) fn new() -> Self {
        let mut new = Self::default();
        new.add(Expression::Never);
        new.add(Expression::Empty);
        new
    }

    pub(super) fn add(&mut self, expression: Expression) -> State {
        if let Some(known) = self.numbers.get(&expression) {
            return *known;
        }
        let may_be_empty = match &expression {
            Expression::Never | Expression::Leaf(_) => false,
            Expression::Empty => true,
            Expression::Sequence(first, rest) => {
                self.may_be_empty(*first) && self.may_be_empty(*rest)
            }
            Expression::Choice(states) => states.iter().any(|state| self.may_be_empty(*state)),
            Expression::Repeat(state, least, _) => *least == 0 || self.may_be_empty(*state),
            Expression::All(particles) => particles.iter().all(|(_, is_needed)| !is_needed),
        };
        let number = self.all.len() as State;
        self.all.push((expression.clone(), may_be_empty));
        self.numbers.insert(expression, number);
        number
    }

    /// The expression that a state is.
    pub(super) fn of(&self, state: State) -> &Expression {
        &self.all[state as usize].0
    }

    pub(super) fn may_be_empty(&self, state: State) -> bool {
        self.all[state as usize].1
    }

    pub(super) fn sequence(&mut self, first: State, rest: State) -> State {
        match (first, rest) {
            (NEVER, _) | (_, NEVER) => NEVER,
            (EMPTY, one) | (one, EMPTY) => one,
            _ => self.add(Expression::Sequence(first, rest)),
        }
    }

    pub(super) fn choice(&mut self, states: impl IntoIterator<Item = State>) -> State {
        let mut all = Vec::new();
        for state in states {
            match &self.all[state as usize].0 {
                Expression::Never => {}
                Expression::Choice(inner) => all.extend(inner.iter().copied()),
                _ => all.push(state),
            }
        }
        all.sort_unstable();
        all.dedup();
        if all.len() > WIDE {
            all = all.into_iter().map(|state| self.unbounded(state)).collect();
            all.sort_unstable();
            all.dedup();
        }
        match all.as_slice() {
            [] => NEVER,
            [one] => *one,
            _ => self.add(Expression::Choice(all.into())),
        }
    }

    /// The same expression without upper bounds of what is repeated.
    fn unbounded(&mut self, state: State) -> State {
        match self.all[state as usize].0 {
            Expression::Sequence(first, rest) => {
                let (first, rest) = (self.unbounded(first), self.unbounded(rest));
                self.sequence(first, rest)
            }
            Expression::Repeat(inner, least, Some(_)) => self.repeat(inner, least, None),
            _ => state,
        }
    }

    pub(super) fn repeat(&mut self, state: State, least: u64, most: Option<u64>) -> State {
        // What may be nothing fits as often as it must.
        let least = if self.may_be_empty(state) { 0 } else { least };
        // Of counts from 0 or 1 on all sums are there, so that counts of counts are counts.
        if let Expression::Repeat(inner, 0 | 1, inner_most) = self.all[state as usize].0 {
            let most = most.zip(inner_most).map(|(most, inner)| most.saturating_mul(inner));
            return self.repeat(inner, least, most);
        }
        match (state, least, most) {
            (_, _, Some(0)) | (EMPTY, ..) => EMPTY,
            (NEVER, 0, _) => EMPTY,
            (NEVER, ..) => NEVER,
            (_, 1, Some(1)) => state,
            _ => self.add(Expression::Repeat(state, least, most)),
        }
    }

    /// What may follow once one of the particles that `fits` was met.
    pub(super) fn derivative(&mut self, state: State, fits: &dyn Fn(u32) -> bool) -> State {
        match self.all[state as usize].0.clone() {
            Expression::Never | Expression::Empty => NEVER,
            Expression::Leaf(leaf) => {
                if fits(leaf) {
                    EMPTY
                } else {
                    NEVER
                }
            }
            Expression::Sequence(..) => {
                // Along the sequence, as far as what stands before may be nothing.
                let (mut at, mut found) = (state, Vec::new());
                loop {
                    let Expression::Sequence(first, rest) = self.all[at as usize].0 else {
                        found.push(self.derivative(at, fits));
                        break;
                    };
                    let behind = self.derivative(first, fits);
                    found.push(self.sequence(behind, rest));
                    if !self.may_be_empty(first) {
                        break;
                    }
                    at = rest;
                }
                self.choice(found)
            }
            Expression::Choice(states) => {
                let mut found = Vec::new();
                for state in states.iter() {
                    let behind = match self.all[*state as usize].0 {
                        Expression::Leaf(leaf) if !fits(leaf) => continue,
                        _ => self.derivative(*state, fits),
                    };
                    if behind != NEVER {
                        found.push(behind);
                    }
                }
                self.choice(found)
            }
            Expression::Repeat(inner, least, most) => {
                let behind = self.derivative(inner, fits);
                if behind == NEVER {
                    return NEVER;
                }
                let again = self.repeat(inner, least.saturating_sub(1), most.map(|most| most - 1));
                self.sequence(behind, again)
            }
            Expression::All(particles) => {
                let Some(at) = particles.iter().position(|(leaf, _)| fits(*leaf)) else {
                    return NEVER;
                };
                let mut left = particles;
                left.remove(at);
                if left.is_empty() { EMPTY } else { self.add(Expression::All(left)) }
            }
        }
    }

    /// The particles that may come next, and whether each has to before anything else can.
    pub(super) fn first(&self, state: State, found: &mut Vec<u32>) {
        match &self.all[state as usize].0 {
            Expression::Never | Expression::Empty => {}
            Expression::Leaf(leaf) => found.push(*leaf),
            Expression::Sequence(..) => {
                let mut at = state;
                while let Expression::Sequence(first, rest) = &self.all[at as usize].0 {
                    self.first(*first, found);
                    if !self.may_be_empty(*first) {
                        return;
                    }
                    at = *rest;
                }
                self.first(at, found);
            }
            Expression::Choice(states) => states.iter().for_each(|state| self.first(*state, found)),
            Expression::Repeat(inner, ..) => self.first(*inner, found),
            Expression::All(particles) => found.extend(particles.iter().map(|(leaf, _)| *leaf)),
        }
    }
}
