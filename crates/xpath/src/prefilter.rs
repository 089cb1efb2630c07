//! The part of an element predicate that the text of the element decides, before the element is parsed.

use kyanite_eval::atomic::Atomic;
use kyanite_formats::projection::Projection;
use kyanite_formats::xml::{Condition, Prefilter, StepName, Test, TestStep, TextTest};
use kyanite_tree::Comparison;

use crate::streaming::{RecordStep, record_name};
use crate::syntax::ast::{
    Axis, AxisStep, Expr, ExprKind, Literal, Name, NodeTest, Path, Start, Step,
};
use crate::{Namespaces, Version, run};

/// A prefilter for the elements that an expression is evaluated for, and what its steps are in the expression.
#[derive(Debug)]
pub(crate) struct RecordPrefilter {
    pub(crate) prefilter: Prefilter,
    /// The number of the predicate.
    pub(crate) predicate: usize,
    /// For each step of the prefilter its number in the expression, and whether it is the first of its test.
    pub(crate) steps: Vec<(usize, bool)>,
}

impl RecordPrefilter {
    /// A prefilter for the elements that the first step of an expression for each of them leads to, of its first predicate.
    /// `projection` is what is needed of those for which it holds.
    pub(crate) fn of(
        step: &AxisStep,
        version: Version,
        namespaces: &Namespaces,
        projection: Projection,
    ) -> Option<Self> {
        let predicate = step.predicates.first()?;
        let mut tests = Tests { version, namespaces, tests: Vec::new(), steps: Vec::new() };
        let condition = tests.condition(&predicate.expr);
        let inside = match step.axis {
            Axis::DescendantOrSelf => Some(StepName::from(record_name(step, namespaces)?)),
            _ => None,
        };
        let Tests { tests, steps, .. } = tests;
        let prefilter = Prefilter::new(tests, condition, inside, projection)?;
        Some(Self { prefilter, predicate: predicate.number, steps })
    }
}

impl From<RecordStep> for StepName {
    fn from(step: RecordStep) -> Self {
        let name = Self::new(&step.local, step.namespace.as_deref());
        Self { at_any_depth: step.at_any_depth, ..name }
    }
}

/// Tests as they are collected from an expression.
struct Tests<'n> {
    version: Version,
    namespaces: &'n Namespaces,
    tests: Vec<Test>,
    steps: Vec<(usize, bool)>,
}

impl Tests<'_> {
    fn condition(&mut self, expr: &Expr) -> Condition {
        let both = |own: &mut Self, pair: &[Expr; 2]| {
            Box::new([own.condition(&pair[0]), own.condition(&pair[1])])
        };
        match &expr.kind {
            ExprKind::And(pair) => Condition::And(both(self, pair)),
            ExprKind::Or(pair) => Condition::Or(both(self, pair)),
            ExprKind::General(how, pair) => {
                let found = match (&pair[0].kind, &pair[1].kind) {
                    (ExprKind::Path(path), ExprKind::Literal(literal)) => {
                        self.compared(path, *how, literal)
                    }
                    (ExprKind::Literal(literal), ExprKind::Path(path)) => {
                        self.compared(path, how.turned(), literal)
                    }
                    _ => None,
                };
                found.unwrap_or(Condition::Unknown)
            }
            ExprKind::Path(path) => self.there(path),
            ExprKind::Call(function, arguments) => match (function.name, &arguments[..]) {
                ("not", [inner]) => Condition::Not(Box::new(self.condition(inner))),
                ("boolean", [inner]) => self.condition(inner),
                // A truth value is there, whichever it is; of a path that is asked.
                ("empty", [Expr { kind: ExprKind::Path(path), .. }]) => {
                    Condition::Not(Box::new(self.there(path)))
                }
                ("exists", [Expr { kind: ExprKind::Path(path), .. }]) => self.there(path),
                _ => Condition::Unknown,
            },
            _ => Condition::Unknown,
        }
    }

    /// Whether a path leads anywhere.
    fn there(&mut self, path: &Path) -> Condition {
        self.test(path, None).unwrap_or(Condition::Unknown)
    }

    fn compared(&mut self, path: &Path, how: Comparison, literal: &Literal) -> Option<Condition> {
        let is_text = matches!(literal, Literal::Text(_));
        // Where texts are compared by their order it is noted if as numbers that is another.
        if is_text && !how.is_equality() && self.version == Version::V31 {
            return None;
        }
        let compared = Compared { version: self.version, how, with: run::literal_value(literal) };
        self.test(path, Some(Box::new(compared)))
    }

    /// The test whether a path leads anywhere, or to a text of some sort.
    fn test(&mut self, path: &Path, text: Option<Box<dyn TextTest>>) -> Option<Condition> {
        let mut own = Vec::new();
        if path.start == Start::Root {
            return None;
        }
        for (place, step) in path.steps.iter().enumerate() {
            let step = match step {
                Step::Expr(Expr { kind: ExprKind::ContextItem, .. }) if place == 0 => continue,
                Step::Axis(step) if step.predicates.is_empty() => step,
                _ => return None,
            };
            let is_attribute = step.axis == Axis::Attribute;
            let is_last = place + 1 == path.steps.len();
            let is_fit =
                matches!(step.axis, Axis::Child | Axis::Descendant) || is_attribute && is_last;
            if !is_fit {
                return None;
            }
            let mut name = record_name(step, self.namespaces)?;
            // The default namespace is not that of attributes.
            if is_attribute && matches!(step.test, NodeTest::Name(Name::Plain(_))) {
                name.namespace = name.namespace.map(|_| String::new());
            }
            own.push((TestStep { name: StepName::from(name), is_attribute }, step.number));
        }
        if own.is_empty() {
            return None;
        }
        let numbers = own.iter().enumerate().map(|(place, (_, number))| (*number, place == 0));
        self.steps.extend(numbers);
        self.tests.push(Test { steps: own.into_iter().map(|(step, _)| step).collect(), text });
        Some(Condition::Test(self.tests.len() - 1))
    }
}

/// A comparison of a text without a type with a literal.
#[derive(Debug)]
struct Compared {
    version: Version,
    how: Comparison,
    with: Atomic<'static>,
}

impl TextTest for Compared {
    #[inline]
    fn holds(&self, text: &str) -> Option<bool> {
        run::text_compares(self.version, self.how, text, &self.with)
    }
}
