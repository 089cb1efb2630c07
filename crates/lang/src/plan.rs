//! A rule that has been checked: names are slots, functions are known, shapes are settled.
//!
//! Only the checker makes a [`Plan`]; only the runner reads it. A path that selects at most one node and a
//! path that may select many are different types here, so that neither can be taken for the other.

mod direct;
mod line_names;
mod records;
mod strategy;
mod xpath;

use std::ops::Range;

use kyanite_formats::xml::StepName;
use kyanite_tree::{Advice, Step as PathStep};

pub(crate) use direct::{Cell, Direct};
pub(crate) use line_names::LineName;
pub use line_names::LineNames;
pub use records::{CannotCut, RecordUnit};
pub(crate) use records::{RecordFold, RecordHead, RecordSource, Records};
pub use strategy::{Choice, Strategy, Way, Ways};
pub use xpath::compile_xpath;

use crate::finding::{Finding, RuleText, Span};
use crate::functions::Signature;
use crate::namespaces::Namespaces;
use crate::output::OutputSpec;
use crate::syntax::ast::{Binary, Literal, ParamType};
use crate::xpath::RuleXPath;
use kyanite_eval::accumulator::Aggregate;

/// Whether an expression is a value (or nothing), or the nodes of a path.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Shape {
    /// One value, or nothing.
    One,
    /// The nodes of a path: none, one or several.
    Many,
}

/// How the result of a whole rule is written.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum ResultShape {
    /// A value, or nothing.
    Single,
    /// A list whose items come one at a time: the nodes of a path, or what a `for` returns.
    Items,
}

/// A checked rule, ready to run.
#[derive(Debug)]
pub struct Plan {
    pub(crate) rule: RuleText,
    pub(crate) params: Vec<Param>,
    /// Slots for params and header lets.
    pub(crate) globals: usize,
    pub(crate) setup: Vec<(usize, Expr)>,
    pub(crate) defs: Vec<Def>,
    /// Slots for the names of the body.
    pub(crate) frame: usize,
    pub(crate) body: Expr,
    /// The aggregate over records that the body has the value of, if it runs so.
    pub(crate) fold: Option<RecordFold>,
    pub(crate) paths: Vec<PathInfo>,
    pub(crate) tests: Vec<TestInfo>,
    /// How often `$` stands in the rule.
    pub(crate) root_uses: usize,
    /// The further documents that the rule reads.
    pub sources: Vec<SourceSpec>,
    /// What the header says of the output.
    pub output: Option<OutputSpec>,
    /// The schemas that the input keeps to, seen from the rule's folder.
    pub expects: Vec<String>,
    /// The schemas that the result keeps to, seen from the rule's folder.
    pub ensures: Vec<String>,
    /// Whether the rule reads documents inside texts.
    pub(crate) decodes: bool,
    /// Whether the rule asks what values were read from.
    pub(crate) asks_documents: bool,
    pub(crate) namespaces: Namespaces,
    /// The XPaths in it, by their numbers.
    pub(crate) xpaths: Vec<RuleXPath>,
    /// Whether it is an XPath, the first of them, and no rule.
    pub(crate) is_xpath: bool,
    /// The path to the elements that the XPath is evaluated for one by one, if it is.
    pub(crate) xpath_records: Option<Vec<StepName>>,
    /// What is worth saying though the rule runs.
    pub warnings: Vec<Finding>,
}

impl Plan {
    /// A plan of nothing but an expression.
    pub(crate) fn of(rule: RuleText, body: Expr) -> Self {
        Self {
            rule,
            params: Vec::new(),
            globals: 0,
            setup: Vec::new(),
            defs: Vec::new(),
            frame: 0,
            body,
            fold: None,
            paths: Vec::new(),
            tests: Vec::new(),
            root_uses: 0,
            sources: Vec::new(),
            output: None,
            expects: Vec::new(),
            ensures: Vec::new(),
            decodes: false,
            asks_documents: false,
            namespaces: Namespaces::default(),
            xpaths: Vec::new(),
            is_xpath: false,
            xpath_records: None,
            warnings: Vec::new(),
        }
    }

