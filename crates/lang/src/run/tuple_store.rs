//! The tuples that a blocking clause (`order by`, `group by`) keeps until the end of a stream of records.
//!
//! Up to the first blocking clause each tuple runs with its record. The values that later clauses name are then copied into an arena that
//! lives to the end of the stream, without their origins. With `order by … first n` only tuples that may be among the first n are kept.

use std::ops::Range;

use kyanite_tree::{Arena, Packed, Value};
use smallvec::SmallVec;

use super::order::{order, rank, ranks, sort};
use super::spill::{By, Merge, SpillSettings, Spilled, TupleBuffer, keys_of, tuple};
use super::tuples::{LoopState, Tuple};
use super::{RecordState, Runner};
use crate::plan::{ClauseKind, Loop, OrderKey, Plan, Start};
use crate::rule_error::RunResult;
use kyanite_eval::rank::Rank;

/// Tuples that are kept beside those that are wanted, before the rest goes.
const AHEAD: usize = 1000;

/// Of more tuples in order than these there is no use in keeping just the first.
const MANY: u64 = 100_000;

/// Bytes of tuples that are handed on with one arena.
pub(super) const BATCH: usize = 1024 * 1024;

/// What is kept of the records of a stream.
pub struct TupleStore<'g> {
    pub(super) arena: &'g Arena,
    pub(super) spill: &'g SpillSettings,
    /// The slots that are named behind the clause that holds tuples.
    pub(super) named: Vec<bool>,
    /// Tuples of which only the first are wanted, or that another clause holds behind that.
    pub(super) tuples: Vec<Tuple<'g>>,
    /// Tuples that are all wanted.
    pub(super) packed: TupleBuffer,
    /// Those that were too many.
    pub(super) spilled: Spilled,
    pub(super) merge: Option<Merge>,
    /// The first rank of each key, for telling numbers from texts.
    pub(super) first: Vec<Option<Rank<'g>>>,
    /// How many of the tuples that wait in the batch were looked at.
    pub(super) screened: usize,
    /// The ranks of the last tuple that is still wanted.
    pub(super) worst: Option<Vec<Option<Rank<'g>>>>,
    /// Running values, and the tuples of windows.
    pub(super) running: LoopState<'g>,
}

/// The tuples that records left which were run over elsewhere, as text.
#[derive(Debug, Default)]
pub struct PackedTuples {
    packed: TupleBuffer,
    /// The first rank of each key.
    first: Vec<Option<Rank<'static>>>,
}

impl PackedTuples {
    /// Whether there are any.
    #[must_use]
    pub fn are_any(&self) -> bool {
        !self.packed.is_empty()
    }
}

