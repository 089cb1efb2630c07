//! Functions on URIs (F&O 3.1 section 6).

use kyanite_eval::atomic::Atomic;
use kyanite_eval::uri::{resolve, scheme};
use percent_encoding::{AsciiSet, CONTROLS, NON_ALPHANUMERIC, utf8_percent_encode};

use super::{Call, Function, Outcome, failed, function, optional_text, text};
use crate::value::Sequence;

/// What stays in a part of a path (RFC 3986 section 2.3).
const UNRESERVED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'_').remove(b'.').remove(b'~');

/// What an IRI may hold and a URI may not.
const NOT_IN_URI: &AsciiSet = &CONTROLS
    .add(b'<')
    .add(b'>')
    .add(b'"')
    .add(b' ')
    .add(b'{')
    .add(b'}')
    .add(b'|')
    .add(b'\\')
    .add(b'^')
    .add(b'`');

pub(super) const TABLE: &[Function] = &[
    function("resolve-uri", &[optional_text("uri"), text("base")], 1, resolved),
    function("encode-for-uri", &[optional_text("part")], 1, |call| {
        Ok(Sequence::text(utf8_percent_encode(&call.text(0), UNRESERVED).to_string()))
    }),
    function("iri-to-uri", &[optional_text("iri")], 1, |call| {
        Ok(Sequence::text(utf8_percent_encode(&call.text(0), NOT_IN_URI).to_string()))
    }),
    function("escape-html-uri", &[optional_text("uri")], 1, |call| {
        Ok(Sequence::text(utf8_percent_encode(&call.text(0), CONTROLS).to_string()))
    }),
];

fn resolved<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let Some(relative) = call.optional_text(0) else { return Ok(Sequence::Empty) };
    let uri = |text: String| Ok(Sequence::atomic(Atomic::AnyUri(text.into())));
    if scheme(&relative).is_some() {
        return uri(relative.to_string());
    }
    if !call.has(1) {
        let message = "the expression has no URI of its own that another could be relative to";
        return Err(failed("FONS0005", message).advise("give the base as the second argument"));
    }
    match resolve(&relative, &call.text(1)) {
        Some(resolved) => uri(resolved),
        None => Err(failed("FORG0002", format!("{:?} is no absolute URI", &*call.text(1)))),
    }
}
