//! What is wrong with an expression, or with evaluating it.

use std::fmt;

use kyanite_eval::atomic::AtomicError;
use kyanite_eval::picture::PictureError;
use kyanite_tree::{Advice, Origin, Span};

/// The codes of the standards (XPath 3.1 appendix F, F&O 3.1 appendix C).
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum ErrorCode {
    /// `XPST0003`: the text does not follow the grammar.
    Syntax,
    /// `XPDY0002`: there is no context item.
    NoContext,
    /// `XPTY0004`: a value is not of the type that is needed.
    Type,
    /// `XPST0008`: a variable is not known.
    Variable,
    /// `XPST0017`: a function is not known.
    Function,
    /// `XPST0081`: a prefix is not declared.
    Prefix,
    /// Another one, by its code.
    Other(&'static str),
}

impl ErrorCode {
    /// The code as the standards spell it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Syntax => "XPST0003",
            Self::NoContext => "XPDY0002",
            Self::Type => "XPTY0004",
            Self::Variable => "XPST0008",
            Self::Function => "XPST0017",
            Self::Prefix => "XPST0081",
            Self::Other(code) => code,
        }
    }

    /// Whether it is found before the expression is evaluated.
    #[must_use]
    pub fn is_static(self) -> bool {
        self.word().starts_with("XPST") && self != Self::Prefix
    }
}

/// An error with its place in the expression. It takes as much room as a pointer.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Error(Box<Inner>);

#[derive(Clone, PartialEq, Eq, Debug)]
struct Inner {
    code: ErrorCode,
    /// The code that the expression itself gave to error().
    raised: Option<String>,
    message: String,
    span: Option<Span>,
    origin: Origin,
    advice: Option<Advice<Span>>,
}

impl Error {
    /// An error at a place in the expression.
    #[must_use]
    pub fn new(code: ErrorCode, span: Span, message: impl Into<String>) -> Self {
        Self(Box::new(Inner { span: Some(span), ..Inner::of(code, message.into()) }))
    }

    /// An error whose place is not known yet.
    #[must_use]
    pub fn unplaced(code: ErrorCode, message: impl Into<String>) -> Self {
        Self(Box::new(Inner::of(code, message.into())))
    }

    /// An error that the expression raised itself, with a code of its own.
    #[must_use]
    pub(crate) fn raised(code: String, message: String) -> Self {
        let inner = Inner::of(ErrorCode::Other("FOER0000"), message);
        Self(Box::new(Inner { raised: Some(code), ..inner }))
    }

    /// Says what to do about it.
    #[must_use]
    pub fn advise(mut self, advice: impl Into<Advice<Span>>) -> Self {
        self.0.advice = Some(advice.into());
        self
    }

    /// Places it, where it has no place yet.
    #[must_use]
    pub fn at(mut self, span: Span) -> Self {
        self.0.span.get_or_insert(span);
        self
    }

    /// Says which value of a document it is about, where that is not said yet.
    #[must_use]
    pub fn about(mut self, origin: Origin) -> Self {
        if !self.0.origin.is_known() {
            self.0.origin = origin;
        }
        self
    }

    /// The code.
    #[must_use]
    pub fn code(&self) -> ErrorCode {
        self.0.code
    }

    /// The code as it is shown: that of the standard, or what error() was given.
    #[must_use]
    pub fn code_word(&self) -> &str {
        self.0.raised.as_deref().unwrap_or(self.0.code.word())
    }

    /// The sentence.
    #[must_use]
    pub fn message(&self) -> &str {
        &self.0.message
    }

    /// The place in the expression.
    #[must_use]
    pub fn span(&self) -> Span {
        self.0.span.unwrap_or_default()
    }

    /// Where the value was read that it is about.
    #[must_use]
    pub fn origin(&self) -> Origin {
        self.0.origin
    }

    /// What to do about it.
    #[must_use]
    pub fn advice(&self) -> Option<&Advice<Span>> {
        self.0.advice.as_ref()
    }
}

impl Inner {
    fn of(code: ErrorCode, message: String) -> Self {
        Self { code, raised: None, message, span: None, origin: Origin::NONE, advice: None }
    }
}

impl fmt::Display for Error {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} ({})", self.message(), self.code_word())
    }
}

impl std::error::Error for Error {}

impl From<AtomicError> for Error {
    fn from(error: AtomicError) -> Self {
        Self::unplaced(ErrorCode::Other(error.code).known(), error.message)
    }
}

impl From<PictureError> for Error {
    fn from(error: PictureError) -> Self {
        Self::unplaced(ErrorCode::Other(error.code), error.message)
    }
}

impl ErrorCode {
    /// The same code by its own variant, where it has one.
    fn known(self) -> Self {
        [Self::Syntax, Self::NoContext, Self::Type, Self::Variable, Self::Function, Self::Prefix]
            .into_iter()
            .find(|code| code.word() == self.word())
            .unwrap_or(self)
    }
}
