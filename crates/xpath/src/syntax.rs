//! From text to syntax tree: XPath 1.0 (W3C recommendation of 1999) and XPath 3.1 (of 2017), in one grammar of which the
//! older is a part.

pub(crate) mod ast;
mod facts;
pub(crate) mod lexer;
mod parser;
mod paths;
mod position;
mod primary;
mod scope;
mod types;

pub(crate) use facts::{each, gives_one};
pub(crate) use parser::{Parsed, StepInfo, parse};
pub(crate) use position::asks_place;
