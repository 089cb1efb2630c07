//! The CSV reader: rows as maps by the header's names, or as lists of cells.

mod ends;

use std::collections::HashMap;
use std::collections::hash_map::Entry;

use kyanite_tree::{Arena, Base, Map, Member, NameIndex, Origin, Setting, Value, counted};

use super::{RowEvents, RowLines, Settings};
use crate::SyntaxError;
use crate::json::{Duplicate, Slot, Slots, Slotted};
use ends::Ends;

/// The names of the columns, from the first row.
#[derive(Clone, Copy, Debug)]
pub struct Header<'a> {
    names: &'a [&'a str],
    index: NameIndex<'a>,
    /// Whether some name stands twice; the later column is then taken.
    repeats: bool,
}

/// What the first row of a text says.
#[derive(Clone, Debug)]
pub struct FirstRow<'a> {
    /// The names of the columns.
    pub header: Header<'a>,
    /// Where the rows behind it begin.
    pub end: usize,
    /// Columns that have the name of an earlier one, with both places.
    pub duplicates: Vec<Duplicate>,
    /// What seems to stand between cells, where rows have but one as they are read.
    pub other_delimiter: Option<u8>,
}

/// What may stand between cells.
const DELIMITERS: [u8; 4] = [b',', b';', b'\t', b'|'];

/// The sign that stands as often in the first row as in the one that begins at `end`.
fn other_delimiter(text: &str, end: usize) -> Option<u8> {
    let (first, rest) = text.as_bytes().split_at_checked(end)?;
    let second = rest.split_inclusive(|byte| *byte == b'\n').next()?;
    let count = |row: &[u8], sign: u8| row.iter().filter(|byte| **byte == sign).count();
    DELIMITERS
        .into_iter()
        .find(|sign| count(first, *sign) > 0 && count(first, *sign) == count(second, *sign))
}

impl<'a> Header<'a> {
    /// Reads the first row of `text` into `arena`; `None` when the text is empty.
    ///
    /// # Errors
    /// A [`SyntaxError`]; it wants more when the row has no end.
    pub fn read(
        text: &str,
        settings: Settings,
        arena: &'a Arena,
    ) -> Result<Option<FirstRow<'a>>, SyntaxError> {
        let (scratch, base) = (Arena::new(), Base::default());
        let mut reader = Reader::new(text, &scratch, settings, None, base);
        let Some(Value::List(_, cells)) = reader.next_row()? else { return Ok(None) };
        let names: Vec<&str> = cells.iter().filter_map(|cell| cell.as_text()).collect();
        let mut duplicates = Vec::new();
        let mut first: HashMap<&str, Origin> = HashMap::with_capacity(names.len());
        for (name, cell) in names.iter().zip(cells) {
            match first.entry(name) {
                Entry::Vacant(free) => drop(free.insert(cell.origin())),
                Entry::Occupied(earlier) => duplicates.push(Duplicate {
                    name: (*name).to_owned(),
                    earlier: base.offset(*earlier.get()),
                    later: base.offset(cell.origin()),
                }),
            }
        }
        let header = Self {
            names: arena.names(&names),
            index: NameIndex::of(arena, &names),
            repeats: !duplicates.is_empty(),
        };
        let end = reader.at;
        let other_delimiter = if names.len() == 1 { other_delimiter(text, end) } else { None };
        Ok(Some(FirstRow { header, end, duplicates, other_delimiter }))
    }

    /// The names of the columns.
    #[must_use]
    pub fn names(&self) -> &'a [&'a str] {
        self.names
    }

    /// Whether some columns have the same name.
    #[must_use]
    pub fn repeats(&self) -> bool {
        self.repeats
    }
}

/// Reads one row after another.
pub struct Reader<'a> {
    text: &'a str,
    at: usize,
    arena: &'a Arena,
    settings: Settings,
    header: Option<Header<'a>>,
    base: Base,
    cells: Vec<Value<'a>>,
    members: Vec<Member<'a>>,
    /// The cells of the row whose events come, each with the byte that it begins at.
    row_cells: Vec<(usize, &'a str)>,
    /// Which cells go into slots, once some were asked for.
    columns: Columns,
}

