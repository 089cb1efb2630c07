//! Functions on sequences, and on truth (F&O 3.1 sections 7 and 14).

use std::collections::HashSet;

use kyanite_eval::atomic::{Atomic, AtomicKey};
use kyanite_tree::Comparison;

use super::strings::{Collation, round_half_up};
use super::{
    ArgumentUse, Call, Function, Outcome, double, failed, function, integer, items, optional_item,
    text,
};
use crate::error::Error;
use crate::run::Run;
use crate::run::convert::atomize;
use crate::value::{Item, Sequence};

pub(super) const TABLE: &[Function] = &[
    function("true", &[], 0, |_| Ok(Sequence::boolean(true))).boolean().old(),
    function("false", &[], 0, |_| Ok(Sequence::boolean(false))).boolean().old(),
    function("boolean", &[items("value")], 1, |call| {
        call.argument(0).truth().map(Sequence::boolean)
    })
    .asks(ArgumentUse::Presence)
    .boolean()
    .old(),
    function("not", &[items("value")], 1, |call| {
        call.argument(0).truth().map(|truth| Sequence::boolean(!truth))
    })
    .asks(ArgumentUse::Presence)
    .boolean()
    .old(),
    function("count", &[items("items")], 1, |call| Ok(Sequence::count(call.argument(0).len())))
        .asks(ArgumentUse::Presence)
        .old(),
    function("empty", &[items("items")], 1, |call| {
        Ok(Sequence::boolean(call.argument(0).is_empty()))
    })
    .asks(ArgumentUse::Presence)
    .boolean(),
    function("exists", &[items("items")], 1, |call| {
        Ok(Sequence::boolean(!call.argument(0).is_empty()))
    })
    .asks(ArgumentUse::Presence)
    .boolean(),
    function("head", &[items("items")], 1, |call| {
        Ok(call.argument(0).first().cloned().map_or(Sequence::Empty, Sequence::One))
    }),
    function("tail", &[items("items")], 1, |call| {
        Ok(call.argument(0).items().iter().skip(1).cloned().collect())
    })
    .plural(),
    function("insert-before", &[items("items"), integer("place"), items("inserted")], 3, |call| {
        let mut all = call.argument(0).clone().into_items();
        let at = usize::try_from(call.integer(1).max(1) - 1).unwrap_or(usize::MAX).min(all.len());
        all.splice(at..at, call.argument(2).items().iter().cloned());
        Ok(Sequence::of(all))
    })
    .plural(),
    function("remove", &[items("items"), integer("place")], 2, |call| {
        let place = call.integer(1);
        let kept = call.argument(0).items().iter().enumerate();
        let kept = kept.filter(|(at, _)| i64::try_from(at + 1) != Ok(place));
        Ok(kept.map(|(_, item)| item.clone()).collect())
    })
    .plural(),
    function("reverse", &[items("items")], 1, |call| {
        Ok(call.argument(0).items().iter().rev().cloned().collect())
    })
    .plural(),
    function("subsequence", &[items("items"), double("start"), double("length")], 2, |call| {
        let start = round_half_up(call.double(1));
        let end = if call.has(2) { start + round_half_up(call.double(2)) } else { f64::INFINITY };
        let kept = call.argument(0).items().iter().enumerate().filter(|(at, _)| {
            let place = *at as f64 + 1.0;
            place >= start && place < end
        });
        Ok(kept.map(|(_, item)| item.clone()).collect())
    })
    .plural(),
    function("unordered", &[items("items")], 1, |call| Ok(call.argument(0).clone())).plural(),
    function("distinct-values", &[items("values"), text("collation")], 1, |call| {
        let collation = Collation::of(call, 1)?;
        let mut seen = HashSet::new();
        let key = |value: &Atomic<'_>| match value.as_text() {
            Some(text) => AtomicKey::of(&Atomic::string(collation.folded(text))),
            None => comparable_key(value, call.run.context.zone),
        };
        let values = atomize(call.argument(0))?.into_iter();
        Ok(values.filter(|value| seen.insert(key(value))).map(Item::Atomic).collect())
    })
    .plural(),
    function(
        "index-of",
        &[items("values"), optional_item("wanted"), text("collation")],
        2,
        |call| {
            let collation = Collation::of(call, 2)?;
            let wanted = atomize(call.argument(1))?;
            let Some(wanted) = wanted.first() else {
                return Err(failed("XPTY0004", "the value that index-of() looks for is empty"));
            };
            let values = atomize(call.argument(0))?;
            let places = values
                .iter()
                .enumerate()
                .filter(|(_, value)| are_equal(value, wanted, collation, call.run.context.zone));
            let place = |at: usize| {
                Item::Atomic(Atomic::Integer(i64::try_from(at + 1).unwrap_or(i64::MAX)))
            };
            Ok(places.map(|(at, _)| place(at)).collect())
        },
    )
    .plural(),
    function("deep-equal", &[items("a"), items("b"), text("collation")], 2, |call| {
        let collation = Collation::of(call, 2)?;
        deep_equal(call.run, call.argument(0), call.argument(1), collation).map(Sequence::boolean)
    })
    .boolean(),
    function("zero-or-one", &[items("items")], 1, |call| {
        counted(call, |n| n <= 1, "FORG0003", "one item at most")
    }),
    function("one-or-more", &[items("items")], 1, |call| {
        counted(call, |n| n >= 1, "FORG0004", "at least one item")
    })
    .plural(),
    function("exactly-one", &[items("items")], 1, |call| {
        counted(call, |n| n == 1, "FORG0005", "just one item")
    }),
];

