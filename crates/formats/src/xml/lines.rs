//! Writes elements as lines of JSON, by the convention of the [record view](crate::record_view), without building a tree.
//!
//! Records of a feed resemble each other, so each tag is first compared with the one that stood at its place in the record before; its
//! name is checked, resolved and put in quotes only once. What is not plain (comments, declarations of namespaces, text
//! beside elements, anything wrong) is left to the full readers: [`ElementLines::write`] then returns None and takes back what it wrote.

mod document;
mod shapes;
mod text;

use std::ops::Range;

use super::ancestry::StepName;
use super::chars;
use super::names::Scope;
use super::prefilter::{Found, Marks, Prefilter};
use super::read::Reader;
use crate::json;
use crate::record_view::View;
pub use document::document_line;
use shapes::{Attribute, ElementShape, Name};

/// Elements nested deeper are left to the reader that needs no stack.
const DEEPEST: usize = 100;

/// Shapes of one element are told apart by the bits of a word.
const MOST_CHILDREN: usize = 64;

/// Writes elements as lines of JSON, and remembers what they look like.
#[derive(Debug, Default)]
pub(super) struct ElementLines {
    /// What elements at a place of the record look like; the first is the record.
    shapes: Vec<ElementShape>,
    /// The element that was stepped over last.
    last: Option<Child>,
    /// Members of the record under way, and whether they are repeated; counted once all of it is written.
    met: Vec<(u32, bool)>,
    /// Where the children of the element that was probed last begin and end.
    pub(super) extents: Vec<(usize, usize)>,
}

/// An element that stands at a place among others of its parent.
#[derive(Clone, Copy, Debug)]
struct Child {
    position: usize,
    shape: usize,
}

impl ElementLines {
    /// Forgets what elements look like: their names may mean something else from here on.
    pub(super) fn forget(&mut self) {
        self.shapes.clear();
        self.last = None;
    }

    /// Steps over the element that begins here, if it is plain and no element in it has one of the names in `stops`; gives its
    /// end. Of elements that are stepped over all is checked that is checked of others.
    pub(super) fn step_over<'a>(
        &mut self,
        reader: &Reader<'a>,
        stops: &[StepName],
    ) -> Option<usize> {
        if self.shapes.is_empty() {
            self.shapes.push(ElementShape::record(""));
        }
        let last = self.last.take();
        let depth = reader.options.depth.checked_sub(reader.depth())?;
        let mut line = Line::new(self, reader, (), stops, depth);
        let child = line.child(0, last)?;
        let shape = child.shape;
        if line.lines.shapes[shape].tries.are_vain() {
            return None;
        }
        let end = line.element(shape, 0).map(|()| line.at);
        self.shapes[shape].tries.note(end.is_some());
        self.last = end.map(|_| child);
        end
    }

    /// What a prefilter finds in the element that begins here with the tag called `name`, and the end of that element; nothing
    /// where another element begins here, or anything but plain elements and texts stands in it.
    pub(super) fn probe(
        &mut self,
        reader: &Reader<'_>,
        name: &str,
        prefilter: &Prefilter,
    ) -> Option<(Found, usize)> {
        self.extents.clear();
        self.run(reader, name, (), Some((prefilter, Found::default())))
    }

    /// Writes the element that begins here with the tag called `name` as one line, and steps over it. Returns None, and
    /// leaves all as it was, where another element begins here, or anything but plain elements and texts stands in it.
    pub(super) fn write(
        &mut self,
        reader: &mut Reader<'_>,
        name: &str,
        view: &mut View,
        out: &mut Vec<u8>,
    ) -> Option<()> {
        let begin = out.len();
        self.met.clear();
        let Some((_, end)) = self.run(reader, name, Written { view, out }, None) else {
            out.truncate(begin);
            return None;
        };
        reader.cursor.at = end;
        out.push(b'\n');
        for (member, is_repeated) in &self.met {
            view.counts(Some(*member), *is_repeated);
        }
        Some(())
    }

    /// Goes over the element that begins here with the tag called `name`; gives what the prefilter found, and where it ends.
    #[inline]
    fn run(
        &mut self,
        reader: &Reader<'_>,
        name: &str,
        target: impl Target,
        probe: Option<(&Prefilter, Found)>,
    ) -> Option<(Found, usize)> {
        let options = &reader.options;
        let is_other = options.lenient || options.drop_namespaces || !options.namespaces;
        // Attributes that are not written come from the document type declaration.
        if is_other || reader.dtd.has_attributes() || !reader.outer.is_empty() {
            return None;
        }
        let tag = reader.cursor.rest().as_bytes().get(1..)?.strip_prefix(name.as_bytes())?;
        if !ends_name(*tag.first()?) {
            return None;
        }
        if self.shapes.first().is_none_or(|record| *record.name.written != *name) {
            self.shapes.clear();
            let marks = probe.as_ref().map(|(prefilter, _)| prefilter.start()).unwrap_or_default();
            self.shapes.push(ElementShape { marks, ..ElementShape::record(name) });
        }
        let mut line = Line::new(self, reader, target, &[], options.depth);
        line.probe = probe;
        line.at += 1 + name.len();
        line.element(0, 0)?;
        Some((line.probe.map(|(_, found)| found).unwrap_or_default(), line.at))
    }
}

