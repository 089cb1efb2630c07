//! [Writes](super::write) records without building values: from their events or, where they follow a [template](super::Templates),
//! from their scalars alone.
//!
//! ```
//! use kyanite_formats::json::{EventReader, LineWriter};
//! use kyanite_formats::records::Structure;
//!
//! let text = "{\"berth\": \"\\u0041\", \"depth\": 6.50}\n";
//! let structure = Structure::of(text.as_bytes());
//! let (mut writer, mut out) = (LineWriter::default(), Vec::new());
//! writer.by_events(&mut EventReader::new(text, &structure).unwrap(), 512, &mut out).unwrap();
//! assert_eq!(out, b"{\"berth\":\"A\",\"depth\":6.50}");
//! ```

use std::ops::Range;

use kyanite_tree::{Event, Pull, ScalarKind, ScalarSpan};

use super::events::EventReader;
use super::names::Names;
use super::string::unescape;
use super::write::{Style, write_escapes, write_line_start, write_text};
use crate::Target;

/// As many bytes as are copied at once.
const CHUNK: usize = 32;

/// Writes records: as lines, without line ends, or laid out inside a document.
#[derive(Debug)]
pub struct LineWriter {
    style: Style,
    /// How many lists and maps of the document they are in.
    level: usize,
    /// What stands between the scalars of the records of each template; `None` where that was not learned.
    templates: Vec<Option<Between>>,
    /// The scalars of the record that was written last by its events, as parts of its line.
    scalars: Vec<Range<usize>>,
    /// How many bytes its text had beside its scalars.
    around: usize,
    escapes: Escapes,
}

/// What stands between the scalars of a line.
#[derive(Debug)]
struct Between {
    /// One text behind the other, and a chunk more.
    bytes: Vec<u8>,
    /// Where each ends.
    ends: Vec<usize>,
    /// Whether records have the same between their scalars.
    is_verbatim: bool,
}

impl Default for LineWriter {
    fn default() -> Self {
        Self::new(Style::Compact, 0)
    }
}

impl LineWriter {
    /// A writer of records as they are laid out `level` levels deep inside a document.
    #[must_use]
    pub fn new(style: Style, level: usize) -> Self {
        let escapes = Escapes::default();
        Self { style, level, templates: Vec::new(), scalars: Vec::new(), around: 0, escapes }
    }

    /// Appends the record whose events these are; gives where it ends. `None`, with nothing appended, where a reader of values has to
    /// look at it: for what [`Names`] cannot tell.
    pub fn by_events(
        &mut self,
        events: &mut EventReader<'_, '_>,
        depth: usize,
        out: &mut Vec<u8>,
    ) -> Option<usize> {
        let begin = out.len();
        let written = self.write_events::<true, _>(events, depth, out);
        if written.is_none() {
            out.truncate(begin);
        }
        written
    }

