//! The CSV writer: a row for each map, list or scalar.
//!
//! The columns are those that are asked for, else all that the first rows have, in the order in which they are first
//! seen; a column that turns up later is then an error that names it, never a cell left out.

use std::fmt;

use kyanite_tree::{Kind, Map, Member, Value};

use super::Settings;
use crate::losses::{Loss, Losses};

/// Rows that are looked at for their columns before the first is written.
const LOOKED_AT: usize = 1000;

/// Writes rows.
#[derive(Clone, Debug)]
pub struct Writer {
    settings: Settings,
    /// Whether nested values become columns with dotted names.
    flatten: bool,
    columns: Vec<String>,
    /// Whether the columns were asked for, so that others are left out.
    asked: bool,
    /// Rows that wait for the columns to be known: their cells by name.
    waiting: Vec<Vec<(String, Option<String>)>>,
    /// Whether the columns are settled.
    settled: bool,
    /// Whether rows are named at all; lists and scalars are not.
    named: Option<bool>,
    /// Whether the row of names was written.
    headed: bool,
}

/// Why a value is no row.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum NotARow {
    /// A cell that is a list or map.
    Nested(String, Kind),
    /// A column that the first rows did not have.
    NewColumn(String),
    /// A row of another sort than those before it: named cells beside unnamed ones.
    Mixed,
}

impl fmt::Display for NotARow {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Nested(column, kind) => {
                write!(f, "the column `{column}` has {}, and a cell holds one value", kind.phrase())
            }
            Self::NewColumn(column) => {
                write!(f, "the column `{column}` was not in the first {LOOKED_AT} rows")
            }
            Self::Mixed => f.write_str("maps and other values cannot be rows of one table"),
        }
    }
}

impl NotARow {
    /// What to do about it.
    #[must_use]
    pub fn advice(&self) -> &'static str {
        match self {
            Self::Nested(..) => "say --flatten for columns with dotted names, or reshape it first",
            Self::NewColumn(_) => "name all columns with --columns",
            Self::Mixed => "make all rows maps, or all lists",
        }
    }
}

impl Writer {
    /// A writer with these columns, or with those that are found.
    #[must_use]
    pub fn new(settings: Settings, columns: Option<Vec<String>>, flatten: bool) -> Self {
        Self {
            settings,
            flatten,
            asked: columns.is_some(),
            settled: columns.is_some(),
            columns: columns.unwrap_or_default(),
            waiting: Vec::new(),
            named: None,
            headed: false,
        }
    }

    /// Whether rows are written as they come, no longer kept until the columns are known.
    #[must_use]
    pub fn is_settled(&self) -> bool {
        self.settled && (self.headed || self.named == Some(false))
    }

    /// Appends a row to `out`, or keeps it until the columns are known.
    ///
    /// # Errors
    /// [`NotARow`].
    pub fn row(
        &mut self,
        value: Value<'_>,
        out: &mut Vec<u8>,
        losses: &mut Losses,
    ) -> Result<(), NotARow> {
        let map = value.as_map();
        if *self.named.get_or_insert(map.is_some()) != map.is_some() {
            return Err(NotARow::Mixed);
        }
        match (map, value) {
            (Some(map), _) => self.named_row(map, out, losses),
            (None, Value::List(_, cells)) => self.unnamed_row(cells, out, losses),
            (None, scalar) => self.unnamed_row(&[scalar], out, losses),
        }
    }

    fn unnamed_row(
        &mut self,
        cells: &[Value<'_>],
        out: &mut Vec<u8>,
        losses: &mut Losses,
    ) -> Result<(), NotARow> {
        for (position, cell) in cells.iter().enumerate() {
            if position > 0 {
                out.push(self.settings.delimiter);
            }
            match cell.scalar_text() {
                Some(text) => self.cell(text, cells.len() == 1, out),
                None if cell.kind() == Kind::Null => losses.add(Loss::Null, cell.origin()),
                None => return Err(NotARow::Nested((position + 1).to_string(), cell.kind())),
            }
        }
        out.push(b'\n');
        Ok(())
    }

    fn named_row(
        &mut self,
        map: &Map<'_>,
        out: &mut Vec<u8>,
        losses: &mut Losses,
    ) -> Result<(), NotARow> {
        let is_nested = |member: &Member<'_>| matches!(member.value.kind(), Kind::Map | Kind::List);
        if self.settled && !(self.flatten && map.members().iter().any(is_nested)) {
            return self.settled_row(map, out, losses);
        }
        let mut cells = Vec::with_capacity(map.len());
        self.cells(map, "", &mut cells, losses)?;
        if self.settled {
            self.header(out);
            self.refuse_new(cells.iter().map(|(name, _)| name.as_str()))?;
            self.cells_row(&cells, out);
            return Ok(());
        }
        for (name, _) in &cells {
            if !self.columns.contains(name) {
                self.columns.push(name.clone());
            }
        }
        self.waiting.push(cells);
        if self.waiting.len() >= LOOKED_AT {
            self.settle(out);
        }
        Ok(())
    }

    fn settled_row(
        &mut self,
        map: &Map<'_>,
        out: &mut Vec<u8>,
        losses: &mut Losses,
    ) -> Result<(), NotARow> {
        self.header(out);
        let (members, columns) = (map.members(), &self.columns);
        // Most rows have just the columns, in their order.
        let is_aligned = members.len() == columns.len()
            && members.iter().zip(columns).all(|(member, column)| member.name == column);
        if !is_aligned {
            self.refuse_new(members.iter().map(|member| member.name))?;
        }
        let begin = out.len();
        for (position, column) in columns.iter().enumerate() {
            if position > 0 {
                out.push(self.settings.delimiter);
            }
            let cell = if is_aligned { Some(members[position].value) } else { map.get(column) };
            match cell.map(|cell| (cell.scalar_text(), cell)) {
                Some((Some(text), _)) => self.cell(text, columns.len() == 1, out),
                Some((None, Value::Null(origin))) => losses.add(Loss::Null, origin),
                Some((None, cell)) => {
                    out.truncate(begin);
                    return Err(NotARow::Nested(column.clone(), cell.kind()));
                }
                None => {}
            }
        }
        out.push(b'\n');
        Ok(())
    }

    /// Refuses names that are no columns, unless the columns were asked for.
    fn refuse_new<'n>(&self, mut names: impl Iterator<Item = &'n str>) -> Result<(), NotARow> {
        if self.asked {
            return Ok(());
        }
        let new = names.find(|name| !self.columns.iter().any(|column| column == name));
        new.map_or(Ok(()), |name| Err(NotARow::NewColumn(name.to_owned())))
    }

