//! Regular expressions: each standard has its own grammar, and a translator of it for the `regex` package.
//!
//! The package takes time in proportion to the text, whatever the pattern. A translator refuses what its standard does not
//! have, so that nothing of the package's own grammar is reached by accident.

pub mod iregexp;
pub mod xsd;

/// The largest compiled pattern, in bytes.
const SIZE: usize = 4 << 20;

/// How deep parentheses may nest.
const DEPTH: usize = 100;
