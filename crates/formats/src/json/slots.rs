//! Members of records, each read into a slot of its own: a rule that asks for `fare.amount` finds it there, and no map is built
//! on the way to it.
//!
//! Only records that are maps, and look as nearly all do, are read so. Whatever is odd in one (a name that is written with
//! escapes, or stands twice; a step into what is no map; anything broken) leaves it to the reader of whole values.

use kyanite_scan::Structure;
use kyanite_tree::{Number, Value};

use super::error::ReadError;
use super::key::Key;
use super::members::{Members, Next};
use super::read::Reader;
use super::shapes::{Layout, Shapes, SlotAt};
use crate::needs::Need;
use kyanite_scan::number_end;

/// Which members go into which slots.
#[derive(Clone, Debug)]
pub struct Slots {
    record: Level,
    count: usize,
    /// The names that a record may not have whose text is wanted as well, if it is.
    with_text: Option<Vec<Key>>,
    /// Those that have to be there.
    required: Vec<usize>,
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
        Some(Self { record, count: paths.len(), with_text: None, required: Vec::new() })
    }

    /// The same slots, of records that can be handed on as they stand and have none of these names; others are values.
    #[must_use]
    pub fn with_text_without<'n>(mut self, names: impl IntoIterator<Item = &'n str>) -> Self {
        self.with_text = Some(names.into_iter().map(Key::new).collect());
        self
    }

    /// The same slots, of records that have the members of these slots; others are values.
    #[must_use]
    pub fn requiring(self, required: Vec<usize>) -> Self {
        Self { required, ..self }
    }

    /// Whether the text of records is wanted as well.
    #[must_use]
    pub fn have_text(&self) -> bool {
        self.with_text.is_some()
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
    /// How it stands in the text, whatever it is.
    pub text: &'a [u8],
}

/// The layout of a record that is being gone through, from its opening bracket on.
struct Draft {
    layout: Layout,
    opening: usize,
}

