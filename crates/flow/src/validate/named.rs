//! The schemas that a document names itself.

use kyanite_formats::{Format, xml};
use kyanite_schema::{schematron, xsd};
use kyanite_tree::{Arena, Attribute};

/// A schema that a document names.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub(super) enum Named {
    /// By `$schema`.
    Json(String),
    /// By `xsi:schemaLocation`, for a namespace, or by `xsi:noNamespaceSchemaLocation`.
    Xsd { namespace: Option<String>, location: String },
    /// By an `xml-model` processing instruction (ISO/IEC 19757-11), if it is one of XML Schema or Schematron.
    Model(String),
}

impl Named {
    /// Where it is, as the document says.
    pub(super) fn location(&self) -> &str {
        match self {
            Self::Json(location) | Self::Model(location) | Self::Xsd { location, .. } => location,
        }
    }
}

/// The schemas that a document names, told from how it begins.
pub(super) fn schemas(format: Format, head: &str) -> Vec<Named> {
    match format {
        Format::Xml => of_xml(head),
        Format::Json | Format::JsonLines => of_json(head).into_iter().map(Named::Json).collect(),
        Format::Yaml => of_lines(head, ':').into_iter().map(Named::Json).collect(),
        Format::Toml => of_lines(head, '=').into_iter().map(Named::Json).collect(),
        _ => Vec::new(),
    }
}

fn of_xml(head: &str) -> Vec<Named> {
    let (arena, options) = (Arena::new(), xml::Options::default());
    let Ok(prolog) = xml::prolog(head, &arena, options, false) else { return Vec::new() };
    let mut named = instructions(&head[..prolog.end]);
    let place = xml::Ancestry::default();
    let mut events = xml::EventReader::new(head, &arena, &prolog, options, place);
    events.seek(prolog.end);
    if let Ok(Some(xml::Event::Begin { .. })) = events.next_event() {
        events.attributes().iter().for_each(|attribute| of_attribute(attribute, &mut named));
    }
    named
}

fn of_attribute(attribute: &Attribute<'_>, named: &mut Vec<Named>) {
    if attribute.name.namespace() != xsd::XSI {
        return;
    }
    let words: Vec<&str> = attribute.value.split_ascii_whitespace().collect();
    match attribute.name.local() {
        "schemaLocation" => named.extend(words.chunks_exact(2).map(|pair| Named::Xsd {
            namespace: Some(pair[0].to_owned()),
            location: pair[1].to_owned(),
        })),
        "noNamespaceSchemaLocation" => named.extend(
            words.iter().map(|word| Named::Xsd { namespace: None, location: (*word).to_owned() }),
        ),
        _ => {}
    }
}

/// What `xml-model` instructions before the root element name.
fn instructions(prolog: &str) -> Vec<Named> {
    let mut named = Vec::new();
    for (at, _) in prolog.match_indices("<?xml-model") {
        let Some((data, _)) = prolog[at + "<?xml-model".len()..].split_once("?>") else { continue };
        let language = pseudo_attribute(data, "schematypens");
        let is_known =
            language.is_none_or(|language| [xsd::XSD, schematron::SCHEMATRON].contains(&language));
        if let Some(href) = pseudo_attribute(data, "href").filter(|_| is_known) {
            named.push(Named::Model(href.to_owned()));
        }
    }
    named
}

/// The value of a pseudo-attribute (Associating Schemas with XML documents 1.0).
fn pseudo_attribute<'t>(data: &'t str, name: &str) -> Option<&'t str> {
    let at = data
        .match_indices(name)
        .find(|(at, _)| data[..*at].ends_with(|c: char| c.is_ascii_whitespace()))?;
    let rest = data[at.0 + name.len()..].trim_start().strip_prefix('=')?.trim_start();
    let quote = rest.chars().next().filter(|c| matches!(c, '"' | '\''))?;
    rest[1..].split_once(quote).map(|(value, _)| value)
}

/// The member `$schema` at the top of a text of JSON, which may be cut off.
fn of_json(head: &str) -> Option<String> {
    let bytes = head.as_bytes();
    let (mut depth, mut at, mut key) = (0_usize, 0, None);
    while let Some(byte) = bytes.get(at) {
        match byte {
            b'{' | b'[' => depth += 1,
            b'}' | b']' => depth = depth.saturating_sub(1),
            b'"' => {
                let length = string_length(&bytes[at..])?;
                let text = &head[at + 1..at + length - 1];
                let behind = head[at + length..].trim_start();
                if depth == 1 && behind.starts_with(':') {
                    key = Some(text);
                } else if depth == 1 && key == Some("$schema") {
                    return Some(text.replace("\\/", "/"));
                }
                at += length - 1;
            }
            b'\n' if depth == 0 && key.is_some() => return None,
            _ => {}
        }
        at += 1;
    }
    None
}

/// The length of the string that begins here, its quotes with it.
fn string_length(bytes: &[u8]) -> Option<usize> {
    let mut at = 1;
    loop {
        match bytes.get(at)? {
            b'"' => return Some(at + 1),
            b'\\' => at += 2,
            _ => at += 1,
        }
    }
}

/// The member `$schema` on a line of its own.
fn of_lines(head: &str, sign: char) -> Option<String> {
    head.lines().find_map(|line| {
        let key = ["$schema", "\"$schema\"", "'$schema'"];
        let rest = key.into_iter().find_map(|key| line.strip_prefix(key))?;
        let value = rest.trim_start().strip_prefix(sign)?.trim();
        let value = value.split(" #").next().unwrap_or(value).trim();
        let bare = value.trim_matches(['"', '\'']);
        (!bare.is_empty()).then(|| bare.to_owned())
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn schemas_that_documents_name() {
        let json = |uri: &str| vec![Named::Json(uri.into())];
        let xsd = |namespace: Option<&str>, location: &str| Named::Xsd {
            namespace: namespace.map(str::to_owned),
            location: location.into(),
        };
        for (format, head, expected) in [
            (Format::Json, r#"{"a": {"$schema": "no"}, "$schema": "s.json", "b"#, json("s.json")),
            (Format::Json, r#"{"a": "$schema", "b": "s"}"#, vec![]),
            (Format::Json, r#"{"a\"": ["$schema"], "$schema": 3}"#, vec![]),
            (Format::JsonLines, "{\"a\": 1}\n{\"$schema\": \"s.json\"}", vec![]),
            (Format::Yaml, "a: 1\n$schema: s.json # why\n", json("s.json")),
            (Format::Toml, "\"$schema\" = \"s.json\"\n", json("s.json")),
            (
                Format::Xml,
                "<?xml version='1.0'?><?xml-model href=\"m.sch\" schematypens='http://purl.oclc.org/dsdl/schematron'?>\
                 <?xml-model href='other.rng' schematypens='urn:other'?>\
                 <a xmlns:x='http://www.w3.org/2001/XMLSchema-instance' x:schemaLocation=' urn:a a.xsd\n urn:b b.xsd' x:noNamespaceSchemaLocation='n.xsd'><b",
                vec![
                    Named::Model("m.sch".into()),
                    xsd(Some("urn:a"), "a.xsd"),
                    xsd(Some("urn:b"), "b.xsd"),
                    xsd(None, "n.xsd"),
                ],
            ),
            (Format::Xml, "<a", vec![]),
        ] {
            assert_eq!(schemas(format, head), expected, "{head}");
        }
    }
}
