//! `kyanite survey`.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that fails may panic")]

mod support;

use serde_json::Value;
use support::{Folder, Ran, assert_says, dom_of, run};

fn report(folder: &Folder, line: &str) -> Value {
    let ran = run(folder, &format!("survey {line} --report json"), "");
    assert_eq!(ran.status, 0, "{}", ran.err);
    serde_json::from_str(&ran.out).unwrap()
}

fn path<'r>(report: &'r Value, path: &str) -> &'r Value {
    let paths = report["paths"].as_array().unwrap();
    paths.iter().find(|one| one["path"] == path).unwrap_or_else(|| panic!("no {path} in {report}"))
}

/// What is said of the demo, whatever the format.
#[test]
fn what_is_in_the_demo() {
    let folder = Folder::with_demo();
    folder.file("mixed.jsonl", "{\"n\": 1}\n{\"n\": \"2\"}\n{\"n\": null}\n[]\n\"x\"\n");
    folder.file("odd.jsonl", "{\"a\": 1, \"a\": 2, \"t\": [1]}\n{\"a\": 1, \"t\": 1}\n");
    folder.file("empty.jsonl", "");
    folder.file("lists.json", "[[1, 2], [3]]");
    folder.file("broken.jsonl", "{\"a\": 1}\n{\"a\": }\n{\"a\": 3}\n");
    folder.file("deep.jsonl", format!("{}1{}\n", "[".repeat(600), "]".repeat(600)));
    for (line, status, expected) in [
        ("survey bookings.jsonl", 0, "2400 records in bookings.jsonl, 23 paths"),
        ("survey bookings.jsonl", 0, "$[*].vehicle.kind      ━━━╸"),
        ("survey bookings.jsonl", 0, "1418     59 %  $[?@.seats]"),
        ("survey bookings.jsonl", 0, " 982     41 %  $[?@.vehicle]"),
        ("survey bookings.jsonl", 0, "could be keys\n$[*].id"),
        ("survey timetable.json", 0, "1 record in timetable.json, 22 paths"),
        (
            "survey timetable.json",
            0,
            "$.routes[*].sailings[*].berth            ━━━         40 %  null 50 %, text 50 %",
        ),
        ("survey timetable.json --at $.routes[*].sailings[*]", 0, "30 records"),
        ("survey manifest.xml --at $.manifest.vessel[*].deck[*].vehicle[*]", 0, "4 records"),
        ("survey manifest.xml --at $.manifest.vessel[*].deck[*].vehicle[*]", 0, "['m:weight']"),
        ("survey manifest.xml --at $.manifest.vesel[*]", 2, "leads to no records"),
        ("survey pier-feed.xml --at $.feed.ship[*]", 3, "pier-feed.xml:1:35"),
        ("survey pier-feed.xml --at $.feed.reading[*] --lenient", 0, "repaired"),
        (
            "survey timetable.json --at $.routes[*].vessels[*]",
            2,
            "$.routes[*].vessels[*] leads to no records",
        ),
        ("survey timetable.json --at routes", 2, "a path to records is made of names and [*]"),
        ("survey manifest.xml", 0, "$['m:manifest']['v:vessel'][*].@id"),
        ("survey manifest.xml", 0, "a list in 1 place, and a single value in 1 place"),
        ("survey pier-feed.xml", 3, "pier-feed.xml:1:35"),
        ("survey pier-feed.xml --lenient --quiet", 0, "$.feed.@station"),
        (
            "survey ports.yaml",
            0,
            "$.ports.skarv.opens     ━━━━━━━━   100 %  text    \"06:30\" · time",
        ),
        (
            "survey fleet.toml",
            0,
            "$.vessel[*].built           ━━━━━━━━   100 %  text    1998-05-04 to 2024-02-29",
        ),
        ("survey beacon.json", 0, "JSON in text in 1 of 1 texts"),
        ("survey beacon.json --unwrap", 0, "$.positions[*].vessel"),
        (
            "survey sailings.csv ports.csv",
            0,
            "$[*].port of sailings.csv holds $[*].code of ports.csv",
        ),
        ("survey mixed.jsonl", 0, "null 33 %, number 33 %, text 33 %"),
        ("survey odd.jsonl", 0, "the member `a` is given twice; the later value is taken"),
        ("survey odd.jsonl", 0, "$[*].t: a list in 1 place, and a single value in 1 place"),
        ("survey empty.jsonl", 0, "0 records in empty.jsonl, 0 paths"),
        ("survey lists.json", 0, "2 records in lists.json, 2 paths"),
        ("survey broken.jsonl", 3, "broken.jsonl:2:7"),
        ("survey broken.jsonl --lenient", 0, "2 records in broken.jsonl"),
        ("survey deep.jsonl", 3, "deep.jsonl:1:513"),
        ("survey bookings.jsonl -o out.txt --quiet", 0, ""),
        ("survey deep.jsonl --depth 700", 0, "1 record in deep.jsonl"),
        ("survey missing.json", 3, "missing.json"),
        (
            "survey bookings.jsonl --report text --report json",
            2,
            "several reports would go to standard output",
        ),
        ("survey bookings.jsonl --report htm", 2, "html"),
    ] {
        assert_says(&folder, line, status, expected);
    }
}

