//! Members of elements in slots: which records are read so, and what the slots hold.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

use kyanite_formats::json::{Slot, Slots, Slotted};
use kyanite_formats::projection::Projected;
use kyanite_formats::xml::{
    Ancestry, Dropped, Elements, Options, Prolog, RecordReader, SlotTemplates, StepName,
};
use kyanite_tree::{Arena, Value};

/// The slots of `n` and of `in.@c`.
fn slots() -> Slots {
    let path = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect();
    Slots::new(&[(path(&["n"]), Projected::ALL), (path(&["in", "@c"]), Projected::ALL)]).unwrap()
}

/// What stands in a slot: the name of an element with its namespace and text, or the value of an attribute; each with its place.
fn shown(slot: &Slot<'_>) -> String {
    match slot.value {
        None => "-".into(),
        Some(Value::Element(at, element)) => {
            let (name, text) = (element.name, element.text.unwrap_or("?"));
            let at = Options::default().base.offset(at);
            format!("{}{{{}}}={text}@{at}", name.qualified(), name.namespace())
        }
        Some(value) => {
            let at = Options::default().base.offset(value.origin());
            format!("{}@{at}", value.scalar_text().unwrap_or("?"))
        }
    }
}

/// What comes of the records `r` in parts of a document behind `root`: `value`, or what the slots hold.
fn read(root: &str, parts: &[&str], known: &mut SlotTemplates) -> Vec<String> {
    let (arena, prolog, dropped) = (Arena::new(), Prolog::default(), Dropped::default());
    let path = ["f", "r"].map(|name| StepName::new(name, None));
    let elements = Elements {
        path: &path,
        prolog: &prolog,
        options: Options::default(),
        dropped: &dropped,
        keeps_around: false,
    };
    let (slots, mut found) = (slots(), Vec::new());
    let mut place = Ancestry::default();
    for text in std::iter::once(&root).chain(parts) {
        let part = Arena::new();
        let mut reader = RecordReader::new(text, &part, elements, place);
        let mut values = vec![Slot::default(); slots.count()];
        while let Some(record) = reader.next_slots(&slots, known, &mut values).unwrap() {
            found.push(match record {
                Slotted::Value(_) => "value".to_owned(),
                Slotted::Slots(_) => values.iter().map(shown).collect::<Vec<_>>().join(" "),
            });
        }
        place = reader.place(&part).keep(&arena);
    }
    found
}

#[test]
fn what_is_in_slots() {
    for (records, expected) in [
        (["<r><n>1</n><in c='x'/></r>", "<r><n>22</n><in c='y'/></r>"], "n{}=22@29 y@45"),
        // The same but for what is missing or empty.
        (["<r><n/><in c=''/></r>", "<r><n/><in c=''/></r>"], "n{}=@24 @35"),
        (["<r><o>1</o></r>", "<r><o>2</o></r>"], "- -"),
        (["<r a='1'>\n<n>1</n></r>", "<r a='2'>\n<n>3</n></r>"], "n{}=3@32 -"),
        (["<r><in c='1' d='2'>t</in></r>", "<r><in c='3' d='4'>u</in></r>"], "- 3@39"),
        // What is not plain is read as a value.
        (["<r><n k='1'>1</n></r>", "<r><n k='1'>2</n></r>"], "value"),
        (["<r><n>1</n><n>2</n></r>", "<r><n>3</n><n>4</n></r>"], "value"),
        (["<r><n><x>1</x></n></r>", "<r><n><x>2</x></n></r>"], "value"),
        (["<r><n>1</n></r>", "<r><n>&amp;</n></r>"], "value"),
        (["<r><n>1</n></r>", "<r><n><!-- c -->2</n></r>"], "value"),
        (["<r><n>1</n></r>", "<r><n> 2</n></r>"], "value"),
    ] {
        let read = read("<f>", &[&records.concat()], &mut SlotTemplates::default());
        assert_eq!(read, ["value", expected], "{records:?}");
        let unused = self::read("<f>", &[&records.concat()], &mut SlotTemplates::unused());
        assert_eq!(unused, ["value", "value"], "{records:?}");
    }
}

/// What is known of one part holds for the next, in which names mean the same; there is room for new kinds, however many parts there
/// were.
#[test]
fn parts_know_what_was_learned_before() {
    let mut known = SlotTemplates::default();
    let part = "<r><n>1</n></r><r><n>2</n></r><r><n k=''>2</n></r>";
    let mut parts = vec![part; 200];
    parts.push("<r><m/><n>3</n></r><r><m/><n>4</n></r>");
    let found = read("<f xmlns='u'>", &parts, &mut known);
    assert!(found[..600].chunks(3).all(|part| part == ["value", "n{u}=2@18 -", "value"]));
    assert_eq!(found[600..], ["value", "n{u}=4@26 -"]);
    // Where they mean something else, it is learned anew.
    let found = read("<f xmlns='v'>", &[part], &mut known);
    assert_eq!(found, ["value", "n{v}=2@18 -", "value"]);
}
