//! XML in and out: what is read, what is refused and where, what is repaired, and the record view there and back.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that fails may panic")]

use kyanite_formats::json::{self, ReaderOptions, Style};
use kyanite_formats::losses::Losses;
use kyanite_formats::record_view::View;
use kyanite_formats::xml::{self, Options};
use kyanite_tree::{Arena, Content, Element, Value, is_blank};
use proptest::prelude::*;

/// The record of a document as compact JSON, or what is wrong and at which bytes.
fn record(text: &str, options: Options) -> Result<(String, Vec<String>), (String, usize, usize)> {
    let arena = Arena::new();
    let read = xml::document(text, &arena, options)
        .map_err(|e| (e.message().to_owned(), e.span().start, e.span().end))?;
    let record = View::default().record(read.value(), &arena);
    let mut out = Vec::new();
    json::write(record, Style::Compact, &mut out);
    let repairs = read.repairs.into_iter().map(|repair| repair.message).collect();
    Ok((String::from_utf8(out).unwrap(), repairs))
}

/// The same names again and again, with what they mean changing around them.
#[test]
fn namespaces_by_where_names_stand() {
    let text = "<a xmlns:m='1' m:y=''><m:x/><x/><b xmlns:m='2' xmlns='d' m:y=''><m:x/><x/><c xmlns=''><x/></c><x/></b>\
                <m:x/><x/><b xmlns:m='3'><m:x/></b><m:x xmlns:m='4'/><m:x/></a>";
    let arena = Arena::new();
    let (nodes, _) = xml::nodes(text, &arena, Options::default()).unwrap();
    let named = |wanted: &str| {
        let all = nodes.root().descendants().flat_map(|node| node.attributes().chain([node]));
        let found = all.filter(|node| node.name().qualified() == wanted);
        found.map(|node| node.name().namespace().to_owned()).collect::<Vec<_>>()
    };
    assert_eq!(named("m:x"), ["1", "2", "1", "3", "4", "1"]);
    assert_eq!(named("x"), ["", "d", "", "d", ""]);
    assert_eq!(named("m:y"), ["1", "2"]);
    for refused in ["<a xmlns:m='1'><m:x/><b/></a><m:x/>", "<a><b xmlns:m='1'><m:x/></b><m:x/></a>"]
    {
        assert!(xml::nodes(refused, &arena, Options::default()).is_err(), "{refused}");
    }
    let refused = "<a xmlns:xmlns='1'/>";
    assert!(xml::nodes(refused, &arena, Options::default()).is_err());
}

