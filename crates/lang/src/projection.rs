//! Which members of a record a plan can see: followed from the records through every name bound to a part of them.
//!
//! What is only stepped through is needed by name; what is used as a value is needed whole. Where it cannot be told,
//! all is needed.

use std::ops::Range;

use kyanite_formats::json::Slots;
use kyanite_formats::projection::{Projected, Projection};

use crate::plan::{
    Change, Clause, ClauseKind, Edit, Entry, Expr, ForSource, GroupFold, Kind, Loop, ManyPath,
    Nodes, OnePath, Piece, Plan, RecordHead, RecordSource, RecordUnit, Records, RowNames, Segment,
    Selector, Start, Step, StepKind,
};
use kyanite_eval::accumulator::Aggregate;

impl Plan {
    /// What the plan can see of each record, if it takes records of that unit one by one.
    #[must_use]
    pub fn projection(&self, unit: RecordUnit) -> Option<Projection> {
        Some(Analysis::of(self, unit, false)?.projection)
    }

    /// The slots that the members of each record can be read into, so that no more of it is built.
    ///
    /// `lines` are those that the rule writes, if it does: then a whole record that a map begins with is copied as text.
    ///
    /// # Errors
    /// What stands in the way.
    pub fn field_plan(
        &self,
        unit: RecordUnit,
        rows: Option<&RowNames>,
    ) -> Result<FieldPlan, &'static str> {
        const NAMES: &str = "a path leads into what another one takes, or a name needs escapes";
        let rows_wait = rows.is_some() && self.orders_results(unit);
        if !self.runs_in_any_order(unit) && !rows_wait {
            return Err("records run in order");
        }
        let copies = rows.is_some_and(RowNames::copy_records);
        let analysis = Analysis::of(self, unit, copies);
        let Analysis { projection, mut paths, sees_records, .. } =
            analysis.ok_or("the rule does not go through records")?;
        if sees_records {
            return Err("the rule looks at whole records, or into them otherwise than by names");
        }
        // A path that goes on behind another begins at its slot.
        paths.sort_by_key(|paths| paths.names.len());
        let mut slots: Vec<(Vec<String>, Projected)> = Vec::new();
        let mut field_plan = vec![None; self.paths.len()];
        for RecordPath { path, names, before } in paths {
            let known = slots.iter().position(|(slot, _)| names.starts_with(slot));
            let slot = known.unwrap_or(slots.len());
            if known.is_none() {
                let member = |projected, name: &String| projection.member(projected, name);
                // Where records are copied they are read as if all of them were needed.
                let projected = match copies {
                    true => Projected::ALL,
                    false => names.iter().try_fold(projection.of_record(), member).ok_or(NAMES)?,
                };
                slots.push((names, projected));
            }
            field_plan[path] = Some(SlotPath { slot, steps: before + slots[slot].0.len() });
        }
        let slots = Slots::new(&slots).ok_or(NAMES)?;
        let slots = match rows.filter(|_| copies) {
            Some(RowNames::Edits(_)) => {
                let required = self.required(unit, &field_plan);
                let required = required.ok_or("what is changed is not found by names alone")?;
                slots.with_text_without([]).requiring(required)
            }
            Some(rows) if rows.are_records() && !rows_wait => slots.with_text_on_demand(),
            Some(rows) => slots.with_text_without(rows.names().iter().map(String::as_str)),
            None => slots,
        };
        Ok(FieldPlan { slots, of: field_plan })
    }
}

impl Plan {
    /// The slots of the edits of each record that have to be there for a change in its text: what is missing is added at its end,
    /// and nowhere else. Returns None where an edit has no slot of its own.
    fn required(&self, unit: RecordUnit, field_plan: &[Option<SlotPath>]) -> Option<Vec<usize>> {
        let RecordSource::Loop(repeat, ..) = self.records(unit)?.source else { return None };
        let Kind::Edit(edit) = &repeat.result.kind else { return None };
        let mut required = Vec::new();
        for change in &edit.changes {
            let slot_path = field_plan[change.id]
                .filter(|slot_path| slot_path.steps == change.segments.len())?;
            if slot_path.steps > 1 || change.value.is_none() {
                required.push(slot_path.slot);
            }
        }
        Some(required)
    }
}

/// How the paths of a rule find members of a record in slots.
#[derive(Debug)]
pub struct FieldPlan {
    /// What is in the slots.
    pub slots: Slots,
    /// By the number of the path.
    of: Vec<Option<SlotPath>>,
}

/// A path that begins at a slot.
#[derive(Clone, Copy, Debug)]
pub(crate) struct SlotPath {
    pub(crate) slot: usize,
    /// So many steps or segments of the path lead there.
    pub(crate) steps: usize,
}