#[test]
fn for_programs() {
    let folder = Folder::with_demo();
    let found = report(&folder, "bookings.jsonl");
    assert_eq!(found["records"], 2400);
    let from = path(&found, "$[*].leg.from");
    assert_eq!(
        (&from["records"], &from["values"], &from["distinct"]),
        (&2400.into(), &2400.into(), &7.into())
    );
    assert_eq!(from["types"], serde_json::json!({"text": 2400}));
    assert_eq!(from["examples"][0], serde_json::json!({"value": "brim", "line": 1}));
    let seats: u64 =
        run(&folder, "query count($[*].seats[*]) bookings.jsonl", "").out.trim().parse().unwrap();
    assert_eq!(path(&found, "$[*].seats[*]")["values"], seats);
    let mean = run(&folder, "query avg($[*].fare.amount) bookings.jsonl", "").out;
    assert_eq!(path(&found, "$[*].fare.amount")["numbers"]["mean"].to_string(), mean.trim());
    // What may not be shown is nowhere.
    for form in ["text", "json", "html", "json-schema"] {
        let told =
            run(&folder, &format!("survey bookings.jsonl --no-examples --report {form}"), "").out;
        for value in ["Eilidh", "tarrow", "1199.15", "2026-02-01", "TB-100001"] {
            assert!(!told.contains(value), "{value} in {form}");
        }
    }
}

/// Records of five kinds, one of them rare, with members that come and go by themselves.
fn five_kinds(records: u32, with_name: bool) -> (String, [u64; 5]) {
    let (mut text, mut counts, mut state) = (String::new(), [0; 5], 1_u32);
    let mut dice = |sides: u32| {
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        (state >> 8) % sides
    };
    for no in 0..records {
        let kind = match dice(1000) {
            0 => 0,
            1..=199 => 1,
            200..=499 => 2,
            500..=599 => 3,
            _ => 4,
        };
        counts[kind] += 1;
        let name = ["lost", "arrival", "departure", "weather", "ticket"][kind];
        text.push_str(&format!("{{\"no\": {no}, \"port\": \"p{}\"", dice(5)));
        if with_name {
            text.push_str(&format!(", \"event\": \"{name}\""));
        }
        for (member, sides) in [("note", 3), ("by", 2), ("remark", 9)] {
            if dice(sides) == 0 {
                text.push_str(&format!(", \"{member}\": \"{}\"", dice(4)));
            }
        }
        text.push_str(match kind {
            0 => {
                ", \"vessel\": \"Skua\", \"depth\": 4.5, \"last\": {\"lat\": 1.5, \"lon\": 2.5}}\n"
            }
            1 => ", \"vessel\": \"Tern\", \"berth\": \"A1\", \"late\": true}\n",
            2 => ", \"vessel\": \"Auk\", \"to\": \"holm\", \"gate\": 4}\n",
            3 => ", \"wind\": 14, \"wave\": 2.5}\n",
            _ => ", \"fare\": 12, \"zone\": \"B\"}\n",
        });
    }
    counts.sort_unstable();
    (text, counts)
}

