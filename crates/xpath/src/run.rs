//! Evaluating an expression.

mod axes;
pub(crate) mod calls;
pub(crate) mod convert;
mod coverage;
mod lookup;
mod operators;
pub(crate) mod paths;
pub(crate) mod types;

use std::cell::{Cell, RefCell};
use std::collections::HashMap;
use std::rc::Rc;
use std::sync::Arc;

use kyanite_eval::atomic::Atomic;
use kyanite_eval::pattern::{Pattern, xsd};
use kyanite_tree::{Matches, Span};

use crate::context::{Context, Store};
use crate::error::{Error, ErrorCode};
use crate::syntax::ast::{Expr, ExprKind, Literal, Step};
use crate::value::{FunctionItem, InlineFunction, Item, Sequence, array_of, map_of};
use crate::{Expression, Version};
use convert::{atomize, several};
use paths::NamesKey;

pub use coverage::Coverage;
pub(crate) use operators::text_compares;

/// The item that is looked at, and where it stands among the others.
#[derive(Clone, Debug)]
pub struct Focus<'d> {
    pub(crate) item: Item<'d>,
    pub(crate) position: usize,
    pub(crate) size: usize,
}

/// The values of variables, by their slots.
pub(crate) struct Frame<'d>(Vec<Sequence<'d>>);

impl<'d> Frame<'d> {
    pub(crate) fn new(slots: usize) -> Self {
        Self(vec![Sequence::Empty; slots])
    }

    pub(crate) fn set(&mut self, slot: usize, value: Sequence<'d>) {
        if slot >= self.0.len() {
            self.0.resize(slot + 1, Sequence::Empty);
        }
        self.0[slot] = value;
    }

    fn get(&self, slot: usize) -> Sequence<'d> {
        self.0.get(slot).cloned().unwrap_or_default()
    }
}

/// How deep calls of functions may nest: of inline functions that call each other, of folds over them.
const DEPTH: usize = 1_000;

/// The most items that a range makes.
const RANGE: i64 = 100_000_000;

/// An evaluation under way.
pub(crate) struct Run<'e, 'd> {
    pub(crate) expression: &'e Expression,
    pub(crate) context: &'e Context<'e, 'd>,
    pub(crate) store: &'d Store<'d>,
    pub(crate) coverage: &'e RefCell<Coverage>,
    depth: Cell<usize>,
    /// Which names of a document a name test means, by the address of both.
    names: RefCell<Vec<(NamesKey, Matches)>>,
    patterns: RefCell<HashMap<(String, String), Rc<Pattern>>>,
    /// The number of a predicate that is known to hold, and was counted.
    known: Option<usize>,
}

pub(crate) type Outcome<'d> = Result<Sequence<'d>, Error>;

impl<'e, 'd> Run<'e, 'd> {
    pub(crate) fn new(
        expression: &'e Expression,
        context: &'e Context<'e, 'd>,
        store: &'d Store<'d>,
        coverage: &'e RefCell<Coverage>,
    ) -> Self {
        Self {
            expression,
            context,
            store,
            coverage,
            depth: Cell::new(0),
            names: RefCell::default(),
            patterns: RefCell::default(),
            known: None,
        }
    }

    /// The same, where the predicate of that number is known to hold.
    pub(crate) fn knowing(self, known: Option<usize>) -> Self {
        Self { known, ..self }
    }

    pub(crate) fn version(&self) -> Version {
        self.expression.version
    }

