//! Simple types (XSD 1.0 part 2): built in and derived, and whether a text is a value of one.

use std::borrow::Cow;

use kyanite_eval::pattern::Pattern;
use kyanite_tree::{Origin, near_words};

use super::components::SimpleId;
use super::value::{
    Prefixes, Primitive, Value, decimal, is_name, is_name_token, is_nc_name, write_text_key,
};

/// How white space in a text is normalized (section 4.3.6).
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub(super) enum White {
    Preserve,
    Replace,
    Collapse,
}

/// A simple type.
#[derive(Clone, Debug)]
pub(super) struct SimpleType {
    /// Its name as it is shown; nothing for one without a name.
    pub(super) name: Option<String>,
    /// The type that it is derived from.
    pub(super) base: Option<SimpleId>,
    pub(super) variety: Variety,
    pub(super) white: White,
    /// What only built-in types ask of a text.
    pub(super) lexical: Option<Lexical>,
    pub(super) facets: Facets,
    pub(super) role: Role,
    pub(super) origin: Origin,
    /// The derivations that it does not allow.
    pub(super) is_final: super::components::Derivations,
}

#[derive(Clone, Debug)]
pub(super) enum Variety {
    /// The type above all simple types.
    Any,
    Atomic(Primitive),
    List(SimpleId),
    Union(Vec<SimpleId>),
}

/// How texts of a built-in type are spelled, beyond what its primitive type asks.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Lexical {
    Language,
    NameToken,
    Name,
    NcName,
    Integer,
}

/// What a value is to the whole document (XML 1.0 section 3.3.1).
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub(super) enum Role {
    #[default]
    None,
    /// It names its element, once in a document.
    Id,
    /// It names an element that is there.
    Reference,
    /// It names an unparsed entity that the document declares.
    Entity,
}

/// What a type asks of its values, with what its bases ask.
#[derive(Clone, Debug, Default)]
pub(super) struct Facets {
    pub(super) length: Option<Counted>,
    pub(super) least_length: Option<Counted>,
    pub(super) most_length: Option<Counted>,
    /// One list for each step of the derivation: one pattern of each has to fit.
    pub(super) patterns: Vec<Patterns>,
    pub(super) enumeration: Option<Enumeration>,
    pub(super) lower: Option<Bound>,
    pub(super) upper: Option<Bound>,
    pub(super) total_digits: Option<Counted>,
    pub(super) fraction_digits: Option<Counted>,
    /// Whether white space is normalized in a way that cannot be changed.
    pub(super) white_is_fixed: bool,
}

/// A count that a facet says, and where.
#[derive(Clone, Copy, Debug)]
pub(super) struct Counted {
    pub(super) count: u64,
    pub(super) is_fixed: bool,
    pub(super) origin: Origin,
}

#[derive(Clone, Debug)]
pub(super) struct Patterns {
    pub(super) alternatives: Vec<Pattern>,
    /// As they are written.
    pub(super) written: Vec<String>,
    pub(super) origin: Origin,
}

#[derive(Clone, Debug)]
pub(super) struct Enumeration {
    pub(super) values: Vec<(Value, String)>,
    pub(super) origin: Origin,
}

#[derive(Clone, Debug)]
pub(super) struct Bound {
    pub(super) value: Value,
    pub(super) written: String,
    /// Whether the value itself lies outside.
    pub(super) is_exclusive: bool,
    pub(super) is_fixed: bool,
    pub(super) origin: Origin,
}

/// A text that is no value of a type.
#[derive(Clone, Debug)]
pub(super) struct Wrong {
    pub(super) message: String,
    pub(super) advice: Option<String>,
    /// Where what it breaks stands in the schema.
    pub(super) rule: Origin,
    pub(super) keyword: &'static str,
}

/// A name that a value gives or refers to.
pub(super) type Named = (Role, String);

/// A text in a message is cut to this many characters.
const SHOWN: usize = 60;

