//! Schemas: read, told apart, compiled.

use std::cell::{OnceCell, RefCell};
use std::collections::HashMap;
use std::path::PathBuf;

use kyanite_eval::uri::{resolve, scheme};
use kyanite_formats::{json as json_format, xml};
use kyanite_schema::json::{self, META_SCHEMAS};
use kyanite_schema::{schematron, xsd};
use kyanite_tree::{Advice, Arena, Base, Code, Diagnostic, Origin, Place, Setting, Value};
use percent_encoding::{AsciiSet, CONTROLS, percent_decode_str, utf8_percent_encode};

use super::catalog::{Answer, Catalog};
use super::files::seen_from_here;
use super::named::{self, Named};
use super::{Chosen, Set, Validation};
use crate::document::Library;
use crate::input::{Input, InputOptions, Source};
use crate::run_error::{Counters, Events, RunError};

/// All schemas of a run, and where they were read.
pub(super) struct SchemaCache<'s> {
    validation: Validation<'s>,
    arena: &'s Arena,
    library: Library<'s>,
    catalogs: Vec<Catalog>,
    /// Documents that were read, by URI.
    read: RefCell<HashMap<String, Value<'s>>>,
    meta_schemas: OnceCell<Vec<json::Document<'s>>>,
    /// What JSON Schemas are checked by, and what XML Schemas are.
    pub(super) checks: RefCell<json::MetaSchemas<'s>>,
    pub(super) schema_for_schemas: OnceCell<Option<xsd::Schema>>,
    /// Places that were looked up.
    places: RefCell<HashMap<Origin, Option<Place>>>,
}

/// Schemas that a document has to keep to.
#[derive(Debug, Default)]
pub(super) struct Bundle<'s> {
    pub(super) json: Vec<json::Schema<'s>>,
    pub(super) xsd: Vec<xsd::Schema>,
    pub(super) schematron: Vec<schematron::Schema>,
    /// How many documents it was made of: JSON Schemas, XML Schemas, Schematron schemas.
    pub(super) documents: [usize; 3],
    /// The prefixes that the roots of XML Schemas declare, with the namespaces.
    pub(super) prefixes: Vec<(String, String)>,
}

impl Bundle<'_> {
    /// Whether something in it is for XML alone.
    pub(super) fn is_for_xml(&self) -> bool {
        !self.xsd.is_empty() || !self.schematron.is_empty()
    }
}

/// What an input is checked against.
#[derive(Debug)]
pub(super) enum Assigned {
    /// The bundle of that number.
    Bundle(usize),
    /// Nothing: none was given, and the input names none.
    None,
    /// It names schemas that are not there.
    Missing(Vec<Diagnostic>),
}

/// What all sets were compiled to.
#[derive(Debug, Default)]
pub(super) struct Compiled<'s> {
    pub(super) bundles: Vec<Bundle<'s>>,
    /// For each set what each of its inputs is checked against.
    pub(super) assigned: Vec<Vec<Assigned>>,
}

impl<'s> SchemaCache<'s> {
    /// A shelf without schemas, the catalogs read.
    pub(super) fn new(
        validation: Validation<'s>,
        arena: &'s Arena,
        events: &mut Events<'_>,
    ) -> Result<Self, RunError> {
        let mut cache = Self {
            validation,
            arena,
            library: Library::new(arena),
            catalogs: Vec::new(),
            read: RefCell::default(),
            meta_schemas: OnceCell::new(),
            checks: RefCell::default(),
            schema_for_schemas: OnceCell::new(),
            places: RefCell::default(),
        };
        for input in validation.catalogs {
            let uri = uri_of(input);
            let catalog = cache.load(input, &uri, events)?;
            match catalog.as_element().and_then(|root| Catalog::read(root, &uri)) {
                Some(catalog) => cache.catalogs.push(catalog),
                None => {
                    let message = format!("{} is no XML catalog", input.name());
                    return Err(RunError::Command(vec![Diagnostic::error(
                        Code::CommandLine,
                        message,
                    )]));
                }
            }
        }
        Ok(cache)
    }