/// Which cells of a row go into slots.
#[derive(Debug, Default)]
enum Columns {
    /// Nobody has asked yet.
    #[default]
    Unknown,
    /// None: rows are values.
    Values,
    /// By the number of the cell, its slot; and the slots that no column has a name for.
    Slots { by_cell: Vec<Option<usize>>, absent: Vec<usize> },
}

impl Columns {
    fn of(header: Option<Header<'_>>, slots: &Slots) -> Self {
        let Some(header) = header.filter(|header| !header.repeats && !slots.may_have_text()) else {
            return Self::Values;
        };
        let mut by_cell = vec![None; header.names.len()];
        let mut absent = Vec::new();
        for (path, slot) in slots.places() {
            let column =
                path.first().and_then(|name| header.names.iter().position(|own| own == name));
            match (column, path.as_slice()) {
                (Some(column), [_]) => by_cell[column] = Some(slot),
                // A step into a cell leads nowhere, which is told of the value.
                (Some(_), _) => return Self::Values,
                (None, _) => absent.push(slot),
            }
        }
        Self::Slots { by_cell, absent }
    }
}

impl<'a> Reader<'a> {
    /// A reader over `text`. With a header rows are maps, without one lists of cells.
    #[must_use]
    pub fn new(
        text: &'a str,
        arena: &'a Arena,
        settings: Settings,
        header: Option<Header<'a>>,
        base: Base,
    ) -> Self {
        let at = if text.starts_with('\u{feff}') { 3 } else { 0 };
        let (cells, members, row_cells) = (Vec::new(), Vec::new(), Vec::new());
        let columns = Columns::default();
        Self { text, at, arena, settings, header, base, cells, members, row_cells, columns }
    }

    /// The offset of the byte to be read next.
    #[must_use]
    pub fn position(&self) -> usize {
        self.at
    }

    /// Goes on reading at byte `offset`, the start of a row.
    pub fn seek(&mut self, offset: usize) {
        self.at = offset;
    }

