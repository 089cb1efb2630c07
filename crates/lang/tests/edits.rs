//! Edits against a model: the nodes of a path are found by the path itself, and changed one by one in another tree.
#![allow(clippy::unwrap_used, clippy::panic, reason = "tests say what is wrong by panicking")]

use kyanite_formats::json::{self, Origins, ReaderOptions, Style};
use kyanite_formats::losses::Losses;
use kyanite_formats::xml;
use kyanite_lang::{Arguments, Flow, RuleText, Runner, Session, Syntax, compile};
use kyanite_tree::{Arena, Base, Step, Value, locate};
use proptest::prelude::*;
use serde_json::Value as Json;

/// Runs a rule over a value; hands on each result.
fn run<'a>(
    rule: &str,
    root: Value<'a>,
    arena: &'a Arena,
    mut take: impl FnMut(Value<'_>),
) -> Result<(), String> {
    let plan = compile(RuleText::new("rule", rule), Syntax::Rule).map_err(|(_, findings)| {
        findings.iter().map(|finding| finding.message().to_owned()).collect::<Vec<_>>().join("; ")
    })?;
    let arguments = Arguments::read(&plan, &[], arena).unwrap();
    let mut session = Session::new(&plan);
    let mut runner = Runner::new(&plan, &arguments, Some(root), arena, &mut session).unwrap();
    let ran = runner.document(&mut |value| {
        value.into_iter().for_each(&mut take);
        Flow::Continue(())
    });
    ran.map(drop).map_err(|failure| failure.message().to_owned())
}

fn edited(rule: &str, text: &str) -> Result<String, String> {
    let arena = Arena::new();
    let options =
        ReaderOptions { origins: Origins::Text(Base::default()), ..ReaderOptions::default() };
    let (root, _) = json::document(text, &arena, options).unwrap();
    let mut out = Vec::new();
    run(rule, root, &arena, |value| json::write(value, Style::Compact, &mut out))?;
    Ok(String::from_utf8(out).unwrap())
}

/// A step to a child, in the order in which the places of one parent are changed.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
enum To {
    Name(String),
    Index(usize),
}

/// The places of the nodes that a path selects, each once.
fn nodes(path: &str, text: &str) -> Vec<Vec<To>> {
    let arena = Arena::new();
    let options =
        ReaderOptions { origins: Origins::Text(Base::default()), ..ReaderOptions::default() };
    let (root, _) = json::document(text, &arena, options).unwrap();
    let mut found = Vec::new();
    run(&format!("${path}"), root, &arena, |node| {
        let place = locate(root, node.origin()).unwrap();
        let steps = place.steps().iter().map(|step| match step {
            Step::Name(name) => To::Name((*name).to_owned()),
            Step::Index(index) => To::Index(*index),
            other => panic!("{other:?}"),
        });
        found.push(steps.collect());
    })
    .unwrap();
    found.sort_unstable();
    found.dedup();
    found
}

fn at<'j>(json: &'j mut Json, place: &[To]) -> &'j mut Json {
    place.iter().fold(json, |json, step| match step {
        To::Name(name) => json.get_mut(name).unwrap(),
        To::Index(index) => json.get_mut(index).unwrap(),
    })
}

/// What an edit of the model comes to: the inner nodes first, and of one list the last.
fn model(before: &str, last: &str, text: &str, put: &dyn Fn(&Json) -> Option<Json>) -> Json {
    let mut json: Json = serde_json::from_str(text).unwrap();
    let mut places = nodes(&format!("{before}{last}"), text);
    // A last name is added to the maps that lack it.
    let name = last.strip_prefix('.').filter(|name| !name.starts_with(['.', '*']));
    let parents = if before.is_empty() { vec![Vec::new()] } else { nodes(before, text) };
    for parent in parents.iter().filter(|_| put(&Json::Null).is_some()) {
        if let (Json::Object(map), Some(name)) = (at(&mut json, parent), name)
            && !map.contains_key(name)
        {
            places.push([parent.as_slice(), &[To::Name(name.to_owned())]].concat());
        }
    }
    places.sort_by(|a, b| b.len().cmp(&a.len()).then(b.cmp(a)));
    for place in &places {
        let (last, parent) = place.split_last().unwrap();
        match (last, at(&mut json, parent)) {
            (To::Name(name), Json::Object(map)) => {
                match put(map.get(name).unwrap_or(&Json::Null)) {
                    Some(value) => drop(map.insert(name.clone(), value)),
                    None => drop(map.remove(name)),
                }
            }
            (To::Index(index), Json::Array(items)) => match put(&items[*index]) {
                Some(value) => items[*index] = value,
                None => drop(items.remove(*index)),
            },
            (last, parent) => panic!("{last:?} {parent}"),
        }
    }
    json
}

