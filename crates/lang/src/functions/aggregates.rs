//! Functions that make one value of many: they skip null, and over no items give nothing, or 0 for a sum.

use std::cmp::Ordering;

use kyanite_tree::{Decimal, Kind, Value};

use super::{Call, Fault, Outcome, Run, Signature, Takes, number_fault, takes};
use crate::rank::{MIXED, Rank};
use crate::types::Type;

pub(super) const TABLE: &[Signature] = &[
    Signature {
        name: "sum",
        parameters: &[takes("items", Takes::ITEMS)],
        required: 1,
        repeats: false,
        result: Type::Number,
        summary: "The sum of the numbers; 0 over no items.",
        example: ("sum([0.1, 0.2, null])", "0.3"),
        run: Run::Values(|call| {
            let (sum, _) = total(call)?;
            Ok(Some(call.arena.number(&sum)))
        }),
    },
    Signature {
        name: "avg",
        parameters: &[takes("items", Takes::ITEMS)],
        required: 1,
        repeats: false,
        result: Type::Any,
        summary: "The mean of the numbers; nothing over no items.",
        example: ("avg([1, 2])", "1.5"),
        run: Run::Values(|call| match total(call)? {
            (_, 0) => Ok(None),
            (sum, count) => {
                let mean =
                    sum.div(&Decimal::from(count)).map_err(|error| number_fault(0, error))?;
                Ok(Some(call.arena.number(&mean)))
            }
        }),
    },
    Signature {
        name: "min",
        parameters: &[takes("items", Takes::ITEMS)],
        required: 1,
        repeats: false,
        result: Type::Any,
        summary: "The smallest number, or the first text; nothing over no items.",
        example: ("min([3, 1.5, 2])", "1.5"),
        run: Run::Values(|call| extreme(call, Ordering::Less)),
    },
    Signature {
        name: "max",
        parameters: &[takes("items", Takes::ITEMS)],
        required: 1,
        repeats: false,
        result: Type::Any,
        summary: "The greatest number, or the last text; nothing over no items.",
        example: ("max([\"brim\", \"ness\"])", "\"ness\""),
        run: Run::Values(|call| extreme(call, Ordering::Greater)),
    },
    Signature {
        name: "median",
        parameters: &[takes("items", Takes::ITEMS)],
        required: 1,
        repeats: false,
        result: Type::Any,
        summary: "The middle number, or the mean of the middle two; nothing over no items.",
        example: ("median([7, 1, 3, 2])", "2.5"),
        run: Run::Values(median),
    },
];

/// The numbers among the items, null left out.
fn numbers<'a>(call: &Call<'_, 'a>) -> impl Iterator<Item = Result<(Value<'a>, Decimal), Fault>> {
    call.items(0).iter().filter(|item| item.kind() != Kind::Null).map(|item| {
        let decimal = match item {
            Value::Number(_, number) => {
                Some(number.decimal().map_err(|error| number_fault(0, error).about(*item))?)
            }
            Value::Untyped(_, text) => Decimal::spelled(text),
            _ => None,
        };
        let decimal = decimal.ok_or_else(|| {
            Fault::new(0, format!("an item is {}, not a number", item.kind().phrase()))
                .about(*item)
                .advise("convert texts with number(), or leave the others out")
        })?;
        Ok((*item, decimal))
    })
}

fn total(call: &Call<'_, '_>) -> Result<(Decimal, i64), Fault> {
    let (mut sum, mut count) = (Decimal::ZERO, 0);
    for number in numbers(call) {
        let (item, number) = number?;
        sum = sum.add(&number).map_err(|error| number_fault(0, error).about(item))?;
        count += 1;
    }
    Ok((sum, count))
}

fn extreme<'a>(call: &Call<'_, 'a>, wanted: Ordering) -> Outcome<'a> {
    let mut best: Option<(Value<'a>, Rank<'a>)> = None;
    for item in call.items(0) {
        let failed = |message: String| Fault::new(0, message).about(*item);
        let Some(rank) = Rank::of(*item).map_err(failed)? else { continue };
        let is_better = match &best {
            None => true,
            Some((_, so_far)) => {
                rank.order(so_far).map_err(|message| failed(message).advise(MIXED))? == wanted
            }
        };
        if is_better {
            best = Some((*item, rank));
        }
    }
    Ok(best.map(|(item, _)| item))
}

fn median<'a>(call: &Call<'_, 'a>) -> Outcome<'a> {
    let mut numbers = numbers(call).collect::<Result<Vec<_>, _>>()?;
    numbers.sort_by(|(_, a), (_, b)| a.cmp(b));
    let middle = numbers.len() / 2;
    let (Some((upper_item, upper)), true) = (numbers.get(middle), numbers.len() % 2 == 0) else {
        return Ok(numbers.get(middle).map(|(item, _)| *item));
    };
    let lower = &numbers[middle - 1].1;
    let mean = lower.add(upper).and_then(|sum| sum.div(&Decimal::from(2)));
    let mean = mean.map_err(|error| number_fault(0, error).about(*upper_item))?;
    Ok(Some(call.arena.number(&mean)))
}
