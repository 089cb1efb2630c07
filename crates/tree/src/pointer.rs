//! The tokens of JSON Pointers (RFC 6901).
//!
//! ```
//! use kyanite_tree::pointer;
//!
//! let mut text = String::new();
//! pointer::push(&mut text, "a/b");
//! assert_eq!(text, "/a~1b");
//! assert_eq!(pointer::tokens(&text), Some(vec!["a/b".to_owned()]));
//! ```

/// Appends a token for a name.
pub fn push(pointer: &mut String, name: &str) {
    pointer.push('/');
    match name.contains(['~', '/']) {
        true => pointer.push_str(&name.replace('~', "~0").replace('/', "~1")),
        false => pointer.push_str(name),
    }
}

/// The names that the tokens of a pointer stand for, as far as its escapes stand for anything (section 4).
pub fn names(pointer: &str) -> impl Iterator<Item = String> {
    pointer.split('/').skip(1).map(|token| token.replace("~1", "/").replace("~0", "~"))
}

/// The same; None where the text is no pointer: it is empty or begins with a slash, and each tilde is that of an escape.
#[must_use]
pub fn tokens(pointer: &str) -> Option<Vec<String>> {
    let escapes = pointer.matches('~').count();
    let known = pointer.matches("~0").count() + pointer.matches("~1").count();
    let is_pointer = pointer.is_empty() || pointer.starts_with('/');
    (is_pointer && escapes == known).then(|| names(pointer).collect())
}

/// The index of an item that a token is (section 4): digits without a zero in front.
#[must_use]
pub fn index(token: &str) -> Option<usize> {
    let is_plain = token == "0" || !token.starts_with('0');
    let digits = token.bytes().all(|byte| byte.is_ascii_digit());
    (is_plain && digits).then(|| token.parse().ok()).flatten()
}