/// What the tuples of later records have to come before, to be among those that are wanted.
#[derive(Clone, Debug, Default)]
pub struct Cutoff(Option<Vec<Option<Rank<'static>>>>);

impl<'g> TupleStore<'g> {
    /// Nothing yet; what is kept will live in `arena`, or where there is room for it.
    #[must_use]
    pub fn new(plan: &Plan, arena: &'g Arena, spill: &'g SpillSettings) -> Self {
        let holding = plan.holding();
        Self {
            arena,
            spill,
            named: holding.map(|(repeat, at)| named(repeat, at, plan.frame)).unwrap_or_default(),
            tuples: Vec::new(),
            packed: TupleBuffer::default(),
            spilled: Spilled::default(),
            merge: None,
            first: Vec::new(),
            screened: 0,
            worst: None,
            running: LoopState::default(),
        }
    }

    /// The same for records that follow others, of which this is known.
    #[must_use]
    pub fn with_cutoff(self, cutoff: &Cutoff) -> Self {
        Self { worst: cutoff.0.clone(), ..self }
    }

    /// What is known for the records that follow.
    #[must_use]
    pub fn cutoff(&self) -> Cutoff {
        let owned = |ranks: &Vec<Option<Rank<'_>>>| {
            ranks.iter().map(|rank| rank.clone().map(Rank::into_owned)).collect()
        };
        Cutoff(self.worst.as_ref().map(owned))
    }

    /// Whether tuples are packed, in order or in temporary files: they are to be [handed on](Runner::hand_on_packed) before the end.
    #[must_use]
    pub fn has_packed(&self, plan: &Plan) -> bool {
        let puts_in_order = |(repeat, at): (&Loop, usize)| {
            matches!(repeat.clauses[at].kind, ClauseKind::OrderBy { .. })
        };
        !self.spilled.is_empty()
            || !self.packed.is_empty() && plan.holding().is_some_and(puts_in_order)
    }

    fn copy(&self, values: &[Option<Value<'_>>]) -> Vec<Option<Value<'g>>> {
        values.iter().map(|value| value.map(|value| self.arena.copy(value))).collect()
    }

    /// What the batches so far left running.
    pub(super) fn running(&self) -> LoopState<'g> {
        self.running.clone()
    }

    /// What all batches left: what is running, and the tuples that are held; and the first clause that may hold them.
    pub(super) fn all(&mut self, repeat: &Loop) -> (LoopState<'g>, usize) {
        let position = repeat.holding().unwrap_or_default();
        let mut loop_state = self.running.clone();
        loop_state.tuples = std::mem::take(&mut self.tuples);
        if !self.packed.is_empty()
            && let Some(by) = By::of(&repeat.clauses[position].kind)
        {
            loop_state
                .tuples
                .extend(std::mem::take(&mut self.packed).unpacked(by.keys(), self.arena));
        }
        (loop_state, if self.merge.is_some() { position + 1 } else { 0 })
    }
}

impl TupleStore<'_> {
    /// Keeps the tuples that a clause of the loop holds. Of tuples in order of which only the first `most` are wanted those
    /// that may be among them stay in `tuples` until the end of the batch.
    pub(super) fn keep<'a>(
        &mut self,
        repeat: &Loop,
        most: Option<u64>,
        tuples: &mut Vec<Tuple<'a>>,
    ) -> RunResult<()> {
        let Some(clause) = repeat.holding().map(|position| &repeat.clauses[position].kind) else {
            return Ok(());
        };
        match clause {
            ClauseKind::OrderBy { keys, slots, .. } => {
                self.screen(keys, tuples)?;
                match most.filter(|most| *most <= MANY) {
                    Some(most) if tuples.len() > enough(most) => {
                        cut(keys, tuples, most)?;
                        self.screened = tuples.len();
                        Ok(())
                    }
                    Some(_) => Ok(()),
                    None => {
                        self.screened = 0;
                        tuples
                            .drain(..)
                            .try_for_each(|tuple| self.pack(clause, slots.clone(), tuple))
                    }
                }
            }
            ClauseKind::GroupBy { slots, .. } => {
                tuples.drain(..).try_for_each(|tuple| self.pack(clause, slots.clone(), tuple))
            }
            _ => Ok(()),
        }
    }

    /// Ends a batch: what still waits is kept, what is running goes on in the next.
    pub(super) fn end_batch(
        &mut self,
        repeat: &Loop,
        most: Option<u64>,
        loop_state: &mut LoopState<'_>,
    ) -> RunResult<()> {
        self.running = loop_state.running(&|value| self.arena.copy(value));
        if let (Some(position), Some(most)) = (repeat.holding(), most.filter(|most| *most <= MANY))
            && let ClauseKind::OrderBy { keys, slots, .. } = &repeat.clauses[position].kind
        {
            cut(keys, &mut loop_state.tuples, most)?;
            let tuples = loop_state.tuples.drain(..);
            tuples.for_each(|tuple| self.keep_tuple(slots.clone(), tuple));
            self.screened = 0;
            self.drop_worst(keys, most)?;
        }
        Ok(())
    }

    /// Of tuples in order of which only the first are wanted, drops others once there are many.
    fn drop_worst(&mut self, keys: &[OrderKey], most: u64) -> RunResult<()> {
        let count = self.tuples.len();
        let are_few = most <= FEW && count as u64 >= most;
        if are_few || count > enough(most) {
            cut(keys, &mut self.tuples, most)?;
            if let Some(last) = self.tuples.last() {
                self.worst = Some(ranks(keys, last.keys.iter().copied(), &mut self.first)?);
            }
        }
        Ok(())
    }

    /// The tuples that records elsewhere left, apart from what these were read from.
    #[must_use]
    pub fn into_tuples(mut self) -> PackedTuples {
        let first = self.first.into_iter().map(|rank| rank.map(Rank::into_owned)).collect();
        self.tuples.iter().for_each(|tuple| self.packed.push(tuple));
        PackedTuples { packed: self.packed, first }
    }

    /// Adds the tuples of the records that follow; tells whether they have an order with those before, or else adds none.
    ///
    /// # Errors
    /// When a temporary file cannot be written.
    pub fn join(
        &mut self,
        plan: &Plan,
        state: &RecordState,
        later: &PackedTuples,
    ) -> RunResult<bool> {
        let Some((repeat, position)) = plan.holding() else { return Ok(true) };
        let clause = &repeat.clauses[position].kind;
        if let ClauseKind::OrderBy { keys, .. } = clause {
            if !self.has_order_with(&later.first) {
                return Ok(false);
            }
            let most = Runner::most_wanted(repeat, &state.tally).filter(|most| *most <= MANY);
            if let Some(most) = most {
                self.take_best(keys, &later.packed)?;
                self.drop_worst(keys, most)?;
                return Ok(true);
            }
        }
        self.packed.append(&later.packed);
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

    /// Takes the tuples that may be among those that are wanted.
    fn take_best(&mut self, keys: &[OrderKey], packed: &TupleBuffer) -> RunResult<()> {
        let arena = Arena::new();
        for text in packed.texts() {
            let found = keys_of(&mut Packed::new(text), keys.len(), &arena).unwrap_or_default();
            let mut ranked = Vec::with_capacity(keys.len());
            for (key, value) in keys.iter().zip(&found) {
                ranked.push(rank(key, *value, None)?);
            }
            if self.worst.as_ref().is_none_or(|worst| order(keys, &ranked, worst).is_lt()) {
                self.tuples.extend(tuple(self.arena.text(text), keys.len(), self.arena));
            }
        }
        Ok(())
    }

    /// Looks at the tuples that have come since this was done last: a key without an order is seen where the place of its
    /// value is known, and what cannot be among those that are wanted goes.
    fn screen(&mut self, keys: &[OrderKey], tuples: &mut Vec<Tuple<'_>>) -> RunResult<()> {
        let mut at = self.screened.min(tuples.len());
        self.first.resize(keys.len(), None);
        // Most rules have one key or two, and come here with each record.
        let mut ranked: SmallVec<[Option<Rank<'_>>; 2]> = SmallVec::new();
        while let Some(tuple) = tuples.get(at) {
            ranked.clear();
            for (key, (value, first)) in keys.iter().zip(tuple.keys.iter().zip(&self.first)) {
                ranked.push(rank(key, *value, first.as_ref())?);
            }
            if ranked.iter().zip(&self.first).any(|(now, before)| before.is_none() && now.is_some())
            {
                let values = self.copy(&tuple.keys);
                ranks(keys, values, &mut self.first)?;
            }
            if self.worst.as_ref().is_some_and(|worst| order(keys, &ranked, worst).is_ge()) {
                tuples.remove(at);
            } else {
                at += 1;
            }
        }
        self.screened = at;
        Ok(())
    }

    /// Adds a tuple to the buffer, and writes the buffer to a file when it is full.
    fn pack(
        &mut self,
        clause: &ClauseKind,
        slots: Range<usize>,
        mut tuple: Tuple<'_>,
    ) -> RunResult<()> {
        forget(&mut tuple, &self.named[slots]);
        self.packed.push(&tuple);
        self.spill_if_full(clause)
    }

    fn spill_if_full(&mut self, clause: &ClauseKind) -> RunResult<()> {
        match By::of(clause) {
            Some(by) if self.packed.size() > self.spill.memory => {
                self.spilled.spill(std::mem::take(&mut self.packed), by, self.spill)
            }
            _ => Ok(()),
        }
    }

    pub(super) fn keep_tuple(&mut self, slots: Range<usize>, mut tuple: Tuple<'_>) {
        forget(&mut tuple, &self.named[slots]);
        let (keys, names) = (self.copy(&tuple.keys), self.copy(&tuple.names));
        self.tuples.push(Tuple { keys, names });
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

/// Forgets what a tuple bound to names that do not come again.
fn forget(tuple: &mut Tuple<'_>, named: &[bool]) {
    for (name, is_named) in tuple.names.iter_mut().zip(named) {
        name.take_if(|_| !is_named);
    }
}

/// Of so few tuples that are wanted the worst is known after each batch, so that most of the next are dropped at once.
const FEW: u64 = 256;

/// How many tuples are kept before only the wanted ones are.
fn enough(most: u64) -> usize {
    usize::try_from(most).unwrap_or(usize::MAX).saturating_mul(2).saturating_add(AHEAD)
}

/// Keeps the first `most` tuples in order.
fn cut<'a>(keys: &[OrderKey], tuples: &mut Vec<Tuple<'a>>, most: u64) -> RunResult<()> {
    sort(keys, tuples)?;
    tuples.truncate(usize::try_from(most).unwrap_or(usize::MAX));
    Ok(())
}