/// Where lines of JSON go, if they are written at all.
trait Target {
    /// Whether they are written.
    const WRITES: bool;

    fn out(&mut self) -> Option<&mut Vec<u8>>;

    fn view(&mut self) -> Option<&mut View>;
}

/// Elements are only gone over.
impl Target for () {
    const WRITES: bool = false;

    #[inline]
    fn out(&mut self) -> Option<&mut Vec<u8>> {
        None
    }

    #[inline]
    fn view(&mut self) -> Option<&mut View> {
        None
    }
}

/// Lines of JSON, and the view by which they are written.
struct Written<'v, 'o> {
    view: &'v mut View,
    out: &'o mut Vec<u8>,
}

impl Target for Written<'_, '_> {
    const WRITES: bool = true;

    #[inline]
    fn out(&mut self) -> Option<&mut Vec<u8>> {
        Some(self.out)
    }

    #[inline]
    fn view(&mut self) -> Option<&mut View> {
        Some(self.view)
    }
}

/// Whether a name ends before this byte.
#[inline]
fn ends_name(byte: u8) -> bool {
    matches!(byte, b'>' | b'/' | b' ' | b'\n' | b'\t' | b'\r')
}

/// A text as it is written, if that is just what it means.
fn plain(text: &str) -> Option<&str> {
    memchr::memchr(b'&', text.as_bytes()).is_none().then_some(text)
}

/// A line under way, or an element that is only gone over.
struct Line<'t, 'l, 's, T> {
    text: &'t str,
    bytes: &'t [u8],
    at: usize,
    depth: usize,
    lines: &'l mut ElementLines,
    scope: &'l Scope<'t>,
    target: T,
    /// A prefilter, and what it found so far.
    probe: Option<(&'s Prefilter, Found)>,
    /// Elements of these names are not stepped over.
    stops: &'s [StepName],
}

impl<'t, 'l, 's, T: Target> Line<'t, 'l, 's, T> {
    /// A line that begins where the reader stands.
    #[inline]
    fn new(
        lines: &'l mut ElementLines,
        reader: &'l Reader<'t>,
        target: T,
        stops: &'s [StepName],
        depth: usize,
    ) -> Self {
        let text = reader.cursor.text;
        Self {
            text,
            bytes: text.as_bytes(),
            at: reader.cursor.at,
            depth: depth.min(DEEPEST),
            lines,
            scope: &reader.scope,
            target,
            probe: None,
            stops,
        }
    }

