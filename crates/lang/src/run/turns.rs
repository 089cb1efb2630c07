//! What is kept from turn to turn of a `for`.

use std::collections::{HashMap, VecDeque};

use kyanite_tree::Value;

use super::folded::Folded;

/// What the clauses of a running loop make of its turns without keeping them.
#[derive(Clone, Debug, Default)]
pub(super) struct Tally {
    /// What each clause counts: for `skip` and `first`, how many turns it still takes.
    pub(super) counts: Vec<u64>,
    /// The groups of the next clause in line, when their turns go into aggregates.
    pub(super) folded: Folded,
}

impl Tally {
    /// The same counts, before the first turn.
    pub(super) fn apart(&self) -> Self {
        Self { counts: self.counts.clone(), folded: Folded::default() }
    }
}

/// Turns that the next clause in line holds back until it has seen them all, and what else is kept of turns.
#[derive(Clone, Default)]
pub(super) struct Held<'a> {
    pub(super) turns: Vec<Turn<'a>>,
    /// The running values of `carry`, by the position of their clauses.
    pub(super) carried: HashMap<usize, Option<Value<'a>>>,
    /// The turns of `window`, by the position of their clauses.
    pub(super) windows: HashMap<usize, Seen<'a>>,
}

/// The last turns that a window has seen.
#[derive(Clone, Default)]
pub(super) struct Seen<'a> {
    pub(super) turns: VecDeque<Vec<Option<Value<'a>>>>,
    /// How many of the next turns belong to no window.
    pub(super) skip: u64,
}

impl Held<'_> {
    /// What is kept from turn to turn, each value as `copy` gives it; without the turns that are held back.
    pub(super) fn running<'g>(&self, copy: &dyn Fn(Value<'_>) -> Value<'g>) -> Held<'g> {
        let carried = self.carried.iter().map(|(at, value)| (*at, value.map(copy)));
        let window = |seen: &Seen<'_>| Seen {
            turns: seen
                .turns
                .iter()
                .map(|turn| turn.iter().map(|value| value.map(copy)).collect())
                .collect(),
            skip: seen.skip,
        };
        Held {
            turns: Vec::new(),
            carried: carried.collect(),
            windows: self.windows.iter().map(|(at, seen)| (*at, window(seen))).collect(),
        }
    }
}

/// A turn that was put aside.
#[derive(Clone)]
pub(super) struct Turn<'a> {
    /// What it is ordered by.
    pub(super) keys: Vec<Option<Value<'a>>>,
    /// The values of the names bound since the first `for`.
    pub(super) names: Vec<Option<Value<'a>>>,
}
