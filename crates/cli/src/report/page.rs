//! A page that stands alone: style, light and dark, around what a report puts in it.

use super::markup::escaped;

/// The style of all pages.
const STYLE: &str = include_str!("page.css");

/// A page with that title, and what stands in it.
pub fn page(title: &str, body: &str, script: &str) -> String {
    format!(
        "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"UTF-8\">\n\
         <meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n\
         <title>{}</title>\n<style>\n{STYLE}</style>\n</head>\n<body>\n{body}\n<script>\n{script}</script>\n</body>\n</html>\n",
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
