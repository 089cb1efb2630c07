//! An input cut into parts, each a document of its format that stands alone.

mod parts;
mod xml;
mod yaml;

use std::ops::Range;
use std::path::{Path, PathBuf};

use kyanite_formats::json::{EventReader, Templates};
use kyanite_formats::{Format, span_of};
use kyanite_lang::{Arguments, Plan, Runner, Session};
use kyanite_tree::{Arena, Base, Code, Diagnostic, Event, Passed, Place, Pull, ScalarSpan, Value};

use crate::blocks::Blocks;
use crate::consume::Consumer;
use crate::document::Library;
use crate::input::{Input, InputOptions, Source};
use crate::records::InputPart;
use crate::run::rule_failed;
use crate::run_error::{Events, RunError};
use crate::stream::no_list_error;
use crate::survey::RecordPath;
use crate::transcode::Replaced;
use crate::walk::{Step, Walk};

use parts::{Around, Parts};

pub use parts::{SplitPart, TEMPLATE_PARAMS};

/// An input that is cut into parts.
#[derive(Clone, Copy)]
pub struct Splitting<'s> {
    /// The input.
    pub input: &'s Input,
    /// How it is read.
    pub options: &'s InputOptions,
    /// The path to the records; without it they are those of a stream, the items of a document that is a list, or documents of YAML.
    pub at: Option<&'s RecordPath>,
    /// Where parts begin.
    pub by: SplitBy<'s>,
    /// Where parts go.
    pub folder: &'s Path,
    /// What makes the name of a part: a rule with the params [`TEMPLATE_PARAMS`].
    pub template: &'s Plan,
    /// Files that no part may take the place of.
    pub kept: &'s [PathBuf],
}

