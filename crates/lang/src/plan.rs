//! A rule that has been checked: names are slots, functions are known, shapes are settled.
//!
//! Only the checker makes a [`Plan`]; only the runner reads it. A path that selects at most one node and a
//! path that may select many are different types here, so that neither can be taken for the other.

mod expr;
mod loops;
mod path;
mod records;
mod row_names;
mod strategy;
mod xpath;

use kyanite_formats::xml::StepName;
use kyanite_tree::{Advice, Step as PathStep};

pub(crate) use expr::{Case, Change, Edit, Entry, Expr, Item, Kind, Nodes, Piece, XPathCall};
pub(crate) use loops::{Clause, ClauseKind, ForSource, GroupFold, GroupFolds, Loop, OrderKey};
pub(crate) use path::{Filter, Join, ManyPath, OnePath, Segment, Selector, Start, Step, StepKind};
pub use records::{CannotCut, RecordUnit};
pub(crate) use records::{RecordFold, RecordHead, RecordSource, Records, TupleOfRecord};
pub use row_names::RowNames;
pub use strategy::{Choice, Strategy, Way, Ways, Written};
pub use xpath::compile_xpath;

use crate::finding::{Finding, RuleText, Span};
use crate::namespaces::Namespaces;
use crate::output::OutputSpec;
use crate::syntax::ast::ParamType;
use crate::xpath::RuleXPath;

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
        if let Kind::Loop(tuples) = &expr.kind {
            expr = tuples.result.innermost();
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

/// A `where` or a filter, for telling when it never holds.
#[derive(Debug)]
pub(crate) struct TestInfo {
    pub(crate) span: Span,
    pub(crate) is_where: bool,
}
