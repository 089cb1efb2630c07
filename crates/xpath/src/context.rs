//! What an expression is evaluated with (XPath 3.1 section 2.1).

use kyanite_eval::time::DateTime;
use kyanite_tree::{Arena, Node, Nodes};

use crate::error::{Error, ErrorCode};
use crate::value::{Item, Sequence};

/// Where documents live that an evaluation makes, and what is read for it.
pub struct Store<'d> {
    /// For texts.
    pub arena: &'d Arena,
    documents: typed_arena::Arena<Nodes<'d>>,
}

impl<'d> Store<'d> {
    /// An empty store.
    #[must_use]
    pub fn new(arena: &'d Arena) -> Self {
        // Most evaluations make no document.
        Self { arena, documents: typed_arena::Arena::with_capacity(0) }
    }

    /// Keeps a document; gives its document node. Documents are ordered as they are kept.
    pub fn keep(&'d self, nodes: Nodes<'d>) -> Node<'d> {
        let number = u32::try_from(self.documents.len()).unwrap_or(u32::MAX);
        let kept: &'d Nodes<'d> = self.documents.alloc(nodes.numbered(number));
        kept.root()
    }
}

/// The documents that an expression may ask for by name: those that the user named, and no others.
pub trait Documents<'d> {
    /// The document of that URI or file name: for doc().
    fn named(&self, uri: &str) -> Option<Item<'d>>;
    /// Their names, for messages.
    fn names(&self) -> Vec<String>;
    /// All of them: for collection().
    fn all(&self) -> Vec<Item<'d>>;
    /// The URI of the document that a node is in, if it is known.
    fn uri_of(&self, node: Node<'d>) -> Option<String>;
    /// The nodes that have that value for a key, in the document of a node: for key(), where a language around expressions
    /// declares keys. Nothing where no key has that name.
    fn key(&self, _name: &str, _value: &str, _node: Node<'d>) -> Option<Vec<Node<'d>>> {
        None
    }
}

/// No documents.
#[derive(Clone, Copy, Debug)]
pub struct NoDocuments;

impl<'d> Documents<'d> for NoDocuments {
    fn named(&self, _: &str) -> Option<Item<'d>> {
        None
    }

    fn names(&self) -> Vec<String> {
        Vec::new()
    }

    fn all(&self) -> Vec<Item<'d>> {
        Vec::new()
    }

    fn uri_of(&self, _: Node<'d>) -> Option<String> {
        None
    }
}

/// What an expression is evaluated with.
pub struct Context<'e, 'd> {
    /// The context item.
    pub item: Option<Item<'d>>,
    /// The values of the variables, in the order in which they were declared.
    pub variables: Vec<Sequence<'d>>,
    /// The documents that can be asked for.
    pub documents: &'e dyn Documents<'d>,
    /// The time at which the evaluation runs; current-dateTime() fails without it.
    pub now: Option<DateTime>,
    /// The zone of times that have none, in minutes.
    pub zone: i16,
}

impl<'d> Context<'_, 'd> {
    /// The expression is evaluated for this item, and nothing else is known.
    #[must_use]
    pub fn of(item: Item<'d>) -> Self {
        Self {
            item: Some(item),
            variables: Vec::new(),
            documents: &NoDocuments,
            now: None,
            zone: 0,
        }
    }

    /// The time at which the evaluation runs.
    pub(crate) fn now(&self) -> Result<&DateTime, Error> {
        self.now.as_ref().ok_or_else(|| {
            Error::unplaced(ErrorCode::Other("FOER0000"), "no clock is given to the evaluation")
        })
    }
}
