//! The elements at a path of a document, one after another, from a text that may be only a part of it.
//!
//! What stands before the root element is read once, as a [`Prolog`](super::Prolog); between two parts an [`Ancestry`] says which
//! elements are open. So a document of any size is read in memory that holds one part; all of it is checked, also what is not
//! among the records.

mod path;

use std::borrow::Cow;

use kyanite_tree::{Arena, Element, Name, Value};

use super::ancestry::{Ancestry, Elements, StepName};
use super::dropped::Dropping;
use super::fields::{SlotReading, SlotTemplates};
use super::lines::ElementLines;
use super::prefilter::Prefilter;
use super::projected_elements::ProjectedElements;
use super::read::Reader;
use super::repair::Repair;
use crate::SyntaxError;
use crate::json::{Slot, Slots, Slotted};
use crate::projection::{Projected, Projection};
use crate::record_view::View;
use crate::records::PassedOver;

/// Reads the elements at a path.
pub struct RecordReader<'a> {
    reader: Reader<'a>,
    path: &'a [StepName],
    /// How many of the open elements are on the path.
    on_path: usize,
    /// How many of the elements that were open where the text begins have been open since.
    still_open: usize,
    /// Up to where the text was read and need not be read again.
    committed: usize,
    /// How much was repaired up to there.
    committed_repairs: usize,
    /// How the tag of the last record is written.
    record_name: Option<&'a str>,
    /// The name in the tag of the last record, as long as it means the same.
    again: Option<&'a str>,
    lines: ElementLines,
    /// What steps over elements that are no records and hold none.
    passing: ElementLines,
    prefiltered: Option<Box<PrefilteredElements<'a>>>,
    /// Names of elements that stood where one on the path could have stood, with the level.
    others: Vec<(usize, Name<'a>)>,
    /// Whether any stood there, their names told or not.
    has_others: bool,
    /// Namespaces of records that a name without prefix means.
    namespaces: Vec<&'a str>,
    /// What records are read into, if they are read into slots.
    slots: SlotReading<'a>,
}

/// How records are wanted.
enum Wanted<'w, 'a> {
    /// As they are.
    Values,
    /// As lines of JSON behind others, as a view sees them.
    Lines(&'w mut View, &'w mut Vec<u8>),
    /// In slots.
    Slots(&'w Slots, &'w mut SlotTemplates, &'w mut [Slot<'a>]),
}

/// What comes next in a run of records.
enum Next<'a> {
    /// One in the form that was wanted.
    Wanted,
    /// One that is not so plain that it could be.
    Record(Value<'a>),
}

/// What comes next in a run of records that are wanted as lines of JSON.
pub enum LineOrRecord<'a> {
    /// A line that was written.
    Line,
    /// A record that is not so plain that it could be.
    Record(Value<'a>),
}

/// Names that are kept for the report of a path that leads nowhere.
const NAMES: usize = 200;

/// Namespaces of records that are told apart.
const NAMESPACES: usize = 4;

impl<'a> RecordReader<'a> {
    /// A reader of the elements in a part of a document that begins at `place`, behind the prolog.
    #[must_use]
    pub fn new(
        text: &'a str,
        arena: &'a Arena,
        elements: Elements<'a>,
        place: Ancestry<'a>,
    ) -> Self {
        let Elements { path, prolog, options, dropped, keeps_around } = elements;
        let mut reader = Reader::new(text, arena, options);
        reader.dtd = Cow::Borrowed(&prolog.dtd);
        if options.drop_namespaces {
            reader.dropping = Dropping::of(dropped);
        }
        (reader.is_part, reader.has_root) = (true, place.has_root);
        reader.keeps_around = keeps_around;
        reader.around = place.open.to_vec();
        for ancestor in place.open {
            reader.scope.enter(ancestor.bindings);
        }
        Self {
            reader,
            path,
            on_path: place.on_path,
            still_open: place.open.len(),
            committed: 0,
            committed_repairs: 0,
            record_name: None,
            again: None,
            lines: ElementLines::default(),
            passing: ElementLines::default(),
            prefiltered: None,
            others: Vec::new(),
            has_others: false,
            namespaces: Vec::new(),
            slots: SlotReading::default(),
        }
    }

