//! The namespaces that a rule's header declares.

use kyanite_tree::Name;

/// The namespaces that a rule's header declares, by their prefixes; the empty one is that of names without prefix that elements
/// are made with.
#[derive(Clone, Debug, Default)]
pub(crate) struct Namespaces(Vec<(String, String)>);

impl Namespaces {
    /// All prefixes, with what they stand for.
    pub(crate) fn all(&self) -> impl Iterator<Item = (&str, &str)> {
        self.0.iter().map(|(prefix, uri)| (prefix.as_str(), uri.as_str()))
    }

    /// Declares a prefix; tells whether it was none before.
    pub(crate) fn declare(&mut self, prefix: &str, uri: &str) -> bool {
        let is_new = self.find(prefix).is_none();
        self.0.push((prefix.to_owned(), uri.to_owned()));
        is_new
    }

    /// The namespace that a prefix stands for.
    pub(crate) fn find(&self, prefix: &str) -> Option<&str> {
        self.0.iter().find(|(known, _)| known == prefix).map(|(_, uri)| uri.as_str())
    }

    /// A name that an element or attribute is given. A prefix that is not declared here may be declared around the element.
    pub(crate) fn name<'a>(&'a self, qualified: &'a str, is_attribute: bool) -> Name<'a> {
        let name = Name::new(qualified, "");
        match name.prefix() {
            "" if is_attribute => name,
            prefix => self.find(prefix).map_or(name, |uri| Name::new(qualified, uri)),
        }
    }
}
