//! The CSV writer: a row for each map, list or scalar.
//!
//! The columns are those that are asked for, else all that the first rows have, in the order in which they are first
//! seen; a column that turns up later is then an error that names it, never a cell left out.

use indexmap::IndexSet;
use kyanite_tree::{Advice, Kind, Map, Member, Origin, Setting, Value, near};

use super::Settings;
use crate::error::{CannotHold, cannot_hold};
use crate::losses::{Loss, Losses};

/// Rows that are looked at for their columns before the first is written.
const LOOKED_AT: usize = 1000;

/// Names that are no columns and are remembered, for the names near to a column that no row has.
const OTHERS: usize = 2000;

/// Writes rows.
#[derive(Clone, Debug)]
pub struct Writer {
    settings: Settings,
    /// Whether nested values become columns with dotted names.
    flatten: bool,
    columns: IndexSet<String>,
    /// Which columns some row had, and other names that rows had, if the columns were asked for.
    asked: Option<Asked>,
    /// Rows that wait for the columns to be known: their cells by name.
    waiting: Vec<Vec<(String, Option<String>)>>,
    /// Whether the columns are settled.
    settled: bool,
    /// Whether rows are named at all; lists and scalars are not.
    named: Option<bool>,
    /// Whether the row of names was written.
    headed: bool,
    /// What the columns would be called if there were rows.
    expected: Vec<String>,
}

/// What rows had, where the columns were asked for.
#[derive(Clone, Debug, Default)]
struct Asked {
    /// By column, whether some row had it.
    met: Vec<bool>,
    /// How many columns were not met yet.
    missing: usize,
    /// Names that are no columns, as many as are remembered.
    others: IndexSet<String>,
}

impl Asked {
    fn meet(&mut self, column: usize) {
        if let Some(met) = self.met.get_mut(column)
            && !std::mem::replace(met, true)
        {
            self.missing -= 1;
        }
    }

    fn leave_out(&mut self, name: &str) {
        if self.missing > 0 && self.others.len() < OTHERS && !self.others.contains(name) {
            self.others.insert(name.to_owned());
        }
    }
}

impl Writer {
    /// A writer with these columns, or with those that are found.
    #[must_use]
    pub fn new(settings: Settings, columns: Option<Vec<String>>, flatten: bool) -> Self {
        let columns = columns.map(IndexSet::<String>::from_iter);
        let asked = columns.as_ref().map(|columns| Asked {
            met: vec![false; columns.len()],
            missing: columns.len(),
            others: IndexSet::new(),
        });
        Self {
            settings,
            flatten,
            settled: asked.is_some(),
            asked,
            columns: columns.unwrap_or_default(),
            waiting: Vec::new(),
            named: None,
            headed: false,
            expected: Vec::new(),
        }
    }

    /// Says what the columns are called if no row tells.
    pub fn expect(&mut self, columns: impl Iterator<Item = String>) {
        if self.expected.is_empty() {
            self.expected.extend(columns);
        }
    }

    /// Whether rows are written as they come, no longer kept until the columns are known.
    #[must_use]
    pub fn is_settled(&self) -> bool {
        self.settled && (self.headed || self.named == Some(false))
    }

    /// What writes the cells of rows that are maps, if their columns are settled, just these, and hold no nested values.
    #[must_use]
    pub fn cell_writer(&self, names: &[String]) -> Option<CellWriter> {
        let are_columns = self.is_settled()
            && self.named == Some(true)
            && self.asked.is_none()
            && !self.flatten
            && self.columns.iter().eq(names);
        let (delimiter, alone) = (self.settings.delimiter, self.columns.len() == 1);
        are_columns.then_some(CellWriter { delimiter, alone })
    }

