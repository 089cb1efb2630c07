//! The namespaces of an expression: those that were given, and those that the root of a document declares.

use std::collections::BTreeSet;

use kyanite_tree::{Advice, NodeKind, Nodes, Setting, near_words};

use crate::error::{Error, ErrorCode};

/// What prefixes mean, and names without one.
#[derive(Clone, Debug, Default)]
pub struct Namespaces {
    prefixes: Vec<(String, String)>,
    default: String,
    ignored: bool,
}

impl Namespaces {
    /// Names without a prefix are in no namespace, and prefixes mean what the root of the document declares.
    #[must_use]
    pub fn new() -> Self {
        Self::default()
    }

    /// Declares a prefix; an empty one is that of element names without a prefix.
    pub fn declare(&mut self, prefix: &str, uri: &str) {
        if prefix.is_empty() {
            uri.clone_into(&mut self.default);
        } else {
            self.prefixes.retain(|(known, _)| known != prefix);
            self.prefixes.push((prefix.to_owned(), uri.to_owned()));
        }
    }

    /// Matches names by their local part alone.
    pub fn ignore(&mut self) {
        self.ignored = true;
    }

    /// Whether names are matched by their local part alone.
    #[must_use]
    pub fn ignores(&self) -> bool {
        self.ignored
    }

    /// The namespace of element names without a prefix; empty for none.
    #[must_use]
    pub fn default_uri(&self) -> &str {
        &self.default
    }

    /// The namespace of a prefix that was declared for the expression.
    #[must_use]
    pub fn declared(&self, prefix: &str) -> Option<&str> {
        let is_it = |(known, _): &&(String, String)| known == prefix;
        self.prefixes.iter().find(is_it).map(|(_, uri)| uri.as_str())
    }

    /// The namespace that a prefix means in a document: as declared for the expression, else as the root element declares it,
    /// else as it is used in the document, if it means one namespace there.
    ///
    /// # Errors
    /// `XPST0081` where none of them says it.
    pub(crate) fn uri(&self, prefix: &str, nodes: &Nodes<'_>) -> Result<String, Error> {
        if prefix == "xml" {
            return Ok("http://www.w3.org/XML/1998/namespace".into());
        }
        if let Some(uri) = self.declared(prefix) {
            return Ok(uri.to_owned());
        }
        let root = nodes.root().children().find(|node| node.kind() == NodeKind::Element);
        if let Some(uri) = root.and_then(|root| {
            let mut own = root.declarations();
            own.find(|declaration| declaration.name().qualified() == prefix).map(|d| d.text())
        }) {
            return Ok(uri.to_owned());
        }
        // A prefix that is declared further down, or around an element that was taken out of its document, is known as well,
        // as long as it means one thing.
        let uris: BTreeSet<&str> = nodes
            .names()
            .filter(|name| name.prefix() == prefix)
            .map(|name| name.namespace())
            .collect();
        if let (1, Some(uri)) = (uris.len(), uris.first()) {
            return Ok((*uri).to_owned());
        }
        if let Some(uri) = uris.first() {
            let all: Vec<&str> = uris.iter().copied().collect();
            let message =
                format!("the prefix `{prefix}` means several namespaces: {}", all.join(", "));
            let setting = Setting::Namespace(prefix.to_owned(), (*uri).to_owned());
            let advice = Advice::words("say which one is meant: ").setting(setting);
            return Err(Error::unplaced(ErrorCode::Prefix, message).advise(advice));
        }
        let message = format!("the prefix `{prefix}` is not declared at the root of the document");
        let error = Error::unplaced(ErrorCode::Prefix, message);
        let known: Vec<String> = root
            .iter()
            .flat_map(|root| root.declarations())
            .map(|declaration| declaration.name().qualified().to_owned())
            .chain(self.prefixes.iter().map(|(prefix, _)| prefix.clone()))
            .filter(|prefix| !prefix.is_empty())
            .collect();
        let advice = near_words(prefix, known.iter().map(String::as_str)).unwrap_or_else(|| {
            if known.is_empty() {
                "no prefixes are declared there".into()
            } else {
                format!("declared are: {}", known.join(", "))
            }
        });
        let setting = Setting::Namespace(prefix.to_owned(), "URI".to_owned());
        Err(error
            .advise(Advice::words(advice).then("; what it means is said with ").setting(setting)))
    }
}
