//! What a run over records keeps of them for the clauses that look at more than one turn.
//!
//! Up to the first clause that has to see all turns each turn runs with its record. What later clauses name of it is then
//! copied to where it stays until the end of the stream, without the places that it was read from; of turns of which only
//! the first few are wanted, in order, only those that may be among them.

use kyanite_tree::{Arena, Value};

use super::Ran;
use super::clauses::{Held, Turn};
use super::order::{order, ranks, sort};
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
    /// How many of the turns that wait in the batch were looked at.
    screened: usize,
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
            screened: 0,
            worst: None,
            running: Held::default(),
        }
    }

    fn copy(&self, values: &[Option<Value<'_>>]) -> Vec<Option<Value<'g>>> {
        values.iter().map(|value| value.map(|value| self.arena.copy(value))).collect()
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
    /// Keeps the turns that a clause of the loop holds. Of turns in order of which only the first `most` are wanted those
    /// that may be among them stay in `turns` until the end of the batch.
    pub(super) fn keep<'a>(
        &mut self,
        repeat: &Loop,
        most: Option<u64>,
        turns: &mut Vec<Turn<'a>>,
    ) -> Ran<()> {
        match repeat.holding().map(|position| &repeat.clauses[position].kind) {
            Some(ClauseKind::OrderBy { keys, slots, .. }) => {
                self.screen(keys, turns)?;
                match most {
                    Some(most) if turns.len() > enough(most) => {
                        cut(keys, turns, most)?;
                        self.screened = turns.len();
                        Ok(())
                    }
                    Some(_) => Ok(()),
                    None => {
                        turns.drain(..).for_each(|turn| self.keep_turn(slots.start, turn));
                        self.screened = 0;
                        Ok(())
                    }
                }
            }
            Some(ClauseKind::GroupBy { slots, .. }) => {
                turns.drain(..).for_each(|turn| self.keep_turn(slots.start, turn));
                Ok(())
            }
            _ => Ok(()),
        }
    }

    /// Ends a batch: what still waits is kept, what is running goes on in the next.
    pub(super) fn end_batch(
        &mut self,
        repeat: &Loop,
        most: Option<u64>,
        held: &mut Held<'_>,
    ) -> Ran<()> {
        self.running = held.running(&|value| self.arena.copy(value));
        if let (Some(position), Some(most)) = (repeat.holding(), most)
            && let ClauseKind::OrderBy { keys, slots, .. } = &repeat.clauses[position].kind
        {
            cut(keys, &mut held.turns, most)?;
            held.turns.drain(..).for_each(|turn| self.keep_turn(slots.start, turn));
            self.screened = 0;
            if self.turns.len() > enough(most) {
                cut(keys, &mut self.turns, most)?;
                if let Some(last) = self.turns.last() {
                    self.worst = Some(ranks(keys, last, &mut self.first)?);
                }
            }
        }
        Ok(())
    }

    /// Looks at the turns that have come since this was done last: a key without an order is seen where the place of its
    /// value is known, and what cannot be among those that are wanted goes.
    fn screen(&mut self, keys: &[OrderKey], turns: &mut Vec<Turn<'_>>) -> Ran<()> {
        let mut at = self.screened.min(turns.len());
        while let Some(turn) = turns.get(at) {
            let mut first: Vec<Option<Rank<'_>>> = self.first.clone();
            let ranked = ranks(keys, turn, &mut first)?;
            if first.iter().zip(&self.first).any(|(now, before)| now.is_some() != before.is_some())
                || self.first.len() < keys.len()
            {
                let keys_of_first: Vec<_> = self.copy(&turn.keys);
                let copy = Turn { keys: keys_of_first, names: Vec::new() };
                ranks(keys, &copy, &mut self.first)?;
            }
            if self.worst.as_ref().is_some_and(|worst| order(keys, &ranked, worst).is_ge()) {
                turns.remove(at);
            } else {
                at += 1;
            }
        }
        self.screened = at;
        Ok(())
    }

    fn keep_turn(&mut self, first_slot: usize, mut turn: Turn<'_>) {
        for (name, is_named) in turn.names.iter_mut().zip(&self.named[first_slot..]) {
            name.take_if(|_| !is_named);
        }
        let (keys, names) = (self.copy(&turn.keys), self.copy(&turn.names));
        self.turns.push(Turn { keys, names });
    }
}

/// How many turns are kept before only the wanted ones are.
fn enough(most: u64) -> usize {
    usize::try_from(most).unwrap_or(usize::MAX).saturating_mul(2).saturating_add(AHEAD)
}

/// Keeps the first `most` turns in order.
fn cut<'a>(keys: &[OrderKey], turns: &mut Vec<Turn<'a>>, most: u64) -> Ran<()> {
    sort(keys, turns)?;
    turns.truncate(usize::try_from(most).unwrap_or(usize::MAX));
    Ok(())
}
