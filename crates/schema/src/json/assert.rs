//! Keywords that look at a value as a whole.

use std::collections::HashMap;

use kyanite_tree::{Decimal, Key, Kind, Value, counted};

use super::check::{Check, Wrong};
use super::evaluated::Evaluated;
use super::keyword::{Bound, Constant, Keyword, Limit, Sized, Types};
use super::{Draft, Node};
use super::{content, describe};
use crate::Finding;

impl<'s> Check<'_, 's> {
    /// What is wrong with a value, by a keyword that looks at it as a whole; what takes long to say only if it is told.
    pub(super) fn wrong<'v>(
        &self,
        (keyword, node): (&Keyword<'s>, &Node<'s>),
        value: Value<'v>,
        is_told: bool,
        evaluated: &mut Option<&mut Evaluated>,
    ) -> Option<Wrong<'v>> {
        // What takes long to say is only said where somebody listens.
        let about = |say: &dyn Fn() -> String| {
            let message = if is_told { say() } else { String::new() };
            Some((value, message, None))
        };
        match keyword {
            Keyword::Nothing => about(&|| "nothing may stand here".into()),
            Keyword::Types(types) if types.plainly_has(value) => None,
            Keyword::Types(types) => {
                let found = Types::of(value, node.draft == Draft::V4);
                match types.has(found) {
                    true => None,
                    false if is_told => Some(describe::types(*types, value)),
                    false => about(&String::new),
                }
            }
            Keyword::Enumeration(known) => {
                let is_known = is_one_of(value, known);
                match is_known {
                    true => None,
                    false if is_told => Some(describe::enumeration(known, value)),
                    false => about(&String::new),
                }
            }
            Keyword::Constant(constant) if is_one_of(value, std::slice::from_ref(constant)) => None,
            Keyword::Constant(constant) => about(&|| {
                format!(
                    "expected {}, found {}",
                    describe::shown(constant.value),
                    describe::shown(value)
                )
            }),
            Keyword::MultipleOf(unit) => {
                let number = number(value)?;
                let shown = value.scalar_text().unwrap_or_default();
                match number.rem(unit) {
                    Ok(rest) if rest == Decimal::ZERO => None,
                    Ok(_) => about(&|| format!("{shown} is no multiple of {unit}")),
                    Err(_) => about(&|| format!("{shown} has more digits than are computed with")),
                }
            }
            Keyword::Bound(bound, limit, written) => {
                let number = number(value)?;
                let (is_kept, must) = match bound {
                    Bound::Least => (number >= *limit, "must be at least"),
                    Bound::Most => (number <= *limit, "must be at most"),
                    Bound::MoreThan => (number > *limit, "must be greater than"),
                    Bound::LessThan => (number < *limit, "must be less than"),
                };
                let shown = value.scalar_text().unwrap_or_default();
                if is_kept { None } else { about(&|| format!("{shown} {must} {written}")) }
            }
            Keyword::Size(of, limit, count) => {
                let (size, what) = size(*of, value)?;
                let must = match limit {
                    Limit::Least if size < *count => "at least",
                    Limit::Most if size > *count => "at most",
                    _ => return None,
                };
                let verb = match (of, size) {
                    (Sized::Text, _) => "the text has",
                    (_, 1) => "there is",
                    _ => "there are",
                };
                let has = counted(size, what);
                about(&|| format!("{verb} {has}, and there must be {must} {count}"))
            }
            Keyword::Pattern(written, pattern) => {
                let text = text(value)?;
                match pattern.is_match(text) {
                    Ok(true) => None,
                    Ok(false) => {
                        about(&|| format!("{} does not fit {written}", describe::shown(value)))
                    }
                    Err(error) => about(&|| format!("it is not known whether this fits: {error}")),
                }
            }
            Keyword::Contains(contains) => {
                let items = value.as_list()?;
                let mut count = 0;
                for (at, item) in items.iter().enumerate() {
                    if self.fits(contains.schema, *item) {
                        count += 1;
                        // In 2019-09 it says nothing of what was looked at.
                        match evaluated.as_deref_mut().filter(|_| node.draft >= Draft::V2020) {
                            Some(evaluated) => evaluated.add(at),
                            None if contains.most.is_none() && count >= contains.least => break,
                            None => {}
                        }
                    }
                }
                describe::contains(contains, count).map(|message| (value, message, None))
            }
            Keyword::Unique if plainly_differ(value.as_list()?) => None,
            Keyword::Unique => {
                let mut met: HashMap<Key, usize> = HashMap::new();
                for (at, item) in value.as_list()?.iter().enumerate() {
                    if let Some(before) = met.insert(Key::of(*item), at) {
                        let message =
                            format!("item {at} is the same as item {before}, counted from 0");
                        return Some((*item, message, None));
                    }
                }
                None
            }
            Keyword::Any(schemas) => {
                let mut fits = false;
                for schema in schemas {
                    fits |= self.fits_with(*schema, value, evaluated);
                    if fits && evaluated.is_none() {
                        break;
                    }
                }
                (!fits).then(|| self.none_of(schemas, value, is_told))
            }
            Keyword::One(schemas) => {
                let mut fitting: Vec<usize> = Vec::new();
                for (at, schema) in schemas.iter().enumerate() {
                    if self.fits_with(*schema, value, evaluated) {
                        fitting.push(at);
                    }
                }
                match fitting[..] {
                    [_] => None,
                    [] => Some(self.none_of(schemas, value, is_told)),
                    [first, second, ..] => about(&|| {
                        format!(
                            "{} of the {} alternatives fit, and just one may: those of number {} and {}",
                            fitting.len(),
                            schemas.len(),
                            first + 1,
                            second + 1
                        )
                    }),
                }
            }
            Keyword::Not(schema) => {
                let fits = self.fits(*schema, value);
                if fits { about(&|| "this is what may not stand here".into()) } else { None }
            }
            Keyword::Format(format) => {
                let text = text(value)?;
                let looks = Some(format!("it looks like {}", format.looks));
                let message = format!("{} is no {}", describe::shown(value), format.name);
                (!(format.holds)(text)).then_some((value, message, looks))
            }
            Keyword::Content(content) => content::wrong(*content, text(value)?, self.schema.reads)
                .map(|message| (value, message, None)),
            _ => None,
        }
    }

    /// That a value fits no alternative, and what is wrong with it for the one that it is nearest to.
    fn none_of<'v>(&self, schemas: &[usize], value: Value<'v>, is_told: bool) -> Wrong<'v> {
        if !is_told {
            return (value, String::new(), None);
        }
        let mut nearest: Option<(usize, Vec<Finding>)> = None;
        for (at, schema) in schemas.iter().enumerate() {
            let mut findings = Vec::new();
            self.check(*schema, value, Some(&mut findings), None);
            // An alternative for another type is the farthest.
            let far = |findings: &[Finding]| {
                let own = |f: &&Finding| f.origin == value.origin() && f.rule.keyword == "type";
                (findings.iter().any(|finding| own(&finding)), findings.len())
            };
            if nearest.as_ref().is_none_or(|(_, best)| far(&findings) < far(best)) {
                nearest = Some((at, findings));
            }
        }
        let message = format!("this fits none of {} alternatives", schemas.len());
        let near = nearest.and_then(|(at, findings)| Some((at, findings.into_iter().next()?)));
        let advice = near
            .map(|(at, finding)| format!("nearest is number {}, but {}", at + 1, finding.message));
        (value, message, advice)
    }
}

