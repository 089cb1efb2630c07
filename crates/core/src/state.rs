//! States of runs over parts.

use std::io::{Read, Write};
use std::path::PathBuf;

use kyanite_flow::{
    Captured, Counters, Destination, Events, Input, InputOptions, InputReader, Job, Layout, Output,
    PartialFile, RunError, Sink, combine, joined_states,
};
use kyanite_formats::Format;
use kyanite_lang::Partial;
use kyanite_tree::{Arena, Value};

use crate::run::{Taking, sources_of, text_of};
use crate::{Error, Rule};

/// What the groups and aggregates of a rule came to over some of the records. States are joined in any order; the result is that of one run over
/// all, digit by digit.
///
/// ```
/// use kyanite_core::{Format, Rule, RunBuilder, State};
///
/// let rule = Rule::new("for b in $[*] group by port = b.port return {port, fares: sum(b[*].fare)}")?;
/// let day = |name: &str, text: &'static str| RunBuilder::new(&rule).input(name, text.as_bytes()).partial(0);
/// let mut all = day("tuesday.jsonl", "{\"port\":\"holm\",\"fare\":80.25}")?;
/// all.add(&day("monday.jsonl", "{\"port\":\"ness\",\"fare\":10}\n{\"port\":\"holm\",\"fare\":19.75}")?)?;
/// assert_eq!(all.text(Format::Csv)?, "port,fares\nness,10\nholm,100\n");
/// # Ok::<(), kyanite_core::Error>(())
/// ```
#[derive(Debug)]
pub struct State {
    pub(crate) rule: Rule,
    pub(crate) params: Vec<(String, String)>,
    pub(crate) sources: Vec<(String, PathBuf)>,
    pub(crate) partial: Partial,
}

impl State {
    /// Adds the state of other records, of the same rule, run with the same params and sources.
    ///
    /// # Errors
    /// When it is the state of another rule, some records are in both, or their aggregates have no common one. This state is then of no use.
    ///
    /// ```
    /// use kyanite_core::{Rule, RunBuilder};
    ///
    /// let rule = Rule::new("count($[*])")?;
    /// let state = || RunBuilder::new(&rule).input("n.jsonl", "1 2".as_bytes()).partial(0);
    /// // Nothing is counted twice.
    /// assert!(state()?.add(&state()?).is_err());
    /// # Ok::<(), kyanite_core::Error>(())
    /// ```
    pub fn add(&mut self, other: &Self) -> Result<(), Error> {
        let is_same = self.rule.plan.rule() == other.rule.plan.rule()
            && self.params == other.params
            && self.sources == other.sources;
        if !is_same {
            let message =
                "these are states of different rules, or were given other params or sources";
            return Err(RunError::command(message, "join the states of one rule").into());
        }
        Ok(kyanite_flow::add_state(&mut self.partial, &other.partial, "the state that is added")?)
    }

    /// How many records it is over.
    ///
    /// ```
    /// use kyanite_core::{Rule, RunBuilder};
    ///
    /// let rule = Rule::new("count($[*])")?;
    /// let state = RunBuilder::new(&rule).input("n.jsonl", "1 2 3".as_bytes()).partial(0)?;
    /// assert_eq!(state.records(), 3);
    /// # Ok::<(), kyanite_core::Error>(())
    /// ```
    #[must_use]
    pub fn records(&self) -> u64 {
        self.partial.records()
    }

    /// Writes it down, as `kyanite query --partial` does.
    ///
    /// # Errors
    /// When it cannot be written.
    ///
    /// ```
    /// use kyanite_core::{Rule, RunBuilder};
    ///
    /// let rule = Rule::new("count($[*])")?;
    /// let state = RunBuilder::new(&rule).input("n.jsonl", "1 2 3".as_bytes()).partial(0)?;
    /// state.write(std::io::sink())?;
    /// # Ok::<(), kyanite_core::Error>(())
    /// ```
    pub fn write(&self, writer: impl Write + 'static) -> Result<(), Error> {
        let (options, arena) = (InputOptions::default(), Arena::new());
        let job = Job { params: &self.params, ..Job::new(&self.rule.plan, &options) };
        let sources: Vec<(String, String)> = sources_of(&self.rule, &self.sources)?
            .into_iter()
            .map(|(name, input)| (name, input.name()))
            .collect();
        let destination = Destination::Stream(Box::new(writer));
        let mut output = Output::open(destination, Layout::of(Format::JsonLines))?;
        for line in PartialFile::lines(&job, &sources, &self.partial, &arena) {
            let _ = output.item(line);
        }
        output.end_items();
        output.finish()?;
        Ok(())
    }

    /// Reads what was written down, here or by the program.
    ///
    /// # Errors
    /// When it cannot be read, is no state, or one of another version.
    ///
    /// ```
    /// use kyanite_core::State;
    ///
    /// assert!(State::read("n.state", "no state".as_bytes()).is_err());
    /// ```
    pub fn read(name: &str, reader: impl Read + Send + 'static) -> Result<Self, Error> {
        let input = Input::Reader(InputReader::new(name, reader));
        let file = PartialFile::read(&input, &InputOptions::default())?;
        let rule = Rule::compiled(file.rule.clone())?;
        let partial = joined_states(&rule.plan, std::slice::from_ref(&file))?;
        let sources = file.sources.into_iter().map(|(name, file)| (name, file.into())).collect();
        Ok(Self { rule, params: file.params, sources, partial })
    }

    /// Ends the run, and gives its results one by one, as [`RunBuilder::run`](crate::RunBuilder::run) does.
    ///
    /// # Errors
    /// What ended it early.
    ///
    /// ```
    /// use kyanite_core::{Rule, RunBuilder};
    ///
    /// let rule = Rule::new("for n in $[*] group by key = n return key")?;
    /// let state = RunBuilder::new(&rule).input("n.jsonl", "1 2 1".as_bytes()).partial(0)?;
    /// let mut count = 0;
    /// state.run(|_| {
    ///     count += 1;
    ///     true
    /// })?;
    /// assert_eq!(count, 2);
    /// # Ok::<(), kyanite_core::Error>(())
    /// ```
    pub fn run(self, mut take: impl FnMut(Value<'_>) -> bool) -> Result<(), Error> {
        self.end(&mut Taking { take: &mut take, is_closed: false })
    }

    /// Ends the run, and gives its results as a text in a format.
    ///
    /// # Errors
    /// What ended it early.
    ///
    /// ```
    /// use kyanite_core::{Format, Rule, RunBuilder};
    ///
    /// let rule = Rule::new("max($[*])")?;
    /// let state = RunBuilder::new(&rule).input("n.jsonl", "1 3 2".as_bytes()).partial(0)?;
    /// assert_eq!(state.text(Format::Json)?, "3\n");
    /// # Ok::<(), kyanite_core::Error>(())
    /// ```
    pub fn text(self, format: Format) -> Result<String, Error> {
        let written = Captured::default();
        let destination = Destination::Stream(Box::new(written.clone()));
        let mut output = Output::open(destination, Layout::of(format))?;
        self.end(&mut output)?;
        output.finish()?;
        Ok(text_of(&written))
    }

    fn end(self, sink: &mut dyn Sink) -> Result<(), Error> {
        let options = InputOptions::default();
        let sources = sources_of(&self.rule, &self.sources)?;
        let job =
            Job { params: &self.params, sources: &sources, ..Job::new(&self.rule.plan, &options) };
        let mut events = Events { tell: &mut |_| {}, counters: &Counters::default() };
        combine(&job, self.partial, sink, &mut events)?;
        Ok(())
    }
}
