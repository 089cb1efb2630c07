//! The JSON reader against serde_json: what is refused, and what values are read.
#![no_main]

use kyanite_formats::json::{self, ReaderOptions, Style};
use kyanite_tree::Arena;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    // serde_json takes no byte order mark, and refuses what is nested deeper than 128.
    let text = text.trim_start_matches('\u{feff}');
    let arena = Arena::new();
    let own = json::document(text, &arena, ReaderOptions { depth: 127, ..Default::default() });
    let other = serde_json::from_str::<serde_json::Value>(text);
    match (own, other) {
        (Ok((value, duplicates)), Ok(other)) => {
            let mut out = Vec::new();
            json::write(value, Style::Compact, &mut out);
            let again: serde_json::Value =
                serde_json::from_slice(&out).expect("what is written is JSON");
            assert!(!duplicates.is_empty() || again == other);
        }
        (Err(_), Err(_)) => {}
        (own, other) => panic!("{:?} {:?}", own.map(|_| ()), other.map(|_| ())),
    }
});