    /// The rule's text.
    #[must_use]
    pub fn rule(&self) -> &RuleText {
        &self.rule
    }

    /// The params that the rule declares.
    #[must_use]
    pub fn params(&self) -> &[Param] {
        &self.params
    }

    /// Whether the rule names `$` at all.
    #[must_use]
    pub fn reads_input(&self) -> bool {
        self.root_uses > 0
    }

    /// Whether the rule reads documents inside texts, which may be in any format.
    #[must_use]
    pub fn decodes(&self) -> bool {
        self.decodes
    }

    /// Whether the rule asks what values were read from.
    #[must_use]
    pub fn asks_documents(&self) -> bool {
        self.asks_documents
    }

    /// The expression that gives the result.
    #[must_use]
    pub fn result_span(&self) -> Span {
        self.body.innermost().span
    }

    /// The part of the rule that makes the value at a path of the result, or of an item of it, as far as that can be told
    /// without running the rule.
    #[must_use]
    pub fn maker(&self, path: &[PathStep<'_>]) -> Span {
        let mut expr = self.body.innermost();
        if let Kind::Loop(turns) = &expr.kind {
            expr = turns.result.innermost();
        }
        let mut span = expr.span;
        for step in path {
            let inner = match (&expr.kind, step) {
                (Kind::Map(entries), PathStep::Name(name)) => {
                    let named = entries.iter().rev().find_map(|entry| match entry {
                        Entry::Named(known, value) if known == name => Some(value),
                        _ => None,
                    });
                    named.or_else(|| {
                        // What is not written there comes from a map that is spread into it.
                        entries.iter().rev().find_map(|entry| match entry {
                            Entry::Spread(value) => Some(value),
                            _ => None,
                        })
                    })
                }
                (Kind::List(items), PathStep::Index(index)) => {
                    let is_plain = items.iter().all(|item| !item.spread);
                    items.get(*index).filter(|_| is_plain).map(|item| &item.value)
                }
                _ => None,
            };
            let Some(inner) = inner else { break };
            expr = inner.innermost();
            span = expr.span;
        }
        span
    }

    /// How the result is written.
    #[must_use]
    pub fn result_shape(&self) -> ResultShape {
        if let Some(xpath) = self.xpath() {
            return if xpath.gives_one() { ResultShape::Single } else { ResultShape::Items };
        }
        match self.body.innermost().kind {
            Kind::Many(_) | Kind::Loop(_) => ResultShape::Items,
            _ => ResultShape::Single,
        }
    }
}

/// A further document that a rule reads.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct SourceSpec {
    /// Its name in the rule.
    pub name: String,
    /// The file, seen from the rule's folder.
    pub file: String,
    pub(crate) slot: usize,
}

/// A param of a rule.
#[derive(Debug)]
pub struct Param {
    /// The name.
    pub name: String,
    /// The type.
    pub of: ParamType,
    /// Whether it may be left out; it is then null, or its default.
    pub optional: bool,
    pub(crate) default: Option<Expr>,
    pub(crate) slot: usize,
    pub(crate) span: Span,
}

impl Param {
    /// Whether the rule cannot run without it.
    #[must_use]
    pub fn is_required(&self) -> bool {
        !self.optional && self.default.is_none()
    }
}

/// A def of a rule.
#[derive(Debug)]
pub(crate) struct Def {
    pub(crate) name: String,
    pub(crate) frame: usize,
    pub(crate) body: Expr,
}

/// What is told about a path that selects nothing.
#[derive(Debug)]
pub(crate) struct PathInfo {
    /// The path up to its first step, as far back as it can be followed: `$.sailings[*]` for a name bound by
    /// `for`.
    pub(crate) base: String,
    /// Each step as written, where it stands, and its name if it is a name step.
    pub(crate) steps: Vec<StepInfo>,
    pub(crate) span: Span,
    /// Whether the rule asks if it is there, so that absence is no surprise.
    pub(crate) may_be_absent: bool,
    /// Whether it starts from nodes of any kind, lists among them, as `..[?@.a]` does.
    pub(crate) from_any: bool,
    /// Whether it is the path of an edit.
    pub(crate) is_of_edit: bool,
}

