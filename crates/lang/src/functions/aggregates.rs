//! Functions that make one value of many: they skip null and empty cells, and over no items give nothing, or 0 for a sum.

use kyanite_tree::Decimal;

use super::{
    Call, CallError, Outcome, ParameterTypes, Run, Signature, is_present, number_fault, takes,
};
use crate::types::Type;
use kyanite_eval::accumulator::{Aggregate, number};

pub(super) const TABLE: &[Signature] = &[
    Signature {
        name: "sum",
        parameters: &[takes("items", ParameterTypes::ITEMS)],
        required: 1,
        repeats: false,
        result: Type::Number,
        summary: "The sum of the numbers; 0 over no items.",
        example: ("sum([0.1, 0.2, null])", "0.3"),
        run: Run::Fold(Aggregate::Sum),
    },
    Signature {
        name: "avg",
        parameters: &[takes("items", ParameterTypes::ITEMS)],
        required: 1,
        repeats: false,
        result: Type::Any,
        summary: "The mean of the numbers; nothing over no items.",
        example: ("avg([1, 2])", "1.5"),
        run: Run::Fold(Aggregate::Mean),
    },
    Signature {
        name: "min",
        parameters: &[takes("items", ParameterTypes::ITEMS)],
        required: 1,
        repeats: false,
        result: Type::Any,
        summary: "The smallest number, or the first text; nothing over no items.",
        example: ("min([3, 1.5, 2])", "1.5"),
        run: Run::Fold(Aggregate::Least),
    },
    Signature {
        name: "max",
        parameters: &[takes("items", ParameterTypes::ITEMS)],
        required: 1,
        repeats: false,
        result: Type::Any,
        summary: "The greatest number, or the last text; nothing over no items.",
        example: ("max([\"brim\", \"ness\"])", "\"ness\""),
        run: Run::Fold(Aggregate::Greatest),
    },
    Signature {
        name: "median",
        parameters: &[takes("items", ParameterTypes::ITEMS)],
        required: 1,
        repeats: false,
        result: Type::Any,
        summary: "The middle number, or the mean of the middle two; nothing over no items.",
        example: ("median([7, 1, 3, 2])", "2.5"),
        run: Run::Values(median),
    },
];

fn median<'a>(call: &Call<'_, 'a>) -> Outcome<'a> {
    let items = call.items(0).iter().filter(|item| is_present(Some(**item)));
    let mut numbers =
        items.map(|item| Ok((*item, number(*item)?))).collect::<Result<Vec<_>, CallError>>()?;
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
