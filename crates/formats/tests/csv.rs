//! Tables that are written read back as they were (RFC 4180), whatever stands in their cells and names.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

use kyanite_formats::csv::{Header, Reader, Settings, Writer};
use kyanite_formats::losses::Losses;
use kyanite_tree::{Arena, Base, Value};
use proptest::prelude::*;

fn cell() -> impl Strategy<Value = String> {
    let piece = prop::sample::select(
        &[
            "a", "\"", ",", ";", "\t", "|", "\n", "\r\n", "\r", " ", "é", "🚢", "1.50", "=", "#",
            "\u{feff}", "\\",
        ][..],
    );
    prop::collection::vec(piece, 0..5).prop_map(|pieces| pieces.concat())
}

/// Different names, and rows of as many cells.
fn table() -> impl Strategy<Value = (Vec<String>, Vec<Vec<String>>)> {
    (1..5_usize).prop_flat_map(|columns| {
        let names = prop::collection::hash_set(cell(), columns)
            .prop_map(|names| names.into_iter().collect::<Vec<_>>());
        (names, prop::collection::vec(prop::collection::vec(cell(), columns), 0..6))
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2000))]

    #[test]
    fn what_is_written_is_read((names, rows) in table(), delimiter in prop::sample::select(&b",;\t|"[..])) {
        let arena = Arena::new();
        let settings = Settings { delimiter };
        let mut out = Vec::new();
        let mut losses = Losses::default();
        let mut writer = Writer::new(settings, Some(names.clone()), false);
        for row in &rows {
            let members = names.iter().zip(row).map(|(name, cell)| {
                (arena.text(name), Value::text(arena.text(cell)))
            });
            writer.row(arena.map(members), &mut out, &mut losses).unwrap();
        }
        writer.finish(&mut out);
        let text = arena.text(std::str::from_utf8(&out).unwrap());
        let first = Header::read(text, settings, &arena).unwrap();
        let Some(first) = first else {
            prop_assert!(rows.is_empty(), "{:?} of {:?} {:?}", text, names, rows);
            return Ok(());
        };
        let known: Vec<&str> = first.header.names().to_vec();
        prop_assert_eq!(known, names.iter().map(String::as_str).collect::<Vec<_>>(), "{:?}", text);
        let mut reader = Reader::new(text, &arena, settings, Some(first.header), Base::default());
        reader.seek(first.end);
        let mut found = Vec::new();
        while let Some(row) = reader.next_row().unwrap() {
            let cells = row.as_map().unwrap().members().iter();
            found.push(cells.map(|cell| cell.value.scalar_text().unwrap().to_owned()).collect::<Vec<_>>());
        }
        prop_assert_eq!(found, rows, "{:?}", text);
    }
}
