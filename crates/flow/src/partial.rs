//! Runs over parts of the records: each gives its state, and the run is ended over all of them.
//!
//! The file of a state is JSON Lines. The first line says what it is, which rule made it and with what; the second what the records came
//! to, and each further one is a group ([`Partial::lines`]). docs/scale.md describes it.

use kyanite_formats::json;
use kyanite_lang::{
    Arguments, CannotAdd, Partial, Plan, Portion, RuleText, Runner, Session, SpillSettings,
    TupleStore,
};
use kyanite_tree::{Arena, Code, Diagnostic, Value};

use crate::input::{Input, InputOptions};
use crate::results::{Nowhere, Results};
use crate::run::{Job, Sink, rule_failed, rule_until};
use crate::run_error::{Events, RunError};
use crate::sources::Sources;
use crate::state_file::{
    MAKE_AGAIN, RULE_MARK, SURVEY_MARK, counted_twice, state_text, wrong_state,
};

/// The version of the form of states that is written and read.
const VERSION: i64 = 1;

/// The state of a run, with the rule that made it.
#[derive(Debug)]
pub struct PartialFile {
    /// The file, or what it is called.
    pub name: String,
    /// The rule.
    pub rule: RuleText,
    /// Its params, by name.
    pub params: Vec<(String, String)>,
    /// What its sources are, by name: files and URLs as they were named.
    pub sources: Vec<(String, String)>,
    /// The lines behind the first.
    state: String,
}

/// Runs a rule over an input, or over all as one list, as far as its groups and aggregates. The input is the part with that number.
///
/// # Errors
/// What ended the run early, or that the rule cannot be run over parts.
pub fn partial(
    job: &Job<'_>,
    inputs: &[Input],
    part: u64,
    events: &mut Events<'_>,
) -> Result<Partial, RunError> {
    let plan = job.plan;
    if inputs.len() > 1 && !job.gather {
        let message = "a rule has one state, and here it would run over each input for itself";
        return Err(RunError::command(message, "make one list of the inputs with --gather"));
    }
    if plan.xpath().is_some() {
        let message = "an XPath has no groups, so there is no state of it";
        return Err(RunError::command(message, "write it as a rule"));
    }
    if !plan.runs_by_record() && plan.element_path().is_none() {
        let message = "this rule does not go through records one by one, so it has no parts";
        return Err(RunError::command(message, "run it over all of the input at once"));
    }
    let range = job.range.clone().unwrap_or(0..u64::MAX);
    let inputs_by_name = inputs.iter().map(Input::name).collect();
    let portion =
        Portion { number: part, inputs: inputs_by_name, from: range.start, to: range.end };
    let state = rule_until(job, inputs, &mut Nowhere, events, Some(portion))?;
    state.ok_or_else(|| {
        RunError::command("the rule reads no input, so it has no parts", "run it as it is")
    })
}

/// Ends a run whose records came to a state.
///
/// # Errors
/// What ended the run early.
pub fn combine(
    job: &Job<'_>,
    state: Partial,
    sink: &mut dyn Sink,
    events: &mut Events<'_>,
) -> Result<(), RunError> {
    let plan = job.plan;
    let mut session = Session::new(plan);
    let arena = Arena::new();
    let sources = Sources::load(plan, job.sources, job.options, &arena, events)?;
    let arguments = Arguments::read(plan, job.params, &arena).map_err(RunError::Command)?;
    let arguments = arguments.with_sources(&sources.values);
    let failed = |failure: &_| rule_failed(plan, failure, None);
    let unit = state.unit();
    let (names, mut begun) = Runner::new(plan, &arguments, None, &arena, &mut session)
        .and_then(|runner| runner.begin_records(unit))
        .map_err(|failure| failed(&failure))?;
    events.counters.count(state.records());
    state.put_into(&mut begun);
    let spill = SpillSettings { memory: job.options.memory, file: Box::new(tempfile::tempfile) };
    let mut store = TupleStore::new(plan, &arena, &spill);
    let mut results = Results::new(job, sink, None);
    Runner::for_batch(plan, unit, names, &arena, &mut session)
        .end_records(&mut begun, &mut store, None, &mut |value| results.take(value, |_| None))
        .map_err(|failure| failed(&failure))?;
    results.end()?;
    session.coverage.report(plan).into_iter().for_each(|problem| events.tell(problem));
    Ok(())
}

/// Adds a state to another, both of one rule; the one that is added is called so.
///
/// # Errors
/// When they have no common one.
pub fn add_state(whole: &mut Partial, state: &Partial, name: &str) -> Result<(), RunError> {
    whole.add(state).map_err(|why| cannot_add(name, why))
}

/// Joins the states of files, all of one rule, which is given compiled.
///
/// # Errors
/// When a file holds no state of that rule, or states have no common one.
pub fn joined_states(plan: &Plan, files: &[PartialFile]) -> Result<Partial, RunError> {
    let mut whole: Option<Partial> = None;
    for file in files {
        let state = file.state(plan)?;
        match &mut whole {
            None => whole = Some(state),
            Some(whole) => add_state(whole, &state, &file.name)?,
        }
    }
    whole.ok_or_else(|| {
        RunError::command("there is no state to combine", "name the files of states")
    })
}

