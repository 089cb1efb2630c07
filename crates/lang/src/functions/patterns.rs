//! Functions of texts by position and by pattern (I-Regexp, RFC 9485), and what rules say of values.

use kyanite_tree::{Decimal, Value};
use sha2::{Digest, Sha256};

use super::sequences::whole;
use super::{Call, CallError, Outcome, ParameterTypes, Run, Signature, number_fault, takes};
use crate::types::Type;

const TEXT_AND_PATTERN: &[super::Parameter] =
    &[takes("text", ParameterTypes::TEXT), takes("pattern", ParameterTypes::TEXT)];
const PADDED: &[super::Parameter] = &[
    takes("text", ParameterTypes::TEXT),
    takes("length", ParameterTypes::NUMBER),
    takes("with", ParameterTypes::TEXT),
];

pub(super) const TABLE: &[Signature] = &[
    Signature {
        name: "substring",
        parameters: &[
            takes("text", ParameterTypes::TEXT),
            takes("start", ParameterTypes::NUMBER),
            takes("length", ParameterTypes::NUMBER),
        ],
        required: 2,
        repeats: false,
        result: Type::Text,
        summary: "The characters from a position on (from 0): all, or as many as given.",
        example: ("substring(\"Skarvik\", 1, 3)", "\"kar\""),
        run: Run::Values(|call| {
            let start = whole(call, 1, 0)? as usize;
            let length = match call.argument(2) {
                Some(_) => whole(call, 2, 0)? as usize,
                None => usize::MAX,
            };
            let part: String = call.text(0).chars().skip(start).take(length).collect();
            Ok(Some(Value::text(call.arena.text(&part))))
        }),
    },
    Signature {
        name: "pad_start",
        parameters: PADDED,
        required: 2,
        repeats: false,
        result: Type::Text,
        summary: "The text with blanks, or another character, before it up to a length.",
        example: ("pad_start(\"7\", 3, \"0\")", "\"007\""),
        run: Run::Values(|call| padded(call, true)),
    },
    Signature {
        name: "pad_end",
        parameters: PADDED,
        required: 2,
        repeats: false,
        result: Type::Text,
        summary: "The text with blanks, or another character, behind it up to a length.",
        example: ("pad_end(\"ab\", 4, \".\")", "\"ab..\""),
        run: Run::Values(|call| padded(call, false)),
    },
    Signature {
        name: "normalize_space",
        parameters: &[takes("text", ParameterTypes::TEXT)],
        required: 1,
        repeats: false,
        result: Type::Text,
        summary: "The text without blank space at its ends, and one blank for each run of it inside.",
        example: ("normalize_space(\" a \\n b \")", "\"a b\""),
        run: Run::Values(|call| {
            let words: Vec<&str> = call.text(0).split_whitespace().collect();
            Ok(Some(Value::text(call.arena.text(&words.join(" ")))))
        }),
    },
    Signature {
        name: "lines",
        parameters: &[takes("text", ParameterTypes::TEXT)],
        required: 1,
        repeats: false,
        result: Type::List,
        summary: "The lines of the text, without their ends.",
        example: ("lines(\"a\\nb\\n\")", "[\"a\",\"b\"]"),
        run: Run::Values(|call| {
            let lines: Vec<_> = call.text(0).lines().map(Value::text).collect();
            Ok(Some(call.arena.list(&lines)))
        }),
    },
    Signature {
        name: "natural",
        parameters: &[takes("text", ParameterTypes::TEXT)],
        required: 1,
        repeats: false,
        result: Type::Text,
        summary: "A text that orders by the numbers in it, so that A9 comes before A10: for `order by`.",
        example: ("for c in [\"A10\", \"A9\"] order by natural(c) return c", "[\"A9\",\"A10\"]"),
        run: Run::Values(|call| Ok(Some(Value::text(call.arena.text(&natural(call.text(0))))))),
    },
    Signature {
        name: "extract",
        parameters: TEXT_AND_PATTERN,
        required: 2,
        repeats: false,
        result: Type::Any,
        summary: "The first part of the text that fits the I-Regexp; nothing when none does.",
        example: ("extract(\"berth A10\", \"[A-Z][0-9]+\")", "\"A10\""),
        run: Run::Values(|call| {
            let found = found(call)?;
            Ok(found.first().map(|range| Value::text(&call.text(0)[range.clone()])))
        }),
    },
    Signature {
        name: "extract_all",
        parameters: TEXT_AND_PATTERN,
        required: 2,
        repeats: false,
        result: Type::List,
        summary: "All parts of the text that fit the I-Regexp, from left to right.",
        example: ("extract_all(\"A9, B10\", \"[A-Z][0-9]+\")", "[\"A9\",\"B10\"]"),
        run: Run::Values(|call| {
            let parts: Vec<_> =
                found(call)?.into_iter().map(|range| Value::text(&call.text(0)[range])).collect();
            Ok(Some(call.arena.list(&parts)))
        }),
    },
    Signature {
        name: "replace_pattern",
        parameters: &[
            takes("text", ParameterTypes::TEXT),
            takes("pattern", ParameterTypes::TEXT),
            takes("new", ParameterTypes::TEXT),
        ],
        required: 3,
        repeats: false,
        result: Type::Text,
        summary: "The text with each part that fits the I-Regexp replaced.",
        example: ("replace_pattern(\"A9 B10\", \"[0-9]+\", \"#\")", "\"A# B#\""),
        run: Run::Values(|call| {
            let text = call.text(0);
            let (mut out, mut from) = (String::new(), 0);
            for range in found(call)? {
                out.push_str(&text[from..range.start]);
                out.push_str(call.text(2));
                from = range.end;
            }
            out.push_str(&text[from..]);
            Ok(Some(Value::text(call.arena.text(&out))))
        }),
    },
    Signature {
        name: "format_number",
        parameters: &[
            takes("number", ParameterTypes::NUMBER),
            takes("digits", ParameterTypes::NUMBER),
            takes("separator", ParameterTypes::TEXT),
        ],
        required: 2,
        repeats: false,
        result: Type::Text,
        summary: "The number rounded to a number of digits after the point, all of them written; the separator stands between \
                  groups of three.",
        example: ("format_number(1234567.5, 2, \" \")", "\"1 234 567.50\""),
        run: Run::Values(format_number),
    },
    Signature {
        name: "power",
        parameters: &[
            takes("number", ParameterTypes::NUMBER),
            takes("exponent", ParameterTypes::NUMBER),
        ],
        required: 2,
        repeats: false,
        result: Type::Number,
        summary: "The number multiplied with itself; the exponent is a whole number from -1000 to 1000.",
        example: ("power(1.1, 3)", "1.331"),
        run: Run::Values(power),
    },
    Signature {
        name: "sha256",
        parameters: &[takes("text", ParameterTypes::TEXT)],
        required: 1,
        repeats: false,
        result: Type::Text,
        summary: "The SHA-256 of the text's UTF-8, in hexadecimal digits.",
        example: (
            "sha256(\"ness\")",
            "\"162588cda49aad71425930d7b633f7c7d61885a1b2e59536560f59b70a9b1d3a\"",
        ),
        run: Run::Values(|call| {
            let digest = Sha256::digest(call.text(0).as_bytes());
            let text: String = digest.iter().map(|byte| format!("{byte:02x}")).collect();
            Ok(Some(Value::text(call.arena.text(&text))))
        }),
    },
];

