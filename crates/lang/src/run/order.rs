//! `order by`: turns put in order, stably.

use std::cmp::Ordering;

use kyanite_tree::{Code, Value};

use super::turns::Turn;
use crate::failure::{Ran, failure};
use crate::functions::MIXED;
use crate::plan::OrderKey;
use kyanite_eval::rank::Rank;

/// Sorts turns by their keys: numbers by value, texts by Unicode scalar, nothing and null last.
pub(super) fn sort<'a>(keys: &[OrderKey], turns: &mut Vec<Turn<'a>>) -> Ran<()> {
    let mut ranked = Vec::with_capacity(turns.len());
    let mut first: Vec<Option<Rank<'a>>> = Vec::new();
    for turn in turns.drain(..) {
        let ranks = ranks(keys, &turn, &mut first)?;
        ranked.push((ranks, turn));
    }
    ranked.sort_by(|(a, _), (b, _)| order(keys, a, b));
    turns.extend(ranked.into_iter().map(|(_, turn)| turn));
    Ok(())
}

/// The ranks of a turn, seen to have an order with those of the first turn that had any.
pub(super) fn ranks<'a>(
    keys: &[OrderKey],
    turn: &Turn<'a>,
    first: &mut Vec<Option<Rank<'a>>>,
) -> Ran<Vec<Option<Rank<'a>>>> {
    first.resize(keys.len(), None);
    let each = keys.iter().zip(&turn.keys).zip(first);
    each.map(|((key, value), first)| {
        let rank = rank(key, *value, first.as_ref())?;
        if first.is_none() {
            first.clone_from(&rank);
        }
        Ok(rank)
    })
    .collect()
}

/// Which of two turns with these ranks comes first.
pub(super) fn order(keys: &[OrderKey], a: &[Option<Rank<'_>>], b: &[Option<Rank<'_>>]) -> Ordering {
    let each = keys.iter().zip(a.iter().zip(b));
    each.map(|(key, (a, b))| compare(a.as_ref(), b.as_ref(), key.descending))
        .find(|order| order.is_ne())
        .unwrap_or(Ordering::Equal)
}

/// The rank of one key of a turn, seen to have an order with the `first` rank of that key.
pub(super) fn rank<'a>(
    key: &OrderKey,
    value: Option<Value<'a>>,
    first: Option<&Rank<'_>>,
) -> Ran<Option<Rank<'a>>> {
    let failed = |message: String| failure(Code::ValueOrder, key.value.span, message).about(value);
    let Some(rank) = value.map(Rank::of).transpose().map_err(failed)?.flatten() else {
        return Ok(None);
    };
    if let Some(first) = first {
        first.order(&rank).map_err(|message| failed(message).advise(MIXED))?;
    }
    Ok(Some(rank))
}

/// Nothing and null come last in both directions.
fn compare(a: Option<&Rank<'_>>, b: Option<&Rank<'_>>, descending: bool) -> Ordering {
    match (a, b) {
        (Some(a), Some(b)) => {
            let order = a.order(b).unwrap_or(Ordering::Equal);
            if descending { order.reverse() } else { order }
        }
        (a, b) => a.is_none().cmp(&b.is_none()),
    }
}
