//! Values as text in a format (F&O 3.1 section 14.8.3, W3C Serialization 3.1).

use kyanite_eval::atomic::Atomic;
use kyanite_formats::losses::Losses;
use kyanite_formats::{html, json, xml};
use kyanite_tree::{NodeKind, Value};

use super::{Call, Function, Outcome, failed, function, items, optional_item};
use crate::error::Error;
use crate::result::sequence_value;
use crate::run::convert::string_value;
use crate::value::{Item, Sequence};

pub(super) const TABLE: &[Function] =
    &[function("serialize", &[items("value"), optional_item("parameters")], 1, serialize)];

/// How a value is written.
#[derive(Default)]
struct Parameters {
    method: Option<String>,
    indent: bool,
    has_declaration: bool,
    separator: Option<String>,
}

impl Parameters {
    fn of(call: &Call<'_, '_, '_>) -> Result<Self, Error> {
        let mut parameters = Self::default();
        let Some(given) = call.argument(1).first() else { return Ok(parameters) };
        let mut pairs: Vec<(String, String)> = Vec::new();
        match given {
            Item::Node(node) => {
                for child in node.children().filter(|child| child.kind() == NodeKind::Element) {
                    let value = child.attributes().find(|a| a.name().qualified() == "value");
                    let value = value.map_or("", |value| value.text()).to_owned();
                    pairs.push((child.name().local().to_owned(), value));
                }
            }
            map => {
                for (key, value) in map.entries().unwrap_or_default() {
                    let text = match value.first() {
                        Some(item) => string_value(item)?.to_string(),
                        None => continue,
                    };
                    pairs.push((key.to_string(), text));
                }
            }
        }
        for (name, value) in pairs {
            let yes = || match value.trim() {
                "yes" | "true" | "1" => Ok(true),
                "no" | "false" | "0" => Ok(false),
                other => Err(failed("SEPM0017", format!("{name} is yes or no, not {other:?}"))),
            };
            match name.as_str() {
                "method" => parameters.method = Some(value.trim().to_owned()),
                "indent" => parameters.indent = yes()?,
                "omit-xml-declaration" => parameters.has_declaration = !yes()?,
                "item-separator" => parameters.separator = Some(value),
                // These say what is done here anyway.
                "encoding" | "version" | "media-type" | "byte-order-mark" | "standalone" => {}
                other => {
                    let message = format!("the parameter {other} is not supported");
                    return Err(failed("SEPM0017", message).advise(
                        "there are method, indent, omit-xml-declaration and item-separator",
                    ));
                }
            }
        }
        Ok(parameters)
    }
}

fn serialize<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let parameters = Parameters::of(call)?;
    let value = call.argument(0);
    let text = match parameters.method.as_deref() {
        None | Some("xml" | "xhtml") => markup(call, value, &parameters)?,
        Some("html") => html(call, value, &parameters)?,
        Some("json") => {
            let value = sequence_value(value, call.run.store.arena)?;
            let style =
                if parameters.indent { json::Style::Indented(2) } else { json::Style::Compact };
            let mut out = Vec::new();
            json::write(value, style, &mut out);
            String::from_utf8_lossy(&out).into_owned()
        }
        Some("text") => {
            let texts: Result<Vec<String>, Error> = value
                .items()
                .iter()
                .map(|item| string_value(item).map(|text| text.to_string()))
                .collect();
            texts?.join(parameters.separator.as_deref().unwrap_or(""))
        }
        Some("adaptive") => {
            let shown: Result<Vec<String>, Error> =
                value.items().iter().map(|item| adaptive(call, item, &parameters)).collect();
            shown?.join(parameters.separator.as_deref().unwrap_or("\n"))
        }
        Some(other) => {
            let message = format!("there is no method {other:?}");
            return Err(
                failed("SEPM0016", message).advise("there are xml, html, json, text and adaptive")
            );
        }
    };
    Ok(Sequence::text(text))
}

