//! Documents inside texts.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use kyanite_formats::documents::{self, Limits};
use kyanite_formats::json::{self, Origins, ReaderOptions, Style};
use kyanite_formats::losses::Losses;
use kyanite_formats::{Format, csv, html, records, text, toml, xml, yaml};
use kyanite_tree::{Base, Kind, LineColumn, Value};
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, percent_decode_str, utf8_percent_encode};

use super::{Call, CallError, Outcome, ParameterTypes, Run, Signature, takes};
use crate::types::Type;

pub(super) const TABLE: &[Signature] = &[
    Signature {
        name: "decode",
        parameters: &[takes("format", ParameterTypes::TEXT), takes("text", ParameterTypes::TEXT)],
        required: 2,
        repeats: false,
        result: Type::Any,
        summary: "The document that a text holds; the format is any of the input formats, or \"base64\", \"hex\" or \
                  \"url\" for a text that was encoded so.",
        example: ("decode(\"json\", \"{\\\"berth\\\": 4}\").berth", "4"),
        run: Run::Values(decode),
    },
    Signature {
        name: "encode",
        parameters: &[takes("format", ParameterTypes::TEXT), takes("value", ParameterTypes::VALUE)],
        required: 2,
        repeats: false,
        result: Type::Text,
        summary: "The value as the text of a document, in any of the output formats; or a text in \"base64\" or \"hex\" \
                  of its UTF-8, or as \"url\" demands.",
        example: ("encode(\"json\", {a: [1]})", "\"{\\\"a\\\":[1]}\""),
        run: Run::Values(encode),
    },
];

/// What a text can be encoded as.
enum Encoding {
    /// A document.
    Document(Format),
    /// RFC 4648 section 4.
    Base64,
    /// RFC 4648 section 8.
    Hex,
    /// Percent-encoded (RFC 3986 section 2.1).
    Url,
}

/// All but the unreserved characters of RFC 3986 section 2.3.
const RESERVED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

fn encoding(call: &Call<'_, '_>) -> Result<Encoding, CallError> {
    let name = call.text(0);
    Ok(match name {
        "base64" => Encoding::Base64,
        "hex" => Encoding::Hex,
        "url" => Encoding::Url,
        _ => Encoding::Document(name.parse().map_err(|_| {
            let all = format!("write one of {}, base64, hex, url", Format::names());
            CallError::new(0, format!("`{name}` is no format of texts")).advise(all)
        })?),
    })
}

fn decode<'a>(call: &Call<'_, 'a>) -> Outcome<'a> {
    let encoding = encoding(call)?;
    let Some((origin, text)) = call.argument(1).and_then(|v| Some((v.origin(), v.as_text()?)))
    else {
        return Ok(None);
    };
    let bytes = match encoding {
        Encoding::Document(Format::Json) => {
            let options =
                ReaderOptions { origins: Origins::Fixed(origin), ..ReaderOptions::default() };
            let read = json::document(text, call.arena, options);
            let (value, duplicates) = read.map_err(|error| {
                not_read(Format::Json, text, &kyanite_formats::SyntaxError::from(error))
            })?;
            call.remarks.twice(call.span, &duplicates);
            return Ok(Some(value));
        }
        Encoding::Document(format) => return decode_document(call, format, text),
        Encoding::Base64 => BASE64.decode(text.trim()).map_err(|error| error.to_string()),
        Encoding::Hex => from_hex(text.trim()),
        Encoding::Url => Ok(percent_decode_str(text).collect()),
    };
    let bytes = bytes
        .map_err(|why| CallError::new(1, format!("the text is not {}: {why}", call.text(0))))?;
    match String::from_utf8(bytes) {
        Ok(text) => Ok(Some(Value::Text(origin, call.arena.text(&text)))),
        Err(_) => Err(CallError::new(1, "what the text holds is not UTF-8, so it is no text")),
    }
}

fn decode_document<'a>(call: &Call<'_, 'a>, format: Format, text: &'a str) -> Outcome<'a> {
    let limits = Limits::default();
    if format.has_records() {
        let read = records::all(format, text, call.arena, limits.depth, Base::NONE);
        let (list, duplicates) = read.map_err(|error| not_read(format, text, &error))?;
        call.remarks.twice(call.span, &duplicates);
        return Ok(Some(list));
    }
    let options = documents::Options { limits, base: Base::NONE, ..documents::Options::default() };
    let read = documents::read(format, text, call.arena, options)
        .map_err(|error| not_read(format, text, &error))?;
    call.remarks.twice(call.span, &read.duplicates);
    match read.roots.as_slice() {
        // As encode() makes it of a list.
        roots if format == Format::JsonSequence => Ok(Some(call.arena.list(roots))),
        [root] => Ok(Some(*root)),
        roots => {
            Err(CallError::new(1, format!("the text holds {} documents, not one", roots.len()))
                .advise("split it first"))
        }
    }
}

