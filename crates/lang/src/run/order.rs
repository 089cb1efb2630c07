//! `order by`: turns put in order, stably.

use std::cmp::Ordering;

use kyanite_tree::{Decimal, Value};

use super::clauses::Turn;
use super::{Failure, Ran, Runner};
use crate::plan::OrderKey;

/// What one turn is ordered by.
#[derive(PartialEq, Eq)]
enum Rank<'a> {
    Number(Decimal),
    Text(&'a str),
    /// Nothing and null, which come last in both directions.
    Absent,
}

impl<'a> Runner<'_, 'a> {
    /// Sorts turns by their keys: numbers by value, texts by Unicode scalar, nothing and null last.
    pub(super) fn sort(&mut self, keys: &'a [OrderKey], turns: &mut Vec<Turn<'a>>) -> Ran<()> {
        let mut ranked = Vec::with_capacity(turns.len());
        let mut seen: Vec<Option<Value<'a>>> = vec![None; keys.len()];
        for turn in turns.drain(..) {
            let mut ranks = Vec::with_capacity(keys.len());
            for ((key, value), seen) in keys.iter().zip(&turn.keys).zip(&mut seen) {
                ranks.push(rank(key, *value, seen)?);
            }
            ranked.push((ranks, turn));
        }
        ranked.sort_by(|(a, _), (b, _)| {
            let each = keys.iter().zip(a.iter().zip(b));
            each.map(|(key, (a, b))| compare(a, b, key.descending))
                .find(|order| order.is_ne())
                .unwrap_or(Ordering::Equal)
        });
        turns.extend(ranked.into_iter().map(|(_, turn)| turn));
        Ok(())
    }
}

/// The rank of one key; `seen` is the first value that this key had, whose kind all the others have.
fn rank<'a>(
    key: &OrderKey,
    value: Option<Value<'a>>,
    seen: &mut Option<Value<'a>>,
) -> Ran<Rank<'a>> {
    let span = key.value.span;
    let rank = match value {
        None | Some(Value::Null(_)) => return Ok(Rank::Absent),
        Some(Value::Text(_, text)) => Rank::Text(text),
        Some(Value::Number(_, number)) => Rank::Number(
            number.decimal().map_err(|error| Failure::number(span, error).about(value))?,
        ),
        Some(other) => {
            let message =
                format!("order by takes numbers or texts; this is {}", other.kind().phrase());
            return Err(Failure::new(span, message).about(value));
        }
    };
    match (*seen, value) {
        (None, first) => *seen = first,
        (Some(first), Some(value)) if first.kind() != value.kind() => {
            let (one, other) = (first.kind().phrase(), value.kind().phrase());
            return Err(Failure::new(
                span,
                format!("{one} and {other} cannot be put in one order"),
            )
            .about(Some(value))
            .advise("convert all with number() or text()"));
        }
        _ => {}
    }
    Ok(rank)
}

fn compare(a: &Rank<'_>, b: &Rank<'_>, descending: bool) -> Ordering {
    let order = match (a, b) {
        (Rank::Number(a), Rank::Number(b)) => a.cmp(b),
        (Rank::Text(a), Rank::Text(b)) => a.cmp(b),
        (Rank::Absent, Rank::Absent) => Ordering::Equal,
        (Rank::Absent, _) => return Ordering::Greater,
        (_, Rank::Absent) => return Ordering::Less,
        // Kinds were seen to before.
        _ => Ordering::Equal,
    };
    if descending { order.reverse() } else { order }
}
