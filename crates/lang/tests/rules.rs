//! The rule language by cases: what rules give, what is found in them, and how they fail.
#![allow(clippy::unwrap_used, clippy::panic, reason = "tests say what is wrong by panicking")]

use kyanite_formats::json::{self, ReaderOptions, Style};
use kyanite_lang::functions::{ParameterTypes, all};
use kyanite_lang::{Arguments, Flow, ResultShape, RuleText, Runner, Session, Syntax, compile};
use kyanite_tree::{Arena, Severity, Value, locate};

/// How a rule ended.
#[derive(Debug, PartialEq)]
enum Ended {
    /// With this JSON; nothing is the empty text.
    Gave(String),
    /// With findings: messages, each with the text it is about.
    Found(Vec<(String, String)>),
    /// With a failure: the message, the text in the rule, the path in the input.
    Failed(String, String, String),
}

fn run(rule: &str, input: &str) -> Ended {
    run_with(rule, input, &[]).0
}

/// Runs a rule; gives also the messages of the report at the end.
fn run_with(rule: &str, input: &str, params: &[(&str, &str)]) -> (Ended, Vec<String>) {
    let plan = match compile(RuleText::new("rule", rule), Syntax::Rule) {
        Ok(plan) => plan,
        Err((text, findings)) => {
            let errors =
                findings.into_iter().filter(|finding| finding.severity() == Severity::Error);
            return (
                Ended::Found(
                    errors.map(|f| (f.message().to_owned(), text.slice(f.places()[0]))).collect(),
                ),
                Vec::new(),
            );
        }
    };
    let arena = Arena::new();
    let (root, _) = json::document(input, &arena, ReaderOptions::default()).unwrap();
    let params: Vec<_> = params.iter().map(|(n, v)| ((*n).to_owned(), (*v).to_owned())).collect();
    let arguments = match Arguments::read(&plan, &params, &arena) {
        Ok(arguments) => arguments,
        Err(problems) => {
            return (
                Ended::Found(
                    problems.into_iter().map(|p| (p.message().to_owned(), String::new())).collect(),
                ),
                Vec::new(),
            );
        }
    };
    let mut session = Session::new(&plan);
    let mut results = Vec::new();
    let ran =
        Runner::new(&plan, &arguments, Some(root), &arena, &mut session).and_then(|mut runner| {
            runner.document(&mut |value| {
                results.extend(value);
                Flow::Continue(())
            })
        });
    let ended = match ran {
        Err(failure) => {
            let place =
                locate(root, failure.origin()).map(|place| place.readable()).unwrap_or_default();
            Ended::Failed(
                failure.message().to_owned(),
                plan.rule().slice(failure.rule().unwrap_or_default()),
                place,
            )
        }
        Ok(_) => match plan.result_shape() {
            ResultShape::Items => Ended::Gave(written(arena.list(&results))),
            ResultShape::Single => {
                Ended::Gave(results.first().map_or(String::new(), |value| written(*value)))
            }
        },
    };
    let report = session.coverage.report(&plan);
    let report = report.into_iter().filter(|problem| problem.severity() == Severity::Warning).map(
        |problem| {
            problem.message().to_owned()
                + &problem.advice().map(|advice| format!(" ({advice})")).unwrap_or_default()
        },
    );
    (ended, report.collect())
}

fn written(value: Value<'_>) -> String {
    let mut text = Vec::new();
    json::write(value, Style::Compact, &mut text);
    String::from_utf8(text).unwrap()
}

const PORTS: &str = r#"{
    "ports": [
        {"id": "ness", "depth": 6.50, "berths": [{"no": "A1", "ramp": true}, {"no": "A2"}]},
        {"id": "holm", "depth": 3, "berths": [], "note": null},
        {"id": "skarv", "berths": [{"no": "B1", "ramp": false}]}
    ],
    "open": true,
    "big": 123456789012345678901234567890.10,
    "text": "{\"berth\": [4]}"
}"#;

