//! Elements straight to lines of JSON: the same lines, losses and refusals as by way of values.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

use kyanite_formats::json::{self, Style};
use kyanite_formats::projection::{Projected, Projection};
use kyanite_formats::record_view::{RecordShape, Undecided, View};
use kyanite_formats::xml::{
    Ancestry, Dropped, Elements, LineOrRecord, Options, Prolog, RecordReader, StepName,
};
use kyanite_tree::{Arena, Value};
use proptest::prelude::*;

/// What came of a document: lines, members that are undecided, what was lost; and how many lines came straight.
type Outcome = (Result<Vec<u8>, (String, usize)>, Vec<(Undecided, String)>, Option<String>);

fn outcome(text: &str, options: Options, straight: bool) -> (Outcome, usize) {
    let (arena, mut out, mut count) = (Arena::new(), Vec::new(), 0);
    let path = ["feed", "r"].map(|name| StepName::new(name, None));
    let shape = RecordShape {
        lists: vec!["always".into()],
        maps: vec!["x2".into()],
        ..RecordShape::default()
    };
    let mut view = View::new(&shape, false);
    let (path, prolog, dropped) = (&path[..], &Prolog::default(), &Dropped::default());
    let elements = Elements { path, prolog, options, dropped, keeps_around: false };
    let mut reader = RecordReader::new(text, &arena, elements, Ancestry::default());
    let ended = loop {
        let next = if straight {
            reader.next_line(&mut view, &mut out)
        } else {
            reader.next_record().map(|record| record.map(LineOrRecord::Record))
        };
        match next {
            Ok(Some(LineOrRecord::Line)) => count += 1,
            Ok(Some(LineOrRecord::Record(record))) => {
                json::write(view.record(record, &arena), Style::Compact, &mut out);
                out.push(b'\n');
            }
            Ok(None) => break reader.finish(),
            Err(error) => break Err(error),
        }
    };
    let ended =
        ended.map(|()| out).map_err(|error| (error.message().to_owned(), error.span().start));
    let losses = view.losses().summary();
    // After a refusal nothing is said but that.
    let undecided = if ended.is_ok() { view.undecided() } else { Vec::new() };
    ((ended, undecided, losses), count)
}

/// The lines of the records in a feed, and how many of them came straight.
fn lines(records: &str, options: Options) -> (Outcome, usize) {
    let text = format!("<feed xmlns:v='u' xmlns:w='u'>{records}</feed>");
    let (straight, count) = outcome(&text, options, true);
    assert_eq!(straight, outcome(&text, options, false).0, "{text}");
    (straight, count)
}

