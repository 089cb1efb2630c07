//! Functions of texts. Lengths and positions count Unicode scalar values.

use kyanite_tree::{Kind, Value};

use super::{Call, CallError, Outcome, ParameterTypes, Run, Signature, takes};
use crate::types::Type;

pub(super) const TABLE: &[Signature] = &[
    Signature {
        name: "match",
        parameters: &[
            takes("value", ParameterTypes::ANYTHING),
            takes("pattern", ParameterTypes::ANYTHING),
        ],
        required: 2,
        repeats: false,
        result: Type::Boolean,
        summary: "Whether the whole text fits the I-Regexp (RFC 9535 section 2.4.6, RFC 9485).",
        example: ("match(\"A10\", \"[AB][0-9]+\")", "true"),
        run: Run::Values(|call| Ok(Some(Value::boolean(fits(call, true))))),
    },
    Signature {
        name: "search",
        parameters: &[
            takes("value", ParameterTypes::ANYTHING),
            takes("pattern", ParameterTypes::ANYTHING),
        ],
        required: 2,
        repeats: false,
        result: Type::Boolean,
        summary: "Whether some part of the text fits the I-Regexp (RFC 9535 section 2.4.7, RFC 9485).",
        example: ("search(\"berth A10\", \"[AB][0-9]\")", "true"),
        run: Run::Values(|call| Ok(Some(Value::boolean(fits(call, false))))),
    },
    Signature {
        name: "upper",
        parameters: &[takes("text", ParameterTypes::TEXT)],
        required: 1,
        repeats: false,
        result: Type::Text,
        summary: "The text in upper case.",
        example: ("upper(\"Ærø\")", "\"ÆRØ\""),
        run: Run::Values(|call| {
            Ok(Some(Value::text(call.arena.text(&call.text(0).to_uppercase()))))
        }),
    },
    Signature {
        name: "lower",
        parameters: &[takes("text", ParameterTypes::TEXT)],
        required: 1,
        repeats: false,
        result: Type::Text,
        summary: "The text in lower case.",
        example: ("lower(\"NOK\")", "\"nok\""),
        run: Run::Values(|call| {
            Ok(Some(Value::text(call.arena.text(&call.text(0).to_lowercase()))))
        }),
    },
    Signature {
        name: "trim",
        parameters: &[takes("text", ParameterTypes::TEXT)],
        required: 1,
        repeats: false,
        result: Type::Text,
        summary: "The text without blank space at its ends.",
        example: ("trim(\" ness\\n\")", "\"ness\""),
        run: Run::Values(|call| Ok(Some(Value::text(call.text(0).trim())))),
    },
    Signature {
        name: "split",
        parameters: &[
            takes("text", ParameterTypes::TEXT),
            takes("separator", ParameterTypes::TEXT),
        ],
        required: 2,
        repeats: false,
        result: Type::List,
        summary: "The parts of the text between the separators; one part when there is none.",
        example: ("split(\"ness;holm;\", \";\")", "[\"ness\",\"holm\",\"\"]"),
        run: Run::Values(|call| {
            if call.text(1).is_empty() {
                return Err(CallError::new(1, "the separator is empty"));
            }
            let parts: Vec<_> = call.text(0).split(call.text(1)).map(Value::text).collect();
            Ok(Some(call.arena.list(&parts)))
        }),
    },
    Signature {
        name: "replace",
        parameters: &[
            takes("text", ParameterTypes::TEXT),
            takes("old", ParameterTypes::TEXT),
            takes("new", ParameterTypes::TEXT),
        ],
        required: 3,
        repeats: false,
        result: Type::Text,
        summary: "The text with each old part replaced, as texts, not as patterns.",
        example: ("replace(\"A 9 B\", \" \", \"\")", "\"A9B\""),
        run: Run::Values(|call| {
            if call.text(1).is_empty() {
                return Err(CallError::new(1, "the text to replace is empty"));
            }
            Ok(Some(Value::text(
                call.arena.text(&call.text(0).replace(call.text(1), call.text(2))),
            )))
        }),
    },
    Signature {
        name: "starts_with",
        parameters: &[takes("text", ParameterTypes::TEXT), takes("start", ParameterTypes::TEXT)],
        required: 2,
        repeats: false,
        result: Type::Boolean,
        summary: "Whether the text begins with that text.",
        example: ("starts_with(\"TB-100001\", \"TB-\")", "true"),
        run: Run::Values(|call| Ok(Some(Value::boolean(call.text(0).starts_with(call.text(1)))))),
    },
    Signature {
        name: "ends_with",
        parameters: &[takes("text", ParameterTypes::TEXT), takes("end", ParameterTypes::TEXT)],
        required: 2,
        repeats: false,
        result: Type::Boolean,
        summary: "Whether the text ends with that text.",
        example: ("ends_with(\"4-24C\", \"C\")", "true"),
        run: Run::Values(|call| Ok(Some(Value::boolean(call.text(0).ends_with(call.text(1)))))),
    },
    Signature {
        name: "text",
        parameters: &[takes(
            "value",
            ParameterTypes::TEXT
                .or(ParameterTypes::NUMBER)
                .or(ParameterTypes::BOOLEAN)
                .or(ParameterTypes::ELEMENT),
        )],
        required: 1,
        repeats: false,
        result: Type::Text,
        summary: "The value as text: a number with the digits it has, true or false, all text in an element.",
        example: ("text(1.50)", "\"1.50\""),
        run: Run::Values(|call| {
            Ok(match call.argument(0) {
                Some(Value::Element(origin, element)) => {
                    let mut text = String::new();
                    element.string_value(&mut text);
                    Some(Value::Text(origin, call.arena.text(&text)))
                }
                value => value.and_then(Value::scalar_text).map(Value::text),
            })
        }),
    },
];

/// Nothing and values that are no texts fit no pattern, nor does anything fit what is no I-Regexp.
fn fits(call: &Call<'_, '_>, whole: bool) -> bool {
    let text = |position| call.argument(position).and_then(|value| value.simple().as_text());
    text(0).zip(text(1)).is_some_and(|(text, pattern)| call.patterns.fits(pattern, text, whole))
}

/// `join(items, separator)`.
pub(super) fn join<'a>(call: &Call<'_, 'a>) -> Outcome<'a> {
    let mut pieces = Vec::new();
    for item in call.items(0) {
        if !pieces.is_empty() {
            pieces.push(call.text(1));
        }
        pieces.push(item.scalar_text().ok_or_else(|| {
            let advice = match item.kind() {
                Kind::Null => "leave it out, or put a text in its place",
                _ => "join its parts first, or encode it",
            };
            CallError::new(0, format!("an item is {}, which has no text", item.kind().phrase()))
                .about(*item)
                .advise(advice)
        })?);
    }
    Ok(Some(Value::text(call.arena.concat(&pieces))))
}
