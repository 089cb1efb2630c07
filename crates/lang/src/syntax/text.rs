//! Quoted texts, with the escapes of RFC 9535 section 2.3.1.1.

use kyanite_tree::Code;

use crate::finding::{Finding, Span};

/// How a piece of quoted text ended.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum TextEnd {
    /// At its closing quote.
    Quote,
    /// At the `{` of an f-text.
    Brace,
}

/// Decodes quoted text from byte `at`, which is behind the opening quote or behind a `}` of an f-text.
/// Gives the text, how it ended, and the offset behind that end.
pub(crate) fn decode(
    source: &str,
    opened: usize,
    mut at: usize,
    quote: char,
    braces: bool,
) -> Result<(String, TextEnd, usize), Finding> {
    let mut text = String::new();
    loop {
        let mut rest = source[at..].chars();
        let Some(character) = rest.next() else { return Err(unclosed(opened, quote)) };
        let next = rest.next();
        match character {
            _ if character == quote => return Ok((text, TextEnd::Quote, at + 1)),
            '{' | '}' if braces && next == Some(character) => {
                text.push(character);
                at += 2;
            }
            '{' if braces => return Ok((text, TextEnd::Brace, at + 1)),
            '}' if braces => {
                return Err(Finding::error_at(
                    Code::RuleSyntax,
                    Span::new(at, at + 1),
                    "a `}` stands alone in this f-text",
                )
                .advise("write }} for a brace"));
            }
            '\\' => at = escape(source, at, quote, &mut text)?,
            '\n' | '\r' => return Err(unclosed(opened, quote)),
            control if control < ' ' => {
                return Err(Finding::error_at(
                    Code::RuleSyntax,
                    Span::new(at, at + 1),
                    format!("the control character U+{:04X} stands in a text", control as u32),
                )
                .advise(format!("write it as an escape: \\u{:04x}", control as u32)));
            }
            other => {
                text.push(other);
                at += other.len_utf8();
            }
        }
    }
}

fn unclosed(opened: usize, quote: char) -> Finding {
    Finding::error_at(
        Code::RuleSyntax,
        Span::new(opened, opened + 1),
        "this text is not closed on its line",
    )
    .advise(format!("close it with {quote}, and write a line end inside as \\n"))
}

fn escape(source: &str, at: usize, quote: char, text: &mut String) -> Result<usize, Finding> {
    let letter = source[at + 1..].chars().next();
    let plain = match letter {
        Some('b') => '\u{8}',
        Some('t') => '\t',
        Some('n') => '\n',
        Some('f') => '\u{c}',
        Some('r') => '\r',
        Some(same @ ('/' | '\\')) => same,
        Some(same) if same == quote => same,
        Some('u') => {
            let (character, end) = unicode(source, at)?;
            text.push(character);
            return Ok(end);
        }
        _ => {
            let end = at + 1 + letter.map_or(0, char::len_utf8);
            return Err(Finding::error_at(
                Code::RuleSyntax,
                Span::new(at, end),
                "this backslash begins no escape",
            )
            .advise(format!("the escapes are \\{quote} \\\\ \\/ \\b \\f \\n \\r \\t \\uXXXX")));
        }
    };
    text.push(plain);
    Ok(at + 2)
}

fn unicode(source: &str, at: usize) -> Result<(char, usize), Finding> {
    let digits = |from: usize| {
        let digits = source.get(from..from + 4)?;
        digits
            .bytes()
            .all(|b| b.is_ascii_hexdigit())
            .then(|| u32::from_str_radix(digits, 16).ok())?
    };
    let bad = |message: &str| {
        let end =
            source[at..].char_indices().nth(6).map_or(source.len(), |(length, _)| at + length);
        Finding::error_at(Code::RuleSyntax, Span::new(at, end), message)
            .advise("write \\uXXXX with four hex digits, or both halves of a surrogate pair")
    };
    let first = digits(at + 2).ok_or_else(|| bad("four hex digits are missing after \\u"))?;
    if let Some(character) = char::from_u32(first) {
        return Ok((character, at + 6));
    }
    let lone = || bad("this escape is only half of a surrogate pair");
    if first >= 0xDC00 || source.get(at + 6..at + 8) != Some("\\u") {
        return Err(lone());
    }
    let second =
        digits(at + 8).filter(|second| (0xDC00..0xE000).contains(second)).ok_or_else(lone)?;
    let scalar = 0x10000 + ((first - 0xD800) << 10) + (second - 0xDC00);
    Ok((char::from_u32(scalar).ok_or_else(lone)?, at + 12))
}
