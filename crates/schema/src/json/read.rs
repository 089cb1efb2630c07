//! Reading keywords (draft-07 validation section 6, and those of drafts 4 and 6).

use kyanite_eval::pattern::{Pattern, ecma};
use kyanite_tree::{Advice, Decimal, Origin, Value};

use super::Draft;
use super::compile::{Compiler, Inside};
use super::describe;
use super::format::Format;
use super::keyword::{
    Bound, Constant, Contains, Content, Dependency, Keyword, Limit, Members, Sized, Types, known,
};

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
        let dialect = self.target.dialect();
        let draft = dialect.draft;
        known(name, dialect)?;
        Some(match name {
            "$ref" => ("$ref", Keyword::Reference(self.reference("$ref", value)?)),
            "$recursiveRef" => {
                ("$recursiveRef", Keyword::Dynamic(self.reference(name, value)?, Vec::new()))
            }
            "$dynamicRef" => {
                ("$dynamicRef", Keyword::Dynamic(self.reference(name, value)?, Vec::new()))
            }
            "type" => ("type", Keyword::Types(self.types(value)?)),
            "enum" => ("enum", Keyword::Enumeration(self.constants(value)?)),
            "const" => ("const", Keyword::Constant(Constant::of(value))),
            "multipleOf" => {
                let number = self.number("multipleOf", value)?;
                if number.signum() <= 0 {
                    return self.refused("multipleOf", "a number greater than 0", value);
                }
                ("multipleOf", Keyword::MultipleOf(number))
            }
            "minimum" => self.bound("minimum", Bound::Least, Bound::MoreThan, value)?,
            "maximum" => self.bound("maximum", Bound::Most, Bound::LessThan, value)?,
            "exclusiveMinimum" if draft > Draft::V4 => {
                let number = self.number("exclusiveMinimum", value)?;
                let text = value.scalar_text().unwrap_or_default();
                ("exclusiveMinimum", Keyword::Bound(Bound::MoreThan, number, text))
            }
            "exclusiveMaximum" if draft > Draft::V4 => {
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
            "prefixItems" => {
                let first = self.several("prefixItems", value)?;
                let others = self.target.map.get("items");
                let others = others.map(|value| self.schema(&["items"], value));
                ("prefixItems", Keyword::Tuple(first, others))
            }
            "items" => match value {
                Value::List(_, items) if draft < Draft::V2020 => {
                    let first = self.schemas("items", items);
                    let others = self.target.map.get("additionalItems");
                    let others = others.map(|value| self.schema(&["additionalItems"], value));
                    ("items", Keyword::Tuple(first, others))
                }
                // It is about those behind the first ones.
                _ if draft >= Draft::V2020 && self.target.map.get("prefixItems").is_some() => {
                    return None;
                }
                _ => ("items", Keyword::Items(self.schema(&["items"], value))),
            },
            "contains" => {
                let schema = self.schema(&["contains"], value);
                let least = self.count("minContains")?.unwrap_or(1);
                let most = self.count("maxContains")?;
                ("contains", Keyword::Contains(Contains { schema, least, most }))
            }
            "uniqueItems" => match value {
                Value::Boolean(_, is_unique) => {
                    return is_unique.then_some(("uniqueItems", Keyword::Unique));
                }
                _ => return self.refused("uniqueItems", "true or false", value),
            },
            "required" => ("required", Keyword::Required(self.texts("required", value)?)),
            "propertyNames" => {
                ("propertyNames", Keyword::Names(self.schema(&["propertyNames"], value)))
            }
            "dependencies" => ("dependencies", self.dependencies("dependencies", value)?),
            "dependentRequired" => {
                ("dependentRequired", self.dependencies("dependentRequired", value)?)
            }
            "dependentSchemas" => {
                ("dependentSchemas", self.dependencies("dependentSchemas", value)?)
            }
            "unevaluatedItems" => {
                let schema = self.schema(&["unevaluatedItems"], value);
                ("unevaluatedItems", Keyword::OtherItems(schema))
            }
            "unevaluatedProperties" => {
                let schema = self.schema(&["unevaluatedProperties"], value);
                ("unevaluatedProperties", Keyword::OtherMembers(schema))
            }
            "format" => {
                let name = self.text("format", value)?;
                let format = Format::named(name, draft).filter(|_| dialect.asserts_formats)?;
                ("format", Keyword::Format(format))
            }
            "contentEncoding" if dialect.asserts_formats => {
                let encoding = Some(self.text("contentEncoding", value)?);
                let media_type = self.target.map.get("contentMediaType").and_then(Value::as_text);
                ("contentEncoding", Keyword::Content(Content { encoding, media_type }))
            }
            "contentMediaType" if dialect.asserts_formats => {
                if self.target.map.get("contentEncoding").is_some() {
                    return None;
                }
                let media_type = Some(self.text("contentMediaType", value)?);
                ("contentMediaType", Keyword::Content(Content { encoding: None, media_type }))
            }
            "allOf" => ("allOf", Keyword::All(self.several("allOf", value)?)),
            "anyOf" => ("anyOf", Keyword::Any(self.several("anyOf", value)?)),
            "oneOf" => ("oneOf", Keyword::One(self.several("oneOf", value)?)),
            "not" => ("not", Keyword::Not(self.schema(&["not"], value))),
            "if" => {
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
        known("properties", self.target.dialect())?;
        if let Some(value) = map.get("properties") {
            first = Some(("properties", value.origin()));
            let mut named = Vec::new();
            for member in self.map("properties", value)?.members() {
                named.push((member.name, self.schema(&["properties", member.name], member.value)));
            }
            members.name(named);
        }
        if let Some(value) = map.get("patternProperties") {
            first = first.or(Some(("patternProperties", value.origin())));
            for member in self.map("patternProperties", value)?.members() {
                let schema = self.schema(&["patternProperties", member.name], member.value);
                let pattern = self.pattern(member.name, member.value.origin());
                let written = member.name;
                members.patterns.extend(pattern.map(|pattern| (written, pattern, schema)));
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

    /// A keyword whose value is of the wrong kind.
    fn refused<T>(&mut self, word: &str, takes: &str, value: Value<'s>) -> Option<T> {
        let message = format!("`{word}` takes {takes}, and here is {}", describe::shown(value));
        self.compiler.problem(message, None, value.origin());
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
        if self.target.dialect().draft == Draft::V4 {
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

    /// `dependencies`, whose values are lists of names or schemas, and what later drafts made of it: a keyword for each.
    fn dependencies(&mut self, word: &str, value: Value<'s>) -> Option<Keyword<'s>> {
        let mut all = Vec::new();
        for member in self.map(word, value)?.members() {
            let needed = match member.value {
                Value::List(..) if word != "dependentSchemas" => {
                    Dependency::Members(self.texts(word, member.value)?)
                }
                other if word == "dependentRequired" => {
                    return self.refused(word, "a list of names for each member", other);
                }
                schema => Dependency::Schema(self.schema(&[word, member.name], schema)),
            };
            all.push((member.name, needed));
        }
        Some(Keyword::Dependencies(all))
    }

    /// The schema that a reference means.
    fn reference(&mut self, word: &str, value: Value<'s>) -> Option<usize> {
        let text = self.text(word, value)?;
        self.target.reference(self.compiler, text, value.origin())
    }

    /// The count that a keyword beside this one says; nothing in it where that is not there.
    fn count(&mut self, word: &'static str) -> Option<Option<u64>> {
        let there =
            self.target.map.get(word).filter(|_| known(word, self.target.dialect()).is_some());
        let Some(value) = there else { return Some(None) };
        match self.size(word, Sized::List, Limit::Least, value)?.1 {
            Keyword::Size(_, _, count) => Some(Some(count)),
            _ => None,
        }
    }

    fn pattern(&mut self, text: &str, origin: Origin) -> Option<Pattern> {
        match ecma::compile(text) {
            Ok(pattern) => Some(pattern),
            Err(error) => {
                let message = format!("{text:?} is no regular expression of ECMA-262: {error}");
                let advice =
                    Advice::words("write a backslash before signs that stand for themselves");
                self.compiler.problem(message, Some(advice), origin);
                None
            }
        }
    }
}