    #[inline]
    fn put(&mut self, byte: u8) {
        if let Some(out) = self.target.out() {
            out.push(byte);
        }
    }

    #[inline]
    fn put_all(&mut self, bytes: &[u8]) {
        if let Some(out) = self.target.out() {
            out.extend_from_slice(bytes);
        }
    }

    #[inline]
    fn put_escape(&mut self, byte: u8) {
        if let Some(out) = self.target.out() {
            json::write_escape(byte, out);
        }
    }

    #[inline]
    fn byte(&self, at: usize) -> Option<u8> {
        self.bytes.get(at).copied()
    }

    #[inline]
    fn space(&mut self) {
        self.at = chars::space_end(self.bytes, self.at);
    }

    /// The value of an element, from behind the name in its start tag to behind its end tag.
    fn element(&mut self, shape: usize, level: usize) -> Option<()> {
        if level >= self.depth {
            return None;
        }
        let (has_attributes, is_empty) = self.attributes(shape)?;
        let is_map = has_attributes || self.lines.shapes[shape].is_map;
        if is_map && !has_attributes {
            self.put(b'{');
        }
        if is_empty {
            self.put_all(if is_map { b"}" } else { b"\"\"" });
            self.found(shape, Some(0..0));
            self.was(shape, is_map);
            return Some(());
        }
        self.content(shape, level, is_map)
    }

    /// What stands between the tags of an element, which is a map if its brace was written, and the end tag.
    #[inline]
    fn content(&mut self, shape: usize, level: usize, is_map: bool) -> Option<()> {
        let start = self.at;
        self.space();
        let is_map = match (self.byte(self.at)?, self.byte(self.at + 1)?) {
            (b'<', b'/') | (0..b'<' | b'='.., _) => {
                self.at = start;
                self.leaf(is_map)?;
                self.found(shape, Some(start..self.at));
                is_map
            }
            _ if self.is_section() => {
                self.at = start;
                self.leaf(is_map)?;
                self.found(shape, None);
                is_map
            }
            (b'<', _) => {
                self.is_layout(start)?;
                if !is_map {
                    self.put(b'{');
                }
                self.children(shape, level)?;
                self.found(shape, None);
                true
            }
        };
        self.end_tag(shape)?;
        self.was(shape, is_map);
        Some(())
    }

    /// Shows the prefilter an element with the text there; with nothing, one with elements in it.
    #[inline]
    fn found(&mut self, shape: usize, text: Option<Range<usize>>) {
        let marks = &self.lines.shapes[shape].marks;
        if let Some((prefilter, found)) = &mut self.probe
            && marks.reached != 0
        {
            found.add(prefilter, marks, text.and_then(|text| plain(self.text.get(text)?)));
        }
    }

    /// Shows the prefilter an attribute with the text there, in quotes.
    #[inline]
    fn found_attribute(&mut self, shape: usize, position: usize, text: Range<usize>) {
        let marks = &self.lines.shapes[shape].attributes[position].marks;
        if let Some((prefilter, found)) = &mut self.probe
            && marks.reached != 0
        {
            let text = self.text.get(text.start + 1..text.end - 1);
            found.add(prefilter, marks, text.and_then(plain));
        }
    }

    /// Whether the white space from `start` to here is layout: blanks on a line may be content.
    #[inline]
    fn is_layout(&self, start: usize) -> Option<()> {
        let space = &self.bytes[start..self.at];
        (!T::WRITES || space.is_empty() || space.contains(&b'\n')).then_some(())
    }

    /// Notes what the element was.
    #[inline]
    fn was(&mut self, shape: usize, is_map: bool) {
        let shape = &mut self.lines.shapes[shape];
        if let Some(view) = self.target.view()
            && !shape.was[usize::from(is_map)]
        {
            shape.was[usize::from(is_map)] = true;
            view.met_as(shape.member, is_map);
        }
    }