    /// The cells of a map by name; nested ones under dotted names, if that is wanted.
    fn cells(
        &self,
        map: &Map<'_>,
        prefix: &str,
        cells: &mut Vec<(String, Option<String>)>,
        losses: &mut Losses,
    ) -> Result<(), NotARow> {
        for member in map.members() {
            self.nested(&format!("{prefix}{}", member.name), member.value, cells, losses)?;
        }
        Ok(())
    }

    fn nested(
        &self,
        name: &str,
        value: Value<'_>,
        cells: &mut Vec<(String, Option<String>)>,
        losses: &mut Losses,
    ) -> Result<(), NotARow> {
        match value {
            Value::Null(origin) => {
                if !self.asked || self.columns.iter().any(|column| column == name) {
                    losses.add(Loss::Null, origin);
                }
                cells.push((name.to_owned(), None));
            }
            Value::Map(origin, map) if self.flatten => {
                if map.is_empty() {
                    losses.add(Loss::EmptyMap, origin);
                }
                self.cells(map, &format!("{name}."), cells, losses)?;
            }
            Value::List(origin, items) if self.flatten => {
                if items.is_empty() {
                    losses.add(Loss::EmptyList, origin);
                }
                for (index, item) in items.iter().enumerate() {
                    self.nested(&format!("{name}.{index}"), *item, cells, losses)?;
                }
            }
            scalar => match scalar.scalar_text() {
                Some(text) => cells.push((name.to_owned(), Some(text.to_owned()))),
                None => return Err(NotARow::Nested(name.to_owned(), scalar.kind())),
            },
        }
        Ok(())
    }

    /// Settles the columns, and writes the rows that waited for them.
    fn settle(&mut self, out: &mut Vec<u8>) {
        self.settled = true;
        self.header(out);
        for row in std::mem::take(&mut self.waiting) {
            self.cells_row(&row, out);
        }
    }

    /// A row of cells by name; null and absent ones are empty.
    fn cells_row(&mut self, cells: &[(String, Option<String>)], out: &mut Vec<u8>) {
        for (position, column) in self.columns.iter().enumerate() {
            if position > 0 {
                out.push(self.settings.delimiter);
            }
            if let Some((_, Some(text))) = cells.iter().find(|(name, _)| name == column) {
                self.cell(text, self.columns.len() == 1, out);
            }
        }
        out.push(b'\n');
    }

    /// The row of names, once.
    fn header(&mut self, out: &mut Vec<u8>) {
        if self.headed || self.columns.is_empty() {
            return;
        }
        self.headed = true;
        for (position, column) in self.columns.iter().enumerate() {
            if position > 0 {
                out.push(self.settings.delimiter);
            }
            self.cell(column, self.columns.len() == 1, out);
        }
        out.push(b'\n');
    }

    /// Writes what still waits.
    pub fn finish(&mut self, out: &mut Vec<u8>) {
        if !self.settled {
            self.settle(out);
        }
        self.header(out);
    }

    /// Writes a cell, in quotes where it needs them. An empty cell that is `alone` in its row is quoted, so that the
    /// row is not an empty line.
    fn cell(&self, text: &str, alone: bool, out: &mut Vec<u8>) {
        let special =
            |byte: u8| byte == self.settings.delimiter || matches!(byte, b'"' | b'\n' | b'\r');
        // Without a way out in the middle, several bytes are looked at at once.
        let is_special = text.bytes().fold(false, |found, byte| found | special(byte));
        if !(is_special || alone && text.is_empty()) {
            out.extend_from_slice(text.as_bytes());
            return;
        }
        out.push(b'"');
        for (position, part) in text.split('"').enumerate() {
            if position > 0 {
                out.extend_from_slice(b"\"\"");
            }
            out.extend_from_slice(part.as_bytes());
        }
        out.push(b'"');
    }
}
