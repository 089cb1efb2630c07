//! Running by record: what a rule does with one record of a list after another, and at the end of all.

use kyanite_eval::accumulator::Accumulator;
use kyanite_formats::json::Slotted;
use kyanite_formats::records::PassedOver;
use kyanite_tree::{Arena, Element, Name, Place, Value};

use super::tuples::Tally;
use super::{Names, Runner, Session, TupleStore};
use crate::functions::CallError;
use crate::plan::{
    ClauseKind, Kind, Loop, ManyPath, Plan, RecordFold, RecordHead, RecordSource, RecordUnit,
    Records, TupleOfRecord,
};
use crate::rule_error::{Flow, RuleError, RunResult};

/// Where a run over records stands between two batches.
#[derive(Debug)]
pub struct RecordState {
    pub(super) tally: Tally,
    /// The aggregate over the records so far, if the rule is about one.
    pub(super) fold: Option<Accumulator>,
    /// How many tuples the outermost `for` has had.
    tuples: i64,
}

impl RecordState {
    /// A state like that before the first record, for records that are run over elsewhere.
    #[must_use]
    pub fn of_part(&self, plan: &Plan) -> Self {
        let fold = plan.fold.as_ref().map(|fold| Accumulator::new(fold.kind));
        Self { tally: self.tally.of_part(), fold, tuples: 0 }
    }

    /// Adds the state of the records that follow. Gives it back, with nothing changed, when the two cannot be joined: then the
    /// records have to be run over one after another, so that the failure has its place.
    ///
    /// # Errors
    /// When the aggregates cannot be joined.
    pub fn join(&mut self, later: &Self) -> Result<(), CannotJoin> {
        let pair = self.fold.as_mut().zip(later.fold.as_ref());
        let joint = pair.map(|(own, later)| own.joint(later).map(|joint| (own, later, joint)));
        let joint = joint.transpose().map_err(|_| CannotJoin)?;
        self.tally.folded.join(&later.tally.folded).map_err(|_| CannotJoin)?;
        if let Some((own, later, joint)) = joint {
            own.join(later, joint);
        }
        self.tuples += later.tuples;
        Ok(())
    }
}

/// Two states of aggregates that have no common one: a number and a text have no order, say.
#[derive(Debug)]
pub struct CannotJoin;

impl<'r, 'a> Runner<'r, 'a> {
    /// A runner for one batch of records, with the names that a first runner has bound.
    pub fn for_batch(
        plan: &'a Plan,
        unit: RecordUnit,
        names: Names<'a>,
        arena: &'a Arena,
        session: &'r mut Session,
    ) -> Self {
        session.coverage.forget_batch();
        let records = plan.records(unit);
        let tuples = records.filter(|_| plan.fold.is_none()).and_then(Records::are_tuples);
        Self { records, tuples, ..Self::with_names(plan, names, arena, session) }
    }

    /// Gets ready to run by record: binds what the outermost loop binds once.
    ///
    /// # Errors
    /// A [`RuleError`] in one of those bindings.
    pub fn begin_records(
        mut self,
        unit: RecordUnit,
    ) -> Result<(Names<'a>, RecordState), RuleError> {
        let plan = self.plan;
        let fold = plan.fold.as_ref().map(|fold| Accumulator::new(fold.kind));
        let mut state = RecordState { tally: Tally::default(), tuples: 0, fold };
        if let Some(Records { source: RecordSource::Loop(repeat, ..), .. }) = plan.records(unit) {
            state.tally = self.begin_loop(repeat)?;
        }
        Ok((self.names, state))
    }

    /// Goes on with what the batches before have left running.
    pub fn take_up<'g: 'a>(&mut self, store: &TupleStore<'g>) {
        self.loop_state = Some(Box::new(store.running()));
    }

    /// Finds the places of failures that recover() stood in for, as [`Coverage::place_recovered`](crate::coverage::Coverage::place_recovered) does.
    pub fn place_recovered(&self, find: impl FnMut(&RuleError) -> Option<Place>) {
        self.session.coverage.place_recovered(find);
    }

    /// Ends a batch: what is running goes on in the next.
    ///
    /// # Errors
    /// A [`RuleError`] of keys that have no order.
    pub fn put_down(
        mut self,
        state: &RecordState,
        store: &mut TupleStore<'_>,
    ) -> Result<(), RuleError> {
        match self.records {
            Some(Records { source: RecordSource::Loop(repeat, ..), .. }) => {
                let most = Self::most_wanted(repeat, &state.tally);
                let mut loop_state = self.loop_state.take().unwrap_or_default();
                for (position, value) in &loop_state.carried {
                    if let Some(ClauseKind::Carry { step, .. }) =
                        repeat.clauses.get(*position).map(|clause| &clause.kind)
                    {
                        self.refuse_deep(step, *value)?;
                    }
                }
                store.end_batch(repeat, most, &mut loop_state)
            }
            _ => Ok(()),
        }
    }

