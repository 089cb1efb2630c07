//! Prefixes and namespaces (Namespaces in XML 1.0, third edition).

use std::collections::HashMap;

use kyanite_tree::Name;

use super::chars;

const XML: &str = "http://www.w3.org/XML/1998/namespace";
const XMLNS: &str = "http://www.w3.org/2000/xmlns/";

/// The declarations of namespaces that are in scope, innermost last.
#[derive(Debug, Default)]
pub(super) struct Scope<'a> {
    /// Prefixes, and what they stand for.
    bindings: Vec<(&'a str, &'a str)>,
    /// The innermost declaration of each prefix.
    innermost: HashMap<&'a str, usize>,
    /// For each declaration the one that it hides.
    hidden: Vec<Option<usize>>,
}

/// Up to so many declarations are looked through one by one.
const FEW: usize = 8;

/// What is wrong with a name or a declaration: the sentence and what to do.
pub(super) type Wrong = (String, &'static str);

impl<'a> Scope<'a> {
    /// How many declarations there are, for [`Self::leave`].
    #[inline]
    pub(super) fn depth(&self) -> usize {
        self.bindings.len()
    }

    /// Takes up the declarations of an element that is open already.
    pub(super) fn enter(&mut self, bindings: &[(&'a str, &'a str)]) {
        bindings.iter().for_each(|(prefix, uri)| self.bind(prefix, uri));
    }

    fn bind(&mut self, prefix: &'a str, uri: &'a str) {
        self.hidden.push(self.innermost.insert(prefix, self.bindings.len()));
        self.bindings.push((prefix, uri));
    }

    /// The declarations since there were `depth` of them.
    pub(super) fn since(&self, depth: usize) -> &[(&'a str, &'a str)] {
        self.bindings.get(depth..).unwrap_or_default()
    }

    /// Forgets the declarations of an element that ends.
    #[inline]
    pub(super) fn leave(&mut self, depth: usize) {
        while self.bindings.len() > depth {
            self.unbind();
        }
    }

    #[cold]
    fn unbind(&mut self) {
        if let (Some((prefix, _)), Some(hidden)) = (self.bindings.pop(), self.hidden.pop()) {
            match hidden {
                Some(earlier) => self.innermost.insert(prefix, earlier),
                None => self.innermost.remove(prefix),
            };
        }
    }

    /// Takes the attribute called `name` as a declaration, if it is one.
    pub(super) fn declare(&mut self, name: &'a str, uri: &'a str) -> Result<(), Wrong> {
        let prefix = match name.strip_prefix("xmlns") {
            Some("") => "",
            Some(rest) if rest.starts_with(':') => &rest[1..],
            _ => return Ok(()),
        };
        let wrong = match (prefix, uri) {
            ("xmlns", _) => Some("the prefix xmlns is not to be declared"),
            ("xml", XML) => None,
            ("xml", _) => Some("the prefix xml stands for another namespace"),
            (_, XML) => Some("this namespace has the prefix xml, and no other"),
            (_, XMLNS) => Some("this namespace is not to be declared"),
            ("", "") => None,
            (_, "") => Some("a prefix cannot be declared for no namespace"),
            _ => None,
        };
        match wrong {
            Some(wrong) => Err((
                wrong.into(),
                "Namespaces in XML 1.0, section 3, says so; take the declaration away",
            )),
            None => {
                self.bind(prefix, uri);
                Ok(())
            }
        }
    }

    fn find(&self, prefix: &str) -> Option<&'a str> {
        match prefix {
            "xml" => Some(XML),
            "xmlns" => Some(XMLNS),
            _ if self.bindings.len() <= FEW => {
                let found = self.bindings.iter().rev().find(|(declared, _)| *declared == prefix);
                found.map(|(_, uri)| *uri)
            }
            _ => self.innermost.get(prefix).map(|innermost| self.bindings[*innermost].1),
        }
    }

    /// The name of an element.
    #[inline]
    pub(super) fn element(&self, raw: &'a str) -> Result<Name<'a>, Wrong> {
        if self.bindings.is_empty() && memchr::memchr(b':', raw.as_bytes()).is_none() {
            return Ok(Name::plain(raw));
        }
        self.resolve(raw, true)
    }

    /// The name of an attribute.
    #[inline]
    pub(super) fn attribute(&self, raw: &'a str) -> Result<Name<'a>, Wrong> {
        if memchr::memchr(b':', raw.as_bytes()).is_none() {
            return Ok(Name::new(raw, if raw == "xmlns" { XMLNS } else { "" }));
        }
        self.resolve(raw, false)
    }

    fn resolve(&self, raw: &'a str, is_element: bool) -> Result<Name<'a>, Wrong> {
        if !chars::is_qualified(raw) {
            let message = format!(
                "`{raw}` is no name with a prefix: names stand before and behind one colon"
            );
            return Err((message, "take the colon away"));
        }
        let prefix = Name::new(raw, "").prefix();
        if is_element && prefix == "xmlns" {
            return Err((
                "an element cannot have the prefix xmlns".into(),
                "choose another prefix",
            ));
        }
        match self.find(prefix) {
            Some(uri) => Ok(Name::new(raw, uri)),
            None if prefix.is_empty() => Ok(Name::new(raw, "")),
            None => Err((
                format!("the prefix `{prefix}` is not declared"),
                "declare it on this element or one around it: xmlns:prefix=\"uri\"",
            )),
        }
    }
}
