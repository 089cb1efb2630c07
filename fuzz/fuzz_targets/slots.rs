//! Members in slots against those of values, with templates that are known from the same text; records that are written as lines, and
//! values that are built, against those that are read.
#![no_main]

use kyanite_formats::json::{
    self, Reader, ReaderOptions, Slot, SlotTemplates, Slots, Slotted, Style, ValueTemplates,
};
use kyanite_formats::projection::{Projected, Projection};
use kyanite_tree::{Arena, Value};
use libfuzzer_sys::fuzz_target;

const PATHS: [&[&str]; 3] = [&["a"], &["b", "c"], &["b", "d"]];

/// The wanted members of a record, and its line, if that is wanted.
type Found = ([Option<Vec<u8>>; 3], Vec<u8>);

fn written(value: Value<'_>) -> Vec<u8> {
    let mut out = Vec::new();
    json::write(value, Style::Compact, &mut out);
    out
}

/// What is found of all records; nothing when one is refused.
fn records(text: &str, known: Option<&mut SlotTemplates>, has_lines: bool) -> Option<Vec<Found>> {
    let (arena, mut values, mut projection) =
        (Arena::new(), ValueTemplates::default(), Projection::nothing());
    let paths = PATHS.map(|path| {
        let projected = path.iter().fold(Projected::RECORD, |projected, name| projection.add_member(projected, name));
        projection.add_all(projected);
        (path.iter().map(|name| (*name).to_owned()).collect(), Projected::ALL)
    });
    let slots = Slots::new(&paths)?;
    let slots = if has_lines { slots.with_text_without(["x"]) } else { slots };
    let options = ReaderOptions { depth: 20, ..Default::default() };
    let reader = Reader::new(text, &arena, options);
    let mut reader = match has_lines {
        true => reader,
        false => reader.with_templates(&mut values, Some(&projection)),
    };
    let (mut found, mut all, mut known) = ([Slot::default(); 3], Vec::new(), known);
    loop {
        let next = match &mut known {
            Some(known) => reader.next_slots(&slots, known, &mut found).ok()?,
            None => reader.next_value().ok()?.map(Slotted::Value),
        };
        all.push(match next {
            None => return Some(all),
            Some(Slotted::Slots(line)) => {
                let members = found.map(|slot| {
                    let value = written(slot.value?);
                    assert!(slot.token.is_empty() || slot.token == value);
                    Some(value)
                });
                (members, line.as_bytes().to_vec())
            }
            Some(Slotted::Value(value)) => {
                let members = PATHS.map(|path| {
                    path.iter().try_fold(value, |value, name| value.member(name)).map(written)
                });
                (members, if has_lines { written(value) } else { Vec::new() })
            }
        });
    }
}

/// All values with their places; what is wrong with one.
fn values(text: &str, known: &mut ValueTemplates) -> String {
    let arena = Arena::new();
    let options = ReaderOptions { depth: 20, ..Default::default() };
    let mut reader = Reader::new(text, &arena, options).with_templates(known, None);
    let mut found = String::new();
    loop {
        match reader.next_value() {
            Ok(Some(value)) => found.push_str(&format!("{value:?}\n")),
            Ok(None) => return found,
            Err(error) => return found + &format!("{error:?}"),
        }
    }
}

fuzz_target!(|bytes: &[u8]| {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    for has_lines in [false, true] {
        let (expected, mut known) = (records(text, None, has_lines), SlotTemplates::default());
        for _ in 0..3 {
            assert_eq!(records(text, Some(&mut known), has_lines), expected);
        }
    }
    let (expected, mut known) =
        (values(text, &mut ValueTemplates::unused()), ValueTemplates::default());
    for _ in 0..3 {
        assert_eq!(values(text, &mut known), expected);
    }
});
