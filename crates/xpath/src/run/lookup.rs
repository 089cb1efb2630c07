//! Lookups in maps and arrays (XPath 3.1 section 3.11.3).

use kyanite_eval::atomic::{Atomic, AtomicType};
use kyanite_tree::Span;

use super::convert::atomize;
use super::{Focus, Frame, Outcome, Run};
use crate::error::{Error, ErrorCode};
use crate::syntax::ast::{Expr, Key};
use crate::value::{Item, Sequence};

impl<'d> Run<'_, 'd> {
    pub(super) fn lookup(
        &self,
        value: &Expr,
        key: &Key,
        frame: &mut Frame<'d>,
        focus: Option<&Focus<'d>>,
        span: Span,
    ) -> Outcome<'d> {
        let values = self.eval(value, frame, focus)?;
        let keys: Vec<Atomic<'d>> = match key {
            Key::Name(name) => {
                vec![Atomic::String(kyanite_eval::atomic::Text::Made(name.clone()))]
            }
            Key::Integer(number) => vec![Atomic::Integer(*number)],
            Key::Expr(expr) => atomize(&self.eval(expr, frame, focus)?)?,
            Key::All => Vec::new(),
        };
        let mut found = Vec::new();
        for item in values.items() {
            if !item.is_map() && !item.is_array() {
                let message =
                    format!("`?` looks into maps and arrays, and here is {}", item.phrase());
                let error = Error::unplaced(ErrorCode::Type, message).about(item.origin());
                return Err(match item {
                    Item::Node(_) => error.advise("step into elements with `/`"),
                    _ => error,
                });
            }
            if matches!(key, Key::All) {
                match (item.entries(), item.members()) {
                    (Some(entries), _) => {
                        entries.into_iter().for_each(|(_, value)| found.extend(value.into_items()));
                    }
                    (None, members) => {
                        let members = members.unwrap_or_default();
                        members.into_iter().for_each(|value| found.extend(value.into_items()));
                    }
                }
            }
            for key in &keys {
                let start = found.len();
                found.extend(self.looked_up(item, key)?.into_items());
                self.coverage.borrow_mut().lookup(span, key, item, found.len() > start);
            }
        }
        if !values.is_empty() {
            self.coverage.borrow_mut().looked(span, values.len(), !found.is_empty());
        }
        Ok(Sequence::of(found))
    }

    /// The value at a key, as a lookup finds it: text without a type is the place of a member in an array.
    fn looked_up(&self, item: &Item<'d>, key: &Atomic<'d>) -> Outcome<'d> {
        let key = match key {
            Atomic::Untyped(_) if item.is_array() => key.cast(AtomicType::Integer)?,
            key => key.clone(),
        };
        self.at_key(item, &key)
    }

    /// The value of a map at a key, or the member of an array at a place.
    pub(crate) fn at_key(&self, item: &Item<'d>, key: &Atomic<'d>) -> Outcome<'d> {
        if item.is_map() {
            return Ok(item.entry(key).unwrap_or_default());
        }
        let size = item.size().unwrap_or_default();
        let Atomic::Integer(place) = key else {
            let message =
                format!("{key} is no place of a member: an array of {size} members is here");
            let error = Error::unplaced(ErrorCode::Type, message).about(item.origin());
            return Err(error.advise("write ?* before it to step into the members"));
        };
        let index = usize::try_from(*place).ok().and_then(|place| place.checked_sub(1));
        index.and_then(|index| item.member(index)).ok_or_else(|| {
            let message = format!("there is no member {place} in an array of {size}");
            Error::unplaced(ErrorCode::Other("FOAY0001"), message).about(item.origin())
        })
    }
}
