//! The tokens of JSON Pointers (RFC 6901 section 3).

/// Appends a token for a name.
pub(crate) fn push(pointer: &mut String, name: &str) {
    pointer.push('/');
    match name.contains(['~', '/']) {
        true => pointer.push_str(&name.replace('~', "~0").replace('/', "~1")),
        false => pointer.push_str(name),
    }
}

/// The names that the tokens of a pointer stand for.
pub(crate) fn names(pointer: &str) -> impl Iterator<Item = String> {
    pointer.split('/').skip(1).map(|token| token.replace("~1", "/").replace("~0", "~"))
}
