//! Texts that were values of their types lately. The same units, kinds and counts come again and again, and whether a text is a value of
//! a type does not change, as long as it depends on no prefix and means no other place of the document.

use kyanite_tree::ShortText;

/// How many are kept: each has one place, and takes it from another.
const PLACES: usize = 1024;

/// The texts that were accepted last, as far as they are short, each by the number of a type.
#[derive(Debug, Default)]
pub(super) struct Recent(Vec<Option<(usize, ShortText)>>);

impl Recent {
    /// Whether a text is known to be a value of a type.
    #[inline]
    pub(super) fn has(&self, of_type: usize, text: &str) -> bool {
        let Some(text) = ShortText::of(text.as_bytes()) else { return false };
        self.0.get(text.place(of_type, PLACES)).is_some_and(|known| *known == Some((of_type, text)))
    }

    /// Keeps a text that is a value of a type.
    pub(super) fn keep(&mut self, of_type: usize, text: &str) {
        if let Some(text) = ShortText::of(text.as_bytes()) {
            self.0.resize(PLACES, None);
            self.0[text.place(of_type, PLACES)] = Some((of_type, text));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_kept_is_known_until_its_place_is_taken() {
        let mut recent = Recent::default();
        assert!(!recent.has(3, "car"));
        recent.keep(3, "car");
        assert!(recent.has(3, "car"));
        for (id, text) in [(4, "car"), (3, "ca"), (3, "car\0"), (3, "")] {
            assert!(!recent.has(id, text), "{id} {text:?}");
        }
        let long = "a".repeat(ShortText::LONGEST + 1);
        recent.keep(3, &long);
        assert!(!recent.has(3, &long));
        // More than there are places: the last one stays.
        for number in 0..5 * PLACES {
            recent.keep(3, &number.to_string());
            assert!(recent.has(3, &number.to_string()));
        }
        assert_eq!(recent.0.len(), PLACES);
    }
}