/// Where parts begin, or which records are in one.
#[derive(Clone, Copy)]
pub enum SplitBy<'s> {
    /// After this number of records.
    Records(u64),
    /// Before the record with which a part would have more bytes.
    Bytes(u64),
    /// Records for which this is the same are in one part.
    Key(&'s Plan),
    /// A record for which this holds begins a part.
    Where(&'s Plan),
}

/// Cuts an input into parts; gives what they are, in the order in which they begin. All are there in the end, or none.
///
/// # Errors
/// [`RunError`] by whatever is wrong: the input, a key, a name, or the folder.
pub fn split(what: Splitting<'_>, events: &mut Events<'_>) -> Result<Vec<SplitPart>, RunError> {
    let source = Source::open(what.input, what.options)?;
    let format = source.detected.format;
    let name = source.name.clone();
    let parts = Parts::new(what, &name, format)?;
    let mut cut = Cut { what, parts, events };
    match (format, what.at) {
        (format, Some(_)) if format.has_records() => {
            let advice = "leave --at out: the records are its lines or rows";
            return Err(RunError::command(
                format!("{} is a stream of records", source.name),
                advice,
            ));
        }
        (format, None) if format.has_records() => cut.stream(source)?,
        (Format::Json, _) => cut.json(source)?,
        (Format::Yaml, None) => cut.yaml(source)?,
        (Format::Xml, Some(at)) => cut.xml(source, at)?,
        (Format::Xml, None) => {
            let advice = "say which elements are the records, as in $.manifest.vessel[*]";
            return Err(RunError::command("a document of XML is split at a path", advice));
        }
        (format, _) => {
            let at = if what.at.is_some() { " at a path" } else { "" };
            let advice = "convert it to JSON first";
            return Err(RunError::command(
                format!("a document of {format} is not split{at}"),
                advice,
            ));
        }
    }
    let parts = cut.parts.finish()?;
    if parts.is_empty() {
        let message = format!("{name} has no records, and there are no parts");
        cut.events.tell(Diagnostic::warning(Code::ResultNothing, message));
    }
    Ok(parts)
}

/// What cuts records.
struct Cut<'s, 'e> {
    what: Splitting<'s>,
    parts: Parts<'s>,
    events: &'s mut Events<'e>,
}

impl Cut<'_, '_> {
    /// Cuts a stream of records, block by block.
    fn stream(&mut self, source: Source) -> Result<(), RunError> {
        let Source { name, detected, reader, live, replaced, .. } = source;
        let mut blocks = Blocks::new(reader, live);
        self.blocks(&mut blocks, &name, detected.format, &replaced).map(drop)
    }

    fn blocks(
        &mut self,
        blocks: &mut Blocks,
        name: &str,
        format: Format,
        replaced: &Replaced,
    ) -> Result<Passed, RunError> {
        let (by, parts) = (self.what.by, &mut self.parts);
        // Where nothing is asked of records, it is enough that they are well-formed, each on a line.
        let is_counted = matches!(by, SplitBy::Records(_) | SplitBy::Bytes(_));
        let depth = self.what.options.limits.depth;
        let input = InputPart { name, format, base: Base::default(), before: Passed::default() };
        let (mut keys, mut templates) = (Keys::new(by), Templates::default());
        let counters = self.events.counters;
        let walk = Walk::new(self.what.options, self.events);
        walk.over(blocks, input, replaced, &mut |records, arena, steps| {
            parts.set_header(records.head());
            loop {
                if is_counted {
                    let text = records.text().as_bytes();
                    let mut lines = LinesOfValues { text, depth, spans: Vec::new() };
                    counters.count(records.consume(&mut templates, &mut lines) as u64);
                    for (start, end) in &lines.spans {
                        parts.put(
                            &text[*start..*end],
                            None,
                            Key::Same,
                            Around::Nothing,
                            &|| None,
                        )?;
                    }
                }
                match steps.next(records)? {
                    Step::Record(record) => {
                        counters.count(1);
                        let place = || Some(records.last_place());
                        let key = keys.of(record, arena, &place)?;
                        let text = records.last_text();
                        parts.put(text, Some(record), key, Around::Nothing, &place)?;
                    }
                    Step::End(used) => return Ok(used),
                }
            }
        })
    }

    /// Cuts the list that a path leads to: a large one item by item, another whole.
    fn json(&mut self, source: Source) -> Result<(), RunError> {
        let at = self.what.at;
        if let Some(at) = at.filter(|at| at.has_names()) {
            let message = format!("what stands around {at} is in no part");
            self.events.tell(Diagnostic::warning(Code::NotRead, message));
        }
        let is_plain = !self.what.options.unwrap && source.looks_like.is_none();
        let names = at.map_or(Some(Vec::new()), RecordPath::to_one_list).filter(|_| is_plain);
        let Some(names) = names else { return self.items(source) };
        let mut source = source.go_through(names, false)?;
        let Some(mut items) = source.items.take() else { return self.items(source) };
        let (name, replaced) = (source.name.clone(), source.replaced.clone());
        let passed = self.blocks(&mut items, &name, Format::JsonLines, &replaced)?;
        no_list_error(&items, &name, passed)
    }

    /// Cuts the items of lists in a document that is held whole.
    fn items(&mut self, source: Source) -> Result<(), RunError> {
        let arena = Arena::new();
        let library = Library::new(&arena);
        let name = source.name.clone();
        let roots = library.load(source, self.what.options, self.events)?.roots;
        let mut records = Vec::new();
        for root in roots {
            match (self.what.at, root) {
                (Some(at), root) => at.each(root, &mut |record| records.push(record)),
                (None, Value::List(_, items)) => records.extend_from_slice(items),
                (None, other) => {
                    let message =
                        format!("{name} is {}, and a list is split", other.kind().phrase());
                    let advice = "say the path to a list with --at, as in $.routes[*]";
                    return Err(RunError::command(message, advice));
                }
            }
        }
        if let Some(at) = self.what.at.filter(|_| records.is_empty()) {
            return Err(at.leads_nowhere());
        }
        let mut keys = Keys::new(self.what.by);
        for record in records {
            let place = || library.place(record.origin());
            let key = keys.of(record, &arena, &place)?;
            let text = library.text_of(record).map(str::to_owned);
            let text = text.unwrap_or_else(|| kyanite_formats::json::compact(record));
            self.parts.put(text.as_bytes(), Some(record), key, Around::Nothing, &place)?;
        }
        Ok(())
    }
}

/// Takes values that are well-formed, nested no deeper than that, and on one line each.
struct LinesOfValues<'t> {
    /// The text of the block.
    text: &'t [u8],
    depth: usize,
    /// Where those begin and end that were taken.
    spans: Vec<(usize, usize)>,
}

