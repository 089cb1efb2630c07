//! What a YAML text consists of: events, each with the bytes that it takes (YAML 1.2.2 section 3.1, the serialization tree).

use std::borrow::Cow;
use std::collections::VecDeque;

use kyanite_tree::Span;

use crate::SyntaxError;

/// How a scalar is written (section 7.3 and 8.1).
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum ScalarStyle {
    /// Without quotes.
    Plain,
    /// In single quotes.
    SingleQuoted,
    /// In double quotes.
    DoubleQuoted,
    /// A block of lines, `|`.
    Literal,
    /// A block of lines that are folded, `>`.
    Folded,
}

/// A tag: its handle resolved, its escapes decoded (section 6.8).
pub type Tag<'a> = Cow<'a, str>;

/// What stands before a node (section 6.9): an anchor, a tag, both or, before nearly all nodes, nothing.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Properties<'a>(Option<Box<(Option<&'a str>, Option<Tag<'a>>)>>);

impl<'a> Properties<'a> {
    pub(super) fn new(anchor: Option<&'a str>, tag: Option<Tag<'a>>) -> Self {
        Self((anchor.is_some() || tag.is_some()).then(|| Box::new((anchor, tag))))
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.is_none()
    }

    /// The name by which aliases refer to the node.
    #[must_use]
    pub fn anchor(&self) -> Option<&'a str> {
        self.0.as_ref()?.0
    }

    /// The tag; `!` is the non-specific one.
    #[must_use]
    pub fn tag(&self) -> Option<&str> {
        self.0.as_ref()?.1.as_deref()
    }

    /// These and those of another line; the others back where one of both kinds comes twice.
    pub(super) fn join(self, other: Self) -> Result<Self, Self> {
        match (self.0, other.0) {
            (None, own) | (own, None) => Ok(Self(own)),
            (Some(first), Some(second)) => match (*first, *second) {
                ((Some(anchor), None), (None, tag)) | ((None, tag), (Some(anchor), None)) => {
                    Ok(Self::new(Some(anchor), tag))
                }
                (_, second) => Err(Self::new(second.0, second.1)),
            },
        }
    }
}

/// One part of a YAML text.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Event<'a> {
    /// A document begins.
    DocumentStart {
        /// Whether `---` says so.
        explicit: bool,
    },
    /// A document ends.
    DocumentEnd {
        /// Whether `...` says so.
        explicit: bool,
    },
    /// A scalar.
    Scalar {
        /// Its text: folded, its escapes decoded.
        text: Cow<'a, str>,
        /// How it is written.
        style: ScalarStyle,
        /// What stands before it.
        properties: Properties<'a>,
    },
    /// A sequence begins.
    SequenceStart {
        /// Whether it is in brackets.
        flow: bool,
        /// What stands before it.
        properties: Properties<'a>,
    },
    /// A sequence ends.
    SequenceEnd,
    /// A mapping begins.
    MappingStart {
        /// Whether it is in braces, or a single pair in brackets.
        flow: bool,
        /// What stands before it.
        properties: Properties<'a>,
    },
    /// A mapping ends.
    MappingEnd,
    /// The node that has this anchor, once more.
    Alias(&'a str),
}

/// An event, and its bytes in the text: those of a scalar or alias, of the first indicator or key of a collection; those of
/// an end are empty where nothing is written for it. Properties are not among them.
pub type Placed<'a> = (Event<'a>, Span);

/// Takes the events of a text.
pub trait Receiver<'a> {
    /// Takes the next event, which is at these bytes.
    ///
    /// # Errors
    /// What ends the parsing.
    fn event(&mut self, event: Event<'a>, span: Span) -> Result<(), SyntaxError>;
}

impl<'a> Receiver<'a> for VecDeque<Placed<'a>> {
    fn event(&mut self, event: Event<'a>, span: Span) -> Result<(), SyntaxError> {
        self.push_back((event, span));
        Ok(())
    }
}
