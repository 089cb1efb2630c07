//! What is said of documents that break an XML Schema, and of schemas that are none, component by component.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that fails may panic")]

mod support;

use kyanite_schema::xsd::SCHEMA_FOR_SCHEMAS;
use support::{by_schema_for_schemas, compile, found};
/// A definition of `<a>` with a type, a document, and what is found.
fn assert_type(definition: &str, cases: &[(&str, &str)]) {
    let body = format!("<xs:element name='a'>{definition}</xs:element>");
    for (document, expected) in cases {
        assert_eq!(found(&body, &[], document), *expected, "{definition} {document}");
    }
}

/// A simple type, texts of its values, and texts that are none with what is said.
fn assert_values(of_type: &str, valid: &[&str], not: &[(&str, &str)]) {
    let body = match of_type.starts_with('<') {
        true => {
            format!("<xs:element name='a'><xs:simpleType>{of_type}</xs:simpleType></xs:element>")
        }
        false => format!("<xs:element name='a' type='{of_type}'/>"),
    };
    for text in valid {
        assert_eq!(found(&body, &[], &format!("<a>{text}</a>")), "", "{of_type} {text}");
    }
    for (text, expected) in not {
        let said = found(&body, &[], &format!("<a>{text}</a>"));
        assert_eq!(said.strip_prefix("/a[1]: ").unwrap_or(&said), *expected, "{of_type} {text}");
    }
}

#[test]
fn built_in_types() {
    const WHOLE: &str = "(it is a whole number)";
    assert_values("xs:string", &["", " x ", "\u{9}"], &[]);
    assert_values(
        "xs:boolean",
        &["true", "0", " false "],
        &[("TRUE", "\"TRUE\" is no xs:boolean (it is written like this: true, false, 1 or 0)")],
    );
    assert_values(
        "xs:decimal",
        &["1", "-.5", "+12.", " 3 "],
        &[
            ("1e2", "\"1e2\" is no xs:decimal (it is written like this: 12.50)"),
            ("", "\"\" is no xs:decimal (it is written like this: 12.50)"),
        ],
    );
    assert_values(
        "xs:double",
        &["1e2", "INF", "-INF", "NaN", ".5"],
        &[("inf", "\"inf\" is no xs:double (it is written like this: 1.5e3, INF or NaN)")],
    );
    assert_values(
        "xs:float",
        &["-1E-4"],
        &[("+INF", "\"+INF\" is no xs:float (it is written like this: 1.5e3, INF or NaN)")],
    );
    assert_values(
        "xs:duration",
        &["P1Y2M3DT4H5M6.7S", "-P1D"],
        &[("P", "\"P\" is no xs:duration (it is written like this: P1DT2H30M)")],
    );
    assert_values(
        "xs:dateTime",
        &["2026-06-01T07:00:00", "2026-06-01T24:00:00Z"],
        &[(
            "2026-06-31T07:00:00",
            "\"2026-06-31T07:00:00\" is no xs:dateTime (it is written like this: 2026-06-01T07:00:00Z)",
        )],
    );
    assert_values(
        "xs:date",
        &["2026-06-01+02:00"],
        &[("2026-6-1", "\"2026-6-1\" is no xs:date (it is written like this: 2026-06-01)")],
    );
    assert_values(
        "xs:time",
        &["07:00:00.5Z"],
        &[("7:00", "\"7:00\" is no xs:time (it is written like this: 07:00:00)")],
    );
    assert_values(
        "xs:gYearMonth",
        &["2026-06", "2026-06Z"],
        &[("2026-13", "\"2026-13\" is no xs:gYearMonth (it is written like this: 2026-06)")],
    );
    assert_values(
        "xs:gYear",
        &["2026", "-0044-05:00"],
        &[("26", "\"26\" is no xs:gYear (it is written like this: 2026)")],
    );
    assert_values(
        "xs:gMonthDay",
        &["--02-29", "--06-01Z"],
        &[("--02-30", "\"--02-30\" is no xs:gMonthDay (it is written like this: --06-01)")],
    );
    assert_values(
        "xs:gDay",
        &["---31"],
        &[("---32", "\"---32\" is no xs:gDay (it is written like this: ---01)")],
    );
    assert_values(
        "xs:gMonth",
        &["--06"],
        &[("--6", "\"--6\" is no xs:gMonth (it is written like this: --06)")],
    );
    assert_values(
        "xs:hexBinary",
        &["", "0fB7"],
        &[("0fB", "\"0fB\" is no xs:hexBinary (it is written like this: 0FB7)")],
    );
    assert_values(
        "xs:base64Binary",
        &["QXJkZW4=", "QXJk ZW4="],
        &[("QXJkZW4", "\"QXJkZW4\" is no xs:base64Binary (it is written like this: QXJkZW4=)")],
    );
    assert_values("xs:anyURI", &["http://a/b c", ""], &[]);
    assert_values(
        "xs:QName",
        &["a", "xml:a"],
        &[
            (
                "x:a",
                "the prefix \"x\" of \"x:a\" is not declared (it is written like this: a name, its prefix declared)",
            ),
            ("1", "\"1\" is no xs:QName (it is written like this: a name, its prefix declared)"),
        ],
    );
    assert_values(
        "xs:language",
        &["en", "de-CH"],
        &[("e_n", "\"e_n\" is no xs:language (it is written like this: en or de-CH)")],
    );
    assert_values(
        "xs:NMTOKEN",
        &["1a"],
        &[(
            "a b",
            "\"a b\" is no xs:NMTOKEN (it is written like this: letters, digits, and - . _ :)",
        )],
    );
    assert_values(
        "xs:NMTOKENS",
        &["1a b"],
        &[("", "\"\" has 0 items, and there must be at least 1")],
    );
    assert_values(
        "xs:Name",
        &["a:b"],
        &[(
            "1",
            "\"1\" is no xs:Name (it is written like this: a name, which begins with a letter or _)",
        )],
    );
    assert_values(
        "xs:NCName",
        &["é"],
        &[(
            "a:b",
            "\"a:b\" is no xs:NCName (it is written like this: a name, which begins with a letter or _)",
        )],
    );
    assert_values(
        "xs:integer",
        &["+007", "-123456789012345678901234567890"],
        &[("1.0", &format!("\"1.0\" is no xs:integer {WHOLE}"))],
    );
    for (name, least, below, most, above) in [
        ("byte", "-128", "-129", "127", "128"),
        ("short", "-32768", "-32769", "32767", "32768"),
        ("int", "-2147483648", "-2147483649", "2147483647", "2147483648"),
        (
            "long",
            "-9223372036854775808",
            "-9223372036854775809",
            "9223372036854775807",
            "9223372036854775808",
        ),
        ("unsignedByte", "0", "-1", "255", "256"),
        ("unsignedShort", "0", "-1", "65535", "65536"),
        ("unsignedInt", "0", "-1", "4294967295", "4294967296"),
        ("unsignedLong", "0", "-1", "18446744073709551615", "18446744073709551616"),
    ] {
        let name = format!("xs:{name}");
        let (under, over) = (
            format!("{below} must be at least {least}"),
            format!("{above} must be at most {most}"),
        );
        assert_values(&name, &[least, most], &[(below, &under), (above, &over)]);
    }
    assert_values("xs:positiveInteger", &["1"], &[("0", "0 must be at least 1")]);
    assert_values("xs:nonNegativeInteger", &["0", "-0"], &[("-1", "-1 must be at least 0")]);
    assert_values("xs:negativeInteger", &["-1"], &[("0", "0 must be at most -1")]);
    assert_values("xs:nonPositiveInteger", &["0"], &[("1", "1 must be at most 0")]);
}

