//! JSON Schema, drafts 4, 6, 7, 2019-09 and 2020-12.
//!
//! ```
//! use kyanite_formats::json as format;
//! use kyanite_schema::json::{Document, Schema, Settings};
//! use kyanite_tree::Arena;
//!
//! let arena = Arena::new();
//! let read = |text| format::document(text, &arena, format::ReaderOptions::default()).unwrap().0;
//! let schema = Document { uri: "file:///pier.json".into(), value: read(r#"{"required": ["no"]}"#) };
//! let schema = Schema::compile(schema, &[], Settings::default()).unwrap();
//! let findings = schema.validate(read(r#"{"na": 4}"#));
//! assert_eq!(findings[0].message, "the member \"no\" is missing");
//! ```

mod accept;
mod assert;
mod check;
mod compile;
mod content;
mod describe;
mod dialect;
mod evaluated;
mod format;
mod host;
mod keyword;
mod meta_schema;
mod outline;
mod read;
mod sample;
mod typing;
mod unit;

use kyanite_tree::Value;

use crate::{Problem, RulePlace};

pub use accept::Accepting;
pub use check::DEPTH;
pub use format::has_format;
use keyword::Keyword;
pub use meta_schema::MetaSchemas;
pub use outline::{At, Kinds, Outline};
pub use typing::Typing;
pub use unit::Unit;

/// A version of the standard.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum Draft {
    /// draft-zyp-json-schema-04 and draft-fge-json-schema-validation-00.
    V4,
    /// draft-wright-json-schema-01 and draft-wright-json-schema-validation-01.
    V6,
    /// draft-handrews-json-schema-01 and draft-handrews-json-schema-validation-01.
    V7,
    /// draft-handrews-json-schema-02 and draft-handrews-json-schema-validation-02.
    V2019,
    /// draft-bhutton-json-schema-01 and draft-bhutton-json-schema-validation-01.
    V2020,
}

impl Draft {
    /// The draft of schemas that do not say theirs.
    pub const USUAL: Self = Self::V2020;

    /// The draft whose meta-schema has that URI.
    #[must_use]
    pub fn of_uri(uri: &str) -> Option<Self> {
        let uri = uri.trim_end_matches('#');
        let all = [Self::V4, Self::V6, Self::V7, Self::V2019, Self::V2020];
        all.into_iter().find(|draft| draft.uri() == uri)
    }

    /// The URI of its meta-schema, without the empty fragment that some have.
    #[must_use]
    pub fn uri(self) -> &'static str {
        match self {
            Self::V4 => "http://json-schema.org/draft-04/schema",
            Self::V6 => "http://json-schema.org/draft-06/schema",
            Self::V7 => "http://json-schema.org/draft-07/schema",
            Self::V2019 => "https://json-schema.org/draft/2019-09/schema",
            Self::V2020 => "https://json-schema.org/draft/2020-12/schema",
        }
    }

    /// The keyword that gives a schema its URI.
    fn id(self) -> &'static str {
        if self == Self::V4 { "id" } else { "$id" }
    }
}

/// What is decided about schemas before they are read.
#[derive(Clone, Copy, Debug, Default)]
pub struct Settings {
    /// The draft of documents that do not say theirs; [`Draft::USUAL`] without it.
    pub draft: Option<Draft>,
    /// Whether what `format` and the keywords for content say has to hold, and not only where the meta-schema of a schema says so.
    pub asserts_formats: bool,
    /// What tells whether texts that hold documents are well-formed.
    pub reads: Option<Reads>,
}

/// Tells whether a text is well-formed in a media type; None where that is not known.
pub type Reads = fn(media_type: &str, text: &str) -> Option<bool>;

