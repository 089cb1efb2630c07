//! Running a plan over documents and records.
//!
//! A [`Session`] lasts for the whole run and remembers what is reported at its end. A [`Runner`] lasts for one
//! document, or for one batch of records, with an arena of the same life. What a run gives goes to a closure as it
//! comes; where it fails, a [`RuleError`] names the place in the rule and the value in the input.

mod clauses;
mod direct;
mod edit;
mod element;
mod expr;
mod folded;
mod folding;
mod group;
mod index;
mod join;
mod missing;
mod order;
mod partial;
mod path;
mod rows;
mod spill;
mod spilled;
mod traced;
mod tuple_store;
mod tuples;
mod xpath;

use std::collections::HashMap;
use std::rc::Rc;
use std::sync::{Arc, Mutex};

use kyanite_formats::json::{Slot, Slotted};
use kyanite_formats::records::PassedOver;
use kyanite_tree::{Arena, Element, Member, Name, Nodes, Place, Value};

pub use partial::{CannotAdd, Partial, Portion};
pub use spill::SpillSettings;
pub use spilled::HandedOn;
pub use tuple_store::{Cutoff, PackedTuples, TupleStore};

use crate::coverage::Coverage;
use crate::documents::DocumentUris;
use crate::functions::CallError;
use crate::params::Arguments;
use crate::plan::{
    Expr, GroupFolds, Kind, ManyPath, Plan, RecordFold, RecordHead, RecordSource, RecordUnit,
    Records,
};
use crate::projection::FieldPlan;
use crate::rows::RowEdit;
use crate::rule_error::{Flow, RuleError, RunResult};
use crate::trace::Trace;
use index::Indexes;
use kyanite_eval::accumulator::Accumulator;
use kyanite_eval::pattern::iregexp::Patterns;
use rows::RowsAhead;
use tuples::{LoopState, Tally};

/// What lasts for a whole run: counts for the report at its end, and compiled patterns.
#[derive(Debug)]
pub struct Session {
    /// What the paths and tests of the rule met.
    pub coverage: Coverage,
    /// What each value was made of, if that is wanted.
    pub trace: Option<Trace>,
    /// What the values were read from, if the rule asks.
    pub documents: DocumentUris,
    patterns: Patterns,
}

impl Session {
    /// Forgets what was met, but keeps what was compiled.
    pub fn restart(&mut self, plan: &Plan) {
        self.coverage = Coverage::new(plan);
    }

    /// A session for runs of `plan`.
    #[must_use]
    pub fn new(plan: &Plan) -> Self {
        Self {
            coverage: Coverage::new(plan),
            trace: None,
            documents: DocumentUris::default(),
            patterns: Patterns::default(),
        }
    }
}

/// The values of names that are bound before any record is seen.
#[derive(Clone, Debug)]
pub struct Names<'a> {
    globals: Vec<Option<Value<'a>>>,
    locals: Vec<Option<Value<'a>>>,
    /// The indexes of joins over lists that last for the whole run.
    joins: Arc<Mutex<Indexes>>,
}

impl<'a> Names<'a> {
    /// The value that a name has for the whole run.
    pub(crate) fn global(&self, slot: usize) -> Option<Value<'a>> {
        self.globals.get(slot).copied().flatten()
    }
}

