//! Keywords of JSON Schema against a model that follows the words of draft 2020-12 one by one, over values that are held.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that fails may panic")]

use kyanite_formats::json::{self as format, EventReader};
use kyanite_formats::records::Structure;
use kyanite_schema::SampleSettings;
use kyanite_schema::json::{Document, Schema, Settings};
use kyanite_tree::Arena;
use proptest::prelude::*;
use serde_json::{Map, Value as Json, json};

fn is_of_type(name: &str, value: &Json) -> bool {
    match name {
        "null" => value.is_null(),
        "boolean" => value.is_boolean(),
        "number" => value.is_number(),
        "integer" => value.as_f64().is_some_and(|number| number.fract() == 0.0),
        "string" => value.is_string(),
        "array" => value.is_array(),
        _ => value.is_object(),
    }
}

/// Values are equal mathematically: 1 is 1.0.
fn is_equal(a: &Json, b: &Json) -> bool {
    match (a, b) {
        (Json::Number(a), Json::Number(b)) => a.as_f64() == b.as_f64(),
        (Json::Array(a), Json::Array(b)) => {
            a.len() == b.len() && a.iter().zip(b).all(|(a, b)| is_equal(a, b))
        }
        (Json::Object(a), Json::Object(b)) => {
            a.len() == b.len()
                && a.iter().all(|(name, a)| b.get(name).is_some_and(|b| is_equal(a, b)))
        }
        _ => a == b,
    }
}

/// Whether a value is valid.
fn is_valid(schema: &Json, value: &Json) -> bool {
    let Json::Object(keywords) = schema else { return schema == &json!(true) };
    keywords.iter().all(|(keyword, said)| holds(keywords, keyword, said, value))
}

/// Whether one keyword holds; those that belong to another hold by themselves.
fn holds(keywords: &Map<String, Json>, keyword: &str, said: &Json, value: &Json) -> bool {
    let all = || said.as_array().unwrap();
    let how_many = || said.as_u64().unwrap() as usize;
    let bound = || said.as_f64().unwrap();
    let number = |holds: &dyn Fn(f64) -> bool| value.as_f64().is_none_or(holds);
    let text =
        |holds: &dyn Fn(usize) -> bool| value.as_str().is_none_or(|t| holds(t.chars().count()));
    let list = |holds: &dyn Fn(&[Json]) -> bool| value.as_array().is_none_or(|items| holds(items));
    let map = |holds: &dyn Fn(&Map<String, Json>) -> bool| value.as_object().is_none_or(holds);
    let known =
        |name: &str| keywords.get("properties").is_some_and(|known| known.get(name).is_some());
    match keyword {
        "type" => match said {
            Json::Array(types) => {
                types.iter().any(|name| is_of_type(name.as_str().unwrap(), value))
            }
            name => is_of_type(name.as_str().unwrap(), value),
        },
        "enum" => all().iter().any(|one| is_equal(one, value)),
        "const" => is_equal(said, value),
        "minimum" => number(&|n| n >= bound()),
        "maximum" => number(&|n| n <= bound()),
        "exclusiveMinimum" => number(&|n| n > bound()),
        "exclusiveMaximum" => number(&|n| n < bound()),
        "multipleOf" => number(&|n| (n / bound()).fract() == 0.0),
        "minLength" => text(&|length| length >= how_many()),
        "maxLength" => text(&|length| length <= how_many()),
        "minItems" => list(&|items| items.len() >= how_many()),
        "maxItems" => list(&|items| items.len() <= how_many()),
        "uniqueItems" => list(&|items| {
            said == &json!(false)
                || (0..items.len()).all(|a| !items[..a].iter().any(|b| is_equal(&items[a], b)))
        }),
        "prefixItems" => list(&|items| all().iter().zip(items).all(|(s, item)| is_valid(s, item))),
        "items" => list(&|items| {
            let before = keywords.get("prefixItems").map_or(0, |all| all.as_array().unwrap().len());
            items.iter().skip(before).all(|item| is_valid(said, item))
        }),
        "contains" => list(&|items| {
            let count = items.iter().filter(|item| is_valid(said, item)).count();
            let limit = |name: &str, usual| {
                keywords.get(name).map_or(usual, |limit| limit.as_u64().unwrap() as usize)
            };
            (limit("minContains", 1)..=limit("maxContains", usize::MAX)).contains(&count)
        }),
        "required" => map(&|map| all().iter().all(|name| map.contains_key(name.as_str().unwrap()))),
        "minProperties" => map(&|map| map.len() >= how_many()),
        "maxProperties" => map(&|map| map.len() <= how_many()),
        "properties" => map(&|map| {
            said.as_object()
                .unwrap()
                .iter()
                .all(|(name, s)| map.get(name).is_none_or(|v| is_valid(s, v)))
        }),
        "additionalProperties" => {
            map(&|map| map.iter().all(|(name, v)| known(name) || is_valid(said, v)))
        }
        "propertyNames" => map(&|map| map.keys().all(|name| is_valid(said, &json!(name)))),
        "dependentRequired" => map(&|map| {
            said.as_object().unwrap().iter().filter(|(name, _)| map.contains_key(*name)).all(
                |(_, needed)| {
                    needed.as_array().unwrap().iter().all(|n| map.contains_key(n.as_str().unwrap()))
                },
            )
        }),
        "dependentSchemas" => map(&|map| {
            let asked =
                said.as_object().unwrap().iter().filter(|(name, _)| map.contains_key(*name));
            asked.into_iter().all(|(_, s)| is_valid(s, value))
        }),
        "allOf" => all().iter().all(|s| is_valid(s, value)),
        "anyOf" => all().iter().any(|s| is_valid(s, value)),
        "oneOf" => all().iter().filter(|s| is_valid(s, value)).count() == 1,
        "not" => !is_valid(said, value),
        "if" => {
            let branch = if is_valid(said, value) { "then" } else { "else" };
            keywords.get(branch).is_none_or(|s| is_valid(s, value))
        }
        "then" | "else" | "minContains" | "maxContains" => true,
        other => panic!("{other}"),
    }
}

