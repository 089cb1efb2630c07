//! Serialization 3.1, section by section: what fn:serialize() writes, and what it refuses.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

mod support;

use kyanite_xpath::Version;
use support::check;

const PIER: &str = "<pier no='1&lt;\"2' xmlns:p='urn:p'><!--c & d--><?t d?><b>x &amp; y</b><p:c q='1'/><br/></pier>";

fn written(cases: &[(&str, &str, &str)]) {
    check(Version::V31, PIER, cases);
}

#[test]
fn sequences_are_normalized() {
    written(&[
        ("2", "serialize(())", ""),
        ("2", "serialize((1, 2, 'x'))", "1 2 x"),
        ("2", "serialize((1, //b, 2))", "1<b>x &amp; y</b>2"),
        ("2", "serialize([1, [2, ('x', 3)]])", "1 2 x 3"),
        ("2", "serialize((1, //b, 2), map { 'item-separator': '|' })", "1|<b>x &amp; y</b>|2"),
        ("2", "serialize((1, 2), map { 'item-separator': '' })", "12"),
        ("2", "serialize(//b/text())", "x &amp; y"),
        ("2", "serialize(//@no)", "SENR0001"),
        ("2", "serialize(//namespace::p)", "SENR0001"),
        ("2", "serialize(abs#1)", "SENR0001"),
        ("2", "serialize(map { 'a': 1 })", "SENR0001"),
    ]);
}

