//! Where results go: files that are replaced or not, several at once, devices, links, signals.
#![cfg(unix)]
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

mod support;

use std::fs;
use std::path::PathBuf;
use std::process::{Command, Stdio};
use std::time::Duration;

use support::{Folder, PROGRAM, run};

/// All files and folders below, hidden ones too, with what is in them.
fn tree(folder: &Folder, below: &str) -> Vec<(String, String)> {
    let root = folder.path().join(below);
    let (mut found, mut waiting) = (Vec::new(), vec![root.clone()]);
    while let Some(path) = waiting.pop() {
        for entry in fs::read_dir(&path).into_iter().flatten().flatten() {
            let name = entry.path().strip_prefix(&root).unwrap().display().to_string();
            if entry.path().is_dir() {
                waiting.push(entry.path());
                found.push((name + "/", String::new()));
            } else {
                found.push((name, fs::read_to_string(entry.path()).unwrap_or_default()));
            }
        }
    }
    found.sort();
    found
}

/// All files or none, and nothing that was there before is touched by a run that fails.
#[test]
fn apart_is_all_or_none() {
    let folder = Folder::with_demo();
    fs::create_dir_all(folder.path().join("parts/sub")).unwrap();
    folder
        .file("parts/a.json", "before")
        .file("parts/sub/b.json", "before")
        .file("parts/plain", "a file");
    let before = tree(&folder, "parts");
    let long = "x".repeat(300);
    for (rule, said) in [
        (
            "{\"a.json\": 1, \"new/c.json\": 2, \"A.json\": 3}",
            "the keys `a.json` and `A.json` are one file",
        ),
        ("{\"a.json\": 1, \"Sub/b.json\": 2, \"sub/B.json\": 3}", "are one file"),
        ("{\"c.json\": 1, \"c.json/d.json\": 2}", "or one is in the other"),
        ("{\"d/c.json/e.json\": 1, \"d/c.json\": 2}", "or one is in the other"),
        ("{\"a.json\": 1, \"\": 2}", "cannot be the name of a file"),
        ("{\"a.json\": 1, \"n\\u0000.json\": 2}", "cannot be the name of a file"),
        ("{\"a.json\": 1, \"../b.json\": 2}", "leads out of the folder"),
        ("{\"a.json\": 1, \"/b.json\": 2}", "leads out of the folder"),
        (&*format!("{{\"a.json\": 1, \"{long}.json\": 2}}"), "is too long for the name of a file"),
        ("{\"a.json\": 1, \"b\": 2}", "says no format"),
        ("{\"a.json\": 1, \"b.toml\": [1]}", "b.toml: a TOML document is a map"),
        ("{\"a.json\": 1, \"b.csv\": [{a: {b: 1}}]}", "b.csv: the column `a` has a map"),
        // What is found only when files go to their places: the ones before go back.
        ("{\"a.json\": 1, \"new/deep/c.json\": 2, \"plain/d.json\": 3}", "cannot be written"),
        ("{\"a.json\": 1, \"b.json\": error(\"no\")}", "error(): no"),
        ("[1]", "only the members of a map become files"),
    ] {
        folder.file("r.kyr", rule);
        for to in ["parts", "not/there"] {
            let ran = run(&folder, &format!("reshape r.kyr --apart {to}"), "");
            let is_late = rule.contains("plain") && to != "parts";
            assert_eq!(ran.status == 0, is_late, "{rule}: {}", ran.err);
            assert!(is_late || ran.err.contains(said), "{rule}: {}", ran.err);
            if is_late {
                fs::remove_dir_all(folder.path().join("not")).unwrap();
            }
            assert!(!folder.path().join("not").exists(), "{rule}");
        }
        assert_eq!(tree(&folder, "parts"), before, "{rule}");
    }
    folder.file(
        "r.kyr",
        "{\"a.json\": 1, \"new/c.yaml\": {x: [1]}, \"t.csv\": [{n: null}], \"u.csv\": [{n: null}]}",
    );
    let ran = run(&folder, "reshape r.kyr --apart parts -v", "");
    assert_eq!(ran.status, 0, "{}", ran.err);
    assert!(
        ran.err.contains("4 files were written") && ran.err.contains("could not carry 2 nulls"),
        "{}",
        ran.err
    );
    let after = tree(&folder, "parts");
    assert!(
        after.contains(&("a.json".into(), "1\n".into()))
            && after.contains(&("new/c.yaml".into(), "x:\n  - 1\n".into()))
    );
    assert!(!after.iter().any(|(name, _)| name.contains(".part")), "{after:?}");
    let ran = run(&folder, "reshape r.kyr --apart parts --strict", "");
    assert!(ran.status == 5 && ran.err.contains("this is lost: null"), "{}", ran.err);
    assert_eq!(tree(&folder, "parts"), after);
}