const NAMES: [&str; 4] = ["a", "b", "vessel", ""];

fn instance() -> impl Strategy<Value = Json> {
    let leaf = prop_oneof![
        1 => Just(Json::Null),
        1 => any::<bool>().prop_map(Json::from),
        2 => (-2..4_i64).prop_map(Json::from),
        1 => prop::sample::select(&[0.5, 1.0, 1.5, -2.0][..]).prop_map(Json::from),
        1 => prop::sample::select(&["", "a", "é🚢", "vessel"][..]).prop_map(Json::from),
    ];
    leaf.prop_recursive(3, 16, 4, |inner| {
        let name = prop::sample::select(&NAMES[..]).prop_map(str::to_owned);
        prop_oneof![
            prop::collection::vec(inner.clone(), 0..4).prop_map(Json::from),
            prop::collection::btree_map(name, inner, 0..4)
                .prop_map(|map| map.into_iter().collect()),
        ]
    })
}

fn keyword(inner: BoxedStrategy<Json>) -> BoxedStrategy<Vec<(&'static str, Json)>> {
    let one = |name: &'static str, value: BoxedStrategy<Json>| {
        value.prop_map(move |value| vec![(name, value)]).boxed()
    };
    let count = || (0..4_u64).prop_map(Json::from).boxed();
    let limit =
        || prop::sample::select(&[-1.0, 0.0, 0.5, 1.0, 2.0][..]).prop_map(Json::from).boxed();
    let name = || prop::sample::select(&NAMES[..]).prop_map(str::to_owned);
    let names = || prop::collection::btree_set(name(), 0..3).prop_map(|all| json!(all)).boxed();
    let types = ["null", "boolean", "number", "integer", "string", "array", "object"];
    let of_type = prop::sample::select(types.to_vec());
    let several =
        prop::sample::subsequence(types.to_vec(), 1..3).prop_map(|all| json!(all)).boxed();
    let schemas = || prop::collection::vec(inner.clone(), 1..3).prop_map(Json::from).boxed();
    let named = |inner: BoxedStrategy<Json>| {
        prop::collection::btree_map(name(), inner, 0..3)
            .prop_map(|map| map.into_iter().collect::<Json>())
            .boxed()
    };
    let sizes =
        ["minLength", "maxLength", "minItems", "maxItems", "minProperties", "maxProperties"];
    let bounds = ["minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum"];
    let contains = (inner.clone(), prop::option::of(0..3_u64), prop::option::of(1..3_u64))
        .prop_map(|(schema, least, most)| {
            let least = least.map(|least| ("minContains", json!(least)));
            let most = most.map(|most| ("maxContains", json!(most)));
            [Some(("contains", schema)), least, most].into_iter().flatten().collect()
        });
    let condition =
        (inner.clone(), prop::option::of(inner.clone()), prop::option::of(inner.clone())).prop_map(
            |(test, then, otherwise)| {
                let then = then.map(|then| ("then", then));
                let otherwise = otherwise.map(|otherwise| ("else", otherwise));
                [Some(("if", test)), then, otherwise].into_iter().flatten().collect()
            },
        );
    let listed = prop::collection::vec(instance(), 1..3).prop_map(Json::from).boxed();
    let strategies: Vec<BoxedStrategy<Vec<(&'static str, Json)>>> = vec![
        one("type", of_type.prop_map(Json::from).boxed()),
        one("type", several),
        one("enum", listed),
        one("const", instance().boxed()),
        one("multipleOf", prop::sample::select(&[0.5, 1.0, 2.0][..]).prop_map(Json::from).boxed()),
        (prop::sample::select(sizes.to_vec()), count()).prop_map(|(n, v)| vec![(n, v)]).boxed(),
        one("uniqueItems", any::<bool>().prop_map(Json::from).boxed()),
        one("prefixItems", schemas()),
        one("items", inner.clone()),
        contains.boxed(),
        one("required", names()),
        one("properties", named(inner.clone())),
        one("properties", named(inner.clone())),
        one("additionalProperties", inner.clone()),
        one("propertyNames", inner.clone()),
        one("dependentRequired", named(names())),
        one("dependentSchemas", named(inner.clone())),
        one("allOf", schemas()),
        one("anyOf", schemas()),
        one("oneOf", schemas()),
        one("not", inner.clone()),
        condition.boxed(),
    ];
    // Values hit a bound seldom enough.
    let bound = (prop::sample::select(bounds.to_vec()), limit()).prop_map(|(n, v)| vec![(n, v)]);
    prop_oneof![1 => bound, 5 => prop::strategy::Union::new(strategies)].boxed()
}

