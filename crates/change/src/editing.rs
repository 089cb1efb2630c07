//! A document during an edit: values on the path of a change are copied so that they can be changed; all others stay as they were read.

use indexmap::IndexMap;
use kyanite_tree::{Arena, Origin, Value};

/// A value that may have been changed.
#[derive(Clone, Debug)]
pub(crate) enum Edited<'a> {
    /// As it was.
    Kept(Value<'a>),
    /// A list whose items may have been changed.
    List(Origin, Vec<Edited<'a>>),
    /// A map whose members may have been changed; and the keys of it that are no texts.
    Map(Origin, IndexMap<&'a str, Edited<'a>>, Vec<(&'a str, Value<'a>)>),
}

impl<'a> Edited<'a> {
    /// Makes it one whose children can be changed.
    pub(crate) fn open(&mut self) -> &mut Self {
        if let Self::Kept(value) = self {
            match *value {
                Value::List(origin, items) => {
                    *self =
                        Self::List(origin, items.iter().map(|item| Self::Kept(*item)).collect());
                }
                Value::Map(origin, map) => {
                    let members = map.members();
                    let keys = map.keys().iter().map(|(at, key)| (members[*at].name, *key));
                    let keys = keys.collect();
                    let members =
                        members.iter().map(|member| (member.name, Self::Kept(member.value)));
                    *self = Self::Map(origin, members.collect(), keys);
                }
                _ => {}
            }
        }
        self
    }

    /// The value as it is now.
    pub(crate) fn to_value(&self, arena: &'a Arena) -> Value<'a> {
        match self {
            Self::Kept(value) => *value,
            Self::List(origin, items) => {
                let items: Vec<Value<'a>> = items.iter().map(|item| item.to_value(arena)).collect();
                Value::List(*origin, arena.items(&items))
            }
            Self::Map(origin, members, keys) => {
                let values = members.iter().map(|(name, value)| (*name, value.to_value(arena)));
                let made = arena.map(values.collect::<Vec<_>>());
                match made {
                    Value::Map(_, map) => {
                        let left: Vec<(&str, Value<'a>)> = keys
                            .iter()
                            .filter(|(name, _)| members.contains_key(name))
                            .copied()
                            .collect();
                        let map = if left.is_empty() { map } else { map.with_keys(arena, &left) };
                        Value::Map(*origin, map)
                    }
                    other => other,
                }
            }
        }
    }
}
