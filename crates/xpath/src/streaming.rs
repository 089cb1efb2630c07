//! Expressions that can be evaluated for one element after another, so that the document need not be held.
//!
//! Such an expression is a path of child steps to elements, perhaps of any depth, whose predicates and further steps look
//! only into that element, or at attributes and names of the elements around it. Whatever else looks above or beside it, asks
//! for its place, or for other documents needs the document.

use kyanite_tree::NodeKind;

use crate::functions::{ArgumentUse, Reach};
use crate::prefilter::RecordPrefilter;
use crate::syntax::ast::{
    Axis, AxisStep, Callee, Expr, ExprKind, Key, Name, NodeTest, Path, Position, Start, Step,
};
use crate::syntax::{asks_place, each};
use crate::{Expression, Namespaces, projection};

/// A step to the elements that an expression is evaluated for.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct RecordStep {
    /// The local name.
    pub local: String,
    /// The URI of the namespace, empty for none; None where any is meant.
    pub namespace: Option<String>,
    /// Whether the step selects elements at any depth.
    pub at_any_depth: bool,
}

/// An expression for each of the elements at a path.
#[derive(Debug)]
pub struct Streamed {
    /// The path.
    pub path: Vec<RecordStep>,
    /// What is evaluated for each element.
    pub expression: Expression,
    /// Whether only the number of what it gives is wanted.
    pub is_counted: bool,
}

/// The path that an expression is, or counts.
fn path_of(expr: &Expr) -> Option<(&Path, bool)> {
    match &expr.kind {
        ExprKind::Path(path) => Some((path, false)),
        ExprKind::Call(function, arguments) if function.name == "count" => match &arguments[..] {
            [Expr { kind: ExprKind::Path(path), .. }] => Some((path, true)),
            _ => None,
        },
        _ => None,
    }
}

/// The step to the records: how many steps are before it.
fn record_step(path: &Path) -> Result<usize, &'static str> {
    if path.start != Start::Root {
        return Err("it does not begin at the document");
    }
    let is_name = |step: &AxisStep| {
        matches!(
            &step.test,
            NodeTest::Name(
                Name::Plain(_) | Name::Prefixed(..) | Name::Expanded(..) | Name::Local(_)
            )
        )
    };
    let mut count = 0usize;
    for step in &path.steps {
        match step {
            Step::Axis(step)
                if step.axis == Axis::Child && is_name(step) && step.predicates.is_empty() =>
            {
                count += 1
            }
            Step::Axis(step)
                if matches!(step.axis, Axis::Child | Axis::Descendant) && is_name(step) =>
            {
                count += 1;
                break;
            }
            _ => break,
        }
    }
    match path.steps.get(count.wrapping_sub(1)) {
        Some(Step::Axis(step)) if count > 1 || step.axis == Axis::Descendant => Ok(count - 1),
        _ => Err("it has no step by name to elements below the root"),
    }
}

/// Where the item stands that an expression is about.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Place {
    /// In the element that the whole is evaluated for, or on an attribute of one around it.
    Inside,
    /// It is an element around that: its name and its attributes are known, and nothing else.
    Above,
}

const LOOKS_ASIDE: &str = "an axis in it leads above or beside the element";
const NEEDS_CONTENT: &str = "the content of an element around it is looked at";
const CALLS_OUTSIDE: &str = "a function in it looks outside of the element";

