//! Functions with regular expressions (F&O 3.1 section 5.6).

use std::ops::Range;
use std::rc::Rc;

use kyanite_eval::pattern::{Match, Pattern, TooMuchWork};
use kyanite_tree::{Name, NodesBuilder, Origin};

use super::{ArgumentUse, Call, Function, Outcome, failed, function, optional_text, text};
use crate::error::Error;
use crate::value::{Item, Sequence};

pub(super) const TABLE: &[Function] = &[
    function("matches", &[optional_text("text"), text("pattern"), text("flags")], 2, |call| {
        let fits = pattern(call, 2)?.is_match(&call.text(0)).map_err(given_up)?;
        Ok(Sequence::boolean(fits))
    })
    .asks(ArgumentUse::Value)
    .boolean(),
    function(
        "replace",
        &[optional_text("text"), text("pattern"), text("replacement"), text("flags")],
        3,
        replace,
    ),
    function("tokenize", &[optional_text("text"), text("pattern"), text("flags")], 1, tokenize)
        .plural(),
    function(
        "analyze-string",
        &[optional_text("text"), text("pattern"), text("flags")],
        2,
        analyze,
    ),
];

fn pattern(call: &Call<'_, '_, '_>, flags: usize) -> Result<Rc<Pattern>, Error> {
    call.run.pattern(&call.text(1), &call.text(flags))
}

/// Where a group of a match stands, if it took part.
fn group(found: &Match, number: usize) -> Option<Range<usize>> {
    found.get(number)?.clone()
}

fn given_up(error: TooMuchWork) -> Error {
    failed("FORX0002", error.to_string()).advise("write the pattern so that it need not refer back")
}

/// The pattern, which must not fit the empty text.
fn dividing(call: &Call<'_, '_, '_>, flags: usize) -> Result<Rc<Pattern>, Error> {
    let regex = pattern(call, flags)?;
    if regex.is_match("").map_err(given_up)? {
        let message = format!("the pattern {:?} fits the empty text", &*call.text(1));
        return Err(failed("FORX0003", message).advise("write + for * where it may repeat"));
    }
    Ok(regex)
}

fn replace<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let regex = dividing(call, 3)?;
    let (text, replacement) = (call.text(0), call.text(2));
    let parts = match call.text(3).contains('q') {
        true => vec![Replacement::Text(replacement.to_string())],
        false => Replacement::read(&replacement, regex.groups())?,
    };
    let mut out = String::with_capacity(text.len());
    let mut end = 0;
    for found in regex.matches(&text) {
        let groups = found.map_err(given_up)?;
        let Some(whole) = group(&groups, 0) else { continue };
        out.push_str(&text[end..whole.start]);
        for part in &parts {
            match part {
                Replacement::Text(text) => out.push_str(text),
                Replacement::Group(number) => {
                    out.push_str(group(&groups, *number).map_or("", |at| &text[at]));
                }
            }
        }
        end = whole.end;
    }
    out.push_str(&text[end..]);
    Ok(Sequence::text(out))
}

enum Replacement {
    Text(String),
    Group(usize),
}

impl Replacement {
    /// Reads `$1`, `\$` and `\\`; a number of more digits than there are groups ends before them.
    fn read(text: &str, groups: usize) -> Result<Vec<Self>, Error> {
        let wrong = || {
            let message =
                format!("the replacement {text:?} holds a `$` or a backslash that means nothing");
            failed("FORX0004", message)
                .advise("write $1 for a group, \\$ for a dollar sign, \\\\ for a backslash")
        };
        let mut parts = vec![Self::Text(String::new())];
        let mut rest = text.chars().peekable();
        while let Some(character) = rest.next() {
            let plain = match character {
                '\\' => rest.next().filter(|c| matches!(c, '$' | '\\')).ok_or_else(wrong)?,
                '$' => {
                    let first = rest.next().and_then(|c| c.to_digit(10)).ok_or_else(wrong)?;
                    let mut number = first as usize;
                    while let Some(digit) = rest.peek().and_then(|c| c.to_digit(10)) {
                        let longer = number.saturating_mul(10) + digit as usize;
                        if longer > groups {
                            break;
                        }
                        number = longer;
                        rest.next();
                    }
                    parts.push(Self::Group(number));
                    parts.push(Self::Text(String::new()));
                    continue;
                }
                other => other,
            };
            if let Some(Self::Text(text)) = parts.last_mut() {
                text.push(plain);
            }
        }
        Ok(parts)
    }
}

