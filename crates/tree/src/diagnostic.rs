//! What went wrong, or is worth saying, as a value.
//!
//! Every error, warning and note of Kyanite has one form: a [`Code`], a plain sentence, the places it is about, and what
//! to do. The core makes them; an interface shows them, and turns the [settings](Setting) that an [`Advice`] speaks of into
//! whatever sets them there: an option of a command, a switch.
//!
//! A diagnostic is generic over its places. Where it is made, a place is a [`Span`] of a text or a [`Locus`]; whoever knows
//! the texts makes a [`Place`] of each with [`Diagnostic::resolve`].
//!
//! ```
//! use kyanite_tree::{Advice, Code, Diagnostic, Place, Setting, Span};
//!
//! let text = "{\"fare\": 12,, \"id\": 4}";
//! let found = Diagnostic::error_at(Code::Syntax, Span::new(12, 13), "a comma too many")
//!     .advise(Advice::words("take it away, or read with ").setting(Setting::Lenient));
//! let shown = found.resolve(|span| Some(Place::of("f.json", text.as_bytes(), span.start, span.end)));
//! assert_eq!(shown.places()[0].at.to_string(), "1:13");
//! assert_eq!(shown.to_string(), "error: a comma too many");
//! ```

use std::borrow::Cow;
use std::fmt;

use crate::{Code, Origin, Passed, Place, Value};

/// A range of bytes in a text.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct Span {
    /// The first byte.
    pub start: usize,
    /// The byte after the last; at least `start`.
    pub end: usize,
}

impl Span {
    /// The span `start..end`.
    #[must_use]
    pub fn new(start: usize, end: usize) -> Self {
        Self { start, end: end.max(start) }
    }

    /// The span from the start of this one to the end of `last`.
    #[must_use]
    pub fn to(self, last: Self) -> Self {
        Self { start: self.start, end: last.end.max(self.end) }
    }

    /// Whether `inner` lies in this one.
    #[must_use]
    pub fn contains(self, inner: Self) -> bool {
        self.start <= inner.start && inner.end <= self.end
    }
}

/// A place that is not looked up yet: in the rule that runs, or where a value was read.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Locus {
    /// In the text of the rule.
    Rule(Span),
    /// In an input.
    Input(Origin),
}

/// How bad it is.
#[derive(Clone, Copy, PartialEq, Eq, Debug, PartialOrd, Ord)]
pub enum Severity {
    /// The run goes on, and the result is what was asked for; something may be of interest.
    Note,
    /// The run goes on, but the result may not be what was meant.
    Warning,
    /// The run ends.
    Error,
}

impl Severity {
    /// The word in front of a message.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Note => "note",
            Self::Warning => "warning",
            Self::Error => "error",
        }
    }
}