/// A text as it is shown in a message.
pub(super) fn shown(text: &str) -> String {
    match text.char_indices().nth(SHOWN) {
        Some((end, _)) => format!("{:?}", format!("{}…", &text[..end])),
        None => format!("{text:?}"),
    }
}

/// A text with its white space normalized.
pub(super) fn normalized(text: &str, white: White) -> Cow<'_, str> {
    let is_other = |byte: u8| matches!(byte, b'\t' | b'\n' | b'\r');
    match white {
        White::Preserve => text.into(),
        White::Replace if !text.bytes().any(is_other) => text.into(),
        White::Replace => text.replace(['\t', '\n', '\r'], " ").into(),
        White::Collapse => {
            // Where a blank stands in front, behind another, or at the end.
            let (mut is_behind_blank, mut is_plain) = (true, true);
            for byte in text.bytes() {
                let is_blank = byte == b' ';
                is_plain &= !(is_blank && is_behind_blank || is_other(byte));
                is_behind_blank = is_blank;
            }
            if text.is_empty() || is_plain && !is_behind_blank {
                return text.into();
            }
            let words = text.split([' ', '\t', '\n', '\r']).filter(|word| !word.is_empty());
            words.collect::<Vec<_>>().join(" ").into()
        }
    }
}

/// All simple types, by their numbers.
#[derive(Debug, Default)]
pub(super) struct SimpleTypes(pub(super) Vec<SimpleType>);

impl SimpleTypes {
    pub(super) fn get(&self, id: SimpleId) -> &SimpleType {
        &self.0[id.0]
    }

    /// The name of a type in messages: that of the nearest type with one.
    pub(super) fn name(&self, id: SimpleId) -> &str {
        let mut at = Some(id);
        while let Some(id) = at {
            let known = self.get(id);
            if let Some(name) = &known.name {
                return name;
            }
            at = known.base;
        }
        "a simple type"
    }

    /// Whether a type is another, or derived from it; the members of a union are derived from it (section 3.14.6 of part 1).
    pub(super) fn is_derived(&self, id: SimpleId, from: SimpleId) -> bool {
        if matches!(self.get(from).variety, Variety::Any) {
            return true;
        }
        let mut at = Some(id);
        while let Some(here) = at {
            if here == from {
                return true;
            }
            at = self.get(here).base;
        }
        match &self.get(from).variety {
            Variety::Union(members) if self.get(from).facets.is_empty() => {
                members.iter().any(|member| *member != from && self.is_derived(id, *member))
            }
            _ => false,
        }
    }

    /// Whether values of a type name elements, or may.
    pub(super) fn role(&self, id: SimpleId) -> Role {
        let known = self.get(id);
        match &known.variety {
            Variety::List(item) => self.role(*item),
            _ => known.role,
        }
    }

    /// Whether a text is a value of a type; `named` gets names that it gives or refers to.
    ///
    /// # Errors
    /// What is wrong with it.
    pub(super) fn check(
        &self,
        id: SimpleId,
        text: &str,
        prefixes: Prefixes<'_>,
        named: &mut Vec<Named>,
    ) -> Result<(), Wrong> {
        let known = self.get(id);
        let text = normalized(text, known.white);
        match &known.variety {
            Variety::Any => return Ok(()),
            Variety::Atomic(primitive) => {
                let is_spelled = primitive.is_spelled(&text, prefixes)
                    && known.lexical.is_none_or(|lexical| lexical.fits(&text));
                if !is_spelled {
                    return Err(self.misspelt(id, *primitive, &text, prefixes));
                }
                if known.role != Role::None {
                    named.push((known.role, text.clone().into_owned()));
                }
            }
            Variety::List(item) => {
                for word in text.split(' ').filter(|word| !word.is_empty()) {
                    self.check(*item, word, prefixes, named)?;
                }
            }
            Variety::Union(members) => {
                let before = named.len();
                let fits = members.iter().any(|member| {
                    named.truncate(before);
                    self.check(*member, &text, prefixes, named).is_ok()
                });
                if !fits {
                    return Err(self.of_no_member(id, members, &text));
                }
            }
        }
        if known.facets.is_empty() {
            return Ok(());
        }
        self.check_facets(known, &text, prefixes)
    }

