//! How results are laid out: the format of the output, and what can be chosen of it.

use kyanite_formats::record_view::RecordShape;
use kyanite_formats::{Format, csv, json, xml};
use kyanite_lang::Written;

/// How results are laid out.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Layout {
    /// The format.
    pub format: Format,
    /// The style of JSON documents; JSON Lines is always compact.
    pub style: json::Style,
    /// Whether JSON is written in its canonical form (RFC 8785).
    pub canonical: bool,
    /// Blanks a level of YAML.
    pub indent: usize,
    /// How XML is laid out.
    pub xml: xml::Layout,
    /// What records of XML look like whatever an element holds.
    pub records: RecordShape,
    /// The byte between the cells of CSV; a comma, or a tab for TSV, unless said.
    pub delimiter: Option<u8>,
    /// The columns of CSV; those that are found unless said.
    pub columns: Option<Vec<String>>,
    /// Whether nested values become columns of CSV with dotted names.
    pub flatten: bool,
    /// Whether the places of losses are kept.
    pub places_of_losses: bool,
    /// Whether whole documents are carried over, so that a document of many records that becomes one is worth telling.
    pub is_of_whole: bool,
}

impl Layout {
    /// The usual layout of a format.
    #[must_use]
    pub fn of(format: Format) -> Self {
        Self {
            format,
            style: json::Style::Indented(2),
            canonical: false,
            indent: 2,
            xml: xml::Layout::default(),
            records: RecordShape::default(),
            delimiter: None,
            columns: None,
            flatten: false,
            places_of_losses: false,
            is_of_whole: false,
        }
    }

    /// What is written as it was read, or while it is computed.
    #[must_use]
    pub fn written(&self) -> Written {
        match self.format {
            Format::Json | Format::JsonLines if !self.canonical => Written::Json,
            Format::Yaml => Written::Rows,
            Format::Csv | Format::Tsv => Written::Cells,
            _ => Written::Values,
        }
    }

    /// The writer of rows.
    pub(crate) fn rows(&self) -> csv::Writer {
        let settings = csv::Settings::of(self.format, self.delimiter);
        csv::Writer::new(settings, self.columns.clone(), self.flatten)
    }
}