    /// Runs over a record, as [`Self::record`] does: over the one in the slots where `record` is that.
    ///
    /// # Errors
    /// The first [`RuleError`].
    pub fn slotted(
        &mut self,
        state: &mut RecordState,
        store: &mut TupleStore<'_>,
        index: u64,
        record: Slotted<'a>,
        emit: &mut dyn FnMut(Option<Value<'a>>) -> Flow,
    ) -> Result<Flow, RuleError> {
        let record = match record {
            Slotted::Value(record) => record,
            Slotted::Slots(text) => {
                (self.in_slots, self.text) = (true, text);
                // No path looks at the record itself.
                Value::NULL
            }
        };
        let ran = self.record(state, store, index, record, emit);
        self.in_slots = false;
        ran
    }

    /// Runs over the record at `index` of the list that is the document. `Break` when no later record can
    /// matter.
    ///
    /// # Errors
    /// The first [`RuleError`].
    pub fn record(
        &mut self,
        state: &mut RecordState,
        store: &mut TupleStore<'_>,
        index: u64,
        record: Value<'a>,
        emit: &mut dyn FnMut(Option<Value<'a>>) -> Flow,
    ) -> Result<Flow, RuleError> {
        if let Some(tuple) = self.tuples {
            return self.tuple_of_record(tuple, state, store, record, emit);
        }
        let plan = self.plan;
        let Some(Records { head, source, .. }) = self.records else { return Ok(Flow::Break(())) };
        let mut last = false;
        match head {
            RecordHead::All => {}
            RecordHead::Filter(filter) => {
                if !self.test(filter, record)? {
                    return Ok(Flow::Continue(()));
                }
            }
            RecordHead::Slice { start, end, step } => {
                if end.is_some_and(|end| index >= end) {
                    return Ok(Flow::Break(()));
                }
                if index < start || !(index - start).is_multiple_of(step) {
                    return Ok(Flow::Continue(()));
                }
            }
            RecordHead::Index(wanted) => {
                if index < wanted {
                    return Ok(Flow::Continue(()));
                }
                last = true;
            }
        }
        let flow = match &plan.fold {
            Some(fold) => self.fold_record(fold, source, state, record)?,
            None => self.in_record(source, state, record, emit)?,
        };
        if let RecordSource::Loop(repeat, ..) = source {
            self.keep_tuples(repeat, state, store)?;
        }
        Ok(if last { Flow::Break(()) } else { flow })
    }

    /// Runs the clauses behind the first `for` over a record.
    fn tuple_of_record(
        &mut self,
        TupleOfRecord { repeat, path, slot, at }: TupleOfRecord<'a>,
        state: &mut RecordState,
        store: &mut TupleStore<'_>,
        record: Value<'a>,
        emit: &mut dyn FnMut(Option<Value<'a>>) -> Flow,
    ) -> RunResult<Flow> {
        self.session.coverage.met(path);
        self.bind_tuple(slot, at, record, state.tuples);
        state.tuples += 1;
        let mut loop_state = self.loop_state.take().unwrap_or_default();
        let mut emit = |item| emit(Some(item));
        let flow = self.clauses(repeat, 1, &mut state.tally, &mut loop_state, &mut emit);
        self.loop_state = Some(loop_state);
        let flow = flow?;
        self.keep_tuples(repeat, state, store)?;
        Ok(flow)
    }

    /// Keeps the tuples that a clause holds back until the last record.
    #[inline]
    fn keep_tuples(
        &mut self,
        repeat: &'a Loop,
        state: &RecordState,
        store: &mut TupleStore<'_>,
    ) -> RunResult<()> {
        match &mut self.loop_state {
            Some(loop_state) if !loop_state.tuples.is_empty() => {
                let most = Self::most_wanted(repeat, &state.tally);
                store.keep(repeat, most, &mut loop_state.tuples)
            }
            _ => Ok(()),
        }
    }

    /// The next record stands within these elements, outermost first, of which only names and attributes are known.
    pub fn stands_within(&mut self, around: Vec<&'a Element<'a>>) {
        self.around = around;
    }

    /// Elements were passed over by the prefilter of an XPath, before the one that comes next.
    #[inline]
    pub fn passed_over(&mut self, passed_over: &PassedOver) {
        self.holds = passed_over.holds;
        if passed_over.records > 0 || passed_over.holds {
            self.note_passed_over(passed_over);
        }
    }

    fn note_passed_over(&mut self, passed_over: &PassedOver) {
        if let (Some(expression), Some(coverage)) =
            (self.plan.xpath(), self.session.coverage.xpath(0))
        {
            coverage.borrow_mut().passed_over(expression, passed_over);
        }
    }

    /// Adds what a record gives to an aggregate over all.
    fn fold_record(
        &mut self,
        plan: &'a RecordFold,
        source: RecordSource<'a>,
        state: &mut RecordState,
        record: Value<'a>,
    ) -> RunResult<Flow> {
        let Some(mut fold) = state.fold.take() else { return Ok(Flow::Break(())) };
        let mut fault = None;
        let flow = self.in_record(source, state, record, &mut |item| match item
            .map_or(Ok(()), |item| fold.add(item))
        {
            Ok(()) => Flow::Continue(()),
            Err(found) => {
                fault = Some(found);
                Flow::Break(())
            }
        })?;
        fold.forget_place();
        state.fold = Some(fold);
        match (fault, &plan.call.kind) {
            (Some(fault), Kind::Call(signature, arguments)) => {
                Err(self.faulted(signature, fault.into(), &plan.call, arguments, None))
            }
            _ => Ok(flow),
        }
    }

    /// What the rule gives of one record.
    fn in_record(
        &mut self,
        source: RecordSource<'a>,
        state: &mut RecordState,
        record: Value<'a>,
        emit: &mut dyn FnMut(Option<Value<'a>>) -> Flow,
    ) -> RunResult<Flow> {
        match source {
            RecordSource::Many(path) => {
                if self.record_row(record) {
                    self.session.coverage.met(path.id);
                    return Ok(Flow::Continue(()));
                }
                self.rest_of_record(path, record, &mut |_, node| Ok(emit(Some(node))))
            }
            RecordSource::One(path) => {
                let value = self.steps(path, 1, record)?;
                Ok(emit(value))
            }
            RecordSource::XPath(expression) => self.xpath_record(expression, record, emit),
            RecordSource::Loop(repeat, path, slot, at) => {
                let mut loop_state = self.loop_state.take().unwrap_or_default();
                let flow = self.rest_of_record(path, record, &mut |runner, node| {
                    let tuple = state.tuples;
                    state.tuples += 1;
                    runner.bind_tuple(slot, at, node, tuple);
                    runner.clauses(repeat, 1, &mut state.tally, &mut loop_state, &mut |item| {
                        emit(Some(item))
                    })
                });
                self.loop_state = Some(loop_state);
                flow
            }
        }
    }

    /// The nodes that `path` selects in a record, behind the segment that picks records.
    fn rest_of_record(
        &mut self,
        path: &'a ManyPath,
        record: Value<'a>,
        visit: &mut dyn FnMut(&mut Self, Value<'a>) -> RunResult<Flow>,
    ) -> RunResult<Flow> {
        self.session.coverage.asked(path.id);
        match self.slot_path(path.id) {
            None => {
                let rest = self.records.map_or(0, |records| records.rest);
                self.walk(path, rest, record, visit)
            }
            Some((Some(member), steps)) => self.walk(path, steps, member, visit),
            Some((None, _)) => {
                self.session.coverage.not_in_slot(path.id);
                Ok(Flow::Continue(()))
            }
        }
    }

    /// Says that none of the records was found: `others` are the names that stood where one on the path could have stood, with
    /// how many steps of the path led there.
    pub fn no_elements(&mut self, others: &[(usize, Name<'_>)]) {
        if let Some(Records { source, .. }) = self.records {
            let level = others.iter().map(|(level, _)| *level).max().unwrap_or(0);
            let names = others.iter().filter(|(at, _)| *at == level).map(|(_, name)| *name);
            match source.path() {
                Some(path) => self.session.coverage.stopped(path, level, names),
                None => self.session.coverage.xpath_stopped(self.plan, level, names),
            }
        }
    }

    /// Says that the records, which a step without prefix means, are elements of these namespaces.
    pub fn mixed_elements<'n>(&self, namespaces: impl Iterator<Item = &'n str>) {
        if let Some(Records { source, base, .. }) = self.records
            && let (Some(step), Some(path)) = (base.checked_sub(1), source.path())
            && let Some(step) = self.plan.paths[path].steps.get(step)
        {
            self.session.coverage.met_namespaces(step.span, namespaces);
        }
    }

    /// Ends a run over `count` records, or one whose records were gone through elsewhere: the tuples that were kept are handed
    /// on, or an aggregate over them is now known, and the result that needs it is given.
    ///
    /// # Errors
    /// A [`RuleError`] in what is computed from the tuples or the aggregate.
    pub fn end_records<'g: 'a>(
        mut self,
        state: &mut RecordState,
        store: &mut TupleStore<'g>,
        count: Option<u64>,
        emit: &mut dyn FnMut(Option<Value<'a>>) -> Flow,
    ) -> Result<(), RuleError> {
        let plan = self.plan;
        if let (Some((repeat, _)), Some(_)) = (plan.holding(), self.records) {
            let (loop_state, from) = store.all(repeat);
            let mut tally = std::mem::take(&mut state.tally);
            tally.folded.forget_places();
            let go_on = Flow::Continue(());
            let _ =
                self.hand_on(repeat, from, tally, loop_state, go_on, &mut |item| emit(Some(item)))?;
        }
        if let (Some(Records { source, base, .. }), Some(count)) = (self.records, count)
            && (base == 0 || count > 0)
            && let Some(path) = source.path()
        {
            self.session.coverage.ended(path, base, count);
        }
        let (Some(fold), Some(state)) = (&plan.fold, &state.fold) else { return Ok(()) };
        let value = match (state.value(self.arena).map_err(CallError::from), &fold.call.kind) {
            (Ok(value), _) => value,
            (Err(fault), Kind::Call(signature, arguments)) => {
                return Err(self.faulted(signature, fault, &fold.call, arguments, None));
            }
            (Err(_), _) => None,
        };
        self.folded = Some(value);
        self.document(emit).map(|_| ())
    }
}