    /// The same to any target. Unless it `LEARNS`, the value is known to be plain, and where its scalars are is not remembered.
    pub(super) fn write_events<'t, const LEARNS: bool, T: Target>(
        &mut self,
        events: &mut EventReader<'t, '_>,
        depth: usize,
        target: &mut T,
    ) -> Option<usize> {
        let (begin, start) = (target.bytes().len(), events.position());
        let mut within = 0;
        self.scalars.clear();
        let mut names = Names::within(depth);
        let (mut is_first, mut is_named) = (true, false);
        while let Some(event) = events.next_event() {
            let out = target.bytes();
            let is_end = matches!(event, Event::EndMap | Event::EndList);
            if !is_first && !is_end {
                out.push(b',');
            }
            // An item, or a name, is on a line of its own; and so is the bracket behind the last one.
            if !is_named && names.open() > 0 && !(is_first && is_end) {
                write_line_start(self.style, self.level + names.open() - usize::from(is_end), out);
            }
            is_named = matches!(event, Event::Name(_));
            is_first = matches!(event, Event::BeginMap | Event::BeginList) || is_named;
            match event {
                Event::BeginMap | Event::BeginList => {
                    names.begin()?;
                    out.push(if event == Event::BeginMap { b'{' } else { b'[' });
                }
                Event::EndMap | Event::EndList => {
                    names.end()?;
                    out.push(if event == Event::EndMap { b'}' } else { b']' });
                }
                Event::Name(name) => {
                    if LEARNS {
                        names.add(name)?;
                    }
                    write_text(name.text, out);
                    out.push(b':');
                    if self.style != Style::Compact {
                        out.push(b' ');
                    }
                }
                Event::Text(text) => {
                    out.push(b'"');
                    let (from, length) = (out.len(), text.text.len());
                    let written = match text.has_escapes
                        && !has_needed_escapes(text.text.as_bytes())
                    {
                        true => self.escapes.again(events.text(), events.position() - 1 - length),
                        false => text.text.as_bytes(),
                    };
                    out.extend_from_slice(written);
                    if LEARNS {
                        self.scalars.push(from - begin..from - begin + written.len());
                    }
                    within += length;
                    out.push(b'"');
                }
                Event::Number(number) => within += self.scalar::<LEARNS>(number, begin, out),
                Event::Boolean(true) => within += self.scalar::<LEARNS>("true", begin, out),
                Event::Boolean(false) => within += self.scalar::<LEARNS>("false", begin, out),
                Event::Null => within += self.scalar::<LEARNS>("null", begin, out),
            }
            if is_end {
                target.part();
            }
        }
        let end = events.end()?;
        self.around = end - start - within;
        Some(end)
    }

    /// Appends a scalar that is written as it stands; gives its length.
    fn scalar<const LEARNS: bool>(
        &mut self,
        scalar: &str,
        begin: usize,
        out: &mut Vec<u8>,
    ) -> usize {
        if LEARNS {
            let from = out.len() - begin;
            self.scalars.push(from..from + scalar.len());
        }
        out.extend_from_slice(scalar.as_bytes());
        scalar.len()
    }

    /// The record that was written last by its events, as this line, is the first of that template.
    pub fn learn(&mut self, template: usize, line: &[u8]) {
        let (mut bytes, mut ends, mut from) = (Vec::new(), Vec::new(), 0);
        for scalar in &self.scalars {
            bytes.extend_from_slice(&line[from..scalar.start]);
            ends.push(bytes.len());
            from = scalar.end;
        }
        bytes.extend_from_slice(&line[from..]);
        ends.push(bytes.len());
        let is_verbatim = self.style == Style::Compact && bytes.len() == self.around;
        bytes.extend_from_slice(&[0; CHUNK]);
        if self.templates.len() <= template {
            self.templates.resize_with(template + 1, || None);
        }
        self.templates[template] = Some(Between { bytes, ends, is_verbatim });
    }

    /// Appends a record that follows a template: as it stands, or by its scalars. False where nothing was learned with that template.
    #[inline]
    pub fn by_template(
        &mut self,
        (text, record): (&str, Range<usize>),
        template: usize,
        scalars: &[ScalarSpan],
        out: &mut Vec<u8>,
    ) -> bool {
        match self.templates.get(template) {
            Some(Some(between)) if between.is_verbatim => {
                let (bytes, mut from) = (text.as_bytes(), record.start);
                // Not by a filter, which calls its condition for each scalar.
                for scalar in scalars {
                    if is_written_so(text, scalar) {
                        continue;
                    }
                    out.extend_from_slice(&bytes[from..scalar.start]);
                    out.extend_from_slice(self.escapes.again(text, scalar.start));
                    from = scalar.end;
                }
                out.extend_from_slice(&bytes[from..record.end]);
            }
            Some(Some(_)) => self.by_scalars((text, record), template, scalars, out, |_| ()),
            _ => return false,
        }
        true
    }

    /// Whether a record that follows a template and has these scalars is its line as it stands. `None` where nothing was learned with
    /// that template.
    #[inline]
    #[must_use]
    pub fn is_verbatim(
        &self,
        template: usize,
        (text, scalars): (&str, &[ScalarSpan]),
    ) -> Option<bool> {
        let between = self.templates.get(template)?.as_ref()?;
        Some(between.is_verbatim && scalars.iter().all(|scalar| is_written_so(text, scalar)))
    }

    /// Appends the record that stands at `record` in a text, follows a template and has these scalars, as
    /// [`Templates::follow`](super::Templates::follow) gives them. It is told where each of them ends in the line.
    pub fn by_scalars(
        &mut self,
        (text, record): (&str, Range<usize>),
        template: usize,
        scalars: &[ScalarSpan],
        out: &mut Vec<u8>,
        mut scalar_ends: impl FnMut(usize),
    ) {
        let Some(Some(between)) = self.templates.get(template) else { return };
        let bytes = text.as_bytes();
        // No text is longer without escapes that are not needed.
        let begin = out.len();
        out.resize(begin + between.bytes.len() + record.len() + CHUNK, 0);
        let (mut at, mut from) = (begin, 0);
        for (scalar, end) in scalars.iter().zip(&between.ends) {
            copy(out, &mut at, &between.bytes, from..*end);
            from = *end;
            let written = scalar.start..scalar.end;
            if !is_written_so(text, scalar) {
                let written = self.escapes.again(text, scalar.start);
                copy(out, &mut at, written, 0..written.len());
            } else {
                copy(out, &mut at, bytes, written);
            }
            scalar_ends(at - begin);
        }
        let end = between.bytes.len() - CHUNK;
        copy(out, &mut at, &between.bytes, from..end);
        out.truncate(at);
    }
}

