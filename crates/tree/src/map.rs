//! Maps: named members in the order they were written.
//!
//! A small map is searched from its start, which for a dozen members beats any hash. A large one carries a
//! hash index, built once by whoever builds the map; the same index finds members given twice.

use std::hash::BuildHasher;
use std::sync::OnceLock;

use foldhash::SharedSeed;
use foldhash::quality::SeedableRandomState;

use crate::{Arena, Value};

/// One named value of a map.
#[derive(Clone, Copy, Debug)]
pub struct Member<'a> {
    /// The name.
    pub name: &'a str,
    /// The value.
    pub value: Value<'a>,
}

/// The members of a map, in order, each name once.
#[derive(Clone, Copy, Debug)]
pub struct Map<'a> {
    members: &'a [Member<'a>],
    /// What only few maps have.
    extra: Option<&'a Extra<'a>>,
}

/// What a map has that is large, or whose keys are not all texts.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Extra<'a> {
    /// Open addressing over member positions plus one; empty for small maps.
    index: &'a [u32],
    /// The keys that are no texts, by the positions of their members.
    keys: &'a [(usize, Value<'a>)],
}

/// Maps up to this many members are searched without an index.
const SMALL: usize = 16;

impl<'a> Map<'a> {
    #[inline]
    fn new(arena: &'a Arena, members: &'a [Member<'a>], index: &[u32]) -> &'a Self {
        let extra =
            (!index.is_empty()).then(|| arena.put(Extra { index: arena.slice(index), keys: &[] }));
        arena.put(Self { members, extra })
    }

    /// All members, in order.
    #[inline]
    #[must_use]
    pub fn members(&self) -> &'a [Member<'a>] {
        self.members
    }

    /// The keys that were no texts where the map was read, such as `200:` of YAML, by the positions of their members, in
    /// order. The names of these members are what the keys are as text.
    #[must_use]
    pub fn keys(&self) -> &'a [(usize, Value<'a>)] {
        self.extra.map_or(&[], |extra| extra.keys)
    }

    /// The same map, of which the members with these names have keys that are no texts.
    pub fn with_keys(&self, arena: &'a Arena, keys: &[(&str, Value<'a>)]) -> &'a Self {
        let mut placed: Vec<(usize, Value<'a>)> = Vec::with_capacity(keys.len());
        for (name, key) in keys {
            if let Some(position) = self.position(name) {
                placed.push((position, *key));
            }
        }
        placed.sort_by_key(|(position, _)| *position);
        placed.dedup_by_key(|(position, _)| *position);
        let index = self.extra.map_or(&[][..], |extra| extra.index);
        let extra = arena.put(Extra { index, keys: arena.slice(&placed) });
        arena.put(Self { members: self.members, extra: Some(extra) })
    }

    /// A map of these members, whose names all differ. The keys of those that this map has, too, are what they are here.
    pub fn with_members(&self, arena: &'a Arena, members: &[Member<'a>]) -> &'a Self {
        let is_same = |(own, other): (&Member<'_>, &Member<'_>)| own.name == other.name;
        if members.len() == self.len() && self.members.iter().zip(members).all(is_same) {
            return arena.put(Self { members: arena.slice(members), extra: self.extra });
        }
        let map = Self::from_read(arena, &mut members.to_vec(), |_, _, _| ());
        let keys: Vec<_> =
            self.keys().iter().map(|(at, key)| (self.members[*at].name, *key)).collect();
        if keys.is_empty() { map } else { map.with_keys(arena, &keys) }
    }

    /// A copy of another map with members that were copied to `arena` in the same order.
    pub(crate) fn copied(arena: &'a Arena, members: &'a [Member<'a>], of: &Map<'_>) -> &'a Self {
        let extra = of.extra.map(|extra| {
            let keys: Vec<_> = extra.keys.iter().map(|(at, key)| (*at, arena.copy(*key))).collect();
            arena.put(Extra { index: arena.slice(extra.index), keys: arena.slice(&keys) })
        });
        arena.put(Self { members, extra })
    }

    /// How many members there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.members.len()
    }

    /// Whether the map is `{}`.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.members.is_empty()
    }

    /// The value of the member called `name`.
    #[inline]
    #[must_use]
    pub fn get(&self, name: &str) -> Option<Value<'a>> {
        match self.extra {
            None => self.members.iter().find(|member| member.name == name).map(|m| m.value),
            Some(_) => Some(self.members[self.position(name)?].value),
        }
    }

    /// Where the member called `name` stands.
    #[must_use]
    pub fn position(&self, name: &str) -> Option<usize> {
        match self.extra {
            Some(Extra { index, .. }) if !index.is_empty() => find(index, self.members, name).ok(),
            _ => self.members.iter().position(|member| member.name == name),
        }
    }
}

