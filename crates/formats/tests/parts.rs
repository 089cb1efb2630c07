//! Documents in parts: the records, faults and repairs of a text that comes piece by piece are those of the whole.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

use kyanite_formats::json::{self, Style};
use kyanite_formats::record_view::View;
use kyanite_formats::xml::{
    self, Ancestry, Dropped, Elements, Options, Prolog, RecordReader, Repair, StepName,
};
use kyanite_tree::{Arena, Content, Value};
use proptest::prelude::*;

/// Records as lines of JSON, and what was repaired; or why the document is refused.
type Outcome = Result<(Vec<String>, Vec<String>), String>;

fn line(value: Value<'_>, arena: &Arena) -> String {
    let mut out = Vec::new();
    json::write(View::default().record(value, arena), Style::Compact, &mut out);
    String::from_utf8(out).unwrap()
}

/// What was repaired; what is open at the end is not told in the same order.
fn told(repairs: Vec<Repair>) -> Vec<String> {
    let mut messages: Vec<String> = repairs.into_iter().map(|repair| repair.message).collect();
    messages.sort_unstable();
    messages
}

/// The elements at the path `f`, `r` of a document that is held whole.
fn whole(text: &str, options: Options) -> Outcome {
    let arena = Arena::new();
    let read = xml::document(text, &arena, options).map_err(|error| error.message().to_owned())?;
    let mut at = vec![read.root];
    for step in ["f", "r"] {
        let content = at.iter().flat_map(|element| element.content);
        let fitting = content.filter_map(|node| match node {
            Content::Element(_, child) if child.name.local() == step => Some(*child),
            _ => None,
        });
        at = fitting.collect();
    }
    let lines = at.iter().map(|record| line(Value::Element(read.origin, record), &arena));
    Ok((lines.collect(), told(read.repairs)))
}

fn char_boundary(text: &str, at: usize) -> usize {
    (0..=at.min(text.len())).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0)
}

/// The same of a text that comes in pieces which end at `cuts`.
fn in_parts(text: &str, cuts: &[usize], options: Options) -> Outcome {
    let (arena, mut prolog) = (Arena::new(), Prolog::default());
    let path = ["f", "r"].map(|name| StepName::new(name, None));
    let mut cuts: Vec<usize> = cuts.iter().map(|cut| char_boundary(text, *cut)).collect();
    cuts.extend([0, text.len()]);
    cuts.sort_unstable();
    let (mut lines, mut repairs) = (Vec::new(), Vec::new());
    let dropped = Dropped::default();
    let (mut from, mut place, mut is_begun) = (0, Ancestry::default(), false);
    for end in cuts {
        let is_last = end == text.len();
        if !is_begun {
            match xml::prolog(&text[..end], &arena, options, is_last) {
                Ok(read) => (from, prolog, is_begun) = (read.end, read, true),
                Err(error) if error.wants_more() && !is_last => continue,
                Err(error) => return Err(error.message().to_owned()),
            }
            repairs.append(&mut prolog.repairs);
        }
        let elements = Elements {
            path: &path,
            prolog: &prolog,
            options,
            dropped: &dropped,
            keeps_around: false,
        };
        let part = Arena::new();
        let mut reader = RecordReader::new(&text[from..end], &part, elements, place);
        if is_last {
            reader.is_last();
        }
        loop {
            match reader.next_record() {
                Ok(Some(record)) => lines.push(line(record, &part)),
                Ok(None) => break,
                Err(error) if error.wants_more() && !is_last => break,
                Err(error) => return Err(error.message().to_owned()),
            }
            repairs.append(&mut reader.take_repairs());
        }
        if is_last {
            reader.finish().map_err(|error| error.message().to_owned())?;
            repairs.append(&mut reader.take_repairs());
            break;
        }
        repairs.append(&mut reader.take_repairs());
        assert!(dropped.adopt(&reader.take_dropped()));
        (from, place) = (from + reader.committed(), reader.place(&part).keep(&arena));
    }
    Ok((lines, told(repairs)))
}

