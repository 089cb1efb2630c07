//! Reads members of records into slots by templates: in all records that follow one [template](super::templates), a member begins and
//! ends at fixed distances from the same scalars.
//!
//! Where the text of the records is wanted too, each is written as a [line](super::lines) first, and its members are found in that line.

use std::ops::Range;

use kyanite_scan::Structure;
use kyanite_tree::{Event, Number, ScalarKind, ScalarSpan, Value};

use super::error::ReadError;
use super::events::EventReader;
use super::lines::{LineWriter, has_needed_escapes};
use super::part::PartStructure;
use super::read::{Origins, Reader, ReaderOptions};
use super::slots::{Level, Slot, Slots, Slotted, To};
use super::string::unescape;
use super::templates::Templates;
use super::walk::{Found, Place, Step, Walk};
use crate::templates::Followed;

/// What is known of records so far that were read into the same slots.
#[derive(Debug, Default)]
pub struct SlotTemplates {
    templates: Templates,
    /// Where the slots are in records of each template; `None` where these have to be read as values.
    fields: Vec<Option<Fields>>,
    lines: LineWriter,
    /// The line of the record that is read, unless that is its text.
    line: Vec<u8>,
    /// Where the scalars end in it.
    ends: Vec<usize>,
    /// The record that was read last, if it followed a template: where it begins, and what it followed.
    last: Option<(usize, Followed)>,
}

/// Where the value of each slot is, if it is there.
type Fields = Box<[Option<Field>]>;

/// Where a value begins and ends.
#[derive(Clone, Debug)]
struct Field {
    begin: Place,
    end: Place,
    what: What,
}

/// What it is.
#[derive(Clone, Debug)]
enum What {
    /// The scalar of that number.
    Scalar(usize),
    /// A list or map that is built so.
    Built(Box<[Step]>),
}

impl SlotTemplates {
    /// None, and no search for any.
    #[must_use]
    pub fn unused() -> Self {
        Self { templates: Templates::unused(), ..Self::default() }
    }

    /// How many records followed one since this was last asked.
    pub fn take_followed(&mut self) -> u64 {
        self.templates.take_followed()
    }
}

impl<'a> Reader<'a> {
    /// Reads the next record into slots, or as a value; returns None when only blank space is left. A slot is empty where a
    /// record has no such member. What is `known` is of records before, in this text or in others, read into the same slots.
    ///
    /// # Errors
    /// As [`Reader::next_value`].
    pub fn next_slots(
        &mut self,
        slots: &Slots,
        known: &mut SlotTemplates,
        found: &mut [Slot<'a>],
    ) -> Result<Option<Slotted<'a>>, ReadError> {
        if !self.begin_record() {
            return Ok(None);
        }
        let start = self.at;
        known.last = None;
        if self.bytes[start] == b'{' {
            if let Some((text, end)) = self.slots_from(start, slots, known, found) {
                self.at = end;
                return Ok(Some(Slotted::Slots(text)));
            }
            self.forget_open();
            self.at = start;
        }
        self.whole_value().map(|value| Some(Slotted::Value(value)))
    }