/// Collects the members of one map; reusable, so that a reader allocates no builder per map.
#[derive(Debug, Default)]
pub struct MapBuilder<'a> {
    members: Vec<Member<'a>>,
    index: Vec<u32>,
}

impl<'a> MapBuilder<'a> {
    /// An empty builder.
    #[must_use]
    pub fn new() -> Self {
        Self::default()
    }

    /// An empty builder that reuses the members of [another](Self::finish_and_empty).
    #[must_use]
    pub fn reusing(members: Vec<Member<'a>>) -> Self {
        Self { members, ..Self::default() }
    }

    /// Adds a member, or overrides the one of that name in its place; gives the overridden value.
    pub fn insert(&mut self, name: &'a str, value: Value<'a>) -> Option<Value<'a>> {
        let position = if self.index.is_empty() {
            self.members.iter().position(|member| member.name == name)
        } else {
            find(&self.index, &self.members, name).ok()
        };
        if let Some(position) = position {
            return Some(std::mem::replace(&mut self.members[position].value, value));
        }
        self.members.push(Member { name, value });
        self.grow_index();
        None
    }

    /// Whether there are no members yet.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.members.is_empty()
    }

    fn grow_index(&mut self) {
        let count = self.members.len();
        if count <= SMALL {
            return;
        }
        if self.index.len() < count * 2 {
            self.index = index_of(&self.members).0;
        } else if let Err(slot) =
            find(&self.index, &self.members[..count - 1], self.members[count - 1].name)
        {
            self.index[slot] = position_code(count - 1);
        }
    }

    /// The same as [`finish`](Self::finish), and gives its list of members back, empty.
    pub fn finish_and_empty(mut self, arena: &'a Arena) -> (&'a Map<'a>, Vec<Member<'a>>) {
        let map = Map::new(arena, arena.slice(&self.members), &self.index);
        self.members.clear();
        (map, self.members)
    }

    /// Moves the members into `arena`.
    pub fn finish(self, arena: &'a Arena) -> &'a Map<'a> {
        Map::new(arena, arena.slice(&self.members), &self.index)
    }
}

impl<'a> Map<'a> {
    /// Builds a map of members whose names are known to differ, by an index over those names.
    #[inline]
    pub fn with_index(arena: &'a Arena, members: &[Member<'a>], index: NameIndex<'a>) -> &'a Self {
        arena.put(Self { members: arena.slice(members), extra: index.0 })
    }

    /// Builds a map of members whose names are known to differ.
    #[inline]
    pub fn of_different(arena: &'a Arena, members: &[Member<'a>]) -> &'a Self {
        if members.len() <= SMALL {
            return arena.put(Self { members: arena.slice(members), extra: None });
        }
        Self::new(arena, arena.slice(members), &index_of(members).0)
    }

    /// Builds a map from members in the order they were read. Of members with one name the last value stays, in
    /// the place of the first; `duplicate` is told the name, the earlier value and the later one.
    ///
    /// `members` is scratch space of the caller: its contents are used up.
    pub fn from_read(
        arena: &'a Arena,
        members: &mut [Member<'a>],
        mut duplicate: impl FnMut(&'a str, Value<'a>, Value<'a>),
    ) -> &'a Self {
        if members.len() > SMALL {
            let (index, repeated) = index_of(members);
            if !repeated {
                return Self::new(arena, arena.slice(members), &index);
            }
        } else if !repeats(members) {
            return arena.put(Self { members: arena.slice(members), extra: None });
        }
        let mut builder = MapBuilder::new();
        for member in members.iter() {
            if let Some(earlier) = builder.insert(member.name, member.value) {
                duplicate(member.name, earlier, member.value);
            }
        }
        builder.finish(arena)
    }
}

