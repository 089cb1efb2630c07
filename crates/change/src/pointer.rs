//! JSON Pointer (RFC 6901).

use kyanite_tree::Step;

/// The tokens of a pointer; nothing where it is none.
pub(crate) fn tokens(pointer: &str) -> Option<Vec<String>> {
    if pointer.is_empty() {
        return Some(Vec::new());
    }
    let rest = pointer.strip_prefix('/')?;
    rest.split('/').map(unescaped).collect()
}

/// A token without its escapes (section 4); nothing where a tilde stands for nothing.
fn unescaped(token: &str) -> Option<String> {
    let escapes = token.matches('~').count();
    let known = token.matches("~0").count() + token.matches("~1").count();
    (escapes == known).then(|| token.replace("~1", "/").replace("~0", "~"))
}

/// The pointer to what steps lead to.
pub(crate) fn written(steps: &[Step<'_>]) -> String {
    let mut text = String::new();
    for step in steps {
        text.push('/');
        match step {
            Step::Name(name) => text.push_str(&name.replace('~', "~0").replace('/', "~1")),
            Step::Index(index) => text.push_str(&index.to_string()),
            // Other steps are those of XML.
            _ => {}
        }
    }
    text
}

/// The index that a token is (RFC 6901 section 4): digits without a zero in front.
pub(crate) fn index(token: &str) -> Option<usize> {
    let is_plain = token == "0" || !token.starts_with('0');
    (is_plain && token.bytes().all(|byte| byte.is_ascii_digit()))
        .then(|| token.parse().ok())
        .flatten()
}
