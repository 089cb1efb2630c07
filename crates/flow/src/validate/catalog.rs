//! Catalogs of URIs (OASIS XML Catalogs 1.1): where a document that is named is really found.

use kyanite_eval::uri::resolve;
use kyanite_tree::Element;
use percent_encoding::percent_decode_str;

/// The namespace of catalogs.
const CATALOG: &str = "urn:oasis:names:tc:entity:xmlns:xml:catalog";

/// Something that a catalog says.
#[derive(Clone, PartialEq, Eq, Debug)]
enum Entry {
    /// Just this URI is found there.
    Whole(String, String),
    /// What is known by this public identifier is found there.
    Public(String, String),
    /// URIs that begin so begin otherwise.
    Beginning(String, String),
    /// URIs that end so are found there.
    End(String, String),
    /// URIs that begin so are resolved in another catalog; all are, if it is empty.
    Other(String, String),
}

/// What a catalog says, in its order.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub(super) struct Catalog(Vec<Entry>);

/// What a catalog knows about a URI.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(super) enum Answer {
    /// Where it is.
    Found(String),
    /// Catalogs that may know.
    Ask(Vec<String>),
}

impl Catalog {
    /// Reads a catalog; entries are relative to its own URI. Nothing where it is none.
    pub(super) fn read(root: &Element<'_>, uri: &str) -> Option<Self> {
        let root = if root.is_document() { root.children().next()?.as_element()? } else { root };
        if root.name.namespace() != CATALOG || root.name.local() != "catalog" {
            return None;
        }
        let mut entries = Vec::new();
        let mut left = vec![(root, uri.to_owned())];
        while let Some((element, base)) = left.pop() {
            let own = element.attribute("xml:base").and_then(|a| resolve(a.value, &base));
            let base = own.unwrap_or(base);
            let value = |name: &str| element.attribute(name).map(|a| a.value.to_owned());
            let there = |name: &str| value(name).map(|uri| resolve(&uri, &base).unwrap_or(uri));
            let pair = |from: &str, to: &str| Some((value(from)?, there(to)?));
            let entry = match element.name.local() {
                "uri" => pair("name", "uri").map(|(from, to)| Entry::Whole(from, to)),
                "system" => pair("systemId", "uri").map(|(from, to)| Entry::Whole(from, to)),
                "public" => pair("publicId", "uri")
                    .map(|(from, to)| Entry::Public(without_blanks(&from), to)),
                "rewriteURI" => pair("uriStartString", "rewritePrefix")
                    .map(|(from, to)| Entry::Beginning(from, to)),
                "rewriteSystem" => pair("systemIdStartString", "rewritePrefix")
                    .map(|(from, to)| Entry::Beginning(from, to)),
                "uriSuffix" => pair("uriSuffix", "uri").map(|(from, to)| Entry::End(from, to)),
                "systemSuffix" => {
                    pair("systemIdSuffix", "uri").map(|(from, to)| Entry::End(from, to))
                }
                "delegateURI" => {
                    pair("uriStartString", "catalog").map(|(from, to)| Entry::Other(from, to))
                }
                "delegateSystem" => {
                    pair("systemIdStartString", "catalog").map(|(from, to)| Entry::Other(from, to))
                }
                "nextCatalog" => there("catalog").map(|to| Entry::Other(String::new(), to)),
                _ => None,
            };
            entries.extend(entry.filter(|_| element.name.namespace() == CATALOG));
            // The order of the document, though the last is looked at first.
            let inner: Vec<_> = element
                .children()
                .filter_map(|child| child.as_element())
                .map(|child| (child, base.clone()))
                .collect();
            left.extend(inner.into_iter().rev());
        }
        Some(Self(entries))
    }