    /// The same reader, building of each record only the child elements that are needed, as far as the others are plain. Their
    /// grammar is checked all the same.
    #[must_use]
    pub fn with_projection(mut self, projection: &'a Projection) -> Self {
        if projection.of_record() != Projected::ALL && !self.reader.options.lenient {
            self.reader.projected_elements = Some(Box::new(ProjectedElements::new(projection)));
        }
        self
    }

    /// The same reader, passing over records that certainly fail a condition; how many is told by [`Self::take_passed_over`].
    #[must_use]
    pub fn with_prefilter(mut self, prefilter: &'a Prefilter) -> Self {
        // Without needs of their own records are read whole, and the reader has no use for those of the prefilter.
        let projection = self
            .reader
            .projected_elements
            .as_ref()
            .map_or(prefilter.projection(), |projected_elements| projected_elements.projection);
        let (lines, passed_over) = (ElementLines::default(), PassedOver::default());
        self.prefiltered =
            Some(Box::new(PrefilteredElements { prefilter, projection, lines, passed_over }));
        self
    }

    /// What was passed over since this was last asked.
    #[inline]
    pub fn take_passed_over(&mut self) -> PassedOver {
        self.prefiltered
            .as_mut()
            .map(|prefiltered| std::mem::take(&mut prefiltered.passed_over))
            .unwrap_or_default()
    }

    /// The same reader of a part behind which nothing follows.
    pub fn is_last(&mut self) {
        self.reader.is_part = false;
    }

    /// Where the next part begins, once this one is read to its end.
    #[must_use]
    pub fn place(&self, arena: &'a Arena) -> Ancestry<'a> {
        let open = arena.slice(&self.reader.around);
        Ancestry { open, on_path: self.on_path, has_root: self.reader.has_root }
    }

    /// How many of the elements that were open where the text begins have been open since.
    #[must_use]
    pub fn still_open(&self) -> usize {
        self.still_open
    }

    /// The names and attributes of the elements around the record that was read last, outermost first, if they are wanted.
    #[must_use]
    pub fn around(&self) -> Vec<&'a Element<'a>> {
        self.reader.around.iter().filter_map(|ancestor| ancestor.element).collect()
    }

    /// The start tags of the elements that are open and began in the text; None where one stands in the text of an entity.
    #[must_use]
    pub fn open_tags(&self) -> Option<Vec<&'a str>> {
        let text = self.reader.cursor.text;
        let begun = self.reader.around.get(self.still_open..)?;
        begun
            .iter()
            .map(|ancestor| ancestor.tag.and_then(|(start, end)| text.get(start..end)))
            .collect()
    }

    /// What was repaired since this was last asked, and references that lead out of the document.
    pub fn take_repairs(&mut self) -> Vec<Repair> {
        self.committed_repairs = 0;
        std::mem::take(&mut self.reader.repairs)
    }

    /// Local names that did without their namespaces here, with these.
    pub fn take_dropped(&mut self) -> Vec<(String, String)> {
        self.reader.dropping.take_added()
    }

    /// The namespaces, a few of them, of the records so far, if their name is one without a prefix.
    #[must_use]
    pub fn namespaces(&self) -> &[&'a str] {
        &self.namespaces
    }

    /// The offset up to which the text need not be read again.
    #[must_use]
    pub fn committed(&self) -> usize {
        self.committed
    }

    /// The offset of the byte to be read next.
    #[must_use]
    pub fn position(&self) -> usize {
        self.reader.outer.first().map_or(self.reader.cursor.at, |outer| outer.cursor.at)
    }

    /// Goes on reading at byte `offset`.
    pub fn seek(&mut self, offset: usize) {
        self.reader.cursor.at = offset;
        self.committed = offset;
    }

