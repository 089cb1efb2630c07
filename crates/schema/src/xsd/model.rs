//! Content models: which elements may stand in an element, and in what order (XSD 1.0 part 1 section 3.8.4).
//!
//! A model is a regular expression over particles, and its states are expressions, too: what may follow once an element has
//! been met is the derivative of the expression by that element (J. A. Brzozowski, Derivatives of Regular Expressions, 1964).
//! Equal expressions are one, so states are numbers, and a [`Run`] keeps those that documents led to, with the steps between
//! them. So a particle that may be repeated a thousand times takes no room until it is.

mod occurrence;
mod route;

use std::collections::HashMap;
use std::rc::Rc;
use std::sync::Arc;

use foldhash::fast::RandomState;
use kyanite_tree::Origin;

use super::components::{Components, ElementId, NameId};
use super::wildcard::Wildcard;

pub(super) use occurrence::{Occurrence, Often};
pub(super) use route::Decide;

/// A particle: something that may occur so often.
#[derive(Clone, Debug)]
pub(super) struct Particle {
    pub(super) least: u64,
    /// Without it, any number of times.
    pub(super) most: Option<u64>,
    pub(super) term: Term,
    pub(super) origin: Origin,
}

#[derive(Clone, Debug)]
pub(super) enum Term {
    Element(ElementId),
    Wildcard(Wildcard),
    Sequence(Rc<[Particle]>),
    Choice(Rc<[Particle]>),
    All(Rc<[Particle]>),
}

/// What a particle at the bottom of a model fits.
#[derive(Clone, Debug)]
pub(super) enum Leaf {
    Element(ElementId),
    Wildcard(Wildcard),
}

/// A number of an expression of a model.
pub(super) type State = u32;

/// A regular expression over the particles of a model.
#[derive(Clone, PartialEq, Eq, Hash, Debug)]
enum Expression {
    /// Nothing fits.
    Never,
    /// Only no element at all fits.
    Empty,
    Leaf(u32),
    Sequence(State, State),
    /// In order, each once.
    Choice(Arc<[State]>),
    Repeat(State, u64, Option<u64>),
    /// Each of some particles at most once, in any order, with those that must be there.
    All(Vec<(u32, bool)>),
}

/// Expressions, each once.
#[derive(Clone, Debug, Default)]
struct Expressions {
    all: Vec<(Expression, bool)>,
    numbers: HashMap<Expression, State>,
}

/// Where counted groups stand inside each other in a way that leaves more ways open than this, their upper bounds are no longer
/// looked at: each element would else be looked at in all of them.
const WIDE: usize = 512;

const NEVER: State = 0;
const EMPTY: State = 1;

/// A content model.
#[derive(Clone, Debug)]
pub(super) struct Model {
    expressions: Expressions,
    start: State,
    pub(super) leaves: Vec<(Leaf, Origin)>,
    /// The particles that an element of that name fits, those of elements that stand in for others among them.
    by_name: HashMap<NameId, Vec<(u32, ElementId)>>,
}

impl Expressions {
    fn new() -> Self {
        let mut new = Self::default();
        new.add(Expression::Never);
        new.add(Expression::Empty);
        new
    }

    fn add(&mut self, expression: Expression) -> State {
        if let Some(known) = self.numbers.get(&expression) {
            return *known;
        }
        let may_be_empty = match &expression {
            Expression::Never | Expression::Leaf(_) => false,
            Expression::Empty => true,
            Expression::Sequence(first, rest) => {
                self.may_be_empty(*first) && self.may_be_empty(*rest)
            }
            Expression::Choice(states) => states.iter().any(|state| self.may_be_empty(*state)),
            Expression::Repeat(state, least, _) => *least == 0 || self.may_be_empty(*state),
            Expression::All(particles) => particles.iter().all(|(_, is_needed)| !is_needed),
        };
        let number = self.all.len() as State;
        self.all.push((expression.clone(), may_be_empty));
        self.numbers.insert(expression, number);
        number
    }

    fn may_be_empty(&self, state: State) -> bool {
        self.all[state as usize].1
    }

    fn sequence(&mut self, first: State, rest: State) -> State {
        match (first, rest) {
            (NEVER, _) | (_, NEVER) => NEVER,
            (EMPTY, one) | (one, EMPTY) => one,
            _ => self.add(Expression::Sequence(first, rest)),
        }
    }

