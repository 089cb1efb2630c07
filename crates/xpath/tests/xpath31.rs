//! XPath 3.1, section by section of the recommendation.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

mod support;

use kyanite_xpath::Version;
use support::check;

const FLEET: &str = r#"<fleet xmlns:f="urn:fleet"><vessel id="SKUA"><name>Arctic Skua</name><deck no="1"><vehicle plate="NX 1"><weight>18200</weight></vehicle><vehicle plate="NX 2"><weight>1450</weight></vehicle></deck></vessel><vessel id="HERON"><name>Grey Heron</name><deck no="1"/></vessel><f:note/></fleet>"#;

fn v31(cases: &[(&str, &str, &str)]) {
    check(Version::V31, FLEET, cases);
}

#[test]
fn primary_expressions() {
    v31(&[
        ("3.1.1", "12", "12"),
        ("3.1.1", "12.5", "12.5"),
        ("3.1.1", "125E2", "12500"),
        ("3.1.1", "\"a\"\"b\"", "a\"b"),
        ("3.1.1", "'it''s'", "it's"),
        ("3.1.1", "123456789012345678901234567890 + 1", "123456789012345678901234567891"),
        ("3.1.1", "0.10 + 0.20", "0.3"),
        ("3.1.2", "let $x := 5 return $x + 1", "6"),
        ("3.1.2", "$y", "XPST0008"),
        ("3.1.3", "(2 + 4) * 5", "30"),
        ("3.1.3", "()", ""),
        ("3.1.4", "(1 to 10)[. mod 2 eq 0]", "2, 4, 6, 8, 10"),
        ("3.1.5", "fn:upper-case('skua')", "SKUA"),
        ("3.1.5", "Q{http://www.w3.org/2005/xpath-functions}upper-case('a')", "A"),
        ("3.1.5", "upper-case()", "XPST0017"),
        ("3.1.5", "uppercase('a')", "XPST0017"),
        ("3.1.5", "upper-case(1)", "XPTY0004"),
        ("3.1.5", "upper-case(('a', 'b'))", "XPTY0004"),
        ("3.1.5", "upper-case(())", ""),
        ("3.1.5.2", "abs(//weight[. = 1450])", "1450"),
        ("3.1.5.2", "abs('x')", "XPTY0004"),
        ("3.1.6", "for-each(('a', 'b'), upper-case#1)", "A, B"),
        ("3.1.6", "abs#3", "XPST0017"),
        ("3.1.7", "let $f := function($a, $b) { $a * $b } return $f(3, 4)", "12"),
        (
            "3.1.7",
            "let $n := 2 return let $f := function($a as xs:integer) as xs:integer { $a * $n } return $f(21)",
            "42",
        ),
        ("3.1.7", "function($a as xs:integer) { $a }('x')", "XPTY0004"),
        (
            "3.1.7",
            "let $f := function($g, $n) { if ($n < 2) then 1 else $n * $g($g, $n - 1) } return $f($f, 20)",
            "2432902008176640000",
        ),
        ("3.1.7", "let $f := function($g, $n) { $g($g, $n + 1) } return $f($f, 1)", "FOER0000"),
        ("3.1.7", "function($a) { . }(1)", "XPDY0002"),
        (
            "3.1.7",
            "let $a := 1, $f := function($x) { let $a := $x return function() { $a } } return $f(7)()",
            "7",
        ),
    ]);
}

#[test]
fn postfix_expressions() {
    v31(&[
        ("3.2.1", "(1 to 5)[3]", "3"),
        ("3.2.1", "(1 to 5)[position() > 3]", "4, 5"),
        ("3.2.1", "(1 to 5)[last()]", "5"),
        ("3.2.1", "('a', 'b')[. = 'b']", "b"),
        ("3.2.1", "(1 to 5)[(1, 2)]", "FORG0006"),
        ("3.2.1", "(1, 2, 3)[. > 1][1]", "2"),
        ("3.2.2", "concat#2('a', 'b')", "ab"),
        ("3.2.2", "contains(?, 'ku')('Skua')", "true"),
        ("3.2.2", "for-each((1, 2), math:pow(?, 2))", "1, 4"),
        ("3.2.2", "let $f := function($a, $b) { $a - $b } return $f(?, 1)(5)", "4"),
        ("3.2.2", "let $f := function($a, $b) { $a - $b } return $f(1)", "XPTY0004"),
        ("3.2.2", "'a'(1)", "XPTY0004"),
    ]);
}