#[test]
fn kinds_of_records_are_parted_exactly() {
    let folder = Folder::with_demo();
    for with_name in [true, false] {
        let (text, counts) = five_kinds(60_000, with_name);
        folder.file("kinds.jsonl", text);
        let found = report(&folder, "kinds.jsonl");
        let kinds = found["kinds"].as_array().unwrap();
        let mut told: Vec<u64> =
            kinds.iter().map(|kind| kind["records"].as_u64().unwrap()).collect();
        told.sort_unstable();
        assert_eq!(told, counts, "{}", found["kinds"]);
        // Each filter finds its kind, and no record has two.
        let filters: Vec<&str> = kinds.iter().map(|kind| kind["where"].as_str().unwrap()).collect();
        for (filter, kind) in filters.iter().zip(kinds) {
            let count =
                folder.run(&["query", &format!("$[?{filter}]"), "kinds.jsonl", "--count"], b"");
            assert_eq!(count.out.trim(), kind["records"].to_string(), "{filter}");
        }
        let any =
            filters.iter().map(|filter| format!("({filter})")).collect::<Vec<_>>().join(" || ");
        let all = folder.run(&["query", &format!("$[?{any}]"), "kinds.jsonl", "--count"], b"");
        assert_eq!(all.out.trim(), "60000");
    }
}

/// The report is the same on any number of threads, and as lines or as one list.
#[test]
fn threads_and_layouts() {
    let folder = Folder::with_demo();
    let (text, _) = five_kinds(20_000, true);
    folder.file("k.jsonl", &text);
    // A record over several lines is met by the other way.
    folder.file("spread.jsonl", text.replacen(", \"port\"", ",\n\"port\"", 1) + "\n" + &text);
    let list = format!("[{}]", text.trim_end().replace('\n', ",\n"));
    folder.file("k.json", list.replacen("[", "[ ", 1));
    let of = |line: &str| run(&folder, line, "").out;
    // Each record is a document, and one is not as the others.
    let documents: String = text.lines().map(|line| format!("--- {line}\n")).collect();
    let (head, tail) = documents.split_at(documents.len() / 2);
    folder.file("k.yaml", format!("{head}\n--- {{id: 7, id: 8}}\n{tail}"));
    // Rows, and some with line ends in cells.
    let rows: String = (0..60_000).map(|no| format!("{no},ness,{}\n", no % 7)).collect();
    folder.file("k.csv", format!("no,port,berth\n{rows}"));
    let spread = rows.replacen("ness", "\"ness\nor uig\"", 1) + &rows.replace("ness", "\"a\nb\"");
    folder.file("spread.csv", format!("no,port,berth\n{spread}"));
    folder.file("twice.csv", format!("no,port,no\n{rows}"));
    for file in ["k.jsonl", "spread.jsonl", "k.json", "k.yaml", "k.csv", "spread.csv", "twice.csv"]
    {
        let one = of(&format!("survey {file} --threads 1 --report json"));
        for threads in [2, 3, 8] {
            assert_eq!(
                one,
                of(&format!("survey {file} --threads {threads} --report json")),
                "{file}"
            );
        }
    }
    // The same rows by events and as values.
    let by_values = of("survey k.csv --lenient --report json");
    assert_eq!(of("survey k.csv --report json"), by_values);
    let tail = |text: String| text.split_once('\n').unwrap().1.to_owned();
    assert_eq!(tail(of("survey k.jsonl")), tail(of("survey k.json")));
    let wrapped = format!("{{\"page\": 1, \"items\": {list}}}");
    folder.file("wrapped.json", wrapped);
    let inside = tail(of("survey wrapped.json --at $.items[*]")).replace("$.items[*]", "$[*]");
    let spaces = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ");
    assert_eq!(spaces(&inside), spaces(&tail(of("survey k.jsonl"))));
}

