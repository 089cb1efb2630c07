//! Runs of rules.

use std::fmt;
use std::io::{Read, Write};
use std::ops::{ControlFlow, Range};
use std::path::PathBuf;
use std::sync::atomic::{AtomicU64, Ordering};

use kyanite_flow::{
    Captured, Counters, Destination, Events, Input, InputOptions, InputReader, Job, Layout, Output,
    RunError, Sink,
};
use kyanite_formats::Format;
use kyanite_tree::{Diagnostic, Severity, Value};

use crate::{Error, Rule, State};

/// Takes what is worth saying along the way.
type Remarks<'r> = Box<dyn FnMut(&Diagnostic) + 'r>;

/// What a rule runs over, and how.
///
/// ```
/// use kyanite_core::{Rule, RunBuilder};
///
/// let rule = Rule::new("$[*].id")?;
/// let mut ids = Vec::new();
/// let summary = RunBuilder::new(&rule)
///     .input("bookings.jsonl", "{\"id\":\"TB-1\"}\n{\"id\":\"TB-2\"}\n".as_bytes())
///     .run(|id| {
///         ids.extend(id.as_text().map(str::to_owned));
///         true
///     })?;
/// assert_eq!((ids, summary.records), (vec!["TB-1".to_owned(), "TB-2".to_owned()], 2));
/// # Ok::<(), kyanite_core::Error>(())
/// ```
#[must_use]
pub struct RunBuilder<'r> {
    rule: &'r Rule,
    inputs: Vec<Input>,
    params: Vec<(String, String)>,
    sources: Vec<(String, PathBuf)>,
    options: InputOptions,
    range: Option<Range<u64>>,
    is_gathered: bool,
    remarks: Option<Remarks<'r>>,
}

/// What a run has read.
///
/// ```
/// use kyanite_core::{Rule, RunBuilder};
///
/// let rule = Rule::new("$[*]")?;
/// let text = "{\"id\":1}\nnot JSON\n{\"id\":2}\n";
/// let run = RunBuilder::new(&rule).input("bookings.jsonl", text.as_bytes()).lenient();
/// let summary = run.run(|_| true)?;
/// assert_eq!((summary.records, summary.skipped), (2, 1));
/// # Ok::<(), kyanite_core::Error>(())
/// ```
#[derive(Clone, Copy, PartialEq, Eq, Default, Debug)]
#[non_exhaustive]
pub struct Summary {
    /// Records, and documents that are none of them.
    pub records: u64,
    /// Bytes of inputs.
    pub bytes: u64,
    /// Broken records that were left out.
    pub skipped: u64,
    /// Repairs of broken XML.
    pub repaired: u64,
}

impl fmt::Debug for RunBuilder<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("RunBuilder")
            .field("inputs", &self.inputs)
            .field("params", &self.params)
            .field("sources", &self.sources)
            .finish_non_exhaustive()
    }
}

impl<'r> RunBuilder<'r> {
    /// A run of a rule, on one thread and over no input yet.
    ///
    /// ```
    /// use kyanite_core::{Format, Rule, RunBuilder};
    ///
    /// let rule = Rule::new("1 + 1")?;
    /// assert_eq!(RunBuilder::new(&rule).text(Format::Json)?, "2\n");
    /// # Ok::<(), kyanite_core::Error>(())
    /// ```
    pub fn new(rule: &'r Rule) -> Self {
        Self {
            rule,
            inputs: Vec::new(),
            params: Vec::new(),
            sources: Vec::new(),
            options: InputOptions::default(),
            range: None,
            is_gathered: false,
            remarks: None,
        }
    }