    /// Writes the [key](Value::write_key) of the value that a text spells; None if it is none of the type.
    pub(super) fn write_key(
        &self,
        id: SimpleId,
        text: &str,
        prefixes: Prefixes<'_>,
        out: &mut String,
    ) -> Option<()> {
        let known = self.get(id);
        match known.variety {
            Variety::Atomic(Primitive::String | Primitive::Uri) => {
                write_text_key(&normalized(text, known.white), out);
            }
            _ => self.value(id, text, prefixes)?.write_key(out),
        }
        Some(())
    }

    /// The value that a text spells, if it is one of the type.
    pub(super) fn value(&self, id: SimpleId, text: &str, prefixes: Prefixes<'_>) -> Option<Value> {
        let known = self.get(id);
        let text = normalized(text, known.white);
        match &known.variety {
            Variety::Any => Some(Value::Text(text.into_owned())),
            Variety::Atomic(primitive) => primitive.read(&text, prefixes),
            Variety::List(item) => {
                let words = text.split(' ').filter(|word| !word.is_empty());
                let values = words.map(|word| self.value(*item, word, prefixes));
                values.collect::<Option<Vec<_>>>().map(Value::List)
            }
            Variety::Union(members) => members.iter().find_map(|member| {
                self.check(*member, &text, prefixes, &mut Vec::new()).ok()?;
                self.value(*member, &text, prefixes)
            }),
        }
    }

    fn misspelt(
        &self,
        id: SimpleId,
        primitive: Primitive,
        text: &str,
        prefixes: Prefixes<'_>,
    ) -> Wrong {
        let named = self.get(id);
        let prefix = text.split_once(':').map(|(prefix, _)| prefix);
        let undeclared = matches!(primitive, Primitive::Name | Primitive::Notation)
            .then_some(prefix)
            .flatten()
            .filter(|prefix| prefixes(prefix).is_none());
        let message = match undeclared {
            Some(prefix) => format!("the prefix {prefix:?} of {} is not declared", shown(text)),
            None => format!("{} is no {}", shown(text), self.name(id)),
        };
        let looks = match named.lexical {
            Some(Lexical::Integer) => Some("a whole number"),
            Some(Lexical::Language) => Some("en or de-CH"),
            Some(Lexical::NameToken) => Some("letters, digits, and - . _ :"),
            Some(Lexical::Name | Lexical::NcName) => {
                Some("a name, which begins with a letter or _")
            }
            None => primitive.example(),
        };
        let advice = looks.map(|looks| format!("it is written like this: {looks}"));
        let advice = match named.lexical {
            Some(Lexical::Integer) => Some("it is a whole number".to_owned()),
            _ => advice,
        };
        Wrong { message, advice, rule: named.origin, keyword: "type" }
    }

    fn of_no_member(&self, id: SimpleId, members: &[SimpleId], text: &str) -> Wrong {
        let names: Vec<&str> = members.iter().take(8).map(|member| self.name(*member)).collect();
        let known: Vec<&str> = members
            .iter()
            .filter_map(|member| self.get(*member).facets.enumeration.as_ref())
            .flat_map(|listed| listed.values.iter().map(|(_, written)| written.as_str()))
            .collect();
        let advice = near_words(text, known.iter().copied())
            .unwrap_or_else(|| format!("it would have to be one of {}", names.join(", ")));
        let message = match &self.get(id).name {
            Some(name) => format!("{} is no {name}", shown(text)),
            None => format!(
                "{} fits none of the {} types that may stand here",
                shown(text),
                members.len()
            ),
        };
        Wrong { message, advice: Some(advice), rule: self.get(id).origin, keyword: "union" }
    }

