//! Content models: which elements may stand in an element, and in what order (XSD 1.0 part 1 section 3.8.4).
//!
//! A model is a regular expression over particles, and its states are expressions, too: what may follow once an element has
//! been met is the derivative of the expression by that element (J. A. Brzozowski, Derivatives of Regular Expressions, 1964).
//! Equal expressions are one, so states are numbers, and a [`Run`] keeps those that documents led to, with the steps between
//! them. So a particle that may be repeated a thousand times takes no room until it is.

mod expressions;
mod occurrence;
mod route;
mod run;

use std::collections::HashMap;
use std::rc::Rc;

use foldhash::fast::RandomState;
use kyanite_tree::Origin;

use super::components::{Components, ElementId, NameId};
use super::wildcard::Wildcard;
use expressions::{Expression, Expressions, few};

pub(super) use occurrence::{Occurrence, Often};
pub(super) use route::Decide;
pub(super) use run::{Fit, Run};

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
