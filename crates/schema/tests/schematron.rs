//! What Schematron rules say of documents, and what is said of schemas that are none, element by element.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that fails may panic")]

use kyanite_formats::xml;
use kyanite_schema::Problem;
use kyanite_schema::schematron::{Documents, Found, Run, Schema};
use kyanite_tree::{Arena, Nodes, Value};
use kyanite_xpath::{Item, Store};

struct Files<'f, 'a> {
    arena: &'a Arena,
    files: &'f [(&'f str, &'f str)],
}

fn read<'a>(arena: &'a Arena, text: &str) -> Value<'a> {
    match xml::document(arena.text(text), arena, xml::Options::default()) {
        Ok(document) => document.value(),
        Err(error) => panic!("{}: {text}", error.message()),
    }
}

impl<'a> Documents<'a> for Files<'_, 'a> {
    fn find(&mut self, href: &str, _: &str) -> Result<Option<(String, Value<'a>)>, Problem> {
        let found = self.files.iter().find(|(name, _)| *name == href);
        Ok(found.map(|(name, text)| ((*name).to_owned(), read(self.arena, &named(text)))))
    }
}

/// A document of Schematron: its elements are in that namespace.
fn named(text: &str) -> String {
    let end = text.find(['>', '/', ' ']).unwrap();
    format!("{} xmlns='http://purl.oclc.org/dsdl/schematron'{}", &text[..end], &text[end..])
}

/// Documents that a schema asks for.
struct Lists<'d>(Vec<(String, Item<'d>)>);

impl<'d> kyanite_xpath::Documents<'d> for Lists<'d> {
    fn named(&self, uri: &str) -> Option<Item<'d>> {
        self.0.iter().find(|(name, _)| uri.ends_with(name.as_str())).map(|(_, item)| item.clone())
    }

    fn names(&self) -> Vec<String> {
        self.0.iter().map(|(name, _)| name.clone()).collect()
    }

    fn all(&self) -> Vec<Item<'d>> {
        Vec::new()
    }

    fn uri_of(&self, _: kyanite_tree::Node<'d>) -> Option<String> {
        None
    }
}

/// What is found, each as `severity path: message (diagnostics)`; of a schema that is none the messages behind `!`.
fn found(
    (attributes, body): (&str, &str),
    phase: Option<&str>,
    files: &[(&str, &str)],
    document: &str,
) -> String {
    let arena = Arena::new();
    let schema = read(&arena, &named(&format!("<schema {attributes}>{body}</schema>")));
    let compiled =
        Schema::compile("file:///s.sch", schema, phase, &mut Files { arena: &arena, files });
    let schema = match compiled {
        Ok(schema) => schema,
        Err(problems) => {
            let all = problems.iter().map(|problem| match &problem.advice {
                Some(advice) => format!("!{} ({advice})", problem.message),
                None => format!("!{}", problem.message),
            });
            return all.collect::<Vec<_>>().join("\n");
        }
    };
    let store = Store::new(&arena);
    let keep = |text: &str| store.keep(Nodes::of(read(&arena, text)));
    let lists = files.iter().filter(|(name, _)| name.ends_with(".xml"));
    let lists =
        Lists(lists.map(|(name, text)| ((*name).to_owned(), Item::Node(keep(text)))).collect());
    let mut lines = Vec::new();
    Run::new(&schema, &store, &lists, None).check(keep(document), &mut |found| {
        if let Found::Told(told) = found {
            let advice = told.finding.advice.as_ref().map(|advice| format!(" ({advice})"));
            let (word, path) = (told.severity.word(), &told.location);
            lines.push(format!(
                "{word} {path}: {}{}",
                told.finding.message,
                advice.unwrap_or_default()
            ));
        }
    });
    lines.join("\n")
}