/// What came of a record.
#[derive(Clone, Copy, Debug)]
pub enum Slotted<'a> {
    /// Its members are in the slots. This is its text, if that is wanted, as it can be handed on.
    Slots(&'a str),
    /// It was read as a value, as far as it is needed.
    Value(Value<'a>),
}

impl<'a> Reader<'a> {
    /// Reads the next record into slots, or as a value; gives nothing when only blank space is left. A slot is empty where a
    /// record has no such member. `shapes` are those of records before, in this text or in others, read into the same slots.
    ///
    /// # Errors
    /// As [`Reader::next_value`].
    pub fn next_slots(
        &mut self,
        slots: &Slots,
        shapes: &mut Shapes,
        found: &mut [Slot<'a>],
    ) -> Result<Option<Slotted<'a>>, ReadError> {
        if !self.begin_record() {
            return Ok(None);
        }
        if let (b'{', Some(structure)) = (self.bytes[self.at], self.structure) {
            let (start, duplicates) = (self.at, self.duplicates.len());
            if let Some(opening) = structure.number_at(start, self.mark)
                && self.fill_slots(slots, structure, opening, shapes, found).is_some()
                && slots.required.iter().all(|at| found[*at].value.is_some())
            {
                let end = self.at;
                let text = match &slots.with_text {
                    None => Some(""),
                    Some(without) => self.verbatim(start, without),
                };
                if let Some(text) = text {
                    self.at = end;
                    return Ok(Some(Slotted::Slots(text)));
                }
            }
            self.duplicates.truncate(duplicates);
            self.forget_open();
            self.at = start;
        }
        self.whole_value().map(|value| Some(Slotted::Value(value)))
    }

    /// Reads the map that the bracket of number `opening` opens into slots; gives nothing where anything is odd.
    #[inline]
    fn fill_slots(
        &mut self,
        slots: &Slots,
        structure: &Structure,
        opening: usize,
        shapes: &mut Shapes,
        found: &mut [Slot<'a>],
    ) -> Option<()> {
        let record = &slots.record;
        let mut layout = None;
        if !record.wanted.is_empty() && shapes.are_useful() {
            let known = shapes.fit(self.bytes, structure, opening).and_then(|fit| {
                if !fit.fills(slots.count) {
                    found.fill(Slot::default());
                }
                for (at, SlotAt { slot, need, depth, bracket }) in fit.places() {
                    // As deep as it is where it is gone through.
                    self.inside = depth;
                    let slot = found.get_mut(slot)?;
                    let read = self.slot_value(need, structure, opening + bracket, at, slot);
                    self.inside = 0;
                    read?;
                }
                Some(fit.next())
            });
            shapes.note(known.is_some());
            if let Some(next) = known {
                (self.at, self.mark) = (structure.bracket(next - 1)? + 1, next);
                return Some(());
            }
            layout = Some(Layout::default());
        }
        found.fill(Slot::default());
        let mut draft = layout.map(|layout| Draft { layout, opening });
        let closing = self.fill(record, structure, opening, found, &mut draft)?;
        (self.at, self.mark) = (structure.bracket(closing)? + 1, closing + 1);
        if let Some(Draft { layout, .. }) = draft {
            shapes.learn(layout, structure.kinds(opening).get(..=closing - opening)?);
        }
        Some(())
    }

    /// Sees that the map ends or goes on behind a value.
    #[inline]
    pub(super) fn goes_on(&mut self) -> Option<()> {
        matches!(self.skip_blank(), Some(b',' | b'}')).then_some(())
    }

    /// Fills the slots from the map that the bracket of number `opening` opens; gives the number of its closing bracket, or
    /// nothing where anything is odd. Where names and slots are is noted in the draft, as long as there is one.
    fn fill(
        &mut self,
        level: &Level,
        structure: &Structure,
        opening: usize,
        found: &mut [Slot<'a>],
        draft: &mut Option<Draft>,
    ) -> Option<usize> {
        let bytes = self.bytes;
        if level.wanted.is_empty() {
            return structure.container_end(opening, self.depth_left());
        }
        self.push_open(structure.bracket(opening)?, true).ok()?;
        let mut members = Members::<true>::new(bytes, structure, opening, self.depth_left());
        let mut seen = 0_u64;
        loop {
            let (quote, value) = match members.next() {
                Next::Member { quote, value } => (quote, value),
                Next::End(closing) => {
                    if let Some(draft) = draft {
                        draft.layout.end(closing - draft.opening);
                    }
                    self.open.pop();
                    return Some(closing);
                }
                Next::Odd => return None,
            };
            let wanted = level.find(&bytes[..=quote]);
            if let Some(known) = draft.as_mut() {
                let bracket = members.bracket() - known.opening;
                let slot = match wanted {
                    Some((_, Wanted { to: To::Slot(slot, need), .. })) => {
                        Some(SlotAt { slot: *slot, need: *need, depth: self.open.len(), bracket })
                    }
                    _ => None,
                };
                let learned = structure.opening_quote(quote).and_then(|opened| {
                    let quotes = (opened, quote);
                    known.layout.name(bracket, self.text, quotes, value, slot)
                });
                if learned.is_none() {
                    *draft = None;
                }
            }
            let Some((position, wanted)) = wanted else { continue };
            if seen >> position & 1 == 1 {
                return None;
            }
            seen |= 1 << position;
            match &wanted.to {
                To::Slot(slot, need) => {
                    let slot = found.get_mut(*slot)?;
                    self.slot_value(*need, structure, members.bracket(), value, slot)?;
                    members.go_on(members.bracket(), self.at);
                }
                To::Inside(inner) if bytes[value] == b'{' => {
                    let closing = self.fill(inner, structure, members.bracket(), found, draft)?;
                    let end = structure.bracket(closing)?;
                    self.at = end + 1;
                    self.goes_on()?;
                    members.go_on(closing + 1, end);
                    if let Some(draft) = draft {
                        draft.layout.behind_map(closing - draft.opening);
                    }
                }
                To::Inside(_) => return None,
            }
        }
    }

    /// Reads the value that begins at byte `at` into a slot, and sees what is behind it.
    #[inline]
    fn slot_value(
        &mut self,
        need: Need,
        structure: &Structure,
        bracket: usize,
        at: usize,
        slot: &mut Slot<'a>,
    ) -> Option<()> {
        let origin = self.origin(at);
        let plain = match *self.bytes.get(at)? {
            b'"' => {
                let end = structure.closing_quote(at)?;
                let text = self.text.get(at + 1..end)?;
                let is_plain = !structure.has_escapes() || !text.contains('\\');
                is_plain.then_some((Value::Text(origin, text), end + 1))
            }
            b'-' | b'0'..=b'9' => {
                let end = number_end(self.bytes, at).ok()?;
                let number = Number::from_checked(self.text.get(at..end)?);
                Some((Value::Number(origin, number), end))
            }
            _ => None,
        };
        let (value, token) = match plain {
            Some((value, end)) => {
                self.at = end;
                (value, self.bytes.get(at..end)?)
            }
            None => (self.inner_value(need, bracket, at).ok()?, &[][..]),
        };
        *slot = Slot { value: Some(value), token, text: self.bytes.get(at..self.at)? };
        self.goes_on()
    }
}
