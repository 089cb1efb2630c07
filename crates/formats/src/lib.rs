//! Readers and writers of document formats.
//!
//! Text comes in, a tree of [`kyanite_tree::Value`]s in an arena comes out, and the other way round. Which
//! format an input is in is settled by [`detect`].

pub mod csv;
pub mod detect;
pub mod documents;
pub mod encoding;
mod error;
mod format;
pub mod html;
pub mod json;
pub mod losses;
pub mod outline;
pub mod projection;
pub mod record_view;
pub mod records;
mod spans;
mod target;
mod templates;
pub mod text;
pub mod toml;
pub mod xml;
pub mod yaml;

pub use error::{CannotHold, SyntaxError, cannot_hold};
pub use format::Format;
pub use spans::span_of;
pub use target::{Draining, Target};
pub use templates::Followed;
