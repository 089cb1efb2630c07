//! XML documents against Schematron schemas.

use std::cell::RefCell;
use std::collections::HashMap;

use kyanite_formats::xml;
use kyanite_schema::schematron::{Found, Run, Schema, Told};
use kyanite_tree::{Arena, Node, Nodes, Value};
use kyanite_xpath::{Documents, Item, Store};

use super::Validation;
use super::check::Raw;
use super::finding::Step;
use super::schemas::path_of;
use crate::document::Library;
use crate::xpath::utc;

/// Documents that schemas ask for: files, read once.
struct Files<'d> {
    store: &'d Store<'d>,
    read: RefCell<HashMap<String, Option<Item<'d>>>>,
}

impl<'d> Documents<'d> for Files<'d> {
    fn named(&self, uri: &str) -> Option<Item<'d>> {
        if let Some(known) = self.read.borrow().get(uri) {
            return known.clone();
        }
        let read = || {
            let bytes = std::fs::read(path_of(uri)?).ok()?;
            let text = self.store.arena.keep(xml::decode(&bytes).ok()?.into_owned());
            let options =
                xml::Options { base: kyanite_tree::Base::NONE, ..xml::Options::default() };
            let (nodes, _) = xml::nodes(text, self.store.arena, options).ok()?;
            Some(Item::Node(self.store.keep(nodes)))
        };
        let found = read();
        self.read.borrow_mut().insert(uri.to_owned(), found.clone());
        found
    }

    fn names(&self) -> Vec<String> {
        self.read.borrow().keys().cloned().collect()
    }

    fn all(&self) -> Vec<Item<'d>> {
        Vec::new()
    }

    fn uri_of(&self, _: Node<'d>) -> Option<String> {
        None
    }
}

/// Checks a document.
pub(super) fn check(
    schemas: &[Schema],
    root: Value<'_>,
    library: &Library<'_>,
    raw: &mut Raw,
    validation: Validation<'_>,
) {
    if schemas.is_empty() {
        return;
    }
    let arena = Arena::new();
    let store = Store::new(&arena);
    // The nodes are those of the document that was read, so that places lead back to it.
    let document = store.keep(Nodes::of(arena.copy_read(root)));
    let files = Files { store: &store, read: RefCell::default() };
    for schema in schemas {
        let now = validation.now.and_then(utc);
        let mut run = Run::new(schema, &store, &files, now);
        run.check(document, &mut |found| match found {
            Found::Pattern(id) if validation.keeps_steps => raw.step(Step::Pattern(id)),
            Found::Fired { id, context, role, flag } if validation.keeps_steps => {
                raw.step(Step::Rule { id, context, role, flag });
            }
            Found::Pattern(_) | Found::Fired { .. } => {}
            Found::Told(told) => {
                let Told { finding, severity, location, assertion } = *told;
                let place = library.place(finding.origin);
                let place = place.map(|place| place.with_path(location));
                raw.add_told(severity, assertion, finding, place);
            }
        });
    }
}