fn not_read(format: Format, text: &str, error: &kyanite_formats::SyntaxError) -> CallError {
    let at = LineColumn::of(text.as_bytes(), error.span().start);
    let name = format.name();
    let message = format!("the text is not {name}: at its {at}, {}", error.message());
    let fault = CallError::new(1, message);
    match error.advice() {
        // What can be set for a run does not help with a text in it.
        Some(advice) if advice.settings().next().is_none() => {
            fault.advise(advice.clone().elsewhere())
        }
        _ => fault,
    }
}

fn from_hex(text: &str) -> Result<Vec<u8>, String> {
    let digit = |byte: u8| char::from(byte).to_digit(16).map(|digit| digit as u8);
    let pairs = text.as_bytes().chunks(2).map(|pair| match pair {
        [high, low] => Some(digit(*high)? << 4 | digit(*low)?),
        _ => None,
    });
    pairs.collect::<Option<_>>().ok_or_else(|| "it is not pairs of 0-9 and a-f".into())
}

fn encode<'a>(call: &Call<'_, 'a>) -> Outcome<'a> {
    let encoding = encoding(call)?;
    let Some(value) = call.argument(1) else { return Ok(None) };
    let plain = || {
        value.scalar_text().ok_or_else(|| {
            let message = format!("{} has no text to encode", value.kind().phrase());
            CallError::new(1, message).about(value).advise("encode it as json first")
        })
    };
    let text = match encoding {
        Encoding::Document(format) => {
            let (mut out, mut losses) = (Vec::new(), Losses::default());
            encode_document(value, format, &mut out, &mut losses)?;
            call.remarks.lost(call.span, format, &losses);
            // The writers put out nothing but UTF-8.
            String::from_utf8_lossy(&out).into_owned()
        }
        Encoding::Base64 => BASE64.encode(plain()?),
        Encoding::Hex => plain()?.bytes().map(|byte| format!("{byte:02x}")).collect(),
        Encoding::Url => utf8_percent_encode(plain()?, RESERVED).to_string(),
    };
    Ok(Some(Value::text(call.arena.text(&text))))
}

/// Appends the text of a document, without the line end of its last line where the format does without.
fn encode_document(
    value: Value<'_>,
    format: Format,
    out: &mut Vec<u8>,
    losses: &mut Losses,
) -> Result<(), CallError> {
    losses.add_types(value, format);
    let cannot = |error: kyanite_formats::CannotHold| {
        let fault = CallError::new(1, error.message()).about(value);
        match error.advice() {
            Some(advice) => fault.advise(advice.clone().elsewhere()),
            None => fault,
        }
    };
    let items = value.as_list().unwrap_or(std::slice::from_ref(&value));
    match format {
        Format::Json => json::write(value, Style::Compact, out),
        Format::Yaml => yaml::write(value, 2, out),
        Format::Toml => toml::write(value, out, losses).map_err(cannot)?,
        Format::Xml => {
            let layout = xml::Layout { indent: None, declaration: false, ..xml::Layout::default() };
            xml::write(value, &layout, out, losses).map_err(cannot)?;
            out.pop();
        }
        Format::Html => {
            html::write(value, None, out).map_err(cannot)?;
            out.pop();
        }
        Format::Csv | Format::Tsv => {
            let mut writer = csv::Writer::new(csv::Settings::of(format, None), None, false);
            for item in items {
                writer.row(*item, out, losses).map_err(cannot)?;
            }
            writer.finish(out);
        }
        Format::Text if value.kind() != Kind::List => {
            text::write_line(value, out);
            out.pop();
        }
        Format::Text => items.iter().for_each(|item| text::write_line(*item, out)),
        Format::JsonLines | Format::JsonSequence => {
            for item in items {
                if format == Format::JsonSequence {
                    out.push(documents::RECORD_SEPARATOR);
                }
                json::write(*item, Style::Compact, out);
                out.push(b'\n');
            }
        }
    }
    Ok(())
}
