//! Edits in the text of documents.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that fails may panic")]

use std::ops::ControlFlow;

use kyanite_change::{Patch, edit_record, edit_text};
use kyanite_formats::Format;
use kyanite_formats::documents::{self, Options};
use kyanite_formats::json::{ReaderOptions, document};
use kyanite_formats::record_view::View;
use kyanite_lang::{Arguments, RuleText, Runner, Session, Syntax, compile};
use kyanite_tree::{Arena, Value, equal};
use proptest::prelude::*;

/// The text after a JSON Patch, which XML has applied to its record view; or why it cannot be made.
fn patched(format: Format, text: &str, patch: &str) -> Result<String, String> {
    let arena = Arena::new();
    let root = documents::read(format, text, &arena, Options::default()).unwrap().roots[0];
    let old = View::default().record(root, &arena);
    let patch = document(patch, &arena, ReaderOptions::default()).unwrap().0;
    let new = Patch::read(patch).unwrap().apply(old, &arena).unwrap();
    let edited = match root {
        Value::Element(_, document) => edit_record(text, document, old, new),
        _ => edit_text(format, text, old, new),
    };
    edited.map_err(|problem| problem.message)
}

/// `"replace /a 1; remove /b"` as a JSON Patch.
fn operations(short: &str) -> String {
    let operations: Vec<String> = short
        .split("; ")
        .map(|operation| {
            let mut words = operation.splitn(3, ' ');
            let (op, path) = (words.next().unwrap(), words.next().unwrap());
            let value = words.next().map(|word| match word.strip_prefix("from ") {
                Some(from) => format!(", \"from\": \"{from}\""),
                None => format!(", \"value\": {word}"),
            });
            let value = value.unwrap_or_default();
            format!("{{\"op\": \"{op}\", \"path\": \"{path}\"{value}}}")
        })
        .collect();
    format!("[{}]", operations.join(", "))
}

#[test]
fn json() {
    for (text, patch, expected) in [
        ("{\"a\":1,\"b\" : [ 1,2 ]}", "replace /a 2.50", "{\"a\":2.50,\"b\" : [ 1,2 ]}"),
        ("{\"a\":1,\"b\" : [ 1,2 ]}", "remove /a", "{\"b\" : [ 1,2 ]}"),
        ("{\"a\":1,\"b\" : [ 1,2 ]}", "remove /b", "{\"a\":1}"),
        ("{\"a\":1,\"b\" : [ 1,2 ]}", "remove /b/0", "{\"a\":1,\"b\" : [ 2 ]}"),
        ("{\"a\":1,\"b\" : [ 1,2 ]}", "remove /b/1", "{\"a\":1,\"b\" : [ 1 ]}"),
        ("{\"a\":1,\"b\" : [ 1,2 ]}", "add /b/- 3", "{\"a\":1,\"b\" : [ 1,2,3 ]}"),
        ("{\"a\":1,\"b\" : [ 1,2 ]}", "add /b/0 0", "{\"a\":1,\"b\" : [ 0,1,2 ]}"),
        (
            "{\"a\":1,\"b\" : [ 1,2 ]}",
            "add /c {\"d\": 1}",
            "{\"a\":1,\"b\" : [ 1,2 ],\"c\":{\"d\":1}}",
        ),
        ("{\"a\":1,\"b\" : [ 1,2 ]}", "remove /b/0; remove /b/0", "{\"a\":1,\"b\" : []}"),
        ("{\"a\":1,\"b\" : [ 1,2 ]}", "remove /a; add /c 1; remove /b", "{\"c\":1}"),
        ("{}", "add /a 1", "{\"a\": 1}"),
        (
            "{\n  \"a\": 1,\n  \"b\": {\n    \"c\": 2\n  }\n}\n",
            "add /b/d [1]",
            "{\n  \"a\": 1,\n  \"b\": {\n    \"c\": 2,\n    \"d\": [\n      1\n    ]\n  }\n}\n",
        ),
        (
            "{\n  \"a\": 1,\n  \"b\": 2\n}\n",
            "remove /a; add /c 3",
            "{\n  \"b\": 2,\n  \"c\": 3\n}\n",
        ),
        ("[1, 2, 3, 4]", "remove /1; remove /1; add /0 9", "[9, 1, 4]"),
        (" 5 ", "replace  6", " 6 "),
        ("{\"a\": 1, \"a\": 2, \"b\": 3}", "remove /a", "{\"b\": 3}"),
    ] {
        assert_eq!(
            patched(Format::Json, text, &operations(patch)).as_deref(),
            Ok(expected),
            "{text} {patch}"
        );
    }
}

