//! Checked `for` expressions and their clauses.

use std::ops::Range;

use kyanite_eval::accumulator::Aggregate;

use super::{Expr, Join, Kind, ManyPath, Nodes, OnePath, Start};

/// Clauses, compiled: what runs once before the first `for`, the clauses, and what is returned.
#[derive(Debug)]
pub(crate) struct Loop {
    pub(crate) before: Vec<(usize, Expr)>,
    pub(crate) clauses: Vec<Clause>,
    pub(crate) result: Expr,
    /// Paths of this number and later ones stand behind the first clause that holds tuples.
    pub(crate) late_paths: usize,
}

impl Loop {
    /// The first clause that has to see all tuples.
    pub(crate) fn holding(&self) -> Option<usize> {
        self.clauses.iter().position(|clause| clause.kind.holds_tuples())
    }

    /// The first clause behind the one at `position` that has to see all tuples.
    pub(crate) fn holding_behind(&self, position: usize) -> Option<usize> {
        let mut behind = self.clauses.iter().enumerate().skip(position + 1);
        behind.find(|(_, clause)| clause.kind.holds_tuples()).map(|(at, _)| at)
    }

    /// Whether a clause keeps values from one tuple to the next.
    pub(crate) fn keeps_values(&self) -> bool {
        self.clauses.iter().any(|clause| clause.kind.keeps_values())
    }
}

#[derive(Debug)]
pub(crate) struct Clause {
    pub(crate) kind: ClauseKind,
}

#[derive(Debug)]
pub(crate) enum ClauseKind {
    For {
        slot: usize,
        at: Option<usize>,
        source: ForSource,
        /// The `where` behind it joins its items to outer values.
        join: Option<Join>,
    },
    Let(usize, Expr),
    Where {
        /// Its number in [`Plan::tests`](super::Plan::tests).
        test: usize,
        condition: Expr,
    },
    Skip(Expr),
    First(Expr),
    OrderBy {
        keys: Vec<OrderKey>,
        /// The slots of the names bound since the first `for`: what a tuple is put aside with.
        slots: Range<usize>,
        /// Whether `first` follows the clause, so that only its count of tuples is kept.
        is_bounded: bool,
    },
    GroupBy {
        /// The slot of each key, and what it is.
        keys: Vec<(usize, Expr)>,
        /// The slots of the names bound since the first `for`.
        slots: Range<usize>,
        /// The aggregates that are all that is needed of the tuples of a group, if they are.
        folds: Option<GroupFolds>,
    },
    Carry {
        slot: usize,
        from: Expr,
        step: Expr,
    },
    Window {
        size: Expr,
        step: Option<Expr>,
        /// The slots of the names bound since the first `for`.
        slots: Range<usize>,
    },
}

impl ClauseKind {
    /// Whether the clause has to see all tuples before it hands on the first.
    pub(crate) fn holds_tuples(&self) -> bool {
        matches!(self, Self::OrderBy { .. } | Self::GroupBy { .. })
    }

    /// The slots of what a tuple is put aside with, if the clause does that.
    pub(crate) fn slots(&self) -> Range<usize> {
        match self {
            Self::OrderBy { slots, .. } | Self::GroupBy { slots, .. } => slots.clone(),
            _ => 0..0,
        }
    }

    /// Whether of the tuples of its groups only aggregates are needed.
    pub(crate) fn folds(&self) -> bool {
        matches!(self, Self::GroupBy { folds: Some(_), .. })
    }

    /// What it is called, if what it hands on depends on the tuples before. Those of groups that go into aggregates do not.
    pub(crate) fn needs_tuples_before(&self) -> Option<&'static str> {
        Some(match self {
            Self::For { .. } | Self::Let(..) | Self::Where { .. } => return None,
            Self::GroupBy { folds: Some(_), .. } => return None,
            Self::GroupBy { folds: None, .. } => "group by",
            Self::Skip(_) => "skip",
            Self::First(_) => "first",
            Self::OrderBy { .. } => "order by",
            Self::Carry { .. } => "carry",
            Self::Window { .. } => "window",
        })
    }

    /// Whether the clause keeps values from one tuple to the next.
    pub(crate) fn keeps_values(&self) -> bool {
        self.holds_tuples() || matches!(self, Self::Carry { .. } | Self::Window { .. })
    }
}

/// Aggregates over the tuples of each group.
#[derive(Debug)]
pub(crate) struct GroupFolds {
    /// The slot of the number of the group.
    pub(crate) slot: usize,
    pub(crate) folds: Vec<GroupFold>,
}

/// An aggregate over the tuples of a group: a running value that each tuple adds to.
#[derive(Debug)]
pub(crate) struct GroupFold {
    pub(crate) kind: Aggregate,
    /// The call as it stood behind the clause.
    pub(crate) call: Expr,
}

impl GroupFold {
    /// The slot of the name whose values of each tuple go into the aggregate, and the path from there; none when it counts
    /// the tuples that have one.
    pub(crate) fn over(&self) -> Option<(usize, Option<&ManyPath>)> {
        let path = match &self.call.kind {
            Kind::Count(Nodes::Many(path)) => path,
            Kind::Call(_, arguments) => match arguments.as_slice() {
                [Expr { kind: Kind::One(OnePath { start: Start::Local(slot), .. }), .. }] => {
                    return Some((*slot, None));
                }
                [argument] => argument.collected()?,
                _ => return None,
            },
            _ => return None,
        };
        match path.start {
            Start::Local(slot) => Some((slot, Some(path))),
            _ => None,
        }
    }
}

#[derive(Debug)]
pub(crate) struct OrderKey {
    pub(crate) value: Expr,
    pub(crate) descending: bool,
}

/// What a `for` goes through.
#[derive(Debug)]
pub(crate) enum ForSource {
    /// The nodes of a path.
    Nodes(ManyPath),
    /// The items of a list value.
    List(Expr),
}
