//! The XML writer: elements as they are, and maps and lists by the [record view](crate::record_view).

mod elements;

use kyanite_tree::{Content, Element, Map, Name, Origin, Value};

use super::chars;
use super::escape::{Written, escape_text, write_attribute};
use super::names::{Bindings, XML};
use crate::error::{CannotHold, cannot_hold};
use crate::losses::{Loss, Losses};
use crate::record_view::{ATTRIBUTE, CONTENT, TEXT};
use crate::target::Target;
use elements::markup;

/// How XML is laid out.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Layout {
    /// Blanks a level; none for all on one line.
    pub indent: Option<usize>,
    /// Whether elements that were read are laid out anew as well; else their text stays as it was.
    pub relay: bool,
    /// The name of the root element; that of the only member of a map unless said, else `root`.
    pub root: Option<String>,
    /// Whether the document begins with an XML declaration.
    pub declaration: bool,
    /// The name of the elements that items of a list get.
    pub item: String,
    /// Whether names that were read were to do without their namespaces, so that one that has its own is to be told.
    pub without_namespaces: bool,
}

impl Default for Layout {
    fn default() -> Self {
        Self {
            indent: Some(2),
            relay: false,
            root: None,
            declaration: true,
            item: "item".into(),
            without_namespaces: false,
        }
    }
}

/// The name of a root element that nothing names.
const ROOT: &str = "root";

/// Whether `name` can be the name of an element or attribute (Namespaces in XML 1.0, section 4).
#[must_use]
pub fn is_name(name: &str) -> bool {
    chars::is_name(name) && chars::is_qualified(name)
}

/// Refuses a name that no element can have.
fn check_name(name: &str, origin: Origin) -> Result<(), CannotHold> {
    if is_name(name) {
        return Ok(());
    }
    Err(cannot_hold(
        format!("`{name}` cannot be a name in XML"),
        "rename the member: names begin with a letter or _, and go on with letters, digits, - . _",
        origin,
    ))
}

/// Appends a whole document to `out`.
///
/// # Errors
/// [`CannotHold`] for what XML has no way to write.
pub fn write(
    value: Value<'_>,
    layout: &Layout,
    out: &mut impl Target,
    losses: &mut Losses,
) -> Result<(), CannotHold> {
    let mut writer = Writer::new(layout.clone());
    writer.document(value, out, losses)?;
    writer.tell(losses);
    writer.finish(out.bytes());
    Ok(())
}

/// Writes one document, whole or the items of its root one by one.
#[derive(Clone, Debug)]
pub struct Writer {
    layout: Layout,
    /// The name of the root that items are being written into.
    open: Option<String>,
    /// Prefixes that are declared where the writer is.
    scope: Bindings<Box<str>>,
    /// Whether what is written is inside an element that was made.
    in_made: bool,
    /// Where names are that kept their namespaces since others have them, too.
    shared_names: Vec<Origin>,
}

/// How far in an element stands: its level, or None where blanks would be content.
type Level = Option<usize>;

impl Writer {
    /// A writer of one document.
    #[must_use]
    pub fn new(layout: Layout) -> Self {
        let mut scope = Bindings::default();
        scope.bind("xml".into(), XML.into());
        Self { layout, open: None, scope, in_made: false, shared_names: Vec::new() }
    }

    /// A prefix is declared around what is written.
    pub fn declared(&mut self, prefix: &str, uri: &str) {
        self.scope.bind(prefix.into(), uri.into());
    }

    /// Appends an element called `name` with a value in it, whose children stand one level further in than `level`.
    ///
    /// # Errors
    /// [`CannotHold`].
    pub fn member(
        &mut self,
        name: &str,
        value: Value<'_>,
        level: usize,
        out: &mut Vec<u8>,
        losses: &mut Losses,
    ) -> Written {
        let level = self.layout.indent.map(|_| level);
        self.named(name, value, level, out, losses)
    }