#[test]
fn paths() {
    v31(&[
        ("3.3", "/fleet/vessel/@id/string()", "SKUA, HERON"),
        ("3.3", "//vessel/(name | deck)/name(.)", "name, deck, name, deck"),
        ("3.3", "//vessel/name/(1 to 2)", "1, 2, 1, 2"),
        ("3.3", "//vessel/(name, 1)", "XPTY0018"),
        ("3.3", "(1, 2)/name", "XPTY0019"),
        ("3.3", "1!name", "XPTY0020"),
        ("3.3", "//vehicle[weight > 1000][1]/@plate/string()", "NX 1"),
        ("3.3", "string-join(//vehicle/@plate, ';')", "NX 1;NX 2"),
        ("3.3.2.1", "//weight[1]/ancestor::vessel/@id/string()", "SKUA"),
        ("3.3.2.2", "count(//element(vehicle))", "2"),
        ("3.3.2.2", "count(//attribute(plate))", "2"),
        ("3.3.2.2", "count(//element())", "12"),
        ("3.3.2.2", "count(//*:note)", "1"),
        ("3.3.2.2", "count(//Q{urn:fleet}note)", "1"),
        ("3.3.2.2", "count(//Q{urn:fleet}*)", "1"),
        ("3.3.2.2", "count(//Q{}name)", "2"),
        ("3.3.2.2", "count(self::document-node())", "1"),
        ("3.3.2.2", "count(self::document-node(element(fleet)))", "1"),
        ("3.3.2.2", "count(self::document-node(element(boat)))", "0"),
        ("3.3.2.2", "count(//namespace-node())", "24"),
        ("3.3.3", "//vehicle[1]/weight/string()", "18200"),
        ("3.3.5", "//vehicle/../@no/string()", "1"),
    ]);
}

#[test]
fn sequences_and_arithmetic() {
    v31(&[
        ("3.4.1", "(10, (1, 2), (), (3, 4))", "10, 1, 2, 3, 4"),
        ("3.4.1", "15 to 10", ""),
        ("3.4.1", "10 to 10", "10"),
        ("3.4.1", "1 to ()", ""),
        ("3.4.1", "fn:reverse(10 to 15)", "15, 14, 13, 12, 11, 10"),
        ("3.4.1", "1 to 1.5", "XPTY0004"),
        ("3.4.1", "1 to 1000000000", "FOAR0002"),
        ("3.4.2", "count(//vessel union //name)", "4"),
        ("3.4.2", "count(//vessel intersect //vessel[1])", "1"),
        ("3.4.2", "(//vessel except //vessel[1])/@id/string()", "HERON"),
        ("3.4.2", "//name | 1", "XPTY0004"),
        ("3.5", "-3 div 2", "-1.5"),
        ("3.5", "-3 idiv 2", "-1"),
        ("3.5", "-7 mod 3", "-1"),
        ("3.5", "1 div 0", "FOAR0001"),
        ("3.5", "1e0 div 0", "INF"),
        ("3.5", "1 + ()", ""),
        ("3.5", "'1' + 1", "XPTY0004"),
        ("3.5", "//weight[. = 1450] + 1", "1451"),
        ("3.5", "//weight + 1", "XPTY0004"),
        ("3.5", "+ 5 - -5", "10"),
        ("3.5", "-'a'", "XPTY0004"),
        ("3.5", "xs:date('2026-06-01') + xs:dayTimeDuration('P30D')", "2026-07-01"),
        ("3.5", "xs:date('2026-06-01') - xs:date('2026-05-01')", "P31D"),
        ("3.5", "xs:yearMonthDuration('P1Y') * 1.5", "P1Y6M"),
        ("3.5", "xs:time('11:12:00') + xs:yearMonthDuration('P1Y')", "XPTY0004"),
        ("3.6", "'con' || 'cat' || 'enate'", "concatenate"),
        ("3.6", "1 || () || 2", "12"),
        ("3.6", "('a', 'b') || 'c'", "XPTY0004"),
    ]);
}

