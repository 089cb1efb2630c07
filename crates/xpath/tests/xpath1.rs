//! XPath 1.0, section by section of the recommendation.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

mod support;

use kyanite_xpath::Version;
use support::check;

/// A document with every kind of node.
const FLEET: &str = r#"<?xml version="1.0"?>
<!-- the fleet -->
<?print wide?>
<f:fleet xmlns:f="urn:fleet" xmlns="urn:crew" xml:lang="en" year="2026"><vessel xmlns="" id="SKUA" f:class="ferry"><name>Arctic Skua</name><deck no="1"><vehicle plate="NX 1"><weight>18200</weight></vehicle><vehicle plate="NX 2"><weight>1450</weight></vehicle><vehicle plate="NX 3"/></deck><deck no="2"><vehicle plate="HV 4"><weight>230</weight></vehicle></deck><!-- refit --></vessel><vessel xmlns="" id="HERON" xml:lang="nb-NO"><name>Grey <b>Heron</b></name><deck no="1"/><?check hull?></vessel><master xmlns="urn:crew">Ingrid Vale</master></f:fleet>"#;

fn v1(cases: &[(&str, &str, &str)]) {
    check(Version::V1, FLEET, cases);
}

const VESSEL: &str = "/f:fleet[1]/vessel[1]";

#[test]
fn location_paths() {
    v1(&[
        ("2", "/", "/"),
        ("2", "/f:fleet", "/f:fleet[1]"),
        ("2", "f:fleet/vessel", "/f:fleet[1]/vessel[1], /f:fleet[1]/vessel[2]"),
        ("2", "child::f:fleet/child::vessel[position()=1]", VESSEL),
        (
            "2",
            "/descendant::vehicle[position()=4]/attribute::plate",
            "/f:fleet[1]/vessel[1]/deck[2]/vehicle[1]/@plate",
        ),
        ("2", "self::node()", "/"),
        ("2", "count(/descendant::vehicle)", "4"),
        ("2", "count(//node())", "28"),
        ("2", "string(//vessel[1]/name)", "Arctic Skua"),
        ("2", "count(/child::node())", "3"),
        ("2.1", "//deck[@no='2']/vehicle/../../name", "/f:fleet[1]/vessel[1]/name[1]"),
        ("2.1", "//vehicle[weight][2]/@plate", "/f:fleet[1]/vessel[1]/deck[1]/vehicle[2]/@plate"),
        ("2.1", "//vehicle[2][weight]/@plate", "/f:fleet[1]/vessel[1]/deck[1]/vehicle[2]/@plate"),
        (
            "2.1",
            "/f:fleet/*/deck",
            "/f:fleet[1]/vessel[1]/deck[1], /f:fleet[1]/vessel[1]/deck[2], /f:fleet[1]/vessel[2]/deck[1]",
        ),
        ("2.1", "1/2", "XPST0003"),
        ("2.1", "'a'/b", "XPTY0019"),
    ]);
}

