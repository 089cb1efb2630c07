//! W3C XML Schema 1.0: structures (part 1) and datatypes (part 2), second edition.
//!
//! A [`Schema`] is compiled once of documents, which are elements of the tree. A [`Validator`] is then told of elements as they
//! begin and end, so that documents need not be held.
//!
//! ```
//! use kyanite_formats::xml;
//! use kyanite_schema::xsd::{Documents, Reference, Schema};
//! use kyanite_tree::{Arena, Value};
//!
//! struct Alone;
//!
//! impl<'s> Documents<'s> for Alone {
//!     fn find(&mut self, _: Reference<'_>) -> Result<Option<(String, Value<'s>)>, kyanite_schema::Problem> {
//!         Ok(None)
//!     }
//! }
//!
//! let text = "<xs:schema xmlns:xs='http://www.w3.org/2001/XMLSchema'><xs:element name='pier' type='xs:int'/></xs:schema>";
//! let arena = Arena::new();
//! let document = xml::document(text, &arena, xml::Options::default()).unwrap().value();
//! let schema = Schema::compile(&[("file:///pier.xsd".into(), document)], &mut Alone).unwrap();
//! assert_eq!(schema.element_names().collect::<Vec<_>>(), [("", "pier")]);
//! ```

mod builtin;
mod check;
mod compile;
mod complex;
mod components;
mod define;
mod documents;
mod grammar;
mod identity;
mod keys;
mod model;
mod sample;
mod simple;
mod translate;
mod validate;
mod value;
mod wildcard;

use kyanite_tree::{Element, Origin, Value};

use crate::{Finding, Problem};
use compile::Compiler;
use components::Components;
use documents::Collection;

pub use documents::{Documents, Reference, XML, XSD, XSI};
pub use translate::{MemberNames, Translated};
pub use validate::{Alike, Found, Places, Validator, ValueAt};

/// The declarations of the attributes that the namespace of XML has.
pub const XML_NAMESPACE: &str = include_str!("xsd/xml.xsd");

/// The schema for schemas (part 1 appendix A, part 2 appendix A).
pub const SCHEMA_FOR_SCHEMAS: &str = include_str!("xsd/XMLSchema.xsd");

/// A compiled schema.
#[derive(Debug)]
pub struct Schema {
    components: Components,
}

impl Schema {
    /// Compiles documents, each with its URI, and those that `source` gives for what they include, import and redefine.
    ///
    /// # Errors
    /// All that makes them no schema.
    pub fn compile<'s>(
        given: &[(String, Value<'s>)],
        source: &mut dyn Documents<'s>,
    ) -> Result<Self, Vec<Problem>> {
        let mut collection = Collection::new(source);
        for (uri, root) in given {
            collection.add(uri, *root);
        }
        // What is not of the form that it should have would be said again in other words.
        collection.check_grammar();
        if !collection.problems.is_empty() {
            return Err(collection.problems);
        }
        let components = Compiler::new(collection).run()?;
        Ok(Self { components })
    }

    /// The names of the elements that documents can begin with: namespaces, empty for none, and local names.
    pub fn element_names(&self) -> impl Iterator<Item = (&str, &str)> {
        let names = &self.components.names;
        let mut all: Vec<_> = self.components.global_elements.keys().collect();
        all.sort();
        all.into_iter().map(|id| (names.namespace(*id), names.local(*id)))
    }
}

/// What is wrong with a schema document by the schema for schemas, `meta`.
#[must_use]
pub fn check_document(
    meta: &Schema,
    (root, origin): (&Element<'_>, Origin),
    places: Places<'_>,
) -> Vec<Problem> {
    let mut validator = Validator::new(meta);
    validator.element(root, origin, places);
    validator.finish();
    let told = |found: Found| {
        let Finding { message, advice, origin, .. } = found.finding;
        let message = format!("the schema breaks the schema for schemas: {message}");
        Problem { message, advice, origin, missing: None }
    };
    validator.take_found().into_iter().map(told).collect()
}
