//! JSON (RFC 8259): the reader, the writer, and what can be wrong with a text.

mod build;
mod bytewise;
mod canonical;
mod error;
mod events;
mod fields;
mod frame;
mod inside;
mod key;
mod lay_out;
mod lines;
mod names;
mod part;
mod read;
mod slots;
mod string;
mod templates;
mod tokens;
mod write;

pub use build::ValueTemplates;
pub use canonical::{survives_double, write_canonical};
pub use error::{ErrorKind, ReadError};
pub use events::{EventReader, is_one_value};
pub use fields::SlotTemplates;
pub use frame::{Found, Frame, FrameError, Framed};
pub use inside::Inside;
pub(crate) use key::Key;
pub use lay_out::LayOut;
pub use lines::LineWriter;
pub use part::PartStructure;
pub use read::{DEFAULT_DEPTH, Duplicate, Origins, Reader, ReaderOptions, document, value_end};
pub use slots::{Slot, Slots, Slotted};
pub use string::unescaped;
pub use templates::Templates;
pub use write::{Style, compact, write, write_line_start, write_nested, write_text};
pub(crate) use write::{write_character, write_escape};
