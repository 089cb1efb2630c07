//! What results look like in each format: values in, bytes out.

use std::collections::BTreeMap;

use kyanite_formats::documents::RECORD_SEPARATOR;
use kyanite_formats::losses::Losses;
use kyanite_formats::record_view::{Undecided, View};
use kyanite_formats::{
    CannotHold, Draining, Format, cannot_hold, csv, html, json, text, toml, xml, yaml,
};
use kyanite_lang::Written;
use kyanite_tree::{
    Advice, Arena, Code, Diagnostic, Kind, Origin, Setting, Value, name_step, near_in_words,
};

use crate::layout::Layout;
use crate::run::DocumentText;

/// Whether a value could be rendered.
pub(crate) type Rendered = Result<(), CannotHold>;

/// Renders results as the bytes of a format.
pub(crate) struct Renderer {
    layout: Layout,
    /// The table or XML document that is being written.
    rows: csv::Writer,
    xml: xml::Writer,
    view: View,
    /// Whether elements may be among the values.
    elements: bool,
    /// Whether values of types that only some formats have may be among them.
    foreign: bool,
    /// What records of elements live in.
    arena: Arena,
    losses: Losses,
    /// How many items of the list that is being written there were.
    items: u64,
    /// How many documents were written.
    documents: u64,
    /// Where many records are in a document that became one, and how many.
    records_inside: Option<(String, usize)>,
}

impl Renderer {
    pub(crate) fn new(layout: Layout) -> Self {
        Self {
            rows: layout.rows(),
            xml: xml::Writer::new(layout.xml.clone()),
            view: View::new(&layout.records, layout.places_of_losses),
            elements: false,
            foreign: false,
            arena: Arena::new(),
            losses: Losses::new(layout.places_of_losses),
            items: 0,
            documents: 0,
            records_inside: None,
            layout,
        }
    }

    pub(crate) fn format(&self) -> Format {
        self.layout.format
    }

    /// The same, where nothing that a value carries is lost by that.
    pub(crate) fn written(&self) -> Written {
        if self.foreign { Written::Values } else { self.layout.written() }
    }

    /// How far values are indented, if the format is YAML.
    pub(crate) fn yaml_indent(&self) -> Option<usize> {
        (self.layout.format == Format::Yaml).then_some(self.layout.indent)
    }

    /// Appends an item as a line of JSON.
    pub(crate) fn json_line(&mut self, value: Value<'_>, out: &mut Vec<u8>) {
        // Compact JSON can hold any value.
        let _ = self.with_records(value, |_, value| {
            json::write(value, json::Style::Compact, out);
            out.push(b'\n');
            Ok(())
        });
    }

    /// Lays lines of JSON out as items, unless they stay lines; `scratch` is for what comes of them.
    pub(crate) fn lay_out(&mut self, lines: &mut Vec<u8>, scratch: &mut Vec<u8>) {
        if self.layout.format == Format::JsonLines {
            return;
        }
        scratch.clear();
        let mut from = 0;
        let mut layout = json::LayOut::new(self.layout.style);
        for end in memchr::memchr_iter(b'\n', lines) {
            self.next_item(scratch);
            layout.value(&lines[from..end], 1, scratch);
            self.items += 1;
            from = end + 1;
        }
        std::mem::swap(lines, scratch);
    }

    /// How items of JSON are laid out, and in how many lists they stand.
    pub(crate) fn json_style(&self) -> (json::Style, usize) {
        match self.layout.format {
            Format::Json => (self.layout.style, 1),
            _ => (json::Style::Compact, 0),
        }
    }

    /// Whether a result is a document of JSON, and not lines of it.
    fn is_json_document(&self) -> bool {
        self.layout.format == Format::Json
    }

    /// Begins an item that is written elsewhere, as JSON.
    pub(crate) fn begin_json_item(&self, out: &mut Vec<u8>) {
        if self.is_json_document() {
            self.next_item(out);
        }
    }

    /// Ends it.
    pub(crate) fn end_json_item(&mut self, out: &mut Vec<u8>) {
        if self.layout.format != Format::Json {
            out.push(b'\n');
        }
        self.items += 1;
    }

