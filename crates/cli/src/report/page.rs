//! A page that stands alone: style, light and dark, around what a report puts in it.

use super::markup::escaped;

/// The style of all pages.
const STYLE: &str = include_str!("page.css");

/// What all scripts share.
const SHARED: &str = include_str!("page.js");

/// A page with that title, and what stands in it.
pub fn page(title: &str, body: &str, script: &str) -> String {
    format!(
        "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"UTF-8\">\n\
         <meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n\
         <title>{}</title>\n<style>\n{STYLE}</style>\n</head>\n<body>\n{body}\n<script>\n{SHARED}\n{script}</script>\n</body>\n</html>\n",
        escaped(title)
    )
}

/// JSON as it can stand in a script element.
pub fn in_script(json: &[u8]) -> String {
    String::from_utf8_lossy(json)
        .replace('<', "\\u003c")
        .replace('\u{2028}', "\\u2028")
        .replace('\u{2029}', "\\u2029")
}

/// What shows and filters changes.
const CHANGES: &str = include_str!("changes.js");

/// A page of changes: lines above them, how many there are of each sort, and the changes themselves as JSON.
pub fn changes_page(
    title: &str,
    lines: &str,
    tiles: &[(impl std::fmt::Display, &str)],
    changes: &[u8],
) -> String {
    let tiles: String =
        tiles.iter().map(|(count, word)| format!("<li><b>{count}</b>{word}</li>\n")).collect();
    let body = format!(
        "<header>\n<h1>{}</h1>\n{lines}<ul class=\"tiles\">\n{tiles}</ul>\n</header>\n\
         <main>\n<div class=\"bar\">\n<input id=\"text\" type=\"search\" placeholder=\"Words in paths and values\" aria-label=\"Words in paths and values\">\n\
         <select id=\"change\" aria-label=\"Change\"><option value=\"\">all changes</option></select>\n\
         <select id=\"under\" aria-label=\"Path\"><option value=\"\">all paths</option></select>\n\
         <output id=\"shown\"></output>\n</div>\n<div id=\"changes\"></div>\n<div id=\"end\"></div>\n</main>\n\
         <footer>kyanite {}</footer>\n<script type=\"application/json\" id=\"data\">{}</script>",
        escaped(title),
        env!("CARGO_PKG_VERSION"),
        in_script(changes),
    );
    page(title, &body, CHANGES)
}
