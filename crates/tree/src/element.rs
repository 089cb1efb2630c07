//! Elements: what an XML document is made of (XML Information Set).
//!
//! A document is itself an element, one without a name, whose content is what stands at the top of the text: comments,
//! processing instructions and the root element.

use crate::{Origin, Value};

/// The name of an element or attribute (Namespaces in XML 1.0, section 4).
#[derive(Clone, Copy, Debug)]
pub struct Name<'a> {
    qualified: &'a str,
    namespace: &'a str,
    local_at: usize,
}

impl PartialEq for Name<'_> {
    #[inline]
    fn eq(&self, other: &Self) -> bool {
        is_same_name(self.qualified, other.qualified)
            && is_same_name(self.namespace, other.namespace)
    }
}

impl Eq for Name<'_> {}

/// Whether two names, or parts of names, are the same: these are short and mostly are, so they are compared without a call.
#[inline]
#[must_use]
pub fn is_same_name(a: &str, b: &str) -> bool {
    let (a, b) = (a.as_bytes(), b.as_bytes());
    if a.len() != b.len() {
        return false;
    }
    // Both ends together are all of it.
    match a.len() {
        0 => true,
        1..4 => a.iter().eq(b),
        4..8 => a.first_chunk::<4>() == b.first_chunk() && a.last_chunk::<4>() == b.last_chunk(),
        8..=16 => a.first_chunk::<8>() == b.first_chunk() && a.last_chunk::<8>() == b.last_chunk(),
        _ => std::ptr::eq(a, b) || a == b,
    }
}

impl<'a> Name<'a> {
    /// The name written as `qualified`, with its prefix, in `namespace` (empty for none).
    #[must_use]
    pub fn new(qualified: &'a str, namespace: &'a str) -> Self {
        let local_at = qualified.bytes().position(|b| b == b':').map_or(0, |colon| colon + 1);
        Self { qualified, namespace, local_at }
    }

    /// A name without a prefix and in no namespace.
    #[must_use]
    pub fn plain(local: &'a str) -> Self {
        Self { qualified: local, namespace: "", local_at: 0 }
    }

    /// A number that the names of one document seldom share, for small tables of those that were met last: it is told by the
    /// length of the name as written, its first byte and its last two.
    #[inline]
    #[must_use]
    pub fn spread(qualified: &str) -> usize {
        let ends = match qualified.as_bytes() {
            [] => 0,
            [first, .., middle, last] => {
                usize::from(*first) * 5 + usize::from(*middle) * 3 + usize::from(*last)
            }
            [first, ..] => usize::from(*first),
        };
        qualified.len() + ends
    }

    /// Whether that is how it is written, with its prefix.
    #[inline]
    #[must_use]
    pub fn is_written(self, qualified: &str) -> bool {
        is_same_name(self.qualified, qualified)
    }

    /// The name as written, with its prefix.
    #[inline]
    #[must_use]
    pub fn qualified(self) -> &'a str {
        self.qualified
    }

    /// The name without its prefix.
    #[inline]
    #[must_use]
    pub fn local(self) -> &'a str {
        &self.qualified[self.local_at..]
    }

    /// The prefix, empty when there is none.
    #[must_use]
    pub fn prefix(self) -> &'a str {
        &self.qualified[..self.local_at.saturating_sub(1)]
    }

    /// The namespace's URI, empty when the name is in none.
    #[must_use]
    pub fn namespace(self) -> &'a str {
        self.namespace
    }

    /// Whether the name declares a namespace: `xmlns`, `xmlns:p`.
    #[must_use]
    pub fn declares_namespace(self) -> bool {
        self.qualified
            .strip_prefix("xmlns")
            .is_some_and(|rest| rest.is_empty() || rest.starts_with(':'))
    }

    /// Whether a step called `name` means it: by its local name in any namespace or, when the step is written with a
    /// prefix, as written. A declaration of a namespace is meant only as written.
    #[inline]
    #[must_use]
    pub fn is_called(self, name: &str) -> bool {
        (self.local() == name && (self.local_at == 0 || !self.declares_namespace()))
            || (self.local_at > 0 && self.qualified == name)
    }
}

