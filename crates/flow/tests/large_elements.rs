//! Surveys of large documents of XML, part by part, against surveys of the same documents, held whole.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that fails may panic")]

use std::io::{Cursor, Read};

use kyanite_flow::{
    Counters, Events, Input, InputOptions, InputReader, RecordPath, Surveyed, survey,
};
use kyanite_formats::Format;
use proptest::prelude::*;

/// What is found in a document: in parts if it is large, or held where a path is given.
fn found(text: &str, at: Option<&RecordPath>) -> String {
    let bytes = text.as_bytes().to_vec();
    let open = Box::new(Cursor::new(bytes)) as Box<dyn Read + Send>;
    let inputs = [Input::Reader(InputReader::new("x.xml", open))];
    // Documents of more than 16 kB are gone through.
    let options = InputOptions { from: Some(Format::Xml), memory: 1 << 20, ..Default::default() };
    let counters = Counters::default();
    let mut events = Events { tell: &mut |_| {}, counters: &counters };
    let what = Surveyed { inputs: &inputs, options: &options, at, range: None };
    match survey(what, &mut events) {
        Ok(found) => format!("{:#?}", found.report()),
        Err(failed) => format!("{failed}"),
    }
}

fn assert_same(text: &str) {
    let (large, held) = (found(text, None), found(text, Some(&"$".parse().unwrap())));
    let held = held.replace("\"$[*]", "\"$");
    if large != held {
        let differs = large.lines().zip(held.lines()).find(|(large, held)| large != held);
        let head: String = text.chars().take(600).collect();
        panic!("{differs:?} in {} bytes: {head}", text.len());
    }
}

#[test]
fn shapes() {
    let items = "<item no='1'><name>Tern</name></item>\n".repeat(3000);
    for text in [
        format!("<fleet>{items}</fleet>"),
        format!("<fleet x='1' xml:lang='en'>\n{items}</fleet>"),
        // Children of one name apart from each other, and text among children.
        format!("<fleet>{items}<port>A</port>{items}</fleet>"),
        format!("<fleet>{items}<!-- c -->word<!-- d --> more{items}</fleet>"),
        format!("<fleet xml:space='preserve'>{items}</fleet>"),
        // Elements large themselves, one or several of a name, and some of them in order.
        format!("<fleet><ships>{items}</ships><ports>{items}<port/></ports></fleet>"),
        format!(
            "<fleet><ships>{items}</ships><ships>{items}<port/>{items}</ships><ships/></fleet>"
        ),
        format!("<fleet><a><b><c>{items}</c></b><b>{items}</b></a><a/></fleet>"),
        // A text that is large.
        format!("<fleet><name>{}</name><name/></fleet>", "Tern ".repeat(30_000)),
        format!("<fleet><name lang='en'>{}</name></fleet>", "Tern]] &amp; ".repeat(30_000)),
        format!("<fleet><name>{}<![CDATA[<x/>]]></name></fleet>", "Tern ".repeat(30_000)),
        format!("<fleet><name> <!-- c -->{}</name></fleet>", "]".repeat(300_000)),
        format!("<fleet lang='en'>{}</fleet>", " ".repeat(300_000)),
        // Entities with elements.
        format!(
            "<!DOCTYPE fleet [<!ENTITY e '<port>A</port>x'>]><fleet>{items}&e;{items}&e;</fleet>"
        ),
        format!("<f:fleet xmlns:f='urn:f'>{}</f:fleet>", items.replace("item", "f:item")),
        // Broken far behind the beginning.
        format!("<fleet>{items}<a></b></fleet>"),
        format!("<fleet><a>{items}</a>{items}"),
    ] {
        assert_same(&text);
    }
}

/// A text repeated, up to a largest size.
fn repeated((text, times): &(String, usize)) -> String {
    text.repeat((*times).min(1 + 150_000 / (text.len() + 1)))
}

/// The content of an element, `depth` levels deep.
fn content(depth: u32) -> BoxedStrategy<String> {
    let leaf = prop_oneof![
        4 => "<(name|port)>[a-c]{0,3}</(name|port)>",
        2 => "<item( no='[1-9]{1,3}')?( at='x')?/>",
        1 => "\n  |x| |&lt;|<!-- c -->|<\\?p q\\?>|<!\\[CDATA\\[ \\]\\]>",
    ];
    // A tag has to fit that ends what it begins.
    let leaf = leaf.prop_map(|text| {
        let is_crossed = text.contains("<name>") != text.contains("</name>");
        if is_crossed { "<name/>".to_owned() } else { text }
    });
    if depth == 0 {
        return leaf.boxed();
    }
    let inner = content(depth - 1);
    let times = prop_oneof![6 => 1usize..3, 2 => 100usize..600];
    let several = (
        proptest::collection::vec((inner, times), 0..4),
        "name|port|item|ships",
        "( no='[1-3]')?( xml:space='preserve')?",
    );
    let element = several.prop_map(|(parts, name, attributes)| {
        let inside: String = parts.iter().map(repeated).collect();
        format!("<{name}{attributes}>{inside}</{name}>")
    });
    prop_oneof![1 => leaf, 4 => element].boxed()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, ..ProptestConfig::default() })]

    #[test]
    fn documents(parts in proptest::collection::vec((content(3), 1usize..40), 1..6), end in "\n?") {
        let inside: String = parts.iter().map(repeated).collect();
        assert_same(&format!("<fleet>{inside}</fleet>{end}"));
    }
}