    /// How the start tag of the last record begins: `<v:vessel`.
    #[must_use]
    pub fn record_name(&self) -> Option<&'a str> {
        self.record_name
    }

    /// Whether any element stood beside the path.
    #[must_use]
    pub fn has_others(&self) -> bool {
        self.has_others
    }

    /// Names of elements that stood where one on the path could have stood, with the number of steps that led there.
    #[must_use]
    pub fn others(&self) -> &[(usize, Name<'a>)] {
        &self.others
    }

    /// Whether the text that was read may be the whole document; a lenient reader closes what is open.
    ///
    /// # Errors
    /// When it ends inside an element, or has none.
    pub fn finish(&mut self) -> Result<(), SyntaxError> {
        if self.reader.depth() > 0 {
            self.reader.end_of_input()
        } else if self.reader.has_root {
            Ok(())
        } else {
            Err(self.reader.no_element())
        }
    }

    /// The next record, or `None` at the end of the text.
    ///
    /// # Errors
    /// A [`SyntaxError`]; it wants more when the text ends inside something.
    pub fn next_record(&mut self) -> Result<Option<Value<'a>>, SyntaxError> {
        match self.next(Wanted::Values)? {
            Some(Next::Record(record)) => Ok(Some(record)),
            _ => Ok(None),
        }
    }

    /// Reads the next record into slots, or as a value; gives None at the end of the text. What is `known` is of records before, in
    /// this text or in others, read into the same slots.
    ///
    /// # Errors
    /// As [`next_record`](Self::next_record).
    pub fn next_slots(
        &mut self,
        slots: &Slots,
        known: &mut SlotTemplates,
        found: &mut [Slot<'a>],
    ) -> Result<Option<Slotted<'a>>, SyntaxError> {
        let wanted = match self.may_use_slots(slots) {
            true => Wanted::Slots(slots, known, found),
            false => Wanted::Values,
        };
        Ok(self.next(wanted)?.map(|next| match next {
            Next::Wanted => Slotted::Slots(""),
            Next::Record(record) => Slotted::Value(record),
        }))
    }

    /// Whether records may go into slots: where names are as they are written, attributes are all there, and a record is at one depth.
    fn may_use_slots(&self, slots: &Slots) -> bool {
        let options = &self.reader.options;
        let is_other = options.lenient || options.drop_namespaces || !options.namespaces;
        let at_any_depth = self.path.last().is_some_and(|step| step.at_any_depth);
        !is_other && !at_any_depth && !slots.may_have_text() && !self.reader.dtd.has_attributes()
    }

    /// Writes the next record, as `view` sees it, as a line of JSON at the end of `out`, or gives it as it is.
    ///
    /// # Errors
    /// A [`SyntaxError`]; it wants more when the text ends inside something.
    pub fn next_line(
        &mut self,
        view: &mut View,
        out: &mut Vec<u8>,
    ) -> Result<Option<LineOrRecord<'a>>, SyntaxError> {
        Ok(self.next(Wanted::Lines(view, out))?.map(|next| match next {
            Next::Wanted => LineOrRecord::Line,
            Next::Record(record) => LineOrRecord::Record(record),
        }))
    }

    #[inline]
    fn next(&mut self, wanted: Wanted<'_, 'a>) -> Result<Option<Next<'a>>, SyntaxError> {
        let next = self.try_next(wanted);
        if let Err(error) = &next
            && error.wants_more()
            && self.reader.is_part
        {
            // What is read again is repaired again.
            self.reader.repairs.truncate(self.committed_repairs);
        }
        next
    }

    #[inline]
    fn try_next(&mut self, mut wanted: Wanted<'_, 'a>) -> Result<Option<Next<'a>>, SyntaxError> {
        loop {
            self.reader.cursor.space();
            // Within the text of an entity, what was committed is the text before the reference.
            if self.reader.outer.is_empty() {
                self.committed = self.reader.cursor.at;
                self.committed_repairs = self.reader.repairs.len();
            }
            self.reader.forget();
            let Some(byte) = self.reader.cursor.peek() else {
                if self.reader.outer.is_empty() {
                    return Ok(None);
                }
                self.reader.end_of_input()?;
                self.left();
                continue;
            };
            if self.reader.depth() == 0 {
                if self.reader.before_root()? {
                    self.reader.forget();
                    if let Some(record) = self.element()? {
                        return Ok(Some(Next::Record(record)));
                    }
                }
                continue;
            }
            if byte != b'<' {
                self.reader.plain_text()?;
                self.keep_brackets()?;
                continue;
            }
            let is_cut =
                |sign: &str| self.reader.is_part && self.reader.cursor.rest().len() < sign.len();
            match self.reader.cursor.bytes().get(self.reader.cursor.at + 1) {
                None if is_cut("<>") => return Err(self.reader.cut_off()),
                Some(b'/') => self.end_tag()?,
                Some(b'!') if self.reader.cursor.is_at("<!--") => self.reader.comment()?,
                Some(b'!') if self.reader.cursor.is_at("<![CDATA[") => {
                    self.reader.character_data()?;
                }
                // What may be the beginning of one of these.
                Some(b'!') if is_cut("<![CDATA[") => return Err(self.reader.cut_off()),
                Some(b'?') => self.reader.instruction()?,
                _ => {
                    let again = self.again.filter(|_| self.looks_for_records());
                    if let Some(name) = again
                        && self.as_wanted(name, &mut wanted).is_some()
                    {
                        return Ok(Some(Next::Wanted));
                    }
                    if let (Some(name), Some(prefiltered)) = (again, &mut self.prefiltered)
                        && let Some(end) = prefiltered.passes_over(&mut self.reader, name)
                    {
                        self.reader.cursor.at = end;
                        continue;
                    }
                    // As long as no record was met, the names of others may have to be told.
                    if self.again.is_some()
                        && let Some(end) = self.passes_over()
                    {
                        self.has_others = true;
                        self.reader.cursor.at = end;
                        continue;
                    }
                    let start = self.reader.cursor.at;
                    if let Some(record) = self.element()? {
                        if let Wanted::Slots(slots, known, _) = wanted {
                            self.learn(start, record, slots, known);
                        }
                        return Ok(Some(Next::Record(record)));
                    }
                }
            }
        }
    }

    /// Reads the record that begins here, whose name is that of the one before, in the form that is wanted, if it is plain.
    #[inline]
    fn as_wanted(&mut self, name: &str, wanted: &mut Wanted<'_, 'a>) -> Option<()> {
        match wanted {
            Wanted::Values => None,
            Wanted::Lines(view, out) => self.lines.write(&mut self.reader, name, view, out),
            Wanted::Slots(..) if !self.reader.outer.is_empty() => None,
            Wanted::Slots(_, known, found) => {
                let (cursor, lives) =
                    (&self.reader.cursor, (self.reader.arena, self.reader.options.base));
                let end = self.slots.follow((cursor.text, cursor.at), lives, known, found)?;
                self.reader.cursor.at = end;
                Some(())
            }
        }
    }

    /// Learns of a record that began at byte `start`, and was read to its end.
    fn learn(&mut self, start: usize, record: Value<'a>, slots: &Slots, known: &mut SlotTemplates) {
        // Of a record that a repair or an entity ended nothing is known.
        if let Value::Element(_, element) = record
            && self.again.is_some()
            && self.reader.outer.is_empty()
        {
            let text = (self.reader.cursor.text, start, self.reader.cursor.at);
            let about = (element, self.reader.scope.since(0), self.reader.options.base);
            self.slots.learn(text, about, slots, known);
        }
    }

    /// The end of the element that begins here, if it is plain, and neither it nor any in it has a name that is on the path.
    #[inline]
    fn passes_over(&mut self) -> Option<usize> {
        let options = &self.reader.options;
        let is_other = options.lenient || options.drop_namespaces || !options.namespaces;
        if is_other || !self.reader.outer.is_empty() {
            return None;
        }
        self.passing.step_over(&self.reader, self.path)
    }
}

