//! Functions on URIs (F&O 3.1 section 6).

use kyanite_eval::atomic::Atomic;
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

/// The scheme of an absolute URI.
fn scheme(uri: &str) -> Option<&str> {
    let (scheme, _) = uri.split_once(':')?;
    let mut characters = scheme.chars();
    let is_scheme = characters.next().is_some_and(|c| c.is_ascii_alphabetic())
        && characters.all(|c| c.is_ascii_alphanumeric() || matches!(c, '+' | '-' | '.'));
    is_scheme.then_some(scheme)
}

/// The parts of a reference (RFC 3986 section 3): authority, path, query and fragment.
struct Parts<'t> {
    authority: Option<&'t str>,
    path: &'t str,
    query: Option<&'t str>,
    fragment: Option<&'t str>,
}

impl<'t> Parts<'t> {
    fn of(reference: &'t str) -> Self {
        let (rest, fragment) = split_off(reference, '#');
        let (rest, query) = split_off(rest, '?');
        match rest.strip_prefix("//") {
            Some(rest) => {
                let end = rest.find('/').unwrap_or(rest.len());
                Self { authority: Some(&rest[..end]), path: &rest[end..], query, fragment }
            }
            None => Self { authority: None, path: rest, query, fragment },
        }
    }
}

fn split_off(text: &str, at: char) -> (&str, Option<&str>) {
    text.split_once(at).map_or((text, None), |(before, behind)| (before, Some(behind)))
}

/// A reference resolved against an absolute URI (RFC 3986 section 5.2).
pub(super) fn resolve(reference: &str, base: &str) -> Option<String> {
    if scheme(reference).is_some() {
        return Some(reference.to_owned());
    }
    let scheme = scheme(base)?;
    let base = Parts::of(&base[scheme.len() + 1..]);
    let given = Parts::of(reference);
    let (authority, path, query) = if given.authority.is_some() {
        (given.authority, without_dots(given.path), given.query)
    } else if given.path.is_empty() {
        (base.authority, base.path.to_owned(), given.query.or(base.query))
    } else if given.path.starts_with('/') {
        (base.authority, without_dots(given.path), given.query)
    } else {
        let folder = match base.path.rfind('/') {
            Some(at) => &base.path[..=at],
            None if base.authority.is_some() => "/",
            None => "",
        };
        (base.authority, without_dots(&format!("{folder}{}", given.path)), given.query)
    };
    let mut uri = format!("{scheme}:");
    if let Some(authority) = authority {
        uri.push_str(&format!("//{authority}"));
    }
    uri.push_str(&path);
    if let Some(query) = query {
        uri.push_str(&format!("?{query}"));
    }
    if let Some(fragment) = given.fragment {
        uri.push_str(&format!("#{fragment}"));
    }
    Some(uri)
}

/// A path without the segments `.` and `..` (RFC 3986 section 5.2.4).
fn without_dots(path: &str) -> String {
    let mut kept: Vec<&str> = Vec::new();
    let segments: Vec<&str> = path.split('/').collect();
    let last = segments.len() - 1;
    for (at, segment) in segments.into_iter().enumerate() {
        match segment {
            "." | ".." => {
                if segment == ".." && kept.len() > 1 {
                    kept.pop();
                }
                if at == last {
                    kept.push("");
                }
            }
            other => kept.push(other),
        }
    }
    kept.join("/")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn references() {
        // RFC 3986 section 5.4.
        for (reference, wanted) in [
            ("g", "http://a/b/c/g"),
            ("./g", "http://a/b/c/g"),
            ("g/", "http://a/b/c/g/"),
            ("/g", "http://a/g"),
            ("//g", "http://g"),
            ("?y", "http://a/b/c/d;p?y"),
            ("g?y#s", "http://a/b/c/g?y#s"),
            ("", "http://a/b/c/d;p?q"),
            (".", "http://a/b/c/"),
            ("..", "http://a/b/"),
            ("../g", "http://a/b/g"),
            ("../../../g", "http://a/g"),
            ("mailto:x", "mailto:x"),
        ] {
            assert_eq!(resolve(reference, "http://a/b/c/d;p?q").unwrap(), wanted, "{reference}");
        }
    }
}
