//! Evaluation of expressions.

use std::cmp::Ordering;
use std::collections::HashSet;
use std::ops::ControlFlow;

use kyanite_formats::record_view::View;
use kyanite_tree::{Code, Decimal, Key, Kind as ValueKind, Number, Value, equal, order};

use super::Runner;
use crate::finding::first_of;
use crate::functions::{self, CallError, Parameter, ParameterTypes, Run, Signature};
use crate::plan::{Case, Expr, Kind};
use crate::rule_error::{RuleError, RunResult, instead, number_error, rule_error, text_of};
use crate::syntax::ast::{Binary, Literal};
use crate::trace::Trace;
use kyanite_eval::accumulator::{Accumulator, Aggregate, is_nothing};

/// How many defs may run inside each other.
const CALLS: usize = 1000;

/// Of how many of these it is looked once how deep their results are nested.
const DEEP_CALLS: usize = 64;

/// As many arguments are on the stack.
const FEW_ARGUMENTS: usize = 4;

impl<'a> Runner<'_, 'a> {
    /// The value of an expression, or nothing.
    #[inline]
    pub(super) fn value(&mut self, expr: &'a Expr) -> RunResult<Option<Value<'a>>> {
        if self.session.trace.is_some() {
            return self.traced(expr);
        }
        match &expr.kind {
            Kind::Constant(literal) => Ok(Some(constant(literal))),
            Kind::One(path) => self.one(path),
            _ => self.evaluate(expr),
        }
    }

    pub(super) fn evaluate(&mut self, expr: &'a Expr) -> RunResult<Option<Value<'a>>> {
        Ok(Some(match &expr.kind {
            Kind::Constant(literal) => constant(literal),
            Kind::One(path) => return self.one(path),
            Kind::Many(path) => self.collect(path)?,
            Kind::Collected(inner) => return self.value(inner),
            Kind::Template(pieces) => self.template(pieces)?,
            Kind::List(items) => self.list(items)?,
            Kind::Map(entries) => self.map(entries)?,
            Kind::Negate(operand) => {
                let number = self.number(operand, "a minus needs a number")?;
                self.arena.number(&number.neg())
            }
            Kind::Binary(Binary::Coalesce, left, right) => {
                let value = self.value(left)?;
                return if functions::is_present(value) { Ok(value) } else { self.value(right) };
            }
            Kind::Binary(operator, left, right) => match operator {
                Binary::Add
                | Binary::Subtract
                | Binary::Multiply
                | Binary::Divide
                | Binary::Remainder => {
                    let number = self.arithmetic(expr, *operator, left, right)?;
                    self.arena.number(&number)
                }
                _ => Value::boolean(self.truth(expr)?),
            },
            Kind::Not(_) | Kind::Exists(_) => Value::boolean(self.truth(expr)?),
            Kind::If(condition, then, otherwise) => {
                return if self.truth(condition)? {
                    self.value(then)
                } else {
                    otherwise.as_ref().map_or(Ok(None), |otherwise| self.value(otherwise))
                };
            }
            Kind::Case(case) => return self.case(case),
            Kind::Loop(repeat) => {
                let mut items = Vec::new();
                let _ = self.repeat(repeat, &mut |item| {
                    items.push(item);
                    super::Flow::Continue(())
                })?;
                self.arena.list(&items)
            }
            Kind::Lets(bindings, result) => {
                self.bind(bindings)?;
                return self.value(result);
            }
            Kind::Call(signature, arguments) => return self.call(expr, signature, arguments),
            Kind::XPath(call) => return self.xpath_call(call),
            Kind::Count(nodes) => {
                let (count, _) = self.count(nodes, usize::MAX)?;
                self.arena.integer(count as i64)
            }
            Kind::ValueOf(nodes) => {
                let (count, first) = self.count(nodes, 2)?;
                return Ok(first.filter(|_| count == 1));
            }
            Kind::Folded => {
                return match (self.folded, &self.plan.fold) {
                    (Some(value), _) => Ok(value),
                    (None, Some(fold)) => self.value(&fold.call),
                    (None, None) => Ok(None),
                };
            }
            Kind::GroupFolded(slot, number) => return self.group_folded(*slot, *number),
            Kind::CallDef(def, arguments) => return self.call_def(expr, *def, arguments),
            Kind::DocumentUri => {
                let root = self.root.and_then(|root| self.session.documents.of(root.origin()));
                let uri = root.or(self.session.documents.own());
                return Ok(uri.map(|uri| Value::text(self.arena.text(uri))));
            }
            Kind::Edit(edit) => return self.edited(edit),
            Kind::Recover(tried, otherwise) => return self.recover(expr, tried, otherwise),
            Kind::Broken => {
                return Err(rule_error(
                    Code::RuleSyntax,
                    expr.span,
                    "this part of the rule was not checked",
                ));
            }
        }))
    }

    /// Whether a condition holds.
    pub(super) fn truth(&mut self, expr: &'a Expr) -> RunResult<bool> {
        match &expr.kind {
            Kind::Not(inner) => Ok(!self.truth(inner)?),
            Kind::Exists(nodes) => Ok(self.count(nodes, 1)?.0 > 0),
            Kind::Binary(operator, left, right) => match operator {
                Binary::And => Ok(self.truth(left)? && self.truth(right)?),
                Binary::Or => Ok(self.truth(left)? || self.truth(right)?),
                Binary::Coalesce => self.boolean(expr),
                _ => {
                    let left = self.value(left)?;
                    let right = self.value(right)?;
                    Ok(compare(*operator, left, right))
                }
            },
            _ => self.boolean(expr),
        }
    }

    /// A value that has to be true or false.
    fn boolean(&mut self, expr: &'a Expr) -> RunResult<bool> {
        match self.value(expr)? {
            Some(Value::Boolean(_, holds)) => Ok(holds),
            None => Err(self.missing(expr, None, "a condition must be true or false")),
            Some(other) => {
                let message =
                    format!("a condition must be true or false; this is {}", other.kind().phrase());
                Err(rule_error(Code::ValueKind, expr.span, message)
                    .about(Some(other))
                    .advise("compare it with =="))
            }
        }
    }

    /// A value that has to be a number.
    fn number(&mut self, expr: &'a Expr, why: &str) -> RunResult<Decimal> {
        match self.value(expr)?.map(Value::simple) {
            Some(value @ Value::Number(_, number)) => {
                number.decimal().map_err(|error| number_error(expr.span, error).about(Some(value)))
            }
            Some(value @ Value::Untyped(_, text)) => Decimal::spelled(text).ok_or_else(|| {
                let message = format!("the text {text:?} is not spelled like a number, and {why}");
                rule_error(Code::ValueKind, expr.span, message).about(Some(value))
            }),
            None => Err(self.missing(expr, None, why)),
            null @ Some(Value::Null(_)) => Err(self.missing(expr, null, why)),
            Some(other) => {
                let words = self.plan.rule.slice(expr.span);
                let message = format!("`{words}` is {}, and {why}", other.kind().phrase());
                let failed = rule_error(Code::ValueKind, expr.span, message).about(Some(other));
                Err(match other.kind() {
                    ValueKind::Text => failed.advise(instead(
                        expr.span,
                        format!("number({words})"),
                        " for the number it spells",
                    )),
                    _ => failed,
                })
            }
        }
    }

    fn arithmetic(
        &mut self,
        expr: &'a Expr,
        operator: Binary,
        left: &'a Expr,
        right: &'a Expr,
    ) -> RunResult<Decimal> {
        let why = match operator {
            Binary::Add => "`+` needs numbers",
            Binary::Subtract => "`-` needs numbers",
            Binary::Multiply => "`*` needs numbers",
            Binary::Divide => "`/` needs numbers",
            _ => "`%` needs numbers",
        };
        let a = self.number(left, why)?;
        let b = self.number(right, why)?;
        let result = match operator {
            Binary::Add => a.add(&b),
            Binary::Subtract => a.sub(&b),
            Binary::Multiply => a.mul(&b),
            Binary::Divide => a.div(&b),
            _ => a.rem(&b),
        };
        result.map_err(|error| {
            let at = self.value(right).ok().flatten();
            number_error(expr.span, error).about(at)
        })
    }

    fn case(&mut self, case: &'a Case) -> RunResult<Option<Value<'a>>> {
        let subject = match &case.subject {
            Some(subject) => Some(self.value(subject)?),
            None => None,
        };
        for (waits, value) in &case.branches {
            for wait in waits {
                let fits = match subject {
                    Some(subject) => {
                        let wait = self.value(wait)?;
                        compare(Binary::Equal, subject, wait)
                    }
                    None => self.truth(wait)?,
                };
                if fits {
                    return self.value(value);
                }
            }
        }
        case.otherwise.as_ref().map_or(Ok(None), |otherwise| self.value(otherwise))
    }

    fn call(
        &mut self,
        expr: &'a Expr,
        signature: &'static Signature,
        arguments: &'a [Expr],
    ) -> RunResult<Option<Value<'a>>> {
        let run = match (&signature.run, arguments) {
            (Run::Values(run), _) => run,
            (Run::Fold(kind), [argument]) => return self.fold(signature, *kind, argument),
            _ => return Err(rule_error(Code::RuleSyntax, expr.span, "this call was not checked")),
        };
        // Most calls have few arguments, and are made for each record.
        let (mut few, mut many) = ([None; FEW_ARGUMENTS], Vec::new());
        let values = match few.get_mut(..arguments.len()) {
            Some(few) => few,
            None => {
                many.resize(arguments.len(), None);
                many.as_mut_slice()
            }
        };
        for (position, argument) in arguments.iter().enumerate() {
            let value = self.typed(signature.parameter(position), argument)?;
            let fits = signature
                .parameter(position)
                .is_none_or(|parameter| parameter.takes.accepts(value.map(Value::kind)));
            if !fits {
                return Err(self.misfit(signature, position, argument, value));
            }
            values[position] = value;
        }
        let call = functions::Call {
            arena: self.arena,
            arguments: values,
            patterns: &self.session.patterns,
            remarks: &self.session.coverage,
            namespaces: &self.plan.namespaces,
            documents: &self.session.documents,
            trace: self.session.trace.as_ref().map(|trace| trace as &dyn functions::HandedOn),
            span: expr.span,
        };
        run(&call).map_err(|fault| {
            let given = values.get(fault.argument).copied().flatten();
            self.faulted(signature, fault, expr, arguments, given)
        })
    }

    /// A value or, where evaluating it fails on the data, another.
    fn recover(
        &mut self,
        expr: &'a Expr,
        tried: &'a Expr,
        otherwise: &'a Expr,
    ) -> RunResult<Option<Value<'a>>> {
        let got = self.session.trace.as_ref().map(Trace::mark);
        match self.value(tried) {
            // A temporary file that cannot be written is no fault of the data.
            Err(error) if error.code() != Code::OutputFailed => {
                if let (Some(trace), Some(got)) = (&mut self.session.trace, got) {
                    trace.forget(got);
                }
                self.session.coverage.recovered(expr.span, error);
                self.value(otherwise)
            }
            ran => ran,
        }
    }

    /// The failure of a call: it points at the value that the fault is about, or at the nearest that is there.
    pub(super) fn faulted(
        &mut self,
        signature: &Signature,
        fault: CallError,
        call: &'a Expr,
        arguments: &'a [Expr],
        given: Option<Value<'a>>,
    ) -> RuleError {
        let argument = arguments.get(fault.argument);
        let span = argument.map_or(call.span, |argument| argument.span);
        let message = format!("{}(): {}", signature.name, fault.message);
        let failed = rule_error(fault.code, span, message).advise_opt(fault.advice);
        match (fault.origin.or(given.map(Value::origin)), argument) {
            (Some(origin), _) => failed.read_at(origin),
            (None, Some(argument)) => {
                let nearest = self.missing(argument, None, "").origin();
                failed.read_at(nearest)
            }
            (None, None) => failed,
        }
    }

    /// An aggregate over the nodes of a path, without a list of them, or over the items of a list.
    fn fold(
        &mut self,
        signature: &'static Signature,
        kind: Aggregate,
        argument: &'a Expr,
    ) -> RunResult<Option<Value<'a>>> {
        let mut fold = Accumulator::new(kind);
        let mut fault = None;
        let mut different = Different::default();
        let mut take = |item| {
            if kind == Aggregate::Distinct {
                different.take(item);
                return ControlFlow::Continue(());
            }
            match fold.add(item) {
                Ok(()) => ControlFlow::Continue(()),
                Err(found) => {
                    fault = Some(found);
                    ControlFlow::Break(())
                }
            }
        };
        let mut given = None;
        if let Some(path) = argument.collected() {
            let _ = self.each(path, &mut |runner, node| {
                runner.contribute(node);
                Ok(take(node))
            })?;
        } else if let Kind::Loop(repeat) = &argument.kind {
            let _ = self.repeat(repeat, &mut take)?;
        } else {
            given = self.typed(signature.parameter(0), argument)?;
            let takes =
                signature.parameter(0).map_or(ParameterTypes::ITEMS, |parameter| parameter.takes);
            if !takes.accepts(given.map(Value::kind)) {
                return Err(self.misfit(signature, 0, argument, given));
            }
            let items = given.and_then(Value::as_list).unwrap_or_default();
            let _ = items.iter().try_for_each(|item| take(*item));
        }
        let outcome = match fault {
            Some(fault) => Err(fault),
            None if kind == Aggregate::Distinct => Ok(Some(self.arena.list(&different.items))),
            None => fold.value(self.arena),
        };
        outcome.map_err(|fault| {
            self.faulted(signature, fault.into(), argument, std::slice::from_ref(argument), given)
        })
    }

    /// The value of an argument; untyped text becomes the number it spells where numbers are taken and texts are
    /// not.
    fn typed(
        &mut self,
        parameter: Option<&Parameter>,
        argument: &'a Expr,
    ) -> RunResult<Option<Value<'a>>> {
        let mut value = self.value(argument)?;
        if let (Some(element @ Value::Element(..)), Some(parameter)) = (value, parameter)
            && !parameter.takes.accepts(Some(ValueKind::Element))
        {
            value = Some(match element.simple() {
                text @ Value::Untyped(..) if !parameter.takes.accepts(Some(ValueKind::Map)) => text,
                _ if parameter.takes.accepts(Some(ValueKind::Map)) => {
                    View::default().record(element, self.arena)
                }
                other => other,
            });
        }
        if let (Some(Value::Untyped(origin, text)), Some(parameter)) = (value, parameter)
            && parameter.takes.accepts(Some(ValueKind::Number))
            && !parameter.takes.accepts(Some(ValueKind::Text))
            && let Some(spelled) = Decimal::spelled(text)
            && let Value::Number(_, number) = self.arena.number(&spelled)
        {
            return Ok(Some(Value::Number(origin, number)));
        }
        Ok(value)
    }

    /// An argument of a kind that the function does not take.
    #[cold]
    fn misfit(
        &mut self,
        signature: &Signature,
        position: usize,
        argument: &'a Expr,
        value: Option<Value<'a>>,
    ) -> RuleError {
        let wanted = signature
            .parameter(position)
            .map(|parameter| parameter.takes.words())
            .unwrap_or_default();
        let projection = format!("{}() needs {wanted}", signature.name);
        match value {
            None => self.missing(argument, None, &projection),
            null @ Some(Value::Null(_)) => self.missing(argument, null, &projection),
            Some(other) => {
                let words = self.plan.rule.slice(argument.span);
                let message = format!("`{words}` is {}, and {projection}", other.kind().phrase());
                let span = argument.span;
                let failed = rule_error(Code::ValueKind, span, message).about(Some(other));
                match (other.kind(), wanted.as_str()) {
                    (ValueKind::Text, "a number") => {
                        failed.advise(instead(span, format!("number({words})"), ""))
                    }
                    (ValueKind::Number | ValueKind::Boolean, "a text") => {
                        failed.advise(instead(span, format!("text({words})"), ""))
                    }
                    (ValueKind::List, "a map") => {
                        failed.advise(instead(span, first_of(&words), " for the first item"))
                    }
                    (ValueKind::Element, "a text" | "a text or nothing") => {
                        failed.advise(text_of(span, &words))
                    }
                    (_, "a list") => failed.advise(instead(
                        span,
                        format!("[{words}]"),
                        " for a list of that one value",
                    )),
                    _ => failed,
                }
            }
        }
    }

    fn call_def(
        &mut self,
        expr: &'a Expr,
        def: usize,
        arguments: &'a [Expr],
    ) -> RunResult<Option<Value<'a>>> {
        let plan = self.plan;
        let def = &plan.defs[def];
        if self.calls >= CALLS {
            let message =
                format!("`{}` calls itself without end: {CALLS} calls are open", def.name);
            return Err(rule_error(Code::ValueKind, expr.span, message)
                .advise("give it a case in which it does not call itself"));
        }
        let frame = self.names.locals.len();
        let mut values = Vec::with_capacity(def.frame);
        for argument in arguments {
            values.push(self.value(argument)?);
        }
        values.resize(def.frame, None);
        self.names.locals.extend(values);
        let outer = std::mem::replace(&mut self.frame, frame);
        let current = self.current.take();
        self.calls += 1;
        let result = self.value(&def.body);
        self.calls -= 1;
        self.current = current;
        self.frame = outer;
        self.names.locals.truncate(frame);
        let value = result?;
        if self.calls % DEEP_CALLS == DEEP_CALLS - 1 {
            self.refuse_deep(expr, value)?;
        }
        Ok(value)
    }
}

