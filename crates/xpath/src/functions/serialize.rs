//! Values as text in a format (F&O 3.1 section 14.8.3, W3C Serialization 3.1).

mod adaptive;
mod json;
mod parameters;

use kyanite_formats::losses::Losses;
use kyanite_formats::{html, xml};
use kyanite_tree::{NodeKind, Value};

use super::{Call, Function, Outcome, failed, function, items, optional_item};
use crate::error::Error;
use crate::run::convert::string_value;
use crate::value::{Item, Sequence};
use parameters::Parameters;

pub(super) const TABLE: &[Function] =
    &[function("serialize", &[items("value"), optional_item("parameters")], 1, serialize)];

fn serialize<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let parameters = Parameters::of(call)?;
    let text = by_method(call, call.argument(0), parameters.method.as_deref(), &parameters)?;
    Ok(Sequence::text(text))
}

fn by_method<'d>(
    call: &Call<'_, '_, 'd>,
    value: &Sequence<'d>,
    method: Option<&str>,
    parameters: &Parameters,
) -> Result<String, Error> {
    match method {
        None | Some("xml" | "xhtml") => markup(call, value, parameters),
        Some("html") => html(call, value, parameters),
        Some("json") => json::json(call, value, parameters),
        Some("text") => text(value, parameters),
        Some("adaptive") => adaptive::adaptive(call, value, parameters),
        Some(other) => {
            let message = format!("there is no method {other:?}");
            Err(failed("SEPM0016", message).advise("there are xml, html, json, text and adaptive"))
        }
    }
}

/// The items that are written one after another, with what stands before each (Serialization 3.1 section 2): arrays are their members, and
/// two atomic values in a row have a blank between them if no other separator is given.
fn normalized<'p, 'd>(
    value: &Sequence<'d>,
    parameters: &'p Parameters,
) -> Vec<(Item<'d>, &'p str)> {
    fn add<'d>(value: &Sequence<'d>, items: &mut Vec<Item<'d>>) {
        for item in value.items() {
            match item.members() {
                Some(members) => members.iter().for_each(|member| add(member, items)),
                None => items.push(item.clone()),
            }
        }
    }
    let mut items = Vec::new();
    add(value, &mut items);
    let (mut is_first, mut after_atomic) = (true, false);
    let with_separator = items.into_iter().map(|item| {
        let is_atomic = item.as_atomic().is_some();
        let separator = match &parameters.separator {
            Some(separator) if !is_first => separator.as_str(),
            None if is_atomic && after_atomic => " ",
            _ => "",
        };
        (is_first, after_atomic) = (false, is_atomic);
        (item, separator)
    });
    with_separator.collect()
}

/// The text of all nodes, and atomic values.
fn text(value: &Sequence<'_>, parameters: &Parameters) -> Result<String, Error> {
    let mut out = String::new();
    for (item, separator) in normalized(value, parameters) {
        if !matches!(item, Item::Node(_)) && item.as_atomic().is_none() {
            let message = format!("{} has no text", item.phrase());
            return Err(failed("SENR0001", message));
        }
        out.push_str(separator);
        out.push_str(&string_value(&item)?);
    }
    Ok(out)
}

/// Nodes as markup; atomic values between them as text.
fn markup<'d>(
    call: &Call<'_, '_, 'd>,
    value: &Sequence<'d>,
    parameters: &Parameters,
) -> Result<String, Error> {
    let mut out = String::new();
    if parameters.has_declaration {
        let encoding = parameters.encoding.as_deref().unwrap_or("UTF-8");
        let standalone = match parameters.standalone {
            None => "",
            Some(true) => " standalone=\"yes\"",
            Some(false) => " standalone=\"no\"",
        };
        out.push_str(&format!("<?xml version=\"1.0\" encoding=\"{encoding}\"{standalone}?>"));
    }
    for (item, separator) in normalized(value, parameters) {
        out.push_str(separator);
        match &item {
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
            other if other.as_atomic().is_some() => escape(&string_value(other)?, &mut out),
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
    for (item, separator) in normalized(value, parameters) {
        out.extend_from_slice(separator.as_bytes());
        let value = crate::result::item_value(&item, call.run.store.arena)?;
        html::write(value, indent, &mut out)
            .map_err(|error| failed("SENR0001", error.message().to_owned()))?;
        out.pop();
    }
    Ok(String::from_utf8_lossy(&out).into_owned())
}
