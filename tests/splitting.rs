//! `kyanite split`.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

mod support;

use support::{Folder, assert_says, run};

/// The names of the files in a folder, and what is in them.
fn parts(folder: &Folder, name: &str) -> Vec<(String, String)> {
    let Ok(entries) = std::fs::read_dir(folder.path().join(name)) else { return Vec::new() };
    let mut parts: Vec<(String, String)> = entries
        .map(|entry| {
            let path = entry.unwrap().path();
            let name = path.file_name().unwrap().to_string_lossy().into_owned();
            (name, std::fs::read_to_string(path).unwrap())
        })
        .collect();
    // By their numbers: part-2 before part-10.
    parts.sort_by_key(|(name, _)| (name.len(), name.clone()));
    parts
}

fn names(folder: &Folder, name: &str) -> Vec<String> {
    parts(folder, name).into_iter().map(|(name, _)| name).collect()
}

/// Records on several lines become one each, those that follow the first of their form among them.
#[test]
fn records_on_several_lines() {
    let folder = Folder::with_demo();
    let record = |no: usize| format!("{{\n  \"no\": {no}\n}}");
    let all: Vec<String> = (1..=5).map(record).collect();
    folder.file("pretty.jsonl", all.join("\n") + "\n");
    folder.file(
        "mixed.jsonl",
        format!("{{\"no\":1}}\n{{\"no\":2}} {}\n{{\"no\":4}}\n{}", all[2], all[4]),
    );
    for line in ["pretty.jsonl --records 3", "pretty.jsonl --bytes 27", "mixed.jsonl --records 3"] {
        let _ = std::fs::remove_dir_all(folder.path().join("parts"));
        assert_says(&folder, &format!("split {line} --into parts"), 0, "");
        let texts: Vec<String> =
            parts(&folder, "parts").into_iter().map(|(_, text)| text.replace(": ", ":")).collect();
        let of = |numbers: &[usize]| -> String {
            numbers.iter().map(|no| format!("{{\"no\":{no}}}\n")).collect()
        };
        assert_eq!(texts, [of(&[1, 2, 3]), of(&[4, 5])], "{line}");
    }
}

#[test]
fn what_goes_where() {
    let folder = Folder::with_demo();
    folder.file("d.yaml", "a: 1\n---\nb: 2 # two\n# c\n---\nc: 3\n");
    folder.file("spread.jsonl", "{\"a\":\n 1}\n{\"a\": 2} {\"a\": 3}\n");
    for (line, expected) in [
        (
            "bookings.jsonl --records 1000",
            &["bookings-1.jsonl", "bookings-2.jsonl", "bookings-3.jsonl"][..],
        ),
        ("sailings.csv --bytes 300", &["sailings-1.csv", "sailings-2.csv"]),
        (
            "timetable.json --at $.routes[*] --by $.id --quiet",
            &["R1.json", "R2.json", "R3.json", "R4.json"],
        ),
        ("manifest.xml --at $.manifest.vessel[*] --by $.@id", &["SKUA.xml", "HERON.xml"]),
        ("d.yaml --records 2", &["d-1.yaml", "d-2.yaml"]),
        ("d.yaml --where $.b", &["d-1.yaml"]),
        ("spread.jsonl --records 2", &["spread-1.jsonl", "spread-2.jsonl"]),
        (
            "sailings.csv --by $.vessel --name '{lower(replace(key, \" \", \"-\"))}-{no}.{ext}'",
            &[
                "grey-heron-2.csv",
                "little-auk-3.csv",
                "arctic-skua-1.csv",
                "storm-petrel-5.csv",
                "sandwich-tern-4.csv",
            ],
        ),
    ] {
        let _ = std::fs::remove_dir_all(folder.path().join("parts"));
        assert_says(&folder, &format!("split {line} --into parts"), 0, "");
        assert_eq!(names(&folder, "parts"), expected, "{line}");
    }
}

