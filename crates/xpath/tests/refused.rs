//! Expressions that are none, what is said of them and what to write instead; and corners of functions that other tables leave out.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that fails may panic")]

mod support;

use kyanite_xpath::{Expression, Namespaces, Version};
use support::check;

/// What is wrong with an expression and, in parentheses, what to do about it.
fn said(expression: &str, version: Version) -> String {
    match Expression::compile(expression, version, Namespaces::new(), &[]) {
        Ok(_) => String::new(),
        Err(error) => match error.advice() {
            Some(advice) => format!("{} ({advice})", error.message()),
            None => error.message().to_owned(),
        },
    }
}

#[test]
fn expressions_that_are_none() {
    for (expression, expected) in [
        ("", "the expression ends where an expression is expected"),
        ("1 +", "the expression ends where an expression is expected"),
        ("(1, 2", "the expression ends where `)` is expected"),
        ("//a[", "the expression ends where an expression is expected"),
        ("99999999999999999999999999999", ""),
        ("1e", "a blank is missing between a number and a name"),
        (
            ".?'b'",
            "behind `?` stands a name, a number, `*` or an expression in parentheses (write ?(\"b\"))",
        ),
        (".?99999999999999999999", "the number is too large"),
        (".?()", ""),
        (".?(1 + 1)", ""),
        ("a?b", "`?` stands where an operator or the end is expected"),
        (
            "upper-case()",
            "upper-case() does not take 0 arguments (it is called as upper-case(text))",
        ),
        ("uper-case('a')", "there is no function uper-case() (near: upper-case, lower-case)"),
        ("get(map {}, 1)", "there is no function get() (write map:get(map, key))"),
        (
            "m:get(map {}, 1)",
            "the prefix of m:get() stands for no functions (functions have the prefixes fn, map, array, math and xs, or none)",
        ),
        (
            "Q{urn:none}f()",
            "the namespace of Q{urn:none}f() stands for no functions (functions have the prefixes fn, map, array, math and xs, or none)",
        ),
        ("Q{http://www.w3.org/2005/xpath-functions/map}size(map {})", ""),
        ("Q{http://www.w3.org/2005/xpath-functions/math}pi()", ""),
        ("xs:nteger('1')", "there is no function xs:nteger() (near: integer)"),
        ("xs:integer('1', 2)", "xs:integer() takes one argument"),
        ("xs:integer#1", ""),
        ("xs:integer#2", "xs:integer() takes one argument"),
        ("abs#x", "`x` stands where the number of arguments is expected"),
        ("abs#3", "abs() does not take 3 arguments (it is called as abs(number))"),
        ("if (1) then 2", "the expression ends where `else` is expected"),
        ("for $x in 1", "the expression ends where `return` is expected"),
        ("for x in 1 return 2", "`x` stands where an operator or the end is expected"),
        ("let $x = 1 return $x", "`=` stands where `:=` is expected"),
        ("some $x in 1", "the expression ends where `satisfies` is expected"),
        ("$x", "the variable $x is not known (give it a value with the param x)"),
        ("function($x) { }", ""),
        ("function($x, $x) { 1 }", "the parameter $x is there twice"),
        ("'a' => upper-case()", ""),
        ("'a' => (upper-case#1)()", ""),
        ("'a' => 1", "`1` stands where a function, a variable or a parenthesis is expected"),
        ("1 eq 2 eq 3", "`eq` stands where an operator or the end is expected"),
        ("1 instance of", "the expression ends where a type is expected"),
        ("1 instance of xs:nope", "`xs:nope` is no type"),
        ("1 cast as xs:integer+", "the expression ends where an expression is expected"),
        ("1 treat as item()*", ""),
        ("array { }", ""),
        ("array { 1", "the expression ends where `}` is expected"),
        ("map { 'a' 1 }", "`1` stands where `:` is expected"),
        ("a/b/", "the expression ends where an expression is expected"),
        (
            "nosuch::a",
            "`nosuch` is no axis (the axes: child, descendant, descendant-or-self, parent, ancestor, ancestor-or-self, following-sibling, preceding-sibling, following, preceding, attribute, namespace, self)",
        ),
        ("processing-instruction(1)", "`1` stands where `)` is expected"),
        ("element(a, b, c)", "a type behind the name needs a schema, and none is read here"),
        ("if", ""),
        ("node(1)", "`1` stands where `)` is expected"),
        ("text('a')", "`'a'` stands where `)` is expected"),
    ] {
        assert_eq!(said(expression, Version::V31), expected, "{expression}");
    }
}

#[test]
fn what_xpath_1_does_not_have() {
    for (expression, expected) in [
        ("1e3", "a number with an exponent is not in XPath 1.0 (read it as XPath 3.1)"),
        ("(1, 2)", "a sequence with commas is not in XPath 1.0 (read it as XPath 3.1)"),
        ("a eq b", "`eq` stands where an operator or the end is expected"),
        ("for $x in a return $x", "`for` is not in XPath 1.0 (read it as XPath 3.1)"),
        ("if (a) then b else c", "`if` is not in XPath 1.0 (read it as XPath 3.1)"),
        ("a || b", "`||` stands where an operator or the end is expected"),
        (
            "upper-case('a')",
            "there is no function upper-case() (it is not in XPath 1.0; read the expression as XPath 3.1)",
        ),
        ("array { 1 }", "an array is not in XPath 1.0 (read it as XPath 3.1)"),
        ("a ! b", "`!` is not in XPath 1.0 (read it as XPath 3.1)"),
        ("a => string()", "`=>` stands where an operator or the end is expected"),
        ("some $x in a satisfies $x", "`some` is not in XPath 1.0 (read it as XPath 3.1)"),
        ("a instance of xs:integer", "`instance` stands where an operator or the end is expected"),
        ("Q{u}a", "`Q{…}` is not in XPath 1.0 (read it as XPath 3.1)"),
        ("*:a", "`*:name` is not in XPath 1.0 (read it as XPath 3.1)"),
    ] {
        assert_eq!(said(expression, Version::V1), expected, "{expression}");
    }
}