fn constant(literal: &Literal) -> Value<'_> {
    match literal {
        Literal::Null => Value::NULL,
        Literal::Boolean(value) => Value::boolean(*value),
        Literal::Number(number) => Value::number(Number::from_checked(number)),
        Literal::Text(text) => Value::text(text),
    }
}

/// The comparisons of RFC 9535 section 2.3.5.2.2: nothing equals nothing, and only numbers with numbers and
/// texts with texts are less or greater.
fn compare(operator: Binary, left: Option<Value<'_>>, right: Option<Value<'_>>) -> bool {
    let same = || match (left, right) {
        (Some(left), Some(right)) => equal(left, right),
        (None, None) => true,
        _ => false,
    };
    let is = |wanted| match (left, right) {
        (Some(left), Some(right)) => order(left, right) == Some(wanted),
        _ => false,
    };
    match operator {
        Binary::Equal => same(),
        Binary::NotEqual => !same(),
        Binary::Less => is(Ordering::Less),
        Binary::Greater => is(Ordering::Greater),
        Binary::LessOrEqual => is(Ordering::Less) || same(),
        Binary::GreaterOrEqual => is(Ordering::Greater) || same(),
        _ => false,
    }
}

/// The different items of a list that is held, as they stand there.
#[derive(Default)]
struct Different<'a> {
    items: Vec<Value<'a>>,
    seen: HashSet<Key>,
}

impl<'a> Different<'a> {
    fn take(&mut self, item: Value<'a>) {
        if !is_nothing(item) && self.seen.insert(Key::of(item)) {
            self.items.push(item);
        }
    }
}