    /// Whether a text that is spelled as it should keeps to the facets (part 2 section 4.3).
    fn check_facets(
        &self,
        known: &SimpleType,
        text: &str,
        prefixes: Prefixes<'_>,
    ) -> Result<(), Wrong> {
        let facets = &known.facets;
        let wrong = |message: String, rule: Origin, keyword: &'static str| {
            Err(Wrong { message, advice: None, rule, keyword })
        };
        if let Some((size, unit)) = facets.asks_length().then(|| self.size(known, text)).flatten() {
            let must = |counted: Counted, must: &str, keyword| {
                let units = if size == 1 { unit.to_owned() } else { format!("{unit}s") };
                let message = format!(
                    "{} has {size} {units}, and there must be {must} {}",
                    shown(text),
                    counted.count
                );
                wrong(message, counted.origin, keyword)
            };
            match (facets.length, facets.least_length, facets.most_length) {
                (Some(length), ..) if size != length.count => {
                    return must(length, "just", "length");
                }
                (_, Some(least), _) if size < least.count => {
                    return must(least, "at least", "minLength");
                }
                (.., Some(most)) if size > most.count => return must(most, "at most", "maxLength"),
                _ => {}
            }
        }
        for patterns in &facets.patterns {
            // These have no references back, so they are never given up.
            let fits = |pattern: &Pattern| pattern.is_match(text).unwrap_or(false);
            if !patterns.alternatives.iter().any(fits) {
                let written = patterns.written.join(" or ");
                let message = format!("{} does not fit {written}", shown(text));
                return wrong(message, patterns.origin, "pattern");
            }
        }
        if facets.total_digits.is_some() || facets.fraction_digits.is_some() {
            let (total, fraction) = digits(text);
            for (count, most, what, keyword) in [
                (total, facets.total_digits, "digits", "totalDigits"),
                (fraction, facets.fraction_digits, "digits behind the point", "fractionDigits"),
            ] {
                if let Some(most) = most.filter(|most| count > most.count) {
                    let message =
                        format!("{text} has {count} {what}, and there may be {}", most.count);
                    return wrong(message, most.origin, keyword);
                }
            }
        }
        let needs_value =
            facets.lower.is_some() || facets.upper.is_some() || facets.enumeration.is_some();
        if !needs_value {
            return Ok(());
        }
        let Some(value) = self.value_of(known, text, prefixes) else {
            return wrong(
                format!("{} has more digits than are compared", shown(text)),
                known.origin,
                "type",
            );
        };
        if let Some(bound) = &facets.lower
            && !bound.holds(&value, std::cmp::Ordering::Greater)
        {
            let must = if bound.is_exclusive { "be greater than" } else { "be at least" };
            let keyword = if bound.is_exclusive { "minExclusive" } else { "minInclusive" };
            return wrong(format!("{text} must {must} {}", bound.written), bound.origin, keyword);
        }
        if let Some(bound) = &facets.upper
            && !bound.holds(&value, std::cmp::Ordering::Less)
        {
            let must = if bound.is_exclusive { "be less than" } else { "be at most" };
            let keyword = if bound.is_exclusive { "maxExclusive" } else { "maxInclusive" };
            return wrong(format!("{text} must {must} {}", bound.written), bound.origin, keyword);
        }
        match &facets.enumeration {
            Some(listed) if !listed.values.iter().any(|(known, _)| known.is_same(&value)) => {
                Err(listed.refuse(text))
            }
            _ => Ok(()),
        }
    }

    /// The value of a text that is spelled as it should be.
    pub(super) fn value_of(
        &self,
        known: &SimpleType,
        text: &str,
        prefixes: Prefixes<'_>,
    ) -> Option<Value> {
        match &known.variety {
            Variety::Any => Some(Value::Text(text.to_owned())),
            Variety::Atomic(Primitive::Decimal) => decimal(text).map(Value::Decimal),
            Variety::Atomic(primitive) => primitive.read(text, prefixes),
            Variety::List(item) => {
                let words = text.split(' ').filter(|word| !word.is_empty());
                let values = words.map(|word| self.value(*item, word, prefixes));
                values.collect::<Option<Vec<_>>>().map(Value::List)
            }
            Variety::Union(members) => members.iter().find_map(|member| {
                self.check(*member, text, prefixes, &mut Vec::new()).ok()?;
                self.value(*member, text, prefixes)
            }),
        }
    }

    /// How long a value is, and in what (section 4.3.1); names have no length.
    fn size(&self, known: &SimpleType, text: &str) -> Option<(u64, &'static str)> {
        Some(match &known.variety {
            Variety::List(_) => {
                (text.split(' ').filter(|word| !word.is_empty()).count() as u64, "item")
            }
            Variety::Atomic(Primitive::Name | Primitive::Notation) | Variety::Union(_) => {
                return None;
            }
            Variety::Atomic(primitive @ (Primitive::Hex | Primitive::Base64)) => {
                match primitive.read(text, &|_| None)? {
                    Value::Bytes(bytes) => (bytes.len() as u64, "byte"),
                    _ => return None,
                }
            }
            _ => (text.chars().count() as u64, "character"),
        })
    }
}