/// Whether a scalar stands in its text as it is written in a line: asked for each of each record.
#[inline(always)]
fn is_written_so(text: &str, scalar: &ScalarSpan) -> bool {
    scalar.kind != ScalarKind::Escaped || is_escaped_so(text, scalar)
}

fn is_escaped_so(text: &str, scalar: &ScalarSpan) -> bool {
    has_needed_escapes(&text.as_bytes()[scalar.start..scalar.end])
}

/// Scratch space for texts that have escapes.
#[derive(Debug, Default)]
struct Escapes {
    unescaped: String,
    escaped: Vec<u8>,
}

impl Escapes {
    /// What stands in quotes from byte `start` on, whose grammar was checked, with the escapes that are needed and no others.
    fn again(&mut self, text: &str, start: usize) -> &[u8] {
        self.escaped.clear();
        if unescape(text, start, start, &mut self.unescaped).is_ok() {
            write_escapes(self.unescaped.as_bytes(), &mut self.escaped);
        }
        &self.escaped
    }
}

/// Whether a text of which every byte was checked has no escapes but those that are [written](write_escapes) as well.
#[inline]
pub(super) fn has_needed_escapes(text: &[u8]) -> bool {
    let mut from = 0;
    while let Some(at) = memchr::memchr(b'\\', &text[from..]) {
        if !matches!(text.get(from + at + 1), Some(b'"' | b'\\' | b'n' | b't' | b'r' | b'b' | b'f'))
        {
            return false;
        }
        from += at + 2;
    }
    true
}

/// Copies a part of a text to `at`. Most are short, and a whole chunk of constant length is copied faster than the exact number of bytes.
#[inline(always)]
fn copy(out: &mut [u8], at: &mut usize, text: &[u8], part: Range<usize>) {
    let length = part.len();
    let from = text.get(part.start..).and_then(<[u8]>::first_chunk::<CHUNK>);
    let to = out.get_mut(*at..).and_then(<[u8]>::first_chunk_mut::<CHUNK>);
    match (from, to) {
        (Some(from), Some(to)) if length <= CHUNK => *to = *from,
        _ => out[*at..*at + length].copy_from_slice(&text[part]),
    }
    *at += length;
}

#[cfg(test)]
mod tests {
    use kyanite_scan::Structure;
    use kyanite_tree::Arena;
    use proptest::prelude::*;

    use super::super::templates::Templates;
    use super::super::write::tests::any_json;
    use super::super::{Reader, ReaderOptions, write_nested};
    use super::*;

    proptest! {
        /// By events and by scalars a record is written as its value is, in any style; what is no line is left to values.
        #[test]
        fn as_the_value_is_written(value in any_json(), step in 0_usize..5, level in 0_usize..3) {
            // Escapes and blanks that are not written.
            let text = value.to_string().replace('/', "\\/").replace(":{", ": { ").replace(",[", " ,[ ");
            let text = format!("{text}\n");
            let structure = Structure::of(text.as_bytes());
            let (arena, mut templates) = (Arena::new(), Templates::default());
            let read = Reader::new(&text, &arena, ReaderOptions::default()).next_value().unwrap();
            for style in [Style::Compact, Style::Indented(step)] {
                let mut expected = Vec::new();
                write_nested(read.unwrap(), style, level, &mut expected);
                let (mut writer, mut line) = (LineWriter::new(style, level), Vec::new());
                let mut events = EventReader::new(&text, &structure).unwrap();
                if writer.by_events(&mut events, 512, &mut line).is_none() {
                    prop_assert!(line.is_empty());
                    continue;
                }
                prop_assert_eq!(String::from_utf8_lossy(&line), String::from_utf8_lossy(&expected));
                let Some(template) = templates.learn(&mut events, 0) else { continue };
                writer.learn(template, &line);
                let mut scalars = Vec::new();
                let followed = templates.follow(&text, 0, &mut scalars).unwrap();
                let record = || (&*text, 0..followed.end);
                let (mut again, mut ends) = (Vec::new(), Vec::new());
                writer.by_scalars(record(), template, &scalars, &mut again, |end| ends.push(end));
                prop_assert_eq!(ends.len(), scalars.len());
                prop_assert_eq!(String::from_utf8_lossy(&again), String::from_utf8_lossy(&expected));
                again.clear();
                prop_assert!(writer.by_template(record(), template, &scalars, &mut again));
                prop_assert_eq!(String::from_utf8_lossy(&again), String::from_utf8_lossy(&expected));
                let is_verbatim = writer.is_verbatim(template, (&text, &scalars)).unwrap();
                prop_assert!(!is_verbatim || expected == text.as_bytes()[..followed.end]);
            }
        }
    }
}
