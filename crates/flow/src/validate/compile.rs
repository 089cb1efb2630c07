//! Compiling schemas, whatever language they are in.

use kyanite_eval::uri::resolve;
use kyanite_schema::json;
use kyanite_schema::{Problem, schematron, xsd};
use kyanite_tree::{Code, Diagnostic, Element, LineColumn, Origin, Value};

use super::schemas::{Bundle, SchemaCache, unmapped};
use crate::input::Input;
use crate::run_error::{Events, RunError};

/// A schema document, by what it is.
enum Sort {
    Json,
    Xsd,
    Schematron,
    Other(String),
}

impl<'s> SchemaCache<'s> {
    /// Compiles documents that all have to hold.
    pub(super) fn bundle(
        &self,
        documents: Vec<(Value<'s>, String)>,
        events: &mut Events<'_>,
    ) -> Result<Bundle<'s>, RunError> {
        let mut bundle = Bundle::default();
        let (mut of_json, mut of_xsd) = (Vec::new(), Vec::new());
        let mut wrong = Vec::new();
        for (value, uri) in documents {
            match sort(value) {
                Sort::Json => of_json.push(json::Document { uri, value }),
                Sort::Xsd => of_xsd.push((uri, value)),
                Sort::Schematron => {
                    self.compile_schematron((&uri, value), &mut bundle, &mut wrong, events)?;
                }
                Sort::Other(name) => {
                    let message = format!("<{name}> is the root of no schema that is known");
                    let place = self.place(root_origin(value));
                    wrong.push(
                        Diagnostic::error(Code::SchemaWrong, message)
                            .at_opt(place)
                            .advise("schemas are JSON Schemas, XML Schemas and Schematron schemas"),
                    );
                }
            }
        }
        bundle.documents = [of_json.len(), of_xsd.len(), bundle.schematron.len()];
        self.compile_json(of_json, &mut bundle, &mut wrong, events)?;
        self.compile_xsd(&of_xsd, &mut bundle, &mut wrong, events)?;
        if wrong.is_empty() { Ok(bundle) } else { Err(RunError::Command(wrong)) }
    }

