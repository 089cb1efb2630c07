//! A place in a schema document that a reference can lead to, and what is known there.

use kyanite_eval::uri::resolve;
use kyanite_tree::{Value, near_words, pointer};
use percent_encoding::{AsciiSet, CONTROLS, percent_decode_str, utf8_percent_encode};

use crate::json::Draft;
use crate::json::dialect::Dialect;

/// What a fragment has no place for (RFC 3986 section 3.5).
const IN_FRAGMENT: &AsciiSet = &CONTROLS
    .add(b' ')
    .add(b'"')
    .add(b'#')
    .add(b'%')
    .add(b'<')
    .add(b'>')
    .add(b'[')
    .add(b'\\')
    .add(b']')
    .add(b'^')
    .add(b'`')
    .add(b'{')
    .add(b'|')
    .add(b'}');

/// A schema in a document, and what it takes to understand it.
#[derive(Clone, Debug)]
pub(in crate::json) struct Target<'s> {
    pub(super) document: usize,
    /// The pointer to it (RFC 6901).
    pub(super) pointer: String,
    pub(super) value: Value<'s>,
    /// What references in it are relative to, without a fragment.
    pub(super) base: String,
    /// How much of the pointer leads to the schema that has that URI.
    pub(super) resource_at: usize,
    pub(super) dialect: Dialect,
}

impl<'s> Target<'s> {
    /// The value of a member or an item, as a schema.
    pub(super) fn inner(&self, token: &str, value: Value<'s>) -> Self {
        let mut inner = Self { value, ..self.clone() };
        pointer::push(&mut inner.pointer, token);
        inner.rebased()
    }

    /// The schema at the end of a path of members and items, of which only the last is a schema.
    pub(super) fn inner_of(&self, path: &[&str], value: Value<'s>) -> Self {
        let (last, before) = path.split_last().unwrap_or((&"", &[]));
        let mut target = self.clone();
        for token in before {
            pointer::push(&mut target.pointer, token);
        }
        target.inner(last, value)
    }

    /// The same, with the URI that the schema gives itself, and the draft that it says as a document of its own.
    pub(super) fn rebased(mut self) -> Self {
        let said = self.value.as_map().and_then(|map| map.get("$schema")?.as_text());
        if let Some(draft) = said.and_then(Draft::of_uri)
            && draft != self.dialect.draft
            && self.value.as_map().is_some_and(|map| map.get(draft.id()).is_some())
        {
            self.dialect = self.dialect.of_draft(draft);
        }
        if let Some(id) = self.id().filter(|id| !id.starts_with('#')) {
            let uri = resolve(id, &self.base).unwrap_or_else(|| id.to_owned());
            uri.split('#').next().unwrap_or_default().clone_into(&mut self.base);
            self.resource_at = self.pointer.len();
        }
        self
    }

    /// Its URI, whose fragment is a pointer within its resource (RFC 6901 section 6).
    pub(super) fn location(&self) -> String {
        let pointer = self.pointer.get(self.resource_at..).unwrap_or_default();
        format!("{}#{}", self.base, utf8_percent_encode(pointer, IN_FRAGMENT))
    }

    /// The URI, or the fragment, that the schema gives itself. Up to draft 7 nothing counts beside a reference (draft-07 core
    /// section 8.3).
    pub(super) fn id(&self) -> Option<&'s str> {
        let map = self.value.as_map()?;
        if self.dialect.draft <= Draft::V7
            && map.get("$ref").is_some_and(|reference| reference.as_text().is_some())
        {
            return None;
        }
        map.get(self.dialect.draft.id())?.as_text()
    }

    /// The names that the schema gives itself within its resource, and whether references to each are dynamic. An empty one is
    /// that of a resource that recursive references lead to (2019-09 core section 8.2.4.2).
    pub(super) fn anchors(&self) -> impl Iterator<Item = (&'s str, bool)> + use<'s> {
        let draft = self.dialect.draft;
        let map = self.value.as_map().filter(|_| draft >= Draft::V2019);
        let named = move |word: &str| map.and_then(|map| map.get(word)?.as_text());
        let is_recursive = draft == Draft::V2019
            && map.is_some_and(|map| {
                matches!(map.get("$recursiveAnchor"), Some(Value::Boolean(_, true)))
            });
        let dynamic = named("$dynamicAnchor").filter(|_| draft >= Draft::V2020);
        let plain = named("$anchor").map(|name| (name, false));
        plain
            .into_iter()
            .chain(dynamic.map(|name| (name, true)))
            .chain(is_recursive.then_some(("", true)))
    }
}

/// What a pointer leads to; with names that are near to the one that is not there.
pub(super) fn navigate<'s>(from: &Target<'s>, pointer: &str) -> Result<Target<'s>, Option<String>> {
    let decoded = percent_decode_str(pointer).decode_utf8_lossy().into_owned();
    let mut target = from.clone();
    for token in pointer::names(&decoded) {
        let value = match target.value {
            Value::Map(_, map) => map.get(&token).ok_or_else(|| {
                near_words(&token, map.members().iter().map(|member| member.name))
            })?,
            Value::List(_, items) => {
                let at = token.parse::<usize>().ok();
                *at.and_then(|at| items.get(at)).ok_or(None)?
            }
            _ => return Err(None),
        };
        target = target.inner(&token, value);
    }
    Ok(target)
}
