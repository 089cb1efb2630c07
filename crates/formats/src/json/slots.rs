//! Reads members of records into slots: a rule that asks for `fare.amount` finds it in its slot, and no map is built on the way.
//!
//! Only maps of the usual form are read so. A record with anything unusual (a name with escapes, a duplicate name, a step into something
//! that is no map, an error) is left to the reader of whole values.

use kyanite_tree::Value;

use super::key::Key;
use crate::projection::Projected;

/// Which members go into which slots.
#[derive(Clone, Debug)]
pub struct Slots {
    record: Level,
    count: usize,
    /// Whether the text of records is wanted as well.
    text: Text,
    /// Those that have to be there.
    required: Vec<usize>,
}

/// Whether the text of records is wanted.
#[derive(Clone, Debug)]
enum Text {
    /// No.
    Unwanted,
    /// Of some records, when their members are known.
    OnDemand,
    /// With the members, of records that have none of these names.
    Without(Vec<Key>),
}

/// The wanted members of one map.
#[derive(Clone, Debug, Default)]
pub(super) struct Level {
    wanted: Vec<Wanted>,
}

#[derive(Clone, Debug)]
struct Wanted {
    key: Key,
    name: Box<str>,
    to: To,
}

/// Where what is found goes.
#[derive(Clone, Debug)]
pub(super) enum To {
    /// Into this slot; so much is needed of it.
    Slot(usize, Projected),
    /// It is a map of which members are wanted.
    Inside(Level),
}

impl Slots {
    /// A slot for the member at each of these paths, with what is needed of it. Returns None where one is empty or the
    /// beginning of another, or where a name cannot be found without looking at escapes.
    #[must_use]
    pub fn new(paths: &[(Vec<String>, Projected)]) -> Option<Self> {
        let mut record = Level::default();
        for (slot, (path, projected)) in paths.iter().enumerate() {
            record.add(path, slot, *projected)?;
        }
        Some(Self { record, count: paths.len(), text: Text::Unwanted, required: Vec::new() })
    }

    /// The same slots, of records that can be handed on as they stand and have none of these names; others are values.
    #[must_use]
    pub fn with_text_without<'n>(mut self, names: impl IntoIterator<Item = &'n str>) -> Self {
        self.text = Text::Without(names.into_iter().map(Key::new).collect());
        self
    }

    /// The same slots, of records whose text may be asked for, with [`Reader::write_line`](super::Reader::write_line).
    #[must_use]
    pub fn with_text_on_demand(mut self) -> Self {
        self.text = Text::OnDemand;
        self
    }

    /// The same slots, of records that have the members of these slots; others are values.
    #[must_use]
    pub fn requiring(self, required: Vec<usize>) -> Self {
        Self { required, ..self }
    }

    /// Whether the text of records comes with their members.
    pub(super) fn have_text(&self) -> bool {
        matches!(self.text, Text::Without(_))
    }

    /// Whether the text of records is wanted, be it on demand.
    #[must_use]
    pub fn may_have_text(&self) -> bool {
        !matches!(self.text, Text::Unwanted)
    }

    /// Whether a quoted name is one that a record may not have whose text is wanted.
    pub(super) fn may_not_have(&self, quoted: &[u8]) -> bool {
        matches!(&self.text, Text::Without(names) if names.iter().any(|key| key.ends(quoted)))
    }

    /// What is wanted of a record.
    pub(super) fn record(&self) -> &Level {
        &self.record
    }

    /// Those that have to be there.
    pub(super) fn required(&self) -> &[usize] {
        &self.required
    }

    /// The paths that lead to them.
    #[must_use]
    pub fn paths(&self) -> Vec<String> {
        self.places().into_iter().map(|(path, _)| path.join(".")).collect()
    }

    /// The names that lead to each, and its number.
    pub(crate) fn places(&self) -> Vec<(Vec<&str>, usize)> {
        let mut places = Vec::new();
        self.record.add_places(&[], &mut places);
        places
    }

    /// How many there are.
    #[must_use]
    pub fn count(&self) -> usize {
        self.count
    }
}

impl Level {
    fn add_places<'s>(&'s self, before: &[&'s str], places: &mut Vec<(Vec<&'s str>, usize)>) {
        for Wanted { name, to, .. } in &self.wanted {
            let path = [before, &[&**name]].concat();
            match to {
                To::Slot(slot, _) => places.push((path, *slot)),
                To::Inside(level) => level.add_places(&path, places),
            }
        }
    }

    fn add(&mut self, path: &[String], slot: usize, projected: Projected) -> Option<()> {
        let (name, inner) = path.split_first()?;
        let known = self.wanted.iter().position(|wanted| *wanted.name == **name);
        let level = match known.and_then(|at| self.wanted.get_mut(at)) {
            Some(Wanted { to: To::Inside(level), .. }) => level,
            Some(_) => return None,
            None => {
                let key = Key::new(name);
                if !key.is_plain() {
                    return None;
                }
                let to = match inner {
                    [] => To::Slot(slot, projected),
                    _ => To::Inside(Self::default()),
                };
                self.wanted.push(Wanted { key, name: name.as_str().into(), to });
                match self.wanted.last_mut() {
                    Some(Wanted { to: To::Inside(level), .. }) => level,
                    _ => return Some(()),
                }
            }
        };
        level.add(inner, slot, projected)
    }

    /// Where the member goes whose quoted name `before` ends with, if it is wanted.
    pub(super) fn find(&self, before: &[u8]) -> Option<&To> {
        self.wanted.iter().find(|wanted| wanted.key.ends(before)).map(|wanted| &wanted.to)
    }
}

/// A member that the caller asked for.
#[derive(Clone, Copy, Debug, Default)]
pub struct Slot<'a> {
    /// Its value, if it is there.
    pub value: Option<Value<'a>>,
    /// How a scalar stands in the text, where it is [written](super::write) just so; else empty.
    pub token: &'a [u8],
    /// How it stands in the text, whatever it is.
    pub text: &'a [u8],
}

/// What came of a record.
#[derive(Clone, Copy, Debug)]
pub enum Slotted<'a> {
    /// Its members are in the slots. This is its text, if that is wanted, as it can be handed on.
    Slots(&'a str),
    /// It was read as a value, as far as it is needed.
    Value(Value<'a>),
}