/// So many items are compared with each other.
const FEW: usize = 16;

/// Whether all items are other texts, or maps with another text as a member of the same name: nearly always they are, and that is told
/// without making keys of them.
fn plainly_differ(items: &[Value<'_>]) -> bool {
    let differ = |a: &Value<'_>, b: &Value<'_>| match (a, b) {
        (Value::Text(_, a), Value::Text(_, b)) => a != b,
        (Value::Map(_, a), Value::Map(_, b)) => a.members().iter().any(|member| {
            let Value::Text(_, own) = member.value else { return false };
            matches!(b.get(member.name), Some(Value::Text(_, other)) if other != own)
        }),
        _ => false,
    };
    items.len() <= FEW
        && items.iter().enumerate().all(|(at, a)| items[at + 1..].iter().all(|b| differ(a, b)))
}

/// Whether a value is one of those; a text from a format that knows only texts is also what it spells.
fn is_one_of(value: Value<'_>, known: &[Constant<'_>]) -> bool {
    // Only a text is the same as a text.
    if let Value::Text(_, own) = value {
        return known.iter().any(|known| known.value.simple().as_text() == Some(own));
    }
    let own = Key::of(value);
    if known.iter().any(|known| known.key == own) {
        return true;
    }
    let Value::Untyped(_, text) = value.simple() else { return false };
    known.iter().any(|known| match known.value {
        Value::Number(..) => number(known.value).is_some_and(|known| number(value) == Some(known)),
        Value::Boolean(_, true) => text == "true",
        Value::Boolean(_, false) => text == "false",
        Value::Null(_) => text.is_empty(),
        _ => false,
    })
}

fn number(value: Value<'_>) -> Option<Decimal> {
    match value {
        Value::Number(_, number) => number.decimal().ok(),
        other => match other.simple() {
            Value::Untyped(_, text) => Decimal::spelled(text),
            _ => None,
        },
    }
}

fn text(value: Value<'_>) -> Option<&str> {
    match value.simple() {
        Value::Text(_, text) | Value::Untyped(_, text) => Some(text),
        _ => None,
    }
}

/// The size of a value, if it has one, and what it counts.
fn size(of: Sized, value: Value<'_>) -> Option<(u64, &'static str)> {
    Some(match of {
        Sized::Text => (text(value)?.chars().count() as u64, "character"),
        Sized::List => (value.as_list()?.len() as u64, "item"),
        Sized::Map if value.kind() == Kind::Map => (value.as_map()?.len() as u64, "member"),
        Sized::Map => return None,
    })
}
