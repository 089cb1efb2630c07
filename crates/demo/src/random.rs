//! The numbers behind the generated data.
//!
//! Benchmarks quote sizes and counts of this data, so its bytes must never change. Packages of random numbers
//! do not promise that across versions; SplitMix64 (Steele, Lea, Flood 2014) is fixed and seven lines long.

/// A sequence of numbers fixed by its seed.
#[derive(Clone, Debug)]
pub(crate) struct Random(u64);

impl Random {
    pub(crate) fn new(seed: u64) -> Self {
        Self(seed)
    }

    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        z ^ (z >> 31)
    }

    /// A number below `bound`.
    pub(crate) fn below(&mut self, bound: u32) -> u32 {
        ((self.next() >> 32).wrapping_mul(u64::from(bound)) >> 32) as u32
    }

    /// True `percent` times in a hundred.
    pub(crate) fn chance(&mut self, percent: u32) -> bool {
        self.below(100) < percent
    }

    /// One of `choices`, or the empty text if there are none.
    pub(crate) fn pick<'a>(&mut self, choices: &[&'a str]) -> &'a str {
        choices.get(self.below(choices.len() as u32) as usize).copied().unwrap_or_default()
    }
}
