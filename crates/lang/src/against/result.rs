//! What is made, against the schema of the result.

use kyanite_tree::Kind;

use super::{Check, Known, PlaceNumber};
use crate::Span;

/// All kinds of values that schemas speak of.
const KINDS: [Kind; 6] =
    [Kind::Null, Kind::Boolean, Kind::Number, Kind::Text, Kind::List, Kind::Map];

impl Check<'_> {
    /// What may stand at a place, in words.
    fn words(&self, at: PlaceNumber) -> String {
        let Some(result) = &self.result else { return String::new() };
        let allowed = KINDS.into_iter().filter(|kind| result.allows(at, *kind));
        allowed.map(Kind::phrase).collect::<Vec<_>>().join(" or ")
    }

    fn refuse(&mut self, span: Span, found: Kind, at: PlaceNumber) {
        let message = format!(
            "this is {}, and the schema of the result has {} here",
            found.phrase(),
            self.words(at)
        );
        self.find(span, message, None);
    }

    /// The place, if values of that kind may stand there.
    pub(super) fn of_kind(
        &mut self,
        span: Span,
        kind: Kind,
        wanted: Option<PlaceNumber>,
    ) -> Option<PlaceNumber> {
        let (at, result) = (wanted?, self.result.as_ref()?);
        if result.allows(at, kind) {
            return Some(at);
        }
        self.refuse(span, kind, at);
        None
    }

    /// The place of the items of a list that is made.
    pub(super) fn item_of(
        &mut self,
        span: Span,
        wanted: Option<PlaceNumber>,
    ) -> Option<PlaceNumber> {
        let (at, result) = (wanted?, self.result.as_mut()?);
        // One item may be written without a list in XML.
        if result.is_for_xml() && !result.allows(at, Kind::List) {
            return Some(at);
        }
        let at = self.of_kind(span, Kind::List, wanted)?;
        self.result.as_mut()?.item(at)
    }

    /// The place of a member of a map that is made.
    pub(super) fn made_member(
        &mut self,
        span: Span,
        name: &str,
        wanted: Option<PlaceNumber>,
    ) -> Option<PlaceNumber> {
        let (at, result) = (wanted?, self.result.as_mut()?);
        let found = result.member(at, name);
        let names = result.members(at);
        if names.iter().any(|(known, _)| known == name) || result.is_free(at) {
            return found;
        }
        let is_told = self.tell_unknown(span, (name, "result"), &names, found.is_some());
        found.filter(|_| !is_told)
    }

    /// Whether all members are made that have to be there.
    pub(super) fn needed(
        &mut self,
        span: Span,
        made: &[(String, Known)],
        is_open: bool,
        wanted: Option<PlaceNumber>,
    ) {
        let (Some(at), Some(result)) = (wanted, self.result.as_ref()) else { return };
        if is_open {
            return;
        }
        let needed = result.members(at).into_iter().filter(|(_, is_needed)| *is_needed);
        let missing: Vec<String> = needed
            .map(|(name, _)| name)
            .filter(|name| !made.iter().any(|(own, _)| own == name))
            .collect();
        for name in missing {
            let message =
                format!("the member `{name}`, which the schema of the result needs, is never made");
            self.find(span, message, None);
        }
    }

    /// Whether a value may stand at a place, as far as that is known.
    pub(super) fn fits(&mut self, span: Span, known: &Known, wanted: Option<PlaceNumber>) {
        let (Some(at), Some(result)) = (wanted, self.result.as_ref()) else { return };
        if result.is_free(at) {
            return;
        }
        match known {
            // What is nothing is left out, or null.
            Known::Any | Known::Of(Kind::Null) => {}
            Known::Of(kind) if KINDS.contains(kind) && !result.allows(at, *kind) => {
                // Texts of XML have no types.
                let is_scalar = !matches!(kind, Kind::List | Kind::Map);
                if !(result.is_for_xml() && is_scalar && self.takes_text(at)) {
                    self.refuse(span, *kind, at);
                }
            }
            Known::Of(_) => {}
            Known::List(_) if !result.allows(at, Kind::List) && !result.is_for_xml() => {
                self.refuse(span, Kind::List, at);
            }
            Known::Map(..) if !result.allows(at, Kind::Map) => self.refuse(span, Kind::Map, at),
            Known::List(_) | Known::Map(..) => {}
            Known::At(place) => self.carried(span, *place, at),
        }
    }

    fn takes_text(&self, at: PlaceNumber) -> bool {
        let Some(result) = &self.result else { return true };
        KINDS
            .into_iter()
            .any(|kind| !matches!(kind, Kind::List | Kind::Map) && result.allows(at, kind))
    }

    /// Whether what stands at a place of the input may stand at a place of the result.
    fn carried(&mut self, span: Span, from: PlaceNumber, at: PlaceNumber) {
        let (Some(input), Some(result)) = (self.input.as_ref(), self.result.as_ref()) else {
            return;
        };
        if input.is_free(from) {
            return;
        }
        let may_be: Vec<Kind> =
            KINDS.into_iter().filter(|kind| input.allows(from, *kind)).collect();
        let has_no_types = input.is_for_xml() || result.is_for_xml();
        let is_scalar = |kind: &Kind| !matches!(kind, Kind::List | Kind::Map);
        let fits = may_be.iter().any(|kind| {
            result.allows(at, *kind) || has_no_types && is_scalar(kind) && self.takes_text(at)
        });
        if !fits && !may_be.is_empty() {
            let found = may_be.iter().map(|kind| kind.phrase()).collect::<Vec<_>>().join(" or ");
            let message = format!(
                "this is {found} by the schema of the input, and that of the result has {} here",
                self.words(at)
            );
            self.find(span, message, None);
        }
    }
}
