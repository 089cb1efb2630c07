//! Words that messages have in common.

use std::fmt::Display;

/// So many of something: `1 record`, `2 records`.
#[must_use]
pub fn counted<N: Display + PartialEq + From<u8>>(count: N, what: &str) -> String {
    let plural = if count == N::from(1) { "" } else { "s" };
    format!("{count} {what}{plural}")
}
