//! Differences, patches, edits in the text, surveys and trees of two documents: no text makes any of them panic, and what they make holds
//! what it is to hold. The documents stand before and behind the first zero byte; the byte before all says their format.
#![no_main]

use kyanite_browse::{LargeTree, Notation, Outline, Position, Tree};
use kyanite_change::{Comparison, Numbers, Patch, compare, edit_text, json_patch, merge};
use kyanite_formats::documents::{self, Limits, Options};
use kyanite_formats::json::EventReader;
use kyanite_formats::records::Structure;
use kyanite_formats::outline::outline;
use kyanite_formats::record_view::View;
use kyanite_formats::Format;
use kyanite_survey::{Batch, Bounds, Survey};
use kyanite_tree::{Arena, Base, Value, ValueEvents, equal};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let Some((format, bytes)) = bytes.split_first() else { return };
    let format = [Format::Json, Format::Yaml, Format::Toml, Format::Xml][usize::from(format % 4)];
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let Some((old, new)) = text.split_once('\0') else { return };
    let _ = outline(format, old);
    let notation = if format == Format::Xml { Notation::Xml } else { Notation::JsonLines };
    let mut large = LargeTree::new(Box::new(bytes.to_vec()), notation);
    large.open_to(0, 9, 1000);
    let _ = large.show(&Position::Byte(old.len() as u64));
    (0..large.len()).for_each(|line| drop((large.line(line), large.path(line), large.whole(line))));
    let arena = Arena::new();
    let limits = Limits { depth: 60, expansion: 10_000, aliases: 2000 };
    let options = Options { limits, ..Options::default() };
    let read = |text| {
        let read = documents::read(format, text, &arena, options).ok()?;
        read.roots.first().copied().filter(|_| read.roots.len() == 1)
    };
    let mut events = Batch::new(&arena).within(60);
    let structure = Structure::of(old.as_bytes());
    if EventReader::new(old, &structure).is_some_and(|mut of_old| events.document(&mut of_old)) {
        let _ = events.end(&mut |_| 1);
    }
    let (Some(old_root), Some(new_root)) = (read(old), read(new)) else { return };
    let mut tree = Tree::new(old_root);
    tree.open_to(0, 9, 1000);
    (0..tree.len()).for_each(|line| drop((tree.line(line), tree.path(line))));
    let _ = tree.search("a", 10);
    if let Ok(edited) = edit_text(format, old, old_root, new_root) {
        assert!(read(arena.text(&edited)).is_some(), "{edited}");
    }
    let view = |root| View::default().record(root, &arena);
    let (before, after): (Value<'_>, Value<'_>) = (view(old_root), view(new_root));
    for comparison in [
        Comparison { numbers: Numbers::Spelling, ..Comparison::default() },
        Comparison { keys: vec![("$..*".parse().unwrap(), vec!["a".into()])], ..Comparison::default() },
        Comparison { crosses: true, ..Comparison::default() },
    ] {
        let difference = compare(before, after, &comparison);
        if comparison.crosses {
            continue;
        }
        let patch = json_patch(&difference, true, &arena);
        let made = Patch::read(patch).unwrap().apply(before, &arena).unwrap();
        assert!(equal(made, after) || has_foreign(before) || has_foreign(after));
    }
    if let Ok(patch) = Patch::read(after) {
        let _ = patch.apply(before, &arena);
    }
    let _ = merge(before, after, &arena);
    let mut survey = Survey::new(Bounds { memory: 20_000 });
    for root in [before, after] {
        let mut batch = Batch::new(&arena);
        batch.document(&mut ValueEvents::new(root, Base::default()));
        survey.take(batch.end(&mut |_| 1), "made up", 0);
    }
    let _ = (survey.report(), survey.json_schema(false, &arena));
});

/// Whether a value of a type that JSON does not have is in it, or one that is no number of any size.
fn has_foreign(value: Value<'_>) -> bool {
    match value {
        Value::Foreign(..) => true,
        Value::List(_, items) => items.iter().any(|item| has_foreign(*item)),
        Value::Map(_, map) => map.members().iter().any(|member| has_foreign(member.value)),
        _ => false,
    }
}
