//! Edits in the text of a document: only the places change where values do, and every other byte stays as it was, comments and layout
//! among them.
//!
//! ```
//! use kyanite_change::edit_text;
//! use kyanite_formats::Format;
//! use kyanite_formats::yaml::{Options, documents};
//! use kyanite_tree::Arena;
//!
//! let (text, wanted) = ("lamps: 4   # two on each side\nname: Ness\n", "lamps: 6\nname: Ness\n");
//! let arena = Arena::new();
//! let read = |text| documents(text, &arena, Options::default()).unwrap().documents[0];
//! let edited = edit_text(Format::Yaml, text, read(text), read(wanted)).unwrap();
//! assert_eq!(edited, "lamps: 6   # two on each side\nname: Ness\n");
//! ```

mod block;
mod brackets;
mod record;
mod toml;
mod xml;

use std::collections::HashSet;
use std::ops::Range;

use kyanite_formats::documents::{self, Options};
use kyanite_formats::json;
use kyanite_formats::outline::{MemberOutline, Node, Outline, outline};
use kyanite_formats::record_view::View;
use kyanite_formats::{Format, yaml};
use kyanite_tree::{Advice, Arena, Element, Member, Origin, Value};

use crate::compare::compare;
use crate::difference::{Aligned, Comparison, Delta, Numbers};

/// Why a change cannot be made in the text.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct EditProblem {
    /// What is in the way, in a sentence.
    pub message: String,
    /// What to do.
    pub advice: Option<Advice>,
    /// Where it is in the document, if it is in one place.
    pub offset: Option<usize>,
}

type Edits<T> = Result<T, EditProblem>;

fn problem(message: impl Into<String>, advice: &'static str, offset: Option<usize>) -> EditProblem {
    EditProblem { message: message.into(), advice: Some(Advice::words(advice)), offset }
}

/// The text of a document of JSON, YAML, TOML or XML that holds `new` where it held `old`, which was read from it.
///
/// # Errors
/// Why it cannot be made so: the format is another, the change is of what an alias of YAML stands for, or the value has no place there.
pub fn edit_text<'a>(
    format: Format,
    text: &str,
    old: Value<'a>,
    new: Value<'a>,
) -> Result<String, EditProblem> {
    let splices = match format {
        Format::Xml => xml::splices(text, old, new)?,
        Format::Toml => {
            let delta = delta_of(old, new);
            let edited = toml::edited(text, &delta)?;
            return checked(format, edited, new);
        }
        Format::Json | Format::Yaml => {
            let Some(found) = outline(format, text) else {
                let advice = "write the result to another file, or edit its documents apart";
                return Err(problem("the text does not hold just one document", advice, None));
            };
            let mut aliases = HashSet::new();
            note_aliases(&found, &mut aliases);
            let mut editor = Editor { format, text, splices: Vec::new(), aliases };
            editor.apply(&found, &delta_of(old, new))?;
            editor.splices
        }
        other => {
            let message = format!("{other} is not edited in place");
            return Err(problem(
                message,
                "JSON, YAML, TOML and XML are; write to another file",
                None,
            ));
        }
    };
    checked(format, spliced(text, splices), new)
}

/// The text of a document of XML whose [record view](kyanite_formats::record_view) is `new` where it was `old`.
///
/// # Errors
/// Why it cannot be made so, as of [`edit_text`].
pub fn edit_record<'a>(
    text: &str,
    document: &Element<'_>,
    old: Value<'a>,
    new: Value<'a>,
) -> Result<String, EditProblem> {
    let edited = spliced(text, record::splices(text, document, &delta_of(old, new))?);
    let arena = Arena::new();
    let record = |text: &str| {
        let text = arena.text(text);
        let read = documents::read(Format::Xml, text, &arena, Options::default()).ok()?;
        read.roots.first().map(|root| View::default().record(*root, &arena))
    };
    let is_same = |one, other| {
        // Texts are the numbers that they spell, and a list of one item is that.
        let comparison = Comparison { crosses: true, ..Comparison::default() };
        compare(one, other, &comparison).changes.is_empty()
    };
    let made = record(&edited).ok_or_else(unmade)?;
    // A patch may leave content in order that has members by name once it is read.
    let is_new = || {
        let written = xml::markup(new).map(|markup| String::from_utf8_lossy(&markup).into_owned());
        written.as_deref().and_then(record).is_some_and(|wanted| is_same(made, wanted))
    };
    if is_same(made, new) || is_new() { Ok(edited) } else { Err(unmade()) }
}

