//! A reader that steps over what is not needed, and passes over records that fail a condition, against one that reads every
//! byte.
#![no_main]

use kyanite_formats::json::{self, Reader, ReaderOptions, Prefilter, Style};
use kyanite_formats::needs::{Need, Needs};
use kyanite_formats::records::Structure;
use kyanite_tree::{Arena, Comparison, Number, Value};
use libfuzzer_sys::fuzz_target;

/// The values of a text as far as they are needed, and how many records were passed over; nothing when it is refused.
fn read(text: &str, needs: &Needs, prefilter: Option<&Prefilter>, steps_over: bool) -> Option<(Vec<u8>, u64)> {
    let (arena, mut structure) = (Arena::new(), Structure::default());
    let options = ReaderOptions { depth: 20, ..Default::default() };
    let mut reader = Reader::new(text, &arena, options).with_needs(needs, &mut structure);
    if !steps_over {
        reader = reader.byte_by_byte();
    }
    if let Some(prefilter) = prefilter {
        reader = reader.with_prefilter(prefilter);
    }
    let (mut out, mut passed) = (Vec::new(), 0);
    while let Some(value) = reader.next_value().ok()? {
        json::write(value, Style::Compact, &mut out);
        out.push(b'\n');
    }
    passed += reader.take_passed_over();
    Some((out, passed))
}

fuzz_target!(|bytes: &[u8]| {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let mut needs = Needs::nothing();
    for path in [&["a", "b"][..], &["c"]] {
        let last = path.iter().fold(Need::RECORD, |need, name| needs.add_member(need, name));
        needs.add_all(last);
    }
    let stepping = read(text, &needs, None, true);
    // What is refused by either is refused by both.
    assert_eq!(stepping, read(text, &needs, None, false));
    let number = Number::parse("5").map(Value::number);
    for (test, constant) in [(Comparison::Greater, number), (Comparison::Equal, Some(Value::text("x")))] {
        let prefilter = constant.and_then(|constant| Prefilter::new(&["a", "b"], test, constant));
        let passed_over = read(text, &needs, prefilter.as_ref(), true);
        if let (Some((some, passed)), Some((all, _))) = (passed_over, &stepping) {
            // Lines that are left out, and none else.
            let mut lines = all.split(|byte| *byte == b'\n');
            assert!(some.split(|byte| *byte == b'\n').all(|line| lines.any(|other| other == line)));
            let count = |out: &[u8]| out.iter().filter(|byte| **byte == b'\n').count() as u64;
            assert_eq!(count(&some) + passed, count(all));
        }
    }
});
