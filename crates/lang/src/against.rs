//! A rule against what schemas say of its input and of its result, before there is any document.
//!
//! The rule is gone through once with what is known of each value in place of values: the place in the input's schema that a path leads to,
//! or the kind of what is computed. Where the result is made, the maps are held against the place in the result's schema.

mod paths;
mod result;

use kyanite_tree::{Code, Kind, near, near_in_words};

use crate::Finding;
use crate::Span;
use crate::plan::{
    Clause, ClauseKind, Entry, Expr, ForSource, Kind as Node, Loop, Nodes, Piece, Plan,
};
use crate::syntax::ast::{Binary, Literal};
use crate::types::Type;

/// The number of a place in the documents that a schema is for.
pub type PlaceNumber = u32;

/// What a schema says of documents.
pub trait Outline {
    /// The whole document.
    fn root(&self) -> PlaceNumber;
    /// The member of that name; None where it may not stand.
    fn member(&mut self, at: PlaceNumber, name: &str) -> Option<PlaceNumber>;
    /// The items of a list; None where there may be none.
    fn item(&mut self, at: PlaceNumber) -> Option<PlaceNumber>;
    /// Whether values of a kind may stand there.
    fn allows(&self, at: PlaceNumber, kind: Kind) -> bool;
    /// The members that the schema names there, each with whether it has to be there.
    fn members(&self, at: PlaceNumber) -> Vec<(String, bool)>;
    /// Whether it says nothing of what stands there.
    fn is_free(&self, at: PlaceNumber) -> bool;
    /// Whether documents are XML, whose elements step into one or several children alike, and have no types.
    fn is_for_xml(&self) -> bool;
}

/// What is known of a value.
#[derive(Clone, Debug)]
enum Known {
    /// Nothing.
    Any,
    /// It is of that kind, or nothing.
    Of(Kind),
    /// It stands at that place of the input.
    At(PlaceNumber),
    /// A list of these values.
    List(Box<Known>),
    /// A map with these members, and perhaps others.
    Map(Vec<(String, Known)>, bool),
}

impl Known {
    /// What is known of either of two.
    fn or(self, other: Self) -> Self {
        match (self, other) {
            (Self::Of(a), Self::Of(b)) if a == b => Self::Of(a),
            (Self::At(a), Self::At(b)) if a == b => Self::At(a),
            // Nothing may stand for anything.
            (Self::Of(Kind::Null), other) | (other, Self::Of(Kind::Null)) => other,
            _ => Self::Any,
        }
    }
}

/// What a plan does that the schemas of its input and its result have nothing for. `by_item` tells whether the result's schema is one of
/// each item of the result.
pub fn against<'o>(
    plan: &Plan,
    input: Option<&'o mut dyn Outline>,
    result: Option<&'o mut dyn Outline>,
    by_item: bool,
) -> Vec<Finding> {
    let mut check: Check<'o> = Check {
        input,
        result,
        globals: vec![Known::Any; plan.globals],
        locals: vec![Known::Any; plan.frame],
        current: Vec::new(),
        findings: Vec::new(),
    };
    for (slot, value) in &plan.setup {
        let known = check.expr(value, None);
        check.set_global(*slot, known);
    }
    if let Some(fold) = &plan.fold {
        check.expr(&fold.call, None);
    }
    let wanted = check.result.as_ref().map(|outline| outline.root());
    check.whole(&plan.body, wanted, by_item);
    check.findings
}

struct Check<'o> {
    input: Option<&'o mut dyn Outline>,
    result: Option<&'o mut dyn Outline>,
    globals: Vec<Known>,
    locals: Vec<Known>,
    /// What `@` is, innermost last.
    current: Vec<Known>,
    findings: Vec<Finding>,
}

