//! Provenance: which line of a rule and which places of the inputs made a value of the result.

use kyanite_formats::json;
use kyanite_lang::{Arguments, Plan, ResultShape, Runner, Session, Span, Trace};
use kyanite_tree::{Arena, Base, Location, Map, Member, Origin, Place, Region, Step, Value};
use std::ops::ControlFlow;

use crate::document::Library;
use crate::input::Input;
use crate::run::{Job, gather, rule_failed};
use crate::run_error::{Events, RunError};
use crate::sources::Sources;

/// A value of the result, and where it comes from.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Traced {
    /// Its path in the result.
    pub path: String,
    /// The value, as compact JSON.
    pub value: String,
    /// The parts of the rule that made it or handed it on, the last first.
    pub rule: Vec<Place>,
    /// The first values of the inputs that it was made of, with their places.
    pub inputs: Vec<Place>,
    /// How many values it was made of.
    pub count: usize,
}

/// Input places of one value that are told.
const PLACES: usize = 100;

/// The number of the document that a result under search seems to come from.
const RESULT: Base = Base::of(Region::Result);

/// Runs a rule over whole inputs, and tells where the values at `path` of its result come from. Results of several inputs
/// are looked at one after another.
///
/// # Errors
/// As [`run`](crate::run()).
pub fn trace(
    job: &Job<'_>,
    inputs: &[Input],
    path: &Plan,
    events: &mut Events<'_>,
) -> Result<Vec<Traced>, RunError> {
    let arena = Arena::new();
    let sources = Sources::load(job.plan, job.sources, job.options, &arena, events)?;
    let library = Library::new(&arena);
    let mut roots = Vec::new();
    if !job.plan.reads_input() {
        roots.push((None, None));
    } else if job.gather {
        roots.push((Some(gather(job, inputs, &library, &arena, events)?.0), None));
    } else {
        for input in inputs {
            let source = job.open(input, events)?;
            let uri = source.uri.clone();
            let loaded = job.load(source, &library, &arena, events)?;
            roots.extend(loaded.roots.into_iter().map(|root| (Some(root), uri.clone())));
        }
    }
    let find = |origin| sources.place(origin, || library.place(origin));
    let mut traced = Vec::new();
    for (root, uri) in roots {
        let mut session = Session::new(job.plan);
        session.documents = sources.uris(uri, Some(&library));
        session.trace = Some(Trace::default());
        let result = result(job, root, &sources, &arena, &mut session, &find)?;
        let made = session.trace.take().unwrap_or_default();
        for problem in session.coverage.report(job.plan) {
            events.tell(problem);
        }
        traced.extend(look(job.plan, path, result, &made, &arena, &find, events)?);
    }
    Ok(traced)
}

/// The result of the rule over one document, as one value.
fn result<'a>(
    job: &Job<'a>,
    root: Option<Value<'a>>,
    sources: &Sources<'a>,
    arena: &'a Arena,
    session: &mut Session,
    find: &dyn Fn(Origin) -> Option<Place>,
) -> Result<Option<Value<'a>>, RunError> {
    let plan = job.plan;
    let arguments = Arguments::read(plan, job.params, arena).map_err(RunError::Command)?;
    let arguments = arguments.with_sources(&sources.values);
    let mut items = Vec::new();
    let mut take = |value: Option<Value<'a>>| {
        items.extend(value);
        ControlFlow::Continue(())
    };
    let ran = Runner::new(plan, &arguments, root, arena, session)
        .and_then(|mut runner| runner.document(&mut take));
    if let Err(failure) = ran {
        let trace = session.trace.as_ref();
        let origin =
            trace.and_then(|trace| trace.provenance(failure.origin()).inputs.first().copied());
        return Err(rule_failed(plan, &failure, find(origin.unwrap_or(failure.origin()))));
    }
    Ok(match plan.result_shape() {
        ResultShape::Single => items.pop(),
        ResultShape::Items => Some(arena.list(&items)),
    })
}

/// A value of the result: where it stands, and the nearest value around it that the rule made.
pub(crate) struct Found<'a> {
    pub(crate) location: Location<'a>,
    pub(crate) value: Value<'a>,
    maker: Origin,
}

/// Finds the values at `path` of a result.
fn look<'a>(
    plan: &Plan,
    path: &Plan,
    result: Option<Value<'a>>,
    made: &Trace,
    arena: &'a Arena,
    find: &dyn Fn(Origin) -> Option<Place>,
    events: &mut Events<'_>,
) -> Result<Vec<Traced>, RunError> {
    let mut all = Vec::new();
    let Some(result) = result else { return Ok(Vec::new()) };
    let numbered = numbered(result, made, Origin::NONE, &mut Vec::new(), arena, &mut all);
    let mut session = Session::new(path);
    let arguments = Arguments::read(path, &[], arena).map_err(RunError::Command)?;
    let mut picked = Vec::new();
    let mut take = |value: Option<Value<'_>>| {
        picked.extend(value.map(Value::origin));
        ControlFlow::Continue(())
    };
    let _ = Runner::new(path, &arguments, Some(numbered), arena, &mut session)
        .and_then(|mut runner| runner.document(&mut take))
        .map_err(|failure| rule_failed(path, &failure, None))?;
    for problem in session.coverage.report(path) {
        events.tell(problem);
    }
    let of_result = picked.into_iter().filter(|origin| origin.region() == Some(Region::Result));
    let found = of_result.filter_map(|origin| all.get(RESULT.offset(origin)));
    Ok(found.map(|found| told(plan, found, made, find)).collect())
}

/// The same value, each value in it with an origin that is its number in `all`.
pub(crate) fn numbered<'a>(
    value: Value<'a>,
    made: &Trace,
    around: Origin,
    steps: &mut Vec<Step<'a>>,
    arena: &'a Arena,
    all: &mut Vec<Found<'a>>,
) -> Value<'a> {
    let maker = if made.has_made(value.origin()) { value.origin() } else { around };
    let number = all.len();
    all.push(Found { location: Location::new(steps.clone()), value, maker });
    let mut inside = |step, child, all: &mut Vec<Found<'a>>| {
        steps.push(step);
        let child = numbered(child, made, maker, steps, arena, all);
        steps.pop();
        child
    };
    let copy = match value {
        Value::List(origin, items) => {
            let items: Vec<Value<'a>> = items
                .iter()
                .enumerate()
                .map(|(index, item)| inside(Step::Index(index), *item, all))
                .collect();
            Value::List(origin, arena.items(&items))
        }
        Value::Map(origin, map) => {
            let mut members: Vec<Member<'a>> = Vec::with_capacity(map.len());
            for Member { name, value } in map.members() {
                members.push(Member { name, value: inside(Step::Name(name), *value, all) });
            }
            Value::Map(origin, Map::from_read(arena, &mut members, |_, _, _| ()))
        }
        other => other,
    };
    copy.with_origin(RESULT.origin(number))
}

fn told(
    plan: &Plan,
    found: &Found<'_>,
    made: &Trace,
    find: &dyn Fn(Origin) -> Option<Place>,
) -> Traced {
    let own = found.value.origin();
    let mut rule: Vec<Span> = made.provenance(found.maker).rule;
    if rule.is_empty() {
        // A node that a path of the rule selects, as it is.
        rule.push(plan.result_span());
    }
    let origins = made.provenance(own).inputs;
    Traced {
        path: found.location.readable(),
        value: json::compact(found.value),
        rule: rule.into_iter().map(|span| plan.rule().place(span)).collect(),
        inputs: origins.iter().take(PLACES).filter_map(|origin| find(*origin)).collect(),
        count: origins.len(),
    }
}
