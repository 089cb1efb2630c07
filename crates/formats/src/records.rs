//! Readers of formats that are runs of records: one interface over them.

pub use kyanite_scan::Structure;
use kyanite_tree::{Arena, Base, Value};

use crate::json::{self, Duplicate, Origins};
use crate::projection::Projection;
use crate::{Format, SyntaxError, csv, text, toml, xml, yaml};

/// How the records of an input are told apart and named.
#[derive(Clone, Copy, Debug)]
pub enum Layout<'a> {
    /// JSON values, one after another.
    Json {
        /// The deepest nesting that is read.
        depth: usize,
        /// What is needed of each; all without it.
        projection: Option<&'a Projection>,
    },
    /// Lines of text.
    Lines,
    /// Elements of XML.
    Xml {
        /// Which of them.
        elements: xml::Elements<'a>,
        /// Where the text begins.
        place: xml::Ancestry<'a>,
        /// What is needed of each; all without it.
        projection: Option<&'a Projection>,
        /// A condition that most of them fail.
        prefilter: Option<&'a xml::Prefilter>,
    },
    /// Rows of cells.
    Csv {
        /// How cells are told apart.
        settings: csv::Settings,
        /// The names of the columns; without them rows are lists.
        header: Option<csv::Header<'a>>,
    },
}

/// Records that were passed over, and the one behind them.
#[derive(Clone, Copy, Debug, Default)]
pub struct PassedOver {
    /// How many there were.
    pub records: u64,
    /// Whether the condition certainly holds for the record behind them.
    pub holds: bool,
    /// The steps of the tests of an [`xml::Prefilter`] that led to something in one of those, or in it if the condition holds: a bit for each step, those of one test
    /// behind those of the test before.
    pub reached: u64,
}

impl<'a> Layout<'a> {
    /// The same layout for a text that begins at another place of the document.
    #[must_use]
    pub fn at(self, place: xml::Ancestry<'a>) -> Self {
        match self {
            Self::Xml { elements, projection, prefilter, .. } => {
                Self::Xml { elements, place, projection, prefilter }
            }
            other => other,
        }
    }

    /// Where in the document the text begins, if the records are elements.
    #[must_use]
    pub fn place(&self) -> Option<xml::Ancestry<'a>> {
        if let Self::Xml { place, .. } = self { Some(*place) } else { None }
    }

    /// The same layout, where of each record only so much is needed.
    #[must_use]
    pub fn with_projection(self, projection: &'a Projection) -> Self {
        match self {
            Self::Json { depth, .. } => Self::Json { depth, projection: Some(projection) },
            // Cells are borrowed, so that leaving some out would save nothing.
            Self::Csv { .. } | Self::Lines => self,
            Self::Xml { elements, place, prefilter, .. } => {
                Self::Xml { elements, place, projection: Some(projection), prefilter }
            }
        }
    }

    /// The same layout, where elements that certainly fail a condition are passed over.
    #[must_use]
    pub fn with_prefilter(self, prefilter: Option<&'a xml::Prefilter>) -> Self {
        match self {
            Self::Xml { elements, place, projection, .. } => {
                Self::Xml { elements, place, projection, prefilter }
            }
            other => other,
        }
    }
}

/// What is known of records so far that were read into the same slots.
#[derive(Debug, Default)]
pub struct SlotTemplates {
    json: json::SlotTemplates,
    xml: xml::SlotTemplates,
}

impl SlotTemplates {
    /// None, and no search for any.
    #[must_use]
    pub fn unused() -> Self {
        Self { json: json::SlotTemplates::unused(), xml: xml::SlotTemplates::unused() }
    }

    /// How many records followed one since this was last asked.
    pub fn take_followed(&mut self) -> u64 {
        self.json.take_followed() + self.xml.take_followed()
    }
}

