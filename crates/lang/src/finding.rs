//! What a look at a rule brings to light, before any input is read.

pub use kyanite_tree::Span;
use kyanite_tree::{Advice, Diagnostic, Place, near};

/// The text of a rule and the name it goes by in messages.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct RuleText {
    /// A file name, or words such as `the expression`.
    pub name: String,
    /// The rule, and behind it the libraries that it uses.
    pub text: String,
    /// The libraries: where each begins in the text, and its name.
    libraries: Vec<(usize, String)>,
}

impl RuleText {
    /// A rule text by its name.
    #[must_use]
    pub fn new(name: impl Into<String>, text: impl Into<String>) -> Self {
        Self { name: name.into(), text: text.into(), libraries: Vec::new() }
    }

    /// Adds the text of a library that the rule uses.
    pub fn add_library(&mut self, name: impl Into<String>, text: &str) {
        self.text.push('\n');
        self.libraries.push((self.text.len(), name.into()));
        self.text.push_str(text);
    }

    /// The rule's own text and then its libraries: up to where the text has to be read, and from where on.
    pub(crate) fn parts(&self) -> impl Iterator<Item = (&str, usize)> {
        let starts = std::iter::once(0).chain(self.libraries.iter().map(|(start, _)| *start));
        let ends = self.libraries.iter().map(|(start, _)| start - 1);
        let ends = ends.chain(std::iter::once(self.text.len()));
        starts.zip(ends).map(|(start, end)| (&self.text[..end], start))
    }

    /// The rule's own text and then its libraries, each with its name.
    pub fn texts(&self) -> impl Iterator<Item = (&str, &str)> {
        let libraries = self.libraries.iter().map(|(_, name)| name.as_str());
        let names = std::iter::once(self.name.as_str()).chain(libraries);
        names.zip(self.parts().map(|(text, start)| &text[start..]))
    }

    /// The names of the libraries that it uses.
    pub fn libraries(&self) -> impl Iterator<Item = &str> {
        self.libraries.iter().map(|(_, name)| name.as_str())
    }

    /// The place of `span`.
    #[must_use]
    pub fn place(&self, span: Span) -> Place {
        let library = self.libraries.iter().rev().find(|(start, _)| *start <= span.start);
        let (start, name) = library.map_or((0, &self.name), |(start, name)| (*start, name));
        let next = self.libraries.iter().find(|(next, _)| *next > span.start);
        let end = next.map_or(self.text.len(), |(next, _)| next - 1);
        let text = self.text.get(start..end).unwrap_or_default();
        Place::of(name, text.as_bytes(), span.start - start, span.end - start).in_rule()
    }

    /// A finding as a message.
    #[must_use]
    pub fn diagnostic(&self, finding: Finding) -> Diagnostic {
        finding.resolve(|span| Some(self.place(span)))
    }

    /// The words at `span`, on one line.
    #[must_use]
    pub fn slice(&self, span: Span) -> String {
        let words = self.text.get(span.start..span.end).unwrap_or_default();
        words.split_whitespace().collect::<Vec<_>>().join(" ")
    }
}

/// Something to say about a rule before any input is read, at spans of its text.
pub type Finding = Diagnostic<Span>;

/// The names near to one that stands at `span` and is not known, the nearest as what can be written there.
pub(crate) fn near_advice<'n>(
    span: Span,
    name: &str,
    known: impl IntoIterator<Item = &'n str>,
) -> Option<Advice<Span>> {
    let near = near(name, known);
    let first = near.first()?;
    Some(Advice::words(format!("near: {}", near.join(", "))).fix(span, *first))
}

/// The expression for the first item of the list that `words` stands for.
pub(crate) fn first_of(words: &str) -> String {
    let is_path = !words.contains([' ', '(', '?', '{', '"', '\'']);
    match words.strip_suffix("[*]") {
        Some(list) if is_path => format!("{list}[0]"),
        None if is_path => format!("{words}[0]"),
        _ => format!("({words})[0]"),
    }
}

/// An advice to write `text` in place of what stands at `span`; `why` follows it.
pub(crate) fn instead(span: Span, text: impl Into<String>, why: &str) -> Advice<Span> {
    let text = text.into();
    Advice::words(format!("write {text}{why}")).fix(span, text)
}
