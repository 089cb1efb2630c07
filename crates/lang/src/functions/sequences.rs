//! Functions that put the items of lists in another order or shape.

use kyanite_tree::{MapBuilder, Origin, Value, equal};

use super::{Call, CallError, Outcome, ParameterTypes, Run, Signature, takes};
use crate::functions::MIXED;
use crate::types::Type;
use kyanite_eval::rank::Rank;

pub(super) const TABLE: &[Signature] = &[
    Signature {
        name: "reverse",
        parameters: &[takes("items", ParameterTypes::ITEMS)],
        required: 1,
        repeats: false,
        result: Type::List,
        summary: "The items from the last to the first.",
        example: ("reverse([1, 2])", "[2,1]"),
        run: Run::Values(|call| {
            let mut items = call.items(0).to_vec();
            items.reverse();
            Ok(Some(call.arena.list(&items)))
        }),
    },
    Signature {
        name: "sort",
        parameters: &[takes("items", ParameterTypes::ITEMS)],
        required: 1,
        repeats: false,
        result: Type::List,
        summary: "The items in order: numbers by value, or texts by Unicode scalar; nulls, empty cells and elements last.",
        example: ("sort([10, 9, 9.5])", "[9,9.5,10]"),
        run: Run::Values(sort),
    },
    Signature {
        name: "flatten",
        parameters: &[takes("items", ParameterTypes::ITEMS)],
        required: 1,
        repeats: false,
        result: Type::List,
        summary: "The items, those of lists among them in place of the lists; one level.",
        example: ("flatten([1, [2, [3]]])", "[1,2,[3]]"),
        run: Run::Values(|call| {
            let mut items = Vec::new();
            for item in call.items(0) {
                match item {
                    Value::List(_, inner) => items.extend_from_slice(inner),
                    other => items.push(*other),
                }
            }
            Ok(Some(call.arena.list(&items)))
        }),
    },
    Signature {
        name: "range",
        parameters: &[takes("from", ParameterTypes::NUMBER), takes("to", ParameterTypes::NUMBER)],
        required: 2,
        repeats: false,
        result: Type::List,
        summary: "The whole numbers from the first up to, but not including, the second.",
        example: ("range(1, 4)", "[1,2,3]"),
        run: Run::Values(range),
    },
    Signature {
        name: "index_of",
        parameters: &[takes("items", ParameterTypes::ITEMS), takes("item", ParameterTypes::VALUE)],
        required: 2,
        repeats: false,
        result: Type::Any,
        summary: "The position of the first equal item, from 0; nothing when there is none.",
        example: ("index_of([\"ness\", \"holm\"], \"holm\")", "1"),
        run: Run::Values(|call| {
            let Some(wanted) = call.argument(1) else { return Ok(None) };
            let found = call.items(0).iter().position(|item| equal(*item, wanted));
            Ok(found.map(|position| call.arena.integer(position as i64)))
        }),
    },
    Signature {
        name: "chunk",
        parameters: &[takes("items", ParameterTypes::ITEMS), takes("size", ParameterTypes::NUMBER)],
        required: 2,
        repeats: false,
        result: Type::List,
        summary: "The items in lists of that many; the last may be shorter.",
        example: ("chunk([1, 2, 3], 2)", "[[1,2],[3]]"),
        run: Run::Values(|call| {
            let size = whole(call, 1, 1)?;
            let chunks: Vec<_> =
                call.items(0).chunks(size as usize).map(|chunk| call.arena.list(chunk)).collect();
            Ok(Some(call.arena.list(&chunks)))
        }),
    },
    Signature {
        name: "pairs",
        parameters: &[takes("map", ParameterTypes::MAP)],
        required: 1,
        repeats: false,
        result: Type::List,
        summary: "The members of a map as a list of maps with `name` and `value` (RFC 8259 section 4).",
        example: ("pairs({a: 1})", "[{\"name\":\"a\",\"value\":1}]"),
        run: Run::Values(|call| {
            let members = call.argument(0).and_then(Value::as_map).map(|map| map.members());
            let pairs: Vec<_> = members
                .unwrap_or_default()
                .iter()
                .map(|m| call.arena.map([("name", Value::text(m.name)), ("value", m.value)]))
                .collect();
            Ok(Some(call.arena.list(&pairs)))
        }),
    },
    Signature {
        name: "map_of",
        parameters: &[takes("pairs", ParameterTypes::ITEMS)],
        required: 1,
        repeats: false,
        result: Type::Map,
        summary: "The map of a list of maps with `name` and `value`; a name that comes twice is an error.",
        example: ("map_of([{name: \"a\", value: 1}])", "{\"a\":1}"),
        run: Run::Values(map_of),
    },
    Signature {
        name: "rename",
        parameters: &[takes("map", ParameterTypes::MAP), takes("names", ParameterTypes::MAP)],
        required: 2,
        repeats: false,
        result: Type::Map,
        summary: "The map with members renamed, by a map of old names to new ones.",
        example: ("rename({a: 1, b: 2}, {a: \"c\"})", "{\"c\":1,\"b\":2}"),
        run: Run::Values(rename),
    },
];

