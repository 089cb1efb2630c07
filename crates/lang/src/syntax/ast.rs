//! A rule as it was written: parsed, not yet checked.

use crate::finding::Span;

/// An expression and where it stands.
#[derive(Clone, PartialEq, Debug)]
pub struct Expr {
    /// What it is.
    pub kind: ExprKind,
    /// Where it stands.
    pub span: Span,
}

/// The kinds of expressions.
#[derive(Clone, PartialEq, Debug)]
pub enum ExprKind {
    /// `null`, `true`, `12`, `"text"`.
    Literal(Literal),
    /// `f"{a}: {b}"`.
    Template(Vec<Piece>),
    /// `[a, ...b]`.
    List(Vec<Item>),
    /// `{a: 1, b.c, ...d}`.
    Map(Vec<Entry>),
    /// `$.a[*]`, `name`, `(e)[0]`.
    Path(Path),
    /// `(e)`.
    Group(Box<Expr>),
    /// `name(a, b)`.
    Call(Call),
    /// `!e`, `-e`.
    Unary(Unary, Box<Expr>),
    /// `a + b`, `a == b`, `a && b`, `a ?? b`.
    Binary(Binary, Box<Expr>, Box<Expr>),
    /// `if c then a else b`.
    If(Box<If>),
    /// `case v when a then b else c end`.
    Case(Box<Case>),
    /// `for … return e`, `let … return e`.
    Loop(Box<Loop>),
    /// `e set .a = b`, `e remove .a`.
    Edit(Box<Edit>),
}

/// A value that is written out.
#[derive(Clone, PartialEq, Debug)]
pub enum Literal {
    /// `null`
    Null,
    /// `true`, `false`
    Boolean(bool),
    /// A number, as spelled.
    Number(String),
    /// A text, unescaped.
    Text(String),
}

/// A part of an f-text.
#[derive(Clone, PartialEq, Debug)]
pub enum Piece {
    /// Text between the braces.
    Text(String),
    /// An expression in braces.
    Value(Expr),
}

/// An item of a list constructor.
#[derive(Clone, PartialEq, Debug)]
pub struct Item {
    /// Whether `...` stands before it.
    pub spread: bool,
    /// The expression.
    pub value: Expr,
}

/// An entry of a map constructor.
#[derive(Clone, PartialEq, Debug)]
pub enum Entry {
    /// `name: e`, `"any name": e`, or a path alone, named by its last name: `b.fare`.
    Named {
        /// The name.
        name: String,
        /// Where it stands.
        name_span: Span,
        /// The value.
        value: Expr,
    },
    /// `(e): e`.
    Computed {
        /// The expression of the name.
        name: Expr,
        /// The value.
        value: Expr,
    },
    /// `...e`.
    Spread(Expr),
}

/// A path: where it starts, and its segments (RFC 9535 section 2).
#[derive(Clone, PartialEq, Debug)]
pub struct Path {
    /// Where it starts.
    pub start: Start,
    /// Where the start stands.
    pub start_span: Span,
    /// The steps, with where each stands.
    pub segments: Vec<Segment>,
}

/// Where a path starts.
#[derive(Clone, PartialEq, Debug)]
pub enum Start {
    /// `$`
    Root,
    /// `@`
    Current,
    /// A bound name.
    Name(String),
    /// A value: `(e)`, a call, a constructor.
    Value(Box<Expr>),
}

/// One segment of a path.
#[derive(Clone, PartialEq, Debug)]
pub struct Segment {
    /// Whether it is a descendant segment (`..`).
    pub descendant: bool,
    /// Whether its selectors stand in brackets right behind what they select from.
    pub in_brackets: bool,
    /// Its selectors, at least one.
    pub selectors: Vec<Selector>,
    /// Where it stands.
    pub span: Span,
}

/// A selector (RFC 9535 section 2.3), or a computed step.
#[derive(Clone, PartialEq, Debug)]
pub enum Selector {
    /// `'name'`
    Name(String),
    /// `*`
    Wildcard,
    /// `3`, `-1`
    Index(i64),
    /// `1:5:2`
    Slice {
        /// Where it begins.
        start: Option<i64>,
        /// Where it ends, exclusive.
        end: Option<i64>,
        /// The step.
        step: i64,
    },
    /// `?e`
    Filter(Box<Expr>),
    /// `(e)`
    Computed(Box<Expr>),
    /// A reference token of a JSON Pointer (RFC 6901): a member's name or an item's index.
    Token(String),
}

/// A call.
#[derive(Clone, PartialEq, Debug)]
pub struct Call {
    /// The function's name.
    pub name: String,
    /// Where the name stands.
    pub name_span: Span,
    /// The arguments.
    pub arguments: Vec<Expr>,
}

/// Operators with one operand.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Unary {
    /// `!`
    Not,
    /// `-`
    Negate,
}

/// Operators with two operands.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Binary {
    Or,
    And,
    Equal,
    NotEqual,
    Less,
    LessOrEqual,
    Greater,
    GreaterOrEqual,
    Add,
    Subtract,
    Multiply,
    Divide,
    Remainder,
    Coalesce,
}

impl Binary {
    /// How it is written.
    #[must_use]
    pub fn symbol(self) -> &'static str {
        match self {
            Self::Or => "||",
            Self::And => "&&",
            Self::Equal => "==",
            Self::NotEqual => "!=",
            Self::Less => "<",
            Self::LessOrEqual => "<=",
            Self::Greater => ">",
            Self::GreaterOrEqual => ">=",
            Self::Add => "+",
            Self::Subtract => "-",
            Self::Multiply => "*",
            Self::Divide => "/",
            Self::Remainder => "%",
            Self::Coalesce => "??",
        }
    }
}