#[derive(Debug)]
pub(crate) struct StepInfo {
    pub(crate) text: String,
    pub(crate) span: Span,
    pub(crate) name: Option<String>,
    /// The namespace that the name must be in, if its prefix is declared.
    pub(crate) namespace: Option<String>,
    /// Whether it looks at any depth.
    pub(crate) descendant: bool,
    /// Which filter it is, if it is one.
    pub(crate) test: Option<usize>,
    /// Whether it selects at most one node of each.
    pub(crate) is_single: bool,
}

impl PathInfo {
    /// The path up to, but not including, step `step`.
    pub(crate) fn prefix(&self, step: usize) -> String {
        let steps = self.steps.iter().take(step).map(|info| info.text.as_str());
        std::iter::once(self.base.as_str()).chain(steps).collect()
    }

    /// What to write in place of a step into a list, so that it steps into the items.
    pub(crate) fn within_items(&self, step: &StepInfo, prefix: &str) -> Advice<Span> {
        let text = format!("[*]{}", step.text);
        Advice::words(format!("write {prefix}{text}")).fix(step.span, text)
    }

    /// What to write in place of the path up to, but not including, step `step`: a call with it.
    pub(crate) fn called(&self, function: &str, step: usize, rule: &RuleText) -> Advice<Span> {
        let Some(stopped) = self.steps.get(step) else { return Advice::words("") };
        let whole = Span::new(self.span.start, stopped.span.end);
        let before = rule.slice(Span::new(self.span.start, stopped.span.start));
        let text = format!("{function}({before})");
        Advice::words(format!("write {text}")).fix(whole, text)
    }

    /// What to write in place of the path, so that from step `at` on it goes into the JSON of a text.
    pub(crate) fn decoded(&self, at: usize, rule: &RuleText) -> Advice<Span> {
        let start = self.steps.get(at).map_or(self.span.end, |step| step.span.start);
        let (texts, rest) = (
            rule.slice(Span::new(self.span.start, start)),
            rule.slice(Span::new(start, self.span.end)),
        );
        let is_single = |steps: &[StepInfo]| steps.iter().all(|step| step.is_single);
        let (before, behind) = self.steps.split_at(at.min(self.steps.len()));
        let text = match (is_single(before), is_single(behind)) {
            (true, _) => format!("decode(\"json\", {texts}){rest}"),
            (false, true) => {
                format!("for text in {texts} return decode(\"json\", text){rest}")
            }
            (false, false) => {
                format!("for text in {texts} for node in decode(\"json\", text){rest} return node")
            }
        };
        let is_whole = rule.slice(self.span) == rule.text.trim();
        let text = if is_single(before) || is_whole { text } else { format!("({text})") };
        Advice::words(format!("it holds JSON: write {text}")).fix(self.span, text)
    }
}

/// An XPath over a value, with the values of its variables by their slots.
#[derive(Debug)]
pub(crate) struct XPathCall {
    pub(crate) number: usize,
    pub(crate) value: Expr,
    pub(crate) variables: Vec<(usize, Expr)>,
}