impl FieldPlan {
    /// Where the path of that number begins, if that is at a slot.
    #[inline]
    pub(crate) fn of(&self, path: usize) -> Option<SlotPath> {
        self.of.get(path).copied().flatten()
    }
}

/// A path that begins at a record.
struct RecordPath {
    /// Its number.
    path: usize,
    /// The names that it begins with.
    names: Vec<String>,
    /// How many of its segments stand before them.
    before: usize,
}

impl Analysis {
    /// What a plan sees; `copies` where the record that its result is, or begins with, is copied as it is.
    fn of(plan: &Plan, unit: RecordUnit, copies: bool) -> Option<Self> {
        let Records { head, source, rest: from, .. } = plan.records(unit)?;
        let mut analysis = Self {
            unit,
            projection: Projection::nothing(),
            locals: vec![Parts::default(); plan.frame],
            current: Parts::default(),
            paths: Vec::new(),
            sees_records: false,
        };
        let record = Parts { of: vec![Projected::RECORD], lists: 0 };
        if let RecordHead::Filter(filter) = head {
            analysis.tested(&filter.condition, record.clone());
        }
        match source {
            // Records that are copied as they are, if they are given at all.
            RecordSource::Many(_) if copies => {}
            RecordSource::Many(path) => {
                let rest = path.segments.get(from..)?;
                // Of what is counted nothing is looked at.
                let is_counted = plan.fold.as_ref().is_some_and(|f| f.kind == Aggregate::Count);
                if !rest.is_empty() || !is_counted {
                    analysis.see(path.id, from, rest.iter().map(Segment::plain_step));
                }
                let nodes = analysis.segments(rest, record);
                if !is_counted {
                    analysis.all(&nodes);
                }
            }
            RecordSource::XPath(expression) => {
                analysis.sees_records = true;
                analysis.projection = expression.record_projection().clone();
            }
            RecordSource::One(path) => {
                analysis.sees_records = true;
                let nodes = analysis.steps(path.steps.get(1..)?, record);
                analysis.all(&nodes);
            }
            RecordSource::Loop(repeat, path, slot, _) => {
                let rest = path.segments.get(from..)?;
                if !rest.is_empty() {
                    analysis.see(path.id, from, rest.iter().map(Segment::plain_step));
                }
                analysis.locals[slot] = analysis.segments(rest, record);
                analysis.clauses(repeat.clauses.get(1..)?);
                match &repeat.result.kind {
                    Kind::Map(entries) if copies => analysis.entries(entries.get(1..)?),
                    Kind::Edit(edit) if copies => analysis.spliced(edit),
                    Kind::One(_) if copies => {}
                    _ => analysis.value(&repeat.result),
                }
            }
        }
        Some(analysis)
    }
}

/// The parts of a record that a name or a path may stand for; none when it stands for something else.
#[derive(Clone, Default)]
struct Parts {
    of: Vec<Projected>,
    /// How deep in lists these parts are, since they were grouped: in none, in lists of them, in lists of such lists.
    lists: usize,
}

struct Analysis {
    unit: RecordUnit,
    projection: Projection,
    /// By slot.
    locals: Vec<Parts>,
    /// `@`
    current: Parts,
    /// The paths that begin at the record.
    paths: Vec<RecordPath>,
    /// Whether the record itself is a value, or is stepped into otherwise than by name.
    sees_records: bool,
}

impl Parts {
    /// Whether the record itself may be among them.
    fn has_record(&self) -> bool {
        self.of.contains(&Projected::RECORD)
    }
}