    /// The next row, or `None` at the end. Empty lines are no rows, unless rows have one column.
    ///
    /// # Errors
    /// A [`SyntaxError`]: a quoted cell that is not closed or goes on behind its quote, or a row with another
    /// number of cells than the header; only then the position is behind the row, else it is at its start.
    pub fn next_row(&mut self) -> Result<Option<Value<'a>>, SyntaxError> {
        let base = self.base;
        let mut cells = std::mem::take(&mut self.cells);
        cells.clear();
        let row = self
            .row(|at, text| cells.push(Value::Untyped(base.origin(at), text)))
            .and_then(|start| start.map(|start| self.named(start, &cells)).transpose());
        self.cells = cells;
        row
    }

    /// The events of the next row, or `None` at the end.
    ///
    /// # Errors
    /// As [`next_row`](Self::next_row).
    pub fn next_events(&mut self) -> Result<Option<RowEvents<'a, '_>>, SyntaxError> {
        let mut cells = std::mem::take(&mut self.row_cells);
        cells.clear();
        let row = self.row(|at, text| cells.push((at, text)));
        self.row_cells = cells;
        let Some(start) = row? else { return Ok(None) };
        let names = self.header.map(|header| header.names);
        match self.header {
            Some(header) if header.names.len() != self.row_cells.len() => {
                Err(ragged(start, self.row_cells.len(), header))
            }
            _ => Ok(Some(RowEvents::new(names, &self.row_cells))),
        }
    }

    /// The row that begins at byte `start` as a value.
    fn named(&mut self, start: usize, cells: &[Value<'a>]) -> Result<Value<'a>, SyntaxError> {
        let origin = self.base.origin(start);
        match self.header {
            None => Ok(Value::List(origin, self.arena.items(cells))),
            Some(header) if header.names.len() == cells.len() => {
                self.members.clear();
                let named = header.names.iter().zip(cells);
                self.members.extend(named.map(|(name, value)| Member { name, value: *value }));
                let map = if header.repeats {
                    Map::from_read(self.arena, &mut self.members, |_, _, _| ())
                } else {
                    Map::with_index(self.arena, &self.members, header.index)
                };
                Ok(Value::Map(origin, map))
            }
            Some(header) => Err(ragged(start, cells.len(), header)),
        }
    }

    /// The next row: cells that have a slot in it, or as a value where that is not enough. The slots are the same for all rows.
    ///
    /// # Errors
    /// As [`next_row`](Self::next_row).
    pub fn next_slots(
        &mut self,
        slots: &Slots,
        found: &mut [Slot<'a>],
    ) -> Result<Option<Slotted<'a>>, SyntaxError> {
        if let Columns::Unknown = self.columns {
            self.columns = Columns::of(self.header, slots);
        }
        let columns = std::mem::take(&mut self.columns);
        let read = match &columns {
            Columns::Slots { by_cell, absent } => {
                absent.iter().for_each(|slot| found[*slot] = Slot::default());
                self.row_in_slots(by_cell, found)
            }
            _ => self.next_row().map(|row| row.map(Slotted::Value)),
        };
        self.columns = columns;
        read
    }

    fn row_in_slots(
        &mut self,
        by_cell: &[Option<usize>],
        found: &mut [Slot<'a>],
    ) -> Result<Option<Slotted<'a>>, SyntaxError> {
        let (base, mut count) = (self.base, 0);
        let row = self.row(|at, text| {
            if let Some(Some(slot)) = by_cell.get(count) {
                let value = Some(Value::Untyped(base.origin(at), text));
                found[*slot] = Slot { value, ..Slot::default() };
            }
            count += 1;
        })?;
        match (row, self.header) {
            (Some(start), Some(header)) if count != by_cell.len() => {
                Err(ragged(start, count, header))
            }
            (row, _) => Ok(row.map(|_| Slotted::Slots(""))),
        }
    }

    /// Appends the next row to `out` as these lines, without a value in between; tells whether there was one.
    ///
    /// # Errors
    /// As [`next_row`](Self::next_row); nothing is appended then.
    pub fn next_line(&mut self, lines: &RowLines, out: &mut Vec<u8>) -> Result<bool, SyntaxError> {
        let (before, mut count) = (out.len(), 0);
        let row = self.row(|_, text| {
            lines.cell(count, text, out);
            count += 1;
        });
        match (row, self.header) {
            (Ok(None), _) => Ok(false),
            (Ok(Some(start)), Some(header)) if count != lines.cells() => {
                out.truncate(before);
                Err(ragged(start, count, header))
            }
            (Ok(Some(_)), _) => {
                lines.end(out);
                Ok(true)
            }
            (Err(error), _) => {
                out.truncate(before);
                Err(error)
            }
        }
    }

    /// Reads a row and hands on each cell with the byte that it begins at; gives where the row begins, or `None` at the end.
    #[inline]
    fn row(&mut self, mut take: impl FnMut(usize, &'a str)) -> Result<Option<usize>, SyntaxError> {
        let bytes = self.text.as_bytes();
        if self.header.is_none_or(|header| header.names.len() > 1) {
            while let Some(b'\n' | b'\r') = bytes.get(self.at) {
                self.at += 1;
            }
        }
        if self.at >= bytes.len() {
            return Ok(None);
        }
        let start = self.at;
        let mut ends = Ends::new(bytes, start, self.settings.delimiter);
        loop {
            let at = self.at;
            match self.cell(&mut ends) {
                Ok(cell) => take(at, cell),
                Err(error) => {
                    self.at = start;
                    return Err(error);
                }
            }
            match bytes.get(self.at) {
                Some(delimiter) if *delimiter == self.settings.delimiter => self.at += 1,
                Some(b'\r') => {
                    self.at += 2;
                    break;
                }
                Some(_) => {
                    self.at += 1;
                    break;
                }
                None => break,
            }
        }
        Ok(Some(start))
    }

    /// Reads a cell, up to the delimiter or line end behind it. It belongs into the loop over a row, where `ends` is in registers.
    #[inline(always)]
    fn cell(&mut self, ends: &mut Ends<'a>) -> Result<&'a str, SyntaxError> {
        let start = self.at;
        let bytes = self.text.as_bytes();
        if bytes.get(start) == Some(&b'"') {
            let cell = self.quoted();
            *ends = Ends::new(bytes, self.at, self.settings.delimiter);
            // What stands there ends the cell.
            ends.next();
            return cell;
        }
        let mut end = ends.next();
        // A carriage return belongs to the line end behind it.
        if end > start && bytes.get(end) == Some(&b'\n') && bytes[end - 1] == b'\r' {
            end -= 1;
        }
        self.at = end;
        Ok(&self.text[start..end])
    }

    fn quoted(&mut self) -> Result<&'a str, SyntaxError> {
        let opened = self.at;
        let bytes = self.text.as_bytes();
        let (mut at, mut doubled) = (opened + 1, false);
        let end = loop {
            let Some(quote) = memchr::memchr(b'"', &bytes[at..]).map(|found| at + found) else {
                let message = "this quoted cell is not closed";
                let advice = "close it with a quote; quotes inside are doubled";
                return Err(SyntaxError::new(opened, opened + 1, message, advice).if_more(true));
            };
            if bytes.get(quote + 1) != Some(&b'"') {
                break quote;
            }
            doubled = true;
            at = quote + 2;
        };
        self.at = end + 1;
        match bytes.get(end + 1) {
            None | Some(b'\n') => {}
            Some(b'\r') if bytes.get(end + 2) == Some(&b'\n') => {}
            Some(delimiter) if *delimiter == self.settings.delimiter => {}
            Some(_) => {
                let message = "text stands behind the closing quote of a cell";
                let advice = "double the quotes inside a cell";
                let error = SyntaxError::new(end + 1, end + 2, message, advice);
                return Err(error.also(Some(opened)));
            }
        }
        let text = &self.text[opened + 1..end];
        Ok(if doubled { self.arena.text(&text.replace("\"\"", "\"")) } else { text })
    }
}

/// Where the cell ends that begins at byte `offset`, its quotes with it, if it can be read.
#[must_use]
pub fn cell_end(text: &str, offset: usize, settings: Settings) -> Option<usize> {
    let arena = Arena::new();
    let mut reader = Reader::new(text, &arena, settings, None, Base::default());
    reader.seek(offset);
    reader.cell(&mut Ends::new(text.as_bytes(), offset, settings.delimiter)).ok()?;
    Some(reader.at)
}

#[cold]
fn ragged(start: usize, found: usize, header: Header<'_>) -> SyntaxError {
    let wanted = header.names.len();
    let cells = counted(found, "cell");
    let message = format!("this row has {cells}, and the header has {wanted}");
    let advice = "check the delimiter and the quotes, or leave such rows out with ";
    SyntaxError::new(start, start + 1, message, (advice, Setting::Lenient))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::losses::Losses;
    use crate::{json, yaml};
    use proptest::prelude::*;

    fn read(text: &str) -> Result<String, SyntaxError> {
        let settings = Settings::default();
        let arena = Arena::new();
        let Some(first) = Header::read(text, settings, &arena)? else { return Ok(String::new()) };
        let mut reader = Reader::new(text, &arena, settings, Some(first.header), Base::default());
        reader.seek(first.end);
        let mut out = Vec::new();
        while let Some(row) = reader.next_row()? {
            json::write(row, json::Style::Compact, &mut out);
        }
        Ok(String::from_utf8(out).unwrap())
    }

    #[test]
    fn rows() {
        for (text, rows) in [
            ("a,b\n1,2\n", r#"{"a":"1","b":"2"}"#),
            ("a,b\r\n1,2\r\n3,", r#"{"a":"1","b":"2"}{"a":"3","b":""}"#),
            ("\u{feff}a,b\n\"1\",\"x,\"\"y\"\"\nz\"\n", r#"{"a":"1","b":"x,\"y\"\nz"}"#),
            ("a,b\n\n\"\",\"\"\n\r\n1,2", r#"{"a":"","b":""}{"a":"1","b":"2"}"#),
            ("a\n\n1\n", r#"{"a":""}{"a":"1"}"#),
            ("a,b\nx\"y,\r1\n", r#"{"a":"x\"y","b":"\r1"}"#),
            ("a,a\n1,2\n", r#"{"a":"2"}"#),
            ("a,b", ""),
            ("", ""),
        ] {
            assert_eq!(read(text).as_deref(), Ok(rows), "{text:?}");
        }
    }

    #[test]
    fn errors() {
        for (text, start, message) in [
            ("a,b\n1\n", 4, "this row has 1 cell, and the header has 2"),
            ("a,b\n1,2,3\n", 4, "this row has 3 cells, and the header has 2"),
            ("a,b\n\"1,2\n", 4, "this quoted cell is not closed"),
            ("a,b\n\"1\"x,2\n", 7, "text stands behind the closing quote of a cell"),
        ] {
            let error = read(text).unwrap_err();
            assert_eq!((error.span().start, error.message()), (start, message), "{text:?}");
        }
    }

    proptest! {
        #[test]
        fn never_panics(text in "[a,\"\r\n é]{0,30}") {
            let _ = read(&text);
        }

        #[test]
        fn ends_are_found(
            text in "[a-c,;\n\r\u{1}\u{b}é]{0,60}|(x{0,90}[,\n]?y{0,90}){0,3}",
            delimiter in proptest::sample::select(&[b',', b';', b'\t', 1, b'\n' ^ 1][..]),
            from in 0_usize..4,
        ) {
            let bytes = text.as_bytes();
            let is_end = |at: &usize| matches!(bytes[*at], byte if byte == delimiter || byte == b'\n');
            let expected: Vec<usize> = (from..bytes.len()).filter(is_end).collect();
            let mut ends = Ends::new(bytes, from, delimiter);
            let found: Vec<usize> =
                std::iter::repeat_with(|| ends.next()).take_while(|at| *at < bytes.len()).collect();
            prop_assert_eq!(found, expected);
        }

        #[test]
        fn lines_are_the_rows(text in "(a|b|no|- x),(c|\"c\"\"\"|\"d\ne\")(\r\n|\n)[a~1,\"\r\n é\\\\]{0,30}", indent in 0_usize..4) {
            let (arena, settings) = (Arena::new(), Settings::default());
            let first = Header::read(&text, settings, &arena).unwrap().unwrap();
            let as_json = |row: Value<'_>, out: &mut Vec<u8>| {
                json::write(row, json::Style::Compact, out);
                out.push(b'\n');
            };
            let as_yaml = |row: Value<'_>, out: &mut Vec<u8>| yaml::write_item(row, indent, out);
            for is_json in [true, false] {
                let header = first.header;
                let row_lines = if is_json { header.json_lines() } else { header.yaml_items(indent) };
                let row_lines = row_lines.unwrap();
                let write = |row: Value<'_>, out: &mut Vec<u8>| if is_json { as_json(row, out) } else { as_yaml(row, out) };
                let reader = || {
                    let mut reader = Reader::new(&text, &arena, settings, Some(first.header), Base::default());
                    reader.seek(first.end);
                    reader
                };
                let (mut rows, mut lines) = (reader(), reader());
                loop {
                    let (row, mut out) = (rows.next_row(), Vec::new());
                    let line = lines.next_line(&row_lines, &mut out);
                    let written = row.map(|row| row.map(|row| {
                        let mut written = Vec::new();
                        write(row, &mut written);
                        written
                    }));
                    prop_assert_eq!(&line, &written.as_ref().map(Option::is_some).map_err(Clone::clone));
                    prop_assert_eq!(rows.position(), lines.position());
                    match written {
                        Ok(Some(written)) => prop_assert_eq!(out, written),
                        Ok(None) | Err(_) => break,
                    }
                }
            }
        }

        #[test]
        fn written_rows_read_back(cells in proptest::collection::vec(proptest::collection::vec("[a,\"\r\n é]{0,4}", 2), 1..5)) {
            let arena = Arena::new();
            let mut writer = super::super::Writer::new(Settings::default(), None, false);
            let mut out = Vec::new();
            for row in &cells {
                let row = arena.map([("x", Value::text(&row[0])), ("y", Value::text(&row[1]))]);
                writer.row(row, &mut out, &mut Losses::default()).unwrap();
            }
            writer.finish(&mut out);
            let mut expected = Vec::new();
            for row in &cells {
                let row = arena.map([("x", Value::text(&row[0])), ("y", Value::text(&row[1]))]);
                json::write(row, json::Style::Compact, &mut expected);
            }
            prop_assert_eq!(read(&String::from_utf8(out).unwrap()).unwrap(), String::from_utf8(expected).unwrap());
        }
    }
}
