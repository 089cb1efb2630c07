//! Documents that are valid by a schema, made up.

/// How a sample is made.
#[derive(Clone, Copy, Debug, Default)]
pub struct SampleSettings<'s> {
    /// Whether only what has to be there is.
    pub is_minimal: bool,
    /// Samples of one seed are the same; those of others differ where a schema leaves something open.
    pub seed: u64,
    /// The name of the root element, of an XML Schema that has several.
    pub root: Option<&'s str>,
}

/// So many samples are tried until one is valid: not all that a schema asks is looked at on the way.
pub(crate) const TRIES: u64 = 60;

/// The most values or elements of a sample.
pub(crate) const MOST: usize = 20_000;

/// Values nest so deep before only what has to be there is made.
pub(crate) const DEEP: u32 = 5;

/// Decides what is left open.
#[derive(Debug)]
pub(crate) struct Choices {
    random: fastrand::Rng,
    pub(crate) is_minimal: bool,
    /// How much may still be made.
    pub(crate) left: usize,
    count: u64,
    /// Whether nothing was tried before.
    pub(crate) is_first: bool,
}

impl Choices {
    /// The choices of one try.
    pub(crate) fn new(settings: SampleSettings<'_>, number: u64) -> Self {
        let random = fastrand::Rng::with_seed(settings.seed.wrapping_add(number));
        // Where much cannot be made valid, little often can.
        let is_minimal = settings.is_minimal || number * 2 > TRIES;
        Self { random, is_minimal, left: MOST, count: 0, is_first: number == 0 }
    }

    /// A number below another one.
    pub(crate) fn below(&mut self, limit: usize) -> usize {
        if limit < 2 { 0 } else { self.random.usize(..limit) }
    }

    /// Whether something is made that need not be there: at first all is; then, since that was not valid, most.
    pub(crate) fn wants_more(&mut self) -> bool {
        !self.is_minimal && (self.is_first || self.below(4) > 0)
    }

    /// Takes note that something is made; None where there is too much already.
    pub(crate) fn spend(&mut self) -> Option<()> {
        self.left = self.left.checked_sub(1)?;
        Some(())
    }

    /// The next of numbers that are all different.
    pub(crate) fn next(&mut self) -> u64 {
        self.count += 1;
        self.count
    }
}
