//! The segments of a path (RFC 9535 sections 2.3 and 2.5), with the rule language's computed steps.

use kyanite_tree::{Advice, Code};

use super::ast::{Segment, Selector};
use super::lexer::{Token, continues_name};
use super::parser::{Parsed, Parser};
use crate::finding::{Finding, Span, instead};

/// The largest integer that an index or slice may have (RFC 9535 section 2.1, I-JSON's exact range).
const LARGEST_INTEGER: i64 = (1 << 53) - 1;

impl Parser<'_> {
    /// Whether a segment comes next that belongs to this expression.
    pub(super) fn at_segment(&self) -> bool {
        match self.next.token {
            Token::Symbol("." | "..") => true,
            // On a new line of a header a bracket begins the next item: a body that is a list.
            Token::Symbol("[") => !(self.ends_with_line && self.next.on_new_line),
            _ => false,
        }
    }

    pub(super) fn segments(&mut self, segments: &mut Vec<Segment>) -> Parsed<()> {
        while self.at_segment() {
            let start = self.next.span.start;
            let in_brackets = self.at_symbol("[");
            let (descendant, selectors) = if in_brackets {
                (false, self.brackets()?)
            } else {
                let descendant = self.at_symbol("..");
                self.advance()?;
                (descendant, self.after_dots(descendant)?)
            };
            let span = self.span_from(start);
            segments.push(Segment { descendant, in_brackets, selectors, span });
        }
        Ok(())
    }

    fn after_dots(&mut self, descendant: bool) -> Parsed<Vec<Selector>> {
        let dots = if descendant { ".." } else { "." };
        if self.next.after_blank && self.next.token != Token::End {
            return Err(self
                .unexpected(&format!("a blank stands after `{dots}`"))
                .advise("write the name right after it"));
        }
        match &self.next.token {
            Token::Name(name) => {
                let selector = Selector::Name(name.clone());
                self.advance()?;
                Ok(vec![selector])
            }
            Token::Symbol("*") => {
                self.advance()?;
                Ok(vec![Selector::Wildcard])
            }
            Token::Symbol("@") => {
                self.advance()?;
                match &self.next.token {
                    Token::Name(name) if !self.next.after_blank => {
                        let selector = Selector::Name(format!("@{name}"));
                        self.advance()?;
                        Ok(vec![selector])
                    }
                    _ => Err(self.unexpected("the name of an attribute is missing behind `@`")),
                }
            }
            Token::Symbol("[") if descendant => self.brackets(),
            Token::Symbol("[") => {
                Err(self.unexpected("a bracket stands after `.`").advise("leave the dot out"))
            }
            Token::Number(number) => {
                Err(self.unexpected("a number stands after a dot").advise(instead(
                    Span::new(self.last_end - 1, self.next.span.end),
                    format!("[{number}]"),
                    &format!(" for an item, ['{number}'] for a member"),
                )))
            }
            Token::Text(text) => Err(self.unexpected("a text stands after a dot").advise(instead(
                Span::new(self.last_end - 1, self.next.span.end),
                format!("['{text}']"),
                " without the dot",
            ))),
            Token::Symbol("$") if !self.next.after_blank => Err(self.dollar_name(descendant)),
            _ => Err(self.unexpected(&format!(
                "a name is missing between `{dots}` and {}",
                self.next_words()
            ))),
        }
    }

    /// Names that begin with a dollar sign, as those of JSON Schema do, stand in brackets.
    fn dollar_name(&self, descendant: bool) -> Finding {
        let start = self.next.span.start;
        let source = self.lexer.source();
        let length = source[start + 1..].find(|c| !continues_name(c));
        let end = length.map_or(source.len(), |length| start + 1 + length);
        let name = &source[start..end];
        let dots = if descendant { ".." } else { "" };
        let span = Span::new(start, end);
        let text = format!("{dots}['{name}']");
        let advice =
            instead(Span::new(self.last_end - if descendant { 2 } else { 1 }, end), text, "");
        Finding::error_at(Code::RuleSyntax, span, format!("`{name}` cannot stand behind a dot"))
            .advise(advice)
    }

    fn brackets(&mut self) -> Parsed<Vec<Selector>> {
        let open = self.advance()?.span;
        self.inside(|parser| {
            if parser.at_symbol("]") {
                return Err(Finding::error_at(
                    Code::RuleSyntax,
                    open.to(parser.next.span),
                    "these brackets are empty",
                )
                .advise("write [*] for all items, [0] for the first"));
            }
            let mut selectors = Vec::new();
            loop {
                selectors.push(parser.selector()?);
                if parser.take("]")? {
                    break;
                }
                if !parser.take(",")? {
                    let words = parser.next_words();
                    let finding =
                        parser.misplaced(&format!("a comma or `]` is missing before {words}"));
                    let close =
                        format!("close the bracket opened at column {}", parser.column(open));
                    let has_advice = finding.advice().is_some();
                    return Err(if has_advice { finding } else { finding.advise(close) });
                }
            }
            let computed = selectors.iter().any(|s| matches!(s, Selector::Computed(_)));
            if computed && selectors.len() > 1 {
                return Err(Finding::error_at(
                    Code::RuleSyntax,
                    parser.span_from(open.start),
                    "a computed step stands alone in its brackets",
                ));
            }
            Ok(selectors)
        })
    }

    fn column(&self, span: Span) -> u64 {
        kyanite_tree::LineColumn::of(self.lexer.source().as_bytes(), span.start).column
    }

    fn selector(&mut self) -> Parsed<Selector> {
        match &self.next.token {
            Token::Text(name) => {
                let selector = Selector::Name(name.clone());
                self.advance()?;
                Ok(selector)
            }
            Token::Symbol("*") => {
                self.advance()?;
                Ok(Selector::Wildcard)
            }
            Token::Symbol("?") => {
                self.advance()?;
                Ok(Selector::Filter(Box::new(self.whole()?)))
            }
            Token::Symbol("(") => {
                self.advance()?;
                let inner = self.whole()?;
                self.expect(")", "after the computed step")?;
                Ok(Selector::Computed(Box::new(inner)))
            }
            Token::Symbol("-" | ":") | Token::Number(_) => self.index_or_slice(),
            Token::Name(name) => {
                let why = format!(" for the member, [({name})] for a computed step");
                let text = format!("'{name}'");
                let advice = Advice::words(format!("write [{text}]{why}"));
                Err(self
                    .unexpected("a name in brackets needs quotes")
                    .advise(advice.fix(self.next.span, text)))
            }
            _ => {
                Err(self.unexpected(&format!("a selector is missing before {}", self.next_words())))
            }
        }
    }

    fn index_or_slice(&mut self) -> Parsed<Selector> {
        let start = self.integer()?;
        if !self.at_symbol(":") {
            return match start {
                Some(index) => Ok(Selector::Index(index)),
                None => Err(self.unexpected("an index is missing here")),
            };
        }
        self.advance()?;
        let end = self.integer()?;
        let step = if self.take(":")? { self.integer()? } else { None };
        Ok(Selector::Slice { start, end, step: step.unwrap_or(1) })
    }

    /// An integer, if one comes next (RFC 9535 section 2.3.3.1: no `-0`, no leading zeros).
    fn integer(&mut self) -> Parsed<Option<i64>> {
        let start = self.next.span;
        let negative = self.take("-")?;
        let Token::Number(number) = &self.next.token else {
            return if negative {
                Err(self.unexpected("a number is missing after the minus"))
            } else {
                Ok(None)
            };
        };
        let number = number.clone();
        let span = start.to(self.next.span);
        if negative && self.next.after_blank {
            return Err(Finding::error_at(
                Code::RuleSyntax,
                span,
                "a blank stands inside a number",
            ));
        }
        self.advance()?;
        parse_integer(negative, &number)
            .map(Some)
            .map_err(|message| Finding::error_at(Code::RuleSyntax, span, message))
    }
}

/// An integer of an index or slice, from its digits.
pub(crate) fn parse_integer(negative: bool, digits: &str) -> Result<i64, &'static str> {
    if negative && digits == "0" {
        return Err("-0 is no index");
    }
    if !digits.bytes().all(|byte| byte.is_ascii_digit()) {
        return Err("an index is a whole number without an exponent");
    }
    let magnitude = digits.parse::<i64>().ok().filter(|magnitude| *magnitude <= LARGEST_INTEGER);
    let magnitude = magnitude.ok_or("this index is outside -(2^53-1) to 2^53-1")?;
    Ok(if negative { -magnitude } else { magnitude })
}
