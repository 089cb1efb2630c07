//! What a run over records keeps of them for the clauses that look at more than one turn.
//!
//! Up to the first clause that has to see all turns each turn runs with its record. What later clauses name of it is then
//! copied to where it stays until the end of the stream, without the places that it was read from; of turns of which only
//! the first few are wanted, in order, only those that may be among them.

use kyanite_tree::{Arena, Packed, Value};

use super::order::{order, rank, ranks, sort};
use super::spill::{By, Merge, Room, Spilled, TupleBuffer, keys_of, turn};
use super::turns::{Held, Turn};
use super::{RecordState, Runner};
use crate::failure::Ran;
use crate::plan::{ClauseKind, Loop, OrderKey, Plan, Start};
use kyanite_eval::rank::Rank;

/// Turns that are kept beside those that are wanted, before the rest goes.
const AHEAD: usize = 1000;

/// Of more turns in order than these there is no use in keeping just the first.
const MANY: u64 = 100_000;

/// Bytes of turns that are handed on with one arena.
pub(super) const BATCH: usize = 1024 * 1024;

/// What is kept of the records of a stream.
pub struct Kept<'g> {
    pub(super) arena: &'g Arena,
    pub(super) room: &'g Room,
    /// The slots that are named behind the clause that holds turns.
    pub(super) named: Vec<bool>,
    /// Turns of which only the first are wanted, or that another clause holds behind that.
    pub(super) turns: Vec<Turn<'g>>,
    /// Turns that are all wanted.
    pub(super) tuples: TupleBuffer,
    /// Those that were too many.
    pub(super) spilled: Spilled,
    pub(super) merge: Option<Merge>,
    /// The first rank of each key, for telling numbers from texts.
    pub(super) first: Vec<Option<Rank<'g>>>,
    /// How many of the turns that wait in the batch were looked at.
    pub(super) screened: usize,
    /// The ranks of the last turn that is still wanted.
    pub(super) worst: Option<Vec<Option<Rank<'g>>>>,
    /// Running values, and the turns of windows.
    pub(super) running: Held<'g>,
}

/// The turns that records left which were run over elsewhere, as text.
#[derive(Debug, Default)]
pub struct KeptTurns {
    tuples: TupleBuffer,
    /// The first rank of each key.
    first: Vec<Option<Rank<'static>>>,
}

impl KeptTurns {
    /// Whether there are any.
    #[must_use]
    pub fn are_any(&self) -> bool {
        !self.tuples.is_empty()
    }
}

