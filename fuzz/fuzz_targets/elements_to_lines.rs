//! Elements straight to lines of JSON against those by way of values.
#![no_main]

use kyanite_formats::json::{self, Style};
use kyanite_formats::record_view::{Undecided, View};
use kyanite_formats::xml::{Ancestry, Dropped, Elements, LineOrRecord, Options, Prolog, RecordReader, StepName};
use kyanite_tree::Arena;
use libfuzzer_sys::fuzz_target;

fn lines(text: &str, straight: bool) -> Option<(Vec<u8>, Vec<(Undecided, String)>)> {
    let (arena, mut out, mut view) = (Arena::new(), Vec::new(), View::default());
    let path = ["f", "r"].map(|name| StepName::new(name, None));
    let options = Options { depth: 30, ..Options::default() };
    let (path, prolog, dropped) = (&path[..], &Prolog::default(), &Dropped::default());
    let elements = Elements { path, prolog, options, dropped, keeps_around: false };
    let mut reader = RecordReader::new(text, &arena, elements, Ancestry::default());
    loop {
        let next = if straight {
            reader.next_line(&mut view, &mut out).ok()?
        } else {
            reader.next_record().ok()?.map(LineOrRecord::Record)
        };
        match next {
            Some(LineOrRecord::Line) => {}
            Some(LineOrRecord::Record(record)) => {
                json::write(view.record(record, &arena), Style::Compact, &mut out);
                out.push(b'\n');
            }
            None => return Some((out, view.undecided())),
        }
    }
}

fuzz_target!(|bytes: &[u8]| {
    if let Ok(text) = std::str::from_utf8(bytes) {
        // Line ends and byte order marks are taken care of before.
        let text = format!("<f xmlns:v='u'><r/>{}", text.replace(['\r', '\u{feff}'], ""));
        assert_eq!(lines(&text, true), lines(&text, false));
    }
});
