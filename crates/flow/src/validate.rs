//! Documents checked against schemas.

use kyanite_formats::Format;
use kyanite_formats::json as json_format;
use kyanite_formats::record_view::{Shape, View};
use kyanite_schema::json::{Document, META_SCHEMAS, Problem, Schema, Settings};
use kyanite_tree::{Advice, Arena, Base, Code, Diagnostic, Place, Setting, Value};
use percent_encoding::{AsciiSet, CONTROLS, utf8_percent_encode};

use crate::document::Library;
use crate::failed::{Events, Failed};
use crate::input::{Input, InputOptions, Source};
use crate::run::is_xml;

/// What documents are checked against, and how they are read.
#[derive(Clone, Copy, Debug)]
pub struct Validation<'a> {
    /// JSON Schemas, all of which have to hold.
    pub schemas: &'a [Input],
    /// What schemas refer to, by URI.
    pub mapped: &'a [(String, Input)],
    /// How JSON Schemas are read.
    pub settings: Settings,
    /// How inputs are read.
    pub options: &'a InputOptions,
}

/// What came of one input.
#[derive(Debug)]
pub struct Verdict {
    /// The input's name.
    pub name: String,
    /// How many documents or records were checked.
    pub checked: u64,
    /// All that is wrong with them; that the input is not well-formed is among that.
    pub findings: Vec<Diagnostic>,
    /// Why the input could not be read at all.
    pub unreadable: Option<Diagnostic>,
}

/// The schemas that were given, and where they were read.
struct Schemas<'s> {
    all: Vec<Schema<'s>>,
    library: &'s Library<'s>,
}

/// Checks inputs one after another; `take` gets what comes of each.
///
/// # Errors
/// When a schema cannot be read, or is none: [`Failed::Command`].
pub fn validate(
    validation: Validation<'_>,
    inputs: &[Input],
    events: &mut Events<'_>,
    take: &mut dyn FnMut(Verdict),
) -> Result<(), Failed> {
    let arena = Arena::new();
    let library = Library::new(&arena);
    let all = compiled(validation, &library, &arena, events)?;
    let schemas = Schemas { all, library: &library };
    for input in inputs {
        take(verdict(&schemas, input, validation.options, events)?);
    }
    Ok(())
}

/// Reads and compiles the schemas.
fn compiled<'s>(
    validation: Validation<'_>,
    library: &Library<'s>,
    arena: &'s Arena,
    events: &mut Events<'_>,
) -> Result<Vec<Schema<'s>>, Failed> {
    let as_command = |failed: Failed| match failed {
        Failed::Input(why) => Failed::Command(vec![why]),
        other => other,
    };
    // What inputs are says nothing of schemas.
    let options = InputOptions { from: None, ..validation.options.clone() };
    let mut read = |input: &Input, uri: Option<&str>| {
        let source = Source::open(input, &options).map_err(as_command)?;
        let own = uri_of(input);
        let loaded = library.load(source, &options, events).map_err(as_command)?;
        let [value] = loaded.roots[..] else {
            let message = format!("{own} holds several documents, and a schema is one");
            return Err(Failed::Command(vec![Diagnostic::error(Code::SchemaWrong, message)]));
        };
        Ok(Document { uri: uri.map_or(own, str::to_owned), value })
    };
    let given: Result<Vec<Document<'s>>, Failed> =
        validation.schemas.iter().map(|input| read(input, None)).collect();
    let given = given?;
    let mut others = given.clone();
    for (uri, input) in validation.mapped {
        others.push(read(input, Some(uri))?);
    }
    for (uri, text) in META_SCHEMAS {
        let origins = json_format::Origins::Text(Base::NONE);
        let options = json_format::ReaderOptions { origins, ..Default::default() };
        if let Ok((value, _)) = json_format::document(text, arena, options) {
            others.push(Document { uri: uri.to_owned(), value });
        }
    }
    let (mut all, mut wrong) = (Vec::new(), Vec::new());
    for document in given {
        match Schema::compile(document, &others, validation.settings) {
            Ok(schema) => {
                for remark in schema.remarks() {
                    let place = library.place(remark.origin).map(Place::in_schema);
                    events.tell(
                        Diagnostic::warning(Code::SchemaSuspect, remark.message.clone())
                            .at_opt(place)
                            .advise_opt(remark.advice.clone()),
                    );
                }
                all.push(schema);
            }
            Err(problems) => wrong.extend(problems),
        }
    }
    if wrong.is_empty() {
        return Ok(all);
    }
    Err(Failed::Command(wrong.into_iter().map(|problem| told(problem, library)).collect()))
}