/// What passes over records by a prefilter.
struct PrefilteredElements<'a> {
    prefilter: &'a Prefilter,
    /// What is needed of records of which it cannot tell.
    projection: &'a Projection,
    lines: ElementLines,
    passed_over: PassedOver,
}

impl<'a> PrefilteredElements<'a> {
    /// The end of the record that begins here with that tag, if it certainly fails the condition. Where that certainly holds,
    /// less is needed of the record.
    #[inline]
    fn passes_over(&mut self, reader: &mut Reader<'a>, name: &str) -> Option<usize> {
        let probed = self.lines.probe(reader, name, self.prefilter);
        let holds = probed.as_ref().and_then(|(found, _)| found.holds(self.prefilter));
        if let Some(projected_elements) = &mut reader.projected_elements {
            projected_elements.projection =
                if holds == Some(true) { self.prefilter.projection() } else { self.projection };
            if holds.is_some() {
                std::mem::swap(&mut projected_elements.extents, &mut self.lines.extents);
                projected_elements.passed = 0;
            }
        }
        let (found, end) = probed.filter(|_| holds.is_some())?;
        self.passed_over.reached |= found.reached;
        self.passed_over.holds = holds == Some(true);
        self.passed_over.records += u64::from(!self.passed_over.holds);
        (!self.passed_over.holds).then_some(end)
    }
}