    /// Appends an item of a list that is the document.
    ///
    /// # Errors
    /// [`CannotHold`].
    pub fn item(&mut self, value: Value<'_>, out: &mut Vec<u8>, losses: &mut Losses) -> Written {
        self.begin(out)?;
        let level = self.layout.indent.map(|_| 1);
        self.line(level, out);
        self.list_item(value, level, out, losses)?;
        self.tell(losses);
        Ok(())
    }

    /// Counts the names that kept their namespaces.
    fn tell(&mut self, losses: &mut Losses) {
        self.shared_names.drain(..).for_each(|origin| losses.add(Loss::Name, origin));
    }

    /// Appends the end of the document, after the last item.
    ///
    /// # Errors
    /// [`CannotHold`] when the root cannot be named.
    pub fn end_items(&mut self, out: &mut Vec<u8>) -> Written {
        self.begin(out)?;
        if let Some(root) = self.open.take() {
            self.line(self.layout.indent.map(|_| 0), out);
            close(&root, out);
        }
        self.finish(out);
        Ok(())
    }

    fn begin(&mut self, out: &mut Vec<u8>) -> Written {
        if self.open.is_none() {
            let root = self.layout.root.clone().unwrap_or_else(|| ROOT.into());
            check_name(&root, Origin::NONE)?;
            self.declaration(out);
            out.push(b'<');
            out.extend_from_slice(root.as_bytes());
            out.push(b'>');
            self.open = Some(root);
        }
        Ok(())
    }

    fn declaration(&self, out: &mut Vec<u8>) {
        if self.layout.declaration {
            out.extend_from_slice(b"<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n");
        }
    }

    fn finish(&self, out: &mut Vec<u8>) {
        if out.last() != Some(&b'\n') {
            out.push(b'\n');
        }
    }

    fn document(
        &mut self,
        value: Value<'_>,
        out: &mut impl Target,
        losses: &mut Losses,
    ) -> Written {
        self.declaration(out.bytes());
        let level = self.layout.indent.map(|_| 0);
        match (value, &self.layout.root) {
            (Value::Element(_, document), None) if document.is_document() => {
                self.top(document, out)
            }
            (Value::Element(origin, element), None) => self.element(
                element.name.qualified(),
                Some(element.name),
                element,
                origin,
                level,
                out,
            ),
            (Value::Map(_, map), None) if only_root(map).is_some() => match only_root(map) {
                Some((name, inner)) => self.named(name, inner, level, out, losses),
                None => Ok(()),
            },
            (value, root) => {
                let root = root.clone().unwrap_or_else(|| ROOT.into());
                self.named(&root, value, level, out, losses)
            }
        }
    }

    /// What stands at the top of a document that was read.
    fn top(&mut self, document: &Element<'_>, out: &mut impl Target) -> Written {
        for node in document.content {
            match node {
                Content::Element(origin, element) => {
                    let level = self.layout.indent.map(|_| 0);
                    let name = element.name;
                    self.element(name.qualified(), Some(name), element, *origin, level, out)?;
                }
                other => markup(other, out.bytes()),
            }
            out.bytes().push(b'\n');
        }
        Ok(())
    }

    fn line(&self, level: Level, out: &mut Vec<u8>) {
        if let (Some(step), Some(level)) = (self.layout.indent, level) {
            out.push(b'\n');
            out.resize(out.len() + step * level, b' ');
        }
    }

    /// An item of a list where elements have no names: a map of one member in `#content` has one.
    fn list_item(
        &mut self,
        value: Value<'_>,
        level: Level,
        out: &mut impl Target,
        losses: &mut Losses,
    ) -> Written {
        if let Value::Element(origin, element) = value {
            if let Some(root) = element.children().next().filter(|_| element.is_document()) {
                return self.list_item(root, level, out, losses);
            }
            let name = element.name;
            return self.element(name.qualified(), Some(name), element, origin, level, out);
        }
        let item = self.layout.item.clone();
        self.named(&item, value, level, out, losses)
    }

