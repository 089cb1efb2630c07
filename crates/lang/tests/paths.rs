//! Paths against a model of RFC 9535: each selector is a function from a node to a list of nodes.
#![allow(clippy::unwrap_used, clippy::panic, reason = "tests say what is wrong by panicking")]

mod support;

use kyanite_formats::json::ReaderOptions;
use kyanite_lang::{RuleText, Syntax, compile};
use proptest::prelude::*;
use serde_json::{Value as Json, json};
use support::{compares, results};

/// A node: its normalized path and its value.
type Node = (String, Json);

#[derive(Clone, Debug)]
struct Segment {
    descends: bool,
    selectors: Vec<Selector>,
}

#[derive(Clone, Debug)]
enum Selector {
    Name(&'static str),
    Wildcard,
    Index(i64),
    Slice(Option<i64>, Option<i64>, Option<i64>),
    Filter(Test),
}

#[derive(Clone, Debug)]
enum Test {
    Exists(Vec<Segment>),
    Compare(Operand, &'static str, Operand),
    Count(Vec<Segment>, &'static str, usize),
    Not(Box<Self>),
    And(Box<Self>, Box<Self>),
    Or(Box<Self>, Box<Self>),
}

#[derive(Clone, Debug)]
enum Operand {
    Literal(Json),
    /// A singular query from the current node.
    Path(Vec<&'static str>),
}

fn written(segments: &[Segment]) -> String {
    segments.iter().map(Segment::text).collect()
}

impl Segment {
    fn text(&self) -> String {
        let selectors: Vec<_> = self.selectors.iter().map(Selector::text).collect();
        format!("{}[{}]", if self.descends { ".." } else { "" }, selectors.join(", "))
    }

    fn select(&self, (path, value): &Node) -> Vec<Node> {
        let selected = self.selectors.iter().flat_map(|selector| selector.select(path, value));
        let mut nodes: Vec<_> = selected.collect();
        if self.descends {
            nodes.extend(children(path, value).iter().flat_map(|child| self.select(child)));
        }
        nodes
    }
}

/// The nodes that segments select under a node.
fn nodes(segments: &[Segment], from: Node) -> Vec<Node> {
    segments.iter().fold(vec![from], |nodes, segment| {
        nodes.iter().flat_map(|node| segment.select(node)).collect()
    })
}

fn children(path: &str, value: &Json) -> Vec<Node> {
    match value {
        Json::Array(items) => {
            let numbered = items.iter().enumerate();
            numbered.map(|(at, item)| (format!("{path}[{at}]"), item.clone())).collect()
        }
        Json::Object(map) => {
            let members = map.iter();
            members.map(|(name, member)| (format!("{path}['{name}']"), member.clone())).collect()
        }
        _ => Vec::new(),
    }
}

impl Selector {
    fn text(&self) -> String {
        let part = |number: &Option<i64>| number.map_or(String::new(), |n| n.to_string());
        match self {
            Self::Name(name) => format!("'{name}'"),
            Self::Wildcard => "*".into(),
            Self::Index(index) => index.to_string(),
            Self::Slice(start, end, None) => format!("{}:{}", part(start), part(end)),
            Self::Slice(start, end, step) => {
                format!("{}:{}:{}", part(start), part(end), part(step))
            }
            Self::Filter(test) => format!("?{}", test.text()),
        }
    }

    fn select(&self, path: &str, value: &Json) -> Vec<Node> {
        let all = children(path, value);
        let items = if value.is_array() { all.as_slice() } else { &[] };
        let length = items.len() as i64;
        match self {
            Self::Name(name) => match value.get(name) {
                Some(member) => vec![(format!("{path}['{name}']"), member.clone())],
                None => Vec::new(),
            },
            Self::Wildcard => all,
            Self::Index(index) => {
                let index = if *index < 0 { length + index } else { *index };
                usize::try_from(index)
                    .ok()
                    .and_then(|at| items.get(at))
                    .cloned()
                    .into_iter()
                    .collect()
            }
            // RFC 9535 section 2.3.4.2.2.
            Self::Slice(start, end, step) => {
                let step = step.unwrap_or(1);
                let from_end = |index: i64| if index >= 0 { index } else { length + index };
                let (start, end) = match step >= 0 {
                    true => (start.unwrap_or(0), end.unwrap_or(length)),
                    false => (start.unwrap_or(length - 1), end.unwrap_or(-length - 1)),
                };
                let (start, end) = (from_end(start), from_end(end));
                let bounds = match step >= 0 {
                    true => start.clamp(0, length)..end.clamp(0, length),
                    false => end.clamp(-1, length - 1) + 1..start.clamp(-1, length - 1) + 1,
                };
                let (stride, inside) = (step.unsigned_abs() as usize, bounds.map(|at| at as usize));
                let inside: Vec<_> = inside.map(|at| items[at].clone()).collect();
                match step {
                    0 => Vec::new(),
                    1.. => inside.into_iter().step_by(stride).collect(),
                    _ => inside.into_iter().rev().step_by(stride).collect(),
                }
            }
            Self::Filter(test) => all.into_iter().filter(|(_, child)| test.holds(child)).collect(),
        }
    }
}

impl Test {
    fn text(&self) -> String {
        match self {
            Self::Exists(segments) => format!("@{}", written(segments)),
            Self::Compare(a, operator, b) => format!("{} {operator} {}", a.text(), b.text()),
            Self::Count(segments, operator, count) => {
                format!("count(@{}) {operator} {count}", written(segments))
            }
            Self::Not(test) => format!("!({})", test.text()),
            Self::And(a, b) => format!("({}) && ({})", a.text(), b.text()),
            Self::Or(a, b) => format!("({}) || ({})", a.text(), b.text()),
        }
    }

    fn holds(&self, current: &Json) -> bool {
        let found = |segments: &[Segment]| nodes(segments, (String::new(), current.clone()));
        match self {
            Self::Exists(segments) => !found(segments).is_empty(),
            Self::Compare(a, operator, b) => {
                compares(operator, a.value(current).as_ref(), b.value(current).as_ref())
            }
            Self::Count(segments, operator, count) => {
                let found = json!(found(segments).len());
                compares(operator, Some(&found), Some(&json!(count)))
            }
            Self::Not(test) => !test.holds(current),
            Self::And(a, b) => a.holds(current) && b.holds(current),
            Self::Or(a, b) => a.holds(current) || b.holds(current),
        }
    }
}

impl Operand {
    fn text(&self) -> String {
        match self {
            Self::Literal(Json::String(text)) => format!("'{text}'"),
            Self::Literal(value) => value.to_string(),
            Self::Path(names) => {
                let steps = names.iter().map(|name| format!("['{name}']"));
                format!("@{}", steps.collect::<String>())
            }
        }
    }

    fn value(&self, current: &Json) -> Option<Json> {
        match self {
            Self::Literal(value) => Some(value.clone()),
            Self::Path(names) => {
                names.iter().try_fold(current, |value, name| value.get(name)).cloned()
            }
        }
    }
}

const NAMES: [&str; 4] = ["a", "b", "berth no", "0"];

fn scalar() -> impl Strategy<Value = Json> {
    prop_oneof![
        (-2..4_i64).prop_map(|number| json!(number)),
        prop::sample::select(&["", "x", "y"][..]).prop_map(|text| json!(text)),
        any::<bool>().prop_map(|value| json!(value)),
        Just(Json::Null),
    ]
}

fn document() -> impl Strategy<Value = Json> {
    scalar().prop_recursive(4, 40, 5, |inner| {
        let map =
            prop::collection::btree_map(prop::sample::select(&NAMES[..]), inner.clone(), 0..4);
        prop_oneof![
            prop::collection::vec(inner, 0..5).prop_map(Json::from),
            map.prop_map(|map| {
                map.into_iter().map(|(name, value)| (name.to_owned(), value)).collect()
            }),
        ]
    })
}

fn selector(test: impl Strategy<Value = Test> + 'static) -> impl Strategy<Value = Selector> {
    let bound = || prop::option::of(-4..5_i64);
    prop_oneof![
        4 => prop::sample::select(&NAMES[..]).prop_map(Selector::Name),
        2 => Just(Selector::Wildcard),
        2 => (-3..4_i64).prop_map(Selector::Index),
        2 => (bound(), bound(), prop::option::of(-2..3_i64))
            .prop_map(|(start, end, step)| Selector::Slice(start, end, step)),
        2 => test.prop_map(Selector::Filter),
    ]
}

fn segments(
    test: impl Strategy<Value = Test> + 'static,
    most: usize,
) -> impl Strategy<Value = Vec<Segment>> {
    let selectors = prop::collection::vec(selector(test), 1..3);
    let segment = (prop::bool::weighted(0.25), selectors)
        .prop_map(|(descends, selectors)| Segment { descends, selectors });
    prop::collection::vec(segment, 1..=most)
}

fn filter_test() -> BoxedStrategy<Test> {
    let operand = || {
        prop_oneof![
            scalar().prop_map(Operand::Literal),
            prop::collection::vec(prop::sample::select(&NAMES[..]), 0..3).prop_map(Operand::Path),
        ]
    };
    let operator = || prop::sample::select(&["==", "!=", "<", "<=", ">", ">="][..]);
    let compare = (operand(), operator(), operand())
        .prop_map(|(a, operator, b)| Test::Compare(a, operator, b));
    let inner = || {
        segments(Just(Test::Compare(Operand::Path(vec!["a"]), "!=", Operand::Path(vec!["b"]))), 2)
    };
    let leaf = prop_oneof![
        3 => compare,
        1 => inner().prop_map(Test::Exists),
        1 => (inner(), operator(), 0..3_usize)
            .prop_map(|(segments, operator, count)| Test::Count(segments, operator, count)),
    ];
    let pair = |inner: BoxedStrategy<Test>| (inner.clone(), inner);
    leaf.prop_recursive(2, 6, 2, move |inner| {
        let inner = inner.boxed();
        prop_oneof![
            inner.clone().prop_map(|test| Test::Not(Box::new(test))),
            pair(inner.clone()).prop_map(|(a, b)| Test::And(Box::new(a), Box::new(b))),
            pair(inner).prop_map(|(a, b)| Test::Or(Box::new(a), Box::new(b))),
        ]
    })
    .boxed()
}

/// What a path selects in a document, or what is said of it.
fn selected(path: &str, syntax: Syntax, document: &Json) -> Result<Vec<Node>, String> {
    let plan = compile(RuleText::new("path", path), syntax).map_err(|(_, findings)| {
        findings.iter().map(|finding| finding.message().to_owned()).collect::<Vec<_>>().join("; ")
    })?;
    let found = results(&plan, document, ReaderOptions::default())?;
    Ok(found.into_iter().map(|(path, value)| (path.unwrap(), value)).collect())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1500))]

    #[test]
    fn paths_select_what_the_model_does(document in document(), segments in segments(filter_test(), 4)) {
        let path = format!("${}", written(&segments));
        let expected = nodes(&segments, ("$".to_owned(), document.clone()));
        for syntax in [Syntax::JsonPath, Syntax::Rule] {
            let found = selected(&path, syntax, &document);
            prop_assert_eq!(found.as_ref(), Ok(&expected), "{} as {:?} in {}", path, syntax, document);
        }
    }
}