#[test]
fn facets() {
    let restricted = |base: &str, facets: &str| {
        format!("<xs:restriction base='xs:{base}'>{facets}</xs:restriction>")
    };
    for (base, facets, valid, not) in [
        (
            "string",
            "<xs:length value='2'/>",
            &["ab", "é🐲"][..],
            &[("a", "\"a\" has 1 character, and there must be just 2")][..],
        ),
        (
            "hexBinary",
            "<xs:length value='2'/>",
            &["0fb7"],
            &[("0f", "\"0f\" has 1 byte, and there must be just 2")],
        ),
        (
            "token",
            "<xs:minLength value='2'/><xs:maxLength value='3'/>",
            &["ab", " abc "],
            &[
                ("a", "\"a\" has 1 character, and there must be at least 2"),
                ("abcd", "\"abcd\" has 4 characters, and there must be at most 3"),
            ],
        ),
        (
            "string",
            "<xs:pattern value='[A-Z]\\d'/><xs:pattern value='x+'/>",
            &["A1", "xx"],
            &[("A1 ", "\"A1 \" does not fit [A-Z]\\d or x+")],
        ),
        (
            "string",
            "<xs:enumeration value='car'/><xs:enumeration value='van'/>",
            &["van"],
            &[
                ("vn", "\"vn\" is none of the 2 values that may stand here (near: van)"),
                (
                    "bus stop",
                    "\"bus stop\" is none of the 2 values that may stand here (there are: car, van)",
                ),
            ],
        ),
        (
            "decimal",
            "<xs:enumeration value='1.0'/>",
            &["1", "01.00"],
            &[("2", "\"2\" is not the value that may stand here (there are: 1.0)")],
        ),
        (
            "QName",
            "<xs:enumeration value='xs:int'/>",
            &[],
            &[("int", "\"int\" is not the value that may stand here (there are: xs:int)")],
        ),
        ("string", "<xs:whiteSpace value='collapse'/><xs:length value='3'/>", &["  a  b "], &[]),
        (
            "decimal",
            "<xs:minInclusive value='1.5'/><xs:maxExclusive value='2'/>",
            &["1.5", "1.99"],
            &[("1.4", "1.4 must be at least 1.5"), ("2.0", "2.0 must be less than 2")],
        ),
        (
            "double",
            "<xs:minExclusive value='0'/><xs:maxInclusive value='INF'/>",
            &["1e-9", "INF"],
            &[("0", "0 must be greater than 0"), ("NaN", "NaN must be greater than 0")],
        ),
        (
            "date",
            "<xs:maxInclusive value='2026-06-01'/>",
            &["2026-06-01", "2026-05-30Z"],
            &[
                ("2026-06-02", "2026-06-02 must be at most 2026-06-01"),
                ("2026-06-01Z", "2026-06-01Z must be at most 2026-06-01"),
            ],
        ),
        (
            "duration",
            "<xs:maxInclusive value='P1M'/>",
            &["P27D", "P1M"],
            &[("P30D", "P30D must be at most P1M")],
        ),
        (
            "decimal",
            "<xs:totalDigits value='3'/><xs:fractionDigits value='1'/>",
            &["12.5", "0012.50", "100"],
            &[
                ("1234", "1234 has 4 digits, and there may be 3"),
                ("1.25", "1.25 has 2 digits behind the point, and there may be 1"),
            ],
        ),
    ] {
        assert_values(&restricted(base, facets), valid, not);
    }
    assert_values(
        "<xs:list itemType='xs:int'/>",
        &["", "1 2  3"],
        &[("1 x", "\"x\" is no xs:int (it is a whole number)")],
    );
    assert_values(
        "<xs:restriction><xs:simpleType><xs:list itemType='xs:int'/></xs:simpleType><xs:maxLength value='2'/><xs:enumeration value='1 2'/></xs:restriction>",
        &["01 2"],
        &[
            ("1 2 3", "\"1 2 3\" has 3 items, and there must be at most 2"),
            ("2 1", "\"2 1\" is not the value that may stand here (there are: 1 2)"),
        ],
    );
    assert_values(
        "<xs:union memberTypes='xs:int xs:boolean'><xs:simpleType><xs:restriction base='xs:token'><xs:enumeration value='none'/></xs:restriction></xs:simpleType></xs:union>",
        &["12", "true", "none"],
        &[("nne", "\"nne\" fits none of the 3 types that may stand here (near: none)")],
    );
}