    /// Begins an item of a JSON list.
    fn next_item(&self, out: &mut Vec<u8>) {
        out.push(if self.items == 0 { b'[' } else { b',' });
        json::write_line_start(self.layout.style, 1, out);
    }

    /// What writes the cells of rows of maps that have members of these names, if rows are just that.
    pub(crate) fn cell_writer(&self, names: &[String]) -> Option<csv::CellWriter> {
        self.rows.cell_writer(names)
    }

    pub(crate) fn expect_elements(&mut self) {
        self.elements = true;
    }

    pub(crate) fn expect_foreign_types(&mut self) {
        self.foreign = true;
    }

    pub(crate) fn expects_elements(&self) -> bool {
        self.elements
    }

    /// What makes records of elements.
    pub(crate) fn view(&mut self) -> &mut View {
        &mut self.view
    }

    /// All losses so far, those of the record view among them.
    pub(crate) fn losses(&mut self) -> &mut Losses {
        let seen = std::mem::replace(self.view.losses(), Losses::new(self.layout.places_of_losses));
        self.losses.add_all(&seen);
        &mut self.losses
    }

    /// Whether losses are told one by one.
    pub(crate) fn tells_losses(&self) -> bool {
        self.layout.places_of_losses
    }

    /// What is worth saying about what was written besides losses, once that is all.
    pub(crate) fn remarks(&mut self) -> Vec<Diagnostic> {
        let mut remarks = Vec::new();
        let undecided = self.view.undecided();
        for what in [Undecided::List, Undecided::Map] {
            let paths = undecided.iter().filter(|(of, _)| *of == what).map(|(_, path)| path);
            remarks.extend(sometimes(what, &paths.collect::<Vec<_>>()));
        }
        remarks.extend(self.view.unmet().map(|(path, what, near)| {
            let what = if what == Undecided::List { "list" } else { "map" };
            let message =
                format!("`{path}` was to be a {what}, but no member of the records is called so");
            absent(message, &near)
        }));
        if let Some((path, count)) = self.records_inside.take() {
            let message = format!("a whole document is one line, though there are {count} {path}");
            let advice = Advice::words("for a line each: ").setting(Setting::Records(path));
            remarks.push(Diagnostic::warning(Code::OneRecord, message).advise(advice));
        }
        remarks.extend(self.rows.unmet().into_iter().map(|(column, near)| {
            absent(format!("no row has the column `{column}`: it is empty everywhere"), &near)
        }));
        remarks
    }

    /// A renderer for a part, whose items follow those so far, if there can be one: then all that is settled by the first
    /// items is settled.
    pub(crate) fn for_part(&self) -> Option<Self> {
        let is_settled = match self.layout.format {
            Format::Csv | Format::Tsv => self.rows.is_settled(),
            Format::JsonSequence | Format::Yaml | Format::Xml => self.items > 0,
            Format::Toml => false,
            Format::Json | Format::JsonLines | Format::Text | Format::Html => true,
        };
        let mut apart = is_settled.then(|| Self::new(self.layout.clone()))?;
        apart.rows = self.rows.clone();
        apart.xml = self.xml.clone();
        apart.elements = self.elements;
        apart.foreign = self.foreign;
        // The items of a part are never the first.
        apart.items = 1;
        Some(apart)
    }

    /// Takes what was rendered apart, whose bytes come next.
    pub(crate) fn join(&mut self, part: &mut Self, bytes: &mut [u8]) {
        if self.items == 0
            && self.layout.format == Format::Json
            && let Some(first) = bytes.first_mut()
        {
            *first = b'[';
        }
        self.items += part.items - 1;
        part.items = 1;
        self.view.join(&part.view);
        self.losses.add_all(&part.losses);
        part.losses = Losses::default();
        part.view = View::new(&part.layout.records, false);
        self.rows.join(&part.rows);
    }

