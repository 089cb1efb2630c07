//! The layout of rules: what it looks like, that it stays, and that it changes nothing but blanks.
#![allow(clippy::unwrap_used, reason = "tests say what is wrong by panicking")]

use kyanite_lang::format_rule;
use proptest::prelude::*;

/// A text without what the layout may change: blanks, and the commas and semicolons that it sets.
fn bare(text: &str) -> String {
    text.chars().filter(|c| !c.is_whitespace() && !matches!(c, ',' | ';')).collect()
}

#[test]
fn layouts() {
    for (source, wanted) in [
        ("$.a[ * ]..b", "$.a[*]..b\n"),
        ("$[?@.a==1&&!@.b].c[1:3]", "$[?@.a == 1 && !@.b].c[1:3]\n"),
        ("a - -1*-b.c ?? -2", "a - -1 * -b.c ?? -2\n"),
        ("[1,2 , ...$.x,]", "[1, 2, ...$.x]\n"),
        (
            "{a:1, 'b c':$.x , (f\"{ $.n }\"):2,...$}",
            "{a: 1, 'b c': $.x, (f\"{ $.n }\"): 2, ...$}\n",
        ),
        ("f\"a{ {b:1} }{f'x{1}'}\"", "f\"a{ {b:1} }{f'x{1}'}\"\n"),
        ("param a:text?='x';param b\nlet c=1;a", "param a: text? = 'x'\nparam b\nlet c = 1\na\n"),
        (
            "output json-sequence\nnamespace m='u'\n$.a['m:list'].@id",
            "output json-sequence\nnamespace m = 'u'\n$.a['m:list'].@id\n",
        ),
        ("output xml { root: 'a', item:'b' }\n$", "output xml {root: 'a', item: 'b'}\n$\n"),
        ("for a in $[*] where a.b>1 return a", "for a in $[*] where a.b > 1 return a\n"),
        (
            "for a in $[*] where a.b>1\nreturn {\na.c, d : if a.e then 1\nelse 2}",
            "for a in $[*]\nwhere a.b > 1\nreturn {\n  a.c,\n  d: if a.e then 1\n    else 2,\n}\n",
        ),
        (
            "{\n x: (for a in $[*] where a.b return {\n a.c }) }",
            "{\n  x: (for a in $[*] where a.b return {\n    a.c,\n  }),\n}\n",
        ),
        (
            "map_of(\nfor a in $[*]\n group by k = a.x return {name:k, value: a})",
            "map_of(\n  for a in $[*]\n  group by k = a.x\n  return {name: k, value: a}\n)\n",
        ),
        (
            "#one\n\n# two\nlet a=1 # three\n\n\n\n# four\n[ # five\n 1, # six\n # seven\n 2 # eight\n]\n# nine",
            "#one\n\n# two\nlet a = 1  # three\n\n# four\n[  # five\n  1,  # six\n  # seven\n  2  # eight\n]\n# nine\n",
        ),
        (
            "def f(a,b)=a*b\ndef g(x)=\ncase x when 1,2 then 'a' else f(x,-x) end\n",
            "def f(a, b) = a * b\ndef g(x) =\n  case x when 1, 2 then 'a' else f(x, -x) end\n",
        ),
        ("let a = 1 for b in $[*] return {a, b}", "let a = 1 for b in $[*] return {a, b}\n"),
        ("$ set.a=1,..b[0]=@ +1", "$ set .a = 1, ..b[0] = @ + 1\n"),
        ("$ remove['a b'],..c", "$ remove ['a b'], ..c\n"),
        (
            "for b in $[*]\nreturn b set\n.a=1,\n.b = 2",
            "for b in $[*]\nreturn b set\n  .a = 1,\n  .b = 2\n",
        ),
        (
            "{x: b set .a.long.name.of.a.member = round(@ * 1.1, 2), .another.long.name = 'some text that is long', y: 1}",
            "{\n  x: b set .a.long.name.of.a.member = round(@ * 1.1, 2),\n    .another.long.name = 'some text that is long',\n  y: 1,\n}\n",
        ),
        (
            "for b in $[*] return b set .a.long.name.of.a.member = round(@ * 1.1, 2), .another.long.name = 'some longer text', .c = 3",
            "for b in $[*]\nreturn b set\n  .a.long.name.of.a.member = round(@ * 1.1, 2),\n  .another.long.name = 'some longer text',\n  .c = 3\n",
        ),
        ("for s in $[*] window 2 step 2 return s", "for s in $[*] window 2 step 2 return s\n"),
    ] {
        let once = format_rule(source).unwrap();
        assert_eq!(once, wanted, "{source}");
        assert_eq!(format_rule(&once).unwrap(), once, "{source}");
    }
}

#[test]
fn what_does_not_fit_is_broken() {
    let long = |n: usize| format!("member_{n}: $.a_long_name_of_a_member_{n}");
    let source = format!("{{{}}}", (0..4).map(long).collect::<Vec<_>>().join(","));
    let broken = (0..4).map(|n| format!("  {},\n", long(n))).collect::<String>();
    assert_eq!(format_rule(&source).unwrap(), format!("{{\n{broken}}}\n"));
    let clauses = "for booking in $.bookings[*] where booking.fare.amount > 100 && present(booking.vehicle) return booking.id";
    assert_eq!(format_rule(clauses).unwrap().lines().count(), 3);
}

#[test]
fn a_rule_that_cannot_be_read_is_not_laid_out() {
    for source in ["for a in", "{", "f'{'", "a b", "return"] {
        assert!(!format_rule(source).unwrap_err().is_empty(), "{source}");
    }
}

/// All rules and examples that the project has.
fn known_rules() -> Vec<String> {
    let root = concat!(env!("CARGO_MANIFEST_DIR"), "/../..");
    let mut rules = Vec::new();
    for entry in std::fs::read_dir(format!("{root}/demo/rules")).unwrap() {
        let path = entry.unwrap().path();
        if path.extension().is_some_and(|extension| extension == "kyr") {
            rules.push(std::fs::read_to_string(path).unwrap());
        }
    }
    for page in ["cookbook", "rule-language"] {
        let text = std::fs::read_to_string(format!("{root}/docs/{page}.md")).unwrap();
        let commands = text.split("$ kyanite query '").skip(1);
        rules.extend(commands.filter_map(|rest| Some(rest.split_once('\'')?.0.to_owned())));
    }
    rules
}

#[test]
fn layout_changes_nothing_but_blanks_and_stays() {
    let mut laid_out = 0;
    for rule in known_rules() {
        let Ok(once) = format_rule(&rule) else { continue };
        laid_out += 1;
        assert_eq!(bare(&once), bare(&rule));
        assert_eq!(format_rule(&once).unwrap(), once, "{rule}");
    }
    assert!(laid_out > 30, "only {laid_out} rules were laid out");
}

proptest! {
    #[test]
    fn never_panics(text in "(for |in |a|\\$|\\.|\\[|\\]|\\(|\\)|\\{|\\}|,|:|\\?|-|\\*|1|'|\"|f\"|#|\n| |return |let |= |;){0,24}") {
        if let Ok(once) = format_rule(&text) {
            prop_assert_eq!(bare(&once), bare(&text));
            prop_assert_eq!(format_rule(&once).unwrap(), once);
        }
    }
}
