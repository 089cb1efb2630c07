//! Documents inside texts.

use kyanite_formats::Format;
use kyanite_formats::json::{self, Origins, ReaderOptions, Style};
use kyanite_tree::Value;

use super::{Call, Fault, Outcome, Run, Signature, Takes, takes};
use crate::types::Type;

pub(super) const TABLE: &[Signature] = &[
    Signature {
        name: "decode",
        parameters: &[takes("format", Takes::TEXT), takes("text", Takes::TEXT)],
        required: 2,
        repeats: false,
        result: Type::Any,
        summary: "The document that a text holds; the format is \"json\".",
        example: ("decode(\"json\", \"{\\\"berth\\\": 4}\").berth", "4"),
        run: Run::Values(decode),
    },
    Signature {
        name: "encode",
        parameters: &[takes("format", Takes::TEXT), takes("value", Takes::VALUE)],
        required: 2,
        repeats: false,
        result: Type::Text,
        summary: "The value as the text of a document; the format is \"json\".",
        example: ("encode(\"json\", {a: [1]})", "\"{\\\"a\\\":[1]}\""),
        run: Run::Values(encode),
    },
];

fn format(call: &Call<'_, '_>) -> Result<(), Fault> {
    let name = call.text(0);
    if name.parse() == Ok(Format::Json) {
        return Ok(());
    }
    Err(Fault::new(0, format!("`{name}` is no format of texts")).advise("write \"json\""))
}

fn decode<'a>(call: &Call<'_, 'a>) -> Outcome<'a> {
    format(call)?;
    let Some((origin, text)) = call.argument(1).and_then(|v| Some((v.origin(), v.as_text()?)))
    else {
        return Ok(None);
    };
    let options = ReaderOptions { origins: Origins::Fixed(origin), ..ReaderOptions::default() };
    match json::document(text, call.arena, options) {
        Ok((value, _)) => Ok(Some(value)),
        Err(error) => {
            let at = kyanite_tree::LineColumn::of(text.as_bytes(), error.start);
            let message = format!("the text is not JSON: at its {at}, {}", error.message());
            Err(Fault::new(1, message).advise(error.advice()))
        }
    }
}

fn encode<'a>(call: &Call<'_, 'a>) -> Outcome<'a> {
    format(call)?;
    let Some(value) = call.argument(1) else { return Ok(None) };
    let mut out = Vec::new();
    json::write(value, Style::Compact, &mut out);
    // The writer puts out nothing but UTF-8.
    Ok(Some(Value::text(call.arena.text(&String::from_utf8_lossy(&out)))))
}
