//! The report as a page for browsers.

use kyanite_formats::json;
use kyanite_tree::{Arena, Value};

use super::markup::escaped;
use super::page::{in_script, page};
use super::{Report, Row};

/// What shows and filters the findings.
const SCRIPT: &str = include_str!("findings.js");

pub(super) fn render(report: &Report) -> String {
    let arena = Arena::new();
    let rows: Vec<Row<'_>> = report.rows().collect();
    let findings: Vec<Value<'_>> =
        rows.iter().map(|row| super::json::finding(row, &arena)).collect();
    let mut data = Vec::new();
    json::write(arena.map([("findings", arena.list(&findings))]), json::Style::Compact, &mut data);
    let counts = report.counts();
    let tile = |class: &str, count: usize, what: &str| {
        format!("<li class=\"{class}\"><b>{count}</b>{what}</li>\n")
    };
    let mut tiles = String::new();
    tiles.push_str(&tile("", usize::try_from(counts.documents).unwrap_or(usize::MAX), "documents"));
    tiles.push_str(&tile("", counts.inputs, "inputs"));
    tiles.push_str(&tile(if counts.errors > 0 { "error" } else { "" }, counts.errors, "errors"));
    tiles.push_str(&tile(
        if counts.warnings > 0 { "warning" } else { "" },
        counts.warnings,
        "warnings",
    ));
    if report.known > 0 {
        tiles.push_str(&tile("", report.known, "known, left out"));
    }
    let unreadable: String = report
        .unreadable()
        .map(|(_, why)| {
            format!("<article><h3><span>not read</span>{}</h3></article>\n", escaped(why.message()))
        })
        .collect();
    let body = format!(
        "<header>\n<h1>Validation</h1>\n<p class=\"summary\">{}</p>\n<ul class=\"tiles\">\n{tiles}</ul>\n</header>\n\
         <main>\n{unreadable}<div class=\"bar\">\n\
         <input id=\"text\" type=\"search\" placeholder=\"Words in findings\" aria-label=\"Words in findings\">\n\
         <select id=\"file\" aria-label=\"File\"><option value=\"\">all files</option></select>\n\
         <select id=\"severity\" aria-label=\"Severity\"><option value=\"\">all severities</option></select>\n\
         <select id=\"schema\" aria-label=\"Schema\"><option value=\"\">all schemas</option></select>\n\
         <output id=\"shown\"></output>\n</div>\n<div id=\"findings\"></div>\n<div id=\"end\"></div>\n</main>\n\
         <footer>kyanite {}</footer>\n\
         <script type=\"application/json\" id=\"data\">{}</script>",
        escaped(&report.summary()),
        env!("CARGO_PKG_VERSION"),
        in_script(&data),
    );
    page("Validation", &body, SCRIPT)
}
