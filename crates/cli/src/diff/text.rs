//! What differs, for terminals.

use console::{measure_text_width, truncate_str};
use kyanite_change::ChangeSort;
use kyanite_flow::{Compared, FoundChange, Side};
use kyanite_tree::counted;

use super::Differences;
use crate::messages::Messages;

/// The width of columns where nothing cuts them.
const COLUMNS: usize = 120;

/// How many sorts of changes are listed in the summary.
const LISTED: usize = 20;

/// `timetable.json and new.json differ: 2 added, 1 removed`
pub fn summary(found: &Compared) -> String {
    let Compared { old, new, .. } = found;
    if found.is_same() {
        return format!("nothing differs between {old} and {new}");
    }
    let sorts = [ChangeSort::Added, ChangeSort::Removed, ChangeSort::Changed, ChangeSort::Moved];
    let counts = sorts.into_iter().filter_map(|sort| {
        let count = found.count_of(sort);
        (count > 0).then(|| format!("{count} {}", sort.word()))
    });
    format!("{old} and {new} differ: {}", counts.collect::<Vec<String>>().join(", "))
}

/// How often what happened under which path, the most frequent first.
pub fn by_path(found: &Compared) -> Vec<(u64, ChangeSort, &str)> {
    let counts = found.counts.iter().map(|((under, sort), count)| (*count, *sort, under.as_str()));
    let mut counts: Vec<(u64, ChangeSort, &str)> = counts.collect();
    counts.sort_by_key(|(count, ..)| std::cmp::Reverse(*count));
    counts
}

/// What was taken to be the same.
pub fn assumed(found: &Compared) -> Option<String> {
    let kyanite_change::Assumed { singles, spelled } = found.assumed;
    let mut parts = Vec::new();
    if spelled > 0 {
        parts.push(format!("{} without a type with what it spells", counted(spelled, "text")));
    }
    if singles > 0 {
        parts.push(format!("{} with a list of one", counted(singles, "single value")));
    }
    (!parts.is_empty()).then(|| format!("compared: {}", parts.join(", ")))
}

/// The summary, and which paths differ.
fn head(found: &Compared, shown: &Messages) -> String {
    let mut text = format!("{}\n", shown.strong(&summary(found)));
    text.extend(assumed(found).map(|assumed| format!("{assumed}\n")));
    let counts = by_path(found);
    // Of few changes the list itself is short enough.
    if found.count() > 3 && (counts.len() as u64) < found.count() {
        text.push('\n');
        let width = counts.first().map_or(1, |(count, ..)| count.to_string().len());
        for (count, sort, under) in counts.iter().take(LISTED) {
            text.push_str(&format!("{count:>width$} × {:<7}  {under}\n", sort.word()));
        }
        if counts.len() > LISTED {
            text.push_str(&format!("and {} more\n", counted(counts.len() - LISTED, "path")));
        }
    }
    text
}

/// `old and new differ: 2 of 7 files, 1 only in old`
pub fn summary_of_all(found: &Differences) -> String {
    let Differences { names: [old, new], pairs, only: [only_old, only_new], are_folders } = found;
    let ([pair], false) = (pairs.as_slice(), are_folders) else {
        if found.is_empty() {
            return format!(
                "nothing differs between {old} and {new}, {}",
                counted(pairs.len(), "file")
            );
        }
        let mut parts =
            vec![format!("{} of {}", found.differing().count(), counted(pairs.len(), "file"))];
        for (only, name) in [(only_old, old), (only_new, new)] {
            if !only.is_empty() {
                parts.push(format!("{} only in {name}", only.len()));
            }
        }
        return format!("{old} and {new} differ: {}", parts.join(", "));
    };
    summary(pair)
}

/// What of folders comes before the files: the summary, and the files that only one has.
fn head_of_all(found: &Differences, shown: &Messages) -> String {
    if !found.are_folders {
        return String::new();
    }
    let mut text = format!("{}\n", shown.strong(&summary_of_all(found)));
    for (only, sign) in found.only.iter().zip(["-", "+"]) {
        for name in only {
            let line = format!("  {sign} {name}");
            let line = if sign == "-" { shown.removed(&line) } else { shown.added(&line) };
            text.push_str(&format!("{line}\n"));
        }
    }
    text
}

/// One change below the other.
pub fn render(found: &Differences, shown: &Messages, width: usize) -> String {
    each(found, shown, &mut |pair| of_pair(pair, shown, width))
}

/// The heads, and what there is to say of each pair that is shown: of folders those that differ.
fn each(
    found: &Differences,
    shown: &Messages,
    of_pair: &mut dyn FnMut(&Compared) -> String,
) -> String {
    let mut text = head_of_all(found, shown);
    for pair in found.pairs.iter().filter(|pair| !found.are_folders || !pair.is_same()) {
        if found.are_folders {
            text.push('\n');
        }
        text.push_str(&of_pair(pair));
    }
    text
}

fn of_pair(found: &Compared, shown: &Messages, width: usize) -> String {
    let mut text = head(found, shown);
    for change in &found.changes {
        text.push_str(&format!("\n{}\n", shown.strong(change.path())));
        if change.sort == ChangeSort::Moved {
            let from = change.old.as_ref().map_or("", |side| &side.path);
            text.push_str(&format!("  moved, from {from}\n"));
            continue;
        }
        if let Some(old) = &change.old {
            text.push_str(&format!("{}\n", shown.removed(&line("-", old, &found.old, width))));
        }
        if let Some(new) = &change.new {
            text.push_str(&format!("{}\n", shown.added(&line("+", new, &found.new, width))));
        }
    }
    text
}

/// `- "brim"    timetable.json:12`
fn line(sign: &str, side: &Side, name: &str, width: usize) -> String {
    let place = side.at.map(|at| format!("{name}:{}", at.line)).unwrap_or_default();
    let room = width.saturating_sub(place.len() + 6).max(20);
    format!("  {sign} {}  {place}", cut(&side.text, room)).trim_end().to_owned()
}

/// A text on one line that is no wider.
fn cut(text: &str, width: usize) -> String {
    let one_line = text.replace('\n', " ");
    truncate_str(&one_line, width, "…").into_owned()
}

/// Old and new side by side.
pub fn columns(found: &Differences, shown: &Messages, width: usize) -> String {
    each(found, shown, &mut |pair| columns_of_pair(pair, shown, width))
}

fn columns_of_pair(found: &Compared, shown: &Messages, width: usize) -> String {
    let half = (if width == usize::MAX { COLUMNS } else { width }).saturating_sub(3).max(20) / 2;
    let mut text = head(found, shown);
    if found.changes.is_empty() {
        return text;
    }
    let cell = |text: &str| {
        let text = cut(text, half);
        let blanks = half.saturating_sub(measure_text_width(&text));
        format!("{text}{}", " ".repeat(blanks))
    };
    let heads = format!("{} │ {}", cell(&found.old), found.new);
    text.push_str(&format!("\n{}\n", shown.faint(&heads)));
    let side = |side: &Option<Side>, change: &FoundChange| match side {
        Some(side) if change.sort == ChangeSort::Moved => side.path.clone(),
        Some(side) => side.text.clone(),
        None => String::new(),
    };
    for change in &found.changes {
        text.push_str(&format!("{}  {}\n", shown.strong(change.path()), change.sort.word()));
        let (old, new) = (cell(&side(&change.old, change)), cut(&side(&change.new, change), half));
        text.push_str(&format!("{} │ {}\n", shown.removed(&old), shown.added(&new)));
    }
    text
}