#[test]
fn parameters() {
    let element = |parameters: &str| {
        format!(
            "serialize(//b, parse-xml('<o:serialization-parameters \
             xmlns:o=\"http://www.w3.org/2010/xslt-xquery-serialization\">{parameters}\
             </o:serialization-parameters>')/*)"
        )
    };
    written(&[
        ("3", &element("<o:method value=\"text\"/>"), "x & y"),
        ("3", &element("<o:method value=\"json\"/>"), r#""<b>x &amp; y<\/b>""#),
        (
            "3",
            &element("<o:omit-xml-declaration value=\"no\"/>"),
            r#"<?xml version="1.0" encoding="UTF-8"?><b>x &amp; y</b>"#,
        ),
        ("3", &element("<o:nope value=\"no\"/>"), "SEPM0017"),
        ("3", "serialize(1, map { 'indent': 'maybe' })", "SEPM0017"),
        ("3", "serialize(1, map { 'nope': 1 })", "SEPM0017"),
        ("3", "serialize(1, map { 'method': 'pdf' })", "SEPM0016"),
        ("3", "serialize(1, map { 'method': () })", "1"),
        (
            "3",
            "serialize(1, map { 'encoding': 'utf-8', 'version': '1.0', 'byte-order-mark': true(), 'media-type': 'text/xml' })",
            "1",
        ),
        ("3", "serialize(1, map { 'encoding': 'KOI8-R' })", "SESU0007"),
        ("3", "serialize(1, map { 'version': '2.0' })", "SESU0013"),
        ("3", "serialize(1, map { 'standalone': true() })", "SEPM0009"),
    ]);
}

#[test]
fn xml() {
    written(&[
        ("5.1", "serialize(//comment())", "<!--c & d-->"),
        ("5.1", "serialize(//processing-instruction())", "<?t d?>"),
        ("5.1", "serialize('a<b>&c')", "a&lt;b&gt;&amp;c"),
        ("5.1", "serialize(//*:c)", r#"<p:c q="1" xmlns:p="urn:p"/>"#),
        (
            "5.1.3",
            "serialize(/, map { 'indent': true() })",
            "<pier no=\"1&lt;&quot;2\" xmlns:p=\"urn:p\">\n  <!--c & d-->\n  <?t d?>\n  <b>x &amp; y</b>\n  <p:c q=\"1\"/>\n  <br/>\n</pier>",
        ),
        (
            "5.1.6",
            "serialize(//br, map { 'omit-xml-declaration': false() })",
            r#"<?xml version="1.0" encoding="UTF-8"?><br/>"#,
        ),
        (
            "5.1.6",
            "serialize(//br, map { 'omit-xml-declaration': false(), 'standalone': 'omit' })",
            r#"<?xml version="1.0" encoding="UTF-8"?><br/>"#,
        ),
        (
            "5.1.6",
            "serialize(//br, map { 'omit-xml-declaration': 'no', 'standalone': 'yes', 'encoding': 'UTF-16' })",
            r#"<?xml version="1.0" encoding="UTF-16" standalone="yes"?><br/>"#,
        ),
        (
            "5.1.6",
            "serialize(//br, map { 'omit-xml-declaration': 0, 'standalone': 0 })",
            r#"<?xml version="1.0" encoding="UTF-8" standalone="no"?><br/>"#,
        ),
    ]);
}

#[test]
fn html_and_text() {
    written(&[
        ("7.1", "serialize(//br, map { 'method': 'html' })", "<br>"),
        (
            "7.2",
            "serialize(parse-xml('<p title=\"a&lt;b\">x &lt; y</p>'), map { 'method': 'html' })",
            "<p title=\"a<b\">x &lt; y</p>",
        ),
        ("8", "serialize(/, map { 'method': 'text' })", "x & y"),
        ("8", "serialize((1, 2, //b), map { 'method': 'text' })", "1 2x & y"),
        ("8", "serialize((1, 2), map { 'method': 'text', 'item-separator': ';' })", "1;2"),
        ("8", "serialize([1, 2], map { 'method': 'text' })", "1 2"),
        ("8", "serialize(map {}, map { 'method': 'text' })", "SENR0001"),
    ]);
}

/// Of values of the data model, with the parameters behind `method`.
fn json(value: &str, more: &str) -> String {
    format!("serialize({value}, map {{ 'method': 'json'{more} }})")
}

#[test]
fn json_values() {
    for (value, more, expected) in [
        ("()", "", "null"),
        ("1", "", "1"),
        ("1.50", "", "1.5"),
        ("1e6", "", "1.0E6"),
        ("-0e0", "", "-0"),
        ("xs:float('0.5')", "", "0.5"),
        ("true()", "", "true"),
        ("'a/b\"c\\'", "", r#""a\/b\"c\\""#),
        ("codepoints-to-string((9, 10, 13, 127, 133, 228))", "", r#""\t\n\r\u007F\u0085ä""#),
        ("xs:date('2026-06-01')", "", r#""2026-06-01""#),
        ("[]", "", "[]"),
        ("map {}", "", "{}"),
        ("[1, [2, ()]]", "", "[1,[2,null]]"),
        ("map { 'a': [1] }", "", r#"{"a":[1]}"#),
        ("map { 'a': [1, map {}] }", ", 'indent': true()", "{\n  \"a\": [\n    1,\n    {}\n  ]\n}"),
        ("//b", "", r#""<b>x &amp; y<\/b>""#),
        ("//b", ", 'json-node-output-method': 'text'", r#""x & y""#),
        ("//br", ", 'json-node-output-method': 'html'", r#""<br>""#),
        ("//br", ", 'json-node-output-method': 'pdf'", "SEPM0016"),
        ("//br", ", 'json-node-output-method': 'json'", "SEPM0016"),
        ("//b/text()", "", r#""x &amp; y""#),
        ("(1, 2)", "", "SERE0023"),
        ("map { 'a': (1, 2) }", "", "SERE0023"),
        ("[(1, 2)]", "", "SERE0023"),
        ("number('x')", "", "SERE0020"),
        ("[1 div 0e0]", "", "SERE0020"),
        ("abs#1", "", "SERE0021"),
        ("map { 1: 'a', '1': 'b' }", "", "SERE0022"),
        ("map { 1: 'a', '1': 'b' }", ", 'allow-duplicate-names': true()", r#"{"1":"a","1":"b"}"#),
    ] {
        written(&[("9", &json(value, more), expected)]);
    }
}

#[test]
fn adaptive() {
    for (value, expected) in [
        ("()", ""),
        ("(1, 'x', true())", "1\n\"x\"\ntrue()"),
        ("'a\"b'", "\"a\"\"b\""),
        ("(1.50, 2)", "1.5\n2"),
        ("(1e0, 1.5e0, 1e6, 1e-7, 0e0)", "1.0e0\n1.5e0\n1.0e6\n1.0e-7\n0.0e0"),
        ("(number('x'), 1 div 0e0, -1 div 0e0)", "NaN\nINF\n-INF"),
        ("xs:float('1.5')", "xs:float(\"1.5\")"),
        ("QName('urn:d', 'd:k')", "Q{urn:d}k"),
        ("xs:date('2026-06-01')", "xs:date(\"2026-06-01\")"),
        ("xs:dayTimeDuration('PT1H')", "xs:dayTimeDuration(\"PT1H\")"),
        ("map { 'a': (1, 2) }", "map{\"a\":(1,2)}"),
        ("map { 2: [] }", "map{2:[]}"),
        ("[1, (), ('x')]", "[1,(),\"x\"]"),
        ("//@no", "no=\"1&lt;&quot;2\""),
        ("//b", "<b>x &amp; y</b>"),
        ("//comment()", "<!--c & d-->"),
        ("/*/namespace::p", "xmlns:p=\"urn:p\""),
        ("abs#1", "fn:abs#1"),
        ("map:get#2", "map:get#2"),
        ("function($a, $b) { $a }", "(anonymous-function)#2"),
        ("concat('a', ?, ?)", "(anonymous-function)#2"),
    ] {
        written(&[(
            "10",
            &format!("serialize({value}, map {{ 'method': 'adaptive' }})"),
            expected,
        )]);
    }
    written(&[(
        "10",
        "serialize((1, 2), map { 'method': 'adaptive', 'item-separator': '; ' })",
        "1; 2",
    )]);
}
