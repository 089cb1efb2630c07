//! Functions of maps.

use kyanite_tree::{MapBuilder, Origin, Value};

use super::{Call, Outcome, ParameterTypes, Run, Signature, takes};
use crate::types::Type;

pub(super) const TABLE: &[Signature] = &[
    Signature {
        name: "keys",
        parameters: &[takes("map", ParameterTypes::MAP)],
        required: 1,
        repeats: false,
        result: Type::List,
        summary: "The names of a map's members, in order.",
        example: ("keys({a: 1, b: 2})", "[\"a\",\"b\"]"),
        run: Run::Values(|call| {
            let names: Vec<_> = members(call, 0).map(|(name, _)| Value::text(name)).collect();
            Ok(Some(call.arena.list(&names)))
        }),
    },
    Signature {
        name: "values",
        parameters: &[takes("map", ParameterTypes::MAP)],
        required: 1,
        repeats: false,
        result: Type::List,
        summary: "The values of a map's members, in order.",
        example: ("values({a: 1, b: 2})", "[1,2]"),
        run: Run::Values(|call| {
            let values: Vec<_> = members(call, 0).map(|(_, value)| value).collect();
            Ok(Some(call.arena.list(&values)))
        }),
    },
    Signature {
        name: "only",
        parameters: &[takes("map", ParameterTypes::MAP), takes("name", ParameterTypes::TEXT)],
        required: 2,
        repeats: true,
        result: Type::Map,
        summary: "The map with only these members, in the map's order.",
        example: ("only({a: 1, b: 2, c: 3}, \"c\", \"a\")", "{\"a\":1,\"c\":3}"),
        run: Run::Values(|call| with_members(call, "only", |call, name| is_named(call, name))),
    },
    Signature {
        name: "without",
        parameters: &[takes("map", ParameterTypes::MAP), takes("name", ParameterTypes::TEXT)],
        required: 2,
        repeats: true,
        result: Type::Map,
        summary: "The map without these members.",
        example: ("without({a: 1, b: 2}, \"a\")", "{\"b\":2}"),
        run: Run::Values(|call| with_members(call, "without", |call, name| !is_named(call, name))),
    },
    Signature {
        name: "merge",
        parameters: &[takes("map", ParameterTypes::MAP)],
        required: 1,
        repeats: true,
        result: Type::Map,
        summary: "The members of all the maps; of one name the last value, in the place of the first.",
        example: ("merge({a: 1, b: 2}, {a: 3})", "{\"a\":3,\"b\":2}"),
        run: Run::Values(|call| {
            let all = (0..call.arguments.len()).flat_map(|position| members(call, position));
            Ok(Some(call.arena.map(all)))
        }),
    },
];

fn members<'a>(
    call: &Call<'_, 'a>,
    position: usize,
) -> impl Iterator<Item = (&'a str, Value<'a>)> + use<'a> {
    let map = call.argument(position).and_then(Value::as_map);
    let members = map.map(|map| map.members()).unwrap_or_default();
    members.iter().map(|member| (member.name, member.value))
}

fn is_named(call: &Call<'_, '_>, name: &str) -> bool {
    (1..call.arguments.len()).any(|position| call.text(position) == name)
}

fn with_members<'a>(
    call: &Call<'_, 'a>,
    function: &'static str,
    keep: fn(&Call<'_, 'a>, &str) -> bool,
) -> Outcome<'a> {
    if let Some(map) = call.argument(0).and_then(Value::as_map) {
        let mut names = (1..call.arguments.len()).map(|position| call.text(position));
        call.remarks.named(call.span, function, &mut names, map);
    }
    let mut builder = MapBuilder::new();
    for (name, value) in members(call, 0).filter(|(name, _)| keep(call, name)) {
        builder.insert(name, value);
    }
    let origin = call.argument(0).map_or(Origin::NONE, Value::origin);
    Ok(Some(Value::Map(origin, builder.finish(call.arena))))
}