    /// The value of the whole expression.
    pub(crate) fn all(&self) -> Outcome<'d> {
        let parsed = &self.expression.parsed;
        let mut frame = Frame::new(parsed.slots);
        for (slot, value) in self.context.variables.iter().enumerate() {
            frame.set(slot, value.clone());
        }
        let focus = self.context.item.clone().map(|item| Focus { item, position: 1, size: 1 });
        self.eval(&parsed.body, &mut frame, focus.as_ref())
    }

    /// The value of an expression; errors have its place unless they have one inside it.
    pub(crate) fn eval(
        &self,
        expr: &Expr,
        frame: &mut Frame<'d>,
        focus: Option<&Focus<'d>>,
    ) -> Outcome<'d> {
        self.value(expr, frame, focus).map_err(|error| error.at(expr.span))
    }

    fn value(&self, expr: &Expr, frame: &mut Frame<'d>, focus: Option<&Focus<'d>>) -> Outcome<'d> {
        match &expr.kind {
            ExprKind::Literal(literal) => Ok(Sequence::atomic(literal_value(literal))),
            ExprKind::Variable(slot) => Ok(frame.get(*slot)),
            ExprKind::ContextItem => Ok(Sequence::One(context_item(focus)?.item.clone())),
            ExprKind::Sequence(items) => {
                let mut all = Vec::new();
                for item in items {
                    all.extend(self.eval(item, frame, focus)?.into_items());
                }
                Ok(Sequence::of(all))
            }
            ExprKind::Or(pair) => {
                let holds =
                    self.truth(&pair[0], frame, focus)? || self.truth(&pair[1], frame, focus)?;
                Ok(Sequence::boolean(holds))
            }
            ExprKind::And(pair) => {
                let holds =
                    self.truth(&pair[0], frame, focus)? && self.truth(&pair[1], frame, focus)?;
                Ok(Sequence::boolean(holds))
            }
            ExprKind::General(how, pair) => {
                let left = self.eval(&pair[0], frame, focus)?;
                let right = self.eval(&pair[1], frame, focus)?;
                let holds = self.general(*how, &left, &right, expr.span);
                holds.map(Sequence::boolean).map_err(|error| about(error, &[&left, &right]))
            }
            ExprKind::Value(how, pair) => {
                let left = self.eval(&pair[0], frame, focus)?;
                let right = self.eval(&pair[1], frame, focus)?;
                self.value_comparison(*how, &left, &right)
                    .map_err(|error| about(error, &[&left, &right]))
            }
            ExprKind::Nodes(how, pair) => {
                let left = self.eval(&pair[0], frame, focus)?;
                let right = self.eval(&pair[1], frame, focus)?;
                self.node_comparison(*how, &left, &right)
            }
            ExprKind::Concat(pair) => {
                let left = self.eval(&pair[0], frame, focus)?;
                let right = self.eval(&pair[1], frame, focus)?;
                self.concat(&left, &right)
            }
            ExprKind::Range(pair) => {
                let low = self.eval(&pair[0], frame, focus)?;
                let high = self.eval(&pair[1], frame, focus)?;
                self.range(&low, &high)
            }
            ExprKind::Arithmetic(operator, pair) => {
                let left = self.eval(&pair[0], frame, focus)?;
                let right = self.eval(&pair[1], frame, focus)?;
                self.arithmetic(*operator, &left, &right)
                    .map_err(|error| about(error, &[&left, &right]))
            }
            ExprKind::Sign(is_negative, value) => {
                let value = self.eval(value, frame, focus)?;
                self.sign(*is_negative, &value)
            }
            ExprKind::Set(operator, pair) => {
                let left = self.eval(&pair[0], frame, focus)?;
                let right = self.eval(&pair[1], frame, focus)?;
                self.set(*operator, &left, &right)
            }
            ExprKind::InstanceOf(value, of) => {
                let value = self.eval(value, frame, focus)?;
                self.is_of(&value, of).map(Sequence::boolean)
            }
            ExprKind::Treat(value, of) => {
                let value = self.eval(value, frame, focus)?;
                if self.is_of(&value, of)? {
                    return Ok(value);
                }
                let message = "the value is not of the type that it is treated as";
                Err(Error::unplaced(ErrorCode::Other("XPDY0050"), message))
            }
            ExprKind::Castable(value, to) => {
                let value = self.eval(value, frame, focus)?;
                Ok(Sequence::boolean(match atomize(&value) {
                    Ok(values) => match values.as_slice() {
                        [] => to.is_optional,
                        [one] => self.cast(one, to.of).is_ok(),
                        _ => false,
                    },
                    Err(_) => false,
                }))
            }
            ExprKind::Cast(value, to) => {
                let value = self.eval(value, frame, focus)?;
                match convert::atomic(&value, "the value that is cast")? {
                    Some(one) => self
                        .cast(&one, to.of)
                        .map(Sequence::atomic)
                        .map_err(|error| about(error, &[&value])),
                    None if to.is_optional => Ok(Sequence::Empty),
                    None => {
                        let message =
                            format!("an empty sequence cannot be cast to {}", to.of.name());
                        let error = Error::unplaced(ErrorCode::Type, message);
                        Err(error.advise(format!("write {}? if it may be empty", to.of.name())))
                    }
                }
            }
            ExprKind::Constructor(to, value) => {
                let value = self.eval(value, frame, focus)?;
                match convert::atomic(&value, "the value that is cast")? {
                    Some(one) => self
                        .cast(&one, *to)
                        .map(Sequence::atomic)
                        .map_err(|error| about(error, &[&value])),
                    None => Ok(Sequence::Empty),
                }
            }
            ExprKind::SimpleMap(pair) => {
                let items = self.eval(&pair[0], frame, focus)?.into_items();
                self.for_each(items, &pair[1], frame)
            }
            ExprKind::Path(path) => self.path(path, frame, focus),
            ExprKind::Filter(value, predicates) => {
                let mut items = self.eval(value, frame, focus)?.into_items();
                for predicate in predicates {
                    let size = items.len();
                    let mut kept = Vec::new();
                    for (index, item) in items.into_iter().enumerate() {
                        let focus = Focus { item, position: index + 1, size };
                        if self.holds(predicate, &focus, frame)? {
                            kept.push(focus.item);
                        }
                    }
                    self.coverage.borrow_mut().predicate(predicate.number, size, kept.len());
                    items = kept;
                }
                Ok(Sequence::of(items))
            }
            ExprKind::Lookup(value, key) => self.lookup(value, key, frame, focus, expr.span),
            ExprKind::Call(function, arguments) => {
                let mut values = Vec::with_capacity(arguments.len());
                for argument in arguments {
                    values.push(self.eval(argument, frame, focus)?);
                }
                self.call(function, values, focus, expr.span)
            }
            ExprKind::Partial(callee, arguments) => {
                self.partial(callee, arguments, frame, focus, expr.span)
            }
            ExprKind::DynamicCall(callee, arguments) => {
                let callee = self.eval(callee, frame, focus)?;
                let mut values = Vec::with_capacity(arguments.len());
                for argument in arguments {
                    values.push(self.eval(argument, frame, focus)?);
                }
                let function = self.function(&callee)?;
                self.call_item(&function, values, expr.span)
            }
            ExprKind::FunctionReference(function, arity) => {
                let named = FunctionItem::Named(function, *arity, focus.cloned());
                Ok(Sequence::One(Item::Function(Rc::new(named))))
            }
            ExprKind::Inline(inline) => {
                let captured = inline.captures.iter();
                let captured = captured.map(|(outer, own)| (*own, frame.get(*outer))).collect();
                let function = InlineFunction { of: Arc::clone(inline), captured };
                Ok(Sequence::One(Item::Function(Rc::new(FunctionItem::Inline(function)))))
            }
            ExprKind::Map(entries) => {
                let mut made: Vec<(Atomic<'d>, Sequence<'d>)> = Vec::with_capacity(entries.len());
                let mut keys = std::collections::HashSet::new();
                for (key, value) in entries {
                    let key_value = self.eval(key, frame, focus)?;
                    let found =
                        convert::atomic(&key_value, "the key of a map")?.ok_or_else(|| {
                            Error::new(ErrorCode::Type, key.span, "the key of a map is empty")
                        })?;
                    if !keys.insert(kyanite_eval::atomic::AtomicKey::of(&found)) {
                        let message = format!("the key {found} is in the map twice");
                        return Err(Error::new(ErrorCode::Other("XQDY0137"), key.span, message));
                    }
                    made.push((found, self.eval(value, frame, focus)?));
                }
                Ok(Sequence::One(map_of(made)))
            }
            ExprKind::Array(members) => {
                let mut made = Vec::with_capacity(members.len());
                for member in members {
                    made.push(self.eval(member, frame, focus)?);
                }
                Ok(Sequence::One(array_of(made)))
            }
            ExprKind::CurlyArray(value) => {
                let items = self.eval(value, frame, focus)?.into_items();
                Ok(Sequence::One(array_of(items.into_iter().map(Sequence::One).collect())))
            }
            ExprKind::If(parts) => {
                let [test, yes, no] = &**parts;
                let chosen = if self.truth(test, frame, focus)? { yes } else { no };
                self.eval(chosen, frame, focus)
            }
            ExprKind::For { slot, over, body } => {
                let mut all = Vec::new();
                for item in self.eval(over, frame, focus)?.into_items() {
                    frame.set(*slot, Sequence::One(item));
                    all.extend(self.eval(body, frame, focus)?.into_items());
                }
                Ok(Sequence::of(all))
            }
            ExprKind::Let { slot, value, body } => {
                let value = self.eval(value, frame, focus)?;
                frame.set(*slot, value);
                self.eval(body, frame, focus)
            }
            ExprKind::Quantified { is_every, slot, over, holds } => {
                for item in self.eval(over, frame, focus)?.into_items() {
                    frame.set(*slot, Sequence::One(item));
                    if self.truth(holds, frame, focus)? != *is_every {
                        return Ok(Sequence::boolean(!*is_every));
                    }
                }
                Ok(Sequence::boolean(*is_every))
            }
        }
    }

    /// The effective boolean value of an expression.
    pub(crate) fn truth(
        &self,
        expr: &Expr,
        frame: &mut Frame<'d>,
        focus: Option<&Focus<'d>>,
    ) -> Result<bool, Error> {
        self.eval(expr, frame, focus)?.truth().map_err(|error| error.at(expr.span))
    }

    /// An expression for each of several items, the results in one sequence.
    fn for_each(&self, items: Vec<Item<'d>>, body: &Expr, frame: &mut Frame<'d>) -> Outcome<'d> {
        let size = items.len();
        let mut all = Vec::new();
        for (index, item) in items.into_iter().enumerate() {
            let focus = Focus { item, position: index + 1, size };
            all.extend(self.eval(body, frame, Some(&focus))?.into_items());
        }
        Ok(Sequence::of(all))
    }

    /// A compiled regular expression, which is kept.
    pub(crate) fn pattern(&self, pattern: &str, flags: &str) -> Result<Rc<Pattern>, Error> {
        /// Patterns that come from data could be without number; past this many the store starts anew.
        const MOST: usize = 500;
        let key = (pattern.to_owned(), flags.to_owned());
        if let Some(known) = self.patterns.borrow().get(&key) {
            return Ok(Rc::clone(known));
        }
        let compiled = xsd::compile_xpath(pattern, flags).map_err(|error| match error {
            xsd::PatternError::Flag(_) => {
                Error::unplaced(ErrorCode::Other("FORX0001"), error.to_string())
            }
            xsd::PatternError::Syntax(why) => {
                let message = format!("{pattern:?} is no regular expression: {why}");
                Error::unplaced(ErrorCode::Other("FORX0002"), message)
            }
        })?;
        let compiled = Rc::new(compiled);
        let mut patterns = self.patterns.borrow_mut();
        if patterns.len() >= MOST {
            patterns.clear();
        }
        patterns.insert(key, Rc::clone(&compiled));
        Ok(compiled)
    }

    /// Runs a call one level deeper.
    pub(crate) fn deeper<T>(&self, call: impl FnOnce() -> Result<T, Error>) -> Result<T, Error> {
        let depth = self.depth.get();
        if depth >= DEPTH {
            let message = format!("calls of functions nest deeper than {DEPTH} levels");
            return Err(Error::unplaced(ErrorCode::Other("FOER0000"), message));
        }
        self.depth.set(depth + 1);
        let result = call();
        self.depth.set(depth);
        result
    }

    fn range(&self, low: &Sequence<'d>, high: &Sequence<'d>) -> Outcome<'d> {
        let bound = |value: &Sequence<'d>| {
            let Some(value) = convert::atomic(value, "the bound of a range")? else {
                return Ok(None);
            };
            let of = kyanite_eval::atomic::AtomicType::Integer;
            match convert::promoted(value, of, "the bound of a range")? {
                Atomic::Integer(number) => Ok(Some(number)),
                other => {
                    let message = format!("a range cannot reach to {other}");
                    Err(Error::unplaced(ErrorCode::Other("FOAR0002"), message))
                }
            }
        };
        let (Some(low), Some(high)) = (bound(low)?, bound(high)?) else {
            return Ok(Sequence::Empty);
        };
        if high.saturating_sub(low) >= RANGE {
            let message = format!("a range of more than {RANGE} numbers is too long");
            return Err(Error::unplaced(ErrorCode::Other("FOAR0002"), message));
        }
        Ok((low..=high).map(|number| Item::Atomic(Atomic::Integer(number))).collect())
    }
}

