//! Pairs the items of two lists: by value, by position, or by the values of key members.

use std::collections::{HashMap, HashSet, VecDeque};

use kyanite_tree::{Key, Value};

use crate::align::{Pair, longest_rising};
use crate::fingerprint::Fingerprint;

/// Whether two values may be one that changed.
pub(crate) fn are_alike(old: Value<'_>, new: Value<'_>) -> bool {
    match (old, new) {
        (Value::Element(_, a), Value::Element(_, b)) => a.name == b.name,
        (Value::Map(..), Value::Map(..)) | (Value::List(..), Value::List(..)) => true,
        (Value::Map(..) | Value::List(..) | Value::Element(..), _)
        | (_, Value::Map(..) | Value::List(..) | Value::Element(..)) => false,
        _ => true,
    }
}

/// Items beside each other, with those that are the same elsewhere.
pub(crate) enum Matched {
    Both { old: usize, new: usize, is_moved: bool },
    Old(usize),
    New(usize),
}

/// Finds what moved among items that stand alone, and sets the others beside each other that stand at the same place and are alike.
pub(crate) fn matched(
    pairs: Vec<Pair>,
    old: &[Fingerprint],
    new: &[Fingerprint],
    are_alike: impl Fn(usize, usize) -> bool,
) -> Vec<Matched> {
    let mut left: HashMap<Fingerprint, VecDeque<usize>> = HashMap::new();
    for pair in &pairs {
        if let Pair::Old(at) = pair {
            left.entry(old[*at]).or_default().push_back(*at);
        }
    }
    let mut moved: HashMap<usize, usize> = HashMap::new();
    for pair in &pairs {
        if let Pair::New(at) = pair
            && let Some(from) = left.get_mut(&new[*at]).and_then(VecDeque::pop_front)
        {
            moved.insert(*at, from);
        }
    }
    let gone: HashSet<usize> = moved.values().copied().collect();
    let mut result = Vec::with_capacity(pairs.len());
    // Items that are gone from the run under way, each waiting for one that takes its place.
    let mut waiting: VecDeque<usize> = VecDeque::new();
    for pair in pairs {
        match pair {
            Pair::Old(at) if gone.contains(&at) => {}
            Pair::Old(at) => waiting.push_back(at),
            Pair::New(at) => match moved.get(&at) {
                Some(from) => result.push(Matched::Both { old: *from, new: at, is_moved: true }),
                None => match waiting.front() {
                    Some(from) if are_alike(*from, at) => {
                        result.push(Matched::Both { old: *from, new: at, is_moved: false });
                        waiting.pop_front();
                    }
                    _ => result.push(Matched::New(at)),
                },
            },
            Pair::Both(old, new) => {
                result.extend(waiting.drain(..).map(Matched::Old));
                result.push(Matched::Both { old, new, is_moved: false });
            }
        }
    }
    result.extend(waiting.into_iter().map(Matched::Old));
    result
}

/// What stands for the values of some members of an item: it is the same for items that are told to be the same. Where it `crosses` formats, texts
/// without a type are the numbers and booleans that they spell.
#[must_use]
pub fn key_of(item: Value<'_>, members: &[String], crosses: bool) -> String {
    let mut key = String::new();
    for name in members {
        let value = item.member(name);
        match value {
            Some(Value::Untyped(origin, text @ ("true" | "false"))) if crosses => {
                Key::add_to(Some(Value::Boolean(origin, text == "true")), &mut key);
            }
            Some(Value::Untyped(_, text)) if crosses => match Key::of_spelled(text) {
                Some(spelled) => spelled.append_to(&mut key),
                None => Key::add_to(value, &mut key),
            },
            _ => Key::add_to(value, &mut key),
        }
    }
    key
}

/// Items beside each other by a key.
pub(crate) struct ByKey {
    pub(crate) pairs: Vec<Matched>,
    /// How many items lack a member of it.
    pub(crate) lacking: u64,
    /// How many have that of an item before them.
    pub(crate) shared: u64,
}

/// Whether an item lacks a member of a key.
#[must_use]
pub fn lacks_key(item: Value<'_>, members: &[String]) -> bool {
    members.iter().any(|name| item.member(name).is_none())
}

/// Items beside each other by the values of some members; of several that have the same values, the first with the first.
pub(crate) fn by_key<'a>(
    old: &'a [Value<'a>],
    new: &'a [Value<'a>],
    members: &[String],
    crosses: bool,
) -> ByKey {
    let key = |item: &Value<'a>| key_of(*item, members, crosses);
    let mut known: HashMap<String, VecDeque<usize>> = HashMap::new();
    for (at, item) in old.iter().enumerate() {
        known.entry(key(item)).or_default().push_back(at);
    }
    let keys_of_new: Vec<String> = new.iter().map(key).collect();
    let different: HashSet<&String> = keys_of_new.iter().collect();
    let shared = (old.len() - known.len() + new.len() - different.len()) as u64;
    let lacking = old.iter().chain(new).filter(|item| lacks_key(**item, members)).count() as u64;
    let partner = |key: &String| known.get_mut(key).and_then(VecDeque::pop_front);
    let found: Vec<Option<usize>> = keys_of_new.iter().map(partner).collect();
    let kept: Vec<usize> = found.iter().flatten().copied().collect();
    let in_place: HashSet<usize> = longest_rising(&kept).into_iter().map(|at| kept[at]).collect();
    let kept: HashSet<usize> = kept.into_iter().collect();
    let gone = (0..old.len()).filter(|at| !kept.contains(at)).map(Matched::Old);
    let there = found.iter().enumerate().map(|(at, from)| match from {
        Some(from) => Matched::Both { old: *from, new: at, is_moved: !in_place.contains(from) },
        None => Matched::New(at),
    });
    ByKey { pairs: gone.chain(there).collect(), lacking, shared }
}

/// Whether there are items that have the same in a member and do not stand beside each other.
pub(crate) fn would_differ(
    old: &[Value<'_>],
    new: &[Value<'_>],
    pairs: &[Matched],
    name: &str,
) -> bool {
    let key = |item: &Value<'_>| item.member(name).map(Key::of);
    let known: HashMap<Option<Key>, usize> =
        old.iter().enumerate().map(|(at, item)| (key(item), at)).collect();
    pairs.iter().any(|pair| match pair {
        Matched::Both { old: from, new: to, .. } => {
            known.get(&key(&new[*to])).is_some_and(|at| at != from)
        }
        Matched::New(at) => known.contains_key(&key(&new[*at])),
        Matched::Old(_) => false,
    })
}
