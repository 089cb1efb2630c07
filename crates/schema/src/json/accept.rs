//! Values that are certainly valid, told from their events: most are, and then no value need be made of them.
//!
//! An [`Acceptor`] knows the keywords that can be decided along the events of a value. A schema with others has none. What it does not
//! accept may still be valid: a text with escapes, or a number that is written unusually, is left to the check of values.

use std::collections::HashMap;

use foldhash::fast::RandomState;
use kyanite_tree::{Decimal, Event, Pull, RawText};

use super::keyword::{Bound, Keyword, Limit, Members, Sized, Types};
use super::{Rule, Schema};

/// Schemas that all apply to one value, by their numbers.
type Set = Vec<usize>;

/// The number of what is accepted at a place.
type PlaceNumber = usize;

/// Schemas are refused that have more places.
const MOST_PLACES: usize = 2_000;
/// Members of a map that are told apart by the bits of a word.
const MOST_NAMES: usize = 64;
/// Other members, whose names may not be given twice either.
const MOST_OTHERS: usize = 16;
/// Values that nest deeper are left to the check of values.
const DEEPEST: u32 = 60;

/// What a schema accepts, place by place.
#[derive(Debug)]
pub(super) struct Acceptor {
    places: Vec<Place>,
}

/// What is accepted at a place.
#[derive(Debug, Default)]
struct Place {
    types: Types,
    /// Texts one of which it has to be.
    texts: Option<Vec<Box<str>>>,
    /// Rules about texts and numbers: where they stand in the schema.
    of_texts: Vec<(usize, usize)>,
    of_numbers: Vec<(usize, usize)>,
    map: MapPlace,
    items: Option<PlaceNumber>,
    item_counts: Vec<(Limit, u64)>,
    is_unique: bool,
}

#[derive(Debug, Default)]
struct MapPlace {
    /// Names that the schema speaks of, in its order, each with what is accepted there.
    names: Vec<(Box<str>, Option<PlaceNumber>)>,
    /// The positions of these by their names.
    by_name: HashMap<Box<str>, usize, RandomState>,
    /// A bit for each name that has to be there.
    required: u64,
    /// Sets of names, all of one of which have to be there; of some groups just one.
    groups: Vec<(bool, Vec<u64>)>,
    others: Others,
    counts: Vec<(Limit, u64)>,
}

#[derive(Clone, Copy, Debug, Default)]
enum Others {
    #[default]
    Any,
    None,
    Like(PlaceNumber),
}

impl<'s> Schema<'s> {
    /// What the schema accepts, if all of its keywords can be decided along events.
    pub(super) fn acceptor(&self) -> Option<Acceptor> {
        let mut builder = Builder { schema: self, numbers: HashMap::new(), waiting: Vec::new() };
        let root = builder.expand(0)?;
        builder.place(root);
        let mut places = Vec::new();
        while let Some(set) = builder.waiting.get(places.len()).cloned() {
            if places.len() >= MOST_PLACES {
                return None;
            }
            let place = builder.read(&set)?;
            places.push(place);
        }
        Some(Acceptor { places })
    }

    /// Whether the value whose events come next is certainly valid. If it is not certain, some of its events were taken.
    pub fn accepts<'t>(&self, pull: &mut impl Pull<'t>) -> bool {
        let Some(acceptor) = &self.accepting else { return false };
        let Some(event) = pull.next_event() else { return false };
        let accept = Accept { schema: self, places: &acceptor.places };
        accept.value(0, event, pull, 0).is_some()
    }

    /// Whether anything can be told from events.
    #[must_use]
    pub fn can_accept(&self) -> bool {
        self.accepting.is_some()
    }
}

/// An acceptor under way.
struct Builder<'b, 's> {
    schema: &'b Schema<'s>,
    numbers: HashMap<Set, PlaceNumber>,
    /// The sets of all places, in the order of their numbers.
    waiting: Vec<Set>,
}

