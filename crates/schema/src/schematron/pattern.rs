//! Patterns of XSLT (XSLT 1.0 section 5.2), as expressions that select all nodes which fit them.

/// The expression for a pattern. An alternative that does not begin at the root selects at any depth.
pub(super) fn selecting(pattern: &str) -> String {
    let alternatives: Vec<String> = split(pattern)
        .into_iter()
        .map(|alternative| {
            let trimmed = alternative.trim();
            let is_absolute = trimmed.starts_with('/');
            let is_call =
                ["key(", "id(", "doc(", "document("].iter().any(|call| trimmed.starts_with(call));
            match trimmed {
                "." => "//node()".to_owned(),
                _ if is_absolute || is_call || trimmed.is_empty() => trimmed.to_owned(),
                // Attributes are no children of the nodes that are walked.
                _ => format!("//{trimmed}"),
            }
        })
        .collect();
    alternatives.join(" | ")
}

/// The alternatives of a pattern: what stands between bars that are in no brackets and no text.
fn split(pattern: &str) -> Vec<&str> {
    let (mut parts, mut depth, mut quote, mut from) = (Vec::new(), 0_usize, None, 0);
    for (at, character) in pattern.char_indices() {
        match (quote, character) {
            (Some(open), close) if open == close => quote = None,
            (Some(_), _) => {}
            (None, '"' | '\'') => quote = Some(character),
            (None, '[' | '(') => depth += 1,
            (None, ']' | ')') => depth = depth.saturating_sub(1),
            (None, '|') if depth == 0 => {
                parts.push(&pattern[from..at]);
                from = at + 1;
            }
            _ => {}
        }
    }
    parts.push(&pattern[from..]);
    parts
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns() {
        for (pattern, expected) in [
            ("a", "//a"),
            ("a/b | @c", "//a/b | //@c"),
            ("/", "/"),
            ("/a|b[c | d]", "/a | //b[c | d]"),
            ("a[. = '|']", "//a[. = '|']"),
            ("key('k', 'v')", "key('k', 'v')"),
        ] {
            assert_eq!(selecting(pattern), expected);
        }
    }
}