/// Something about a run that can be set otherwise. The core does not know how: that is the interface's.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub enum Setting {
    /// Broken XML is repaired, broken records are left out.
    Lenient,
    /// Each repair is told, not only each sort of them.
    Repairs,
    /// The format of the input, by name; none where any may be meant.
    From(Option<&'static str>),
    /// The format of the output, by name; none where any may be meant.
    To(Option<&'static str>),
    /// The encoding of the input.
    Encoding,
    /// The sign between the cells of CSV.
    Delimiter(char),
    /// How deep documents may nest.
    Depth,
    /// How much entities of XML may expand to.
    Expansion,
    /// How much aliases of YAML may stand for.
    Aliases,
    /// How large a document that is held whole may be.
    SizeLimit,
    /// How much memory waiting tuples may take.
    Memory,
    /// The folder for temporary files.
    TemporaryFolder,
    /// How long a server may take.
    Timeout,
    /// Header fields for servers.
    Header,
    /// The document is a text that holds another.
    Unwrap,
    /// All documents are one list.
    Gather,
    /// Nested values go into columns with dotted names.
    Flatten,
    /// The columns of a table.
    Columns,
    /// The places of matches are wanted, not their values.
    Paths,
    /// Losses are listed one by one.
    Losses,
    /// A loss ends the run.
    Strict,
    /// The value of a param, by its name.
    Param(String),
    /// The members at this path of the record view are always lists.
    List(String),
    /// The members at this path of the record view are always maps.
    AsMap(String),
    /// The nodes at this path are the records, a line each.
    Records(String),
    /// The members of the result become files.
    Apart,
    /// The name of the root element.
    Root,
    /// What a prefix in an XPath means, by the URI of the namespace; an empty one is that of names without a prefix.
    Namespace(String, String),
    /// Names in an XPath are matched without their namespaces.
    IgnoreNamespaces,
    /// A patch is a JSON Merge Patch.
    Merge,
    /// The items of the lists at a path are told by a member.
    Key(String, String),
    /// The document that schemas mean by a URI.
    SchemaMap(String),
    /// The schema that documents have to keep to.
    Schema,
    /// Files that are left out.
    Exclude,
    /// What the expression is written in.
    Syntax(&'static str),
}

impl fmt::Display for Setting {
    /// The setting in plain words, for those who do not know how it is set.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let words = match self {
            Self::Lenient => "lenient reading",
            Self::Repairs => "a list of all repairs",
            Self::From(None) => "the format of the input",
            Self::To(None) => "the format of the output",
            Self::From(Some(format)) => return write!(f, "{format} as the format of the input"),
            Self::To(Some(format)) => return write!(f, "{format} as the format of the output"),
            Self::Encoding => "the encoding of the input",
            Self::Delimiter(sign) => return write!(f, "{sign:?} as the delimiter of cells"),
            Self::Depth => "the limit of depth",
            Self::Expansion => "the limit of expansion",
            Self::Aliases => "the limit of aliases",
            Self::SizeLimit => "the limit of size",
            Self::Memory => "the limit of memory",
            Self::TemporaryFolder => "the folder for temporary files",
            Self::Timeout => "the timeout",
            Self::Header => "header fields",
            Self::Unwrap => "unwrapping",
            Self::Gather => "gathering",
            Self::Flatten => "flattening",
            Self::Columns => "the columns",
            Self::Paths => "places as results",
            Self::Losses => "a list of all losses",
            Self::Strict => "strictness about losses",
            Self::Param(name) => return write!(f, "the param {name}"),
            Self::List(path) => return write!(f, "{path} as a list"),
            Self::AsMap(path) => return write!(f, "{path} as a map"),
            Self::Records(path) => return write!(f, "{path} as the records"),
            Self::Apart => "members as files",
            Self::Root => "the name of the root element",
            Self::Namespace(prefix, uri) if prefix.is_empty() => {
                return write!(f, "{uri} as the namespace of names without a prefix");
            }
            Self::Namespace(prefix, uri) => {
                return write!(f, "{uri} as what the prefix {prefix} means");
            }
            Self::IgnoreNamespaces => "names without their namespaces",
            Self::Merge => "merging",
            Self::Key(path, member) => {
                return write!(f, "{member} as what tells the items of {path}");
            }
            Self::SchemaMap(_) => "the document that a URI means",
            Self::Schema => "the schema",
            Self::Exclude => "files to leave out",
            Self::Syntax(syntax) => {
                return write!(f, "{syntax} as what the expression is written in");
            }
        };
        f.write_str(words)
    }
}

/// A part of an advice.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum AdvicePart {
    /// Words as they are shown.
    Words(Cow<'static, str>),
    /// A setting, which the interface names.
    Setting(Setting),
}

/// A text that can be written in place of another.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Fix<P = Place> {
    /// What it replaces.
    pub place: P,
    /// What is written there.
    pub text: String,
}

/// What to do about it: a sentence in which settings are data, and perhaps a text that can be typed.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Advice<P = Place> {
    parts: Vec<AdvicePart>,
    fix: Option<Box<Fix<P>>>,
}

impl<P> Advice<P> {
    /// What to do where temporary files find no room, or less of them is wanted.
    #[must_use]
    pub fn temporary_room() -> Self {
        Self::words("make room there, name another folder in ")
            .setting(Setting::TemporaryFolder)
            .then(", or raise ")
            .setting(Setting::Memory)
    }

    /// An advice in words.
    #[must_use]
    pub fn words(words: impl Into<Cow<'static, str>>) -> Self {
        Self { parts: vec![AdvicePart::Words(words.into())], fix: None }
    }

    /// An advice that begins with a setting.
    #[must_use]
    pub fn set(setting: Setting) -> Self {
        Self { parts: vec![AdvicePart::Setting(setting)], fix: None }
    }

    /// Goes on with words.
    #[must_use]
    pub fn then(mut self, words: impl Into<Cow<'static, str>>) -> Self {
        self.parts.push(AdvicePart::Words(words.into()));
        self
    }

    /// Goes on with a setting.
    #[must_use]
    pub fn setting(mut self, setting: Setting) -> Self {
        self.parts.push(AdvicePart::Setting(setting));
        self
    }

    /// Says which text would mend it, written in place of what is at `place`.
    #[must_use]
    pub fn fix(mut self, place: P, text: impl Into<String>) -> Self {
        self.fix = Some(Box::new(Fix { place, text: text.into() }));
        self
    }

