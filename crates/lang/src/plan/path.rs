//! Checked paths: those that select one node at most, and those that may select many.

use kyanite_formats::xml::StepName;

use super::Expr;
use crate::finding::Span;

/// Where a path starts.
#[derive(Debug)]
pub(crate) enum Start {
    Root,
    Current,
    Global(usize),
    Local(usize),
    Value(Box<Expr>),
}

/// A path of names and indexes: it selects one node or nothing (RFC 9535 section 2.3.5.1, singular query).
#[derive(Debug)]
pub(crate) struct OnePath {
    /// Its number in [`Plan::paths`](super::Plan::paths).
    pub(crate) id: usize,
    pub(crate) start: Start,
    pub(crate) steps: Vec<Step>,
}

#[derive(Debug)]
pub(crate) struct Step {
    pub(crate) kind: StepKind,
    pub(crate) span: Span,
    /// Whether brackets behind it range over all child elements of its name.
    pub(crate) ranges: bool,
}

impl Step {
    /// The name that it steps to in any map, if it is just that.
    pub(crate) fn plain_name(&self) -> Option<&str> {
        match &self.kind {
            StepKind::Name(name) => Some(name),
            _ => None,
        }
    }
}

#[derive(Debug)]
pub(crate) enum StepKind {
    Name(String),
    /// A name whose prefix the header declares.
    Qualified {
        /// As written, without the `@` of an attribute.
        name: String,
        is_attribute: bool,
        local: String,
        namespace: String,
    },
    Index(i64),
    Computed(Expr),
    /// A reference token of a JSON Pointer.
    Token(String),
}

/// A path that may select any number of nodes.
#[derive(Debug)]
pub(crate) struct ManyPath {
    /// Its number in [`Plan::paths`](super::Plan::paths).
    pub(crate) id: usize,
    pub(crate) start: Start,
    pub(crate) segments: Vec<Segment>,
}

#[derive(Debug)]
pub(crate) struct Segment {
    pub(crate) descendant: bool,
    pub(crate) selectors: Vec<Selector>,
}

impl Segment {
    /// The name that it steps to in any map, if it is just that.
    pub(crate) fn plain_name(&self) -> Option<&str> {
        self.plain_step()?.plain_name()
    }

    /// The step that the segment is, if it is one step and nothing else.
    pub(crate) fn plain_step(&self) -> Option<&Step> {
        match self.selectors.as_slice() {
            [Selector::Step(step)] if !self.descendant => Some(step),
            _ => None,
        }
    }

    /// Whether it is all children, and nothing else.
    pub(crate) fn is_wildcard(&self) -> bool {
        !self.descendant && matches!(self.selectors.as_slice(), [Selector::Wildcard])
    }

    /// The name that the segment steps to, if it is one name and nothing else.
    pub(super) fn step_name(&self) -> Option<StepName> {
        match self.selectors.as_slice() {
            [Selector::Step(step)] if !self.descendant => match &step.kind {
                StepKind::Name(name) if !name.starts_with('@') => Some(StepName::new(name, None)),
                StepKind::Qualified { is_attribute: false, local, namespace, .. } => {
                    Some(StepName::new(local, Some(namespace)))
                }
                _ => None,
            },
            _ => None,
        }
    }
}

#[derive(Debug)]
pub(crate) enum Selector {
    /// A step to at most one child.
    Step(Step),
    Wildcard,
    Slice {
        start: Option<i64>,
        end: Option<i64>,
        step: i64,
    },
    Filter(Filter),
}

#[derive(Debug)]
pub(crate) struct Filter {
    /// Its number in [`Plan::tests`](super::Plan::tests).
    pub(crate) test: usize,
    pub(crate) condition: Expr,
    /// The condition joins the items to outer values.
    pub(crate) join: Option<Join>,
}

/// An equality that can be answered from an index: one side is of the inner item alone, the other does not know it.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) struct Join {
    /// Which part of the condition it is, among those that all have to hold.
    pub(crate) part: usize,
    /// Whether the side of the inner item is the left one.
    pub(crate) inner_is_left: bool,
}
