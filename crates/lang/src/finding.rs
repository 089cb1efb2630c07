//! What a look at a rule brings to light, before any input is read.

use kyanite_tree::{Problem, Severity, Spot};

/// A range of bytes in the text of a rule.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct Span {
    /// The first byte.
    pub start: usize,
    /// The byte after the last.
    pub end: usize,
}

impl Span {
    /// The span `start..end`.
    #[must_use]
    pub fn new(start: usize, end: usize) -> Self {
        Self { start, end }
    }

    /// The span from the start of this one to the end of `last`.
    #[must_use]
    pub fn to(self, last: Self) -> Self {
        Self { start: self.start, end: last.end.max(self.end) }
    }
}

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

    /// The names of the libraries that it uses.
    pub fn libraries(&self) -> impl Iterator<Item = &str> {
        self.libraries.iter().map(|(_, name)| name.as_str())
    }

    /// The place of `span`.
    #[must_use]
    pub fn spot(&self, span: Span) -> Spot {
        let library = self.libraries.iter().rev().find(|(start, _)| *start <= span.start);
        let (start, name) = library.map_or((0, &self.name), |(start, name)| (*start, name));
        let next = self.libraries.iter().find(|(next, _)| *next > span.start);
        let end = next.map_or(self.text.len(), |(next, _)| next - 1);
        let text = self.text.get(start..end).unwrap_or_default();
        Spot::of(name, text.as_bytes(), span.start - start, span.end - start)
    }

    /// The words at `span`, on one line.
    #[must_use]
    pub fn slice(&self, span: Span) -> String {
        let words = self.text.get(span.start..span.end).unwrap_or_default();
        words.split_whitespace().collect::<Vec<_>>().join(" ")
    }
}

/// Something to say about one place in a rule.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Finding {
    /// How bad it is.
    pub severity: Severity,
    /// One plain sentence.
    pub message: String,
    /// Where in the rule.
    pub span: Span,
    /// Another place that belongs to it.
    pub also: Option<Span>,
    /// What to write instead.
    pub advice: Option<String>,
}

impl Finding {
    /// Something that keeps the rule from running.
    #[must_use]
    pub fn error(span: Span, message: impl Into<String>) -> Self {
        Self { severity: Severity::Error, message: message.into(), span, also: None, advice: None }
    }

    /// Something that is probably not meant.
    #[must_use]
    pub fn warning(span: Span, message: impl Into<String>) -> Self {
        Self { severity: Severity::Warning, ..Self::error(span, message) }
    }

    /// Says what to write instead.
    #[must_use]
    pub fn advise(mut self, advice: impl Into<String>) -> Self {
        self.advice = Some(advice.into());
        self
    }

    /// Says what to write instead, if anything can be said.
    #[must_use]
    pub fn advise_opt(mut self, advice: Option<String>) -> Self {
        self.advice = advice.or(self.advice);
        self
    }

    /// Points at a second place.
    #[must_use]
    pub fn and_at(mut self, span: Span) -> Self {
        self.also = Some(span);
        self
    }

    /// The finding as a message.
    #[must_use]
    pub fn problem(&self, rule: &RuleText) -> Problem {
        let mut problem = Problem::error(self.message.clone()).at(rule.spot(self.span));
        problem.severity = self.severity;
        problem.at_opt(self.also.map(|span| rule.spot(span))).advise_opt(self.advice.clone())
    }
}

/// The names of `known` that are near to `name`, nearest first, at most three.
#[must_use]
pub fn near<'a>(name: &str, known: impl IntoIterator<Item = &'a str>) -> Vec<&'a str> {
    let folded = name.to_lowercase();
    let mut near: Vec<(usize, &str)> = known
        .into_iter()
        .filter(|other| *other != name)
        .filter_map(|other| {
            let other_folded = other.to_lowercase();
            let distance = strsim::damerau_levenshtein(&folded, &other_folded);
            let allowed = ((folded.chars().count() + 1) / 3).clamp(1, 3);
            let prefix = folded.chars().count() > 2
                && (other_folded.starts_with(&folded) || folded.starts_with(&other_folded))
                && other_folded.chars().count() > 2;
            (distance <= allowed || prefix).then_some((distance, other))
        })
        .collect();
    near.sort();
    near.dedup();
    near.into_iter().take(3).map(|(_, name)| name).collect()
}

/// `near: a, b`, if any of `known` is near to `name`.
#[must_use]
pub fn near_words<'a>(name: &str, known: impl IntoIterator<Item = &'a str>) -> Option<String> {
    let near = near(name, known);
    (!near.is_empty()).then(|| format!("near: {}", near.join(", ")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn near_names() {
        let known = ["vessel", "vehicle", "fare", "Berth", "seats", "id"];
        assert_eq!(near("vesel", known), ["vessel"]);
        assert_eq!(near("berth", known), ["Berth"]);
        assert_eq!(near("seat", known), ["seats"]);
        assert!(near("harbour", known).is_empty() && near("note", ["code", "name"]).is_empty());
        assert!(near("x", ["y1", "abc"]).is_empty());
    }
}
