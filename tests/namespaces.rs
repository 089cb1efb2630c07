//! Names of elements through the built program: namespaces in rules, without them, and what is said of names that nothing has.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

mod support;

use support::{Folder, run};

#[test]
fn feeds_maps_of_sites_and_invoices_come_out_exactly() {
    let folder = Folder::with_demo();
    for (rule, out) in [
        (
            "namespace = \"http://www.w3.org/2005/Atom\"\nnamespace t = \"urn:tern-isles:times\"\noutput xml\n\
             element(\"feed\", {\"xml:lang\": \"en\"}, [element(\"title\", {}, \"Departures\"),\n\
             for r in $.routes[*] first 2 return element(\"entry\", {}, [element(\"id\", {}, f\"urn:route:{r.id}\"),\n\
             element(\"t:sailings\", {\"t:kind\": \"plan\", unit: \"min\"}, count(r.sailings[*]))])])",
            r#"<feed xml:lang="en" xmlns="http://www.w3.org/2005/Atom" xmlns:t="urn:tern-isles:times">
  <title>Departures</title>
  <entry>
    <id>urn:route:R1</id>
    <t:sailings t:kind="plan" unit="min">9</t:sailings>
  </entry>
  <entry>
    <id>urn:route:R2</id>
    <t:sailings t:kind="plan" unit="min">9</t:sailings>
  </entry>
</feed>
"#,
        ),
        (
            "output xml\nelement(\"urlset\", {xmlns: \"http://www.sitemaps.org/schemas/sitemap/0.9\"},\n\
             for r in $.routes[*] first 2 return element(\"url\", {}, element(\"loc\", {}, f\"https://tern.example/{r.id}\")))",
            r#"<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">
  <url>
    <loc>https://tern.example/R1</loc>
  </url>
  <url>
    <loc>https://tern.example/R2</loc>
  </url>
</urlset>
"#,
        ),
        (
            "namespace = \"urn:tern-isles:Invoice-2\"\nnamespace cac = \"urn:tern-isles:Aggregate-2\"\n\
             namespace cbc = \"urn:tern-isles:Basic-2\"\noutput xml\n\
             element(\"Invoice\", {}, [element(\"cbc:ID\", {}, $.issued),\n\
             element(\"cac:InvoiceLine\", {}, [element(\"cbc:ID\", {}, 1), element(\"cbc:Amount\", {currencyID: \"NOK\"}, 100)])])",
            r#"<Invoice xmlns="urn:tern-isles:Invoice-2" xmlns:cbc="urn:tern-isles:Basic-2" xmlns:cac="urn:tern-isles:Aggregate-2">
  <cbc:ID>2026-05-28T04:00:00Z</cbc:ID>
  <cac:InvoiceLine>
    <cbc:ID>1</cbc:ID>
    <cbc:Amount currencyID="NOK">100</cbc:Amount>
  </cac:InvoiceLine>
</Invoice>
"#,
        ),
        (
            "output xml\nif exists($.issued) then element(\"a\", {xmlns: \"u\"}, element(\"b\", {xmlns: \"u\"}, element(\"c\", {xmlns: \"\"})))",
            "<a xmlns=\"u\">\n  <b>\n    <c xmlns=\"\"/>\n  </b>\n</a>\n",
        ),
    ] {
        folder.file("made.kyr", rule);
        let ran = run(&folder, "reshape made.kyr timetable.json", "");
        let expected = format!("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n{out}");
        assert_eq!((ran.out.as_str(), ran.err.as_str()), (expected.as_str(), ""));
        folder.file("made.xml", &ran.out);
        let again = run(&folder, "convert made.xml --to xml", "");
        assert_eq!(again.out, ran.out);
    }
}