const YAML: &str = "\
# ports
ness:            # the first
  lamps: 4       # two on each side
  berths: [A9, \"B2\"]   # from north
  name: Ness
holm: &holm
  - one
  # between
  - k: v         # inner
    w: |
      line
      two
  - - deep
    - list
empty:
last: no";

#[test]
fn yaml() {
    let lines = |from: &str, to: &str| YAML.replacen(from, to, 1);
    for (patch, expected) in [
        ("replace /ness/lamps 6", lines("lamps: 4 ", "lamps: 6 ")),
        ("replace /ness/name \"Ness: old\"", lines("name: Ness\n", "name: 'Ness: old'\n")),
        ("replace /ness/berths/1 \"C3\"", lines("\"B2\"", "C3")),
        ("add /ness/berths/- \"C3\"", lines("\"B2\"]", "\"B2\", C3]")),
        ("remove /ness/berths/0", lines("A9, ", "")),
        (
            "remove /ness/lamps",
            lines("  berths: [A9", "  berths: [A9")
                .replace("  lamps: 4       # two on each side\n", ""),
        ),
        ("add /ness/depth 6.5", lines("  name: Ness\n", "  name: Ness\n  depth: 6.5\n")),
        ("remove /holm/0", lines("  - one\n", "")),
        (
            "remove /holm/1",
            lines("  - k: v         # inner\n    w: |\n      line\n      two\n", ""),
        ),
        ("remove /holm/1/k", lines("- k: v         # inner\n    w: |", "- w: |")),
        ("replace /holm/1/w \"x\"", lines("w: |\n      line\n      two\n", "w: x\n")),
        ("remove /holm/2/0", lines("- - deep\n    - list", "- - list")),
        ("add /holm/- {\"a\": 1}", lines("    - list\n", "    - list\n  - {\"a\":1}\n")),
        ("add /holm/0 0", lines("  - one\n", "  - 0\n  - one\n")),
        ("replace /empty 1", lines("empty:", "empty: 1")),
        ("replace /last null; add /more [1]", lines("last: no", "last: null\nmore: [1]")),
        ("remove /last", YAML.replace("last: no", "")),
        (
            "replace /holm 1",
            YAML.replace(&YAML[YAML.find("- one").unwrap()..YAML.find("empty").unwrap() - 1], "1"),
        ),
        (
            "remove /holm/0; remove /holm/0; remove /holm/0",
            YAML.replace(
                &YAML[YAML.find("- one").unwrap()..YAML.find("empty").unwrap() - 1],
                "[]\n  # between",
            ),
        ),
    ] {
        assert_eq!(
            patched(Format::Yaml, YAML, &operations(patch)).as_deref(),
            Ok(&*expected),
            "{patch}"
        );
    }
    for (text, patch, expected) in [
        (
            "a: &x {b: 1}\nc: *x\n",
            "replace /a/b 2",
            "what the anchor &x names is changed, and aliases repeat it",
        ),
        ("a: &x {b: 1}\nc: *x\n", "replace /c/b 2", "the alias *x stands for what is changed here"),
        (
            "a: &x {b: 1}\nc: *x\n",
            "remove /a",
            "what the anchor &x names would go, and aliases refer to it",
        ),
        (
            "a: &x {b: 1}\nc:\n  <<: *x\n",
            "replace /c/b 2",
            "the member \"b\" is not written in the map, but merged into it",
        ),
        ("- [a: 1, 2]\n", "remove /0/0/a", "a pair without braces is not edited in place"),
    ] {
        assert_eq!(
            patched(Format::Yaml, text, &operations(patch)),
            Err(expected.to_owned()),
            "{text} {patch}"
        );
    }
}

#[test]
fn toml() {
    let text = "# fleet\noperator = \"Tern\"  # who\nlimits = { wind = 40, wave = 2.5 }\ndecks = [1, 2] # two\n\n[[vessel]]\nid = \"SKUA\"\n\n[[vessel]]\n# second\nid = \"AUK\"   # small\n";
    let lines = |from: &str, to: &str| text.replacen(from, to, 1);
    for (patch, expected) in [
        ("replace /operator \"Auk\"", lines("\"Tern\"", "\"Auk\"")),
        ("replace /limits/wind 45", lines("40", "45")),
        ("add /limits/fog true", lines("2.5 }", "2.5, fog = true }")),
        ("remove /limits/wind", lines("{ wind = 40, wave", "{ wave")),
        ("add /decks/- 3", lines("[1, 2]", "[1, 2, 3]")),
        ("replace /vessel/1/id \"TERN\"", lines("\"AUK\"", "\"TERN\"")),
        (
            "add /vessel/1/built 1998",
            lines("\"AUK\"   # small\n", "\"AUK\"   # small\nbuilt = 1998\n"),
        ),
        ("remove /vessel/0", lines("[[vessel]]\nid = \"SKUA\"\n\n", "")),
        ("add /vessel/- {\"id\": \"NEW\"}", format!("{text}\n[[vessel]]\nid = \"NEW\"\n")),
    ] {
        let made = patched(Format::Toml, text, &operations(patch)).unwrap();
        assert_eq!(made.trim_end(), expected.trim_end(), "{patch}");
    }
    let refused = patched(Format::Toml, text, &operations("replace /operator null"));
    assert_eq!(refused, Err("TOML has no null".to_owned()));
}

/// A text of XML after a rule that changes it.
fn ruled(text: &str, rule: &str) -> Result<String, String> {
    let arena = Arena::new();
    let old = documents::read(Format::Xml, text, &arena, Options::default()).unwrap().roots[0];
    let plan = compile(RuleText::new("a rule", rule.to_owned()), Syntax::Rule).unwrap();
    let mut session = Session::new(&plan);
    let arguments = Arguments::read(&plan, &[], &arena).unwrap();
    let mut new = None;
    let mut runner = Runner::new(&plan, &arguments, Some(old), &arena, &mut session).unwrap();
    let _ = runner.document(&mut |value| {
        new = value;
        ControlFlow::Continue(())
    });
    edit_text(Format::Xml, text, old, new.unwrap()).map_err(|problem| problem.message)
}

const XML: &str = "<?xml version=\"1.0\"?>\n<!-- c -->\n<a x = \"1\"\n   y='2&amp;3'>\n  <b>t&lt;u</b><!-- in -->\n  <c />\n  mixed <d>1</d> tail &#65;\n</a>\n";

#[test]
fn xml() {
    let lines = |from: &str, to: &str| XML.replacen(from, to, 1);
    for (rule, expected) in [
        ("$ set .a.@x = 5", lines("\"1\"\n", "\"5\"\n")),
        ("$ set .a.@y = \"4'<\"", lines("2&amp;3", "4&apos;&lt;")),
        ("$ remove .a.@y", lines("\n   y='2&amp;3'", "")),
        ("$ set .a.@z = \"\\\"\"", lines("3'>", "3' z=\"&quot;\">")),
        ("$ set .a.b = \"new\"", lines("t&lt;u", "new")),
        ("$ set .a.c = \"<\"", lines("<c />", "<c >&lt;</c>")),
        ("$ set .a.c.@n = 1", lines("<c />", "<c n=\"1\" />")),
        ("$ set .a.d = 2", lines("<d>1</d>", "<d>2</d>")),
        ("$ remove .a.b", lines("<b>t&lt;u</b>", "")),
        ("$ remove .a.d", lines("<d>1</d>", "")),
        ("$ set .a.d.@n = 1", lines("<d>", "<d n=\"1\">")),
    ] {
        assert_eq!(ruled(XML, rule).as_deref(), Ok(&*expected), "{rule}");
    }
}

const CREW: &str = "<?xml version='1.0'?>
<!-- who -->
<m:pier xmlns:m='urn:m' no = '4'>
  <berth at=\"A9\"  wet='yes'>Skua<!-- old --></berth>
  <berth at='B2'/>
  <crew>
    <m:mate>Tor &amp; Kari</m:mate>
  </crew>
  <log>wind <b>40</b>, fog<!-- none --> later</log>
  <way><go>1</go><stop/><go>2</go></way>
  <empty />
</m:pier>
";

#[test]
fn records_of_xml() {
    let lines = |from: &str, to: &str| Ok(CREW.replacen(from, to, 1));
    let refused = |why: &str| Err(why.to_owned());
    for (patch, expected) in [
        ("replace /m:pier/@no 5", lines("'4'", "'5'")),
        ("remove /m:pier/@no", lines(" no = '4'", "")),
        ("add /m:pier/berth/0/@by \"a\\\"<\"", lines("wet='yes'", "wet='yes' by=\"a&quot;&lt;\"")),
        ("replace /m:pier/berth/0/#text \"Auk & Tern\"", lines("Skua", "Auk &amp; Tern")),
        ("remove /m:pier/berth/0/#text", lines("Skua", "")),
        (
            "add /m:pier/berth/1/#text true",
            lines("<berth at='B2'/>", "<berth at='B2'>true</berth>"),
        ),
        ("add /m:pier/berth/1/pile 8", lines("'B2'/>", "'B2'>\n    <pile>8</pile>\n  </berth>")),
        (
            "remove /m:pier/berth/0",
            lines("\n  <berth at=\"A9\"  wet='yes'>Skua<!-- old --></berth>", ""),
        ),
        (
            "remove /m:pier/berth",
            lines(
                "\n  <berth at=\"A9\"  wet='yes'>Skua<!-- old --></berth>\n  <berth at='B2'/>",
                "",
            ),
        ),
        (
            "replace /m:pier/berth \"C\"",
            lines(
                "<berth at=\"A9\"  wet='yes'>Skua<!-- old --></berth>\n  <berth at='B2'/>",
                "<berth>C</berth>",
            ),
        ),
        (
            "add /m:pier/berth/1 \"C\"",
            lines("  <berth at='B2'", "  <berth>C</berth>\n  <berth at='B2'"),
        ),
        (
            "add /m:pier/berth/- {\"m:at\": [1, 2]}",
            lines(
                "'B2'/>",
                "'B2'/>\n  <berth>\n    <m:at>1</m:at>\n    <m:at>2</m:at>\n  </berth>",
            ),
        ),
        (
            "add /m:pier/berth/0 \"C\"",
            lines("  <berth at=\"A9\"", "  <berth>C</berth>\n  <berth at=\"A9\""),
        ),
        (
            "move /m:pier/berth/0 from /m:pier/berth/1",
            lines(
                "<berth at=\"A9\"  wet='yes'>Skua<!-- old --></berth>\n  <berth at='B2'/>",
                "<berth at='B2'/>\n  <berth at=\"A9\"  wet='yes'>Skua<!-- old --></berth>",
            ),
        ),
        ("replace /m:pier/crew/m:mate \"Jo\"", lines("Tor &amp; Kari", "Jo")),
        (
            "replace /m:pier/crew/m:mate [\"Jo\", \"Al\"]",
            lines("Tor &amp; Kari</m:mate>", "Jo</m:mate>\n    <m:mate>Al</m:mate>"),
        ),
        (
            "remove /m:pier/crew/m:mate; add /m:pier/crew/@n 0",
            Ok(CREW
                .replace("\n    <m:mate>Tor &amp; Kari</m:mate>\n  ", "")
                .replace("<crew>", "<crew n=\"0\">")),
        ),
        (
            "replace /m:pier/crew \"none\"",
            lines("<crew>\n    <m:mate>Tor &amp; Kari</m:mate>\n  </crew>", "<crew>none</crew>"),
        ),
        ("replace /m:pier/log/#content/0 \"sea \"", lines("wind ", "sea ")),
        (
            "replace /m:pier/log/#content/2 \", <ice>\"",
            lines(", fog<!-- none --> later", ", &lt;ice&gt;<!-- none -->"),
        ),
        ("replace /m:pier/log/#content/1/b 41", lines("<b>40", "<b>41")),
        (
            "remove /m:pier/log/#content/2; add /m:pier/log/#content/- {\"i\": \"x\"}",
            lines(", fog<!-- none --> later", "<i>x</i><!-- none -->"),
        ),
        ("add /m:pier/way/#content/1 {\"halt\": 3}", lines("<stop/>", "<halt>3</halt><stop/>")),
        ("remove /m:pier/way/#content/0", lines("<go>1</go>", "")),
        ("replace /m:pier/empty 0", lines("<empty />", "<empty >0</empty>")),
        ("add /m:pier/empty {\"@a\": 1}", lines("<empty />", "<empty a=\"1\"/>")),
        ("replace /m:pier/@no {}", refused("\"@no\" holds text in XML, and is to hold a map")),
        ("replace /m:pier/empty null", refused("XML cannot hold all of the new \"empty\": 1 null")),
        (
            "replace /m:pier/crew [[1], [2]]",
            refused("XML cannot hold all of the new \"crew\": 2 lists in lists"),
        ),
        ("add /m:pier/x:y 1", refused("the prefix of `x:y` is not declared")),
        ("add /second 1", refused("a document of XML keeps its root element")),
        (
            "add /m:pier/crew/#text \"x\"",
            refused("the change cannot be made in the text as it is laid out"),
        ),
    ] {
        assert_eq!(patched(Format::Xml, CREW, &operations(patch)), expected, "{patch}");
    }
}

/// Random scalars of random documents, changed and changed back: then every byte is as it was.
fn there_and_back(format: Format, text: &str, path: &str, old: &str, new: &str) {
    let edited = patched(format, text, &operations(&format!("replace {path} {new}")))
        .unwrap_or_else(|why| panic!("{why}: {path} in {text}"));
    let back = patched(format, &edited, &operations(&format!("replace {path} {old}"))).unwrap();
    assert_eq!(back, text, "{path} {new}");
}

/// What may stand in an element.
fn element() -> impl Strategy<Value = String> {
    let text =
        prop::sample::select(vec!["", "4", " ", "\n ", "x &amp; y", "<!-- c -->", "<![CDATA[<]]>"]);
    text.prop_map(str::to_owned).prop_recursive(3, 24, 4, |inner| {
        let name = prop::sample::select(vec!["a", "b", "c"]);
        let attributes = prop::sample::select(vec!["", " k='1'", " k=\"2\" j='&lt;'"]);
        let child = (name, attributes, inner).prop_map(|(name, attributes, inside)| {
            format!("<{name}{attributes}>{inside}</{name}>")
        });
        let between = prop::sample::select(vec!["", "\n  ", "t"]);
        prop::collection::vec((between, child), 0..4).prop_map(|pieces| {
            pieces.into_iter().map(|(before, child)| format!("{before}{child}")).collect()
        })
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(250))]

    #[test]
    fn every_other_byte_stays(
        sizes in prop::collection::vec(1_usize..4, 1..5),
        at in 0_usize..64,
        blanks in 0_usize..4,
        new in prop_oneof![Just("7"), Just("-2.5"), Just("true"), Just("\"x y\""), Just("\"a: b # c\"")],
    ) {
        // A map of lists of maps, with comments where the format has them.
        let paths: Vec<(usize, usize)> =
            sizes.iter().enumerate().flat_map(|(group, size)| (0..*size).map(move |item| (group, item))).collect();
        let (group, item) = paths[at % paths.len()];
        let pad = " ".repeat(blanks);
        let yaml: String = sizes.iter().enumerate().map(|(group, size)| {
            let items: String = (0..*size)
                .map(|item| format!("{pad}- no: {item}{pad} # {item}\n{pad}  at: [1,{pad}2] # {group}\n\n"))
                .collect();
            format!("# group {group}\ng{group}: {pad}# here\n{items}")
        }).collect();
        let json: Vec<String> = sizes.iter().enumerate().map(|(group, size)| {
            let items: Vec<String> = (0..*size)
                .map(|item| format!("{{\"no\":{pad}{item},{pad}\"at\": [1,\t2] }}"))
                .collect();
            format!("\"g{group}\"{pad}: [{}]", items.join(&format!("{pad},\n")))
        }).collect();
        let toml: String = sizes.iter().enumerate().map(|(group, size)| {
            (0..*size).map(|item| format!("[[g{group}]] # {item}\nno = {item} {pad}# no\nat = [ 1,{pad} 2 ]\n\n")).collect::<String>()
        }).collect();
        let path = format!("/g{group}/{item}/no");
        there_and_back(Format::Yaml, &yaml, &path, &item.to_string(), new);
        there_and_back(Format::Json, &format!("{{{}}}\n", json.join(",\n ")), &path, &item.to_string(), new);
        there_and_back(Format::Toml, &toml, &path, &item.to_string(), new);
        there_and_back(Format::Yaml, &yaml, &format!("/g{group}/{item}/at/1"), "2", new);
        let xml: String = sizes.iter().enumerate().map(|(group, size)| {
            let items: String = (0..*size)
                .map(|item| format!("{pad}<p no{pad}= '{item}'><!-- {item} -->&lt;{group} </p>\n"))
                .collect();
            format!("<g{group}>\n{items}</g{group}>\n")
        }).collect();
        let xml = format!("<r a=\"1\">\n{xml}</r>\n");
        let path = format!(".r.g{group}.p[{item}].@no");
        let edited = ruled(&xml, &format!("$ set {path} = {new}")).unwrap();
        prop_assert_ne!(&edited, &xml);
        prop_assert_eq!(&ruled(&edited, &format!("$ set {path} = {item}")).unwrap(), &xml);
        let position = if sizes[group] == 1 { String::new() } else { format!("/{item}") };
        there_and_back(Format::Xml, &xml, &format!("/r/g{group}/p{position}/@no"), &item.to_string(), new);
        there_and_back(Format::Xml, &xml, &format!("/r/g{group}/p{position}/#text"), &format!("\"<{group} \""), new);
    }

    /// One document of XML in the text of another: it holds the records of that, or it is said why it cannot.
    #[test]
    fn one_document_becomes_another(old in element(), new in element()) {
        let arena = Arena::new();
        let texts = [&old, &new].map(|inside| format!("<r>{inside}</r>"));
        let roots = texts.each_ref().map(|text| {
            documents::read(Format::Xml, text, &arena, Options::default()).unwrap().roots[0]
        });
        let [before, after] = roots.map(|root| View::default().record(root, &arena));
        let edited = edit_record(&texts[0], roots[0].as_element().unwrap(), before, after);
        match edited {
            Ok(edited) => {
                let read = documents::read(Format::Xml, &edited, &arena, Options::default()).unwrap();
                prop_assert!(equal(View::default().record(read.roots[0], &arena), after), "{edited}");
            }
            Err(problem) => {
                let message = problem.message;
                prop_assert!(message.contains("stands") || message.contains("laid out"), "{message}");
            }        }
    }

    /// Whatever is removed or added, comments on lines of their own stay, and the text holds what it is to hold.
    #[test]
    fn comments_stay(
        count in 2_usize..6,
        gone in prop::collection::btree_set(0_usize..6, 0..4),
        adds in any::<bool>(),
    ) {
        let text: String = (0..count).map(|no| format!("# before {no}\nm{no}: {no} # at {no}\n")).collect();
        let mut patch: Vec<String> = gone.iter().filter(|no| **no < count).map(|no| format!("remove /m{no}")).collect();
        if adds {
            patch.push("add /new {\"a\": [1]}".to_owned());
        }
        prop_assume!(!patch.is_empty());
        let patch = operations(&patch.join("; "));
        let made = patched(Format::Yaml, &text, &patch).unwrap();
        for no in 0..count {
            prop_assert!(made.contains(&format!("# before {no}\n")), "{made}");
            prop_assert_eq!(made.contains(&format!("# at {no}\n")), !gone.contains(&no), "{}", made);
        }
        let arena = Arena::new();
        let read = |text| documents::read(Format::Yaml, text, &arena, Options::default()).unwrap().roots[0];
        let old = read(&text);
        let operations = document(&patch, &arena, ReaderOptions::default()).unwrap().0;
        let wanted = Patch::read(operations).unwrap().apply(old, &arena).unwrap();
        prop_assert!(equal(read(&made), wanted));
    }
}
