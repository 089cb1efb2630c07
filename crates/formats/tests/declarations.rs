//! Declarations of document types (XML 1.0, section 2.8 to 4.8), production by production: what is read, and what is refused with
//! which words.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

use kyanite_formats::xml;
use kyanite_tree::Arena;

/// What is wrong with a document, if something is.
fn said(text: &str) -> String {
    let arena = Arena::new();
    match xml::document(text, &arena, xml::Options::default()) {
        Ok(_) => String::new(),
        Err(error) => error.message().to_owned(),
    }
}

/// Checks a table of productions, declarations inside a document type, and what is said.
fn assert_said(cases: &[(&str, &str, &str)]) {
    let mut wrong = Vec::new();
    for (production, declaration, expected) in cases {
        let found = said(&format!("<!DOCTYPE a [{declaration}]><a/>"));
        if found != *expected {
            wrong.push(format!(
                "[{production}] {declaration}\n   said {found:?}\n wanted {expected:?}"
            ));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn elements() {
    assert_said(&[
        ("45", "<!ELEMENT a EMPTY>", ""),
        ("45", "<!ELEMENT a ANY >", ""),
        ("45", "<!ELEMENT a>", "white space is missing here"),
        ("45", "<!ELEMENTa EMPTY>", "white space is missing here"),
        ("46", "<!ELEMENT a none>", "EMPTY, ANY or a group in parentheses is missing here"),
        ("47", "<!ELEMENT a (b)>", ""),
        ("47", "<!ELEMENT a (b, c?, (d | e)*)+>", ""),
        ("47", "<!ELEMENT a ((b))>", ""),
        ("47", "<!ELEMENT a ()>", "a name is missing here"),
        (
            "49",
            "<!ELEMENT a (b | c, d)>",
            "the group goes on with `|`, `,` or `)`, one kind in each group",
        ),
        ("50", "<!ELEMENT a (b,)>", "a name is missing here"),
        (
            "50",
            "<!ELEMENT a (b c)>",
            "the group goes on with `|`, `,` or `)`, one kind in each group",
        ),
        ("47", "<!ELEMENT a (b", "the group goes on with `|`, `,` or `)`, one kind in each group"),
        ("51", "<!ELEMENT a (#PCDATA)>", ""),
        ("51", "<!ELEMENT a (#PCDATA)*>", ""),
        ("51", "<!ELEMENT a (#PCDATA | b | c)*>", ""),
        ("51", "<!ELEMENT a (#PCDATA | b)>", "a star is missing behind the group"),
        ("51", "<!ELEMENT a (#PCDATA, b)*>", "`|` or `)` is missing here"),
        ("51", "<!ELEMENT a (#PCDATA | )*>", "a name is missing here"),
    ]);
}

#[test]
fn attributes() {
    assert_said(&[
        ("52", "<!ATTLIST a>", ""),
        ("53", "<!ATTLIST a b CDATA #IMPLIED c ID #REQUIRED>", ""),
        ("53", "<!ATTLIST a b CDATA 'x' c NMTOKENS #FIXED \"y z\">", ""),
        ("53", "<!ATTLIST a b>", "white space is missing here"),
        ("54", "<!ATTLIST a b TEXT #IMPLIED>", "the type of the attribute is missing here"),
        ("58", "<!ATTLIST a b NOTATION (n | m) #IMPLIED>", ""),
        ("58", "<!ATTLIST a b NOTATION(n) #IMPLIED>", "white space is missing here"),
        ("59", "<!ATTLIST a b (x | 1y) 'x'>", ""),
        ("59", "<!ATTLIST a b () 'x'>", "a value is missing here"),
        ("59", "<!ATTLIST a b (x y) 'x'>", "`|` or `)` is missing here"),
        ("60", "<!ATTLIST a b CDATA>", "white space is missing here"),
        ("60", "<!ATTLIST a b CDATA #FIXED'x'>", "white space is missing here"),
        ("60", "<!ATTLIST a b CDATA '<'>", "a < stands in an attribute value"),
        ("60", "<!ATTLIST a b CDATA '&nope;'>", "the entity &nope; is not declared"),
    ]);
}

#[test]
fn entities_and_notations() {
    assert_said(&[
        ("71", "<!ENTITY e 'x'>", ""),
        ("71", "<!ENTITY e \"&#65;&lt;\">", ""),
        ("71", "<!ENTITY e x>", "a text in quotes is missing here"),
        ("71", "<!ENTITY e 'x>", "this text is not closed"),
        (
            "71",
            "<!ENTITY e:f 'x'>",
            "the name `e:f` has a colon, which only elements and attributes may have",
        ),
        ("72", "<!ENTITY % p '<!ELEMENT b EMPTY>'> %p;", ""),
        (
            "72",
            "<!ENTITY % p '%q;'>",
            "a reference to a parameter entity stands inside a declaration",
        ),
        ("69", "%p", "a reference to a parameter entity is written %name;"),
        ("69", "<!ENTITY % p '&#37;p;'> %p;", "the entity %p; refers to itself"),
        ("75", "<!ENTITY e SYSTEM 'e.xml'>", ""),
        ("75", "<!ENTITY e PUBLIC '-//x//y' 'e.xml'>", ""),
        ("75", "<!ENTITY e PUBLIC '-//x//y'>", "white space is missing here"),
        ("75", "<!ENTITY e PUBLIC '-//x//y''e.xml'>", "white space is missing here"),
        (
            "12",
            "<!ENTITY e PUBLIC '{x}' 'e.xml'>",
            "this character cannot stand in a public identifier",
        ),
        ("76", "<!NOTATION n SYSTEM 'v'> <!ENTITY e SYSTEM 'e.gif' NDATA n>", ""),
        ("76", "<!ENTITY e SYSTEM 'e.gif' NDATA>", "white space is missing here"),
        ("82", "<!NOTATION n PUBLIC 'x'>", ""),
        ("82", "<!NOTATION n PUBLIC 'x' 'y'>", ""),
        ("82", "<!NOTATION n>", "white space is missing here"),
    ]);
}

#[test]
fn between_declarations() {
    assert_said(&[
        ("28b", " \n<!-- c --> ", ""),
        ("16", "<?t d?><?u?>", ""),
        ("16", "<?xml d?>", "a processing instruction needs a name that is not xml"),
        ("16", "<?t d", "this processing instruction is not closed"),
        (
            "16",
            "<?t:u d?>",
            "the name `t:u` has a colon, which only elements and attributes may have",
        ),
        ("15", "<!-- c -- d -->", "two hyphens stand inside a comment"),
        ("15", "<!-- c", "this comment is not closed"),
        ("29", "<!DOCTYPE b>", "no declaration begins like this"),
        ("29", "text", "no declaration begins like this"),
        ("61", "<![INCLUDE[ ]]>", "no declaration begins like this"),
    ]);
}

/// The XML declaration and what stands before the root element.
#[test]
fn prologs() {
    for (text, expected) in [
        ("<?xml version='1.0'?><a/>", ""),
        ("<?xml version=\"1.1\" encoding='UTF-8' standalone = 'yes' ?>\n<a/>", ""),
        ("<?xml version='1.0' standalone='no'?><a/>", ""),
        ("<?xml encoding='UTF-8'?><a/>", "this is not an XML declaration"),
        ("<?xml version='2.0'?><a/>", "this is no version of XML"),
        ("<?xml version='1.0' encoding='-'?><a/>", "this is no encoding of XML"),
        ("<?xml version='1.0' standalone='maybe'?><a/>", "this is no standalone of XML"),
        (
            "<?xml version='1.0' standalone='no' encoding='UTF-8'?><a/>",
            "this is not an XML declaration",
        ),
        ("<?xml version=1.0?><a/>", "this is no version of XML"),
        ("<?xml version='1.0'><a/>", "this is not an XML declaration"),
        (
            " <?xml version='1.0'?><a/>",
            "an XML declaration stands at the very start of the document, or nowhere",
        ),
        ("<!-- c --><?t?><!DOCTYPE a><!-- d --><a/><!-- e --><?u?>\n", ""),
        ("<!DOCTYPE a SYSTEM 'a.dtd' [<!ELEMENT a ANY>]><a/>", ""),
        ("<!DOCTYPE a PUBLIC 'p' 'a.dtd'><a/>", ""),
        (
            "<!DOCTYPE a><!DOCTYPE a><a/>",
            "the document type declaration stands before the root element, once",
        ),
        ("<!DOCTYPE><a/>", "white space is missing here"),
        ("<a/><!DOCTYPE a>", "the document type declaration stands before the root element, once"),
        ("<a/><b/>", "a second element stands beside the root element"),
        ("<a/>x", "text stands outside the root element"),
        ("", "there is no element in this input"),
    ] {
        assert_eq!(said(text), expected, "{text}");
    }
}
