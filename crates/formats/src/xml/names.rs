//! Prefixes and namespaces (Namespaces in XML 1.0, third edition).

use std::borrow::Borrow;
use std::cell::Cell;
use std::collections::HashMap;
use std::hash::Hash;

use kyanite_tree::Name;

use super::chars;

pub(super) const XML: &str = "http://www.w3.org/XML/1998/namespace";
const XMLNS: &str = "http://www.w3.org/2000/xmlns/";

/// The declarations of namespaces that are in scope, innermost last: prefixes, and what they stand for.
#[derive(Clone, Debug)]
pub(super) struct Bindings<S> {
    bindings: Vec<(S, S)>,
    /// The innermost declaration of each prefix.
    innermost: HashMap<S, usize>,
    /// For each declaration the one that it hides.
    hidden: Vec<Option<usize>>,
}

/// The most declarations that are looked through one by one.
const FEW: usize = 8;

impl<S> Default for Bindings<S> {
    fn default() -> Self {
        Self { bindings: Vec::new(), innermost: HashMap::new(), hidden: Vec::new() }
    }
}

impl<S: Clone + Eq + Hash + Borrow<str>> Bindings<S> {
    /// How many there are, for [`Self::leave`].
    #[inline]
    pub(super) fn len(&self) -> usize {
        self.bindings.len()
    }

    /// Binds a prefix.
    pub(super) fn bind(&mut self, prefix: S, uri: S) {
        self.hidden.push(self.innermost.insert(prefix.clone(), self.bindings.len()));
        self.bindings.push((prefix, uri));
    }

    /// Forgets all but the first `length`.
    #[inline]
    pub(super) fn leave(&mut self, length: usize) {
        while self.bindings.len() > length {
            self.unbind();
        }
    }

    #[cold]
    fn unbind(&mut self) {
        if let (Some((prefix, _)), Some(hidden)) = (self.bindings.pop(), self.hidden.pop()) {
            match hidden {
                Some(earlier) => self.innermost.insert(prefix, earlier),
                None => self.innermost.remove(prefix.borrow()),
            };
        }
    }

    /// What a prefix stands for.
    #[inline]
    pub(super) fn find(&self, prefix: &str) -> Option<&S> {
        if self.bindings.len() <= FEW {
            let known = |(known, _): &&(S, S)| Borrow::<str>::borrow(known) == prefix;
            return self.bindings.iter().rev().find(known).map(|(_, uri)| uri);
        }
        self.innermost.get(prefix).map(|innermost| &self.bindings[*innermost].1)
    }
}

/// The declarations of namespaces around what is read.
#[derive(Debug, Default)]
pub(super) struct Scope<'a> {
    bindings: Bindings<&'a str>,
    /// How often declarations came or went.
    changes: u64,
    /// Names that were resolved last, by [`Name::spread`], and after how many changes: a document has few, and asks for each of them
    /// again and again.
    resolved: [Cell<Option<(u64, Name<'a>)>>; RESOLVED],
}

/// The places for names that were resolved last.
const RESOLVED: usize = 16;

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
        bindings.iter().for_each(|(prefix, uri)| self.bindings.bind(prefix, uri));
        self.changes += 1;
    }

    /// The declarations since there were `depth` of them.
    pub(super) fn since(&self, depth: usize) -> &[(&'a str, &'a str)] {
        self.bindings.bindings.get(depth..).unwrap_or_default()
    }

    /// Forgets the declarations of an element that ends.
    #[inline]
    pub(super) fn leave(&mut self, depth: usize) {
        if self.bindings.len() > depth {
            self.bindings.leave(depth);
            self.changes += 1;
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
                self.bindings.bind(prefix, uri);
                self.changes += 1;
                Ok(())
            }
        }
    }

    fn find(&self, prefix: &str) -> Option<&'a str> {
        match prefix {
            "xml" => Some(XML),
            "xmlns" => Some(XMLNS),
            _ => self.bindings.find(prefix).copied(),
        }
    }

    /// The name of an element.
    #[inline]
    pub(super) fn element(&self, raw: &'a str) -> Result<Name<'a>, Wrong> {
        if self.bindings.len() == 0 && memchr::memchr(b':', raw.as_bytes()).is_none() {
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

    #[inline]
    fn resolve(&self, raw: &'a str, is_element: bool) -> Result<Name<'a>, Wrong> {
        let kept = &self.resolved[Name::spread(raw) % RESOLVED];
        if let Some((changes, name)) = kept.get()
            && changes == self.changes
            && name.is_written(raw)
        {
            return Ok(name);
        }
        let name = self.resolve_anew(raw, is_element)?;
        // Of this prefix attributes have names, and elements do not.
        if name.prefix() != "xmlns" {
            kept.set(Some((self.changes, name)));
        }
        Ok(name)
    }

    fn resolve_anew(&self, raw: &'a str, is_element: bool) -> Result<Name<'a>, Wrong> {
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
