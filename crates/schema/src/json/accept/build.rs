//! From a schema to its places: what each accepts, and where each of its members leads.

use std::collections::HashMap;

use super::{MOST_NAMES, MOST_PLACES, MapPlace, Others, Place, PlaceNumber, Set};
use crate::json::keyword::{Keyword, Members, Sized, Types};
use crate::json::{Rule, Schema};

/// An acceptor under way.
pub(super) struct Builder<'b, 's> {
    pub(super) schema: &'b Schema<'s>,
    pub(super) numbers: HashMap<Set, PlaceNumber>,
    /// The sets of all places, in the order of their numbers.
    pub(super) waiting: Vec<Set>,
}

impl<'s> Builder<'_, 's> {
    pub(super) fn place(&mut self, mut set: Set) -> PlaceNumber {
        set.sort_unstable();
        set.dedup();
        if let Some(known) = self.numbers.get(&set) {
            return *known;
        }
        self.waiting.push(set.clone());
        self.numbers.insert(set, self.waiting.len() - 1);
        self.waiting.len() - 1
    }

    pub(super) fn rules(&self, number: usize) -> &[Rule<'s>] {
        &self.schema.nodes[number].rules
    }

    /// A schema with those that it applies to the same value.
    pub(super) fn expand(&self, number: usize) -> Option<Set> {
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

    /// What is accepted by all schemas of a set; None where a keyword cannot be decided.
    pub(super) fn read(&mut self, set: &Set) -> Option<Place> {
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
