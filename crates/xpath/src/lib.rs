//! XPath over nodes, and over maps and lists.
//!
//! Two versions of the language are read: [1.0](Version::V1) (W3C recommendation of 1999) as it is, and
//! [3.1](Version::V31) (of 2017) without schema awareness, with its functions (F&O 3.1). An expression is
//! [compiled](Expression::compile) once and evaluated for any number of documents; a [`Coverage`] sees which of its steps
//! found nothing, and [says](Coverage::report) what was there instead.
//!
//! ```
//! use std::cell::RefCell;
//! use kyanite_tree::Arena;
//! use kyanite_xpath::{Context, Expression, Item, Namespaces, Store, Version, Coverage, document};
//!
//! let text = "<deck><vehicle plate='NX 1'><weight>1450</weight></vehicle><vehicle plate='NX 2'/></deck>";
//! let expression =
//!     Expression::compile("//vehicle[weight > 1000]/@plate", Version::V31, Namespaces::new(), &[]).unwrap();
//! let arena = Arena::new();
//! let store = Store::new(&arena);
//! let root = document(text, &store).unwrap();
//! let coverage = RefCell::new(Coverage::new(&expression));
//! let found = expression.evaluate(&Context::of(Item::Node(root)), &store, &coverage).unwrap();
//! assert_eq!(found.items()[0].as_node().unwrap().text(), "NX 1");
//! ```

mod context;
mod error;
pub mod functions;
mod namespaces;
mod prefilter;
mod projection;
mod result;
mod run;
mod streaming;
mod syntax;
mod value;

use std::cell::RefCell;

pub use context::{Context, Documents, NoDocuments, Store};
pub use error::{Error, ErrorCode};
use kyanite_formats::SyntaxError;
use kyanite_formats::projection::Projection;
use kyanite_formats::xml;
use kyanite_tree::Node;
pub use namespaces::Namespaces;
use prefilter::RecordPrefilter;
pub use result::item_value;
pub use run::{Coverage, Focus};
pub use streaming::{RecordStep, Streamed};
use syntax::Parsed;
pub use value::{FunctionItem, Item, MapItem, Sequence};

/// The namespace of the functions without a prefix.
pub const FN: &str = "http://www.w3.org/2005/xpath-functions";
/// The namespace of the functions on maps.
pub const MAP: &str = "http://www.w3.org/2005/xpath-functions/map";
/// The namespace of the functions on arrays.
pub const ARRAY: &str = "http://www.w3.org/2005/xpath-functions/array";
/// The namespace of the mathematical functions.
pub const MATH: &str = "http://www.w3.org/2005/xpath-functions/math";
/// The namespace of XML Schema.
pub const XS: &str = "http://www.w3.org/2001/XMLSchema";

/// Which XPath an expression is.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Version {
    /// XPath 1.0: four types, the first of several nodes where one is needed, all numbers doubles.
    V1,
    /// XPath 3.1.
    V31,
}

/// A compiled expression.
#[derive(Debug)]
pub struct Expression {
    text: String,
    version: Version,
    namespaces: Namespaces,
    parsed: Parsed,
    /// The numbers of the steps that lead to the elements it is evaluated for one by one.
    record_steps: Vec<usize>,
    /// What it can see of each of those.
    record_projection: Projection,
    /// What of its first predicate can be told from their text.
    record_prefilter: Option<RecordPrefilter>,
}

impl Expression {
    /// Compiles an expression that may refer to these variables.
    ///
    /// # Errors
    /// A static error, with its place.
    pub fn compile(
        text: &str,
        version: Version,
        namespaces: Namespaces,
        variables: &[String],
    ) -> Result<Self, Error> {
        Self::compile_in(text, version, namespaces, variables, false)
    }

    /// The same for an expression in a language that adds functions to it: `current`, `key` and `document` (XSLT 1.0 section
    /// 12).
    ///
    /// # Errors
    /// A static error, with its place.
    pub fn compile_hosted(
        text: &str,
        version: Version,
        namespaces: Namespaces,
        variables: &[String],
    ) -> Result<Self, Error> {
        Self::compile_in(text, version, namespaces, variables, true)
    }

