//! Accepts values that are certainly valid by their events: most are, so that no value is built of them.
//!
//! An [`Acceptor`] knows the keywords that events alone decide; a schema with others has no acceptor. A value that it does not accept
//! may still be valid: a text with escapes, or a number with an unusual spelling, is left to the check of values.

mod build;

use std::collections::HashMap;

use foldhash::fast::RandomState;
use kyanite_tree::{Decimal, Event, Pull, RawText, ScalarSpan};

use super::Schema;
use super::keyword::{Bound, Keyword, Limit, Types};
use build::Builder;

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
/// Values with more scalars than that are not learned.
const MOST_SCALARS: usize = 4096;
/// Values that nest deeper are left to the check of values.
const DEEPEST: u32 = 60;

/// What a schema accepts, place by place.
#[derive(Debug)]
pub(super) struct Acceptor {
    places: Vec<Place>,
    /// How many members may come next, at the beginning of the maps of all places and behind each of their names.
    turns: usize,
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
    /// The number of its beginning among all of those behind which a member may come; those behind its names follow.
    first_turn: usize,
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
    pub(super) fn find_acceptor(&self) -> Option<Acceptor> {
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
        let mut turns = 0;
        for Place { map, .. } in &mut places {
            map.first_turn = turns;
            turns += map.names.len() + 1;
        }
        Some(Acceptor { places, turns })
    }

    /// What tells by their events that values are valid, if all keywords of the schema can be decided so.
    #[must_use]
    pub fn accepting(&self) -> Option<Accepting<'_, 's>> {
        let Acceptor { places, turns } = self.acceptor.as_ref()?;
        let (usual, reasons) = (vec![0; *turns], Reasons::default());
        Some(Accepting { schema: self, places, usual, reasons, learned: Vec::new() })
    }
}

/// Accepts values, one after another; every method returns None where it is not certain.
#[derive(Debug)]
pub struct Accepting<'a, 's> {
    schema: &'a Schema<'s>,
    places: &'a [Place],
    /// For each place which member came last at the beginning of a map, and behind each of its names: most likely it comes again.
    usual: Vec<u8>,
    /// What the value that was accepted last was accepted by.
    reasons: Reasons,
    /// Those of values that were learned, by the numbers of their templates.
    learned: Vec<Option<Reasons>>,
}

/// What a value was accepted by, besides what stands around its scalars.
#[derive(Clone, Debug, Default)]
struct Reasons {
    /// The places of its scalars; none where nothing is said of one.
    places: Vec<Option<PlaceNumber>>,
    /// Scalars that are texts and all have to differ, by their numbers, of one list each.
    different: Vec<Vec<usize>>,
}

impl Reasons {
    /// Notes the place of the next scalar, as far as there is any use in it.
    #[inline]
    fn note(&mut self, place: Option<PlaceNumber>) {
        if self.places.len() <= MOST_SCALARS {
            self.places.push(place);
        }
    }
}

