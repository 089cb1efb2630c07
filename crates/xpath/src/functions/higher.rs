//! Functions that take functions (F&O 3.1 section 16).

use std::cmp::Ordering;
use std::rc::Rc;
use std::sync::Arc;

use kyanite_eval::atomic::{Atomic, AtomicType, QName};
use kyanite_tree::Comparison;
use kyanite_tree::nesting::{self, DEEPEST, TOO_DEEP};

use super::strings::Collation;
use super::{
    Call, Function, Library, Occurs, Outcome, atomic, callback, failed, function, integer, items,
    one_array, optional_text,
};
use crate::error::Error;
use crate::run::convert::atomize;
use crate::run::types::arity;
use crate::value::{FunctionItem, Item, Sequence};

/// What a function makes of a value and one item after another; the value comes last where the fold is from the right.
///
/// # Errors
/// Those of the function, and `XPDY0130` where the value is nested too deep to be gone through.
pub(super) fn fold<'d>(
    call: &Call<'_, '_, 'd>,
    items: impl Iterator<Item = Sequence<'d>>,
    from_right: bool,
) -> Outcome<'d> {
    let mut value = call.argument(1).clone();
    for (step, item) in (1..).zip(items) {
        let arguments = if from_right { vec![item, value] } else { vec![value, item] };
        value = call.apply(2, arguments)?;
        if nesting::is_due(step) && value.depth(DEEPEST) > DEEPEST {
            let message = format!("the value is {TOO_DEEP}");
            return Err(failed("XPDY0130", message).advise("put values beside each other"));
        }
    }
    Ok(value)
}

pub(super) const TABLE: &[Function] = &[
    function("function-name", &[callback("function")], 1, |call| {
        let Item::Function(item) = call.item(0)? else { return Ok(Sequence::Empty) };
        let FunctionItem::Named(function, ..) = &**item else { return Ok(Sequence::Empty) };
        let (prefix, namespace) = match function.library {
            Library::Fn => ("fn", crate::FN),
            Library::Map => ("map", crate::MAP),
            Library::Array => ("array", crate::ARRAY),
            Library::Math => ("math", crate::MATH),
            Library::Xs => ("xs", crate::XS),
        };
        let name = QName {
            prefix: prefix.into(),
            namespace: namespace.into(),
            local: function.name.into(),
        };
        Ok(Sequence::atomic(Atomic::QName(Arc::new(name))))
    }),
    function("function-arity", &[callback("function")], 1, |call| {
        Ok(Sequence::count(match call.item(0)? {
            Item::Function(item) => arity(item),
            _ => 1,
        }))
    }),
    function(
        "function-lookup",
        &[atomic("name", AtomicType::QName, Occurs::One), integer("arity")],
        2,
        |call| {
            let Some(Atomic::QName(name)) = call.atomic(0) else { return Ok(Sequence::Empty) };
            let library = match name.namespace.as_str() {
                crate::FN => Library::Fn,
                crate::MAP => Library::Map,
                crate::ARRAY => Library::Array,
                crate::MATH => Library::Math,
                _ => return Ok(Sequence::Empty),
            };
            let count = usize::try_from(call.integer(1)).unwrap_or(usize::MAX);
            let found = super::find(library, &name.local).filter(|function| function.takes(count));
            Ok(found.map_or(Sequence::Empty, |function| {
                let named = FunctionItem::Named(function, count, call.focus.cloned());
                Sequence::One(Item::Function(Rc::new(named)))
            }))
        },
    ),
    function("for-each", &[items("items"), callback("action")], 2, |call| {
        let mut all = Vec::new();
        for item in call.argument(0).items() {
            all.extend(call.apply(1, vec![Sequence::One(item.clone())])?.into_items());
        }
        Ok(Sequence::of(all))
    })
    .plural(),
    function("filter", &[items("items"), callback("holds")], 2, |call| {
        let mut kept = Vec::new();
        for item in call.argument(0).items() {
            if boolean(&call.apply(1, vec![Sequence::One(item.clone())])?)? {
                kept.push(item.clone());
            }
        }
        Ok(Sequence::of(kept))
    })
    .plural(),
    function("fold-left", &[items("items"), items("start"), callback("action")], 3, |call| {
        fold(call, call.argument(0).items().iter().cloned().map(Sequence::One), false)
    })
    .plural(),
    function("fold-right", &[items("items"), items("start"), callback("action")], 3, |call| {
        fold(call, call.argument(0).items().iter().rev().cloned().map(Sequence::One), true)
    })
    .plural(),
    function("for-each-pair", &[items("items"), items("others"), callback("action")], 3, |call| {
        let mut all = Vec::new();
        for (a, b) in call.argument(0).items().iter().zip(call.argument(1).items()) {
            let values = vec![Sequence::One(a.clone()), Sequence::One(b.clone())];
            all.extend(call.apply(2, values)?.into_items());
        }
        Ok(Sequence::of(all))
    })
    .plural(),
    function("sort", &[items("items"), optional_text("collation"), callback("key")], 1, |call| {
        let all: Vec<_> = call.argument(0).items().iter().cloned().map(Sequence::One).collect();
        let keys = sort_keys(call, &all)?;
        let sorted = sorted_by(call, all, keys)?;
        Ok(sorted.into_iter().flat_map(Sequence::into_items).collect())
    })
    .plural(),
    function("apply", &[callback("function"), one_array("arguments")], 2, |call| {
        let arguments = call.item(1)?.members().unwrap_or_default();
        let wanted = match call.item(0)? {
            Item::Function(item) => arity(item),
            _ => 1,
        };
        if wanted != arguments.len() {
            let message =
                format!("a function of {wanted} arguments is applied to {}", arguments.len());
            return Err(failed("FOAP0001", message));
        }
        call.apply(0, arguments)
    })
    .plural(),
];

