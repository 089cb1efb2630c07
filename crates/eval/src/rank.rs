//! What values are ordered by: one ordering is of numbers or of texts, never of both.

use std::borrow::Cow;
use std::cmp::Ordering;

use kyanite_tree::{Decimal, DecimalError, Key, Kind, Value};

/// The rank of a value in an ordering.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Rank<'a> {
    /// By value; also untyped text that is spelled like a number.
    Number(Decimal),
    /// By Unicode scalar.
    Text(Cow<'a, str>),
}

impl<'a> Rank<'a> {
    /// The rank of `value`; none for null and for an empty cell or element.
    ///
    /// # Errors
    /// Why the value has no rank, in a sentence.
    pub fn of(value: Value<'a>) -> Result<Option<Self>, String> {
        Ok(Some(match value.simple() {
            Value::Null(_) | Value::Untyped(_, "") => return Ok(None),
            Value::Number(_, number) => {
                Self::Number(number.decimal().map_err(|error| error.to_string())?)
            }
            Value::Text(_, text) => Self::Text(Cow::Borrowed(text)),
            Value::Untyped(_, text) => match Decimal::spelled(text) {
                Some(number) => Self::Number(number),
                None if Key::of_spelled(text).is_some() => {
                    return Err(DecimalError::TooLarge.to_string());
                }
                None => Self::Text(Cow::Borrowed(text)),
            },
            other => return Err(no_order(other.kind())),
        }))
    }

    /// The same rank, apart from the value.
    pub fn into_owned(self) -> Rank<'static> {
        match self {
            Self::Number(number) => Rank::Number(number),
            Self::Text(text) => Rank::Text(Cow::Owned(text.into_owned())),
        }
    }

    /// How this rank is ordered against another.
    ///
    /// # Errors
    /// Why they have no order, in a sentence.
    pub fn order(&self, other: &Self) -> Result<Ordering, String> {
        match (self, other) {
            (Self::Number(a), Self::Number(b)) => Ok(a.cmp(b)),
            (Self::Text(a), Self::Text(b)) => Ok(a.cmp(b)),
            _ => Err("a number and a text have no order".into()),
        }
    }
}

fn no_order(kind: Kind) -> String {
    format!("{} has no order; numbers and texts have", kind.phrase())
}
