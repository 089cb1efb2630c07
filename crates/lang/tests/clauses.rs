//! Clauses against a model: a tuple stream is a list of maps, and each clause a function over the whole list.
#![allow(clippy::unwrap_used, clippy::panic, reason = "tests say what is wrong by panicking")]

mod support;

use std::cmp::Ordering;
use std::collections::{BTreeMap, VecDeque};

use kyanite_formats::json::{Origins, ReaderOptions};
use kyanite_lang::{RuleText, Syntax, compile};
use kyanite_tree::Base;
use proptest::prelude::*;
use serde_json::{Value as Json, json};
use support::results;

/// The values of the names that are bound; a name whose value is nothing is not there.
type Tuple = BTreeMap<&'static str, Json>;

/// A clause, as the rule has it and as the model does.
#[derive(Clone, Debug)]
enum Clause {
    /// `for x in r.w[*]`
    Unnest,
    /// `for q in $.ports[*] where q.k == r.k`
    Join,
    WhereOver(i64),
    WhereThere,
    WhereX(i64),
    Let(i64),
    OrderBy {
        key: &'static str,
        descending: bool,
    },
    Skip(usize),
    First(usize),
    Carry,
    Window(usize, usize),
    Group,
    /// `where count(r[*]) >= n`, of groups and windows.
    WhereMany(usize),
}

impl Clause {
    fn rule(&self) -> String {
        match self {
            Self::Unnest => "for x in r.w[*]".into(),
            Self::Join => "for q in $.ports[*] where q.k == r.k".into(),
            Self::WhereOver(least) => format!("where r.v >= {least}"),
            Self::WhereThere => "where exists(r.k)".into(),
            Self::WhereX(other) => format!("where x != {other}"),
            Self::Let(number) => format!("let y = (r.v ?? 0) * {number} + 1"),
            Self::OrderBy { key, descending } => {
                format!("order by {key}{}", if *descending { " descending" } else { "" })
            }
            Self::Skip(count) => format!("skip {count}"),
            Self::First(count) => format!("first {count}"),
            Self::Carry => "carry total from 0 = total + (r.v ?? 100)".into(),
            Self::Window(size, step) => format!("window {size} step {step}"),
            Self::Group => "group by g = r.k".into(),
            Self::WhereMany(count) => format!("where count(r[*]) >= {count}"),
        }
    }

    fn run(&self, tuples: Vec<Tuple>, ports: &[Json]) -> Vec<Tuple> {
        let v = |tuple: &Tuple| tuple["r"].get("v").and_then(Json::as_i64);
        let each = |tuples: Vec<Tuple>, name: &'static str, items: &dyn Fn(&Tuple) -> Vec<Json>| {
            let bound = tuples.into_iter().flat_map(|tuple| {
                let with = |item| {
                    let mut tuple = tuple.clone();
                    tuple.insert(name, item);
                    tuple
                };
                items(&tuple).into_iter().map(with).collect::<Vec<_>>()
            });
            bound.collect()
        };
        let kept = |mut tuples: Vec<Tuple>, holds: &dyn Fn(&Tuple) -> bool| {
            tuples.retain(|tuple| holds(tuple));
            tuples
        };
        match self {
            Self::Unnest => each(tuples, "x", &|tuple| tuple["r"]["w"].as_array().unwrap().clone()),
            Self::Join => each(tuples, "q", &|tuple| {
                let fits = |port: &&Json| tuple["r"].get("k").is_some_and(|k| *k == port["k"]);
                ports.iter().filter(fits).cloned().collect()
            }),
            Self::WhereOver(least) => {
                kept(tuples, &|tuple| v(tuple).is_some_and(|number| number >= *least))
            }
            Self::WhereThere => kept(tuples, &|tuple| tuple["r"].get("k").is_some()),
            Self::WhereX(other) => kept(tuples, &|tuple| tuple["x"] != json!(other)),
            Self::WhereMany(count) => {
                kept(tuples, &|tuple| tuple["r"].as_array().unwrap().len() >= *count)
            }
            Self::Let(number) => {
                each(tuples, "y", &|tuple| vec![json!(v(tuple).unwrap_or(0) * number + 1)])
            }
            Self::OrderBy { key, descending } => {
                let mut tuples = tuples;
                tuples.sort_by(|a, b| by_key(key_of(key, a), key_of(key, b), *descending));
                tuples
            }
            Self::Skip(count) => tuples.into_iter().skip(*count).collect(),
            Self::First(count) => tuples.into_iter().take(*count).collect(),
            Self::Carry => {
                let mut total = 0;
                let carried = tuples.into_iter().map(|mut tuple| {
                    total += v(&tuple).unwrap_or(100);
                    tuple.insert("total", json!(total));
                    tuple
                });
                carried.collect()
            }
            Self::Window(size, step) => {
                let (mut waiting, mut windows, mut skip) = (VecDeque::new(), Vec::new(), 0);
                for tuple in tuples {
                    if skip > 0 {
                        skip -= 1;
                        continue;
                    }
                    waiting.push_back(tuple);
                    if waiting.len() == *size {
                        windows.push(lists(waiting.make_contiguous()));
                        waiting.drain(..(*step).min(*size));
                        skip = step.saturating_sub(*size);
                    }
                }
                windows
            }
            Self::Group => {
                let mut groups: Vec<(Option<Json>, Vec<Tuple>)> = Vec::new();
                for tuple in tuples {
                    let key = tuple["r"].get("k").cloned();
                    match groups.iter_mut().find(|(known, _)| *known == key) {
                        Some((_, group)) => group.push(tuple),
                        None => groups.push((key, vec![tuple])),
                    }
                }
                let bound = groups.into_iter().map(|(key, group)| {
                    let mut tuple = lists(&group);
                    key.map(|key| tuple.insert("g", key));
                    tuple
                });
                bound.collect()
            }
        }
    }
}

