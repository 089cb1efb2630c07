//! Types of sequences (XPath 3.1 section 2.5.4).

use kyanite_eval::atomic::AtomicType;
use kyanite_tree::near_words;

use super::ast::{ItemType, Occurs, SequenceType};
use super::lexer::Token;
use super::parser::{Parse, Parser};
use super::paths::KIND_TESTS;
use crate::error::{Error, ErrorCode};

impl Parser<'_> {
    pub(super) fn sequence_type(&mut self) -> Parse<SequenceType> {
        let is_call = matches!(self.peek_at(1), Token::Sign("("));
        if self.is_word("empty-sequence") && is_call {
            self.advance();
            self.projected("(")?;
            self.projected(")")?;
            return Ok(SequenceType { item: ItemType::Any, occurs: Occurs::None });
        }
        let item = self.item_type()?;
        let occurs = if self.take("?") {
            Occurs::Optional
        } else if self.take("*") {
            Occurs::Any
        } else if self.take("+") {
            Occurs::Some
        } else {
            Occurs::One
        };
        Ok(SequenceType { item, occurs })
    }

    fn item_type(&mut self) -> Parse<ItemType> {
        if self.take("(") {
            let inner = self.item_type()?;
            self.projected(")")?;
            return Ok(inner);
        }
        let word = match (self.peek(), self.peek_at(1)) {
            (Token::Name(word), Token::Sign("(")) => word.clone(),
            _ => return self.atomic_type().map(ItemType::Atomic),
        };
        if KIND_TESTS.contains(&word.as_str()) {
            return self.kind_test().map(ItemType::Node);
        }
        let start = self.span();
        self.advance();
        self.projected("(")?;
        if word == "item" {
            self.projected(")")?;
            return Ok(ItemType::Any);
        }
        let is_any = self.is_sign("*") && matches!(self.peek_at(1), Token::Sign(")"));
        if is_any {
            self.advance();
            self.advance();
        }
        match word.as_str() {
            "function" if is_any => Ok(ItemType::Function(None)),
            "map" if is_any => Ok(ItemType::Map(None)),
            "array" if is_any => Ok(ItemType::Array(None)),
            "function" => {
                let mut parameters = Vec::new();
                while !self.is_sign(")") {
                    parameters.push(self.sequence_type()?);
                    if !self.take(",") {
                        break;
                    }
                }
                self.projected(")")?;
                self.need_word("as")?;
                let result = self.sequence_type()?;
                Ok(ItemType::Function(Some(Box::new((parameters, result)))))
            }
            "map" => {
                let key = self.atomic_type()?;
                self.projected(",")?;
                let value = self.sequence_type()?;
                self.projected(")")?;
                Ok(ItemType::Map(Some(Box::new((key, value)))))
            }
            "array" => {
                let member = self.sequence_type()?;
                self.projected(")")?;
                Ok(ItemType::Array(Some(Box::new(member))))
            }
            _ => {
                let message = format!("`{word}(…)` is no type");
                Err(Error::new(ErrorCode::Syntax, start, message))
            }
        }
    }

    /// `xs:integer`, or the same name with its namespace.
    pub(super) fn atomic_type(&mut self) -> Parse<AtomicType> {
        let span = self.span();
        let (prefix, local) = match self.peek().clone() {
            Token::Prefixed(prefix, local) => (prefix, local),
            Token::Name(local) => (String::new(), local),
            Token::Braced(uri, local) if uri == super::super::XS => ("xs".into(), local),
            _ => return Err(self.expected("a type")),
        };
        let found = AtomicType::named(&local).filter(|_| matches!(prefix.as_str(), "xs" | "xsd"));
        if let Some(found) = found {
            self.advance();
            return Ok(found);
        }
        let shown = if prefix.is_empty() { local.clone() } else { format!("{prefix}:{local}") };
        let error = Error::new(ErrorCode::Other("XPST0051"), span, format!("`{shown}` is no type"));
        let names = AtomicType::NAMES.iter().map(|(name, _)| *name);
        Err(match AtomicType::named(&local) {
            Some(of) => error.advise(format!("write {}", of.name())),
            None => match near_words(&local, names) {
                Some(near) => error.advise(near),
                None => error,
            },
        })
    }
}
