//! What each computed value was made of, and by which part of the rule.
//!
//! While a run is traced, every value that an expression gives gets an origin of its own: the number of an entry that has
//! the expression's place in the rule and the origins of the values that went into it. The origins of values that were read
//! stand at the ends of these chains.

use std::collections::HashSet;

use kyanite_tree::{Base, Origin, Region};

use crate::finding::Span;
use crate::functions::HandedOn;

/// Where traced values seem to come from: their positions number entries.
const MADE: Base = Base::of(Region::Trace);

/// The rule lines of one value that are told.
const LINES: usize = 4;

/// All values that a traced run made.
#[derive(Debug, Default)]
pub struct Trace {
    entries: Vec<Made>,
    /// The origins of values that the expressions under way have got so far.
    got: Vec<Origin>,
}

/// A value that was made.
#[derive(Debug)]
struct Made {
    span: Span,
    of: Vec<Origin>,
}

/// Where a value comes from.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Provenance {
    /// The expressions that made it, or handed it on: the last first.
    pub rule: Vec<Span>,
    /// The values of the inputs that it was made of, in the order they were met.
    pub inputs: Vec<Origin>,
}

impl Trace {
    /// How many origins have gone into the value that is being made.
    pub(crate) fn got(&self) -> usize {
        self.got.len()
    }

    /// The origin of a value that an expression made since there were `before`; None where it made none. `of` are the
    /// origins that it was made of, if these are not all that were met.
    pub(crate) fn made(&mut self, span: Span, before: usize, of: Option<Vec<Origin>>) -> Origin {
        let got = self.got.split_off(before);
        let origin = MADE.origin(self.entries.len());
        self.entries.push(Made { span, of: of.unwrap_or(got) });
        self.got.push(origin);
        origin
    }

    fn entry(&self, origin: Origin) -> Option<&Made> {
        (origin.region() == Some(Region::Trace)).then(|| self.entries.get(MADE.offset(origin)))?
    }

    /// Whether an origin stands for a value that was made, not read.
    #[must_use]
    pub fn has_made(&self, origin: Origin) -> bool {
        self.entry(origin).is_some()
    }

    /// Where the value with this origin comes from.
    #[must_use]
    pub fn provenance(&self, origin: Origin) -> Provenance {
        let mut found = Provenance::default();
        let mut next = Some(origin);
        while let Some(made) = next.take().and_then(|origin| self.entry(origin)) {
            // An operand alone is told by the expression around it.
            let is_inside =
                |outer: &Span| outer.start <= made.span.start && made.span.end <= outer.end;
            if found.rule.len() < LINES && !found.rule.last().is_some_and(is_inside) {
                found.rule.push(made.span);
            }
            if let [only] = made.of.as_slice() {
                next = Some(*only);
            }
        }
        let mut seen = HashSet::new();
        let mut waiting = vec![origin];
        while let Some(origin) = waiting.pop() {
            if !origin.is_known() || !seen.insert(origin) {
                continue;
            }
            match self.entry(origin) {
                Some(made) => waiting.extend(made.of.iter().rev()),
                None => found.inputs.push(origin),
            }
        }
        found
    }
}

impl Trace {
    /// How many values the expression under way has got so far.
    pub(crate) fn mark(&self) -> usize {
        self.got.len()
    }

    /// What was got since then went into nothing.
    pub(crate) fn forget(&mut self, mark: usize) {
        self.got.truncate(mark);
    }

    /// Values of these origins go into the value that is being made.
    pub(crate) fn met(&mut self, origins: &[Origin]) {
        self.got.extend_from_slice(origins);
    }
}

impl HandedOn for Trace {
    fn handed_on(&self, origin: Origin) -> Option<Origin> {
        let mut entry = self.entry(origin)?;
        loop {
            let [only] = entry.of.as_slice() else { return None };
            match self.entry(*only) {
                Some(inner) => entry = inner,
                None => return Some(*only),
            }
        }
    }
}
