//! XPath through the built program: over XML, over maps and lists, in rules, streamed; and what is said of it.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

mod support;

use std::fmt::Write;

use support::{Folder, run};

/// Command lines, what they print, and what is said.
fn check(folder: &Folder, cases: &[(&str, &str, &str)]) {
    for (line, out, said) in cases {
        let ran = run(folder, line, "");
        assert_eq!(ran.out, *out, "{line}\n{}", ran.err);
        let is_said = if said.is_empty() { ran.err.is_empty() } else { ran.err.contains(said) };
        assert!(is_said, "{line}\n{}", ran.err);
    }
}

#[test]
fn results_in_each_format() {
    let folder = Folder::with_demo();
    check(
        &folder,
        &[
            ("query '//v:deck[.//m:weight > 1000]' manifest.xml --count", "1\n", ""),
            (
                "query '//m:vehicle/@plate' manifest.xml --to text",
                "NX 20417\nNX 11862\n0088 AB\nHV 30055\n",
                "",
            ),
            (
                "query '//c:person[@rank=$r]' manifest.xml -p r=mate --compact",
                "[{\"@rank\":\"mate\",\"c:name\":\"Tor Aune\"}]\n",
                "",
            ),
            (
                "query '//m:remark' manifest.xml --to xml",
                "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<root>\n  <m:remark xmlns:m=\"urn:tern-isles:manifest\">Sails empty: quay at Holm under repair.</m:remark>\n</root>\n",
                "",
            ),
            ("query '//v:deck/@no = 2' manifest.xml", "true\n", ""),
            ("query 'count(//m:vehicle)' manifest.xml --syntax xpath", "4\n", ""),
            (
                "query 'sum(//m:weight) div 3' manifest.xml --syntax xpath-1.0",
                "6626.666666666667\n",
                "",
            ),
            (
                "query '?routes?*?name' timetable.json --syntax xpath --to text",
                "Ness - Skarvik\nNess - Lunde\nTarrow - Ness\nHolm - Eyre\n",
                "",
            ),
            (
                "query '?routes?2?id' timetable.json --syntax xpath --paths --to text",
                "?routes?2?id\n",
                "",
            ),
            ("query '?page?number' timetable.json --syntax xpath", "1\n", ""),
            ("query '1 + 1' --syntax xpath", "2\n", ""),
            (
                "query 'collection() ! name(/*)' manifest.xml notices.xml --syntax xpath --to text",
                "m:manifest\nnotices\n",
                "",
            ),
            (
                "query 'doc(\"notices.xml\")//title' manifest.xml notices.xml --syntax xpath --to text",
                "Dredging at the north pier\nQuay lights\nRegatta\n",
                "",
            ),
            ("query /routes/0/id timetable.json", "\"R1\"\n", ""),
        ],
    );
}