#[test]
fn declarations_hold_for_all_parts() {
    let text = "<?xml version='1.0'?><!DOCTYPE f [<!ENTITY e 'x<b/>'><!ENTITY two '<r>1</r><r>2</r>'>\
                <!ATTLIST r kind CDATA 'k'>]><!-- c --><f xmlns='u'><o>&e;<r>no</r></o><r>&e;</r>\
                <r kind='l'/>&two;<r>&#65;</r></f><!-- d -->";
    let expected = whole(text, Options::default());
    assert_eq!(
        expected.as_ref().unwrap().0,
        [
            r##"{"@kind":"k","#content":["x",{"b":""}]}"##,
            r#"{"@kind":"l"}"#,
            r##"{"@kind":"k","#text":"1"}"##,
            r##"{"@kind":"k","#text":"2"}"##,
            r##"{"@kind":"k","#text":"A"}"##,
        ]
    );
    for cut in 0..text.len() {
        assert_eq!(in_parts(text, &[cut], Options::default()), expected, "{cut}");
    }
}

/// An element beside the path is passed over piece by piece: of 200,000 pieces none is looked at again and again.
#[test]
fn what_is_beside_the_path_is_not_held() {
    let text = format!("<f><o>{}</o><r>1</r></f>", "<x><y>text</y></x>".repeat(200_000));
    let cuts: Vec<usize> = (1..20_000).map(|part| part * text.len() / 20_000).collect();
    let (lines, _) = in_parts(&text, &cuts, Options::default()).unwrap();
    assert_eq!(lines, ["\"1\""]);
}

fn any_document() -> impl Strategy<Value = String> {
    let piece = prop::sample::select(
        &[
            "<f>",
            "</f>",
            "<r>",
            "</r>",
            "<r a='1'>",
            "<o>",
            "</o>",
            "<r/>",
            "text",
            "&e;",
            "&t;",
            "&z;",
            "&amp;",
            "&",
            "<!-- c -->",
            "<!-- c",
            "-->",
            "<![CDATA[d]]>",
            "<![CDATA[",
            "]]>",
            "<?p d?>",
            "<f xmlns='u'>",
            "<p:r>",
            "</p:r>",
            "<r b=\"x>",
            "<r b>",
            "<",
            ">",
            "\n",
            " ",
            "<!DOCTYPE f>",
            "<r xmlns:p='v'>",
            "</f",
            "</r",
            "é",
        ][..],
    );
    let prolog = prop::sample::select(
        &[
            "",
            "<?xml version='1.0'?>",
            "<!DOCTYPE f [<!ENTITY e 'x'><!ENTITY t '<r>t</r>'>]>",
            "<!-- c --><!DOCTYPE f SYSTEM 'u'>",
            "<!DOCTYPE f [<!ATTLIST r k CDATA 'v'>",
            "\u{feff}",
        ][..],
    );
    (prolog, any::<bool>(), prop::collection::vec(piece, 0..14)).prop_map(
        |(prolog, is_in_f, pieces)| {
            let (open, close) = if is_in_f { ("<f>", "</f>") } else { ("", "") };
            format!("{prolog}{open}{}{close}", pieces.concat())
        },
    )
}

proptest! {
    #[test]
    fn parts_are_the_whole(text in any_document(), cuts in prop::collection::vec(0usize..200, 0..4), lenient: bool, drop_namespaces: bool) {
        let options = Options { lenient, drop_namespaces, depth: 9, ..Options::default() };
        let text = text.strip_prefix('\u{feff}').unwrap_or(&text);
        let (expected, found) = (whole(text, options), in_parts(text, &cuts, options));
        match (&expected, &found) {
            (Ok(expected), Ok(found)) => prop_assert_eq!(expected, found),
            (Err(_), Err(_)) => {}
            _ => prop_assert!(false, "{:?} {:?}", expected, found),
        }
    }
}
