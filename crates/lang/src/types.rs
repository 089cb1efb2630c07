//! What the checker knows of values: their types.

use kyanite_tree::Kind;

/// What is known of a value before there is one.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Type {
    /// Any value, or nothing.
    Any,
    /// A value of this kind, or nothing.
    Of(Kind),
}

#[expect(non_upper_case_globals, reason = "they read as the variants that they stand for")]
impl Type {
    /// Null.
    pub const Null: Self = Self::Of(Kind::Null);
    /// A boolean.
    pub const Boolean: Self = Self::Of(Kind::Boolean);
    /// A number.
    pub const Number: Self = Self::Of(Kind::Number);
    /// A text.
    pub const Text: Self = Self::Of(Kind::Text);
    /// A list.
    pub const List: Self = Self::Of(Kind::List);
    /// A map.
    pub const Map: Self = Self::Of(Kind::Map);

    /// The words for it: `a number`.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Any => "a value",
            Self::Of(kind) => kind.phrase(),
        }
    }
}
