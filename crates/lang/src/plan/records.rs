//! How a checked rule takes records one by one: what picks them, what runs over them, what of them is kept.

use kyanite_formats::xml::StepName;

use super::{
    Clause, ClauseKind, Entry, Expr, Filter, ForSource, Kind, Loop, ManyPath, Nodes, OnePath,
    Piece, Plan, Segment, Selector, Start, Step, StepKind,
};
use crate::functions::{Run, Signature};
use crate::syntax::ast::Binary;
use kyanite_eval::accumulator::Aggregate;

impl Plan {
    /// How the rule takes records one by one, if it can: what picks them, and what runs over them.
    pub(crate) fn records(&self, unit: RecordUnit) -> Option<Records<'_>> {
        if let Some(records) = &self.xpath_records {
            let source = RecordSource::XPath(self.xpath()?);
            let (head, base) = (RecordHead::All, records.len());
            let records = Records { head, source, base, rest: base + 1 };
            return (unit == RecordUnit::Elements).then_some(records);
        }
        if self.root_uses != 1 || self.is_xpath {
            return None;
        }
        match &self.fold {
            Some(fold) => fold.call.folded_records(unit),
            None => self.body.records(unit),
        }
    }

    /// The path to the elements that are the records of an XML document, if the rule can take them one by one.
    #[must_use]
    pub fn element_path(&self) -> Option<Vec<StepName>> {
        if let Some(path) = &self.xpath_records {
            return Some(path.clone());
        }
        let Records { source, base, .. } = self.records(RecordUnit::Elements)?;
        let path = match source {
            RecordSource::Many(path) | RecordSource::Loop(_, path, ..) => path,
            RecordSource::One(_) | RecordSource::XPath(_) => return None,
        };
        path.segments[..base].iter().map(Segment::step_name).collect()
    }

    /// Whether what the rule gives keeps its place in the input when it runs by record; an aggregate's value does not.
    #[must_use]
    pub fn keeps_places(&self) -> bool {
        self.fold.is_none() && !self.holds_tuples()
    }

    /// Whether what the rule gives of a record depends on that record alone, so that blocks of records may be run over at
    /// the same time. Aggregates over records do not stand in the way: their states are joined.
    #[must_use]
    pub fn runs_in_any_order(&self, unit: RecordUnit) -> bool {
        self.depends_on_order(unit).is_none()
    }

    /// What makes it depend on the records before, if something does.
    pub(super) fn depends_on_order(&self, unit: RecordUnit) -> Option<CannotCut> {
        let Some(Records { head, source, .. }) = self.records(unit) else {
            return Some(CannotCut::NoRecords);
        };
        match (head, source) {
            (RecordHead::Slice { .. } | RecordHead::Index(_), _) | (_, RecordSource::One(_)) => {
                Some(CannotCut::PicksByPlace)
            }
            (_, RecordSource::Many(_) | RecordSource::XPath(_)) => None,
            (_, RecordSource::Loop(_, _, _, Some(_))) => Some(CannotCut::CountsRecords),
            (_, RecordSource::Loop(repeat, ..)) => {
                // Groups of which only aggregates are needed are joined.
                let before = repeat.clauses.iter().take_while(|clause| !clause.kind.folds());
                let needs_all = |clause: &Clause| clause.kind.needs_tuples_before();
                before.filter_map(needs_all).next().map(CannotCut::Clause)
            }
        }
    }

    /// Whether the first thing that depends on the records before is a clause that puts tuples in order or together, so that the tuples of blocks
    /// can be kept apart and put behind one another.
    pub(crate) fn joins_tuples(&self, unit: RecordUnit) -> bool {
        let Some(CannotCut::Clause(_)) = self.depends_on_order(unit) else { return false };
        self.holding().is_some_and(|(repeat, position)| {
            let before = &repeat.clauses[..position];
            before.iter().all(|clause| clause.kind.needs_tuples_before().is_none())
        })
    }

    /// Whether all that is left to do behind the clause that puts tuples in order is to return something of each, so that this can be
    /// computed, and written, before the tuple waits.
    pub(crate) fn orders_results(&self, unit: RecordUnit) -> bool {
        let is_last = |(repeat, position): (&Loop, usize)| {
            matches!(repeat.clauses[position].kind, ClauseKind::OrderBy { .. })
                && position + 1 == repeat.clauses.len()
        };
        self.joins_tuples(unit) && self.holding().is_some_and(is_last)
    }

    /// Whether a run can be cut into runs over parts of the records, whose states are joined.
    ///
    /// # Errors
    /// What stands in the way.
    pub fn can_be_cut(&self, unit: RecordUnit) -> Result<(), CannotCut> {
        if let Some(why) = self.depends_on_order(unit) {
            return Err(why);
        }
        let folds =
            self.holding().and_then(|(repeat, position)| match &repeat.clauses[position].kind {
                ClauseKind::GroupBy { folds, .. } => folds.as_ref(),
                _ => None,
            });
        let of_groups = folds.into_iter().flat_map(|folds| &folds.folds).map(|fold| fold.kind);
        let kinds = self.fold.iter().map(|fold| fold.kind).chain(of_groups);
        if kinds.into_iter().any(|kind| !kind.is_of_any_order()) {
            return Err(CannotCut::Clause("distinct"));
        }
        let has_groups = folds.is_some();
        if self.fold.is_some() || has_groups { Ok(()) } else { Err(CannotCut::NothingToJoin) }
    }

    /// Whether the rule gives a document just as it is.
    #[must_use]
    pub fn gives_document(&self) -> bool {
        match &self.body.kind {
            Kind::One(path) => matches!(path.start, Start::Root) && path.steps.is_empty(),
            _ => false,
        }
    }

    /// Whether the rule gives the records just as they are.
    #[must_use]
    pub fn gives_records_as_they_are(&self, unit: RecordUnit) -> bool {
        let all_are = match self.records(unit) {
            Some(Records { head: RecordHead::All, source, .. }) => match source {
                RecordSource::Loop(repeat, ..) => repeat.clauses.len() == 1,
                RecordSource::Many(_) | RecordSource::One(_) => true,
                RecordSource::XPath(_) => false,
            },
            _ => false,
        };
        all_are && self.gives_records(unit)
    }

    /// Whether what the rule gives are records as they are, be it all of them or some.
    pub(super) fn gives_records(&self, unit: RecordUnit) -> bool {
        let Some(Records { source, rest, .. }) = self.records(unit).filter(|_| self.fold.is_none())
        else {
            return false;
        };
        match source {
            RecordSource::Many(path) => path.segments.len() == rest,
            RecordSource::Loop(repeat, ..) => self.is_record(&repeat.result, unit),
            RecordSource::One(_) | RecordSource::XPath(_) => false,
        }
    }

    /// Whether the expression is the record that the rule's loop is at.
    pub(super) fn is_record(&self, expr: &Expr, unit: RecordUnit) -> bool {
        match (&expr.kind, self.records(unit)) {
            (
                Kind::One(OnePath { start, steps, .. }),
                Some(records @ Records { source: RecordSource::Loop(_, path, ..), rest, .. }),
            ) => steps.is_empty() && path.segments.len() == rest && records.is_record(start),
            _ => false,
        }
    }

    /// Whether the rule gives its document with some places changed: `$ set …`, `$ remove …`, one behind the other.
    #[must_use]
    pub fn edits_document(&self) -> bool {
        let mut subject = &self.body;
        while let Kind::Edit(edit) = &subject.kind {
            subject = &edit.subject;
        }
        let is_root = |path: &OnePath| path.steps.is_empty() && matches!(path.start, Start::Root);
        matches!(&self.body.kind, Kind::Edit(_))
            && matches!(&subject.kind, Kind::One(path) if is_root(path))
    }

    /// Whether records, or what was made of them, are looked at again when later ones have come.
    #[must_use]
    pub fn keeps_records(&self) -> bool {
        matches!(&self.body.innermost().kind, Kind::Loop(repeat) if repeat.keeps_values())
    }

    /// Whether tuples are kept until the end of the records, so that where they were read is no longer known.
    #[must_use]
    pub fn holds_tuples(&self) -> bool {
        self.holding().is_some()
    }

    /// The loop over records of which a clause has to see all tuples, and that clause.
    pub(crate) fn holding(&self) -> Option<(&Loop, usize)> {
        match &self.body.innermost().kind {
            Kind::Loop(repeat) if self.fold.is_none() => Some((repeat, repeat.holding()?)),
            _ => None,
        }
    }

    /// Whether the path of that number is asked only behind the last record.
    pub(crate) fn is_late(&self, path: usize) -> bool {
        self.holding().is_some_and(|(repeat, position)| {
            let in_tuple = match &repeat.clauses[position].kind {
                ClauseKind::GroupBy { folds: Some(folds), .. } => {
                    let mut paths = folds.folds.iter().filter_map(|fold| fold.over()?.1);
                    paths.any(|over| over.id == path)
                }
                _ => false,
            };
            path >= repeat.late_paths && !in_tuple
        })
    }

    /// Whether the rule runs over the records of a list one by one, in memory that does not grow with them.
    #[must_use]
    pub fn runs_by_record(&self) -> bool {
        self.records(RecordUnit::Items).is_some()
    }
}

