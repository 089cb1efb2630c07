//! Functions of XML elements.

use kyanite_formats::record_view::{RecordShape, View};
use kyanite_formats::xml;
use kyanite_tree::{
    Attribute, Content, Element, Foreign, ForeignType, MapBuilder, Name, Origin, Value,
};

use super::{Call, CallError, Outcome, ParameterTypes, Run, Signature, takes};
use crate::types::Type;

pub(super) const TABLE: &[Signature] = &[
    Signature {
        name: "name",
        parameters: &[takes("element", ParameterTypes::ELEMENT)],
        required: 1,
        repeats: false,
        result: Type::Text,
        summary: "The local name of an element; that of a document is empty. Where an element is made with it, it keeps \
                  its prefix and its namespace.",
        example: ("name(element(\"deck\"))", "\"deck\""),
        run: Run::Values(
            |call| Ok(element(call, 0).map(|e| name_of(e.name, e.name.local(), call))),
        ),
    },
    Signature {
        name: "namespace_uri",
        parameters: &[takes("element", ParameterTypes::ELEMENT)],
        required: 1,
        repeats: false,
        result: Type::Text,
        summary: "The namespace of an element's name, empty for none.",
        example: ("namespace_uri(element(\"deck\"))", "\"\""),
        run: Run::Values(|call| Ok(element(call, 0).map(|e| Value::text(e.name.namespace())))),
    },
    Signature {
        name: "attributes",
        parameters: &[takes("element", ParameterTypes::ELEMENT)],
        required: 1,
        repeats: false,
        result: Type::Map,
        summary: "The attributes of an element by name, without its declarations of namespaces. Where an element is made \
                  with them, they keep their namespaces.",
        example: ("attributes(element(\"deck\", {no: 2}))", "{\"no\":\"2\"}"),
        run: Run::Values(attributes),
    },
    Signature {
        name: "content",
        parameters: &[takes("element", ParameterTypes::ELEMENT)],
        required: 1,
        repeats: false,
        result: Type::List,
        summary: "The child elements and texts of an element, in order.",
        example: ("content(element(\"deck\", {}, [\"for \", element(\"b\")]))", "[\"for \",\"\"]"),
        run: Run::Values(content),
    },
    Signature {
        name: "record",
        parameters: &[
            takes("element", ParameterTypes::ELEMENT),
            takes("list", ParameterTypes::TEXT),
        ],
        required: 1,
        repeats: true,
        result: Type::Any,
        summary: "The record view of an element; the named members are always lists.",
        example: (
            "record(element(\"deck\", {}, element(\"bay\", {}, \"4\")), \"bay\")",
            "{\"bay\":[\"4\"]}",
        ),
        run: Run::Values(record),
    },
    Signature {
        name: "element",
        parameters: &[
            takes("name", ParameterTypes::TEXT),
            takes("attributes", ParameterTypes::MAP),
            takes(
                "content",
                ParameterTypes::TEXT
                    .or(ParameterTypes::NUMBER)
                    .or(ParameterTypes::BOOLEAN)
                    .or(ParameterTypes::ELEMENT)
                    .or(ParameterTypes::LIST)
                    .or(ParameterTypes::NOTHING),
            ),
        ],
        required: 1,
        repeats: false,
        result: Type::Of(kyanite_tree::Kind::Element),
        summary: "An element of that name, with the members of a map as attributes; the content is a text, an \
                  element, or a list of them, in which lists may stand. Prefixes are those of the header; names without \
                  prefix are in the namespace that it says for them.",
        example: (
            "encode(\"xml\", element(\"deck\", {no: 2}, \"cars\"))",
            "\"<deck no=\\\"2\\\">cars</deck>\"",
        ),
        run: Run::Values(make),
    },
];

fn element<'a>(call: &Call<'_, 'a>, position: usize) -> Option<&'a Element<'a>> {
    call.argument(position).and_then(Value::as_element)
}

fn attributes<'a>(call: &Call<'_, 'a>) -> Outcome<'a> {
    let Some(element) = element(call, 0) else { return Ok(None) };
    let mut builder = MapBuilder::new();
    let mut keys = Vec::new();
    for attribute in element.attributes.iter().filter(|a| !a.name.declares_namespace()) {
        let name = attribute.name;
        builder.insert(name.qualified(), attribute.to_value());
        if !name.namespace().is_empty() {
            keys.push((name.qualified(), name_of(name, name.qualified(), call)));
        }
    }
    let map = builder.finish(call.arena);
    let map = if keys.is_empty() { map } else { map.with_keys(call.arena, &keys) };
    Ok(Some(Value::Map(Origin::NONE, map)))
}

/// A name as a text that knows the namespace.
fn name_of<'a>(name: Name<'a>, text: &'a str, call: &Call<'_, 'a>) -> Value<'a> {
    if name.namespace().is_empty() {
        return Value::text(text);
    }
    let of = ForeignType::Name(name);
    Value::Foreign(Origin::NONE, call.arena.put(Foreign { text, of }))
}