    /// Runs over what a reader gives, as it comes. Its name is for messages, and tells the format by its extension, as those of files do.
    ///
    /// ```
    /// use kyanite_core::{Format, Rule, RunBuilder};
    ///
    /// let rule = Rule::new("$.port")?;
    /// let run = RunBuilder::new(&rule).input("port.yaml", "port: Ness".as_bytes());
    /// assert_eq!(run.text(Format::Json)?, "\"Ness\"\n");
    /// # Ok::<(), kyanite_core::Error>(())
    /// ```
    pub fn input(mut self, name: &str, reader: impl Read + Send + 'static) -> Self {
        self.inputs.push(Input::Reader(InputReader::new(name, reader)));
        self
    }

    /// Runs over a file.
    ///
    /// ```
    /// use kyanite_core::{Format, Rule, RunBuilder};
    ///
    /// let folder = tempfile::tempdir()?;
    /// let file = folder.path().join("ports.csv");
    /// std::fs::write(&file, "code,depth\nness,6.50\n")?;
    /// let rule = Rule::new("$[*].depth")?;
    /// assert_eq!(RunBuilder::new(&rule).file(&file).text(Format::Text)?, "6.50\n");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn file(mut self, path: impl Into<PathBuf>) -> Self {
        self.inputs.push(Input::File(path.into()));
        self
    }

    /// Runs over what an http or https URL gives.
    ///
    /// ```no_run
    /// use kyanite_core::{Format, Rule, RunBuilder};
    ///
    /// let rule = Rule::new("count($[*])")?;
    /// let count = RunBuilder::new(&rule).url("https://ferries.example/bookings.jsonl").text(Format::Json)?;
    /// # Ok::<(), kyanite_core::Error>(())
    /// ```
    #[cfg(feature = "url")]
    pub fn url(mut self, url: &str) -> Self {
        self.inputs.push(Input::Url(url.to_owned()));
        self
    }

    /// Says the format of the inputs, which is else told by their names and then by their content.
    ///
    /// ```
    /// use kyanite_core::{Format, Rule, RunBuilder};
    ///
    /// let rule = Rule::new("count($[*])")?;
    /// let run = RunBuilder::new(&rule).input("one record", "{\"id\":1}".as_bytes());
    /// assert_eq!(run.from(Format::JsonLines).text(Format::Json)?, "1\n");
    /// # Ok::<(), kyanite_core::Error>(())
    /// ```
    pub fn from(mut self, format: Format) -> Self {
        self.options.from = Some(format);
        self
    }

    /// Gives a param of the rule its value, as a text.
    ///
    /// ```
    /// use kyanite_core::{Format, Rule, RunBuilder};
    ///
    /// let rule = Rule::new("param least: number\n$[?@ >= least]")?;
    /// let run = RunBuilder::new(&rule).input("n.json", "[1, 2, 3]".as_bytes()).param("least", "2");
    /// assert_eq!(run.text(Format::JsonLines)?, "2\n3\n");
    /// # Ok::<(), kyanite_core::Error>(())
    /// ```
    pub fn param(mut self, name: &str, value: &str) -> Self {
        self.params.push((name.to_owned(), value.to_owned()));
        self
    }

    /// Says which file a source of the rule is read from; without it, the one that the rule names.
    ///
    /// ```
    /// use kyanite_core::{Format, Rule, RunBuilder};
    ///
    /// let folder = tempfile::tempdir()?;
    /// let ports = folder.path().join("ports.json");
    /// std::fs::write(&ports, "{\"ness\": \"Ness\"}")?;
    /// let rule = Rule::new("source ports = \"ports.json\"\nfor code in $[*] return ports[(code)]")?;
    /// let run = RunBuilder::new(&rule).input("codes.json", "[\"ness\"]".as_bytes());
    /// assert_eq!(run.source("ports", &ports).text(Format::Text)?, "Ness\n");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn source(mut self, name: &str, file: impl Into<PathBuf>) -> Self {
        self.sources.push((name.to_owned(), file.into()));
        self
    }

    /// Makes one list of all inputs: of the records of CSV, JSON Lines and text, and of other documents. Without it the rule is run over each
    /// for itself.
    ///
    /// ```
    /// use kyanite_core::{Format, Rule, RunBuilder};
    ///
    /// let rule = Rule::new("sum($[*].n)")?;
    /// let run = RunBuilder::new(&rule).input("a.jsonl", "{\"n\":1}".as_bytes()).input("b.jsonl", "{\"n\":2}".as_bytes());
    /// assert_eq!(run.gather().text(Format::Json)?, "3\n");
    /// # Ok::<(), kyanite_core::Error>(())
    /// ```
    pub fn gather(mut self) -> Self {
        self.is_gathered = true;
        self
    }

    /// Leaves broken records out and repairs broken XML. What was done is counted, and told to [`remarks`](Self::remarks).
    ///
    /// ```
    /// use kyanite_core::{Format, Rule, RunBuilder};
    ///
    /// let rule = Rule::new("$.pier.name")?;
    /// let run = RunBuilder::new(&rule).input("pier.xml", "<pier><name>Ness</pier>".as_bytes());
    /// assert_eq!(run.lenient().text(Format::Json)?, "\"Ness\"\n");
    /// # Ok::<(), kyanite_core::Error>(())
    /// ```
    pub fn lenient(mut self) -> Self {
        self.options.lenient = true;
        self
    }

    /// Sets how many threads run over the records of a stream. The results are the same, in the same order.
    ///
    /// ```
    /// use kyanite_core::{Format, Rule, RunBuilder};
    ///
    /// let rule = Rule::new("sum($[*])")?;
    /// let numbers: String = (1..=100_000).map(|number| format!("{number}\n")).collect();
    /// let run = RunBuilder::new(&rule).input("n.jsonl", std::io::Cursor::new(numbers)).threads(2);
    /// assert_eq!(run.text(Format::Json)?, "5000050000\n");
    /// # Ok::<(), kyanite_core::Error>(())
    /// ```
    pub fn threads(mut self, threads: usize) -> Self {
        self.options.threads = threads.max(1);
        self
    }

    /// Bounds the bytes that tuples which wait for others (`order by`, `group by`) take in memory, about; more go to temporary files.
    ///
    /// ```
    /// use kyanite_core::{Format, Rule, RunBuilder};
    ///
    /// let rule = Rule::new("for n in $[*] order by n return n")?;
    /// let run = RunBuilder::new(&rule).input("n.jsonl", "3 1 2".as_bytes()).memory(1 << 20);
    /// assert_eq!(run.text(Format::JsonLines)?, "1\n2\n3\n");
    /// # Ok::<(), kyanite_core::Error>(())
    /// ```
    pub fn memory(mut self, bytes: usize) -> Self {
        self.options.memory = bytes;
        self
    }

    /// Sets how many levels documents may nest, which is 512 otherwise; deeper ones are refused.
    ///
    /// ```
    /// use kyanite_core::{ErrorKind, Rule, RunBuilder};
    ///
    /// let rule = Rule::new("$")?;
    /// let run = RunBuilder::new(&rule).input("deep.json", "[[[]]]".as_bytes()).depth(2);
    /// assert_eq!(run.run(|_| true).unwrap_err().kind(), ErrorKind::Input);
    /// # Ok::<(), kyanite_core::Error>(())
    /// ```
    pub fn depth(mut self, levels: usize) -> Self {
        self.options.limits.depth = levels;
        self
    }

    /// Runs over the records of a file of JSON Lines, CSV, TSV or text that begin in these bytes of it. Ranges that follow each other give
    /// each record once.
    ///
    /// ```
    /// use kyanite_core::{Format, Rule, RunBuilder};
    ///
    /// let folder = tempfile::tempdir()?;
    /// let file = folder.path().join("n.jsonl");
    /// std::fs::write(&file, "1\n2\n3\n4\n")?;
    /// let rule = Rule::new("$[*]")?;
    /// let part = |from, to| RunBuilder::new(&rule).file(&file).range(from..to).text(Format::JsonLines);
    /// assert_eq!((part(0, 3)?, part(3, 8)?), ("1\n2\n".to_owned(), "3\n4\n".to_owned()));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn range(mut self, bytes: Range<u64>) -> Self {
        self.range = Some(bytes);
        self
    }

    /// Takes warnings along the way: paths that select nothing, broken records that are left out, what the output cannot hold.
    ///
    /// ```
    /// use kyanite_core::{Rule, RunBuilder};
    ///
    /// let rule = Rule::new("$[*].nane")?;
    /// let mut told = Vec::new();
    /// RunBuilder::new(&rule)
    ///     .input("ports.json", "[{\"name\": \"Ness\"}]".as_bytes())
    ///     .remarks(|remark| told.push(remark.message().to_owned()))
    ///     .run(|_| true)?;
    /// assert_eq!(told, ["no `nane` under $[*]"]);
    /// # Ok::<(), kyanite_core::Error>(())
    /// ```
    pub fn remarks(mut self, take: impl FnMut(&Diagnostic) + 'r) -> Self {
        self.remarks = Some(Box::new(take));
        self
    }

    /// Runs the rule, and gives its results one by one, as they come: the items of a result that is a list of nodes or tuples, else the value.
    /// `take` tells whether it wants more.
    ///
    /// # Errors
    /// What ended the run early.
    ///
    /// ```
    /// use kyanite_core::{Rule, RunBuilder};
    ///
    /// let rule = Rule::new("$[*]")?;
    /// let mut first = None;
    /// RunBuilder::new(&rule).input("n.jsonl", "7 8 9".as_bytes()).run(|number| {
    ///     first = number.as_number().and_then(|number| number.as_integer());
    ///     false
    /// })?;
    /// assert_eq!(first, Some(7));
    /// # Ok::<(), kyanite_core::Error>(())
    /// ```
    pub fn run(self, mut take: impl FnMut(Value<'_>) -> bool) -> Result<Summary, Error> {
        let mut sink = Taking { take: &mut take, is_closed: false };
        self.with_job(|job, inputs, events| kyanite_flow::run(job, inputs, &mut sink, events))
            .map(|((), summary)| summary)
    }

    /// Runs the rule, and writes its results in a format.
    ///
    /// # Errors
    /// What ended the run early; what was written by then is complete lines, where the format has them.
    ///
    /// ```
    /// use kyanite_core::{Format, Rule, RunBuilder};
    ///
    /// let rule = Rule::new("$[*].name")?;
    /// let run = RunBuilder::new(&rule).input("ports.json", "[{\"name\": \"Ness\"}]".as_bytes());
    /// run.write(Format::Text, std::io::stdout())?;
    /// # Ok::<(), kyanite_core::Error>(())
    /// ```
    pub fn write(self, format: Format, writer: impl Write + 'static) -> Result<Summary, Error> {
        let ran = self.with_job(|job, inputs, events| {
            let destination = Destination::Stream(Box::new(writer));
            let mut output = Output::open(destination, Layout::of(format))?;
            if let Err(failed) = kyanite_flow::run(job, inputs, &mut output, events) {
                output.abandon();
                return Err(failed);
            }
            output.finish()?.into_iter().for_each(&mut *events.tell);
            Ok(())
        });
        ran.map(|((), summary)| summary)
    }

    /// Runs the rule, and gives its results as a text in a format.
    ///
    /// # Errors
    /// What ended the run early.
    ///
    /// ```
    /// use kyanite_core::{Format, Rule, RunBuilder};
    ///
    /// let rule = Rule::new("$.manifest.deck[*]")?;
    /// let text = "<manifest><deck no='1'/><deck no='2'/></manifest>";
    /// let run = RunBuilder::new(&rule).input("manifest.xml", text.as_bytes());
    /// assert_eq!(run.text(Format::JsonLines)?, "{\"@no\":\"1\"}\n{\"@no\":\"2\"}\n");
    /// # Ok::<(), kyanite_core::Error>(())
    /// ```
    pub fn text(self, format: Format) -> Result<String, Error> {
        let written = Captured::default();
        self.write(format, written.clone())?;
        Ok(text_of(&written))
    }

    /// Runs the rule as far as its groups and aggregates, and gives their [`State`]. The input is the part with that number, where neither its
    /// name nor its range tells it from others.
    ///
    /// # Errors
    /// What ended the run early, or why the rule cannot be run over parts.
    ///
    /// ```
    /// use kyanite_core::{Format, Rule, RunBuilder};
    ///
    /// let rule = Rule::new("avg($[*])")?;
    /// let part = |number, text: &'static str| RunBuilder::new(&rule).input("n.jsonl", text.as_bytes()).partial(number);
    /// let mut all = part(2, "4")?;
    /// all.add(&part(1, "1 2 3")?)?;
    /// assert_eq!(all.text(Format::Json)?, "2.5\n");
    /// # Ok::<(), kyanite_core::Error>(())
    /// ```
    pub fn partial(self, number: u64) -> Result<State, Error> {
        let (rule, params, sources) =
            (self.rule.clone(), self.params.clone(), self.sources.clone());
        let (partial, _) = self
            .with_job(|job, inputs, events| kyanite_flow::partial(job, inputs, number, events))?;
        Ok(State { rule, params, sources, partial })
    }

    /// Does something with the run as a job.
    fn with_job<T>(
        self,
        work: impl FnOnce(&Job<'_>, &[Input], &mut Events<'_>) -> Result<T, RunError>,
    ) -> Result<(T, Summary), Error> {
        let Self { rule, inputs, params, sources, options, range, is_gathered, mut remarks } = self;
        let sources = sources_of(rule, &sources)?;
        let job = Job {
            params: &params,
            sources: &sources,
            range,
            gather: is_gathered,
            now: Some(std::time::SystemTime::now()),
            ..Job::new(&rule.plan, &options)
        };
        let counters = Counters::default();
        let mut tell = |told: Diagnostic| {
            if let Some(take) = remarks.as_mut().filter(|_| told.severity() != Severity::Note) {
                take(&told);
            }
        };
        let done = work(&job, &inputs, &mut Events { tell: &mut tell, counters: &counters })?;
        let count = |counter: &AtomicU64| counter.load(Ordering::Relaxed);
        let summary = Summary {
            records: count(&counters.records),
            bytes: count(&counters.bytes),
            skipped: count(&counters.skipped),
            repaired: count(&counters.repaired),
        };
        Ok((done, summary))
    }
}