impl Expr {
    /// How the expression takes records one by one, if it can.
    fn records(&self, unit: RecordUnit) -> Option<Records<'_>> {
        let of = |path, source| {
            let Picked { head, base, rest } = Picked::of(path, unit)?;
            Some(Records { head, source, base, rest })
        };
        match &self.kind {
            Kind::Many(path) => of(path, RecordSource::Many(path)),
            Kind::Loop(repeat) => {
                let ClauseKind::For { slot, at, source: ForSource::Nodes(path), .. } =
                    &repeat.clauses.first()?.kind
                else {
                    return None;
                };
                of(path, RecordSource::Loop(repeat, path, *slot, *at))
            }
            Kind::One(path) if unit == RecordUnit::Items => {
                match (&path.start, path.steps.first()?) {
                    (Start::Root, Step { kind: StepKind::Index(index), .. }) => {
                        let head = RecordHead::Index(u64::try_from(*index).ok()?);
                        Some(Records { head, source: RecordSource::One(path), base: 0, rest: 1 })
                    }
                    _ => None,
                }
            }
            _ => None,
        }
    }

    /// How an aggregate takes the records that it goes through, if it is one and can.
    fn folded_records(&self, unit: RecordUnit) -> Option<Records<'_>> {
        let of = |path| {
            let Picked { head, base, rest } = Picked::of(path, unit)?;
            Some(Records { head, source: RecordSource::Many(path), base, rest })
        };
        match &self.kind {
            Kind::Count(Nodes::Many(path)) => of(path),
            Kind::Call(Signature { run: Run::Fold(_), .. }, arguments) => {
                let argument = arguments.first()?;
                match argument.collected() {
                    Some(path) => of(path),
                    None => argument.records(unit).filter(|_| match &argument.kind {
                        Kind::Loop(repeat) => !repeat.keeps_values(),
                        _ => false,
                    }),
                }
            }
            _ => None,
        }
    }
}