    fn choice(&mut self, states: impl IntoIterator<Item = State>) -> State {
        let mut all = Vec::new();
        for state in states {
            match &self.all[state as usize].0 {
                Expression::Never => {}
                Expression::Choice(inner) => all.extend(inner.iter().copied()),
                _ => all.push(state),
            }
        }
        all.sort_unstable();
        all.dedup();
        if all.len() > WIDE {
            all = all.into_iter().map(|state| self.unbounded(state)).collect();
            all.sort_unstable();
            all.dedup();
        }
        match all.as_slice() {
            [] => NEVER,
            [one] => *one,
            _ => self.add(Expression::Choice(all.into())),
        }
    }

    /// The same expression without upper bounds of what is repeated.
    fn unbounded(&mut self, state: State) -> State {
        match self.all[state as usize].0 {
            Expression::Sequence(first, rest) => {
                let (first, rest) = (self.unbounded(first), self.unbounded(rest));
                self.sequence(first, rest)
            }
            Expression::Repeat(inner, least, Some(_)) => self.repeat(inner, least, None),
            _ => state,
        }
    }

    fn repeat(&mut self, state: State, least: u64, most: Option<u64>) -> State {
        // What may be nothing fits as often as it must.
        let least = if self.may_be_empty(state) { 0 } else { least };
        // Of counts from 0 or 1 on all sums are there, so that counts of counts are counts.
        if let Expression::Repeat(inner, 0 | 1, inner_most) = self.all[state as usize].0 {
            let most = most.zip(inner_most).map(|(most, inner)| most.saturating_mul(inner));
            return self.repeat(inner, least, most);
        }
        match (state, least, most) {
            (_, _, Some(0)) | (EMPTY, ..) => EMPTY,
            (NEVER, 0, _) => EMPTY,
            (NEVER, ..) => NEVER,
            (_, 1, Some(1)) => state,
            _ => self.add(Expression::Repeat(state, least, most)),
        }
    }

    /// What may follow once one of the particles that `fits` was met.
    fn derivative(&mut self, state: State, fits: &dyn Fn(u32) -> bool) -> State {
        match self.all[state as usize].0.clone() {
            Expression::Never | Expression::Empty => NEVER,
            Expression::Leaf(leaf) => {
                if fits(leaf) {
                    EMPTY
                } else {
                    NEVER
                }
            }
            Expression::Sequence(..) => {
                // Along the sequence, as far as what stands before may be nothing.
                let (mut at, mut found) = (state, Vec::new());
                loop {
                    let Expression::Sequence(first, rest) = self.all[at as usize].0 else {
                        found.push(self.derivative(at, fits));
                        break;
                    };
                    let behind = self.derivative(first, fits);
                    found.push(self.sequence(behind, rest));
                    if !self.may_be_empty(first) {
                        break;
                    }
                    at = rest;
                }
                self.choice(found)
            }
            Expression::Choice(states) => {
                let mut found = Vec::new();
                for state in states.iter() {
                    let behind = match self.all[*state as usize].0 {
                        Expression::Leaf(leaf) if !fits(leaf) => continue,
                        _ => self.derivative(*state, fits),
                    };
                    if behind != NEVER {
                        found.push(behind);
                    }
                }
                self.choice(found)
            }
            Expression::Repeat(inner, least, most) => {
                let behind = self.derivative(inner, fits);
                if behind == NEVER {
                    return NEVER;
                }
                let again = self.repeat(inner, least.saturating_sub(1), most.map(|most| most - 1));
                self.sequence(behind, again)
            }
            Expression::All(particles) => {
                let Some(at) = particles.iter().position(|(leaf, _)| fits(*leaf)) else {
                    return NEVER;
                };
                let mut left = particles;
                left.remove(at);
                if left.is_empty() { EMPTY } else { self.add(Expression::All(left)) }
            }
        }
    }

    /// The particles that may come next, and whether each has to before anything else can.
    fn first(&self, state: State, found: &mut Vec<u32>) {
        match &self.all[state as usize].0 {
            Expression::Never | Expression::Empty => {}
            Expression::Leaf(leaf) => found.push(*leaf),
            Expression::Sequence(..) => {
                let mut at = state;
                while let Expression::Sequence(first, rest) = &self.all[at as usize].0 {
                    self.first(*first, found);
                    if !self.may_be_empty(*first) {
                        return;
                    }
                    at = *rest;
                }
                self.first(at, found);
            }
            Expression::Choice(states) => states.iter().for_each(|state| self.first(*state, found)),
            Expression::Repeat(inner, ..) => self.first(*inner, found),
            Expression::All(particles) => found.extend(particles.iter().map(|(leaf, _)| *leaf)),
        }
    }
}

