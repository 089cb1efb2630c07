//! A wanted output that was made up, with values of an input that was made up as well: only names can tell what belongs together.

use std::collections::HashMap;

use kyanite_tree::{Arena, Kind, Map, MapBuilder, Value};

/// A scalar of the input, with the name of the map that it is a member of.
struct Scalar<'a> {
    parent: String,
    value: Value<'a>,
}

/// `wanted` with the values that members of the same name have in `input`; of several those in a map of the same name. Names are the
/// same whatever their case, with or without `@`, `_` and `-`.
#[must_use]
pub fn alike<'a>(input: Value<'a>, wanted: Value<'a>, arena: &'a Arena) -> Value<'a> {
    let mut known = HashMap::new();
    collect(input, "", "", &mut known);
    with_values(wanted, ("", ""), &known, arena)
}

fn plain(name: &str) -> String {
    let kept = name.chars().filter(|sign| !matches!(sign, '@' | '_' | '-' | ' '));
    kept.flat_map(char::to_lowercase).collect()
}

/// The name that a member goes by: text beside attributes is that of its element.
fn named<'n>(name: &'n str, parent: &'n str) -> &'n str {
    if name == "#text" { parent } else { name }
}

fn collect<'a>(
    value: Value<'a>,
    name: &str,
    parent: &str,
    known: &mut HashMap<String, Vec<Scalar<'a>>>,
) {
    match value {
        Value::Map(_, map) => members(map, |inner, value| {
            let own = named(inner, name);
            collect(value, own, if inner == "#text" { parent } else { name }, known);
        }),
        Value::List(_, items) => items.iter().for_each(|item| collect(*item, name, parent, known)),
        scalar => {
            let scalar = Scalar { parent: plain(parent), value: scalar };
            known.entry(plain(name)).or_default().push(scalar);
        }
    }
}

fn members<'a>(map: &Map<'a>, mut visit: impl FnMut(&'a str, Value<'a>)) {
    map.members().iter().for_each(|member| visit(member.name, member.value));
}

fn with_values<'a>(
    value: Value<'a>,
    (name, parent): (&str, &str),
    known: &HashMap<String, Vec<Scalar<'a>>>,
    arena: &'a Arena,
) -> Value<'a> {
    match value {
        Value::Map(origin, map) => {
            let mut made = MapBuilder::new();
            members(map, |inner, value| {
                let own = named(inner, name);
                let around = if inner == "#text" { parent } else { name };
                made.insert(inner, with_values(value, (own, around), known, arena));
            });
            Value::Map(origin, made.finish(arena))
        }
        Value::List(origin, items) => {
            let items: Vec<Value<'a>> =
                items.iter().map(|item| with_values(*item, (name, parent), known, arena)).collect();
            Value::List(origin, arena.items(&items))
        }
        scalar => {
            let all = known.get(&plain(name)).map(Vec::as_slice).unwrap_or_default();
            let fits = |one: &&Scalar<'a>| may_be(one.value.kind(), scalar.kind());
            let same = all.iter().filter(fits).find(|one| one.parent == plain(parent));
            let found = same.or_else(|| all.iter().find(fits)).map(|one| one.value);
            // Values that are the same by chance would be taken for each other.
            found.unwrap_or_else(|| Value::text(arena.concat(&["a value for ", name])))
        }
    }
}

/// Whether a value of one kind may stand for one of another: texts may hold numbers.
fn may_be(own: Kind, wanted: Kind) -> bool {
    own == wanted || own == Kind::Text || wanted == Kind::Text
}