fn value() -> impl Strategy<Value = String> {
    let leaf =
        prop_oneof![Just("1"), Just("2.50"), Just("\"x\""), Just("null"), Just("\"\\u00e9\"")];
    leaf.prop_map(str::to_owned).prop_recursive(4, 24, 4, |inner| {
        let name = prop_oneof![Just("a"), Just("b"), Just("list"), Just("other")];
        let map = prop::collection::btree_map(name, inner.clone(), 0..4);
        prop_oneof![
            prop::collection::vec(inner, 0..4).prop_map(|items| format!("[{}]", items.join(","))),
            map.prop_map(|map| {
                let members = map.iter().map(|(name, value)| format!("\"{name}\":{value}"));
                format!("{{{}}}", members.collect::<Vec<_>>().join(","))
            }),
        ]
    })
}

const BEFORE: [&str; 12] = [
    "",
    ".a",
    ".*",
    ".list[*]",
    "..a",
    "..[0]",
    "[*]",
    "..list[?@.a]",
    ".a.b",
    "..*",
    "[-1]",
    "['a','list']",
];
const LAST: [&str; 10] =
    [".a", ".new", ".*", "[0]", "..b", "[?@ == 1]", "['a','b']", "[1:]", "[::-2]", "..[?@.a]"];

proptest! {
    #[test]
    fn edits_are_those_of_the_model(text in value(), before in prop::sample::select(&BEFORE[..]), last in prop::sample::select(&LAST[..])) {
        let path = format!("{before}{last}");
        for (rule, put) in [
            (format!("$ set {path} = 0"), &(|_: &Json| Some(Json::from(0))) as &dyn Fn(&Json) -> Option<Json>),
            (format!("$ set {path} = [@ ?? null]"), &|old| Some(Json::from(vec![old.clone()]))),
            (format!("$ set {path} = if false then @"), &|_| None),
            (format!("$ remove {path}"), &|_| None),
            (format!("$ set {path} = @ ?? null"), &|old| Some(old.clone())),
        ] {
            let found: Json = serde_json::from_str(&edited(&rule, &text).unwrap()).unwrap();
            prop_assert_eq!(found, model(before, last, &text, put), "{} of {}", rule, text);
        }
    }
}