    /// Appends one item of a list.
    pub(crate) fn item(&mut self, value: Value<'_>, out: &mut Vec<u8>) -> Rendered {
        self.begin_document()?;
        self.with_records(value, |renderer, value| renderer.plain_item(value, out))?;
        self.items += 1;
        Ok(())
    }

    /// Appends the end of a document's list.
    pub(crate) fn end_items(&mut self, out: &mut Vec<u8>) -> Rendered {
        self.begin_document()?;
        match self.layout.format {
            Format::Json => {
                if self.items == 0 {
                    out.push(b'[');
                } else if !self.layout.canonical {
                    json::write_line_start(self.layout.style, 0, out);
                }
                out.extend_from_slice(b"]\n");
            }
            Format::JsonSequence => {
                out.extend_from_slice(if self.items == 0 { b"\x1E[]\n" } else { b"]\n" });
            }
            Format::Yaml if self.items == 0 => {
                self.separate(out);
                out.extend_from_slice(b"[]\n");
            }
            Format::Xml => self.xml.end_items(out)?,
            Format::Toml => return Err(no_list(Origin::NONE)),
            _ => {}
        }
        self.end_document();
        Ok(())
    }

    /// Appends the one result of a document, or what stands for nothing. What is complete of a large one goes to `drain`.
    pub(crate) fn single(
        &mut self,
        value: Option<Value<'_>>,
        out: &mut Vec<u8>,
        drain: &mut dyn FnMut(&[u8]),
    ) -> Rendered {
        self.begin_document()?;
        match (self.layout.format, value) {
            (Format::Json | Format::Yaml, None) => self.whole(Value::NULL, out, drain)?,
            (Format::Xml | Format::Toml | Format::Html, None) => {
                let message = format!(
                    "the result is nothing, and a {} document cannot be empty",
                    self.layout.format
                );
                let advice = "give a value in its place: … ?? {}";
                let nothing = Diagnostic::error(Code::ResultNothing, message);
                return Err(nothing.advise(advice));
            }
            (_, None) => {}
            (format, Some(value)) => {
                if format == Format::JsonLines && self.layout.is_of_whole {
                    self.records_inside = self.records_inside.take().or_else(|| records_in(value));
                }
                self.with_records(value, |renderer, value| renderer.whole(value, out, drain))?;
            }
        }
        self.end_document();
        Ok(())
    }

    /// Appends the one result of a document, which is the document itself, as it is read; `None` where it has to be a value.
    pub(crate) fn document(
        &mut self,
        document: DocumentText<'_>,
        out: &mut Vec<u8>,
        drain: &mut dyn FnMut(&[u8]),
    ) -> Option<Rendered> {
        // Where documents become lines, a list is a line an item, and the records in a document that is one line are counted.
        let may_be_lines = matches!(document, DocumentText::Xml(..)) && !self.layout.is_of_whole;
        if self.written() != Written::Json || !self.is_json_document() && !may_be_lines {
            return None;
        }
        if let Err(refused) = self.begin_document() {
            return Some(Err(refused));
        }
        let (style, _) = self.json_style();
        match document {
            DocumentText::Json(text, depth) => {
                json::write_document(text, style, depth, &mut Draining::new(out, drain))?;
            }
            DocumentText::Xml(text, options) => {
                let mut line = Vec::new();
                xml::document_line(text, options, &mut self.view, &mut line)?;
                json::LayOut::new(style).value(&line, 0, &mut Draining::new(out, drain));
            }
        }
        out.push(b'\n');
        self.end_document();
        Some(Ok(()))
    }

    /// The columns of a table are called so, if no row tells.
    pub(crate) fn expect_columns(&mut self, columns: &[&str]) {
        self.rows.expect(columns.iter().map(|column| (*column).to_owned()));
    }

    /// Appends what is still held back.
    pub(crate) fn finish(&mut self, out: &mut Vec<u8>) {
        if matches!(self.layout.format, Format::Csv | Format::Tsv) {
            self.rows.finish(out);
        }
    }

