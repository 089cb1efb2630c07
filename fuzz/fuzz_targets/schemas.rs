//! The readers of the three schema languages, and what they make: no text makes any of them panic. The schema stands before the first
//! zero byte, the document behind it.
#![no_main]

use kyanite_formats::records::Structure;
use kyanite_formats::{json, xml};
use kyanite_schema::json::{
    Document, META_SCHEMAS, Outline, Schema as JsonSchema, Settings, Typing,
};
use kyanite_schema::{Problem, SampleSettings, schematron, xsd};
use kyanite_tree::{Arena, Content, LineColumn, Nodes, Origin, Value};
use kyanite_xpath::{NoDocuments, Store};
use libfuzzer_sys::fuzz_target;

/// There are no other documents.
struct Alone;

impl<'s> xsd::Documents<'s> for Alone {
    fn find(&mut self, _: xsd::Reference<'_>) -> Result<Option<(String, Value<'s>)>, Problem> {
        Ok(None)
    }
}

impl<'s> schematron::Documents<'s> for Alone {
    fn find(&mut self, _: &str, _: &str) -> Result<Option<(String, Value<'s>)>, Problem> {
        Ok(None)
    }
}

fuzz_target!(|bytes: &[u8]| {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let Some((schema, document)) = text.split_once('\0') else { return };
    let arena = Arena::new();
    let options = json::ReaderOptions { depth: 100, ..json::ReaderOptions::default() };
    if let Ok((value, _)) = json::document(schema, &arena, options) {
        let read = |(uri, text): (&str, &'static str)| {
            let (value, _) = json::document(text, &arena, json::ReaderOptions::default()).ok()?;
            Some(Document { uri: uri.to_owned(), value })
        };
        let others: Vec<Document<'_>> = META_SCHEMAS.into_iter().filter_map(read).collect();
        let settings = Settings { asserts_formats: true, ..Settings::default() };
        let root = Document { uri: "file:///s.json".into(), value };
        if let (Ok(schema), Ok((value, _))) =
            (JsonSchema::compile(root, &others, settings), json::document(document, &arena, options))
        {
            let is_valid = schema.is_valid(value);
            assert_eq!(is_valid, schema.validate(value).is_empty());
            // What is told from events is told of values as well.
            let structure = Structure::of(document.as_bytes());
            let accepts = json::EventReader::new(document, &structure)
                .zip(schema.accepting())
                .is_some_and(|(mut events, mut accepting)| accepting.accepts(&mut events));
            assert!(is_valid || !accepts);
            let _ = Typing::new(Outline::new(&schema, false)).document(value, &arena);
            if let Some(sample) = schema.sample(SampleSettings::default(), &arena) {
                assert!(schema.is_valid(sample));
            }
        }
        return;
    }
    let options = xml::Options { depth: 100, ..xml::Options::default() };
    let Ok(schema) = xml::document(schema, &arena, options) else { return };
    let Ok(document) = xml::document(document, &arena, options) else { return };
    if let Ok(compiled) = xsd::Schema::compile(&[("s.xsd".into(), schema.value())], &mut Alone) {
        let mut validator = xsd::Validator::new(&compiled);
        let places = |_: Origin| LineColumn { line: 1, column: 1 };
        for content in document.root.content {
            if let Content::Element(origin, root) = content {
                validator.element(root, *origin, &places);
            }
        }
        validator.finish();
        let _ = validator.take_found();
        let translated = compiled.to_json_schema(xsd::MemberNames::Local, &arena).schema;
        let root = Document { uri: String::new(), value: translated };
        assert!(JsonSchema::compile(root, &[], Settings::default()).is_ok());
        let _ = compiled.samples(SampleSettings::default(), &[]).take(3).count();
    }
    let compiled = schematron::Schema::compile("file:///s.sch", schema.value(), None, &mut Alone);
    if let Ok(compiled) = compiled {
        let store = Store::new(&arena);
        let root = store.keep(Nodes::of(document.value()));
        schematron::Run::new(&compiled, &store, &NoDocuments, None).check(root, &mut |_| {});
    }
});
