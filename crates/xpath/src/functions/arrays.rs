//! Functions on arrays (F&O 3.1 section 17.3).

use kyanite_eval::atomic::{Atomic, AtomicType};

use super::higher::{fold, sort_keys, sorted_by};
use super::{
    Call, Function, Library, Occurs, Outcome, What, atomic, callback, failed, function, integer,
    items, one_array, optional_text, takes,
};
use crate::error::Error;
use crate::value::{Item, Sequence, array_of};

const ARRAY: super::Parameter = one_array("array");

const fn place() -> super::Parameter {
    integer("place")
}

pub(super) const TABLE: &[Function] = &[
    function("size", &[ARRAY], 1, |call| {
        Ok(Sequence::count(call.item(0)?.size().unwrap_or_default()))
    })
    .within(Library::Array),
    function("get", &[ARRAY, place()], 2, |call| {
        call.run.at_key(call.item(0)?, &Atomic::Integer(call.integer(1)))
    })
    .plural()
    .within(Library::Array),
    function("put", &[ARRAY, place(), items("member")], 3, |call| {
        let mut members = members(call)?;
        let at = index(call, 1, members.len())?;
        members[at] = call.argument(2).clone();
        made(members)
    })
    .within(Library::Array),
    function("append", &[ARRAY, items("member")], 2, |call| {
        let mut members = members(call)?;
        members.push(call.argument(1).clone());
        made(members)
    })
    .within(Library::Array),
    function("subarray", &[ARRAY, place(), integer("length")], 2, |call| {
        let members = members(call)?;
        let start = index(call, 1, members.len() + 1)?;
        let length = if call.has(2) { call.integer(2) } else { (members.len() - start) as i64 };
        if length < 0 {
            return Err(failed("FOAY0002", format!("a length of {length} is less than nothing")));
        }
        let end = start.saturating_add(usize::try_from(length).unwrap_or(usize::MAX));
        if end > members.len() {
            return Err(outside(call.integer(1).saturating_add(length) - 1, members.len()));
        }
        made(members[start..end].to_vec())
    })
    .within(Library::Array),
    function("remove", &[ARRAY, atomic("places", AtomicType::Integer, Occurs::Any)], 2, |call| {
        let members = members(call)?;
        let mut gone = std::collections::HashSet::new();
        for item in call.argument(1).items() {
            match item.as_atomic() {
                Some(Atomic::Integer(place))
                    if place >= 1 && place as u64 <= members.len() as u64 =>
                {
                    gone.insert(place as usize - 1);
                }
                other => {
                    return Err(outside(
                        other.map_or(0, |o| o.numeric().map_or(0, |n| n.double() as i64)),
                        members.len(),
                    ));
                }
            }
        }
        let kept = members.into_iter().enumerate().filter(|(at, _)| !gone.contains(at));
        made(kept.map(|(_, member)| member).collect())
    })
    .within(Library::Array),
    function("insert-before", &[ARRAY, place(), items("member")], 3, |call| {
        let mut members = members(call)?;
        let at = index(call, 1, members.len() + 1)?;
        members.insert(at, call.argument(2).clone());
        made(members)
    })
    .within(Library::Array),
    function("head", &[ARRAY], 1, |call| call.run.at_key(call.item(0)?, &Atomic::Integer(1)))
        .plural()
        .within(Library::Array),
    function("tail", &[ARRAY], 1, |call| {
        let members = members(call)?;
        if members.is_empty() {
            return Err(outside(1, 0));
        }
        made(members[1..].to_vec())
    })
    .within(Library::Array),
    function("reverse", &[ARRAY], 1, |call| {
        let mut members = members(call)?;
        members.reverse();
        made(members)
    })
    .within(Library::Array),
    function("join", &[takes("arrays", What::Array, Occurs::Any)], 1, |call| {
        let arrays = call.argument(0).items().iter();
        made(arrays.flat_map(|array| array.members().unwrap_or_default()).collect())
    })
    .within(Library::Array),
    function("for-each", &[ARRAY, callback("action")], 2, |call| {
        let members: Result<Vec<_>, Error> =
            members(call)?.into_iter().map(|member| call.apply(1, vec![member])).collect();
        made(members?)
    })
    .within(Library::Array),
    function("filter", &[ARRAY, callback("holds")], 2, |call| {
        let mut kept = Vec::new();
        for member in members(call)? {
            if super::higher::boolean(&call.apply(1, vec![member.clone()])?)? {
                kept.push(member);
            }
        }
        made(kept)
    })
    .within(Library::Array),
    function("fold-left", &[ARRAY, items("start"), callback("action")], 3, |call| {
        fold(call, members(call)?.into_iter(), false)
    })
    .plural()
    .within(Library::Array),
    function("fold-right", &[ARRAY, items("start"), callback("action")], 3, |call| {
        fold(call, members(call)?.into_iter().rev(), true)
    })
    .plural()
    .within(Library::Array),
    function("for-each-pair", &[ARRAY, one_array("other"), callback("action")], 3, |call| {
        let others = call.item(1)?.members().unwrap_or_default();
        let pairs = members(call)?.into_iter().zip(others);
        let results: Result<Vec<_>, Error> =
            pairs.map(|(a, b)| call.apply(2, vec![a, b])).collect();
        made(results?)
    })
    .within(Library::Array),
    function("sort", &[ARRAY, optional_text("collation"), callback("key")], 1, |call| {
        let members = members(call)?;
        let keys = sort_keys(call, &members)?;
        made(sorted_by(call, members, keys)?)
    })
    .within(Library::Array),
    function("flatten", &[items("items")], 1, |call| {
        let mut flat = Vec::new();
        flatten(call.argument(0), &mut flat);
        Ok(Sequence::of(flat))
    })
    .plural()
    .within(Library::Array),
];

fn members<'d>(call: &Call<'_, '_, 'd>) -> Result<Vec<Sequence<'d>>, Error> {
    Ok(call.item(0)?.members().unwrap_or_default())
}

fn made<'d>(members: Vec<Sequence<'d>>) -> Outcome<'d> {
    Ok(Sequence::One(array_of(members)))
}

fn outside(place: i64, size: usize) -> Error {
    failed("FOAY0001", format!("there is no member {place} in an array of {size}"))
}

/// An argument as an index from 0 that is below `end`.
fn index(call: &Call<'_, '_, '_>, at: usize, end: usize) -> Result<usize, Error> {
    let place = call.integer(at);
    let index = usize::try_from(place).ok().and_then(|place| place.checked_sub(1));
    index.filter(|index| *index < end).ok_or_else(|| outside(place, end))
}

fn flatten<'d>(value: &Sequence<'d>, flat: &mut Vec<Item<'d>>) {
    for item in value.items() {
        match item.members() {
            Some(members) => members.iter().for_each(|member| flatten(member, flat)),
            None => flat.push(item.clone()),
        }
    }
}
