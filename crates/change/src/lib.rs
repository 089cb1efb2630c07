//! What differs between two documents, and patches that make one of the other.
//!
//! [`compare`] says what is added, removed, changed and moved; [`json_patch`] writes that as a JSON Patch (RFC 6902). [`Patch`] is that
//! a patch, read and applied; [`merge`] applies a JSON Merge Patch (RFC 7396).
//!
//! ```
//! use kyanite_change::{Comparison, Patch, compare, json_patch};
//! use kyanite_formats::json::{self, ReaderOptions, document};
//! use kyanite_tree::{Arena, equal};
//!
//! let arena = Arena::new();
//! let read = |text| document(text, &arena, ReaderOptions::default()).unwrap().0;
//! let (old, new) = (read(r#"{"berth": "A1", "legs": [1, 2, 3]}"#), read(r#"{"legs": [2, 3, 4]}"#));
//! let difference = compare(old, new, &Comparison::default());
//! let patch = json_patch(&difference, false, &arena);
//! assert_eq!(
//!     json::compact(patch),
//!     r#"[{"op":"remove","path":"/berth"},{"op":"remove","path":"/legs/0"},{"op":"add","path":"/legs/2","value":4}]"#
//! );
//! assert!(equal(Patch::read(patch).unwrap().apply(old, &arena).unwrap(), new));
//! ```

mod align;
mod compare;
mod difference;
mod edit;
mod editing;
mod fingerprint;
mod matching;
mod merge;
mod patch;
mod pattern;
mod write;

pub use compare::{compare, compare_items};
pub use difference::{
    Aligned, Assumed, Change, ChangeSort, Comparison, Delta, Difference, KeyChoice, Numbers,
    UnclearKey,
};
pub use edit::{EditProblem, edit_record, edit_text};
pub use matching::{key_of, lacks_key};
pub use merge::merge;
pub use patch::{Patch, PatchProblem};
pub use pattern::Pattern;
pub use write::json_patch;