/// Reads one record after another.
pub enum Reader<'a> {
    /// JSON values.
    Json(Box<json::Reader<'a>>),
    /// Rows of cells.
    Csv(csv::Reader<'a>),
    /// Lines of text.
    Lines(text::Lines<'a>),
    /// Elements of XML.
    Xml(Box<xml::RecordReader<'a>>),
}

impl<'a> Reader<'a> {
    /// A reader over `text`, which begins at `base`; its records live in `arena`. Without `templates`, those of records
    /// before of which the same was needed, all of JSON is read, whatever is needed.
    #[must_use]
    pub fn new(
        layout: Layout<'a>,
        text: &'a str,
        arena: &'a Arena,
        base: Base,
        templates: Option<&'a mut json::ValueTemplates>,
    ) -> Self {
        match layout {
            Layout::Json { depth, projection } => {
                let options = json::ReaderOptions { depth, origins: Origins::Text(base) };
                let reader = json::Reader::new(text, arena, options);
                Self::Json(Box::new(match templates {
                    Some(templates) => reader.with_templates(templates, projection),
                    None => reader,
                }))
            }
            Layout::Xml { elements, place, projection, prefilter } => {
                let mut reader = xml::RecordReader::new(text, arena, elements.at(base), place);
                if let Some(projection) = projection {
                    reader = reader.with_projection(projection);
                }
                if let Some(prefilter) = prefilter {
                    reader = reader.with_prefilter(prefilter);
                }
                Self::Xml(Box::new(reader))
            }
            Layout::Lines => Self::Lines(text::Lines::new(text, base)),
            Layout::Csv { settings, header } => {
                Self::Csv(csv::Reader::new(text, arena, settings, header, base))
            }
        }
    }

    /// The next record, or `None` at the end.
    ///
    /// # Errors
    /// A [`SyntaxError`].
    pub fn next_record(&mut self) -> Result<Option<Value<'a>>, SyntaxError> {
        match self {
            Self::Json(reader) => Ok(reader.next_value()?),
            Self::Csv(reader) => reader.next_row(),
            Self::Lines(reader) => Ok(reader.next_line()),
            Self::Xml(reader) => reader.next_record(),
        }
    }

    /// The next record, in slots where it can be read so, else as a value; or `None` at the end.
    ///
    /// # Errors
    /// A [`SyntaxError`].
    #[inline]
    pub fn next_slots(
        &mut self,
        slots: &json::Slots,
        known: &mut SlotTemplates,
        found: &mut [json::Slot<'a>],
    ) -> Result<Option<json::Slotted<'a>>, SyntaxError> {
        match self {
            Self::Json(reader) => Ok(reader.next_slots(slots, &mut known.json, found)?),
            Self::Csv(reader) => reader.next_slots(slots, found),
            Self::Xml(reader) => reader.next_slots(slots, &mut known.xml, found),
            _ => Ok(self.next_record()?.map(json::Slotted::Value)),
        }
    }

    /// Appends the line of the record that was read last into slots whose text is on demand.
    pub fn write_line(&mut self, known: &mut SlotTemplates, out: &mut Vec<u8>) {
        if let Self::Json(reader) = self {
            reader.write_line(&mut known.json, out);
        }
    }

    /// Whether records are JSON.
    #[must_use]
    pub fn is_json(&self) -> bool {
        matches!(self, Self::Json(_))
    }

    /// The offset of the byte to be read next.
    #[must_use]
    pub fn position(&self) -> usize {
        match self {
            Self::Json(reader) => reader.position(),
            Self::Csv(reader) => reader.position(),
            Self::Lines(reader) => reader.position(),
            Self::Xml(reader) => reader.position(),
        }
    }

    /// Where reading has to begin again when the text ended inside a record that began at `start`, or inside what stands
    /// before it.
    #[must_use]
    pub fn resume_at(&self, start: usize) -> usize {
        match self {
            Self::Xml(reader) => reader.committed(),
            _ => start,
        }
    }

    /// Nothing follows behind the text.
    pub fn is_last(&mut self) {
        if let Self::Xml(reader) = self {
            reader.is_last();
        }
    }

    /// Whether the text that was read may be all there is.
    ///
    /// # Errors
    /// A [`SyntaxError`] when something is still open.
    pub fn finish(&mut self) -> Result<(), SyntaxError> {
        match self {
            Self::Xml(reader) => reader.finish(),
            _ => Ok(()),
        }
    }

    /// The reader of elements, if that is what it is.
    #[must_use]
    pub fn as_xml(&self) -> Option<&xml::RecordReader<'a>> {
        if let Self::Xml(reader) = self { Some(reader) } else { None }
    }

    /// The same, for taking from it what it has to say.
    pub fn as_xml_mut(&mut self) -> Option<&mut xml::RecordReader<'a>> {
        if let Self::Xml(reader) = self { Some(reader) } else { None }
    }

    /// Goes on reading at byte `offset`, where a record begins.
    pub fn seek(&mut self, offset: usize) {
        match self {
            Self::Json(reader) => reader.seek(offset),
            Self::Csv(reader) => reader.seek(offset),
            Self::Lines(reader) => reader.seek(offset),
            Self::Xml(reader) => reader.seek(offset),
        }
    }

    /// Where the record behind a broken one begins, which began at `start` in `bytes`.
    ///
    /// It is on the next line or, where JSON records begin with a bracket, on the next line that begins with the same
    /// one. A row with too many or too few cells ends where it ends.
    #[must_use]
    pub fn behind_broken(&self, bytes: &[u8], start: usize) -> usize {
        let bracket = match self {
            Self::Csv(reader) if reader.position() > start => return reader.position(),
            Self::Csv(_) | Self::Lines(_) | Self::Xml(_) => None,
            Self::Json(_) => bytes.get(start).copied().filter(|byte| matches!(byte, b'{' | b'[')),
        };
        memchr::memchr_iter(b'\n', bytes.get(start..).unwrap_or_default())
            .map(|at| start + at + 1)
            .find(|line| bracket.is_none() || bytes.get(*line).copied() == bracket)
            .unwrap_or(bytes.len())
    }

    /// What was passed over since this was last asked, since it fails a condition.
    #[inline]
    pub fn take_passed_over(&mut self) -> PassedOver {
        match self {
            Self::Xml(reader) => reader.take_passed_over(),
            Self::Json(_) | Self::Csv(_) | Self::Lines(_) => PassedOver::default(),
        }
    }

    /// What was repaired in XML since this was last asked, and references that lead out of the document.
    pub fn take_repairs(&mut self) -> Vec<xml::Repair> {
        if let Self::Xml(reader) = self { reader.take_repairs() } else { Vec::new() }
    }

    /// Members that the records read since the last call held twice.
    pub fn take_duplicates(&mut self) -> Vec<Duplicate> {
        match self {
            Self::Json(reader) => reader.take_duplicates(),
            Self::Csv(_) | Self::Lines(_) | Self::Xml(_) => Vec::new(),
        }
    }
}