/// Past the memory that there is, rare members are taken together, and it is said.
#[test]
fn bounded_memory() {
    let folder = Folder::with_demo();
    let rows: String = (0..40_000)
        .map(|no| format!("{{\"id\": {no}, \"prices\": {{\"day{no}\": {no}, \"usual\": 1}}}}\n"))
        .collect();
    folder.file("wide.jsonl", rows);
    let found = report(&folder, "wide.jsonl --memory 2MB");
    assert_eq!(path(&found, "$[*].prices.usual")["records"], 40_000);
    let others = path(&found, "$[*].prices.*")["values"].as_u64().unwrap();
    let named = found["paths"].as_array().unwrap().iter();
    let named = named.filter(|one| one["path"].as_str().unwrap().contains(".day")).count() as u64;
    assert_eq!(others + named, 40_000);
    assert!(named < 5000, "{named}");
    assert!(found["remarks"].to_string().contains("rare names are taken together here"));
}

/// A page that is searched, with two thousand paths.
#[test]
fn as_a_page() {
    let folder = Folder::with_demo();
    let members: Vec<String> = (0..1999).map(|no| format!("\"member{no}\": {no}")).collect();
    folder.file("wide.jsonl", format!("{{{}}}\n{{}}\n", members.join(", ")));
    let ran: Ran = run(&folder, "survey wide.jsonl --report html=wide.html", "");
    assert_eq!((ran.status, ran.out.as_str()), (0, ""));
    let Some(dom) = dom_of(&folder, "wide.html") else { return };
    assert!(dom.contains("2000 of 2000"), "{dom:.2000}");
    let paths = dom.matches("<details").count();
    assert!((200..=1000).contains(&paths), "{paths} paths are in the page at once");
}

/// The data satisfies the schema that was inferred from it.
#[test]
fn schemas_of_what_is_there() {
    let folder = Folder::with_demo();
    for file in [
        "bookings.jsonl",
        "timetable.json",
        "manifest.xml",
        "ports.yaml",
        "fleet.toml",
        "tickets.csv",
        "berths.geojson",
    ] {
        let made = run(&folder, &format!("survey {file} --report json-schema=made.json"), "");
        assert_eq!(made.status, 0, "{}", made.err);
        assert_says(
            &folder,
            &format!("validate --schema made.json {file} --assert-formats"),
            0,
            "valid",
        );
        assert_says(&folder, "schema check made.json", 0, "");
    }
    folder.file("other.jsonl", "{\"id\": 5}\n");
    run(&folder, "survey bookings.jsonl --report json-schema=made.json", "");
    assert_says(
        &folder,
        "validate --schema made.json other.jsonl",
        1,
        "expected string, found the number 5",
    );
}

/// What came, went and moved.
#[test]
fn against_another() {
    let folder = Folder::with_demo();
    let rows = |count: u32, make: &dyn Fn(u32) -> String| (0..count).map(make).collect::<String>();
    folder.file(
        "old.jsonl",
        rows(200, &|no| format!("{{\"no\": {no}, \"by\": \"a\", \"gate\": 1}}\n")),
    );
    folder.file(
        "new.jsonl",
        rows(400, &|no| match no % 4 {
            0 => format!("{{\"no\": \"{no}\", \"gate\": 1, \"note\": null}}\n"),
            _ => format!("{{\"no\": {no}, \"gate\": 1}}\n"),
        }),
    );
    for (line, expected) in [
        (
            "survey old.jsonl --against old.jsonl",
            "old.jsonl (200 records) against old.jsonl (200 records): the same paths, types and shares",
        ),
        (
            "survey new.jsonl --against old.jsonl",
            "new.jsonl (400 records) against old.jsonl (200 records): 1 path came, 1 path went, 1 path moved",
        ),
        (
            "survey new.jsonl --against old.jsonl",
            "moved  $[*].no    100.0 %, number → 100.0 %, number 75.0 %, text 25.0 %",
        ),
        ("survey new.jsonl --against old.jsonl", "came   $[*].note  25.0 %, null"),
        ("survey new.jsonl --against old.jsonl", "went   $[*].by    100.0 %, text"),
        ("survey new.jsonl --against old.jsonl --report json", "\"change\": \"went\""),
        ("survey new.jsonl --against old.jsonl --report html", "What came, went and moved"),
    ] {
        assert_says(&folder, line, 0, expected);
    }
    assert_says(
        &folder,
        "survey new.jsonl --against old.jsonl --report json-schema",
        2,
        "a schema is one of one survey",
    );
}

