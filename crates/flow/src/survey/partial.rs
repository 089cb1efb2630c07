//! Surveys of parts of the records, made apart and joined later.
//!
//! The file of a state is lines of JSON: the first says which records it is over and how they were read, the others are the survey
//! ([`Survey::into_state`]). Several states may stand behind each other in one file. docs/scale.md describes it.

use kyanite_formats::json;
use kyanite_lang::Portion;
use kyanite_survey::{Bounds, Survey};
use kyanite_tree::{Arena, Map, Value};

use super::{Found, Surveyed, look_through};
use crate::input::{Input, InputOptions};
use crate::range::name_in_range;
use crate::run_error::{Events, RunError};
use crate::state_file::{
    MAKE_AGAIN, RULE_MARK, SURVEY_MARK, counted_twice, state_text, wrong_state,
};
use crate::survey::RecordPath;

/// The version of the form of states that is written and read.
const VERSION: i64 = 1;

/// The version of the program, whose hashes are its own.
const PROGRAM: &str = env!("CARGO_PKG_VERSION");

/// How the records of a state were found, which is the same in all that are joined.
#[derive(Clone, PartialEq, Eq, Debug)]
struct Reading {
    at: Option<String>,
    drop_namespaces: bool,
}

/// The survey of some of the records.
#[derive(Debug)]
pub struct SurveyState {
    /// The file, or what it is called.
    name: String,
    portion: Portion,
    reading: Reading,
    found: Found,
}

/// Surveys inputs, as the part with that number of a survey over more.
///
/// # Errors
/// [`RunError::Input`] when an input cannot be read, [`RunError::Command`] when a range is of no stream of records.
pub fn survey_part(
    what: Surveyed<'_>,
    part: u64,
    events: &mut Events<'_>,
) -> Result<SurveyState, RunError> {
    let range = what.range.cloned().unwrap_or(0..u64::MAX);
    let inputs = what.inputs.iter().map(Input::name).collect();
    let portion = Portion { number: part, inputs, from: range.start, to: range.end };
    let mut found = look_through(what, events)?;
    if let [input] = what.inputs {
        found.survey.rename_input(input.name());
    }
    let reading = Reading {
        at: what.at.map(ToString::to_string),
        drop_namespaces: what.options.drop_namespaces,
    };
    Ok(SurveyState { name: String::new(), portion, reading, found })
}

/// Joins the surveys of parts, in the order of their numbers, then of their inputs, then of ranges. Gives the survey over all of them,
/// and the path to its records.
///
/// # Errors
/// [`RunError::Command`] when records are in two parts, or parts were not read alike; or when a path led to no records in any.
pub fn join_surveys(
    mut states: Vec<SurveyState>,
    memory: usize,
) -> Result<(Survey, Option<RecordPath>), RunError> {
    states.sort_by(|a, b| a.portion.cmp(&b.portion));
    for pair in states.windows(2) {
        if let [first, second] = pair {
            first.goes_with(second)?;
        }
    }
    let (at, is_xml) = match states.first() {
        Some(first) => (first.reading.at.clone(), states.iter().all(|state| state.found.is_xml)),
        None => (None, false),
    };
    let mut whole = Survey::new(Bounds { memory });
    // Where the part before ended in its input, and how many lines of that it passed.
    let mut before: Option<(Portion, u64)> = None;
    for SurveyState { portion, found, .. } in states {
        let Found { mut survey, lines, repeated_lines, .. } = found;
        let follows = |(last, _): &&(Portion, u64)| {
            (last.number, &last.inputs, last.to) == (portion.number, &portion.inputs, portion.from)
        };
        let passed = before.as_ref().filter(follows).map(|(_, lines)| *lines);
        let lines_before = passed.unwrap_or_default();
        if let ([name], true) = (portion.inputs.as_slice(), portion.from > 0 && passed.is_none()) {
            survey.rename_input(name_in_range(name, portion.from));
        }
        whole.join(survey, lines_before.saturating_sub(repeated_lines));
        before = Some((portion, lines_before.saturating_add(lines - repeated_lines)));
    }
    if is_xml {
        whole.join_singles();
    }
    let at: Option<RecordPath> = at.and_then(|path| path.parse().ok());
    match &at {
        Some(at) if whole.records() == 0 => Err(at.leads_nowhere()),
        _ => Ok((whole, at)),
    }
}

