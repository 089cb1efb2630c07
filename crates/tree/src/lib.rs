//! Documents in memory.
//!
//! A document is a tree of [`Value`]s that live in an [`Arena`]: small, `Copy`, and borrowing their
//! text from the bytes that were read wherever nothing had to be unescaped. Every value carries its
//! [`Origin`], so that a failure far downstream can still name the line, the column and the path it
//! came from. Numbers keep their spelling; [`Decimal`] computes with them exactly.
//!
//! ```
//! use kyanite_tree::{Arena, Value};
//!
//! let arena = Arena::new();
//! let berths = arena.list(&[Value::text("A9"), Value::text("A10")]);
//! assert_eq!(berths.as_list().map(<[_]>::len), Some(2));
//! ```

mod arena;
mod code;
mod compare;
mod comparison;
mod decimal;
mod diagnostic;
mod element;
mod event;
mod exact;
mod map;
mod near;
pub mod nesting;
mod nodes;
mod number;
mod origin;
mod packed;
mod path;
mod place;
pub mod pointer;
mod scalar_span;
mod short;
mod value;
mod wording;

pub use arena::Arena;
pub use code::Code;
pub use compare::{Key, equal, order};
pub use comparison::Comparison;
pub use decimal::{Decimal, DecimalError};
pub use diagnostic::{Advice, AdvicePart, Diagnostic, Fix, Locus, Setting, Severity, Span};
pub use element::{Attribute, Content, Element, Name, is_blank, is_same_name};
pub use event::{Event, Pull, RawText, ValueEvents};
pub use map::{Map, MapBuilder, Member, NameIndex};
pub use near::{near, near_in_words, near_words};
pub use nodes::{Ancestors, Children, Matches, NameTest, Node, NodeKind, Nodes, NodesBuilder};
pub use number::Number;
pub use origin::{Base, Origin, Region, SourceMap};
pub use packed::{Packed, pack};
pub use path::{Location, Step, is_shorthand, locate, locate_node, name_step};
pub use place::{Excerpt, LineColumn, Part, Passed, Place, TextPlaces};
pub use scalar_span::{ScalarKind, ScalarSpan};
pub use short::ShortText;
pub use value::{Foreign, ForeignType, Kind, Value};
pub use wording::counted;