/// Where outputs go that are no plain files.
#[test]
fn devices_links_and_standard_output() {
    let folder = Folder::with_demo();
    let at = |name: &str| folder.path().join(name);
    fs::create_dir(at("far")).unwrap();
    std::os::unix::fs::symlink("far/there.json", at("link.json")).unwrap();
    std::os::unix::fs::symlink("link.json", at("other.json")).unwrap();
    let ran = run(&folder, "query 1 -o other.json", "");
    assert_eq!(
        (ran.status, fs::read_to_string(at("far/there.json")).unwrap().as_str()),
        (0, "1\n"),
        "{}",
        ran.err
    );
    assert!(at("link.json").is_symlink() && at("other.json").is_symlink());
    assert_eq!(run(&folder, "query 2 -o link.json", "").status, 0);
    assert_eq!(fs::read_to_string(at("far/there.json")).unwrap(), "2\n");
    std::os::unix::fs::symlink("nowhere/x.json", at("lost.json")).unwrap();
    let ran = run(&folder, "query 1 -o lost.json", "");
    assert!(
        ran.status == 5 && ran.err.contains("the folder of lost.json is not there"),
        "{}",
        ran.err
    );
    let ran = run(&folder, "query 1 -o -", "");
    assert_eq!((ran.status, ran.out.as_str(), at("-").exists()), (0, "1\n", false));
    if PathBuf::from("/dev/full").exists() {
        folder.file("no.json", "{\"not\": {}}");
        for line in [
            "query 1 -o /dev/full",
            "query $[*] bookings.jsonl -o /dev/full",
            "validate --schema no.json timetable.json --report json=/dev/full",
            "query $ notices.xml --to xml --ensure schemas/notices.xsd -o /dev/full",
            "query $[*] bookings.jsonl --to jsonl --ensure no.json --skip-invalid /dev/full",
        ] {
            let ran = run(&folder, line, "");
            assert!(
                ran.status == 5 && ran.err.contains("/dev/full cannot be written"),
                "{}",
                ran.err
            );
        }
    }
    for (line, status) in [
        ("$0 query 1 >&-", 5),
        ("$0 query '$[*]' bookings.jsonl --to jsonl >&-", 5),
        ("$0 validate --schema schemas/booking.json timetable.json >&-", 5),
        ("$0 query 1 -o x.json >&-", 0),
        ("$0 query 1 > /dev/null", 0),
        ("$0 query 1 <> /dev/null >&0", 0),
    ] {
        let ran = folder.run_command(Command::new("sh").args(["-c", line, PROGRAM]), b"");
        let is_told = ran.err.contains("standard output cannot be written: it is closed");
        assert_eq!((ran.status, is_told), (status, status == 5), "{line}: {}", ran.err);
    }
    for (line, said) in [
        (
            "query $[*] ports.csv --to csv --columns code,name,code",
            "the column `code` is named twice",
        ),
        ("query 'output csv {columns: [\"a\", \"a\"]}; [{a: 1}]'", "the column `a` is named twice"),
        ("query 'for i in [1] window 0 return i'", "`window` is a number of tuples, at least 1"),
        (
            "query 'for i in [1] window 2 step 0 return i'",
            "`step` is a number of tuples, at least 1",
        ),
        (
            "query 'let n = 0 for i in [1] window n return i'",
            "`n` is 0, and a window moves by at least 1 tuple",
        ),
    ] {
        let ran = run(&folder, line, "");
        assert!(ran.status != 0 && ran.err.contains(said), "{line}: {}", ran.err);
    }
}

