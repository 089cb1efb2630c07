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

/// Whether a text, written plain, might be read as something else than that text, by readers of YAML 1.2 or 1.1.
pub(super) fn needs_quotes(text: &str) -> bool {
    const LONGEST: usize = "false".len();
    const WORDS: [&str; 13] =
        ["", "~", "null", "true", "false", "yes", "no", "on", "off", "y", "n", "<<", "="];
    let bytes = text.as_bytes();
    let (Some(first), Some(last)) = (bytes.first(), bytes.last()) else { return true };
    // Indicators, blanks at the ends, and whatever begins like a number, a date or a special float.
    if b"-?:,[]{}#&*!|>'\"%@`+.~<=".contains(first) && !is_harmless(text) {
        return true;
    }
    if first.is_ascii_digit() && looks_numeric(text) {
        return true;
    }
    if matches!(first, b' ' | b'\t') || matches!(last, b' ' | b'\t' | b':') {
        return true;
    }
    if text.len() <= LONGEST && WORDS.iter().any(|word| word.eq_ignore_ascii_case(text)) {
        return true;
    }
    if bytes.iter().all(|byte| is_harmless_byte(*byte)) {
        return false;
    }
    text.contains(": ") || text.contains(" #") || !text.chars().all(is_plain)
}

/// Whether a byte is a character of ASCII that means nothing wherever it stands in a plain scalar.
fn is_harmless_byte(byte: u8) -> bool {
    matches!(byte, b' '..=b'~') && byte != b':' && byte != b'#'
}

/// Texts such as `-a` and `.kyr`: an indicator in front, but nothing that any reader takes for something else.
fn is_harmless(text: &str) -> bool {
    let mut characters = text.chars();
    matches!(characters.next(), Some('-' | '.'))
        && characters.next().is_some_and(|second| {
            second.is_alphabetic() && !matches!(second, 'i' | 'I' | 'n' | 'N')
        })
}

/// Whether a text that begins with a digit consists of what numbers, dates and times are written with.
fn looks_numeric(text: &str) -> bool {
    let is_part = |byte: u8| {
        byte.is_ascii_hexdigit()
            || matches!(byte, b'_' | b':' | b'.' | b'+' | b'-' | b' ')
            || matches!(byte, b'x' | b'X' | b'o' | b'O' | b'T' | b't' | b'Z' | b'z')
    };
    text.bytes().all(is_part)
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
            assert!(needs_quotes(text), "{text:?}");
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
            assert!(!needs_quotes(text), "{text:?}");
        }
    }
}
