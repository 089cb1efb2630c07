//! Large trees are compared with in-memory trees of the same documents.

use std::cell::Cell;
use std::rc::Rc;

use kyanite_formats::Format;
use kyanite_formats::documents::{self, Options};
use kyanite_tree::Arena;
use proptest::prelude::*;

use super::*;
use crate::{Line, Outline, Position, Tree};

fn large(text: &str, notation: Notation, block: usize) -> LargeTree {
    let mut tree = LargeTree::new(Box::new(text.as_bytes().to_vec()), notation);
    tree.block = block;
    tree.nodes[0].scan = Some(Scan::new(notation, 0, true, block));
    while tree.has_work() {
        tree.work(1000);
    }
    tree
}

/// All lines, with everything open, and their paths.
fn all(tree: &mut dyn Outline<'_>) -> Vec<(Line, String)> {
    // What stands below a line is found once that is open.
    for _ in 0..8 {
        tree.open_to(0, usize::MAX, usize::MAX);
        while tree.work(1000) {}
    }
    (0..tree.len()).map(|at| (tree.line(at).unwrap(), tree.path(at))).collect()
}

fn assert_same(format: Format, text: &str, notation: Notation, block: usize) {
    let arena = Arena::new();
    let held = documents::read(format, text, &arena, Options::default()).unwrap();
    let mut held = Tree::new(held.roots[0]);
    let mut large = large(text, notation, block);
    let without_root = |lines: Vec<(Line, String)>| lines.into_iter().skip(1).collect::<Vec<_>>();
    let (held, found) = (without_root(all(&mut held)), without_root(all(&mut large)));
    assert_eq!(found, held, "{text}");
}

#[test]
fn xml_is_as_when_it_is_held() {
    for text in [
        "<a/>",
        "<?xml version='1.0'?><!DOCTYPE a [<!ENTITY b 'c'>]><!-- <x> --><a n='1' m=\"x > y\">t &lt; &#65;</a>",
        "<a><b/><b k='2'>u</b><c>x<d/>y</c><![CDATA[<&]]></a>",
        "<a>\n  <b>1</b>\n  <!-- c --><b><c><b>2</b></c></b>\n</a>\n<!-- end -->",
        "<m:a xmlns:m='u'><m:b m:k='v'/></m:a>",
    ] {
        for block in [8, 20, 4096] {
            assert_same(Format::Xml, text, Notation::Xml, block);
        }
    }
}

#[test]
fn many_children_come_in_pages() {
    let records: Vec<String> = (0..2500).map(|n| format!("{{\"n\":{n}}}")).collect();
    let list = format!("{{\"page\":1,\"of\":[{}],\"end\":true}}", records.join(","));
    for (text, notation, line) in
        [(records.join("\n"), Notation::JsonLines, 0), (list, Notation::Json, 2)]
    {
        let mut tree = large(&text, notation, 100);
        if line > 0 {
            assert!(tree.toggle(line));
            while tree.has_work() {
                tree.work(10_000);
            }
        }
        assert_eq!(tree.line(line).unwrap().kind, "2500 items");
        // The first page is open, the others are not.
        let pages = [line + 1, line + 1002, line + 1003];
        let names = pages.map(|at| tree.line(at).unwrap().name);
        assert_eq!(names, ["0 … 999", "1000 … 1999", "2000 … 2499"]);
        let depth = tree.line(line + 2).unwrap().depth;
        assert_eq!(depth, tree.line(line + 1).unwrap().depth + 1);
        tree.toggle(pages[2]);
        while tree.has_work() {
            tree.work(10_000);
        }
        let steps = if line == 0 { "$" } else { "$.of" };
        assert_eq!(tree.path(pages[2] + 500), format!("{steps}[2499]"));
        assert_eq!(tree.whole(pages[2] + 500), "{\n  \"n\": 2499\n}");
        // A byte leads to the line of the value that it is in.
        let mut other = large(&text, notation, 100);
        let at = text.find("1234}").unwrap() as u64;
        let found = other.path_at(&Position::Byte(at));
        assert_eq!(found, Some(format!("{steps}[1234].n")));
        let shown = other.show(&Position::Byte(at)).unwrap();
        assert_eq!(other.path(shown), format!("{steps}[1234].n"));
        let numbers = other.numbers(shown);
        let mut again = large(&text, notation, 1000);
        let line = again.show_numbers(&numbers);
        assert_eq!(again.path(line), format!("{steps}[1234].n"));
    }
}

