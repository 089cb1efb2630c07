//! Places stay right however many documents there are, and however far into a text.
#![allow(clippy::unwrap_used, reason = "tests say what is wrong by panicking")]

use kyanite_flow::{
    Counters, Destination, Events, Input, InputOptions, Job, Layout, Output, RunError, run,
};
use kyanite_formats::documents::{self, Options};
use kyanite_formats::{Format, records};
use kyanite_lang::{RuleText, Syntax, compile};
use kyanite_tree::{Arena, Base, Value};

/// A failure in the last of 70,000 gathered documents points into that one.
#[test]
fn more_documents_than_sixteen_bits_count() {
    let folder = tempfile::tempdir().unwrap();
    let (good, bad) = (folder.path().join("good.json"), folder.path().join("bad.json"));
    std::fs::write(&good, "{\"n\": 1}").unwrap();
    std::fs::write(&bad, "{\n\"n\": \"x\"}").unwrap();
    let mut inputs = vec![Input::File(good); 70_000];
    inputs.push(Input::File(bad.clone()));
    let plan =
        compile(RuleText::new("rule", "sum(for d in $[*] return d.n)"), Syntax::Rule).unwrap();
    let options = InputOptions::default();
    let job = Job { gather: true, ..Job::new(&plan, &options) };
    let target = Destination::File(folder.path().join("out.json"));
    let mut output = Output::open(target, Layout::of(Format::Json)).unwrap();
    let mut events = Events { tell: &mut |_| {}, counters: &Counters::default() };
    let failed = run(&job, &inputs, &mut output, &mut events).unwrap_err();
    let RunError::Rule(told) = &failed else { panic!("{failed}") };
    let place = &told.places()[0];
    assert_eq!(place.file, bad.display().to_string());
    assert_eq!((place.at.line, place.at.column), (2, 6));
}

/// The deepest first value of a document: where its first item, member, attribute or child leads.
fn innermost(value: Value<'_>) -> Value<'_> {
    let inner = match value {
        Value::List(_, items) => items.last().copied(),
        Value::Map(_, map) => map.members().last().map(|member| member.value),
        Value::Element(_, element) => element.children().next(),
        _ => None,
    };
    inner.map_or(value, innermost)
}

/// In each format a value that is read far into a long text has the same offset in its part of it.
#[test]
fn offsets_beyond_four_gigabytes() {
    let far = Base::default().behind(5 << 30);
    for (format, text, value) in [
        (Format::Json, "[1, {\"a\": \"x\"}]", "\"x\""),
        (Format::JsonLines, "1\n{\"a\": 2}\n", "2}"),
        (Format::Xml, "<a><b>c</b></a>", "<b>"),
        (Format::Yaml, "a:\n  - b: c\n", "c\n"),
        (Format::Toml, "[a]\nb = 'c'\n", "'c'"),
        (Format::Csv, "a,b\n1,2\n", "2\n"),
        (Format::Text, "one\ntwo\n", "two"),
    ] {
        let arena = Arena::new();
        let root = if format.has_records() {
            records::all(format, text, &arena, 10, far).unwrap().0
        } else {
            let options = Options { base: far, ..Options::default() };
            documents::read(format, text, &arena, options).unwrap().roots[0]
        };
        let found = innermost(root).origin();
        assert_eq!(far.offset(found), text.find(value).unwrap(), "{format}");
        assert!(found.position() > 5 << 30, "{format}");
    }
}
