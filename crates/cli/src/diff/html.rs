//! What differs, as a page for browsers.

use kyanite_change::ChangeSort;
use kyanite_flow::Compared;
use kyanite_formats::json;
use kyanite_tree::{Arena, Value};

use super::{Differences, text};
use crate::report::{changes_page, escaped};

pub fn render(found: &Differences) -> String {
    let arena = Arena::new();
    let rows: Vec<Value<'_>> = found.pairs.iter().flat_map(|pair| rows(pair, &arena)).collect();
    let mut data = Vec::new();
    json::write(arena.list(&rows), json::Style::Compact, &mut data);
    let sorts = [ChangeSort::Added, ChangeSort::Removed, ChangeSort::Changed, ChangeSort::Moved];
    let tiles = sorts.map(|sort| {
        let count: u64 = found.pairs.iter().map(|pair| pair.count_of(sort)).sum();
        (count, sort.word())
    });
    let only = found.only.iter().zip(&found.names).flat_map(|(only, folder)| {
        only.iter().map(move |name| format!("only in {folder}: {name}"))
    });
    let told = found.pairs.iter().filter_map(text::assumed).chain(only);
    let told = std::iter::once(text::summary_of_all(found)).chain(told);
    let lines: String =
        told.map(|line| format!("<p class=\"summary\">{}</p>\n", escaped(&line))).collect();
    changes_page("Differences", &lines, &tiles, &data)
}

/// The changes of a pair.
fn rows<'a>(found: &'a Compared, arena: &'a Arena) -> impl Iterator<Item = Value<'a>> {
    found.changes.iter().map(move |change| {
        let mut members = vec![
            ("change", Value::text(change.sort.word())),
            ("path", Value::text(change.path())),
            ("under", Value::text(&change.under)),
        ];
        for (name, side, file) in
            [("old", &change.old, &found.old), ("new", &change.new, &found.new)]
        {
            let Some(side) = side else { continue };
            let line = side.at.map(|at| format!("{file}:{}", at.line)).unwrap_or_default();
            let shown = if change.sort == ChangeSort::Moved { &side.path } else { &side.text };
            let side = [("text", Value::text(shown)), ("place", Value::text(arena.text(&line)))];
            members.push((name, arena.map(side)));
        }
        arena.map(members)
    })
}
