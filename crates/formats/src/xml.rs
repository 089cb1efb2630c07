//! XML 1.0 (fifth edition) with Namespaces in XML 1.0.
//!
//! [`decode`] makes text of bytes, [`document`] an [element](kyanite_tree::Element) tree of text, and [`write`] text of
//! elements. Internal entities and attribute defaults of the document type declaration are put in; nothing outside the
//! document is ever fetched.
//!
//! ```
//! use kyanite_formats::xml;
//! use kyanite_tree::{Arena, Value};
//!
//! let arena = Arena::new();
//! let read = xml::document("<pier no='4'>Ness</pier>", &arena, xml::Options::default()).unwrap();
//! let pier = read.root.children().next().unwrap();
//! assert_eq!(pier.as_element().unwrap().text, Some("Ness"));
//! ```

mod ancestry;
mod attributes;
mod chars;
mod cursor;
mod declarations;
mod dropped;
mod dtd;
mod encoding;
mod entities;
mod escape;
mod events;
mod fields;
mod lines;
mod markup;
mod names;
mod prefilter;
mod projected_elements;
mod prolog;
mod read;
mod records;
mod repair;
mod stand;
mod tags;
mod templates;
mod write;

pub use ancestry::{Ancestry, Elements, StepName};
pub use dropped::Dropped;
pub use encoding::{charset, decode};
pub use entities::resolved;
pub use escape::start_tag;
pub use events::{Event, EventReader};
pub use fields::SlotTemplates;
pub use lines::document_line;
pub use prefilter::{Condition, Prefilter, Test, TestStep, TextTest};
pub use prolog::{Prolog, prolog, root_namespaces};
pub use read::{DEFAULT_EXPANSION, Document, Options, document, node_end, nodes, value_end};
pub use records::{LineOrRecord, RecordReader};
pub use repair::{MarkupError, Repair};
pub use templates::{Templates, ValueAt};
pub use write::{Layout, Writer, is_name, write};
