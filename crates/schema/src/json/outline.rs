//! What a schema lets stand where: its keywords followed along members and items, without a value.
//!
//! A place is known by the sets of schemas that may apply to a value there: all of one set do. Alternatives make several sets. So
//! schemas that refer to themselves are followed as far as somebody asks, and each place is made once.

use std::cell::RefCell;
use std::collections::HashMap;

use kyanite_tree::Kind;

use super::keyword::{Keyword, Types};
use super::{Rule, Schema};

/// A place in the documents that a schema is for.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub struct At(u32);

/// Kinds of values.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Kinds(Types);

impl Kinds {
    const ALL: Self = Self(Types::ALL);

    /// Whether values of that kind are among them.
    #[must_use]
    pub fn has(self, kind: Kind) -> bool {
        let word = match kind {
            Kind::Null => "null",
            Kind::Boolean => "boolean",
            Kind::Number => "number",
            Kind::Text => "string",
            Kind::List => "array",
            _ => "object",
        };
        let whole = Types::named("integer").filter(|_| kind == Kind::Number);
        Types::named(word).is_some_and(|types| self.0.has(types))
            || whole.is_some_and(|whole| self.0.has(whole))
    }

    /// Whether of numbers only whole ones are.
    #[must_use]
    pub fn is_whole(self) -> bool {
        self.has(Kind::Number) && !Types::named("number").is_some_and(|number| self.0.has(number))
    }

    fn and(self, other: Self) -> Self {
        Self(self.0.and(other.0))
    }

    fn or(self, other: Self) -> Self {
        Self(self.0.with(other.0))
    }

    fn is_none(self) -> bool {
        self.0.is_none()
    }
}

/// Schemas that all apply, by their numbers; none of them lets everything stand.
type Set = Vec<usize>;

/// So many alternatives are told apart; past them everything may stand.
const MOST_SETS: usize = 64;

/// A place under its number.
#[derive(Debug)]
struct Known {
    sets: Vec<Set>,
    kinds: Kinds,
    members: HashMap<Box<str>, Option<At>>,
    item: Option<Option<At>>,
}

/// A schema as an outline of its documents.
#[derive(Debug)]
pub struct Outline<'c, 's> {
    schema: &'c Schema<'s>,
    /// Whether names of members are looked up without their prefixes.
    is_for_xml: bool,
    places: Vec<Known>,
    numbers: HashMap<Vec<Set>, At>,
    /// What applies where a schema does, of those that were asked for.
    expanded: RefCell<HashMap<usize, Vec<Set>>>,
}

impl<'c, 's> Outline<'c, 's> {
    /// The outline of the documents of a schema; of one that was made of an XML Schema, with local names, members go by the local parts
    /// of their names.
    #[must_use]
    pub fn new(schema: &'c Schema<'s>, is_for_xml: bool) -> Self {
        let (places, numbers, expanded) = (Vec::new(), HashMap::new(), RefCell::default());
        let mut new = Self { schema, is_for_xml, places, numbers, expanded };
        // The root is the first place.
        let _ = new.place(new.expand(0));
        new
    }

    /// Whether documents are XML.
    #[must_use]
    pub fn is_for_xml(&self) -> bool {
        self.is_for_xml
    }

    /// The whole document.
    #[must_use]
    pub fn root(&self) -> At {
        At(0)
    }

    fn known(&self, at: At) -> &Known {
        &self.places[at.0 as usize]
    }

    /// What kinds of values may stand there.
    #[must_use]
    pub fn kinds(&self, at: At) -> Kinds {
        self.known(at).kinds
    }

    /// Whether the schema says nothing of what stands there.
    #[must_use]
    pub fn is_free(&self, at: At) -> bool {
        let sets = &self.known(at).sets;
        sets.iter().any(|set| set.iter().all(|number| self.rules(*number).is_empty()))
    }

