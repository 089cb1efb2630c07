//! The survey for terminals: a table of paths, then kinds, keys, and what is worth a look.

use console::measure_text_width;
use kyanite_survey::{KindOfRecord, PathReport, Report};

use super::words;
use crate::messages::Messages;

/// Below this width each path has a line of its own.
const NARROW: usize = 90;

/// How many cells a bar has.
const BAR: usize = 8;

pub fn render(report: &Report, shown: &Messages, width: usize) -> String {
    let mut text = format!("{}\n", shown.strong(&words::summary(report)));
    if report.paths.is_empty() {
        return text;
    }
    text.push('\n');
    let rows: Vec<Row> = report.paths.iter().map(|path| Row::of(path, report)).collect();
    let longest = |cell: fn(&Row) -> &str, least: usize, most: usize| {
        rows.iter().map(|row| measure_text_width(cell(row))).max().unwrap_or(0).clamp(least, most)
    };
    let paths = longest(|row| &row.path, 4, if width == usize::MAX { width } else { width / 2 });
    let types = longest(|row| &row.types, 5, 26);
    if width < NARROW {
        for row in &rows {
            text.push_str(&format!("{}\n", row.path));
            let line = format!(
                "  {} {:>7}  {}  {}",
                shown.accent(&row.bar),
                row.percent,
                row.types,
                row.values
            );
            text.push_str(&format!("{}\n", cut(line.trim_end(), width)));
        }
    } else {
        let head = format!(
            "{:<paths$}  {:<16}  {:<types$}  values",
            "path",
            words::presence(report).0,
            "type"
        );
        text.push_str(&format!("{}\n", shown.faint(&head)));
        for row in &rows {
            let path = padded(&row.path, paths);
            // A path that is longer than its column has the line to itself.
            let path = match measure_text_width(&row.path) > paths {
                true => format!("{}\n{}", row.path, " ".repeat(paths)),
                false => path,
            };
            let types_cell = padded(&row.types, types);
            let used = paths + 2 + BAR + 1 + 7 + 2 + types.max(measure_text_width(&row.types)) + 2;
            let values = cut(&row.values, width.saturating_sub(used).max(10));
            let bar = shown.accent(&row.bar);
            let line = format!("{path}  {bar} {:>7}  {types_cell}  {values}", row.percent);
            text.push_str(&format!("{}\n", line.trim_end()));
        }
    }
    kinds(report, shown, &mut text);
    keys(report, shown, &mut text);
    remarks(report, shown, &mut text);
    text
}

/// The cells of a path.
struct Row {
    path: String,
    bar: String,
    percent: String,
    types: String,
    values: String,
}

impl Row {
    fn of(path: &PathReport, report: &Report) -> Self {
        let (part, whole) = words::presence(report).1(path, report);
        Self {
            path: path.path.clone(),
            bar: bar(words::share(part, whole)),
            percent: words::percent(part, whole),
            types: words::types(path),
            values: words::values(path),
        }
    }
}

/// A bar as long as a share, to half a cell; what is there at all is seen.
#[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)]
fn bar(share: f64) -> String {
    let halves = (share * (BAR * 2) as f64).round() as usize;
    let halves = if share > 0.0 { halves.max(1) } else { 0 };
    // Only what is everywhere has a full bar.
    let halves = if share < 1.0 { halves.min(BAR * 2 - 1) } else { halves };
    padded(&("━".repeat(halves / 2) + ["", "╸"][halves % 2]), BAR)
}

fn padded(text: &str, width: usize) -> String {
    let missing = width.saturating_sub(measure_text_width(text));
    format!("{text}{}", " ".repeat(missing))
}

/// A text that is no wider.
fn cut(text: &str, width: usize) -> String {
    console::truncate_str(text, width, "…").into_owned()
}

fn kinds(report: &Report, shown: &Messages, text: &mut String) {
    if report.kinds.is_empty() {
        return;
    }
    text.push_str(&format!("\n{}\n", shown.strong("kinds of records")));
    let width = |cell: String| measure_text_width(&cell);
    let filters = report
        .kinds
        .iter()
        .map(|kind| width(format!("$[?{}]", kind.filter)))
        .max()
        .unwrap_or(0)
        .min(60);
    let counts = report.kinds.iter().map(|kind| width(kind.records.to_string())).max().unwrap_or(0);
    for kind in &report.kinds {
        let filter = padded(&format!("$[?{}]", kind.filter), filters);
        let share = words::percent(kind.records, report.records);
        let line =
            format!("{:>counts$}  {share:>7}  {filter}  {}", kind.records, features(kind, report));
        text.push_str(&format!("{}\n", line.trim_end()));
    }
    if report.without_kind > 0 {
        text.push_str(&format!(
            "{} more have members in too many combinations to be looked at\n",
            report.without_kind
        ));
    }
}

/// What a kind has that others have not.
fn features(kind: &KindOfRecord, report: &Report) -> String {
    let records = report.paths.first().map_or("", |first| &first.path);
    let listed = |paths: &[String]| {
        let names = paths
            .iter()
            .take(4)
            .map(|path| path.strip_prefix(records).unwrap_or(path).trim_start_matches('.'));
        let mut names: Vec<&str> = names.collect();
        if paths.len() > 4 {
            names.push("…");
        }
        names.join(", ")
    };
    match (kind.only.as_slice(), kind.never.as_slice()) {
        ([], []) => String::new(),
        ([], never) => format!("without {}", listed(never)),
        (only, _) => format!("with {}", listed(only)),
    }
}

fn keys(report: &Report, shown: &Messages, text: &mut String) {
    if report.keys.is_empty() && report.references.is_empty() {
        return;
    }
    let input = |number: usize| report.inputs.get(number).map_or("", String::as_str);
    text.push_str(&format!("\n{}\n", shown.strong("could be keys")));
    for key in &report.keys {
        let of = key.input.map(|of| format!(" of {}", input(of))).unwrap_or_default();
        text.push_str(&format!("{}{of}\n", key.path));
    }
    for found in &report.references {
        text.push_str(&format!(
            "{} of {} holds {} of {}{}\n",
            found.path,
            input(found.input),
            found.key,
            input(found.key_input),
            if found.share < 1.0 {
                format!(", {:.0} % of its values", found.share * 100.0)
            } else {
                String::new()
            },
        ));
    }
}

fn remarks(report: &Report, shown: &Messages, text: &mut String) {
    if report.remarks.is_empty() {
        return;
    }
    text.push_str(&format!("\n{}\n", shown.strong("worth a look")));
    for remark in &report.remarks {
        text.push_str(&format!("{}: {}\n", remark.path, remark.message));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bars() {
        for (share, drawn) in [
            (0.0, "        "),
            (0.0001, "╸       "),
            (0.5, "━━━━    "),
            (0.999, "━━━━━━━╸"),
            (1.0, "━━━━━━━━"),
        ] {
            assert_eq!(bar(share), drawn, "{share}");
        }
    }
}
