//! `group by` and `window`: tuples put together, so that every name is a list of its values.

use std::collections::HashMap;
use std::ops::Range;

use kyanite_tree::{Code, Key, Kind as ValueKind, Value};

use super::Runner;
use super::tuples::Tuple;
use crate::plan::Expr;
use crate::rule_error::{RunResult, rule_error};

/// A group: the values of its keys, and its tuples.
pub(super) struct Group<'a> {
    pub(super) keys: Vec<Option<Value<'a>>>,
    pub(super) tuples: Vec<Tuple<'a>>,
}

/// Puts tuples into groups by their keys, in the order of first appearance.
pub(super) fn group(tuples: Vec<Tuple<'_>>) -> Vec<Group<'_>> {
    let mut groups: Vec<Group<'_>> = Vec::new();
    let mut known: HashMap<Vec<Option<Key>>, usize> = HashMap::new();
    for tuple in tuples {
        let key = tuple.keys.iter().map(|key| key.map(Key::of)).collect();
        let position = *known.entry(key).or_insert(groups.len());
        match groups.get_mut(position) {
            Some(group) => group.tuples.push(tuple),
            None => groups.push(Group { keys: tuple.keys.clone(), tuples: vec![tuple] }),
        }
    }
    groups
}

impl<'a> Runner<'_, 'a> {
    /// The value of a group's key: a text, a number, a boolean, null or nothing.
    pub(super) fn group_key(&mut self, key: &'a Expr) -> RunResult<Option<Value<'a>>> {
        let value = self.value(key)?.map(Value::simple);
        match value.map(Value::kind) {
            Some(kind @ (ValueKind::List | ValueKind::Map | ValueKind::Element)) => {
                let words = self.plan.rule.slice(key.span);
                let message =
                    format!("`{words}` is {}, and groups go by single values", kind.phrase());
                Err(rule_error(Code::ValueKind, key.span, message)
                    .about(value)
                    .advise("group by a member of it, or by encode(\"json\", …)"))
            }
            _ => Ok(value),
        }
    }

    /// Binds the keys of a group, and each name to the list of what it was bound to in its tuples.
    pub(super) fn bind_group(
        &mut self,
        keys: &[(usize, Expr)],
        slots: Range<usize>,
        group: &Group<'a>,
    ) {
        let tuples: Vec<_> = group.tuples.iter().map(|tuple| tuple.names.as_slice()).collect();
        self.bind_lists(slots, &tuples);
        for ((slot, _), key) in keys.iter().zip(&group.keys) {
            self.set_local(*slot, *key);
        }
    }

    /// Binds each of `slots` to the list of what it was bound to in `tuples`; nothing leaves no gap.
    pub(super) fn bind_lists(&mut self, slots: Range<usize>, tuples: &[&[Option<Value<'a>>]]) {
        for (position, slot) in slots.enumerate() {
            let values: Vec<Value<'a>> =
                tuples.iter().filter_map(|names| names.get(position).copied().flatten()).collect();
            let list = self.arena.list(&values);
            self.set_local(slot, Some(list));
        }
    }
}
