//! Functions on maps (F&O 3.1 section 17.1).

use indexmap::IndexMap;
use kyanite_eval::atomic::{Atomic, AtomicKey, AtomicType};

use super::{
    Call, Function, Library, Occurs, Outcome, What, atomic, callback, failed, function, items,
    one_map, takes,
};
use crate::error::Error;
use crate::value::{Item, Sequence, array_of, map_of};

const KEY: super::Parameter = atomic("key", AtomicType::Any, Occurs::One);

pub(super) const TABLE: &[Function] = &[
    function("merge", &[takes("maps", What::Map, Occurs::Any), one_map("options")], 1, merge)
        .within(Library::Map),
    function("size", &[one_map("map")], 1, |call| Ok(Sequence::count(entries(call)?.len())))
        .within(Library::Map),
    function("keys", &[one_map("map")], 1, |call| {
        Ok(entries(call)?.into_iter().map(|(key, _)| Item::Atomic(key)).collect())
    })
    .plural()
    .within(Library::Map),
    function("contains", &[one_map("map"), KEY], 2, |call| {
        Ok(Sequence::boolean(call.item(0)?.entry(&key(call, 1)?).is_some()))
    })
    .boolean()
    .within(Library::Map),
    function("get", &[one_map("map"), KEY], 2, |call| {
        Ok(call.item(0)?.entry(&key(call, 1)?).unwrap_or_default())
    })
    .plural()
    .within(Library::Map),
    function("find", &[items("items"), KEY], 2, |call| {
        let key = key(call, 1)?;
        let mut found = Vec::new();
        find(call.argument(0), &key, &mut found);
        Ok(Sequence::One(array_of(found)))
    })
    .within(Library::Map),
    function("put", &[one_map("map"), KEY, items("value")], 3, |call| {
        let mut all = entries(call)?;
        all.push((key(call, 1)?, call.argument(2).clone()));
        Ok(Sequence::One(map_of(all)))
    })
    .within(Library::Map),
    function("entry", &[KEY, items("value")], 2, |call| {
        Ok(Sequence::One(map_of([(key(call, 0)?, call.argument(1).clone())])))
    })
    .within(Library::Map),
    function(
        "remove",
        &[one_map("map"), atomic("keys", AtomicType::Any, Occurs::Any)],
        2,
        |call| {
            let gone: Vec<AtomicKey> = call
                .argument(1)
                .items()
                .iter()
                .filter_map(Item::as_atomic)
                .map(|k| AtomicKey::of(&k))
                .collect();
            let kept =
                entries(call)?.into_iter().filter(|(key, _)| !gone.contains(&AtomicKey::of(key)));
            Ok(Sequence::One(map_of(kept)))
        },
    )
    .within(Library::Map),
    function("for-each", &[one_map("map"), callback("action")], 2, |call| {
        let mut all = Vec::new();
        for (key, value) in entries(call)? {
            all.extend(call.apply(1, vec![Sequence::atomic(key), value])?.into_items());
        }
        Ok(Sequence::of(all))
    })
    .plural()
    .within(Library::Map),
];

type Entries<'d> = Vec<(Atomic<'d>, Sequence<'d>)>;

fn entries<'d>(call: &Call<'_, '_, 'd>) -> Result<Entries<'d>, Error> {
    Ok(call.item(0)?.entries().unwrap_or_default())
}

fn key<'d>(call: &Call<'_, '_, 'd>, at: usize) -> Result<Atomic<'d>, Error> {
    call.atomic(at).ok_or_else(|| failed("XPTY0004", "the key is empty"))
}

fn merge<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let options = call.argument(1).first();
    let duplicates = match options.and_then(|o| o.entry(&Atomic::string("duplicates"))) {
        None => "use-first".to_owned(),
        Some(value) => {
            value.first().and_then(Item::as_atomic).map_or_else(String::new, |a| a.to_string())
        }
    };
    if !matches!(&*duplicates, "use-first" | "use-last" | "use-any" | "combine" | "reject") {
        let message =
            format!("{duplicates:?} does not say what becomes of keys that are there twice");
        return Err(failed("FOJS0005", message)
            .advise("there are use-first, use-last, use-any, combine and reject"));
    }
    let mut all: IndexMap<AtomicKey, (Atomic<'d>, Sequence<'d>)> = IndexMap::new();
    for map in call.argument(0).items() {
        for (key, value) in map.entries().unwrap_or_default() {
            let id = AtomicKey::of(&key);
            let Some((_, known)) = all.get_mut(&id) else {
                all.insert(id, (key, value));
                continue;
            };
            match duplicates.as_str() {
                "use-last" => *known = value,
                "combine" => {
                    let mut items = std::mem::take(known).into_items();
                    items.extend(value.into_items());
                    *known = Sequence::of(items);
                }
                "reject" => {
                    return Err(failed("FOJS0003", format!("the key {key} is in several maps")));
                }
                _ => {}
            }
        }
    }
    Ok(Sequence::One(Item::Map(std::rc::Rc::new(all))))
}

/// Adds what maps at any depth have at a key.
fn find<'d>(value: &Sequence<'d>, key: &Atomic<'d>, found: &mut Vec<Sequence<'d>>) {
    for item in value.items() {
        if let Some(entries) = item.entries() {
            found.extend(item.entry(key));
            entries.iter().for_each(|(_, value)| find(value, key, found));
        }
        for member in item.members().unwrap_or_default() {
            find(&member, key, found);
        }
    }
}
