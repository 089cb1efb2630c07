//! Content in order: texts, and elements whose order counts, which the record view has as a list.

use kyanite_formats::record_view::CONTENT;
use kyanite_tree::{Content, Member, Span, Value, is_blank};

use super::{Here, Insertion, Inside, RecordEditor, are_all, text_of};
use crate::difference::{Aligned, Delta};
use crate::edit::Edits;
use crate::edit::xml::{XmlEditor, escaped};

impl RecordEditor<'_> {
    /// Edits content that is a list in order.
    pub(super) fn in_order(
        &mut self,
        here: &Here<'_, '_>,
        inside: &Inside,
        removed: &[usize],
        items: &[Aligned<'_>],
    ) -> Edits<()> {
        let pieces = Piece::all(here.element.content);
        let start_of =
            |number: usize| pieces.get(number).map(|piece| inside.span(piece.first()).start);
        if !are_all(&pieces, removed, items) {
            return Err(XmlEditor::misplaced());
        }
        let is_mixed = pieces.iter().any(|piece| matches!(piece, Piece::Texts(_)));
        let take = |editor: &mut Self, number: usize| match &pieces[number] {
            Piece::Texts(texts) => {
                let spans: Vec<Span> = texts.iter().map(|at| inside.span(*at)).collect();
                spans.iter().for_each(|span| editor.xml.splice(span.start, span.end, ""));
            }
            Piece::Element(at) if is_mixed => {
                let span = inside.span(*at);
                editor.xml.splice(span.start, span.end, "");
            }
            Piece::Element(at) => editor.remove(here, inside, *at),
        };
        removed.iter().for_each(|number| take(self, *number));
        let mut place = Insertion { at: start_of(0).unwrap_or(inside.tag_end), is_behind: false };
        for item in items {
            let value = match item {
                Aligned::Both { old, is_moved: false, delta, value } => {
                    self.piece(here, inside, &pieces[*old], (delta, *value))?;
                    let end = inside.span(pieces[*old].last()).end;
                    place = Insertion { at: end, is_behind: true };
                    continue;
                }
                Aligned::Both { old, value, .. } => {
                    take(self, *old);
                    value
                }
                Aligned::Added(value) => value,
            };
            match (value, only_member(*value)) {
                (_, Some(Member { name, value })) if !is_mixed => {
                    self.insert(here, &place, (name, value), None)?;
                }
                (_, Some(Member { name, value })) => {
                    let markup = self.markup(name, value, None)?;
                    self.xml.splice(place.at, place.at, markup);
                }
                (text, None) => {
                    let markup = escaped(text_of(CONTENT, *text)?, None);
                    self.xml.splice(place.at, place.at, markup);
                }
            }
        }
        Ok(())
    }

    /// Edits an item of content in order.
    fn piece(
        &mut self,
        here: &Here<'_, '_>,
        inside: &Inside,
        piece: &Piece,
        (delta, value): (&Delta<'_>, Value<'_>),
    ) -> Edits<()> {
        match (piece, delta) {
            (_, Delta::Same) => Ok(()),
            (Piece::Element(at), Delta::Map { removed, added, changed, .. }) => {
                match (removed.as_slice(), added.as_slice(), changed.as_slice()) {
                    ([], [], [(_, delta)]) => self.element(&here.child(*at)?, delta),
                    ([_], [Member { name, value }], []) => {
                        let markup = self.markup(name, *value, None)?;
                        let span = inside.span(*at);
                        self.xml.splice(span.start, span.end, markup);
                        Ok(())
                    }
                    _ => Err(XmlEditor::misplaced()),
                }
            }
            (piece, Delta::Other(_)) => {
                let markup = match only_member(value) {
                    Some(Member { name, value }) => self.markup(name, value, None)?,
                    None => escaped(text_of(CONTENT, value)?, None),
                };
                let spans: Vec<Span> = match piece {
                    Piece::Texts(texts) => texts.iter().map(|at| inside.span(*at)).collect(),
                    Piece::Element(at) => vec![inside.span(*at)],
                };
                self.set_texts(&spans, inside.tag_end, markup);
                Ok(())
            }
            _ => Err(XmlEditor::misplaced()),
        }
    }
}

/// An item of content in order, by the positions of its pieces.
enum Piece {
    /// Texts with nothing but comments between them.
    Texts(Vec<usize>),
    Element(usize),
}

impl Piece {
    /// The items of content, as the record view has them.
    fn all(content: &[Content<'_>]) -> Vec<Self> {
        let is_text =
            |piece: &Content<'_>| matches!(piece, Content::Text(_, text) if !is_blank(text));
        let is_mixed = content.iter().any(is_text);
        let (mut pieces, mut joins) = (Vec::new(), false);
        for (at, piece) in content.iter().enumerate() {
            match (piece, pieces.last_mut()) {
                (Content::Text(..), _) if !is_mixed => {}
                (Content::Text(..), Some(Self::Texts(texts))) if joins => texts.push(at),
                (Content::Text(..), _) => {
                    pieces.push(Self::Texts(vec![at]));
                    joins = true;
                }
                (Content::Element(..), _) => {
                    pieces.push(Self::Element(at));
                    joins = false;
                }
                _ => {}
            }
        }
        pieces
    }

    fn first(&self) -> usize {
        match self {
            Self::Texts(texts) => texts.first().copied().unwrap_or_default(),
            Self::Element(at) => *at,
        }
    }

    fn last(&self) -> usize {
        match self {
            Self::Texts(texts) => texts.last().copied().unwrap_or_default(),
            Self::Element(at) => *at,
        }
    }
}

/// The member of a map that has no other.
fn only_member<'a>(value: Value<'a>) -> Option<Member<'a>> {
    match value.as_map()?.members() {
        [only] => Some(*only),
        _ => None,
    }
}