#[test]
fn documents_as_records() {
    for (text, expected) in [
        ("<a/>", r#"{"a":""}"#),
        ("<a> x </a>", r#"{"a":" x "}"#),
        ("<a b='1' c=\"2\"/>", r#"{"a":{"@b":"1","@c":"2"}}"#),
        ("<a b='1'>x</a>", r##"{"a":{"@b":"1","#text":"x"}}"##),
        ("<a><b>1</b><b>2</b><c/></a>", r#"{"a":{"b":["1","2"],"c":""}}"#),
        ("<a><b/><c/><b/></a>", r##"{"a":{"#content":[{"b":""},{"c":""},{"b":""}]}}"##),
        ("<a>x<b>y</b> <b/></a>", r##"{"a":{"#content":["x",{"b":"y"}," ",{"b":""}]}}"##),
        ("<a>x<!-- c -->y</a>", r#"{"a":"xy"}"#),
        ("<a>x<!-- c -->y<b/></a>", r##"{"a":{"#content":["xy",{"b":""}]}}"##),
        (
            "<a xml:space='preserve'> <b/></a>",
            r##"{"a":{"@xml:space":"preserve","#content":[" ",{"b":""}]}}"##,
        ),
        ("<a><![CDATA[<&]]>]]&gt;&#x41;&lt;</a>", r#"{"a":"<&]]>A<"}"#),
        (
            "<!DOCTYPE a [<!ENTITY e 'x<b>y</b>'>]><a>&e;</a>",
            r##"{"a":{"#content":["x",{"b":"y"}]}}"##,
        ),
        (
            "<!DOCTYPE a [<!ENTITY e '&#38;#60;'>]><a b='&e;'>&e;</a>",
            r##"{"a":{"@b":"<","#text":"<"}}"##,
        ),
        (
            "<!DOCTYPE a [<!ATTLIST a t NMTOKENS ' x  y ' u CDATA 'd'>]><a u=' p\nq'/>",
            r#"{"a":{"@u":" p q","@t":"x y"}}"#,
        ),
        ("<!DOCTYPE a [<!ENTITY % p '<!ENTITY e \"in\">'>%p;]><a>&e;</a>", r#"{"a":"in"}"#),
        ("<!DOCTYPE a SYSTEM 'x.dtd'><a>&far;</a>", r#"{"a":"&far;"}"#),
        ("<p:a xmlns:p='u'><p:b/></p:a>", r#"{"p:a":{"@xmlns:p":"u","p:b":""}}"#),
        ("<?xml version='1.0'?><!-- c --><?pi d?><a/>", r#"{"a":""}"#),
    ] {
        assert_eq!(record(text, Options::default()).unwrap().0, expected, "{text}");
    }
    let dropped = Options { drop_namespaces: true, ..Options::default() };
    let text = "<p:a xmlns:p='u' p:x='1' x='2'><p:b/></p:a>";
    assert_eq!(record(text, dropped).unwrap().0, r#"{"a":{"@p:x":"1","@x":"2","b":""}}"#);
}

#[test]
fn refusals_and_their_places() {
    for (text, message, start, end) in [
        ("", "there is no element in this input", 0, 0),
        ("<a><b></a>", "</a> stands where </b> is missing", 6, 9),
        ("<a>", "the document ends inside <a>", 3, 3),
        ("<a b='1' b='2'/>", "the attribute b is given twice", 12, 13),
        (
            "<a xmlns:p='u' xmlns:q='u' p:x='1' q:x='2'/>",
            "the attribute q:x is given twice",
            40,
            41,
        ),
        ("<a b=1/>", "the value of the attribute b stands without quotes", 5, 6),
        ("<a>&x;</a>", "the entity &x; is not declared", 3, 6),
        ("<a>x & y</a>", "a bare & stands here", 5, 6),
        ("<a>]]></a>", "the characters ]]> stand outside a CDATA section", 3, 6),
        ("<a>\u{1}</a>", "the character U+0001 cannot stand in XML", 3, 4),
        ("<a>&#0;</a>", "the character U+0000 cannot stand in XML", 3, 7),
        ("<p:a/>", "the prefix `p` is not declared", 0, 4),
        (
            "<a:b:c/>",
            "`a:b:c` is no name with a prefix: names stand before and behind one colon",
            0,
            6,
        ),
        ("<a/><b/>", "a second element stands beside the root element", 4, 6),
        ("x<a/>", "text stands outside the root element", 0, 1),
        ("<a><!-- a -- b --></a>", "two hyphens stand inside a comment", 10, 12),
        (
            " <?xml version='1.0'?><a/>",
            "an XML declaration stands at the very start of the document, or nowhere",
            1,
            22,
        ),
        (
            "<!DOCTYPE a [<!ENTITY e '<b>'>]><a>&e;</a>",
            "the entity &e; opens an element that it does not close",
            35,
            38,
        ),
        (
            "<!DOCTYPE a [<!ENTITY e '</a><a>'>]><a>&e;</a>",
            "</a> closes no element that is open",
            39,
            42,
        ),
        (
            "<!DOCTYPE a [<!ELEMENT a (b,c|d)>]><a/>",
            "the group goes on with `|`, `,` or `)`, one kind in each group",
            29,
            30,
        ),
        ("<a b='<'/>", "a < stands in an attribute value", 6, 7),
        ("<a xmlns:p=''/>", "a prefix cannot be declared for no namespace", 12, 13),
    ] {
        let refused = record(text, Options::default()).unwrap_err();
        assert_eq!((refused.0.as_str(), refused.1, refused.2), (message, start, end), "{text}");
    }
}

#[test]
fn repairs() {
    let lenient = Options { lenient: true, ..Options::default() };
    for (text, expected, repairs) in [
        ("<a>x & y</a>", r#"{"a":"x & y"}"#, 1),
        ("<a>&nbsp;&#xZ;</a>", r#"{"a":"&nbsp;&#xZ;"}"#, 2),
        ("<a b=1 c/>", r#"{"a":{"@b":"1","@c":""}}"#, 2),
        ("<a b='1'c='2'/>", r#"{"a":{"@b":"1","@c":"2"}}"#, 1),
        ("<a b='1' b='2'/>", r#"{"a":{"@b":"1"}}"#, 1),
        ("<a b='x>y</a>", r##"{"a":{"@b":"x","#text":"y"}}"##, 1),
        ("<a><b>1<c>2</b></a>", r##"{"a":{"b":{"#content":["1",{"c":"2"}]}}}"##, 1),
        ("<a></b></a>", r#"{"a":""}"#, 1),
        ("<a><b", r#"{"a":""}"#, 2),
        ("<a><b>x", r#"{"a":{"b":"x"}}"#, 2),
        ("x<a/>y<b/>", r#"{"a":"","b":""}"#, 3),
        ("<a>1 < 2</a>", r#"{"a":"1 < 2"}"#, 1),
        ("<a>\u{1}x</a>", r#"{"a":"x"}"#, 1),
        ("<p:a q:b='1'/>", r#"{"p:a":{"@q:b":"1"}}"#, 2),
        ("<a <b>x</b></a>", r#"{"a":{"b":"x"}}"#, 1),
        ("<!DOCTYPE a [<!ENTITY ]><a/>", r#"{"a":""}"#, 1),
        ("\n<?xml version='1.0'?><a/>", r#"{"a":""}"#, 1),
        ("<a/></a>", r#"{"a":""}"#, 1),
        ("<a b='&y;'>x</a >", r##"{"a":{"@b":"&y;","#text":"x"}}"##, 1),
    ] {
        let (read, told) = record(text, lenient).unwrap();
        assert_eq!(read, expected, "{text}");
        assert_eq!(told.len(), repairs, "{text}: {told:?}");
    }
}

#[test]
fn elements_and_maps_as_xml() {
    let arena = Arena::new();
    let layout = xml::Layout::default();
    let head = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n";
    for (json, expected) in [
        (
            r#"{"a": {"@b": "x\"<\n", "c": ["1", 2, null], "d": true}}"#,
            "<a b=\"x&quot;&lt;&#10;\">\n  <c>1</c>\n  <c>2</c>\n  <c/>\n  <d>true</d>\n</a>\n",
        ),
        (r##"{"a": {"#content": ["x ", {"b": "]]>"}, " y"]}}"##, "<a>x <b>]]&gt;</b> y</a>\n"),
        (
            r##"{"a": {"#content": [{"b": ""}, {"c": {"@x": 1}}]}}"##,
            "<a>\n  <b/>\n  <c x=\"1\"/>\n</a>\n",
        ),
        (
            r#"[1, {"b": 2}]"#,
            "<root>\n  <item>1</item>\n  <item>\n    <b>2</b>\n  </item>\n</root>\n",
        ),
        (r#"{"a": 1, "b": 2}"#, "<root>\n  <a>1</a>\n  <b>2</b>\n</root>\n"),
        (
            r#"{"p:a": {"@xmlns:p": "u", "p:b": "1"}}"#,
            "<p:a xmlns:p=\"u\">\n  <p:b>1</p:b>\n</p:a>\n",
        ),
    ] {
        let (value, _) = json::document(json, &arena, ReaderOptions::default()).unwrap();
        let mut out = Vec::new();
        xml::write(value, &layout, &mut out, &mut Losses::default()).unwrap();
        assert_eq!(String::from_utf8(out).unwrap(), format!("{head}{expected}"), "{json}");
    }
    // An element that is taken out of its document takes its namespaces along.
    let text = "<p:a xmlns:p='u' xmlns='d'><p:b p:x='1'><c/></p:b></p:a>";
    let read = xml::document(text, &arena, Options::default()).unwrap();
    let inner =
        read.root.children().next().unwrap().as_element().unwrap().children().next().unwrap();
    let mut out = Vec::new();
    xml::write(inner, &layout, &mut out, &mut Losses::default()).unwrap();
    let expected = "<p:b p:x=\"1\" xmlns:p=\"u\"><c xmlns=\"d\"/></p:b>\n";
    assert_eq!(String::from_utf8(out).unwrap(), format!("{head}{expected}"));
}

/// What an element says: names, attributes and content; of layout, blank text with a line end between elements, only with
/// `all`.
fn infoset(element: &Element<'_>, all: bool, out: &mut String) {
    out.push_str(&format!("<{}|{}", element.name.qualified(), element.name.namespace()));
    for attribute in element.attributes {
        out.push_str(&format!(" {}={:?}", attribute.name.qualified(), attribute.value));
    }
    out.push('>');
    let has_text = |node: &Content<'_>| matches!(node, Content::Text(_, text) if !is_blank(text));
    let is_mixed = all || element.text.is_some() || element.content.iter().any(has_text);
    for node in element.content {
        match node {
            Content::Element(_, child) => infoset(child, all, out),
            Content::Text(_, text) if is_mixed || !text.contains('\n') => {
                out.push_str(&format!("{text:?}"));
            }
            _ => {}
        }
    }
    out.push_str("</>");
}

fn text() -> impl Strategy<Value = String> {
    "[a-z <>&\"'é\n\t\\]]{0,6}"
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;")
        .replace('<', "&lt;")
        .replace('>', "&gt;")
        .replace('"', "&quot;")
        .replace('\n', "&#10;")
        .replace('\t', "&#9;")
}

/// The text of an element with attributes, text and children.
fn element() -> impl Strategy<Value = String> {
    let tag = || {
        let name = prop::sample::select(vec!["a", "b", "berth-no", "ø", "p:c"]);
        (name, prop::collection::btree_map("[abx]|p:y", text(), 0..3))
    };
    let spelled = |(name, attributes): (&str, std::collections::BTreeMap<String, String>),
                   content: String| {
        let attributes: String = attributes
            .iter()
            .map(|(name, value)| format!(" {name}=\"{}\"", escaped(value)))
            .collect();
        format!("<{name}{attributes}>{content}</{name}>")
    };
    let leaf = (tag(), text()).prop_map(move |(tag, text)| spelled(tag, escaped(&text)));
    leaf.prop_recursive(4, 24, 5, move |inner| {
        let piece = prop_oneof![3 => inner, 1 => text().prop_map(|text| escaped(&text)), 1 => Just("\n ".to_owned())];
        (tag(), prop::collection::vec(piece, 0..5))
            .prop_map(move |(tag, content)| spelled(tag, content.concat()))
    })
}

proptest! {
    #[test]
    fn xml_to_records_and_back_is_the_same_infoset(inner in element()) {
        let text = format!("<r xmlns:p=\"u\">{inner}</r>");
        let arena = Arena::new();
        let read = xml::document(&text, &arena, Options::default()).unwrap();
        let mut view = View::default();
        let record = view.record(read.value(), &arena);
        // Blanks on a line are what it does not carry.
        let is_lossless = view.losses().is_empty();
        prop_assert!(is_lossless || view.losses().summary().is_some_and(|lost| lost.contains("blank text")));
        // Through text, as another program would see it.
        let (mut json, mut out, mut losses) = (Vec::new(), Vec::new(), Losses::default());
        json::write(record, Style::Compact, &mut json);
        let json = String::from_utf8(json).unwrap();
        let (map, _) = json::document(&json, &arena, ReaderOptions::default()).unwrap();
        xml::write(map, &xml::Layout::default(), &mut out, &mut losses).unwrap();
        prop_assert!(losses.is_empty());
        let again = String::from_utf8(out).unwrap();
        let back = xml::document(&again, &arena, Options::default()).unwrap();
        let (mut one, mut other) = (String::new(), String::new());
        infoset(read.root, false, &mut one);
        infoset(back.root, false, &mut other);
        prop_assert_eq!(one == other, is_lossless, "{} {} {}", text, json, again);
    }

    #[test]
    fn elements_are_written_as_they_were_read(inner in element()) {
        let text = format!("<r xmlns:p=\"u\">{inner}</r>");
        let arena = Arena::new();
        let read = xml::document(&text, &arena, Options::default()).unwrap();
        for relay in [false, true] {
            let (layout, mut out) = (xml::Layout { relay, ..xml::Layout::default() }, Vec::new());
            xml::write(read.value(), &layout, &mut out, &mut Losses::default()).unwrap();
            let again = String::from_utf8(out).unwrap();
            let back = xml::document(&again, &arena, Options::default()).unwrap();
            let (mut one, mut other) = (String::new(), String::new());
            infoset(read.root, !relay, &mut one);
            infoset(back.root, !relay, &mut other);
            prop_assert_eq!(one, other, "{} {}", text, again);
        }
    }

    #[test]
    fn no_input_makes_the_reader_panic(
        text in r#"(<a|</a>|<b |/>|>|<|x='1'|y=2|p:z="|'|"|&e;|&#65;|&|;|\]\]>|<!\[CDATA\[|<!--|-->|<\?pi |\?>|<!DOCTYPE a \[|<!ENTITY e '|<!ATTLIST a b CDATA '|<!ELEMENT a \(|\]>|%p;|xmlns:p='u'|é| |\n|\x01|x){0,24}"#,
        namespaces: bool,
    ) {
        let arena = Arena::new();
        let strict = Options { namespaces, ..Options::default() };
        let accepted = xml::document(&text, &arena, strict).is_ok();
        let lenient = xml::document(&text, &arena, Options { lenient: true, ..strict });
        if accepted {
            prop_assert!(lenient.unwrap().repairs.is_empty());
        } else if let Ok(read) = lenient {
            // What was repaired can be written, and is then well-formed.
            let mut out = Vec::new();
            let roots = read.root.children().count();
            if namespaces && roots == 1
                && xml::write(read.value(), &xml::Layout::default(), &mut out, &mut Losses::default()).is_ok()
            {
                let again = String::from_utf8(out).unwrap();
                let dtd = again.contains("<!DOCTYPE");
                prop_assert!(dtd || xml::document(&again, &arena, strict).is_ok(), "{again}");
            }
        }
    }

    #[test]
    fn no_bytes_make_a_reader_panic(bytes in prop::collection::vec(any::<u8>(), 0..64), lenient: bool) {
        let arena = Arena::new();
        if let Ok(text) = xml::decode(&bytes) {
            let _ = xml::document(&text, &arena, Options { lenient, ..Options::default() });
        }
    }
}

#[test]
fn repaired_comments_are_written_well_formed() {
    for text in [
        "<a><!-- b -- c --></a>",
        "<a><!--<!----></a>",
        "<a><!-- x ---></a>",
        "<a><!-- ---- --></a>",
    ] {
        let arena = Arena::new();
        assert!(xml::document(text, &arena, Options::default()).is_err(), "{text}");
        let lenient = Options { lenient: true, ..Options::default() };
        let read = xml::document(text, &arena, lenient).unwrap();
        let mut out = Vec::new();
        xml::write(read.value(), &xml::Layout::default(), &mut out, &mut Losses::default())
            .unwrap();
        let again = String::from_utf8(out).unwrap();
        assert!(xml::document(&again, &arena, Options::default()).is_ok(), "{text} {again}");
    }
}

#[test]
fn a_value_of_the_tree_is_what_it_was() {
    let arena = Arena::new();
    let text = "<a><b c='x'>y</b></a>";
    let read = xml::document(text, &arena, Options::default()).unwrap();
    let b = read.root.children().next().unwrap().as_element().unwrap().children().next().unwrap();
    assert_eq!(kyanite_tree::Base::default().offset(b.origin()), 3);
    let c = b.as_element().unwrap().attribute("c").unwrap();
    assert_eq!((kyanite_tree::Base::default().offset(c.origin), c.value), (9, "x"));
    assert!(matches!(b.simple(), Value::Untyped(_, "y")));
}
