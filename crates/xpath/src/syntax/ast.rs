//! The syntax tree of an expression: names of variables and functions are resolved, prefixes of elements are not, since
//! documents may declare them.

use std::sync::Arc;

use kyanite_eval::atomic::{Arithmetic, AtomicType};
use kyanite_tree::{Comparison, NodeKind, Span};

use crate::functions::Function;

/// An expression and where it stands.
#[derive(Debug)]
pub(crate) struct Expr {
    pub(crate) kind: ExprKind,
    pub(crate) span: Span,
}

/// Two operands.
pub(crate) type Pair = Box<[Expr; 2]>;

#[derive(Debug)]
pub(crate) enum ExprKind {
    Literal(Literal),
    Variable(usize),
    ContextItem,
    /// `a, b`; without items the empty sequence.
    Sequence(Vec<Expr>),
    Or(Pair),
    And(Pair),
    /// `=` and the like: whether it holds for any pair of items.
    General(Comparison, Pair),
    /// `eq` and the like.
    Value(Comparison, Pair),
    Nodes(NodeComparison, Pair),
    Concat(Pair),
    Range(Pair),
    Arithmetic(Arithmetic, Pair),
    /// Whether the sign is turned round, or just checked.
    Sign(bool, Box<Expr>),
    Set(SetOperator, Pair),
    InstanceOf(Box<Expr>, SequenceType),
    Treat(Box<Expr>, SequenceType),
    Castable(Box<Expr>, SingleType),
    Cast(Box<Expr>, SingleType),
    SimpleMap(Pair),
    Path(Path),
    Filter(Box<Expr>, Vec<Predicate>),
    Lookup(Box<Expr>, Box<Key>),
    Call(&'static Function, Vec<Expr>),
    /// A call of a named function with `?` for some arguments, or a reference to one.
    Partial(Box<Callee>, Vec<Option<Expr>>),
    DynamicCall(Box<Expr>, Vec<Expr>),
    FunctionReference(&'static Function, usize),
    Inline(Arc<Inline>),
    Map(Vec<(Expr, Expr)>),
    /// `[a, b]`: a member for each expression.
    Array(Vec<Expr>),
    /// `array { a, b }`: a member for each item.
    CurlyArray(Box<Expr>),
    If(Box<[Expr; 3]>),
    For {
        slot: usize,
        over: Box<Expr>,
        body: Box<Expr>,
    },
    Let {
        slot: usize,
        value: Box<Expr>,
        body: Box<Expr>,
    },
    Quantified {
        is_every: bool,
        slot: usize,
        over: Box<Expr>,
        holds: Box<Expr>,
    },
    /// `xs:integer(e)`: a cast that takes an empty sequence.
    Constructor(AtomicType, Box<Expr>),
}

/// What a partial application is of.
#[derive(Debug)]
pub(crate) enum Callee {
    Named(&'static Function),
    Computed(Expr),
}

#[derive(Clone, Debug)]
pub(crate) enum Literal {
    Text(Arc<str>),
    Integer(i64),
    /// A whole number beyond 64 bits, or a decimal.
    Decimal(Arc<kyanite_tree::Decimal>, bool),
    Double(f64),
}

#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum NodeComparison {
    Is,
    Before,
    After,
}

#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum SetOperator {
    Union,
    Intersect,
    Except,
}

/// A path: where it begins, and its steps.
#[derive(Debug)]
pub(crate) struct Path {
    pub(crate) start: Start,
    pub(crate) steps: Vec<Step>,
}

#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Start {
    /// The context item.
    Context,
    /// The document that the context item is in.
    Root,
}

#[derive(Debug)]
pub(crate) enum Step {
    Axis(AxisStep),
    /// Any other expression, evaluated for each item so far.
    Expr(Expr),
}

/// An axis, a node test and predicates.
#[derive(Debug)]
pub(crate) struct AxisStep {
    pub(crate) axis: Axis,
    pub(crate) test: NodeTest,
    pub(crate) predicates: Vec<Predicate>,
    pub(crate) span: Span,
    /// The number of the step in the expression, for what is kept of each.
    pub(crate) number: usize,
}

/// A predicate, and what is known of it beforehand.
#[derive(Debug)]
pub(crate) struct Predicate {
    pub(crate) expr: Expr,
    pub(crate) number: usize,
    pub(crate) position: Position,
}

/// How a predicate depends on where an item stands.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Position {
    /// Not at all, and it is no number: it can be asked of any item apart from the others.
    Free,
    /// It selects just the item at that place.
    At(usize),
    /// It holds for items up to that place at most.
    UpTo(usize),
    /// It may ask for the place of the item, but not for how many there are.
    Place,
    /// It may ask for both.
    Any,
}