impl<'s> Builder<'_, 's> {
    fn place(&mut self, mut set: Set) -> PlaceNumber {
        set.sort_unstable();
        set.dedup();
        if let Some(known) = self.numbers.get(&set) {
            return *known;
        }
        self.waiting.push(set.clone());
        self.numbers.insert(set, self.waiting.len() - 1);
        self.waiting.len() - 1
    }

    fn rules(&self, number: usize) -> &[Rule<'s>] {
        &self.schema.nodes[number].rules
    }

    /// A schema with those that it applies to the same value.
    fn expand(&self, number: usize) -> Option<Set> {
        let (mut all, mut left) = (Set::new(), vec![number]);
        while let Some(number) = left.pop() {
            if all.contains(&number) {
                continue;
            }
            all.push(number);
            for rule in self.rules(number) {
                match &rule.keyword {
                    Keyword::Reference(one) => left.push(*one),
                    Keyword::All(some) => left.extend(some),
                    _ => {}
                }
            }
        }
        (all.len() <= MOST_PLACES).then_some(all)
    }

    fn place_of(&mut self, number: usize) -> Option<PlaceNumber> {
        let set = self.expand(number)?;
        Some(self.place(set))
    }

    /// What is accepted by all schemas of a set; nothing where a keyword cannot be decided.
    fn read(&mut self, set: &Set) -> Option<Place> {
        let schema = self.schema;
        let mut place = Place { types: Types::ALL, ..Place::default() };
        let mut members: Option<&Members<'s>> = None;
        let mut required: Vec<&'s str> = Vec::new();
        let mut groups: Vec<(bool, Vec<Vec<&'s str>>)> = Vec::new();
        for number in set {
            for (at, rule) in schema.nodes[*number].rules.iter().enumerate() {
                match &rule.keyword {
                    Keyword::Nothing => place.types = Types::default(),
                    Keyword::Reference(_) | Keyword::All(_) => {}
                    Keyword::Types(types) => {
                        place.types = place.types.and(types.with_integers());
                    }
                    Keyword::Enumeration(all) => {
                        let texts: Option<Vec<Box<str>>> =
                            all.iter().map(|one| one.value.as_text().map(Box::from)).collect();
                        let texts = texts?;
                        if place.texts.replace(texts).is_some() {
                            return None;
                        }
                    }
                    Keyword::Constant(one) => {
                        let text = one.value.as_text()?;
                        if place.texts.replace(vec![text.into()]).is_some() {
                            return None;
                        }
                    }
                    Keyword::MultipleOf(_) | Keyword::Bound(..) => {
                        place.of_numbers.push((*number, at));
                    }
                    Keyword::Pattern(..) | Keyword::Format(_) | Keyword::Size(Sized::Text, ..) => {
                        place.of_texts.push((*number, at));
                    }
                    Keyword::Size(Sized::List, limit, count) => {
                        place.item_counts.push((*limit, *count));
                    }
                    Keyword::Size(Sized::Map, limit, count) => {
                        place.map.counts.push((*limit, *count));
                    }
                    Keyword::Items(one) => {
                        let items = self.place_of(*one)?;
                        if place.items.replace(items).is_some() {
                            return None;
                        }
                    }
                    Keyword::Unique => place.is_unique = true,
                    Keyword::Required(names) => required.extend(names),
                    Keyword::Members(own) => {
                        if !own.patterns.is_empty() || members.replace(own).is_some() {
                            return None;
                        }
                    }
                    Keyword::Any(some) => groups.push((false, self.required_of(some)?)),
                    Keyword::One(some) => groups.push((true, self.required_of(some)?)),
                    _ => return None,
                }
            }
        }
        self.read_members(&mut place.map, members, &required, &groups)?;
        Some(place)
    }

    /// The names that each of some schemas asks for, which ask for nothing else.
    fn required_of(&self, schemas: &[usize]) -> Option<Vec<Vec<&'s str>>> {
        let names =
            schemas.iter().map(|number| match self.schema.nodes[*number].rules.as_slice() {
                [Rule { keyword: Keyword::Required(names), .. }] => Some(names.clone()),
                _ => None,
            });
        names.collect()
    }

    fn read_members(
        &mut self,
        map: &mut MapPlace,
        members: Option<&Members<'s>>,
        required: &[&'s str],
        groups: &[(bool, Vec<Vec<&'s str>>)],
    ) -> Option<()> {
        for (name, number) in members.map(|members| members.named.as_slice()).unwrap_or_default() {
            let inner = self.place_of(*number)?;
            map.names.push(((*name).into(), Some(inner)));
        }
        map.others = match members.and_then(|members| members.others) {
            None => Others::Any,
            Some(number) => match self.rules(number) {
                [Rule { keyword: Keyword::Nothing, .. }] => Others::None,
                _ => Others::Like(self.place_of(number)?),
            },
        };
        let all = required.iter().chain(groups.iter().flat_map(|(_, sets)| sets.iter().flatten()));
        for name in all {
            if !map.names.iter().any(|(known, _)| &**known == *name) {
                // It is one of the others.
                let inner = match map.others {
                    Others::Like(inner) => Some(inner),
                    Others::Any => None,
                    Others::None => return None,
                };
                map.names.push(((*name).into(), inner));
            }
        }
        if map.names.len() > MOST_NAMES {
            return None;
        }
        map.by_name =
            map.names.iter().enumerate().map(|(at, (name, _))| (name.clone(), at)).collect();
        let bits = |names: &[&str]| {
            names.iter().filter_map(|name| map.by_name.get(*name)).fold(0, |all, at| all | 1 << at)
        };
        map.required = bits(required);
        map.groups = groups
            .iter()
            .map(|(is_one, sets)| (*is_one, sets.iter().map(|names| bits(names)).collect()))
            .collect();
        Some(())
    }
}

/// Accepts the values of one document; every method gives nothing where it is not certain.
struct Accept<'a, 's> {
    schema: &'a Schema<'s>,
    places: &'a [Place],
}

impl<'s> Accept<'_, 's> {
    fn keyword(&self, (number, at): (usize, usize)) -> &Keyword<'s> {
        &self.schema.nodes[number].rules[at].keyword
    }

    fn value<'t>(
        &self,
        number: PlaceNumber,
        event: Event<'t>,
        pull: &mut impl Pull<'t>,
        depth: u32,
    ) -> Option<()> {
        let place = &self.places[number];
        let is_one_of_texts = place.texts.is_some();
        match event {
            Event::Text(text) => self.text(place, text),
            _ if is_one_of_texts => None,
            Event::Number(text) => self.number(place, text),
            Event::Boolean(_) => place.types.has(Types::BOOLEAN).then_some(()),
            Event::Null => place.types.has(Types::NULL).then_some(()),
            Event::BeginMap if depth < DEEPEST && place.types.has(Types::MAP) => {
                self.map(&place.map, pull, depth)
            }
            Event::BeginList if depth < DEEPEST && place.types.has(Types::LIST) => {
                self.list(place, pull, depth)
            }
            _ => None,
        }
    }

    fn text(&self, place: &Place, RawText { text, has_escapes }: RawText<'_>) -> Option<()> {
        if !place.types.has(Types::TEXT) {
            return None;
        }
        if place.texts.is_none() && place.of_texts.is_empty() {
            return Some(());
        }
        let is_known = |texts: &Vec<Box<str>>| texts.iter().any(|known| **known == *text);
        if has_escapes || !place.texts.as_ref().is_none_or(is_known) {
            return None;
        }
        let holds = |at: &(usize, usize)| match self.keyword(*at) {
            Keyword::Pattern(_, pattern) => pattern.is_match(text) == Ok(true),
            Keyword::Format(format) => (format.holds)(text),
            Keyword::Size(_, limit, count) => is_within(*limit, *count, text.chars().count()),
            _ => false,
        };
        place.of_texts.iter().all(holds).then_some(())
    }

    fn number(&self, place: &Place, text: &str) -> Option<()> {
        let is_whole = !text.contains(['.', 'e', 'E']);
        if !(place.types.has(Types::NUMBER) || is_whole && place.types.has(Types::INTEGER)) {
            return None;
        }
        if place.of_numbers.is_empty() {
            return Some(());
        }
        let number = Decimal::parse(text).ok()?;
        let holds = |at: &(usize, usize)| match self.keyword(*at) {
            Keyword::MultipleOf(unit) => number.rem(unit) == Ok(Decimal::ZERO),
            Keyword::Bound(Bound::Least, limit, _) => number >= *limit,
            Keyword::Bound(Bound::Most, limit, _) => number <= *limit,
            Keyword::Bound(Bound::MoreThan, limit, _) => number > *limit,
            Keyword::Bound(Bound::LessThan, limit, _) => number < *limit,
            _ => false,
        };
        place.of_numbers.iter().all(holds).then_some(())
    }

    fn list<'t>(&self, place: &Place, pull: &mut impl Pull<'t>, depth: u32) -> Option<()> {
        let (mut count, mut first_texts) = (0, Vec::new());
        loop {
            let event = match pull.next_event()? {
                Event::EndList => break,
                event => event,
            };
            count += 1;
            if place.is_unique {
                let awaits = match event {
                    Event::BeginMap => Awaits::Name,
                    _ => Awaits::Nothing,
                };
                let mut noting = Noting { pull, awaits, first: None };
                self.item(place.items, event, &mut noting, depth)?;
                first_texts.push(noting.first);
            } else {
                self.item(place.items, event, pull, depth)?;
            }
        }
        let counts = place.item_counts.iter();
        if !counts.copied().all(|(limit, most)| is_within(limit, most, count)) {
            return None;
        }
        (count < 2 || !place.is_unique || are_different(&first_texts)).then_some(())
    }

    fn item<'t>(
        &self,
        place: Option<PlaceNumber>,
        event: Event<'t>,
        pull: &mut impl Pull<'t>,
        depth: u32,
    ) -> Option<()> {
        match place {
            Some(place) => self.value(place, event, pull, depth + 1),
            None => self.anything(event, pull, depth + 1),
        }
    }

    /// A value that nothing is said of; names may not be given twice in it either.
    fn anything<'t>(&self, event: Event<'t>, pull: &mut impl Pull<'t>, depth: u32) -> Option<()> {
        match event {
            Event::BeginMap if depth < DEEPEST => self.map(&MapPlace::default(), pull, depth),
            Event::BeginList if depth < DEEPEST => loop {
                match pull.next_event()? {
                    Event::EndList => return Some(()),
                    event => self.anything(event, pull, depth + 1)?,
                }
            },
            Event::BeginMap | Event::BeginList => None,
            _ => Some(()),
        }
    }

    fn map<'t>(&self, place: &MapPlace, pull: &mut impl Pull<'t>, depth: u32) -> Option<()> {
        let (mut seen, mut next, mut count) = (0_u64, 0, 0);
        let mut others = [""; MOST_OTHERS];
        let mut other_count = 0;
        loop {
            let name = match pull.next_event()? {
                Event::EndMap => break,
                Event::Name(RawText { text, has_escapes: false }) => text,
                _ => return None,
            };
            count += 1;
            let at = match place.names.get(next) {
                Some((known, _)) if **known == *name => Some(next),
                _ => place.by_name.get(name).copied(),
            };
            let inner = match at {
                Some(at) => {
                    // Twice is told by the reader of values.
                    if seen & 1 << at != 0 {
                        return None;
                    }
                    seen |= 1 << at;
                    next = at + 1;
                    place.names[at].1
                }
                None => {
                    if other_count == MOST_OTHERS || others[..other_count].contains(&name) {
                        return None;
                    }
                    others[other_count] = name;
                    other_count += 1;
                    match place.others {
                        Others::Any => None,
                        Others::None => return None,
                        Others::Like(inner) => Some(inner),
                    }
                }
            };
            let event = pull.next_event()?;
            self.item(inner, event, pull, depth)?;
        }
        let is_complete = seen & place.required == place.required;
        let has = |set: &u64| seen & set == *set;
        let groups = place.groups.iter().all(|(is_one, sets)| {
            let there = sets.iter().filter(|set| has(set)).count();
            if *is_one { there == 1 } else { there > 0 }
        });
        let counts = place.counts.iter().all(|(limit, bound)| is_within(*limit, *bound, count));
        (is_complete && groups && counts).then_some(())
    }
}

