//! ISO Schematron (ISO/IEC 19757-3:2020): assertions about nodes, as XPath.
//!
//! The query language is that of `queryBinding`: XPath 1.0 for `xslt` (and where none is said), XPath 3.1 for `xslt2`, `xpath2` and
//! those above. `current()`, `key()` with `xsl:key`, and `document()` are there; functions written in XSLT are not.

mod compile;
mod pattern;
mod read;
mod run;

use kyanite_tree::{Origin, Severity, Value};
use kyanite_xpath::Expression;

use crate::Problem;

pub use run::{Assertion, Found, Run, Told};

/// The namespace of Schematron.
pub const SCHEMATRON: &str = "http://purl.oclc.org/dsdl/schematron";
/// The namespace of XSLT.
const XSLT: &str = "http://www.w3.org/1999/XSL/Transform";

/// What reads documents that a schema includes.
pub trait Documents<'s> {
    /// The document that `href` means in the document with the URI `base`, and its own URI; None where there is none.
    ///
    /// # Errors
    /// Why it cannot be read.
    fn find(&mut self, href: &str, base: &str) -> Result<Option<(String, Value<'s>)>, Problem>;
}

/// A compiled schema.
#[derive(Debug)]
pub struct Schema {
    /// The values of the whole schema, in their order.
    lets: Vec<Let>,
    patterns: Vec<Pattern>,
    keys: Vec<Key>,
    title: String,
    /// The URI of the document that documents which it names are relative to.
    uri: String,
    expressions: usize,
}

/// A compiled expression, with its number among those of the schema.
#[derive(Debug)]
struct Query {
    number: usize,
    expression: Expression,
    origin: Origin,
    text: String,
}

/// A name for a value.
#[derive(Debug)]
struct Let {
    value: Query,
}

/// Rules of which the first that fits a node is the one for it.
#[derive(Debug)]
struct Pattern {
    id: String,
    lets: Vec<Let>,
    rules: Vec<Rule>,
    /// The URIs of documents that it is about in place of the one that is validated.
    documents: Option<Query>,
}

/// Assertions about the nodes that fit a context.
#[derive(Debug)]
struct Rule {
    id: String,
    /// The nodes that it is for.
    context: Query,
    written: String,
    lets: Vec<Let>,
    tests: Vec<Test>,
    role: String,
    flag: String,
}

/// An assertion, or a report.
#[derive(Debug)]
struct Test {
    /// Whether it is an assertion, which is broken where the test fails; a report is made where it holds.
    is_assert: bool,
    test: Query,
    message: Vec<Piece>,
    id: String,
    role: String,
    flag: String,
    severity: Severity,
    subject: Option<Query>,
    /// The numbers are those of texts of their own.
    diagnostics: Vec<(String, Vec<Piece>)>,
    properties: Vec<(String, Vec<Piece>)>,
    origin: Origin,
}

/// A piece of a message.
#[derive(Debug)]
enum Piece {
    Text(String),
    Value(Query),
    /// The name of the node, or of another one.
    Name(Option<Query>),
}

/// An `xsl:key`.
#[derive(Debug)]
struct Key {
    name: String,
    matches: Query,
    value: Query,
}

impl Schema {
    /// What the schema calls itself.
    #[must_use]
    pub fn title(&self) -> &str {
        &self.title
    }
}
