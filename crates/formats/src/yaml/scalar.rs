//! What a plain scalar is (YAML 1.2.2 section 10.3.2), and what other readers might take it for.

use kyanite_tree::{Arena, Number, Origin, Value};
use num_bigint::BigUint;

/// A plain scalar by the core schema.
///
/// A whole number with zeros in front stays text: to some readers it is octal, to others a code, and only the text keeps
/// it as it is.
pub(super) fn resolve<'a>(text: &'a str, origin: Origin, arena: &'a Arena) -> Value<'a> {
    match text {
        "" | "~" | "null" | "Null" | "NULL" => Value::Null(origin),
        "true" | "True" | "TRUE" => Value::Boolean(origin, true),
        "false" | "False" | "FALSE" => Value::Boolean(origin, false),
        _ => match number(text, arena) {
            Some(number) => Value::Number(origin, number),
            None => Value::Text(origin, text),
        },
    }
}

/// The number that a plain scalar is, in the spelling of JSON.
pub(super) fn number<'a>(text: &'a str, arena: &'a Arena) -> Option<Number<'a>> {
    // Nearly every scalar that is no number shows it in its first byte.
    if !matches!(text.as_bytes().first()?, b'0'..=b'9' | b'-' | b'+' | b'.') {
        return None;
    }
    if let Some(number) = Number::parse(text) {
        return Some(number);
    }
    if let Some(digits) = text.strip_prefix("0x") {
        return radix(digits, 16, arena);
    }
    if let Some(digits) = text.strip_prefix("0o") {
        return radix(digits, 8, arena);
    }
    // The forms that JSON has not: +1, .5, 1., 1.e3.
    let (sign, rest) = match text.strip_prefix('-') {
        Some(rest) => ("-", rest),
        None => ("", text.strip_prefix('+').unwrap_or(text)),
    };
    let (digits, exponent) = match rest.find(['e', 'E']) {
        Some(at) => rest.split_at(at),
        None => (rest, ""),
    };
    let (whole, fraction) = digits.split_once('.').unwrap_or((digits, ""));
    if whole.is_empty() && fraction.is_empty() {
        return None;
    }
    let whole = if whole.is_empty() { "0" } else { whole };
    let point = if fraction.is_empty() { "" } else { "." };
    Number::parse(arena.concat(&[sign, whole, point, fraction, exponent]))
}

fn radix<'a>(digits: &str, radix: u32, arena: &'a Arena) -> Option<Number<'a>> {
    let is_digit = |byte: u8| char::from(byte).is_digit(radix);
    if digits.is_empty() || !digits.bytes().all(is_digit) {
        return None;
    }
    let value = BigUint::parse_bytes(digits.as_bytes(), radix)?;
    Number::parse(arena.text(&value.to_string()))
}

/// Whether a plain scalar is a number that is not finite.
pub(super) fn is_not_finite(text: &str) -> bool {
    if !matches!(text.as_bytes().first(), Some(b'.' | b'-' | b'+')) {
        return false;
    }
    let unsigned = text.strip_prefix(['-', '+']).unwrap_or(text);
    matches!(unsigned, ".inf" | ".Inf" | ".INF") || matches!(text, ".nan" | ".NaN" | ".NAN")
}

/// How a text is written, so that every reader of YAML 1.2 or 1.1 reads that text.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Form {
    /// As it is.
    Plain,
    /// As it is, between single quotes.
    SingleQuoted,
    /// With escapes, between double quotes.
    DoubleQuoted,
    /// As a literal block, of several lines.
    Literal,
}

/// What bytes of a text mean, as bits.
mod class {
    /// `:` or `#`.
    pub(super) const INDICATOR: u8 = 1;
    /// A quote or a backslash.
    pub(super) const QUOTE: u8 = 1 << 1;
    /// A line feed.
    pub(super) const LINE: u8 = 1 << 2;
    /// A tab.
    pub(super) const TAB: u8 = 1 << 3;
    /// Part of a character beyond ASCII, or a control character.
    pub(super) const OTHER: u8 = 1 << 4;
    /// What numbers, dates and times are written with.
    pub(super) const NUMERIC: u8 = 1 << 5;
    /// In front: an indicator, a blank, or what numbers and special floats begin with.
    pub(super) const FIRST: u8 = 1 << 6;
    /// In front: what some words begin with that are no texts.
    pub(super) const WORD: u8 = 1 << 7;
}

/// The class of each byte.
const CLASSES: [u8; 256] = {
    let mut classes = [0; 256];
    let mut byte = 0_u8;
    loop {
        let numeric = match byte {
            b'_' | b':' | b'.' | b'+' | b'-' | b' ' => class::NUMERIC,
            b'x' | b'X' | b'o' | b'O' | b'T' | b't' | b'Z' | b'z' => class::NUMERIC,
            _ if byte.is_ascii_hexdigit() => class::NUMERIC,
            _ => 0,
        };
        let first = match byte {
            b'-' | b'?' | b':' | b',' | b'[' | b']' | b'{' | b'}' | b'#' | b'&' | b'*' | b'!' => {
                class::FIRST
            }
            b'|' | b'>' | b'\'' | b'"' | b'%' | b'@' | b'`' | b'+' | b'.' | b' ' => class::FIRST,
            b'0'..=b'9' => class::FIRST,
            b'~' | b'<' | b'=' => class::FIRST | class::WORD,
            _ => match byte.to_ascii_lowercase() {
                b'y' | b'n' | b'o' | b't' | b'f' => class::WORD,
                _ => 0,
            },
        };
        let other = match byte {
            b':' | b'#' => class::INDICATOR,
            b'\'' | b'"' | b'\\' => class::QUOTE,
            b'\n' => class::LINE,
            b'\t' => class::TAB,
            b' '..=b'~' => 0,
            _ => class::OTHER,
        };
        classes[byte as usize] = numeric | first | other;
        if byte == u8::MAX {
            break classes;
        }
        byte += 1;
    }
};