/// An attribute of an element; declarations of namespaces are among them.
#[derive(Clone, Copy, Debug)]
pub struct Attribute<'a> {
    /// Its name.
    pub name: Name<'a>,
    /// Its normalized value (XML 1.0 section 3.3.3).
    pub value: &'a str,
    /// Where the value was read.
    pub origin: Origin,
}

impl<'a> Attribute<'a> {
    /// The value of the attribute in the tree.
    #[must_use]
    pub fn to_value(&self) -> Value<'a> {
        Value::Untyped(self.origin, self.value)
    }
}

/// One piece of the content of an element.
#[derive(Clone, Copy, Debug)]
pub enum Content<'a> {
    /// A child element.
    Element(Origin, &'a Element<'a>),
    /// Characters.
    Text(Origin, &'a str),
    /// A comment.
    Comment(Origin, &'a str),
    /// A processing instruction: its target and its data.
    Instruction(Origin, &'a (&'a str, &'a str)),
    /// The document type declaration, as written.
    DocumentType(Origin, &'a str),
}

impl Content<'_> {
    /// Where it was read.
    #[must_use]
    pub fn origin(&self) -> Origin {
        match self {
            Self::Element(origin, _)
            | Self::Text(origin, _)
            | Self::Comment(origin, _)
            | Self::Instruction(origin, _)
            | Self::DocumentType(origin, _) => *origin,
        }
    }

    /// Whether it is text of blanks and line ends only.
    #[must_use]
    pub fn is_blank(&self) -> bool {
        matches!(self, Self::Text(_, text) if is_blank(text))
    }
}

/// Whether a text is only white space (XML 1.0 section 2.3).
#[must_use]
pub fn is_blank(text: &str) -> bool {
    text.bytes().all(|byte| matches!(byte, b' ' | b'\t' | b'\n' | b'\r'))
}

/// An element, or a whole document.
#[derive(Clone, Copy, Debug)]
pub struct Element<'a> {
    /// Its name; empty for a document.
    pub name: Name<'a>,
    /// Its attributes, in the order they were written.
    pub attributes: &'a [Attribute<'a>],
    /// Its content, in order.
    pub content: &'a [Content<'a>],
    /// All its text, when it has no child elements.
    pub text: Option<&'a str>,
}

impl<'a> Element<'a> {
    /// Whether it is a document, and not an element in one.
    #[must_use]
    pub fn is_document(&self) -> bool {
        self.name.qualified.is_empty()
    }

    /// The child elements, in order.
    pub fn children(&self) -> impl Iterator<Item = Value<'a>> + use<'a> {
        self.content.iter().filter_map(|node| match node {
            Content::Element(origin, element) => Some(Value::Element(*origin, element)),
            _ => None,
        })
    }

    /// The child elements that a step called `name` means.
    pub fn children_called<'n>(
        &self,
        name: &'n str,
    ) -> impl Iterator<Item = Value<'a>> + use<'a, 'n> {
        self.content.iter().filter_map(move |node| match node {
            Content::Element(origin, element) if element.name.is_called(name) => {
                Some(Value::Element(*origin, element))
            }
            _ => None,
        })
    }

    /// The attribute that a step called `name` means; one without a namespace is preferred.
    #[must_use]
    pub fn attribute(&self, name: &str) -> Option<&'a Attribute<'a>> {
        let mut found = self.attributes.iter().filter(|attribute| attribute.name.is_called(name));
        let first = found.next()?;
        if first.name.prefix().is_empty() {
            return Some(first);
        }
        Some(found.find(|attribute| attribute.name.prefix().is_empty()).unwrap_or(first))
    }

    /// All text in it and in the elements below (XPath 1.0 section 5.2).
    pub fn string_value(&self, out: &mut String) {
        if let Some(text) = self.text {
            out.push_str(text);
            return;
        }
        // An explicit stack: documents may nest deeper than the program's.
        let mut open = vec![self.content.iter()];
        while let Some(nodes) = open.last_mut() {
            match nodes.next() {
                None => {
                    open.pop();
                }
                Some(Content::Text(_, text)) => out.push_str(text),
                Some(Content::Element(_, element)) => match element.text {
                    Some(text) => out.push_str(text),
                    None => open.push(element.content.iter()),
                },
                Some(_) => {}
            }
        }
    }
}
