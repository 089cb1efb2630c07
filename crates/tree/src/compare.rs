//! Equality and order of values (RFC 9535 section 2.3.5.2.2).

use std::cmp::Ordering;

use crate::exact::Exact;
use crate::{Content, Decimal, Element, Map, Number, Value};

/// Whether two values are equal: numbers by value, texts by scalar, untyped text with a number as a number, lists item by item, maps by their
/// members in any order, elements by their text or, with child elements, by name, attributes and content. Values of different kinds are never equal.
#[must_use]
pub fn equal(a: Value<'_>, b: Value<'_>) -> bool {
    match (a.simple(), b.simple()) {
        (Value::Null(_), Value::Null(_)) => true,
        (Value::Boolean(_, a), Value::Boolean(_, b)) => a == b,
        (Value::Number(_, a), Value::Number(_, b)) => numbers_equal(a, b),
        (Value::Untyped(_, text), Value::Number(_, number))
        | (Value::Number(_, number), Value::Untyped(_, text)) => {
            untyped_order(text, number.as_str()) == Some(Ordering::Equal)
        }
        (Value::Text(_, a) | Value::Untyped(_, a), Value::Text(_, b) | Value::Untyped(_, b)) => {
            a == b
        }
        (Value::List(_, a), Value::List(_, b)) => {
            a.len() == b.len() && a.iter().zip(b).all(|(a, b)| equal(*a, *b))
        }
        (Value::Map(_, a), Value::Map(_, b)) => maps_equal(a, b),
        (Value::Element(..), Value::Element(..)) => Key::of(a) == Key::of(b),
        _ => false,
    }
}

fn maps_equal(a: &Map<'_>, b: &Map<'_>) -> bool {
    a.len() == b.len()
        && a.members()
            .iter()
            .all(|member| b.get(member.name).is_some_and(|other| equal(member.value, other)))
}

fn numbers_equal(a: Number<'_>, b: Number<'_>) -> bool {
    a.as_str() == b.as_str() || numbers_order(a, b) == Some(Ordering::Equal)
}

fn numbers_order(a: Number<'_>, b: Number<'_>) -> Option<Ordering> {
    if let (Some(a), Some(b)) = (digits(a.as_str()), digits(b.as_str())) {
        return Some(digits_order(a, b));
    }
    match (a.decimal(), b.decimal()) {
        (Ok(a), Ok(b)) => Some(a.cmp(&b)),
        _ => huge_order(a.as_str(), b.as_str()),
    }
}

/// The digits before and behind the point of a number without a sign and an exponent.
#[inline]
fn digits(number: &str) -> Option<(&[u8], &[u8])> {
    let bytes = number.as_bytes();
    let whole = bytes.iter().take_while(|byte| byte.is_ascii_digit()).count();
    match bytes.get(whole) {
        _ if whole == 0 => None,
        None => Some((bytes, &[])),
        Some(b'.') => {
            let fraction = &bytes[whole + 1..];
            fraction.iter().all(u8::is_ascii_digit).then_some((&bytes[..whole], fraction))
        }
        Some(_) => None,
    }
}

/// The order of two numbers by their digits, without zeros in front (RFC 8259 section 6).
#[inline]
fn digits_order(
    (a_whole, a_fraction): (&[u8], &[u8]),
    (b_whole, b_fraction): (&[u8], &[u8]),
) -> Ordering {
    // Of fractions that begin with the same digits the one that goes on with more than zeros is greater.
    let fractions = || {
        let common = a_fraction.len().min(b_fraction.len());
        let (a, a_rest) = a_fraction.split_at(common);
        let (b, b_rest) = b_fraction.split_at(common);
        let is_more = |rest: &[u8]| rest.iter().any(|digit| *digit != b'0');
        a.cmp(b).then_with(|| is_more(a_rest).cmp(&is_more(b_rest)))
    };
    let wholes = a_whole.len().cmp(&b_whole.len()).then_with(|| a_whole.cmp(b_whole));
    wholes.then_with(fractions)
}