/// Each name with the list of its values.
fn lists(tuples: &[Tuple]) -> Tuple {
    let names = tuples.iter().flat_map(Tuple::keys).copied();
    let of = |name| tuples.iter().filter_map(|tuple| tuple.get(name).cloned()).collect();
    names.map(|name| (name, Json::Array(of(name)))).collect()
}

fn key_of(key: &str, tuple: &Tuple) -> Option<Json> {
    match key {
        "r.v" => tuple["r"].get("v").cloned(),
        "r.id" => tuple["r"].get("id").cloned(),
        "count(r[*])" => Some(json!(tuple["r"].as_array().unwrap().len())),
        "r[0].id" => Some(tuple["r"][0]["id"].clone()),
        other => tuple.get(other).cloned(),
    }
}

/// Nothing comes last, in either direction.
fn by_key(a: Option<Json>, b: Option<Json>, descending: bool) -> Ordering {
    let number = |key: Option<Json>| key.and_then(|key| key.as_i64());
    match (number(a), number(b)) {
        (Some(a), Some(b)) if descending => b.cmp(&a),
        (Some(a), Some(b)) => a.cmp(&b),
        (a, b) => a.is_none().cmp(&b.is_none()),
    }
}

/// Clauses that fit together, and what is returned behind them.
fn clauses() -> impl Strategy<Value = Vec<Clause>> {
    let step = (0_u8..11, 0_i64..4, any::<bool>());
    prop::collection::vec(step, 0..7).prop_map(|steps| {
        let (mut clauses, mut is_list) = (Vec::new(), false);
        let mut names: Vec<&'static str> = Vec::new();
        for (what, number, flag) in steps {
            let count = number as usize;
            let clause = match (what, is_list) {
                (0, false) if !names.contains(&"x") => {
                    names.push("x");
                    Clause::Unnest
                }
                (0, false) => Clause::WhereX(number),
                (1, false) => Clause::WhereOver(number),
                (2, false) => Clause::WhereThere,
                (3, false) if !names.contains(&"y") => {
                    names.push("y");
                    Clause::Let(number)
                }
                (4, false) => {
                    let key = if flag { "r.v" } else { "r.id" };
                    Clause::OrderBy { key, descending: number > 1 }
                }
                (5, _) => Clause::Skip(count),
                (6, _) => Clause::First(count + 3),
                (7, false) if !names.contains(&"total") => {
                    names.push("total");
                    Clause::Carry
                }
                (8, false) => {
                    is_list = true;
                    Clause::Window(1 + count, 1 + usize::from(flag) * 2)
                }
                (9, false) => {
                    is_list = true;
                    Clause::Group
                }
                (10, false) if !names.contains(&"q") => {
                    names.push("q");
                    Clause::Join
                }
                (1..=3, true) => Clause::WhereMany(count),
                (4, true) => {
                    let key = if flag { "count(r[*])" } else { "r[0].id" };
                    Clause::OrderBy { key, descending: number > 1 }
                }
                _ => continue,
            };
            clauses.push(clause);
        }
        clauses
    })
}

