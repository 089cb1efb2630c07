//! Atomic values: the primitive datatypes of XML Schema that XPath computes with (XSD 1.1 part 2, XDM 3.1 section 2.7).
//!
//! ```
//! use kyanite_eval::atomic::{Atomic, AtomicType};
//!
//! let weight = Atomic::untyped("18200").cast(AtomicType::Integer).unwrap();
//! assert_eq!(weight.to_string(), "18200");
//! assert!(Atomic::untyped("heavy").cast(AtomicType::Integer).is_err());
//! ```

mod arithmetic;
mod cast;
mod compare;
mod key;

use std::fmt;
use std::sync::Arc;

pub use arithmetic::{Arithmetic, Numeric};
pub use key::AtomicKey;
use kyanite_tree::Decimal;

use crate::number;
use crate::time::{DateTime, Duration, DurationKind, TimeKind};

/// A text that is borrowed from a document, or shared.
#[derive(Clone, Debug)]
pub enum Text<'a> {
    /// Of a document.
    Read(&'a str),
    /// Computed.
    Made(Arc<str>),
}

impl std::ops::Deref for Text<'_> {
    type Target = str;

    fn deref(&self) -> &str {
        match self {
            Self::Read(text) => text,
            Self::Made(text) => text,
        }
    }
}

impl From<String> for Text<'_> {
    fn from(text: String) -> Self {
        Self::Made(text.into())
    }
}

impl<'a> From<&'a str> for Text<'a> {
    fn from(text: &'a str) -> Self {
        Self::Read(text)
    }
}

impl<'a> From<std::borrow::Cow<'a, str>> for Text<'a> {
    fn from(text: std::borrow::Cow<'a, str>) -> Self {
        match text {
            std::borrow::Cow::Borrowed(text) => Self::Read(text),
            std::borrow::Cow::Owned(text) => text.into(),
        }
    }
}

/// A name with its namespace, as a value (XSD 1.1 part 2 section 3.3.18).
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct QName {
    /// The prefix, which does not count when names are compared.
    pub prefix: String,
    /// The URI of the namespace; empty for none.
    pub namespace: String,
    /// The local name.
    pub local: String,
}

impl fmt::Display for QName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.prefix.is_empty() {
            f.write_str(&self.local)
        } else {
            write!(f, "{}:{}", self.prefix, self.local)
        }
    }
}

/// An atomic value.
#[derive(Clone, Debug)]
pub enum Atomic<'a> {
    /// Text of a document without a type: it compares and computes as what it meets.
    Untyped(Text<'a>),
    /// Text.
    String(Text<'a>),
    /// A URI.
    AnyUri(Text<'a>),
    /// True or false.
    Boolean(bool),
    /// A whole number.
    Integer(i64),
    /// A whole number that needs more than 64 bits.
    Large(Arc<Decimal>),
    /// An exact number.
    Decimal(Arc<Decimal>),
    /// A number of 32 bits.
    Float(f32),
    /// A number of 64 bits.
    Double(f64),
    /// A date, a time, or both.
    Time(Arc<DateTime>),
    /// A duration.
    Duration(Arc<Duration>),
    /// A name.
    QName(Arc<QName>),
}

/// The type of an atomic value.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Hash)]
pub enum AtomicType {
    /// Any of them: `xs:anyAtomicType`.
    Any,
    /// Any number: `xs:numeric` (F&O 3.1 section 1.6.3).
    Numeric,
    /// `xs:untypedAtomic`.
    Untyped,
    /// `xs:string`.
    String,
    /// `xs:anyURI`.
    AnyUri,
    /// `xs:boolean`.
    Boolean,
    /// `xs:integer`.
    Integer,
    /// `xs:decimal`.
    Decimal,
    /// `xs:float`.
    Float,
    /// `xs:double`.
    Double,
    /// `xs:dateTime`, `xs:date` or `xs:time`.
    Time(TimeKind),
    /// `xs:duration` and its two subtypes.
    Duration(DurationKind),
    /// `xs:QName`.
    QName,
}

impl AtomicType {
    /// All types, with their local names in the namespace of XML Schema.
    pub const NAMES: &'static [(&'static str, Self)] = &[
        ("anyAtomicType", Self::Any),
        ("numeric", Self::Numeric),
        ("untypedAtomic", Self::Untyped),
        ("string", Self::String),
        ("anyURI", Self::AnyUri),
        ("boolean", Self::Boolean),
        ("integer", Self::Integer),
        ("decimal", Self::Decimal),
        ("float", Self::Float),
        ("double", Self::Double),
        ("dateTime", Self::Time(TimeKind::DateTime)),
        ("date", Self::Time(TimeKind::Date)),
        ("time", Self::Time(TimeKind::Time)),
        ("duration", Self::Duration(DurationKind::Any)),
        ("yearMonthDuration", Self::Duration(DurationKind::YearMonth)),
        ("dayTimeDuration", Self::Duration(DurationKind::DayTime)),
        ("QName", Self::QName),
    ];

    /// The type of that local name.
    #[must_use]
    pub fn named(local: &str) -> Option<Self> {
        Self::NAMES.iter().find(|(name, _)| *name == local).map(|(_, of)| *of)
    }

    /// Its name with the usual prefix: `xs:integer`.
    #[must_use]
    pub fn name(self) -> String {
        let found = Self::NAMES.iter().find(|(_, of)| *of == self);
        format!("xs:{}", found.map_or("anyAtomicType", |(name, _)| name))
    }

    /// Whether all values of this type are values of `other`.
    #[must_use]
    pub fn is_a(self, other: Self) -> bool {
        self == other
            || match other {
                Self::Any => true,
                Self::Numeric => self.is_numeric(),
                Self::Decimal => self == Self::Integer,
                Self::Duration(DurationKind::Any) => matches!(self, Self::Duration(_)),
                _ => false,
            }
    }

    /// Whether it is a type of numbers.
    #[must_use]
    pub fn is_numeric(self) -> bool {
        matches!(self, Self::Integer | Self::Decimal | Self::Float | Self::Double | Self::Numeric)
    }
}