    /// The members that the schema names there, each with whether it has to be there, in their order.
    #[must_use]
    pub fn members(&self, at: At) -> Vec<(&'s str, bool)> {
        let sets = &self.known(at).sets;
        let mut names: Vec<&'s str> = Vec::new();
        for number in sets.iter().flatten() {
            for rule in self.rules(*number) {
                let named: Vec<&'s str> = match &rule.keyword {
                    Keyword::Members(members) => {
                        members.named.iter().map(|(name, _)| *name).collect()
                    }
                    Keyword::Required(names) => names.clone(),
                    _ => continue,
                };
                names.extend(
                    named.into_iter().filter(|name| !names.contains(name)).collect::<Vec<_>>(),
                );
            }
        }
        let is_required = |name: &&str| {
            !sets.is_empty()
                && sets.iter().all(|set| {
                    let mut rules = set.iter().flat_map(|number| self.rules(*number));
                    rules.any(|rule| {
                        matches!(&rule.keyword, Keyword::Required(names) if names.contains(name))
                    })
                })
        };
        names.into_iter().map(|name| (name, is_required(&name))).collect()
    }

    /// The member of that name; None where it may not stand.
    pub fn member(&mut self, at: At, name: &str) -> Option<At> {
        if self.is_for_xml
            && let Some((prefix, local)) = name.rsplit_once(':')
        {
            let mark = if prefix.starts_with('@') { "@" } else { "" };
            return self.member(at, &format!("{mark}{local}"));
        }
        if let Some(known) = self.known(at).members.get(name) {
            return *known;
        }
        let mut sets = Vec::new();
        for set in &self.known(at).sets {
            if self.kinds_of(set).has(Kind::Map) {
                sets.extend(self.member_in(set, name).into_iter().flatten());
            }
        }
        let found = self.place(sets);
        self.places[at.0 as usize].members.insert(name.into(), found);
        found
    }

    /// What a set of schemas lets a member be; None where it refuses it.
    fn member_in(&self, set: &Set, name: &str) -> Option<Vec<Set>> {
        let mut sets = vec![Set::new()];
        let (mut is_known, mut is_closed) = (false, false);
        for rule in set.iter().flat_map(|number| self.rules(*number)) {
            match &rule.keyword {
                Keyword::Members(members) => {
                    let named = members.named.iter().filter(|(known, _)| *known == name);
                    let fitting = members
                        .patterns
                        .iter()
                        .filter(|(_, pattern, _)| pattern.is_match(name).unwrap_or(false));
                    let mut numbers: Vec<usize> = named.map(|(_, number)| *number).collect();
                    numbers.extend(fitting.map(|(_, _, number)| *number));
                    is_known |= !numbers.is_empty();
                    if numbers.is_empty() {
                        numbers.extend(members.others);
                    }
                    for number in numbers {
                        sets = product(&sets, &self.expand(number));
                    }
                }
                Keyword::OtherMembers(number) => is_closed |= self.is_nothing(*number),
                _ => {}
            }
        }
        let sets: Vec<Set> = sets.into_iter().filter(|set| !self.kinds_of(set).is_none()).collect();
        (!sets.is_empty() && (is_known || !is_closed)).then_some(sets)
    }

    /// The items of a list; None where there may be none.
    pub fn item(&mut self, at: At) -> Option<At> {
        if let Some(known) = self.known(at).item {
            return known;
        }
        let mut found = Vec::new();
        for set in &self.known(at).sets {
            if !self.kinds_of(set).has(Kind::List) {
                continue;
            }
            let mut sets = vec![Set::new()];
            for rule in set.iter().flat_map(|number| self.rules(*number)) {
                match &rule.keyword {
                    Keyword::Items(number) => sets = product(&sets, &self.expand(*number)),
                    Keyword::Tuple(first, others) => {
                        // At whichever position.
                        let all = first.iter().chain(others);
                        let mut any: Vec<Set> = all.flat_map(|one| self.expand(*one)).collect();
                        if others.is_none() {
                            any.push(Set::new());
                        }
                        sets = product(&sets, &any);
                    }
                    _ => {}
                }
            }
            found.extend(sets);
        }
        let place = self.place(found);
        self.places[at.0 as usize].item = Some(place);
        place
    }

    /// The alternatives of a place, each a place without others.
    pub(super) fn alternatives(&mut self, at: At) -> Vec<At> {
        let sets = self.known(at).sets.clone();
        sets.into_iter().filter_map(|set| self.place(vec![set])).collect()
    }

    /// All rules that apply at a place without alternatives.
    pub(super) fn rules_at(&self, at: At) -> Vec<&'c Rule<'s>> {
        self.known(at).sets.iter().flatten().flat_map(|number| self.rules(*number)).collect()
    }

    /// The item at a position of a list at a place without alternatives, which also fits a further schema.
    pub(super) fn item_with(
        &mut self,
        at: At,
        position: usize,
        further: Option<usize>,
    ) -> Option<At> {
        let mut sets = vec![Set::new()];
        for rule in self.rules_at(at) {
            let own = match &rule.keyword {
                Keyword::Items(number) => Some(*number),
                Keyword::Tuple(first, others) => first.get(position).copied().or(*others),
                _ => None,
            };
            if let Some(number) = own {
                sets = product(&sets, &self.expand(number));
            }
        }
        if let Some(number) = further {
            sets = product(&sets, &self.expand(number));
        }
        self.place(sets)
    }

    /// The place of alternatives; None where none of them lets anything stand.
    fn place(&mut self, sets: Vec<Set>) -> Option<At> {
        let sets = sets.into_iter().filter(|set| !self.kinds_of(set).is_none());
        let mut sets = distinct(sets.collect());
        if sets.len() > MOST_SETS {
            sets = vec![Set::new()];
        }
        if sets.is_empty() && !self.places.is_empty() {
            return None;
        }
        if let Some(known) = self.numbers.get(&sets) {
            return Some(*known);
        }
        let at = At(u32::try_from(self.places.len()).ok()?);
        let none = Kinds(Types::default());
        let kinds = sets.iter().map(|set| self.kinds_of(set)).fold(none, Kinds::or);
        self.places.push(Known { sets: sets.clone(), kinds, members: HashMap::new(), item: None });
        self.numbers.insert(sets, at);
        Some(at)
    }

    fn rules(&self, number: usize) -> &'c [Rule<'s>] {
        &self.schema.nodes[number].rules
    }

    fn is_nothing(&self, number: usize) -> bool {
        self.expand(number).iter().all(|set| self.kinds_of(set).is_none())
    }

    /// The kinds of values that all schemas of a set let stand.
    fn kinds_of(&self, set: &Set) -> Kinds {
        let mut kinds = Kinds::ALL;
        for rule in set.iter().flat_map(|number| self.rules(*number)) {
            let own = match &rule.keyword {
                Keyword::Nothing => Kinds(Types::default()),
                Keyword::Types(types) => Kinds(types.with_integers()),
                Keyword::Enumeration(all) => all
                    .iter()
                    .map(|one| Kinds(Types::of(one.value, false)))
                    .fold(Kinds(Types::default()), Kinds::or),
                Keyword::Constant(one) => Kinds(Types::of(one.value, false)),
                _ => continue,
            };
            kinds = kinds.and(own);
        }
        kinds
    }

    /// The sets of schemas that apply where this one does, itself among them.
    fn expand(&self, number: usize) -> Vec<Set> {
        // Alternatives that lead to the same schemas again would else be gone through each time.
        if let Some(known) = self.expanded.borrow().get(&number) {
            return known.clone();
        }
        let sets = self.expand_anew(number);
        self.expanded.borrow_mut().insert(number, sets.clone());
        sets
    }

    fn expand_anew(&self, number: usize) -> Vec<Set> {
        // One that only leads to others says nothing itself.
        let leads = |rule: &Rule<'_>| {
            use Keyword::{All, Any, Dynamic, If, One, Reference};
            matches!(rule.keyword, Reference(_) | Dynamic(..) | All(_) | Any(_) | One(_) | If(..))
        };
        let mut sets = vec![match self.rules(number).iter().all(leads) {
            true => Set::new(),
            false => vec![number],
        }];
        for rule in self.rules(number) {
            let any = |schemas: &[usize]| -> Vec<Set> {
                distinct(schemas.iter().flat_map(|schema| self.expand(*schema)).collect())
            };
            match &rule.keyword {
                Keyword::Reference(one) | Keyword::Dynamic(one, _) => {
                    sets = product(&sets, &self.expand(*one));
                }
                Keyword::All(all) => {
                    for one in all {
                        sets = product(&sets, &self.expand(*one));
                    }
                }
                Keyword::Any(some) | Keyword::One(some) => sets = product(&sets, &any(some)),
                Keyword::If(_, yes, no) => {
                    let branch = |schema: &Option<usize>| match schema {
                        Some(schema) => self.expand(*schema),
                        None => vec![Set::new()],
                    };
                    let both: Vec<Set> = branch(yes).into_iter().chain(branch(no)).collect();
                    sets = product(&sets, &both);
                }
                _ => {}
            }
        }
        sets
    }
}

/// What applies where one of the first and one of the second does. Too many alternatives are left open.
fn product(first: &[Set], second: &[Set]) -> Vec<Set> {
    if first.len().saturating_mul(second.len()) > MOST_SETS {
        return first.to_vec();
    }
    let pairs = first.iter().flat_map(|a| second.iter().map(move |b| [a.as_slice(), b].concat()));
    distinct(pairs.collect())
}

/// Each set once, in order.
fn distinct(mut sets: Vec<Set>) -> Vec<Set> {
    for set in &mut sets {
        set.sort_unstable();
        set.dedup();
    }
    sets.sort_unstable();
    sets.dedup();
    sets
}