    /// Its parts, in order.
    #[must_use]
    pub fn parts(&self) -> &[AdvicePart] {
        &self.parts
    }

    /// The text that would mend it.
    #[must_use]
    pub fn mend(&self) -> Option<&Fix<P>> {
        self.fix.as_deref()
    }

    /// The settings that it speaks of.
    pub fn settings(&self) -> impl Iterator<Item = &Setting> {
        self.parts.iter().filter_map(|part| match part {
            AdvicePart::Setting(setting) => Some(setting),
            AdvicePart::Words(_) => None,
        })
    }

    /// The same advice about other places, without the fix.
    #[must_use]
    pub fn elsewhere<Q>(self) -> Advice<Q> {
        Advice { parts: self.parts, fix: None }
    }

    /// The same advice with its place looked up; without the fix where that place is not known.
    fn resolve<Q>(self, find: &mut impl FnMut(P) -> Option<Q>) -> Advice<Q> {
        let fix = self.fix.and_then(|fix| {
            let Fix { place, text } = *fix;
            Some(Box::new(Fix { place: find(place)?, text }))
        });
        Advice { parts: self.parts, fix }
    }
}

impl<P> From<&'static str> for Advice<P> {
    fn from(words: &'static str) -> Self {
        Self::words(words)
    }
}

/// Words, and the setting that they end with.
impl<P> From<(&'static str, Setting)> for Advice<P> {
    fn from((words, setting): (&'static str, Setting)) -> Self {
        Self::words(words).setting(setting)
    }
}

impl<P> From<String> for Advice<P> {
    fn from(words: String) -> Self {
        Self::words(words)
    }
}

impl<P> fmt::Display for Advice<P> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.parts.iter().try_for_each(|part| match part {
            AdvicePart::Words(words) => f.write_str(words),
            AdvicePart::Setting(setting) => setting.fmt(f),
        })
    }
}

/// One message: an error, a warning or a note. It takes as much room as a pointer, so that results that carry one stay
/// small.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Diagnostic<P = Place>(Box<Inner<P>>);

#[derive(Clone, PartialEq, Eq, Debug)]
struct Inner<P> {
    code: Code,
    severity: Severity,
    message: String,
    places: Vec<P>,
    advice: Option<Advice<P>>,
}

impl<P> Diagnostic<P> {
    /// An error; the message is one plain sentence, without a full stop.
    #[must_use]
    pub fn error(code: Code, message: impl Into<String>) -> Self {
        Self::new(code, Severity::Error, message)
    }

    /// A warning.
    #[must_use]
    pub fn warning(code: Code, message: impl Into<String>) -> Self {
        Self::new(code, Severity::Warning, message)
    }

    /// A note.
    #[must_use]
    pub fn note(code: Code, message: impl Into<String>) -> Self {
        Self::new(code, Severity::Note, message)
    }

    /// An error at a place.
    #[must_use]
    pub fn error_at(code: Code, place: P, message: impl Into<String>) -> Self {
        Self::error(code, message).at(place)
    }

    /// A warning about a place.
    #[must_use]
    pub fn warning_at(code: Code, place: P, message: impl Into<String>) -> Self {
        Self::warning(code, message).at(place)
    }

    fn new(code: Code, severity: Severity, message: impl Into<String>) -> Self {
        let (message, places) = (message.into(), Vec::new());
        Self(Box::new(Inner { code, severity, message, places, advice: None }))
    }

    /// Points at a further place.
    #[must_use]
    pub fn at(mut self, place: P) -> Self {
        self.0.places.push(place);
        self
    }

    /// Points at a further place, if there is one.
    #[must_use]
    pub fn at_opt(mut self, place: Option<P>) -> Self {
        self.0.places.extend(place);
        self
    }

    /// Says what to do.
    #[must_use]
    pub fn advise(mut self, advice: impl Into<Advice<P>>) -> Self {
        self.0.advice = Some(advice.into());
        self
    }

    /// Says what to do, if anything can be said; what was said before stays where nothing can.
    #[must_use]
    pub fn advise_opt(mut self, advice: Option<impl Into<Advice<P>>>) -> Self {
        if let Some(advice) = advice {
            self.0.advice = Some(advice.into());
        }
        self
    }

    /// Says that there is nothing to do.
    #[must_use]
    pub fn without_advice(mut self) -> Self {
        self.0.advice = None;
        self
    }

    /// The same in another severity.
    #[must_use]
    pub fn with_severity(mut self, severity: Severity) -> Self {
        self.0.severity = severity;
        self
    }

