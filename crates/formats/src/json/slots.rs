//! Members of records, each read into a slot of its own: a rule that asks for `fare.amount` finds it there, and no map is built
//! on the way to it.
//!
//! Only records that are maps, and look as nearly all do, are read so. Whatever is odd in one (a name that is written with
//! escapes, or stands twice; a step into what is no map; anything broken) leaves it to the reader of whole values.

use kyanite_scan::Structure;
use kyanite_tree::Value;

use super::error::ReadError;
use super::key::Key;
use super::members::{Members, Next};
use super::read::Reader;
use crate::needs::Need;

/// Which members go into which slots.
#[derive(Clone, Debug)]
pub struct Slots {
    record: Level,
    count: usize,
}

/// The wanted members of one map.
#[derive(Clone, Debug, Default)]
struct Level {
    wanted: Vec<Wanted>,
    /// The bytes that their names end with: a bit a byte.
    ends: [u64; 4],
}

#[derive(Clone, Debug)]
struct Wanted {
    key: Key,
    name: Box<str>,
    to: To,
}

/// Where what is found goes.
#[derive(Clone, Debug)]
enum To {
    /// Into this slot; so much is needed of it.
    Slot(usize, Need),
    /// It is a map of which members are wanted.
    Inside(Level),
}

/// How many members of one map may be wanted.
const MOST: usize = u64::BITS as usize;

impl Slots {
    /// A slot for the member at each of these paths, with what is needed of it. Gives nothing where one is empty or the
    /// beginning of another, or where a name cannot be found without looking at escapes.
    #[must_use]
    pub fn new(paths: &[(Vec<String>, Need)]) -> Option<Self> {
        let mut record = Level::default();
        for (slot, (path, need)) in paths.iter().enumerate() {
            record.add(path, slot, *need)?;
        }
        Some(Self { record, count: paths.len() })
    }

    /// How many there are.
    #[must_use]
    pub fn count(&self) -> usize {
        self.count
    }
}

impl Level {
    fn add(&mut self, path: &[String], slot: usize, need: Need) -> Option<()> {
        let (name, inner) = path.split_first()?;
        let known = self.wanted.iter().position(|wanted| *wanted.name == **name);
        let level = match known.and_then(|at| self.wanted.get_mut(at)) {
            Some(Wanted { to: To::Inside(level), .. }) => level,
            Some(_) => return None,
            None => {
                let key = Key::new(name);
                if !key.is_plain() || self.wanted.len() == MOST {
                    return None;
                }
                // An empty name ends with the quote that opens it.
                let end = name.bytes().last().unwrap_or(b'"');
                self.ends[usize::from(end >> 6)] |= 1 << (end & 63);
                let to = match inner {
                    [] => To::Slot(slot, need),
                    _ => To::Inside(Self::default()),
                };
                self.wanted.push(Wanted { key, name: name.as_str().into(), to });
                match self.wanted.last_mut() {
                    Some(Wanted { to: To::Inside(level), .. }) => level,
                    _ => return Some(()),
                }
            }
        };
        level.add(inner, slot, need)
    }

    /// The wanted member whose quoted name `before` ends with, and its number.
    #[inline]
    fn find(&self, before: &[u8]) -> Option<(usize, &Wanted)> {
        let end = before[before.len().checked_sub(2)?];
        if self.ends[usize::from(end >> 6)] >> (end & 63) & 1 == 0 {
            return None;
        }
        self.wanted.iter().enumerate().find(|(_, wanted)| wanted.key.ends(before))
    }
}

/// A member that was looked for.
#[derive(Clone, Copy, Debug, Default)]
pub struct Slot<'a> {
    /// Its value, if it is there.
    pub value: Option<Value<'a>>,
    /// How a scalar stands in the text, where it is [written](super::write) just so; else empty.
    pub token: &'a [u8],
}