/// Parts stand alone, and together hold what was there.
#[test]
fn parts_join_back() {
    let folder = Folder::with_demo();
    let list = run(&folder, "convert bookings.jsonl --to json", "").out;
    folder.file("list.json", &list);
    folder.file("wrapped.json", format!("{{\"page\": 1, \"all\": {list}}}"));
    let mut large: String = (0..9)
        .map(|_| list.trim_end().trim_end_matches(']').trim_start_matches('[').to_owned() + ",")
        .collect();
    let documents = run(&folder, "query $[*] bookings.jsonl --to yaml", "").out;
    let documents: String = documents
        .lines()
        .map(|line| match line.strip_prefix("- ") {
            Some(line) => format!("---\n  {line}\n"),
            None => format!("{line}\n"),
        })
        .collect();
    folder.file("all.yaml", &documents);
    large = format!("[{} {{}}]", large);
    folder.file("large.json", &large);
    // So large that it is taken item by item.
    assert!(large.len() > 8 * 1024 * 1024, "{}", large.len());
    for (file, options, joined, whole) in [
        (
            "bookings.jsonl",
            "--records 700",
            "convert FILES --to jsonl",
            "convert bookings.jsonl --to jsonl",
        ),
        (
            "bookings.jsonl",
            "--bytes 50kB",
            "convert FILES --to jsonl",
            "convert bookings.jsonl --to jsonl",
        ),
        (
            "list.json",
            "--records 999",
            "query $[*] FILES --to jsonl",
            "query $[*] list.json --to jsonl",
        ),
        (
            "large.json",
            "--bytes 1MB",
            "query $[*] FILES --to jsonl",
            "query $[*] large.json --to jsonl",
        ),
        (
            "wrapped.json",
            "--at $.all[*] --records 999 --quiet",
            "query $[*] FILES --to jsonl",
            "query $.all[*] wrapped.json --to jsonl",
        ),
        (
            "tickets.csv",
            "--records 5",
            "convert FILES --to jsonl",
            "convert tickets.csv --to jsonl",
        ),
        ("all.yaml", "--records 999", "convert FILES --to jsonl", "convert all.yaml --to jsonl"),
        (
            "manifest.xml",
            "--at $.manifest.vessel[*].deck[*].vehicle[*] --records 1 --quiet",
            "query //vehicle/@plate FILES --ignore-namespaces --to jsonl",
            "query //vehicle/@plate manifest.xml --ignore-namespaces --to jsonl",
        ),
    ] {
        let _ = std::fs::remove_dir_all(folder.path().join("parts"));
        assert_says(&folder, &format!("split {file} {options} --into parts"), 0, "");
        let files: Vec<String> =
            names(&folder, "parts").iter().map(|name| format!("parts/{name}")).collect();
        assert!(files.len() > 1, "{file} {options}");
        let joined = run(&folder, &joined.replace("FILES", &files.join(" ")), "");
        let whole = run(&folder, whole, "");
        assert_eq!((joined.status, joined.out), (0, whole.out), "{file} {options}: {}", joined.err);
    }
    // Where records stand on lines, parts are these lines.
    run(&folder, "split bookings.jsonl --records 100 --into same", "");
    let all: String = parts(&folder, "same").into_iter().map(|(_, text)| text).collect();
    assert_eq!(all, folder.read("bookings.jsonl"));
}

/// Thousands of parts, whose records come in turn.
#[test]
fn many_parts() {
    let folder = Folder::with_demo();
    let rows: String =
        (0..9000).map(|no| format!("{{\"no\": {no}, \"of\": {}}}\n", no % 3000)).collect();
    folder.file("rows.jsonl", rows);
    assert_says(&folder, "split rows.jsonl --by $.of --into parts --manifest parts.json", 0, "");
    let all = parts(&folder, "parts");
    assert_eq!(all.len(), 3000);
    assert!(all.iter().all(|(_, text)| text.lines().count() == 3));
    assert_says(&folder, "query sum($.parts[*].records) parts.json", 0, "9000");
    assert_says(&folder, "query '$.parts[?@.key == \"7\"].first' parts.json --compact", 0, "[8]");
}

