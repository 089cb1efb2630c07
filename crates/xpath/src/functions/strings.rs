//! Functions on texts (F&O 3.1 section 5). Characters are Unicode code points.

use std::cmp::Ordering;

use kyanite_eval::atomic::{Atomic, AtomicType, Text};
use unicode_normalization::UnicodeNormalization;

use super::{
    ArgumentUse, Call, Function, Occurs, Outcome, atomic, double, failed, function, items,
    optional_item, optional_text, text,
};
use crate::error::Error;
use crate::run::convert::{atomize, old_text, string_value};
use crate::value::{Item, Sequence};

const COLLATION: super::Parameter = text("collation");

pub(super) const TABLE: &[Function] = &[
    function("concat", &[optional_item("value"), optional_item("value")], 2, concat)
        .asks(ArgumentUse::Value)
        .old()
        .repeated(),
    function("string-join", &[items("values"), text("separator")], 1, |call| {
        let texts: Vec<String> = atomize(call.argument(0))?.iter().map(Atomic::to_string).collect();
        Ok(Sequence::text(texts.join(&call.text(1))))
    })
    .asks(ArgumentUse::Value),
    function("string-length", &[optional_text("text")], 0, |call| {
        Ok(Sequence::count(call.text_or_context(0)?.chars().count()))
    })
    .contextual()
    .asks(ArgumentUse::Value)
    .old(),
    function("normalize-space", &[optional_text("text")], 0, |call| {
        let text = call.text_or_context(0)?;
        let is_space = [' ', '\t', '\n', '\r'];
        let words: Vec<&str> = text.split(is_space).filter(|word| !word.is_empty()).collect();
        Ok(Sequence::text(words.join(" ")))
    })
    .contextual()
    .asks(ArgumentUse::Value)
    .old(),
    function("normalize-unicode", &[optional_text("text"), text("form")], 1, normalize_unicode),
    function("upper-case", &[optional_text("text")], 1, |call| {
        Ok(Sequence::text(call.text(0).to_uppercase()))
    })
    .asks(ArgumentUse::Value),
    function("lower-case", &[optional_text("text")], 1, |call| {
        Ok(Sequence::text(call.text(0).to_lowercase()))
    })
    .asks(ArgumentUse::Value),
    function("translate", &[optional_text("text"), text("from"), text("to")], 3, translate).old(),
    function(
        "substring",
        &[optional_text("text"), double("start"), double("length")],
        2,
        substring,
    )
    .old(),
    function(
        "substring-before",
        &[optional_text("text"), optional_text("part"), COLLATION],
        2,
        |call| split(call, |text, start, _| text[..start].to_owned()),
    )
    .old(),
    function(
        "substring-after",
        &[optional_text("text"), optional_text("part"), COLLATION],
        2,
        |call| split(call, |text, _, end| text[end..].to_owned()),
    )
    .old(),
    function("contains", &[optional_text("text"), optional_text("part"), COLLATION], 2, |call| {
        asked(call, |text, part| text.contains(part))
    })
    .asks(ArgumentUse::Value)
    .boolean()
    .old(),
    function(
        "starts-with",
        &[optional_text("text"), optional_text("part"), COLLATION],
        2,
        |call| asked(call, |text, part| text.starts_with(part)),
    )
    .asks(ArgumentUse::Value)
    .boolean()
    .old(),
    function("ends-with", &[optional_text("text"), optional_text("part"), COLLATION], 2, |call| {
        asked(call, |text, part| text.ends_with(part))
    })
    .asks(ArgumentUse::Value)
    .boolean(),
    function(
        "contains-token",
        &[atomic("texts", AtomicType::String, Occurs::Any), text("token"), COLLATION],
        2,
        |call| {
            let collation = Collation::of(call, 2)?;
            let token = call.text(1);
            let token = collation.folded(token.trim());
            let has = |item: &Item<'_>| {
                let text = string_value(item).unwrap_or(Text::Read(""));
                collation.folded(&text).split_whitespace().any(|word| word == token)
            };
            Ok(Sequence::boolean(!token.is_empty() && call.argument(0).items().iter().any(has)))
        },
    )
    .boolean(),
    function("compare", &[optional_text("a"), optional_text("b"), COLLATION], 2, |call| {
        let collation = Collation::of(call, 2)?;
        let (Some(a), Some(b)) = (call.optional_text(0), call.optional_text(1)) else {
            return Ok(Sequence::Empty);
        };
        let order = collation.folded(&a).cmp(&collation.folded(&b));
        Ok(Sequence::atomic(Atomic::Integer(match order {
            Ordering::Less => -1,
            Ordering::Equal => 0,
            Ordering::Greater => 1,
        })))
    }),
    function("codepoint-equal", &[optional_text("a"), optional_text("b")], 2, |call| {
        let (Some(a), Some(b)) = (call.optional_text(0), call.optional_text(1)) else {
            return Ok(Sequence::Empty);
        };
        Ok(Sequence::boolean(*a == *b))
    })
    .boolean(),
    function(
        "codepoints-to-string",
        &[atomic("codes", AtomicType::Integer, Occurs::Any)],
        1,
        from_codes,
    ),
    function("string-to-codepoints", &[optional_text("text")], 1, |call| {
        let code = |c: char| Item::Atomic(Atomic::Integer(i64::from(c as u32)));
        Ok(call.text(0).chars().map(code).collect())
    })
    .plural(),
];

/// How texts are compared: the collations that F&O 3.1 section 5.3 asks for.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Collation {
    CodePoint,
    /// Letters of ASCII are the same in both cases.
    Ascii,
}

