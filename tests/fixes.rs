//! Every text that a message offers to type works when it is typed: the message does not come again, and nothing else is
//! wrong. The fixes are those of `--messages json`, as an editor would apply them.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that fails may panic")]

mod support;

use serde_json::Value;
use support::Folder;

/// The first fix that is offered on standard error.
fn offered(err: &str) -> Option<(String, usize, usize, String)> {
    err.lines().find_map(|line| {
        let message: Value = serde_json::from_str(line).ok()?;
        let fix = message.get("fix")?;
        let number = |name| fix["place"][name].as_u64().map(|n| n as usize);
        assert_eq!(fix["place"]["line"], 1, "{line}");
        let said = message["message"].as_str()?.to_owned();
        Some((said, number("column")? - 1, number("length")?, fix["text"].as_str()?.to_owned()))
    })
}

fn with_fix(rule: &str, column: usize, length: usize, text: &str) -> String {
    let characters: Vec<char> = rule.chars().collect();
    let before: String = characters[..column].iter().collect();
    let after: String = characters[column + length..].iter().collect();
    format!("{before}{text}{after}")
}

#[test]
fn what_is_offered_works_when_it_is_typed() {
    let folder = Folder::with_demo();
    folder.file(
        "notes.json",
        r#"[{"body": "{\"port\": \"ness\", \"all\": [1, 2]}", "berth no": 4}]"#,
    );
    folder.file("schema.json", r##"{"a": {"$ref": "#/b"}, "list": [{"n": "4", "part-2": 1}], "n": 4, "pier-no": 1, "pier-9": {"n": 1}}"##);
    // Rules, their inputs, and what they are once the fix is typed.
    for (rule, input, mended) in [
        // Names that are near, or that stand in another form.
        ("$.routes[*].nmae", "timetable.json", "$.routes[*].name"),
        ("$.routes.name", "timetable.json", "$.routes[*].name"),
        ("$[*].berth_no", "notes.json", "$[*]['berth no']"),
        ("$.manifest.vessel[*].@idd", "manifest.xml", "$.manifest.vessel[*].@id"),
        ("lenght($.routes)", "timetable.json", "length($.routes)"),
        (
            "for route in $.routes[*] return rout.name",
            "timetable.json",
            "for route in $.routes[*] return route.name",
        ),
        ("routes[0]", "timetable.json", "$.routes[0]"),
        ("$.routes[?name == 'x']", "timetable.json", "$.routes[?@.name == 'x']"),
        ("param p: txt = 'x'; [p, $.n]", "schema.json", "param p: text = 'x'; [p, $.n]"),
        ("$..$ref", "schema.json", "$..['$ref']"),
        ("$.a.$ref", "schema.json", "$.a['$ref']"),
        ("$.list[0].n.0", "schema.json", "$.list[0].n[0]"),
        ("$[a]", "schema.json", "$['a']"),
        // A minus in a name, told by the rule alone, and by what the input has.
        ("$.pier-no", "schema.json", "$['pier-no']"),
        ("$.pier-9.n", "schema.json", "$['pier-9'].n"),
        ("$.list[0].part-2", "schema.json", "$.list[0]['part-2']"),
        ("$.'a'", "schema.json", "$['a']"),
        // JSON inside a text.
        ("$[0].body.port", "notes.json", "decode(\"json\", $[0].body).port"),
        (
            "$[*].body.port",
            "notes.json",
            "for text in $[*].body return decode(\"json\", text).port",
        ),
        (
            "$[*].body.all[*]",
            "notes.json",
            "for text in $[*].body for node in decode(\"json\", text).all[*] return node",
        ),
        (
            "length($[*].body.all)",
            "notes.json",
            "length((for text in $[*].body return decode(\"json\", text).all))",
        ),
        // Conditions and operators.
        (
            "for r in $.routes[*] where r.id return r.id",
            "timetable.json",
            "for r in $.routes[*] where exists(r.id) return r.id",
        ),
        (
            "for r in $.routes[*] where r.id = 'R1' return r.id",
            "timetable.json",
            "for r in $.routes[*] where r.id == 'R1' return r.id",
        ),
        (
            "for r in $.routes[*] where r.id <> 'R1' return r.id",
            "timetable.json",
            "for r in $.routes[*] where r.id != 'R1' return r.id",
        ),
        (
            "for r in $.routes[*] where r.id == 'R1' and r.name != '' return r.id",
            "timetable.json",
            "for r in $.routes[*] where r.id == 'R1' && r.name != '' return r.id",
        ),
        (
            "for r in $.routes[*] where r.id == 'R1' & r.name != '' return r.id",
            "timetable.json",
            "for r in $.routes[*] where r.id == 'R1' && r.name != '' return r.id",
        ),
        (
            "for r in $.routes[*] order by r.id desc return r.id",
            "timetable.json",
            "for r in $.routes[*] order by r.id descending return r.id",
        ),
        (
            "for r in $.routes[*] where r.id != null return r.id",
            "timetable.json",
            "for r in $.routes[*] where present(r.id) return r.id",
        ),
        // One and many.
        ("for k in $.routes[*].id group by k return k", "timetable.json", ""),
        (
            "for r in $.routes[*] group by id = r.id return {id, n: count(r)}",
            "timetable.json",
            "for r in $.routes[*] group by id = r.id return {id, n: count(r[*])}",
        ),
        ("count($.routes)", "timetable.json", "count($.routes[*])"),
        (
            "let all = $.routes[*] return all.name",
            "timetable.json",
            "let all = $.routes[*] return all[*].name",
        ),
        (
            "for s in $.routes[*].sailings[*] ?? [null] return s.id",
            "timetable.json",
            "for s in (if exists($.routes[*].sailings[*]) then ($.routes[*].sailings[*]) else [null]) return s.id",
        ),
        ("for r in $.page return r", "timetable.json", "for r in [$.page] return r"),
        // Kinds of values.
        ("$.list[0].n + 1", "schema.json", "number($.list[0].n) + 1"),
        ("keys($.list)", "schema.json", "keys($.list[0])"),
        ("keys($.list[*])", "schema.json", "keys($.list[0])"),
        ("upper($.n)", "schema.json", "upper(text($.n))"),
        ("round($.list[0].n)", "schema.json", "round(number($.list[0].n))"),
        ("sum($.n)", "schema.json", "sum([$.n])"),
    ] {
        let ran = folder.run(&["query", rule, input, "--messages", "json"], b"");
        let Some((said, column, length, text)) = offered(&ran.err) else {
            panic!("nothing is offered for {rule}: {}", ran.err);
        };
        let typed = with_fix(rule, column, length, &text);
        assert!(mended.is_empty() || typed == mended, "{rule}: {typed}");
        let again = folder.run(&["query", &typed, input, "--messages", "json"], b"");
        assert!(!again.err.contains(&said), "{rule}: {typed}: {}", again.err);
        assert!(again.status == 0 && !again.out.is_empty(), "{rule}: {typed}: {}", again.err);
    }
}