    /// Reads the record that begins at a byte into slots, if it can be; gives its text, if that is wanted, and where it ends.
    #[inline]
    fn slots_from(
        &mut self,
        start: usize,
        slots: &Slots,
        known: &mut SlotTemplates,
        found: &mut [Slot<'a>],
    ) -> Option<(&'a str, usize)> {
        if known.templates.are_useful() {
            let mut scalars = std::mem::take(&mut self.scalars);
            let followed = known.templates.follow(self.text, start, &mut scalars);
            let text = followed.and_then(|followed| {
                self.followed_slots((slots, known), (start, followed), &scalars, found)
            });
            self.scalars = scalars;
            if let Some(Followed { end, .. }) = followed {
                // What was not learned with the first record of a template holds for none of them.
                return Some((text?, end));
            }
        }
        let mut part = std::mem::take(&mut self.part);
        let read = self.slots_by_events(start, slots, known, &mut part, found);
        self.part = part;
        read
    }

    /// The same by the events of the record, of which the template is learned.
    fn slots_by_events(
        &mut self,
        start: usize,
        slots: &Slots,
        known: &mut SlotTemplates,
        part: &mut PartStructure,
        found: &mut [Slot<'a>],
    ) -> Option<(&'a str, usize)> {
        let (mut events, before) = part.events(self.text, start)?;
        let (at, depth) = (start - before, self.options.depth);
        if slots.have_text() {
            known.line.clear();
            let end = known.lines.by_events(&mut events, depth, &mut known.line)?;
            let line = self.arena.text(std::str::from_utf8(&known.line).ok()?);
            let structure = Structure::of(line.as_bytes());
            let projection = (self.projection, depth);
            let mut walk = Walk::new(EventReader::new(line, &structure)?, 0, projection);
            let fields = fields(&mut walk, slots);
            let (_, Found { scalars, .. }) = walk.end();
            let template = known.learn(&mut events, at, &fields);
            if let Some(template) = template {
                known.lines.learn(template, &known.line);
            }
            known.ends.clear();
            known.ends.extend(scalars.iter().map(|scalar| scalar.end));
            self.fill_from_line(line, &fields?, &known.ends, found)?;
            return Some((line, before + end));
        }
        if slots.may_have_text() {
            known.line.clear();
            known.lines.by_events(&mut events, depth, &mut known.line)?;
            events.seek(at);
        }
        let mut walk = Walk::new(events, at, (self.projection, depth));
        let fields = fields(&mut walk, slots);
        let (mut events, Found { mut scalars, .. }) = walk.end();
        let end = events.end()?;
        if let Some(template) = known.learn(&mut events, at, &fields)
            && slots.may_have_text()
        {
            known.lines.learn(template, &known.line);
        }
        scalars.iter_mut().for_each(|scalar| *scalar = scalar.behind(before));
        self.fill(start, &fields?, &scalars, found)?;
        Some(("", before + end))
    }

    /// Reads a record that follows a template and has these scalars into slots; gives its text, if that is wanted.
    #[inline]
    fn followed_slots(
        &mut self,
        (slots, known): (&Slots, &mut SlotTemplates),
        (start, Followed { template, end }): (usize, Followed),
        scalars: &[ScalarSpan],
        found: &mut [Slot<'a>],
    ) -> Option<&'a str> {
        let fields = known.fields.get(template)?.as_deref()?;
        if !slots.have_text() {
            self.fill(start, fields, scalars, found)?;
            known.last = Some((start, Followed { template, end }));
            return Some("");
        }
        if known.lines.is_verbatim(template, (self.text, scalars))? {
            self.fill(start, fields, scalars, found)?;
            return self.text.get(start..end);
        }
        let SlotTemplates { lines, line, ends, .. } = known;
        line.clear();
        ends.clear();
        lines.by_scalars((self.text, start..end), template, scalars, line, |end| ends.push(end));
        let line = self.arena.text(std::str::from_utf8(line).ok()?);
        self.fill_from_line(line, fields, ends, found)?;
        Some(line)
    }

    /// Appends the line of the record that was read last into slots whose text is on demand.
    pub fn write_line(&mut self, known: &mut SlotTemplates, out: &mut Vec<u8>) {
        let SlotTemplates { lines, line, last, .. } = known;
        let Some((start, Followed { template, end })) = *last else {
            out.extend_from_slice(line);
            return;
        };
        // What was learned with the first record of a template has its line.
        let _ = lines.by_template((self.text, start..end), template, &self.scalars, out);
    }

    /// Fills the slots from the record that begins at a byte and has these scalars.
    #[inline]
    fn fill(
        &mut self,
        start: usize,
        fields: &[Option<Field>],
        scalars: &[ScalarSpan],
        found: &mut [Slot<'a>],
    ) -> Option<()> {
        for (field, slot) in fields.iter().zip(found) {
            *slot = match field {
                None => Slot::default(),
                Some(Field { what: What::Scalar(number), .. }) => {
                    let scalar = scalars.get(*number)?;
                    let is_quoted = matches!(scalar.kind, ScalarKind::Text | ScalarKind::Escaped);
                    let quote = usize::from(is_quoted);
                    let text = self.bytes.get(scalar.start - quote..scalar.end + quote)?;
                    let is_written_so =
                        scalar.kind != ScalarKind::Escaped || has_needed_escapes(text);
                    let token = if is_written_so { text } else { &[][..] };
                    Slot { value: Some(self.scalar(scalar)?), token, text }
                }
                Some(Field { begin, end, what: What::Built(plan) }) => {
                    let (begin, end) = (begin.among(start, scalars)?, end.among(start, scalars)?);
                    let text = self.bytes.get(begin..end)?;
                    Slot { value: Some(self.build(start, plan, scalars)?), token: &[], text }
                }
            };
        }
        Some(())
    }

    /// Fills the slots from a line, whose scalars end there.
    fn fill_from_line(
        &mut self,
        line: &'a str,
        fields: &[Option<Field>],
        ends: &[usize],
        found: &mut [Slot<'a>],
    ) -> Option<()> {
        for (field, slot) in fields.iter().zip(found) {
            *slot = match field {
                None => Slot::default(),
                Some(field) => {
                    let place = |place: Place| place.at(0, |last| ends.get(last).copied());
                    self.in_line(line, place(field.begin)?..place(field.end)?)?
                }
            };
        }
        Some(())
    }

    /// The value that stands at `place` in a line.
    fn in_line(&mut self, line: &'a str, place: Range<usize>) -> Option<Slot<'a>> {
        let text = line.get(place.clone())?;
        let (origin, bytes) = (self.origin(self.at), text.as_bytes());
        let value = match *bytes.first()? {
            b'"' if memchr::memchr(b'\\', bytes).is_none() => {
                Value::Text(origin, text.get(1..text.len() - 1)?)
            }
            b'"' => {
                unescape(line, place.start + 1, place.start + 1, &mut self.unescaped).ok()?;
                let value = Value::Text(origin, self.arena.text(&self.unescaped));
                return Some(Slot { value: Some(value), token: &[], text: bytes });
            }
            b'{' | b'[' => {
                let options = ReaderOptions { origins: Origins::Fixed(origin), ..self.options };
                let value = Reader::new(text, self.arena, options).next_value().ok()?;
                return Some(Slot { value, token: &[], text: bytes });
            }
            b't' => Value::Boolean(origin, true),
            b'f' => Value::Boolean(origin, false),
            b'n' => Value::Null(origin),
            _ => Value::Number(origin, Number::from_checked(text)),
        };
        Some(Slot { value: Some(value), token: bytes, text: bytes })
    }
}

impl SlotTemplates {
    /// Learns the template of the record that begins at a byte, and where slots are in records of that template; returns its number.
    fn learn(
        &mut self,
        events: &mut EventReader<'_, '_>,
        start: usize,
        fields: &Option<Fields>,
    ) -> Option<usize> {
        if !self.templates.are_useful() {
            return None;
        }
        let template = self.templates.learn(events, start)?;
        if self.fields.len() <= template {
            self.fields.resize(template + 1, None);
        }
        self.fields[template].clone_from(fields);
        Some(template)
    }
}

/// Where the slots are in a record. Nothing where a reader of values has to look at it: it is no map, a step leads into what is none, it
/// lacks what is required or has a name that it may not have, or what the [walk](Walk) cannot tell.
fn fields(walk: &mut Walk<'_, '_>, slots: &Slots) -> Option<Fields> {
    let mut fields = vec![None; slots.count()].into_boxed_slice();
    if walk.next()? != Event::BeginMap {
        return None;
    }
    members(walk, slots, (slots.record(), true), &mut fields)?;
    let is_there = |slot: &usize| fields.get(*slot).is_some_and(Option::is_some);
    slots.required().iter().all(is_there).then_some(fields)
}

/// Where the slots are in a map that has begun.
fn members(
    walk: &mut Walk<'_, '_>,
    slots: &Slots,
    (level, is_record): (&Level, bool),
    fields: &mut [Option<Field>],
) -> Option<()> {
    loop {
        match walk.next()? {
            Event::EndMap => return Some(()),
            Event::Name(_) => {}
            _ => return None,
        }
        let (text, behind) = (walk.text(), walk.position());
        let quoted = text.as_bytes().get(..walk.name_end())?;
        if is_record && slots.may_not_have(quoted) {
            return None;
        }
        match level.find(quoted) {
            None => walk.value(None)?,
            Some(To::Slot(slot, projected)) => {
                let value = text.get(behind..)?;
                let begin = walk.place(behind + (value.len() - value.trim_ascii_start().len()));
                let (scalar, steps) = (walk.scalars(), walk.steps());
                walk.value(Some(*projected))?;
                let what = match walk.steps_from(steps) {
                    [Step::Scalar(_)] => What::Scalar(scalar),
                    steps => What::Built(steps.into()),
                };
                let end = walk.place(walk.position());
                *fields.get_mut(*slot)? = Some(Field { begin, end, what });
            }
            Some(To::Inside(level)) => {
                if walk.next()? != Event::BeginMap {
                    return None;
                }
                members(walk, slots, (level, false), fields)?;
            }
        }
    }
}
