//! What a conversion cannot carry from one format to another: counted, and named.

use kyanite_tree::{Foreign, ForeignType, Origin, Value};

use crate::Format;

/// Something that the target format has no place for.
#[derive(Clone, Copy, PartialEq, Eq, Debug, PartialOrd, Ord)]
pub enum Loss {
    /// A comment.
    Comment,
    /// A processing instruction of XML.
    Instruction,
    /// A document type declaration of XML.
    DocumentType,
    /// A tag of YAML that is not one of the core schema: of a list or map, or of a scalar on its way to another format.
    Tag,
    /// A date or time of TOML or YAML, which becomes text.
    DateTime,
    /// A number that is infinite or none, which becomes text.
    NotFinite,
    /// A key of YAML that is no text, and becomes the text of it.
    Key,
    /// A null that becomes an empty cell or element, or is left out.
    Null,
    /// A list without items that becomes nothing.
    EmptyList,
    /// A map without members that becomes an empty text.
    EmptyMap,
    /// A list directly in a list, whose items get an element around them.
    NestedList,
    /// A number with more digits than the target format promises to keep.
    Precision,
    /// Blank text on one line between elements.
    Blank,
    /// The order of children of an element that are gathered by name.
    Order,
    /// A name without its namespace that names of two namespaces would share.
    Name,
}

/// All sorts, in the order in which they are told.
const SORTS: [(Loss, &str, &str); 15] = [
    (Loss::Comment, "comment", "comments"),
    (Loss::Instruction, "processing instruction", "processing instructions"),
    (Loss::DocumentType, "document type declaration", "document type declarations"),
    (Loss::Tag, "tag", "tags"),
    (Loss::DateTime, "date or time that becomes text", "dates or times that become text"),
    (Loss::NotFinite, "number that is not finite", "numbers that are not finite"),
    (Loss::Key, "key that is no text", "keys that are no texts"),
    (Loss::Null, "null", "nulls"),
    (Loss::EmptyList, "empty list", "empty lists"),
    (Loss::EmptyMap, "empty map", "empty maps"),
    (Loss::NestedList, "list in a list", "lists in lists"),
    (Loss::Precision, "number of too many digits", "numbers of too many digits"),
    (Loss::Blank, "blank text between elements", "blank texts between elements"),
    (Loss::Order, "order of children", "orders of children"),
    (Loss::Name, "name that two namespaces share", "names that two namespaces share"),
];

impl Loss {
    /// The word for one.
    #[must_use]
    pub fn word(self) -> &'static str {
        SORTS[self as usize].1
    }
}

/// What was lost so far.
#[derive(Clone, Debug, Default)]
pub struct Losses {
    counts: [u64; SORTS.len()],
    /// Where, if that is asked for.
    places: Option<Vec<(Loss, Origin)>>,
}

impl Losses {
    /// No losses yet; with `with_places`, where they are is kept as well.
    #[must_use]
    pub fn new(with_places: bool) -> Self {
        Self { counts: [0; SORTS.len()], places: with_places.then(Vec::new) }
    }

    /// Counts one.
    pub fn add(&mut self, loss: Loss, origin: Origin) {
        self.counts[loss as usize] += 1;
        if let Some(places) = &mut self.places {
            places.push((loss, origin));
        }
    }

    /// Counts what the types in a value lose in a format that has them not: numbers that are not finite, dates, tags, keys
    /// that are no texts. Where all scalars are texts, only tags are lost.
    pub fn add_types(&mut self, value: Value<'_>, format: Format) {
        let has_types = !matches!(
            format,
            Format::Csv | Format::Tsv | Format::Xml | Format::Text | Format::Html
        );
        match value {
            Value::Foreign(origin, Foreign { of, .. }) => {
                let (loss, is_kept) = match of {
                    ForeignType::NotFinite => {
                        (Loss::NotFinite, matches!(format, Format::Yaml | Format::Toml))
                    }
                    ForeignType::DateTime => (Loss::DateTime, format == Format::Toml),
                    ForeignType::Tagged(_) => (Loss::Tag, format == Format::Yaml),
                    ForeignType::Name(_) => return,
                };
                if !is_kept && (has_types || loss == Loss::Tag) {
                    self.add(loss, origin);
                }
            }
            Value::List(_, items) => items.iter().for_each(|item| self.add_types(*item, format)),
            Value::Map(_, map) => {
                if has_types && format != Format::Yaml {
                    let is_lost = |key: &Value<'_>| {
                        !matches!(key, Value::Foreign(_, Foreign { of: ForeignType::Name(_), .. }))
                    };
                    let keys = map.keys().iter().filter(|(_, key)| is_lost(key));
                    keys.for_each(|(_, key)| self.add(Loss::Key, key.origin()));
                }
                map.members().iter().for_each(|member| self.add_types(member.value, format));
            }
            _ => {}
        }
    }

    /// Counts those that another count has.
    pub fn add_all(&mut self, other: &Self) {
        for (own, count) in self.counts.iter_mut().zip(other.counts) {
            *own += count;
        }
        if let (Some(own), Some(places)) = (&mut self.places, &other.places) {
            own.extend_from_slice(places);
        }
    }

    /// Whether there are any.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.counts.iter().all(|count| *count == 0)
    }

    /// Takes the places that were kept since they were last taken.
    pub fn take_places(&mut self) -> Vec<(Loss, Origin)> {
        self.places.as_mut().map(std::mem::take).unwrap_or_default()
    }

    /// All in words, `3 comments and 1 tag`, or None when there are none.
    #[must_use]
    pub fn summary(&self) -> Option<String> {
        let mut parts: Vec<String> = SORTS
            .iter()
            .zip(self.counts)
            .filter(|(_, count)| *count > 0)
            .map(|((_, one, several), count)| {
                format!("{count} {}", if count == 1 { one } else { several })
            })
            .collect();
        let last = parts.pop()?;
        if parts.is_empty() {
            return Some(last);
        }
        Some(format!("{} and {last}", parts.join(", ")))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_table_is_in_the_order_of_the_sorts_and_reads_well() {
        assert!(SORTS.iter().enumerate().all(|(position, (loss, ..))| *loss as usize == position));
        let mut losses = Losses::new(true);
        assert_eq!(losses.summary(), None);
        losses.add(Loss::Null, Origin::NONE);
        assert_eq!(losses.summary().unwrap(), "1 null");
        losses.add(Loss::Comment, Origin::NONE);
        losses.add(Loss::Comment, Origin::NONE);
        losses.add(Loss::Tag, Origin::NONE);
        assert_eq!(losses.summary().unwrap(), "2 comments, 1 tag and 1 null");
        assert_eq!(losses.take_places().len(), 4);
    }
}