/// All records of a text, as one list, and what they, or the first row of CSV with the names of the columns, held twice.
///
/// # Errors
/// A [`SyntaxError`] in the first record that is broken.
pub fn all<'a>(
    format: Format,
    text: &'a str,
    arena: &'a Arena,
    depth: usize,
    base: Base,
) -> Result<(Value<'a>, Vec<Duplicate>), SyntaxError> {
    let (mut from, mut duplicates) = (0, Vec::new());
    let layout = match format {
        Format::Csv | Format::Tsv => {
            let settings = csv::Settings::of(format, None);
            let first = csv::Header::read(text, settings, arena)?;
            let header = first.map(|first| {
                (from, duplicates) = (first.end, first.duplicates);
                first.header
            });
            Layout::Csv { settings, header }
        }
        Format::Text => Layout::Lines,
        _ => Layout::Json { depth, projection: None },
    };
    let mut reader = Reader::new(layout, text, arena, base, None);
    if from > 0 {
        reader.seek(from);
    }
    let mut list = Vec::new();
    while let Some(record) = reader.next_record()? {
        list.push(record);
    }
    duplicates.extend(reader.take_duplicates());
    Ok((arena.list(&list), duplicates))
}

/// Where the value that begins at byte `offset` of `text` ends, for marking it.
#[must_use]
pub fn value_end(format: Format, text: &str, offset: usize) -> usize {
    match format {
        Format::Csv | Format::Tsv => {
            let cell = text.get(offset..).unwrap_or_default();
            let end = cell.find([',', ';', '\t', '\r', '\n']).unwrap_or(cell.len());
            offset + end.max(1)
        }
        Format::Xml | Format::Html => xml::value_end(text, offset),
        Format::Yaml => yaml::value_end(text, offset),
        Format::Toml => toml::value_end(text, offset),
        Format::Text => {
            let line = text.get(offset..).unwrap_or_default();
            offset + line.find('\n').unwrap_or(line.len()).max(1)
        }
        Format::Json | Format::JsonLines | Format::JsonSequence => json::value_end(text, offset),
    }
}