#[test]
fn comparisons() {
    v31(&[
        ("3.7.1", "1 eq 1.0", "true"),
        ("3.7.1", "'a' lt 'b'", "true"),
        ("3.7.1", "() eq 1", ""),
        ("3.7.1", "1 eq '1'", "XPTY0004"),
        ("3.7.1", "(1, 2) eq 1", "XPTY0004"),
        ("3.7.1", "//weight[1] eq '18200'", "XPTY0004"),
        ("3.7.1", "(//weight)[1] eq '18200'", "true"),
        ("3.7.1", "(//weight)[1] eq 18200", "XPTY0004"),
        ("3.7.1", "xs:double('NaN') ne xs:double('NaN')", "true"),
        ("3.7.2", "(1, 2) = (2, 3)", "true"),
        ("3.7.2", "(2, 3) = (3, 4)", "true"),
        ("3.7.2", "(1, 2) = (3, 4)", "false"),
        ("3.7.2", "(1, 2) != (1, 2)", "true"),
        ("3.7.2", "() = ()", "false"),
        ("3.7.2", "//weight = 1450", "true"),
        ("3.7.2", "//weight > 18199", "true"),
        ("3.7.2", "//name = 1", "FORG0001"),
        ("3.7.2", "'a' = 1", "XPTY0004"),
        ("3.7.2", "//weight = '1450'", "true"),
        ("3.7.2", "(//weight)[2] < (//weight)[1]", "true"),
        ("3.7.2", "xs:date('2026-06-01') = '2026-06-01'", "XPTY0004"),
        ("3.7.3", "(//vessel)[1] is (//vessel)[1]", "true"),
        ("3.7.3", "(//vessel)[1] << (//vessel)[2]", "true"),
        ("3.7.3", "(//vessel)[1] >> (//vessel)[2]", "false"),
        ("3.7.3", "() is (//vessel)[1]", ""),
        ("3.7.3", "1 is 1", "XPTY0004"),
        ("3.8", "1 eq 1 and 2 eq 2", "true"),
        ("3.8", "1 eq 1 or error()", "true"),
        ("3.8", "false() and error()", "false"),
        ("3.8", "(1, 2) and true()", "FORG0006"),
        ("3.8", "not(xs:date('2026-06-01'))", "FORG0006"),
    ]);
}

