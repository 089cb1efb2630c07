//! Events: a document as the steps of a parser, without values in memory.

/// A step of a parser.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Event<'t> {
    /// A map begins: names follow, each with the events of its value.
    BeginMap,
    /// The map that was begun last ends.
    EndMap,
    /// A list begins: the events of its items follow.
    BeginList,
    /// The list that was begun last ends.
    EndList,
    /// The name of a member.
    Name(RawText<'t>),
    /// A text.
    Text(RawText<'t>),
    /// A number, as it is spelled.
    Number(&'t str),
    /// `true` or `false`.
    Boolean(bool),
    /// `null`.
    Null,
}

/// A text as it stands in a document.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct RawText<'t> {
    /// What stands between the quotes.
    pub text: &'t str,
    /// Whether escapes are in it, so that it means another text.
    pub has_escapes: bool,
}

/// Gives the events of one value after the other.
pub trait Pull<'t> {
    /// The next event; nothing where the value is over, or the document is not well-formed there, which a reader of values explains.
    fn next_event(&mut self) -> Option<Event<'t>>;
}