/// How a text is written.
pub(super) fn form(text: &str) -> Form {
    let bytes = text.as_bytes();
    let (Some(first), Some(last)) = (bytes.first(), bytes.last()) else {
        return Form::SingleQuoted;
    };
    let (mut any, mut all) = (0, u8::MAX);
    for byte in bytes {
        let class = CLASSES[usize::from(*byte)];
        any |= class;
        all &= class;
    }
    let is_printable = any & class::OTHER == 0
        || text.chars().all(|character| matches!(character, '\n' | '\t') || is_plain(character));
    if any & class::LINE != 0 && is_printable && !matches!(first, b'\n' | b' ' | b'\t') {
        return Form::Literal;
    }
    let is_line = is_printable && any & (class::LINE | class::TAB) == 0;
    let begins = CLASSES[usize::from(*first)];
    let is_plain = is_line
        && (begins & class::FIRST == 0 || begins_harmless(text, *first, all))
        && (begins & class::WORD == 0 || !is_word(bytes))
        && !matches!(last, b' ' | b':')
        && (any & class::INDICATOR == 0 || !text.contains(": ") && !text.contains(" #"));
    match is_plain {
        true => Form::Plain,
        false if is_line && any & class::QUOTE == 0 => Form::SingleQuoted,
        false => Form::DoubleQuoted,
    }
}

/// Whether a text begins with a digit, but not like a number, a date or a time; or with `-` or `.`, but not like what some reader
/// takes for something else: `-a`, `.kyr`.
fn begins_harmless(text: &str, first: u8, all: u8) -> bool {
    if first.is_ascii_digit() {
        return all & class::NUMERIC == 0;
    }
    let second = text.chars().nth(1);
    matches!(first, b'-' | b'.')
        && second.is_some_and(|second| {
            second.is_alphabetic() && !matches!(second, 'i' | 'I' | 'n' | 'N')
        })
}

/// Whether a text is a word that some reader takes for null, a boolean, or a key of its own.
fn is_word(text: &[u8]) -> bool {
    let is = |word: &str| text.eq_ignore_ascii_case(word.as_bytes());
    match text.len() {
        1 => is("y") || is("n") || is("~") || is("="),
        2 => is("no") || is("on") || is("<<"),
        3 => is("yes") || is("off"),
        4 => is("null") || is("true"),
        5 => is("false"),
        _ => false,
    }
}

/// Characters that may stand in a plain scalar on one line.
pub(super) fn is_plain(character: char) -> bool {
    !character.is_control()
        && !matches!(character, '\u{2028}' | '\u{2029}' | '\u{FEFF}' | '\u{FFFE}' | '\u{FFFF}')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn plain_scalars() {
        let arena = Arena::new();
        for (text, number) in [
            ("12", Some("12")),
            ("+12", Some("12")),
            (".5", Some("0.5")),
            ("-.5e3", Some("-0.5e3")),
            ("1.", Some("1")),
            ("0x1F", Some("31")),
            ("0o17", Some("15")),
            ("0xFFFFFFFFFFFFFFFFFF", Some("4722366482869645213695")),
            ("0700", None),
            ("1_000", None),
            ("12:30", None),
            (".", None),
            ("-", None),
            ("+", None),
            ("e3", None),
            ("0x", None),
        ] {
            assert_eq!(super::number(text, &arena).map(Number::as_str), number, "{text}");
        }
    }

    #[test]
    fn quotes_where_some_reader_would_err() {
        for text in [
            "",
            " a",
            "a ",
            "no",
            "Yes",
            "ON",
            "n",
            "~",
            "0700",
            "1_000",
            "12:30",
            "2026-05-01",
            ".5",
            "- a",
            "-1",
            "a: b",
            "a #b",
            "a:",
            "[a",
            "*a",
            "&a",
            "!a",
            "%a",
            "@a",
            "'a",
            "\"a",
            "<<",
            "=",
            "a\nb",
            "1e3",
            "0x1F",
            "null",
            "-",
            "?",
            ".inf",
            "+1",
            "\u{85}",
        ] {
            assert_ne!(form(text), Form::Plain, "{text:?}");
        }
        for text in [
            "a",
            "ness",
            "a-b",
            "a:b",
            "a#b",
            "north pier",
            "4-24C!",
            "it's",
            "ø",
            "TB-100",
            "7 knots",
        ] {
            assert_eq!(form(text), Form::Plain, "{text:?}");
        }
    }
}
