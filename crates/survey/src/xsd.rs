//! An XML Schema (1.0) of what was surveyed of XML, which the documents satisfy.
//!
//! The children of an element may come in any order and number, as the survey does not keep these; attributes that are always there are
//! required, and texts have the narrowest of a few types.

use std::fmt::Write;

use crate::forms::Form;
use crate::paths::{DOCUMENT, PathStep, Sort};
use crate::survey::Survey;

/// Why no schema can be made.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum NoXsd {
    /// What was surveyed is no XML, or records in it.
    NotXml,
    /// Names are of several namespaces, each of which needs a schema of its own.
    SeveralNamespaces,
}

impl Survey {
    /// A schema of the documents.
    ///
    /// # Errors
    /// Why none can be made.
    pub fn xsd(&self) -> Result<String, NoXsd> {
        let roots: Vec<usize> = self
            .members(DOCUMENT)
            .into_iter()
            .filter(|(name, _)| is_element(name))
            .map(|(_, at)| at)
            .collect();
        let document = &self.paths.nodes[DOCUMENT];
        if roots.is_empty() || document.counts.records != self.records {
            return Err(NoXsd::NotXml);
        }
        let namespace = self.namespace()?;
        let mut text = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n\
            <xs:schema xmlns:xs=\"http://www.w3.org/2001/XMLSchema\""
            .to_owned();
        if let Some(uri) = namespace {
            let uri = escaped(&uri);
            // What has a prefix is of that namespace, elements inside others as well.
            let _ = write!(text, " targetNamespace=\"{uri}\" elementFormDefault=\"qualified\"");
        }
        text.push_str(">\n");
        for root in roots {
            self.element(root, 1, &mut text);
        }
        text.push_str("</xs:schema>\n");
        Ok(text)
    }

    /// The members that go on from a path, by their names.
    fn members(&self, number: usize) -> Vec<(&str, usize)> {
        let nodes = &self.paths.nodes;
        let named = nodes[number].children.iter().filter_map(|child| match &nodes[*child].step {
            PathStep::Member(name) if nodes[*child].counts.values > 0 => Some((&**name, *child)),
            _ => None,
        });
        named.collect()
    }

    /// The one namespace that names with prefixes are of, or that is declared for names without; none where names have none.
    fn namespace(&self) -> Result<Option<String>, NoXsd> {
        let (mut uris, mut prefixes, mut has_plain) = (Vec::new(), Vec::new(), false);
        for number in self.paths.in_order() {
            let PathStep::Member(name) = &self.paths.nodes[number].step else { continue };
            let plain = name.strip_prefix('@').unwrap_or(name);
            if plain == "xmlns" || plain.starts_with("xmlns:") {
                let values = &self.paths.nodes[number].values;
                let all = values.frequent.all().ok_or(NoXsd::SeveralNamespaces)?;
                uris.extend(all.map(|(_, uri, _)| (plain.to_owned(), uri.to_owned())));
            } else if let Some((prefix, _)) =
                plain.split_once(':').filter(|(prefix, _)| *prefix != "xml")
            {
                prefixes.push(prefix.to_owned());
            } else if is_element(name) {
                has_plain = true;
            }
        }
        let has_default = uris.iter().any(|(name, _)| name == "xmlns");
        prefixes.dedup();
        uris.retain(|(name, _)| {
            name == "xmlns" || prefixes.iter().any(|prefix| name[6..] == **prefix)
        });
        uris.sort();
        uris.dedup_by(|a, b| a.1 == b.1);
        match uris.as_slice() {
            [] => Ok(None),
            [(_, uri)] if !has_plain || has_default && prefixes.is_empty() => Ok(Some(uri.clone())),
            _ => Err(NoXsd::SeveralNamespaces),
        }
    }

