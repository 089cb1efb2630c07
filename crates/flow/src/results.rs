//! Results on their way from a rule to a sink, as values or as the places where nodes of the input were read.

use kyanite_formats::json;
use kyanite_lang::{Flow, ResultShape, Written};
use kyanite_tree::{Advice, Arena, Code, Diagnostic, Kind, Location, Setting, Value};

use crate::blocks::Then;
use crate::part::Part;
use crate::run::{Job, Sink, What};
use crate::run_error::RunError;

/// Hands results to a sink, as values or as their places.
pub(crate) struct Results<'s> {
    what: What,
    shape: ResultShape,
    sink: &'s mut dyn Sink,
    given: bool,
    /// A match whose place was wanted but that was computed.
    unplaced: Option<Kind>,
    /// What places are told with.
    document: Option<String>,
    /// Lines of JSON that are on their way to the sink.
    lines: Option<Part>,
}

/// The size at which lines go to the sink, in bytes.
const LINES: usize = 64 * 1024;

impl<'s> Results<'s> {
    /// Results for that sink; places are told with the name of the document, if it is given.
    pub(crate) fn new(job: &Job<'_>, sink: &'s mut dyn Sink, document: Option<&str>) -> Self {
        let (what, shape, document) =
            (job.what, job.plan.result_shape(), document.map(str::to_owned));
        Self { what, shape, sink, given: false, unplaced: None, document, lines: None }
    }

    /// Where the results go.
    pub(crate) fn sink(&mut self) -> &mut dyn Sink {
        self.sink
    }

    /// A block ends: where nothing comes for now, what was taken so far goes on its way.
    pub(crate) fn end_block(&mut self, then: Then) {
        if then == Then::Pause {
            self.sink.pause();
        }
    }

    /// Takes one result; `place` finds where a node was read.
    pub(crate) fn take<'a>(
        &mut self,
        value: Option<Value<'a>>,
        place: impl FnOnce(Value<'a>) -> Option<Location<'a>>,
    ) -> Flow {
        self.given = true;
        if self.hand_on_lines().is_break() {
            return Flow::Break(());
        }
        match (self.what, self.shape, value) {
            (What::Values, ResultShape::Single, value) => self.sink.single(value),
            (_, _, None) => Flow::Continue(()),
            (What::Values, ResultShape::Items, Some(item)) => self.sink.item(item),
            (What::Paths, _, Some(value)) => match place(value) {
                Some(location) => {
                    let document = self.document.as_deref().map(|name| format!("{name}  "));
                    let place = format!("{}{location}", document.unwrap_or_default());
                    self.sink.item(Value::text(&place))
                }
                None => {
                    self.unplaced = Some(value.kind());
                    Flow::Break(())
                }
            },
        }
    }

    /// Takes an item of a list as a line of JSON, without its end.
    pub(crate) fn take_line(&mut self, line: &str) -> Flow {
        self.given = true;
        if self.lines.is_none() {
            self.lines = self.sink.part().map(|part| part.by_lines(true));
        }
        let Some(part) = &mut self.lines else {
            let arena = Arena::new();
            let read = json::document(line, &arena, json::ReaderOptions::default());
            return read.map_or(Flow::Continue(()), |(value, _)| self.sink.item(value));
        };
        part.line(line);
        if part.bytes.len() < LINES { Flow::Continue(()) } else { self.hand_on_lines() }
    }

    /// Hands the lines so far to the sink.
    fn hand_on_lines(&mut self) -> Flow {
        match &mut self.lines {
            Some(part) if part.items > 0 => {
                part.end_lines();
                let flow = self.sink.join(part);
                part.clear();
                flow
            }
            _ => Flow::Continue(()),
        }
    }

    /// Ends the results of one document.
    pub(crate) fn end(mut self) -> Result<(), RunError> {
        let _ = self.hand_on_lines();
        if let Some(kind) = self.unplaced {
            let message =
                format!("places in the input are wanted, but this rule computed {}", kind.phrase());
            let problem = Diagnostic::error(Code::CommandLine, message).advise(
                Advice::words("return nodes of the input, or leave ")
                    .setting(Setting::Paths)
                    .then(" out"),
            );
            return Err(RunError::Command(vec![problem]));
        }
        match (self.what, self.shape) {
            (What::Values, ResultShape::Single) if self.given => {}
            (What::Values, ResultShape::Single) => {
                let _ = self.sink.single(None);
            }
            _ => self.sink.end_items(),
        }
        Ok(())
    }
}

/// Takes results to nowhere.
pub(crate) struct Nowhere;

impl Sink for Nowhere {
    fn item(&mut self, _value: Value<'_>) -> Flow {
        Flow::Continue(())
    }

    fn single(&mut self, _value: Option<Value<'_>>) -> Flow {
        Flow::Continue(())
    }

    fn end_items(&mut self) {}

    fn pause(&mut self) {}

    fn is_closed(&self) -> bool {
        false
    }

    fn written(&self) -> Written {
        Written::Values
    }

    fn part(&self) -> Option<Part> {
        Some(Part::counting())
    }
}
