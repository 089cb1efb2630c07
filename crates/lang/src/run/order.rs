//! `order by`: tuples put in order, stably.

use std::cmp::Ordering;

use kyanite_tree::{Code, Value};

use super::tuples::Tuple;
use crate::functions::MIXED;
use crate::plan::OrderKey;
use crate::rule_error::{RunResult, rule_error};
use kyanite_eval::rank::Rank;

/// Sorts tuples by their keys: numbers by value, texts by Unicode scalar, nothing and null last.
pub(super) fn sort<'a>(keys: &[OrderKey], tuples: &mut Vec<Tuple<'a>>) -> RunResult<()> {
    let mut first: Vec<Option<Rank<'a>>> = Vec::new();
    let mut ranked = Vec::with_capacity(tuples.len() * keys.len());
    for tuple in tuples.iter() {
        add_ranks(keys, tuple.keys.iter().copied(), &mut first, &mut ranked)?;
    }
    let places = places(keys, &ranked);
    let mut moved: Vec<Option<Tuple<'a>>> = tuples.drain(..).map(Some).collect();
    tuples.extend(places.into_iter().filter_map(|place| moved[place].take()));
    Ok(())
}

/// The numbers of tuples with these ranks, one behind the other, in order; of those that are equal the first comes first.
pub(super) fn places(keys: &[OrderKey], ranked: &[Option<Rank<'_>>]) -> Vec<usize> {
    let each = keys.len().max(1);
    // Nearly always the beginning of the first key tells, and what is moved about is small.
    let begin = |ranks: &[Option<Rank<'_>>]| {
        let first = keys.first().zip(ranks.first());
        first.map_or(0, |(key, rank)| begin(rank.as_ref(), key.descending))
    };
    let mut places: Vec<(u128, usize)> = ranked.chunks(each).map(begin).zip(0..).collect();
    let ranks = |number: usize| &ranked[number * each..(number + 1) * each];
    places.sort_unstable_by(|(a, own), (b, other)| {
        let whole = || order(keys, ranks(*own), ranks(*other));
        a.cmp(b).then_with(whole).then(own.cmp(other))
    });
    places.into_iter().map(|(_, place)| place).collect()
}

/// The bytes of a text that the beginning of its rank has.
const BEGIN: usize = 15;

/// Digits behind the point of a number that the beginning of its rank has.
const PLACES: u32 = 9;

/// A number that is less for one rank than for another only if that comes first: of a text its first bytes, of a number what is in front
/// of the point and some digits behind it.
fn begin(rank: Option<&Rank<'_>>, descending: bool) -> u128 {
    const MOST: u128 = (1 << (8 * BEGIN)) - 1;
    const MIDDLE: i128 = 1 << (8 * BEGIN - 1);
    let begin = match rank {
        // Behind all others, in both directions.
        None => return u128::MAX,
        Some(Rank::Text(text)) => {
            let mut bytes = [0; size_of::<u128>()];
            let length = text.len().min(BEGIN);
            bytes[1..=length].copy_from_slice(&text.as_bytes()[..length]);
            u128::from_be_bytes(bytes)
        }
        Some(Rank::Number(number)) => {
            let outermost = if number.signum() < 0 { i128::MIN } else { i128::MAX };
            let units = number.floor_units(PLACES).unwrap_or(outermost);
            (units.clamp(-MIDDLE, MIDDLE - 1) + MIDDLE).cast_unsigned()
        }
    };
    if descending { MOST - begin } else { begin }
}

/// The ranks of the values that a tuple has for its keys, seen to have an order with those of the first tuple that had any.
pub(super) fn ranks<'a>(
    keys: &[OrderKey],
    values: impl IntoIterator<Item = Option<Value<'a>>>,
    first: &mut Vec<Option<Rank<'a>>>,
) -> RunResult<Vec<Option<Rank<'a>>>> {
    let mut ranked = Vec::with_capacity(keys.len());
    add_ranks(keys, values, first, &mut ranked)?;
    Ok(ranked)
}

/// Adds these ranks to those of other tuples.
pub(super) fn add_ranks<'a>(
    keys: &[OrderKey],
    values: impl IntoIterator<Item = Option<Value<'a>>>,
    first: &mut Vec<Option<Rank<'a>>>,
    ranked: &mut Vec<Option<Rank<'a>>>,
) -> RunResult<()> {
    first.resize(keys.len(), None);
    for ((key, value), first) in keys.iter().zip(values).zip(first) {
        let rank = rank(key, value, first.as_ref())?;
        if first.is_none() {
            first.clone_from(&rank);
        }
        ranked.push(rank);
    }
    Ok(())
}

/// Which of two tuples with these ranks comes first.
pub(super) fn order(keys: &[OrderKey], a: &[Option<Rank<'_>>], b: &[Option<Rank<'_>>]) -> Ordering {
    let each = keys.iter().zip(a.iter().zip(b));
    each.map(|(key, (a, b))| compare(a.as_ref(), b.as_ref(), key.descending))
        .find(|order| order.is_ne())
        .unwrap_or(Ordering::Equal)
}

/// The rank of one key of a tuple, seen to have an order with the `first` rank of that key.
pub(super) fn rank<'a>(
    key: &OrderKey,
    value: Option<Value<'a>>,
    first: Option<&Rank<'_>>,
) -> RunResult<Option<Rank<'a>>> {
    let failed =
        |message: String| rule_error(Code::ValueOrder, key.value.span, message).about(value);
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

#[cfg(test)]
mod tests {
    use kyanite_tree::{Arena, Number};
    use proptest::prelude::*;

    use super::*;

    /// Two numbers or two texts, or nothing in place of one.
    fn keys() -> impl Strategy<Value = (String, String)> {
        let number = prop_oneof![
            "-?[0-9]{1,3}(\\.[0-9]{1,2})?",
            "-?[1-9][0-9]{15,24}(\\.5)?",
            "-?922337203685477580[6-9](\\.1)?",
            "-?66461399789245793645190353[0-9]{10}(\\.5)?",
            "-?0\\.00000000[0-9]{1,4}",
            "-?[1-9]e-?[0-9]{1,2}",
            ""
        ];
        let text = prop_oneof!["\"[ab\u{0}é]{0,3}", "\"ports and vess[a-c]{0,3}\u{0}?", ""];
        let texts = (text.clone(), text);
        prop_oneof![(number.clone(), number), texts]
    }

    proptest! {
        /// Where the beginnings of two ranks differ, so do the ranks.
        #[test]
        fn beginnings((a, b) in keys(), descending in any::<bool>()) {
            let arena = Arena::new();
            let value = |text: &str| match text.strip_prefix('"') {
                Some(text) => Value::text(arena.text(text)),
                None => Number::parse(arena.text(text)).map_or(Value::NULL, Value::number),
            };
            let ranks = [&a, &b].map(|text| Rank::of(value(text)).unwrap());
            let [first, second] = &ranks;
            let begins = begin(first.as_ref(), descending).cmp(&begin(second.as_ref(), descending));
            let order = compare(first.as_ref(), second.as_ref(), descending);
            prop_assert!(begins.is_eq() || begins == order, "{:?} {:?}", begins, order);
        }
    }
}