#[test]
fn flow_and_types() {
    v31(&[
        ("3.9", "for $x in (1, 2), $y in (3, 4) return $x * $y", "3, 4, 6, 8"),
        ("3.9", "for $v in //vessel return $v/name/string()", "Arctic Skua, Grey Heron"),
        ("3.9", "for $x in (1, 2) return ($x, -$x)", "1, -1, 2, -2"),
        ("3.10", "let $x := 2, $y := $x * 3 return $y", "6"),
        ("3.10", "let $x := 1 return let $x := $x + 1 return $x", "2"),
        ("3.11.1", "map { 'a': 1, 'b': (2, 3) }", "map{a:1,b:(2, 3)}"),
        ("3.11.1", "map { 'a': 1, 'a': 2 }", "XQDY0137"),
        ("3.11.1", "map { 1: 'x' }(1.0)", "x"),
        ("3.11.1", "map { }?a", ""),
        ("3.11.2", "[1, (2, 3)]", "[1,(2, 3)]"),
        ("3.11.2", "array { 1, (2, 3) }", "[1,2,3]"),
        ("3.11.2", "[1, 2](2)", "2"),
        ("3.11.2", "[1, 2](3)", "FOAY0001"),
        ("3.11.2", "[]", "[]"),
        ("3.11.3", "map { 'a': 1 }?a", "1"),
        ("3.11.3", "[4, 5, 6]?2", "5"),
        ("3.11.3", "[4, 5]?*", "4, 5"),
        ("3.11.3", "map { 'a': [7, 8] }?a?2", "8"),
        ("3.11.3", "([1, 2], [3])?1", "1, 3"),
        ("3.11.3", "map { 'a b': 1 }?('a b')", "1"),
        ("3.11.3", "[1, 2, 3]?(2 to 3)", "2, 3"),
        ("3.11.3", "(map { 'a': 1 }, map { 'a': 2 })[?a = 2]?a", "2"),
        ("3.11.3", "[map { 'a': 1 }, map { 'a': 2 }]?*?a", "1, 2"),
        ("3.11.3", "[1]?2", "FOAY0001"),
        ("3.11.3", "[1]?a", "XPTY0004"),
        ("3.11.3", "1?a", "XPTY0004"),
        ("3.12", "if (//vessel) then 'yes' else 'no'", "yes"),
        ("3.12", "if (()) then error() else 1", "1"),
        ("3.13", "some $x in (1, 2) satisfies $x = 2", "true"),
        ("3.13", "every $x in (1, 2) satisfies $x = 2", "false"),
        ("3.13", "every $x in () satisfies $x", "true"),
        ("3.13", "some $x in (1, 2), $y in (2, 3) satisfies $x + $y = 5", "true"),
        ("3.14.1", "5 instance of xs:integer", "true"),
        ("3.14.1", "5 instance of xs:decimal", "true"),
        ("3.14.1", "5 instance of xs:string", "false"),
        ("3.14.1", "(5, 6) instance of xs:integer+", "true"),
        ("3.14.1", "() instance of xs:integer?", "true"),
        ("3.14.1", "() instance of empty-sequence()", "true"),
        ("3.14.1", "//vessel instance of element()*", "true"),
        ("3.14.1", "//vessel instance of element(name)*", "false"),
        ("3.14.1", ". instance of document-node()", "true"),
        ("3.14.1", "[1] instance of array(xs:integer)", "true"),
        ("3.14.1", "map { 'a': 1 } instance of map(xs:string, xs:integer)", "true"),
        ("3.14.1", "map { 'a': 1 } instance of function(*)", "true"),
        ("3.14.1", "abs#1 instance of function(item()) as item()", "true"),
        ("3.14.1", "5 instance of xs:foo", "XPST0051"),
        ("3.14.1", "5 instance of integer", "XPST0051"),
        ("3.14.2", "'5' cast as xs:integer", "5"),
        ("3.14.2", "() cast as xs:integer", "XPTY0004"),
        ("3.14.2", "() cast as xs:integer?", ""),
        ("3.14.2", "'x' cast as xs:integer", "FORG0001"),
        ("3.14.3", "'x' castable as xs:integer", "false"),
        ("3.14.3", "'5' castable as xs:integer", "true"),
        ("3.14.3", "() castable as xs:integer?", "true"),
        ("3.14.4", "xs:date('2026-06-01')", "2026-06-01"),
        ("3.14.4", "xs:integer(())", ""),
        ("3.14.4", "xs:nosuch('1')", "XPST0017"),
        ("3.14.4", "xs:QName('f:note')", "f:note"),
        ("3.14.4", "xs:QName('g:note')", "XPST0081"),
        ("3.14.5", "5 treat as xs:integer", "5"),
        ("3.14.5", "5 treat as xs:string", "XPDY0050"),
        ("3.15", "//vessel ! @id ! string()", "SKUA, HERON"),
        ("3.15", "(1 to 3) ! (. * .)", "1, 4, 9"),
        ("3.15", "('a', 'b') ! position()", "1, 2"),
        ("3.16", "'skua' => upper-case()", "SKUA"),
        ("3.16", "'a' => concat('b', 'c')", "abc"),
        ("3.16", "(1, 2) => sum() => string()", "3"),
        ("3.16", "let $f := function($x) { $x + 1 } return 5 => $f()", "6"),
        ("A.2.4", "1 (: a (: nested :) comment :) + 1", "2"),
        ("A.2.4", "1 (: open", "XPST0003"),
        ("A.1.2", "/*/name()", "fleet"),
        ("A.1.2", "if/then", ""),
        ("A.1.2", "for/let", ""),
    ]);
}

#[test]
fn what_is_refused() {
    let deep = format!("{}1{}", "(".repeat(5_000), ")".repeat(5_000));
    let long = format!("1{}", " + 1".repeat(5_000));
    check(
        Version::V31,
        FLEET,
        &[
            ("A.1", "1 to", "XPST0003"),
            ("A.1", "for $x in", "XPST0003"),
            ("A.1", "let $x = 1 return $x", "XPST0003"),
            ("A.1", "map { 'a' 1 }", "XPST0003"),
            ("A.1", "//a[", "XPST0003"),
            ("A.1", "some $x in (1) return 1", "XPST0003"),
            ("A.1", "1 eq 1 eq 1", "XPST0003"),
            ("A.1", "schema-element(a)", "XPST0008"),
            ("A.1", "function($a, $a) { 1 }", "XQST0039"),
            ("A.1", "10div 3", "XPST0003"),
            ("A.1", &deep, "XPST0003"),
            ("A.1", &long, "5001"),
        ],
    );
}