/// The name that a text knows, if it was the name of an element or attribute.
fn known_name(value: Option<Value<'_>>) -> Option<Name<'_>> {
    match value {
        Some(Value::Foreign(_, Foreign { of: ForeignType::Name(name), .. })) => Some(*name),
        _ => None,
    }
}

fn content<'a>(call: &Call<'_, 'a>) -> Outcome<'a> {
    let Some(element) = element(call, 0) else { return Ok(None) };
    let items: Vec<_> = element
        .content
        .iter()
        .filter_map(|node| match node {
            Content::Element(origin, child) => Some(Value::Element(*origin, child)),
            Content::Text(origin, text) => Some(Value::Untyped(*origin, text)),
            _ => None,
        })
        .collect();
    Ok(Some(call.arena.list(&items)))
}

fn record<'a>(call: &Call<'_, 'a>) -> Outcome<'a> {
    let lists: Vec<String> =
        (1..call.arguments.len()).map(|position| call.text(position).to_owned()).collect();
    let mut view = View::new(&RecordShape { lists, ..RecordShape::default() }, false);
    Ok(call.argument(0).map(|element| view.record(element, call.arena)))
}

fn make<'a>(call: &Call<'_, 'a>) -> Outcome<'a> {
    let given = call.argument(1).and_then(Value::as_map);
    let members = given.map(|map| map.members()).unwrap_or_default();
    let mut keys = given.map(|map| map.keys()).unwrap_or_default().iter().peekable();
    let mut attributes = Vec::new();
    for (position, member) in members.iter().enumerate() {
        let value = member.value.scalar_text().ok_or_else(|| {
            let kind = member.value.kind().phrase();
            CallError::new(
                1,
                format!("the attribute `{}` is {kind}, which has no text", member.name),
            )
            .about(member.value)
        })?;
        let origin = member.value.origin();
        let known =
            keys.next_if(|(at, _)| *at == position).and_then(|(_, key)| known_name(Some(*key)));
        let name = match known {
            Some(name) => name,
            None => xml_name(member.name, 1, call)?,
        };
        attributes.push(Attribute { name, value, origin });
    }
    let name = match known_name(call.argument(0)) {
        Some(name) => name,
        None => declared_by(&attributes, xml_name(call.text(0), 0, call)?),
    };
    let mut nodes = Vec::new();
    if let Some(content) = call.argument(2) {
        add_content(content, &mut nodes)?;
    }
    let has_elements = nodes.iter().any(|node| matches!(node, Content::Element(..)));
    let texts: Vec<&str> = nodes
        .iter()
        .filter_map(|node| if let Content::Text(_, text) = node { Some(*text) } else { None })
        .collect();
    let text = if has_elements { None } else { Some(call.arena.concat(&texts)) };
    let element = Element {
        name,
        attributes: call.arena.attributes(&attributes),
        content: call.arena.nodes(&nodes),
        text,
    };
    Ok(Some(Value::Element(Origin::NONE, call.arena.element(element))))
}

/// The name of an element that perhaps itself declares what its prefix stands for.
fn declared_by<'a>(attributes: &[Attribute<'a>], name: Name<'a>) -> Name<'a> {
    let declares = |attribute: &&Attribute<'_>| match attribute.name.qualified() {
        "xmlns" => name.prefix().is_empty(),
        declared => declared.strip_prefix("xmlns:") == Some(name.prefix()),
    };
    let declared = attributes.iter().find(declares);
    declared.map_or(name, |declared| Name::new(name.qualified(), declared.value))
}

fn xml_name<'a>(
    name: &'a str,
    argument: usize,
    call: &Call<'_, 'a>,
) -> Result<Name<'a>, CallError> {
    if xml::is_name(name) {
        return Ok(call.namespaces.name(name, argument == 1));
    }
    Err(CallError::new(argument, format!("`{name}` cannot be a name in XML"))
        .advise("names begin with a letter or _, and go on with letters, digits, - . _"))
}

fn add_content<'a>(item: Value<'a>, nodes: &mut Vec<Content<'a>>) -> Result<(), CallError> {
    match item {
        Value::Element(_, document) if document.is_document() => {
            nodes.extend(
                document.content.iter().filter(|node| !matches!(node, Content::DocumentType(..))),
            );
        }
        Value::Element(origin, element) => nodes.push(Content::Element(origin, element)),
        // Lists in lists are what expressions give that stand among others.
        Value::List(_, items) => items.iter().try_for_each(|item| add_content(*item, nodes))?,
        other => match other.scalar_text() {
            Some("") => {}
            Some(text) => nodes.push(Content::Text(other.origin(), text)),
            None => {
                let message = format!("{} cannot be content of an element", other.kind().phrase());
                return Err(CallError::new(2, message)
                    .about(other)
                    .advise("give texts and elements"));
            }
        },
    }
    Ok(())
}