#[test]
fn axes() {
    v1(&[
        ("2.2", "count(//deck[1]/child::node())", "3"),
        ("2.2", "//vessel[1]/descendant::weight[2]/..", "/f:fleet[1]/vessel[1]/deck[1]/vehicle[2]"),
        (
            "2.2",
            "//weight[.=230]/parent::*/@plate",
            "/f:fleet[1]/vessel[1]/deck[2]/vehicle[1]/@plate",
        ),
        ("2.2", "name(//weight[.=230]/ancestor::*[1])", "vehicle"),
        ("2.2", "name(//weight[.=230]/ancestor::*[last()])", "f:fleet"),
        ("2.2", "count(//weight[.=230]/ancestor::node())", "5"),
        ("2.2", "string(//vehicle[@plate='NX 1']/following-sibling::vehicle[1]/@plate)", "NX 2"),
        ("2.2", "string(//vehicle[@plate='NX 3']/preceding-sibling::vehicle[1]/@plate)", "NX 2"),
        ("2.2", "string(//vehicle[@plate='NX 3']/preceding-sibling::vehicle[2]/@plate)", "NX 1"),
        (
            "2.2",
            "//vehicle[@plate='NX 3']/preceding-sibling::vehicle",
            "/f:fleet[1]/vessel[1]/deck[1]/vehicle[1], /f:fleet[1]/vessel[1]/deck[1]/vehicle[2]",
        ),
        ("2.2", "string(//vehicle[@plate='NX 3']/following::vehicle/@plate)", "HV 4"),
        ("2.2", "count(//deck[@no='2']/following::node())", "10"),
        ("2.2", "string(//deck[@no='2']/preceding::vehicle[1]/@plate)", "NX 3"),
        ("2.2", "string(//deck[@no='2']/preceding::weight[1])", "1450"),
        ("2.2", "count(//deck[@no='2']/preceding::*)", "7"),
        ("2.2", "count(/*/attribute::*)", "2"),
        ("2.2", "count(/*/@*[namespace-uri()='urn:fleet'])", "0"),
        ("2.2", "count(//vessel[1]/@*)", "2"),
        ("2.2", "count(/*/namespace::*)", "3"),
        ("2.2", "count(//vessel[1]/namespace::*)", "2"),
        ("2.2", "string(//weight[1]/namespace::f)", "urn:fleet"),
        ("2.2", "string(/*/namespace::*[name()=''])", "urn:crew"),
        ("2.2", "name(//name[1]/self::name)", "name"),
        ("2.2", "count(//name/self::deck)", "0"),
        ("2.2", "count(//vessel[1]/descendant-or-self::*)", "11"),
        ("2.2", "count(//weight[1]/ancestor-or-self::*)", "10"),
        ("2.2", "count((//weight)[1]/ancestor-or-self::*)", "5"),
        ("2.2", "count(//@plate/following::*)", "12"),
        ("2.2", "count(//@plate/ancestor::deck)", "2"),
        ("2.2", "count(//@plate/following-sibling::node())", "0"),
        ("2.2", "count(//namespace::xml)", "17"),
    ]);
}

#[test]
fn node_tests() {
    v1(&[
        ("2.3", "count(//f:fleet)", "1"),
        ("2.3", "count(//fleet)", "0"),
        ("2.3", "count(//vessel)", "2"),
        ("2.3", "count(//master)", "0"),
        ("2.3", "count(//*)", "17"),
        ("2.3", "count(//f:*)", "1"),
        ("2.3", "count(//@f:*)", "1"),
        ("2.3", "string(//@f:class)", "ferry"),
        ("2.3", "count(//@class)", "0"),
        ("2.3", "count(//g:vessel)", "XPST0081"),
        ("2.3", "count(//text())", "7"),
        ("2.3", "count(//comment())", "2"),
        ("2.3", "count(//processing-instruction())", "2"),
        ("2.3", "count(//processing-instruction('print'))", "1"),
        ("2.3", "string(//processing-instruction('check'))", "hull"),
        ("2.3", "count(//node())", "28"),
        ("2.3", "count(/*/@xml:lang)", "1"),
        (
            "2.3",
            "//name/text()",
            "/f:fleet[1]/vessel[1]/name[1]/text()[1], /f:fleet[1]/vessel[2]/name[1]/text()[1]",
        ),
    ]);
}

#[test]
fn predicates() {
    v1(&[
        (
            "2.4",
            "//vehicle[last()]/@plate",
            "/f:fleet[1]/vessel[1]/deck[1]/vehicle[3]/@plate, /f:fleet[1]/vessel[1]/deck[2]/vehicle[1]/@plate",
        ),
        ("2.4", "(//vehicle)[last()]/@plate", "/f:fleet[1]/vessel[1]/deck[2]/vehicle[1]/@plate"),
        ("2.4", "string(//vehicle[position()=2]/@plate)", "NX 2"),
        ("2.4", "count(//vehicle[position()<3])", "3"),
        ("2.4", "count(//vehicle[position()>1])", "2"),
        ("2.4", "count(//vehicle[position()!=last()])", "2"),
        ("2.4", "count(//vehicle[weight > 1000])", "2"),
        ("2.4", "count(//vehicle[not(weight)])", "1"),
        ("2.4", "count(//vehicle['x'])", "4"),
        ("2.4", "count(//vehicle[''])", "0"),
        ("2.4", "count(//vehicle[0])", "0"),
        ("2.4", "count(//vehicle[1.5])", "0"),
        ("2.4", "string(//deck/vehicle[count(../vehicle)]/@plate)", "NX 3"),
        ("2.4", "string(//vessel[name='Arctic Skua']/@id)", "SKUA"),
        ("2.4", "count(//*[self::deck or self::name])", "5"),
        ("2.4", "string(//vehicle[weight][last()]/@plate)", "NX 2"),
        ("2.4", "//deck[vehicle/weight > 10000]/@no", "/f:fleet[1]/vessel[1]/deck[1]/@no"),
    ]);
}

