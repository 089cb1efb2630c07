//! JSON as XML, and back (F&O 3.1 sections 17.5.3 and 17.5.4).

use kyanite_eval::atomic::{Atomic, AtomicType};
use kyanite_formats::json as format;
use kyanite_tree::{Name, Node, NodeKind, NodesBuilder, Number, Origin, Value};

use super::json::{Duplicates, Read, Texts, read};
use super::{Call, Function, Outcome, failed, function, node, one_map, optional_text};
use crate::FN;
use crate::error::Error;
use crate::value::{Item, Sequence};

pub(super) const TABLE: &[Function] = &[
    function("json-to-xml", &[optional_text("text"), one_map("options")], 1, |call| {
        let Some(text) = call.optional_text(0) else { return Ok(Sequence::Empty) };
        let duplicates = Duplicates::of(call, 1, Duplicates::Retain)?;
        let read = read(call, &text, duplicates)?;
        let mut builder = NodesBuilder::new();
        element(&mut builder, &read, None, read.value, &Texts::of(call, 1)?)?;
        Ok(Sequence::One(Item::Node(call.run.store.keep(builder.finish()))))
    }),
    function("xml-to-json", &[node("node"), one_map("options")], 1, to_json),
];

/// Adds the element of a value, called by its key where it is a member.
fn element<'d>(
    builder: &mut NodesBuilder<'d>,
    read: &Read<'d>,
    key: Option<&'d str>,
    value: Value<'d>,
    texts: &Texts<'_, '_, 'd>,
) -> Result<(), Error> {
    // Members that are there several times come in their order.
    if key.is_some()
        && let Some(earlier) = read.overridden(value)
    {
        element(builder, read, key, earlier, texts)?;
    }
    let (local, text) = match value {
        Value::Null(_) => ("null", None),
        Value::Boolean(_, true) => ("boolean", Some("true")),
        Value::Boolean(_, false) => ("boolean", Some("false")),
        Value::Number(_, number) => ("number", Some(number.as_str())),
        Value::List(..) => ("array", None),
        Value::Map(..) => ("map", None),
        other => ("string", other.as_text()),
    };
    builder.open(Name::new(local, FN), Origin::NONE);
    if builder.len() == 3 {
        builder.attribute(Name::new("xmlns", ""), FN, Origin::NONE);
    }
    let mut attribute = |name: &'d str, value: &'d str| {
        builder.attribute(Name::plain(name), value, Origin::NONE);
    };
    if let Some(key) = key {
        let (key, is_escaped) = texts.held(key)?;
        attribute("key", key);
        if is_escaped {
            attribute("escaped-key", "true");
        }
    }
    if let Some(text) = text.filter(|text| !text.is_empty()) {
        let (text, is_escaped) = texts.held(text)?;
        if is_escaped {
            attribute("escaped", "true");
        }
        builder.text(text, Origin::NONE);
    }
    match value {
        Value::List(_, items) => {
            for item in items {
                element(builder, read, None, *item, texts)?;
            }
        }
        Value::Map(_, map) => {
            for member in map.members() {
                element(builder, read, Some(member.name), member.value, texts)?;
            }
        }
        _ => {}
    }
    builder.close();
    Ok(())
}

fn to_json<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let Some(node) = call.node_or_context(0)? else { return Ok(Sequence::Empty) };
    let node = match node.kind() {
        NodeKind::Document => node.children().find(|child| child.kind() == NodeKind::Element),
        _ => Some(node),
    };
    let Some(node) = node else { return Err(wrong("the document has no element")) };
    let mut out = Vec::new();
    write(node, &mut out)?;
    let indent = call.argument(1).first().and_then(|o| o.entry(&Atomic::string("indent")));
    let text = String::from_utf8_lossy(&out).into_owned();
    if indent.is_some_and(|value| value.truth().unwrap_or(false)) {
        let arena = call.run.store.arena;
        let compact = arena.text(&text);
        if let Ok((value, _)) = format::document(compact, arena, format::ReaderOptions::default()) {
            let mut laid_out = Vec::new();
            format::write(value, format::Style::Indented(2), &mut laid_out);
            return Ok(Sequence::text(String::from_utf8_lossy(&laid_out).into_owned()));
        }
    }
    Ok(Sequence::text(text))
}

