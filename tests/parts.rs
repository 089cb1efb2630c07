//! Runs over parts: `--partial`, `--range` and `kyanite combine`.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

mod support;

use support::{Folder, assert_says};

const RULE: &str = "for b in $[*] group by port = b.leg.from return {port, n: count(b[*]), fares: sum(b[*].fare.amount), last: max(b[*].id)}";

/// Runs a rule over parts, each given by the arguments that make it, and ends the run; the same as at once.
fn assert_same(folder: &Folder, rule: &str, input: &str, parts: &[&str]) {
    let words = |line: &str| -> Vec<String> { line.split(' ').map(str::to_owned).collect() };
    let run = |more: Vec<String>| {
        let all = ["query".to_owned(), rule.to_owned(), input.to_owned()].into_iter().chain(more);
        let all: Vec<String> = all.collect();
        let all: Vec<&str> = all.iter().map(String::as_str).collect();
        folder.run(&all, b"")
    };
    let mut states = Vec::new();
    for (number, part) in parts.iter().enumerate() {
        states.push(format!("{number}.state"));
        let state = format!("--partial -o {number}.state");
        let ran = run([words(part), words(&state)].concat());
        assert_eq!((ran.status, ran.err.as_str()), (0, ""), "{rule} {part}");
    }
    states.rotate_left(1);
    let all: Vec<&str> = ["combine"].into_iter().chain(states.iter().map(String::as_str)).collect();
    let (ended, at_once) = (folder.run(&all, b""), run(Vec::new()));
    assert_eq!((ended.out, ended.err), (at_once.out, String::new()), "{rule} {input}");
}

#[test]
fn ranges_of_files() {
    let folder = Folder::with_demo();
    folder.file("quoted.csv", "port,n\nness,1\n\"a\nness\",2\n\"a\nness\",3\nness,4\n");
    folder.file("lines.txt", "a\r\nb\r\na\r\nc");
    let thirds = ["--range 0-200kB", "--range 200kB-201kB", "--range 201kB-"];
    assert_same(&folder, RULE, "bookings.jsonl", &thirds);
    assert_same(&folder, "sum($[?@.leg.from == \"ness\"].fare.amount)", "bookings.jsonl", &thirds);
    let rows = "for t in $[*] group by port = t.port order by port descending return {port, n: sum(t[*].n)}";
    assert_same(&folder, rows, "quoted.csv", &["--range 0-15", "--range 15-22", "--range 22-90"]);
    let lines = "for t in $[*] group by word = t return {word, n: count(t[*])}";
    assert_same(&folder, lines, "lines.txt", &["--range 0-4", "--range 4-"]);
}

/// Elements of XML and items of a JSON list go record by record, too; such a document is one part.
#[test]
fn documents_as_parts() {
    let folder = Folder::with_demo();
    let decks =
        "for v in $.manifest.vessel[*] group by flag = v['@flag'] return {flag, n: count(v[*])}";
    assert_same(&folder, decks, "manifest.xml", &["--part 1"]);
    let ran = folder.run(&["convert", "bookings.jsonl", "-o", "list.json"], b"");
    assert_eq!(ran.status, 0);
    assert_same(&folder, RULE, "list.json", &["--part 1"]);
}

/// What a rule is given goes into its state, and comes out of it.
#[test]
fn params_and_sources() {
    let folder = Folder::with_demo();
    folder.file("rules/deep.kyr", "param least: number = 4\nsource ports = \"../ports.csv\"\nlet deep = ports[?number(@.depth_m) > least].code\nfor b in $[*] where exists(ports[?@.code == b.leg.from && number(@.depth_m) > least]) group by port = b.leg.from return {port, n: count(b[*]), of: length(ports)}");
    for (name, range) in [("a", "0-300kB"), ("b", "300kB-")] {
        let line = format!(
            "reshape rules/deep.kyr bookings.jsonl -p least=5 --range {range} --partial -o {name}.state"
        );
        assert_says(&folder, &line, 0, "");
    }
    let at_once =
        folder.run(&["reshape", "rules/deep.kyr", "bookings.jsonl", "-p", "least=5"], b"");
    let ended = folder.run(&["combine", "b.state", "a.state"], b"");
    assert_eq!((ended.status, ended.out), (0, at_once.out));
    assert_says(
        &folder,
        "reshape rules/deep.kyr bookings.jsonl --range 300kB- --partial -o c.state",
        0,
        "",
    );
    assert_says(
        &folder,
        "combine a.state c.state",
        2,
        "error: a.state and c.state are states of different rules, or were given other params or sources\n  combine the states of one rule",
    );
}

