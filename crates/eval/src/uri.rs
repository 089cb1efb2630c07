//! References to resources (RFC 3986).

/// The scheme of an absolute URI.
#[must_use]
pub fn scheme(uri: &str) -> Option<&str> {
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

/// A reference resolved against an absolute URI (RFC 3986 section 5.2); None where that is none.
#[must_use]
pub fn resolve(reference: &str, base: &str) -> Option<String> {
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
#[allow(clippy::unwrap_used, reason = "a test that fails may panic")]
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