#[test]
fn what_is_copied_keeps_its_namespace() {
    let folder = Folder::with_demo();
    let text = "<m:a xmlns:m='u' xmlns:v='w' m:k='1'><v:b xmlns:v='x'>t</v:b><c/></m:a>\n";
    for (rule, out) in [
        (
            "element(name($.a), attributes($.a), content($.a))",
            r#"<m:a m:k="1" xmlns:m="u"><v:b xmlns:v="x">t</v:b><c/></m:a>"#,
        ),
        (
            "let e = $.a.b return element(name(e), attributes($.a), text(e))",
            r#"<v:b m:k="1" xmlns:v="x" xmlns:m="u">t</v:b>"#,
        ),
    ] {
        let ran = folder.run(&["query", rule, "--from", "xml", "--to", "xml"], text.as_bytes());
        let lines: String = ran.out.lines().skip(1).map(str::trim).collect();
        assert_eq!((lines.as_str(), ran.err.as_str()), (out, ""), "{rule}");
    }
}

const FEED: &str = "<feed xmlns=\"urn:a\" xmlns:m=\"urn:m\">\n<entry><title>One</title><m:title>Uno</m:title>\
                    <m:size m:k=\"1\" k=\"2\">4</m:size></entry>\n<entry><m:title>Due</m:title></entry>\n</feed>";

#[test]
fn names_without_namespaces_are_never_one_unsaid() {
    let folder = Folder::with_demo();
    folder.file("feed.xml", FEED);
    let one = r##"{"title":"One","m:title":"Uno","size":{"@m:k":"1","@k":"2","#text":"4"}}"##;
    let lost = "could not carry 3 names that two namespaces share";
    for line in [
        "query $.feed.entry[*] feed.xml --drop-namespaces --to jsonl",
        "query $..entry feed.xml --drop-namespaces --to jsonl",
    ] {
        let ran = run(&folder, line, "");
        assert_eq!(ran.out, format!("{one}\n{{\"m:title\":\"Due\"}}\n"), "{line}");
        assert!(ran.err.contains(lost), "{}", ran.err);
        let ran = run(&folder, &format!("{line} --strict"), "");
        assert_eq!(ran.status, 5, "{}", ran.err);
        assert!(ran.err.contains("feed.xml:2:26"), "{}", ran.err);
    }
    let ran = run(&folder, "convert feed.xml --drop-namespaces --to xml", "");
    assert!(ran.out.contains("<m:title xmlns:m=\"urn:m\">Uno</m:title><size "), "{}", ran.out);
    assert!(ran.err.contains(lost), "{}", ran.err);
    // Names that are not in the output are no loss.
    let ran = run(&folder, "query $.feed.entry[*].size feed.xml --drop-namespaces --compact", "");
    assert!(ran.err.contains("1 name that two namespaces share"), "{}", ran.err);
    // Which of the names has it does not depend on blocks, nor on threads.
    let entry = "<entry><title>a</title><x>1234567890</x></entry>\n";
    let other = "<entry><m:title>b</m:title><x>1234567890</x></entry>\n";
    let text = [
        "<feed xmlns='urn:a' xmlns:m='urn:m'>\n",
        &"<entry><x>1234567890</x></entry>\n".repeat(30_000),
        &entry.repeat(10),
        &other.repeat(20_000),
        &entry.repeat(20_000),
        "</feed>",
    ]
    .concat();
    folder.file("large.xml", text);
    for (threads, path) in [("1", "$.feed.entry[*]"), ("4", "$.feed.entry[*]"), ("1", "$..entry")] {
        let line =
            format!("query {path} large.xml --drop-namespaces --to jsonl --threads {threads}");
        let ran = run(&folder, &line, "");
        assert_eq!(ran.out.matches("\"title\":\"a\"").count(), 20_010);
        assert_eq!(ran.out.matches("\"m:title\":\"b\"").count(), 20_000);
        assert!(ran.err.contains("20000 names that two namespaces share"), "{}", ran.err);
    }
}

