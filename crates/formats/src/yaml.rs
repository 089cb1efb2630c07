//! YAML 1.2 with the types of the core schema (sections 8 and 10.3), and merge keys.
//!
//! The parser gives events; what they mean is settled in the reader.
//!
//! ```
//! use kyanite_formats::yaml;
//! use kyanite_tree::{Arena, Kind};
//!
//! let arena = Arena::new();
//! let read = yaml::documents("mode: 0700\nopen: no\ndepth: 6.50\n", &arena, yaml::Options::default()).unwrap();
//! let port = read.documents[0];
//! assert_eq!(port.member("mode").unwrap().as_text(), Some("0700"));
//! assert_eq!(port.member("open").unwrap().kind(), Kind::Text);
//! assert_eq!(port.member("depth").unwrap().as_number().unwrap().as_str(), "6.50");
//! ```

mod block;
mod cursor;
mod document_texts;
mod event;
mod events;
mod flow;
mod parser;
mod problems;
mod properties;
mod read;
mod scalar;
mod scalars;
mod simple;
mod write;

pub use document_texts::DocumentTexts;
pub use event::{Event, Placed, Properties, Receiver, ScalarStyle, Tag};
pub use events::{EventReader, PartEvent, Place};
pub use parser::Parser;

pub use read::{DEFAULT_ALIASES, Documents, Options, documents, node_end, value_end};
pub use write::{write, write_item};
pub(crate) use write::{write_key, write_line_or_block};
