//! Running a plan over documents and records.
//!
//! A [`Session`] lasts for the whole run and remembers what is reported at its end. A [`Runner`] lasts for one
//! document, or for one batch of records, with an arena of the same life. What a run gives goes to a closure as it
//! comes; where it fails, a [`RuleError`] names the place in the rule and the value in the input.

mod clauses;
mod construct;
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
mod records;
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

use kyanite_formats::json::Slot;
use kyanite_tree::{Arena, Element, Member, Nodes, Value};

pub use partial::{CannotAdd, Partial, Portion};
pub use records::{CannotJoin, RecordState};
pub use spill::SpillSettings;
pub use spilled::HandedOn;
pub use tuple_store::{Cutoff, PackedTuples, TupleStore};

use crate::coverage::Coverage;
use crate::documents::DocumentUris;
use crate::params::Arguments;
use crate::plan::{Expr, GroupFolds, Kind, Plan, Records, TupleOfRecord};
use crate::projection::FieldPlan;
use crate::rows::RowEdit;
use crate::rule_error::{Flow, RuleError, RunResult};
use crate::trace::Trace;
use index::Indexes;
use kyanite_eval::pattern::iregexp::Patterns;
use rows::RowsAhead;
use tuples::LoopState;

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

/// Runs a plan.
pub struct Runner<'r, 'a> {
    plan: &'a Plan,
    /// How the plan takes records, if it does.
    records: Option<Records<'a>>,
    /// The loop whose tuples the records are, if they are just these.
    tuples: Option<TupleOfRecord<'a>>,
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
    /// How many running values were computed.
    carried: u64,
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

    fn with_names(
        plan: &'a Plan,
        names: Names<'a>,
        arena: &'a Arena,
        session: &'r mut Session,
    ) -> Self {
        Self {
            plan,
            records: None,
            tuples: None,
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
            carried: 0,
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