    /// The declaration of an element.
    fn element(&self, number: usize, level: usize, text: &mut String) {
        let node = &self.paths.nodes[number];
        let PathStep::Member(name) = &node.step else { return };
        let name = local(name);
        let indent = "  ".repeat(level);
        // What is a list is told by its items.
        let items = self.paths.find(number, &PathStep::Items);
        let of = items.unwrap_or(number);
        let members = self.members(of);
        let counts = &self.paths.nodes[of].counts;
        let (texts, maps) = (counts.of(Sort::Text), counts.of(Sort::Map));
        if maps == 0 {
            let of_type = self.simple_type(of);
            let _ = writeln!(text, "{indent}<xs:element name=\"{name}\" type=\"xs:{of_type}\"/>");
            return;
        }
        let (mut children, mut attributes, mut own_text, mut is_mixed) =
            (Vec::new(), Vec::new(), None, false);
        for (name, child) in members {
            match name {
                "#text" => own_text = Some(child),
                "#content" => {
                    // Texts and elements in their order, each a map of its own.
                    is_mixed = true;
                    let items = self.paths.find(child, &PathStep::Items).unwrap_or(child);
                    children.extend(self.members(items));
                }
                name if name.starts_with("@xmlns") => {}
                name if name.starts_with('@') => attributes.push((name, child)),
                name => children.push((name, child)),
            }
        }
        children.retain(|(name, _)| is_element(name));
        children.sort_by_key(|(_, child)| *child);
        children.dedup_by(|a, b| a.0 == b.0);
        let _ = writeln!(text, "{indent}<xs:element name=\"{name}\">");
        if children.is_empty() && !is_mixed {
            let base = match own_text {
                Some(child) if texts == 0 && self.paths.nodes[child].counts.values == maps => {
                    self.simple_type(child)
                }
                // Sometimes there is nothing but attributes.
                _ => "string",
            };
            let _ = writeln!(text, "{indent}  <xs:complexType>\n{indent}    <xs:simpleContent>");
            let _ = writeln!(text, "{indent}      <xs:extension base=\"xs:{base}\">");
            self.attributes(&attributes, texts + maps, level + 4, text);
            let _ =
                writeln!(text, "{indent}      </xs:extension>\n{indent}    </xs:simpleContent>");
        } else {
            let mixed =
                if is_mixed || own_text.is_some() || texts > 0 { " mixed=\"true\"" } else { "" };
            let _ = writeln!(text, "{indent}  <xs:complexType{mixed}>");
            let _ =
                writeln!(text, "{indent}    <xs:choice minOccurs=\"0\" maxOccurs=\"unbounded\">");
            for (_, child) in children {
                self.element(child, level + 3, text);
            }
            let _ = writeln!(text, "{indent}    </xs:choice>");
            self.attributes(&attributes, texts + maps, level + 2, text);
        }
        let _ = writeln!(text, "{indent}  </xs:complexType>\n{indent}</xs:element>");
    }

    fn attributes(
        &self,
        attributes: &[(&str, usize)],
        elements: u64,
        level: usize,
        text: &mut String,
    ) {
        let indent = "  ".repeat(level);
        for (name, child) in attributes {
            let name = name.trim_start_matches('@');
            // Those of XML itself, and of other namespaces, are declared elsewhere.
            if name.contains(':') {
                continue;
            }
            let is_always = self.paths.nodes[*child].counts.values == elements;
            let required = if is_always { " use=\"required\"" } else { "" };
            let of_type = self.simple_type(*child);
            let _ = writeln!(
                text,
                "{indent}<xs:attribute name=\"{name}\" type=\"xs:{of_type}\"{required}/>"
            );
        }
        if attributes.iter().any(|(name, _)| name.contains(':')) {
            let _ = writeln!(text, "{indent}<xs:anyAttribute processContents=\"lax\"/>");
        }
    }

    /// The narrowest of a few types that all texts of a path have.
    fn simple_type(&self, number: usize) -> &'static str {
        let node = &self.paths.nodes[number];
        let texts = node.counts.of(Sort::Text);
        let all = |form: Form| texts > 0 && node.values.forms[form as usize] == texts;
        if all(Form::Number) {
            // An exponent is in no decimal.
            let values = node.values.frequent.all();
            let has_exponent =
                values.is_none_or(|mut all| all.any(|(_, text, _)| text.contains(['e', 'E'])));
            return match (has_exponent, &node.values.numbers) {
                (true, _) => "double",
                (false, Some(numbers)) if numbers.are_whole() && !self.has_points(number) => {
                    "integer"
                }
                (false, _) => "decimal",
            };
        }
        if all(Form::Date) {
            "date"
        } else if all(Form::Boolean) {
            "boolean"
        } else {
            "string"
        }
    }

    /// Whether a number has a point, such as 2.0.
    fn has_points(&self, number: usize) -> bool {
        let all = self.paths.nodes[number].values.frequent.all();
        all.is_none_or(|mut all| all.any(|(_, text, _)| text.contains('.')))
    }
}

/// Whether a member of the record view is an element.
fn is_element(name: &str) -> bool {
    !name.starts_with(['@', '#'])
}

fn local(name: &str) -> &str {
    name.rsplit_once(':').map_or(name, |(_, local)| local)
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('"', "&quot;")
}
