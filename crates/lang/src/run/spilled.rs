//! Hands on packed tuples, from memory or from temporary files.

use kyanite_tree::Value;

use super::group::Group;
use super::spill::{By, names_of, tuple};
use super::tuple_store::{BATCH, TupleStore, named};
use super::{RecordState, Runner};
use crate::plan::ClauseKind;
use crate::rule_error::{Flow, RunResult};

/// What comes of a tuple that waited.
#[derive(Clone, Copy, Debug)]
pub enum HandedOn<'a> {
    /// A value.
    Value(Value<'a>),
    /// A value as a line of JSON, without its end.
    Line(&'a str),
}

impl<'a> Runner<'_, 'a> {
    /// Hands on some of the tuples that were kept packed, in order, to the clauses behind the one that held them;
    /// `Break` when that were all, or no more are wanted. The arena of the runner may be reset behind it.
    ///
    /// # Errors
    /// A [`RuleError`](crate::RuleError) in what comes of them, or when a file cannot be read.
    pub fn hand_on_packed(
        mut self,
        state: &mut RecordState,
        store: &mut TupleStore<'_>,
        emit: &mut dyn FnMut(HandedOn<'a>) -> Flow,
    ) -> RunResult<Flow> {
        let Some((repeat, position)) = self.plan.holding() else { return Ok(Flow::Break(())) };
        let clause = &repeat.clauses[position].kind;
        let Some(by) = By::of(clause) else { return Ok(Flow::Break(())) };
        let mut merge = match store.merge.take() {
            Some(merge) => merge,
            None => {
                std::mem::take(&mut store.spilled).merge(std::mem::take(&mut store.packed), by)?
            }
        };
        let mut loop_state = store.running.running(&|value| self.arena.copy(value));
        let (mut flow, mut bytes) = (Flow::Continue(()), 0);
        let mut names = Vec::new();
        while flow.is_continue() && bytes < BATCH {
            if let ClauseKind::OrderBy { slots, .. } = clause {
                let Some(text) = merge.next(by, self.arena)? else {
                    flow = Flow::Break(());
                    break;
                };
                bytes += text.len();
                if names_of(text, by.keys(), self.arena, &mut names).is_none() {
                    continue;
                }
                // Behind the names is the line that the tuple waits as, if it does.
                if let Some(Some(Value::Text(_, line))) = names.get(slots.len()) {
                    if !line.is_empty() {
                        flow = emit(HandedOn::Line(line));
                    }
                    continue;
                }
                self.restore(slots.clone(), &names);
                let tally = &mut state.tally;
                let emit = &mut |item| emit(HandedOn::Value(item));
                flow = self.clauses(repeat, position + 1, tally, &mut loop_state, emit)?;
                continue;
            }
            let mut tuples = Vec::new();
            let group = merge.next_group();
            while let Some(text) = merge.next(by, self.arena)? {
                bytes += text.len();
                tuples.extend(tuple(text, by.keys(), self.arena));
                if merge.next_group() != group {
                    break;
                }
            }
            let Some(first) = tuples.first() else {
                flow = Flow::Break(());
                break;
            };
            if let ClauseKind::GroupBy { keys, slots, .. } = clause {
                let group = Group { keys: first.keys.clone(), tuples };
                self.bind_group(keys, slots.clone(), &group);
            }
            let emit = &mut |item| emit(HandedOn::Value(item));
            flow = self.clauses(repeat, position + 1, &mut state.tally, &mut loop_state, emit)?;
        }
        store.merge = Some(merge);
        store.running = loop_state.running(&|value| store.arena.copy(value));
        if let Some(at) = repeat.holding_behind(position) {
            store.named = named(repeat, at, self.plan.frame);
            let slots = repeat.clauses[at].kind.slots();
            let tuples = loop_state.tuples.into_iter();
            tuples.for_each(|tuple| store.keep_tuple(slots.clone(), tuple));
        }
        Ok(flow)
    }
}
