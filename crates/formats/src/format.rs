//! The formats there are, and what each can hold: the one table of them.

use std::fmt;
use std::str::FromStr;

/// A document format.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Format {
    /// One JSON text (RFC 8259).
    Json,
    /// JSON Lines, or any run of JSON texts with white space between them.
    JsonLines,
    /// Comma-separated values (RFC 4180).
    Csv,
    /// The same with tabs.
    Tsv,
    /// Plain lines of text (output only).
    Text,
}

impl Format {
    /// All formats, in the order in which they are listed to people.
    pub const ALL: [Self; 5] = [Self::Json, Self::JsonLines, Self::Csv, Self::Tsv, Self::Text];

    /// The name in options and messages.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Json => "json",
            Self::JsonLines => "jsonl",
            Self::Csv => "csv",
            Self::Tsv => "tsv",
            Self::Text => "text",
        }
    }

    /// Whether documents can be read from it.
    #[must_use]
    pub fn is_input(self) -> bool {
        !matches!(self, Self::Text)
    }

    /// Whether an input is one document made of many records.
    #[must_use]
    pub fn has_records(self) -> bool {
        matches!(self, Self::JsonLines | Self::Csv | Self::Tsv)
    }

    /// Whether one output can hold the results of several documents, one after another.
    #[must_use]
    pub fn holds_several(self) -> bool {
        !matches!(self, Self::Json)
    }

    /// The format that a file extension (without its dot, any case) stands for.
    #[must_use]
    pub fn of_extension(extension: &str) -> Option<Self> {
        Some(match extension.to_ascii_lowercase().as_str() {
            "json" | "geojson" => Self::Json,
            "jsonl" | "ndjson" => Self::JsonLines,
            "csv" => Self::Csv,
            "tsv" | "tab" => Self::Tsv,
            "txt" | "text" => Self::Text,
            _ => return None,
        })
    }
}

impl fmt::Display for Format {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.name())
    }
}

/// The name of no format.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct UnknownFormat(String);

impl fmt::Display for UnknownFormat {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let names: Vec<_> = Format::ALL.map(Format::name).into();
        write!(f, "`{}` is no format; there are {}", self.0, names.join(", "))
    }
}

impl std::error::Error for UnknownFormat {}

impl FromStr for Format {
    type Err = UnknownFormat;

    fn from_str(name: &str) -> Result<Self, UnknownFormat> {
        Self::ALL
            .into_iter()
            .find(|format| format.name() == name)
            .ok_or_else(|| UnknownFormat(name.to_owned()))
    }
}
