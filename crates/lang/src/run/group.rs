//! `group by` and `window`: turns put together, so that every name is a list of its values.

use std::collections::HashMap;
use std::ops::Range;

use kyanite_tree::{Code, Key, Kind as ValueKind, Value};

use super::Runner;
use super::turns::Turn;
use crate::failure::{Ran, failure};
use crate::plan::Expr;

/// A group: the values of its keys, and its turns.
pub(super) struct Group<'a> {
    pub(super) keys: Vec<Option<Value<'a>>>,
    pub(super) turns: Vec<Turn<'a>>,
}

/// Puts turns into groups by their keys, in the order of first appearance.
pub(super) fn group(turns: Vec<Turn<'_>>) -> Vec<Group<'_>> {
    let mut groups: Vec<Group<'_>> = Vec::new();
    let mut known: HashMap<Vec<Option<Key>>, usize> = HashMap::new();
    for turn in turns {
        let key = turn.keys.iter().map(|key| key.map(Key::of)).collect();
        let position = *known.entry(key).or_insert(groups.len());
        match groups.get_mut(position) {
            Some(group) => group.turns.push(turn),
            None => groups.push(Group { keys: turn.keys.clone(), turns: vec![turn] }),
        }
    }
    groups
}

impl<'a> Runner<'_, 'a> {
    /// The value of a group's key: a text, a number, a boolean, null or nothing.
    pub(super) fn group_key(&mut self, key: &'a Expr) -> Ran<Option<Value<'a>>> {
        let value = self.value(key)?.map(Value::simple);
        match value.map(Value::kind) {
            Some(kind @ (ValueKind::List | ValueKind::Map | ValueKind::Element)) => {
                let words = self.plan.rule.slice(key.span);
                let message =
                    format!("`{words}` is {}, and groups go by single values", kind.phrase());
                Err(failure(Code::ValueKind, key.span, message)
                    .about(value)
                    .advise("group by a member of it, or by encode(\"json\", …)"))
            }
            _ => Ok(value),
        }
    }

    /// Binds the keys of a group, and each name to the list of what it was bound to in its turns.
    pub(super) fn bind_group(
        &mut self,
        keys: &[(usize, Expr)],
        slots: Range<usize>,
        group: &Group<'a>,
    ) {
        let turns: Vec<_> = group.turns.iter().map(|turn| turn.names.as_slice()).collect();
        self.bind_lists(slots, &turns);
        for ((slot, _), key) in keys.iter().zip(&group.keys) {
            self.set_local(*slot, *key);
        }
    }

    /// Binds each of `slots` to the list of what it was bound to in `turns`; nothing leaves no gap.
    pub(super) fn bind_lists(&mut self, slots: Range<usize>, turns: &[&[Option<Value<'a>>]]) {
        for (position, slot) in slots.enumerate() {
            let values: Vec<Value<'a>> =
                turns.iter().filter_map(|names| names.get(position).copied().flatten()).collect();
            let list = self.arena.list(&values);
            self.set_local(slot, Some(list));
        }
    }
}
