//! Where the values of a document stand in its text: lists, maps and scalars with their spans, names with theirs.
//!
//! ```
//! use kyanite_formats::Format;
//! use kyanite_formats::outline::{Node, outline};
//!
//! let text = "port: ness # the first\n";
//! let found = outline(Format::Yaml, text).unwrap();
//! let Node::Map { members, .. } = found.node else { panic!() };
//! let (name, value) = (&members[0].name, &members[0].value);
//! assert_eq!((&text[name.start..name.end], &text[value.span.start..value.span.end]), ("port", "ness"));
//! ```

use kyanite_scan::Structure;
use kyanite_tree::{Event, Pull, RawText, Span};

use crate::json::{EventReader, unescaped};
use crate::{Format, SyntaxError, yaml};

/// A value in its text.
#[derive(Debug)]
pub struct Outline {
    /// From its first byte to behind its last.
    pub span: Span,
    /// What it is.
    pub node: Node,
    /// The name by which aliases repeat it.
    pub anchor: Option<String>,
}

/// What a value is.
#[derive(Debug)]
pub enum Node {
    /// A scalar.
    Scalar,
    /// A node that stands elsewhere, once more.
    Alias(String),
    /// A list.
    List {
        /// Its items, in order.
        items: Vec<Outline>,
        /// Whether it is in a block, by its indentation, and not in brackets.
        is_block: bool,
    },
    /// A map.
    Map {
        /// Its members, in order.
        members: Vec<MemberOutline>,
        /// Whether it is in a block, and not in braces.
        is_block: bool,
    },
}

/// A member of a map in its text.
#[derive(Debug)]
pub struct MemberOutline {
    /// Where its name stands.
    pub name: Span,
    /// The name; none where the key is no scalar.
    pub text: Option<String>,
    /// Its value.
    pub value: Outline,
}

/// The outline of the one document of a text of JSON or YAML; None where it is in another format, holds several documents, or none,
/// or is not well-formed.
#[must_use]
pub fn outline(format: Format, text: &str) -> Option<Outline> {
    match format {
        Format::Json => of_json(text),
        Format::Yaml => of_yaml(text),
        _ => None,
    }
}

/// What is open, from the outside in.
struct Builder<'t> {
    text: &'t str,
    open: Vec<Open>,
    roots: Vec<Outline>,
}

struct Open {
    outline: Outline,
    /// The name whose value comes next.
    name: Option<(Span, Option<String>)>,
}

impl<'t> Builder<'t> {
    fn new(text: &'t str) -> Self {
        Self { text, open: Vec::new(), roots: Vec::new() }
    }

    fn begin(&mut self, start: usize, node: Node, anchor: Option<String>) {
        let span = Span::new(start, start);
        self.open.push(Open { outline: Outline { span, node, anchor }, name: None });
    }

    fn end(&mut self, end: usize) {
        if let Some(Open { mut outline, .. }) = self.open.pop() {
            outline.span.end = outline.span.end.max(end);
            self.value(outline, None);
        }
    }

    /// Whether what comes next is the name of a member.
    fn awaits_name(&self) -> bool {
        self.open.last().is_some_and(|open| {
            matches!(open.outline.node, Node::Map { .. }) && open.name.is_none()
        })
    }

    fn name(&mut self, span: Span, text: Option<String>) {
        if let Some(open) = self.open.last_mut() {
            open.outline.span.end = open.outline.span.end.max(span.end);
            open.name = Some((span, text));
        }
    }

    /// Where a value stands that is not written: behind its colon, or its hyphen.
    fn place_of_nothing(&self, at: usize) -> usize {
        let name = self.open.last().and_then(|open| open.name.as_ref()).map(|(span, _)| span.end);
        if let Some(end) = name {
            return self.text[end..].find(':').map_or(at, |colon| end + colon + 1);
        }
        let mut end = at;
        while end > 0 {
            let before = &self.text.as_bytes()[..end - 1];
            let start = memchr::memrchr(b'\n', before).map_or(0, |line_end| line_end + 1);
            let line = &self.text[start..end];
            let blanks = line.len() - line.trim_start().len();
            if line[blanks..].starts_with('-') {
                return start + blanks + 1;
            }
            end = start;
        }
        at
    }

    /// Takes a value; `text` is what it would be called as a name.
    fn value(&mut self, mut value: Outline, text: Option<String>) {
        let is_name = self.awaits_name();
        if !is_name && value.span.start == value.span.end {
            let place = self.place_of_nothing(value.span.start);
            value.span = Span::new(place, place);
        }
        let Some(open) = self.open.last_mut() else {
            self.roots.push(value);
            return;
        };
        open.outline.span.end = open.outline.span.end.max(value.span.end);
        if is_name {
            open.name = Some((value.span, text));
            return;
        }
        match &mut open.outline.node {
            Node::List { items, .. } => items.push(value),
            Node::Map { members, .. } => {
                if let Some((name, text)) = open.name.take() {
                    members.push(MemberOutline { name, text, value });
                }
            }
            Node::Scalar | Node::Alias(_) => {}
        }
    }

    fn finish(self) -> Option<Outline> {
        let [root] = <[Outline; 1]>::try_from(self.roots).ok()?;
        Some(root)
    }
}