fn delta_of<'a>(old: Value<'a>, new: Value<'a>) -> Delta<'a> {
    compare(old, new, &Comparison { numbers: Numbers::Spelling, ..Comparison::default() }).delta
}

/// Whatever is unusual in a text, what was made of it holds what it is to hold, or is not given.
fn checked(format: Format, edited: String, new: Value<'_>) -> Edits<String> {
    let arena = Arena::new();
    let holds = documents::read(format, &edited, &arena, Options::default()).is_ok_and(|read| {
        match read.roots.as_slice() {
            // Texts side by side are one text once they are read.
            [root] if format == Format::Xml => xml::markup(*root) == xml::markup(new),
            [root] => compare(*root, new, &Comparison::default()).changes.is_empty(),
            _ => false,
        }
    });
    if holds {
        return Ok(edited);
    }
    Err(unmade())
}

fn unmade() -> EditProblem {
    let advice = "write the result to another file";
    problem("the change cannot be made in the text as it is laid out", advice, None)
}

/// Some bytes of a text, and what takes their place.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
struct Splice {
    start: usize,
    end: usize,
    text: String,
}

fn spliced(text: &str, mut splices: Vec<Splice>) -> String {
    splices.sort_by_key(|splice| (splice.start, splice.end));
    let (mut edited, mut at) = (String::with_capacity(text.len() + 64), 0);
    for Splice { start, end, text: new } in splices {
        edited.push_str(text.get(at..start).unwrap_or_default());
        edited.push_str(&new);
        at = at.max(end);
    }
    edited.push_str(&text[at..]);
    edited
}

fn note_aliases(found: &Outline, aliases: &mut HashSet<String>) {
    match &found.node {
        Node::Scalar => {}
        Node::Alias(name) => drop(aliases.insert(name.clone())),
        Node::List { items, .. } => items.iter().for_each(|item| note_aliases(item, aliases)),
        Node::Map { members, .. } => {
            members.iter().for_each(|member| note_aliases(&member.value, aliases));
        }
    }
}

/// Makes splices along a difference.
struct Editor<'t> {
    format: Format,
    text: &'t str,
    splices: Vec<Splice>,
    /// The anchors that aliases refer to.
    aliases: HashSet<String>,
}

/// Something that is put into a list or map, behind one of those that stay.
struct Insertion {
    /// The number of the item or member before it, among those that were there.
    after: Option<usize>,
    text: String,
}

/// The entries that go, by ranges of those that stand together.
fn runs(is_gone: &[bool]) -> impl Iterator<Item = Range<usize>> {
    let mut end = 0;
    is_gone.chunk_by(|one, next| one == next).filter_map(move |run| {
        let start = end;
        end += run.len();
        run[0].then_some(start..end)
    })
}

