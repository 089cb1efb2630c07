//! Schemas: compiled once, and documents checked against them.
//!
//! [`json`] has JSON Schema, over values of the tree from whatever format they were read; [`xsd`] has XML Schema, over elements
//! as they begin and end; [`schematron`] has Schematron, over nodes. Places lead back to the texts that both the documents and the schemas were read from.

pub mod json;
mod sample;
pub mod schematron;
pub mod xsd;

use kyanite_tree::{Advice, Origin};

pub use sample::SampleSettings;

/// A rule of a schema.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct RulePlace {
    /// Where it was read.
    pub origin: Origin,
    /// What sort of rule it is, by the word of the standard; empty for a JSON Schema that is just `false`.
    pub keyword: &'static str,
}

/// Something in a document that breaks a rule.
#[derive(Clone, Debug)]
pub struct Finding {
    /// What is wrong, in a sentence.
    pub message: String,
    /// What to do about it.
    pub advice: Option<Advice>,
    /// Where it was read.
    pub origin: Origin,
    /// The rule.
    pub rule: RulePlace,
    /// Of a JSON Schema: where its standard says that it was found.
    pub unit: Option<Box<json::Unit>>,
}

/// Something that makes a schema no schema, or that may have been meant otherwise.
#[derive(Clone, Debug)]
pub struct Problem {
    /// What is wrong, in a sentence.
    pub message: String,
    /// What to do about it.
    pub advice: Option<Advice>,
    /// Where it stands.
    pub origin: Origin,
    /// The URI of a document that is referred to and not given.
    pub missing: Option<String>,
}

impl Problem {
    fn new(origin: Origin, message: impl Into<String>, advice: Option<String>) -> Self {
        let advice = advice.map(Advice::words);
        Self { message: message.into(), advice, origin, missing: None }
    }
}
