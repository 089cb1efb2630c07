//! From bytes to bytes: inputs are opened, read whole or record by record, run through a rule, and written.
//!
//! Nothing here prints. What is worth saying goes to [`Events`] as it comes up; what ends a run is a [`Failed`],
//! which also says whose fault it is.

mod document;
mod failed;
mod input;
mod output;
mod records;
mod run;
mod stream;

pub use failed::{Events, Failed};
pub use input::{Input, InputOptions};
pub use output::{Destination, Layout, Output};
pub use run::{Job, Sink, What, run};