/// A whole number of at least `least`.
pub(super) fn whole(call: &Call<'_, '_>, position: usize, least: i64) -> Result<i64, CallError> {
    let number = call.argument(position).and_then(Value::as_number);
    number.and_then(|number| number.as_integer()).filter(|number| *number >= least).ok_or_else(
        || CallError::new(position, format!("this has to be a whole number from {least} on")),
    )
}

fn sort<'a>(call: &Call<'_, 'a>) -> Outcome<'a> {
    let mut ranked = Vec::new();
    let mut nulls = Vec::new();
    for item in call.items(0) {
        let failed = |message: String| CallError::new(0, message).about(*item).advise(MIXED);
        match Rank::of(*item).map_err(failed)? {
            Some(rank) => {
                if let Some((first, _)) = ranked.first() {
                    rank.order(first).map_err(failed)?;
                }
                ranked.push((rank, *item));
            }
            None => nulls.push(*item),
        }
    }
    ranked.sort_by(|(a, _), (b, _)| a.order(b).unwrap_or(std::cmp::Ordering::Equal));
    let mut items: Vec<_> = ranked.into_iter().map(|(_, item)| item).collect();
    items.extend(nulls);
    Ok(Some(call.arena.list(&items)))
}

/// The most items that a range may have.
const MOST: i64 = 10_000_000;

fn range<'a>(call: &Call<'_, 'a>) -> Outcome<'a> {
    let (from, to) = (whole(call, 0, i64::MIN)?, whole(call, 1, i64::MIN)?);
    if to.saturating_sub(from) > MOST {
        return Err(CallError::new(1, format!("this range has more than {MOST} numbers")));
    }
    let items: Vec<_> = (from..to).map(|number| call.arena.integer(number)).collect();
    Ok(Some(call.arena.list(&items)))
}

fn map_of<'a>(call: &Call<'_, 'a>) -> Outcome<'a> {
    let mut builder = MapBuilder::new();
    for pair in call.items(0) {
        let name = pair.member("name").map(Value::simple).and_then(Value::as_text);
        let (Some(name), Some(value)) = (name, pair.member("value")) else {
            let advice = match pair.member("key") {
                Some(_) => "the member that has the name is called `name`: {name: \"a\", value: 1}",
                None => "give maps such as {name: \"a\", value: 1}",
            };
            let fault = CallError::new(0, "an item has no text `name` and no `value`");
            return Err(fault.about(*pair).advise(advice));
        };
        if builder.insert(name, value).is_some() {
            let message = format!("the name `{name}` comes twice");
            return Err(CallError::new(0, message).about(*pair).advise("group by the name first"));
        }
    }
    Ok(Some(Value::Map(Origin::NONE, builder.finish(call.arena))))
}

fn rename<'a>(call: &Call<'_, 'a>) -> Outcome<'a> {
    let map = |position| call.argument(position).and_then(Value::as_map);
    if let (Some(renamed), Some(names)) = (map(0), map(1)) {
        let mut names = names.members().iter().map(|member| member.name);
        call.remarks.named(call.span, "rename", &mut names, renamed);
    }
    let mut builder = MapBuilder::new();
    for member in map(0).map(|map| map.members()).unwrap_or_default() {
        let name = match map(1).and_then(|names| names.get(member.name)) {
            None => member.name,
            Some(new) => new.simple().as_text().ok_or_else(|| {
                CallError::new(1, format!("the new name of `{}` is no text", member.name))
                    .about(new)
            })?,
        };
        if builder.insert(name, member.value).is_some() {
            return Err(CallError::new(1, format!("two members would be called `{name}`")));
        }
    }
    Ok(Some(Value::Map(Origin::NONE, builder.finish(call.arena))))
}