#[test]
fn abbreviated_syntax() {
    v1(&[
        ("2.5", "/*/vessel/name", "/f:fleet[1]/vessel[1]/name[1], /f:fleet[1]/vessel[2]/name[1]"),
        ("2.5", "count(//vessel//text())", "6"),
        ("2.5", "//deck[@no='2']/@no", "/f:fleet[1]/vessel[1]/deck[2]/@no"),
        ("2.5", "count(.//vehicle)", "4"),
        ("2.5", "name(//b/..)", "name"),
        ("2.5", "name(//b/../..)", "vessel"),
        ("2.5", "string(//vehicle[1])", "18200"),
        ("2.5", "count(//vehicle[1])", "2"),
        ("2.5", "count(/descendant::vehicle[1])", "1"),
        ("2.5", "count(//@*)", "13"),
        ("2.5", "count(//deck//@plate)", "4"),
    ]);
}

#[test]
fn expressions() {
    v1(&[
        ("3.1", "(1)", "1"),
        ("3.1", "'it is \"so\"'", "it is \"so\""),
        ("3.1", "\"it's\"", "it's"),
        ("3.1", "12.5", "12.5"),
        ("3.1", ".5", "0.5"),
        ("3.1", "5.", "5"),
        ("3.1", "$x", "XPST0008"),
        ("3.2", "concat('a', 'b', 1)", "ab1"),
        ("3.2", "nosuch()", "XPST0017"),
        ("3.2", "concat('a')", "XPST0017"),
        ("3.2", "string-join(//a, ',')", "XPST0017"),
        ("3.3", "count(//name | //deck)", "5"),
        ("3.3", "count(//name | //name)", "2"),
        (
            "3.3",
            "//deck[@no='2'] | //vessel[1]/name",
            "/f:fleet[1]/vessel[1]/name[1], /f:fleet[1]/vessel[1]/deck[2]",
        ),
        ("3.3", "1 | //a", "XPTY0004"),
        ("3.3", "(//vessel)[2]/name/b", "/f:fleet[1]/vessel[2]/name[1]/b[1]"),
        ("3.4", "true() or nosuch", "true"),
        ("3.4", "false() or //vessel", "true"),
        ("3.4", "true() and //nosuch", "false"),
        ("3.4", "1 = 1 and 2 = 2", "true"),
        ("3.4", "//weight = 230", "true"),
        ("3.4", "//weight != 230", "true"),
        ("3.4", "not(//weight = 231)", "true"),
        ("3.4", "//weight = //weight", "true"),
        ("3.4", "//name = 'Grey Heron'", "true"),
        ("3.4", "//nosuch = //nosuch", "false"),
        ("3.4", "//nosuch != //nosuch", "false"),
        ("3.4", "//nosuch = false()", "true"),
        ("3.4", "//weight = true()", "true"),
        ("3.4", "'1' = 1", "true"),
        ("3.4", "'a' = 1", "false"),
        ("3.4", "'a' != 1", "true"),
        ("3.4", "'9' < '10'", "true"),
        ("3.4", "'a' < 'b'", "false"),
        ("3.4", "true() > false()", "true"),
        ("3.4", "//weight > 18199", "true"),
        ("3.4", "//weight > //weight", "true"),
        ("3.4", "1 < 2 < 3", "true"),
        ("3.4", "3 > 2 > 1", "false"),
        ("3.4", "3 = 3 = true()", "true"),
        ("3.4", "1 >= 1", "true"),
        ("3.4", "1 <= 0.5", "false"),
        ("3.4", "number('x') = number('x')", "false"),
        ("3.5", "1 + 2 * 3", "7"),
        ("3.5", "(1 + 2) * 3", "9"),
        ("3.5", "7 div 2", "3.5"),
        ("3.5", "5 mod 2", "1"),
        ("3.5", "5 mod -2", "1"),
        ("3.5", "-5 mod 2", "-1"),
        ("3.5", "-5 mod -2", "-1"),
        ("3.5", "1.5 mod 0.5", "0"),
        ("3.5", "1 div 0", "INF"),
        ("3.5", "string(1 div 0)", "Infinity"),
        ("3.5", "string(-1 div 0)", "-Infinity"),
        ("3.5", "string(0 div 0)", "NaN"),
        ("3.5", "- - 5", "5"),
        ("3.5", "-//weight", "-18200"),
        ("3.5", "-(//nosuch)", "NaN"),
        ("3.5", "'3' + '4'", "7"),
        ("3.5", "true() + 1", "2"),
        ("3.5", "//weight + 1", "18201"),
        ("3.5", "10 - 3 - 2", "5"),
        ("3.5", "-//weight | //nosuch", "-18200"),
        ("3.7", "//deck/@no * 2", "2"),
        ("3.7", "count(//*) * 2", "34"),
        ("3.7", "count( // vehicle [ 1 ] )", "2"),
        ("3.7", "//name-x", ""),
        ("3.7", "div", ""),
        ("3.7", "4 div 2", "2"),
        ("3.7", "'unclosed", "XPST0003"),
        ("3.7", "1 +", "XPST0003"),
        ("3.7", "//", "XPST0003"),
        ("3.7", "a[", "XPST0003"),
        ("3.7", "a]", "XPST0003"),
        ("3.7", "f(", "XPST0003"),
        ("3.7", "a b", "XPST0003"),
        ("3.7", "#", "XPST0003"),
        ("3.7", "for $x in //a return $x", "XPST0003"),
        ("3.7", "a eq b", "XPST0003"),
        ("3.7", "if (a) then b else c", "XPST0003"),
        ("3.7", "(1, 2)", "XPST0003"),
        ("3.7", "nosuch::a", "XPST0003"),
    ]);
}