    /// Appends a row to `out`, or keeps it until the columns are known.
    ///
    /// # Errors
    /// [`CannotHold`] for a list or map in a cell, a column that comes too late, and rows of two sorts.
    pub fn row(
        &mut self,
        value: Value<'_>,
        out: &mut Vec<u8>,
        losses: &mut Losses,
    ) -> Result<(), CannotHold> {
        let map = value.as_map();
        if *self.named.get_or_insert(map.is_some()) != map.is_some() {
            let message = "maps and other values cannot be rows of one table";
            return Err(cannot_hold(message, "make all rows maps, or all lists", value.origin()));
        }
        match (map, value) {
            (Some(map), _) => self.named_row(map, value.origin(), out, losses),
            (None, Value::List(_, cells)) => self.unnamed_row(cells, out, losses),
            (None, scalar) => self.unnamed_row(&[scalar], out, losses),
        }
    }

    fn unnamed_row(
        &mut self,
        cells: &[Value<'_>],
        out: &mut Vec<u8>,
        losses: &mut Losses,
    ) -> Result<(), CannotHold> {
        for (position, cell) in cells.iter().enumerate() {
            if position > 0 {
                out.push(self.settings.delimiter);
            }
            match cell.scalar_text() {
                Some(text) => self.cell(text, cells.len() == 1, out),
                None if cell.kind() == Kind::Null => losses.add(Loss::Null, cell.origin()),
                None => return Err(nested(&(position + 1).to_string(), *cell)),
            }
        }
        out.push(b'\n');
        Ok(())
    }

    fn named_row(
        &mut self,
        map: &Map<'_>,
        origin: Origin,
        out: &mut Vec<u8>,
        losses: &mut Losses,
    ) -> Result<(), CannotHold> {
        let is_nested = |member: &Member<'_>| matches!(member.value.kind(), Kind::Map | Kind::List);
        if self.settled && !(self.flatten && map.members().iter().any(is_nested)) {
            return self.settled_row(map, origin, out, losses);
        }
        let mut cells = Vec::with_capacity(map.len());
        self.cells(map, "", &mut cells, losses)?;
        refuse_twins(&cells, origin)?;
        if self.settled {
            self.header(out);
            for (name, _) in &cells {
                self.column(name, origin)?;
            }
            self.cells_row(&cells, out);
            return Ok(());
        }
        for (name, _) in &cells {
            if !self.columns.contains(name) {
                self.columns.insert(name.clone());
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
        origin: Origin,
        out: &mut Vec<u8>,
        losses: &mut Losses,
    ) -> Result<(), CannotHold> {
        self.header(out);
        let members = map.members();
        // Most rows have just the columns, in their order.
        let is_aligned = self.asked.is_none()
            && members.len() == self.columns.len()
            && members.iter().zip(&self.columns).all(|(member, column)| member.name == column);
        let mut placed = Vec::new();
        if !is_aligned {
            placed.resize(self.columns.len(), None);
            for member in members {
                if let Some(column) = self.column(member.name, origin)? {
                    placed[column] = Some(member.value);
                }
            }
        }
        let begin = out.len();
        for (position, column) in self.columns.iter().enumerate() {
            if position > 0 {
                out.push(self.settings.delimiter);
            }
            let cell = if is_aligned { Some(members[position].value) } else { placed[position] };
            match cell.map(|cell| (cell.scalar_text(), cell)) {
                Some((Some(text), _)) => self.cell(text, self.columns.len() == 1, out),
                Some((None, Value::Null(origin))) => losses.add(Loss::Null, origin),
                Some((None, cell)) => {
                    out.truncate(begin);
                    return Err(nested(column, cell));
                }
                None => {}
            }
        }
        out.push(b'\n');
        Ok(())
    }

    /// The column of that name; none for a name that is left out, since the columns were asked for.
    fn column(&mut self, name: &str, row: Origin) -> Result<Option<usize>, CannotHold> {
        let column = self.columns.get_index_of(name);
        match (column, &mut self.asked) {
            (Some(column), Some(asked)) => asked.meet(column),
            (None, Some(asked)) => asked.leave_out(name),
            (Some(_), None) => {}
            (None, None) => {
                let message = format!("the column `{name}` was not in the first {LOOKED_AT} rows");
                let advice = ("name all columns with ", Setting::Columns);
                return Err(cannot_hold(message, advice, row));
            }
        }
        Ok(column)
    }

    /// The columns that were asked for and that no row had, each with the names near to it that rows had.
    #[must_use]
    pub fn unmet(&self) -> Vec<(&str, Vec<&str>)> {
        let Some(asked) = self.asked.as_ref().filter(|_| self.named == Some(true)) else {
            return Vec::new();
        };
        let columns = self.columns.iter().zip(&asked.met).filter(|(_, met)| !**met);
        columns
            .map(|(column, _)| {
                (column.as_str(), near(column, asked.others.iter().map(String::as_str)))
            })
            .collect()
    }

    /// Adds what another writer of the same columns has met.
    pub fn join(&mut self, other: &Self) {
        self.named = self.named.or(other.named);
        if let (Some(own), Some(other)) = (&mut self.asked, &other.asked) {
            for (column, _) in other.met.iter().enumerate().filter(|(_, met)| **met) {
                own.meet(column);
            }
            other.others.iter().for_each(|name| own.leave_out(name));
        }
    }

    /// The cells of a map by name; nested ones under dotted names, if that is wanted.
    fn cells(
        &self,
        map: &Map<'_>,
        prefix: &str,
        cells: &mut Vec<(String, Option<String>)>,
        losses: &mut Losses,
    ) -> Result<(), CannotHold> {
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
    ) -> Result<(), CannotHold> {
        match value {
            Value::Null(origin) => {
                if self.asked.is_none() || self.columns.contains(name) {
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
                None => return Err(nested(name, scalar)),
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
        let mut placed = vec![None; self.columns.len()];
        for (name, text) in cells {
            if let Some(column) = self.columns.get_index_of(name) {
                placed[column] = text.as_deref();
            }
        }
        for (position, cell) in placed.into_iter().enumerate() {
            if position > 0 {
                out.push(self.settings.delimiter);
            }
            if let Some(text) = cell {
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

    /// Writes what still waits, and the row of names where the columns are known and no row came.
    pub fn finish(&mut self, out: &mut Vec<u8>) {
        if !self.settled {
            if self.named.is_none() {
                self.columns.extend(std::mem::take(&mut self.expected));
            }
            self.settle(out);
        }
        if self.named != Some(false) {
            self.header(out);
        }
    }

    fn cell(&self, text: &str, alone: bool, out: &mut Vec<u8>) {
        CellWriter { delimiter: self.settings.delimiter, alone }.write(text, out);
    }
}

/// Writes cells.
#[derive(Clone, Copy, Debug)]
pub struct CellWriter {
    delimiter: u8,
    /// Whether each is alone in its row.
    alone: bool,
}

impl CellWriter {
    /// What stands between cells.
    #[must_use]
    pub fn delimiter(self) -> u8 {
        self.delimiter
    }

    /// Appends a cell, in quotes where it needs them. An empty cell that is alone in its row is quoted, so that the row is not an empty
    /// line; so is one that would begin the text with a byte order mark.
    pub fn write(self, text: &str, out: &mut Vec<u8>) {
        let special = |byte: u8| byte == self.delimiter || matches!(byte, b'"' | b'\n' | b'\r');
        // Without a way out in the middle, several bytes are looked at at once.
        let is_special = text.bytes().fold(false, |found, byte| found | special(byte));
        if !(is_special || self.alone && text.is_empty() || text.starts_with('\u{feff}')) {
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

/// The error about a cell that is a list or map.
fn nested(column: &str, cell: Value<'_>) -> CannotHold {
    let kind = cell.kind().phrase();
    let message = format!("the column `{column}` has {kind}, and a cell holds one value");
    let advice = Advice::words("say ")
        .setting(Setting::Flatten)
        .then(" for columns with dotted names, or reshape it first");
    cannot_hold(message, advice, cell.origin())
}

/// Two values of one row must not go into one cell.
fn refuse_twins(cells: &[(String, Option<String>)], row: Origin) -> Result<(), CannotHold> {
    let mut names: Vec<&str> = cells.iter().map(|(name, _)| name.as_str()).collect();
    names.sort_unstable();
    match names.windows(2).find(|pair| pair[0] == pair[1]) {
        Some(pair) => {
            let message = format!("two values of this row go into the column `{}`", pair[0]);
            Err(cannot_hold(message, "rename one of the members first", row))
        }
        None => Ok(()),
    }
}