    /// The attributes of a start tag, as the first members of a map; tells whether there are any, and whether the element is
    /// empty.
    #[inline]
    fn attributes(&mut self, shape: usize) -> Option<(bool, bool)> {
        let (mut is_map, mut next, mut met) = (false, 0, 0_u64);
        loop {
            let before = self.at;
            self.space();
            match self.byte(self.at)? {
                b'>' => {
                    self.at += 1;
                    return Some((is_map, false));
                }
                b'/' if self.byte(self.at + 1) == Some(b'>') => {
                    self.at += 2;
                    return Some((is_map, true));
                }
                _ if self.at == before => return None,
                _ => {}
            }
            let position = self.attribute(shape, next)?;
            next = position + 1;
            // One that is given twice is refused elsewhere.
            if met & (1 << position) != 0 {
                return None;
            }
            met |= 1 << position;
            self.put(if is_map { b',' } else { b'{' });
            is_map = true;
            if let Some(out) = self.target.out() {
                self.lines.shapes[shape].attributes[position].name.write_key(out);
            }
            let quote = self.at;
            self.quoted()?;
            self.found_attribute(shape, position, quote..self.at);
        }
    }

    /// Steps over the name of an attribute and the sign behind it; `next` is the one that is expected.
    #[inline]
    fn attribute(&mut self, shape: usize, next: usize) -> Option<usize> {
        let (bytes, at) = (self.bytes, self.at);
        let is_here = |attribute: &Attribute| attribute.name.is_at(bytes, at) == Some(b'=');
        let known = &self.lines.shapes[shape].attributes;
        let position = match known.get(next) {
            Some(attribute) if is_here(attribute) => next,
            _ => match known.iter().position(is_here) {
                Some(position) => position,
                None => self.new_attribute(shape)?,
            },
        };
        self.at += self.lines.shapes[shape].attributes[position].name.written.len() + 1;
        Some(position)
    }

    #[cold]
    fn new_attribute(&mut self, shape: usize) -> Option<usize> {
        let end = chars::name_end(self.text, self.at);
        let name = &self.text[self.at..end];
        let known = &self.lines.shapes[shape].attributes;
        let local = |name: &str| name.rsplit_once(':').map(|(_, local)| local.to_owned());
        // Declarations, and prefixes that may stand for the same namespace, are for the other reader.
        let is_plain = !name.is_empty()
            && self.byte(end) == Some(b'=')
            && !name.starts_with("xmlns")
            && name != "xml:space"
            && known.len() < MOST_CHILDREN
            && (local(name).is_none()
                || known.iter().all(|other| local(&other.name.written) != local(name)));
        let resolved = self.scope.attribute(name).ok().filter(|_| is_plain)?;
        let position = known.len();
        let shape = &mut self.lines.shapes[shape];
        let probe = self.probe.as_ref();
        let marks = probe.map(|(prefilter, _)| prefilter.attribute(&shape.marks, resolved));
        let marks = marks.unwrap_or_default();
        shape.attributes.push(Attribute { name: Name::new("@", name), marks });
        Some(position)
    }

    /// Puts a comma behind the members that a map has so far, if any.
    #[inline]
    fn next_member(&mut self) {
        if let Some(out) = self.target.out()
            && out.last() != Some(&b'{')
        {
            out.push(b',');
        }
    }