/// One large document goes on its way while it is made, and a run that fails says so; a file is as it was then.
#[test]
fn large_documents_go_on_as_they_are_made() {
    let folder = Folder::with_demo();
    folder.file("out.xml", "before");
    folder.file("r.kyr", "{rows: for i in range(0, 200000) return {i}, last: {\"no name\": 1}}\n");
    let ran = run(&folder, "reshape r.kyr --to xml", "");
    assert!(
        ran.status == 5 && ran.err.contains("`no name` cannot be a name in XML"),
        "{}",
        ran.err
    );
    assert!(ran.out.len() > 1_000_000 && !ran.out.contains("last"));
    let ran = run(&folder, "reshape r.kyr -o out.xml", "");
    assert_eq!((ran.status, tree(&folder, "").iter().any(|(_, text)| text == "before")), (5, true));
    for format in ["json", "yaml", "xml"] {
        let whole = run(
            &folder,
            &format!("query 'for i in range(0, 30000) return {{i, t: [i]}}' --to {format}"),
            "",
        );
        let rule = "query 'let all = for i in range(0, 30000) return {i, t: [i]} return all'";
        let as_one = run(&folder, &format!("{rule} --to {format}"), "");
        assert!(whole.out == as_one.out && whole.out.len() > 300_000, "{format}");
    }
}

/// A run that is told to end takes what is not complete with it.
#[test]
fn a_signal_leaves_nothing_behind() {
    let folder = Folder::with_demo();
    folder.file("out.json", "\"before\"\n");
    for signal in ["INT", "TERM", "HUP"] {
        let mut child = Command::new(PROGRAM)
            .args(["convert", "-", "-f", "jsonl", "-o", "out.json"])
            .current_dir(folder.path())
            .stdin(Stdio::piped())
            .spawn()
            .unwrap();
        // Held open: at an end of its input the program would finish its work.
        let _input = child.stdin.take();
        let is_part = |(name, _): &(String, String)| name.ends_with(".part");
        while !tree(&folder, "").iter().any(is_part) {
            std::thread::sleep(Duration::from_millis(2));
        }
        // The handler is set before the file is made.
        let kill =
            Command::new("kill").args([format!("-{signal}"), child.id().to_string()]).status();
        assert!(kill.unwrap().success());
        let status = child.wait().unwrap();
        assert!(!status.success());
        assert!(!tree(&folder, "").iter().any(is_part), "{signal}");
        assert_eq!(fs::read_to_string(folder.path().join("out.json")).unwrap(), "\"before\"\n");
    }
}

/// What JSON cannot carry of values that a rule decodes is counted in all records, far into a stream as well.
#[test]
fn losses_are_counted_to_the_end() {
    let folder = Folder::with_demo();
    let record = |no: u32| format!("{{\"no\":{},\"log\":\"wind: .inf\"}}\n", no * 7_919 % 8_000);
    folder.file("logs.jsonl", (0..8_000).map(record).collect::<String>());
    for rule in [
        "for l in $[*] return {log: decode(\"yaml\", l.log)}",
        "for l in $[*] order by l.no return {log: decode(\"yaml\", l.log)}",
        "for l in $[*] order by l.no return decode(\"yaml\", l.log)",
    ] {
        for format in ["json", "jsonl"] {
            let ran =
                run(&folder, &format!("query '{rule}' logs.jsonl --to {format} --threads 2"), "");
            let expected = format!("{format} could not carry 8000 numbers that are not finite");
            assert!(ran.status == 0 && ran.err.contains(&expected), "{rule}: {}", ran.err);
        }
    }
}