#[test]
fn content() {
    assert_type(
        "<xs:complexType><xs:sequence><xs:element name='arrival' minOccurs='0'/><xs:element name='remark' maxOccurs='2'/></xs:sequence></xs:complexType>",
        &[
            ("<a><arrival/><remark/></a>", ""),
            ("<a><remark/><remark/></a>", ""),
            (
                "<a><departure/><remark/></a>",
                "/a[1]/departure[1]: expected arrival or remark, found departure",
            ),
            ("<a><arrival/></a>", "/a[1]: <a> ends too early: expected remark"),
            (
                "<a><remark/><remark/><remark/></a>",
                "/a[1]/remark[3]: nothing more may stand in <a>, found remark (remark may stand in <a>, but not here)",
            ),
            (
                "<a><remark/><arrival/></a>",
                "/a[1]/arrival[1]: expected remark, found arrival (arrival may stand in <a>, but not here)",
            ),
            (
                "<a><remrk/></a>",
                "/a[1]/remrk[1]: expected arrival or remark, found remrk (near: remark)\n/a[1]: <a> ends too early: expected arrival or remark",
            ),
            ("<a>x<remark/></a>", "/a[1]: in <a> stand only elements, found the text \"x\""),
            (
                "<a><remark xmlns='urn:x'/></a>",
                "/a[1]/remark[1]: expected arrival or remark, found remark (it is in the namespace urn:x, and has to be in none)\n/a[1]: <a> ends too early: expected arrival or remark",
            ),
        ],
    );
    assert_type(
        "<xs:complexType><xs:sequence><xs:element name='b'/><xs:element name='c'/><xs:element name='d'/></xs:sequence></xs:complexType>",
        &[
            (
                "<a><c/><d/></a>",
                "/a[1]/c[1]: expected b, found c (c may stand in <a>, but not here)",
            ),
            ("<a><d/></a>", "/a[1]/d[1]: expected b, found d (d may stand in <a>, but not here)"),
        ],
    );
    assert_type(
        "<xs:complexType mixed='true'><xs:choice minOccurs='0' maxOccurs='unbounded'><xs:element name='b' type='xs:int'/><xs:element name='c'/></xs:choice></xs:complexType>",
        &[
            ("<a>x<b>1</b>y<c/><b>2</b></a>", ""),
            ("<a/>", ""),
            ("<a>x<d/></a>", "/a[1]/d[1]: expected b or c, found d"),
            ("<a><b>1</b><b>x</b></a>", "/a[1]/b[2]: \"x\" is no xs:int (it is a whole number)"),
            (
                "<a><b>1<c/></b></a>",
                "/a[1]/b[1]/c[1]: <b> is of type xs:int, and no element may stand in it",
            ),
        ],
    );
    assert_type(
        "<xs:complexType><xs:all><xs:element name='b'/><xs:element name='c' minOccurs='0'/></xs:all></xs:complexType>",
        &[
            ("<a><c/><b/></a>", ""),
            ("<a><b/></a>", ""),
            ("<a><c/></a>", "/a[1]: <a> ends too early: expected b"),
            (
                "<a><b/><b/></a>",
                "/a[1]/b[2]: expected c, found b (b may stand in <a>, but not here)",
            ),
        ],
    );
    assert_type(
        "<xs:complexType><xs:attribute name='x'/></xs:complexType>",
        &[
            ("<a x='1'><!-- --></a>", ""),
            ("<a>x</a>", "/a[1]: <a> is empty, and no text may stand in it"),
            ("<a><b/></a>", "/a[1]/b[1]: <a> is empty, and no element may stand in it"),
        ],
    );
    // Counts that repeat what is counted.
    assert_type(
        "<xs:complexType><xs:sequence minOccurs='2' maxOccurs='2'><xs:element name='b' minOccurs='2' maxOccurs='3'/></xs:sequence></xs:complexType>",
        &[
            ("<a><b/><b/><b/><b/></a>", ""),
            ("<a><b/><b/><b/></a>", "/a[1]: <a> ends too early: expected b"),
            (
                "<a><b/><b/><b/><b/><b/><b/><b/></a>",
                "/a[1]/b[7]: nothing more may stand in <a>, found b (b may stand in <a>, but not here)",
            ),
        ],
    );
    assert_type(
        "<xs:complexType><xs:sequence><xs:element name='b' minOccurs='0' maxOccurs='100000'/></xs:sequence></xs:complexType>",
        &[("<a><b/><b/></a>", "")],
    );
}

