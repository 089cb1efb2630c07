//! What the checker knows of values: their types.

/// What is known of a value before there is one.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Type {
    /// Any value, or nothing.
    Any,
    /// Null.
    Null,
    /// A boolean.
    Boolean,
    /// A number.
    Number,
    /// A text.
    Text,
    /// A list.
    List,
    /// A map.
    Map,
}

impl Type {
    /// The word for it in the reference.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Any => "a value",
            Self::Null => "null",
            Self::Boolean => "a boolean",
            Self::Number => "a number",
            Self::Text => "a text",
            Self::List => "a list",
            Self::Map => "a map",
        }
    }
}