fn tokenize<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let text = call.text(0);
    if !call.has(1) {
        return Ok(text.split_whitespace().map(|word| Item::text(word.to_owned())).collect());
    }
    let regex = dividing(call, 2)?;
    if text.is_empty() {
        return Ok(Sequence::Empty);
    }
    let (mut parts, mut end) = (Vec::new(), 0);
    for found in regex.matches(&text) {
        let Some(whole) = group(&found.map_err(given_up)?, 0) else { continue };
        parts.push(Item::text(text[end..whole.start].to_owned()));
        end = whole.end;
    }
    parts.push(Item::text(text[end..].to_owned()));
    Ok(Sequence::of(parts))
}

/// The parts of a text that fit a pattern and those that do not, as elements (F&O 3.1 section 5.6.6).
fn analyze<'d>(call: &Call<'_, '_, 'd>) -> Outcome<'d> {
    let regex = dividing(call, 2)?;
    let text: &'d str = call.run.store.arena.text(&call.text(0));
    let named = |local: &'static str| Name::new(local, crate::FN);
    let mut builder = NodesBuilder::new();
    builder.open(named("analyze-string-result"), Origin::NONE);
    builder.attribute(Name::new("xmlns", ""), crate::FN, Origin::NONE);
    let mut end = 0;
    let between = |builder: &mut NodesBuilder<'d>, part: &'d str| {
        if !part.is_empty() {
            builder.open(named("non-match"), Origin::NONE);
            builder.text(part, Origin::NONE);
            builder.close();
        }
    };
    for found in regex.matches(text) {
        let found = found.map_err(given_up)?;
        let Some(whole) = group(&found, 0) else { continue };
        between(&mut builder, &text[end..whole.start]);
        builder.open(named("match"), Origin::NONE);
        groups(&mut builder, &found, text, call);
        builder.close();
        end = whole.end;
    }
    between(&mut builder, &text[end..]);
    builder.close();
    let root = call.run.store.keep(builder.finish());
    Ok(root.children().next().map_or(Sequence::Empty, |element| Sequence::One(Item::Node(element))))
}

/// A match with its groups inside each other.
fn groups<'d>(
    builder: &mut NodesBuilder<'d>,
    found: &Match,
    text: &'d str,
    call: &Call<'_, '_, 'd>,
) {
    let Some(whole) = group(found, 0) else { return };
    let mut at = whole.start;
    // The ends of the groups that are open.
    let mut open: Vec<usize> = Vec::new();
    let piece = |builder: &mut NodesBuilder<'d>, from: usize, to: usize| {
        if to > from {
            builder.text(&text[from..to], Origin::NONE);
        }
    };
    for number in 1..found.len() {
        let Some(group) = group(found, number) else { continue };
        while open.last().is_some_and(|end| *end <= group.start) {
            let end = open.pop().unwrap_or(at);
            piece(builder, at, end);
            at = at.max(end);
            builder.close();
        }
        piece(builder, at, group.start);
        at = at.max(group.start);
        builder.open(Name::new("group", crate::FN), Origin::NONE);
        let shown = call.run.store.arena.text(&number.to_string());
        builder.attribute(Name::plain("nr"), shown, Origin::NONE);
        open.push(group.end);
    }
    while let Some(end) = open.pop() {
        piece(builder, at, end);
        at = at.max(end);
        builder.close();
    }
    piece(builder, at, whole.end);
}