#[test]
fn what_is_said_of_expressions() {
    let folder = Folder::with_demo();
    folder.file("several.xml", "<a xmlns:p='urn:a'><p:b/><c xmlns:p='urn:b'><p:d/></c></a>");
    folder.file("default.xml", "<a xmlns='urn:a'><b>1</b></a>");
    check(
        &folder,
        &[
            (
                "query '//m:vehicel' manifest.xml --compact",
                "[]\n",
                "no `m:vehicel` anywhere under /\n  the expression:1:1\n      //m:vehicel\n      ^^^^^^^^^^^\n  near: m:vehicle, in 1 of 1",
            ),
            (
                "query '/manifest/vessel' manifest.xml --compact",
                "[]\n",
                "write /m:manifest/v:vessel, or match local names with --ignore-namespaces",
            ),
            // A prefix that only one of the inputs declares.
            (
                "query '//m:vehicle/@plate' several.xml manifest.xml --to text",
                "NX 20417\nNX 11862\n0088 AB\nHV 30055\n",
                "warning: nothing was looked for in several.xml: the prefix `m` is not declared",
            ),
            (
                "query '//m:vehicle' several.xml default.xml --to text",
                "",
                "; what it means is said with --namespace m=URI",
            ),
            ("query '/a/b' default.xml --compact", "[]\n", "say --namespace =urn:a"),
            ("query '/a/b' default.xml --compact --namespace =urn:a", "[\"1\"]\n", ""),
            ("query '/a/b' default.xml --compact --ignore-namespaces", "[\"1\"]\n", ""),
            (
                "query '//p:b' several.xml --compact --namespace p=urn:b",
                "[]\n",
                "b is there, in the namespace urn:a",
            ),
            (
                "query '//m:vehicle[m:weight > 100000]' manifest.xml --compact",
                "[]\n",
                "`[m:weight > 100000]` held for none of 4 nodes",
            ),
            (
                "query '//m:vehicle[m:wieght > 1]' manifest.xml --compact",
                "[]\n",
                "no `m:wieght` under //m:vehicle",
            ),
            (
                "query '//m:vehicle[@plat = 1]' manifest.xml --compact",
                "[]\n",
                "near: @plate, in 4 of 4",
            ),
            (
                "query '//m:vehicle[m:weight > 5]/@no' manifest.xml --compact",
                "[]\n",
                "there are: @kind, @plate, m:weight",
            ),
            (
                "query '//m:weight/m:vehicle' manifest.xml --compact",
                "[]\n",
                "what is there holds no elements",
            ),
            (
                "query '//m:vehicle/m:vehicle' manifest.xml --compact",
                "[]\n",
                "no `m:vehicle` under //m:vehicle\n",
            ),
            (
                "query '//m:weight/following-sibling::x' manifest.xml --compact",
                "[]\n",
                "`following-sibling::x` found nothing from //m:weight",
            ),
            (
                "query '?routes?*?nme' timetable.json --syntax xpath --compact",
                "[]\n",
                "near: name, in 4 of 4",
            ),
            (
                "query '//x:a' manifest.xml",
                "",
                "the prefix `x` is not declared at the root of the document (XPST0081)",
            ),
            (
                "query '//a[' manifest.xml",
                "",
                "the expression ends where an expression is expected (XPST0003)",
            ),
            ("query 'upper-cas(1)' --syntax xpath", "", "near: upper-case"),
            (
                "query 'upper-case(1)' --syntax xpath",
                "",
                "the argument text of upper-case() is an xs:integer, and an xs:string is meant (XPTY0004)",
            ),
            (
                "query '//m:weight + 1' manifest.xml",
                "",
                "the left side is 3 items, and one is meant (XPTY0004)",
            ),
            (
                "query '//a' manifest.xml timetable.json --to jsonl",
                "",
                "say --syntax xpath or --syntax pointer",
            ),
            (
                "query 'count(//m:vehicle)' manifest.xml",
                "",
                "to have it read so, say --syntax xpath",
            ),
            ("query '$x' manifest.xml --syntax xpath", "", "give it a value with --param x=…"),
            ("query '1' --syntax xpath -p x=1", "", "the expression has no variable $x"),
            ("query '$.a' timetable.json --namespace p=u", "", "say --syntax xpath"),
            (
                "query '/routes' timetable.json --syntax xpath",
                "",
                "step into maps and arrays with `?`",
            ),
        ],
    );
}

#[test]
fn texts_that_look_like_numbers_are_told_about() {
    let folder = Folder::with_demo();
    folder.file("w.xml", "<a><b n='9' m='10'/></a>");
    for path in ["/a/b[@n < @m]", "/a/b[@n < \"10\"]"] {
        let ran = run(&folder, &format!("query '{path}' w.xml --compact"), "");
        assert!(
            ran.err.contains("write number(…) around one of them to compare numbers"),
            "{path} {}",
            ran.err
        );
    }
}

/// A document of `vessels`, more than one block, in which some elements of one name are inside each other.
fn fleet(vessels: usize) -> String {
    let mut text = String::from("<f:fleet xmlns:f=\"urn:f\">\n");
    for vessel in 0..vessels {
        write!(
            text,
            "  <f:vessel id=\"V{vessel}\"><f:hold no=\"1\"><f:load>{}</f:load>",
            vessel % 97
        )
        .unwrap();
        if vessel % 5 == 0 {
            write!(text, "<f:hold no=\"2\"><f:load>{}</f:load></f:hold>", vessel % 89).unwrap();
        }
        write!(text, "</f:hold><f:name>Tern {vessel}</f:name></f:vessel>").unwrap();
        text.push('\n');
    }
    text.push_str("</f:fleet>\n");
    text
}