#[test]
fn attributes() {
    assert_type(
        "<xs:complexType><xs:attribute name='no' type='xs:int' use='required'/><xs:attribute name='kind' fixed='car'/><xs:attribute name='old' default='1' type='xs:boolean'/></xs:complexType>",
        &[
            ("<a no='1' kind='car'/>", ""),
            ("<a/>", "/a[1]: the attribute \"no\" is missing"),
            (
                "<a nr='1'/>",
                "/a[1]/@nr: the attribute \"nr\" may not stand here (near: no)\n/a[1]: the attribute \"no\" is missing (near: nr)",
            ),
            ("<a no='x'/>", "/a[1]/@no: \"x\" is no xs:int (it is a whole number)"),
            ("<a no='1' kind='van'/>", "/a[1]/@kind: expected \"car\", found \"van\""),
            (
                "<a no='1' xmlns:xsi='http://www.w3.org/2001/XMLSchema-instance' xsi:schemaLocation='a b'/>",
                "",
            ),
        ],
    );
    assert_type("", &[("<a b='1'><c/>x</a>", "")]);
    assert_eq!(
        found("<xs:element name='a' type='xs:int'/>", &[], "<a b='1'>1</a>"),
        "/a[1]/@b: the attribute \"b\" may not stand here"
    );
    let groups = "<xs:attributeGroup name='g'><xs:attribute name='x'/><xs:attributeGroup ref='h'/></xs:attributeGroup><xs:attributeGroup name='h'><xs:attribute name='y'/><xs:anyAttribute namespace='##other' processContents='skip'/></xs:attributeGroup><xs:element name='a'><xs:complexType><xs:attributeGroup ref='g'/></xs:complexType></xs:element>";
    assert_eq!(found(groups, &[], "<a x='' y='' n:z='' xmlns:n='urn:n'/>"), "");
    assert_eq!(
        found(groups, &[], "<a z=''/>"),
        "/a[1]/@z: the attribute \"z\" may not stand here (there may be: x, y)"
    );
}

#[test]
fn derivation() {
    let types = "<xs:complexType name='base'><xs:sequence><xs:element name='b' minOccurs='0'/></xs:sequence><xs:attribute name='x'/></xs:complexType>\
        <xs:complexType name='longer'><xs:complexContent><xs:extension base='base'><xs:sequence><xs:element name='c'/></xs:sequence><xs:attribute name='y'/></xs:extension></xs:complexContent></xs:complexType>\
        <xs:complexType name='shorter'><xs:complexContent><xs:restriction base='base'><xs:sequence/><xs:attribute name='x' use='prohibited'/></xs:restriction></xs:complexContent></xs:complexType>\
        <xs:complexType name='none' abstract='true'><xs:complexContent><xs:extension base='base'/></xs:complexContent></xs:complexType>\
        <xs:complexType name='money'><xs:simpleContent><xs:extension base='xs:decimal'><xs:attribute name='cur' use='required'/></xs:extension></xs:simpleContent></xs:complexType>\
        <xs:complexType name='little'><xs:simpleContent><xs:restriction base='money'><xs:maxInclusive value='9'/></xs:restriction></xs:simpleContent></xs:complexType>\
        <xs:element name='a' type='base'/><xs:element name='l' type='longer'/><xs:element name='s' type='shorter'/><xs:element name='m' type='money'/><xs:element name='t' type='little'/><xs:element name='blocked' type='base' block='extension'/>";
    const XSI: &str = "xmlns:xsi='http://www.w3.org/2001/XMLSchema-instance'";
    for (document, expected) in [
        ("<l x='' y=''><b/><c/></l>", ""),
        ("<l><b/></l>", "/l[1]: <l> ends too early: expected c"),
        ("<s x=''/>", "/s[1]/@x: the attribute \"x\" may not stand here"),
        ("<m cur='A'>1.5</m>", ""),
        ("<m>1</m>", "/m[1]: the attribute \"cur\" is missing"),
        ("<t cur='A'>10</t>", "/t[1]: 10 must be at most 9"),
        ("<a xsi:type='longer' XSI><c/></a>", ""),
        ("<a xsi:type='longer' XSI><b/></a>", "/a[1]: <a> ends too early: expected c"),
        (
            "<a xsi:type='money' XSI/>",
            "/a[1]/@xsi:type: the type money is not derived from base, which <a> has",
        ),
        (
            "<a xsi:type='lnger' XSI/>",
            "/a[1]/@xsi:type: the schema has no type \"lnger\" (near: longer)",
        ),
        (
            "<a xsi:type='none' XSI/>",
            "/a[1]: the type none is abstract: <a> has to say another one (with xsi:type=\"…\"; xsi is the prefix of http://www.w3.org/2001/XMLSchema-instance)",
        ),
        (
            "<blocked xsi:type='longer' XSI><c/></blocked>",
            "/blocked[1]/@xsi:type: the type longer cannot stand in for base here: the schema blocks it\n/blocked[1]/c[1]: expected b, found c",
        ),
    ] {
        assert_eq!(found(types, &[], &document.replace("XSI", XSI)), expected, "{document}");
    }
}

#[test]
fn substitution() {
    let body = "<xs:element name='head' type='xs:string' abstract='true'/><xs:element name='one' substitutionGroup='head'/><xs:element name='two' type='xs:token' substitutionGroup='one'/>\
        <xs:element name='a'><xs:complexType><xs:sequence><xs:element ref='head' maxOccurs='unbounded'/></xs:sequence></xs:complexType></xs:element>";
    for (document, expected) in [
        ("<a><one>x</one><two>y</two></a>", ""),
        (
            "<a><head>x</head></a>",
            "/a[1]/head[1]: <head> is abstract: another element has to stand in for it (there are: one, two)",
        ),
        (
            "<a><three/></a>",
            "/a[1]/three[1]: expected one or two, found three\n/a[1]: <a> ends too early: expected one or two",
        ),
    ] {
        assert_eq!(found(body, &[], document), expected, "{document}");
    }
}