/// Why a rule cannot be run over parts of its input that are joined behind.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum CannotCut {
    /// It does not go through records.
    NoRecords,
    /// It picks records by where they stand.
    PicksByPlace,
    /// It counts records.
    CountsRecords,
    /// A clause needs all the tuples before it.
    Clause(&'static str),
    /// It gives something of each record for itself.
    NothingToJoin,
}

impl CannotCut {
    /// What stands in the way.
    #[must_use]
    pub fn message(self) -> String {
        match self {
            Self::NoRecords => "this rule does not go through records one by one".into(),
            Self::PicksByPlace => "this rule picks records by where they stand among all".into(),
            Self::CountsRecords => "`at` counts the records before".into(),
            Self::Clause(word) => format!("`{word}` needs all the tuples before it"),
            Self::NothingToJoin => {
                "this rule has no groups and no aggregate over the records".into()
            }
        }
    }

    /// What to do instead.
    #[must_use]
    pub fn advice(self) -> &'static str {
        match self {
            Self::NothingToJoin => {
                "run it over each part as it is, and put the results behind each other"
            }
            _ => "run it over all of the input at once",
        }
    }
}

/// What the records of a document are.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum RecordUnit {
    /// The items of the list that is the document.
    Items,
    /// The elements at a path of an XML document.
    Elements,
}

/// How a rule takes records.
#[derive(Clone, Copy)]
pub(crate) struct Records<'p> {
    /// What picks them.
    pub(crate) head: RecordHead<'p>,
    /// What runs over them.
    pub(crate) source: RecordSource<'p>,
    /// How many segments of the path stand before the one that picks records.
    pub(crate) base: usize,
    /// The number of the segment that goes on from a record.
    pub(crate) rest: usize,
}

impl<'p> Records<'p> {
    /// The loop whose tuples the records are, if its path ends at them and nothing picks among them.
    pub(crate) fn are_tuples(self) -> Option<TupleOfRecord<'p>> {
        match (self.head, self.source) {
            (RecordHead::All, RecordSource::Loop(repeat, path, slot, at)) => (path.segments.len()
                == self.rest)
                .then_some(TupleOfRecord { repeat, path: path.id, slot, at }),
            _ => None,
        }
    }

    /// Where the record itself is in conditions: `@`, or the name that a loop binds it to.
    pub(crate) fn is_record(self, start: &Start) -> bool {
        match (self.head, self.source, start) {
            (RecordHead::Filter(_), _, start) => matches!(start, Start::Current),
            (_, RecordSource::Loop(_, _, slot, _), Start::Local(local)) => slot == *local,
            _ => false,
        }
    }
}

/// A loop that has one tuple for each record.
#[derive(Clone, Copy)]
pub(crate) struct TupleOfRecord<'p> {
    pub(crate) repeat: &'p Loop,
    /// The number of the path that goes through the records.
    pub(crate) path: usize,
    /// Where the record goes.
    pub(crate) slot: usize,
    /// Where its index goes.
    pub(crate) at: Option<usize>,
}