/// A result has to keep to the schema that the rule names, seen from the rule's folder.
#[test]
fn what_the_rule_ensures() {
    let folder = Folder::with_demo();
    let rule = "ensures \"few.json\"\nfor b in $[*]\ngroup by port = b.leg.from\nreturn {port, n: count(b[*])}";
    folder.file("rules/counts.kyr", rule).file("rules/few.json", r#"{"maxItems": 6}"#);
    assert_says(&folder, "reshape rules/counts.kyr bookings.jsonl --partial -o all.state", 0, "");
    assert_says(&folder, "combine all.state", 1, "there are 7 items, and there must be at most 6");
}

#[test]
fn what_is_refused() {
    let folder = Folder::with_demo();
    folder.file("n.jsonl", "{\"n\":1}\n").file("t.jsonl", "{\"n\":\"a\"}\n");
    for name in ["n", "t"] {
        let line = format!("query max($[*].n) {name}.jsonl --partial -o {name}.state");
        assert_says(&folder, &line, 0, "");
    }
    let state = folder.read("n.state");
    folder.file("new.state", state.replacen("state\":1", "state\":2", 1));
    folder.file("cut.state", &state[..state.len() / 2]);
    folder.file("other.state", state.replace("greatest", "least"));
    folder.file("binary.state", b"\x80\x81");
    let whole = "run it over all of the input at once";
    let no_state = "states are written by query and reshape with --partial, and by combine";
    let no_range = "a range is of a file of JSON Lines, CSV, TSV or text in UTF-8, as it is";
    for (line, status, expected) in [
        ("query $[0] n.jsonl --partial", 2, format!("error: this rule picks records by where they stand among all\n  {whole}")),
        ("query $.x n.jsonl --partial", 2, format!("error: this rule does not go through records one by one, so it has no parts\n  {whole}")),
        ("query count($[*]) timetable.json ports.csv --partial", 2, "error: 2 documents give as many results, and one json text cannot hold them\n  say --gather for one list of all documents".into()),
        ("query count($.routes[*]) timetable.json berths.geojson --gather --partial", 2, "error: the list of all inputs is not read record by record, so it has no parts\n  run the rule over all of it".into()),
        ("query count($[*]) ports.yaml --partial", 2, "error: ports.yaml is not read record by record, so it has no parts\n  run the rule over all of it".into()),
        ("query //m:vehicle manifest.xml --partial", 2, "error: an XPath has no groups, so there is no state of it\n  write it as a rule".into()),
        ("query count($[*]) n.jsonl --partial --to csv", 2, "error: --partial and --to <FORMAT> do not go together".into()),
        ("query count($[*]) n.jsonl --partial --count", 2, "error: --partial and --count do not go together".into()),
        ("reshape rules/running.kyr n.jsonl --partial --until 1", 2, "error: --partial and --until <N> do not go together".into()),
        ("query count($[*]) n.jsonl --part 3", 2, "error: --partial is missing".into()),
        ("query count($[*]) ports.yaml --range 0-10", 2, format!("error: ports.yaml is yaml, where no record can be found from its middle, so it has no ranges\n  {no_range}")),
        ("query count($[*]) --from jsonl --range 0-10", 2, format!("error: standard input has no bytes to go to, so it has no ranges\n  {no_range}")),
        ("combine n.state t.state", 4, "error: t.state cannot be joined to those before: an aggregate has numbers in one and texts in the other, or is too large\n  convert all with number() or text()".into()),
        ("combine n.state n.state", 2, "error: records would be counted twice: n.state is over n.jsonl from byte 0 on, part 0, and so is one before it\n  leave one of them out; where they are of other inputs with that name, number them with --part".into()),
        ("combine new.state", 3, "error: new.state is a state of version 2, and this program reads version 1\n  make it again with this version of the program".into()),
        ("combine n.jsonl", 3, format!("error: n.jsonl does not hold the state of a run, or not a whole one\n  {no_state}")),
        ("combine cut.state", 3, format!("error: cut.state does not hold the state of a run, or not a whole one\n  {no_state}")),
        ("combine other.state", 3, format!("error: other.state does not hold the state of a run, or not a whole one\n  {no_state}")),
        ("combine binary.state", 3, format!("error: binary.state does not hold the state of a run, or not a whole one\n  {no_state}")),
        ("combine none.state", 3, "error: there is no file none.state\n  check the name and the folder you are in".into()),
    ] {
        assert_says(&folder, line, status, &expected);
    }
}
