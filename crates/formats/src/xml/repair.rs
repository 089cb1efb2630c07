//! Repairs of documents that are not well-formed, and what is beyond repair.

use kyanite_tree::Span;

/// Something that was wrong at a place, and how it was read.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Repair {
    /// What sort of fault it was.
    pub fault: MarkupError,
    /// What was wrong, and what was made of it.
    pub message: String,
    /// The bytes that were wrong.
    pub span: Span,
    /// Another place that belongs to it: where an element was closed that nothing else closes.
    pub also: Option<Span>,
}

/// The sorts of faults in documents: so that of thousands of a sort only some need be told.
#[derive(Clone, Copy, PartialEq, Eq, Debug, PartialOrd, Ord)]
pub enum MarkupError {
    /// Bytes that are no characters in the encoding.
    Encoding,
    /// A character that XML refuses.
    Character,
    /// An `&` that begins no reference.
    Reference,
    /// A reference to an entity that is not declared, or that cannot stand there.
    Entity,
    /// A `<` that begins no tag.
    Tag,
    /// An end tag that does not fit, or is not closed.
    EndTag,
    /// An element without an end tag.
    Unclosed,
    /// An attribute that is not written `name="value"`.
    Attribute,
    /// An attribute that is given twice.
    Twice,
    /// A name that the rules of namespaces refuse.
    Name,
    /// A comment, a CDATA section or a processing instruction that is not well-formed.
    Markup,
    /// An XML declaration or document type declaration that is not well-formed.
    Declaration,
    /// Something beside the root element.
    Outside,
    /// No fault: a reference to what lies outside the document, which is never fetched.
    Unread,
}

impl MarkupError {
    /// The words for several of the sort.
    #[must_use]
    pub fn several(self) -> &'static str {
        match self {
            Self::Encoding => "bytes that are no characters",
            Self::Character => "characters that cannot stand in XML",
            Self::Reference => "signs & that begin no reference",
            Self::Entity => "references to entities that cannot stand there",
            Self::Tag => "signs < that begin no tag",
            Self::EndTag => "end tags that do not fit",
            Self::Unclosed => "elements that are not closed",
            Self::Attribute => "attributes that are not well-formed",
            Self::Twice => "attributes that are given twice",
            Self::Name => "names that no namespace has",
            Self::Markup => "comments, sections and instructions that are not well-formed",
            Self::Declaration => "declarations that are not well-formed",
            Self::Outside => "pieces beside the root element",
            Self::Unread => "references to what lies outside the document",
        }
    }
}