/// Why a value cannot be cast, compared or computed with: the error code of the standard, and a sentence.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct AtomicError {
    /// The code (F&O 3.1 appendix C, XPath 3.1 appendix F).
    pub code: &'static str,
    /// What is wrong.
    pub message: String,
}

impl AtomicError {
    /// An error of that code.
    #[must_use]
    pub fn new(code: &'static str, message: impl Into<String>) -> Self {
        Self { code, message: message.into() }
    }
}

impl fmt::Display for AtomicError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} ({})", self.message, self.code)
    }
}

impl std::error::Error for AtomicError {}

impl<'a> Atomic<'a> {
    /// Text of a document without a type.
    #[must_use]
    pub fn untyped(text: impl Into<Text<'a>>) -> Self {
        Self::Untyped(text.into())
    }

    /// A text.
    #[must_use]
    pub fn string(text: impl Into<Text<'a>>) -> Self {
        Self::String(text.into())
    }

    /// A whole number, in the form that holds it.
    #[must_use]
    pub fn integer(number: Decimal) -> Self {
        match number.to_i64() {
            Some(small) => Self::Integer(small),
            None => Self::Large(Arc::new(number)),
        }
    }

    /// An exact number.
    #[must_use]
    pub fn decimal(number: Decimal) -> Self {
        Self::Decimal(Arc::new(number))
    }

    /// A date, a time, or both.
    #[must_use]
    pub fn time(time: DateTime) -> Self {
        Self::Time(Arc::new(time))
    }

    /// A duration.
    #[must_use]
    pub fn duration(duration: Duration) -> Self {
        Self::Duration(Arc::new(duration))
    }

    /// The type of the value.
    #[must_use]
    pub fn atomic_type(&self) -> AtomicType {
        match self {
            Self::Untyped(_) => AtomicType::Untyped,
            Self::String(_) => AtomicType::String,
            Self::AnyUri(_) => AtomicType::AnyUri,
            Self::Boolean(_) => AtomicType::Boolean,
            Self::Integer(_) | Self::Large(_) => AtomicType::Integer,
            Self::Decimal(_) => AtomicType::Decimal,
            Self::Float(_) => AtomicType::Float,
            Self::Double(_) => AtomicType::Double,
            Self::Time(time) => AtomicType::Time(time.kind),
            Self::Duration(duration) => AtomicType::Duration(duration.kind),
            Self::QName(_) => AtomicType::QName,
        }
    }

    /// The text, if it is a text of some sort.
    #[must_use]
    pub fn as_text(&self) -> Option<&Text<'a>> {
        match self {
            Self::Untyped(text) | Self::String(text) | Self::AnyUri(text) => Some(text),
            _ => None,
        }
    }

    /// The value as a text (F&O 3.1 section 19.1.2).
    #[must_use]
    pub fn to_text(&self) -> Text<'a> {
        match self.as_text() {
            Some(text) => text.clone(),
            None => self.to_string().into(),
        }
    }
}

impl fmt::Display for Atomic<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Untyped(text) | Self::String(text) | Self::AnyUri(text) => f.write_str(text),
            Self::Boolean(value) => write!(f, "{value}"),
            Self::Integer(number) => write!(f, "{number}"),
            Self::Large(number) | Self::Decimal(number) => {
                f.write_str(&number::decimal_text(number))
            }
            Self::Float(number) => f.write_str(&number::float_text(*number)),
            Self::Double(number) => f.write_str(&number::double_text(*number)),
            Self::Time(time) => write!(f, "{time}"),
            Self::Duration(duration) => write!(f, "{duration}"),
            Self::QName(name) => write!(f, "{name}"),
        }
    }
}
