//! What documents hold: every path, how often it is there, what stands there, and which kinds of records there are.
//!
//! Records come as [events](kyanite_tree::Event) into a [`Batch`], which counts what it sees by the text that it reads from. A batch
//! that ended is a [`Survey`], which takes the surveys of later batches in, in bounded memory. What is read from a survey in the end is
//! a [`Report`]: plain data, for whoever shows it.
//!
//! ```
//! use kyanite_formats::json::EventReader;
//! use kyanite_formats::records::Structure;
//! use kyanite_survey::{Batch, Bounds, Survey};
//! use kyanite_tree::Arena;
//!
//! let arena = Arena::new();
//! let mut batch = Batch::new(&arena);
//! let text = r#"{"no": 1, "berth": "A"} {"no": 2}"#;
//! let structure = Structure::of(text.as_bytes());
//! let mut events = EventReader::new(text, &structure).unwrap();
//! for at in [0, 24] {
//!     events.seek(at);
//!     assert!(batch.record(&mut events));
//! }
//! let mut survey = Survey::new(Bounds::default());
//! survey.take(batch.end(&mut |_| 1), "sailings.jsonl", 0);
//! let report = survey.report();
//! assert_eq!(report.records, 2);
//! let paths: Vec<_> = report.paths.iter().map(|path| (path.path.as_str(), path.records)).collect();
//! assert_eq!(paths, [("$[*]", 2), ("$[*].no", 2), ("$[*].berth", 1)]);
//! ```

mod against;
mod batch;
mod distinct;
mod enumerated;
mod forms;
mod frequent;
mod kinds;
mod large;
mod large_document;
mod numbers;
mod paths;
mod remarks;
mod report;
mod schema;
mod shapes;
mod state;
mod survey;
mod times;
mod unique;
mod values;
mod xsd;

pub use against::{PathChange, PathChangeSort, Presence, against};
pub use batch::{Batch, Ended};
pub use distinct::Count;
pub use forms::Form;
pub use kinds::KindOfRecord;
pub use large::LargeElement;
pub use large_document::LargeDocument;
pub use numbers::{NumbersReport, QUANTILES};
pub use remarks::{Remark, RemarkSort};
pub use report::{Example, Frequent, Key, Lengths, PathReport, Reference, Report};
pub use survey::{Bounds, Survey};
pub use times::TimesReport;
pub use xsd::NoXsd;