/// The order of two texts that both spell a number; none where one does not.
fn untyped_order(a: &str, b: &str) -> Option<Ordering> {
    match (Decimal::spelled(a), Decimal::spelled(b)) {
        (Some(a), Some(b)) => Some(a.cmp(&b)),
        _ => huge_order(a, b),
    }
}

/// The order of two numbers of which one is too large to be computed with.
#[cold]
fn huge_order(a: &str, b: &str) -> Option<Ordering> {
    Some(Exact::spelled(a)?.cmp(&Exact::spelled(b)?))
}

/// How two values are ordered: numbers by value, texts by Unicode scalar; untyped text as a number with numbers, and
/// with untyped text when both are spelled like one. Other pairs have no order.
#[must_use]
pub fn order(a: Value<'_>, b: Value<'_>) -> Option<Ordering> {
    match (a.simple(), b.simple()) {
        (Value::Number(_, a), Value::Number(_, b)) => numbers_order(a, b),
        (Value::Untyped(_, a), Value::Number(_, b)) => untyped_order(a, b.as_str()),
        (Value::Number(_, a), Value::Untyped(_, b)) => untyped_order(a.as_str(), b),
        (Value::Untyped(_, a), Value::Untyped(_, b)) => {
            Some(untyped_order(a, b).unwrap_or_else(|| a.cmp(b)))
        }
        // UTF-8 was made so that byte order is scalar order.
        (Value::Text(_, a) | Value::Untyped(_, a), Value::Text(_, b) | Value::Untyped(_, b)) => {
            Some(a.cmp(b))
        }
        _ => None,
    }
}

/// A value as a key of a hash table: keys are equal exactly when the values are [`equal`], but untyped text goes by its
/// spelling alone.
#[derive(Clone, PartialEq, Eq, Hash, Debug)]
pub struct Key(String);

impl Key {
    /// The key of `value`.
    #[must_use]
    pub fn of(value: Value<'_>) -> Self {
        let mut key = String::new();
        write_key(value, &mut key);
        Self(key)
    }

    /// The key of the number that an untyped text spells, if it spells one.
    #[must_use]
    pub fn of_spelled(text: &str) -> Option<Self> {
        let spelled = match Decimal::spelled(text) {
            Some(decimal) => decimal.to_string(),
            None => Exact::spelled(text)?.canonical(),
        };
        Some(Self(format!("#{spelled};")))
    }

    /// Appends what stands in the key; it ends by itself.
    pub fn append_to(&self, key: &mut String) {
        key.push_str(&self.0);
    }

    /// Appends what stands in the key of `value`, or in place of one that is not there. It ends by itself, so that several keys
    /// make one.
    #[inline]
    pub fn add_to(value: Option<Value<'_>>, key: &mut String) {
        match value {
            Some(value) => write_key(value, key),
            None => key.push('-'),
        }
    }
}

fn write_key(value: Value<'_>, key: &mut String) {
    match value.simple() {
        Value::Null(_) => key.push('n'),
        Value::Boolean(_, true) => key.push('t'),
        Value::Boolean(_, false) => key.push('f'),
        Value::Number(_, number) => {
            key.push('#');
            // A whole number without zeros behind is spelled in one way only.
            let digits = number.as_str().as_bytes();
            let is_plain = matches!(digits, [b'1'..=b'9'] | [b'1'..=b'9', .., b'1'..=b'9'])
                && digits.iter().all(u8::is_ascii_digit);
            match number.decimal() {
                Ok(decimal) if !is_plain => key.push_str(&decimal.to_string()),
                Err(_) => {
                    let exact = Exact::spelled(number.as_str());
                    key.push_str(&exact.map_or_else(String::new, |exact| exact.canonical()));
                }
                Ok(_) => key.push_str(number.as_str()),
            }
            key.push(';');
        }
        Value::Text(_, text) | Value::Untyped(_, text) => write_text(text, key),
        Value::Foreign(_, foreign) => write_text(foreign.text, key),
        Value::List(_, items) => {
            key.push('[');
            items.iter().for_each(|item| write_key(*item, key));
            key.push(']');
        }
        Value::Map(_, map) => {
            let mut members: Vec<_> = map.members().iter().collect();
            members.sort_by_key(|member| member.name);
            key.push('{');
            for member in members {
                write_text(member.name, key);
                write_key(member.value, key);
            }
            key.push('}');
        }
        Value::Element(_, element) => write_element_key(element, key),
    }
}

