//! What differs, for programs: one object.

use kyanite_change::ChangeSort;
use kyanite_flow::{Compared, FoundChange, Side};
use kyanite_formats::json::{ReaderOptions, document};
use kyanite_tree::{Arena, Value};

use super::Differences;
use super::text::by_path;
use crate::report::{as_json, number};

/// Writes the difference as one object.
pub fn render(found: &Differences) -> Vec<u8> {
    let arena = Arena::new();
    if let ([pair], false) = (found.pairs.as_slice(), found.are_folders) {
        return as_json(whole(pair, &arena));
    }
    let texts = |texts: &[String]| {
        let texts: Vec<Value<'_>> =
            texts.iter().map(|text| Value::text(arena.text(text))).collect();
        arena.list(&texts)
    };
    let files: Vec<Value<'_>> = found.pairs.iter().map(|pair| whole(pair, &arena)).collect();
    let [old, new] = &found.names;
    as_json(arena.map([
        ("old", Value::text(old)),
        ("new", Value::text(new)),
        ("same", Value::boolean(found.is_empty())),
        ("only_old", texts(&found.only[0])),
        ("only_new", texts(&found.only[1])),
        ("files", arena.list(&files)),
    ]))
}

/// The whole as a value.
fn whole<'a>(found: &'a Compared, arena: &'a Arena) -> Value<'a> {
    let of = |sort: ChangeSort| number(found.count_of(sort), arena);
    let paths: Vec<Value<'a>> = by_path(found)
        .into_iter()
        .map(|(times, sort, path)| {
            arena.map([
                ("path", Value::text(path)),
                ("change", Value::text(sort.word())),
                ("count", number(times, arena)),
            ])
        })
        .collect();
    let changes: Vec<Value<'a>> =
        found.changes.iter().map(|change| of_change(change, arena)).collect();
    arena.map([
        ("old", Value::text(&found.old)),
        ("new", Value::text(&found.new)),
        ("same", Value::boolean(found.is_same())),
        (
            "summary",
            arena.map([
                ("added", of(ChangeSort::Added)),
                ("removed", of(ChangeSort::Removed)),
                ("changed", of(ChangeSort::Changed)),
                ("moved", of(ChangeSort::Moved)),
                ("singles_as_lists", number(found.assumed.singles, arena)),
                ("texts_as_what_they_spell", number(found.assumed.spelled, arena)),
            ]),
        ),
        ("paths", arena.list(&paths)),
        ("changes", arena.list(&changes)),
    ])
}

fn of_change<'a>(change: &'a FoundChange, arena: &'a Arena) -> Value<'a> {
    let mut members =
        vec![("change", Value::text(change.sort.word())), ("path", Value::text(change.path()))];
    for (name, side) in [("old", &change.old), ("new", &change.new)] {
        members.extend(side.as_ref().map(|side| (name, of_side(side, arena))));
    }
    arena.map(members)
}

fn of_side<'a>(side: &'a Side, arena: &'a Arena) -> Value<'a> {
    // Markup is a text here, and all else is what it is.
    let value = document(
        &side.text,
        arena,
        ReaderOptions { depth: usize::MAX, ..ReaderOptions::default() },
    );
    let value = value.map_or(Value::text(&side.text), |(value, _)| value);
    let mut members = vec![("path", Value::text(&side.path)), ("value", value)];
    if let Some(at) = side.at {
        members.push(("line", number(at.line, arena)));
        members.push(("column", number(at.column, arena)));
    }
    arena.map(members)
}