impl Check<'_> {
    fn set_global(&mut self, slot: usize, known: Known) {
        if let Some(own) = self.globals.get_mut(slot) {
            *own = known;
        }
    }

    fn set(&mut self, slot: usize, known: Known) {
        if let Some(own) = self.locals.get_mut(slot) {
            *own = known;
        }
    }

    fn find(&mut self, span: Span, message: String, advice: Option<String>) {
        let finding = Finding::error_at(Code::RuleSchema, span, message);
        self.findings.push(finding.advise_opt(advice.map(kyanite_tree::Advice::words)));
    }

    /// Tells of a member that a schema does not name, unless it may stand there all the same and is not near to one that is named.
    fn tell_unknown(
        &mut self,
        span: Span,
        (name, whose): (&str, &str),
        named: &[(String, bool)],
        may_stand: bool,
    ) -> bool {
        let known = || named.iter().map(|(name, _)| name.as_str());
        let near = near(name, known());
        if may_stand && near.is_empty() {
            return false;
        }
        let advice = near_in_words(&near).or_else(|| {
            let some: Vec<&str> = known().take(12).collect();
            (!some.is_empty()).then(|| format!("there are {}", some.join(", ")))
        });
        let message = format!("the schema of the {whose} has no member `{name}` here");
        self.find(span, message, advice);
        true
    }

    /// The result as a whole: of several items the list of them, or each of them.
    fn whole(&mut self, body: &Expr, wanted: Option<PlaceNumber>, by_item: bool) {
        let is_items = matches!(body.innermost().kind, Node::Many(_) | Node::Loop(_));
        let item = match (wanted, self.result.as_mut()) {
            (Some(root), Some(outline))
                if is_items && !by_item && outline.allows(root, Kind::List) =>
            {
                outline.item(root)
            }
            (wanted, _) => wanted,
        };
        if is_items {
            self.items(body, item);
        } else {
            self.expr(body, wanted);
        }
    }

    /// An expression that gives items, each of which has its place in the result.
    fn items(&mut self, expr: &Expr, wanted: Option<PlaceNumber>) -> Known {
        match &expr.kind {
            Node::Lets(lets, inner) => {
                for (slot, value) in lets {
                    let known = self.expr(value, None);
                    self.set(*slot, known);
                }
                self.items(inner, wanted)
            }
            Node::Loop(tuples) => self.tuples(tuples, wanted),
            Node::Many(path) => {
                let known = self.many(path);
                self.fits(expr.span, &known, wanted);
                known
            }
            _ => self.expr(expr, wanted),
        }
    }

    /// What is known of the value of an expression, which stands at a place of the result if that is `wanted`.
    fn expr(&mut self, expr: &Expr, wanted: Option<PlaceNumber>) -> Known {
        let known = match &expr.kind {
            Node::Lets(lets, inner) => {
                for (slot, value) in lets {
                    let known = self.expr(value, None);
                    self.set(*slot, known);
                }
                return self.expr(inner, wanted);
            }
            Node::If(condition, then, otherwise) => {
                self.expr(condition, None);
                let then = self.expr(then, wanted);
                let otherwise = match otherwise {
                    Some(otherwise) => self.expr(otherwise, wanted),
                    None => Known::Of(Kind::Null),
                };
                return then.or(otherwise);
            }
            Node::Case(case) => {
                if let Some(subject) = &case.subject {
                    self.expr(subject, None);
                }
                let mut known: Option<Known> = None;
                for (tests, value) in &case.branches {
                    tests.iter().for_each(|test| drop(self.expr(test, None)));
                    let own = self.expr(value, wanted);
                    known = Some(known.map_or(own.clone(), |known| known.or(own)));
                }
                if let Some(otherwise) = &case.otherwise {
                    let own = self.expr(otherwise, wanted);
                    known = Some(known.map_or(own.clone(), |known| known.or(own)));
                }
                return known.unwrap_or(Known::Any);
            }
            Node::Recover(value, otherwise) => {
                let value = self.expr(value, wanted);
                let otherwise = self.expr(otherwise, wanted);
                return value.or(otherwise);
            }
            Node::Map(entries) => return self.map(expr.span, entries, wanted),
            Node::List(items) => {
                let item = self.item_of(expr.span, wanted);
                let mut known: Option<Known> = None;
                for one in items {
                    let own = match one.spread {
                        true => match self.expr(&one.value, None) {
                            Known::List(inner) => *inner,
                            _ => Known::Any,
                        },
                        false => self.expr(&one.value, item),
                    };
                    known = Some(known.map_or(own.clone(), |known| known.or(own)));
                }
                return Known::List(Box::new(known.unwrap_or(Known::Any)));
            }
            Node::Loop(_) | Node::Many(_) => {
                let item = self.item_of(expr.span, wanted);
                let known = self.items(expr, item);
                return Known::List(Box::new(known));
            }
            Node::Collected(inner) => return self.expr(inner, wanted),
            _ => self.plain(expr),
        };
        self.fits(expr.span, &known, wanted);
        known
    }

    /// An expression in which no other place of the result is.
    fn plain(&mut self, expr: &Expr) -> Known {
        match &expr.kind {
            Node::Constant(literal) => Known::Of(match literal {
                Literal::Null => Kind::Null,
                Literal::Boolean(_) => Kind::Boolean,
                Literal::Number(_) => Kind::Number,
                Literal::Text(_) => Kind::Text,
            }),
            Node::Template(pieces) => {
                for piece in pieces {
                    if let Piece::Value(value) = piece {
                        self.expr(value, None);
                    }
                }
                Known::Of(Kind::Text)
            }
            Node::One(path) => self.one(path),
            Node::Not(inner) => {
                self.expr(inner, None);
                Known::Of(Kind::Boolean)
            }
            Node::Negate(inner) => {
                self.expr(inner, None);
                Known::Of(Kind::Number)
            }
            Node::Binary(of, left, right) => {
                let (left, right) = (self.expr(left, None), self.expr(right, None));
                match of {
                    Binary::Coalesce => left.or(right),
                    // Times and texts are added, too.
                    Binary::Add | Binary::Subtract => Known::Any,
                    Binary::Multiply | Binary::Divide | Binary::Remainder => {
                        Known::Of(Kind::Number)
                    }
                    _ => Known::Of(Kind::Boolean),
                }
            }
            Node::Call(signature, arguments) => {
                arguments.iter().for_each(|argument| drop(self.expr(argument, None)));
                match signature.result {
                    Type::Any => Known::Any,
                    Type::Of(kind) => Known::Of(kind),
                }
            }
            Node::CallDef(_, arguments) => {
                arguments.iter().for_each(|argument| drop(self.expr(argument, None)));
                Known::Any
            }
            Node::Exists(nodes) => {
                self.nodes(nodes);
                Known::Of(Kind::Boolean)
            }
            Node::Count(nodes) => {
                self.nodes(nodes);
                Known::Of(Kind::Number)
            }
            Node::ValueOf(nodes) => self.nodes(nodes),
            Node::XPath(call) => {
                self.expr(&call.value, None);
                Known::Any
            }
            Node::Edit(edit) => {
                let subject = self.expr(&edit.subject, None);
                for change in &edit.changes {
                    self.segments(subject.clone(), &change.segments);
                    if let Some(value) = &change.value {
                        self.current.push(Known::Any);
                        self.expr(value, None);
                        self.current.pop();
                    }
                }
                Known::Any
            }
            _ => Known::Any,
        }
    }

    fn nodes(&mut self, nodes: &Nodes) -> Known {
        match nodes {
            Nodes::One(path) => self.one(path),
            Nodes::Many(path) => self.many(path),
        }
    }

    /// Clauses; gives what is known of each item.
    fn tuples(&mut self, tuples: &Loop, wanted: Option<PlaceNumber>) -> Known {
        for (slot, value) in &tuples.before {
            let known = self.expr(value, None);
            self.set(*slot, known);
        }
        for Clause { kind } in &tuples.clauses {
            self.clause(kind);
        }
        self.items(&tuples.result, wanted)
    }

    fn clause(&mut self, kind: &ClauseKind) {
        match kind {
            ClauseKind::For { slot, at, source, .. } => {
                let known = match source {
                    ForSource::Nodes(path) => self.many(path),
                    ForSource::List(list) => match self.expr(list, None) {
                        Known::List(item) => *item,
                        Known::At(place) => self.item_at(place),
                        _ => Known::Any,
                    },
                };
                self.set(*slot, known);
                if let Some(at) = at {
                    self.set(*at, Known::Of(Kind::Number));
                }
            }
            ClauseKind::Let(slot, value) => {
                let known = self.expr(value, None);
                self.set(*slot, known);
            }
            ClauseKind::Where { condition, .. } => drop(self.expr(condition, None)),
            ClauseKind::Skip(count) | ClauseKind::First(count) => drop(self.expr(count, None)),
            ClauseKind::OrderBy { keys, .. } => {
                keys.iter().for_each(|key| drop(self.expr(&key.value, None)));
            }
            ClauseKind::GroupBy { keys, slots, folds } => {
                let known: Vec<Known> =
                    keys.iter().map(|(_, value)| self.expr(value, None)).collect();
                // Each name is now a list of what it was in the tuples of the group.
                for slot in slots.clone() {
                    let own = self.locals.get(slot).cloned().unwrap_or(Known::Any);
                    self.set(slot, Known::List(Box::new(own)));
                }
                for ((slot, _), known) in keys.iter().zip(known) {
                    self.set(*slot, known);
                }
                for fold in folds.iter().flat_map(|folds| &folds.folds) {
                    self.expr(&fold.call, None);
                }
            }
            ClauseKind::Carry { slot, from, step } => {
                self.expr(from, None);
                self.set(*slot, Known::Any);
                self.expr(step, None);
            }
            ClauseKind::Window { size, step, slots } => {
                self.expr(size, None);
                step.iter().for_each(|step| drop(self.expr(step, None)));
                for slot in slots.clone() {
                    let own = self.locals.get(slot).cloned().unwrap_or(Known::Any);
                    self.set(slot, Known::List(Box::new(own)));
                }
            }
        }
    }

    fn map(&mut self, span: Span, entries: &[Entry], wanted: Option<PlaceNumber>) -> Known {
        let place = self.of_kind(span, Kind::Map, wanted);
        let mut made: Vec<(String, Known)> = Vec::new();
        let mut is_open = false;
        for entry in entries {
            match entry {
                Entry::Named(name, value) => {
                    let inner = self.made_member(value.span, name, place);
                    let known = self.expr(value, inner);
                    made.retain(|(other, _)| other != name);
                    made.push((name.clone(), known));
                }
                Entry::Computed(name, value) => {
                    self.expr(name, None);
                    self.expr(value, None);
                    is_open = true;
                }
                Entry::Spread(value) => match self.expr(value, None) {
                    Known::Map(members, others) => {
                        made.extend(members);
                        is_open |= others;
                    }
                    Known::At(at) => {
                        made.extend(self.members_at(at));
                        is_open = true;
                    }
                    _ => is_open = true,
                },
            }
        }
        self.needed(span, &made, is_open, place);
        Known::Map(made, is_open)
    }
}