    /// What the schemas are for.
    pub(super) fn validation(&self) -> Validation<'s> {
        self.validation
    }

    /// Where something in a schema was read.
    pub(super) fn place(&self, origin: Origin) -> Option<Place> {
        let known = self.places.borrow().get(&origin).cloned();
        known.unwrap_or_else(|| {
            let place = self.library.place_in_source(origin).map(Place::in_schema);
            self.places.borrow_mut().insert(origin, place.clone());
            place
        })
    }

    /// Compiles the schemas of all sets, and those that documents name themselves.
    pub(super) fn compile(&self, events: &mut Events<'_>) -> Result<Compiled<'s>, RunError> {
        let mut compiled = Compiled::default();
        let mut named: HashMap<Vec<Named>, usize> = HashMap::new();
        for set in self.validation.sets {
            let mut assigned = Vec::new();
            if set.schemas.is_empty() {
                for chosen in &set.inputs {
                    assigned.push(self.assign_named(
                        chosen,
                        &mut named,
                        &mut compiled.bundles,
                        events,
                    )?);
                }
            } else {
                let bundle = self.bundle_of(set, events)?;
                compiled.bundles.push(bundle);
                let number = compiled.bundles.len() - 1;
                assigned.extend(set.inputs.iter().map(|_| Assigned::Bundle(number)));
            }
            compiled.assigned.push(assigned);
        }
        Ok(compiled)
    }

    fn bundle_of(&self, set: &Set, events: &mut Events<'_>) -> Result<Bundle<'s>, RunError> {
        let mut documents = Vec::new();
        for input in &set.schemas {
            let uri = uri_of(input);
            documents.push((self.load(input, &uri, events)?, uri));
        }
        self.bundle(documents, events)
    }

    /// What an input is checked against that names its schemas itself.
    fn assign_named(
        &self,
        chosen: &Chosen,
        known: &mut HashMap<Vec<Named>, usize>,
        bundles: &mut Vec<Bundle<'s>>,
        events: &mut Events<'_>,
    ) -> Result<Assigned, RunError> {
        // What cannot be opened is said when it is checked.
        let Ok(mut source) = Source::open(&chosen.input, self.validation.options) else {
            return Ok(Assigned::None);
        };
        let format = source.detected.format;
        let head = source.look_ahead().unwrap_or_default();
        source.keep(&chosen.input);
        let (text, _) = crate::records::valid_start(&head);
        let base = uri_of(&chosen.input);
        let absolute = |named: Named| match named {
            Named::Json(location) => Named::Json(resolve(&location, &base).unwrap_or(location)),
            Named::Model(location) => Named::Model(resolve(&location, &base).unwrap_or(location)),
            Named::Xsd { namespace, location } => {
                Named::Xsd { namespace, location: resolve(&location, &base).unwrap_or(location) }
            }
        };
        let all: Vec<Named> = named::schemas(format, text).into_iter().map(absolute).collect();
        if all.is_empty() {
            return Ok(Assigned::None);
        }
        if let Some(number) = known.get(&all) {
            return Ok(Assigned::Bundle(*number));
        }
        let (mut documents, mut missing) = (Vec::new(), Vec::new());
        for one in &all {
            let namespace = match one {
                Named::Xsd { namespace, .. } => namespace.as_deref(),
                Named::Json(_) | Named::Model(_) => None,
            };
            let location = one.location();
            let bare = location.trim_end_matches('#');
            let built_in = self.meta_schemas().iter().find(|built_in| built_in.uri == bare);
            match (built_in, self.find(location, namespace)) {
                (Some(built_in), _) => documents.push((built_in.value, built_in.uri.clone())),
                (None, Some((input, uri))) => {
                    documents.push((self.load(&input, &uri, events)?, uri))
                }
                (None, None) => missing.push(unmapped(
                    format!("this names the schema {location}, which is not there"),
                    location,
                )),
            }
        }
        if !missing.is_empty() {
            return Ok(Assigned::Missing(missing));
        }
        bundles.push(self.bundle(documents, events)?);
        known.insert(all, bundles.len() - 1);
        Ok(Assigned::Bundle(bundles.len() - 1))
    }

    /// The input that a URI means: what it is mapped to, or a file that is there.
    pub(super) fn find(&self, uri: &str, namespace: Option<&str>) -> Option<(Input, String)> {
        let mapped = |uri: &str| {
            let uri = uri.trim_end_matches('#');
            self.validation.mapped.iter().find_map(|(from, to)| {
                if from == uri {
                    return Some(to.clone());
                }
                let rest = uri.strip_prefix(from.as_str()).filter(|_| from.ends_with('/'))?;
                let path = PathBuf::from(to).join(rest);
                path.is_file().then(|| path.display().to_string())
            })
        };
        let file =
            mapped(uri).or_else(|| mapped(namespace.filter(|namespace| !namespace.is_empty())?));
        if let Some(file) = file {
            let input = Input::of_word(&file);
            // It goes by the URI that it is known by, so that what it refers to is found there, too.
            let own = if scheme(uri).is_some_and(|scheme| scheme != "file") {
                uri.to_owned()
            } else {
                uri_of(&input)
            };
            return Some((input, own));
        }
        let asked = [Some(uri), namespace.filter(|namespace| !namespace.is_empty())];
        let catalogued = asked.into_iter().flatten().find_map(|uri| self.catalogued(uri));
        // A catalog may speak of files that are not installed here.
        catalogued.as_deref().into_iter().chain([uri]).find_map(|uri| {
            let path = path_of(uri).filter(|path| path.is_file())?;
            Some((Input::File(path), uri.to_owned()))
        })
    }

    /// Whether something says which file a URI means.
    pub(super) fn may_have(&self, uri: &str) -> bool {
        let mut mapped = self.validation.mapped.iter();
        mapped.any(|(from, _)| uri.starts_with(from.as_str())) || !self.catalogs.is_empty()
    }

    /// What the catalogs say of a URI, and those that they lead to.
    fn catalogued(&self, uri: &str) -> Option<String> {
        let mut left: Vec<Catalog> = self.catalogs.iter().rev().cloned().collect();
        let mut asked: Vec<String> = Vec::new();
        while let Some(catalog) = left.pop() {
            match catalog.find(uri) {
                Some(Answer::Found(found)) => return Some(found),
                Some(Answer::Ask(others)) => {
                    for other in others.into_iter().rev() {
                        if asked.contains(&other) {
                            continue;
                        }
                        let input = path_of(&other).map(Input::File);
                        let nobody =
                            &mut Events { tell: &mut |_| {}, counters: &Counters::default() };
                        let root = input.and_then(|input| self.load(&input, &other, nobody).ok());
                        let read = root.and_then(|root| Catalog::read(root.as_element()?, &other));
                        left.extend(read);
                        asked.push(other);
                    }
                }
                None => {}
            }
        }
        None
    }

    /// The document of that URI that is built in: a meta-schema, the schema for schemas, the attributes of the namespace of XML.
    pub(super) fn built_in(&self, uri: &str) -> Option<Value<'s>> {
        let uri = uri.trim_end_matches('#');
        if let Some(meta) = self.meta_schemas().iter().find(|document| document.uri == uri) {
            return Some(meta.value);
        }
        let text = match uri.strip_suffix(".xsd").unwrap_or(uri) {
            xsd::XSD => xsd::SCHEMA_FOR_SCHEMAS,
            xsd::XML | "http://www.w3.org/2001/xml" => xsd::XML_NAMESPACE,
            _ => return None,
        };
        let options = xml::Options { base: Base::NONE, ..xml::Options::default() };
        let read = xml::document(text, self.arena, options);
        read.ok().map(|document| document.value())
    }

    /// Reads a document, once.
    pub(super) fn load(
        &self,
        input: &Input,
        uri: &str,
        events: &mut Events<'_>,
    ) -> Result<Value<'s>, RunError> {
        if let Input::Url(url) = input
            && let Some(value) = self.built_in(url)
        {
            return Ok(value);
        }
        if let Some(known) = self.read.borrow().get(uri) {
            return Ok(*known);
        }
        let as_command = |failed: RunError| match failed {
            RunError::Input(why) => RunError::Command(vec![why]),
            other => other,
        };
        // What inputs are says nothing of schemas.
        let mut options = InputOptions { from: None, ..self.validation.options.clone() };
        if let Input::File(path) = input
            && path.extension().is_some_and(|extension| extension == "sch")
        {
            options.from = Some(kyanite_formats::Format::Xml);
        }
        let source = Source::open(input, &options).map_err(as_command)?;
        let loaded = self.library.load(source, &options, events).map_err(as_command)?;
        let [value] = loaded.roots[..] else {
            let message = format!("{} holds several documents, and a schema is one", input.name());
            return Err(RunError::Command(vec![Diagnostic::error(Code::SchemaWrong, message)]));
        };
        self.read.borrow_mut().insert(uri.to_owned(), value);
        Ok(value)
    }

    /// The meta-schemas, which are built in, read once.
    pub(super) fn meta_schemas(&self) -> &[json::Document<'s>] {
        self.meta_schemas.get_or_init(|| {
            let read = |(uri, text): (&str, &'static str)| {
                let origins = json_format::Origins::Text(Base::NONE);
                let options = json_format::ReaderOptions { origins, ..Default::default() };
                let value = json_format::document(text, self.arena, options)
                    .map_or(Value::Null(Origin::NONE), |read| read.0);
                json::Document { uri: uri.to_owned(), value }
            };
            META_SCHEMAS.map(read).into()
        })
    }
}