/// What the sources of a rule are: the files that are given, else those that it names.
pub(crate) fn sources_of(
    rule: &Rule,
    given: &[(String, PathBuf)],
) -> Result<Vec<(String, Input)>, RunError> {
    let given = given.iter().map(|(name, file)| (name.clone(), Input::File(file.clone())));
    let given: Vec<_> = given.collect();
    rule.plan.sources_from(&given, Input::of_word).map_err(|wrong| RunError::Command(vec![wrong]))
}

/// What was written in a format: all of them are UTF-8.
pub(crate) fn text_of(written: &Captured) -> String {
    String::from_utf8_lossy(&written.take()).into_owned()
}

/// Gives results to a function.
pub(crate) struct Taking<'t> {
    pub(crate) take: &'t mut dyn FnMut(Value<'_>) -> bool,
    pub(crate) is_closed: bool,
}

impl Sink for Taking<'_> {
    fn item(&mut self, value: Value<'_>) -> ControlFlow<()> {
        self.is_closed |= !(self.take)(value);
        if self.is_closed { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    }

    fn single(&mut self, value: Option<Value<'_>>) -> ControlFlow<()> {
        value.map_or(ControlFlow::Continue(()), |value| self.item(value))
    }

    fn end_items(&mut self) {}

    fn pause(&mut self) {}

    fn written(&self) -> kyanite_lang::Written {
        kyanite_lang::Written::Values
    }

    fn is_closed(&self) -> bool {
        self.is_closed
    }
}