    fn compile_json(
        &self,
        given: Vec<json::Document<'s>>,
        bundle: &mut Bundle<'s>,
        wrong: &mut Vec<Diagnostic>,
        events: &mut Events<'_>,
    ) -> Result<(), RunError> {
        if given.is_empty() {
            return Ok(());
        }
        let mut others = given.clone();
        for (uri, file) in self.validation().mapped.iter().filter(|(uri, _)| !uri.ends_with('/')) {
            let value = self.load(&Input::of_word(file), uri, events)?;
            if matches!(sort(value), Sort::Json) {
                others.push(json::Document { uri: uri.clone(), value });
            }
        }
        others.extend_from_slice(self.meta_schemas());
        for document in given {
            loop {
                match json::Schema::compile(document.clone(), &others, self.validation().settings) {
                    Ok(schema) => {
                        for remark in schema.remarks() {
                            events.tell(
                                Diagnostic::warning(Code::SchemaSuspect, remark.message.clone())
                                    .at_opt(self.place(remark.origin))
                                    .advise_opt(remark.advice.clone()),
                            );
                        }
                        bundle.json.push(schema);
                        let mut meta_schemas = self.checks.borrow_mut();
                        let found =
                            meta_schemas.check(&document, &others, self.validation().settings);
                        let mut told: Vec<Diagnostic> =
                            found.into_iter().map(|problem| self.told(problem)).collect();
                        told.sort_by_key(|told| {
                            told.places().first().map(|place| (place.at.line, place.at.column))
                        });
                        wrong.append(&mut told);
                        break;
                    }
                    Err(problems) => {
                        // What lies in a mapped folder is read once it is asked for.
                        let mut found = Vec::new();
                        for uri in problems.iter().filter_map(|problem| problem.missing.as_deref())
                        {
                            let is_known = found
                                .iter()
                                .chain(&others)
                                .any(|other: &json::Document<'_>| other.uri == uri);
                            let is_mapped = self.may_have(uri);
                            if let Some((input, _)) =
                                self.find(uri, None).filter(|_| is_mapped && !is_known)
                            {
                                let value = self.load(&input, uri, events)?;
                                found.push(json::Document { uri: uri.to_owned(), value });
                            }
                        }
                        if found.is_empty() {
                            wrong.extend(problems.into_iter().map(|problem| self.told(problem)));
                            break;
                        }
                        others.append(&mut found);
                    }
                }
            }
        }
        Ok(())
    }

    fn compile_xsd(
        &self,
        given: &[(String, Value<'s>)],
        bundle: &mut Bundle<'s>,
        wrong: &mut Vec<Diagnostic>,
        events: &mut Events<'_>,
    ) -> Result<(), RunError> {
        let target = |value: &Value<'s>| {
            root_of(*value).and_then(|root| root.attribute("targetNamespace")).map(|a| a.value)
        };
        let mut targets: Vec<Option<&str>> = given.iter().map(|(_, value)| target(value)).collect();
        targets.sort_unstable();
        targets.dedup();
        // Schemas of different namespaces are one; of several for the same one each has to hold.
        let groups: Vec<&[(String, Value<'s>)]> = match given {
            [] => Vec::new(),
            given if targets.len() == given.len() => vec![given],
            given => given.chunks(1).collect(),
        };
        let mut met: Vec<Value<'s>> = given.iter().map(|(_, value)| *value).collect();
        for group in groups {
            let mut source = CachedDocuments::new(self, events);
            let compiled = xsd::Schema::compile(group, &mut source);
            met.append(&mut source.found);
            if let Some(failed) = source.failed {
                return Err(failed);
            }
            match compiled {
                Ok(schema) => bundle.xsd.push(schema),
                Err(problems) => {
                    wrong.extend(problems.into_iter().map(|problem| self.told(problem)))
                }
            }
        }
        let roots = met.iter().filter_map(|value| root_of(*value));
        let declared = roots.flat_map(|root| root.attributes);
        let prefixes = declared.filter(|attribute| attribute.name.declares_namespace());
        bundle.prefixes = prefixes
            .map(|own| {
                let prefix = own.name.qualified().strip_prefix("xmlns:").unwrap_or_default();
                (prefix.to_owned(), own.value.to_owned())
            })
            .collect();
        if !given.is_empty() && wrong.is_empty() {
            self.check_documents(&met, wrong, events);
        }
        Ok(())
    }

    /// Checks documents of XML Schemas by the schema for schemas, which asks for more than the compiler needs.
    fn check_documents(
        &self,
        documents: &[Value<'s>],
        wrong: &mut Vec<Diagnostic>,
        events: &mut Events<'_>,
    ) {
        let meta = self.schema_for_schemas.get_or_init(|| {
            let own = [(xsd::XSD.to_owned(), self.built_in(xsd::XSD)?)];
            xsd::Schema::compile(&own, &mut CachedDocuments::new(self, events)).ok()
        });
        let Some(meta) = meta else { return };
        let places =
            |origin| self.place(origin).map_or(LineColumn { line: 1, column: 1 }, |place| place.at);
        for document in documents {
            let Some(root) = root_of(*document) else { continue };
            let found = xsd::check_document(meta, (root, root_origin(*document)), &places);
            wrong.extend(found.into_iter().map(|problem| self.told(problem)));
        }
    }

    fn compile_schematron(
        &self,
        (uri, value): (&str, Value<'s>),
        bundle: &mut Bundle<'s>,
        wrong: &mut Vec<Diagnostic>,
        events: &mut Events<'_>,
    ) -> Result<(), RunError> {
        let mut source = CachedDocuments::new(self, events);
        let compiled =
            schematron::Schema::compile(uri, value, self.validation().phase, &mut source);
        if let Some(failed) = source.failed {
            return Err(failed);
        }
        match compiled {
            Ok(schema) => bundle.schematron.push(schema),
            Err(problems) => wrong.extend(problems.into_iter().map(|problem| self.told(problem))),
        }
        Ok(())
    }

    /// What makes a schema none.
    fn told(&self, problem: Problem) -> Diagnostic {
        let Problem { message, advice, origin, missing } = problem;
        let place = self.place(origin);
        match missing {
            Some(uri) => unmapped(message, &uri).at_opt(place),
            None => Diagnostic::error(Code::SchemaWrong, message).at_opt(place).advise_opt(advice),
        }
    }
}

/// Finds schema documents for others.
struct CachedDocuments<'f, 'e, 's> {
    cache: &'f SchemaCache<'s>,
    events: &'f mut Events<'e>,
    failed: Option<RunError>,
    /// What was found.
    found: Vec<Value<'s>>,
}

impl<'f, 'e, 's> CachedDocuments<'f, 'e, 's> {
    fn new(cache: &'f SchemaCache<'s>, events: &'f mut Events<'e>) -> Self {
        Self { cache, events, failed: None, found: Vec::new() }
    }

    /// Reads a document; why it cannot be is kept.
    fn load(&mut self, input: &Input, uri: String) -> Option<(String, Value<'s>)> {
        match self.cache.load(input, &uri, self.events) {
            Ok(value) => {
                self.found.push(value);
                Some((uri, value))
            }
            Err(failed) => {
                self.failed.get_or_insert(failed);
                None
            }
        }
    }
}

impl<'s> xsd::Documents<'s> for CachedDocuments<'_, '_, 's> {
    fn find(
        &mut self,
        reference: xsd::Reference<'_>,
    ) -> Result<Option<(String, Value<'s>)>, Problem> {
        let xsd::Reference { namespace, location, base } = reference;
        let uri =
            location.map(|location| resolve(location, base).unwrap_or_else(|| location.to_owned()));
        let asked = uri.as_deref().or(namespace).unwrap_or_default();
        match self.cache.find(asked, namespace) {
            Some((input, uri)) => Ok(self.load(&input, uri)),
            // What is built in stands for namespaces that nothing else is given for.
            None => Ok(namespace.and_then(|uri| Some((uri.to_owned(), self.cache.built_in(uri)?)))),
        }
    }
}

impl<'s> schematron::Documents<'s> for CachedDocuments<'_, '_, 's> {
    fn find(&mut self, href: &str, base: &str) -> Result<Option<(String, Value<'s>)>, Problem> {
        let uri = resolve(href, base).unwrap_or_else(|| href.to_owned());
        Ok(self.cache.find(&uri, None).and_then(|(input, uri)| self.load(&input, uri)))
    }
}

/// The root element of a document.
fn root_of<'s>(value: Value<'s>) -> Option<&'s Element<'s>> {
    let element = value.as_element()?;
    if element.is_document() { element.children().next()?.as_element() } else { Some(element) }
}

/// Where the root element of a document begins.
fn root_origin(value: Value<'_>) -> Origin {
    let root = value.as_element().filter(|element| element.is_document());
    let root = root.and_then(|document| document.children().next());
    root.map_or(value.origin(), |root| root.origin())
}

/// What sort of schema a document is.
fn sort(value: Value<'_>) -> Sort {
    match root_of(value) {
        None => Sort::Json,
        Some(root) if root.name.namespace() == xsd::XSD => Sort::Xsd,
        Some(root) if root.name.namespace() == schematron::SCHEMATRON => Sort::Schematron,
        Some(root) if root.name.namespace().is_empty() => Sort::Other(root.name.local().to_owned()),
        Some(root) => Sort::Other(format!(
            "{}> of the namespace <{}",
            root.name.local(),
            root.name.namespace()
        )),
    }
}
