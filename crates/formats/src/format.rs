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
    /// JSON text sequences (RFC 7464).
    JsonSequence,
    /// YAML 1.2.
    Yaml,
    /// XML 1.0.
    Xml,
    /// TOML 1.0.
    Toml,
    /// Comma-separated values (RFC 4180).
    Csv,
    /// The same with tabs.
    Tsv,
    /// Plain lines of text.
    Text,
    /// Pages for browsers: written, not read.
    Html,
}

/// What is known of a format.
struct Facts {
    format: Format,
    name: &'static str,
    extensions: &'static [&'static str],
    /// Media types, without `application/` or `text/`, and what their suffixes say.
    media: &'static [&'static str],
    /// Whether an input is one document made of many records.
    has_records: bool,
    /// Whether one output can hold the results of several documents.
    holds_several: bool,
}

const fn facts(
    format: Format,
    name: &'static str,
    extensions: &'static [&'static str],
    media: &'static [&'static str],
) -> Facts {
    Facts { format, name, extensions, media, has_records: false, holds_several: false }
}

impl Facts {
    const fn records(self) -> Self {
        Self { has_records: true, holds_several: true, ..self }
    }

    const fn several(self) -> Self {
        Self { holds_several: true, ..self }
    }
}

/// All formats, in the order in which they are listed to people.
const FORMATS: [Facts; 10] = [
    facts(Format::Json, "json", &["json", "geojson"], &["json"]),
    facts(Format::JsonLines, "jsonl", &["jsonl", "ndjson"], &["jsonl", "x-ndjson"]).records(),
    facts(Format::JsonSequence, "json-seq", &["json-seq"], &["json-seq"]).several(),
    facts(Format::Yaml, "yaml", &["yaml", "yml"], &["yaml", "x-yaml"]).several(),
    facts(
        Format::Xml,
        "xml",
        &["xml", "xsd", "xsl", "xslt", "sch", "svg", "rss", "atom", "gpx", "kml", "wsdl", "xhtml"],
        &["xml"],
    ),
    facts(Format::Toml, "toml", &["toml"], &["toml"]),
    facts(Format::Csv, "csv", &["csv"], &["csv"]).records(),
    facts(Format::Tsv, "tsv", &["tsv", "tab"], &["tab-separated-values"]).records(),
    facts(Format::Text, "text", &["txt", "text", "log"], &[]).records(),
    facts(Format::Html, "html", &["html", "htm"], &["html"]).several(),
];

impl Format {
    /// All formats, in the order in which they are listed to people.
    pub fn all() -> impl Iterator<Item = Self> {
        FORMATS.iter().map(|facts| facts.format)
    }

    /// Their names: `json, jsonl, …`.
    #[must_use]
    pub fn names() -> String {
        FORMATS.map(|facts| facts.name).join(", ")
    }

    fn facts(self) -> &'static Facts {
        &FORMATS[self as usize]
    }

    /// The name in options and messages.
    #[must_use]
    pub fn name(self) -> &'static str {
        self.facts().name
    }

    /// Whether an input is one document made of many records.
    #[must_use]
    pub fn has_records(self) -> bool {
        self.facts().has_records
    }

    /// Whether an input may be many documents, one after another, each of which is run over on its own.
    #[must_use]
    pub fn has_documents(self) -> bool {
        self.is_read() && self.holds_several() && !self.has_records()
    }

    /// Whether one output can hold the results of several documents, one after another.
    #[must_use]
    pub fn holds_several(self) -> bool {
        self.facts().holds_several
    }

    /// Whether documents in it are read, and not only written.
    #[must_use]
    pub fn is_read(self) -> bool {
        self != Self::Html
    }

    /// The format that a file extension (without its dot, any case) stands for.
    #[must_use]
    pub fn of_extension(extension: &str) -> Option<Self> {
        let extension = extension.to_ascii_lowercase();
        let found = FORMATS.iter().find(|facts| facts.extensions.contains(&extension.as_str()));
        found.map(|facts| facts.format)
    }

    /// The format that a media type stands for, as in `application/geo+json; charset=utf-8` (RFC 6838, RFC 6839).
    #[must_use]
    pub fn of_media_type(media: &str) -> Option<Self> {
        let essence = media.split(';').next()?.trim().to_ascii_lowercase();
        let (_, subtype) = essence.split_once('/')?;
        let exact = FORMATS.iter().find(|facts| facts.media.contains(&subtype));
        let suffix = || {
            let (_, suffix) = subtype.rsplit_once('+')?;
            FORMATS.iter().find(|facts| facts.media.contains(&suffix))
        };
        exact.or_else(suffix).map(|facts| facts.format)
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
        write!(f, "`{}` is no format; there are {}", self.0, Format::names())
    }
}

impl std::error::Error for UnknownFormat {}

impl FromStr for Format {
    type Err = UnknownFormat;

    fn from_str(name: &str) -> Result<Self, UnknownFormat> {
        Self::all()
            .find(|format| format.name() == name)
            .ok_or_else(|| UnknownFormat(name.to_owned()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_table_is_in_the_order_of_the_formats() {
        assert!(Format::all().enumerate().all(|(position, format)| format as usize == position));
    }

    #[test]
    fn media_types() {
        for (media, format) in [
            ("application/json", Some(Format::Json)),
            ("application/geo+json; charset=utf-8", Some(Format::Json)),
            ("text/xml", Some(Format::Xml)),
            ("application/atom+xml", Some(Format::Xml)),
            ("application/json-seq", Some(Format::JsonSequence)),
            ("text/csv;header=present", Some(Format::Csv)),
            ("text/plain", None),
            ("json", None),
        ] {
            assert_eq!(Format::of_media_type(media), format, "{media}");
        }
    }
}
