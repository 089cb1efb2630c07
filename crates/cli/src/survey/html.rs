//! The survey as a page for browsers.

use kyanite_formats::json;
use kyanite_survey::Report;
use kyanite_tree::{Arena, Value};

use super::{json as data, words};
use crate::report::{escaped, in_script, number, page};

/// What shows and filters the paths.
const SCRIPT: &str = include_str!("paths.js");

pub fn render(report: &Report) -> String {
    let arena = Arena::new();
    let mut all = Vec::new();
    // What a row says is said in the same words as in a terminal.
    let rows: Vec<Value<'_>> = report
        .paths
        .iter()
        .map(|path| {
            let (part, whole) = words::presence(report).1(path, report);
            arena.map([
                ("part", number(part, &arena)),
                ("whole", number(whole, &arena)),
                ("percent", Value::text(arena.text(&words::percent(part, whole)))),
                ("types", Value::text(arena.text(&words::types(path)))),
                ("values", Value::text(arena.text(&words::values(path)))),
            ])
        })
        .collect();
    let whole = arena.map([("survey", data::whole(report, &arena)), ("rows", arena.list(&rows))]);
    json::write(whole, json::Style::Compact, &mut all);
    let tile = |count: u64, (one, several): (&str, &str)| {
        let what = if count == 1 { one } else { several };
        format!("<li><b>{count}</b>{what}</li>\n")
    };
    let size = |count: usize| count as u64;
    let tiles = [
        tile(report.records, ("record", "records")),
        tile(size(report.paths.len()), ("path", "paths")),
        tile(size(report.inputs.len()), ("input", "inputs")),
        tile(size(report.kinds.len().max(1)), ("kind of records", "kinds of records")),
        tile(size(report.remarks.len()), ("worth a look", "worth a look")),
    ]
    .concat();
    let body = format!(
        "<header>\n<h1>Survey</h1>\n<p class=\"summary\">{}</p>\n<ul class=\"tiles\">\n{tiles}</ul>\n</header>\n\
         <main>\n<section id=\"kinds\"></section>\n<section id=\"remarks\"></section>\n\
         <div class=\"bar\">\n<input id=\"text\" type=\"search\" placeholder=\"Words in paths and values\" aria-label=\"Words in paths and values\">\n\
         <select id=\"type\" aria-label=\"Type\"><option value=\"\">all types</option></select>\n\
         <output id=\"shown\"></output>\n</div>\n<div id=\"paths\"></div>\n<div id=\"end\"></div>\n</main>\n\
         <footer>kyanite {}</footer>\n<script type=\"application/json\" id=\"data\">{}</script>",
        escaped(&words::summary(report)),
        env!("CARGO_PKG_VERSION"),
        in_script(&all),
    );
    page("Survey", &body, SCRIPT)
}
