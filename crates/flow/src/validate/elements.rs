//! XML documents against XML Schemas, in memory for a part of them at a time.

use std::cell::OnceCell;

use kyanite_formats::xml::{self, Ancestry, Event, EventReader, Prolog};
use kyanite_formats::{Format, SyntaxError};
use kyanite_schema::xsd::{Found, Validator};
use kyanite_tree::{Arena, Base, Excerpt, LineColumn, Origin, Part, Passed, Place, TextPlaces};

use super::check::Raw;
use crate::failed::{Counters, Events, Failed};
use crate::input::{InputOptions, Source, cannot_read};
use crate::records::{Blocks, Then, valid_start};
use crate::repairs::Repairs;

/// How XML is read.
fn reading(options: &InputOptions, base: Base) -> xml::Options {
    xml::Options {
        depth: options.limits.depth,
        expansion: options.limits.expansion,
        lenient: options.lenient,
        drop_namespaces: options.drop_namespaces,
        namespaces: true,
        base,
    }
}

/// What is known of a document between two parts of it.
struct Progress<'h> {
    place: Ancestry<'h>,
    /// Where the part begins.
    base: Base,
    before: Passed,
}

/// A part of a document.
struct Text<'t> {
    name: &'t str,
    text: &'t str,
    is_last: bool,
}