/// A `where` or a filter, for telling when it never holds.
#[derive(Debug)]
pub(crate) struct TestInfo {
    pub(crate) span: Span,
    pub(crate) is_where: bool,
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
    /// An aggregate over the turns of the group whose number is in that slot, by its number.
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
    /// Its number in [`Plan::paths`].
    pub(crate) id: usize,
    /// The path to the nodes that are changed.
    pub(crate) segments: Vec<Segment>,
    /// What takes the place of each; without it they are removed.
    pub(crate) value: Option<Expr>,
    pub(crate) span: Span,
}

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
    /// Its number in [`Plan::paths`].
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
    /// Its number in [`Plan::paths`].
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
        match self.selectors.as_slice() {
            [Selector::Step(step)] if !self.descendant => step.plain_name(),
            _ => None,
        }
    }

    /// Whether it is all children, and nothing else.
    pub(crate) fn is_wildcard(&self) -> bool {
        !self.descendant && matches!(self.selectors.as_slice(), [Selector::Wildcard])
    }

    /// The name that the segment steps to, if it is one name and nothing else.
    fn step_name(&self) -> Option<StepName> {
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
    /// Its number in [`Plan::tests`].
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

/// Clauses, compiled: what runs once before the first `for`, the clauses, and what is returned.
#[derive(Debug)]
pub(crate) struct Loop {
    pub(crate) before: Vec<(usize, Expr)>,
    pub(crate) clauses: Vec<Clause>,
    pub(crate) result: Expr,
    /// Paths of this number and later ones stand behind the first clause that holds turns.
    pub(crate) late_paths: usize,
}

impl Loop {
    /// The first clause that has to see all turns.
    pub(crate) fn holding(&self) -> Option<usize> {
        self.clauses.iter().position(|clause| clause.kind.holds_turns())
    }

    /// The first clause behind the one at `position` that has to see all turns.
    pub(crate) fn holding_behind(&self, position: usize) -> Option<usize> {
        let mut behind = self.clauses.iter().enumerate().skip(position + 1);
        behind.find(|(_, clause)| clause.kind.holds_turns()).map(|(at, _)| at)
    }

    /// Whether a clause keeps values from one turn to the next.
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
        /// Its number in [`Plan::tests`].
        test: usize,
        condition: Expr,
    },
    Skip(Expr),
    First(Expr),
    OrderBy {
        keys: Vec<OrderKey>,
        /// The slots of the names bound since the first `for`: what a turn is put aside with.
        slots: Range<usize>,
        /// The clause is followed by `first`: only so many turns need to be kept.
        is_bounded: bool,
    },
    GroupBy {
        /// The slot of each key, and what it is.
        keys: Vec<(usize, Expr)>,
        /// The slots of the names bound since the first `for`.
        slots: Range<usize>,
        /// The aggregates that are all that is needed of the turns of a group, if they are.
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
    /// Whether the clause has to see all turns before it hands on the first.
    pub(crate) fn holds_turns(&self) -> bool {
        matches!(self, Self::OrderBy { .. } | Self::GroupBy { .. })
    }

    /// The slots of what a turn is put aside with, if the clause does that.
    pub(crate) fn slots(&self) -> Range<usize> {
        match self {
            Self::OrderBy { slots, .. } | Self::GroupBy { slots, .. } => slots.clone(),
            _ => 0..0,
        }
    }

    /// Whether of the turns of its groups only aggregates are needed.
    pub(crate) fn folds(&self) -> bool {
        matches!(self, Self::GroupBy { folds: Some(_), .. })
    }

    /// What it is called, if what it hands on depends on the turns before. Those of groups that go into aggregates do not.
    pub(crate) fn needs_turns_before(&self) -> Option<&'static str> {
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

    /// Whether the clause keeps values from one turn to the next.
    pub(crate) fn keeps_values(&self) -> bool {
        self.holds_turns() || matches!(self, Self::Carry { .. } | Self::Window { .. })
    }
}

/// Aggregates over the turns of each group.
#[derive(Debug)]
pub(crate) struct GroupFolds {
    /// The slot of the number of the group.
    pub(crate) slot: usize,
    pub(crate) folds: Vec<GroupFold>,
}

/// An aggregate over the turns of a group: a running value that each turn adds to.
#[derive(Debug)]
pub(crate) struct GroupFold {
    pub(crate) kind: Aggregate,
    /// The call as it stood behind the clause.
    pub(crate) call: Expr,
}

impl GroupFold {
    /// The slot of the name whose values of each turn go into the aggregate, and the path from there; none when it counts
    /// the turns that have one.
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
