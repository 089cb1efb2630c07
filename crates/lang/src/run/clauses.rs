//! Running clauses: each tuple of a `for` is handed from clause to clause, down to `return`.

use std::ops::{ControlFlow, Range};

use kyanite_tree::{Code, Value, nesting};

use super::folded::Folded;
use super::order::sort;
use super::tuples::{LoopState, Tally, Tuple};
use super::{Runner, group};
use crate::plan::{Clause, ClauseKind, Expr, ForSource, Loop};
use crate::rule_error::{Flow, RunResult, instead, rule_error};

/// Tuples that are kept beside those that are wanted, before the rest goes.
const AHEAD: u64 = 1000;

impl<'a> Runner<'_, 'a> {
    /// Runs a loop; gives each item to `emit`, until it wants no more.
    pub(super) fn repeat(
        &mut self,
        repeat: &'a Loop,
        emit: &mut dyn FnMut(Value<'a>) -> Flow,
    ) -> RunResult<Flow> {
        let mut tally = self.begin_loop(repeat)?;
        let mut loop_state = LoopState::default();
        let flow = self.clauses(repeat, 0, &mut tally, &mut loop_state, emit)?;
        self.hand_on(repeat, 0, tally, loop_state, flow, emit)
    }

    /// Hands the tuples that a clause, from that of number `from` on, has held back to the clauses behind it: all of them have
    /// come.
    pub(super) fn hand_on(
        &mut self,
        repeat: &'a Loop,
        from: usize,
        mut tally: Tally,
        mut loop_state: LoopState<'a>,
        mut flow: Flow,
        emit: &mut dyn FnMut(Value<'a>) -> Flow,
    ) -> RunResult<Flow> {
        for (position, clause) in repeat.clauses.iter().enumerate().skip(from) {
            // That an earlier clause wanted no more tuples does not end these.
            match &clause.kind {
                ClauseKind::OrderBy { keys, slots, .. } => {
                    let mut tuples = std::mem::take(&mut loop_state.tuples);
                    sort(keys, &mut tuples)?;
                    flow = ControlFlow::Continue(());
                    for tuple in tuples {
                        self.restore(slots.clone(), &tuple.names);
                        flow =
                            self.clauses(repeat, position + 1, &mut tally, &mut loop_state, emit)?;
                        if flow.is_break() {
                            break;
                        }
                    }
                }
                ClauseKind::GroupBy { keys, slots, folds: Some(folds) } => {
                    let folded = std::mem::take(&mut tally.folded);
                    flow = ControlFlow::Continue(());
                    let group_keys: Vec<_> =
                        folded.groups.iter().map(|group| group.keys.clone()).collect();
                    self.folded_groups.insert(self.frame + folds.slot, (folds, folded));
                    for (number, group) in group_keys.iter().enumerate() {
                        self.bind_folded(folds, slots.clone(), number);
                        for ((slot, _), key) in keys.iter().zip(group) {
                            let key = self.key_of(key.as_ref());
                            self.set_local(*slot, key);
                        }
                        flow =
                            self.clauses(repeat, position + 1, &mut tally, &mut loop_state, emit)?;
                        if flow.is_break() {
                            break;
                        }
                    }
                }
                ClauseKind::GroupBy { keys, slots, folds: None } => {
                    let groups = group::group(std::mem::take(&mut loop_state.tuples));
                    flow = ControlFlow::Continue(());
                    for group in groups {
                        self.bind_group(keys, slots.clone(), &group);
                        flow =
                            self.clauses(repeat, position + 1, &mut tally, &mut loop_state, emit)?;
                        if flow.is_break() {
                            break;
                        }
                    }
                }
                _ => {}
            }
        }
        Ok(flow)
    }

    pub(super) fn restore(&mut self, slots: Range<usize>, names: &[Option<Value<'a>>]) {
        for (slot, value) in slots.zip(names) {
            self.set_local(slot, *value);
        }
    }

    /// Binds what a loop binds once, and evaluates its counts.
    pub(super) fn begin_loop(&mut self, repeat: &'a Loop) -> RunResult<Tally> {
        self.bind(&repeat.before)?;
        let mut counts = Vec::with_capacity(repeat.clauses.len());
        for clause in &repeat.clauses {
            counts.push(match &clause.kind {
                ClauseKind::Skip(count) | ClauseKind::First(count) => self.how_many(count)?,
                _ => 0,
            });
        }
        Ok(Tally { counts, folded: Folded::default() })
    }

    /// How many tuples are wanted behind the clause that holds them, if only the first few are.
    pub(super) fn most_wanted(repeat: &Loop, tally: &Tally) -> Option<u64> {
        let position = repeat.holding()?;
        match &repeat.clauses[position].kind {
            ClauseKind::OrderBy { is_bounded: true, .. } => tally.counts.get(position + 1).copied(),
            _ => None,
        }
    }

    fn how_many(&mut self, expr: &'a Expr) -> RunResult<u64> {
        let value = self.value(expr)?;
        let number = match value {
            Some(Value::Number(_, number)) => number.as_integer(),
            None => return Err(self.missing(expr, None, "a count is needed")),
            Some(_) => None,
        };
        number.and_then(|number| u64::try_from(number).ok()).ok_or_else(|| {
            rule_error(Code::ValueKind, expr.span, "a count is a whole number from 0 on")
                .about(value)
        })
    }

    /// The size or the step of a window.
    fn how_many_tuples(&mut self, expr: &'a Expr) -> RunResult<u64> {
        match self.how_many(expr)? {
            0 => {
                let words = self.plan.rule.slice(expr.span);
                let message = format!("`{words}` is 0, and a window moves by at least 1 tuple");
                Err(rule_error(Code::ValueKind, expr.span, message))
            }
            count => Ok(count),
        }
    }

    /// Hands the current tuple to the clauses from `position` on. `Break` when no further tuple is wanted.
    pub(super) fn clauses(
        &mut self,
        repeat: &'a Loop,
        position: usize,
        tally: &mut Tally,
        loop_state: &mut LoopState<'a>,
        emit: &mut dyn FnMut(Value<'a>) -> Flow,
    ) -> RunResult<Flow> {
        let Some(clause) = repeat.clauses.get(position) else {
            if self.has_rows(repeat) {
                return self.row(repeat);
            }
            // A tuple that returns nothing leaves no gap.
            return Ok(match self.value(&repeat.result)? {
                Some(item) => emit(item),
                None => ControlFlow::Continue(()),
            });
        };
        let next = position + 1;
        match &clause.kind {
            ClauseKind::For { slot, at, source, join } => {
                if let (Some(join), Some(Clause { kind: ClauseKind::Where { condition, .. } })) =
                    (join, repeat.clauses.get(next))
                {
                    let mut tuple = |runner: &mut Self, node| {
                        runner.set_local(*slot, Some(node));
                        runner.clauses(repeat, next, tally, loop_state, emit)
                    };
                    if let Some(flow) = self.joined(*slot, source, join, condition, &mut tuple)? {
                        return Ok(flow);
                    }
                }
                let mut tuples = 0;
                let mut tuple = |runner: &mut Self, node| {
                    runner.bind_tuple(*slot, *at, node, tuples);
                    tuples += 1;
                    runner.clauses(repeat, next, tally, loop_state, emit)
                };
                match source {
                    ForSource::Nodes(path) => self.each(path, &mut tuple),
                    ForSource::List(list) => {
                        for item in self.items(list)? {
                            if tuple(self, *item)?.is_break() {
                                return Ok(ControlFlow::Break(()));
                            }
                        }
                        Ok(ControlFlow::Continue(()))
                    }
                }
            }
            ClauseKind::Let(slot, value) => {
                let value = self.value(value)?;
                self.set_local(*slot, value);
                self.clauses(repeat, next, tally, loop_state, emit)
            }
            ClauseKind::Where { test, condition } => {
                let holds = self.truth(condition)?;
                self.session.coverage.tested(*test, holds);
                if holds {
                    self.clauses(repeat, next, tally, loop_state, emit)
                } else {
                    Ok(ControlFlow::Continue(()))
                }
            }
            ClauseKind::GroupBy { keys, folds: Some(folds), .. } => {
                self.fold_tuple(folds, keys, &mut tally.folded)?;
                Ok(ControlFlow::Continue(()))
            }
            ClauseKind::GroupBy { keys, slots, folds: None } => {
                let keys = keys
                    .iter()
                    .map(|(_, key)| self.group_key(key))
                    .collect::<RunResult<Vec<_>>>()?;
                let names = slots.clone().map(|slot| self.local(slot)).collect();
                loop_state.tuples.push(Tuple { keys, names });
                Ok(ControlFlow::Continue(()))
            }
            ClauseKind::Carry { slot, from, step } => {
                let before = match loop_state.carried.get(&position) {
                    Some(value) => *value,
                    None => self.value(from)?,
                };
                self.set_local(*slot, before);
                let value = self.value(step)?;
                self.carried += 1;
                if nesting::is_due(self.carried) {
                    self.refuse_deep(step, value)?;
                }
                loop_state.carried.insert(position, value);
                self.set_local(*slot, value);
                self.clauses(repeat, next, tally, loop_state, emit)
            }
            ClauseKind::Window { size, step, slots } => {
                let size = self.how_many_tuples(size)?;
                let step = step.as_ref().map_or(Ok(1), |step| self.how_many_tuples(step))?;
                let names: Vec<_> = slots.clone().map(|slot| self.local(slot)).collect();
                let seen = loop_state.windows.entry(position).or_default();
                if seen.skip > 0 {
                    seen.skip -= 1;
                    return Ok(ControlFlow::Continue(()));
                }
                seen.tuples.push_back(names.clone());
                if (seen.tuples.len() as u64) < size {
                    return Ok(ControlFlow::Continue(()));
                }
                let tuples: Vec<_> = seen.tuples.iter().map(Vec::as_slice).collect();
                self.bind_lists(slots.clone(), &tuples);
                let gone = step.min(size);
                seen.tuples.drain(..gone as usize);
                seen.skip = step - gone;
                let flow = self.clauses(repeat, next, tally, loop_state, emit);
                // The clauses before go on with the values of one tuple.
                self.restore(slots.clone(), &names);
                flow
            }
            ClauseKind::OrderBy { keys: order, slots, is_bounded } => {
                let mut keys = Vec::with_capacity(order.len());
                for key in order {
                    keys.push(self.value(&key.value)?);
                }
                let mut names = Vec::with_capacity(slots.len() + 1);
                if next == repeat.clauses.len() && self.has_rows(repeat) {
                    names.resize(slots.len(), None);
                    names.push(Some(Value::text(self.waiting_line(repeat)?)));
                } else {
                    names.extend(slots.clone().map(|slot| self.local(slot)));
                }
                loop_state.tuples.push(Tuple { keys, names });
                // Of tuples that only the first few of are wanted, the others go now and then.
                if *is_bounded {
                    let store = tally.counts.get(next).copied().unwrap_or(u64::MAX);
                    if loop_state.tuples.len() as u64
                        > store.saturating_mul(2).saturating_add(AHEAD)
                    {
                        sort(order, &mut loop_state.tuples)?;
                        loop_state.tuples.truncate(usize::try_from(store).unwrap_or(usize::MAX));
                    }
                }
                Ok(ControlFlow::Continue(()))
            }
            ClauseKind::Skip(_) => match &mut tally.counts[position] {
                0 => self.clauses(repeat, next, tally, loop_state, emit),
                left => {
                    *left -= 1;
                    Ok(ControlFlow::Continue(()))
                }
            },
            ClauseKind::First(_) => {
                let left = &mut tally.counts[position];
                if *left == 0 {
                    return Ok(ControlFlow::Break(()));
                }
                *left -= 1;
                let last = *left == 0;
                let flow = self.clauses(repeat, next, tally, loop_state, emit)?;
                Ok(if last { ControlFlow::Break(()) } else { flow })
            }
        }
    }

    /// The items that a `for` goes through: a list's, or none of nothing and null.
    pub(super) fn items(&mut self, expr: &'a Expr) -> RunResult<&'a [Value<'a>]> {
        match self.value(expr)? {
            Some(Value::List(_, items)) => Ok(items),
            None | Some(Value::Null(_)) => Ok(&[]),
            Some(other) => {
                let words = self.plan.rule.slice(expr.span);
                let message = format!("for takes a list; `{words}` is {}", other.kind().phrase());
                Err(rule_error(Code::ValueKind, expr.span, message).about(Some(other)).advise(
                    instead(expr.span, format!("[{words}]"), " for a list of that one value"),
                ))
            }
        }
    }
}