/// Validates a document as it is read.
pub(super) fn stream(
    source: Source,
    validators: &mut [Validator<'_>],
    raw: &mut Raw,
    options: &InputOptions,
    counters: &Counters,
) -> Result<(), Failed> {
    if let Some(message) = source.contradiction() {
        let advice = source.looks_like.map(crate::document::say_format);
        let found = kyanite_tree::Diagnostic::error(kyanite_tree::Code::InputFormat, message);
        return Err(Failed::Input(found.advise_opt(advice)));
    }
    let Source { name, reader, live, replaced, .. } = source;
    let mut blocks = Blocks::new(reader, live);
    blocks.cut_behind_tags();
    let held = Arena::new();
    let kept: OnceCell<Prolog<'_>> = OnceCell::new();
    let mut progress =
        Progress { place: Ancestry::default(), base: Base::default(), before: Passed::default() };
    let mut repairs = Repairs::new(options.repairs);
    raw.checked += 1;
    let read = loop {
        let block = match blocks.next() {
            Ok(block) => block,
            Err(error) => break Err(Failed::Input(cannot_read(&name, &error))),
        };
        let (text, invalid) = valid_start(block.bytes);
        let part = Text { name: &name, text, is_last: block.then == Then::End && invalid == 0 };
        let mut from = 0;
        if kept.get().is_none() {
            match xml::prolog(held.text(text), &held, reading(options, progress.base), part.is_last)
            {
                Ok(read) => {
                    from = read.end;
                    let _ = kept.set(read);
                }
                Err(error) if error.wants_more() && !part.is_last && invalid == 0 => {
                    blocks.put_back(0);
                    continue;
                }
                Err(error) => break Err(failed(&error, &part, progress.before)),
            }
        }
        let Some(prolog) = kept.get() else { continue };
        let checked = self::part(
            &part,
            from,
            prolog,
            &mut progress,
            &held,
            (validators, raw, options),
            &mut repairs,
        );
        let used = match checked {
            Ok(used) => used,
            Err(failed) => break Err(failed),
        };
        if invalid > 0 {
            let wrong = SyntaxError::not_utf8(text.len(), text.len() + invalid);
            let whole = wrong
                .diagnostic(&name, block.bytes)
                .resolve(|place| Some(place.behind(progress.before)));
            break Err(Failed::Input(whole));
        }
        counters.read(used as u64);
        if part.is_last {
            break Ok(());
        }
        progress.before.pass(&text.as_bytes()[..used]);
        progress.base = progress.base.behind(used);
        blocks.used(used);
    };
    repairs.take_replaced(&replaced);
    repairs.finish(&mut Events { tell: &mut |found| raw.tell(found), counters });
    // What was found before stays, also where the document is not well-formed behind it.
    for validator in validators.iter_mut() {
        match &read {
            Ok(()) => validator.finish(),
            Err(_) => validator.give_up(),
        }
        for found in validator.take_found() {
            add(found, None, &name, raw);
        }
    }
    read
}

/// Validates a document that is held.
pub(super) fn whole(
    name: &str,
    text: &str,
    validators: &mut [Validator<'_>],
    raw: &mut Raw,
    options: &InputOptions,
) {
    let held = Arena::new();
    let part = Text { name, text, is_last: true };
    let mut progress =
        Progress { place: Ancestry::default(), base: Base::default(), before: Passed::default() };
    // That it is well-formed is known already.
    let Ok(prolog) = xml::prolog(text, &held, reading(options, progress.base), true) else {
        return;
    };
    let mut repairs = Repairs::new(options.repairs);
    let from = prolog.end;
    let _ = self::part(
        &part,
        from,
        &prolog,
        &mut progress,
        &held,
        (validators, raw, options),
        &mut repairs,
    );
    for validator in validators {
        validator.finish();
        for found in validator.take_found() {
            add(found, None, name, raw);
        }
    }
}

fn failed(error: &SyntaxError, part: &Text<'_>, before: Passed) -> Failed {
    let found = error.diagnostic(part.name, part.text.as_bytes());
    Failed::Input(found.resolve(|place| Some(place.behind(before))))
}

/// Tells validators of all that a part of a document has; gives how much of it was used.
fn part<'h>(
    part: &Text<'_>,
    from: usize,
    prolog: &Prolog<'h>,
    progress: &mut Progress<'h>,
    held: &'h Arena,
    (validators, raw, options): (&mut [Validator<'_>], &mut Raw, &InputOptions),
    repairs: &mut Repairs,
) -> Result<usize, Failed> {
    let (base, before) = (progress.base, progress.before);
    let arena = Arena::new();
    let text = part.text;
    let mut events = EventReader::new(text, &arena, prolog, reading(options, base), progress.place);
    events.seek(from);
    if from > 0 {
        // Only the part with the root element begins behind a prolog.
        for validator in validators.iter_mut() {
            validator.declare_entities(prolog.unparsed_entities().into_iter());
        }
    }
    if part.is_last {
        events.is_last();
    }
    let places = TextPlaces::new(part.name, text.as_bytes());
    let line_column = |origin: Origin| places.line_column(base.offset(origin)).behind(before);
    let mut result = Ok(());
    loop {
        match events.next_event() {
            Ok(None) => break,
            Err(error) if error.wants_more() && !part.is_last => break,
            Err(error) => {
                result = Err(failed(&error, part, before));
                break;
            }
            Ok(Some(event)) => {
                for validator in validators.iter_mut() {
                    match event {
                        Event::Begin { origin, name } => {
                            validator.begin(name, events.attributes(), origin, &line_column);
                        }
                        Event::End(origin) => validator.end(origin, &line_column),
                        Event::Text(origin, text) => validator.text(text, origin),
                        Event::Comment(..) | Event::Instruction(..) => {}
                    }
                }
            }
        }
    }
    let counters = Counters::default();
    let mut saying = Events { tell: &mut |found| raw.tell(found), counters: &counters };
    let place = |span: kyanite_tree::Span| places.place(span.start, span.end).behind(before);
    repairs.take(events.take_repairs(), place, &mut saying);
    for validator in validators.iter_mut() {
        for found in validator.take_found() {
            let offset = base.offset(found.finding.origin);
            let is_here = found.finding.origin.is_known()
                && found.finding.origin.position() >= base.origin(0).position()
                && offset <= text.len();
            let place = is_here.then(|| {
                let end = kyanite_formats::records::value_end(Format::Xml, text, offset);
                places.place(offset, end).behind(before)
            });
            add(found, place, part.name, raw);
        }
    }
    result?;
    let place = events.place(&arena);
    if place != progress.place {
        progress.place = place.keep(held);
    }
    Ok(events.committed())
}

/// Adds a finding; where the text is gone, its line and column are all that is known of its place.
fn add(found: Found, place: Option<Place>, name: &str, raw: &mut Raw) {
    let Found { finding, path, at } = found;
    let place = place.or_else(|| {
        let at = at.unwrap_or(LineColumn { line: 1, column: 1 });
        let excerpt = Excerpt { line: String::new(), start: 0, length: 1 };
        Some(Place { part: Part::Input, file: name.to_owned(), at, path: None, excerpt })
    });
    raw.add(finding, place.map(|place| place.with_path(path)));
}