    /// The elements in an element, as members of a map; those of one name that stand together are a list.
    fn children(&mut self, shape: usize, level: usize) -> Option<()> {
        let mut last: Option<Child> = None;
        let (mut met, mut is_list, mut is_repeated, mut value) = (0_u64, false, false, 0);
        self.next_member();
        while self.byte(self.at + 1)? != b'/' {
            let child = self.child(shape, last)?;
            if last.is_some_and(|last| last.position == child.position) {
                if let Some(out) = self.target.out()
                    && !is_list
                {
                    out.insert(value, b'[');
                }
                is_list = true;
                is_repeated = true;
                self.put(b',');
            } else {
                if let Some(last) = last {
                    self.end_member(last, is_list, is_repeated);
                    self.put(b',');
                }
                // The order of those that do not stand together is kept elsewhere.
                if T::WRITES && met & (1 << child.position) != 0 {
                    return None;
                }
                met |= 1 << child.position;
                let member = &self.lines.shapes[child.shape];
                (is_list, is_repeated) = (member.is_list, false);
                if let Some(out) = self.target.out() {
                    member.name.write_key(out);
                    value = out.len();
                }
                if is_list {
                    self.put(b'[');
                }
                last = Some(child);
            }
            let start = self.at - 1 - self.lines.shapes[child.shape].name.written.len();
            self.element(child.shape, level + 1)?;
            let behind = self.at;
            if level == 0 && self.probe.is_some() {
                self.lines.extents.push((start, behind));
            }
            self.space();
            if self.byte(self.at)? != b'<' {
                return None;
            }
            self.is_layout(behind)?;
        }
        self.end_member(last?, is_list, is_repeated);
        self.put(b'}');
        Some(())
    }

    #[inline]
    fn end_member(&mut self, child: Child, is_list: bool, is_repeated: bool) {
        if is_list {
            self.put(b']');
        }
        if let Some(member) = self.lines.shapes[child.shape].member
            && T::WRITES
        {
            self.lines.met.push((member, is_repeated));
        }
    }

    /// Steps over the `<` and the name of the next element; `last` stood before it.
    #[inline]
    fn child(&mut self, shape: usize, last: Option<Child>) -> Option<Child> {
        let (shapes, bytes, start) = (&self.lines.shapes, self.bytes, self.at + 1);
        let is_here = |position: usize, child: u32| {
            let behind = shapes[child as usize].name.is_at(bytes, start)?;
            ends_name(behind).then_some(Child { position, shape: child as usize })
        };
        let children = &shapes[shape].children;
        let at = |position: usize| is_here(position, *children.get(position)?);
        let expected = match last {
            Some(last) => at(last.position).or_else(|| at(last.position + 1)),
            None => at(0),
        };
        let known = expected.or_else(|| {
            children.iter().enumerate().find_map(|(position, child)| is_here(position, *child))
        });
        let child = match known {
            Some(child) => child,
            None => self.new_child(shape)?,
        };
        self.at += 1 + self.lines.shapes[child.shape].name.written.len();
        Some(child)
    }

    #[cold]
    fn new_child(&mut self, shape: usize) -> Option<Child> {
        let start = self.at + 1;
        let name = &self.text[start..chars::name_end(self.text, start)];
        let position = self.lines.shapes[shape].children.len();
        let is_plain = !name.is_empty() && position < MOST_CHILDREN;
        let resolved = self.scope.element(name).ok().filter(|_| is_plain)?;
        let marks = match &self.probe {
            Some((prefilter, _)) => prefilter.child(&self.lines.shapes[shape].marks, resolved),
            None => Marks::default(),
        };
        // It is looked at by itself, or with the one around it.
        if marks.is_record || self.stops.iter().any(|step| step.fits(resolved)) {
            return None;
        }
        let parent = self.lines.shapes[shape].member;
        let seen = match self.target.view() {
            Some(view) => ElementShape::member(name, view.seen(parent, name)?, view),
            None => ElementShape::record(name),
        };
        let child = self.lines.shapes.len();
        self.lines.shapes.push(ElementShape { marks, ..seen });
        self.lines.shapes[shape].children.push(u32::try_from(child).ok()?);
        Some(Child { position, shape: child })
    }

    #[inline]
    fn end_tag(&mut self, shape: usize) -> Option<()> {
        let name = &self.lines.shapes[shape].name;
        let is_here = self.bytes[self.at..].starts_with(b"</")
            && name.is_at(self.bytes, self.at + 2) == Some(b'>');
        self.at += name.written.len() + 3;
        is_here.then_some(())
    }
}
