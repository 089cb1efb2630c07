//! Members in slots against those of values, with shapes that are known from the same text; records handed on as they stand
//! against those that are written.
#![no_main]

use kyanite_formats::json::{self, Reader, ReaderOptions, Shapes, Slot, Slots, Slotted, Style, Verbatim};
use kyanite_formats::needs::{Need, Needs};
use kyanite_formats::records::Structure;
use kyanite_tree::{Arena, Value};
use libfuzzer_sys::fuzz_target;

const PATHS: [&[&str]; 3] = [&["a"], &["b", "c"], &["b", "d"]];

fn written(value: Value<'_>) -> Vec<u8> {
    let mut out = Vec::new();
    json::write(value, Style::Compact, &mut out);
    out
}

/// The wanted members of all records; nothing when one is refused.
fn members(text: &str, shapes: Option<&mut Shapes>) -> Option<Vec<[Option<Vec<u8>>; 3]>> {
    let (arena, mut structure, mut needs) = (Arena::new(), Structure::default(), Needs::nothing());
    let paths = PATHS.map(|path| {
        let need = path.iter().fold(Need::RECORD, |need, name| needs.add_member(need, name));
        needs.add_all(need);
        (path.iter().map(|name| (*name).to_owned()).collect(), Need::ALL)
    });
    let slots = Slots::new(&paths)?;
    let options = ReaderOptions { depth: 20, ..Default::default() };
    let mut reader = Reader::new(text, &arena, options).with_needs(&needs, &mut structure);
    let (mut found, mut records) = ([Slot::default(); 3], Vec::new());
    let mut shapes = shapes;
    loop {
        let next = match &mut shapes {
            Some(shapes) => reader.next_slots(&slots, shapes, &mut found).ok()?,
            None => reader.next_value().ok()?.map(Slotted::Value),
        };
        records.push(match next {
            None => return Some(records),
            Some(Slotted::Slots(_)) => found.map(|slot| {
                let value = written(slot.value?);
                assert!(slot.token.is_empty() || slot.token == value);
                Some(value)
            }),
            Some(Slotted::Value(value)) => PATHS.map(|path| {
                path.iter().try_fold(value, |value, name| value.member(name)).map(written)
            }),
        });
    }
}

/// All records on lines; nothing when one is refused.
fn lines(text: &str, as_they_stand: bool) -> Option<Vec<u8>> {
    let (arena, mut structure, mut out) = (Arena::new(), Structure::default(), Vec::new());
    let options = ReaderOptions { depth: 20, ..Default::default() };
    let mut reader = Reader::new(text, &arena, options);
    if as_they_stand {
        reader = reader.with_structure(&mut structure);
    }
    loop {
        let next = if as_they_stand {
            reader.next_verbatim().ok()?
        } else {
            reader.next_value().ok()?.map(Verbatim::Value)
        };
        match next {
            None => return Some(out),
            Some(Verbatim::Text(text)) => out.extend_from_slice(text.as_bytes()),
            Some(Verbatim::Value(value)) => out.extend_from_slice(&written(value)),
        }
        out.push(b'\n');
    }
}

fuzz_target!(|bytes: &[u8]| {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let values = members(text, None);
    let mut shapes = Shapes::default();
    for _ in 0..3 {
        assert_eq!(members(text, Some(&mut shapes)), values);
    }
    assert_eq!(lines(text, true), lines(text, false));
});