#[test]
fn node_set_functions() {
    v1(&[
        ("4.1", "count('x')", "1"),
        ("4.1", "string(//vessel[last()]/@id)", "HERON"),
        ("4.1", "string(//deck[position()=2]/@no)", "2"),
        ("4.1", "local-name(/*)", "fleet"),
        ("4.1", "name(/*)", "f:fleet"),
        ("4.1", "namespace-uri(/*)", "urn:fleet"),
        ("4.1", "namespace-uri(//vessel)", ""),
        ("4.1", "namespace-uri(//@f:class)", "urn:fleet"),
        ("4.1", "local-name(//@f:class)", "class"),
        ("4.1", "local-name(//nosuch)", ""),
        ("4.1", "name(//comment())", ""),
        ("4.1", "name(//processing-instruction())", "print"),
        ("4.1", "name(//vessel)", "vessel"),
        ("4.1", "local-name(/)", ""),
        ("4.1", "local-name('x')", "XPTY0004"),
    ]);
    let with_ids = r#"<!DOCTYPE fleet [<!ATTLIST vessel code ID #IMPLIED next IDREF #IMPLIED>]>
<fleet><vessel code="a" next="b">A</vessel><vessel code="b">B</vessel><port xml:id="c">C</port></fleet>"#;
    check(
        Version::V1,
        with_ids,
        &[
            ("4.1", "string(id('b'))", "B"),
            ("4.1", "count(id('a b'))", "2"),
            ("4.1", "count(id('b a b'))", "2"),
            ("4.1", "string(id(//vessel/@next))", "B"),
            ("4.1", "string(id('c'))", "C"),
            ("4.1", "count(id('x'))", "0"),
            ("5.2.1", "id('b')/preceding-sibling::*", "/fleet[1]/vessel[1]"),
        ],
    );
}

#[test]
fn string_functions() {
    v1(&[
        ("4.2", "string(//vessel)", "Arctic Skua182001450230"),
        ("4.2", "string(//nosuch)", ""),
        ("4.2", "string(12)", "12"),
        ("4.2", "string(12.50)", "12.5"),
        ("4.2", "string(-0)", "0"),
        ("4.2", "string(1000000000000)", "1000000000000"),
        ("4.2", "string(0.0000001)", "0.0000001"),
        ("4.2", "string(true())", "true"),
        ("4.2", "string()", "Arctic Skua182001450230Grey HeronIngrid Vale"),
        ("4.2", "concat(//name, '!', 3)", "Arctic Skua!3"),
        ("4.2", "starts-with('Skua', 'Sk')", "true"),
        ("4.2", "starts-with('Skua', '')", "true"),
        ("4.2", "contains(//name, 'Skua')", "true"),
        ("4.2", "contains('a', 'b')", "false"),
        ("4.2", "substring-before('1999/04/01', '/')", "1999"),
        ("4.2", "substring-after('1999/04/01', '/')", "04/01"),
        ("4.2", "substring-after('1999/04/01', '19')", "99/04/01"),
        ("4.2", "substring-before('a', 'b')", ""),
        ("4.2", "substring('12345', 2, 3)", "234"),
        ("4.2", "substring('12345', 2)", "2345"),
        ("4.2", "substring('12345', 1.5, 2.6)", "234"),
        ("4.2", "substring('12345', 0, 3)", "12"),
        ("4.2", "substring('12345', 0 div 0, 3)", ""),
        ("4.2", "substring('12345', 1, 0 div 0)", ""),
        ("4.2", "substring('12345', -42, 1 div 0)", "12345"),
        ("4.2", "substring('12345', -1 div 0, 1 div 0)", ""),
        ("4.2", "string-length('Fjærøy')", "6"),
        ("4.2", "string-length(//name)", "11"),
        ("4.2", "normalize-space('  a  b\t')", "a b"),
        ("4.2", "translate('bar', 'abc', 'ABC')", "BAr"),
        ("4.2", "translate('--aaa--', 'abc-', 'ABC')", "AAA"),
    ]);
}

