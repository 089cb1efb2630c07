//! Functions on numbers, and aggregates (F&O 3.1 sections 4 and 14.4).

use kyanite_eval::atomic::{Arithmetic, Atomic, AtomicType, Numeric};
use kyanite_eval::{number, picture};
use kyanite_tree::{Comparison, Decimal};

use super::strings::{Collation, round_half_up};
use super::{
    ArgumentUse, Call, Function, Occurs, Outcome, atomic, failed, function, integer, items,
    optional_item, optional_text, text,
};
use crate::error::Error;
use crate::run::convert::{atomize, old_number};
use crate::value::{Item, Sequence};

const fn numeric() -> super::Parameter {
    atomic("number", AtomicType::Numeric, Occurs::Optional)
}

pub(super) const TABLE: &[Function] = &[
    function("number", &[optional_item("value")], 0, to_number)
        .contextual()
        .asks(ArgumentUse::Value)
        .old(),
    function("abs", &[numeric()], 1, |call| changed(call, |n| Ok(n.abs()), f64::abs)),
    function("ceiling", &[numeric()], 1, |call| changed(call, Decimal::ceiling, f64::ceil)).old(),
    function("floor", &[numeric()], 1, |call| changed(call, Decimal::floor, f64::floor)).old(),
    function("round", &[numeric(), integer("precision")], 1, round).old(),
    function("round-half-to-even", &[numeric(), integer("precision")], 1, round_to_even),
    function(
        "format-integer",
        &[
            atomic("number", AtomicType::Integer, Occurs::Optional),
            text("picture"),
            optional_text("language"),
        ],
        2,
        |call| {
            let Some(number) = call.atomic(0).and_then(|a| a.exact()) else {
                return Ok(Sequence::text(""));
            };
            Ok(Sequence::text(picture::integer::format(&number, &call.text(1))?))
        },
    ),
    function("format-number", &[numeric(), text("picture"), optional_text("format")], 2, |call| {
        if call.optional_text(2).is_some() {
            let message = format!("there is no decimal format {:?}", &*call.text(2));
            return Err(failed("FODF1280", message).advise("leave it out for the usual one"));
        }
        let number = call.atomic(0).and_then(|a| a.numeric()).unwrap_or(Numeric::Double(f64::NAN));
        Ok(Sequence::text(picture::number::format(&number, &call.text(1))?))
    }),
    function("sum", &[items("values"), optional_item("zero")], 1, sum)
        .asks(ArgumentUse::Value)
        .old(),
    function("avg", &[items("values")], 1, |call| {
        let values = computable(&atomize(call.argument(0))?)?;
        let count = values.len();
        match total(call, values)? {
            None => Ok(Sequence::Empty),
            Some(total) => {
                let count = Atomic::Integer(i64::try_from(count).unwrap_or(i64::MAX));
                Ok(Sequence::atomic(total.compute(Arithmetic::Divide, &count, 0)?))
            }
        }
    })
    .asks(ArgumentUse::Value),
    function("max", &[items("values"), text("collation")], 1, |call| {
        extreme(call, Comparison::Greater)
    })
    .asks(ArgumentUse::Value),
    function("min", &[items("values"), text("collation")], 1, |call| {
        extreme(call, Comparison::Less)
    })
    .asks(ArgumentUse::Value),
];

fn to_number<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let value = call.or_context(0)?;
    if call.run.is_old() {
        return Ok(Sequence::atomic(Atomic::Double(old_number(&value)?)));
    }
    let double = match atomize(&value)?.as_slice() {
        [one] => one.cast(AtomicType::Double).unwrap_or(Atomic::Double(f64::NAN)),
        _ => Atomic::Double(f64::NAN),
    };
    Ok(Sequence::atomic(double))
}

fn changed<'d>(
    call: &Call<'_, '_, 'd>,
    exact: fn(&Decimal) -> Result<Decimal, kyanite_tree::DecimalError>,
    double: fn(f64) -> f64,
) -> Outcome<'d> {
    let Some(number) = call.atomic(0).and_then(|a| a.numeric()) else {
        return Ok(Sequence::Empty);
    };
    Ok(Sequence::atomic(number.map(exact, double)?.into_atomic()))
}

/// Rounds to digits behind the point, a half upwards (F&O 3.1 section 4.4.4).
fn round<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let precision = if call.has(1) { call.integer(1) } else { 0 };
    rounded(call, precision, round_half_up, |number| {
        let half = Decimal::parse("0.5").ok()?;
        number.add(&half).ok()?.floor().ok()
    })
}

fn round_to_even<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let precision = if call.has(1) { call.integer(1) } else { 0 };
    rounded(call, precision, f64::round_ties_even, |number| picture::number::half_even(number, 0))
}