    /// An element called `name` with a value in it.
    fn named(
        &mut self,
        name: &str,
        value: Value<'_>,
        level: Level,
        out: &mut impl Target,
        losses: &mut Losses,
    ) -> Written {
        let origin = value.origin();
        check_name(name, origin)?;
        match value {
            Value::Element(origin, element) if element.is_document() => {
                match element.children().next() {
                    Some(root) => {
                        start(name, out.bytes());
                        out.bytes().push(b'>');
                        let inner = level.map(|level| level + 1);
                        self.line(inner, out.bytes());
                        self.list_item(root, inner, out, losses)?;
                        self.line(level, out.bytes());
                        close(name, out.bytes());
                        Ok(())
                    }
                    None => self.element(name, None, element, origin, level, out),
                }
            }
            Value::Element(origin, element) => {
                self.element(name, None, element, origin, level, out)
            }
            Value::Map(_, map) => self.map(name, map, origin, level, out, losses),
            Value::List(_, items) => {
                self.check_prefix(name, origin)?;
                start(name, out.bytes());
                if items.is_empty() {
                    losses.add(Loss::EmptyList, origin);
                    out.bytes().extend_from_slice(b"/>");
                    return Ok(());
                }
                out.bytes().push(b'>');
                for item in items {
                    let inner = level.map(|level| level + 1);
                    self.line(inner, out.bytes());
                    self.list_item(*item, inner, out, losses)?;
                    out.part();
                }
                self.line(level, out.bytes());
                close(name, out.bytes());
                Ok(())
            }
            Value::Null(_) => {
                self.check_prefix(name, origin)?;
                losses.add(Loss::Null, origin);
                start(name, out.bytes());
                out.bytes().extend_from_slice(b"/>");
                Ok(())
            }
            scalar => {
                self.check_prefix(name, origin)?;
                let text = scalar.scalar_text().unwrap_or_default();
                start(name, out.bytes());
                if text.is_empty() {
                    out.bytes().extend_from_slice(b"/>");
                    return Ok(());
                }
                out.bytes().push(b'>');
                escape_text(text, origin, out.bytes())?;
                close(name, out.bytes());
                Ok(())
            }
        }
    }

    /// An element that a map describes.
    fn map(
        &mut self,
        name: &str,
        map: &Map<'_>,
        origin: Origin,
        level: Level,
        out: &mut impl Target,
        losses: &mut Losses,
    ) -> Written {
        let scope = self.scope.len();
        for member in map.members() {
            let prefix = match member.name.strip_prefix("@xmlns") {
                Some("") => "",
                Some(rest) if rest.starts_with(':') => &rest[1..],
                _ => continue,
            };
            let uri = member.value.scalar_text().unwrap_or_default();
            self.scope.bind(prefix.into(), uri.into());
        }
        self.check_prefix(name, origin)?;
        start(name, out.bytes());
        let mut children = 0;
        let mut is_mixed = false;
        for member in map.members() {
            let Some(attribute) = member.name.strip_prefix(ATTRIBUTE) else {
                children += 1;
                is_mixed |=
                    member.name == TEXT || (member.name == CONTENT && has_text(member.value));
                continue;
            };
            let at = member.value.origin();
            check_name(attribute, at)?;
            if Name::new(attribute, "").prefix() != "xmlns" {
                self.check_prefix(attribute, at)?;
            }
            let text = match member.value {
                Value::Null(_) => {
                    losses.add(Loss::Null, at);
                    continue;
                }
                value => value.scalar_text().ok_or_else(|| {
                    cannot_hold(
                        format!(
                            "the attribute `{attribute}` has {}, and an attribute holds text",
                            value.kind().phrase()
                        ),
                        "leave the @ away for a child element",
                        at,
                    )
                })?,
            };
            write_attribute(attribute, text, at, out.bytes())?;
        }
        if children == 0 {
            if map.is_empty() {
                losses.add(Loss::EmptyMap, origin);
            }
            out.bytes().extend_from_slice(b"/>");
            self.scope.leave(scope);
            return Ok(());
        }
        out.bytes().push(b'>');
        let inner = level.filter(|_| !is_mixed).map(|level| level + 1);
        for member in map.members().iter().filter(|member| !member.name.starts_with(ATTRIBUTE)) {
            match (member.name, member.value) {
                (TEXT, value) => self.text(value, out.bytes())?,
                (CONTENT, Value::List(_, items)) => {
                    for item in items {
                        self.content_item(*item, inner, out, losses)?;
                        out.part();
                    }
                }
                (name, Value::List(at, items)) => {
                    self.repeated(name, at, items, inner, out, losses)?
                }
                (name, value) => {
                    self.line(inner, out.bytes());
                    self.named(name, value, inner, out, losses)?;
                    out.part();
                }
            }
        }
        if inner.is_some() && out.bytes().last() == Some(&b'>') {
            self.line(level, out.bytes());
        }
        close(name, out.bytes());
        self.scope.leave(scope);
        Ok(())
    }