/// What the turns of later records have to come before, to be among those that are wanted.
#[derive(Clone, Debug, Default)]
pub struct Bar(Option<Vec<Option<Rank<'static>>>>);

impl<'g> Kept<'g> {
    /// Nothing yet; what is kept will live in `arena`, or where there is room for it.
    #[must_use]
    pub fn new(plan: &Plan, arena: &'g Arena, room: &'g Room) -> Self {
        let holding = plan.holding();
        Self {
            arena,
            room,
            named: holding.map(|(repeat, at)| named(repeat, at, plan.frame)).unwrap_or_default(),
            turns: Vec::new(),
            tuples: TupleBuffer::default(),
            spilled: Spilled::default(),
            merge: None,
            first: Vec::new(),
            screened: 0,
            worst: None,
            running: Held::default(),
        }
    }

    /// The same for records that follow others, of which this is known.
    #[must_use]
    pub fn below(self, bar: &Bar) -> Self {
        Self { worst: bar.0.clone(), ..self }
    }

    /// What is known for the records that follow.
    #[must_use]
    pub fn bar(&self) -> Bar {
        let owned = |ranks: &Vec<Option<Rank<'_>>>| {
            ranks.iter().map(|rank| rank.clone().map(Rank::into_owned)).collect()
        };
        Bar(self.worst.as_ref().map(owned))
    }

    /// Whether turns are packed, in order or in temporary files: they are to be [handed on](Runner::hand_on_packed) before the end.
    #[must_use]
    pub fn has_packed(&self, plan: &Plan) -> bool {
        let puts_in_order = |(repeat, at): (&Loop, usize)| {
            matches!(repeat.clauses[at].kind, ClauseKind::OrderBy { .. })
        };
        !self.spilled.is_empty()
            || !self.tuples.is_empty() && plan.holding().is_some_and(puts_in_order)
    }

    fn copy(&self, values: &[Option<Value<'_>>]) -> Vec<Option<Value<'g>>> {
        values.iter().map(|value| value.map(|value| self.arena.copy(value))).collect()
    }

    /// What the batches so far left running.
    pub(super) fn running(&self) -> Held<'g> {
        self.running.clone()
    }

    /// What all batches left: what is running, and the turns that are held; and the first clause that may hold them.
    pub(super) fn all(&mut self, repeat: &Loop) -> (Held<'g>, usize) {
        let position = repeat.holding().unwrap_or_default();
        let mut held = self.running.clone();
        held.turns = std::mem::take(&mut self.turns);
        if !self.tuples.is_empty()
            && let Some(by) = By::of(&repeat.clauses[position].kind)
        {
            held.turns.extend(std::mem::take(&mut self.tuples).unpacked(by.keys(), self.arena));
        }
        (held, if self.merge.is_some() { position + 1 } else { 0 })
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
        let Some(clause) = repeat.holding().map(|position| &repeat.clauses[position].kind) else {
            return Ok(());
        };
        match clause {
            ClauseKind::OrderBy { keys, slots, .. } => {
                self.screen(keys, turns)?;
                match most.filter(|most| *most <= MANY) {
                    Some(most) if turns.len() > enough(most) => {
                        cut(keys, turns, most)?;
                        self.screened = turns.len();
                        Ok(())
                    }
                    Some(_) => Ok(()),
                    None => {
                        self.screened = 0;
                        turns.drain(..).try_for_each(|turn| self.tuples(clause, slots.start, turn))
                    }
                }
            }
            ClauseKind::GroupBy { slots, .. } => {
                turns.drain(..).try_for_each(|turn| self.tuples(clause, slots.start, turn))
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
        if let (Some(position), Some(most)) = (repeat.holding(), most.filter(|most| *most <= MANY))
            && let ClauseKind::OrderBy { keys, slots, .. } = &repeat.clauses[position].kind
        {
            cut(keys, &mut held.turns, most)?;
            held.turns.drain(..).for_each(|turn| self.keep_turn(slots.start, turn));
            self.screened = 0;
            self.drop_worst(keys, most)?;
        }
        Ok(())
    }

    /// Of turns in order of which only the first are wanted, drops others once there are many.
    fn drop_worst(&mut self, keys: &[OrderKey], most: u64) -> Ran<()> {
        let count = self.turns.len();
        let are_few = most <= FEW && count as u64 >= most;
        if are_few || count > enough(most) {
            cut(keys, &mut self.turns, most)?;
            if let Some(last) = self.turns.last() {
                self.worst = Some(ranks(keys, last, &mut self.first)?);
            }
        }
        Ok(())
    }

    /// The turns that records elsewhere left, apart from what these were read from.
    #[must_use]
    pub fn into_turns(mut self) -> KeptTurns {
        let first = self.first.into_iter().map(|rank| rank.map(Rank::into_owned)).collect();
        self.turns.iter().for_each(|turn| self.tuples.push(turn));
        KeptTurns { tuples: self.tuples, first }
    }

    /// Adds the turns of the records that follow; tells whether they have an order with those before, or else adds none.
    ///
    /// # Errors
    /// When a temporary file cannot be written.
    pub fn join(&mut self, plan: &Plan, state: &RecordState, later: &KeptTurns) -> Ran<bool> {
        let Some((repeat, position)) = plan.holding() else { return Ok(true) };
        let clause = &repeat.clauses[position].kind;
        if let ClauseKind::OrderBy { keys, .. } = clause {
            if !self.has_order_with(&later.first) {
                return Ok(false);
            }
            let most = Runner::most_wanted(repeat, &state.tally).filter(|most| *most <= MANY);
            if let Some(most) = most {
                self.take_best(keys, &later.tuples)?;
                self.drop_worst(keys, most)?;
                return Ok(true);
            }
        }
        self.tuples.append(&later.tuples);
        self.spill_if_full(clause)?;
        Ok(true)
    }

    /// Whether the first ranks of keys have an order with those that came before; then they are noted.
    fn has_order_with(&mut self, later: &[Option<Rank<'static>>]) -> bool {
        self.first.resize(self.first.len().max(later.len()), None);
        let has_order = self.first.iter().zip(later).all(|pair| match pair {
            (Some(own), Some(later)) => own.order(later).is_ok(),
            _ => true,
        });
        if !has_order {
            return false;
        }
        for (own, later) in self.first.iter_mut().zip(later) {
            if own.is_none() {
                own.clone_from(later);
            }
        }
        true
    }

    /// Takes the turns that may be among those that are wanted.
    fn take_best(&mut self, keys: &[OrderKey], tuples: &TupleBuffer) -> Ran<()> {
        let arena = Arena::new();
        for text in tuples.texts() {
            let found = keys_of(&mut Packed::new(text), keys.len(), &arena).unwrap_or_default();
            let mut ranked = Vec::with_capacity(keys.len());
            for (key, value) in keys.iter().zip(&found) {
                ranked.push(rank(key, *value, None)?);
            }
            if self.worst.as_ref().is_none_or(|worst| order(keys, &ranked, worst).is_lt()) {
                self.turns.extend(turn(self.arena.text(text), keys.len(), self.arena));
            }
        }
        Ok(())
    }

    /// Looks at the turns that have come since this was done last: a key without an order is seen where the place of its
    /// value is known, and what cannot be among those that are wanted goes.
    fn screen(&mut self, keys: &[OrderKey], turns: &mut Vec<Turn<'_>>) -> Ran<()> {
        let mut at = self.screened.min(turns.len());
        self.first.resize(keys.len(), None);
        while let Some(turn) = turns.get(at) {
            let mut ranked = Vec::with_capacity(keys.len());
            for (key, (value, first)) in keys.iter().zip(turn.keys.iter().zip(&self.first)) {
                ranked.push(rank(key, *value, first.as_ref())?);
            }
            if ranked.iter().zip(&self.first).any(|(now, before)| before.is_none() && now.is_some())
            {
                let copy = Turn { keys: self.copy(&turn.keys), names: Vec::new() };
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

    /// Adds a turn to the buffer, and writes the buffer to a file when it is full.
    fn tuples(&mut self, clause: &ClauseKind, first_slot: usize, mut turn: Turn<'_>) -> Ran<()> {
        forget(&mut turn, &self.named[first_slot..]);
        self.tuples.push(&turn);
        self.spill_if_full(clause)
    }

    fn spill_if_full(&mut self, clause: &ClauseKind) -> Ran<()> {
        match By::of(clause) {
            Some(by) if self.tuples.size() > self.room.memory => {
                self.spilled.spill(std::mem::take(&mut self.tuples), by, self.room)
            }
            _ => Ok(()),
        }
    }

    pub(super) fn keep_turn(&mut self, first_slot: usize, mut turn: Turn<'_>) {
        forget(&mut turn, &self.named[first_slot..]);
        let (keys, names) = (self.copy(&turn.keys), self.copy(&turn.names));
        self.turns.push(Turn { keys, names });
    }
}

/// The slots that are named behind the clause at `position`.
pub(super) fn named(repeat: &Loop, position: usize, frame: usize) -> Vec<bool> {
    let mut named = vec![false; frame];
    repeat.each_start_behind(position, &mut |start| {
        if let Start::Local(slot) = start {
            named[*slot] = true;
        }
    });
    named
}

/// Forgets what a turn bound to names that do not come again.
fn forget(turn: &mut Turn<'_>, named: &[bool]) {
    for (name, is_named) in turn.names.iter_mut().zip(named) {
        name.take_if(|_| !is_named);
    }
}

/// Of so few turns that are wanted the worst is known after each batch, so that most of the next are dropped at once.
const FEW: u64 = 256;

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