/// Why a model cannot be made.
pub(super) enum Refused {
    /// It has more particles than that.
    TooLarge,
}

/// The most particles of a model, groups written out.
pub(super) const MOST_PARTICLES: usize = 100_000;

impl Model {
    /// The model of a particle. Names of elements that stand in for others are added once all are known.
    ///
    /// # Errors
    /// [`Refused`].
    pub(super) fn new(particle: &Particle) -> Result<Self, Refused> {
        let mut model = Self {
            expressions: Expressions::new(),
            start: EMPTY,
            leaves: Vec::new(),
            by_name: HashMap::new(),
        };
        model.start = model.expression(particle, &mut 0)?;
        Ok(model)
    }

    fn expression(&mut self, particle: &Particle, met: &mut usize) -> Result<State, Refused> {
        if particle.most == Some(0) {
            return Ok(EMPTY);
        }
        *met += 1;
        if *met > MOST_PARTICLES {
            return Err(Refused::TooLarge);
        }
        let once = match &particle.term {
            Term::Element(id) => self.leaf(Leaf::Element(*id), particle.origin),
            Term::Wildcard(wildcard) => {
                self.leaf(Leaf::Wildcard(wildcard.clone()), particle.origin)
            }
            Term::Sequence(particles) => {
                let states: Result<Vec<State>, Refused> =
                    particles.iter().map(|particle| self.expression(particle, met)).collect();
                let states = states?.into_iter().rev();
                states.fold(EMPTY, |rest, first| self.expressions.sequence(first, rest))
            }
            Term::Choice(particles) => {
                let states: Result<Vec<State>, Refused> =
                    particles.iter().map(|particle| self.expression(particle, met)).collect();
                self.expressions.choice(states?)
            }
            Term::All(particles) => {
                let mut all = Vec::new();
                for particle in particles.iter().filter(|particle| particle.most != Some(0)) {
                    if let Term::Element(id) = &particle.term {
                        self.leaf(Leaf::Element(*id), particle.origin);
                        all.push(((self.leaves.len() - 1) as u32, particle.least > 0));
                    }
                }
                if all.is_empty() { EMPTY } else { self.expressions.add(Expression::All(all)) }
            }
        };
        Ok(self.expressions.repeat(once, particle.least, particle.most))
    }

    fn leaf(&mut self, leaf: Leaf, origin: Origin) -> State {
        let number = self.leaves.len() as u32;
        self.leaves.push((leaf, origin));
        self.expressions.add(Expression::Leaf(number))
    }

    /// Takes up which names fit which particles.
    pub(super) fn settle_names(&mut self, components: &Components) {
        for (number, (leaf, _)) in self.leaves.iter().enumerate() {
            let number = number as u32;
            if let Leaf::Element(id) = leaf {
                let others = components.substitutes.get(id).into_iter().flatten();
                for id in std::iter::once(id).chain(others) {
                    let name = components.element(*id).name;
                    self.by_name.entry(name).or_default().push((number, *id));
                }
            }
        }
    }

    /// Whether elements of some name can stand here at all; gives the declaration.
    pub(super) fn declared(&self, name: NameId) -> Option<ElementId> {
        self.by_name.get(&name)?.first().map(|(_, id)| *id)
    }

    /// Whether elements of that name fit a particle that is no wildcard.
    pub(super) fn is_named(&self, leaf: u32, name: Option<NameId>) -> bool {
        let all = name.and_then(|name| self.by_name.get(&name));
        all.is_some_and(|all| all.iter().any(|(known, _)| *known == leaf))
    }

    fn fits(&self, leaf: u32, name: Option<NameId>, namespace: &str) -> bool {
        match &self.leaves[leaf as usize].0 {
            Leaf::Wildcard(wildcard) => wildcard.namespaces.has(namespace),
            Leaf::Element(_) => self.is_named(leaf, name),
        }
    }
}

/// What an element fits.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Fit {
    Element(ElementId),
    /// The wildcard of that particle.
    Wildcard(u32),
}

/// The state behind an element, and what that fits.
pub(super) type Step = (State, Fit);