/// Documents of XML satisfy the schema that was inferred from them.
#[test]
fn xml_schemas_of_what_is_there() {
    let folder = Folder::with_demo();
    folder.file("one.xml", "<f:fleet xmlns:f='urn:fleet' no='1'><f:vessel id='a'><f:seats>90</f:seats><f:built>1998-05-04</f:built><f:open>true</f:open></f:vessel><f:vessel id='b' flag='NO'><f:seats>070</f:seats><f:depth unit='m'>3.5</f:depth></f:vessel></f:fleet>");
    folder.file("two.xml", "<fleet xmlns='urn:fleet'><a>1.0</a><a>2e3</a><b/><b x='1'/><b x='2'>t</b><c>x<d/>y<a>5</a></c><e> 12 </e></fleet>");
    folder
        .file("three.xml", "<list><item>1</item></list>")
        .file("four.xml", "<list><item>x</item><item n='1'/><other/></list>");
    let manifest = folder.read("notices.xml");
    folder.file("notices2.xml", manifest);
    for files in
        ["one.xml", "two.xml", "three.xml four.xml", "notices.xml", "notices.xml notices2.xml"]
    {
        let made = run(&folder, &format!("survey {files} --report xsd=made.xsd"), "");
        assert_eq!(made.status, 0, "{files}: {}", made.err);
        assert_says(&folder, "schema check made.xsd", 0, "");
        assert_says(&folder, &format!("validate --schema made.xsd {files}"), 0, "valid");
    }
    run(&folder, "survey one.xml --report xsd=made.xsd", "");
    let made = folder.read("made.xsd");
    for part in [
        "targetNamespace=\"urn:fleet\"",
        "name=\"seats\" type=\"xs:integer\"",
        "name=\"built\" type=\"xs:date\"",
        "name=\"id\" type=\"xs:string\" use=\"required\"",
        "name=\"flag\" type=\"xs:string\"/>",
    ] {
        assert!(made.contains(part), "{part}: {made}");
    }
    folder.file("bad.xml", "<f:fleet xmlns:f='urn:fleet' no='1'><f:vessel><f:seats>many</f:seats></f:vessel></f:fleet>");
    assert_says(&folder, "validate --schema made.xsd bad.xml", 1, "2 findings");
    assert_says(&folder, "survey manifest.xml --report xsd", 2, "names are of several namespaces");
    assert_says(
        &folder,
        "survey bookings.jsonl --report xsd",
        2,
        "an XML Schema is one of whole documents of XML",
    );
}

