//! How two surveys differ, told in several forms.

use kyanite_formats::json;
use kyanite_survey::{PathChange, PathChangeSort, Presence, Report, against};
use kyanite_tree::{Arena, Value, counted};

use super::json::real;
use crate::messages::Messages;
use crate::report::{as_json, changes_page, escaped, number};

/// What differs between two surveys.
pub struct Changes<'r> {
    old: &'r Report,
    new: &'r Report,
    changes: Vec<PathChange>,
}

impl<'r> Changes<'r> {
    pub fn of(old: &'r Report, new: &'r Report) -> Self {
        Self { old, new, changes: against(old, new) }
    }

    /// `new.jsonl (12 records) against old.jsonl (10 records): 1 path came, 2 moved`
    fn summary(&self) -> String {
        let name = |report: &Report| {
            let inputs = match report.inputs.as_slice() {
                [one] => one.clone(),
                several => counted(several.len(), "input"),
            };
            format!("{inputs} ({})", counted(report.records, "record"))
        };
        let head = format!("{} against {}", name(self.new), name(self.old));
        if self.changes.is_empty() {
            return format!("{head}: the same paths, types and shares");
        }
        let sorts = [PathChangeSort::Came, PathChangeSort::Went, PathChangeSort::Moved];
        let counts = sorts.into_iter().filter_map(|sort| {
            let count = self.changes.iter().filter(|change| change.sort == sort).count();
            (count > 0).then(|| format!("{} {}", counted(count, "path"), sort.word()))
        });
        format!("{head}: {}", counts.collect::<Vec<String>>().join(", "))
    }

    pub fn text(&self, shown: &Messages) -> String {
        let mut text = format!("{}\n", shown.strong(&self.summary()));
        if !self.changes.is_empty() {
            text.push('\n');
        }
        let width =
            self.changes.iter().map(|change| change.path.chars().count()).max().unwrap_or(0);
        for change in &self.changes {
            let word = format!("{:<5}", change.sort.word());
            let word = match change.sort {
                PathChangeSort::Came => shown.added(&word),
                PathChangeSort::Went => shown.removed(&word),
                PathChangeSort::Moved => shown.accent(&word),
            };
            text.push_str(&format!("{word}  {:<width$}  {}\n", change.path, in_words(change)));
        }
        text
    }

    pub fn json(&self) -> Vec<u8> {
        let arena = Arena::new();
        let changes: Vec<Value<'_>> = self
            .changes
            .iter()
            .map(|change| {
                let mut members = vec![
                    ("change", Value::text(change.sort.word())),
                    ("path", Value::text(&change.path)),
                ];
                for (name, presence) in [("old", &change.old), ("new", &change.new)] {
                    members.extend(presence.as_ref().map(|it| (name, of_presence(it, &arena))));
                }
                arena.map(members)
            })
            .collect();
        as_json(arena.map([
            ("old_records", number(self.old.records, &arena)),
            ("new_records", number(self.new.records, &arena)),
            ("changes", arena.list(&changes)),
        ]))
    }

    pub fn html(&self) -> String {
        let arena = Arena::new();
        let side = |presence: &Presence| {
            let text = arena.text(&shares(presence));
            arena.map([("text", Value::text(text)), ("place", Value::text(""))])
        };
        let rows: Vec<Value<'_>> = self
            .changes
            .iter()
            .map(|change| {
                let word = match change.sort {
                    PathChangeSort::Came => "added",
                    PathChangeSort::Went => "removed",
                    PathChangeSort::Moved => "changed",
                };
                let mut members = vec![
                    ("change", Value::text(word)),
                    ("path", Value::text(&change.path)),
                    ("under", Value::text("")),
                ];
                members.extend(change.old.as_ref().map(|old| ("old", side(old))));
                members.extend(change.new.as_ref().map(|new| ("new", side(new))));
                arena.map(members)
            })
            .collect();
        let mut data = Vec::new();
        json::write(arena.list(&rows), json::Style::Compact, &mut data);
        let sorts = [PathChangeSort::Came, PathChangeSort::Went, PathChangeSort::Moved];
        let tiles = sorts.map(|sort| {
            (self.changes.iter().filter(|change| change.sort == sort).count(), sort.word())
        });
        let lines = [format!("<p class=\"summary\">{}</p>\n", escaped(&self.summary()))];
        changes_page("What came, went and moved", &lines.concat(), &tiles, &data)
    }
}

fn percent(share: f64) -> String {
    format!("{:.1} %", share * 100.0)
}

/// `85.0 % of records, text`
fn shares(presence: &Presence) -> String {
    let types: Vec<String> = match presence.types.as_slice() {
        [(one, _)] => vec![(*one).to_owned()],
        several => several.iter().map(|(of, share)| format!("{of} {}", percent(*share))).collect(),
    };
    format!("{}, {}", percent(presence.share), types.join(", "))
}

/// What happened, in words.
fn in_words(change: &PathChange) -> String {
    match (&change.old, &change.new) {
        (Some(old), Some(new)) => format!("{} → {}", shares(old), shares(new)),
        (Some(one), None) | (None, Some(one)) => shares(one),
        (None, None) => String::new(),
    }
}

fn of_presence<'a>(presence: &Presence, arena: &'a Arena) -> Value<'a> {
    let types: Vec<(&str, Value<'a>)> =
        presence.types.iter().map(|(of, share)| (*of, real(*share, arena))).collect();
    arena.map([
        ("records", number(presence.records, arena)),
        ("share", real(presence.share, arena)),
        ("types", arena.map(types)),
    ])
}