impl Collation {
    /// The collation that an argument names; code points without one.
    pub(super) fn of(call: &Call<'_, '_, '_>, at: usize) -> Result<Self, Error> {
        match call.optional_text(at).as_deref() {
            None | Some("http://www.w3.org/2005/xpath-functions/collation/codepoint") => {
                Ok(Self::CodePoint)
            }
            Some(
                "http://www.w3.org/2005/xpath-functions/collation/html-ascii-case-insensitive",
            ) => Ok(Self::Ascii),
            Some(other) => {
                let message = format!("the collation {other} is not known");
                Err(failed("FOCH0002", message).advise(
                    "there are …/collation/codepoint and …/collation/html-ascii-case-insensitive",
                ))
            }
        }
    }

    /// A text that is equal to others just where the collation says so.
    pub(super) fn folded(self, text: &str) -> String {
        match self {
            Self::CodePoint => text.to_owned(),
            Self::Ascii => text.to_ascii_lowercase(),
        }
    }
}

fn concat<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let mut text = String::new();
    for argument in &call.arguments {
        if call.run.is_old() {
            text.push_str(&old_text(argument)?);
            continue;
        }
        let values = atomize(argument)?;
        if values.len() > 1 {
            return Err(crate::run::convert::several(
                values.len(),
                argument,
                "an argument of concat()",
            ));
        }
        values.iter().for_each(|value| text.push_str(&value.to_text()));
    }
    Ok(Sequence::text(text))
}

/// Characters from a place on, places counted from 1 and rounded (F&O 3.1 section 5.4.3).
fn substring<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let text = call.text(0);
    let start = round_half_up(call.double(1));
    let end = if call.has(2) { start + round_half_up(call.double(2)) } else { f64::INFINITY };
    // Comparisons with NaN do not hold, so that it selects nothing.
    let is_inside = |place: usize| {
        let place = place as f64 + 1.0;
        place >= start && place < end
    };
    let kept = text.chars().enumerate().filter(|(place, _)| is_inside(*place));
    Ok(Sequence::text(kept.map(|(_, c)| c).collect::<String>()))
}

/// Rounds to the nearest whole number, a half upwards.
pub(super) fn round_half_up(number: f64) -> f64 {
    if !number.is_finite() || number == 0.0 {
        return number;
    }
    // Adding a half to the largest number below a half gives one.
    let floor = number.floor();
    let rounded = if number - floor >= 0.5 { floor + 1.0 } else { floor };
    if rounded == 0.0 && number.is_sign_negative() { -0.0 } else { rounded }
}

fn translate<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let (from, to): (Vec<char>, Vec<char>) =
        (call.text(1).chars().collect(), call.text(2).chars().collect());
    let mut map = std::collections::HashMap::new();
    for (at, character) in from.iter().enumerate() {
        map.entry(*character).or_insert_with(|| to.get(at).copied());
    }
    let text = call.text(0);
    let turned = text.chars().filter_map(|c| map.get(&c).copied().unwrap_or(Some(c)));
    Ok(Sequence::text(turned.collect::<String>()))
}

fn asked<'d>(call: &Call<'_, '_, 'd>, holds: fn(&str, &str) -> bool) -> Outcome<'d> {
    let (text, part) = (call.text(0), call.text(1));
    let holds = match Collation::of(call, 2)? {
        Collation::CodePoint => holds(&text, &part),
        Collation::Ascii => holds(&text.to_ascii_lowercase(), &part.to_ascii_lowercase()),
    };
    Ok(Sequence::boolean(holds))
}

fn split<'d>(call: &Call<'_, '_, 'd>, side: fn(&str, usize, usize) -> String) -> Outcome<'d> {
    let (text, part) = (call.text(0), call.text(1));
    let collation = Collation::of(call, 2)?;
    let found = collation.folded(&text).find(&collation.folded(&part));
    let side = found.map(|start| side(&text, start, start + part.len()));
    Ok(Sequence::text(side.unwrap_or_default()))
}

fn normalize_unicode<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let text = call.text(0);
    let form = if call.has(1) { call.text(1).trim().to_uppercase() } else { "NFC".into() };
    Ok(Sequence::text(match form.as_str() {
        "" => text.to_string(),
        "NFC" => text.nfc().collect(),
        "NFD" => text.nfd().collect(),
        "NFKC" => text.nfkc().collect(),
        "NFKD" => text.nfkd().collect(),
        other => {
            let message = format!("{other:?} is no form of normalization");
            return Err(failed("FOCH0003", message).advise("there are NFC, NFD, NFKC and NFKD"));
        }
    }))
}

/// Whether a character can stand in XML (XML 1.0 production 2).
pub(super) fn is_xml(character: char) -> bool {
    matches!(character, '\t' | '\n' | '\r' | ' '..='\u{D7FF}' | '\u{E000}'..='\u{FFFD}' | '\u{10000}'..)
}

fn from_codes<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let mut text = String::new();
    for item in call.argument(0).items() {
        let code = match item.as_atomic() {
            Some(Atomic::Integer(code)) => u32::try_from(code).ok(),
            _ => None,
        };
        match code.and_then(char::from_u32).filter(|c| is_xml(*c)) {
            Some(character) => text.push(character),
            None => {
                let shown = string_value(item)?;
                return Err(failed("FOCH0001", format!("{} is the code of no character", &*shown)));
            }
        }
    }
    Ok(Sequence::text(text))
}