/// `if c then a else b`.
#[derive(Clone, PartialEq, Debug)]
pub struct If {
    /// The condition.
    pub condition: Expr,
    /// The value when it holds.
    pub then: Expr,
    /// The value when it does not; None if left out.
    pub otherwise: Option<Expr>,
}

/// `case v when a, b then x … else y end`.
#[derive(Clone, PartialEq, Debug)]
pub struct Case {
    /// The value compared; without it each branch has a condition.
    pub subject: Option<Expr>,
    /// The branches: what each waits for, and its value.
    pub branches: Vec<(Vec<Expr>, Expr)>,
    /// The value when no branch fits; None if left out.
    pub otherwise: Option<Expr>,
}

/// A value with some places in it changed.
#[derive(Clone, PartialEq, Debug)]
pub struct Edit {
    /// What is changed.
    pub subject: Expr,
    /// The changes, done one after the other; at least one.
    pub changes: Vec<Change>,
}

/// One change of an edit.
#[derive(Clone, PartialEq, Debug)]
pub struct Change {
    /// The path to the nodes that are changed, at least one segment.
    pub path: Vec<Segment>,
    /// Where it stands.
    pub span: Span,
    /// What takes their place; without it they are removed.
    pub value: Option<Expr>,
}

/// Clauses and what they return.
#[derive(Clone, PartialEq, Debug)]
pub struct Loop {
    /// The clauses, at least one.
    pub clauses: Vec<Clause>,
    /// The expression after `return`.
    pub result: Expr,
}

/// One clause.
#[derive(Clone, PartialEq, Debug)]
pub struct Clause {
    /// What it does.
    pub kind: ClauseKind,
    /// Where it stands.
    pub span: Span,
}

/// The kinds of clauses.
#[derive(Clone, PartialEq, Debug)]
pub enum ClauseKind {
    /// `for x at i in e`
    For {
        /// The name of each item.
        name: Binding,
        /// The name of its index.
        at: Option<Binding>,
        /// What is gone through.
        source: Expr,
    },
    /// `let n = e`
    Let(Binding, Expr),
    /// `where c`
    Where(Expr),
    /// `skip n`
    Skip(Expr),
    /// `first n`
    First(Expr),
    /// `order by e descending, …`
    OrderBy(Vec<OrderKey>),
    /// `group by k = e, …`
    GroupBy(Vec<(Binding, Expr)>),
    /// `carry n from e = e`
    Carry {
        /// The name of the running value.
        name: Binding,
        /// What it is before the first tuple.
        from: Expr,
        /// What each tuple makes of it.
        step: Expr,
    },
    /// `window n step m`
    Window {
        /// How many tuples are seen together.
        size: Expr,
        /// How many tuples further the next begins.
        step: Option<Expr>,
    },
}

/// One of the expressions that tuples are ordered by.
#[derive(Clone, PartialEq, Debug)]
pub struct OrderKey {
    /// The expression.
    pub value: Expr,
    /// Whether the greatest comes first.
    pub descending: bool,
}

/// A name at the place where it is bound.
#[derive(Clone, PartialEq, Debug)]
pub struct Binding {
    /// The name.
    pub name: String,
    /// Where it stands.
    pub span: Span,
}

/// The type of a param.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum ParamType {
    /// The text itself.
    Text,
    /// A number in the spelling of JSON.
    Number,
    /// `true` or `false`.
    Boolean,
    /// A list, written as JSON.
    List,
    /// A map, written as JSON.
    Map,
    /// Any value, written as JSON.
    Any,
}

impl ParamType {
    /// All types with their words.
    pub const ALL: [(&'static str, Self); 6] = [
        ("text", Self::Text),
        ("number", Self::Number),
        ("boolean", Self::Boolean),
        ("list", Self::List),
        ("map", Self::Map),
        ("any", Self::Any),
    ];

    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        Self::ALL.iter().find(|(_, one)| *one == self).map_or("any", |(word, _)| word)
    }
}

/// An item of a rule's header.
#[derive(Clone, PartialEq, Debug)]
pub enum HeaderItem {
    /// `param name: type = default`
    Param {
        /// The name.
        name: Binding,
        /// The type.
        of: ParamType,
        /// Whether it may be left out (`type?`).
        optional: bool,
        /// The default.
        default: Option<Expr>,
    },
    /// `expects "file"`: a schema that the input keeps to.
    Expects {
        /// The file, seen from the rule's folder.
        file: String,
    },
    /// `ensures "file"`: a schema that the result keeps to.
    Ensures {
        /// The file, seen from the rule's folder.
        file: String,
    },
    /// `use "file"`
    Use {
        /// The file, seen from the one that uses it.
        file: String,
    },
    /// `source name = "file"`
    Source {
        /// The name.
        name: Binding,
        /// The file, seen from the rule's folder.
        file: String,
    },
    /// `output format { options }`
    Output {
        /// The format.
        format: Binding,
        /// Its options, a map of constants.
        options: Option<Expr>,
    },
    /// `namespace p = "uri"`, or `namespace = "uri"` for the names without prefix that elements are made with.
    Namespace {
        /// The prefix.
        prefix: Option<Binding>,
        /// The namespace.
        uri: String,
        /// Where it stands.
        span: Span,
    },
    /// `let n = e`
    Let(Binding, Expr),
    /// `def f(a, b) = e`
    Def {
        /// The name.
        name: Binding,
        /// The parameters.
        parameters: Vec<Binding>,
        /// What it gives.
        body: Expr,
    },
}

/// A whole rule.
#[derive(Clone, PartialEq, Debug)]
pub struct Rule {
    /// The header, in the order it was written.
    pub header: Vec<HeaderItem>,
    /// The body.
    pub body: Expr,
}