    /// An element for each item of a list that is a member.
    fn repeated(
        &mut self,
        name: &str,
        origin: Origin,
        items: &[Value<'_>],
        level: Level,
        out: &mut impl Target,
        losses: &mut Losses,
    ) -> Written {
        if items.is_empty() {
            check_name(name, origin)?;
            losses.add(Loss::EmptyList, origin);
        }
        for item in items {
            if matches!(item, Value::List(..)) {
                losses.add(Loss::NestedList, item.origin());
            }
            self.line(level, out.bytes());
            self.named(name, *item, level, out, losses)?;
            out.part();
        }
        Ok(())
    }

    /// An item of `#content`: text, or the element that a map of one member names.
    fn content_item(
        &mut self,
        item: Value<'_>,
        level: Level,
        out: &mut impl Target,
        losses: &mut Losses,
    ) -> Written {
        match item {
            Value::Map(_, map) if map.len() == 1 => {
                let member = map.members()[0];
                self.line(level, out.bytes());
                self.named(member.name, member.value, level, out, losses)
            }
            Value::Element(..) => {
                self.line(level, out.bytes());
                self.list_item(item, level, out, losses)
            }
            other => self.text(other, out.bytes()),
        }
    }

    fn text(&mut self, value: Value<'_>, out: &mut Vec<u8>) -> Written {
        let origin = value.origin();
        match value.scalar_text() {
            Some(text) => escape_text(text, origin, out),
            None if matches!(value, Value::Null(_)) => Ok(()),
            None => Err(cannot_hold(
                format!("{} stands where XML has text", value.kind().phrase()),
                "#text holds a text; #content a list of texts and of maps with one member",
                origin,
            )),
        }
    }

    /// Refuses a prefix that nothing around declares.
    fn check_prefix(&self, name: &str, origin: Origin) -> Written {
        let prefix = Name::new(name, "").prefix();
        if prefix.is_empty() || self.scope.find(prefix).is_some() {
            return Ok(());
        }
        Err(cannot_hold(
            format!("the prefix of `{name}` is not declared"),
            "add the member \"@xmlns:prefix\" with the namespace, or take the prefix away",
            origin,
        ))
    }
}

/// The root element that a map of one member names.
fn only_root<'m>(map: &'m Map<'_>) -> Option<(&'m str, Value<'m>)> {
    match map.members() {
        [only]
            if !matches!(only.value, Value::List(..))
                && !only.name.starts_with([ATTRIBUTE, '#']) =>
        {
            Some((only.name, only.value))
        }
        _ => None,
    }
}

fn has_text(content: Value<'_>) -> bool {
    content.as_list().is_some_and(|items| items.iter().any(|item| item.scalar_text().is_some()))
}

fn start(name: &str, out: &mut Vec<u8>) {
    out.push(b'<');
    out.extend_from_slice(name.as_bytes());
}

fn close(name: &str, out: &mut Vec<u8>) {
    out.extend_from_slice(b"</");
    out.extend_from_slice(name.as_bytes());
    out.push(b'>');
}