    /// What it knows about a URI (section 7.2.2): what is said of just this, of what it begins with, of what it ends with, the
    /// longest first; else other catalogs.
    pub(super) fn find(&self, uri: &str) -> Option<Answer> {
        let public = public_identifier(uri);
        let whole = self.0.iter().find_map(|entry| match entry {
            Entry::Whole(from, to) if from == uri => Some(to.clone()),
            Entry::Public(from, to) if Some(from) == public.as_ref() => Some(to.clone()),
            _ => None,
        });
        let longest = |found: &mut dyn Iterator<Item = (usize, String)>| {
            found.max_by_key(|(length, _)| *length).map(|(_, to)| to)
        };
        let beginning = || {
            longest(&mut self.0.iter().filter_map(|entry| match entry {
                Entry::Beginning(from, to) => {
                    let rest = uri.strip_prefix(from.as_str())?;
                    Some((from.len(), format!("{to}{rest}")))
                }
                _ => None,
            }))
        };
        let end = || {
            longest(&mut self.0.iter().filter_map(|entry| match entry {
                Entry::End(from, to) if uri.ends_with(from) => Some((from.len(), to.clone())),
                _ => None,
            }))
        };
        if let Some(found) = whole.or_else(beginning).or_else(end) {
            return Some(Answer::Found(found));
        }
        let mut others: Vec<(usize, &String)> = self
            .0
            .iter()
            .filter_map(|entry| match entry {
                Entry::Other(from, to) if uri.starts_with(from.as_str()) => Some((from.len(), to)),
                _ => None,
            })
            .collect();
        others.sort_by_key(|(length, _)| std::cmp::Reverse(*length));
        let others: Vec<String> = others.into_iter().map(|(_, to)| to.clone()).collect();
        (!others.is_empty()).then_some(Answer::Ask(others))
    }
}

/// The public identifier that a URI is made of (section 6.4, RFC 3151).
fn public_identifier(uri: &str) -> Option<String> {
    let transcribed = uri.strip_prefix("urn:publicid:")?;
    let plain = transcribed.replace('+', " ").replace(':', "//").replace(';', "::");
    Some(without_blanks(&percent_decode_str(&plain).decode_utf8_lossy()))
}

/// A public identifier with its white space normalized (section 6.2).
fn without_blanks(identifier: &str) -> String {
    identifier.split_ascii_whitespace().collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use kyanite_formats::xml;
    use kyanite_tree::Arena;

    use super::*;

    #[test]
    fn answers() {
        let text = "<catalog xmlns='urn:oasis:names:tc:entity:xmlns:xml:catalog'>\
            <uri name='urn:a' uri='a.xsd'/><group xml:base='sub/'><system systemId='http://h/b.xsd' uri='b.xsd'/></group>\
            <rewriteURI uriStartString='http://h/' rewritePrefix='copies/'/><rewriteURI uriStartString='http://h/x/' rewritePrefix='x/'/>\
            <public publicId='-//Tarn//DTD  Pier:1//EN' uri='p.xsd'/><uriSuffix uriSuffix='/c.xsd' uri='c.xsd'/><delegateURI uriStartString='urn:d' catalog='d.xml'/><nextCatalog catalog='e.xml'/></catalog>";
        let arena = Arena::new();
        let document = xml::document(text, &arena, xml::Options::default()).unwrap();
        let catalog = Catalog::read(document.root, "file:///f/catalog.xml").unwrap();
        let found = |to: &str| Some(Answer::Found(format!("file:///f/{to}")));
        for (uri, expected) in [
            ("urn:a", found("a.xsd")),
            ("http://h/b.xsd", found("sub/b.xsd")),
            ("http://h/q/z.xsd", found("copies/q/z.xsd")),
            ("http://h/x/z.xsd", found("x/z.xsd")),
            ("http://other/c.xsd", found("c.xsd")),
            (
                "urn:d:1",
                Some(Answer::Ask(vec!["file:///f/d.xml".into(), "file:///f/e.xml".into()])),
            ),
            ("urn:publicid:-:Tarn:DTD+Pier%3A1:EN", found("p.xsd")),
            ("-//Tarn//DTD Pier:1//EN", Some(Answer::Ask(vec!["file:///f/e.xml".into()]))),
            ("urn:z", Some(Answer::Ask(vec!["file:///f/e.xml".into()]))),
        ] {
            assert_eq!(catalog.find(uri), expected, "{uri}");
        }
    }
}