/// What runs over records.
#[derive(Clone, Copy)]
pub(crate) enum RecordSource<'p> {
    /// A path that selects in each.
    Many(&'p ManyPath),
    /// A path into one of them.
    One(&'p OnePath),
    /// A loop whose first `for` goes through them by this path, to this slot and the slot of their index.
    Loop(&'p Loop, &'p ManyPath, usize, Option<usize>),
    /// An XPath that is evaluated for each.
    XPath(&'p kyanite_xpath::Expression),
}

impl RecordSource<'_> {
    /// The number of the path that goes through the records.
    pub(crate) fn path(self) -> Option<usize> {
        match self {
            Self::Many(path) | Self::Loop(_, path, ..) => Some(path.id),
            Self::One(path) => Some(path.id),
            Self::XPath(_) => None,
        }
    }
}

/// An aggregate over records that the body needs the value of.
#[derive(Debug)]
pub(crate) struct RecordFold {
    pub(crate) kind: Aggregate,
    /// The call as it stood in the body.
    pub(crate) call: Expr,
}

impl RecordFold {
    /// Takes an aggregate over records out of a body, if there is one that is evaluated exactly once.
    pub(crate) fn take_from(body: &mut Expr) -> Option<Self> {
        if body
            .folded_records(RecordUnit::Items)
            .or(body.folded_records(RecordUnit::Elements))
            .is_some()
        {
            let kind = match &body.kind {
                Kind::Call(Signature { run: Run::Fold(kind), .. }, _) => *kind,
                _ => Aggregate::Count,
            };
            let span = body.span;
            let call = Expr { kind: std::mem::replace(&mut body.kind, Kind::Folded), span };
            return Some(Self { kind, call });
        }
        match &mut body.kind {
            Kind::Call(_, arguments) | Kind::CallDef(_, arguments) => {
                arguments.iter_mut().find_map(Self::take_from)
            }
            Kind::Binary(Binary::And | Binary::Or | Binary::Coalesce, ..) => None,
            Kind::Binary(_, left, right) => {
                Self::take_from(left).or_else(|| Self::take_from(right))
            }
            Kind::Negate(operand) => Self::take_from(operand),
            Kind::List(items) => items.iter_mut().find_map(|item| Self::take_from(&mut item.value)),
            Kind::Map(entries) => entries.iter_mut().find_map(|entry| match entry {
                Entry::Named(_, value) | Entry::Computed(_, value) | Entry::Spread(value) => {
                    Self::take_from(value)
                }
            }),
            Kind::Template(pieces) => pieces.iter_mut().find_map(|piece| match piece {
                Piece::Value(value) => Self::take_from(value),
                Piece::Text(_) => None,
            }),
            _ => None,
        }
    }
}

/// What picks records from the root list before the rest of the rule sees them.
#[derive(Clone, Copy)]
pub(crate) enum RecordHead<'p> {
    /// All.
    All,
    /// Those for which the condition holds.
    Filter(&'p Filter),
    /// Those of a slice that runs forwards.
    Slice { start: u64, end: Option<u64>, step: u64 },
    /// Just one.
    Index(u64),
}

/// What picks records in a path, how many segments stand before it, and the number of the one that goes on from a record.
struct Picked<'p> {
    head: RecordHead<'p>,
    base: usize,
    rest: usize,
}

impl<'p> Picked<'p> {
    fn of(path: &'p ManyPath, unit: RecordUnit) -> Option<Self> {
        let base = match unit {
            RecordUnit::Items => 0,
            RecordUnit::Elements => {
                let steps =
                    path.segments.iter().take_while(|segment| segment.step_name().is_some());
                let base = steps.count();
                // The last name ranges over the elements, or there is no list of them to pick from.
                let last = path.segments.get(base.checked_sub(1)?)?;
                matches!(last.selectors.as_slice(), [Selector::Step(step)] if step.ranges)
                    .then_some(base)?
            }
        };
        let (Start::Root, Some(segment)) = (&path.start, path.segments.get(base)) else {
            return None;
        };
        if segment.descendant {
            // A list has no members, so what has those names is in its items.
            let are_names = segment.selectors.iter().all(
                |selector| matches!(selector, Selector::Step(step) if step.plain_name().is_some()),
            );
            let goes_on = are_names && unit == RecordUnit::Items;
            return goes_on.then_some(Self { head: RecordHead::All, base, rest: base });
        }
        let head = match segment.selectors.as_slice() {
            [Selector::Wildcard] => RecordHead::All,
            [Selector::Filter(filter)] => RecordHead::Filter(filter),
            [Selector::Slice { start, end, step }] => RecordHead::Slice {
                start: u64::try_from(start.unwrap_or(0)).ok()?,
                end: end.map(u64::try_from).transpose().ok()?,
                step: u64::try_from(*step).ok().filter(|step| *step > 0)?,
            },
            _ => return None,
        };
        Some(Self { head, base, rest: base + 1 })
    }
}