/// Says which value of a document an error is about: the first of the operands that was read.
fn about(error: Error, operands: &[&Sequence<'_>]) -> Error {
    let mut origins = operands.iter().filter_map(|operand| operand.first()).map(Item::origin);
    match origins.find(|origin| origin.is_known()) {
        Some(origin) => error.about(origin),
        None => error,
    }
}

impl Step {
    fn span(&self) -> Span {
        match self {
            Self::Axis(step) => step.span,
            Self::Expr(expr) => expr.span,
        }
    }
}

/// The item that is looked at.
pub(crate) fn context_item<'f, 'd>(focus: Option<&'f Focus<'d>>) -> Result<&'f Focus<'d>, Error> {
    focus.ok_or_else(|| {
        let message = "there is no item here that `.`, a path or position() could be about";
        Error::unplaced(ErrorCode::NoContext, message)
    })
}

/// The value of a literal.
pub(crate) fn literal_value<'d>(literal: &Literal) -> Atomic<'d> {
    match literal {
        Literal::Text(text) => Atomic::String(kyanite_eval::atomic::Text::Made(Arc::clone(text))),
        Literal::Integer(number) => Atomic::Integer(*number),
        Literal::Decimal(number, true) => Atomic::Large(Arc::clone(number)),
        Literal::Decimal(number, false) => Atomic::Decimal(Arc::clone(number)),
        Literal::Double(number) => Atomic::Double(*number),
    }
}

/// The only item of a sequence, where one is needed.
pub(crate) fn one<'v, 'd>(value: &'v Sequence<'d>, what: &str) -> Result<&'v Item<'d>, Error> {
    match value.items() {
        [item] => Ok(item),
        [] => Err(Error::unplaced(ErrorCode::Type, format!("{what} is empty"))),
        items => Err(several(items.len(), value, what)),
    }
}