#[test]
fn elements_of_schemas() {
    for (body, document, expected) in [
        // assert and report, with name and value-of.
        (
            "<pattern><rule context='a'><assert test='b'>the <name/> has no b, but <value-of select='count(*)'/> others</assert></rule></pattern>",
            "<r><a><c/></a><a><b/></a></r>",
            "error /r[1]/a[1]: the a has no b, but 1 others",
        ),
        (
            "<pattern><rule context='a'><report test='@x' role='warning'>x is <emph>there</emph> on <name path='..'/></report></rule></pattern>",
            "<r><a x='1'/></r>",
            "warning /r[1]/a[1]: x is there on r",
        ),
        // Of several rules of a pattern the first that fits counts; of several patterns each.
        (
            "<pattern><rule context='a[b]'/><rule context='a'><assert test='false()'>one</assert></rule></pattern><pattern><rule context='a'><assert test='false()'>two</assert></rule></pattern>",
            "<r><a><b/></a><a/></r>",
            "error /r[1]/a[2]: one\nerror /r[1]/a[1]: two\nerror /r[1]/a[2]: two",
        ),
        // Contexts are patterns.
        (
            "<pattern><rule context='/ | b/@x | c/text()'><report test='true()'><value-of select='.'/></report></rule></pattern>",
            "<r><b x='1'/><c>t</c></r>",
            "error /: t\nerror /r[1]/b[1]/@x: 1\nerror /r[1]/c[1]/text()[1]: t",
        ),
        // Values, of the schema, a pattern and a rule.
        (
            "<let name='one' value='1'/><let name='text'>two words</let><pattern><let name='all' value='count(//a)'/><rule context='a'><let name='own' value='@n + $one'/><report test='$own &gt; $all'><value-of select='$own'/> of <value-of select='$all'/>, <value-of select='$text'/></report></rule></pattern>",
            "<r><a n='1'/><a n='5'/></r>",
            "error /r[1]/a[2]: 6 of 2, two words",
        ),
        // Namespaces.
        (
            "<ns prefix='p' uri='urn:p'/><pattern><rule context='p:a'><assert test='p:b'>no b</assert></rule></pattern>",
            "<a xmlns='urn:p'/>",
            "error /a[1]: no b",
        ),
        // Diagnostics, subjects, severities.
        (
            "<pattern><rule context='a'><assert test='b' diagnostics='d e' subject='..'>no b</assert></rule></pattern><diagnostics><diagnostic id='d'>there is <value-of select='name(*)'/></diagnostic><diagnostic id='e'>really</diagnostic></diagnostics>",
            "<r><a><c/></a></r>",
            "error /r[1]: no b (there is c; really)",
        ),
        (
            "<pattern><rule context='a' role='info'><assert test='b'>x</assert><assert test='b' role='fatal'>y</assert></rule></pattern>",
            "<a/>",
            "note /a[1]: x\nerror /a[1]: y",
        ),
        // Abstract rules and patterns.
        (
            "<pattern><rule abstract='true' id='base'><assert test='@id'>no id</assert></rule><rule context='a'><extends rule='base'/><assert test='@x'>no x</assert></rule></pattern>",
            "<a/>",
            "error /a[1]: no id\nerror /a[1]: no x",
        ),
        (
            "<pattern abstract='true' id='needs'><rule context='$what'><assert test='$child'>$what needs $child, not $children</assert></rule></pattern><pattern is-a='needs'><param name='what' value='a'/><param name='child' value='b'/></pattern>",
            "<a/>",
            "error /a[1]: a needs b, not $children",
        ),
        // An expression that fails is told at the node.
        (
            "<pattern><rule context='a'><assert test='concat(\"x\")'>x</assert></rule></pattern>",
            "<a/>",
            "!concat() does not take 1 argument (it is called as concat(value, value, …))",
        ),
        (
            "<pattern><rule context='a'><assert test='b/c'/></rule></pattern>",
            "<a/>",
            "error /a[1]: b/c",
        ),
    ] {
        assert_eq!(found(("", body), None, &[], document), expected, "{body}");
    }
}

#[test]
fn query_languages() {
    let body = |test: &str| {
        format!("<pattern><rule context='a'><assert test=\"{test}\">no</assert></rule></pattern>")
    };
    for (binding, test, expected) in [
        ("queryBinding='xslt'", "@x = '1.0'", "error /a[1]: no"),
        ("queryBinding='xslt'", "b = 2", ""),
        ("queryBinding='xslt2'", "matches(@x, '^\\d$')", ""),
        ("queryBinding='xslt2'", "every $b in b satisfies $b castable as xs:integer", ""),
        ("queryBinding='XPath31'", "(b => count()) = 2", ""),
        (
            "queryBinding='xslt'",
            "matches(@x, '1')",
            "!there is no function matches() (it is not in XPath 1.0; read the expression as XPath 3.1)",
        ),
        (
            "queryBinding='xpat2'",
            "b",
            "!the query language \"xpat2\" is not known (near: xpath, xpath2, xpath3)",
        ),
        ("queryBinding='xslt'", "current()/@x = 1 and b[. = current()/@x]", ""),
    ] {
        let said = found((binding, &body(test)), None, &[], "<a x='1'><b>1</b><b>2</b></a>");
        assert_eq!(said, expected, "{binding} {test}");
    }
}