/// What of an expression looks outside of the element that it is evaluated for, and is no attribute or name of an element around
/// it.
fn outside(expr: &Expr, asks: ArgumentUse, place: Place) -> Option<&'static str> {
    let of = |expr: &Expr, asks: ArgumentUse| outside(expr, asks, place);
    match &expr.kind {
        ExprKind::Path(path) if path.start == Start::Root => {
            Some("a path in it begins at the document")
        }
        ExprKind::Path(path) => steps_outside(&path.steps, asks, place),
        ExprKind::ContextItem if place == Place::Above => {
            (asks != ArgumentUse::Presence).then_some(NEEDS_CONTENT)
        }
        ExprKind::And(pair) | ExprKind::Or(pair) => {
            pair.iter().find_map(|expr| of(expr, ArgumentUse::Presence))
        }
        ExprKind::General(_, pair)
        | ExprKind::Value(_, pair)
        | ExprKind::Concat(pair)
        | ExprKind::Arithmetic(_, pair) => {
            pair.iter().find_map(|expr| of(expr, ArgumentUse::Value))
        }
        ExprKind::Sign(_, value)
        | ExprKind::Cast(value, _)
        | ExprKind::Castable(value, _)
        | ExprKind::Constructor(_, value) => of(value, ArgumentUse::Value),
        ExprKind::Sequence(items) => items.iter().find_map(|item| of(item, asks)),
        ExprKind::Set(_, pair) => pair.iter().find_map(|expr| of(expr, asks)),
        ExprKind::If(parts) => {
            let [test, yes, no] = &**parts;
            of(test, ArgumentUse::Presence).or_else(|| of(yes, asks)).or_else(|| of(no, asks))
        }
        ExprKind::Call(function, _) | ExprKind::FunctionReference(function, _)
            if function.looks != Reach::Inside =>
        {
            Some(CALLS_OUTSIDE)
        }
        ExprKind::Partial(callee, _) if matches!(&**callee, Callee::Named(function) if function.looks != Reach::Inside) => {
            Some(CALLS_OUTSIDE)
        }
        ExprKind::Call(function, arguments) => {
            let wanted = match function.asks {
                // Nodes go through it only where nodes are asked for.
                ArgumentUse::Nodes if asks != ArgumentUse::Nodes => ArgumentUse::Value,
                own => own,
            };
            let is_about_context = function.is_about_context(arguments.len());
            if is_about_context && place == Place::Above && wanted != ArgumentUse::Presence {
                return Some(NEEDS_CONTENT);
            }
            arguments.iter().find_map(|argument| of(argument, wanted))
        }
        ExprKind::Literal(_) | ExprKind::Variable(_) => None,
        _ if place == Place::Above => Some(NEEDS_CONTENT),
        ExprKind::Lookup(_, key) if matches!(&**key, Key::Expr(key) if of(key, ArgumentUse::Nodes).is_some()) => {
            Some("a lookup in it looks outside of the element")
        }
        _ => {
            let mut found = None;
            each(expr, &mut |inner| found = found.or_else(|| of(inner, ArgumentUse::Nodes)));
            found
        }
    }
}

fn steps_outside(steps: &[Step], asks: ArgumentUse, mut place: Place) -> Option<&'static str> {
    for (at, step) in steps.iter().enumerate() {
        let is_last = at + 1 == steps.len();
        match step {
            Step::Axis(step) => match axis_outside(step, asks, place) {
                Ok(next) => place = next,
                Err(reason) => return Some(reason),
            },
            Step::Expr(expr) => {
                let asks = if is_last { asks } else { ArgumentUse::Nodes };
                if let Some(reason) = outside(expr, asks, place) {
                    return Some(reason);
                }
                // `.`, in front of other steps, is where it was.
                if !matches!(expr.kind, ExprKind::ContextItem) {
                    place = Place::Inside;
                }
            }
        }
    }
    (place == Place::Above && asks != ArgumentUse::Presence).then_some(NEEDS_CONTENT)
}

/// Where a step leads; why it needs the document, if it does.
fn axis_outside(step: &AxisStep, asks: ArgumentUse, place: Place) -> Result<Place, &'static str> {
    let place = match (step.axis, place) {
        (Axis::Attribute, _) => Place::Inside,
        (Axis::Itself, place) => place,
        (Axis::Child | Axis::Descendant | Axis::DescendantOrSelf, Place::Inside) => Place::Inside,
        (Axis::Child | Axis::Descendant | Axis::DescendantOrSelf, Place::Above) => {
            return Err(NEEDS_CONTENT);
        }
        // What several elements lead to is a result once.
        (Axis::Parent | Axis::Ancestor | Axis::AncestorOrSelf, _) if asks != ArgumentUse::Nodes => {
            Place::Above
        }
        _ => return Err(LOOKS_ASIDE),
    };
    if matches!(step.test, NodeTest::Kind(NodeKind::Document, _) | NodeTest::DocumentOf(_)) {
        return Err("a test in it is for the document");
    }
    let mut predicates = step.predicates.iter();
    match predicates.find_map(|p| outside(&p.expr, ArgumentUse::Presence, place)) {
        Some(reason) => Err(reason),
        None => Ok(place),
    }
}

