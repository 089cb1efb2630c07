//! The YAML reader and writer: no text makes either panic, and what is written is read back the same.
#![no_main]

use kyanite_formats::yaml::{self, Options};
use kyanite_tree::{Arena, equal};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let arena = Arena::new();
    let Ok(read) = yaml::documents(text, &arena, Options::default()) else { return };
    for document in read.documents {
        let mut out = Vec::new();
        yaml::write(document, 2, &mut out);
        let written = String::from_utf8(out).expect("what is written is UTF-8");
        let options = Options { aliases: usize::MAX, ..Options::default() };
        let again = yaml::documents(&written, &arena, options)
            .unwrap_or_else(|error| panic!("{error}: {written}"));
        assert!(matches!(again.documents.as_slice(), [again] if equal(*again, document)), "{written}");
    }
});
