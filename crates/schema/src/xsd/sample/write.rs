//! A sample as a text.

use std::collections::BTreeSet;

use super::{Named, Node, Text};
use crate::xsd::documents::{XML, XSI};

/// The text of a document; references are to the first identifier.
pub(super) fn document(root: &Node, wanted: &[(String, String)], identifiers: &[String]) -> String {
    let mut namespaces = BTreeSet::new();
    collect(root, &mut namespaces);
    let mut prefixes: Vec<(String, String)> = Vec::new();
    // A schema may know its namespace without prefix; then documents do, too, unless elements without namespace stand in them.
    let may_be_usual = !has_element_without_namespace(root);
    // That of the root comes first.
    let own = std::iter::once(root.name.0.as_str()).filter(|own| !own.is_empty());
    for namespace in own.chain(namespaces.iter().copied().filter(|other| *other != root.name.0)) {
        let of = |prefix: &String, known: &str| known == namespace && !prefix.is_empty();
        let known = wanted.iter().find(|(prefix, known)| {
            of(prefix, known) && !prefixes.iter().any(|(taken, _)| taken == prefix)
        });
        let is_usual = wanted.iter().any(|(prefix, known)| prefix.is_empty() && known == namespace);
        let is_free = !prefixes.iter().any(|(taken, _)| taken.is_empty());
        let prefix = match (namespace, known) {
            (XML, _) => continue,
            (XSI, _) => "xsi".to_owned(),
            (_, Some((prefix, _))) => prefix.clone(),
            _ if is_usual && is_free && may_be_usual => String::new(),
            _ => format!("n{}", prefixes.len() + 1),
        };
        prefixes.push((prefix, namespace.to_owned()));
    }
    let mut writer = Writer {
        prefixes: &prefixes,
        identifiers,
        out: String::from("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n"),
    };
    writer.node(root, 0);
    writer.out
}

fn has_element_without_namespace(node: &Node) -> bool {
    node.name.0.is_empty() || node.children.iter().any(has_element_without_namespace)
}

fn collect<'n>(node: &'n Node, namespaces: &mut BTreeSet<&'n str>) {
    let of_text = |text: &'n Text| match text {
        Text::Name((namespace, _)) => Some(namespace.as_str()),
        _ => None,
    };
    let own = std::iter::once(node.name.0.as_str());
    let attributes = node.attributes.iter().map(|(name, _)| name.0.as_str());
    let texts = node.attributes.iter().map(|(_, text)| text).chain(&node.text).filter_map(of_text);
    namespaces.extend(own.chain(attributes).chain(texts).filter(|namespace| !namespace.is_empty()));
    node.children.iter().for_each(|child| collect(child, namespaces));
}

struct Writer<'w> {
    prefixes: &'w [(String, String)],
    identifiers: &'w [String],
    out: String,
}

impl Writer<'_> {
    fn name(&self, (namespace, local): &Named) -> String {
        let prefix = match namespace.as_str() {
            "" => None,
            XML => Some("xml"),
            _ => {
                self.prefixes.iter().find(|(_, known)| known == namespace).map(|(p, _)| p.as_str())
            }
        };
        let prefix = prefix.filter(|prefix| !prefix.is_empty());
        prefix.map_or_else(|| local.clone(), |prefix| format!("{prefix}:{local}"))
    }

    fn text(&self, text: &Text) -> String {
        let plain = match text {
            Text::Plain(text) => text.clone(),
            Text::Name(name) => self.name(name),
            Text::Reference => self.identifiers.first().cloned().unwrap_or_default(),
        };
        let escaped = plain.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;");
        escaped
            .replace('"', "&quot;")
            .replace('\t', "&#9;")
            .replace('\n', "&#10;")
            .replace('\r', "&#13;")
    }

    fn node(&mut self, node: &Node, level: usize) {
        let (name, indent) = (self.name(&node.name), "  ".repeat(level));
        self.out.push_str(&format!("{indent}<{name}"));
        if level == 0 {
            for (prefix, namespace) in self.prefixes {
                let namespace = self.text(&Text::Plain(namespace.clone()));
                let colon = if prefix.is_empty() { "" } else { ":" };
                self.out.push_str(&format!(" xmlns{colon}{prefix}=\"{namespace}\""));
            }
        }
        for (attribute, text) in &node.attributes {
            let written = format!(" {}=\"{}\"", self.name(attribute), self.text(text));
            self.out.push_str(&written);
        }
        match (&node.text, node.children.as_slice()) {
            (Some(text), _) => {
                let text = self.text(text);
                self.out.push_str(&format!(">{text}</{name}>\n"));
            }
            (None, []) => self.out.push_str("/>\n"),
            (None, children) => {
                self.out.push_str(">\n");
                children.iter().for_each(|child| self.node(child, level + 1));
                self.out.push_str(&format!("{indent}</{name}>\n"));
            }
        }
    }
}
