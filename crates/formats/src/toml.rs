//! TOML 1.0.
//!
//! Our own reader: it keeps the digits that numbers were written with and the places of all values, and counts comments.
//!
//! ```
//! use kyanite_formats::toml;
//! use kyanite_tree::Arena;
//!
//! let arena = Arena::new();
//! let read = toml::document("[vessel]\nname = \"Skua\"\ndepth = 4.50\n", &arena, toml::Options::default()).unwrap();
//! let vessel = read.root.member("vessel").unwrap();
//! assert_eq!(vessel.member("depth").unwrap().as_number().unwrap().as_str(), "4.50");
//! ```

mod datetime;
mod read;
mod table;
mod value;
mod write;

pub use read::{Document, Options, document, inline_end, value_end};
pub use write::write;