/// What streams gives just what the held document gives, on one thread and on several.
#[test]
fn streamed_as_held() {
    let folder = Folder::with_demo();
    folder.file("fleet.xml", fleet(5_000));
    for path in [
        "//f:hold[f:load > 90]/@no",
        "//f:hold[f:load > 90]",
        "/f:fleet/f:vessel[f:hold/f:load = 7]/@id",
        "/f:fleet/f:vessel/f:hold[@no = 1][.//f:load > 85]/f:load",
        "//f:hold/f:hold/f:load",
        "/f:fleet//f:load[. = 3]",
        "//f:hold[not(f:hold)][f:load = 5]/string(f:load)",
        // What is needed of vessels, and the rest of them is stepped over.
        "/f:fleet/f:vessel[f:hold/f:hold]/f:name",
        "/f:fleet/f:vessel[count(f:hold/f:hold/f:load) = 1][f:hold/f:load < 9]/@id",
        "/f:fleet/f:vessel[if (f:hold/f:load > 90) then ends-with(f:name, \"1\") else not(f:hold)]",
        "/f:fleet/f:vessel[contains(f:name, \"7\") and f:hold[f:hold]]/f:hold/f:load",
        "/f:fleet/f:vessel[*[2] = \"Tern 1000\" or f:hold/f:load = 4]/f:hold/@no",
        "/f:fleet/f:vessel[ends-with(., \"77\")]/f:name",
        "/f:fleet/f:vessel[f:hold/f:load[. > 95]]/(f:name || @id)",
        // Attributes and names of elements around.
        "//f:load[. > 90][../@no = 1]",
        "//f:hold[ancestor::f:vessel[ends-with(@id, \"7\")]][count(ancestor::*) = 2]/f:load",
        "//f:load[../../@no = 1 or name(..) = name(../..)]",
        "/f:fleet/f:vessel/f:hold[f:load = 7]/(../@id || \" \" || @no)",
    ] {
        let explained = run(&folder, &format!("query '{path}' fleet.xml --explain"), "").out;
        assert!(explained.contains("one by one"), "{path}: {explained}");
        // What is no path holds the document.
        let held = format!("query 'let $all := {path} return $all' fleet.xml --syntax xpath");
        assert!(run(&folder, &format!("{held} --explain"), "").out.contains("held in memory"));
        let held = run(&folder, &format!("{held} --to jsonl"), "");
        assert!(held.err.is_empty() && held.out.lines().count() > 20, "{path}: {}", held.err);
        for threads in [1, 3] {
            let line = format!("query '{path}' fleet.xml --to jsonl --threads {threads}");
            assert_eq!(run(&folder, &line, "").out, held.out, "{path} {threads}");
        }
        let count =
            run(&folder, &format!("query 'count({path})' fleet.xml --syntax xpath"), "").out;
        assert_eq!(count.trim(), held.out.lines().count().to_string(), "{path}");
    }
    // Names that stood where nothing was found are there whatever is stepped over; what is piped is not read again.
    let fleet = fleet(5_000);
    for (path, near) in [
        ("/f:fleet/f:vessel[f:hold/f:laod > 1]/@id", "near: f:load, in 5000 of 5000"),
        ("/f:fleet/f:vessel[f:name = \"Tern 4700\"]/f:hodl", "near: f:hold, in 1 of 1"),
    ] {
        for threads in [1, 3] {
            let line = format!("query '{path}' - --compact --threads {threads}");
            let ran = run(&folder, &line, &fleet);
            assert!(ran.out == "[]\n" && ran.err.contains(near), "{path}: {}", ran.err);
        }
    }
    let failed = run(&folder, "query '//f:vessel[@id + 1 = 3]' fleet.xml", "");
    assert!(failed.status == 4 && failed.err.contains("fleet.xml:2:"), "{}", failed.err);
}

#[test]
fn in_rules() {
    let folder = Folder::with_demo();
    folder.file(
        "heavy.kyr",
        "namespace m = \"urn:tern-isles:manifest\"\nparam least: number = 1000\noutput text\n\
         for v in xpath($, \"//m:vehicle[m:weight > $least]\")\nlet kg = xpath(v, \"number(m:weight)\")\n\
         return f\"{v.@plate} {kg}\"\n",
    );
    check(
        &folder,
        &[
            ("reshape heavy.kyr manifest.xml", "NX 20417 18200\nNX 11862 1450\n", ""),
            ("reshape heavy.kyr manifest.xml -p least=2000", "NX 20417 18200\n", ""),
            (
                "query 'for r in $.routes[*] return xpath(r, \"count(?sailings?*)\")' timetable.json --compact",
                "[9,9,9,3]\n",
                "",
            ),
            ("query 'xpath($.routes[0], \"?sailings?1?id\")' timetable.json", "\"S-0101\"\n", ""),
            ("query 'xpath($.nothing, \"?a\")' timetable.json", "null\n", "no `nothing`"),
            ("query 'xpath($, \"//vehicl\")' manifest.xml", "[]\n", "near: m:vehicle, in 1 of 1"),
            ("query 'xpath($, \"//x[\")' manifest.xml", "", "the expression:1:15"),
            ("query 'xpath($, \"$y\")' manifest.xml", "", "the variable $y is not known"),
            ("query 'xpath($, $.x)' manifest.xml", "", "a text in quotes"),
        ],
    );
}

/// Paths of places select just the node that they are the place of.
#[test]
fn places_lead_back() {
    let folder = Folder::with_demo();
    for (file, all, syntax) in [
        ("manifest.xml", "//node() | //@*", "xpath"),
        ("notices.xml", "//node() | //@*", "xpath"),
        ("timetable.json", "?routes?*?sailings?*?legs?*?from", "xpath"),
    ] {
        let places =
            run(&folder, &format!("query '{all}' {file} --syntax {syntax} --paths --to text"), "");
        let places: Vec<&str> = places.out.lines().collect();
        assert!(places.len() > 20);
        for place in places.iter().step_by(7) {
            let line = format!("query \"{place}\" {file} --syntax {syntax} --paths --to text");
            let again = folder
                .run(&["query", place, file, "--syntax", syntax, "--paths", "--to", "text"], b"");
            assert_eq!(again.out.trim_end(), *place, "{line}\n{}", again.err);
        }
    }
}
