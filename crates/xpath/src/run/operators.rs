//! Operators: comparison, arithmetic, concatenation, sets of nodes (XPath 3.1 sections 3.4 to 3.7).

use std::collections::HashSet;

use kyanite_eval::atomic::{Arithmetic, Atomic, AtomicType, Text};
use kyanite_tree::{Comparison, Node, Span};

use super::convert::{atomic, atomize, atomize_into, old_number, old_text, typed_value};
use super::paths::sort;
use super::{Outcome, Run, one};
use crate::Version;
use crate::error::{Error, ErrorCode};
use crate::syntax::ast::{NodeComparison, SetOperator};
use crate::value::{Item, Sequence};

impl<'d> Run<'_, 'd> {
    /// Whether a comparison holds for any pair of atomic values (XPath 3.1 section 3.7.2).
    pub(super) fn general(
        &self,
        how: Comparison,
        left: &Sequence<'d>,
        right: &Sequence<'d>,
        span: Span,
    ) -> Result<bool, Error> {
        if self.version() == Version::V1 {
            return old_comparison(how, left, right);
        }
        // Nearly always one value meets one value.
        if let (Sequence::One(a), Sequence::One(b)) = (left, right)
            && let (Some(a), Some(b)) = (single(a), single(b))
        {
            return self.pair(how, &a, &b, span);
        }
        let right = atomize(right)?;
        let mut values = Vec::new();
        for item in left.items() {
            values.clear();
            atomize_into(item, &mut values)?;
            for a in &values {
                for b in &right {
                    if self.pair(how, a, b, span)? {
                        return Ok(true);
                    }
                }
            }
        }
        Ok(false)
    }

    /// Whether it holds for two values, of which those without a type take the type of the other.
    fn pair(
        &self,
        how: Comparison,
        a: &Atomic<'d>,
        b: &Atomic<'d>,
        span: Span,
    ) -> Result<bool, Error> {
        let is_untyped = |value: &Atomic<'d>| matches!(value, Atomic::Untyped(_));
        let zone = self.context.zone;
        let are_texts = a.as_text().is_some() && b.as_text().is_some();
        match (is_untyped(a), is_untyped(b)) {
            (true, _) | (_, true) if are_texts && !how.is_equality() => {
                let holds = a.compare(how, b, zone)?;
                self.note_texts(how, a, b, holds, span);
                Ok(holds)
            }
            (true, false) => Ok(like(a, b)?.compare(how, b, zone)?),
            (false, true) => Ok(a.compare(how, &like(b, a)?, zone)?),
            _ => Ok(a.compare(how, b, zone)?),
        }
    }

    /// Notes an order of two texts that as numbers is the other way round.
    fn note_texts(&self, how: Comparison, a: &Atomic<'d>, b: &Atomic<'d>, holds: bool, span: Span) {
        let number = |value: &Atomic<'d>| {
            value.as_text().and_then(|text| kyanite_eval::number::read_double(text))
        };
        if let (Some(x), Some(y)) = (number(a), number(b))
            && how.holds(x.partial_cmp(&y)) != holds
        {
            self.coverage.borrow_mut().compared_as_texts(span, a.to_string(), b.to_string());
        }
    }

    pub(super) fn value_comparison(
        &self,
        how: Comparison,
        left: &Sequence<'d>,
        right: &Sequence<'d>,
    ) -> Outcome<'d> {
        let (Some(a), Some(b)) = (atomic(left, "the left side")?, atomic(right, "the right side")?)
        else {
            return Ok(Sequence::Empty);
        };
        // Text without a type is text.
        Ok(Sequence::boolean(a.compare(how, &b, self.context.zone)?))
    }

    pub(super) fn node_comparison(
        &self,
        how: NodeComparison,
        left: &Sequence<'d>,
        right: &Sequence<'d>,
    ) -> Outcome<'d> {
        if left.is_empty() || right.is_empty() {
            return Ok(Sequence::Empty);
        }
        let node = |value: &Sequence<'d>, what: &str| {
            let item = one(value, what)?;
            item.as_node().ok_or_else(|| {
                let message = format!("{what} is {}, and a node is meant", item.phrase());
                Error::unplaced(ErrorCode::Type, message)
            })
        };
        let (a, b) = (node(left, "the left side")?, node(right, "the right side")?);
        Ok(Sequence::boolean(match how {
            NodeComparison::Is => a == b,
            NodeComparison::Before => a < b,
            NodeComparison::After => a > b,
        }))
    }

    pub(super) fn concat(&self, left: &Sequence<'d>, right: &Sequence<'d>) -> Outcome<'d> {
        let a = atomic(left, "the left side")?;
        let b = atomic(right, "the right side")?;
        let text = |value: Option<Atomic<'d>>| value.map(|value| value.to_text());
        let (a, b) = (text(a), text(b));
        Ok(Sequence::text(match (a, b) {
            (Some(a), None) => a,
            (None, Some(b)) => b,
            (None, None) => "".into(),
            (Some(a), Some(b)) => format!("{}{}", &*a, &*b).into(),
        }))
    }

    pub(super) fn arithmetic(
        &self,
        operator: Arithmetic,
        left: &Sequence<'d>,
        right: &Sequence<'d>,
    ) -> Outcome<'d> {
        if self.version() == Version::V1 {
            let (a, b) = (old_number(left)?, old_number(right)?);
            return Ok(Sequence::atomic(Atomic::Double(operator.doubles(a, b))));
        }
        let (Some(a), Some(b)) = (atomic(left, "the left side")?, atomic(right, "the right side")?)
        else {
            return Ok(Sequence::Empty);
        };
        let typed = |value: Atomic<'d>| match value {
            Atomic::Untyped(_) => value.cast(AtomicType::Double),
            other => Ok(other),
        };
        Ok(Sequence::atomic(typed(a)?.compute(operator, &typed(b)?, self.context.zone)?))
    }

    pub(super) fn sign(&self, is_negative: bool, value: &Sequence<'d>) -> Outcome<'d> {
        if self.version() == Version::V1 {
            let number = old_number(value)?;
            let number = if is_negative { -number } else { number };
            return Ok(Sequence::atomic(Atomic::Double(number)));
        }
        let Some(value) = atomic(value, "the operand")? else { return Ok(Sequence::Empty) };
        let value = match value {
            Atomic::Untyped(_) => value.cast(AtomicType::Double)?,
            other => other,
        };
        match value.negated() {
            Some(negated) => Ok(Sequence::atomic(if is_negative { negated } else { value })),
            None => {
                let message = format!("a sign stands before an {}", value.atomic_type().name());
                Err(Error::unplaced(ErrorCode::Type, message))
            }
        }
    }

    pub(super) fn set(
        &self,
        operator: SetOperator,
        left: &Sequence<'d>,
        right: &Sequence<'d>,
    ) -> Outcome<'d> {
        let (mut a, mut b) = (nodes(left)?, nodes(right)?);
        sort(&mut a);
        sort(&mut b);
        match operator {
            SetOperator::Union => {
                a.append(&mut b);
                sort(&mut a);
            }
            SetOperator::Intersect => a.retain(|node| b.binary_search(node).is_ok()),
            SetOperator::Except => a.retain(|node| b.binary_search(node).is_err()),
        }
        Ok(a.into_iter().map(Item::Node).collect())
    }
}

