//! JSON Pointer (RFC 6901).

use kyanite_tree::Code;

use crate::finding::{Finding, Span};
use crate::syntax::ast::{Expr, ExprKind, Path, Rule, Segment, Selector, Start};

/// Parses a JSON Pointer into a rule that is just that path.
///
/// # Errors
/// Where `source` is no JSON Pointer: it neither is empty nor begins with `/`, or has a `~` that is not `~0` or
/// `~1`.
pub fn parse(source: &str) -> Result<Rule, Finding> {
    if !source.is_empty() && !source.starts_with('/') {
        return Err(Finding::error_at(
            Code::RuleSyntax,
            Span::new(0, 1),
            "a JSON Pointer begins with /",
        )
        .advise("write /a/0/b; the empty text is the whole document"));
    }
    let mut segments = Vec::new();
    let mut start = 0;
    for token in source.split('/').skip(1) {
        let span = Span::new(start, start + 1 + token.len());
        let selectors = vec![Selector::Token(unescape(token, start + 1)?)];
        segments.push(Segment { descendant: false, in_brackets: false, selectors, span });
        start = span.end;
    }
    let path = Path { start: Start::Root, start_span: Span::new(0, 0), segments };
    let span = Span::new(0, source.len());
    Ok(Rule { header: Vec::new(), body: Expr { kind: ExprKind::Path(path), span } })
}

/// `~1` is a slash, `~0` a tilde (RFC 6901 section 4).
fn unescape(token: &str, offset: usize) -> Result<String, Finding> {
    let mut pieces = token.split('~');
    let mut text = pieces.next().unwrap_or_default().to_owned();
    let mut at = offset + text.len();
    for piece in pieces {
        let (character, rest) = match piece.as_bytes().first() {
            Some(b'0') => ('~', &piece[1..]),
            Some(b'1') => ('/', &piece[1..]),
            _ => {
                return Err(Finding::error_at(
                    Code::RuleSyntax,
                    Span::new(at, at + 1),
                    "a ~ stands alone in this JSON Pointer",
                )
                .advise("write ~0 for ~ and ~1 for /"));
            }
        };
        text.push(character);
        text.push_str(rest);
        at += 1 + piece.len();
    }
    Ok(text)
}