impl Expression {
    /// Why the expression needs the whole document; None where it does not.
    #[must_use]
    pub fn needs_document(&self) -> Option<&'static str> {
        let Some((path, _)) = path_of(&self.parsed.body) else {
            return Some("it is no path from the document to elements");
        };
        let at = match record_step(path) {
            Ok(at) => at,
            Err(reason) => return Some(reason),
        };
        let Some(Step::Axis(step)) = path.steps.get(at) else {
            return Some("it has no step by name");
        };
        if step.predicates.iter().any(|predicate| predicate.position != Position::Free) {
            return Some("a predicate asks for the place of an element");
        }
        if let Err(reason) = axis_outside(step, ArgumentUse::Nodes, Place::Inside) {
            return Some(reason);
        }
        if let Some(reason) =
            steps_outside(&path.steps[at + 1..], ArgumentUse::Nodes, Place::Inside)
        {
            return Some(reason);
        }
        path.steps[at + 1..].iter().find_map(|step| match step {
            Step::Expr(expr) if asks_place(expr) => Some("a step asks for the place of an item"),
            _ => None,
        })
    }

    /// Whether it asks for attributes or names of elements around those that it is evaluated for.
    #[must_use]
    pub fn looks_above(&self) -> bool {
        let leads_above =
            |axis: Axis| matches!(axis, Axis::Parent | Axis::Ancestor | Axis::AncestorOrSelf);
        self.parsed.steps.iter().any(|step| leads_above(step.axis))
    }

    /// The same expression for one element after another, in a document whose root element declares these namespaces; nothing
    /// where it needs the document, or has prefixes that are not known.
    #[must_use]
    pub fn streamed(&self, root: &[(String, String)], variables: &[String]) -> Option<Streamed> {
        if self.needs_document().is_some() {
            return None;
        }
        let mut namespaces = self.namespaces.clone();
        for (prefix, uri) in root {
            // The default namespace of a document is not that of names without a prefix in an XPath.
            if !prefix.is_empty() && namespaces.declared(prefix).is_none() {
                namespaces.declare(prefix, uri);
            }
        }
        let (path, is_counted) = path_of(&self.parsed.body)?;
        let at = record_step(path).ok()?;
        let steps: Option<Vec<RecordStep>> = path.steps[..=at]
            .iter()
            .map(|step| match step {
                Step::Axis(step) => record_name(step, &namespaces),
                Step::Expr(_) => None,
            })
            .collect();
        let mut expression = Self::compile(&self.text, self.version, namespaces, variables).ok()?;
        let body = std::mem::replace(
            &mut expression.parsed.body,
            Expr { kind: ExprKind::ContextItem, span: self.parsed.body.span },
        );
        let span = body.span;
        expression.record_steps = path.steps[..=at]
            .iter()
            .filter_map(|step| match step {
                Step::Axis(step) => Some(step.number),
                Step::Expr(_) => None,
            })
            .collect();
        let path = match body.kind {
            ExprKind::Path(path) => path,
            ExprKind::Call(_, mut arguments) => match arguments.pop()?.kind {
                ExprKind::Path(path) => path,
                _ => return None,
            },
            _ => return None,
        };
        let mut steps_left = path.steps;
        steps_left.drain(..at);
        if let Some(Step::Axis(first)) = steps_left.first_mut() {
            // Elements of one name inside each other come with the outermost.
            first.axis = match first.axis {
                Axis::Descendant => Axis::DescendantOrSelf,
                _ => Axis::Itself,
            };
        }
        let path = Path { start: Start::Context, steps: steps_left };
        expression.record_projection = projection::of_record(&path, is_counted);
        if let Some(Step::Axis(step)) = path.steps.first() {
            let projection = projection::of_fitting_record(&path, is_counted);
            let prefilter =
                RecordPrefilter::of(step, self.version, &expression.namespaces, projection);
            expression.record_prefilter = prefilter;
        }
        expression.parsed.body = Expr { kind: ExprKind::Path(path), span };
        Some(Streamed { path: steps?, expression, is_counted })
    }
}

pub(crate) fn record_name(step: &AxisStep, namespaces: &Namespaces) -> Option<RecordStep> {
    let NodeTest::Name(name) = &step.test else { return None };
    let ignores = namespaces.ignores();
    let (local, namespace) = match name {
        Name::Plain(local) if !ignores => (local, Some(namespaces.default_uri().to_owned())),
        Name::Prefixed(prefix, local) if !ignores => {
            (local, Some(namespaces.declared(prefix)?.to_owned()))
        }
        Name::Expanded(uri, local) => (local, Some(uri.clone())),
        Name::Plain(local) | Name::Prefixed(_, local) | Name::Local(local) => (local, None),
        _ => return None,
    };
    let at_any_depth = step.axis == Axis::Descendant;
    Some(RecordStep { local: local.clone(), namespace, at_any_depth })
}
