//! From the text of a rule to its [`ast`].

pub(crate) mod ast;
mod clauses;
mod edits;
mod format;
mod header;
mod hyphen;
mod lexer;
mod parser;
mod primary;
mod segments;
mod text;

pub use format::format;
pub(crate) use hyphen::Hyphenated;
pub(crate) use lexer::{begins_name, name_length};
#[cfg(test)]
pub(crate) use parser::CLAUSE_WORDS;
pub(crate) use parser::RESERVED;
pub(crate) use segments::parse_integer;
pub(crate) use text::decode as decode_text;

use kyanite_tree::Code;

use crate::finding::{Finding, RuleText};
use ast::{Binding, ClauseKind, Entry, Expr, ExprKind, HeaderItem, Path, Rule, Start};
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

/// Parses a rule and the libraries behind it, whose defs come first.
///
/// # Errors
/// All findings.
pub fn parse_all(rule: &RuleText) -> Result<Rule, Vec<Finding>> {
    let mut parts = rule.parts();
    let mut parsed = match parts.next() {
        Some((main, _)) => parse(main)?,
        None => parse("")?,
    };
    let mut defs = Vec::new();
    for (text, start) in parts {
        let items = Parser::from(text, start).and_then(|mut parser| parser.library());
        defs.extend(items.map_err(|finding| vec![finding])?);
    }
    defs.append(&mut parsed.header);
    Ok(Rule { header: defs, ..parsed })
}

/// The files that a rule, or a library, uses.
pub fn uses(text: &str, is_library: bool) -> Vec<String> {
    let items = match Parser::new(text) {
        Err(_) => return Vec::new(),
        Ok(mut parser) if is_library => parser.library().unwrap_or_default(),
        Ok(mut parser) => parser.rule().map(|rule| rule.header).unwrap_or_default(),
    };
    let files = items.into_iter().filter_map(|item| match item {
        HeaderItem::Use { file } => Some(file),
        _ => None,
    });
    files.collect()
}

/// The rule up to the clause of that number of its outermost `for`: the result is a map of all names bound there.
///
/// # Errors
/// When the body is no `for`, or has fewer clauses.
pub fn until(mut rule: Rule, clauses: usize) -> Result<Rule, Vec<Finding>> {
    let span = rule.body.span;
    let ExprKind::Loop(repeat) = &mut rule.body.kind else {
        return Err(vec![Finding::error_at(
            Code::CommandLine,
            span,
            "the rule has no clauses to stop at",
        )]);
    };
    if clauses == 0 || clauses > repeat.clauses.len() {
        let message = format!("the rule has {} clauses", repeat.clauses.len());
        return Err(vec![Finding::error_at(Code::CommandLine, span, message)]);
    }
    repeat.clauses.truncate(clauses);
    let mut names: Vec<&Binding> = Vec::new();
    for clause in &repeat.clauses {
        match &clause.kind {
            ClauseKind::For { name, at, .. } => names.extend([name].into_iter().chain(at)),
            ClauseKind::Let(name, _) | ClauseKind::Carry { name, .. } => names.push(name),
            ClauseKind::GroupBy(keys) => names.extend(keys.iter().map(|(name, _)| name)),
            _ => {}
        }
    }
    let entries = names
        .into_iter()
        .map(|Binding { name, span }| {
            let start = Start::Name(name.clone());
            let path = Path { start, start_span: *span, segments: Vec::new() };
            let value = Expr { kind: ExprKind::Path(path), span: *span };
            Entry::Named { name: name.clone(), name_span: *span, value }
        })
        .collect();
    repeat.result = Expr { kind: ExprKind::Map(entries), span };
    Ok(rule)
}
