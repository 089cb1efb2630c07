//! Lists and maps that are open, a bit each.

/// Which of the lists and maps around a place are maps.
///
/// ```
/// use kyanite_scan::Nesting;
///
/// let mut open = Nesting::default();
/// open.begin(true);
/// open.begin(false);
/// assert_eq!((open.is_in_map(), open.is_empty()), (false, false));
/// open.end();
/// open.end();
/// assert_eq!((open.is_in_map(), open.is_empty()), (false, true));
/// ```
#[derive(Clone, Debug, Default)]
pub struct Nesting {
    /// The innermost of those that are open, the last one the lowest bit: whether it is a map. Without any the bit is none.
    maps: u64,
    depth: u32,
    /// The words that were full before, where more are open than a word has bits.
    outer: Vec<u64>,
}

impl Nesting {
    /// A list or map begins.
    #[inline(always)]
    pub fn begin(&mut self, is_map: bool) {
        if self.fills_words() {
            self.outer.push(self.maps);
        }
        self.maps = self.maps << 1 | u64::from(is_map);
        self.depth = self.depth.wrapping_add(1);
    }

    /// What was begun last ends. Where nothing is open, this does nothing.
    #[inline(always)]
    pub fn end(&mut self) {
        self.maps >>= 1;
        self.depth = self.depth.saturating_sub(1);
        if self.fills_words() {
            self.maps = self.outer.pop().unwrap_or_default();
        }
    }

    /// Whether what was begun last, and has not ended, is a map.
    #[inline(always)]
    #[must_use]
    pub fn is_in_map(&self) -> bool {
        self.maps & 1 == 1
    }

    /// Whether nothing is open.
    #[inline(always)]
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.depth == 0
    }

    /// All have ended.
    pub fn clear(&mut self) {
        (self.maps, self.depth) = (0, 0);
        self.outer.clear();
    }

    /// Whether the last word that is in use has no room left.
    #[inline(always)]
    fn fills_words(&self) -> bool {
        self.depth != 0 && self.depth.is_multiple_of(u64::BITS)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    proptest::proptest! {
        #[test]
        fn as_a_list_of_booleans(begins in proptest::collection::vec(proptest::option::weighted(0.8, proptest::bool::ANY), 0..600)) {
            let (mut open, mut expected) = (Nesting::default(), Vec::new());
            for begin in begins {
                match begin {
                    Some(is_map) => {
                        open.begin(is_map);
                        expected.push(is_map);
                    }
                    None => {
                        open.end();
                        expected.pop();
                    }
                }
                assert_eq!(open.is_in_map(), expected.last() == Some(&true));
                assert_eq!(open.is_empty(), expected.is_empty());
            }
        }
    }
}
