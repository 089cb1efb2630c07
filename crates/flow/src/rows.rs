//! Rows that are written while a rule computes them: as lines of JSON, or as the cells of a table.

use kyanite_formats::csv::Cells;
use kyanite_formats::json::{self, Style};
use kyanite_formats::losses::{Loss, Losses};
use kyanite_lang::{RowEdit, RowNames, RowValue, Rows, Written};
use kyanite_tree::Value;

use crate::part::Part;

/// What members of rows are called, and how that is written in a line of JSON.
pub(crate) struct RowKeys<'n> {
    pub(crate) names: &'n RowNames,
    /// Each name with the comma before it and the colon behind it.
    keys: Vec<Box<[u8]>>,
}

impl<'n> RowKeys<'n> {
    pub(crate) fn of(names: &'n RowNames) -> Self {
        let key = |name: &String| {
            let mut key = vec![b','];
            json::write_text(name, &mut key);
            key.push(b':');
            key.into()
        };
        Self { names, keys: names.names().iter().map(key).collect() }
    }
}

/// Rows of a part.
pub(crate) enum PartRows<'k> {
    Json(JsonRows<'k>),
    Table(TableRows),
}

impl<'k> PartRows<'k> {
    /// Rows behind those of a part; `None` where its items have to be values.
    pub(crate) fn of(part: &mut Part, keys: &'k RowKeys<'_>) -> Option<Self> {
        match part.written() {
            Written::Json => {
                let out = std::mem::take(&mut part.bytes);
                Some(Self::Json(JsonRows { keys: &keys.keys, complete: out.len(), out, count: 0 }))
            }
            Written::Cells => {
                let renderer = part.renderer.as_mut()?;
                let cells = renderer.cells(keys.names.names())?;
                let losses = std::mem::take(renderer.losses());
                let out = std::mem::take(&mut part.bytes);
                Some(Self::Table(TableRows::new(cells, keys.keys.len(), out, losses)))
            }
            Written::Rows | Written::Values => None,
        }
    }

    pub(crate) fn sink(&mut self) -> &mut dyn Rows {
        match self {
            Self::Json(rows) => rows,
            Self::Table(rows) => rows,
        }
    }

    /// Adds the rows to the part that they are of; it is of no use if one could not be written.
    pub(crate) fn end(self, part: &mut Part) {
        match self {
            Self::Json(JsonRows { out, count, .. }) => {
                (part.bytes, part.items) = (out, part.items + count);
            }
            Self::Table(TableRows { out, count, losses, failed, .. }) => {
                (part.bytes, part.items) = (out, part.items + count);
                part.failed |= failed;
                if let Some(renderer) = &mut part.renderer {
                    *renderer.losses() = losses;
                }
            }
        }
    }
}

/// Lines of JSON.
pub(crate) struct JsonRows<'k> {
    keys: &'k [Box<[u8]>],
    out: Vec<u8>,
    /// Where the lines end that are complete.
    complete: usize,
    count: u64,
}

impl JsonRows<'_> {
    fn value(&mut self, value: RowValue<'_, '_>) {
        match value.token {
            [] => json::write(*value.value, Style::Compact, &mut self.out),
            token => self.out.extend_from_slice(token),
        }
    }

    /// Begins a member of the map under way.
    fn name(&mut self, name: usize) {
        let is_first = self.out.last() == Some(&b'{');
        self.out.extend_from_slice(&self.keys[name][usize::from(is_first)..]);
    }

    fn end_line(&mut self) {
        self.out.push(b'\n');
        self.complete = self.out.len();
        self.count += 1;
    }
}

