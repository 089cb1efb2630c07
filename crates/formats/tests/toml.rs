//! TOML 1.0.0, section by section: the specification's own examples, in words of our own world, and what is said of broken ones.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

use kyanite_formats::documents::{Options, read};
use kyanite_formats::{Format, json};
use kyanite_tree::Arena;

/// A document as JSON, or what is wrong with it behind `!`.
fn read_as_json(text: &str) -> String {
    let arena = Arena::new();
    match read(Format::Toml, text, &arena, Options::default()) {
        Ok(read) => json::compact(read.roots[0]),
        Err(error) => format!("!{}", error.message()),
    }
}

/// Checks a table of sections, documents and what they are.
fn assert_read(cases: &[(&str, &str, &str)]) {
    let mut wrong = Vec::new();
    for (section, text, expected) in cases {
        let found = read_as_json(text);
        if found != *expected {
            wrong.push(format!("{section}: {text:?}\n   gives {found}\n  wanted {expected}"));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn keys() {
    assert_read(&[
        ("Comment", "# a comment\nkey = 1 # another\n", r#"{"key":1}"#),
        ("Comment", "key = 1 # \u{7}", "!the control character U+0007 stands here"),
        ("Key/Value Pair", "key = # none", "!a value is missing here"),
        ("Key/Value Pair", "a = 1 b = 2", "!the line should end here"),
        ("Key/Value Pair", "a", "!`=` is missing behind the key"),
        ("Keys", "bare_key = 1\nbare-key = 2\n1234 = 3", r#"{"bare_key":1,"bare-key":2,"1234":3}"#),
        (
            "Keys",
            "\"127.0.0.1\" = 1\n'quoted \"x\"' = 2\n\"\" = 3",
            r#"{"127.0.0.1":1,"quoted \"x\"":2,"":3}"#,
        ),
        ("Keys", "= 1", "!a key is missing here"),
        ("Keys", "ø = 1", "!a key is missing here"),
        ("Keys", "\"\"\"a\"\"\" = 1", "!a key is missing here"),
        ("Keys", "a.b = 1\na . \"c d\" = 2\n3.14 = 'x'", r#"{"a":{"b":1,"c d":2},"3":{"14":"x"}}"#),
        ("Keys", "a = 1\na = 2", "!`a` is there already"),
        ("Keys", "a = 1\n\"a\" = 2", "!`a` is there already"),
        ("Keys", "a.b = 1\na.c.d = 2", r#"{"a":{"b":1,"c":{"d":2}}}"#),
        ("Keys", "a.b = 1\na.b.c = 2", "!`b` is there already"),
    ]);
}

#[test]
fn texts() {
    assert_read(&[
        ("String", r#"a = "x \"y\" \t\n\\ \u00F8 \U0001F6A2""#, r#"{"a":"x \"y\" \t\n\\ ø 🚢"}"#),
        ("String", r#"a = "\b\f\r""#, r#"{"a":"\b\f\r"}"#),
        ("String", r#"a = "\x""#, "!this backslash begins no escape"),
        ("String", r#"a = "\uD800""#, "!this backslash begins no escape"),
        ("String", r#"a = "\u12""#, "!this backslash begins no escape"),
        ("String", "a = \"x", "!this text is not closed on its line"),
        ("String", "a = \"x\ny\"", "!this text is not closed on its line"),
        ("String", "a = \"\u{1}\"", "!the control character U+0001 stands here"),
        ("String", "a = \"\"\"\nRoses\nare\"\"\"", r#"{"a":"Roses\nare"}"#),
        (
            "String",
            "a = \"\"\"\nThe quick \\\n\n   ferry \\\n  turns.\\\n  \"\"\"",
            r#"{"a":"The quick ferry turns."}"#,
        ),
        ("String", "a = \"\"\"x \\\r\n  y\"\"\"", r#"{"a":"x y"}"#),
        (
            "String",
            "a = \"\"\"Two \"\" and three \"\"\\\".\"\"\"",
            r#"{"a":"Two \"\" and three \"\"\"."}"#,
        ),
        ("String", "a = \"\"\"\"quoted\"\"\"\"", r#"{"a":"\"quoted\""}"#),
        ("String", "a = \"\"\"\"\"two\"\"\"\"\"", r#"{"a":"\"\"two\"\""}"#),
        ("String", "a = \"\"\"six\"\"\"\"\"\"", "!the line should end here"),
        ("String", "a = \"\"\"x\r\ny\"\"\"", r#"{"a":"x\r\ny"}"#),
        ("String", "a = \"\"\"x", "!this text is not closed"),
        ("String", "a = \"\"\"x \\ y\"\"\"", "!this backslash begins no escape"),
        ("String", r"a = 'C:\piers\no'", r#"{"a":"C:\\piers\\no"}"#),
        ("String", "a = 'x", "!this text is not closed on its line"),
        ("String", "a = '\u{7f}'", "!the control character U+007F stands here"),
        (
            "String",
            "a = '''\nThe first newline\n'is' trimmed\n'''",
            r#"{"a":"The first newline\n'is' trimmed\n"}"#,
        ),
        ("String", "a = '''''two'''''", r#"{"a":"''two''"}"#),
        ("String", "a = '''x", "!this text is not closed"),
        ("String", "a = '''\u{1}'''", "!the control character U+0001 stands here"),
        ("String", "a = '''x\ry'''", "!the control character U+000D stands here"),
    ]);
}

#[test]
fn numbers_and_booleans() {
    assert_read(&[
        (
            "Integer",
            "a = +99\nb = 0\nc = -17\nd = 1_000\ne = 5_349_221",
            r#"{"a":99,"b":0,"c":-17,"d":1000,"e":5349221}"#,
        ),
        ("Integer", "a = 0xDEAD_beef\nb = 0o755\nc = 0b1101", r#"{"a":3735928559,"b":493,"c":13}"#),
        (
            "Integer",
            "a = 9223372036854775807\nb = -9223372036854775808",
            r#"{"a":9223372036854775807,"b":-9223372036854775808}"#,
        ),
        ("Integer", "a = 01", "!this is no value of TOML"),
        ("Integer", "a = 1__0", "!this is no value of TOML"),
        ("Integer", "a = _1", "!this is no value of TOML"),
        ("Integer", "a = 1_", "!this is no value of TOML"),
        ("Integer", "a = +0x1", "!this is no value of TOML"),
        ("Integer", "a = 0b2", "!this is no value of TOML"),
        (
            "Float",
            "a = +1.0\nb = 3.1415\nc = -0.01\nd = 5e+22\ne = 1e06\nf = -2E-2\ng = 6.626e-34",
            r#"{"a":1.0,"b":3.1415,"c":-0.01,"d":5e+22,"e":1e06,"f":-2E-2,"g":6.626e-34}"#,
        ),
        ("Float", "a = 224_617.445_991_228", r#"{"a":224617.445991228}"#),
        ("Float", "a = .7", "!this is no value of TOML"),
        ("Float", "a = 7.", "!this is no value of TOML"),
        ("Float", "a = 3.e+20", "!this is no value of TOML"),
        (
            "Float",
            "a = inf\nb = +inf\nc = -inf\nd = nan",
            r#"{"a":"inf","b":"+inf","c":"-inf","d":"nan"}"#,
        ),
        ("Boolean", "a = true\nb = false", r#"{"a":true,"b":false}"#),
        ("Boolean", "a = True", "!this is no value of TOML"),
        ("Boolean", "a = truefalse", "!this is no value of TOML"),
    ]);
}

#[test]
fn dates_and_times() {
    assert_read(&[
        (
            "Offset Date-Time",
            "a = 1979-05-27T07:32:00Z\nb = 1979-05-27T00:32:00.999999-07:00\nc = 1979-05-27 07:32:00z",
            r#"{"a":"1979-05-27T07:32:00Z","b":"1979-05-27T00:32:00.999999-07:00","c":"1979-05-27T07:32:00Z"}"#,
        ),
        (
            "Local Date-Time",
            "a = 1979-05-27T07:32:00\nb = 1979-05-27T00:32:00.5",
            r#"{"a":"1979-05-27T07:32:00","b":"1979-05-27T00:32:00.5"}"#,
        ),
        ("Local Date", "a = 1979-05-27", r#"{"a":"1979-05-27"}"#),
        (
            "Local Time",
            "a = 07:32:00\nb = 00:32:00.999999",
            r#"{"a":"07:32:00","b":"00:32:00.999999"}"#,
        ),
        ("Local Date", "a = 1979-02-29", "!this is no value of TOML"),
        ("Local Date", "a = 1979-5-27", "!this is no value of TOML"),
        ("Local Time", "a = 25:00:00", "!this is no value of TOML"),
        ("Local Time", "a = 07:32", "!this is no value of TOML"),
        ("Offset Date-Time", "a = 1979-05-27T07:32:00+25:00", "!this is no value of TOML"),
    ]);
}

#[test]
fn arrays_and_tables() {
    assert_read(&[
        ("Array", "a = [1, 'x', [1.5, true], {b = 1}]", r#"{"a":[1,"x",[1.5,true],{"b":1}]}"#),
        ("Array", "a = [\n  1, # one\n  2,\n]", r#"{"a":[1,2]}"#),
        ("Array", "a = []", r#"{"a":[]}"#),
        ("Array", "a = [1 2]", "!a comma or `]` is missing here"),
        ("Array", "a = [,]", "!a value is missing here"),
        ("Array", "a = [1,", "!a value is missing here"),
        (
            "Table",
            "[a]\nb = 1\n[c.\"d e\".f]\ng = 2\n[ h . i ]",
            r#"{"a":{"b":1},"c":{"d e":{"f":{"g":2}}},"h":{"i":{}}}"#,
        ),
        ("Table", "[a]\n[a]", "!`a` is there already"),
        ("Table", "[a]\nb = 1\n[a.b]", "!`b` is there already"),
        ("Table", "[a.b]\n[a]\nc = 1", r#"{"a":{"b":{},"c":1}}"#),
        ("Table", "[a]\nb.c = 1\n[a.b]", "!`b` is there already"),
        ("Table", "[]", "!a key is missing here"),
        ("Table", "[a", "!`]` is missing behind the table's name"),
        ("Table", "[a] b = 1", "!the line should end here"),
        ("Inline Table", "a = {b = 1, c.d = 2}\ne = {}", r#"{"a":{"b":1,"c":{"d":2}},"e":{}}"#),
        ("Inline Table", "a = {b = 1,}", "!a key is missing here"),
        ("Inline Table", "a = {b = 1\n}", "!a comma or `}` is missing here"),
        ("Inline Table", "a = {b = 1}\n[a.c]", "!`a` is there already"),
        ("Inline Table", "a = {b = 1}\na.c = 2", "!`a` is there already"),
        ("Inline Table", "a = {b = 1, b = 2}", "!`b` is there already"),
        (
            "Array of Tables",
            "[[a]]\nb = 1\n[[a]]\n[a.c]\nd = 2\n[[a.e]]\n[[a.e]]\nf = 3",
            r#"{"a":[{"b":1},{"c":{"d":2},"e":[{},{"f":3}]}]}"#,
        ),
        ("Array of Tables", "[a]\n[[a]]", "!`a` is there already"),
        ("Array of Tables", "a = []\n[[a]]", "!`a` is there already"),
        ("Array of Tables", "[[a]]\n[a]", "!`a` is there already"),
        ("Array of Tables", "[[a]", "!`]]` is missing behind the table's name"),
        ("Array of Tables", "[ [a]]", "!a key is missing here"),
    ]);
}

/// Line ends, marks and depth.
#[test]
fn around() {
    assert_read(&[
        ("Spec", "\u{feff}a = 1", r#"{"a":1}"#),
        ("Spec", "a = 1\r\nb = 2\r\n", r#"{"a":1,"b":2}"#),
        ("Spec", "a = 1\rb = 2", "!the line should end here"),
        ("Spec", "", "{}"),
        (
            "limits",
            &format!("a = {}", "[".repeat(600)),
            "!tables and arrays nest deeper than 512 levels",
        ),
        (
            "limits",
            &format!("{} = 1", "a.".repeat(600) + "a"),
            "!tables and arrays nest deeper than 512 levels",
        ),
    ]);
}