/// A path, a filter or a call that meets nothing says so, and what is there.
#[test]
fn no_nothing_is_silent() {
    let folder = Folder::with_demo();
    folder.file("feed.xml", FEED);
    for (rule, file, said) in [
        ("$..itm", "timetable.json", "no `itm` anywhere under $"),
        ("$..rutes", "timetable.json", "near: routes, in 1 of"),
        ("$..sailings[*].itm", "timetable.json", "no `itm` under $..sailings[*]"),
        ("$.routes[*]..itm", "timetable.json", "no `itm` anywhere under $.routes[*]"),
        ("$.*.itm", "timetable.json", "no `itm` under $.*"),
        (
            "$.routes[?@.name == 'nonesuch']",
            "timetable.json",
            "held for none of 4 nodes under $.routes",
        ),
        ("$..[?@.name == 'nonesuch']", "timetable.json", "held for none of"),
        ("$[?@.vessel == 'nonesuch']", "bookings.jsonl", "held for none of"),
        ("$.feed.entry[?@.size == '5']", "feed.xml", "held for none of 2 nodes under $.feed.entry"),
        (
            "for r in $.routes[*] return only(r, 'nme')",
            "timetable.json",
            "the member `nme`, which only() names, is in none of 4 maps",
        ),
        ("for r in $.routes[*] return without(r, 'nme')", "timetable.json", "near: name"),
        (
            "for r in $.routes[*] return rename(r, {nme: 'x'})",
            "timetable.json",
            "the member `nme`, which rename() names",
        ),
        ("$..entri", "feed.xml", "near: entry"),
        ("$.feed.item[*]", "feed.xml", "no `item` under $.feed"),
        (
            "namespace n = 'urn:n'; $..['n:entry']",
            "feed.xml",
            "entry is there, in the namespace urn:a",
        ),
        (
            "namespace n = 'urn:n'; $.feed['n:entry'][*]",
            "feed.xml",
            "entry is there, in the namespace urn:a",
        ),
        (
            "namespace n = 'urn:n'; $['n:feed'].entry[*]",
            "feed.xml",
            "feed is there, in the namespace urn:a",
        ),
        ("$.feed['n:entry'][*]", "feed.xml", "the rule's header says which one `n` is"),
        ("$..title", "feed.xml", "`..title` met elements of 2 namespaces: urn:a, urn:m"),
        (
            "$.feed.entry[*].title",
            "feed.xml",
            "`.title` met elements of 2 namespaces: urn:a, urn:m",
        ),
        ("$.feed.entry[0].title[*]", "feed.xml", "met elements of 2 namespaces"),
        // Also where they are far from each other.
        (
            "$..name",
            "manifest.xml",
            "`..name` met elements of 2 namespaces: urn:tern-isles:crew, urn:tern-isles:vessel",
        ),
    ] {
        let ran = folder.run(&["query", rule, file], b"");
        assert_eq!(ran.status, 0, "{rule}: {}", ran.err);
        assert!(ran.err.contains("warning: ") && ran.err.contains(said), "{rule}: {}", ran.err);
    }
    for (line, said) in [
        (
            "query $.routes[*] timetable.json --to csv --flatten --columns name,nosuch",
            "no row has the column `nosuch`",
        ),
        ("convert feed.xml --to json --list nosuch", "`nosuch` was to be a list, but no member"),
        ("convert feed.xml --to json --as-map nosuch", "`nosuch` was to be a map, but no member"),
    ] {
        let ran = run(&folder, line, "");
        assert!(ran.err.contains(said), "{line}: {}", ran.err);
    }
}