#[test]
fn what_rules_give() {
    for (rule, expected) in [
        // What fails on the data is stood in for.
        ("recover(1 / 0, 'none')", r#""none""#),
        ("recover($.ports[0].id + 1, 0)", "0"),
        ("recover($.ports[0].id, 0)", r#""ness""#),
        (
            "[recover(needed($.nope, 'x'), 1), recover(error('no'), 2), recover(decode('json', '{'), 3)]",
            "[1,2,3]",
        ),
        ("{a: recover($.nope, 1), b: recover(error('x'), $.nope)}", "{}"),
        ("recover(recover(1 / 0, error('again')), 4)", "4"),
        ("for p in $.ports[*] return recover(sum([1, p.id]), p.id)", r#"["ness","holm","skarv"]"#),
        ("recover(sum($.ports[*].id), 'no sum')", r#""no sum""#),
        ("for p in $.ports[*] group by k = 1 return recover(sum(p[*].id), count(p[*]))", "[3]"),
        ("recover($.ports[?@.id + 1 > 2], 'no filter')", r#""no filter""#),
        ("recover(($ set .ports[*].id = @ + 1), 0)", "0"),
        // Shapes: only a path is many, and only where it is written.
        ("$.ports[*].id", r#"["ness","holm","skarv"]"#),
        ("$.ports[0].id", r#""ness""#),
        ("($.ports[*].id)[1]", r#""holm""#),
        ("let ids = $.ports[*].id return ids[-1]", r#""skarv""#),
        ("{ids: $.ports[*].id}", r#"{"ids":["ness","holm","skarv"]}"#),
        ("[$.ports[*].id]", r#"[["ness","holm","skarv"]]"#),
        ("[...$.ports[*].id, 'x']", r#"["ness","holm","skarv","x"]"#),
        ("let p = $.ports return p[?@.depth].id", r#"["ness","holm"]"#),
        ("let p = $.ports return let i = 'id' return p[*][(i)]", r#"["ness","holm","skarv"]"#),
        ("$.nope", ""),
        ("$.nope[*]", "[]"),
        // Numbers keep their digits and compute exactly.
        ("$.big", "123456789012345678901234567890.10"),
        ("$.big + 0.9", "123456789012345678901234567891"),
        ("0.1 + 0.2 == 0.3", "true"),
        // Also those that are too large to be computed with are compared exactly.
        ("1e99999999999999999999 == 10e99999999999999999998", "true"),
        ("1e99999999999999999999 > 5 && -1e99999999999999999999 < 5", "true"),
        ("1e99999999999999999999 == 1e99999999999999999998", "false"),
        ("length(distinct([1e99999999999999999999, 10e99999999999999999998]))", "1"),
        (
            "[1 / 3, 7 % 3, -7 % 3, 2 * 1.5, 1 - -1, - 2]",
            "[0.3333333333333333333333333333,1,-1,3,2,-2]",
        ),
        ("1 + 2 * 3 - 4 / 2", "5"),
        ("-2 + 5", "3"),
        ("for p in $.ports[*] return p.depth", "[6.50,3]"),
        // Operators and their precedence.
        ("true || false && false", "true"),
        ("!false && 1 + 1 == 2", "true"),
        ("$.nope ?? $.open ?? 1", "true"),
        ("$.ports[1].note ?? 'none'", r#""none""#),
        ("-($.nope ?? 3) + 1", "-2"),
        ("$.nope == $.nope2", "true"),
        ("$.ports[0].depth == 6.5", "true"),
        ("'a' < 'b'", "true"),
        ("'1' < 2", "false"),
        ("exists($.ports[1].note) && !present($.ports[1].note)", "true"),
        // Constructors.
        ("{a: 1, ...{b: 2, a: 3}}", r#"{"a":3,"b":2}"#),
        ("{...$.nope, a: $.nope}", "{}"),
        ("{'a b': 1, (f'{1}x'): 2, null: 3}", r#"{"a b":1,"1x":2,"null":3}"#),
        ("let p = $.ports[0] return {p.id, depth: p.depth, p}.id", r#""ness""#),
        ("let p = $.ports[0] return {p.id, p['depth']}", r#"{"id":"ness","depth":6.50}"#),
        ("let k = 'id' return $.ports[0][(k)]", r#""ness""#),
        ("let i = 1 return $.ports[(i + 1)].id", r#""skarv""#),
        (r#"f"{$.ports[0].id}: {$.ports[0].depth} {{m}} {"é"}""#, r#""ness: 6.50 {m} é""#),
        (r#"'it\'s \u00e9'"#, r#""it's é""#),
        // Choices.
        ("if $.open == true then 1 else 2", "1"),
        ("if exists($.nope) then 1", ""),
        ("{a: if false then 1}", "{}"),
        ("case 2 when 1 then 'a' when 2, 3 then 'b' else 'c' end", r#""b""#),
        ("case when 1 > 2 then 'a' end", ""),
        ("if true then if false then 1 else 2", "2"),
        // Clauses.
        ("for p in $.ports[*] where p.depth > 4 return p.id", r#"["ness"]"#),
        (
            "for p at i in $.ports[*] return {i, p.id}",
            r#"[{"i":0,"id":"ness"},{"i":1,"id":"holm"},{"i":2,"id":"skarv"}]"#,
        ),
        (
            "for p in $.ports[*] for b in p.berths[*] return f'{p.id}-{b.no}'",
            r#"["ness-A1","ness-A2","skarv-B1"]"#,
        ),
        ("for p in $.ports for b at i in p.berths where i == 0 return b.no", r#"["A1","B1"]"#),
        (
            "for p in $.ports[*] let n = count(p.berths[*]) where n > 0 return {p.id, n}",
            r#"[{"id":"ness","n":2},{"id":"skarv","n":1}]"#,
        ),
        ("for p in $.ports[*] skip 1 first 1 return p.id", r#"["holm"]"#),
        ("for p in $.ports[*] for b in p.berths[*] first 2 return b.no", r#"["A1","A2"]"#),
        ("let n = 2 for p in $.ports[*] first n return p.id", r#"["ness","holm"]"#),
        ("for p in $.ports[*] first 0 return p.id", "[]"),
        ("for p in $.nope return p", "[]"),
        ("for p in null return p", "[]"),
        ("for p in $.ports[*] return p.depth", "[6.50,3]"),
        ("for p in $.ports[*] order by p.id descending return p.id", r#"["skarv","ness","holm"]"#),
        ("for p in $.ports[*] order by p.depth return p.id", r#"["holm","ness","skarv"]"#),
        (
            "for p in $.ports[*] order by p.depth descending return p.id",
            r#"["ness","holm","skarv"]"#,
        ),
        (
            "for p in $.ports[*] order by length(p.berths) descending, p.id first 2 return p.id",
            r#"["ness","skarv"]"#,
        ),
        (
            "for p in $.ports[*] first 2 order by p.id order by p.id descending skip 1 return p.id",
            r#"["holm"]"#,
        ),
        ("sum(for p in $.ports[*] return length(p.berths))", "3"),
        ("for x in [3, 1, 2] order by x first 2 for y in [x, x] return y", "[1,1,2,2]"),
        // Groups, running values, windows.
        (
            "for p in $.ports[*] group by deep = p.depth > 4 return {deep, ids: p[*].id}",
            r#"[{"deep":true,"ids":["ness"]},{"deep":false,"ids":["holm","skarv"]}]"#,
        ),
        ("for x in [1, '1', 1.0, null] group by k = x return count(x[*])", "[2,1,1]"),
        ("for x in [{a: 1}, {}] group by x.a return count(x[*])", "[1,1]"),
        (
            "for x in [3, 1, 3] for y in [x, 9] group by k = x return {x, y}",
            r#"[{"x":[3,3,3,3],"y":[3,9,3,9]},{"x":[1,1],"y":[1,9]}]"#,
        ),
        (
            "for x in [3, 1, 2] carry sum from 0 = sum + x where sum > 3 return {x, sum}",
            r#"[{"x":1,"sum":4},{"x":2,"sum":6}]"#,
        ),
        (
            "for x in [1, 2] return (for y in [1, 2] carry n from x = n * 10 return n)",
            "[[10,100],[20,200]]",
        ),
        ("for x in [1, 2, 3, 4, 5] window 2 return x", "[[1,2],[2,3],[3,4],[4,5]]"),
        ("for x in [1, 2, 3, 4, 5, 6] window 2 step 3 return x", "[[1,2],[4,5]]"),
        ("for x in [1, 2] window 3 return x", "[]"),
        ("for x in [2, 1, 2] group by k = x order by k window 2 return k", "[[1,2]]"),
        ("for x in ['A10', 'a9', 'A9'] order by natural(x) return x", r#"["A9","A10","a9"]"#),
        ("for x in [5, 3, 4, 1] order by x first 2 return x", "[1,3]"),
        // Joins.
        (
            "for r in [{k: 1}, {k: '1'}, {}] for x in $.ports[*] where x.nope == r.k return x.id",
            r#"["ness","holm","skarv"]"#,
        ),
        ("let ids = range(0, 20) for n in [19, 3, 3] return ids[?@ == n]", "[[19],[3],[3]]"),
        (
            "let rows = for i in range(0, 30) return {k: i % 3, i} for k in [2, 0] return sum(rows[?@.k == k && @.i > 20].i)",
            "[78,72]",
        ),
        // Header.
        ("let a = 2\ndef twice(n) = n * a\ntwice(4)", "8"),
        ("def fact(n) = if n < 2 then 1 else n * fact(n - 1)\nfact(20)", "2432902008176640000"),
        (
            "def even(n) = if n == 0 then true else odd(n - 1)\ndef odd(n) = if n == 0 then false else even(n - 1)\neven(9)",
            "false",
        ),
        (
            "let rows = for p in $.ports[*]\n  where p.depth > 1\n  return p.id\nrows[1]",
            r#""holm""#,
        ),
        ("# a comment\nlet a = $.ports[0] # another\n  .id\na", r#""ness""#),
        // Documents in texts.
        ("decode('json', $.text).berth[*]", "[4]"),
        ("encode('json', $.ports[2].berths)", r#""[{\"no\":\"B1\",\"ramp\":false}]""#),
    ] {
        assert_eq!(run(rule, PORTS), Ended::Gave(expected.into()), "{rule}");
    }
}

/// To the last second of the year 9999; what no calendar computes with is refused, in words of our own.
#[test]
fn times() {
    for (rule, expected) in [
        ("add_time('9999-12-31T00:00:00Z', 'PT23H')", r#""9999-12-31T23:00:00Z""#),
        ("in_zone('9999-12-31T00:00:00Z', 'Pacific/Auckland')", r#""9999-12-31T13:00:00+13:00""#),
        (
            "in_zone('9999-12-31T23:59:59-02:00', 'America/New_York') ",
            "in_zone(): the time is outside the years -9999 to 9999",
        ),
        (
            "format_time('9999-12-31T23:59:59Z', '%d %H %z %s %%s')",
            r#""31 23 +0000 253402300799 %s""#,
        ),
        ("time_between('0001-01-01T00:00:00Z', '9999-12-31T00:00:00Z', 'days')", "3652058"),
        ("timestamp('31.12.9999 23:59 +0000', '%d.%m.%Y %H:%M %z')", r#""9999-12-31T23:59:00Z""#),
        (
            "timestamp('253402300799', '%s') ",
            "timestamp(): the text \"253402300799\" does not fit the pattern \"%s\"",
        ),
        (
            "time_between('2026-06-01T07:00:00+02:00', '2026-06-01T07:00:00.25Z', 'seconds')",
            "7200.25",
        ),
        ("add_time('2026-03-29T01:30:00+01:00', 'PT1H')", r#""2026-03-29T02:30:00+01:00""#),
        ("timestamp('1780000000', '%s')", r#""2026-05-28T20:26:40Z""#),
        (
            "timestamp('59 59 00', '%M %S %H')",
            "timestamp(): the pattern \"%M %S %H\" gives no date",
        ),
        (
            "add_time('2016-12-31T23:59:60Z', 'PT1S')",
            "add_time(): the text \"2016-12-31T23:59:60Z\" is a leap second, which cannot be computed with",
        ),
        (
            "add_time('20161231T235960.5Z', 'PT1S')",
            "add_time(): the text \"20161231T235960.5Z\" is a leap second, which cannot be computed with",
        ),
        (
            "timestamp('60 60 2016-12-31', '%M %S %F')",
            "timestamp(): the text \"60 60 2016-12-31\" does not fit the pattern \"%M %S %F\"",
        ),
        (
            "timestamp('2016-12-31 23:59:60', '%Y-%m-%d %T')",
            "timestamp(): the text \"2016-12-31 23:59:60\" is a leap second, which cannot be computed with",
        ),
        ("timestamp('1960-12-31 23:59:59', '%Y-%m-%d %T')", r#""1960-12-31T23:59:59""#),
        (
            "format_time('2026-06-01', '%Y %H')",
            "format_time(): the time \"2026-06-01\" has nothing for `%H`",
        ),
        (
            "format_time('2026-06-01T07:00:00Z', '%Y %!')",
            "format_time(): `%!` in the pattern means nothing",
        ),
        ("timestamp('2026', '%Y %')", "timestamp(): `%` in the pattern means nothing"),
        (
            "add_time('9999-12-31', 'P1D')",
            "add_time(): the time is outside the years -9999 to 9999",
        ),
    ] {
        let given = match run(rule, PORTS) {
            Ended::Gave(value) => value,
            Ended::Failed(message, ..) => message,
            other => format!("{other:?}"),
        };
        assert_eq!(given, expected, "{rule}");
    }
}

#[test]
fn what_is_found_before_running() {
    for (rule, message, about) in [
        ("for p in $.ports[*] where p.ramp return p", "`p.ramp` alone is no condition", "p.ramp"),
        ("for p in $.ports[*] group by [p.id] return p", "this key has no name", "[p.id]"),
        (
            "for p in $.ports[*] group by k = [p.id] return p",
            "groups go by single values; this is a list",
            "[p.id]",
        ),
        ("for p in $.ports[*] group by p = p.id return p", "`p` is bound already", "p"),
        (
            "for p in $.ports[*] carry n from p.id = 1 return p",
            "nothing is bound to the name `p`",
            "p",
        ),
        ("source a = 1\n$", "the file of the source is missing here, in quotes", "1"),
        ("namespace a = b\n$", "the URI of the namespace is missing here, in quotes", "b"),
        ("let x = 1\nif x then 1", "`x` is not known to be true or false", "x"),
        ("$.a[*].b == 1", "`$.a[*].b` may select many values; `==` takes one", "$.a[*].b"),
        ("$.a[*] + 1", "`$.a[*]` may select many values; `+` takes one", "$.a[*]"),
        ("f'{$.a[*]}'", "`$.a[*]` may select many values; `f-text` takes one", "$.a[*]"),
        ("count($.a)", "`$.a` is one value, and count() counts nodes", "$.a"),
        ("count([1])", "count() takes a path", "[1]"),
        ("'a' + 1", "`+` takes a number; this is a text", "'a'"),
        ("if 1 then 2", "a condition is true or false; this is a number", "1"),
        ("vesel", "nothing is bound to the name `vesel`", "vesel"),
        ("$.a[?b == 1]", "nothing is bound to the name `b`", "b"),
        ("@.a", "`@` stands outside a filter and an edit", "@"),
        ("lenght($.a)", "there is no function `lenght`", "lenght"),
        ("round()", "round() does not take no arguments", "round()"),
        ("upper('a', 'b')", "upper() does not take 2 arguments", "upper('a', 'b')"),
        ("upper(1)", "upper() takes a text here; this is a number", "1"),
        ("for x in $[*] for x in x.y return x", "`x` is bound already", "x"),
        ("let a = 1\nlet a = 2\na", "`a` is bound already", "a"),
        ("for x in 5 return x", "for takes a list; this is a number", "5"),
        ("for x in $[*] first x.n return x", "nothing is bound to the name `x`", "x"),
        ("'a'.b", "a text has nothing to step into", "'a'"),
        (
            "for p in $[*] group by k = p.a return {k, p.b}",
            "`p` is a list, and a name steps into maps",
            "p.b",
        ),
        ("let a = [1] return a.b[*]", "`a` is a list, and a name steps into maps", "a.b"),
        ("def f(a) = a\nf()", "f() takes 1 argument, not 0", "f()"),
        ("def count(a) = a\n1", "`count` is a function of the language", "count"),
        ("def f() = 1\ndef f() = 2\nf()", "the def `f` is written twice", "f"),
        ("let a = f()\ndef f() = 1\na", "`f` is defined below", "f"),
        (
            "def f() = g()\nlet a = f()\ndef g() = a\na",
            "`f` calls `g`, which is defined below",
            "f",
        ),
        ("param n: number = 'x'\nn", "the default is not of the type number", "'x'"),
        ("{(1): 2}", "a computed name takes a text; this is a number", "1"),
    ] {
        let Ended::Found(findings) = run(rule, "{}") else { panic!("{rule} was not refused") };
        assert_eq!(findings.first(), Some(&(message.to_owned(), about.to_owned())), "{rule}");
    }
    let Ended::Found(all) = run("for x in $[*] where y let z = 'a' + 1 return lenght(w)", "[]")
    else {
        panic!()
    };
    assert_eq!(all.len(), 4, "all findings at once: {all:?}");
}

#[test]
fn how_rules_fail_on_data() {
    for (rule, message, about, place) in [
        (
            "for p in $.ports[*] return p.depth + 1",
            "`p.depth` is not there, and `+` needs numbers",
            "p.depth",
            "$.ports[2]",
        ),
        (
            "$.ports[1].note * 2",
            "`$.ports[1].note` is null, and `*` needs numbers",
            "$.ports[1].note",
            "$.ports[1].note",
        ),
        (
            "$.ports[0].id - 1",
            "`$.ports[0].id` is a text, and `-` needs numbers",
            "$.ports[0].id",
            "$.ports[0].id",
        ),
        ("1 / ($.ports[1].depth - 3)", "the divisor is zero", "1 / ($.ports[1].depth - 3)", ""),
        ("[$.nope]", "`$.nope` is not there, and an item of a list must be there", "$.nope", "$"),
        ("f'{$.nope}'", "`$.nope` is not there, and an f-text needs a value", "$.nope", "$"),
        ("f'{$.ports}'", "`$.ports` is a list, which has no text", "$.ports", "$.ports"),
        (
            "upper($.ports[0].depth)",
            "`$.ports[0].depth` is a number, and upper() needs a text",
            "$.ports[0].depth",
            "$.ports[0].depth",
        ),
        (
            "sum($.ports[*].id)",
            "sum(): an item is a text, not a number",
            "$.ports[*].id",
            "$.ports[0].id",
        ),
        ("max([1, 'a'])", "max(): a number and a text have no order", "[1, 'a']", ""),
        (
            "for p in $.ports[*] order by p.depth ?? p.id return 1",
            "a number and a text have no order",
            "p.depth ?? p.id",
            "$.ports[2].id",
        ),
        ("for b in $.open return b", "for takes a list; `$.open` is a boolean", "$.open", "$.open"),
        ("{...$.open}", "`...` copies a map here; this is a boolean", "$.open", "$.open"),
        (
            "$.ports[($.ports[0].id)]",
            "a text cannot step into a list",
            "[($.ports[0].id)]",
            "$.ports",
        ),
        (
            "if $.ports[0].id ?? true then 1",
            "a condition must be true or false; this is a text",
            "$.ports[0].id ?? true",
            "$.ports[0].id",
        ),
        ("needed($.nope, 'no nope')", "needed(): no nope", "$.nope", "$"),
        (
            "number($.ports[0].id)",
            "number(): the text \"ness\" does not spell a number",
            "$.ports[0].id",
            "$.ports[0].id",
        ),
        (
            "decode('json', $.ports[0].id)",
            "decode(): the text is not json: at its 1:1, no JSON value begins like this",
            "$.ports[0].id",
            "$.ports[0].id",
        ),
        (
            "for p in $.ports[*] group by p.berths return p",
            "`p.berths` is a list, and groups go by single values",
            "p.berths",
            "$.ports[0].berths",
        ),
        (
            "for p in $.ports[*] window 1 - 2 return p",
            "a count is a whole number from 0 on",
            "1 - 2",
            "",
        ),
        (
            "power(10, 100000)",
            "power(): the exponent is a whole number from -1000 to 1000",
            "100000",
            "",
        ),
        (
            "map_of([{name: 'a', value: 1}, {name: 'a', value: 2}])",
            "map_of(): the name `a` comes twice",
            "[{name: 'a', value: 1}, {name: 'a', value: 2}]",
            "",
        ),
        (
            "timestamp($.ports[0].id, '%Y')",
            "timestamp(): the text \"ness\" does not fit the pattern \"%Y\"",
            "$.ports[0].id",
            "$.ports[0].id",
        ),
        (
            "add_time('2026-01-01', 'P1Q')",
            "add_time(): the text \"P1Q\" is no duration of ISO 8601",
            "'P1Q'",
            "",
        ),
        (
            "extract('a', '[')",
            "extract(): this is no I-Regexp: a character class is not closed",
            "'['",
            "",
        ),
        (
            "for x in $.ports first 1 - 2 return x",
            "a count is a whole number from 0 on",
            "1 - 2",
            "",
        ),
        (
            "def f(n) = f(n + 1)\nf(0)",
            "`f` calls itself without end: 1000 calls are open",
            "f(n + 1)",
            "",
        ),
        (
            "for n in range(1, 20000) carry t from [] = [t] return n",
            "this value is nested more than 10,000 levels deep",
            "[t]",
            "",
        ),
        (
            "def f(n) = if n == 0 then 1 else [[[[[[[[[[[[f(n - 1)]]]]]]]]]]]]\nf(990)",
            "this value is nested more than 10,000 levels deep",
            "f(n - 1)",
            "",
        ),
        ("1e9999999 + 1", "the number needs more than 10,000 digits", "1e9999999 + 1", ""),
    ] {
        // Recursion without end needs the stack that the program gives its worker.
        let worker = std::thread::Builder::new().stack_size(256 << 20);
        let ended = worker.spawn(|| run(rule, PORTS)).unwrap().join().unwrap();
        assert_eq!(ended, Ended::Failed(message.into(), about.into(), place.into()), "{rule}");
    }
}

#[test]
fn no_silent_nothing() {
    for (rule, expected) in [
        ("$.ports[*].dept", &["no `dept` under $.ports[*] (near: depth, in 2 of 3)"][..]),
        (
            "for p in $.ports[*] for b in p.berths[*] return b.number",
            &["no `number` under $.ports[*].berths[*] (there are: no, ramp)"],
        ),
        (
            "$.ports.id",
            &[
                "no `id` at $.ports: it is a list of 3, and a name steps into maps (write $.ports[*].id)",
            ],
        ),
        (
            "$.text.berth",
            &[
                "no `berth` at $.text: it is a text (it holds JSON: write decode(\"json\", $.text).berth)",
            ],
        ),
        (
            "$.ports[?@.depth > 100].id",
            &["`[?@.depth > 100]` held for none of 3 nodes under $.ports"],
        ),
        (
            "for p in $.ports[*] where p.depth > 100 return p",
            &["this `where` held for none of 3 tuples"],
        ),
        (
            "for p in $.ports[*] where p.dept > 1 return p",
            &["no `dept` under $.ports[*] (near: depth, in 2 of 3)"],
        ),
        ("$.ports[7]", &["`[7]` selected nothing at $.ports, which is a list of 3"]),
        ("$.ports[?@.closed].id", &["`[?@.closed]` held for none of 3 nodes under $.ports"]),
        ("$.ports[?@.berht].id", &["no `berht` under @ (near: berths, in 3 of 3)"]),
        ("$.ports[0].closed ?? false", &[]),
        ("present($.ports[0].depht)", &["no `depht` under $.ports[0] (near: depth, in 1 of 1)"]),
        ("$..ramp", &[]),
        ("$.ports[*].note", &[]),
        ("for p in $.ports[*] where exists(p.depth) return p.id", &[]),
    ] {
        assert_eq!(run_with(rule, PORTS, &[]).1, expected, "{rule}");
    }
    let mixed = r#"[{"a": {"b": 1}}, {"a": [{"b": 2}]}]"#;
    let (ended, report) = run_with("$[*].a.b", mixed, &[]);
    assert_eq!(ended, Ended::Gave("[1]".into()));
    assert_eq!(
        report,
        [
            "`.b` met a list under $[*].a once and selected nothing there (write [*].b to step into the items)"
        ]
    );
}

#[test]
fn params() {
    let rule = "param n: number\nparam t: text? \nparam b: boolean = false\nparam l: list = []\n{n, t, b, l}";
    let gave = |params: &[(&str, &str)]| run_with(rule, "{}", params).0;
    assert_eq!(
        gave(&[("n", "1.50")]),
        Ended::Gave(r#"{"n":1.50,"t":null,"b":false,"l":[]}"#.into())
    );
    assert_eq!(
        gave(&[("n", "2"), ("t", "007"), ("b", "true"), ("l", "[1,{}]")]),
        Ended::Gave(r#"{"n":2,"t":"007","b":true,"l":[1,{}]}"#.into())
    );
    for (params, message) in [
        (&[][..], "the param `n` is missing"),
        (&[("n", "x")], "the param `n` is a number, not \"x\""),
        (&[("n", "1"), ("b", "yes")], "the param `b` is true or false, not \"yes\""),
        (&[("n", "1"), ("l", "{}")], "the param `l` is a list, not \"{}\""),
        (&[("n", "1"), ("l", "[1")], "the param `l` is written as JSON, not \"[1\""),
        (&[("n", "1"), ("m", "1")], "the rule has no param `m`"),
    ] {
        let Ended::Found(found) = gave(params) else { panic!("{params:?} was taken") };
        assert_eq!(found[0].0, message);
    }
    let optional =
        "param port: text?\nfor p in $.ports[*] where port == null || p.id == port return p.id";
    assert_eq!(run(optional, PORTS), Ended::Gave(r#"["ness","holm","skarv"]"#.into()));
    assert_eq!(run_with(optional, PORTS, &[("port", "holm")]).0, Ended::Gave(r#"["holm"]"#.into()));
}

#[test]
fn every_function_does_what_its_example_says() {
    for function in all() {
        let (rule, expected) = function.example;
        assert!(rule.contains(&format!("{}(", function.name)), "{}", function.name);
        assert_eq!(run(rule, "{}"), Ended::Gave(expected.into()), "{rule}");
    }
}

/// Each parameter of each function refuses what it does not take: before the run where the kind is written out,
/// in the run where it comes from data.
#[test]
fn every_function_refuses_what_it_does_not_take() {
    let samples = [
        (ParameterTypes::NULL, "null"),
        (ParameterTypes::BOOLEAN, "true"),
        (ParameterTypes::NUMBER, "1"),
        (ParameterTypes::TEXT, "'a'"),
        (ParameterTypes::LIST, "[]"),
        (ParameterTypes::MAP, "{}"),
    ];
    let sample = |takes: ParameterTypes| {
        let fits = samples.iter().find(|(kind, _)| takes.or(*kind) == takes);
        let other =
            if takes.or(ParameterTypes::ELEMENT) == takes { "element('a')" } else { "$[*]" };
        fits.map_or(other, |(_, sample)| sample)
    };
    for function in all() {
        for (position, parameter) in function.parameters.iter().enumerate() {
            let refused: Vec<&str> = samples
                .iter()
                .filter(|(kind, _)| parameter.takes.or(*kind) != parameter.takes)
                .map(|s| s.1)
                .collect();
            for wrong in refused {
                let call =
                    |argument: &str| {
                        let arguments: Vec<&str> =
                            function.parameters[..function.required.max(position + 1)]
                                .iter()
                                .enumerate()
                                .map(|(at, parameter)| {
                                    if at == position { argument } else { sample(parameter.takes) }
                                })
                                .collect();
                        format!("{}({})", function.name, arguments.join(", "))
                    };
                let written = run(&call(wrong), "{}");
                assert!(matches!(written, Ended::Found(_)), "{} gave {written:?}", call(wrong));
                // The expression of xpath() has to be written out.
                if parameter.takes.nodes() || function.name == "xpath" {
                    continue;
                }
                let met = run(&call("$.w"), &format!("{{\"w\": {}}}", wrong.replace('\'', "\"")));
                let Ended::Failed(message, about, place) = met else {
                    panic!("{}: {met:?}", call("$.w"))
                };
                assert!(message.contains(function.name), "{message}");
                assert_eq!((about.as_str(), place.as_str()), ("$.w", "$.w"), "{}", call("$.w"));
            }
        }
        let too_many = format!("{}({})", function.name, ["$"; 9].join(", "));
        assert!(function.repeats || matches!(run(&too_many, "{}"), Ended::Found(_)), "{too_many}");
    }
}

proptest::proptest! {
    /// No rule of any shape panics, loops or runs past its limits, whatever it is run on.
    #[test]
    fn no_rule_panics(rule in r#"((\$|@|x|for x in |where |let y = |return |order by |first |skip | set |remove |\.b = |recover\(|document_uri\(|if | then | else |case | when | end|count\(|sum\(|match\(|text\(|decode\('json', |f"\{|\}"|\.a|\.\.|\.\*|\[\*\]|\[0\]|\[-1:\]|\[\?|\[\(|\]|\)|\(|\{a: |\{|\}|, | == | < | && | \|\| |!| \+ | / |-| \?\? |1|'a'|null|true|\n)){1,14}"#) {
        for syntax in [Syntax::Rule, Syntax::JsonPath] {
            if let Ok(plan) = compile(RuleText::new("rule", rule.clone()), syntax) {
                let arena = Arena::new();
                let (root, _) = json::document(PORTS, &arena, ReaderOptions::default()).unwrap();
                let mut session = Session::new(&plan);
                if let Ok(arguments) = Arguments::read(&plan, &[], &arena)
                    && let Ok(mut runner) = Runner::new(&plan, &arguments, Some(root), &arena, &mut session)
                {
                    let _ = runner.document(&mut |_| Flow::Continue(()));
                }
                let _ = session.coverage.report(&plan);
            }
        }
    }
}