#[test]
fn phases() {
    let body = "<phase id='quick'><let name='n' value='2'/><active pattern='one'/></phase>\
        <pattern id='one'><rule context='a'><assert test='false()'>one</assert></rule></pattern>\
        <pattern id='two'><rule context='a'><assert test='false()'>two</assert></rule></pattern>";
    for (attributes, phase, expected) in [
        ("", None, "error /a[1]: one\nerror /a[1]: two"),
        ("", Some("quick"), "error /a[1]: one"),
        ("defaultPhase='quick'", None, "error /a[1]: one"),
        ("defaultPhase='quick'", Some("#DEFAULT"), "error /a[1]: one"),
        ("defaultPhase='quick'", Some("#ALL"), "error /a[1]: one\nerror /a[1]: two"),
        ("", Some("quik"), "!the schema has no phase \"quik\" (near: quick)"),
    ] {
        assert_eq!(
            found((attributes, body), phase, &[], "<a/>"),
            expected,
            "{attributes} {phase:?}"
        );
    }
}

#[test]
fn what_is_elsewhere() {
    let files = [
        ("p.sch", "<pattern><rule context='a'><assert test='@x'>no x</assert></rule></pattern>"),
        ("r.sch", "<rule><assert test='@y'>no y</assert></rule>"),
        ("again.sch", "<include href='again.sch'/>"),
        ("codes.xml", "<codes><code>A</code></codes>"),
    ];
    let keyed = "<xsl:key xmlns:xsl='http://www.w3.org/1999/XSL/Transform' name='k' match='b' use='@id'/>\
        <pattern><rule context='c'><assert test=\"key('k', @to)\">nothing is <value-of select='@to'/></assert></rule></pattern>";
    for (body, document, expected) in [
        ("<include href='p.sch'/>", "<a/>", "error /a[1]: no x"),
        (
            "<pattern><rule context='a'><extends href='r.sch'/></rule></pattern>",
            "<a/>",
            "error /a[1]: no y",
        ),
        (
            "<include href='none.sch'/>",
            "<a/>",
            "!the schema refers to file:///none.sch, which is not there",
        ),
        ("<include href='again.sch'/>", "<a/>", "!schemas include each other without end"),
        (
            "<pattern><rule context='a'><assert test=\"@x = document('codes.xml')//code\">no code</assert></rule></pattern>",
            "<r><a x='A'/><a x='B'/></r>",
            "error /r[1]/a[2]: no code",
        ),
        (keyed, "<r><b id='x'/><c to='x'/><c to='y'/></r>", "error /r[1]/c[2]: nothing is y"),
    ] {
        assert_eq!(found(("", body), None, &files, document), expected, "{body}");
    }
}

#[test]
fn schemas_that_are_none() {
    for (body, expected) in [
        (
            "<pattern><rule><assert test='a'/></rule></pattern>",
            "!<rule> needs a context (or abstract=\"true\")",
        ),
        ("<pattern><rule context='a'><assert/></rule></pattern>", "!<assert> needs test"),
        (
            "<pattern><rule context='a['/></pattern>",
            "!the expression ends where an expression is expected",
        ),
        (
            "<pattern><rule context='a'><asert test='a'/></rule></pattern>",
            "!<asert> cannot stand in <rule> (near: assert)",
        ),
        ("<patern/>", "!<patern> cannot stand in <schema> (near: pattern)"),
        ("<pattern is-a='x'/>", "!no abstract pattern is called \"x\""),
        (
            "<pattern><rule context='a'><extends rule='x'/></rule></pattern>",
            "!no abstract rule is called \"x\"",
        ),
        (
            "<pattern><rule context='a'><assert test='a' diagnostics='d'/></rule></pattern>",
            "!no diagnostic is called \"d\"",
        ),
        (
            "<pattern><rule context='a'><assert test='$x'/></rule></pattern>",
            "!the variable $x is not known (declare it before",
        ),
        (
            "<xsl:function xmlns:xsl='http://www.w3.org/1999/XSL/Transform' name='f:x'/>",
            "!the function f:x is written in XSLT, which is not read here (write its expression in place of its calls, or in a <let>)",
        ),
    ] {
        let said = found(("", body), None, &[], "<a/>");
        assert!(said.starts_with(expected), "{body}: {said}");
    }
}