/// What came of a record.
#[derive(Clone, Copy, Debug)]
pub enum Slotted<'a> {
    /// Its members are in the slots.
    Slots,
    /// It was read as a value, as far as it is needed.
    Value(Value<'a>),
}

impl<'a> Reader<'a> {
    /// Reads the next record into slots, or as a value; gives nothing when only blank space is left. A slot is nothing
    /// where a record has no such member.
    ///
    /// # Errors
    /// As [`Reader::next_value`].
    pub fn next_slots(
        &mut self,
        slots: &Slots,
        found: &mut [Slot<'a>],
    ) -> Result<Option<Slotted<'a>>, ReadError> {
        if !self.begin_record() {
            return Ok(None);
        }
        if let (b'{', Some(structure)) = (self.bytes[self.at], self.structure)
            && let Some(opening) = structure.number_at(self.at, self.mark)
        {
            let (start, duplicates) = (self.at, self.duplicates.len());
            found.fill(Slot::default());
            if let Some(closing) = self.fill(&slots.record, structure, opening, found)
                && let Some(end) = structure.bracket(closing)
            {
                (self.at, self.mark) = (end + 1, closing + 1);
                return Ok(Some(Slotted::Slots));
            }
            self.duplicates.truncate(duplicates);
            self.forget_open();
            self.at = start;
        }
        self.whole_value().map(|value| Some(Slotted::Value(value)))
    }

    /// Fills the slots from the map that the bracket of number `opening` opens; gives the number of its closing bracket, or
    /// nothing where anything is odd.
    fn fill(
        &mut self,
        level: &Level,
        structure: &Structure,
        opening: usize,
        found: &mut [Slot<'a>],
    ) -> Option<usize> {
        let bytes = self.bytes;
        if level.wanted.is_empty() {
            return structure.container_end(bytes, opening, self.depth_left());
        }
        self.push_open(structure.bracket(opening)?, true).ok()?;
        let mut members = Members::new(bytes, structure, opening, self.depth_left());
        let mut seen = 0_u64;
        loop {
            let (quote, value) = match members.next() {
                Next::Member { quote, value } => (quote, value),
                Next::End(closing) => {
                    self.open.pop();
                    return Some(closing);
                }
                Next::Odd => return None,
            };
            let Some((position, wanted)) = level.find(&bytes[..=quote]) else { continue };
            if seen >> position & 1 == 1 {
                return None;
            }
            seen |= 1 << position;
            match &wanted.to {
                To::Slot(slot, need) => {
                    let read = self.slot_value(*need, structure, members.bracket(), value)?;
                    *found.get_mut(*slot)? = read;
                    members.go_on(members.bracket(), self.at);
                }
                To::Inside(inner) if bytes[value] == b'{' => {
                    let closing = self.fill(inner, structure, members.bracket(), found)?;
                    members.go_on(closing + 1, structure.bracket(closing)?);
                }
                To::Inside(_) => return None,
            }
        }
    }

    /// Reads the value that begins at byte `at`, and sees that the map ends or goes on behind it.
    #[inline]
    fn slot_value(
        &mut self,
        need: Need,
        structure: &Structure,
        bracket: usize,
        at: usize,
    ) -> Option<Slot<'a>> {
        let (value, is_as_written) = match self.bytes[at] {
            b'"' if !structure.has_escapes() => {
                let end = structure.closing_quote(at)?;
                self.at = end + 1;
                (Value::Text(self.origin(at), self.text.get(at + 1..end)?), true)
            }
            b'-' | b'0'..=b'9' => {
                self.at = at;
                (Value::Number(self.origin(at), self.number().ok()?), true)
            }
            _ => (self.inner_value(need, bracket, at).ok()?, false),
        };
        let token = if is_as_written { &self.bytes[at..self.at] } else { &[] };
        matches!(self.skip_blank(), Some(b',' | b'}')).then_some(Slot { value: Some(value), token })
    }
}
