//! How two values are compared.

use std::cmp::Ordering;

/// How two values are compared.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Comparison {
    /// It is equal: `eq`, `=`.
    Equal,
    /// It is another value: `ne`, `!=`.
    NotEqual,
    /// `lt`, `<`.
    Less,
    /// `le`, `<=`.
    LessOrEqual,
    /// `gt`, `>`.
    Greater,
    /// `ge`, `>=`.
    GreaterOrEqual,
}

impl Comparison {
    /// Whether it holds for values of that order; those without one, such as NaN, only differ.
    #[inline]
    #[must_use]
    pub fn holds(self, order: Option<Ordering>) -> bool {
        match (self, order) {
            (Self::NotEqual, None) => true,
            (_, None) => false,
            (Self::Equal, Some(order)) => order.is_eq(),
            (Self::NotEqual, Some(order)) => order.is_ne(),
            (Self::Less, Some(order)) => order.is_lt(),
            (Self::LessOrEqual, Some(order)) => order.is_le(),
            (Self::Greater, Some(order)) => order.is_gt(),
            (Self::GreaterOrEqual, Some(order)) => order.is_ge(),
        }
    }

    /// The same comparison where the two stand the other way round.
    #[must_use]
    pub fn turned(self) -> Self {
        match self {
            Self::Less => Self::Greater,
            Self::LessOrEqual => Self::GreaterOrEqual,
            Self::Greater => Self::Less,
            Self::GreaterOrEqual => Self::LessOrEqual,
            same => same,
        }
    }

    /// Whether it only asks for equality.
    #[must_use]
    pub fn is_equality(self) -> bool {
        matches!(self, Self::Equal | Self::NotEqual)
    }
}