/// A model at work: its states, as far as documents led there. It grows with what it meets, so each thread has its own.
#[derive(Debug)]
pub(super) struct Run {
    expressions: Expressions,
    steps: HashMap<(State, NameId), Option<Step>, RandomState>,
}

/// So many steps are kept; with more, all are worked out again.
const KEPT: usize = 100_000;

impl Run {
    pub(super) fn new(model: &Model) -> Self {
        Self { expressions: model.expressions.clone(), steps: HashMap::default() }
    }

    pub(super) fn start(model: &Model) -> State {
        model.start
    }

    /// The state behind an element, and what that fits; None where it may not stand here. Of names that no schema has only
    /// the namespace counts.
    #[inline]
    pub(super) fn step(
        &mut self,
        model: &Model,
        state: State,
        (name, namespace): (Option<NameId>, &str),
    ) -> Option<Step> {
        if let Some(name) = name
            && let Some(known) = self.steps.get(&(state, name))
        {
            return *known;
        }
        self.step_anew(model, state, (name, namespace))
    }

    fn step_anew(
        &mut self,
        model: &Model,
        state: State,
        (name, namespace): (Option<NameId>, &str),
    ) -> Option<Step> {
        let mut first = Vec::new();
        self.expressions.first(state, &mut first);
        let leaf = first.into_iter().find(|leaf| model.fits(*leaf, name, namespace));
        let step = leaf.map(|leaf| {
            // One particle, not all that fit: by the unique attribution of particles there is no other.
            let next = self
                .expressions
                .derivative(state, &|other| other == leaf || model.fits(other, name, namespace));
            let fit = match &model.leaves[leaf as usize].0 {
                Leaf::Wildcard(_) => Fit::Wildcard(leaf),
                Leaf::Element(declared) => {
                    let own = name.and_then(|name| model.by_name.get(&name));
                    let own = own.and_then(|all| all.iter().find(|(known, _)| *known == leaf));
                    Fit::Element(own.map_or(*declared, |(_, id)| *id))
                }
            };
            (next, fit)
        });
        if let Some(name) = name {
            if self.steps.len() >= KEPT {
                self.steps.clear();
            }
            self.steps.insert((state, name), step);
        }
        step
    }

    /// Whether nothing more has to follow.
    pub(super) fn may_end(&self, state: State) -> bool {
        self.expressions.may_be_empty(state)
    }

    /// The particles that may come next.
    pub(super) fn first(&self, state: State) -> Vec<u32> {
        let mut found = Vec::new();
        self.expressions.first(state, &mut found);
        let mut seen = std::collections::HashSet::new();
        found.retain(|leaf| seen.insert(*leaf));
        found
    }

    /// The state behind a particle.
    pub(super) fn behind(&mut self, state: State, leaf: u32) -> State {
        self.expressions.derivative(state, &|other| other == leaf)
    }
}

/// Two particles of which one cannot tell which an element fits (section 3.8.6, Unique Particle Attribution).
pub(super) fn ambiguous(model: &Model, components: &Components) -> Option<(u32, u32)> {
    let mut run = Run::new(model);
    let start = few(&mut run.expressions, model.start, &mut HashMap::new());
    let (mut met, mut left) = (std::collections::HashSet::from([start]), vec![start]);
    let mut steps = 0;
    while let Some(state) = left.pop() {
        let first = run.first(state);
        if first.len() > 1
            && let Some(found) = rivals(model, components, &first)
        {
            return Some(found);
        }
        for leaf in first {
            steps += 1;
            // Larger models are taken to be unambiguous where this has not told otherwise.
            if steps > STEPS {
                return None;
            }
            let behind = run.behind(state, leaf);
            if behind != NEVER && met.insert(behind) {
                left.push(behind);
            }
        }
    }
    None
}

/// The steps after which the search for ambiguous particles ends.
const STEPS: usize = 200_000;