fn padded<'a>(call: &Call<'_, 'a>, at_start: bool) -> Outcome<'a> {
    let length = whole(call, 1, 0)?;
    if length > 1_000_000 {
        return Err(CallError::new(1, "a text is padded to a million characters at most"));
    }
    let mut with = call.argument(2).and_then(Value::as_text).unwrap_or(" ").chars();
    let (Some(with), None) = (with.next(), with.next()) else {
        return Err(CallError::new(2, "a text is padded with one character"));
    };
    let text = call.text(0);
    let missing = (length as usize).saturating_sub(text.chars().count());
    let padding = String::from(with).repeat(missing);
    let padded = if at_start { [&padding, text] } else { [text, &padding] };
    Ok(Some(Value::text(call.arena.concat(&padded))))
}

/// Where the parts of the text are that fit the pattern.
fn found(call: &Call<'_, '_>) -> Result<Vec<std::ops::Range<usize>>, CallError> {
    call.patterns.find_all(call.text(1), call.text(0)).map_err(|why| {
        CallError::new(1, format!("this is no I-Regexp: {why}"))
            .advise("RFC 9485 has [0-9] for digits, \\p{L} for letters, and no anchors")
    })
}

/// Each run of digits with its length in front, so that longer numbers come later.
fn natural(text: &str) -> String {
    let mut out = String::new();
    let mut rest = text;
    while !rest.is_empty() {
        let plain = rest.find(|c: char| c.is_ascii_digit()).unwrap_or(rest.len());
        out.push_str(&rest[..plain]);
        rest = &rest[plain..];
        let digits = rest.find(|c: char| !c.is_ascii_digit()).unwrap_or(rest.len());
        if digits > 0 {
            let number = rest[..digits].trim_start_matches('0');
            out.push_str(&format!("{:04}{number}", number.len()));
            rest = &rest[digits..];
        }
    }
    out
}

fn format_number<'a>(call: &Call<'_, 'a>) -> Outcome<'a> {
    let digits = whole(call, 1, 0)?;
    if digits > 1000 {
        return Err(CallError::new(1, "that is more than 1000 digits"));
    }
    let rounded = call.number(0)?.round(digits).map_err(|error| number_fault(0, error))?;
    let spelled = rounded.to_string();
    if spelled.contains(['e', 'E']) {
        return Err(CallError::new(0, "the number is too large to be written out"));
    }
    let (sign, spelled) = match spelled.strip_prefix('-') {
        Some(rest) => ("-", rest),
        None => ("", spelled.as_str()),
    };
    let (whole, fraction) = spelled.split_once('.').unwrap_or((spelled, ""));
    let separator = call.argument(2).and_then(Value::as_text).unwrap_or("");
    let mut out = String::from(sign);
    for (position, digit) in whole.chars().enumerate() {
        if position > 0 && (whole.len() - position) % 3 == 0 {
            out.push_str(separator);
        }
        out.push(digit);
    }
    if digits > 0 {
        out.push('.');
        out.push_str(fraction);
        out.push_str(&"0".repeat((digits as usize).saturating_sub(fraction.len())));
    }
    Ok(Some(Value::text(call.arena.text(&out))))
}

fn power<'a>(call: &Call<'_, 'a>) -> Outcome<'a> {
    let exponent = call.argument(1).and_then(Value::as_number).and_then(|n| n.as_integer());
    let Some(exponent) = exponent.filter(|exponent| exponent.unsigned_abs() <= 1000) else {
        return Err(CallError::new(1, "the exponent is a whole number from -1000 to 1000"));
    };
    let base = call.number(0)?;
    let failed = |error| number_fault(0, error);
    let mut product = Decimal::from(1);
    for _ in 0..exponent.unsigned_abs() {
        product = product.mul(&base).map_err(failed)?;
    }
    if exponent < 0 {
        product = Decimal::from(1).div(&product).map_err(failed)?;
    }
    Ok(Some(call.arena.number(&product)))
}