/// The atomic value of an item that has just one.
fn single<'d>(item: &Item<'d>) -> Option<Atomic<'d>> {
    match item {
        Item::Node(node) => Some(typed_value(*node)),
        Item::Atomic(atomic) => Some(atomic.clone()),
        other => other.as_atomic(),
    }
}

/// Whether a comparison of a text without a type with a literal holds, as [`Run::general`] has it; None where it fails.
pub(crate) fn text_compares(
    version: Version,
    how: Comparison,
    text: &str,
    literal: &Atomic<'_>,
) -> Option<bool> {
    let text = Atomic::Untyped(Text::Read(text));
    if version == Version::V1 {
        let (text, literal) = (Sequence::atomic(text), Sequence::atomic(literal.clone()));
        return old_comparison(how, &text, &literal).ok();
    }
    like(&text, literal).ok()?.compare(how, literal, 0).ok()
}

/// Text without a type as a value that compares with `other`.
fn like<'d>(text: &Atomic<'d>, other: &Atomic<'d>) -> Result<Atomic<'d>, Error> {
    let of = other.atomic_type();
    let to = if of.is_numeric() { AtomicType::Double } else { of };
    Ok(text.cast(to)?)
}

/// All items as nodes.
fn nodes<'d>(value: &Sequence<'d>) -> Result<Vec<Node<'d>>, Error> {
    value
        .items()
        .iter()
        .map(|item| {
            item.as_node().ok_or_else(|| {
                let message = format!("sets are of nodes, and here is {}", item.phrase());
                Error::unplaced(ErrorCode::Type, message).about(item.origin())
            })
        })
        .collect()
}

/// Comparison in XPath 1.0 (section 3.4).
fn old_comparison(
    how: Comparison,
    left: &Sequence<'_>,
    right: &Sequence<'_>,
) -> Result<bool, Error> {
    let is_boolean =
        |value: &Sequence<'_>| matches!(value, Sequence::One(Item::Atomic(Atomic::Boolean(_))));
    let is_number = |value: &Sequence<'_>| {
        matches!(value, Sequence::One(Item::Atomic(Atomic::Double(_) | Atomic::Integer(_))))
    };
    if is_boolean(left) || is_boolean(right) {
        if how.is_equality() {
            return Ok(how.holds(Some(left.truth()?.cmp(&right.truth()?))));
        }
        // Nodes are true or false as a whole here.
        let number = |value: &Sequence<'_>| match value.first() {
            None | Some(Item::Node(_)) => value.truth().map(|truth| f64::from(u8::from(truth))),
            Some(_) => old_number(value),
        };
        return Ok(how.holds(number(left)?.partial_cmp(&number(right)?)));
    }
    let by_number = !how.is_equality() || is_number(left) || is_number(right);
    let (left, right) = (one_by_one(left), one_by_one(right));
    if by_number {
        let numbers = |values: &[Sequence<'_>]| -> Result<Vec<f64>, Error> {
            values.iter().map(old_number).collect()
        };
        let (left, right) = (numbers(&left)?, numbers(&right)?);
        return Ok(left.iter().any(|a| right.iter().any(|b| how.holds(a.partial_cmp(b)))));
    }
    let texts = |values: &[Sequence<'_>]| -> Result<Vec<String>, Error> {
        values.iter().map(|value| old_text(value).map(|text| text.to_string())).collect()
    };
    // Texts that are many on both sides meet in a set.
    let right: HashSet<String> = texts(&right)?.into_iter().collect();
    Ok(texts(&left)?.iter().any(|text| match how {
        Comparison::Equal => right.contains(text),
        _ => right.len() > 1 || right.iter().any(|other| other != text),
    }))
}

/// Nodes are compared one by one, other values as they are.
fn one_by_one<'d>(value: &Sequence<'d>) -> Vec<Sequence<'d>> {
    match value {
        Sequence::Many(items) => items.iter().cloned().map(Sequence::One).collect(),
        Sequence::Empty => Vec::new(),
        one => vec![one.clone()],
    }
}