    /// The same with another sentence.
    #[must_use]
    pub fn with_message(mut self, message: impl Into<String>) -> Self {
        self.0.message = message.into();
        self
    }

    /// What sort of thing it is about.
    #[must_use]
    pub fn code(&self) -> Code {
        self.0.code
    }

    /// How bad it is.
    #[must_use]
    pub fn severity(&self) -> Severity {
        self.0.severity
    }

    /// One plain sentence, without a full stop.
    #[must_use]
    pub fn message(&self) -> &str {
        &self.0.message
    }

    /// The places, the one to look at first in front.
    #[must_use]
    pub fn places(&self) -> &[P] {
        &self.0.places
    }

    /// What to do about it.
    #[must_use]
    pub fn advice(&self) -> Option<&Advice<P>> {
        self.0.advice.as_ref()
    }

    /// The same with each place looked up; those that `find` does not know are left out.
    #[must_use]
    pub fn resolve<Q>(self, mut find: impl FnMut(P) -> Option<Q>) -> Diagnostic<Q> {
        let Inner { code, severity, message, places, advice } = *self.0;
        let places = places.into_iter().filter_map(&mut find).collect();
        let advice = advice.map(|advice| advice.resolve(&mut find));
        Diagnostic(Box::new(Inner { code, severity, message, places, advice }))
    }
}

impl Diagnostic {
    /// The same about a text that goes on where `before` is the last.
    #[must_use]
    pub fn behind(self, before: Passed) -> Self {
        self.resolve(|place| Some(place.behind(before)))
    }
}

impl Diagnostic<Locus> {
    /// The place in the rule, if one is told.
    #[must_use]
    pub fn rule(&self) -> Option<Span> {
        self.places().iter().find_map(|place| match place {
            Locus::Rule(span) => Some(*span),
            Locus::Input(_) => None,
        })
    }

    /// Where the value in the input was read, or the nearest that is there.
    #[must_use]
    pub fn origin(&self) -> Origin {
        let inputs = self.places().iter().filter_map(|place| match place {
            Locus::Input(origin) => Some(*origin),
            Locus::Rule(_) => None,
        });
        inputs.into_iter().next().unwrap_or(Origin::NONE)
    }

    /// Points at where a value was read, in place of any that it pointed at before.
    #[must_use]
    pub fn read_at(mut self, origin: Origin) -> Self {
        self.0.places.retain(|place| matches!(place, Locus::Rule(_)));
        if origin.is_known() {
            // The input is looked at first.
            self.0.places.insert(0, Locus::Input(origin));
        }
        self
    }

    /// Points at where the value was read, if there is one.
    #[must_use]
    pub fn about(self, value: Option<Value<'_>>) -> Self {
        match value {
            Some(value) => self.read_at(value.origin()),
            None => self,
        }
    }
}

impl<P> fmt::Display for Diagnostic<P> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}", self.0.severity.word(), self.0.message)
    }
}

impl<P: fmt::Debug> std::error::Error for Diagnostic<P> {}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn results_with_a_diagnostic_are_small() {
        assert_eq!(size_of::<Result<(), Diagnostic>>(), size_of::<usize>());
    }

    #[test]
    fn places_that_are_not_known_are_left_out() {
        let advice = Advice::words("write it so").fix(Span::new(8, 9), "x");
        let found = Diagnostic::error_at(Code::Syntax, Span::new(1, 2), "odd")
            .at(Span::new(8, 9))
            .advise(advice);
        let shown: Diagnostic<usize> =
            found.resolve(|span| Some(span.start).filter(|start| *start < 5));
        assert_eq!(shown.places(), [1]);
        assert!(shown.advice().is_some_and(|advice| advice.mend().is_none()));
    }

    #[test]
    fn a_failure_points_at_one_value() {
        let origins = [4, 7].map(|at| crate::Base::default().origin(at));
        let failure = Diagnostic::error_at(Code::ValueKind, Locus::Rule(Span::new(0, 3)), "odd")
            .read_at(origins[0])
            .read_at(origins[1]);
        assert_eq!((failure.origin(), failure.rule()), (origins[1], Some(Span::new(0, 3))));
        assert_eq!(failure.places()[0], Locus::Input(origins[1]));
    }

    #[test]
    fn advice_names_settings_in_plain_words() {
        let advice: Advice = Advice::words("say ")
            .setting(Setting::Gather)
            .then(", or ")
            .setting(Setting::To(Some("jsonl")));
        assert_eq!(advice.to_string(), "say gathering, or jsonl as the format of the output");
        assert_eq!(advice.settings().count(), 2);
    }
}