fn wrong(message: impl Into<String>) -> Error {
    failed("FOJS0006", message)
}

/// Writes the value that an element stands for.
fn write(node: Node<'_>, out: &mut Vec<u8>) -> Result<(), Error> {
    let name = node.name();
    if name.namespace() != FN {
        return Err(wrong(format!("<{}> stands for no value of JSON", name.qualified())));
    }
    let text = || {
        let holds_elements = node.children().any(|child| child.kind() == NodeKind::Element);
        if holds_elements {
            return Err(wrong(format!("<{}> holds elements", name.qualified())));
        }
        Ok(node.string_value())
    };
    match name.local() {
        "null" => match text()?.trim() {
            "" => out.extend_from_slice(b"null"),
            _ => return Err(wrong("<null> holds text")),
        },
        "boolean" => match text()?.trim() {
            "true" | "1" => out.extend_from_slice(b"true"),
            "false" | "0" => out.extend_from_slice(b"false"),
            other => return Err(wrong(format!("<boolean> holds {other:?}"))),
        },
        "number" => {
            let text = text()?;
            let text = text.trim();
            match Number::parse(text) {
                Some(number) => out.extend_from_slice(number.as_str().as_bytes()),
                None => {
                    let double = Atomic::untyped(text.to_owned()).cast(AtomicType::Double);
                    let shown = double.map(|double| double.to_string()).unwrap_or_default();
                    if Number::parse(&shown).is_none() {
                        return Err(wrong(format!("<number> holds {text:?}")));
                    }
                    out.extend_from_slice(shown.as_bytes());
                }
            }
        }
        "string" => string(node, "escaped", &text()?, out)?,
        "array" => children(node, b'[', b']', out, |child, out| write(child, out))?,
        "map" => {
            let mut keys = std::collections::HashSet::new();
            children(node, b'{', b'}', out, |child, out| {
                let key = child.attributes().find(|a| a.name().qualified() == "key");
                let key = key.ok_or_else(|| {
                    wrong(format!("<{}> in a map has no key", child.name().qualified()))
                })?;
                if !keys.insert(key.text()) {
                    return Err(wrong(format!("the key {:?} is there twice", key.text())));
                }
                string(child, "escaped-key", key.text(), out)?;
                out.push(b':');
                write(child, out)
            })?;
        }
        other => return Err(wrong(format!("<{other}> stands for no value of JSON"))),
    }
    Ok(())
}

/// Writes a text, which may be escaped already.
fn string(node: Node<'_>, flag: &str, text: &str, out: &mut Vec<u8>) -> Result<(), Error> {
    let is_escaped = node
        .attributes()
        .any(|a| a.name().qualified() == flag && matches!(a.text().trim(), "true" | "1"));
    if !is_escaped {
        format::write_text(text, out);
        return Ok(());
    }
    // Quotes that are not escaped are; what is escaped stays.
    let mut quoted = String::from("\"");
    let mut rest = text.chars();
    while let Some(character) = rest.next() {
        match character {
            '\\' => {
                quoted.push('\\');
                quoted.extend(rest.next());
            }
            '"' => quoted.push_str("\\\""),
            control if control < ' ' => quoted.push_str(&format!("\\u{:04X}", control as u32)),
            other => quoted.push(other),
        }
    }
    quoted.push('"');
    let arena = kyanite_tree::Arena::new();
    if format::document(&quoted, &arena, format::ReaderOptions::default()).is_err() {
        return Err(failed("FOJS0007", format!("{text:?} is not escaped as JSON is")));
    }
    out.extend_from_slice(quoted.as_bytes());
    Ok(())
}

fn children<'d>(
    node: Node<'d>,
    open: u8,
    close: u8,
    out: &mut Vec<u8>,
    mut write: impl FnMut(Node<'d>, &mut Vec<u8>) -> Result<(), Error>,
) -> Result<(), Error> {
    out.push(open);
    let mut is_first = true;
    for child in node.children() {
        match child.kind() {
            NodeKind::Element => {
                if !is_first {
                    out.push(b',');
                }
                is_first = false;
                write(child, out)?;
            }
            NodeKind::Text if !child.text().trim().is_empty() => {
                return Err(wrong(format!("<{}> holds text", node.name().qualified())));
            }
            _ => {}
        }
    }
    out.push(close);
    Ok(())
}
