//! Texts that are values of simple types.

use kyanite_tree::Decimal;

use super::{Sampler, Text};
use crate::xsd::components::SimpleId;
use crate::xsd::simple::{Bound, Lexical, Role, SimpleType, Variety};
use crate::xsd::value::Primitive;

/// So many texts are tried for a value.
const TRIES: u64 = 40;

impl Sampler<'_> {
    /// A text that is a value of a type; None where none was found.
    pub(super) fn text(&mut self, id: SimpleId) -> Option<Text> {
        let known = self.components.simple.get(id);
        match known.role {
            Role::Id => {
                let text = format!("id-{}", self.identifiers.len() + 1);
                self.identifiers.push(text.clone());
                return Some(Text::Plain(text));
            }
            Role::Reference => return Some(Text::Reference),
            Role::Entity => return None,
            Role::None => {}
        }
        if let Variety::List(item) = known.variety
            && self.components.simple.role(item) == Role::Reference
        {
            return Some(Text::Reference);
        }
        if matches!(known.variety, Variety::Atomic(Primitive::Name))
            && known.facets.enumeration.is_none()
        {
            return Some(Text::Name((String::new(), "name".to_owned())));
        }
        (0..TRIES).find_map(|number| {
            let text = self.candidate(id, number)?;
            let prefixes = |_: &str| Some(String::new());
            let checked = self.components.simple.check(id, &text, &prefixes, &mut Vec::new());
            checked.is_ok().then_some(Text::Plain(text))
        })
    }

    /// A text that may be a value of a type.
    fn candidate(&mut self, id: SimpleId, number: u64) -> Option<String> {
        let known = self.components.simple.get(id);
        let facets = &known.facets;
        if let Some(listed) = &facets.enumeration {
            let at = (self.choices.below(listed.values.len()) as u64).wrapping_add(number);
            let at = usize::try_from(at).unwrap_or(0) % listed.values.len().max(1);
            return listed.values.get(at).map(|(_, text)| text.clone());
        }
        if let Some(step) = facets.patterns.last()
            && number * 2 < TRIES
        {
            let pattern = step.alternatives.get(self.choices.below(step.alternatives.len()))?;
            return pattern.example(&mut |below| self.choices.below(below));
        }
        let least = facets.length.or(facets.least_length).map_or(0, |facet| facet.count);
        let most = facets.length.or(facets.most_length).map(|facet| facet.count);
        match &known.variety {
            Variety::Any => Some("text".to_owned()),
            Variety::List(item) => {
                let count = least.max(u64::from(most != Some(0)));
                let mut words = Vec::new();
                for _ in 0..count {
                    self.choices.spend()?;
                    words.push(self.candidate(*item, number)?);
                }
                Some(words.join(" "))
            }
            Variety::Union(members) => {
                let at = usize::try_from(number).unwrap_or(0) % members.len().max(1);
                self.candidate(*members.get(at)?, number / members.len().max(1) as u64)
            }
            Variety::Atomic(primitive) => {
                let turn = if self.varies { self.choices.next() } else { 1 }.wrapping_add(number);
                let text = self.atomic(*primitive, known, turn);
                Some(self.sized(text, *primitive, (least, most)))
            }
        }
    }

    fn atomic(&mut self, primitive: Primitive, known: &SimpleType, turn: u64) -> String {
        let facets = &known.facets;
        if let Some(bound) = facets.lower.as_ref().or(facets.upper.as_ref())
            && !matches!(primitive, Primitive::Decimal)
        {
            return beyond(bound, primitive, turn, facets.lower.is_some());
        }
        let day = turn % 28 + 1;
        match primitive {
            Primitive::String => match known.lexical {
                None if turn == 1 => "text".to_owned(),
                None => format!("text {turn}"),
                Some(Lexical::Language) => "en".to_owned(),
                Some(_) => format!("name-{turn}"),
            },
            Primitive::Boolean => ["true", "false"][usize::from(turn.is_multiple_of(2))].to_owned(),
            Primitive::Decimal => self.number(known, turn),
            Primitive::Float | Primitive::Double => format!("{turn}.5"),
            Primitive::Duration => format!("P{turn}D"),
            Primitive::DateTime => format!("2026-06-{day:02}T07:00:00Z"),
            Primitive::Time => format!("{:02}:30:00", turn % 24),
            Primitive::Date => format!("2026-06-{day:02}"),
            Primitive::YearMonth => format!("2026-{:02}", turn % 12 + 1),
            Primitive::Year => format!("{}", 2000 + turn % 100),
            Primitive::MonthDay => format!("--06-{day:02}"),
            Primitive::Day => format!("---{day:02}"),
            Primitive::Month => format!("--{:02}", turn % 12 + 1),
            Primitive::Hex => format!("{:02X}", turn % 256),
            Primitive::Base64 => "S3lhbml0ZQ==".to_owned(),
            Primitive::Uri => format!("https://tarn.example/{turn}"),
            Primitive::Name | Primitive::Notation => "name".to_owned(),
        }
    }

    /// A number between the bounds of a type.
    fn number(&mut self, known: &SimpleType, turn: u64) -> String {
        let bound = |bound: &Option<Bound>| {
            bound
                .as_ref()
                .and_then(|bound| Some((Decimal::spelled(&bound.written)?, bound.is_exclusive)))
        };
        let (lower, upper) = (bound(&known.facets.lower), bound(&known.facets.upper));
        let step = Decimal::spelled(&turn.to_string()).unwrap_or(Decimal::ZERO);
        let number = match (lower, upper) {
            (Some((lower, is_exclusive)), upper) => {
                let span = upper.and_then(|(upper, _)| upper.sub(&lower).ok());
                // Small spans are gone through again and again.
                let step = match span {
                    Some(span) if span.signum() > 0 => step.rem(&span).unwrap_or(Decimal::ZERO),
                    Some(_) => Decimal::ZERO,
                    None => step,
                };
                let one = if is_exclusive { "1" } else { "0" };
                let more = Decimal::spelled(one).and_then(|one| step.add(&one).ok());
                lower.add(&more.unwrap_or(step)).unwrap_or(lower)
            }
            (None, Some((upper, _))) => upper.sub(&step).unwrap_or(upper),
            (None, None) => step,
        };
        number.to_string()
    }

    /// A text of the length that a type asks for.
    fn sized(
        &self,
        text: String,
        primitive: Primitive,
        (least, most): (u64, Option<u64>),
    ) -> String {
        let is_text = matches!(primitive, Primitive::String | Primitive::Uri);
        let is_bytes = matches!(primitive, Primitive::Hex);
        let unit = if is_bytes { 2 } else { 1 };
        if !is_text && !is_bytes || least == 0 && most.is_none() {
            return text;
        }
        let limit = |count: u64| usize::try_from(count).unwrap_or(usize::MAX).saturating_mul(unit);
        let mut text: String = text.chars().take(most.map_or(usize::MAX, limit)).collect();
        let wanted = limit(least).min(super::MOST);
        while text.chars().count() < wanted {
            text.push(if is_bytes { '0' } else { 'x' });
        }
        text
    }
}

/// A value at a bound, or just beyond it.
fn beyond(bound: &Bound, primitive: Primitive, turn: u64, is_lower: bool) -> String {
    if !bound.is_exclusive {
        return bound.written.clone();
    }
    match (primitive, bound.written.parse::<f64>()) {
        (Primitive::Float | Primitive::Double, Ok(number)) => {
            let step = if is_lower { turn as f64 } else { -(turn as f64) };
            format!("{}", number + step / 1000.0)
        }
        // A later time, or an earlier one, at the same place in its year.
        _ => {
            let year: i64 =
                bound.written.get(..4).and_then(|year| year.parse().ok()).unwrap_or(2026);
            let other = if is_lower { year + turn as i64 } else { year - turn as i64 };
            format!("{other:04}{}", bound.written.get(4..).unwrap_or_default())
        }
    }
}