fn rounded<'d>(
    call: &Call<'_, '_, 'd>,
    precision: i64,
    plain: fn(f64) -> f64,
    whole: fn(&Decimal) -> Option<Decimal>,
) -> Outcome<'d> {
    let Some(number) = call.atomic(0).and_then(|a| a.numeric()) else {
        return Ok(Sequence::Empty);
    };
    // Beyond these no double has digits, and no decimal is held.
    let precision = precision.clamp(-10_000, 10_000);
    let exact = |number: &Decimal| {
        let shift = |places: i64| Decimal::parse(&format!("1e{places}")).ok();
        let scaled = number.mul(&shift(precision)?).ok()?;
        whole(&scaled)?.mul(&shift(-precision)?).ok()
    };
    let double = |number: f64| {
        if precision == 0 || !number.is_finite() || number == 0.0 {
            return plain(number);
        }
        let rounded = number::decimal_of(number).and_then(|n| exact(&n));
        rounded.map_or(number, |n| {
            let double = number::double_of(&n);
            if double == 0.0 && number.is_sign_negative() { -0.0 } else { double }
        })
    };
    let too_large = |number: &Decimal| match exact(number) {
        Some(rounded) => Ok(rounded),
        // It has fewer places than are asked for.
        None if precision > 0 => Ok(number.clone()),
        // It has fewer digits than are rounded off.
        None if (number.to_string().len() as i64) < -precision => Ok(Decimal::ZERO),
        None => Err(kyanite_tree::DecimalError::TooLarge),
    };
    Ok(Sequence::atomic(number.map(too_large, double)?.into_atomic()))
}

/// Values of which text without a type is a double.
fn computable<'d>(values: &[Atomic<'d>]) -> Result<Vec<Atomic<'d>>, Error> {
    let typed = |value: &Atomic<'d>| match value {
        Atomic::Untyped(_) => Ok(value.cast(AtomicType::Double)?),
        Atomic::Duration(d) if d.kind.is_ordered() => Ok(value.clone()),
        other if other.numeric().is_some() => Ok(value.clone()),
        other => {
            let message = format!("an {} cannot be added up", other.atomic_type().name());
            Err(failed("FORG0006", message))
        }
    };
    values.iter().map(typed).collect()
}

fn total<'d>(
    call: &Call<'_, '_, 'd>,
    values: Vec<Atomic<'d>>,
) -> Result<Option<Atomic<'d>>, Error> {
    let mut values = values.into_iter();
    let Some(mut total) = values.next() else { return Ok(None) };
    for value in values {
        total = total.compute(Arithmetic::Add, &value, call.run.context.zone).map_err(|error| {
            failed("FORG0006", format!("the values do not add up: {}", error.message))
        })?;
    }
    Ok(Some(total))
}

fn sum<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    if call.run.is_old() {
        let mut sum = 0.0;
        for item in call.argument(0).items() {
            sum += old_number(&Sequence::One(item.clone()))?;
        }
        return Ok(Sequence::atomic(Atomic::Double(sum)));
    }
    let values = computable(&atomize(call.argument(0))?)?;
    match total(call, values)? {
        Some(total) => Ok(Sequence::atomic(total)),
        None if call.has(1) => Ok(call.argument(1).clone()),
        None => Ok(Sequence::atomic(Atomic::Integer(0))),
    }
}

/// The greatest or the least value (F&O 3.1 section 14.4.3).
fn extreme<'d>(call: &Call<'_, '_, 'd>, how: Comparison) -> Outcome<'d> {
    let collation = Collation::of(call, 1)?;
    let mut values = atomize(call.argument(0))?;
    for value in &mut values {
        if matches!(value, Atomic::Untyped(_)) {
            *value = value.cast(AtomicType::Double)?;
        }
    }
    // Numbers are compared, and given, in the widest of their types.
    let widest = values.iter().map(Atomic::atomic_type).fold(None, |widest, of| {
        let rank = |of: AtomicType| match of {
            AtomicType::Integer => 1,
            AtomicType::Decimal => 2,
            AtomicType::Float => 3,
            AtomicType::Double => 4,
            _ => 0,
        };
        match widest {
            Some(known) if rank(known) >= rank(of) => Some(known),
            _ => Some(of),
        }
    });
    if let Some(widest) = widest.filter(|of| of.is_numeric()) {
        for value in &mut values {
            if value.numeric().is_none() {
                let message = format!("an {} is among numbers", value.atomic_type().name());
                return Err(failed("FORG0006", message));
            }
            *value = value.cast(widest)?;
        }
        let is_nan = |value: &&Atomic<'d>| value.numeric().is_some_and(|n| n.double().is_nan());
        if let Some(nan) = values.iter().find(is_nan) {
            return Ok(Sequence::atomic(nan.clone()));
        }
    }
    let mut values = values.into_iter();
    let Some(mut best) = values.next() else { return Ok(Sequence::Empty) };
    let unordered = |best: &Atomic<'d>| {
        let is_ordered = match best {
            Atomic::QName(_) => false,
            Atomic::Duration(duration) => duration.kind.is_ordered(),
            _ => true,
        };
        is_ordered.then_some(()).ok_or_else(|| {
            failed("FORG0006", format!("values of an {} have no order", best.atomic_type().name()))
        })
    };
    unordered(&best)?;
    for value in values {
        let is_better = match (value.as_text(), best.as_text()) {
            (Some(a), Some(b)) => how.holds(Some(collation.folded(a).cmp(&collation.folded(b)))),
            _ => value.compare(how, &best, call.run.context.zone).map_err(|error| {
                failed("FORG0006", format!("the values have no common order: {}", error.message))
            })?,
        };
        if is_better {
            best = value;
        }
    }
    // A URI among texts is a text.
    if let Atomic::AnyUri(text) = best {
        best = Atomic::String(text);
    }
    Ok(Sequence::One(Item::Atomic(best)))
}