#[test]
fn nil_and_fixed_values() {
    const XSI: &str = "xmlns:xsi='http://www.w3.org/2001/XMLSchema-instance'";
    let body = "<xs:element name='a' type='xs:int' nillable='true'/><xs:element name='b' type='xs:int'/><xs:element name='c' type='xs:decimal' fixed='1.0'/><xs:element name='d' type='xs:int' default='7'/>";
    for (document, expected) in [
        ("<a xsi:nil='true' XSI/>", ""),
        ("<a xsi:nil='false' XSI/>", "/a[1]: \"\" is no xs:int (it is a whole number)"),
        ("<a xsi:nil='1' XSI>1</a>", "/a[1]: <a> is nil, and nothing may stand in it"),
        (
            "<b xsi:nil='true' XSI/>",
            "/b[1]/@xsi:nil: this element cannot be nil (the schema would have to say nillable=\"true\")\n/b[1]: \"\" is no xs:int (it is a whole number)",
        ),
        ("<c>1.00</c>", ""),
        ("<c/>", ""),
        ("<c>2</c>", "/c[1]: expected \"1.0\", found \"2\""),
        ("<d/>", ""),
    ] {
        assert_eq!(found(body, &[], &document.replace("XSI", XSI)), expected, "{document}");
    }
}

#[test]
fn wildcards() {
    let body = |attributes: &str| {
        format!(
            "<xs:schema targetNamespace='urn:t' xmlns='urn:t' elementFormDefault='qualified'><xs:element name='a'><xs:complexType><xs:sequence><xs:any {attributes} minOccurs='0' maxOccurs='unbounded'/></xs:sequence></xs:complexType></xs:element><xs:element name='g' type='xs:int'/></xs:schema>"
        )
    };
    for (attributes, document, expected) in [
        (
            "namespace='##any' processContents='skip'",
            "<a xmlns='urn:t'><g>x</g><z xmlns=''/></a>",
            "",
        ),
        (
            "processContents='lax'",
            "<a xmlns='urn:t'><g>x</g><z><g>y</g></z></a>",
            "/a[1]/g[1]: \"x\" is no xs:int (it is a whole number)\n/a[1]/z[1]/g[1]: \"y\" is no xs:int (it is a whole number)",
        ),
        (
            "",
            "<a xmlns='urn:t'><z/></a>",
            "/a[1]/z[1]: the schema has no element z (there are: a, g)",
        ),
        (
            "namespace='##other' processContents='skip'",
            "<a xmlns='urn:t'><g>1</g></a>",
            "/a[1]/g[1]: expected an element of a namespace other than urn:t, found g",
        ),
        (
            "namespace='##other' processContents='skip'",
            "<a xmlns='urn:t'><g xmlns='urn:o'/></a>",
            "",
        ),
        (
            "namespace='##local ##targetNamespace' processContents='skip'",
            "<a xmlns='urn:t'><g/><z xmlns=''/></a>",
            "",
        ),
    ] {
        assert_eq!(found(&body(attributes), &[], document), expected, "{attributes} {document}");
    }
}

#[test]
fn identity_constraints() {
    let body = "<xs:element name='a'><xs:complexType><xs:sequence>\
        <xs:element name='p' minOccurs='0' maxOccurs='unbounded'><xs:complexType><xs:simpleContent><xs:extension base='xs:decimal'><xs:attribute name='no' type='xs:int'/></xs:extension></xs:simpleContent></xs:complexType></xs:element>\
        <xs:element name='r' minOccurs='0' maxOccurs='unbounded'><xs:complexType><xs:attribute name='p' type='xs:int'/></xs:complexType></xs:element>\
        </xs:sequence></xs:complexType>\
        <xs:key name='piers'><xs:selector xpath='p'/><xs:field xpath='@no'/></xs:key>\
        <xs:unique name='values'><xs:selector xpath='.//p'/><xs:field xpath='.'/></xs:unique>\
        <xs:keyref name='refs' refer='piers'><xs:selector xpath='r'/><xs:field xpath='@p'/></xs:keyref></xs:element>";
    for (document, expected) in [
        ("<a><p no='1'>1</p><p no='2'>2</p><r p='02'/><r/></a>", ""),
        (
            "<a><p no='1'>1</p><p no='01'>2</p></a>",
            "/a[1]/p[2]: \"01\" is there twice for \"piers\"; it stands in line 1 already",
        ),
        (
            "<a><p no='1'>1</p><p no='2'>1.0</p></a>",
            "/a[1]/p[2]: \"1.0\" is there twice for \"values\"; it stands in line 1 already",
        ),
        (
            "<a><p>1</p></a>",
            "/a[1]/p[1]: the key \"piers\" needs @no here, and not all of it is there",
        ),
        (
            "<a><p no='1'>1</p><r p='3'/></a>",
            "/a[1]/r[1]: \"3\" refers to \"piers\", and nothing there has this value",
        ),
    ] {
        assert_eq!(found(body, &[], document), expected, "{document}");
    }
    // Keys of an element inside are there for references from around it.
    let nested = "<xs:element name='a'><xs:complexType><xs:sequence><xs:element name='g'><xs:complexType><xs:sequence><xs:element name='k' maxOccurs='9' type='xs:string'/></xs:sequence></xs:complexType>\
        <xs:key name='ks'><xs:selector xpath='k'/><xs:field xpath='.'/></xs:key></xs:element><xs:element name='r' type='xs:string'/></xs:sequence></xs:complexType>\
        <xs:keyref name='rs' refer='ks'><xs:selector xpath='r'/><xs:field xpath='.'/></xs:keyref></xs:element>";
    assert_eq!(found(nested, &[], "<a><g><k>x</k><k>y</k></g><r>y</r></a>"), "");
    assert_eq!(
        found(nested, &[], "<a><g><k>x</k></g><r>y</r></a>"),
        "/a[1]/r[1]: \"y\" refers to \"ks\", and nothing there has this value"
    );
}

