//! Checked expressions.

use super::{Loop, ManyPath, OnePath, Segment, Shape};
use crate::finding::Span;
use crate::functions::Signature;
use crate::syntax::ast::{Binary, Literal};

/// An XPath over a value, with the values of its variables by their slots.
#[derive(Debug)]
pub(crate) struct XPathCall {
    pub(crate) number: usize,
    pub(crate) value: Expr,
    pub(crate) variables: Vec<(usize, Expr)>,
}

/// A checked expression.
#[derive(Debug)]
pub(crate) struct Expr {
    pub(crate) kind: Kind,
    pub(crate) span: Span,
}

impl Expr {
    /// The expression that gives the result: behind `let … return`.
    pub(crate) fn innermost(&self) -> &Self {
        match &self.kind {
            Kind::Lets(_, result) => result.innermost(),
            _ => self,
        }
    }

    /// The path whose nodes the expression makes a list of, if it is just that.
    pub(crate) fn collected(&self) -> Option<&ManyPath> {
        match &self.kind {
            Kind::Collected(inner) => match &inner.kind {
                Kind::Many(path) => Some(path),
                _ => None,
            },
            _ => None,
        }
    }

    pub(crate) fn shape(&self) -> Shape {
        match self.innermost().kind {
            Kind::Many(_) => Shape::Many,
            _ => Shape::One,
        }
    }
}

#[derive(Debug)]
pub(crate) enum Kind {
    Constant(Literal),
    Template(Vec<Piece>),
    List(Vec<Item>),
    Map(Vec<Entry>),
    One(OnePath),
    Many(ManyPath),
    /// The value of an expression that is a path in parentheses: its nodes as a list.
    Collected(Box<Expr>),
    Not(Box<Expr>),
    Negate(Box<Expr>),
    Binary(Binary, Box<Expr>, Box<Expr>),
    If(Box<Expr>, Box<Expr>, Option<Box<Expr>>),
    Case(Box<Case>),
    Loop(Box<Loop>),
    /// `let … return e` without a `for`.
    Lets(Vec<(usize, Expr)>, Box<Expr>),
    /// An XPath over a value.
    XPath(Box<XPathCall>),
    /// A function of the language over values.
    Call(&'static Signature, Vec<Expr>),
    Exists(Nodes),
    Count(Nodes),
    ValueOf(Nodes),
    /// The value of the plan's aggregate over records.
    Folded,
    /// An aggregate over the tuples of the group whose number is in that slot, by its number.
    GroupFolded(usize, usize),
    /// A def of the rule.
    CallDef(usize, Vec<Expr>),
    /// What the document itself was read from.
    DocumentUri,
    Edit(Box<Edit>),
    /// A value, and what takes its place where evaluating it fails.
    Recover(Box<Expr>, Box<Expr>),
    /// In place of what did not check; such a rule never runs.
    Broken,
}

/// A path, of either shape.
#[derive(Debug)]
pub(crate) enum Nodes {
    One(OnePath),
    Many(ManyPath),
}

#[derive(Debug)]
pub(crate) enum Piece {
    Text(String),
    Value(Expr),
}

#[derive(Debug)]
pub(crate) struct Item {
    pub(crate) spread: bool,
    pub(crate) value: Expr,
}

#[derive(Debug)]
pub(crate) enum Entry {
    Named(String, Expr),
    Computed(Expr, Expr),
    Spread(Expr),
}

impl Entry {
    /// The name, where it does not depend on values.
    pub(crate) fn name(&self) -> Option<&str> {
        if let Self::Named(name, _) = self { Some(name) } else { None }
    }
}

#[derive(Debug)]
pub(crate) struct Case {
    pub(crate) subject: Option<Expr>,
    pub(crate) branches: Vec<(Vec<Expr>, Expr)>,
    pub(crate) otherwise: Option<Expr>,
}

/// A value with some places in it changed, one change after the other.
#[derive(Debug)]
pub(crate) struct Edit {
    pub(crate) subject: Expr,
    pub(crate) changes: Vec<Change>,
}

#[derive(Debug)]
pub(crate) struct Change {
    /// Its number in [`Plan::paths`](super::Plan::paths).
    pub(crate) id: usize,
    /// The path to the nodes that are changed.
    pub(crate) segments: Vec<Segment>,
    /// What takes the place of each; without it they are removed.
    pub(crate) value: Option<Expr>,
    pub(crate) span: Span,
}