fn counted<'d>(
    call: &Call<'_, '_, 'd>,
    is_right: fn(usize) -> bool,
    code: &'static str,
    wanted: &str,
) -> Outcome<'d> {
    let count = call.argument(0).len();
    if is_right(count) {
        return Ok(call.argument(0).clone());
    }
    Err(failed(code, format!("{wanted} is meant, and here are {count}")))
}

/// A key that two values share just where `eq` holds between them, apart from rounding of doubles.
fn comparable_key(value: &Atomic<'_>, zone: i16) -> AtomicKey {
    match value {
        // A time without a zone is in the implicit one here.
        Atomic::Time(time) if time.zone.is_none() => {
            let mut zoned = (**time).clone();
            zoned.zone = Some(zone);
            AtomicKey::of(&Atomic::time(zoned))
        }
        Atomic::Float(number) => AtomicKey::of(&Atomic::Double(f64::from(*number))),
        other => AtomicKey::of(other),
    }
}

/// Whether `eq` holds; values that cannot be compared differ.
fn are_equal(a: &Atomic<'_>, b: &Atomic<'_>, collation: Collation, zone: i16) -> bool {
    match (a.as_text(), b.as_text()) {
        (Some(a), Some(b)) => collation.folded(a) == collation.folded(b),
        _ => a.compare(Comparison::Equal, b, zone).unwrap_or(false),
    }
}

/// Whether two sequences are equal item by item, nodes by what is in them (F&O 3.1 section 14.2.1).
pub(super) fn deep_equal<'d>(
    run: &Run<'_, 'd>,
    a: &Sequence<'d>,
    b: &Sequence<'d>,
    collation: Collation,
) -> Result<bool, Error> {
    if a.len() != b.len() {
        return Ok(false);
    }
    for (a, b) in a.items().iter().zip(b.items()) {
        if !items_equal(run, a, b, collation)? {
            return Ok(false);
        }
    }
    Ok(true)
}

fn items_equal<'d>(
    run: &Run<'_, 'd>,
    a: &Item<'d>,
    b: &Item<'d>,
    collation: Collation,
) -> Result<bool, Error> {
    if let (Some(a), Some(b)) = (a.as_atomic(), b.as_atomic()) {
        let is_nan = |value: &Atomic<'_>| value.numeric().is_some_and(|n| n.double().is_nan());
        let both_nan = is_nan(&a) && is_nan(&b);
        return Ok(both_nan || are_equal(&a, &b, collation, run.context.zone));
    }
    if let (Item::Node(a), Item::Node(b)) = (a, b) {
        return Ok(nodes_equal(*a, *b, collation));
    }
    if let (Some(a), Some(_)) = (a.entries(), b.entries()) {
        let other = b;
        if other.entries().map_or(0, |entries| entries.len()) != a.len() {
            return Ok(false);
        }
        for (key, value) in &a {
            match other.entry(key) {
                Some(found) if deep_equal(run, value, &found, collation)? => {}
                _ => return Ok(false),
            }
        }
        return Ok(true);
    }
    if let (Some(a), Some(b)) = (a.members(), b.members()) {
        if a.len() != b.len() {
            return Ok(false);
        }
        for (a, b) in a.iter().zip(&b) {
            if !deep_equal(run, a, b, collation)? {
                return Ok(false);
            }
        }
        return Ok(true);
    }
    if matches!(a, Item::Function(_)) || matches!(b, Item::Function(_)) {
        return Err(failed("FOTY0015", "functions cannot be compared"));
    }
    Ok(false)
}

/// Whether two nodes are equal: comments and instructions in elements do not count.
fn nodes_equal(a: kyanite_tree::Node<'_>, b: kyanite_tree::Node<'_>, collation: Collation) -> bool {
    use kyanite_tree::{Node, NodeKind};
    let same_name = |a: Node<'_>, b: Node<'_>| {
        a.name().local() == b.name().local() && a.name().namespace() == b.name().namespace()
    };
    let same_text =
        |a: Node<'_>, b: Node<'_>| collation.folded(a.text()) == collation.folded(b.text());
    // Pairs that are still to be compared: documents may nest deeper than the program's stack.
    let mut open = vec![(a, b)];
    while let Some((a, b)) = open.pop() {
        if a.kind() != b.kind() {
            return false;
        }
        match a.kind() {
            NodeKind::Element | NodeKind::Document => {
                let mut others: Vec<_> = b.attributes().collect();
                if !same_name(a, b) || a.attributes().count() != others.len() {
                    return false;
                }
                for attribute in a.attributes() {
                    let found = others.iter().position(|other| {
                        same_name(attribute, *other) && same_text(attribute, *other)
                    });
                    match found {
                        Some(at) => others.swap_remove(at),
                        None => return false,
                    };
                }
                let counts =
                    |node: &Node<'_>| matches!(node.kind(), NodeKind::Element | NodeKind::Text);
                let (left, right): (Vec<_>, Vec<_>) =
                    (a.children().filter(counts).collect(), b.children().filter(counts).collect());
                if left.len() != right.len() {
                    return false;
                }
                open.extend(left.into_iter().zip(right));
            }
            _ => {
                if !same_name(a, b) || !same_text(a, b) {
                    return false;
                }
            }
        }
    }
    true
}