fn of_json(text: &str) -> Option<Outline> {
    let json = text.strip_prefix('\u{FEFF}').unwrap_or(text);
    let before = text.len() - json.len();
    let structure = Structure::of(json.as_bytes());
    let mut events = EventReader::new(json, &structure)?;
    let mut builder = Builder::new(text);
    let mut at = before;
    while let Some(event) = events.next_event() {
        let end = before + events.position();
        let between =
            |text: &str| text[at..end].find(|c: char| !c.is_ascii_whitespace() && c != ',');
        let start = at + between(text).unwrap_or(0);
        let scalar =
            |start| Outline { span: Span::new(start, end), node: Node::Scalar, anchor: None };
        match event {
            Event::BeginMap => {
                builder.begin(start, Node::Map { members: Vec::new(), is_block: false }, None);
            }
            Event::BeginList => {
                builder.begin(start, Node::List { items: Vec::new(), is_block: false }, None);
            }
            Event::EndMap | Event::EndList => builder.end(end),
            Event::Name(RawText { text: name, has_escapes }) => {
                let span = Span::new(start, start + name.len() + 2);
                let name = if has_escapes { unescaped(name) } else { name.to_owned() };
                builder.name(span, Some(name));
            }
            Event::Text(_) | Event::Number(_) | Event::Boolean(_) | Event::Null => {
                builder.value(scalar(start), None);
            }
        }
        at = end;
    }
    events.end()?;
    builder.finish()
}

/// Takes the events of a YAML text.
struct OfYaml<'t> {
    builder: Builder<'t>,
    documents: usize,
}

impl<'a> yaml::Receiver<'a> for OfYaml<'_> {
    fn event(&mut self, event: yaml::Event<'a>, span: Span) -> Result<(), SyntaxError> {
        let anchor = |properties: &yaml::Properties<'a>| properties.anchor().map(str::to_owned);
        match event {
            yaml::Event::DocumentStart { .. } => self.documents += 1,
            yaml::Event::DocumentEnd { .. } => {}
            yaml::Event::Scalar { text, properties, .. } => {
                let anchor = anchor(&properties);
                let outline = Outline { span, node: Node::Scalar, anchor };
                self.builder.value(outline, Some(text.into_owned()));
            }
            yaml::Event::SequenceStart { flow, properties } => {
                let node = Node::List { items: Vec::new(), is_block: !flow };
                self.builder.begin(span.start, node, anchor(&properties));
            }
            yaml::Event::MappingStart { flow, properties } => {
                let node = Node::Map { members: Vec::new(), is_block: !flow };
                self.builder.begin(span.start, node, anchor(&properties));
            }
            // Where a collection in a block ends nothing is written.
            yaml::Event::SequenceEnd | yaml::Event::MappingEnd => {
                self.builder.end(if span.start < span.end { span.end } else { 0 });
            }
            yaml::Event::Alias(name) => {
                let node = Node::Alias(name.to_owned());
                self.builder.value(Outline { span, node, anchor: None }, None);
            }
        }
        Ok(())
    }
}

fn of_yaml(text: &str) -> Option<Outline> {
    let mut receiver = OfYaml { builder: Builder::new(text), documents: 0 };
    let mut parser = yaml::Parser::new(text);
    while parser.step(&mut receiver).ok()? {}
    if receiver.documents > 1 {
        return None;
    }
    receiver.builder.finish()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn never_panics(text in "[&*!\\-:?,\\[\\]{}<>/=aŖ \n#|'\"]{0,20}") {
            for format in [Format::Json, Format::Yaml, Format::Toml, Format::Xml] {
                let _ = outline(format, &text);
                // What a node is anchored to may stand behind nothing.
                let _ = outline(format, &format!("&{text}"));
            }
        }
    }

    /// The outline in brackets, scalars as they are written.
    fn shown(found: &Outline, text: &str) -> String {
        let of = |span: Span| &text[span.start..span.end];
        match &found.node {
            Node::Scalar => of(found.span).replace('\n', "/"),
            Node::Alias(name) => format!("*{name}"),
            Node::List { items, is_block } => {
                let items: Vec<String> = items.iter().map(|item| shown(item, text)).collect();
                format!("{}({})", if *is_block { "-" } else { "" }, items.join(" "))
            }
            Node::Map { members, is_block } => {
                let members: Vec<String> = members
                    .iter()
                    .map(|member| format!("{}={}", of(member.name), shown(&member.value, text)))
                    .collect();
                format!("{}{{{}}}", if *is_block { ":" } else { "" }, members.join(" "))
            }
        }
    }

    #[test]
    fn what_stands_where() {
        for (format, text, expected) in [
            (
                Format::Json,
                " {\"a\" : [1, \"b\\\"c\" ,{}], \"d\\u0065\":null}\n",
                "{\"a\"=(1 \"b\\\"c\" {}) \"d\\u0065\"=null}",
            ),
            (Format::Json, "[ ]", "()"),
            (Format::Json, "-1.5e3", "-1.5e3"),
            (
                Format::Yaml,
                "a: 1 # x\nb:\n- c: |\n    d\n  e: {f: [g, \"h\"]}\n- *k\n",
                ":{a=1 b=-(:{c=|/    d e={f=(g \"h\")}} *k)}",
            ),
            (Format::Yaml, "x: &k text\n? y\n: z\nw:\n", ":{x=text y=z w=}"),
        ] {
            let found = outline(format, text).unwrap();
            assert_eq!(shown(&found, text), expected, "{text}");
        }
        for (format, text) in [
            (Format::Json, "[1"),
            (Format::Json, ""),
            (Format::Yaml, "a: [1"),
            (Format::Yaml, "a\n---\nb\n"),
            (Format::Toml, "a = 1"),
        ] {
            assert!(outline(format, text).is_none(), "{text}");
        }
    }
}