/// Elements by their names, attributes in any order, and content; comments and blank text between elements do not
/// tell them apart.
fn write_element_key(element: &Element<'_>, key: &mut String) {
    key.push('<');
    write_text(element.name.namespace(), key);
    write_text(element.name.local(), key);
    let mut attributes: Vec<_> = element
        .attributes
        .iter()
        .filter(|attribute| !attribute.name.declares_namespace())
        .collect();
    attributes.sort_by_key(|attribute| (attribute.name.namespace(), attribute.name.local()));
    for attribute in attributes {
        key.push('@');
        write_text(attribute.name.namespace(), key);
        write_text(attribute.name.local(), key);
        write_text(attribute.value, key);
    }
    for node in element.content.iter().filter(|node| !node.is_blank()) {
        match node {
            Content::Element(origin, child) => write_key(Value::Element(*origin, child), key),
            Content::Text(_, text) => write_text(text, key),
            _ => {}
        }
    }
    key.push('>');
}

/// A length in front keeps texts apart whatever they contain.
fn write_text(text: &str, key: &mut String) {
    let mut length = text.len();
    // Which way round the digits stand is the same for all keys.
    while length >= 10 {
        key.push(char::from(b'0' + (length % 10) as u8));
        length /= 10;
    }
    key.push(char::from(b'0' + length as u8));
    key.push(':');
    key.push_str(text);
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Arena;

    fn number(text: &str) -> Value<'_> {
        Value::number(Number::parse(text).unwrap())
    }

    proptest::proptest! {
        /// By their digits numbers are ordered as by their values.
        #[test]
        fn order_by_digits(a in "(0|[1-9][0-9]{0,4})(\\.[0-3]{1,3})?", b in "(0|[1-9][0-9]{0,4})(\\.[0-3]{1,3})?") {
            let [a_value, b_value] = [&a, &b].map(|text| Decimal::parse(text).unwrap());
            let expected = a_value.cmp(&b_value);
            assert_eq!(digits_order(digits(&a).unwrap(), digits(&b).unwrap()), expected, "{a} {b}");
        }
    }

    #[test]
    fn equality_order_and_keys_agree() {
        let arena = Arena::new();
        let ab = arena.map([("a", number("1")), ("b", Value::text("x"))]);
        let ba = arena.map([("b", Value::text("x")), ("a", number("1.0"))]);
        let values = [
            Value::NULL,
            Value::boolean(true),
            Value::boolean(false),
            number("1"),
            number("10e-1"),
            number("-12"),
            number("120"),
            number("12e1"),
            number("1234567890123456789012345678901234567890123"),
            number("2"),
            Value::text("1"),
            Value::text("a:1"),
            arena.list(&[]),
            arena.list(&[number("1"), number("2")]),
            arena.list(&[number("12")]),
            ab,
            ba,
            arena.map([("a", number("1"))]),
        ];
        for a in values {
            for b in values {
                assert_eq!(equal(a, b), Key::of(a) == Key::of(b), "{a:?} {b:?}");
                if let Some(order) = order(a, b) {
                    assert_eq!(order.is_eq(), equal(a, b));
                }
            }
        }
        let untyped = |text| Value::Untyped(crate::Origin::NONE, text);
        assert!(equal(untyped("007"), number("7")) && !equal(untyped("007"), untyped("7")));
        assert!(equal(untyped("7"), Value::text("7")) && !equal(untyped("seven"), number("7")));
        assert_eq!(order(untyped("9"), untyped("10")), Some(Ordering::Less));
        assert_eq!(order(untyped("9"), Value::text("10")), Some(Ordering::Greater));
        assert_eq!(order(untyped("9a"), untyped("10")), Some(Ordering::Greater));
        assert_eq!(order(untyped("9"), number("10")), Some(Ordering::Less));
        assert_eq!(order(untyped("x"), number("10")), None);
        assert!(equal(ab, ba));
        assert!(equal(number("1"), number("10e-1")));
        assert_eq!(order(number("1"), Value::text("1")), None);
    }
}
