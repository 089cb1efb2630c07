//! The YAML reader: values, what is refused and where, and that its work grows with the text.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that fails may panic")]

use kyanite_formats::json::{self, Style};
use kyanite_formats::losses::Losses;
use kyanite_formats::yaml::{self, Event, Options, Parser};
use kyanite_formats::{Format, documents, toml};
use kyanite_tree::{Arena, Base, Value};
use proptest::prelude::*;

fn compact(value: Value<'_>) -> String {
    let mut out = Vec::new();
    json::write(value, Style::Compact, &mut out);
    String::from_utf8(out).unwrap()
}

/// Texts, their values as JSON, and what is lost on the way there.
#[test]
fn values() {
    let arena = Arena::new();
    for (text, expected, lost) in [
        (
            "a: 1.50\nb: [no, 0700, ~, TRUE, .inf]",
            r#"{"a":1.50,"b":["no","0700",null,true,".inf"]}"#,
            Some("1 number that is not finite"),
        ),
        ("a: &x {k: 1, l: 2}\nb: {<<: *x, l: 3}", r#"{"a":{"k":1,"l":2},"b":{"k":1,"l":3}}"#, None),
        (
            "- &a {x: 1}\n- &b {x: 2, y: 2}\n- <<: [*a, *b]\n  z: 3",
            r#"[{"x":1},{"x":2,"y":2},{"x":1,"y":2,"z":3}]"#,
            None,
        ),
        ("\"<<\": 1", r#"{"<<":1}"#, None),
        ("!thing {a: !!str 1, b: !x y}", r#"{"a":"1","b":"y"}"#, Some("2 tags")),
        ("? [a, b]\n: 1", r#"{"[\"a\",\"b\"]":1}"#, Some("1 key that is no text")),
        (
            "1: a\ntrue: b\nnull: c",
            r#"{"1":"a","true":"b","null":"c"}"#,
            Some("3 keys that are no texts"),
        ),
        (
            "# c\na: 'x # y' # z\nb: |\n  # text\n# end",
            r##"{"a":"x # y","b":"# text\n"}"##,
            Some("3 comments"),
        ),
        ("ø: [\"€\", 'it''s']", r#"{"ø":["€","it's"]}"#, None),
        ("0x1F", "31", None),
        // Brackets and braces may close in the column of the key.
        ("a: [\n  \"x\"\n]\nb: {\n  c: 'd'\n}\n", r#"{"a":["x"],"b":{"c":"d"}}"#, None),
        ("- a: [\n    x\n  ]\n- {\n  y: 1\n}\n", r#"[{"a":["x"]},{"y":1}]"#, None),
        // Characters beyond the basic plane, as JSON escapes them.
        (r#"a: "\ud83c\udde6 \U0001F6A2""#, "{\"a\":\"🇦 🚢\"}", None),
        // Line ends of all three sorts.
        ("a: 1\r\nb: |\r\n  x\r\n  y\r\nc: 2\rd: 3\n", r#"{"a":1,"b":"x\ny\n","c":2,"d":3}"#, None),
    ] {
        let read = yaml::documents(text, &arena, Options::default()).unwrap();
        let mut losses = Losses::default();
        losses.add_all(&read.losses);
        losses.add_types(read.documents[0], Format::Json);
        assert_eq!(compact(read.documents[0]), expected, "{text}");
        assert_eq!(losses.summary().as_deref(), lost, "{text}");
    }
    let read = yaml::documents("a: 1\na: 2\n", &arena, Options::default()).unwrap();
    assert_eq!((read.duplicates[0].earlier, read.duplicates[0].later), (3, 8));
}

/// Every scalar and comment has its place.
#[test]
fn places() {
    let text = "# first\nø: &x 'ü' # second\nlist:\n  - |\n    lines\n  - [*x, \"b\"]\n";
    let mut parser = Parser::new(text);
    let (mut placed, mut comments) = (Vec::new(), Vec::new());
    while let Some((event, span)) = parser.next_event().unwrap() {
        comments.extend(parser.take_comments());
        if matches!(event, Event::Scalar { .. } | Event::Alias(_)) {
            placed.push(&text[span.start..span.end]);
        }
    }
    comments.extend(parser.take_comments());
    assert_eq!(placed, ["ø", "'ü'", "list", "|\n    lines", "*x", "\"b\""]);
    let comments: Vec<&str> = comments.iter().map(|span| &text[span.start..span.end]).collect();
    assert_eq!(comments, ["# first", "# second"]);
}

/// What is refused, what is said, and the byte that is marked.
#[test]
fn refusals() {
    let arena = Arena::new();
    let limited = Options { depth: 3, aliases: 4, ..Options::default() };
    for (text, message, start) in [
        ("a: [1", "the text ends inside brackets", 5),
        ("a: \"x", "the text ends inside quotes", 5),
        ("a: [1}", "a comma or `]` is missing here", 5),
        ("a: [1 2, , 3]", "an item is missing before this comma", 9),
        ("a: b: c", "a colon stands where no key can be", 4),
        ("a: 1\n b: 2", "this line goes on with the text above it, so no key can stand in it", 7),
        (
            "a: '1'\n b: 2",
            "this line is indented further than the lines that it could be a key beside",
            8,
        ),
        ("a:\n\tb: 1", "a tab stands where YAML is indented", 3),
        ("a: - b", "a list or map cannot begin in the middle of this line", 3),
        ("a: 'x' y", "something stands behind the value on its line", 7),
        ("a: 'x'# y", "a comment begins with a blank before its #", 6),
        ("a: @b", "a text cannot begin with @", 3),
        ("a: \"\\q\"", "this backslash begins no escape", 4),
        ("a: \"\\ud83c\"", "this escape is no character", 4),
        ("a: \u{1}", "the control character U+0001 stands here", 3),
        ("- a\nb: 1", "a dash is missing before this item of a list", 4),
        ("a: 1\nb", "a colon is missing behind this key", 5),
        ("a: 1\n%TAG ! x\n---\n", "a directive stands inside a document", 5),
        ("a: *b", "the alias *b has no anchor", 3),
        ("a: !x!y z", "the tag handle !x! is not declared", 3),
        ("a: |x\n y", "this does not continue the header of a block of lines", 4),
        ("a: [\nb\n]", "this line inside brackets is not indented far enough", 5),
        ("--- a\n... b", "something stands behind the end of a document", 10),
        ("[[[[1]]]]", "lists and maps nest deeper than 3 levels", 3),
        ("- &a [1, 2]\n- *a\n- *a", "the aliases stand for more than 4 values", 19),
        ("&a [*a]", "this alias stands inside the value that it stands for", 4),
        ("<<: 1", "a merge key takes a map or a list of maps, not a number", 4),
    ] {
        let error = yaml::documents(text, &arena, limited).unwrap_err();
        assert_eq!((error.message(), error.span().start), (message, start), "{text:?}");
        assert!(error.advice().is_some_and(|advice| !advice.to_string().is_empty()), "{text:?}");
    }
    // Texts count, too: an alias of a long one stands for much.
    let long = format!("- &a {}\n{}", "x".repeat(64 * 3), "- *a\n".repeat(2));
    let error = yaml::documents(&long, &arena, limited).unwrap_err();
    assert_eq!(error.message(), "the aliases stand for more than 4 values");
}

/// Numbers that are not finite, dates and tags stay what they are between formats that have them.
#[test]
fn types_that_only_some_formats_have() {
    let arena = Arena::new();
    let text = "a: .inf\nb: -.INF\nc: .NaN\nd: !Ref port\ne: !Sub |\n  two\n  lines\n200: x\n? [1, 2]\n: y\n? {? {a: b} : c}\n: d\n? \n: z\n";
    let read = yaml::documents(text, &arena, Options::default()).unwrap();
    let mut out = Vec::new();
    yaml::write(read.documents[0], 2, &mut out);
    let written = String::from_utf8(out).unwrap();
    assert_eq!(
        written,
        "a: .inf\nb: -.inf\nc: .nan\nd: !Ref port\ne: !Sub |\n  two\n  lines\n200: x\n? - 1\n  - 2\n: 'y'\n? ? a: b\n  : c\n: d\n? \n: z\n"
    );
    let text = "a = inf\nb = -inf\nc = nan\nd = 2026-05-28T04:00:00Z\ne = 07:00:00\n";
    let read = toml::document(text, &arena, toml::Options::default()).unwrap();
    let (mut out, mut losses) = (Vec::new(), Losses::default());
    losses.add_types(read.root, Format::Toml);
    toml::write(read.root, &mut out, &mut losses).unwrap();
    assert_eq!((String::from_utf8(out).unwrap().as_str(), losses.summary()), (text, None));
    let mut out = Vec::new();
    yaml::write(read.root, 2, &mut out);
    assert!(out.starts_with(b"a: .inf\nb: -.inf\nc: .nan\nd: '2026-05-28T04:00:00Z'\n"));
    losses.add_types(read.root, Format::Yaml);
    assert_eq!(losses.summary().as_deref(), Some("2 dates or times that become text"));
}

/// Numbers with exponents are numbers to readers of YAML 1.1, too: with a point and a sign.
#[test]
fn exponents() {
    let arena = Arena::new();
    for (json, yaml_text) in
        [("1e-7", "1.0e-7\n"), ("1E5", "1.0E+5\n"), ("-1.5e3", "-1.5e+3\n"), ("12", "12\n")]
    {
        let (value, _) = json::document(json, &arena, json::ReaderOptions::default()).unwrap();
        let mut out = Vec::new();
        yaml::write(value, 2, &mut out);
        assert_eq!(String::from_utf8(out).unwrap(), yaml_text);
    }
}

/// How many events a text gives before it ends or is refused; a parser that looks at things again and again would take hours
/// over these, and one that recurses would run out of stack.
fn events(text: &str) -> usize {
    let mut parser = Parser::new(text);
    let mut count = 0;
    while let Ok(Some(_)) = parser.next_event() {
        count += 1;
    }
    count
}

#[test]
fn work_grows_with_the_text() {
    let n = 200_000;
    for (name, text, least) in [
        ("explicit keys", "? ".repeat(n) + "1", n),
        ("nested items", "- ".repeat(n) + "1", n),
        ("open brackets", "[".repeat(n), n),
        ("keys in brackets", "[".repeat(n) + &"]: 1".repeat(n), n),
        ("brackets in a line", format!("[{}]: 1", "[a], ".repeat(n)), n),
        ("long plain text", "a\n".repeat(n), 2),
        ("empty lines in quotes", format!("\"{}\"", "\n".repeat(n)), 2),
        ("comments", "# c\n".repeat(n) + "a", 2),
        ("properties", "&a\n".repeat(n), 1),
        ("documents", "---\n".repeat(n), 2 * n),
        ("quotes that are not closed", "- \"\n".repeat(n), 1),
    ] {
        assert!(events(&text) >= least, "{name}");
    }
}

proptest! {
    /// Spans are parts of the text, and those of scalars do not overlap.
    #[test]
    fn spans_are_in_order(text in r#"(a|: |:|- |\? |#|&a |\*a |!t |\||>|\[|\]|\{|\}|, |'b'|"c"|---\n|\n|  | |é){0,30}"#) {
        let mut parser = Parser::new(&text);
        let mut last = 0;
        while let Ok(Some((event, span))) = parser.next_event() {
            prop_assert!(text.get(span.start..span.end).is_some());
            if let Event::Scalar { text: content, .. } = event {
                prop_assert!(content.is_empty() || span.start >= last, "{:?} {:?}", content, span);
                last = span.end.max(last);
            }
        }
    }

    /// Lines that are taken in one go are what the productions say of them.
    #[test]
    fn simple_lines_are_lines(text in r#"(a: b\n|  a: b\n|  c-d: e f\n|b: 1:2 x\n|a:\n|  - |- |b: 'q'\n|a: b #|a: b# c\n|g: h  \n|   i\n|--- |---\n|\.\.\.\n|\t|\r\n|\n|# x\n|é: ü\n|a: é\n|\[a: b\n|\{|\}|\]|, |/x: \.y\n|\u{1}|\u{7f}|\u{85}|\u{feff}|\? |: ){0,20}"#) {
        let all = |mut parser: Parser<'_>| {
            let mut seen = Vec::new();
            loop {
                match parser.next_event() {
                    Ok(Some(event)) => seen.push(format!("{event:?}")),
                    Ok(None) => break,
                    Err(error) => {
                        seen.push(format!("{:?} {}", error.span(), error.message()));
                        break;
                    }
                }
            }
            seen
        };
        prop_assert_eq!(all(Parser::new(&text)), all(Parser::new(&text).without_simple_lines()));
    }

    /// Documents that are read apart are those of the whole text, and so is where it breaks; a text may be cut before its last document.
    #[test]
    fn documents_apart(text in r#"(a: b\n|- x\n|  c\n|t: \|\n|k: "\n|  q"\n|--- |---\n|---x\n|\.\.\.\n|\.\.\. #\n|# x\n|%YAML 1\.2\n|\r\n|\n|\u{feff}|\[|\]\n){0,20}"#) {
        let arena = Arena::new();
        let read = |text: &[u8]| {
            let text = arena.text(std::str::from_utf8(text).unwrap());
            yaml::documents(text, &arena, Options::default()).map(|read| read.documents)
        };
        let apart = documents::texts(Format::Yaml, text.as_bytes());
        let mut found = Vec::new();
        let mut broken = false;
        for document in &apart {
            match read(document) {
                Ok(documents) => found.extend(documents),
                Err(_) => {
                    broken = true;
                    break;
                }
            }
        }
        let whole = read(text.as_bytes());
        prop_assert_eq!(whole.is_err(), broken, "{:?}", apart);
        if let Ok(whole) = whole {
            let texts = |all: &[Value<'_>]| all.iter().map(|one| compact(*one)).collect::<Vec<_>>();
            prop_assert_eq!(texts(&whole), texts(&found), "{:?}", apart);
        }
        for end in 0..=text.len() {
            let begin = documents::last_begin(Format::Yaml, &text.as_bytes()[..end]);
            let begins = |begin| apart.iter().any(|one| one.as_ptr() == text[begin..].as_ptr());
            prop_assert!(begin.is_none_or(begins), "{:?} {:?}", begin, apart);
            // It is the last of those in whole lines.
            let lines = &text.as_bytes()[..end];
            let lines = &lines[..lines.iter().rposition(|byte| *byte == b'\n').map_or(0, |at| at + 1)];
            let last = documents::texts(Format::Yaml, lines).split_last().map(|(last, before)| {
                (lines.len() - last.len(), before.len())
            });
            let wanted = last.filter(|(_, before)| *before > 0).map(|(begin, _)| begin);
            prop_assert_eq!(begin, wanted, "{:?}", lines);
        }
    }

    /// A value that is read at a far place has its origin there, wherever it stands.
    #[test]
    fn origins_are_offsets(key in "[a-z]{1,6}", blanks in 1usize..9) {
        let text = format!("{key}:{}'v'\n", " ".repeat(blanks));
        let arena = Arena::new();
        let read = yaml::documents(&text, &arena, Options::default()).unwrap();
        let value = read.documents[0].member(&key).unwrap();
        prop_assert_eq!(Base::default().offset(value.origin()), text.find('\'').unwrap());
    }
}