/// The digits of a number, and those behind its point, zeros that mean nothing left out (sections 4.3.11 and 4.3.12).
fn digits(text: &str) -> (u64, u64) {
    let unsigned = text.strip_prefix(['+', '-']).unwrap_or(text);
    let (whole, fraction) = unsigned.split_once('.').unwrap_or((unsigned, ""));
    let (whole, fraction) = (whole.trim_start_matches('0'), fraction.trim_end_matches('0'));
    let leading =
        if whole.is_empty() { fraction.trim_start_matches('0').len() } else { fraction.len() };
    ((whole.len() + leading).max(1) as u64, fraction.len() as u64)
}

impl Facets {
    pub(super) fn is_empty(&self) -> bool {
        !self.asks_length()
            && self.patterns.is_empty()
            && self.enumeration.is_none()
            && self.lower.is_none()
            && self.upper.is_none()
            && self.total_digits.is_none()
            && self.fraction_digits.is_none()
    }

    fn asks_length(&self) -> bool {
        self.length.is_some() || self.least_length.is_some() || self.most_length.is_some()
    }
}

impl Enumeration {
    fn refuse(&self, text: &str) -> Wrong {
        let message = match self.values.len() {
            1 => format!("{} is not the value that may stand here", shown(text)),
            count => format!("{} is none of the {count} values that may stand here", shown(text)),
        };
        let known = || self.values.iter().map(|(_, written)| written.as_str());
        let advice = near_words(text, known()).unwrap_or_else(|| {
            let first: Vec<&str> = known().take(8).collect();
            let more = if self.values.len() > 8 { ", …" } else { "" };
            format!("there are: {}{more}", first.join(", "))
        });
        Wrong { message, advice: Some(advice), rule: self.origin, keyword: "enumeration" }
    }
}

impl Bound {
    /// Whether a value lies on that side of the bound, or is it where that is inside.
    pub(super) fn holds(&self, value: &Value, side: std::cmp::Ordering) -> bool {
        match value.order(&self.value) {
            Some(std::cmp::Ordering::Equal) => !self.is_exclusive,
            order => order == Some(side),
        }
    }
}

impl Lexical {
    fn fits(self, text: &str) -> bool {
        match self {
            Self::Language => {
                let mut parts = text.split('-');
                let is_part = |part: &str| (1..=8).contains(&part.len());
                let first = parts.next().unwrap_or_default();
                is_part(first)
                    && first.bytes().all(|byte| byte.is_ascii_alphabetic())
                    && parts.all(|part| {
                        is_part(part) && part.bytes().all(|byte| byte.is_ascii_alphanumeric())
                    })
            }
            Self::NameToken => is_name_token(text),
            Self::Name => is_name(text),
            Self::NcName => is_nc_name(text),
            Self::Integer => {
                let digits = text.strip_prefix(['+', '-']).unwrap_or(text);
                !digits.is_empty() && digits.bytes().all(|byte| byte.is_ascii_digit())
            }
        }
    }
}
