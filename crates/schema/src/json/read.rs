//! Reading keywords (draft-07 validation section 6, and those of drafts 4 and 6).

use kyanite_eval::pattern::{Pattern, ecma};
use kyanite_tree::{Advice, Decimal, Origin, Value};

use super::Draft;
use super::compile::{Compiler, Inside};
use super::describe;
use super::keyword::{Bound, Constant, Dependency, Keyword, Limit, Members, Sized, Types};

/// Reads the keywords of a schema.
pub(super) struct Reader<'r, 't, 's> {
    pub(super) compiler: &'r mut Compiler<'s>,
    pub(super) target: Inside<'t, 's>,
}

/// A keyword, what it says, and where.
type Read<'s> = (&'static str, Keyword<'s>, Origin);

impl<'s> Reader<'_, '_, 's> {
    /// All keywords that say something of values.
    pub(super) fn keywords(&mut self) -> Vec<Read<'s>> {
        let map = self.target.map;
        let mut read = Vec::new();
        for member in map.members() {
            if let Some((word, keyword)) = self.keyword(member.name, member.value) {
                read.push((word, keyword, member.value.origin()));
            }
        }
        if let Some(found) = self.members() {
            read.push(found);
        }
        read
    }

    fn keyword(&mut self, name: &str, value: Value<'s>) -> Option<(&'static str, Keyword<'s>)> {
        let draft = self.target.draft();
        let since_6 = draft >= Draft::V6;
        Some(match name {
            "type" => ("type", Keyword::Types(self.types(value)?)),
            "enum" => ("enum", Keyword::Enumeration(self.constants(value)?)),
            "const" if since_6 => ("const", Keyword::Constant(Constant::of(value))),
            "multipleOf" => {
                let number = self.number("multipleOf", value)?;
                if number.signum() <= 0 {
                    return self.refused("multipleOf", "a number greater than 0", value);
                }
                ("multipleOf", Keyword::MultipleOf(number))
            }
            "minimum" => self.bound("minimum", Bound::Least, Bound::MoreThan, value)?,
            "maximum" => self.bound("maximum", Bound::Most, Bound::LessThan, value)?,
            "exclusiveMinimum" if since_6 => {
                let number = self.number("exclusiveMinimum", value)?;
                let text = value.scalar_text().unwrap_or_default();
                ("exclusiveMinimum", Keyword::Bound(Bound::MoreThan, number, text))
            }
            "exclusiveMaximum" if since_6 => {
                let number = self.number("exclusiveMaximum", value)?;
                let text = value.scalar_text().unwrap_or_default();
                ("exclusiveMaximum", Keyword::Bound(Bound::LessThan, number, text))
            }
            "minLength" => self.size("minLength", Sized::Text, Limit::Least, value)?,
            "maxLength" => self.size("maxLength", Sized::Text, Limit::Most, value)?,
            "minItems" => self.size("minItems", Sized::List, Limit::Least, value)?,
            "maxItems" => self.size("maxItems", Sized::List, Limit::Most, value)?,
            "minProperties" => self.size("minProperties", Sized::Map, Limit::Least, value)?,
            "maxProperties" => self.size("maxProperties", Sized::Map, Limit::Most, value)?,
            "pattern" => {
                let text = self.text("pattern", value)?;
                ("pattern", Keyword::Pattern(text, self.pattern(text, value.origin())?))
            }
            "items" => match value {
                Value::List(_, items) => {
                    let first = self.schemas("items", items);
                    let others = self.target.map.get("additionalItems");
                    let others = others.map(|value| self.schema(&["additionalItems"], value));
                    ("items", Keyword::Tuple(first, others))
                }
                _ => ("items", Keyword::Items(self.schema(&["items"], value))),
            },
            "contains" if since_6 => {
                ("contains", Keyword::Contains(self.schema(&["contains"], value)))
            }
            "uniqueItems" => match value {
                Value::Boolean(_, is_unique) => {
                    return is_unique.then_some(("uniqueItems", Keyword::Unique));
                }
                _ => return self.refused("uniqueItems", "true or false", value),
            },
            "required" => ("required", Keyword::Required(self.texts("required", value)?)),
            "propertyNames" if since_6 => {
                ("propertyNames", Keyword::Names(self.schema(&["propertyNames"], value)))
            }
            "dependencies" => ("dependencies", Keyword::Dependencies(self.dependencies(value)?)),
            "allOf" => ("allOf", Keyword::All(self.several("allOf", value)?)),
            "anyOf" => ("anyOf", Keyword::Any(self.several("anyOf", value)?)),
            "oneOf" => ("oneOf", Keyword::One(self.several("oneOf", value)?)),
            "not" => ("not", Keyword::Not(self.schema(&["not"], value))),
            "if" if draft >= Draft::V7 => {
                let test = self.schema(&["if"], value);
                let mut branch = |word| {
                    let value = self.target.map.get(word);
                    value.map(|value| self.schema(&[word], value))
                };
                let (yes, no) = (branch("then"), branch("else"));
                ("if", Keyword::If(test, yes, no))
            }
            _ => return None,
        })
    }

    /// What is said of the members of maps.
    fn members(&mut self) -> Option<Read<'s>> {
        let map = self.target.map;
        let mut members = Members::default();
        let mut first = None;
        if let Some(value) = map.get("properties") {
            first = Some(("properties", value.origin()));
            for member in self.map("properties", value)?.members() {
                let schema = self.schema(&["properties", member.name], member.value);
                members.named.push((member.name, schema));
            }
            members.named.sort_unstable_by_key(|(name, _)| *name);
        }
        if let Some(value) = map.get("patternProperties") {
            first = first.or(Some(("patternProperties", value.origin())));
            for member in self.map("patternProperties", value)?.members() {
                let schema = self.schema(&["patternProperties", member.name], member.value);
                let pattern = self.pattern(member.name, member.value.origin());
                members.patterns.extend(pattern.map(|pattern| (pattern, schema)));
            }
        }
        if let Some(value) = map.get("additionalProperties") {
            first = Some(("additionalProperties", value.origin()));
            members.others = Some(self.schema(&["additionalProperties"], value));
        }
        let (word, origin) = first?;
        Some((word, Keyword::Members(members), origin))
    }

    fn schema(&mut self, path: &[&str], value: Value<'s>) -> usize {
        self.target.schema(self.compiler, path, value)
    }

    fn schemas(&mut self, word: &str, items: &'s [Value<'s>]) -> Vec<usize> {
        let items = items.iter().enumerate();
        items.map(|(at, item)| self.schema(&[word, &at.to_string()], *item)).collect()
    }

    /// A keyword that does not take such a value.
    fn refused<T>(&mut self, word: &str, takes: &str, value: Value<'s>) -> Option<T> {
        let message = format!("`{word}` takes {takes}, and here is {}", describe::shown(value));
        let document = self.target.document();
        self.compiler.problem(message, None, document, value.origin());
        None
    }

    fn types(&mut self, value: Value<'s>) -> Option<Types> {
        let words = match value {
            Value::List(_, items) if !items.is_empty() => items.to_vec(),
            Value::Text(..) => vec![value],
            _ => return self.refused("type", "the name of a type, or a list of names", value),
        };
        let mut types = Types::default();
        for word in words {
            match word.as_text().and_then(Types::named) {
                Some(named) => types = types.with(named),
                None => {
                    let known = Types::words().collect::<Vec<_>>().join(", ");
                    return self.refused("type", &format!("one of {known}"), word);
                }
            }
        }
        Some(types)
    }

    fn number(&mut self, word: &str, value: Value<'s>) -> Option<Decimal> {
        match value {
            Value::Number(_, number) => match number.decimal() {
                Ok(decimal) => Some(decimal),
                Err(_) => self.refused(word, "a number of fewer digits", value),
            },
            _ => self.refused(word, "a number", value),
        }
    }

    /// `minimum` or `maximum`, which in draft 4 a second keyword makes exclusive.
    fn bound(
        &mut self,
        word: &'static str,
        bound: Bound,
        exclusive: Bound,
        value: Value<'s>,
    ) -> Option<(&'static str, Keyword<'s>)> {
        let number = self.number(word, value)?;
        let mut bound = bound;
        if self.target.draft() == Draft::V4 {
            let second = if word == "minimum" { "exclusiveMinimum" } else { "exclusiveMaximum" };
            match self.target.map.get(second) {
                None | Some(Value::Boolean(_, false)) => {}
                Some(Value::Boolean(_, true)) => bound = exclusive,
                Some(other) => return self.refused(second, "true or false", other),
            }
        }
        Some((word, Keyword::Bound(bound, number, value.scalar_text().unwrap_or_default())))
    }

    fn size(
        &mut self,
        word: &'static str,
        of: Sized,
        limit: Limit,
        value: Value<'s>,
    ) -> Option<(&'static str, Keyword<'s>)> {
        let number = self.number(word, value)?;
        let whole = number.floor().ok().filter(|whole| *whole == number);
        let count = whole.and_then(|whole| whole.to_i64()).map(u64::try_from);
        match count {
            Some(Ok(count)) => Some((word, Keyword::Size(of, limit, count))),
            _ => self.refused(word, "a whole number that is not negative", value),
        }
    }

    fn text(&mut self, word: &str, value: Value<'s>) -> Option<&'s str> {
        match value.as_text() {
            Some(text) => Some(text),
            None => self.refused(word, "a text", value),
        }
    }

    fn list(&mut self, word: &str, value: Value<'s>) -> Option<&'s [Value<'s>]> {
        match value {
            Value::List(_, items) => Some(items),
            _ => self.refused(word, "a list", value),
        }
    }

    fn constants(&mut self, value: Value<'s>) -> Option<Vec<Constant<'s>>> {
        Some(self.list("enum", value)?.iter().copied().map(Constant::of).collect())
    }

    fn map(&mut self, word: &str, value: Value<'s>) -> Option<&'s kyanite_tree::Map<'s>> {
        match value {
            Value::Map(_, map) => Some(map),
            _ => self.refused(word, "a map", value),
        }
    }

    fn texts(&mut self, word: &str, value: Value<'s>) -> Option<Vec<&'s str>> {
        let items = self.list(word, value)?;
        items.iter().map(|item| self.text(word, *item)).collect()
    }

    fn several(&mut self, word: &str, value: Value<'s>) -> Option<Vec<usize>> {
        let items = self.list(word, value)?;
        if items.is_empty() {
            return self.refused(word, "a list of at least one schema", value);
        }
        Some(self.schemas(word, items))
    }

    fn dependencies(&mut self, value: Value<'s>) -> Option<Vec<(&'s str, Dependency<'s>)>> {
        let mut all = Vec::new();
        for member in self.map("dependencies", value)?.members() {
            let needed = match member.value {
                Value::List(..) => Dependency::Members(self.texts("dependencies", member.value)?),
                schema => Dependency::Schema(self.schema(&["dependencies", member.name], schema)),
            };
            all.push((member.name, needed));
        }
        Some(all)
    }

    fn pattern(&mut self, text: &str, origin: Origin) -> Option<Pattern> {
        match ecma::compile(text) {
            Ok(pattern) => Some(pattern),
            Err(error) => {
                let message = format!("{text:?} is no regular expression of ECMA-262: {error}");
                let document = self.target.document();
                let advice =
                    Advice::words("write a backslash before signs that stand for themselves");
                self.compiler.problem(message, Some(advice), document, origin);
                None
            }
        }
    }
}
