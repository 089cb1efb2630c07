//! Rows as the lines that they are in another format, without values in between.

use super::read::Header;
use crate::{json, yaml};

/// How rows are written in another format.
#[derive(Debug)]
pub struct RowLines {
    /// What stands before each cell: `{"code":`, `,"name":`.
    starts: Vec<Vec<u8>>,
    cells: Cells,
}

/// How cells are written.
#[derive(Clone, Copy, Debug)]
enum Cells {
    /// As texts of JSON, and all in a map.
    Json,
    /// As texts of YAML with their line ends; literal blocks begin at a column.
    Yaml { column: usize },
}

impl Cells {
    #[inline]
    fn write(self, text: &str, out: &mut Vec<u8>) {
        match self {
            Self::Json => json::write_text(text, out),
            Self::Yaml { column } => yaml::write_line_or_block(text, column, out),
        }
    }

    /// What stands behind the last.
    fn end(self) -> &'static [u8] {
        match self {
            Self::Json => b"}\n",
            Self::Yaml { .. } => b"",
        }
    }
}

impl RowLines {
    /// How many cells a row has.
    pub(super) fn cells(&self) -> usize {
        self.starts.len()
    }

    /// Appends the cell of that number; those behind the last are none.
    #[inline]
    pub(super) fn cell(&self, number: usize, text: &str, out: &mut Vec<u8>) {
        if let Some(start) = self.starts.get(number) {
            out.extend_from_slice(start);
            self.cells.write(text, out);
        }
    }

    /// Appends what stands behind the last cell.
    pub(super) fn end(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(self.cells.end());
    }
}

impl Header<'_> {
    /// How rows are written as lines of JSON, if all names differ.
    #[must_use]
    pub fn json_lines(&self) -> Option<RowLines> {
        let start = |(position, name): (usize, &&str)| {
            let mut start = vec![if position == 0 { b'{' } else { b',' }];
            json::write_text(name, &mut start);
            start.push(b':');
            start
        };
        self.lines(start, Cells::Json)
    }

    /// How rows are written as items of a list of YAML that is the document, if all names differ.
    #[must_use]
    pub fn yaml_items(&self, indent: usize) -> Option<RowLines> {
        let start = |(position, name): (usize, &&str)| {
            let mut start = if position == 0 { b"- ".to_vec() } else { b"  ".to_vec() };
            yaml::write_key(name, 2, &mut start);
            start.extend_from_slice(b": ");
            start
        };
        self.lines(start, Cells::Yaml { column: 2 + indent.max(1) })
    }

    fn lines(
        &self,
        start: impl FnMut((usize, &&str)) -> Vec<u8>,
        cells: Cells,
    ) -> Option<RowLines> {
        let starts = || self.names().iter().enumerate().map(start).collect();
        (!self.repeats()).then(|| RowLines { starts: starts(), cells })
    }
}