/// The boolean that a function for filtering gave.
pub(super) fn boolean(value: &Sequence<'_>) -> Result<bool, Error> {
    match value.only().and_then(Item::as_atomic) {
        Some(Atomic::Boolean(holds)) => Ok(holds),
        Some(untyped @ Atomic::Untyped(_)) => {
            Ok(matches!(untyped.cast(AtomicType::Boolean)?, Atomic::Boolean(true)))
        }
        _ => Err(failed("XPTY0004", "a function that filters gives true or false")),
    }
}

/// The keys that values are sorted by: what the third argument makes of them, else they themselves.
pub(super) fn sort_keys<'d>(
    call: &Call<'_, '_, 'd>,
    values: &[Sequence<'d>],
) -> Result<Vec<Vec<Atomic<'d>>>, Error> {
    let key = |value: &Sequence<'d>| {
        let key = if call.has(2) { call.apply(2, vec![value.clone()])? } else { value.clone() };
        atomize(&key)
    };
    values.iter().map(key).collect()
}

/// Values in the order of their keys; those with equal keys stay as they are (F&O 3.1 section 16.2.6).
pub(super) fn sorted_by<'d>(
    call: &Call<'_, '_, 'd>,
    values: Vec<Sequence<'d>>,
    keys: Vec<Vec<Atomic<'d>>>,
) -> Result<Vec<Sequence<'d>>, Error> {
    let collation = Collation::of(call, 1)?;
    let mut pairs: Vec<_> = values.into_iter().zip(keys).collect();
    let mut wrong = None;
    pairs.sort_by(|(_, a), (_, b)| {
        for (a, b) in a.iter().zip(b) {
            match order(a, b, collation, call.run.context.zone) {
                Ok(Ordering::Equal) => {}
                Ok(order) => return order,
                Err(error) => {
                    wrong.get_or_insert(error);
                    return Ordering::Equal;
                }
            }
        }
        a.len().cmp(&b.len())
    });
    match wrong {
        Some(error) => Err(error),
        None => Ok(pairs.into_iter().map(|(value, _)| value).collect()),
    }
}

fn order(
    a: &Atomic<'_>,
    b: &Atomic<'_>,
    collation: Collation,
    zone: i16,
) -> Result<Ordering, Error> {
    if let (Some(a), Some(b)) = (a.as_text(), b.as_text()) {
        return Ok(collation.folded(a).cmp(&collation.folded(b)));
    }
    if let (Some(x), Some(y)) = (a.numeric(), b.numeric()) {
        // NaN is less than all others.
        let is_nan = |n: &kyanite_eval::atomic::Numeric| n.double().is_nan();
        match (is_nan(&x), is_nan(&y)) {
            (true, true) => return Ok(Ordering::Equal),
            (true, false) => return Ok(Ordering::Less),
            (false, true) => return Ok(Ordering::Greater),
            _ => {}
        }
    }
    if a.compare(Comparison::Less, b, zone)? {
        Ok(Ordering::Less)
    } else if a.compare(Comparison::Greater, b, zone)? {
        Ok(Ordering::Greater)
    } else {
        Ok(Ordering::Equal)
    }
}