#[test]
fn boolean_functions() {
    v1(&[
        ("4.3", "boolean(0)", "false"),
        ("4.3", "boolean(-1)", "true"),
        ("4.3", "boolean(number('x'))", "false"),
        ("4.3", "boolean('')", "false"),
        ("4.3", "boolean('false')", "true"),
        ("4.3", "boolean(//vessel)", "true"),
        ("4.3", "boolean(//nosuch)", "false"),
        ("4.3", "not(1)", "false"),
        ("4.3", "true()", "true"),
        ("4.3", "false()", "false"),
        ("4.3", "count(//deck[lang('en')])", "2"),
        ("4.3", "count(//deck[lang('nb')])", "1"),
        ("4.3", "count(//deck[lang('NB-no')])", "1"),
        ("4.3", "count(//deck[lang('no')])", "0"),
    ]);
}

#[test]
fn number_functions() {
    v1(&[
        ("4.4", "number(' 12 ')", "12"),
        ("4.4", "number('1e3')", "NaN"),
        ("4.4", "number('+1')", "NaN"),
        ("4.4", "number('')", "NaN"),
        ("4.4", "number(true())", "1"),
        ("4.4", "number(//weight)", "18200"),
        ("4.4", "sum(//weight)", "19880"),
        ("4.4", "sum(//nosuch)", "0"),
        ("4.4", "sum(//name)", "NaN"),
        ("4.4", "floor(2.6)", "2"),
        ("4.4", "floor(-2.6)", "-3"),
        ("4.4", "ceiling(2.2)", "3"),
        ("4.4", "ceiling(-2.2)", "-2"),
        ("4.4", "round(2.5)", "3"),
        ("4.4", "round(-2.5)", "-2"),
        ("4.4", "round(2.4)", "2"),
        ("4.4", "string(round(-0.2))", "0"),
        ("4.4", "string(1 div round(-0.2))", "-Infinity"),
        ("4.4", "string(round(number('x')))", "NaN"),
        ("4.4", "string(round(1 div 0))", "Infinity"),
    ]);
}

#[test]
fn data_model() {
    v1(&[
        ("5.1", "count(/)", "1"),
        ("5.1", "name(/*/..)", ""),
        ("5.1", "string(/) = string(/*)", "true"),
        ("5.2", "string(//vessel[2]/name)", "Grey Heron"),
        ("5.3", "name(//@plate/..)", "vehicle"),
        ("5.3", "count(//vehicle/@plate)", "4"),
        ("5.3", "count(//vehicle/node()[self::plate])", "0"),
        ("5.4", "name(//namespace::f/..)", "f:fleet"),
        ("5.4", "count(/*/namespace::xml)", "1"),
        ("5.4", "local-name(/*/namespace::f)", "f"),
        ("5.4", "namespace-uri(/*/namespace::f)", ""),
        ("5.5", "string(//processing-instruction('print'))", "wide"),
        ("5.6", "string(/comment())", " the fleet "),
        ("5.7", "string(//text()[1])", "Arctic Skua"),
        ("5.7", "count(//text()[.='230'])", "1"),
        (
            "5",
            "//weight[.=230] | //vessel[1] | //@id[.='SKUA']",
            "/f:fleet[1]/vessel[1], /f:fleet[1]/vessel[1]/@id, /f:fleet[1]/vessel[1]/deck[2]/vehicle[1]/weight[1]",
        ),
    ]);
}