impl<'s> Accepting<'_, 's> {
    /// Whether the value whose events come next is certainly valid. If it is not certain, some of its events were taken.
    pub fn accepts<'t>(&mut self, pull: &mut impl Pull<'t>) -> bool {
        self.reasons.places.clear();
        self.reasons.different.clear();
        let event = pull.next_event();
        event.and_then(|event| self.value(Some(0), event, pull, 0, &mut None)).is_some()
    }

    /// The value that was accepted last is the first of a template: what stands around its scalars is the same in others.
    pub fn learn(&mut self, template: usize) {
        if self.reasons.places.len() > MOST_SCALARS {
            return;
        }
        if self.learned.len() <= template {
            self.learned.resize(template + 1, None);
        }
        self.learned[template] = Some(self.reasons.clone());
    }

    /// Whether a value is certainly valid that follows a template, and has these scalars of a text in order.
    #[must_use]
    pub fn accepts_alike(&self, template: usize, (text, scalars): (&str, &[ScalarSpan])) -> bool {
        let Some(Some(Reasons { places, different })) = self.learned.get(template) else {
            return false;
        };
        let holds = |(scalar, place): (&ScalarSpan, &Option<PlaceNumber>)| {
            place.is_none_or(|place| self.scalar(&self.places[place], scalar.event(text)).is_some())
        };
        places.len() == scalars.len()
            && scalars.iter().zip(places).all(holds)
            && different.iter().all(|numbers| {
                let texts = numbers.iter().map(|number| match scalars[*number].event(text) {
                    Event::Text(RawText { text, has_escapes: false }) => Some(text),
                    _ => None,
                });
                texts.collect::<Option<Vec<&str>>>().is_some_and(|texts| are_different(&texts))
            })
    }

    fn keyword(&self, (number, at): (usize, usize)) -> &Keyword<'s> {
        &self.schema.nodes[number].rules[at].keyword
    }

    /// The value that begins with an event, at a place or where nothing is said of it; of a map that is an item its sign.
    #[inline(always)]
    fn value<'t>(
        &mut self,
        number: Option<PlaceNumber>,
        event: Event<'t>,
        pull: &mut impl Pull<'t>,
        depth: u32,
        sign: &mut Option<Sign<'t>>,
    ) -> Option<()> {
        let Some(number) = number else { return self.anything(event, pull, depth) };
        let place = &self.places[number];
        match event {
            Event::Text(_) | Event::Number(_) | Event::Boolean(_) | Event::Null => {
                self.reasons.note(Some(number));
                self.scalar(place, event)
            }
            _ if place.texts.is_some() => None,
            Event::BeginMap if depth < DEEPEST && place.types.has(Types::MAP) => {
                self.map(number, pull, depth, sign)
            }
            Event::BeginList if depth < DEEPEST && place.types.has(Types::LIST) => {
                self.list(place, pull, depth)
            }
            _ => None,
        }
    }

    #[inline(always)]
    fn scalar(&self, place: &Place, event: Event<'_>) -> Option<()> {
        match event {
            Event::Text(text) => self.text(place, text),
            _ if place.texts.is_some() => None,
            Event::Number(text) => self.number(place, text),
            Event::Boolean(_) => place.types.has(Types::BOOLEAN).then_some(()),
            Event::Null => place.types.has(Types::NULL).then_some(()),
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

    fn list<'t>(&mut self, place: &Place, pull: &mut impl Pull<'t>, depth: u32) -> Option<()> {
        let (mut count, mut signs) = (0, Vec::new());
        loop {
            let event = match pull.next_event()? {
                Event::EndList => break,
                event => event,
            };
            count += 1;
            let mut sign = match event {
                Event::Text(RawText { text, has_escapes: false }) => {
                    Some(Sign { member: None, text, number: self.reasons.places.len() })
                }
                _ => None,
            };
            self.value(place.items, event, pull, depth + 1, &mut sign)?;
            if place.is_unique {
                signs.push(sign);
            }
        }
        let counts = place.item_counts.iter();
        if !counts.copied().all(|(limit, most)| is_within(limit, most, count)) {
            return None;
        }
        if count < 2 || !place.is_unique {
            return Some(());
        }
        let signs: Vec<Sign<'t>> = signs.into_iter().collect::<Option<_>>()?;
        if self.reasons.places.len() <= MOST_SCALARS {
            self.reasons.different.push(signs.iter().map(|sign| sign.number).collect());
        }
        let are_of_one_kind = signs.windows(2).all(|pair| pair[0].member == pair[1].member);
        let texts: Vec<&str> = signs.iter().map(|sign| sign.text).collect();
        (are_of_one_kind && are_different(&texts)).then_some(())
    }

    /// A value that nothing is said of; names may not be given twice in it either.
    fn anything<'t>(
        &mut self,
        event: Event<'t>,
        pull: &mut impl Pull<'t>,
        depth: u32,
    ) -> Option<()> {
        match event {
            Event::BeginMap if depth < DEEPEST => self.any_map(pull, depth),
            Event::BeginList if depth < DEEPEST => loop {
                match pull.next_event()? {
                    Event::EndList => return Some(()),
                    event => self.anything(event, pull, depth + 1)?,
                }
            },
            Event::BeginMap | Event::BeginList => None,
            _ => {
                self.reasons.note(None);
                Some(())
            }
        }
    }

    /// The members of a map at a place, and its sign.
    fn map<'t>(
        &mut self,
        number: PlaceNumber,
        pull: &mut impl Pull<'t>,
        depth: u32,
        sign: &mut Option<Sign<'t>>,
    ) -> Option<()> {
        let place = &self.places[number].map;
        let (mut seen, mut turn, mut others) = (0_u64, place.first_turn, OtherNames::default());
        let mut count = 0;
        loop {
            let usual = usize::from(self.usual[turn]);
            let is_usual = place.names.get(usual).is_some_and(|(name, _)| pull.takes_name(name));
            let at = match is_usual {
                true => Some(usual),
                false => match pull.next_event()? {
                    Event::EndMap => break,
                    Event::Name(RawText { text: name, has_escapes: false }) => {
                        let at = place.by_name.get(name).copied();
                        if at.is_none() {
                            others.add(name)?;
                        }
                        at
                    }
                    _ => return None,
                },
            };
            let inner = match (at, place.others) {
                (Some(at), _) => {
                    // Twice is told by the reader of values.
                    if seen >> at & 1 == 1 {
                        return None;
                    }
                    seen |= 1 << at;
                    // There are no more names than a word has bits.
                    self.usual[turn] = at as u8;
                    turn = place.first_turn + at + 1;
                    place.names[at].1
                }
                (None, Others::Any) => None,
                (None, Others::Like(inner)) => Some(inner),
                (None, Others::None) => return None,
            };
            let event = pull.next_event()?;
            if let (0, Some(_), Event::Text(RawText { text, has_escapes: false })) =
                (count, at, event)
            {
                *sign = Some(Sign { member: at, text, number: self.reasons.places.len() });
            }
            count += 1;
            self.value(inner, event, pull, depth + 1, &mut None)?;
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

    fn any_map<'t>(&mut self, pull: &mut impl Pull<'t>, depth: u32) -> Option<()> {
        let mut names = OtherNames::default();
        loop {
            match pull.next_event()? {
                Event::EndMap => return Some(()),
                Event::Name(RawText { text, has_escapes: false }) => names.add(text)?,
                _ => return None,
            }
            let event = pull.next_event()?;
            self.anything(event, pull, depth + 1)?;
        }
    }
}

/// The names of members that a schema does not speak of.
#[derive(Default)]
struct OtherNames<'t>(Vec<&'t str>);

impl<'t> OtherNames<'t> {
    /// Takes one more; None where it was there, or where there are too many to tell.
    fn add(&mut self, name: &'t str) -> Option<()> {
        if self.0.len() == MOST_OTHERS || self.0.contains(&name) {
            return None;
        }
        self.0.push(name);
        Some(())
    }
}

fn is_within(limit: Limit, bound: u64, count: usize) -> bool {
    match limit {
        Limit::Least => count as u64 >= bound,
        Limit::Most => count as u64 <= bound,
    }
}

/// What tells an item of a list apart from others: a text that it is, or that its first member is.
#[derive(Clone, Copy, Debug)]
struct Sign<'t> {
    /// The number of that member among those that the schema speaks of.
    member: Option<usize>,
    text: &'t str,
    /// The number of the text among the scalars of the value.
    number: usize,
}

/// Whether no two texts are the same, as far as they are few enough to tell.
fn are_different(texts: &[&str]) -> bool {
    texts.len() <= MOST_OTHERS
        && texts.iter().enumerate().all(|(at, text)| !texts[at + 1..].contains(text))
}
