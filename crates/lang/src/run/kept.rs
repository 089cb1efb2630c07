//! What a run over records keeps of them for the clauses that look at more than one turn.
//!
//! Up to the first clause that has to see all turns each turn runs with its record. What later clauses name of it is then
//! copied to where it stays until the end of the stream, without the places that it was read from; of turns of which only
//! the first few are wanted, in order, only those that may be among them.

use kyanite_tree::{Arena, Value};

use super::Ran;
use super::clauses::{Held, Turn};
use super::order::{order, ranks};
use crate::plan::{ClauseKind, Loop, OrderKey, Plan, Start};
use crate::rank::Rank;

/// Turns that are kept beside those that are wanted, before the rest goes.
const AHEAD: usize = 1000;

/// What is kept of the records of a stream.
pub struct Kept<'g> {
    arena: &'g Arena,
    /// The slots that are named behind the clause that holds turns.
    named: Vec<bool>,
    turns: Vec<Turn<'g>>,
    /// The first rank of each key, for telling numbers from texts.
    first: Vec<Option<Rank<'g>>>,
    /// The ranks of the last turn that is still wanted.
    worst: Option<Vec<Option<Rank<'g>>>>,
    /// Running values, and the turns of windows.
    running: Held<'g>,
}

impl<'g> Kept<'g> {
    /// Nothing yet; what is kept will live in `arena`.
    #[must_use]
    pub fn new(plan: &Plan, arena: &'g Arena) -> Self {
        let mut named = vec![false; plan.frame];
        if let Some((repeat, position)) = plan.holding() {
            repeat.each_start_behind(position, &mut |start| {
                if let Start::Local(slot) = start {
                    named[*slot] = true;
                }
            });
        }
        Self {
            arena,
            named,
            turns: Vec::new(),
            first: Vec::new(),
            worst: None,
            running: Held::default(),
        }
    }

    fn copy(&self, values: &[Option<Value<'_>>]) -> Vec<Option<Value<'g>>> {
        values.iter().map(|value| value.map(|value| self.arena.copy(value))).collect()
    }

    /// Takes over what a batch of records leaves running.
    pub(super) fn put_down(&mut self, running: &Held<'_>) {
        self.running = running.running(&|value| self.arena.copy(value));
    }

    /// What the batches so far left running.
    pub(super) fn running(&self) -> Held<'g> {
        self.running.clone()
    }

    /// What all batches left: what is running, and the turns that are held.
    pub(super) fn all(&mut self) -> Held<'g> {
        let mut held = self.running.clone();
        held.turns = std::mem::take(&mut self.turns);
        held
    }
}

impl Kept<'_> {
    /// Keeps the turns that a clause of the loop holds; of turns in order, `most` are wanted if only the first few are.
    pub(super) fn keep<'a>(
        &mut self,
        repeat: &Loop,
        most: Option<u64>,
        turns: impl Iterator<Item = Turn<'a>>,
    ) -> Ran<()> {
        let Some(clause) = repeat.holding().map(|position| &repeat.clauses[position].kind) else {
            return Ok(());
        };
        for turn in turns {
            match clause {
                ClauseKind::OrderBy { keys, slots, .. } => {
                    self.keep_ordered(keys, slots.start, most, turn)?;
                }
                ClauseKind::GroupBy { slots, .. } => self.keep_turn(slots.start, turn),
                _ => {}
            }
        }
        Ok(())
    }

    fn keep_ordered(
        &mut self,
        keys: &[OrderKey],
        first_slot: usize,
        most: Option<u64>,
        turn: Turn<'_>,
    ) -> Ran<()> {
        // A key without an order is seen here, where the place of its value is known.
        let mut first: Vec<Option<Rank<'_>>> = self.first.clone();
        let ranks = ranks(keys, &turn, &mut first)?;
        if self.worst.as_ref().is_some_and(|worst| order(keys, &ranks, worst).is_ge()) {
            return Ok(());
        }
        self.keep_turn(first_slot, turn);
        if let Some(turn) = self.turns.last() {
            super::order::ranks(keys, turn, &mut self.first)?;
        }
        let most = most.and_then(|most| usize::try_from(most).ok()).unwrap_or(usize::MAX);
        if self.turns.len() > most.saturating_mul(2).saturating_add(AHEAD) {
            self.cut(keys, most)?;
        }
        Ok(())
    }

    fn keep_turn(&mut self, first_slot: usize, mut turn: Turn<'_>) {
        for (name, is_named) in turn.names.iter_mut().zip(&self.named[first_slot..]) {
            name.take_if(|_| !is_named);
        }
        let (keys, names) = (self.copy(&turn.keys), self.copy(&turn.names));
        self.turns.push(Turn { keys, names });
    }

    /// Keeps the first `most` turns.
    fn cut(&mut self, keys: &[OrderKey], most: usize) -> Ran<()> {
        let mut ranked = Vec::with_capacity(self.turns.len());
        for turn in self.turns.drain(..) {
            ranked.push((ranks(keys, &turn, &mut self.first)?, turn));
        }
        ranked.sort_by(|(a, _), (b, _)| order(keys, a, b));
        ranked.truncate(most);
        self.worst = ranked.last().map(|(ranks, _)| ranks.clone());
        self.turns.extend(ranked.into_iter().map(|(_, turn)| turn));
        Ok(())
    }
}