/// The URI of an input: of a file, by where it is (RFC 8089), so that a schema beside it can be referred to.
fn uri_of(input: &Input) -> String {
    match input {
        Input::Standard => "input:standard".to_owned(),
        Input::Url(url) => url.clone(),
        Input::File(path) => {
            let path = std::path::absolute(path).unwrap_or_else(|_| path.clone());
            let path = path.to_string_lossy().replace(std::path::MAIN_SEPARATOR, "/");
            let path = utf8_percent_encode(&path, IN_PATH).to_string();
            format!("file://{}{path}", if path.starts_with('/') { "" } else { "/" })
        }
    }
}

/// What is not written as it is in the path of a URI (RFC 3986 section 3.3).
const IN_PATH: &AsciiSet =
    &CONTROLS.add(b' ').add(b'"').add(b'#').add(b'%').add(b'<').add(b'>').add(b'?').add(b'`');

/// What makes a schema none.
fn told(problem: Problem, library: &Library<'_>) -> Diagnostic {
    let Problem { message, advice, origin, missing, .. } = problem;
    let advice = match missing {
        Some(uri) => Some(
            Advice::words("nothing is fetched; say which file it is: ")
                .setting(Setting::SchemaMap(uri)),
        ),
        None => advice,
    };
    Diagnostic::error(Code::SchemaWrong, message)
        .at_opt(library.place(origin).map(Place::in_schema))
        .advise_opt(advice)
}

/// Checks one input.
fn verdict(
    schemas: &Schemas<'_>,
    input: &Input,
    options: &InputOptions,
    events: &mut Events<'_>,
) -> Result<Verdict, Failed> {
    let source = match Source::open(input, options) {
        Ok(source) => source,
        Err(Failed::Input(why)) => {
            let name = input.name();
            return Ok(Verdict { name, checked: 0, findings: Vec::new(), unreadable: Some(why) });
        }
        Err(other) => return Err(other),
    };
    let arena = Arena::new();
    let library = Library::new(&arena);
    let (name, has_records) = (source.name.clone(), source.detected.format.has_records());
    let roots = match library.load(source, options, events) {
        Ok(loaded) => loaded.roots,
        Err(Failed::Input(why)) => {
            let is_read = why.code() != Code::InputUnreadable;
            let (findings, unreadable) =
                if is_read { (vec![why], None) } else { (Vec::new(), Some(why)) };
            return Ok(Verdict { name, checked: 1, findings, unreadable });
        }
        Err(other) => return Err(other),
    };
    let mut verdict = Verdict { name, checked: 0, findings: Vec::new(), unreadable: None };
    for root in roots {
        match root {
            Value::List(_, records) if has_records => {
                records.iter().for_each(|record| verdict.add(schemas, *record, &library));
            }
            root if is_xml(root) => {
                let record = View::new(&Shape::default(), true).record(root, &arena);
                verdict.add(schemas, record, &library);
            }
            root => verdict.add(schemas, root, &library),
        }
    }
    Ok(verdict)
}

impl Verdict {
    /// Checks a document or a record.
    fn add(&mut self, schemas: &Schemas<'_>, value: Value<'_>, library: &Library<'_>) {
        self.checked += 1;
        for finding in schemas.all.iter().flat_map(|schema| schema.validate(value)) {
            let rule = schemas.library.place(finding.rule.origin).map(Place::in_schema);
            self.findings.push(
                Diagnostic::error(Code::NotValid, finding.message)
                    .at_opt(library.place(finding.origin))
                    .at_opt(rule)
                    .advise_opt(finding.advice),
            );
        }
    }
}

/// Whether a text is well-formed in a media type (RFC 6838); nothing where that is not known.
#[must_use]
pub fn is_well_formed(media_type: &str, text: &str) -> Option<bool> {
    let essence = media_type.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
    let arena = Arena::new();
    let is_read = |format| {
        let settings = kyanite_formats::documents::Options::default();
        kyanite_formats::documents::read(format, text, &arena, settings).is_ok()
    };
    match essence.as_str() {
        json if json == "application/json" || json.ends_with("+json") => {
            Some(is_read(Format::Json))
        }
        xml if matches!(xml, "application/xml" | "text/xml") || xml.ends_with("+xml") => {
            Some(is_read(Format::Xml))
        }
        "application/yaml" => Some(is_read(Format::Yaml)),
        "application/toml" => Some(is_read(Format::Toml)),
        _ => None,
    }
}