/// Two of some particles that fit an element of the same name.
fn rivals(model: &Model, components: &Components, first: &[u32]) -> Option<(u32, u32)> {
    let mut names: HashMap<NameId, u32, RandomState> = HashMap::default();
    let mut wildcards: Vec<(u32, &Wildcard)> = Vec::new();
    for leaf in first {
        match &model.leaves[*leaf as usize].0 {
            Leaf::Wildcard(wildcard) => {
                let other = wildcards
                    .iter()
                    .find(|(_, known)| known.namespaces.meets(&wildcard.namespaces));
                if let Some((other, _)) = other {
                    return Some((*other, *leaf));
                }
                wildcards.push((*leaf, wildcard));
            }
            Leaf::Element(id) => {
                let more = components.substitutes.get(id).into_iter().flatten();
                for id in std::iter::once(id).chain(more) {
                    match names.insert(components.element(*id).name, *leaf) {
                        Some(other) if other != *leaf => return Some((other, *leaf)),
                        _ => {}
                    }
                }
            }
        }
    }
    let meets = |wildcard: &Wildcard| {
        let mut met: Vec<u32> = names
            .iter()
            .filter(|(name, _)| wildcard.namespaces.has(components.names.namespace(**name)))
            .map(|(_, leaf)| *leaf)
            .collect();
        met.sort_unstable();
        met.first().copied()
    };
    wildcards.iter().find_map(|(leaf, wildcard)| {
        let other = meets(wildcard)?;
        Some((other.min(*leaf), other.max(*leaf)))
    })
}

/// An expression with smaller counts that is ambiguous if the given one is.
fn few(expressions: &mut Expressions, state: State, known: &mut HashMap<State, State>) -> State {
    if let Some(known) = known.get(&state) {
        return *known;
    }
    let smaller = match expressions.all[state as usize].0.clone() {
        Expression::Sequence(first, rest) => {
            let (first, rest) = (few(expressions, first, known), few(expressions, rest, known));
            expressions.sequence(first, rest)
        }
        Expression::Choice(states) => {
            let states: Vec<State> =
                states.iter().map(|state| few(expressions, *state, known)).collect();
            expressions.choice(states)
        }
        Expression::Repeat(inner, least, most) => {
            let inner = few(expressions, inner, known);
            let small = least.min(2);
            let most = most.map(|most| if most == least { small } else { most.min(small + 1) });
            expressions.repeat(inner, small, most)
        }
        _ => state,
    };
    known.insert(state, smaller);
    smaller
}

/// Why a model is no restriction of another one.
pub(super) enum Wider {
    /// This particle fits what the other model does not have there.
    Particle(u32),
    /// A particle fits an element whose declaration is no restriction of the one that the other model has there.
    Element(ElementId),
    /// Less may stand there than the other model needs.
    Ends,
}

/// Whether whatever fits a model fits another one (section 3.9.6; told by the languages of both, which takes every restriction
/// that the rules of that section take).
pub(super) fn wider(
    (narrow, wide): (&Model, &Model),
    components: &Components,
    restricts: &dyn Fn(ElementId, ElementId) -> bool,
) -> Option<Wider> {
    let (mut own, mut other) = (Run::new(narrow), Run::new(wide));
    let start = (narrow.start, wide.start);
    let (mut met, mut left) = (std::collections::HashSet::from([start]), vec![start]);
    let mut steps = 0;
    while let Some((state, base)) = left.pop() {
        if own.may_end(state) && !other.may_end(base) {
            return Some(Wider::Ends);
        }
        for leaf in own.first(state) {
            steps += 1;
            if steps > STEPS {
                return None;
            }
            let behind = own.behind(state, leaf);
            let behind_base = match &narrow.leaves[leaf as usize].0 {
                Leaf::Element(id) => {
                    let name = components.element(*id).name;
                    let namespace = components.names.namespace(name);
                    match other.step(wide, base, (Some(name), namespace)) {
                        None => return Some(Wider::Particle(leaf)),
                        Some((next, Fit::Wildcard(_))) => next,
                        Some((next, Fit::Element(declared))) => {
                            if !restricts(*id, declared) {
                                return Some(Wider::Element(*id));
                            }
                            next
                        }
                    }
                }
                Leaf::Wildcard(wildcard) => {
                    let fitting = other.first(base).into_iter().find(|leaf| {
                        matches!(&wide.leaves[*leaf as usize].0, Leaf::Wildcard(base)
                            if wildcard.namespaces.is_in(&base.namespaces)
                                && wildcard.process >= base.process)
                    });
                    match fitting {
                        Some(leaf) => other.behind(base, leaf),
                        None => return Some(Wider::Particle(leaf)),
                    }
                }
            };
            if behind != NEVER && met.insert((behind, behind_base)) {
                left.push((behind, behind_base));
            }
        }
    }
    None
}