#[test]
fn plain_records_come_straight() {
    for (record, line) in [
        ("<r/>", r#""""#),
        ("<r></r>", r#""""#),
        ("<r> x </r>", r#"" x ""#),
        ("<r a='1' b = \"2\"/>", ""),
        ("<r a='1' b=\"2\"/>", r#"{"@a":"1","@b":"2"}"#),
        ("<r a='1'> </r>", r##"{"@a":"1","#text":" "}"##),
        ("<r a='1'></r >", ""),
        ("<r a='1'></r>", r#"{"@a":"1"}"#),
        ("<r v:a='1' a='2'/>", r#"{"@v:a":"1","@a":"2"}"#),
        ("<r v:a='1' w:a='2'/>", ""),
        ("<r a='1' a='2'/>", ""),
        ("<r>\n <x>1</x>\n\t<y/>\n</r>", r#"{"x":"1","y":""}"#),
        ("<r><x>1</x>\n<x>2</x><y/></r>", r#"{"x":["1","2"],"y":""}"#),
        ("<r><x>1</x> <x>2</x></r>", ""),
        ("<r> <x>1</x></r>", ""),
        ("<r><x2/><x2>1</x2><x2 a=''/></r>", r##"{"x2":[{},{"#text":"1"},{"@a":""}]}"##),
        ("<r><y/><x/><x/><x/></r>", r#"{"y":"","x":["","",""]}"#),
        ("<r><x/><y/><x/></r>", ""),
        ("<r><always>1</always></r>", r#"{"always":["1"]}"#),
        ("<r><always/><always a=''/></r>", r#"{"always":["",{"@a":""}]}"#),
        ("<r>a &amp; \"b\" \\ &#10;&quot;\n]] it's &lt;</r>", r#""a & \"b\" \\ \n\"\n]] it's <""#),
        ("<r a='\"\\ > ] &apos;&#x9;'/>", r#"{"@a":"\"\\ > ] '\t"}"#),
        ("<r a='x\ny'/>", ""),
        ("<r>\u{feff}é\u{fffd}ﷺ€</r>", "\"\u{feff}é\u{fffd}ﷺ€\""),
        (
            "<r><a-name-of-more-than-sixteen/><a-name-of-more-than-thirty-two-bytes/></r>",
            r#"{"a-name-of-more-than-sixteen":"","a-name-of-more-than-thirty-two-bytes":""}"#,
        ),
        ("<r><é>ø</é></r>", r#"{"é":"ø"}"#),
        ("<r><v:x/></r>", r#"{"v:x":""}"#),
        ("<r><v:x xmlns:v='z'/></r>", ""),
        ("<r xml:space='preserve'> <x/></r>", ""),
        ("<r xml:lang='no'/>", r#"{"@xml:lang":"no"}"#),
        ("<r>x<y/></r>", ""),
        ("<r><y/>x</r>", ""),
        ("<r><!-- c --><x/></r>", ""),
        ("<r><?p d?></r>", ""),
        ("<r><![CDATA[<]]></r>", r#""<""#),
        ("<r>1<![CDATA[ & ]]]>2\n<![CDATA[\"]]></r>", r#""1 & ]2\n\"""#),
        ("<r a='1'><![CDATA[2]]></r>", r##"{"@a":"1","#text":"2"}"##),
        ("<r a='1'><![CDATA[]]></r>", ""),
        ("<r><![CDATA[\u{ffff}]]></r>", ""),
        ("<r><![CDATA[1]]><x/></r>", ""),
        ("<r>&other;</r>", ""),
        ("<r>]]></r>", ""),
        ("<r>\u{ffff}</r>", ""),
        ("<r><q:x/></r>", ""),
        ("<r><x></y></r>", ""),
        ("<r a='<'/>", ""),
        ("<r a='1'b='2'/>", ""),
        ("<rs/>", ""),
        ("<v:r/>", ""),
    ] {
        // The first record shows what the others look like.
        let (outcome, count) = lines(&format!("<r/>{record}"), Options::default());
        assert_eq!(count, usize::from(!line.is_empty()), "{record}");
        if !line.is_empty() {
            assert_eq!(String::from_utf8(outcome.0.unwrap()).unwrap(), format!("\"\"\n{line}\n"));
        }
    }
    let deep = |levels: usize| format!("{}{}", "<r>".repeat(levels), "</r>".repeat(levels));
    for (levels, count) in [(100, 1), (101, 0)] {
        assert_eq!(lines(&format!("<r/>{}", deep(levels)), Options::default()).1, count);
    }
    let shallow = Options { depth: 3, ..Options::default() };
    assert_eq!(lines(&format!("<r/>{}", deep(2)), shallow).1, 1);
    assert!(lines(&format!("<r/>{}", deep(4)), shallow).0.0.is_err());
    let dropped = Options { drop_namespaces: true, ..Options::default() };
    assert_eq!(lines("<r/><r><v:x/></r>", dropped).1, 0);
}

#[test]
fn names_mean_what_they_mean_around_the_record() {
    let record = "<r/><r><p:x/></r>";
    let text = format!("<feed xmlns:p='u'>{record}</feed><feed>{record}</feed>");
    let read = |text: &str| {
        let arena = Arena::new();
        let path = ["all", "feed", "r"].map(|name| StepName::new(name, None));
        let (mut view, mut out) = (View::default(), Vec::new());
        let (path, prolog, dropped) = (&path[..], &Prolog::default(), &Dropped::default());
        let elements =
            Elements { path, prolog, options: Options::default(), dropped, keeps_around: false };
        let mut reader = RecordReader::new(text, &arena, elements, Ancestry::default());
        let mut kinds = Vec::new();
        loop {
            match reader.next_line(&mut view, &mut out) {
                Ok(Some(LineOrRecord::Line)) => kinds.push('l'),
                Ok(Some(LineOrRecord::Record(_))) => kinds.push('r'),
                Ok(None) => break,
                Err(_) => {
                    kinds.push('e');
                    break;
                }
            }
        }
        kinds.into_iter().collect::<String>()
    };
    assert_eq!(read(&format!("<all>{text}</all>")), "rlre");
    assert_eq!(read(&format!("<all xmlns:p='z'>{text}</all>")), "rlrl");
}

/// Pieces of feeds, plain ones and others.
fn any_feed() -> impl Strategy<Value = String> {
    let text = prop_oneof![
        6 => "[a-z0-9 .:-]{0,40}",
        1 => "[\"'\\\\\\]>é\u{feff}\u{fffd}\n\t ]{0,9}",
        1 => prop::sample::select(&["&amp;", "&#65;", "&#10;", "&lt;x", "\n ", "&z;", "]]>", "\u{fffe}", "\u{1}", "&"][..])
            .prop_map(str::to_owned),
    ];
    let name =
        prop::sample::select(&["x", "y", "x2", "always", "v:x", "long-name-of-an-element"][..]);
    let tag = (
        name,
        prop_oneof![
            4 => Just(""),
            2 => prop::sample::select(&[" a='1'", " b=\"it's\"", " a='1'  w:a='2'", " a='x' b='&amp;y'", " v:a=''"][..]),
            1 => prop::sample::select(&[" a='1' a='2'", " xmlns:v='k'", " a=''b=''", " xml:space='preserve'", " a", "  "][..]),
        ],
    );
    let leaf = (tag.clone(), text.clone())
        .prop_map(|((name, attributes), text)| format!("<{name}{attributes}>{text}</{name}>"));
    let node = leaf.prop_recursive(3, 24, 5, move |inner| {
        let other = prop::sample::select(
            &["", "\n  ", "<!-- c -->", "<?p?>", "text", "<![CDATA[d]]>", "<x/>", "</x>"][..],
        );
        (tag.clone(), prop::collection::vec((prop_oneof![9 => Just(""), 1 => other], inner), 0..5))
            .prop_map(|((name, attributes), children)| {
                let content: String =
                    children.iter().map(|(other, child)| format!("{other}{child}")).collect();
                format!("<{name}{attributes}>{content}</{name}>")
            })
    });
    let record =
        prop::collection::vec(node, 0..4).prop_map(|nodes| format!("<r>{}</r>", nodes.concat()));
    prop::collection::vec(record, 0..6).prop_map(|records| records.join("\n"))
}

/// What is needed of the records of a text: all of `x`, and the `x2` in each `y`; or why it is refused.
fn needed(text: &str, is_told: bool) -> Result<Vec<String>, (String, usize)> {
    let mut projection = Projection::nothing();
    let x = projection.add_member(Projected::RECORD, "w:x");
    projection.add_all(x);
    let y = projection.add_member(Projected::RECORD, "y");
    let inner = projection.add_member(y, "x2");
    projection.add_all(inner);
    let arena = Arena::new();
    let path = ["feed", "r"].map(|name| StepName::new(name, None));
    let (path, prolog, dropped) = (&path[..], &Prolog::default(), &Dropped::default());
    let elements =
        Elements { path, prolog, options: Options::default(), dropped, keeps_around: false };
    let reader = RecordReader::new(text, &arena, elements, Ancestry::default());
    let mut reader = if is_told { reader.with_projection(&projection) } else { reader };
    let mut found = Vec::new();
    let mut add = |value: Value<'_>| {
        let mut out = Vec::new();
        json::write(View::default().record(value, &arena), Style::Compact, &mut out);
        found.push(String::from_utf8(out).unwrap());
    };
    let called = |value: Value<'_>, name: &str| {
        value.as_element().is_some_and(|element| element.name.local() == name)
    };
    loop {
        let next = reader
            .next_record()
            .map_err(|error| (error.message().to_owned(), error.span().start))?;
        let Some(Value::Element(_, record)) = next else { break };
        for child in record.children() {
            if called(child, "x") {
                add(child);
            } else if called(child, "y") {
                let inner = child.as_element().into_iter().flat_map(|child| child.children());
                inner.filter(|inner| called(*inner, "x2")).for_each(&mut add);
            }
        }
    }
    reader.finish().map_err(|error| (error.message().to_owned(), error.span().start))?;
    Ok(found)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2000))]

    #[test]
    fn what_is_needed_is_the_same(feed in any_feed()) {
        let text = format!("<feed xmlns:v='u' xmlns:w='u'>{feed}</feed>");
        prop_assert_eq!(needed(&text, true), needed(&text, false), "{}", text);
    }

    #[test]
    fn lines_are_those_of_values(feed in any_feed(), cut in any::<prop::sample::Index>()) {
        let _ = lines(&feed, Options::default());
        // A text that ends anywhere.
        let text = format!("<feed xmlns:v='u' xmlns:w='u'>{feed}</feed>");
        let cut = (0..=cut.index(text.len())).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
        let options = Options::default();
        prop_assert_eq!(outcome(&text[..cut], options, true).0, outcome(&text[..cut], options, false).0);
    }
}
