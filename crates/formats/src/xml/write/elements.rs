//! Elements as they were read or made, with the namespaces that they need.

use indexmap::IndexMap;
use kyanite_tree::{Attribute, Content, Element, Name, Origin};

use super::{Level, Writer, check_name, close, start};
use crate::record_view::{is_layout, preserves_space};
use crate::target::Target;
use crate::xml::escape::{Written, escape_text, write_attribute};
use crate::xml::names::Bindings;

impl Writer {
    /// An element that was read or made as one, under `name`; `own` is its own name, if it keeps that.
    pub(super) fn element(
        &mut self,
        name: &str,
        own: Option<Name<'_>>,
        element: &Element<'_>,
        origin: Origin,
        level: Level,
        out: &mut impl Target,
    ) -> Written {
        let scope = self.scope.len();
        let is_made = !origin.is_known();
        check_name(name, origin)?;
        if self.layout.without_namespaces && !is_made {
            let attributes = element.attributes.iter().map(|a| (a.name, a.origin));
            let names = own.map(|own| (own, origin)).into_iter().chain(attributes);
            let shared = names.filter(|(name, _)| !name.namespace().is_empty());
            self.shared_names.extend(shared.map(|(_, origin)| origin));
        }
        start(name, out.bytes());
        for attribute in element.attributes {
            let Some(prefix) = declared_prefix(attribute) else {
                let name = attribute.name.qualified();
                write_attribute(name, attribute.value, attribute.origin, out.bytes())?;
                continue;
            };
            // What a rule declares is written where it is not declared already.
            if !is_made || self.scope.find(prefix).map(AsRef::as_ref) != Some(attribute.value) {
                let name = attribute.name.qualified();
                write_attribute(name, attribute.value, attribute.origin, out.bytes())?;
                self.scope.bind(prefix.into(), attribute.value.into());
            }
        }
        // An element taken out of its document takes the namespaces along that were declared around it.
        match own {
            // A name without a namespace that a rule gives is one of those around it.
            Some(own)
                if is_made && own.qualified() == own.local() && own.namespace().is_empty() => {}
            Some(own) => self.declare(own, true, out.bytes())?,
            None => self.check_prefix(name, origin)?,
        }
        for attribute in element.attributes.iter().filter(|a| !a.name.declares_namespace()) {
            self.declare(attribute.name, false, out.bytes())?;
        }
        let is_outermost = is_made && !self.in_made;
        if is_outermost {
            self.in_made = true;
            for (prefix, uri) in prefixes(element) {
                if self.scope.find(prefix).is_none() {
                    self.declare_as(prefix, uri, out.bytes())?;
                }
            }
        }
        let written = self.content(name, element, is_made, level, out);
        if is_outermost {
            self.in_made = false;
        }
        self.scope.leave(scope);
        written
    }

    /// What stands in an element, with its end tag. Only what a rule made is laid out, unless all is to be.
    fn content(
        &mut self,
        name: &str,
        element: &Element<'_>,
        is_made: bool,
        level: Level,
        out: &mut impl Target,
    ) -> Written {
        if element.content.is_empty() {
            out.bytes().extend_from_slice(b"/>");
            return Ok(());
        }
        out.bytes().push(b'>');
        let may_lay_out = (is_made || self.layout.relay) && !holds_text(element, is_made);
        let inner = level.filter(|_| may_lay_out).map(|level| level + 1);
        for node in element.content {
            match node {
                Content::Element(at, child) => {
                    self.line(inner, out.bytes());
                    let name = child.name;
                    self.element(name.qualified(), Some(name), child, *at, inner, out)?;
                    out.part();
                }
                // What was layout is laid out anew.
                Content::Text(..) if inner.is_some() => {}
                Content::Text(at, text) => escape_text(text, *at, out.bytes())?,
                other => {
                    self.line(inner, out.bytes());
                    markup(other, out.bytes());
                }
            }
        }
        self.line(inner.and(level), out.bytes());
        close(name, out.bytes());
        Ok(())
    }