impl SurveyState {
    /// The lines of the state, without their ends.
    #[must_use]
    pub fn into_lines(self) -> Vec<String> {
        let Found { survey, is_xml, lines, repeated_lines } = self.found;
        let state = survey.into_state();
        let arena = Arena::new();
        let number = |number: u64| arena.integer(i64::try_from(number).unwrap_or(i64::MAX));
        let at = self.reading.at.as_deref();
        let head = arena.map([
            (SURVEY_MARK, arena.integer(VERSION)),
            ("program", Value::text(PROGRAM)),
            ("portion", self.portion.line(&arena)),
            ("at", at.map_or(Value::NULL, |at| Value::text(arena.text(at)))),
            ("drop_namespaces", Value::boolean(self.reading.drop_namespaces)),
            ("is_xml", Value::boolean(is_xml)),
            ("lines", number(lines)),
            ("repeated_lines", number(repeated_lines)),
            ("state", number(state.len() as u64)),
        ]);
        let head = json::compact(head);
        std::iter::once(head).chain(state).collect()
    }

    /// Reads the states of a file.
    ///
    /// # Errors
    /// [`RunError::Input`] when it cannot be read, holds something else, or a state of another version.
    pub fn read(input: &Input, options: &InputOptions) -> Result<Vec<Self>, RunError> {
        let name = input.name();
        let text = state_text(input, options)?.ok_or_else(|| no_state(&name))?;
        let mut lines = text.lines();
        let mut states = Vec::new();
        while let Some(head) = lines.next() {
            let arena = Arena::new();
            let head = json::document(head, &arena, json::ReaderOptions::default());
            let head = head.map(|(head, _)| head).map_err(|_| no_state(&name))?;
            let head = head.as_map().ok_or_else(|| no_state(&name))?;
            check_versions(&name, head)?;
            let state = Self::of(&name, head, &mut lines, options.memory);
            states.push(state.ok_or_else(|| no_state(&name))?);
        }
        if states.is_empty() { Err(no_state(&name)) } else { Ok(states) }
    }

    /// The state with that head, whose other lines come next. Returns None if it is none, or not a whole one.
    fn of<'t>(
        name: &str,
        head: &Map<'_>,
        lines: &mut impl Iterator<Item = &'t str>,
        memory: usize,
    ) -> Option<Self> {
        let number = |name: &str| u64::try_from(head.get(name)?.as_number()?.as_integer()?).ok();
        let flag = |name: &str| match head.get(name)? {
            Value::Boolean(_, is_set) => Some(is_set),
            _ => None,
        };
        let count = usize::try_from(number("state")?).ok()?;
        let mut state = lines.take(count);
        let survey = Survey::of_state(&mut state, Bounds { memory })?;
        let (lines, repeated_lines) = (number("lines")?, number("repeated_lines")?);
        let at = match head.get("at")? {
            Value::Null(_) => None,
            at => Some(at.scalar_text()?.to_owned()),
        };
        let portion = Portion::of_line(head.get("portion")?)?;
        let is_whole = repeated_lines <= lines && (portion.inputs.len() == 1 || portion.from == 0);
        is_whole.then_some(Self {
            name: name.to_owned(),
            portion,
            reading: Reading { at, drop_namespaces: flag("drop_namespaces")? },
            found: Found { survey, is_xml: flag("is_xml")?, lines, repeated_lines },
        })
    }

    /// Checks that another state may be joined to this one.
    fn goes_with(&self, other: &Self) -> Result<(), RunError> {
        if self.portion.meets(&other.portion) {
            return Err(counted_twice(&other.name, &other.portion, &self.name));
        }
        if self.reading != other.reading {
            let message = format!(
                "the records of {} and {} were found with another --at or --drop-namespaces",
                self.name, other.name
            );
            return Err(RunError::command(message, "survey all parts with the same"));
        }
        Ok(())
    }
}

/// Checks that a head is that of a survey's state, and of these versions of the form and of the program.
fn check_versions(name: &str, head: &Map<'_>) -> Result<(), RunError> {
    if head.get(RULE_MARK).is_some() {
        let message = format!("{name} is the state of a rule, and not of a survey");
        return Err(wrong_state(message, "join it with kyanite combine"));
    }
    let versions = || Some((head.get(SURVEY_MARK)?, head.get("program")?.scalar_text()?));
    let (version, program) = versions().ok_or_else(|| no_state(name))?;
    let is_this = version.as_number().and_then(|number| number.as_integer()) == Some(VERSION);
    if is_this && program == PROGRAM {
        return Ok(());
    }
    let version = version.scalar_text().unwrap_or_default();
    let message = format!(
        "{name} is a survey's state of version {version} of kyanite {program}, and this program reads version {VERSION} of kyanite {PROGRAM}"
    );
    Err(wrong_state(message, MAKE_AGAIN))
}

fn no_state(name: &str) -> RunError {
    let message = format!("{name} does not hold the state of a survey, or not a whole one");
    wrong_state(message, "states are written by survey with --partial")
}
