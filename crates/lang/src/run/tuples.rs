//! What a `for` keeps between its tuples: counts, running values, windows, and the tuples that a blocking clause has buffered.

use std::collections::{HashMap, VecDeque};

use kyanite_tree::Value;

use super::folded::Folded;

/// What the clauses of a running loop make of its tuples without keeping them.
#[derive(Clone, Debug, Default)]
pub(super) struct Tally {
    /// What each clause counts: for `skip` and `first`, how many tuples it still takes.
    pub(super) counts: Vec<u64>,
    /// The groups of the next clause in line, when their tuples go into aggregates.
    pub(super) folded: Folded,
}

impl Tally {
    /// The same counts, before the first tuple.
    pub(super) fn of_part(&self) -> Self {
        Self { counts: self.counts.clone(), folded: Folded::default() }
    }
}

/// Tuples that the next clause in line holds back until it has seen them all, and what else is kept of tuples.
#[derive(Clone, Default)]
pub(super) struct LoopState<'a> {
    pub(super) tuples: Vec<Tuple<'a>>,
    /// The running values of `carry`, by the position of their clauses.
    pub(super) carried: HashMap<usize, Option<Value<'a>>>,
    /// The tuples of `window`, by the position of their clauses.
    pub(super) windows: HashMap<usize, Window<'a>>,
}

/// The last tuples that a window has seen.
#[derive(Clone, Default)]
pub(super) struct Window<'a> {
    pub(super) tuples: VecDeque<Vec<Option<Value<'a>>>>,
    /// How many of the next tuples belong to no window.
    pub(super) skip: u64,
}

impl LoopState<'_> {
    /// What is kept from tuple to tuple, each value as `copy` gives it; without the tuples that are held back.
    pub(super) fn running<'g>(&self, copy: &dyn Fn(Value<'_>) -> Value<'g>) -> LoopState<'g> {
        let carried = self.carried.iter().map(|(at, value)| (*at, value.map(copy)));
        let window = |seen: &Window<'_>| Window {
            tuples: seen
                .tuples
                .iter()
                .map(|tuple| tuple.iter().map(|value| value.map(copy)).collect())
                .collect(),
            skip: seen.skip,
        };
        LoopState {
            tuples: Vec::new(),
            carried: carried.collect(),
            windows: self.windows.iter().map(|(at, seen)| (*at, window(seen))).collect(),
        }
    }
}

/// A tuple that was put aside.
#[derive(Clone)]
pub(super) struct Tuple<'a> {
    /// What it is ordered by.
    pub(super) keys: Vec<Option<Value<'a>>>,
    /// The values of the names bound since the first `for`; behind these, what the tuple returns as a line of JSON, if it waits as that.
    pub(super) names: Vec<Option<Value<'a>>>,
}