impl PartialFile {
    /// Reads the file of a state.
    ///
    /// # Errors
    /// When it cannot be read, holds no state, or one of another version.
    pub fn read(input: &Input, options: &InputOptions) -> Result<Self, RunError> {
        let name = input.name();
        let text = state_text(input, options)?.ok_or_else(|| no_state(&name))?;
        let (head, state) = text.split_once('\n').ok_or_else(|| no_state(&name))?;
        let arena = Arena::new();
        let head = json::document(head, &arena, json::ReaderOptions::default());
        let head = head.ok().and_then(|(head, _)| head.as_map()).ok_or_else(|| no_state(&name))?;
        if head.get(SURVEY_MARK).is_some() {
            let message = format!("{name} is the state of a survey, and not of a rule");
            return Err(wrong_state(message, "join it with kyanite survey --combine"));
        }
        let version = head.get(RULE_MARK).ok_or_else(|| no_state(&name))?;
        if version.as_number().and_then(|number| number.as_integer()) != Some(VERSION) {
            let version = version.scalar_text().unwrap_or_default();
            let message = format!(
                "{name} is a state of version {version}, and this program reads version {VERSION}"
            );
            return Err(wrong_state(message, MAKE_AGAIN));
        }
        let read = || {
            let pairs = |name: &str| {
                let pair = |pair: &Value<'_>| match pair.as_list()? {
                    [name, value] => {
                        Some((name.scalar_text()?.to_owned(), value.scalar_text()?.to_owned()))
                    }
                    _ => None,
                };
                head.get(name)?.as_list()?.iter().map(pair).collect::<Option<Vec<_>>>()
            };
            let texts = pairs("rule")?;
            let mut texts = texts.into_iter();
            let (rule_name, text) = texts.next()?;
            let mut rule = RuleText::new(rule_name, text);
            texts.for_each(|(name, text)| rule.add_library(name, &text));
            Some((rule, pairs("params")?, pairs("sources")?))
        };
        let (rule, params, sources) = read().ok_or_else(|| no_state(&name))?;
        Ok(Self { name, rule, params, sources, state: state.to_owned() })
    }

    /// Whether another state is of the same rule, run with the same params and sources.
    #[must_use]
    pub fn is_of_same_run(&self, other: &Self) -> bool {
        self.rule == other.rule && self.params == other.params && self.sources == other.sources
    }

    /// The state, for the rule.
    fn state(&self, plan: &Plan) -> Result<Partial, RunError> {
        let arena = Arena::new();
        let mut reader = json::Reader::new(&self.state, &arena, json::ReaderOptions::default());
        let mut is_json = true;
        let lines = std::iter::from_fn(|| {
            reader.next_value().unwrap_or_else(|_| {
                is_json = false;
                None
            })
        });
        let state = Partial::read(plan, lines, &arena);
        state.filter(|_| is_json).ok_or_else(|| no_state(&self.name))
    }

    /// The lines that a state of a rule is written as, run with the params of a job and these sources.
    pub fn lines<'a>(
        job: &Job<'_>,
        sources: &[(String, String)],
        state: &Partial,
        arena: &'a Arena,
    ) -> impl Iterator<Item = Value<'a>> {
        let text = |text: &str| Value::text(arena.text(text));
        let pair = |(name, value): (&str, &str)| arena.list(&[text(name), text(value)]);
        let named = |all: &[(String, String)]| {
            let pairs = all.iter().map(|(name, value)| pair((name, value)));
            arena.list(&pairs.collect::<Vec<_>>())
        };
        let rule: Vec<_> = job.plan.rule().texts().map(pair).collect();
        let head = arena.map([
            (RULE_MARK, arena.integer(VERSION)),
            ("rule", arena.list(&rule)),
            ("params", named(job.params)),
            ("sources", named(sources)),
        ]);
        std::iter::once(head).chain(state.lines(arena).collect::<Vec<_>>())
    }
}

/// Why the state of a file has no common one with those before.
fn cannot_add(name: &str, why: CannotAdd) -> RunError {
    match why {
        CannotAdd::Twice(portion) => counted_twice(name, &portion, "one before it"),
        CannotAdd::Aggregate => {
            let message = format!(
                "{name} cannot be joined to those before: an aggregate has numbers in one and texts in the other, or is too large"
            );
            let advice = "convert all with number() or text()";
            RunError::Rule(Diagnostic::error(Code::ValueKind, message).advise(advice))
        }
        CannotAdd::Unit => {
            let message = format!(
                "{name} is over elements of XML and those before are not, or the other way round"
            );
            RunError::command(message, "combine states over inputs of one format")
        }
    }
}

fn no_state(name: &str) -> RunError {
    let message = format!("{name} does not hold the state of a run, or not a whole one");
    wrong_state(message, "states are written by query and reshape with --partial, and by combine")
}
