//! From the text of a rule to its [`ast`].

pub(crate) mod ast;
mod clauses;
mod header;
mod lexer;
mod parser;
mod primary;
mod segments;
mod text;

pub(crate) use lexer::{begins_name, name_length};
pub(crate) use segments::parse_integer;
pub(crate) use text::decode as decode_text;

use crate::finding::Finding;
use ast::Rule;
use parser::Parser;

/// Parses a whole rule: header and body.
///
/// # Errors
/// All findings, when there is any: after one the parser goes on at the next clause or header item.
pub fn parse(source: &str) -> Result<Rule, Vec<Finding>> {
    let mut parser = Parser::new(source).map_err(|finding| vec![finding])?;
    match parser.rule() {
        Ok(rule) if parser.findings.is_empty() => Ok(rule),
        Ok(_) => Err(parser.findings),
        Err(finding) => {
            parser.findings.push(finding);
            Err(parser.findings)
        }
    }
}