fn is_within(limit: Limit, bound: u64, count: usize) -> bool {
    match limit {
        Limit::Least => count as u64 >= bound,
        Limit::Most => count as u64 <= bound,
    }
}

/// Passes events on, and notes the first member of a map, if it is a text.
struct Noting<'p, 't> {
    pull: &'p mut dyn Pull<'t>,
    awaits: Awaits<'t>,
    first: Option<(&'t str, &'t str)>,
}

/// What is noted next.
enum Awaits<'t> {
    Name,
    Text(&'t str),
    Nothing,
}

impl<'t> Pull<'t> for Noting<'_, 't> {
    fn next_event(&mut self) -> Option<Event<'t>> {
        let event = self.pull.next_event()?;
        self.awaits = match (&self.awaits, event) {
            (Awaits::Name, Event::Name(RawText { text, has_escapes: false })) => Awaits::Text(text),
            (Awaits::Text(name), Event::Text(RawText { text, has_escapes: false })) => {
                self.first = Some((name, text));
                Awaits::Nothing
            }
            _ => Awaits::Nothing,
        };
        Some(event)
    }

    fn offset(&self) -> usize {
        self.pull.offset()
    }
}

/// Whether maps have another text each as their first member, of the same name.
fn are_different(items: &[Option<(&str, &str)>]) -> bool {
    let differ = |a: &Option<(&str, &str)>, b: &Option<(&str, &str)>| match (a, b) {
        (Some((name, text)), Some((other, value))) => name == other && text != value,
        _ => false,
    };
    items.len() <= MOST_OTHERS
        && items.iter().enumerate().all(|(at, a)| items[at + 1..].iter().all(|b| differ(a, b)))
}
