//! JSON Schema, drafts 4, 6 and 7.
//!
//! ```
//! use kyanite_formats::json as format;
//! use kyanite_schema::json::{Document, Schema};
//! use kyanite_tree::Arena;
//!
//! let arena = Arena::new();
//! let read = |text| format::document(text, &arena, format::ReaderOptions::default()).unwrap().0;
//! let schema = Document { uri: "file:///pier.json".into(), value: read(r#"{"required": ["no"]}"#) };
//! let schema = Schema::compile(schema, &[], None).unwrap();
//! let findings = schema.validate(read(r#"{"na": 4}"#));
//! assert_eq!(findings[0].message, "the member \"no\" is missing");
//! ```

mod check;
mod compile;
mod describe;
mod keyword;
mod read;

use kyanite_tree::{Advice, Origin, Value};

pub use check::DEPTH;
use keyword::Keyword;

/// A version of the standard.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum Draft {
    /// draft-zyp-json-schema-04 and draft-fge-json-schema-validation-00.
    V4,
    /// draft-wright-json-schema-01 and draft-wright-json-schema-validation-01.
    V6,
    /// draft-handrews-json-schema-01 and draft-handrews-json-schema-validation-01.
    V7,
}

impl Draft {
    /// The draft whose meta-schema has that URI.
    #[must_use]
    pub fn of_uri(uri: &str) -> Option<Self> {
        match uri.trim_end_matches('#') {
            "http://json-schema.org/draft-04/schema" => Some(Self::V4),
            "http://json-schema.org/draft-06/schema" => Some(Self::V6),
            "http://json-schema.org/draft-07/schema" => Some(Self::V7),
            _ => None,
        }
    }

    /// The keyword that gives a schema its URI.
    fn id(self) -> &'static str {
        if self == Self::V4 { "id" } else { "$id" }
    }
}

/// The schemas that the standards give for schemas, each with its URI.
pub const META_SCHEMAS: [(&str, &str); 3] = [
    ("http://json-schema.org/draft-04/schema", include_str!("json/meta/draft-04.json")),
    ("http://json-schema.org/draft-06/schema", include_str!("json/meta/draft-06.json")),
    ("http://json-schema.org/draft-07/schema", include_str!("json/meta/draft-07.json")),
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
    draft: Draft,
    remarks: Vec<Problem>,
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
}

/// A keyword of a schema.
#[derive(Debug)]
struct Rule<'s> {
    keyword: Keyword<'s>,
    place: RulePlace,
}

/// Where a keyword stands.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct RulePlace {
    /// The document: 0 is the one that was compiled, those behind it are the others in their order.
    pub document: usize,
    /// Where its value was read.
    pub origin: Origin,
    /// The keyword; empty for a schema that is just `false`.
    pub keyword: &'static str,
}

/// A value that breaks a rule.
#[derive(Clone, Debug)]
pub struct Finding {
    /// What is wrong, in a sentence.
    pub message: String,
    /// What to do about it.
    pub advice: Option<Advice>,
    /// Where the value was read.
    pub origin: Origin,
    /// The rule.
    pub rule: RulePlace,
}

/// Something that makes a schema no schema, or that may have been meant otherwise.
#[derive(Clone, Debug)]
pub struct Problem {
    /// What is wrong, in a sentence.
    pub message: String,
    /// What to do about it.
    pub advice: Option<Advice>,
    /// The document: 0 is the one that was compiled, those behind it are the others in their order.
    pub document: usize,
    /// Where it stands.
    pub origin: Origin,
    /// The URI of a document that is referred to and not given.
    pub missing: Option<String>,
}