#[test]
fn identifiers() {
    let body = "<xs:element name='a'><xs:complexType><xs:sequence><xs:element name='b' maxOccurs='9'><xs:complexType><xs:attribute name='id' type='xs:ID'/><xs:attribute name='to' type='xs:IDREFS'/></xs:complexType></xs:element></xs:sequence></xs:complexType></xs:element>";
    for (document, expected) in [
        ("<a><b to='y x'/><b id='x'/><b id='y'/></a>", ""),
        ("<a><b id='x'/><b id='x'/></a>", "/a[1]/b[2]/@id: the identifier \"x\" is given twice"),
        (
            "<a><b to='x'/></a>",
            "/a[1]/b[1]/@to: \"x\" refers to an identifier, and no element has it",
        ),
    ] {
        assert_eq!(found(body, &[], document), expected, "{document}");
    }
}

#[test]
fn documents_that_belong_together() {
    let chameleon = "<xs:complexType name='t'><xs:sequence><xs:element ref='e'/></xs:sequence></xs:complexType><xs:element name='e' type='xs:int'/>";
    let main = "<xs:schema targetNamespace='urn:t' xmlns='urn:t'><xs:include schemaLocation='c.xsd'/><xs:element name='a' type='t'/></xs:schema>";
    assert_eq!(found(main, &[("c.xsd", chameleon)], "<t:a xmlns:t='urn:t'><t:e>1</t:e></t:a>"), "");
    let main = "<xs:schema targetNamespace='urn:t' xmlns:o='urn:o'><xs:import namespace='urn:o' schemaLocation='o.xsd'/><xs:import namespace='http://www.w3.org/XML/1998/namespace'/><xs:element name='a'><xs:complexType><xs:sequence><xs:element ref='o:b'/></xs:sequence><xs:attribute ref='xml:lang'/></xs:complexType></xs:element></xs:schema>";
    let other =
        "<xs:schema targetNamespace='urn:o'><xs:element name='b' type='xs:int'/></xs:schema>";
    assert_eq!(
        found(
            main,
            &[("o.xsd", other)],
            "<t:a xmlns:t='urn:t' xml:lang='en'><b xmlns='urn:o'>1</b></t:a>"
        ),
        ""
    );
    assert_eq!(
        found(
            main,
            &[("o.xsd", other)],
            "<t:a xmlns:t='urn:t' xml:lang='e_n'><b xmlns='urn:o'>1</b></t:a>"
        ),
        "/t:a[1]/@xml:lang: \"e_n\" fits none of the 2 types that may stand here (it would have to be one of xs:language, xs:string)"
    );
    assert_eq!(
        found(main, &[], ""),
        "!no element is called \"b\": the schema of urn:o is not there"
    );
    let main = "<xs:redefine schemaLocation='r.xsd'><xs:simpleType name='s'><xs:restriction base='s'><xs:maxLength value='2'/></xs:restriction></xs:simpleType>\
        <xs:complexType name='c'><xs:complexContent><xs:extension base='c'><xs:attribute name='y'/></xs:extension></xs:complexContent></xs:complexType>\
        <xs:group name='g'><xs:sequence><xs:group ref='g'/><xs:element name='z'/></xs:sequence></xs:group>\
        <xs:attributeGroup name='ag'><xs:attributeGroup ref='ag'/><xs:attribute name='w'/></xs:attributeGroup></xs:redefine>\
        <xs:element name='s' type='s'/><xs:element name='c' type='c'/><xs:element name='g'><xs:complexType><xs:group ref='g'/><xs:attributeGroup ref='ag'/></xs:complexType></xs:element>";
    let redefined = "<xs:simpleType name='s'><xs:restriction base='xs:string'><xs:minLength value='1'/></xs:restriction></xs:simpleType><xs:complexType name='c'><xs:attribute name='x'/></xs:complexType><xs:group name='g'><xs:sequence><xs:element name='y'/></xs:sequence></xs:group><xs:attributeGroup name='ag'><xs:attribute name='v'/></xs:attributeGroup>";
    for (document, expected) in [
        ("<s>ab</s>", ""),
        ("<s/>", "/s[1]: \"\" has 0 characters, and there must be at least 1"),
        ("<s>abc</s>", "/s[1]: \"abc\" has 3 characters, and there must be at most 2"),
        ("<c x='' y=''/>", ""),
        ("<g v='' w=''><y/><z/></g>", ""),
        ("<g><y/></g>", "/g[1]: <g> ends too early: expected z"),
    ] {
        assert_eq!(found(main, &[("r.xsd", redefined)], document), expected, "{document}");
    }
}