impl Rows for JsonRows<'_> {
    fn begin(&mut self, record: Option<&str>) {
        match record.and_then(|record| record.strip_suffix('}')) {
            Some(members) => self.out.extend_from_slice(members.as_bytes()),
            None => self.out.push(b'{'),
        }
    }

    fn member(&mut self, name: usize, value: RowValue<'_, '_>) {
        self.name(name);
        self.value(value);
    }

    fn end(&mut self) {
        self.out.extend_from_slice(b"}\n");
        self.complete = self.out.len();
        self.count += 1;
    }

    fn whole(&mut self, value: RowValue<'_, '_>) {
        self.value(value);
        self.end_line();
    }

    fn record(&mut self, write: &mut dyn FnMut(&mut Vec<u8>)) {
        write(&mut self.out);
        self.end_line();
    }

    fn edited(&mut self, record: &str, edits: &[RowEdit<'_>]) {
        let mut from = 0;
        for RowEdit { at, is_there, new, name } in edits {
            let new = new.as_ref().map(|(value, token)| RowValue { value, token });
            match (is_there, new) {
                (true, Some(new)) => {
                    self.out.extend_from_slice(&record.as_bytes()[from..at.start]);
                    self.value(new);
                    from = at.end;
                }
                (true, None) => {
                    // The key without its comma.
                    let member = at.start - (self.keys[*name].len() - 1);
                    self.out.extend_from_slice(&record.as_bytes()[from..member]);
                    from = at.end;
                    // The comma before it goes along or, before the first, the one behind.
                    if self.out.last() == Some(&b',') {
                        self.out.pop();
                    } else if record.as_bytes().get(from) == Some(&b',') {
                        from += 1;
                    }
                }
                (false, Some(new)) => {
                    self.out.extend_from_slice(&record.as_bytes()[from..at.start]);
                    from = at.start;
                    self.member(*name, new);
                }
                (false, None) => {}
            }
        }
        self.out.extend_from_slice(&record.as_bytes()[from..]);
        self.end_line();
    }

    fn take_back(&mut self) {
        self.out.truncate(self.complete);
    }

    fn pop(&mut self, take: &mut dyn FnMut(&str)) {
        // Rows that wait are taken one by one.
        if let Ok(line) = std::str::from_utf8(self.out.trim_ascii_end()) {
            take(line);
        }
        self.out.clear();
        (self.complete, self.count) = (0, 0);
    }
}

/// Rows of a table whose columns are the names of members, in their order.
pub(crate) struct TableRows {
    cells: Cells,
    columns: usize,
    out: Vec<u8>,
    /// Where the rows end that are complete.
    complete: usize,
    count: u64,
    /// The column that the row under way is at.
    column: usize,
    losses: Losses,
    /// Whether something came that no cell holds: what is wrong is told where it comes as a value.
    failed: bool,
}

impl TableRows {
    fn new(cells: Cells, columns: usize, out: Vec<u8>, losses: Losses) -> Self {
        let complete = out.len();
        Self { cells, columns, out, complete, count: 0, column: 0, losses, failed: false }
    }

    /// Goes on to a column; those between are empty.
    fn go_to(&mut self, column: usize) {
        for _ in self.column..column {
            self.out.push(self.cells.delimiter());
        }
        self.column = column;
    }
}

impl Rows for TableRows {
    fn begin(&mut self, record: Option<&str>) {
        self.column = 0;
        self.failed |= record.is_some();
    }

    fn member(&mut self, name: usize, value: RowValue<'_, '_>) {
        self.go_to(name);
        match (value.value.scalar_text(), value.value) {
            (Some(text), _) => self.cells.write(text, &mut self.out),
            (None, Value::Null(origin)) => self.losses.add(Loss::Null, *origin),
            (None, _) => self.failed = true,
        }
    }

    fn end(&mut self) {
        self.go_to(self.columns.saturating_sub(1));
        self.out.push(b'\n');
        self.complete = self.out.len();
        self.count += 1;
    }

    fn whole(&mut self, _: RowValue<'_, '_>) {
        self.failed = true;
    }

    fn record(&mut self, _: &mut dyn FnMut(&mut Vec<u8>)) {
        self.failed = true;
    }

    fn edited(&mut self, _: &str, _: &[RowEdit<'_>]) {
        self.failed = true;
    }

    fn take_back(&mut self) {
        self.out.truncate(self.complete);
    }

    fn pop(&mut self, _: &mut dyn FnMut(&str)) {}
}