impl Analysis {
    /// The path of that number goes into the record by these names, up to the first step that is none, behind `before`
    /// segments.
    fn see<'n>(
        &mut self,
        path: usize,
        before: usize,
        steps: impl Iterator<Item = Option<&'n Step>>,
    ) {
        // In an element a name before brackets stands for all children of that name.
        let is_plain = |step: &&Step| self.unit == RecordUnit::Items || !step.ranges;
        let name = |step: Option<&'n Step>| step.filter(is_plain)?.plain_name().map(str::to_owned);
        let names: Vec<String> = steps.map_while(name).collect();
        if names.is_empty() {
            self.sees_records = true;
        } else {
            self.paths.push(RecordPath { path, names, before });
        }
    }

    /// All of these parts is needed.
    fn all(&mut self, parts: &Parts) {
        parts.of.iter().for_each(|part| self.projection.add_all(*part));
    }

    fn start(&mut self, start: &Start) -> Parts {
        match start {
            Start::Current => self.current.clone(),
            Start::Local(slot) => self.locals[*slot].clone(),
            // The root stands only before the segment that picks records.
            Start::Root | Start::Global(_) => Parts::default(),
            Start::Value(value) => {
                self.value(value);
                Parts::default()
            }
        }
    }

    fn one(&mut self, path: &OnePath) -> Parts {
        let start = self.start(&path.start);
        if start.has_record() {
            if start.lists > 0 {
                self.sees_records = true;
            }
            self.see(path.id, 0, path.steps.iter().map(Some));
        }
        self.steps(&path.steps, start)
    }

    fn many(&mut self, path: &ManyPath) -> Parts {
        let start = self.start(&path.start);
        if start.has_record() {
            let before = start.lists;
            // Of a group each record is looked at.
            let is_each = path.segments.iter().take(before).all(Segment::is_wildcard);
            if before > 1 || !is_each {
                self.sees_records = true;
            }
            self.see(path.id, before, path.segments.iter().skip(before).map(Segment::plain_step));
        }
        self.segments(&path.segments, start)
    }

    fn steps(&mut self, steps: &[Step], parts: Parts) -> Parts {
        steps.iter().fold(parts, |parts, step| self.step(step, parts))
    }

    fn step(&mut self, step: &Step, parts: Parts) -> Parts {
        match &step.kind {
            // A list has no members.
            StepKind::Name(_) | StepKind::Qualified { .. } if parts.lists > 0 => Parts::default(),
            StepKind::Name(name) | StepKind::Qualified { name, .. } => {
                let of =
                    parts.of.iter().map(|part| self.projection.add_member(*part, name)).collect();
                Parts { of, lists: 0 }
            }
            StepKind::Index(_) => self.children(&parts),
            StepKind::Computed(computed) => {
                self.value(computed);
                self.all(&parts);
                Parts::default()
            }
            StepKind::Token(_) => {
                self.all(&parts);
                Parts::default()
            }
        }
    }

    fn children(&mut self, parts: &Parts) -> Parts {
        if parts.lists > 0 {
            return Parts { of: parts.of.clone(), lists: parts.lists - 1 };
        }
        Parts {
            of: parts.of.iter().map(|part| self.projection.add_children(*part)).collect(),
            lists: 0,
        }
    }

    fn segments(&mut self, segments: &[Segment], mut parts: Parts) -> Parts {
        for segment in segments {
            if segment.descendant {
                self.all(&parts);
            }
            let mut selected = Parts::default();
            for selector in &segment.selectors {
                let found = match selector {
                    Selector::Step(step) => self.step(step, parts.clone()),
                    Selector::Wildcard | Selector::Slice { .. } => self.children(&parts),
                    Selector::Filter(filter) => {
                        let children = self.children(&parts);
                        self.tested(&filter.condition, children.clone());
                        children
                    }
                };
                if selected.of.is_empty() {
                    selected = found;
                } else if selected.lists == found.lists {
                    selected.of.extend(found.of);
                } else {
                    self.all(&found);
                }
            }
            // Below descendants everything is needed already; the parts of one level are not those of the next.
            parts = if segment.descendant { Parts::default() } else { selected };
        }
        parts
    }

    /// A filter's condition, over the nodes that it tests.
    fn tested(&mut self, condition: &Expr, nodes: Parts) {
        let outer = std::mem::replace(&mut self.current, nodes);
        self.value(condition);
        self.current = outer;
    }

    fn nodes(&mut self, nodes: &Nodes) -> Parts {
        match nodes {
            Nodes::One(path) => self.one(path),
            Nodes::Many(path) => self.many(path),
        }
    }

    /// Binds a name: to parts of the record where the value is one of these, else to something of its own.
    fn bind(&mut self, slot: usize, value: &Expr) {
        self.locals[slot] = match &value.kind {
            Kind::One(path) => self.one(path),
            _ => {
                self.value(value);
                Parts::default()
            }
        };
    }

    fn repeat(&mut self, repeat: &Loop) {
        repeat.before.iter().for_each(|(slot, value)| self.bind(*slot, value));
        self.clauses(&repeat.clauses);
        self.value(&repeat.result);
    }

    fn clauses(&mut self, clauses: &[Clause]) {
        for clause in clauses {
            match &clause.kind {
                ClauseKind::For { slot, source: ForSource::Nodes(path), .. } => {
                    self.locals[*slot] = self.many(path);
                }
                ClauseKind::For { slot, source: ForSource::List(list), .. } => {
                    self.locals[*slot] = match &list.kind {
                        Kind::One(path) => {
                            let lists = self.one(path);
                            self.children(&lists)
                        }
                        _ => {
                            self.value(list);
                            Parts::default()
                        }
                    };
                }
                ClauseKind::Let(slot, value) => self.bind(*slot, value),
                ClauseKind::Where { condition, .. } => self.value(condition),
                ClauseKind::Skip(count) | ClauseKind::First(count) => self.value(count),
                ClauseKind::OrderBy { keys, .. } => {
                    keys.iter().for_each(|key| self.value(&key.value))
                }
                ClauseKind::GroupBy { keys, slots, folds } => {
                    keys.iter().for_each(|(_, key)| self.value(key));
                    self.become_lists(slots.clone());
                    let folds = folds.iter().flat_map(|folds| &folds.folds);
                    folds.for_each(|fold| self.folded(fold));
                }
                ClauseKind::Carry { from, step, .. } => self.values([from, step]),
                ClauseKind::Window { size, step, slots } => {
                    self.value(size);
                    self.values(step);
                    self.become_lists(slots.clone());
                }
            }
        }
    }

    /// An aggregate over a group: of its nodes only as much is needed as the aggregate looks at.
    fn folded(&mut self, fold: &GroupFold) {
        match fold.over() {
            // Tuples are counted, and not looked at.
            Some((_, None)) => {}
            Some((_, Some(path)))
                if fold.kind == Aggregate::Count
                    && path.segments.len() == 1
                    && path.segments.iter().all(Segment::is_wildcard) => {}
            _ => self.value(&fold.call),
        }
    }

    /// Edits in the text of a record, which is copied: no more of it is needed than what they read.
    fn spliced(&mut self, edit: &Edit) {
        let record = Parts { of: vec![Projected::RECORD], lists: 0 };
        for Change { id, segments, value, .. } in &edit.changes {
            self.see(*id, 0, segments.iter().map(Segment::plain_step));
            self.current = self.segments(segments, record.clone());
            self.values(value);
        }
        self.current = Parts::default();
    }

    fn become_lists(&mut self, slots: Range<usize>) {
        self.locals[slots].iter_mut().for_each(|parts| parts.lists += 1);
    }

    fn entries(&mut self, entries: &[Entry]) {
        for entry in entries {
            match entry {
                Entry::Named(_, value) | Entry::Spread(value) => self.value(value),
                Entry::Computed(name, value) => self.values([name, value]),
            }
        }
    }

    fn values<'e>(&mut self, values: impl IntoIterator<Item = &'e Expr>) {
        values.into_iter().for_each(|value| self.value(value));
    }

    /// An expression whose value is used: the parts of the record that it stands for are needed whole.
    fn value(&mut self, expr: &Expr) {
        match &expr.kind {
            // What groups fold has been seen at their clause.
            Kind::Constant(_)
            | Kind::DocumentUri
            | Kind::Folded
            | Kind::GroupFolded(..)
            | Kind::Broken => {}
            Kind::One(path) => {
                let parts = self.one(path);
                self.all(&parts);
            }
            Kind::Many(path) => {
                let parts = self.many(path);
                self.all(&parts);
            }
            // That they are there is all that is asked.
            Kind::Exists(nodes) | Kind::Count(nodes) => {
                self.nodes(nodes);
            }
            Kind::ValueOf(nodes) => {
                let parts = self.nodes(nodes);
                self.all(&parts);
            }
            Kind::Template(pieces) => {
                self.values(pieces.iter().filter_map(|piece| match piece {
                    Piece::Value(value) => Some(value),
                    Piece::Text(_) => None,
                }));
            }
            Kind::List(items) => self.values(items.iter().map(|item| &item.value)),
            Kind::Map(entries) => self.entries(entries),
            Kind::Collected(inner) | Kind::Not(inner) | Kind::Negate(inner) => self.value(inner),
            Kind::Binary(_, left, right) | Kind::Recover(left, right) => {
                self.values([&**left, &**right]);
            }
            Kind::If(condition, then, otherwise) => {
                self.values([&**condition, &**then]);
                self.values(otherwise.as_deref());
            }
            Kind::Case(case) => {
                self.values(&case.subject);
                for (waits, value) in &case.branches {
                    self.values(waits);
                    self.value(value);
                }
                self.values(&case.otherwise);
            }
            Kind::Loop(repeat) => self.repeat(repeat),
            Kind::Lets(bindings, result) => {
                bindings.iter().for_each(|(slot, value)| self.bind(*slot, value));
                self.value(result);
            }
            Kind::Edit(edit) => {
                self.value(&edit.subject);
                // All of what is changed is needed already, whatever `@` is of it.
                let outer = std::mem::take(&mut self.current);
                for Change { segments, value, .. } in &edit.changes {
                    self.segments(segments, Parts::default());
                    self.values(value);
                }
                self.current = outer;
            }
            Kind::XPath(call) => {
                self.value(&call.value);
                self.values(call.variables.iter().map(|(_, value)| value));
            }
            // Defs see nothing of a record but their arguments.
            Kind::Call(_, arguments) | Kind::CallDef(_, arguments) => self.values(arguments),
        }
    }
}
