//! Elements that are passed over by their text: only such as fail the predicate, and all that plainly do.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

mod support;

use kyanite_formats::xml::{self, Ancestry, Dropped, Elements, Options, RecordReader, StepName};
use kyanite_tree::Arena;
use kyanite_xpath::{Expression, Namespaces, Version};
use proptest::prelude::*;
use support::check;

/// What is told of each of some elements from its text: `+` where the predicate holds, `-` where it fails, `?` where it has to
/// be evaluated. One element stands before them, by which the reader knows what they look like.
fn verdicts(version: Version, expression: &str, records: &[&str]) -> String {
    let (text, arena) = (document(records), Arena::new());
    let compiled = Expression::compile(expression, version, Namespaces::new(), &[]).unwrap();
    let streamed = compiled.streamed(&[("m".to_owned(), "urn:m".to_owned())], &[]).unwrap();
    let path: Vec<StepName> = streamed.path.into_iter().map(StepName::from).collect();
    let Some(prefilter) = streamed.expression.record_prefilter() else {
        return "no prefilter".into();
    };
    let (options, dropped) = (Options::default(), Dropped::default());
    let prolog = xml::prolog(&text, &arena, options, true).unwrap();
    let elements =
        Elements { path: &path, prolog: &prolog, options, dropped: &dropped, keeps_around: false };
    let reader = RecordReader::new(&text, &arena, elements, Ancestry::default());
    let mut reader =
        reader.with_projection(streamed.expression.record_projection()).with_prefilter(prefilter);
    reader.is_last();
    reader.seek(prolog.end);
    let mut verdicts = String::new();
    loop {
        let record = reader.next_record().unwrap();
        let passed_over = reader.take_passed_over();
        verdicts.extend((0..passed_over.records).map(|_| '-'));
        match record {
            Some(_) => verdicts.push(if passed_over.holds { '+' } else { '?' }),
            None => return verdicts.split_off(1),
        }
    }
}

/// A document with these elements called `b` in its root, numbered from 1.
fn document(records: &[&str]) -> String {
    let mut text = String::from("<a xmlns:m='urn:m'><b no='0'/>");
    for (number, record) in records.iter().enumerate() {
        text.push_str(&record.replacen("<b", &format!("<b no='{}'", number + 1), 1));
    }
    text.push_str("</a>");
    text
}

#[test]
fn what_is_told_from_the_text() {
    let weights = ["<b><w>5</w></b>", "<b><w>50</w></b>", "<b><w> 5e1 </w></b>", "<b/>"];
    let odd = ["<b><w>x</w></b>", "<b><w>5<x/></w></b>", "<b><w>&#53;</w></b>", "<b>5<w/></b>"];
    let mixed = ["<b><!-- --><w>5</w></b>", "<b><w>5</w> and <w>50</w></b>", "<b><w/></b>"];
    let several = ["<b><w>5</w><w>50</w></b>", "<b><w>5</w><x/><w>6</w></b>"];
    let flags = ["<b k='v'><w u='kg'/></b>", "<b k='&#118;'/>", "<b><w u='t'>5</w></b>"];
    let deep =
        ["<b><c><w>50</w></c></b>", "<b><c><c><w>5</w></c></c></b>", "<b><b><w>5</w></b></b>"];
    let named = ["<b><m:w>50</m:w></b>", "<b><w>50</w></b>", "<b><m:w xmlns:m='u'>50</m:w></b>"];
    for (expression, records, expected) in [
        ("/a/b[w > 10]", &weights[..], "-++-"),
        ("/a/b[10 < w]", &weights, "-++-"),
        ("/a/b[w = '50']", &weights, "-+--"),
        ("/a/b[w != 50]", &weights, "+---"),
        ("/a/b[w]", &weights, "+++-"),
        ("/a/b[not(w)]", &weights, "---+"),
        ("/a/b[exists(w)]", &weights, "+++-"),
        ("/a/b[empty(w)]", &weights, "---+"),
        ("/a/b[boolean(w > 10)]", &weights, "-++-"),
        // A truth value is there, whichever it is.
        ("/a/b[exists(w > 10)]", &weights, "no prefilter"),
        ("/a/b[empty(w > 10)]", &weights, "no prefilter"),
        ("/a/b[./w > 10]", &weights, "-++-"),
        ("/a/b[w > 10 or not(w)]", &weights, "-+++"),
        ("/a/b[w > 10 and w < 20]", &weights, "----"),
        // What a function gives has to be evaluated, if it is asked at all.
        ("/a/b[w > 10 and contains(w, 'e')]", &weights, "-??-"),
        ("/a/b[w > 10 or contains(w, '5')]", &weights, "no prefilter"),
        ("/a/b[contains(w, '5')]", &weights, "no prefilter"),
        ("/a/b[contains(w, '5') and w > 10]", &weights, "no prefilter"),
        ("/a/b[w > '10']", &weights, "no prefilter"),
        ("/a/b[w[. > 1]]", &weights, "no prefilter"),
        ("/a/b[w > 10]", &odd, "????"),
        ("/a/b[w > 10]", &mixed, "???"),
        ("/a/b[w > 10]", &several, "+-"),
        ("/a/b[w < 10 and w > 40]", &several, "+-"),
        ("/a/b[@k = 'v']", &flags, "+?-"),
        ("/a/b[w/@u = 'kg']", &flags, "+--"),
        ("/a/b[w/@u != 'kg']", &flags, "--+"),
        ("/a/b[.//w > 10]", &deep, "+--"),
        ("/a/b[c/w > 10]", &deep, "+--"),
        ("/a/b[m:w > 10]", &named, "+-?"),
        ("//b[.//w > 10]", &deep, "+-?"),
        ("//b[w > 1]", &["<b><b><w>5</w></b></b>"], "?"),
    ] {
        let told = verdicts(Version::V31, expression, records);
        assert_eq!(told, expected, "{expression} over {records:?}");
    }
    // All are numbers there, and what is none is NaN.
    assert_eq!(verdicts(Version::V1, "/a/b[w > '10']", &weights), "-+--");
    assert_eq!(verdicts(Version::V1, "/a/b[w > 10]", &odd), "-???");
}

