//! Paths into samples: what they select, how they are written, and which ones a sample has.

use std::collections::BTreeSet;

use kyanite_tree::Value;

use super::SAMPLES;
use crate::syntax::name_length;

#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Step<'a> {
    Name(&'a str),
    /// The one item of a list.
    First,
    /// All items of a list.
    Each,
}

type Path<'a> = Vec<Step<'a>>;

/// What `path` selects: one value, or with a list of all that a step to each gives.
pub(super) fn select<'a>(path: &[Step<'a>], value: Value<'a>, found: &mut Vec<Value<'a>>) {
    let Some((step, rest)) = path.split_first() else {
        found.push(value);
        return;
    };
    match step {
        Step::Name(name) => {
            if let Some(member) = value.member(name) {
                select(rest, member, found);
            }
        }
        Step::First => {
            if let Some([item]) = value.as_list() {
                select(rest, *item, found);
            }
        }
        Step::Each => {
            for item in value.as_list().unwrap_or_default() {
                select(rest, *item, found);
            }
        }
    }
}

/// How a path is written behind the name that it begins with.
pub(super) fn written(scope: &str, path: &[Step<'_>]) -> String {
    let mut text = scope.to_owned();
    for step in path {
        match step {
            Step::Name(name) => {
                let plain = name.strip_prefix('@').unwrap_or(name);
                if name_length(plain) == plain.len() && !plain.is_empty() {
                    text.push('.');
                    text.push_str(name);
                } else {
                    let name = name.replace('\\', "\\\\").replace('\'', "\\'");
                    text.push_str(&format!("['{name}']"));
                }
            }
            Step::First => text.push_str("[0]"),
            Step::Each => text.push_str("[*]"),
        }
    }
    text
}

/// All paths in the values of a scope that take names, one-item lists and, where asked, one step to each.
pub(super) fn paths<'a>(values: &[Option<Value<'a>>], with_each: bool) -> Vec<Path<'a>> {
    fn add<'a>(
        value: Value<'a>,
        path: &mut Path<'a>,
        with_each: bool,
        found: &mut BTreeSet<Path<'a>>,
    ) {
        if found.len() >= PATHS || path.len() > LEVELS {
            return;
        }
        found.insert(path.clone());
        let mut inside = |step, value| {
            path.push(step);
            add(value, path, with_each, found);
            path.pop();
        };
        match value {
            Value::Map(_, map) => {
                for member in map.members() {
                    inside(Step::Name(member.name), member.value);
                }
            }
            Value::List(_, items) => {
                if let [item] = items {
                    inside(Step::First, *item);
                }
                if with_each {
                    items.iter().take(SAMPLES).for_each(|item| inside(Step::Each, *item));
                }
            }
            _ => {}
        }
    }
    let mut found = BTreeSet::new();
    for value in values.iter().flatten().take(SAMPLES) {
        add(*value, &mut Vec::new(), with_each, &mut found);
    }
    let mut paths: Vec<Path<'a>> = found.into_iter().collect();
    paths.sort_by_key(Vec::len);
    paths
}

/// The text of the scalar at `path`.
pub(super) fn text_at<'a>(path: &[Step<'a>], value: Value<'a>) -> Option<&'a str> {
    let mut found = Vec::new();
    select(path, value, &mut found);
    found.first().and_then(|value| value.scalar_text())
}

/// Items of a list of the input that are looked at, and of a list that is wanted.
pub(super) const ITEMS: usize = 5_000;

/// Paths of a value that are tried.
const PATHS: usize = 2_000;

/// Levels of a value that are looked into.
const LEVELS: usize = 6;
