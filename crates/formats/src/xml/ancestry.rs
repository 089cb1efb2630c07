//! Where records stand in a document: the path to them, and the elements that are open where a part of the document begins.

use std::borrow::Cow;

use kyanite_tree::{Arena, Base, Name, Origin, Value};

use super::dropped::Dropped;
use super::prolog::Prolog;
use super::read::{Ancestor, Options, Reader};

/// A step of the path to the records.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct StepName {
    /// The local name or, without a namespace, perhaps the name as written.
    pub name: String,
    /// The namespace that the name must be in.
    pub namespace: Option<String>,
    /// Whether the step selects elements at any depth, and not only children. Only the last step of a path can be
    /// so.
    pub at_any_depth: bool,
}

impl StepName {
    /// A step to children of that name.
    #[must_use]
    pub fn new(name: &str, namespace: Option<&str>) -> Self {
        let namespace = namespace.map(str::to_owned);
        Self { name: name.to_owned(), namespace, at_any_depth: false }
    }

    pub(super) fn fits(&self, name: Name<'_>) -> bool {
        match &self.namespace {
            Some(namespace) => name.local() == self.name && name.namespace() == namespace,
            None => name.is_called(&self.name),
        }
    }
}

/// Which elements of a document are records, and how it is read.
#[derive(Clone, Copy, Debug)]
pub struct Elements<'a> {
    /// The path to them.
    pub path: &'a [StepName],
    /// What stands before the root element.
    pub prolog: &'a Prolog<'a>,
    /// How XML is read.
    pub options: Options,
    /// Which names do without their namespaces, where these are dropped.
    pub dropped: &'a Dropped,
    /// Whether names and attributes of the elements around records are wanted.
    pub keeps_around: bool,
}

impl Elements<'_> {
    /// The same for a text that begins there.
    #[must_use]
    pub fn at(self, base: Base) -> Self {
        Self { options: Options { base, ..self.options }, ..self }
    }
}

/// Where in a document a part of it begins.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub struct Ancestry<'a> {
    /// The elements that are open, outermost first.
    pub(super) open: &'a [Ancestor<'a>],
    /// How many of them are on the path to the records.
    pub(super) on_path: usize,
    /// Whether the root element has begun.
    pub(super) has_root: bool,
}

impl<'a> Ancestry<'a> {
    /// The place in these elements.
    pub(super) fn at(open: &'a [Ancestor<'a>], has_root: bool) -> Self {
        Self { open, on_path: 0, has_root }
    }

    /// The same place, kept in another arena.
    #[must_use]
    pub fn keep<'h>(&self, arena: &'h Arena) -> Ancestry<'h> {
        let open: Vec<Ancestor<'h>> =
            self.open.iter().map(|ancestor| ancestor.keep(arena)).collect();
        Ancestry { open: arena.slice(&open), ..*self }
    }

    /// The place at the end of a part that began here, where all but the first `left` of the elements that are open then began
    /// in it with these start tags; None where one is none.
    #[must_use]
    pub fn behind<'h>(
        &self,
        left: usize,
        tags: &[&str],
        elements: Elements<'_>,
        arena: &'h Arena,
    ) -> Option<Ancestry<'h>> {
        let mut open: Vec<Ancestor<'h>> =
            self.open.get(..left)?.iter().map(|ancestor| ancestor.keep(arena)).collect();
        for tag in tags {
            let scratch = Arena::new();
            let mut reader = Reader::new(tag, &scratch, elements.options);
            reader.dtd = Cow::Borrowed(&elements.prolog.dtd);
            reader.keeps_around = elements.keeps_around;
            open.iter().for_each(|ancestor| reader.scope.enter(ancestor.bindings));
            reader.start_tag().ok()?;
            reader.make_nothing();
            open.push(reader.around.first()?.keep(arena));
        }
        Some(Ancestry { open: arena.slice(&open), on_path: self.on_path, has_root: self.has_root })
    }
}

impl Ancestor<'_> {
    /// The same, kept in another arena.
    fn keep<'h>(&self, arena: &'h Arena) -> Ancestor<'h> {
        let bindings: Vec<(&str, &str)> = self
            .bindings
            .iter()
            .map(|(prefix, uri)| (arena.text(prefix), arena.text(uri)))
            .collect();
        let element = self.element.map(|element| Value::Element(Origin::NONE, element));
        Ancestor {
            written: arena.text(self.written),
            bindings: arena.slice(&bindings),
            element: element.and_then(|element| arena.copy_read(element).as_element()),
            tag: None,
        }
    }
}
