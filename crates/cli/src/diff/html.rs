//! What differs, as a page for browsers.

use kyanite_change::ChangeSort;
use kyanite_flow::Compared;
use kyanite_formats::json;
use kyanite_tree::{Arena, Value};

use super::{Differences, text};
use crate::report::{escaped, in_script, page};

/// What shows and filters the changes.
const SCRIPT: &str = include_str!("changes.js");

pub fn render(found: &Differences) -> String {
    let arena = Arena::new();
    let rows: Vec<Value<'_>> = found.pairs.iter().flat_map(|pair| rows(pair, &arena)).collect();
    let mut data = Vec::new();
    json::write(arena.list(&rows), json::Style::Compact, &mut data);
    let sorts = [ChangeSort::Added, ChangeSort::Removed, ChangeSort::Changed, ChangeSort::Moved];
    let tiles: String = sorts
        .into_iter()
        .map(|sort| {
            let changes = found.pairs.iter().flat_map(|pair| &pair.changes);
            let count = changes.filter(|change| change.sort == sort).count();
            format!("<li><b>{count}</b>{}</li>\n", sort.word())
        })
        .collect();
    let only = found.only.iter().zip(&found.names).flat_map(|(only, folder)| {
        only.iter().map(move |name| format!("only in {folder}: {name}"))
    });
    let told = found.pairs.iter().filter_map(text::assumed).chain(only);
    let assumed: String =
        told.map(|line| format!("<p class=\"summary\">{}</p>\n", escaped(&line))).collect();
    let body = format!(
        "<header>\n<h1>Differences</h1>\n<p class=\"summary\">{}</p>\n{assumed}<ul class=\"tiles\">\n{tiles}</ul>\n</header>\n\
         <main>\n<div class=\"bar\">\n<input id=\"text\" type=\"search\" placeholder=\"Words in paths and values\" aria-label=\"Words in paths and values\">\n\
         <select id=\"change\" aria-label=\"Change\"><option value=\"\">all changes</option></select>\n\
         <select id=\"under\" aria-label=\"Path\"><option value=\"\">all paths</option></select>\n\
         <output id=\"shown\"></output>\n</div>\n<div id=\"changes\"></div>\n<div id=\"end\"></div>\n</main>\n\
         <footer>kyanite {}</footer>\n<script type=\"application/json\" id=\"data\">{}</script>",
        escaped(&text::summary_of_all(found)),
        env!("CARGO_PKG_VERSION"),
        in_script(&data),
    );
    page("Differences", &body, SCRIPT)
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
