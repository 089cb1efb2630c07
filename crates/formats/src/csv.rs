//! CSV (RFC 4180), and the same with tabs.
//!
//! Rows end with a line feed, with or without a carriage return before it. A cell that begins with a quote ends with
//! one; quotes inside are doubled; it may hold delimiters and line ends. Cells are untyped text.
//!
//! ```
//! use kyanite_formats::csv::{Header, Reader, Settings};
//! use kyanite_tree::{Arena, Base};
//!
//! let text = "port,berth\nness,A9\n";
//! let settings = Settings::default();
//! let arena = Arena::new();
//! let first = Header::read(text, settings, &arena).unwrap().unwrap();
//! let mut reader = Reader::new(text, &arena, settings, Some(first.header), Base::default());
//! reader.seek(first.end);
//! let row = reader.next_row().unwrap().unwrap();
//! assert_eq!(row.member("berth").unwrap().as_text(), Some("A9"));
//! ```

use crate::Format;

mod events;
mod read;
mod row_lines;
mod write;

pub use events::RowEvents;
pub use read::{FirstRow, Header, Reader, cell_end};
pub use row_lines::RowLines;
pub use write::{CellWriter, Writer};

/// How cells are told apart.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Settings {
    /// The byte between cells: ASCII, neither a quote nor a line end.
    pub delimiter: u8,
}

impl Settings {
    /// The settings of a format, with another delimiter than its own if one is given.
    #[must_use]
    pub fn of(format: Format, delimiter: Option<u8>) -> Self {
        let usual = if format == Format::Tsv { b'\t' } else { b',' };
        Self { delimiter: delimiter.unwrap_or(usual) }
    }
}

impl Default for Settings {
    fn default() -> Self {
        Self { delimiter: b',' }
    }
}