/// A predicate of a few words.
fn predicate() -> impl Strategy<Value = String> {
    let path = "(w|c|@k|c/w|\\.//w|c/@k|m:w|\\./c)";
    let compared = (path, "(<|>|=|!=|<=|>=)", "(5|50|4\\.5)");
    let leaf = prop_oneof![
        compared.prop_map(|(path, how, with)| format!("{path} {how} {with}")),
        (path, "(=|!=)", "('5'|'x'|'')").prop_map(|(p, how, with)| format!("{p} {how} {with}")),
        path,
        path.prop_map(|path| format!("not({path})")),
    ];
    leaf.prop_recursive(2, 4, 2, |inner| {
        prop_oneof![
            ("(not|boolean)", inner.clone()).prop_map(|(name, of)| format!("{name}({of})")),
            (inner.clone(), "(and|or)", inner).prop_map(|(a, word, b)| format!("({a} {word} {b})")),
        ]
    })
}

/// An element of a few pieces.
fn record() -> impl Strategy<Value = String> {
    let text = "(5|50|x| 5|&#53;||5<!-- -->|<!\\[CDATA\\[5\\]\\]>|<w>50</w>)";
    let piece = ("(w|c|m:w|b)", "(| k='5'| k='x')", text)
        .prop_map(|(name, attribute, text)| format!("<{name}{attribute}>{text}</{name}>"));
    let nested = prop_oneof![
        4 => piece.clone(),
        1 => piece.prop_map(|piece| format!("<c>{piece}</c>")),
        1 => Just(" \n ".to_owned()),
        1 => Just("text".to_owned()),
    ];
    ("(| k='5'| k='6')", proptest::collection::vec(nested, 0..4))
        .prop_map(|(attribute, pieces)| format!("<b{attribute}>{}</b>", pieces.concat()))
}

proptest! {
    /// Of what is told none is wrong.
    #[test]
    fn verdicts_are_those_of_the_evaluation(
        predicate in predicate(),
        records in proptest::collection::vec(record(), 1..6),
        is_old in any::<bool>(),
    ) {
        let version = if is_old { Version::V1 } else { Version::V31 };
        let records: Vec<&str> = records.iter().map(String::as_str).collect();
        let verdicts = verdicts(version, &format!("/a/b[{predicate}]"), &records);
        prop_assume!(verdicts != "no prefilter");
        let text = document(&records);
        for (at, verdict) in verdicts.chars().enumerate() {
            let expected = match verdict {
                '+' => "true",
                '-' => "false",
                _ => continue,
            };
            let expression = format!("boolean(/a/b[@no = {}][{predicate}])", at + 1);
            check(version, &text, &[("what is told", &expression, expected)]);
        }
    }
}
