//! Schemas as values that keep to the schema for schemas: what a reader of keywords never comes to is looked at as well.

use std::collections::HashMap;

use kyanite_tree::{Value, pointer};

use super::{Document, Draft, Schema, Settings};
use crate::{Finding, Problem};

/// Meta-schemas, each compiled once.
#[derive(Debug, Default)]
pub struct MetaSchemas<'s> {
    /// By their URIs; None where one is not given, or is no schema itself.
    compiled: HashMap<String, Option<Schema<'s>>>,
}

impl<'s> MetaSchemas<'s> {
    /// What is wrong with a schema by the meta-schema that it names, or else by that of its draft; `others` hold meta-schemas.
    /// Schemas in it that name one of their own are left to that.
    pub fn check(
        &mut self,
        document: &Document<'s>,
        others: &[Document<'s>],
        settings: Settings,
    ) -> Vec<Problem> {
        let usual = settings.draft.unwrap_or(Draft::USUAL).uri();
        let uri = named(document.value).unwrap_or(usual).trim_end_matches('#');
        let meta = self.compiled.entry(uri.to_owned()).or_insert_with(|| {
            let meta = others.iter().find(|other| other.uri.trim_end_matches('#') == uri)?;
            // What it says of formats is what the standard says of them.
            let settings = Settings { asserts_formats: false, ..settings };
            Schema::compile(meta.clone(), others, settings).ok()
        });
        let Some(meta) = meta else { return Vec::new() };
        if meta.is_valid(document.value) {
            return Vec::new();
        }
        let found = meta.validate(document.value).into_iter();
        let own = found.filter(|finding| !names_another(document.value, uri, finding));
        own.map(|finding| Problem {
            message: format!("the schema breaks its meta-schema: {}", finding.message),
            advice: finding.advice,
            origin: finding.origin,
            missing: None,
        })
        .collect()
    }
}

/// The meta-schema that a schema names.
fn named(schema: Value<'_>) -> Option<&str> {
    schema.as_map()?.get("$schema")?.as_text()
}

/// Whether a schema between the root and what was found names another meta-schema than the root.
fn names_another(root: Value<'_>, uri: &str, finding: &Finding) -> bool {
    let location = finding.unit.as_ref().map_or("", |unit| unit.instance_location.as_str());
    let mut value = root;
    for token in pointer::names(location) {
        let inner = match value {
            Value::Map(_, map) => map.get(&token),
            Value::List(_, items) => {
                token.parse().ok().and_then(|at: usize| items.get(at).copied())
            }
            _ => None,
        };
        let Some(inner) = inner else { return false };
        value = inner;
        if named(value).is_some_and(|other| other.trim_end_matches('#') != uri) {
            return true;
        }
    }
    false
}