    fn compile_in(
        text: &str,
        version: Version,
        namespaces: Namespaces,
        variables: &[String],
        is_hosted: bool,
    ) -> Result<Self, Error> {
        let parsed = syntax::parse(text, version, variables, is_hosted)?;
        let (record_steps, record_projection) = (Vec::new(), Projection::default());
        let text = text.to_owned();
        Ok(Self {
            text,
            version,
            namespaces,
            parsed,
            record_steps,
            record_projection,
            record_prefilter: None,
        })
    }

    /// Whether the variable of that number is in it.
    #[must_use]
    pub fn uses_variable(&self, number: usize) -> bool {
        self.parsed.facts.variables.contains(&number)
    }

    /// Whether it is about an item at all, and not only about what is written in it and about documents that it names.
    #[must_use]
    pub fn uses_context(&self) -> bool {
        self.parsed.facts.context
    }

    /// Whether it asks for documents by their names.
    #[must_use]
    pub fn asks_documents(&self) -> bool {
        self.parsed.facts.documents
    }

    /// Whether it gives one value at most: a call of a function that does, a comparison, a number.
    #[must_use]
    pub fn gives_one(&self) -> bool {
        syntax::gives_one(&self.parsed.body)
    }

    /// What it can see of the elements that it is evaluated for, of one that [`streamed`](Self::streamed) gave.
    #[must_use]
    pub fn record_projection(&self) -> &Projection {
        &self.record_projection
    }

    /// The condition that most of these may fail, as far as it can be told from their text. Where elements are passed over
    /// by it, [`Coverage::passed_over`] has to be told.
    #[must_use]
    pub fn record_prefilter(&self) -> Option<&xml::Prefilter> {
        self.record_prefilter.as_ref().map(|own| &own.prefilter)
    }

    /// How it runs, a sentence a line.
    #[must_use]
    pub fn explain(&self) -> Vec<String> {
        let version = match self.version {
            Version::V1 => "XPath 1.0",
            Version::V31 => "XPath 3.1",
        };
        let mut lines = vec![format!("The expression is read as {version}.")];
        lines.push(match (self.uses_context(), self.needs_document()) {
            (false, _) => "The expression is about no item, so it reads no input.".to_owned(),
            (true, None) => "Elements of an XML document are looked at one by one, on all threads, in memory that does not grow; any other document is held in memory.".to_owned(),
            (true, Some(reason)) => format!("The whole document is held in memory: {reason}."),
        });
        lines
    }

    /// The expression as it was written.
    #[must_use]
    pub fn text(&self) -> &str {
        &self.text
    }

    /// Evaluates the expression; documents that it makes live in `store`.
    ///
    /// # Errors
    /// A dynamic error, with its place in the expression.
    pub fn evaluate<'d>(
        &self,
        context: &Context<'_, 'd>,
        store: &'d Store<'d>,
        coverage: &RefCell<Coverage>,
    ) -> Result<Sequence<'d>, Error> {
        run::Run::new(self, context, store, coverage).all()
    }

    /// The same for an element that certainly passes the [prefilter](Self::record_prefilter), so that its condition need not be tested
    /// again.
    ///
    /// # Errors
    /// As [`Self::evaluate`].
    pub fn evaluate_fitting<'d>(
        &self,
        context: &Context<'_, 'd>,
        store: &'d Store<'d>,
        coverage: &RefCell<Coverage>,
    ) -> Result<Sequence<'d>, Error> {
        let known = self.record_prefilter.as_ref().map(|prefilter| prefilter.predicate);
        run::Run::new(self, context, store, coverage).knowing(known).all()
    }
}

/// Reads an XML document into a store; gives its document node.
///
/// # Errors
/// A [`SyntaxError`] where it is not well-formed.
pub fn document<'d>(text: &str, store: &'d Store<'d>) -> Result<Node<'d>, SyntaxError> {
    let decoded = store.arena.keep(xml::decode(text.as_bytes())?.into_owned());
    let (nodes, _) = xml::nodes(decoded, store.arena, xml::Options::default())?;
    Ok(store.keep(nodes))
}
