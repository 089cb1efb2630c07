//! Streams of records against JSON Schemas, a block at a time.

use std::ops::Range;

use kyanite_formats::Format;
use kyanite_formats::json::{EventReader, Templates};
use kyanite_formats::records::Layout;
use kyanite_schema::json::Accepting;
use kyanite_schema::{Finding as Found, json};
use kyanite_tree::{Arena, Base, Diagnostic, Passed, Place, ScalarSpan, Value, locate};

use super::check::{Raw, check_value};
use crate::blocks::{Block, Blocks, Then};
use crate::consume::Consumer;
use crate::in_order::{Made, Shared, Workers};
use crate::input::{InputOptions, Source};
use crate::records::{InputPart, Next, Records};
use crate::run::stack_size;
use crate::run_error::{Counters, Events, RunError};
use crate::walk::{Step, Walk};

/// How far a stream was checked.
#[derive(Clone, Copy, Default)]
struct Progress {
    /// How many records there were.
    number: usize,
    base: Base,
    before: Passed,
}

/// What came of a block that was checked apart from the others.
struct Checked {
    /// What is wrong, with the number of the record in the block, the place as if the block began the file, and the path in the
    /// record.
    findings: Vec<(usize, Found, Place, String)>,
    records: usize,
}

/// Checks the blocks of JSON Lines on several threads, until the end or as far as each ends with a record and there is nothing to
/// be said but findings. Gives what is left, and how far it came.
fn on_threads(
    blocks: Blocks,
    schemas: &[json::Schema<'_>],
    (raw, name, options): (&mut Raw, &str, &InputOptions),
    threads: usize,
    counters: &Counters,
) -> Result<(Blocks, Progress), RunError> {
    let layout = Layout::Json { depth: options.limits.depth, projection: None };
    let mut progress = Progress::default();
    let mut take = |block: &[u8], part: Checked| {
        for (at, found, place, path) in part.findings {
            let path = format!("$[{}]{path}", progress.number + at);
            raw.add(found, Some(place.behind(progress.before).with_path(path)));
        }
        raw.checked += part.records as u64;
        progress.number += part.records;
        progress.before.pass(block);
        progress.base = progress.base.behind(block.len());
        counters.read(block.len() as u64);
    };
    let stack = stack_size(json::DEPTH.max(options.limits.depth));
    let known = Shared::new(|| Known::of(schemas));
    let work = |block: &[u8]| known.with(|known| checked(block, schemas, name, layout, known));
    let left = Workers { threads, stack }.run(blocks, name, &work, &mut take)?;
    Ok((left, progress))
}

/// Checks a block, whatever the others have in them.
fn checked(
    bytes: &[u8],
    schemas: &[json::Schema<'_>],
    name: &str,
    layout: Layout<'_>,
    known: &mut Known<'_, '_>,
) -> Made<Checked> {
    let arena = Arena::new();
    let (mut findings, mut records, mut is_clean) = (Vec::new(), 0, true);
    let input = InputPart {
        name,
        format: Format::JsonLines,
        base: Base::default(),
        before: Passed::default(),
    };
    {
        let block = Block { bytes, then: Then::More };
        let mut reader = Records::new(block, 0, input, layout, &arena, None);
        loop {
            records += known.consume(&mut reader);
            match reader.next() {
                Next::Record(record) => {
                    check_value(schemas, record, &mut |found| {
                        let path = path_in(record, &found);
                        let place = reader.place(found.origin);
                        findings.push((records, found, place, path));
                    });
                    records += 1;
                }
                Next::End(used) => {
                    is_clean &= used == bytes.len();
                    break;
                }
                Next::Broken(_) => {
                    is_clean = false;
                    break;
                }
            }
            is_clean &= reader.take_duplicates().is_empty();
        }
    }
    Made { value: Checked { findings, records }, is_clean }
}

/// What is known of records that are valid.
struct Known<'a, 's> {
    templates: Templates,
    /// Where it can be told from events.
    valid: Option<Valid<'a, 's>>,
}

impl<'a, 's> Known<'a, 's> {
    fn of(schemas: &'a [json::Schema<'s>]) -> Self {
        Self { templates: Templates::default(), valid: Valid::by(schemas) }
    }

    /// Passes over records that are certainly valid; gives how many there were.
    fn consume(&mut self, records: &mut Records<'_>) -> usize {
        let valid = self.valid.as_mut();
        valid.map_or(0, |valid| records.consume(&mut self.templates, valid))
    }
}

/// Takes values that are certainly valid by all of some schemas.
pub(super) struct Valid<'a, 's>(Vec<Accepting<'a, 's>>);

impl<'a, 's> Valid<'a, 's> {
    /// Nothing where some of the schemas cannot tell it from events.
    pub(super) fn by(schemas: &'a [json::Schema<'s>]) -> Option<Self> {
        schemas.iter().map(json::Schema::accepting).collect::<Option<_>>().map(Self)
    }
}