/// Where a run over records stands between two batches.
#[derive(Debug)]
pub struct RecordState {
    tally: Tally,
    /// The aggregate over the records so far, if the rule is about one.
    fold: Option<Accumulator>,
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

/// Runs a plan.
pub struct Runner<'r, 'a> {
    plan: &'a Plan,
    /// How the plan takes records, if it does.
    records: Option<Records<'a>>,
    arena: &'a Arena,
    session: &'r mut Session,
    /// `$`
    root: Option<Value<'a>>,
    /// `@`
    current: Option<Value<'a>>,
    names: Names<'a>,
    /// How paths find the members of the current record in its slots, if it has any.
    field_plan: Option<&'a FieldPlan>,
    /// Whether the current record is in slots.
    in_slots: bool,
    slots: Vec<Slot<'a>>,
    /// Its text, if that is wanted.
    text: &'a str,
    /// Where results go that are handed on while they are computed.
    rows: Option<RowsAhead<'r, 'a>>,
    /// Scratch space for the edits of a row.
    row_edits: Vec<RowEdit<'a>>,
    /// Where the frame of the running def begins in the locals.
    frame: usize,
    /// How many defs are running inside each other.
    calls: usize,
    /// The value of the plan's aggregate over records, once it is known.
    folded: Option<Option<Value<'a>>>,
    /// The indexes of joins, by their list and condition.
    indexes: Indexes,
    /// Lists of members that maps were made of, for the next ones.
    spare_members: Vec<Vec<Member<'a>>>,
    /// Scratch space for the keys of a tuple that is grouped, and for what tells them from others.
    group_scratch: (Vec<Option<Value<'a>>>, String),
    /// The items of joins that are no list of their own, by their condition.
    fixed: HashMap<usize, &'a [Value<'a>]>,
    /// The groups whose aggregates are asked for, by the slot that has the number of one.
    folded_groups: HashMap<usize, (&'a GroupFolds, folded::Folded)>,
    /// The nodes of the elements that XPaths were evaluated for last.
    nodes: Vec<(&'a Element<'a>, Rc<Nodes<'a>>)>,
    /// The table of the record before, whose memory the next one takes.
    spare_nodes: Option<Nodes<'a>>,
    /// The elements around the next record, outermost first, where an XPath asks for them.
    around: Vec<&'a Element<'a>>,
    /// Whether the first condition certainly holds for the next record.
    holds: bool,
    /// What the clauses of a loop over records keep from one record to the next.
    loop_state: Option<Box<LoopState<'a>>>,
}

impl<'r, 'a> Runner<'r, 'a> {
    /// A runner over the document `root`. It evaluates params and header lets.
    ///
    /// # Errors
    /// A [`RuleError`] in a default or a header let.
    pub fn new(
        plan: &'a Plan,
        arguments: &Arguments<'a>,
        root: Option<Value<'a>>,
        arena: &'a Arena,
        session: &'r mut Session,
    ) -> Result<Self, RuleError> {
        let names = Names {
            globals: vec![None; plan.globals],
            locals: vec![None; plan.frame],
            joins: Arc::default(),
        };
        let mut runner = Self { root, ..Self::with_names(plan, names, arena, session) };
        for (source, document) in plan.sources.iter().zip(arguments.sources()) {
            runner.names.globals[source.slot] = Some(*document);
        }
        for (param, given) in plan.params.iter().zip(arguments.values()) {
            let value = match (given, &param.default) {
                (Some(given), _) => Some(*given),
                (None, Some(default)) => runner.value(default)?,
                (None, None) => Some(Value::NULL),
            };
            runner.names.globals[param.slot] = value;
        }
        for (slot, value) in &plan.setup {
            runner.names.globals[*slot] = runner.value(value)?;
        }
        Ok(runner)
    }

    /// A runner for one batch of records, with the names that a first runner has bound.
    pub fn for_batch(
        plan: &'a Plan,
        unit: RecordUnit,
        names: Names<'a>,
        arena: &'a Arena,
        session: &'r mut Session,
    ) -> Self {
        session.coverage.forget_batch();
        Self { records: plan.records(unit), ..Self::with_names(plan, names, arena, session) }
    }

    fn with_names(
        plan: &'a Plan,
        names: Names<'a>,
        arena: &'a Arena,
        session: &'r mut Session,
    ) -> Self {
        Self {
            plan,
            records: None,
            arena,
            session,
            root: None,
            current: None,
            names,
            field_plan: None,
            in_slots: false,
            slots: Vec::new(),
            text: "",
            rows: None,
            row_edits: Vec::new(),
            frame: 0,
            calls: 0,
            folded: None,
            indexes: HashMap::new(),
            spare_members: Vec::new(),
            group_scratch: Default::default(),
            fixed: HashMap::new(),
            folded_groups: HashMap::new(),
            nodes: Vec::new(),
            spare_nodes: None,
            around: Vec::new(),
            holds: false,
            loop_state: None,
        }
    }

    /// Runs over the whole document. A single result is given once (perhaps as nothing); a result of
    /// many is given item by item, until `emit` wants no more.
    ///
    /// # Errors
    /// The first [`RuleError`].
    pub fn document(
        &mut self,
        emit: &mut dyn FnMut(Option<Value<'a>>) -> Flow,
    ) -> Result<Flow, RuleError> {
        let plan = self.plan;
        let mut body = &plan.body;
        while let Kind::Lets(bindings, result) = &body.kind {
            self.bind(bindings)?;
            body = result;
        }
        match &body.kind {
            Kind::Many(path) => self.each(path, &mut |_, node| Ok(emit(Some(node)))),
            Kind::Loop(repeat) => self.repeat(repeat, &mut |item| emit(Some(item))),
            _ => {
                let value = self.value(body)?;
                Ok(emit(value))
            }
        }
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

    /// The same runner, for records whose members may be in slots.
    #[must_use]
    pub fn with_field_plan(mut self, field_plan: Option<&'a FieldPlan>) -> Self {
        self.field_plan = field_plan;
        self.slots =
            vec![Slot::default(); field_plan.map_or(0, |field_plan| field_plan.slots.count())];
        self
    }

    /// Where the members of the next record go.
    pub fn slots(&mut self) -> &mut [Slot<'a>] {
        &mut self.slots
    }

    /// The slot that a path into the current record begins at, and how many of its steps lead there.
    #[inline]
    fn slot_path(&self, path: usize) -> Option<(Option<Value<'a>>, usize)> {
        let (slot, steps) = self.slot(path)?;
        Some((slot.value, steps))
    }

    #[inline]
    fn slot(&self, path: usize) -> Option<(&Slot<'a>, usize)> {
        let slot_path = self.field_plan.filter(|_| self.in_slots)?.of(path)?;
        Some((self.slots.get(slot_path.slot)?, slot_path.steps))
    }

    /// Goes on with what the batches before have left running.
    pub fn take_up<'g: 'a>(&mut self, store: &TupleStore<'g>) {
        self.loop_state = Some(Box::new(store.running()));
    }

    /// Finds the places of failures that recover() stood in for, as [`Coverage::place_recovered`] does.
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
                store.end_batch(repeat, most, &mut self.loop_state.take().unwrap_or_default())
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
                if let Some(flow) = self.directly(state) {
                    return Ok(flow);
                }
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
        if let RecordSource::Loop(repeat, ..) = source
            && let Some(loop_state) = &mut self.loop_state
            && !loop_state.tuples.is_empty()
        {
            let most = Self::most_wanted(repeat, &state.tally);
            store.keep(repeat, most, &mut loop_state.tuples)?;
        }
        Ok(if last { Flow::Break(()) } else { flow })
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

    /// Says that none of the records was found: `others` are the names that stood where one on the path was looked for, with
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

    fn bind(&mut self, bindings: &'a [(usize, Expr)]) -> RunResult<()> {
        for (slot, value) in bindings {
            let value = self.value(value)?;
            self.set_local(*slot, value);
        }
        Ok(())
    }

    fn local(&self, slot: usize) -> Option<Value<'a>> {
        self.names.locals[self.frame + slot]
    }

    fn set_local(&mut self, slot: usize, value: Option<Value<'a>>) {
        self.names.locals[self.frame + slot] = value;
    }

    fn bind_tuple(&mut self, slot: usize, at: Option<usize>, node: Value<'a>, tuple: i64) {
        self.set_local(slot, Some(node));
        if let Some(at) = at {
            let tuple = self.arena.integer(tuple);
            self.set_local(at, Some(tuple));
        }
    }
}
