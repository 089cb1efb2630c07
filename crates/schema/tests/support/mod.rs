//! XML Schemas over documents, with what is found as text.
#![allow(dead_code, reason = "each test uses a part")]

use std::sync::OnceLock;

use kyanite_formats::xml;
use kyanite_schema::Problem;
use kyanite_schema::xsd::{
    Documents, Reference, SCHEMA_FOR_SCHEMAS, Schema, Validator, XML, XML_NAMESPACE, check_document,
};
use kyanite_tree::{Arena, Base, Content, Element, LineColumn, Origin, Value};

/// Schema documents by their locations.
pub struct Files<'f, 'a> {
    pub arena: &'a Arena,
    pub files: &'f [(&'f str, &'f str)],
}

/// A document as a value.
pub fn read<'a>(arena: &'a Arena, text: &str) -> Value<'a> {
    match xml::document(arena.text(text), arena, xml::Options::default()) {
        Ok(document) => document.value(),
        Err(error) => panic!("{}: {text}", error.message()),
    }
}

impl<'a> Documents<'a> for Files<'_, 'a> {
    fn find(&mut self, reference: Reference<'_>) -> Result<Option<(String, Value<'a>)>, Problem> {
        if reference.namespace == Some(XML) {
            return Ok(Some((XML.to_owned(), read(self.arena, XML_NAMESPACE))));
        }
        let found = self.files.iter().find(|(name, _)| Some(*name) == reference.location);
        Ok(found.map(|(name, text)| ((*name).to_owned(), read(self.arena, &whole(text)))))
    }
}

/// A schema document around definitions; one that is whole stays as it is.
pub fn whole(body: &str) -> String {
    if body.starts_with("<?xml") {
        return body.to_owned();
    }
    if body.starts_with("<xs:schema") {
        return body.replacen(
            "<xs:schema",
            "<xs:schema xmlns:xs='http://www.w3.org/2001/XMLSchema'",
            1,
        );
    }
    format!("<xs:schema xmlns:xs='http://www.w3.org/2001/XMLSchema'>{body}</xs:schema>")
}

/// A compiled schema.
pub fn compile(body: &str, files: &[(&str, &str)]) -> Result<Schema, Vec<Problem>> {
    let arena = Arena::new();
    let root = read(&arena, &whole(body));
    Schema::compile(&[("main.xsd".to_owned(), root)], &mut Files { arena: &arena, files })
}

/// Lines and columns of a text of one line.
pub fn places(origin: Origin) -> LineColumn {
    LineColumn { line: 1, column: Base::default().offset(origin) as u64 + 1 }
}

/// The root element of a document.
pub fn root_of<'a>(document: Value<'a>) -> (&'a Element<'a>, Origin) {
    let mut content = document.as_element().unwrap().content.iter();
    let root = content.find_map(|node| match node {
        Content::Element(origin, root) => Some((*root, *origin)),
        _ => None,
    });
    root.unwrap()
}

/// What is wrong with a schema document by the schema for schemas.
pub fn by_schema_for_schemas(body: &str) -> String {
    static META: OnceLock<Schema> = OnceLock::new();
    let meta = META.get_or_init(|| compile(SCHEMA_FOR_SCHEMAS, &[]).unwrap());
    let arena = Arena::new();
    let document = read(&arena, &whole(body));
    let found = check_document(meta, root_of(document), &places);
    let found = found.iter().map(|problem| {
        let message = problem.message.strip_prefix("the schema breaks the schema for schemas: ");
        format!("{} {}", places(problem.origin).column, message.unwrap())
    });
    found.collect::<Vec<_>>().join("\n")
}

/// What is found in a document, each as `path: message (advice)`; of a schema that is none the messages behind `!`.
pub fn found(body: &str, files: &[(&str, &str)], document: &str) -> String {
    let line = |message: &str, advice: Option<String>| match advice {
        Some(advice) => format!("{message} ({advice})"),
        None => message.to_owned(),
    };
    let schema = match compile(body, files) {
        Ok(schema) => schema,
        Err(problems) => {
            let all = problems.iter().map(|p| {
                format!("!{}", line(&p.message, p.advice.as_ref().map(ToString::to_string)))
            });
            return all.collect::<Vec<_>>().join("\n");
        }
    };
    assert_eq!(by_schema_for_schemas(body), "", "{body}");
    found_by(&schema, document)
}

/// The same by a schema that is compiled.
pub fn found_by(schema: &Schema, document: &str) -> String {
    let line = |message: &str, advice: Option<String>| match advice {
        Some(advice) => format!("{message} ({advice})"),
        None => message.to_owned(),
    };
    let arena = Arena::new();
    let root = read(&arena, document);
    let mut validator = Validator::new(schema);
    let (root, origin) = root_of(root);
    validator.element(root, origin, &places);
    validator.finish();
    let all = validator.take_found();
    let all = all.iter().map(|f| {
        let advice = f.finding.advice.as_ref().map(ToString::to_string);
        format!("{}: {}", f.path, line(&f.finding.message, advice))
    });
    all.collect::<Vec<_>>().join("\n")
}