/// The schemas that the standards give for schemas, each with its URI.
pub const META_SCHEMAS: [(&str, &str); 19] = [
    ("http://json-schema.org/draft-04/schema", include_str!("json/meta/draft-04.json")),
    ("http://json-schema.org/draft-06/schema", include_str!("json/meta/draft-06.json")),
    ("http://json-schema.org/draft-07/schema", include_str!("json/meta/draft-07.json")),
    ("https://json-schema.org/draft/2019-09/schema", include_str!("json/meta/2019-09/schema.json")),
    (
        "https://json-schema.org/draft/2019-09/meta/applicator",
        include_str!("json/meta/2019-09/applicator.json"),
    ),
    (
        "https://json-schema.org/draft/2019-09/meta/content",
        include_str!("json/meta/2019-09/content.json"),
    ),
    (
        "https://json-schema.org/draft/2019-09/meta/core",
        include_str!("json/meta/2019-09/core.json"),
    ),
    (
        "https://json-schema.org/draft/2019-09/meta/format",
        include_str!("json/meta/2019-09/format.json"),
    ),
    (
        "https://json-schema.org/draft/2019-09/meta/meta-data",
        include_str!("json/meta/2019-09/meta-data.json"),
    ),
    (
        "https://json-schema.org/draft/2019-09/meta/validation",
        include_str!("json/meta/2019-09/validation.json"),
    ),
    ("https://json-schema.org/draft/2020-12/schema", include_str!("json/meta/2020-12/schema.json")),
    (
        "https://json-schema.org/draft/2020-12/meta/applicator",
        include_str!("json/meta/2020-12/applicator.json"),
    ),
    (
        "https://json-schema.org/draft/2020-12/meta/content",
        include_str!("json/meta/2020-12/content.json"),
    ),
    (
        "https://json-schema.org/draft/2020-12/meta/core",
        include_str!("json/meta/2020-12/core.json"),
    ),
    (
        "https://json-schema.org/draft/2020-12/meta/format-annotation",
        include_str!("json/meta/2020-12/format-annotation.json"),
    ),
    (
        "https://json-schema.org/draft/2020-12/meta/format-assertion",
        include_str!("json/meta/2020-12/format-assertion.json"),
    ),
    (
        "https://json-schema.org/draft/2020-12/meta/meta-data",
        include_str!("json/meta/2020-12/meta-data.json"),
    ),
    (
        "https://json-schema.org/draft/2020-12/meta/unevaluated",
        include_str!("json/meta/2020-12/unevaluated.json"),
    ),
    (
        "https://json-schema.org/draft/2020-12/meta/validation",
        include_str!("json/meta/2020-12/validation.json"),
    ),
];

/// A document that is a schema, or holds some.
#[derive(Clone, Debug)]
pub struct Document<'s> {
    /// Its absolute URI; it may name itself otherwise.
    pub uri: String,
    /// What it holds.
    pub value: Value<'s>,
}

/// A compiled schema.
#[derive(Debug)]
pub struct Schema<'s> {
    /// Schemas that refer to each other by their numbers; the first is the whole.
    nodes: Vec<Node<'s>>,
    /// Whether a keyword means another schema depending on those that led to it.
    is_dynamic: bool,
    reads: Option<Reads>,
    remarks: Vec<Problem>,
    /// What is told from events, if all can be.
    acceptor: Option<accept::Acceptor>,
}

impl Schema<'_> {
    /// What may have been meant otherwise: members that are no keywords.
    #[must_use]
    pub fn remarks(&self) -> &[Problem] {
        &self.remarks
    }
}

/// One of the schemas in a document.
#[derive(Debug)]
struct Node<'s> {
    rules: Vec<Rule<'s>>,
    /// Its URI: that of its resource, with a pointer as the fragment.
    location: String,
    draft: Draft,
    /// The number of the resource that it is in: of the schema with a URI that is nearest around it.
    resource: usize,
    /// Whether a rule asks which members and items the others have looked at.
    asks_evaluated: bool,
}

/// A keyword of a schema.
#[derive(Debug)]
struct Rule<'s> {
    keyword: Keyword<'s>,
    place: RulePlace,
}