fn schema() -> BoxedStrategy<Json> {
    let leaf = prop_oneof![
        3 => Just(json!({})),
        1 => any::<bool>().prop_map(Json::from),
    ];
    leaf.prop_recursive(3, 20, 3, |inner| {
        prop::collection::vec(keyword(inner.boxed()), 0..4).prop_map(|keywords| {
            let all = keywords.into_iter().flatten();
            all.map(|(name, value)| (name.to_owned(), value)).collect()
        })
    })
    .boxed()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1500))]

    /// Held values are judged as by the model, with and without findings; what is accepted by its events is valid.
    #[test]
    fn keywords_hold_as_in_the_model(schema in schema(), instances in prop::collection::vec(instance(), 6)) {
        let arena = Arena::new();
        let read = |text: String| {
            format::document(arena.text(&text), &arena, format::ReaderOptions::default()).unwrap().0
        };
        let document = Document { uri: "file:///s.json".into(), value: read(schema.to_string()) };
        let compiled = Schema::compile(document, &[], Settings::default());
        let compiled = compiled.unwrap_or_else(|problems| panic!("{schema}: {}", problems[0].message));
        // What is made up is valid.
        for seed in 0..3 {
            let settings = SampleSettings { seed, is_minimal: seed == 0, root: None };
            if let Some(sample) = compiled.sample(settings, &arena) {
                let sample: Json = serde_json::from_str(&format::compact(sample)).unwrap();
                prop_assert!(is_valid(&schema, &sample), "{} by {}", sample, schema);
            }
        }
        for instance in &instances {
            let (text, expected) = (instance.to_string(), is_valid(&schema, instance));
            let value = read(text.clone());
            prop_assert_eq!(compiled.is_valid(value), expected, "{} by {}", text, schema);
            prop_assert_eq!(compiled.validate(value).is_empty(), expected, "{} by {}", text, schema);
            let structure = Structure::of(text.as_bytes());
            let accepted = EventReader::new(&text, &structure)
                .zip(compiled.accepting())
                .is_some_and(|(mut events, mut accepting)| accepting.accepts(&mut events));
            prop_assert!(expected || !accepted, "{} by {}", text, schema);
        }
    }
}