/// What is not touched is as it was, in its order and its spelling; what is added comes last.
#[test]
fn what_edits_give() {
    let text = r#"{"n":1.50,"a":{"x":1e3,"y":[1,2,3]},"t":"\u0041"}"#;
    for (rule, out) in [
        ("$ set .z = 1, .a.z = 2", r#"{"n":1.50,"a":{"x":1e3,"y":[1,2,3],"z":2},"t":"A","z":1}"#),
        (
            "$ set .a.x = @ + 1, .a.y[*] = @ * 10",
            r#"{"n":1.50,"a":{"x":1001,"y":[10,20,30]},"t":"A"}"#,
        ),
        // One after the other, each seeing what the ones before made; `$` keeps what it was.
        ("$ set .n = 7, .n = @ + 1, .a = $.n", r#"{"n":8,"a":1.50,"t":"A"}"#),
        (
            "$ set .a.y[1] = null, .a.y[-1] = [@], .a.y[9] = 1",
            r#"{"n":1.50,"a":{"x":1e3,"y":[1,null,[3]]},"t":"A"}"#,
        ),
        // The inner one first; the outer one has it already.
        (
            "$ set ..[?@ == 1e3 || @.x == 1e3] = {was: @}",
            r#"{"n":1.50,"a":{"was":{"x":{"was":1e3},"y":[1,2,3]}},"t":"A"}"#,
        ),
        (
            "$ set [('n')] = 2, ['new one'] = 3",
            r#"{"n":2,"a":{"x":1e3,"y":[1,2,3]},"t":"A","new one":3}"#,
        ),
        ("$ set ..q = 1, .q.r = 1, .n.r = 1", r#"{"n":1.50,"a":{"x":1e3,"y":[1,2,3]},"t":"A"}"#),
        ("$ set .new = if false then 1", r#"{"n":1.50,"a":{"x":1e3,"y":[1,2,3]},"t":"A"}"#),
        ("$ remove .a.y[0], .a.y[0], ..x, .t", r#"{"n":1.50,"a":{"y":[3]}}"#),
        ("{b: $ set .a = 1, .n = 2, c: 3}", r#"{"b":{"n":2,"a":1,"t":"A"},"c":3}"#),
        ("[($ remove .a, .t), 1]", r#"[{"n":1.50},1]"#),
        ("length(($ remove .a))", "2"),
        ("let set = 1 let remove = set return [set, remove]", "[1,1]"),
        ("($ set .a = 1).a", "1"),
        ("$.a set .y = @[?@ > 1] return 1", "`return` does not continue this rule"),
        ("$ set .a = @.y[?@ > 1]", r#"{"n":1.50,"a":[2,3],"t":"A"}"#),
        (
            "$ set .n = let m = @ return for y in $.a.y[*] return y * m",
            r#"{"n":[1.5,3,4.5],"a":{"x":1e3,"y":[1,2,3]},"t":"A"}"#,
        ),
        ("$ set .a = @ set .x = @ + 1", r#"{"n":1.50,"a":{"x":1001,"y":[1,2,3]},"t":"A"}"#),
        (
            "def f(v) = v set .x = 0; $ set .a = f(@)",
            r#"{"n":1.50,"a":{"x":0,"y":[1,2,3]},"t":"A"}"#,
        ),
        ("$.nope set .a = 1", ""),
        ("$ set .a.y[*] = @ + 'x'", "`+` takes a number; this is a text"),
        ("$ set .t = @ + 1", "`@` is a text, and `+` needs numbers"),
        ("$.a.y[*] set .a = 1", "`$.a.y[*]` may select many values; edits change one"),
        (
            "[$ set .a = 1]",
            "an edited value in a list needs parentheses, for its edits have commas of their own",
        ),
        (
            "length($ set .a = 1)",
            "an edited value among arguments needs parentheses, for its edits have commas of their own",
        ),
        ("1 set .a = 1", "`set` changes a path, a name, a call or what stands in parentheses"),
        ("$ set a = 1", "a path is missing between `set` and `a`"),
        ("$ set .a == 1", "`=` is missing behind the path that is set"),
        ("$ remove .a = 1", "`=` stands behind a path that is removed"),
        ("$ set .a = if @ then 1", "`@` alone is no condition"),
    ] {
        let (Ok(given) | Err(given)) = edited(rule, text);
        assert_eq!(given, out, "{rule}");
    }
}

/// In XML all that is not touched stays as it is: comments, layout, prefixes, attributes.
#[test]
fn what_edits_of_elements_give() {
    let text = "<m:a xmlns:m='u' k=\"1\">\n  <!-- c -->\n  <b x='2'>t</b>\n  <b/>\n  <c>d<e/>f</c>\n</m:a>";
    for (rule, out) in [
        (
            "$ set .a.@k = 3, .a.@new = 'n'",
            "<m:a xmlns:m=\"u\" k=\"3\" new=\"n\">\n  <!-- c -->\n  <b x=\"2\">t</b>\n  <b/>\n  <c>d<e/>f</c>\n</m:a>",
        ),
        (
            "$ set .a.b = upper(text(@))",
            "<m:a xmlns:m=\"u\" k=\"1\">\n  <!-- c -->\n  <b x=\"2\">T</b>\n  <b></b>\n  <c>d<e/>f</c>\n</m:a>",
        ),
        (
            "$ set .a.b[0] = null, .a.b[1] = 7",
            "<m:a xmlns:m=\"u\" k=\"1\">\n  <!-- c -->\n  <b x=\"2\"/>\n  <b>7</b>\n  <c>d<e/>f</c>\n</m:a>",
        ),
        (
            "$ set .a.b[?@.@x] = element('z')",
            "<m:a xmlns:m=\"u\" k=\"1\">\n  <!-- c -->\n  <z/>\n  <b/>\n  <c>d<e/>f</c>\n</m:a>",
        ),
        (
            "$ set .a.b[0] = [@, element('z')], .a.c.e = []",
            "<m:a xmlns:m=\"u\" k=\"1\">\n  <!-- c -->\n  <b x=\"2\">t</b><z/>\n  <b/>\n  <c>df</c>\n</m:a>",
        ),
        ("$ remove .a.b", "<m:a xmlns:m=\"u\" k=\"1\">\n  <!-- c -->\n  <c>d<e/>f</c>\n</m:a>"),
        ("$ remove .a.*", "<m:a xmlns:m=\"u\" k=\"1\"><!-- c --></m:a>"),
        (
            "$ remove ..@x, .a.@k",
            "<m:a xmlns:m=\"u\">\n  <!-- c -->\n  <b>t</b>\n  <b/>\n  <c>d<e/>f</c>\n</m:a>",
        ),
        (
            "$ set ..b.@y = 1",
            "<m:a xmlns:m=\"u\" k=\"1\">\n  <!-- c -->\n  <b x=\"2\" y=\"1\">t</b>\n  <b y=\"1\"/>\n  <c>d<e/>f</c>\n</m:a>",
        ),
        // No child element is added, and nothing behind `..`.
        (
            "$ set .a.new = 1, ..new = 1, ..@new = 1",
            "<m:a xmlns:m=\"u\" k=\"1\">\n  <!-- c -->\n  <b x=\"2\">t</b>\n  <b/>\n  <c>d<e/>f</c>\n</m:a>",
        ),
        ("$ set .a.@k = {}", "a map cannot be the value of the attribute `k`"),
        ("$ set .a.b = {}", "a map cannot take the place of <b>"),
        ("$ set .a.b = ['x']", "a text among a list cannot take the place of <b>"),
        ("$ set .a['@a b'] = 1", "`a b` cannot be a name in XML"),
    ] {
        let arena = Arena::new();
        let root = xml::document(text, &arena, xml::Options::default()).unwrap().value();
        let layout = xml::Layout { declaration: false, ..xml::Layout::default() };
        let (mut written, mut losses) = (Vec::new(), Losses::default());
        let ran = run(rule, root, &arena, |value| {
            xml::write(arena.copy(value), &layout, &mut written, &mut losses).unwrap();
        });
        let given = ran.map_or_else(|message| message, |()| String::from_utf8(written).unwrap());
        assert_eq!(given.trim_end(), out, "{rule}");
    }
}