impl Editor<'_> {
    fn splice(&mut self, start: usize, end: usize, text: impl Into<String>) {
        self.splices.push(Splice { start, end, text: text.into() });
    }

    fn apply(&mut self, found: &Outline, delta: &Delta<'_>) -> Edits<()> {
        if let Delta::Same = delta {
            return Ok(());
        }
        let offset = Some(found.span.start);
        if let Node::Alias(name) = &found.node {
            let message = format!("the alias *{name} stands for what is changed here");
            let advice =
                "change it where the anchor is, or write the value in place of the alias first";
            return Err(problem(message, advice, offset));
        }
        if let Some(name) = found.anchor.as_ref().filter(|name| self.aliases.contains(*name)) {
            let message =
                format!("what the anchor &{name} names is changed, and aliases repeat it");
            let advice = "write the values in place of the aliases first";
            return Err(problem(message, advice, offset));
        }
        match (delta, &found.node) {
            (Delta::Other(value), _) => {
                self.replace(found, *value);
                Ok(())
            }
            (Delta::Map { removed, added, changed, .. }, Node::Map { members, .. }) => {
                self.map(found, members, (removed, added, changed))
            }
            (Delta::List { removed, items }, Node::List { items: olds, .. }) => {
                self.list(found, olds, removed, items)
            }
            _ => Err(problem(
                "a value is changed that is not written where it stands",
                "write the result to another file",
                offset,
            )),
        }
    }

    /// Puts another value in the place of one.
    fn replace(&mut self, found: &Outline, value: Value<'_>) {
        let (start, end) = (found.span.start, found.span.end);
        let text = self.rendered(value, start);
        let old = &self.text[start..end];
        // What was empty stands right behind its colon or hyphen; a text in a block takes its line ends along.
        let blank =
            if start == end && !self.text[..start].ends_with([' ', '\n']) { " " } else { "" };
        let line_end = if old.ends_with('\n') { "\n" } else { "" };
        self.splice(start, end, format!("{blank}{text}{line_end}"));
    }

    /// A value as it stands in the text at some byte.
    fn rendered(&self, value: Value<'_>, at: usize) -> String {
        match self.format {
            Format::Json => {
                if !self.text.trim_end().contains('\n') {
                    return json::compact(value);
                }
                let mut out = Vec::new();
                json::write(value, json::Style::Indented(self.unit()), &mut out);
                let indent: String = self.indent_at(at).to_owned();
                String::from_utf8_lossy(&out).replace('\n', &format!("\n{indent}"))
            }
            _ => inline_yaml(value),
        }
    }

    /// The blanks at the beginning of the line that a byte is on.
    fn indent_at(&self, at: usize) -> &str {
        let line = &self.text[self.line_start(at)..];
        &line[..line.len() - line.trim_start_matches([' ', '\t']).len()]
    }

    fn line_start(&self, at: usize) -> usize {
        self.text[..at].rfind('\n').map_or(0, |end| end + 1)
    }

    /// Behind the line end of the line that a byte is on.
    fn line_end(&self, at: usize) -> usize {
        self.text[at..].find('\n').map_or(self.text.len(), |end| at + end + 1)
    }

    /// How many blanks a level is indented by.
    fn unit(&self) -> usize {
        let lines = self.text.lines().skip(1);
        let mut indents = lines.map(|line| line.len() - line.trim_start_matches(' ').len());
        indents.find(|indent| *indent > 0).unwrap_or(2)
    }

    fn map(
        &mut self,
        found: &Outline,
        members: &[MemberOutline],
        (removed, added, changed): (&[&str], &[Member<'_>], &[(&str, Delta<'_>)]),
    ) -> Edits<()> {
        let position = |name: &str| {
            // Of a member that is given twice the later one counts.
            members.iter().rposition(|member| member.text.as_deref() == Some(name))
        };
        let missing = |name: &str| {
            let message =
                format!("the member {name:?} is not written in the map, but merged into it");
            let advice =
                "write the value in the map itself first, or change it where it comes from";
            problem(message, advice, Some(found.span.start))
        };
        for (name, delta) in changed {
            let at = position(name).ok_or_else(|| missing(name))?;
            self.apply(&members[at].value, delta)?;
        }
        let mut is_gone = vec![false; members.len()];
        for name in removed {
            is_gone[position(name).ok_or_else(|| missing(name))?] = true;
            // The earlier ones of a member that is given twice would take its place.
            let all = members.iter().zip(&mut is_gone);
            all.filter(|(member, _)| member.text.as_deref() == Some(*name))
                .for_each(|(_, gone)| *gone = true);
        }
        for (member, _) in members.iter().zip(&is_gone).filter(|(_, gone)| **gone) {
            self.guard(&member.value)?;
        }
        let last = (0..members.len()).rev().find(|at| !is_gone[*at]);
        let insertions = added.iter().map(|member| {
            let start = members.first().map_or(found.span.start, |first| first.name.start);
            let text = self.member_text(member, members, start);
            Insertion { after: last, text }
        });
        let insertions: Vec<Insertion> = insertions.collect();
        let entries: Vec<(usize, usize)> = members
            .iter()
            .map(|member| (member.name.start, member.value.span.end.max(member.name.end)))
            .collect();
        self.restructure(found, &entries, &is_gone, &insertions)
    }

    /// A member as it stands in the text.
    fn member_text(&self, member: &Member<'_>, members: &[MemberOutline], at: usize) -> String {
        let value = self.rendered(member.value, at);
        match self.format {
            Format::Json => {
                // As there is a blank behind the colon elsewhere, or none.
                let between =
                    members.first().map(|first| &self.text[first.name.end..first.value.span.start]);
                let colon = between.filter(|between| !between.contains('\n')).unwrap_or(": ");
                let mut name = Vec::new();
                json::write_text(member.name, &mut name);
                format!("{}{colon}{value}", String::from_utf8_lossy(&name))
            }
            _ => format!("{}: {value}", inline_yaml(Value::text(member.name))),
        }
    }

    fn list(
        &mut self,
        found: &Outline,
        olds: &[Outline],
        removed: &[usize],
        items: &[Aligned<'_>],
    ) -> Edits<()> {
        let mut is_gone = vec![false; olds.len()];
        removed.iter().for_each(|at| is_gone[*at] = true);
        let (mut insertions, mut before) = (Vec::new(), None);
        let start = olds.first().map_or(found.span.start, |first| first.span.start);
        for item in items {
            match item {
                Aligned::Both { old, is_moved: false, delta, .. } => {
                    self.apply(&olds[*old], delta)?;
                    before = Some(*old);
                }
                Aligned::Both { old, value, .. } => {
                    is_gone[*old] = true;
                    insertions
                        .push(Insertion { after: before, text: self.rendered(*value, start) });
                }
                Aligned::Added(value) => {
                    insertions
                        .push(Insertion { after: before, text: self.rendered(*value, start) });
                }
            }
        }
        for (item, _) in olds.iter().zip(&is_gone).filter(|(_, gone)| **gone) {
            self.guard(item)?;
        }
        let entries: Vec<(usize, usize)> =
            olds.iter().map(|item| (item.span.start, item.span.end)).collect();
        self.restructure(found, &entries, &is_gone, &insertions)
    }

    /// Refuses to remove what aliases that stay refer to.
    fn guard(&self, found: &Outline) -> Edits<()> {
        if let Some(name) = found.anchor.as_ref().filter(|name| self.aliases.contains(*name)) {
            let message =
                format!("what the anchor &{name} names would go, and aliases refer to it");
            let advice = "write the values in place of the aliases first";
            return Err(problem(message, advice, Some(found.span.start)));
        }
        match &found.node {
            Node::Scalar | Node::Alias(_) => Ok(()),
            Node::List { items, .. } => items.iter().try_for_each(|item| self.guard(item)),
            Node::Map { members, .. } => {
                members.iter().try_for_each(|member| self.guard(&member.value))
            }
        }
    }

    /// Takes entries of a list or map away, and puts others in.
    fn restructure(
        &mut self,
        found: &Outline,
        entries: &[(usize, usize)],
        is_gone: &[bool],
        insertions: &[Insertion],
    ) -> Edits<()> {
        if insertions.is_empty() && !is_gone.contains(&true) {
            return Ok(());
        }
        let is_block = matches!(
            found.node,
            Node::List { is_block: true, .. } | Node::Map { is_block: true, .. }
        );
        if is_block {
            let is_list = matches!(found.node, Node::List { .. });
            self.in_block(found, entries, is_gone, insertions, is_list)
        } else {
            self.in_brackets(found, entries, is_gone, insertions)
        }
    }
}

/// A value of YAML on one line.
fn inline_yaml(value: Value<'_>) -> String {
    match value {
        Value::List(..) | Value::Map(..) | Value::Element(..) => json::compact(value),
        scalar => {
            let mut out = Vec::new();
            yaml::write(scalar, 2, &mut out);
            let text = String::from_utf8_lossy(&out).trim_end().to_owned();
            if text.contains('\n') { json::compact(scalar) } else { text }
        }
    }
}

/// Where something was read, as a byte of the text that is edited.
fn offset_of(origin: Origin) -> Option<usize> {
    (origin != Origin::NONE).then(|| kyanite_tree::Base::default().offset(origin))
}