    fn begin_document(&mut self) -> Rendered {
        if self.documents == 0 || self.layout.format.holds_several() {
            return Ok(());
        }
        let message = format!(
            "there are several documents, and one {} text cannot hold their results",
            self.layout.format
        );
        let advice = Advice::words("say ")
            .setting(Setting::Gather)
            .then(" for one list of all documents, or ")
            .setting(Setting::To(Some("jsonl")))
            .then(" for a line each");
        Err(Diagnostic::error(Code::SeveralResults, message).advise(advice))
    }

    fn end_document(&mut self) {
        self.items = 0;
        self.documents += 1;
    }

    /// Hands on a value, with records in place of its elements where the format is not XML.
    fn with_records(
        &mut self,
        value: Value<'_>,
        write: impl FnOnce(&mut Self, Value<'_>) -> Rendered,
    ) -> Rendered {
        if self.foreign {
            self.losses.add_types(value, self.layout.format);
        }
        let keeps_elements =
            matches!(self.layout.format, Format::Xml | Format::Text | Format::Html);
        if !self.elements && value.kind() != Kind::Element || keeps_elements {
            return write(self, value);
        }
        let mut arena = std::mem::take(&mut self.arena);
        let record = self.view.record(value, &arena);
        let written = write(self, record);
        arena.reset();
        self.arena = arena;
        written
    }

    fn plain_item(&mut self, value: Value<'_>, out: &mut Vec<u8>) -> Rendered {
        match self.layout.format {
            Format::Json if self.layout.canonical => {
                out.push(if self.items == 0 { b'[' } else { b',' });
                self.canonical(value, out)
            }
            Format::Json => {
                self.next_item(out);
                json::write_nested(value, self.layout.style, 1, out);
                Ok(())
            }
            Format::JsonSequence => {
                if self.items == 0 {
                    out.push(RECORD_SEPARATOR);
                }
                out.push(if self.items == 0 { b'[' } else { b',' });
                self.compact(value, out)
            }
            Format::Yaml => {
                if self.items == 0 {
                    self.separate(out);
                }
                yaml::write_item(value, self.layout.indent, out);
                Ok(())
            }
            Format::Xml => Ok(self.xml.item(value, out, &mut self.losses)?),
            Format::Toml => Err(no_list(value.origin())),
            Format::Html => Ok(html::write(value, self.layout.xml.indent, out)?),
            Format::JsonLines | Format::Csv | Format::Tsv | Format::Text => self.line(value, out),
        }
    }

    fn whole(
        &mut self,
        value: Value<'_>,
        out: &mut Vec<u8>,
        drain: &mut dyn FnMut(&[u8]),
    ) -> Rendered {
        match self.layout.format {
            Format::Json => {
                if self.layout.canonical {
                    self.canonical(value, out)?;
                } else {
                    json::write(value, self.layout.style, &mut Draining::new(out, drain));
                }
                out.push(b'\n');
            }
            Format::JsonSequence => {
                out.push(RECORD_SEPARATOR);
                self.compact(value, out)?;
                out.push(b'\n');
            }
            Format::Yaml => {
                self.separate(out);
                yaml::write(value, self.layout.indent, &mut Draining::new(out, drain));
            }
            Format::Xml => {
                let target = &mut Draining::new(out, drain);
                xml::write(value, &self.layout.xml, target, &mut self.losses)?;
            }
            Format::Toml => toml::write(value, out, &mut self.losses)?,
            Format::Html => {
                html::write(value, self.layout.xml.indent, &mut Draining::new(out, drain))?;
            }
            // A line an item, also when the list came as one value.
            Format::JsonLines | Format::Csv | Format::Tsv | Format::Text => match value {
                Value::List(_, items) => {
                    items.iter().try_for_each(|item| self.line(*item, out))?;
                }
                value => self.line(value, out)?,
            },
        }
        Ok(())
    }

    /// A line of a format that has lines.
    fn line(&mut self, value: Value<'_>, out: &mut Vec<u8>) -> Rendered {
        match self.layout.format {
            Format::Text => text::write_line(value, out),
            Format::Csv | Format::Tsv => {
                self.rows.row(value, out, &mut self.losses)?;
            }
            _ => {
                self.compact(value, out)?;
                out.push(b'\n');
            }
        }
        Ok(())
    }

    fn compact(&mut self, value: Value<'_>, out: &mut Vec<u8>) -> Rendered {
        if self.layout.canonical {
            return self.canonical(value, out);
        }
        json::write(value, json::Style::Compact, out);
        Ok(())
    }

    fn canonical(&mut self, value: Value<'_>, out: &mut Vec<u8>) -> Rendered {
        json::write_canonical(value, out, &mut self.losses).map_err(|number| {
            let message = format!("canonical JSON cannot hold the number {}", number.as_str());
            let advice =
                "RFC 8785 has only numbers that a double holds; make it a text with text()";
            cannot_hold(message, advice, value.origin())
        })
    }

    /// The mark between two documents of YAML.
    fn separate(&self, out: &mut Vec<u8>) {
        if self.documents > 0 {
            out.extend_from_slice(b"---\n");
        }
    }
}

/// So many records in a document are many.
const MANY: usize = 10;

/// The path to the records in a document that is one of many records, and how many there are: the children of the root element
/// that have the same name, or the items of the longest list in a map.
fn records_in(document: Value<'_>) -> Option<(String, usize)> {
    let (path, count) = match document {
        Value::Element(_, element) => {
            let root = if element.is_document() {
                element.children().next()?.as_element()?
            } else {
                element
            };
            let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
            for child in root.children().filter_map(Value::as_element) {
                *counts.entry(child.name.local()).or_default() += 1;
            }
            let (name, count) = counts.into_iter().max_by_key(|(_, count)| *count)?;
            (name_step(root.name.local()) + &name_step(name), count)
        }
        Value::Map(_, map) => {
            let lists = map.members().iter().filter_map(|member| match member.value {
                Value::List(_, items) => Some((name_step(member.name), items.len())),
                _ => None,
            });
            lists.max_by_key(|(_, count)| *count)?
        }
        _ => return None,
    };
    (count >= MANY).then(|| (format!("${path}[*]"), count))
}

/// Says what a format could not carry; of what is only counted, how it can be told.
pub(crate) fn loss_remark(format: &str, losses: &Losses, is_counted: bool) -> Option<Diagnostic> {
    let message = format!("{format} could not carry {}", losses.summary()?);
    let advice = Advice::words("say ")
        .setting(Setting::Losses)
        .then(" to list each, ")
        .setting(Setting::Strict)
        .then(" to refuse");
    let remark = Diagnostic::warning(Code::Loss, message);
    Some(remark.advise_opt(is_counted.then_some(advice)))
}

/// The paths that are told in one message.
const PATHS: usize = 5;

/// Says that members were one thing here and another there.
fn sometimes(what: Undecided, paths: &[&String]) -> Option<Diagnostic> {
    let (first, more) = paths.split_first()?;
    let others = match more.len() {
        0 => String::new(),
        1 => " (and 1 other)".into(),
        count => format!(" (and {count} others)"),
    };
    let (is, always) = match what {
        Undecided::List => ("a list where it is repeated, and a single value elsewhere", "list"),
        Undecided::Map => {
            ("a map where it has attributes or children, and a text elsewhere", "map")
        }
    };
    let mut advice = Advice::words("say");
    for path in paths.iter().take(PATHS) {
        let path = (*path).clone();
        advice = advice.then(" ").setting(match what {
            Undecided::List => Setting::List(path),
            Undecided::Map => Setting::AsMap(path),
        });
    }
    let advice = advice.then(format!(" for a {always} everywhere"));
    let message = format!("`{first}`{others} is {is}");
    Some(Diagnostic::warning(Code::ListSometimes, message).advise(advice))
}

/// Says that a name that was told is that of nothing, with those near to it.
fn absent(message: String, near: &[&str]) -> Diagnostic {
    Diagnostic::warning(Code::NameAbsent, message).advise_opt(near_in_words(near))
}

fn no_list(origin: Origin) -> CannotHold {
    cannot_hold(
        "a TOML document is a map; this is a list",
        "put it under a name: {rows: …}",
        origin,
    )
}