#[test]
fn schemas_that_are_none() {
    for (body, expected) in [
        (
            "<xs:element name='a' type='xs:itn'/>",
            "!no type of XML Schema is called \"itn\" (near: int)",
        ),
        (
            "<xs:element name='a' type='t'/><xs:simpleType name='tt'><xs:list itemType='xs:int'/></xs:simpleType>",
            "!no type is called \"t\"",
        ),
        (
            "<xs:element nam='a'/>",
            "!<element> at the top of a schema needs a name\n!<element> has no attribute \"nam\" (near: name)",
        ),
        ("<xs:elemnt name='a'/>", "!<xs:elemnt> cannot stand in <schema> (near: element)"),
        (
            "<xs:complexType name='a'><xs:attribute name='x'/><xs:sequence/></xs:complexType>",
            "!<xs:sequence> stands too late in <complexType>, or too often (there may be, in this order: annotation, simpleContent, complexContent, group, all, choice, sequence, attribute, attributeGroup, anyAttribute)",
        ),
        ("<xs:simpleType name='a'/>", "!<simpleType> needs restriction or list or union"),
        (
            "<xs:element name='a'/><xs:element name='a'/>",
            "!the element \"a\" is defined twice (take one away, or rename it)",
        ),
        (
            "<xs:simpleType name='a'><xs:restriction base='a'/></xs:simpleType>",
            "!the type \"a\" is derived from itself",
        ),
        (
            "<xs:complexType name='a'><xs:complexContent><xs:extension base='b'/></xs:complexContent></xs:complexType><xs:complexType name='b'><xs:complexContent><xs:extension base='a'/></xs:complexContent></xs:complexType>",
            "!the type a is derived from itself",
        ),
        (
            "<xs:group name='a'><xs:sequence><xs:group ref='a'/></xs:sequence></xs:group>",
            "!the group \"a\" holds itself",
        ),
        (
            "<xs:attributeGroup name='a'><xs:attributeGroup ref='a'/></xs:attributeGroup>",
            "!the attribute group \"a\" holds itself",
        ),
        ("<xs:element name='a' substitutionGroup='a'/>", "!the element \"a\" stands in for itself"),
        (
            "<xs:simpleType name='a'><xs:restriction base='xs:int'><xs:minInclusive value='5'/><xs:maxInclusive value='4'/></xs:restriction></xs:simpleType>",
            "!the least value is 5, and the greatest 4: nothing is between them",
        ),
        (
            "<xs:simpleType name='a'><xs:restriction base='xs:string'><xs:minLength value='5'/><xs:maxLength value='4'/></xs:restriction></xs:simpleType>",
            "!minLength is 5, and maxLength is 4: nothing is both",
        ),
        (
            "<xs:simpleType name='a'><xs:restriction base='xs:string'><xs:minInclusive value='5'/></xs:restriction></xs:simpleType>",
            "!<minInclusive> says nothing of values of xs:string",
        ),
        (
            "<xs:simpleType name='a'><xs:restriction base='xs:byte'><xs:maxInclusive value='200'/></xs:restriction></xs:simpleType>",
            "!the value of <maxInclusive> is none of the base: 200 must be at most 127",
        ),
        (
            "<xs:simpleType name='a'><xs:restriction base='xs:string'><xs:pattern value='['/></xs:restriction></xs:simpleType>",
            "!\"[\" is no regular expression of XML Schema: a class is not closed",
        ),
        (
            "<xs:element name='a' type='xs:int' default='x'/>",
            "!the value \"x\" is none of the type: \"x\" is no xs:int (it is a whole number)",
        ),
        (
            "<xs:element name='a' default='x' fixed='x'/>",
            "!a value cannot be both fixed and a default (take one away)",
        ),
        (
            "<xs:element name='a'><xs:complexType><xs:sequence><xs:element name='b' minOccurs='2'/></xs:sequence></xs:complexType></xs:element>",
            "!minOccurs is 2, and maxOccurs 1: nothing is both",
        ),
        (
            "<xs:element name='a'><xs:complexType><xs:sequence><xs:element name='b' minOccurs='0'/><xs:element name='b'/></xs:sequence></xs:complexType></xs:element>",
            "!it cannot be told which particle <b> is here: another one fits the same element (write it so that the next element alone decides (Unique Particle Attribution))",
        ),
        (
            "<xs:element name='a'><xs:complexType><xs:sequence><xs:any minOccurs='0'/><xs:element name='b'/></xs:sequence></xs:complexType></xs:element>",
            "!it cannot be told which particle <b> is here: another one fits the same element (write it so that the next element alone decides (Unique Particle Attribution))",
        ),
        (
            "<xs:element name='a'><xs:complexType><xs:sequence><xs:element name='b' minOccurs='2' maxOccurs='2'/><xs:element name='b'/></xs:sequence></xs:complexType></xs:element>",
            "/a[1]: <a> ends too early: expected b",
        ),
        (
            "<xs:element name='a'><xs:complexType><xs:sequence><xs:element name='b' type='xs:int'/><xs:element name='b'/></xs:sequence></xs:complexType></xs:element>",
            "!<b> has two types in one content (elements of one name have one type where they stand beside each other)",
        ),
        (
            "<xs:element name='a'><xs:complexType><xs:sequence><xs:all/></xs:sequence></xs:complexType></xs:element>",
            "!<xs:all> cannot stand in <sequence> (there may be, in this order: annotation, element, group, choice, sequence, any)",
        ),
        (
            "<xs:complexType name='b'><xs:sequence><xs:element name='x' minOccurs='0'/></xs:sequence></xs:complexType><xs:complexType name='r'><xs:complexContent><xs:restriction base='b'><xs:sequence><xs:element name='y'/></xs:sequence></xs:restriction></xs:complexContent></xs:complexType>",
            "!this is no restriction of b: <y> may stand where the base does not have it",
        ),
        (
            "<xs:complexType name='b'><xs:sequence><xs:element name='x'/></xs:sequence></xs:complexType><xs:complexType name='r'><xs:complexContent><xs:restriction base='b'><xs:sequence><xs:element name='x' minOccurs='0'/></xs:sequence></xs:restriction></xs:complexContent></xs:complexType>",
            "!this is no restriction of b: less may stand in it than the base needs",
        ),
        (
            "<xs:complexType name='b'><xs:sequence><xs:element name='x' type='xs:int'/></xs:sequence></xs:complexType><xs:complexType name='r'><xs:complexContent><xs:restriction base='b'><xs:sequence><xs:element name='x' type='xs:string'/></xs:sequence></xs:restriction></xs:complexContent></xs:complexType>",
            "!this is no restriction of b: <x> is no restriction of what the base has there",
        ),
        (
            "<xs:complexType name='b'><xs:attribute name='x' type='xs:int' use='required'/></xs:complexType><xs:complexType name='r'><xs:complexContent><xs:restriction base='b'><xs:attribute name='x' type='xs:int'/></xs:restriction></xs:complexContent></xs:complexType>",
            "!the attribute \"x\" is required in the base",
        ),
        (
            "<xs:complexType name='b' final='#all'/><xs:complexType name='r'><xs:complexContent><xs:extension base='b'/></xs:complexContent></xs:complexType>",
            "!the type b is final: it allows no extension",
        ),
        (
            "<xs:element name='a'><xs:key name='k'><xs:selector xpath='b['/><xs:field xpath='@c'/></xs:key></xs:element>",
            "!\"b[\" cannot be the path of a <selector>: \"b[\" is no name (paths are made of names, *, ., .//, | and, at the end of a field, @name)",
        ),
        (
            "<xs:element name='a'><xs:keyref name='k' refer='kk'><xs:selector xpath='b'/><xs:field xpath='@c'/></xs:keyref></xs:element>",
            "!no key is called \"kk\" (near: k)",
        ),
        (
            "<xs:include schemaLocation='none.xsd'/>",
            "!the schema refers to none.xsd, which is not there",
        ),
        (
            "<xs:schema targetNamespace='urn:t'><xs:element name='a' type='b'/></xs:schema>",
            "!no type is called \"b\" in the namespace \"\", which is not imported (import the namespace)",
        ),
    ] {
        assert_eq!(found(body, &[], "<a/>"), expected, "{body}");
    }
}