#[test]
fn pages_of_elements_count_on() {
    let elements: Vec<String> =
        (0..1500).map(|n| format!("<{0}>{n}</{0}>", ["a", "b"][n % 2])).collect();
    let mut tree = large(&format!("<r>{}</r>", elements.concat()), Notation::Xml, 100);
    tree.toggle(1);
    while tree.has_work() {
        tree.work(10_000);
    }
    tree.toggle(1003);
    while tree.has_work() {
        tree.work(10_000);
    }
    assert_eq!((tree.path(1004), tree.path(1005)), ("/r[1]/a[501]".into(), "/r[1]/b[501]".into()));
    assert_eq!(tree.line(1005).unwrap().value.unwrap(), "1001");
}

/// Bytes that come in.
struct Coming {
    all: Vec<u8>,
    there: Rc<Cell<usize>>,
}

impl Bytes for Coming {
    fn count(&self) -> u64 {
        self.there.get() as u64
    }

    fn is_complete(&self) -> bool {
        self.there.get() == self.all.len()
    }

    fn read_at(&self, at: u64, out: &mut [u8]) -> io::Result<usize> {
        self.all[..self.there.get()].to_vec().read_at(at, out)
    }
}

/// What pauses in the midst of a token goes on however long that takes.
#[test]
fn what_comes_in_pieces_is_found_to_its_end() {
    for (text, notation) in [
        ("<a><b k='1'>x</b><!-- c --><c/><d>y</d></a>", Notation::Xml),
        ("{\"a\": [1, \"x\"], \"b\\\"c\": null}", Notation::Json),
        ("{\"a\": 1}\n22\n\"x\"", Notation::JsonLines),
    ] {
        let whole = all(&mut large(text, notation, 4096));
        for cut in 0..text.len() {
            let there = Rc::new(Cell::new(cut));
            let bytes = Coming { all: text.as_bytes().to_vec(), there: Rc::clone(&there) };
            let mut tree = LargeTree::new(Box::new(bytes), notation);
            (0..40).for_each(|_| {
                tree.work(1000);
            });
            there.set(text.len());
            assert_eq!(all(&mut tree), whole, "{text} {cut}");
        }
    }
}

#[test]
fn what_is_broken_is_shown_as_it_is() {
    for (text, notation) in [
        ("{\"a\": 1, \"b\" 2, c}", Notation::Json),
        ("[1, tru, {\"a\": ]", Notation::Json),
        ("", Notation::Json),
        ("\"text\"", Notation::Json),
        ("{\"a\": \"", Notation::JsonLines),
        ("<a><b></a>", Notation::Xml),
        ("<a b='", Notation::Xml),
        ("<", Notation::Xml),
        ("<!", Notation::Xml),
    ] {
        let mut tree = large(text, notation, 8);
        assert!(!all(&mut tree).is_empty(), "{text}");
    }
}

fn any_json() -> impl Strategy<Value = serde_json::Value> {
    let leaf = prop_oneof![
        Just(serde_json::Value::Null),
        any::<i32>().prop_map(Into::into),
        "[a\"\\\\\\[{},:é]{0,9}".prop_map(Into::into),
    ];
    leaf.prop_recursive(4, 30, 5, |inner| {
        prop_oneof![
            prop::collection::vec(inner.clone(), 0..5).prop_map(Into::into),
            prop::collection::btree_map("[a-c\"\\\\é]{0,3}", inner, 0..5)
                .prop_map(|map| serde_json::Value::Object(map.into_iter().collect())),
        ]
    })
}

proptest! {
    #[test]
    fn json_is_as_when_it_is_held(value in any_json(), block in 8usize..60, is_pretty in any::<bool>()) {
        let text = if is_pretty { serde_json::to_string_pretty(&value) } else { serde_json::to_string(&value) };
        assert_same(Format::Json, &text.unwrap(), Notation::Json, block);
    }

    #[test]
    fn never_panics(text in "[\\[\\]{}<>/\"'!a=& ,:\\\\-]{0,40}", block in 1usize..20) {
        for notation in [Notation::Json, Notation::JsonLines, Notation::Xml] {
            let mut tree = large(&text, notation, block);
            let _ = all(&mut tree);
            let _ = tree.show(&Position::Byte(7));
            (0..tree.len()).for_each(|at| drop(tree.whole(at)));
        }
    }
}