/// Surveys of parts, told together: of ranges of a file, and of files of several formats.
#[test]
fn parts_of_a_survey() {
    let folder = Folder::with_demo();
    let made = |line: &str| assert_says(&folder, &format!("survey {line}"), 0, "");
    for (name, range) in [("a", "0-100kB"), ("b", "100kB-300kB"), ("c", "300kB-")] {
        made(&format!("bookings.jsonl --range {range} --partial -o {name}.state"));
    }
    let both = format!("{}{}", folder.read("c.state"), folder.read("a.state"));
    folder.file("both.state", both);
    for (states, whole) in
        [("c.state a.state b.state", "bookings.jsonl"), ("b.state both.state", "bookings.jsonl")]
    {
        let [mut joined, mut whole] =
            [format!("--combine {states}"), whole.to_owned()].map(|line| report(&folder, &line));
        // Estimates of parts are others.
        for report in [&mut joined, &mut whole] {
            for path in report["paths"].as_array_mut().unwrap() {
                let path = path.as_object_mut().unwrap();
                if path.get("frequent_error").is_some_and(|error| error != 0) {
                    path.retain(|name, _| !name.starts_with("frequent"));
                }
            }
        }
        assert_eq!(joined, whole);
    }
    for file in ["ports.csv", "tickets.csv", "manifest.xml"] {
        made(&format!("{file} --partial -o {file}.state"));
    }
    for (states, files) in [
        ("tickets.csv.state ports.csv.state", "ports.csv tickets.csv"),
        ("manifest.xml.state", "manifest.xml"),
        ("ports.csv.state manifest.xml.state", "manifest.xml ports.csv"),
    ] {
        assert_eq!(report(&folder, &format!("--combine {states}")), report(&folder, files));
    }
    made("manifest.xml --at $.manifest.vessel[*] --partial -o vessels.state");
    made("manifest.xml --at $.manifest.none[*] --partial -o none.state");
    let vessels = run(&folder, "survey --combine vessels.state", "");
    assert!(vessels.out.contains("$.manifest.vessel[*]['v:deck']"), "{}", vessels.out);

    let state = folder.read("a.state");
    folder.file("new.state", state.replacen("state\":1", "state\":2", 1));
    folder.file("cut.state", &state[..state.len() / 2]);
    folder.file("odd.state", state.replacen("\"parent\":0", "\"parent\":99", 2));
    folder.file("more.state", format!("{state}{{}}\n"));
    assert_says(&folder, "query count($[*]) bookings.jsonl --partial -o rule.state", 0, "");
    let no_state = "does not hold the state of a survey, or not a whole one\n  states are written by survey with --partial";
    for (line, status, expected) in [
        (
            "--combine a.state b.state a.state",
            2,
            "error: records would be counted twice: a.state is over bookings.jsonl from byte 0 on, part 0, and so is a.state",
        ),
        (
            "--combine a.state vessels.state",
            2,
            "error: the records of a.state and vessels.state were found with another --at or --drop-namespaces\n  survey all parts with the same",
        ),
        ("--combine none.state", 2, "$.manifest.none[*] leads to no records"),
        ("--combine c.state", 0, "records in bookings.jsonl from byte 300000, 23 paths"),
        ("--combine new.state", 3, "error: new.state is a survey's state of version 2 of kyanite "),
        ("--combine cut.state", 3, no_state),
        ("--combine odd.state", 3, no_state),
        ("--combine more.state", 3, no_state),
        ("--combine bookings.jsonl", 3, no_state),
        (
            "--combine rule.state",
            3,
            "error: rule.state is the state of a rule, and not of a survey\n  join it with kyanite combine",
        ),
        (
            "--combine a.state --from jsonl",
            2,
            "error: --combine and --from <FORMAT> do not go together",
        ),
        ("--combine a.state --threads 2", 2, "do not go together"),
        ("--combine", 2, "error: <INPUT>... is missing"),
        (
            "bookings.jsonl --partial --no-examples",
            2,
            "error: --partial and --no-examples do not go together",
        ),
        ("bookings.jsonl --part 2", 2, "error: --partial is missing"),
        ("timetable.json --range 0-10", 2, "a range is of a file of JSON Lines"),
        ("ports.csv tickets.csv --range 0-10", 2, "survey one input, without --at"),
        ("ports.csv --range 20-", 0, "in ports.csv from byte 20"),
    ] {
        assert_says(&folder, &format!("survey {line}"), status, expected);
    }
    assert_says(
        &folder,
        "combine a.state",
        3,
        "error: a.state is the state of a survey, and not of a rule\n  join it with kyanite survey --combine",
    );
}