    /// Declares the namespace of a name where it is not declared already.
    fn declare(&mut self, name: Name<'_>, is_element: bool, out: &mut Vec<u8>) -> Written {
        let (prefix, uri) = (name.prefix(), name.namespace());
        if prefix.is_empty() && !is_element {
            return Ok(());
        }
        if !prefix.is_empty() && uri.is_empty() {
            return self.check_prefix(name.qualified(), Origin::NONE);
        }
        let known = self.scope.find(prefix).map_or("", AsRef::as_ref);
        if known == uri || prefix == "xmlns" {
            return Ok(());
        }
        self.declare_as(prefix, uri, out)
    }

    /// Declares a prefix.
    fn declare_as(&mut self, prefix: &str, uri: &str, out: &mut Vec<u8>) -> Written {
        let attribute =
            if prefix.is_empty() { "xmlns".to_owned() } else { format!("xmlns:{prefix}") };
        write_attribute(&attribute, uri, Origin::NONE, out)?;
        self.scope.bind(prefix.into(), uri.into());
        Ok(())
    }
}

/// The prefix that an attribute declares; the empty one is that of names without prefix.
fn declared_prefix<'a>(attribute: &Attribute<'a>) -> Option<&'a str> {
    let rest = attribute.name.qualified().strip_prefix("xmlns")?;
    if rest.is_empty() { Some("") } else { rest.strip_prefix(':') }
}

/// The prefixes of names in an element and what they stand for, but for those that are declared in it, so that they are declared
/// once for all of it.
fn prefixes<'a>(element: &Element<'a>) -> Vec<(&'a str, &'a str)> {
    let (mut projected_elements, mut scope) = (IndexMap::new(), Bindings::default());
    add_prefixes(element, &mut scope, &mut projected_elements);
    projected_elements.into_iter().collect()
}

fn add_prefixes<'a>(
    element: &Element<'a>,
    scope: &mut Bindings<&'a str>,
    projected_elements: &mut IndexMap<&'a str, &'a str>,
) {
    let around = scope.len();
    for attribute in element.attributes {
        if let Some(prefix) = declared_prefix(attribute) {
            scope.bind(prefix, attribute.value);
        }
    }
    let attributes = element.attributes.iter().map(|attribute| attribute.name);
    for name in attributes.chain([element.name]) {
        let (prefix, uri) = (name.prefix(), name.namespace());
        let is_free = !prefix.is_empty() && prefix != "xmlns" && !uri.is_empty();
        if is_free && scope.find(prefix) != Some(&uri) {
            // Of two that want the same prefix the first is declared here, the other where it stands.
            projected_elements.entry(prefix).or_insert(uri);
        }
    }
    for node in element.content {
        if let Content::Element(_, child) = node {
            add_prefixes(child, scope, projected_elements);
        }
    }
    scope.leave(around);
}

/// Whether an element holds text that is more than layout, as all is that a rule gives: then blanks and line ends in it would be
/// content.
fn holds_text(element: &Element<'_>, is_made: bool) -> bool {
    let is_text =
        |node: &Content<'_>| matches!(node, Content::Text(_, text) if is_made || !is_layout(text));
    element.text.is_some() || preserves_space(element) || element.content.iter().any(is_text)
}

/// Comments, processing instructions and document types as they were read.
pub(super) fn markup(node: &Content<'_>, out: &mut Vec<u8>) {
    match node {
        Content::Comment(_, text) => {
            out.extend_from_slice(b"<!--");
            // Only a repair lets hyphens in that stand together, or at the end.
            let apart = text.replace("--", "- -").replace("--", "- -");
            out.extend_from_slice(apart.as_bytes());
            if apart.ends_with('-') {
                out.push(b' ');
            }
            out.extend_from_slice(b"-->");
        }
        Content::Instruction(_, (target, data)) => {
            out.extend_from_slice(b"<?");
            out.extend_from_slice(target.as_bytes());
            if !data.is_empty() {
                out.push(b' ');
                out.extend_from_slice(data.as_bytes());
            }
            out.extend_from_slice(b"?>");
        }
        Content::DocumentType(_, text) => out.extend_from_slice(text.as_bytes()),
        Content::Element(..) | Content::Text(..) => {}
    }
}
