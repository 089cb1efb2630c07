//! Evaluation that the languages share: what values mean, apart from how they are asked for.
//!
//! The rule language and XPath are front ends on this crate; schemas are a third. It knows no format of documents.
//!
//! - [`accumulator`]: counts, sums, means and extremes that can be merged in any order and written down
//! - [`atomic`]: the datatypes of XML Schema that XPath computes with: lexical and value spaces, casts, comparison, arithmetic
//! - [`number`]: spellings of floating point numbers
//! - [`time`]: dates, times and durations
//! - [`pattern`]: regular expressions, one translator for each standard
//! - [`picture`]: numbers and dates as pictures show them
//! - [`rank`]: the order of values, of numbers or of texts
//! - [`signature`]: how functions are shown
//! - [`uri`]: references resolved against a base

pub mod accumulator;
pub mod atomic;
pub mod number;
pub mod pattern;
pub mod picture;
pub mod rank;
pub mod signature;
pub mod time;
pub mod uri;