impl<'t> Consumer<'t> for Valid<'_, '_> {
    fn consume(&mut self, events: &mut EventReader<'t, '_>, at: usize, _: usize) -> Option<usize> {
        let mut end = None;
        for schema in &mut self.0 {
            events.seek(at);
            if !schema.accepts(events) {
                return None;
            }
            end = Some(events.end()?);
        }
        end
    }

    fn learn(&mut self, template: usize) {
        self.0.iter_mut().for_each(|schema| schema.learn(template));
    }

    fn consume_alike(
        &mut self,
        (text, _): (&'t str, Range<usize>),
        template: usize,
        scalars: &[ScalarSpan],
    ) -> bool {
        self.0.iter().all(|schema| schema.accepts_alike(template, (text, scalars)))
    }
}

/// The path of a finding in its record, without the sign of the root.
fn path_in(record: Value<'_>, found: &Found) -> String {
    let path = locate(record, found.origin).map(|path| path.readable()).unwrap_or_default();
    path.strip_prefix('$').unwrap_or_default().to_owned()
}

/// Checks each record of a stream.
pub(super) fn stream(
    source: Source,
    schemas: &[json::Schema<'_>],
    raw: &mut Raw,
    (options, threads): (&InputOptions, usize),
    counters: &Counters,
) -> Result<(), RunError> {
    let format = source.detected.format;
    if let Some(message) = source.contradiction() {
        raw.tell(Diagnostic::warning(kyanite_tree::Code::InputFormat, message));
    }
    let Source { name, reader, live, replaced, .. } = source;
    let is_live = live.is_some();
    let mut blocks = Blocks::new(reader, live);
    let mut progress = Progress::default();
    let may_be_parted = format == Format::JsonLines && threads > 1 && !is_live && !options.lenient;
    if may_be_parted {
        (blocks, progress) = on_threads(blocks, schemas, (raw, &name, options), threads, counters)?;
    }
    let mut known = Known::of(schemas);
    let Progress { mut number, base, before } = progress;
    let mut told = Vec::new();
    let mut tell = |found: Diagnostic| told.push(found);
    let mut events = Events { tell: &mut tell, counters };
    let input = InputPart { name: &name, format, base, before };
    let walk = Walk::new(options, &mut events);
    let read = walk.over(&mut blocks, input, &replaced, &mut |records, _, step| {
        loop {
            let passed = known.consume(records);
            raw.checked += passed as u64;
            number += passed;
            match step.next(records)? {
                Step::Record(record) => {
                    raw.checked += 1;
                    check_value(schemas, record, &mut |found| {
                        let path = format!("$[{number}]{}", path_in(record, &found));
                        let place = records.place(found.origin);
                        raw.add(found, Some(place.with_path(path)));
                    });
                    number += 1;
                }
                Step::End(used) => return Ok(used),
            }
        }
    });
    told.into_iter().for_each(|found| raw.tell(found));
    read.map(|_| ())
}