/// What an element has is what messages say of it.
#[test]
fn what_messages_offer_for_elements() {
    let folder = Folder::with_demo();
    let text = "<feed xmlns='urn:a' xmlns:p='urn:p' p:k='1'><title>Boats of <b>Ness</b></title><entry/><entry/></feed>";
    for (rule, said) in [
        ("$.feed.title['#text']", "write text($.feed.title)"),
        ("f\"{$.feed.title}\"", "`$.feed.title` has elements in it"),
        ("f\"{$.feed.title}\"", "write text($.feed.title) for all text in it"),
        ("for e in $.feed.entry return e", "<feed> has 2 <entry>, and one is meant"),
        ("$.feed.@p", "near: @k, in 1 of 1"),
    ] {
        let ran = folder.run(&["query", rule, "--from", "xml"], text.as_bytes());
        assert!(ran.err.contains(said), "{rule}: {}", ran.err);
    }
    let ran = run(&folder, "query 'decode(\"xml\", $.text)'", r#"{"text": "<a>&</a>"}"#);
    assert_eq!(ran.status, 4);
    assert!(ran.err.contains("a bare &") && !ran.err.contains("--lenient"), "{}", ran.err);
}

/// The record view of awkward elements: what is asked for is done, what is lost is counted.
#[test]
fn records_of_awkward_elements() {
    let folder = Folder::with_demo();
    folder.file("a.xml", "<a><b x='1'>t</b><b>u</b><c/><b>v</b></a>");
    folder.file("p.xml", "<p><b>Dear</b> <i>Ann</i></p>");
    let order = "json could not carry 1 order of children";
    let blank = "json could not carry 1 blank text between elements";
    let kinds = "`a.b` is a map where it has attributes or children, and a text elsewhere\n  say --as-map a.b";
    for (line, out, said) in [
        (
            "a.xml",
            r##"{"a":{"#content":[{"b":{"@x":"1","#text":"t"}},{"b":"u"},{"c":""},{"b":"v"}]}}"##,
            kinds,
        ),
        ("a.xml --list b", r##"{"a":{"b":[{"@x":"1","#text":"t"},"u","v"],"c":""}}"##, order),
        (
            "a.xml --list b --as-map b",
            r##"{"a":{"b":[{"@x":"1","#text":"t"},{"#text":"u"},{"#text":"v"}],"c":""}}"##,
            order,
        ),
        ("p.xml", r#"{"p":{"b":"Dear","i":"Ann"}}"#, blank),
    ] {
        let ran = run(&folder, &format!("convert --to json --compact {line}"), "");
        assert_eq!(ran.out.trim_end(), out, "{line}");
        assert!(ran.err.contains(said), "{line}: {}", ran.err);
        let ran = run(&folder, &format!("convert --to json --strict {line}"), "");
        assert_eq!(ran.status == 5, said != kinds, "{line}: {}", ran.err);
    }
    // From XML to XML texts are kept as they are; --indent lays elements out anew, but not beside text.
    folder.file("l.xml", "<a>\n    <b>x</b><c/> <d><e/></d>\n</a>");
    let head = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n";
    for (line, out) in [
        ("convert p.xml --to xml", "<p><b>Dear</b> <i>Ann</i></p>\n"),
        ("convert l.xml --to xml", "<a>\n    <b>x</b><c/> <d><e/></d>\n</a>\n"),
        ("query $.a.d l.xml --to xml", "<d><e/></d>\n"),
        (
            "query element('w',{},content($.a)) l.xml --to xml",
            "<w>\n    <b>x</b><c/> <d><e/></d>\n</w>\n",
        ),
        ("convert p.xml --to xml --indent 2", "<p><b>Dear</b> <i>Ann</i></p>\n"),
    ] {
        let ran = run(&folder, &line.replace('\'', "\""), "");
        assert_eq!(ran.out, format!("{head}{out}"), "{line}");
    }
    folder.file("l.xml", "<a>\n    <b>x</b><c/>\n<d><e/></d>\n</a>");
    let ran = run(&folder, "convert l.xml --to xml --indent 1", "");
    assert_eq!(ran.out, format!("{head}<a>\n <b>x</b>\n <c/>\n <d>\n  <e/>\n </d>\n</a>\n"),);
}