#[test]
fn what_is_refused() {
    let folder = Folder::with_demo();
    folder.file("keys.jsonl", "{\"k\": \"a\"}\n{\"k\": \"../b\"}\n");
    folder.file("twins.jsonl", "{\"k\": \"a\"}\n{\"k\": \"A\"}\n");
    folder.file("lists.jsonl", "{\"k\": \"a\"}\n{\"k\": [1]}\n");
    folder.file("broken.jsonl", "{\"k\": 1}\n{\"k\": }\n");
    folder.file("broken.yaml", "a: 1\n---\nk: 1\n---\nc: [1\nd: 2\n");
    folder.file("keys.yaml", "k: 1\n...\n# two\n---\nk: {x: 1}\n");
    folder.file("cut.xml", "<a><b/><b>");
    for (line, status, expected) in [
        ("split bookings.jsonl --into parts", 2, "--records"),
        ("split bookings.jsonl --records 1 --bytes 5 --into parts", 2, "do not go together"),
        ("split bookings.jsonl --records 0 --into parts", 2, "0"),
        ("split bookings.jsonl --at $[*] --records 1 --into parts", 2, "is a stream of records"),
        ("split manifest.xml --records 1 --into parts", 2, "is split at a path"),
        (
            "split manifest.xml --at $.manifest.vesel[*] --records 1 --into parts",
            2,
            "leads to no records",
        ),
        ("split fleet.toml --records 1 --into parts", 2, "is not split"),
        (
            "split timetable.json --records 1 --into parts",
            2,
            "timetable.json is a map, and a list is split",
        ),
        (
            "split bookings.jsonl --by $.vehicle.kind --into parts",
            4,
            "the key of this record is nothing",
        ),
        ("split bookings.jsonl --by $.leg. --into parts", 2, "--by:1:7"),
        (
            "split lists.jsonl --by $.k --into parts",
            4,
            "the key of this record is a list\n  lists.jsonl:2:1",
        ),
        (
            "split keys.jsonl --by $.k --into parts",
            5,
            "the key `../b.jsonl` leads out of the folder\n  keys.jsonl:2:1",
        ),
        ("split twins.jsonl --by $.k --into parts", 5, "are one file"),
        (
            "split bookings.jsonl --records 1000 --name same --into parts",
            5,
            "the keys `same` and `same` are one file",
        ),
        ("split bookings.jsonl --records 1000 --name {stm}.json --into parts", 2, "stm"),
        ("split broken.jsonl --records 1 --into parts", 3, "broken.jsonl:2:7"),
        (
            "split pier-feed.xml --at $.feed.ship[*] --records 1 --into parts",
            3,
            "pier-feed.xml:1:35",
        ),
        ("split broken.yaml --records 1 --into parts", 3, "broken.yaml:6:1"),
        ("split keys.yaml --by $.k --into parts", 4, "keys.yaml:5:1"),
        ("split cut.xml --at $.a.b[*] --records 1 --into parts", 3, "cut.xml:1:11"),
        ("split missing.jsonl --records 1 --into parts", 3, "missing.jsonl"),
    ] {
        assert_says(&folder, line, status, expected);
        assert!(names(&folder, "parts").is_empty(), "{line} left something behind");
    }
    folder.file("empty.jsonl", "");
    folder.file("empty.json", "[]");
    for (line, expected) in [
        ("split empty.jsonl --records 1 --into parts", "empty.jsonl has no records"),
        ("split empty.json --records 1 --into parts", "empty.json has no records"),
    ] {
        assert_says(&folder, line, 0, expected);
    }
    // What is there goes only once all parts are there.
    folder.file("parts/a.jsonl", "kept\n");
    assert_says(&folder, "split keys.jsonl --by $.k --into parts", 5, "leads out of the folder");
    assert_eq!(parts(&folder, "parts"), [("a.jsonl".to_owned(), "kept\n".to_owned())]);
    assert_says(&folder, "split broken.jsonl --records 1 --into parts --lenient", 0, "skipped");
    assert_eq!(names(&folder, "parts"), ["a.jsonl", "broken-1.jsonl"]);
}

/// Nothing takes the place of what is read, or of a part.
#[test]
fn what_stays() {
    let folder = Folder::with_demo();
    folder.file("r.jsonl", "{\"a\":1}\n{\"a\":2}\n");
    let made = run(&folder, "split r.jsonl --records 1 --into q --manifest -", "");
    assert!(made.out.contains("\"r.jsonl\"") && !folder.path().join("-").exists());
    for (line, status, expected) in [
        ("split r.jsonl --records 1 --into . --name '{no}.jsonl' --manifest r.jsonl", 2, "r.jsonl"),
        ("split r.jsonl --records 9 --into . --name r.jsonl", 5, "the place of r.jsonl"),
        (
            "split r.jsonl --by $.a --into p --name p{no}.jsonl --manifest p/p2.jsonl",
            5,
            "p/p2.jsonl",
        ),
    ] {
        assert_says(&folder, line, status, expected);
        assert!(!folder.path().join("p").exists() && !folder.path().join("1.jsonl").exists());
        assert_eq!(folder.read("r.jsonl"), "{\"a\":1}\n{\"a\":2}\n", "{line}");
    }
}