/// An index over names, for many maps that all have just these members in this order.
#[derive(Clone, Copy, Debug)]
pub struct NameIndex<'a>(Option<&'a Extra<'a>>);

impl<'a> NameIndex<'a> {
    /// The index over `names`; empty where so few names are faster searched.
    #[must_use]
    pub fn of(arena: &'a Arena, names: &[&str]) -> Self {
        let members: Vec<Member<'_>> =
            names.iter().map(|name| Member { name, value: Value::NULL }).collect();
        let index = (members.len() > SMALL).then(|| arena.slice(&index_of(&members).0));
        Self(index.map(|index| arena.put(Extra { index, keys: &[] })))
    }
}

fn repeats(members: &[Member<'_>]) -> bool {
    // Comparing lengths and first bytes settles nearly every pair without reading the names.
    members.iter().enumerate().any(|(at, member)| {
        members[..at]
            .iter()
            .any(|earlier| earlier.name.len() == member.name.len() && earlier.name == member.name)
    })
}

fn position_code(position: usize) -> u32 {
    // A map of 4 thousand million members does not fit in memory at 40 bytes each.
    u32::try_from(position + 1).unwrap_or(u32::MAX)
}

/// An index over `members`, and whether some name came twice (then only its first is in the index).
fn index_of(members: &[Member<'_>]) -> (Vec<u32>, bool) {
    let mut index = vec![0; (members.len() * 4).next_power_of_two()];
    let mut repeated = false;
    for (position, member) in members.iter().enumerate() {
        match find(&index, members, member.name) {
            Ok(_) => repeated = true,
            Err(slot) => index[slot] = position_code(position),
        }
    }
    (index, repeated)
}

/// The position of the member called `name`, or the free slot where it belongs.
fn find(index: &[u32], members: &[Member<'_>], name: &str) -> Result<usize, usize> {
    let mask = index.len() - 1;
    let mut slot = hash(name) & mask;
    loop {
        match index[slot] {
            0 => return Err(slot),
            code => {
                let position = code as usize - 1;
                if members[position].name == name {
                    return Ok(position);
                }
            }
        }
        slot = (slot + 1) & mask;
    }
}

/// Seeded once per process, so that no input can be made to collide on purpose.
#[expect(clippy::cast_possible_truncation, reason = "the low bits are what the mask keeps")]
fn hash(name: &str) -> usize {
    static STATE: OnceLock<SeedableRandomState> = OnceLock::new();
    let state = STATE.get_or_init(|| {
        SeedableRandomState::with_seed(
            std::hash::RandomState::new().hash_one(0u8),
            SharedSeed::global_random(),
        )
    });
    state.hash_one(name) as usize
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Origin;

    #[test]
    fn later_values_override_in_place_at_every_size() {
        let names: Vec<String> = (0..500).map(|n| format!("berth{n}")).collect();
        for size in [1, SMALL - 1, SMALL, SMALL + 1, 500] {
            let arena = Arena::new();
            let mut read: Vec<Member<'_>> =
                names[..size].iter().map(|name| Member { name, value: arena.integer(1) }).collect();
            read.push(Member { name: &names[0], value: arena.integer(2) });
            let mut told = Vec::new();
            let map = Map::from_read(&arena, &mut read, |name, _, _| told.push(name));
            assert_eq!(told, [&names[0]]);
            assert_eq!(map.len(), size);
            assert_eq!(map.members()[0].value.as_number().unwrap().as_str(), "2");
            for name in &names[1..size] {
                assert_eq!(map.get(name).unwrap().as_number().unwrap().as_str(), "1");
            }
            assert!(map.get("quay").is_none());
        }
    }

    #[test]
    fn the_builder_indexes_as_it_grows() {
        let names: Vec<String> = (0..100).map(|n| n.to_string()).collect();
        let arena = Arena::new();
        let mut builder = MapBuilder::new();
        for name in names.iter().chain(&names) {
            builder.insert(name, Value::Boolean(Origin::NONE, true));
        }
        let map = builder.finish(&arena);
        assert_eq!(map.len(), 100);
        assert!(names.iter().all(|name| map.get(name).is_some()));
    }
}