/// The compiler and the schema for schemas refuse the same forms; some things only the schema for schemas asks for.
#[test]
fn the_schema_for_schemas() {
    const IN: [&str; 2] = ["<xs:complexType name='a'>", "</xs:complexType>"];
    for body in [
        "<xs:element nam='a'/>",
        "<xs:elemnt name='a'/>",
        "<xs:simpleType name='a'/>",
        "<xs:element name='a b'/>",
        "<xs:element name='a' form='qualified'/>",
        "<xs:element name='a' nillable='ja'/>",
        "<xs:element name='a' block='none'/>",
        "<xs:attribute name='a' use='required'/>",
        "<xs:group name='a' minOccurs='0'><xs:sequence/></xs:group>",
        "<xs:include/>",
        "<xs:element name='a'/><xs:include schemaLocation='b.xsd'/>",
        &IN.join("<xs:attribute name='b' use='requird'/>"),
        &IN.join("<xs:attribute name='x'/><xs:sequence/>"),
        &IN.join("<xs:sequence minOccurs='x'/>"),
        &IN.join("<xs:sequence><xs:all/></xs:sequence>"),
        &IN.join("<xs:sequence><xs:any processContents='laxx'/></xs:sequence>"),
        &IN.join("<xs:all maxOccurs='2'/>"),
        &IN.join("<xs:complexContent/>"),
        "<xs:simpleType name='a'><xs:restriction base='xs:string'><xs:whiteSpace value='fold'/></xs:restriction></xs:simpleType>",
        "<xs:simpleType name='a'><xs:restriction base='xs:int'><xs:totalDigits value='0'/></xs:restriction></xs:simpleType>",
        "<xs:element name='a'><xs:key name='k'><xs:selector xpath='b['/><xs:field xpath='@c'/></xs:key></xs:element>",
        "<xs:element name='a'><xs:key name='k'><xs:selector xpath='b'/></xs:key></xs:element>",
    ] {
        assert!(compile(body, &[]).is_err(), "the compiler takes {body}");
        assert_ne!(by_schema_for_schemas(body), "", "the schema for schemas takes {body}");
    }
    for (body, expected) in [
        (
            IN.join("<xs:sequence><xs:element name='b' form='qualifed'/></xs:sequence>"),
            "121 \"qualifed\" is none of the 2 values that may stand here",
        ),
        (
            "<xs:element name='a' id='x'/><xs:element name='b' id='x'/>".to_owned(),
            "110 the identifier \"x\" is given twice",
        ),
        (
            "<xs:group name='a'/>".to_owned(),
            "56 <xs:group> ends too early: expected annotation, all, choice or sequence",
        ),
        (
            "<xs:schema elementFormDefault='qual'/>".to_owned(),
            "76 \"qual\" is none of the 2 values that may stand here",
        ),
        (
            "<xs:simpleType name='a'><xs:restriction base='xs:string'><xs:maxLength value='0' fixed='x'/></xs:restriction></xs:simpleType>".to_owned(),
            "144 \"x\" is no xs:boolean",
        ),
    ] {
        assert!(compile(&body, &[]).is_ok(), "{body}");
        assert_eq!(by_schema_for_schemas(&body), expected, "{body}");
    }
    // It is one itself.
    assert_eq!(by_schema_for_schemas(SCHEMA_FOR_SCHEMAS), "");
}
