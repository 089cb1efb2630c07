//! From bytes to bytes: inputs are opened, read whole or record by record, run through a rule, and written.
//!
//! Nothing here prints. What is worth saying goes to [`Events`] as it comes up; what ends a run is a [`RunError`],
//! which also says whose fault it is.

mod apart;
mod blocks;
mod browse;
mod change;
mod compression;
mod consume;
mod document;
mod edit;
mod elements;
mod ensure;
mod fetch;
mod folder;
mod in_order;
mod input;
mod layout;
mod line_ends;
mod live;
mod output;
mod parallel;
mod part;
mod partial;
mod parts;
mod pieces;
mod range;
mod records;
mod render;
mod repairs;
mod results;
mod rows;
mod run;
mod run_error;
mod runs;
mod sources;
mod split;
mod state_file;
mod stream;
mod survey;
mod trace;
mod transcode;
mod types;
mod unfinished;
mod validate;
mod walk;
mod xpath;

/// Reads the bytes of an input, on whichever thread wants the next of them.
pub(crate) type Bytes = Box<dyn std::io::Read + Send>;

pub use apart::Apart;
pub use browse::{
    BrowsedDocument, DocumentInMemory, LargeDocument, RunningSearch, Selected, look_at,
};
pub use change::{
    Compared, Diffing, FoundChange, PairedFiles, Patched, Patching, Side, diff, pair_files, patch,
};
pub use document::read_whole;
pub use edit::{EditedFile, edit, patch_in_place, write_edited};
pub use ensure::Ensured;
pub use fetch::Fetch;
pub use input::{
    DEFAULT_MEMORY, DEFAULT_SIZE, Input, InputOptions, InputReader, KeptInput, format_of,
};
pub use layout::Layout;
pub use output::{Aside, Captured, Destination, Output};
pub use parallel::WORKER;
pub use part::Part;
pub use partial::{PartialFile, add_state, combine, joined_states, partial};
pub use range::ByteRange;
pub use run::{DocumentText, Job, LossPolicy, Sink, What, stack_size};
pub use run_error::{Counters, Events, RunError, WayCounters};
pub use split::{SplitBy, SplitPart, Splitting, TEMPLATE_PARAMS, split};
pub use survey::{RecordPath, SurveyState, Surveyed, join_surveys, survey, survey_part};
pub use trace::{Traced, trace};
pub use types::{DocumentTypes, check_rule};
pub use unfinished::{is_same_file, remove_unfinished};
pub use validate::{
    Choice, Chosen, Finding, Known, Project, ProjectSet, Sample, Schemas, Set, Step, Validation,
    Verdict, find, fingerprints, is_schema, is_well_formed, validate,
};

/// Runs a plan over inputs: a rule, or an XPath.
///
/// # Errors
/// What ended the run early.
pub fn run(
    job: &Job<'_>,
    inputs: &[Input],
    sink: &mut dyn Sink,
    events: &mut Events<'_>,
) -> Result<(), RunError> {
    match job.plan.xpath() {
        Some(expression) => xpath::run(job, expression, inputs, sink, events),
        None => run::rule(job, inputs, sink, events),
    }
}
