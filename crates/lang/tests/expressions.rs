//! Expressions against a model that evaluates them over JSON: values, nothing, and failures, which all end the run.
#![allow(clippy::unwrap_used, clippy::panic, reason = "tests say what is wrong by panicking")]

mod support;

use kyanite_formats::json::ReaderOptions;
use kyanite_lang::{RuleText, Syntax, compile};
use proptest::prelude::*;
use serde_json::{Value as Json, json};
use support::{compares, results};

/// A value, nothing, or a failure.
type Outcome = Result<Option<Json>, ()>;

#[derive(Clone, Debug)]
enum Condition {
    Literal(bool),
    Compare(Value, &'static str, Value),
    Exists(&'static str),
    Not(Box<Self>),
    And(Box<Self>, Box<Self>),
    Or(Box<Self>, Box<Self>),
}

#[derive(Clone, Debug)]
enum Value {
    Number(i64),
    Text(&'static str),
    Null,
    /// A member of the record, which may be anything.
    Member(&'static str),
    Arithmetic(Box<Self>, char, Box<Self>),
    Coalesce(Box<Self>, Box<Self>),
    If(Box<Condition>, Box<Self>, Option<Box<Self>>),
    Case(Vec<(Condition, Self)>, Option<Box<Self>>),
    /// `case subject when …`: the value behind the first number that it equals.
    CaseOf(Box<Self>, Vec<(i64, Self)>),
    Template(Vec<(&'static str, Self)>),
    Recover(Box<Self>, Box<Self>),
    Let(Box<Self>, Box<Self>),
    /// The name that the innermost `let` binds.
    Bound,
}

impl Condition {
    fn rule(&self) -> String {
        match self {
            Self::Literal(value) => value.to_string(),
            Self::Compare(a, operator, b) => format!("({}) {operator} ({})", a.rule(), b.rule()),
            Self::Exists(name) => format!("exists(r.{name})"),
            Self::Not(inner) => format!("!({})", inner.rule()),
            Self::And(a, b) => format!("({}) && ({})", a.rule(), b.rule()),
            Self::Or(a, b) => format!("({}) || ({})", a.rule(), b.rule()),
        }
    }

    fn holds(&self, record: &Json, bound: &Option<Json>) -> Result<bool, ()> {
        Ok(match self {
            Self::Literal(value) => *value,
            Self::Compare(a, operator, b) => {
                let (a, b) = (a.value(record, bound)?, b.value(record, bound)?);
                compares(operator, a.as_ref(), b.as_ref())
            }
            Self::Exists(name) => record.get(name).is_some(),
            Self::Not(inner) => !inner.holds(record, bound)?,
            Self::And(a, b) => a.holds(record, bound)? && b.holds(record, bound)?,
            Self::Or(a, b) => a.holds(record, bound)? || b.holds(record, bound)?,
        })
    }
}

impl Value {
    fn rule(&self) -> String {
        match self {
            Self::Number(number) => number.to_string(),
            Self::Text(text) => format!("'{text}'"),
            Self::Null => "null".into(),
            Self::Member(name) => format!("r.{name}"),
            Self::Arithmetic(a, operator, b) => format!("({}) {operator} ({})", a.rule(), b.rule()),
            Self::Coalesce(a, b) => format!("({}) ?? ({})", a.rule(), b.rule()),
            Self::If(condition, then, otherwise) => {
                let otherwise = otherwise.as_ref().map(|value| format!(" else ({})", value.rule()));
                let (condition, then) = (condition.rule(), then.rule());
                format!("if {condition} then ({then}){}", otherwise.unwrap_or_default())
            }
            Self::Case(branches, otherwise) => {
                let branches = branches.iter().map(|(condition, value)| {
                    format!("when {} then ({}) ", condition.rule(), value.rule())
                });
                let otherwise = otherwise.as_ref().map(|value| format!("else ({}) ", value.rule()));
                format!("case {}{}end", branches.collect::<String>(), otherwise.unwrap_or_default())
            }
            Self::CaseOf(subject, branches) => {
                let branches = branches
                    .iter()
                    .map(|(number, value)| format!("when {number} then ({}) ", value.rule()));
                format!("case ({}) {}end", subject.rule(), branches.collect::<String>())
            }
            Self::Template(pieces) => {
                let pieces =
                    pieces.iter().map(|(text, value)| format!("{text}{{{}}}", value.rule()));
                format!("f\"{}\"", pieces.collect::<String>())
            }
            Self::Recover(tried, otherwise) => {
                format!("recover(({}), ({}))", tried.rule(), otherwise.rule())
            }
            Self::Let(bound, value) => {
                format!("let x = ({}) return ({})", bound.rule(), value.rule())
            }
            Self::Bound => "x".into(),
        }
    }

    fn value(&self, record: &Json, bound: &Option<Json>) -> Outcome {
        match self {
            Self::Number(number) => Ok(Some(json!(number))),
            Self::Text(text) => Ok(Some(json!(text))),
            Self::Null => Ok(Some(Json::Null)),
            Self::Member(name) => Ok(record.get(name).cloned()),
            Self::Bound => Ok(bound.clone()),
            Self::Arithmetic(a, operator, b) => {
                let number =
                    |value: &Self| value.value(record, bound)?.and_then(|v| v.as_i64()).ok_or(());
                let (a, b) = (number(a)?, number(b)?);
                Ok(Some(match operator {
                    '+' => json!(a + b),
                    '-' => json!(a - b),
                    _ => json!(a * b),
                }))
            }
            Self::Coalesce(a, b) => match a.value(record, bound)? {
                Some(value) if !value.is_null() => Ok(Some(value)),
                _ => b.value(record, bound),
            },
            Self::If(condition, then, otherwise) => {
                match (condition.holds(record, bound)?, otherwise) {
                    (true, _) => then.value(record, bound),
                    (false, Some(otherwise)) => otherwise.value(record, bound),
                    (false, None) => Ok(None),
                }
            }
            Self::Case(branches, otherwise) => {
                for (condition, value) in branches {
                    if condition.holds(record, bound)? {
                        return value.value(record, bound);
                    }
                }
                otherwise.as_ref().map_or(Ok(None), |value| value.value(record, bound))
            }
            Self::CaseOf(subject, branches) => {
                let subject = subject.value(record, bound)?;
                let found = branches.iter().find(|(number, _)| subject == Some(json!(number)));
                found.map_or(Ok(None), |(_, value)| value.value(record, bound))
            }
            Self::Template(pieces) => {
                let mut text = String::new();
                for (before, value) in pieces {
                    text.push_str(before);
                    match value.value(record, bound)? {
                        Some(Json::String(value)) => text.push_str(&value),
                        None | Some(Json::Null) => return Err(()),
                        Some(value) => text.push_str(&value.to_string()),
                    }
                }
                Ok(Some(json!(text)))
            }
            Self::Recover(tried, otherwise) => {
                tried.value(record, bound).or_else(|()| otherwise.value(record, bound))
            }
            Self::Let(name, value) => value.value(record, &name.value(record, bound)?),
        }
    }
}

const MEMBERS: [&str; 4] = ["a", "b", "c", "d"];

fn leaf() -> impl Strategy<Value = Value> {
    prop_oneof![
        3 => prop::sample::select(&MEMBERS[..]).prop_map(Value::Member),
        2 => (0..4_i64).prop_map(Value::Number),
        1 => prop::sample::select(&["", "x", "2"][..]).prop_map(Value::Text),
        1 => Just(Value::Null),
    ]
}

/// A value that a check cannot know to be no number.
fn operand() -> impl Strategy<Value = Value> {
    prop_oneof![
        prop::sample::select(&MEMBERS[..]).prop_map(Value::Member),
        (0..4_i64).prop_map(Value::Number),
    ]
}

fn condition(value: BoxedStrategy<Value>) -> BoxedStrategy<Condition> {
    let operator = prop::sample::select(&["==", "!=", "<", "<=", ">", ">="][..]);
    let leaf = prop_oneof![
        4 => (value.clone(), operator, value).prop_map(|(a, operator, b)| Condition::Compare(a, operator, b)),
        1 => any::<bool>().prop_map(Condition::Literal),
        1 => prop::sample::select(&MEMBERS[..]).prop_map(Condition::Exists),
    ];
    leaf.prop_recursive(2, 6, 2, |inner| {
        prop_oneof![
            inner.clone().prop_map(|one| Condition::Not(Box::new(one))),
            (inner.clone(), inner.clone())
                .prop_map(|(a, b)| Condition::And(Box::new(a), Box::new(b))),
            (inner.clone(), inner).prop_map(|(a, b)| Condition::Or(Box::new(a), Box::new(b))),
        ]
    })
    .boxed()
}

fn value() -> BoxedStrategy<Value> {
    leaf()
        .prop_recursive(4, 24, 3, |inner| {
            let one = || inner.clone().prop_map(Box::new);
            let piece = (prop::sample::select(&["", "- ", "é"][..]), inner.clone());
            let branch = (condition(inner.clone().boxed()), inner.clone());
            prop_oneof![
                (operand(), prop::sample::select(&['+', '-', '*'][..]), operand()).prop_map(
                    |(a, operator, b)| Value::Arithmetic(Box::new(a), operator, Box::new(b))
                ),
                (one(), one()).prop_map(|(a, b)| Value::Coalesce(a, b)),
                (
                    condition(inner.clone().boxed()).prop_map(Box::new),
                    one(),
                    prop::option::of(one())
                )
                    .prop_map(|(condition, then, otherwise)| Value::If(condition, then, otherwise)),
                (prop::collection::vec(branch, 1..3), prop::option::of(one()))
                    .prop_map(|(branches, otherwise)| Value::Case(branches, otherwise)),
                (one(), prop::collection::vec((0..4_i64, inner.clone()), 1..3))
                    .prop_map(|(subject, branches)| Value::CaseOf(subject, branches)),
                prop::collection::vec(piece, 1..3).prop_map(Value::Template),
                (one(), one()).prop_map(|(tried, otherwise)| Value::Recover(tried, otherwise)),
                (one(), one()).prop_map(|(bound, value)| {
                    let value = Value::Coalesce(Box::new(Value::Bound), value);
                    Value::Let(bound, Box::new(value))
                }),
            ]
        })
        .boxed()
}

fn record() -> impl Strategy<Value = Json> {
    let member = prop_oneof![
        2 => Just(None),
        1 => Just(Some(Json::Null)),
        4 => (-2..4_i64).prop_map(|number| Some(json!(number))),
        2 => prop::sample::select(&["", "x", "y", "2"][..]).prop_map(|text| Some(json!(text))),
        1 => any::<bool>().prop_map(|value| Some(json!(value))),
    ];
    prop::collection::vec(member, MEMBERS.len()).prop_map(|members| {
        let named = MEMBERS.iter().zip(members);
        named.filter_map(|(name, value)| Some(((*name).to_owned(), value?))).collect()
    })
}

/// What an expression comes to over a record; None where the rule is refused before it runs.
fn run(expression: &str, record: &Json) -> Option<Outcome> {
    let rule = format!("let r = $\n{expression}");
    let plan = compile(RuleText::new("rule", &rule), Syntax::Rule).ok()?;
    let found = results(&plan, record, ReaderOptions::default());
    Some(found.map(|mut found| found.pop().map(|(_, value)| value)).map_err(|_| ()))
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 3000, max_global_rejects: 30_000, ..ProptestConfig::default() })]

    #[test]
    fn expressions_come_to_what_the_model_does(value in value(), record in record()) {
        let expression = value.rule();
        let found = run(&expression, &record);
        prop_assume!(found.is_some());
        prop_assert_eq!(found.unwrap(), value.value(&record, &None), "{} of {}", expression, record);
    }
}