/// Nodes as markup; atomic values between them as text, with a blank between two of them.
fn markup<'d>(
    call: &Call<'_, '_, 'd>,
    value: &Sequence<'d>,
    parameters: &Parameters,
) -> Result<String, Error> {
    let mut out = String::new();
    if parameters.has_declaration {
        out.push_str("<?xml version=\"1.0\" encoding=\"UTF-8\"?>");
    }
    let mut after_atomic = false;
    for (at, item) in value.items().iter().enumerate() {
        if let (Some(separator), 1..) = (&parameters.separator, at) {
            out.push_str(separator);
        }
        let is_atomic = item.as_atomic().is_some();
        if is_atomic && after_atomic && parameters.separator.is_none() {
            out.push(' ');
        }
        after_atomic = is_atomic;
        match item {
            Item::Node(node) => match node.kind() {
                NodeKind::Element | NodeKind::Document => {
                    out.push_str(&element(node.to_value(call.run.store.arena), parameters.indent)?);
                }
                NodeKind::Attribute | NodeKind::Namespace => {
                    let message = format!("{} cannot stand alone in XML", item.phrase());
                    return Err(failed("SENR0001", message));
                }
                NodeKind::Comment => out.push_str(&format!("<!--{}-->", node.text())),
                NodeKind::Instruction => {
                    out.push_str(&format!("<?{} {}?>", node.name().qualified(), node.text()));
                }
                _ => escape(node.text(), &mut out),
            },
            other if is_atomic => escape(&string_value(other)?, &mut out),
            other => {
                let message = format!("{} cannot be written as XML", other.phrase());
                return Err(
                    failed("SENR0001", message).advise("write it as JSON, with the method json")
                );
            }
        }
    }
    Ok(out)
}

fn escape(text: &str, out: &mut String) {
    for character in text.chars() {
        match character {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            other => out.push(other),
        }
    }
}

/// An element or a document as markup.
fn element(value: Value<'_>, indent: bool) -> Result<String, Error> {
    let layout = xml::Layout {
        indent: indent.then_some(2),
        relay: indent,
        declaration: false,
        ..xml::Layout::default()
    };
    let mut out = Vec::new();
    xml::write(value, &layout, &mut out, &mut Losses::new(false))
        .map_err(|error| failed("SENR0001", error.message().to_owned()))?;
    let text = String::from_utf8_lossy(&out).into_owned();
    Ok(text.strip_suffix('\n').unwrap_or(&text).to_owned())
}

fn html<'d>(
    call: &Call<'_, '_, 'd>,
    value: &Sequence<'d>,
    parameters: &Parameters,
) -> Result<String, Error> {
    let mut out = Vec::new();
    let indent = parameters.indent.then_some(2);
    for item in value.items() {
        let value = crate::result::item_value(item, call.run.store.arena)?;
        html::write(value, indent, &mut out)
            .map_err(|error| failed("SENR0001", error.message().to_owned()))?;
        out.pop();
    }
    Ok(String::from_utf8_lossy(&out).into_owned())
}

/// An item as a person would write it in an expression (Serialization 3.1 section 10).
fn adaptive<'d>(
    call: &Call<'_, '_, 'd>,
    item: &Item<'d>,
    parameters: &Parameters,
) -> Result<String, Error> {
    let each = |value: &Sequence<'d>| -> Result<String, Error> {
        let shown: Result<Vec<String>, Error> =
            value.items().iter().map(|item| adaptive(call, item, parameters)).collect();
        let shown = shown?;
        Ok(if shown.len() == 1 { shown.concat() } else { format!("({})", shown.join(",")) })
    };
    if let Some(entries) = item.entries() {
        let mut shown = Vec::with_capacity(entries.len());
        for (key, value) in &entries {
            let key = adaptive(call, &Item::Atomic(key.clone()), parameters)?;
            shown.push(format!("{key}:{}", each(value)?));
        }
        return Ok(format!("map{{{}}}", shown.join(",")));
    }
    if let Some(members) = item.members() {
        let shown: Result<Vec<String>, Error> = members.iter().map(each).collect();
        return Ok(format!("[{}]", shown?.join(",")));
    }
    Ok(match (item, item.as_atomic()) {
        (_, Some(atomic)) => match &atomic {
            Atomic::Boolean(value) => format!("{value}()"),
            Atomic::Untyped(text) | Atomic::String(text) | Atomic::AnyUri(text) => {
                format!("\"{}\"", text.replace('"', "\"\""))
            }
            Atomic::Double(_) => {
                let text = atomic.to_string();
                if text.contains('E') || text.contains('N') { text } else { format!("{text}e0") }
            }
            Atomic::QName(name) => format!("Q{{{}}}{}", name.namespace, name.local),
            Atomic::Time(_) | Atomic::Duration(_) | Atomic::Float(_) => {
                format!("{}(\"{atomic}\")", atomic.atomic_type().name())
            }
            other => other.to_string(),
        },
        (Item::Node(node), _) if node.kind() == NodeKind::Attribute => {
            format!("{}=\"{}\"", node.name().qualified(), node.text().replace('"', "&quot;"))
        }
        (Item::Node(_), _) => markup(call, &Sequence::One(item.clone()), parameters)?,
        _ => "function".to_owned(),
    })
}