#[derive(Clone, Copy, PartialEq, Eq, Debug, Hash)]
pub(crate) enum Axis {
    Child,
    Descendant,
    DescendantOrSelf,
    Parent,
    Ancestor,
    AncestorOrSelf,
    FollowingSibling,
    PrecedingSibling,
    Following,
    Preceding,
    Attribute,
    Namespace,
    Itself,
}

impl Axis {
    pub(crate) const ALL: [(&'static str, Self); 13] = [
        ("child", Self::Child),
        ("descendant", Self::Descendant),
        ("descendant-or-self", Self::DescendantOrSelf),
        ("parent", Self::Parent),
        ("ancestor", Self::Ancestor),
        ("ancestor-or-self", Self::AncestorOrSelf),
        ("following-sibling", Self::FollowingSibling),
        ("preceding-sibling", Self::PrecedingSibling),
        ("following", Self::Following),
        ("preceding", Self::Preceding),
        ("attribute", Self::Attribute),
        ("namespace", Self::Namespace),
        ("self", Self::Itself),
    ];

    pub(crate) fn named(name: &str) -> Option<Self> {
        Self::ALL.iter().find(|(word, _)| *word == name).map(|(_, axis)| *axis)
    }

    pub(crate) fn word(self) -> &'static str {
        Self::ALL.iter().find(|(_, axis)| *axis == self).map_or("", |(word, _)| word)
    }

    /// Whether its nodes are counted against document order.
    pub(crate) fn is_reverse(self) -> bool {
        matches!(
            self,
            Self::Parent
                | Self::Ancestor
                | Self::AncestorOrSelf
                | Self::Preceding
                | Self::PrecedingSibling
        )
    }

    /// The kind of node that a name test on this axis means (XPath 3.1 section 3.3.2.1).
    pub(crate) fn principal(self) -> NodeKind {
        match self {
            Self::Attribute => NodeKind::Attribute,
            Self::Namespace => NodeKind::Namespace,
            _ => NodeKind::Element,
        }
    }
}

/// Which nodes a step or a type means.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) enum NodeTest {
    /// `node()`
    Any,
    /// A name, of the kind that the axis is for.
    Name(Name),
    /// `text()`, `comment()`, `namespace-node()`; `element()`, `attribute()` and `processing-instruction()` perhaps with a
    /// name.
    Kind(NodeKind, Option<Name>),
    /// `document-node(element(a))`: a document whose only element is of that kind.
    DocumentOf(Option<Name>),
}

/// A name test as it is written.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) enum Name {
    /// `*`
    Any,
    /// `a`: in the namespace that names without a prefix are in.
    Plain(String),
    /// `p:a`
    Prefixed(String, String),
    /// `Q{u}a`
    Expanded(String, String),
    /// `p:*`
    Prefix(String),
    /// `Q{u}*`
    Namespace(String),
    /// `*:a`
    Local(String),
}

/// What a lookup asks for.
#[derive(Debug)]
pub(crate) enum Key {
    Name(Arc<str>),
    Integer(i64),
    Expr(Expr),
    All,
}

/// A type and how many items there are.
#[derive(Clone, PartialEq, Debug)]
pub(crate) struct SequenceType {
    pub(crate) item: ItemType,
    pub(crate) occurs: Occurs,
}

#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Occurs {
    None,
    One,
    Optional,
    Any,
    Some,
}

#[derive(Clone, PartialEq, Debug)]
pub(crate) enum ItemType {
    /// `item()`
    Any,
    Atomic(AtomicType),
    Node(NodeTest),
    /// `function(*)`, or with the types of parameters and result.
    Function(Option<Box<(Vec<SequenceType>, SequenceType)>>),
    Map(Option<Box<(AtomicType, SequenceType)>>),
    Array(Option<Box<SequenceType>>),
}

/// The type of a cast: an atomic type, perhaps with `?`.
#[derive(Clone, Copy, PartialEq, Debug)]
pub(crate) struct SingleType {
    pub(crate) of: AtomicType,
    pub(crate) is_optional: bool,
}

/// `function($a) { … }`
#[derive(Debug)]
pub(crate) struct Inline {
    pub(crate) parameters: Vec<Option<SequenceType>>,
    pub(crate) result: Option<SequenceType>,
    pub(crate) body: Expr,
    /// The slots around it that it keeps, and the own ones that they are copied to.
    pub(crate) captures: Vec<(usize, usize)>,
    /// How many slots its body needs.
    pub(crate) slots: usize,
}
