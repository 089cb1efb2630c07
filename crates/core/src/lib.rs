//! Rules over JSON, XML, YAML, TOML, CSV and JSON Lines, for programs: what `kyanite query` and `kyanite reshape` do.
//!
//! A [`Rule`] is compiled once. A [`RunBuilder`] says what it runs over and how; [`RunBuilder::run`] gives the results one by one, and
//! [`RunBuilder::write`] writes them in a format. Streams of records are run over in memory that does not grow with them.
//!
//! ```
//! use kyanite_core::{Format, Rule, RunBuilder};
//!
//! let rule = Rule::new("for b in $[*] where b.fare > 100 order by b.fare return {b.id, b.fare}")?;
//! let bookings = "{\"id\":1,\"fare\":250.50}\n{\"id\":2,\"fare\":80}\n{\"id\":3,\"fare\":120}\n";
//! let table = RunBuilder::new(&rule).input("bookings.jsonl", bookings.as_bytes()).text(Format::Csv)?;
//! assert_eq!(table, "id,fare\n3,120\n1,250.50\n");
//! # Ok::<(), kyanite_core::Error>(())
//! ```
//!
//! Runs over parts of an input, by several threads, processes or machines, are joined by their [`State`]s.
//!
//! # Features
//! Both are on by default. `url`: inputs and sources from http and https URLs. `zstd`: inputs compressed with Zstandard.
//!
//! # Errors and panics
//! What is wrong with a rule, an input or an output is an [`Error`], with places in the rule and in the input. Nothing here panics.

mod error;
mod rule;
mod run;
mod state;

pub use error::{Error, ErrorKind};
pub use kyanite_formats::Format;
pub use kyanite_tree::{Diagnostic, Value};
pub use rule::{Param, Rule};
pub use run::{RunBuilder, Summary};
pub use state::State;