/// That something refers to a URI which is not there.
pub(super) fn unmapped(message: String, uri: &str) -> Diagnostic {
    let advice = Advice::words("nothing is fetched; say which file it is: ")
        .setting(Setting::SchemaMap(uri.to_owned()));
    Diagnostic::error(Code::SchemaWrong, message).advise(advice)
}

/// The URI of an input: of a file, by where it is (RFC 8089), so that a schema beside it can be referred to.
fn uri_of(input: &Input) -> String {
    match input {
        Input::Standard => "input:standard".to_owned(),
        Input::Url(url) => url.clone(),
        Input::Reader(_) => format!("input:{}", input.name()),
        Input::File(path) => {
            let path = std::path::absolute(path).unwrap_or_else(|_| path.clone());
            let path = path.to_string_lossy().replace(std::path::MAIN_SEPARATOR, "/");
            let path = utf8_percent_encode(&path, IN_PATH).to_string();
            format!("file://{}{path}", if path.starts_with('/') { "" } else { "/" })
        }
    }
}

/// The file that a URI names, as it is seen from here.
pub(super) fn path_of(uri: &str) -> Option<PathBuf> {
    let path = match uri.strip_prefix("file://") {
        Some(path) => path.strip_prefix("localhost").unwrap_or(path),
        None if scheme(uri).is_some() => return None,
        None => uri,
    };
    let path = path.split(['?', '#']).next().unwrap_or(path);
    let path = PathBuf::from(percent_decode_str(path).decode_utf8_lossy().into_owned());
    Some(seen_from_here(&path).to_owned())
}

/// What is not written as it is in the path of a URI (RFC 3986 section 3.3).
const IN_PATH: &AsciiSet =
    &CONTROLS.add(b' ').add(b'"').add(b'#').add(b'%').add(b'<').add(b'>').add(b'?').add(b'`');