/// What is returned of each tuple: all that is bound.
fn returned(clauses: &[Clause]) -> (String, bool) {
    let has = |wanted: fn(&Clause) -> bool| clauses.iter().any(wanted);
    let mut members = Vec::new();
    for (name, is_bound) in [
        ("x", has(|clause| matches!(clause, Clause::Unnest))),
        ("y", has(|clause| matches!(clause, Clause::Let(_)))),
        ("total", has(|clause| matches!(clause, Clause::Carry))),
        ("q", has(|clause| matches!(clause, Clause::Join))),
        ("g", has(|clause| matches!(clause, Clause::Group))),
    ] {
        if is_bound {
            members.push(name.to_owned());
        }
    }
    let is_list = has(|clause| matches!(clause, Clause::Group | Clause::Window(..)));
    match is_list {
        true => members
            .extend(["n: count(r[*])", "s: sum(r[*].v)", "ids: [...r[*].id]"].map(str::to_owned)),
        false => members.push("id: r.id".to_owned()),
    }
    (format!("return {{{}}}", members.join(", ")), is_list)
}

fn modelled(tuple: &Tuple, is_list: bool) -> Json {
    let mut map = serde_json::Map::new();
    for name in ["x", "y", "total", "q", "g"] {
        if let Some(value) = tuple.get(name) {
            map.insert(name.to_owned(), value.clone());
        }
    }
    if !is_list {
        map.insert("id".to_owned(), tuple["r"]["id"].clone());
        return Json::Object(map);
    }
    let records = tuple["r"].as_array().unwrap();
    let ids: Vec<_> = records.iter().map(|record| record["id"].clone()).collect();
    let sum: i64 = records.iter().filter_map(|record| record.get("v")?.as_i64()).sum();
    map.insert("n".to_owned(), json!(records.len()));
    map.insert("s".to_owned(), json!(sum));
    map.insert("ids".to_owned(), Json::Array(ids));
    Json::Object(map)
}

fn records() -> impl Strategy<Value = Vec<Json>> {
    let key = prop_oneof![
        2 => Just(None),
        3 => (0..3_i64).prop_map(|key| Some(json!(key))),
        3 => prop::sample::select(&["ness", "holm", "1"][..]).prop_map(|key| Some(json!(key))),
        1 => Just(Some(json!(true))),
    ];
    let record = (key, prop::option::of(-2..6_i64), prop::collection::vec(0..4_i64, 0..4));
    prop::collection::vec(record, 0..9).prop_map(|records| {
        let numbered = records.into_iter().enumerate().map(|(id, (k, v, w))| {
            let mut record = json!({"id": id, "w": w});
            if let Some(k) = k {
                record["k"] = k;
            }
            if let Some(v) = v {
                record["v"] = json!(v);
            }
            record
        });
        numbered.collect()
    })
}

fn run(rule: &str, root: &Json) -> Vec<Json> {
    let plan = compile(RuleText::new("rule", rule), Syntax::Rule)
        .unwrap_or_else(|(_, findings)| panic!("{rule}: {findings:?}"));
    let options =
        ReaderOptions { origins: Origins::Text(Base::default()), ..ReaderOptions::default() };
    let found = results(&plan, root, options).unwrap_or_else(|message| panic!("{rule}: {message}"));
    found.into_iter().map(|(_, value)| value).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1500))]

    #[test]
    fn clauses_are_functions_over_tuples(
        records in records(),
        ports in prop::collection::vec(prop_oneof![Just(json!("ness")), Just(json!(1)), Just(json!("1"))], 0..4),
        clauses in clauses(),
    ) {
        let ports: Vec<_> = ports.into_iter().map(|k| json!({"k": k})).collect();
        let (result, is_list) = returned(&clauses);
        let written: Vec<_> = clauses.iter().map(Clause::rule).collect();
        let rule = format!("for r in $.records[*]\n{}\n{result}", written.join("\n"));
        let tuples = records.iter().map(|record| Tuple::from([("r", record.clone())])).collect();
        let tuples = clauses.iter().fold(tuples, |tuples, clause| clause.run(tuples, &ports));
        let expected: Vec<_> = tuples.iter().map(|tuple| modelled(tuple, is_list)).collect();
        let root = json!({"records": records, "ports": ports});
        prop_assert_eq!(run(&rule, &root), expected, "{} of {}", rule, root);
    }
}
