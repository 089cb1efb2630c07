//! Texts that were values of their types lately. The same units, kinds and counts come again and again, and whether a text is a value of
//! a type does not change, as long as it depends on no prefix and means no other place of the document.

/// Longer texts are not kept.
const LONGEST: usize = 16;

/// How many are kept: each has one place, and takes it from another.
const PLACES: usize = 1024;

/// A short text: its first and its last bytes, which may overlap, and how many there are.
#[derive(Clone, Copy, PartialEq, Eq, Default, Debug)]
struct Short {
    first: u64,
    last: u64,
    length: usize,
}

/// The texts that were accepted last, each by the number of a type.
#[derive(Debug, Default)]
pub(super) struct Recent(Vec<Option<(usize, Short)>>);

impl Recent {
    /// Whether a text is known to be a value of a type.
    #[inline]
    pub(super) fn has(&self, of_type: usize, text: &str) -> bool {
        let Some(text) = Short::of(text) else { return false };
        self.0.get(text.place(of_type)).is_some_and(|known| *known == Some((of_type, text)))
    }

    /// Keeps a text that is a value of a type.
    pub(super) fn keep(&mut self, of_type: usize, text: &str) {
        if let Some(text) = Short::of(text) {
            self.0.resize(PLACES, None);
            self.0[text.place(of_type)] = Some((of_type, text));
        }
    }
}

impl Short {
    #[inline]
    fn of(text: &str) -> Option<Self> {
        let (bytes, length) = (text.as_bytes(), text.len());
        let half = |half: &[u8; 4]| u64::from(u32::from_le_bytes(*half));
        let (first, last) = match (bytes.first_chunk(), bytes.last_chunk()) {
            (Some(first), Some(last)) if length <= LONGEST => {
                (u64::from_le_bytes(*first), u64::from_le_bytes(*last))
            }
            (Some(_), _) => return None,
            _ => match (bytes.first_chunk(), bytes.last_chunk()) {
                (Some(first), Some(last)) => (half(first), half(last)),
                _ => (bytes.iter().fold(0, |all, byte| all << 8 | u64::from(*byte)), 0),
            },
        };
        Some(Self { first, last, length })
    }

    #[inline]
    fn place(self, of_type: usize) -> usize {
        // The multiplier of the golden ratio (Knuth, The Art of Computer Programming, vol. 3, section 6.4).
        let mix = |hash: u64, word: u64| {
            (hash.rotate_left(23) ^ word).wrapping_mul(0x9e37_79b9_7f4a_7c15)
        };
        (mix(mix(of_type as u64, self.first), self.last) >> 32) as usize % PLACES
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
        let long = "a".repeat(LONGEST + 1);
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