impl<'t> Consumer<'t> for LinesOfValues<'_> {
    fn consume(
        &mut self,
        events: &mut EventReader<'t, '_>,
        at: usize,
        start: usize,
    ) -> Option<usize> {
        let mut open = 0;
        while let Some(event) = events.next_event() {
            match event {
                Event::BeginMap | Event::BeginList if open >= self.depth => return None,
                Event::BeginMap | Event::BeginList => open += 1,
                Event::EndMap | Event::EndList => open -= 1,
                _ => {}
            }
        }
        let end = events.end()?;
        // Those that follow its template are on one line then, too.
        let record = &self.text[start..start + (end - at)];
        memchr::memchr(b'\n', record).is_none().then_some(end)
    }

    fn learn(&mut self, _: usize) {}

    fn consume_alike(&mut self, _: (&'t str, Range<usize>), _: usize, _: &[ScalarSpan]) -> bool {
        true
    }

    fn consumed(&mut self, start: usize, end: usize) {
        self.spans.push((start, end));
    }
}

/// What part a record is in, as far as an expression says.
enum Key {
    /// Whichever is under way.
    Same,
    /// A new one.
    New,
    /// That of a value.
    Of(String),
}

/// Works out keys.
struct Keys<'s> {
    plan: Option<(&'s Plan, Session)>,
    is_condition: bool,
}

impl<'s> Keys<'s> {
    fn new(by: SplitBy<'s>) -> Self {
        let (plan, is_condition) = match by {
            SplitBy::Key(plan) => (Some(plan), false),
            SplitBy::Where(plan) => (Some(plan), true),
            SplitBy::Records(_) | SplitBy::Bytes(_) => (None, false),
        };
        Self { plan: plan.map(|plan| (plan, Session::new(plan))), is_condition }
    }

    /// The key of a record.
    fn of(
        &mut self,
        record: Value<'_>,
        arena: &Arena,
        place: &dyn Fn() -> Option<Place>,
    ) -> Result<Key, RunError> {
        let Some((plan, session)) = &mut self.plan else { return Ok(Key::Same) };
        let mut found = Vec::new();
        evaluate(plan, session, Some(record), &[], arena, &mut |value| {
            found.push(value.simple_key())
        })
        .map_err(|failure| match failure {
            RunError::Rule(why) => RunError::Rule(why.at_opt(place())),
            other => other,
        })?;
        if self.is_condition {
            return Ok(match found.as_slice() {
                [one] if one.is_true => Key::New,
                _ => Key::Same,
            });
        }
        let wrong =
            |what: &str| {
                let message = format!("the key of this record is {what}");
                let why = Diagnostic::error(Code::ValueKind, message).at_opt(place());
                Err(RunError::Rule(why.advise(
                    "keys are texts, numbers or booleans; ?? says what stands in for nothing",
                )))
            };
        match found.as_slice() {
            [] => wrong("nothing"),
            [FoundKey { text: Some(text), .. }] => Ok(Key::Of(text.clone())),
            [FoundKey { kind, .. }] => wrong(kind),
            several => wrong(&format!("{} values", several.len())),
        }
    }
}

/// A value as a key.
struct FoundKey {
    text: Option<String>,
    is_true: bool,
    kind: &'static str,
}

/// What a value is as a key.
trait SimpleKey {
    fn simple_key(self) -> FoundKey;
}

impl SimpleKey for Value<'_> {
    fn simple_key(self) -> FoundKey {
        FoundKey {
            text: self.scalar_text().map(str::to_owned),
            is_true: matches!(self, Value::Boolean(_, true)),
            kind: self.kind().phrase(),
        }
    }
}

/// Runs a plan over a value; `take` gets what it gives.
fn evaluate<'a>(
    plan: &Plan,
    session: &mut Session,
    root: Option<Value<'a>>,
    params: &[(String, String)],
    arena: &'a Arena,
    take: &mut dyn FnMut(Value<'_>),
) -> Result<(), RunError> {
    let arguments = Arguments::read(plan, params, arena).map_err(RunError::Command)?;
    let mut runner = Runner::new(plan, &arguments, root, arena, session)
        .map_err(|failure| rule_failed(plan, &failure, None))?;
    let ran = runner.document(&mut |value| {
        value.into_iter().for_each(&mut *take);
        std::ops::ControlFlow::Continue(())
    });
    ran.map(drop).map_err(|failure| rule_failed(plan, &failure, None))
}

impl<'a> Library<'a> {
    /// The text that a value was read from.
    fn text_of(&self, value: Value<'_>) -> Option<&'a str> {
        let (_, text) = self.first_text()?;
        let offset = Base::default().offset(value.origin());
        let span = span_of(Format::Json, text, offset, None)?;
        text.get(span.start..span.end)
    }
}