const PLAN: &str = "<!DOCTYPE fleet [<!ATTLIST deck no ID #IMPLIED after IDREFS #IMPLIED>]>\
                    <fleet xmlns:p='urn:p'><!--c--><?t one?><?u two?><?t three?><deck no='d1'/><deck no='d2' after='d1'/>\
                    <p:deck after='d1 d2'/><deck after='d1  d2'>x<b/>y</deck><!--d--></fleet>";

#[test]
fn corners_of_functions() {
    check(
        Version::V31,
        PLAN,
        &[
            ("13.6", "path(/)", "/"),
            ("13.6", "path(//deck[2])", "/Q{}fleet[1]/Q{}deck[2]"),
            ("13.6", "path(//p:deck)", "/Q{}fleet[1]/Q{urn:p}deck[1]"),
            ("13.6", "path(//deck[2]/@no)", "/Q{}fleet[1]/Q{}deck[2]/@no"),
            ("13.6", "path(//deck[3]/text()[2])", "/Q{}fleet[1]/Q{}deck[3]/text()[2]"),
            ("13.6", "path(//comment()[2])", "/Q{}fleet[1]/comment()[2]"),
            (
                "13.6",
                "path(//processing-instruction()[3])",
                "/Q{}fleet[1]/processing-instruction(t)[2]",
            ),
            ("13.6", "path(/*/namespace::p)", "/Q{}fleet[1]/namespace::p"),
            ("14.5.3", "idref('d1')/../position()", "1, 2"),
            ("14.5.3", "count(idref('d1'))", "2"),
            ("14.5.3", "idref(('d2', 'none'))", "/fleet[1]/deck[3]/@after"),
            ("14.5.3", "idref(())", ""),
            ("14.5.1", "id('d1 d2')/string(@no)", "d1, d2"),
            ("13.2", "local-name(//p:deck)", "deck"),
            ("13.2", "name(())", ""),
            ("13.2", "name(1)", "XPTY0004"),
            ("13.2", "(1)/name()", "XPTY0019"),
            ("10.2", "QName('urn:x', 'a b')", "FOCA0002"),
            ("10.2", "QName('', 'p:a')", "FOCA0002"),
            ("9.8", "format-date(xs:date('2026-06-01'), '[Y]', 'en', 'OS', ())", "FOFD1340"),
            ("9.3", "dateTime((), xs:time('07:00:00'))", ""),
            ("9.9", "parse-ietf-date('Jun 06 07:29:35 GMT 1994')", "1994-06-06T07:29:35Z"),
            ("9.9", "parse-ietf-date('06 Jun 1994')", "FORG0010"),
            (
                "9.9",
                "parse-ietf-date('Wed, 06 Jun 1994 07:29:35 -0500')",
                "1994-06-06T07:29:35-05:00",
            ),
        ],
    );
}

/// Errors of xml-to-json() (F&O 3.1 section 17.5.4), of JSON as elements of the namespace of functions.
#[test]
fn elements_that_are_no_json() {
    for (element, expected) in [
        ("<boolean>false</boolean>", "false"),
        ("<boolean>0</boolean>", "false"),
        ("<boolean>maybe</boolean>", "FOJS0006"),
        ("<null/>", "null"),
        ("<null>x</null>", "FOJS0006"),
        ("<number>1.50</number>", "1.50"),
        ("<number> 5 </number>", "5"),
        ("<number>.5</number>", "0.5"),
        ("<number>INF</number>", "FOJS0006"),
        ("<number>x</number>", "FOJS0006"),
        ("<string>a\"b\\c</string>", "\"a\\\"b\\\\c\""),
        ("<string escaped=\"true\">a\\\"b</string>", "\"a\\\"b\""),
        ("<string escaped=\"true\">a\\qb</string>", "FOJS0007"),
        ("<map><string key=\"a\">x</string><null key=\"b\"/></map>", "{\"a\":\"x\",\"b\":null}"),
        ("<map><string>x</string></map>", "FOJS0006"),
        ("<map><null key=\"a\"/><null key=\"a\"/></map>", "FOJS0006"),
        ("<array>text</array>", "FOJS0006"),
        ("<array><!-- c --><?p?> <null/></array>", "[null]"),
        ("<thing/>", "FOJS0006"),
        ("<number><null/></number>", "FOJS0006"),
    ] {
        let (name, rest) = element[1..].split_at(element[1..].find([' ', '>', '/']).unwrap());
        let text = format!("<{name} xmlns=\"http://www.w3.org/2005/xpath-functions\"{rest}");
        let expression = format!("xml-to-json(parse-xml('{text}'))");
        check(Version::V31, PLAN, &[("17.5.4", &expression, expected)]);
    }
}

#[test]
fn folds_that_nest_without_end() {
    for (expression, expected) in [
        ("fold-left(1 to 20000, [], function($a, $b) { [$a, $b] })", "XPDY0130"),
        ("fold-right(1 to 20000, [], function($a, $b) { [$a, $b] })", "XPDY0130"),
        ("array:fold-left([1, 2], [], function($a, $b) { [$a, $b] })", "2"),
        ("fold-left(1 to 5000, [], function($a, $b) { [$a, $b] })", "2"),
        // Each level stands twice in the one around it: it is looked at once.
        ("fold-left(1 to 60, [1], function($a, $b) { [$a, $a] })", "2"),
    ] {
        check(Version::V31, PLAN, &[("14.6", &format!("array:size({expression})"), expected)]);
    }
}
