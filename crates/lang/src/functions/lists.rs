//! Functions of lists.

use kyanite_eval::accumulator::Aggregate;
use kyanite_tree::{Value, equal};

use super::{Call, Outcome, ParameterTypes, Run, Signature, takes};
use crate::types::Type;

pub(super) const TABLE: &[Signature] = &[
    Signature {
        name: "length",
        parameters: &[takes("value", ParameterTypes::ANYTHING)],
        required: 1,
        repeats: false,
        result: Type::Any,
        summary: "The characters of a text, the items of a list, the members of a map; else nothing \
                  (RFC 9535 section 2.4.4).",
        example: ("length(\"Skarvik\")", "7"),
        run: Run::Values(|call| {
            Ok(match call.argument(0).map(Value::simple) {
                Some(Value::Text(_, text) | Value::Untyped(_, text)) => Some(text.chars().count()),
                Some(Value::List(_, items)) => Some(items.len()),
                Some(Value::Map(_, map)) => Some(map.len()),
                _ => None,
            }
            .map(|length| call.arena.integer(length as i64)))
        }),
    },
    Signature {
        name: "distinct",
        parameters: &[takes("items", ParameterTypes::ITEMS)],
        required: 1,
        repeats: false,
        result: Type::List,
        summary: "Each different value once, in the order of first appearance; empty cells and elements are none.",
        example: ("distinct([\"ness\", \"holm\", \"ness\"])", "[\"ness\",\"holm\"]"),
        run: Run::Fold(Aggregate::Distinct),
    },
    Signature {
        name: "contains",
        parameters: &[
            takes("in", ParameterTypes::TEXT.or(ParameterTypes::LIST)),
            takes("what", ParameterTypes::VALUE),
        ],
        required: 2,
        repeats: false,
        result: Type::Boolean,
        summary: "Whether a list has an equal item, or a text has that text in it.",
        example: ("contains([1, 2], 2.0)", "true"),
        run: Run::Values(contains),
    },
    Signature {
        name: "join",
        parameters: &[
            takes("items", ParameterTypes::ITEMS),
            takes("separator", ParameterTypes::TEXT),
        ],
        required: 2,
        repeats: false,
        result: Type::Text,
        summary: "The texts, numbers and booleans of a list as one text, the separator between them.",
        example: ("join([\"A\", 9], \"-\")", "\"A-9\""),
        run: Run::Values(super::texts::join),
    },
];

fn contains<'a>(call: &Call<'_, 'a>) -> Outcome<'a> {
    let found = match (call.argument(0), call.argument(1)) {
        (Some(Value::List(_, items)), Some(wanted)) => {
            items.iter().any(|item| equal(*item, wanted))
        }
        (Some(text), Some(part)) if text.as_text().is_some() && part.as_text().is_some() => {
            text.as_text().unwrap_or_default().contains(part.as_text().unwrap_or_default())
        }
        (_, Some(other)) => {
            let message = format!("a text contains texts, not {}", other.kind().phrase());
            return Err(super::CallError::new(1, message).advise("convert it with text()"));
        }
        _ => false,
    };
    Ok(Some(Value::boolean(found)))
}
