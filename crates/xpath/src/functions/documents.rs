//! Functions that lead to documents (F&O 3.1 sections 14.6 and 14.8): those that the user named, and those that a text holds.

use kyanite_eval::atomic::Atomic;
use kyanite_formats::xml;
use kyanite_tree::{Nodes, Value, near_words};

use super::{Call, Function, Outcome, failed, function, optional_text};
use crate::value::{Item, Sequence};

pub(super) const TABLE: &[Function] = &[
    function("doc", &[optional_text("uri")], 1, doc).documents(),
    function("doc-available", &[optional_text("uri")], 1, |call| {
        let found = call.optional_text(0).and_then(|uri| call.run.context.documents.named(&uri));
        Ok(Sequence::boolean(found.is_some()))
    })
    .documents()
    .boolean(),
    function("collection", &[optional_text("uri")], 0, |call| {
        if let Some(uri) = call.optional_text(0) {
            let message = format!("there is no collection {:?}", &*uri);
            return Err(
                failed("FODC0002", message).advise("collection() without a name is all inputs")
            );
        }
        Ok(call.run.context.documents.all().into_iter().collect())
    })
    .documents()
    .plural(),
    function("uri-collection", &[optional_text("uri")], 0, |call| {
        let uri = |name: String| Item::Atomic(Atomic::AnyUri(name.into()));
        Ok(call.run.context.documents.names().into_iter().map(uri).collect())
    })
    .documents()
    .plural(),
    function("parse-xml", &[optional_text("text")], 1, |call| parse(call, false)),
    function("parse-xml-fragment", &[optional_text("text")], 1, |call| parse(call, true)),
];

fn doc<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let Some(uri) = call.optional_text(0) else { return Ok(Sequence::Empty) };
    let documents = call.run.context.documents;
    match documents.named(&uri) {
        Some(document) => Ok(Sequence::One(document)),
        None => {
            let message = format!("the document {:?} is not among the inputs", &*uri);
            let error = failed("FODC0002", message);
            let names = documents.names();
            Err(match near_words(&uri, names.iter().map(String::as_str)) {
                Some(near) => error.advise(near),
                None => {
                    error.advise("name it on the command line: no file is read that was not named")
                }
            })
        }
    }
}

/// The document that a text holds.
fn parse<'d>(call: &Call<'_, '_, 'd>, is_fragment: bool) -> Outcome<'d> {
    let Some(text) = call.optional_text(0) else { return Ok(Sequence::Empty) };
    let store = call.run.store;
    let wrong = |error: kyanite_formats::SyntaxError| {
        let found = error.diagnostic("", text.as_bytes());
        failed("FODC0006", format!("the text is no well-formed XML: {}", found.message()))
    };
    let decoded = xml::decode(text.as_bytes()).map_err(wrong)?;
    let decoded = if is_fragment {
        format!("<fragment>{}</fragment>", without_declaration(&decoded))
    } else {
        decoded.into_owned()
    };
    let decoded = store.arena.keep(decoded);
    let options = xml::Options { base: kyanite_tree::Base::NONE, ..xml::Options::default() };
    let read = xml::document(decoded, store.arena, options).map_err(wrong)?;
    let mut root = read.root;
    if is_fragment && let Some(kyanite_tree::Content::Element(_, fragment)) = root.content.first() {
        let name = kyanite_tree::Name::plain("");
        root = store.arena.element(kyanite_tree::Element { name, text: None, ..**fragment });
    }
    let document = store.keep(Nodes::of(Value::Element(read.origin, root)));
    Ok(Sequence::One(Item::Node(document)))
}

/// A fragment without the declaration of its encoding, which may stand before it.
fn without_declaration(text: &str) -> &str {
    match (text.starts_with("<?xml "), text.find("?>")) {
        (true, Some(end)) => &text[end + 2..],
        _ => text,
    }
}
