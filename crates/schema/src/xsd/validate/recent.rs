//! Texts that were values of their types lately. The same units, kinds and counts come again and again, and whether a text is a value of
//! a type does not change, as long as it depends on no prefix and means no other place of the document.

use crate::xsd::components::SimpleId;

/// Longer texts are not kept.
const LONGEST: usize = 23;

/// How many are kept: each has one place, and takes it from another.
const PLACES: usize = 1024;

/// A text, filled up with zeros, and its length behind it.
type Text = [u8; LONGEST + 1];

/// The texts that were accepted last.
#[derive(Debug, Default)]
pub(super) struct Recent(Vec<Option<(SimpleId, Text)>>);

impl Recent {
    /// Whether a text is known to be a value of a type.
    #[inline]
    pub(super) fn has(&self, id: SimpleId, text: &str) -> bool {
        let Some(text) = padded(text) else { return false };
        self.0.get(place(id, &text)).is_some_and(|known| *known == Some((id, text)))
    }

    /// Keeps a text that is a value of a type.
    pub(super) fn keep(&mut self, id: SimpleId, text: &str) {
        if let Some(text) = padded(text) {
            self.0.resize(PLACES, None);
            self.0[place(id, &text)] = Some((id, text));
        }
    }
}

#[inline]
fn padded(text: &str) -> Option<Text> {
    let mut padded = [0; LONGEST + 1];
    padded[..LONGEST].get_mut(..text.len())?.copy_from_slice(text.as_bytes());
    padded[LONGEST] = text.len() as u8;
    Some(padded)
}

#[inline]
fn place(id: SimpleId, text: &Text) -> usize {
    let (words, _) = text.as_chunks::<8>();
    let mixed = words.iter().fold(id.0 as u64, |hash, word| {
        // The multiplier of the golden ratio (Knuth, The Art of Computer Programming, vol. 3, section 6.4).
        (hash.rotate_left(23) ^ u64::from_le_bytes(*word)).wrapping_mul(0x9e37_79b9_7f4a_7c15)
    });
    (mixed >> 32) as usize % PLACES
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_kept_is_known_until_its_place_is_taken() {
        let mut recent = Recent::default();
        assert!(!recent.has(SimpleId(3), "car"));
        recent.keep(SimpleId(3), "car");
        assert!(recent.has(SimpleId(3), "car"));
        for (id, text) in [(4, "car"), (3, "ca"), (3, "car\0"), (3, "")] {
            assert!(!recent.has(SimpleId(id), text), "{id} {text:?}");
        }
        let long = "a".repeat(LONGEST + 1);
        recent.keep(SimpleId(3), &long);
        assert!(!recent.has(SimpleId(3), &long));
        // More than there are places: the last one stays.
        for number in 0..5 * PLACES {
            recent.keep(SimpleId(3), &number.to_string());
            assert!(recent.has(SimpleId(3), &number.to_string()));
        }
        assert_eq!(recent.0.len(), PLACES);
    }
}
