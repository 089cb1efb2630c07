//! Rows that are written while a rule computes them: as lines of JSON, or as the cells of a table.

use kyanite_formats::csv::CellWriter;
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
                Some(Self::Json(JsonRows { keys: &keys.keys, out: RowBytes::of(part) }))
            }
            Written::Cells => {
                let names = keys.names.names();
                let cells = part.renderer.as_ref()?.cell_writer(names)?;
                Some(Self::Table(TableRows::new(cells, names.len(), RowBytes::of(part))))
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
    pub(crate) fn end(self, part: &mut Part) -> u64 {
        let out = match self {
            Self::Json(JsonRows { out, .. }) => out,
            Self::Table(TableRows { out, losses, failed, .. }) => {
                part.failed |= failed;
                if let Some(renderer) = &mut part.renderer {
                    renderer.losses().add_all(&losses);
                }
                out
            }
        };
        (part.bytes, part.items) = (out.bytes, part.items + out.count);
        out.count
    }
}

/// What rows are written to.
struct RowBytes {
    bytes: Vec<u8>,
    /// Where the rows end that are complete.
    complete: usize,
    /// How many these are.
    count: u64,
}

impl RowBytes {
    /// Behind what a part has.
    fn of(part: &mut Part) -> Self {
        let bytes = std::mem::take(&mut part.bytes);
        Self { complete: bytes.len(), bytes, count: 0 }
    }

    #[inline]
    fn put(&mut self, bytes: &[u8]) {
        self.bytes.extend_from_slice(bytes);
    }

    /// Ends a row with these bytes.
    #[inline]
    fn end(&mut self, end: &[u8]) {
        self.put(end);
        self.complete = self.bytes.len();
        self.count += 1;
    }

    /// Takes back the row that was not ended.
    fn take_back(&mut self) {
        self.bytes.truncate(self.complete);
    }
}

/// Lines of JSON.
pub(crate) struct JsonRows<'k> {
    keys: &'k [Box<[u8]>],
    out: RowBytes,
}

impl JsonRows<'_> {
    fn value(&mut self, value: RowValue<'_, '_>) {
        match value.token {
            [] => json::write(*value.value, Style::Compact, &mut self.out.bytes),
            token => self.out.put(token),
        }
    }
}

impl Rows for JsonRows<'_> {
    fn begin(&mut self, record: Option<&str>) {
        match record.and_then(|record| record.strip_suffix('}')) {
            Some(members) => self.out.put(members.as_bytes()),
            None => self.out.bytes.push(b'{'),
        }
    }

    fn member(&mut self, name: usize, value: RowValue<'_, '_>) {
        let is_first = self.out.bytes.last() == Some(&b'{');
        self.out.put(&self.keys[name][usize::from(is_first)..]);
        self.value(value);
    }

    fn end(&mut self) {
        self.out.end(b"}\n");
    }

    fn whole(&mut self, value: RowValue<'_, '_>) {
        self.value(value);
        self.out.end(b"\n");
    }

    fn record(&mut self, write: &mut dyn FnMut(&mut Vec<u8>)) {
        write(&mut self.out.bytes);
        self.out.end(b"\n");
    }

    fn edited(&mut self, record: &str, edits: &[RowEdit<'_>]) {
        let mut from = 0;
        for RowEdit { at, is_there, new, name } in edits {
            let new = new.as_ref().map(|(value, token)| RowValue { value, token });
            match (is_there, new) {
                (true, Some(new)) => {
                    self.out.put(&record.as_bytes()[from..at.start]);
                    self.value(new);
                    from = at.end;
                }
                (true, None) => {
                    // The key without its comma.
                    let member = at.start - (self.keys[*name].len() - 1);
                    self.out.put(&record.as_bytes()[from..member]);
                    from = at.end;
                    // The comma before it goes along or, before the first, the one behind.
                    if self.out.bytes.last() == Some(&b',') {
                        self.out.bytes.pop();
                    } else if record.as_bytes().get(from) == Some(&b',') {
                        from += 1;
                    }
                }
                (false, Some(new)) => {
                    self.out.put(&record.as_bytes()[from..at.start]);
                    from = at.start;
                    self.member(*name, new);
                }
                (false, None) => {}
            }
        }
        self.out.put(&record.as_bytes()[from..]);
        self.out.end(b"\n");
    }

    fn take_back(&mut self) {
        self.out.take_back();
    }

    fn pop(&mut self, take: &mut dyn FnMut(&str)) {
        // Rows that wait are taken one by one.
        if let Ok(line) = std::str::from_utf8(self.out.bytes.trim_ascii_end()) {
            take(line);
        }
        self.out.bytes.clear();
        (self.out.complete, self.out.count) = (0, 0);
    }
}

/// Rows of a table whose columns are the names of members, in their order.
pub(crate) struct TableRows {
    cells: CellWriter,
    columns: usize,
    out: RowBytes,
    /// The column that the row under way is at.
    column: usize,
    losses: Losses,
    /// Whether something came that no cell holds: what is wrong is told where it comes as a value.
    failed: bool,
}

impl TableRows {
    fn new(cells: CellWriter, columns: usize, out: RowBytes) -> Self {
        Self { cells, columns, out, column: 0, losses: Losses::default(), failed: false }
    }

    /// Goes on to a column; those between are empty.
    fn go_to(&mut self, column: usize) {
        for _ in self.column..column {
            self.out.bytes.push(self.cells.delimiter());
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
            (Some(text), _) => self.cells.write(text, &mut self.out.bytes),
            (None, Value::Null(origin)) => self.losses.add(Loss::Null, *origin),
            (None, _) => self.failed = true,
        }
    }

    fn end(&mut self) {
        self.go_to(self.columns.saturating_sub(1));
        self.out.end(b"\n");
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
        self.out.take_back();
    }

    fn pop(&mut self, _: &mut dyn FnMut(&str)) {}
}
