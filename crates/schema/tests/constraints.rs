//! The constraints on schemas, section by section of XML Schema 1.0: what is refused, and the few forms next to it that are not.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that fails may panic")]

mod support;

use support::{compile, found};

/// Checks a table of sections, schemas and what is said of each; nothing is said of a schema that is one.
fn assert_said(cases: &[(&str, &str, &str)]) {
    for (section, body, expected) in cases {
        let said = match compile(body, &[]) {
            Ok(_) => String::new(),
            Err(problems) => {
                let all = problems.iter().map(|problem| match &problem.advice {
                    Some(advice) => format!("{} ({advice})", problem.message),
                    None => problem.message.clone(),
                });
                all.collect::<Vec<_>>().join("\n")
            }
        };
        assert_eq!(said, *expected, "{section} {body}");
    }
}

/// Part 1: structures.
#[test]
fn structures() {
    assert_said(&[
        ("3.2.3", "<xs:attribute name='xmlns'/>", "\"xmlns\" is no name of an attribute"),
        (
            "3.2.4",
            "<xs:schema targetNamespace='http://www.w3.org/2001/XMLSchema-instance'><xs:attribute name='a'/></xs:schema>",
            "attributes of this namespace cannot be declared",
        ),
        (
            "3.2.3",
            "<xs:attribute name='a' type='xs:int'><xs:simpleType><xs:list itemType='xs:int'/></xs:simpleType></xs:attribute>",
            "the type is given twice: by an attribute, and inside the element (take one away)",
        ),
        (
            "3.2.3",
            "<xs:attribute name='g' fixed='1' type='xs:int'/><xs:complexType name='t'><xs:attribute ref='g' fixed='2'/></xs:complexType>",
            "the attribute has another fixed value where it is declared",
        ),
        (
            "3.2.3",
            "<xs:attribute name='g' fixed='1' type='xs:int'/><xs:complexType name='t'><xs:attribute ref='g' fixed='01'/></xs:complexType>",
            "",
        ),
        (
            "3.2.3",
            "<xs:attribute name='g' fixed='1' type='xs:int'/><xs:complexType name='t'><xs:attribute ref='g' default='1'/></xs:complexType>",
            "the attribute has another fixed value where it is declared",
        ),
        (
            "3.2.3",
            "<xs:attribute name='g'/><xs:complexType name='t'><xs:attribute ref='g' type='xs:int'/></xs:complexType>",
            "type cannot stand beside ref",
        ),
        (
            "3.2.3",
            "<xs:complexType name='t'><xs:attribute/></xs:complexType>",
            "an attribute needs either a name or a ref",
        ),
        (
            "3.2.3",
            "<xs:complexType name='t'><xs:attribute name='x' use='required' default='1'/></xs:complexType>",
            "an attribute that is required has no use for a default",
        ),
        (
            "3.2.6",
            "<xs:complexType name='t'><xs:attribute name='x' type='xs:ID' default='i'/></xs:complexType>",
            "an identifier can have no such value: there would be two of it",
        ),
        (
            "3.3.3",
            "<xs:element name='a' type='xs:int'><xs:simpleType><xs:list itemType='xs:int'/></xs:simpleType></xs:element>",
            "the type is given twice: by an attribute, and inside the element (take one away)",
        ),
        (
            "3.3.3",
            "<xs:complexType name='t'><xs:sequence><xs:element/></xs:sequence></xs:complexType>",
            "an element in a group needs either a name or a ref",
        ),
        (
            "3.3.3",
            "<xs:element name='g'/><xs:complexType name='t'><xs:sequence><xs:element ref='g' nillable='true'/></xs:sequence></xs:complexType>",
            "nillable cannot stand beside ref",
        ),
        (
            "3.3.3",
            "<xs:complexType name='t'><xs:sequence><xs:element name='x' abstract='true'/></xs:sequence></xs:complexType>",
            "abstract can only stand on an element at the top of a schema",
        ),
        (
            "3.3.3",
            "<xs:complexType name='t'><xs:sequence><xs:element name='x' substitutionGroup='g'/></xs:sequence></xs:complexType>",
            "substitutionGroup can only stand on an element at the top of a schema",
        ),
        (
            "3.3.6",
            "<xs:element name='a' type='xs:ID' default='i'/>",
            "an identifier can have no such value: there would be two of it",
        ),
        (
            "3.3.6",
            "<xs:element name='a' default='x'><xs:complexType><xs:sequence/></xs:complexType></xs:element>",
            "an element without text can have no such value",
        ),
        (
            "3.3.6",
            "<xs:element name='a' default='x'><xs:complexType mixed='true'><xs:sequence><xs:element name='b'/></xs:sequence></xs:complexType></xs:element>",
            "an element that needs others in it can have no such value",
        ),
        (
            "3.3.6",
            "<xs:element name='a' default='x'><xs:complexType mixed='true'><xs:sequence><xs:element name='b' minOccurs='0'/></xs:sequence></xs:complexType></xs:element>",
            "",
        ),
        (
            "3.3.6",
            "<xs:element name='h' type='xs:int'/><xs:element name='a' type='xs:string' substitutionGroup='h'/>",
            "this element cannot stand in for <h>: its type, xs:string, is not derived from xs:int",
        ),
        (
            "3.3.6",
            "<xs:element name='h' type='xs:int' final='restriction'/><xs:element name='a' type='xs:byte' substitutionGroup='h'/>",
            "<h> is final: no element whose type is derived so can stand in for it",
        ),
        (
            "3.4.3",
            "<xs:complexType name='t'><xs:simpleContent><xs:extension/></xs:simpleContent></xs:complexType>",
            "<extension> needs a base",
        ),
        (
            "3.4.3",
            "<xs:complexType name='t'><xs:simpleContent><xs:extension base='xs:int'/></xs:simpleContent><xs:attribute name='x'/></xs:complexType>",
            "<attribute> cannot stand beside <simpleContent> (write it inside)",
        ),
        (
            "3.4.3",
            "<xs:complexType name='t'><xs:complexContent><xs:extension base='xs:int'/></xs:complexContent></xs:complexType>",
            "xs:int is a simple type, and complex content needs a complex one (use <simpleContent>)",
        ),
        (
            "3.4.3",
            "<xs:complexType name='b'><xs:sequence/></xs:complexType><xs:complexType name='t'><xs:simpleContent><xs:extension base='b'/></xs:simpleContent></xs:complexType>",
            "b has elements, and simple content has only text (use <complexContent>)",
        ),
        (
            "3.4.3",
            "<xs:complexType name='t'><xs:simpleContent><xs:restriction base='xs:int'/></xs:simpleContent></xs:complexType>",
            "xs:int is no complex type with simple content, of which a restriction can be made (extend the type, or restrict it in a <simpleType>)",
        ),
        (
            "3.4.3",
            "<xs:complexType name='b'><xs:simpleContent><xs:extension base='xs:int'/></xs:simpleContent></xs:complexType><xs:complexType name='t'><xs:simpleContent><xs:restriction base='b'><xs:simpleType><xs:restriction base='xs:string'/></xs:simpleType></xs:restriction></xs:simpleContent></xs:complexType>",
            "the type of the text is not derived from that of the base",
        ),
        (
            "3.4.3",
            "<xs:complexType name='b' mixed='true'><xs:sequence minOccurs='0'><xs:element name='x'/></xs:sequence></xs:complexType><xs:complexType name='t'><xs:simpleContent><xs:restriction base='b'><xs:simpleType><xs:restriction base='xs:int'/></xs:simpleType></xs:restriction></xs:simpleContent></xs:complexType>",
            "",
        ),
        (
            "3.4.3",
            "<xs:complexType name='b' mixed='true'><xs:sequence><xs:element name='x'/></xs:sequence></xs:complexType><xs:complexType name='t'><xs:simpleContent><xs:restriction base='b'><xs:simpleType><xs:restriction base='xs:int'/></xs:simpleType></xs:restriction></xs:simpleContent></xs:complexType>",
            "this is no restriction of b: the base has elements that cannot be left out",
        ),
        (
            "3.4.6",
            "<xs:complexType name='b'><xs:simpleContent><xs:extension base='xs:int'/></xs:simpleContent></xs:complexType><xs:complexType name='t'><xs:complexContent><xs:extension base='b'><xs:sequence><xs:element name='x'/></xs:sequence></xs:extension></xs:complexContent></xs:complexType>",
            "b has only text, and cannot be extended by elements",
        ),
        (
            "3.4.6",
            "<xs:complexType name='b'><xs:all><xs:element name='x'/></xs:all></xs:complexType><xs:complexType name='t'><xs:complexContent><xs:extension base='b'><xs:sequence><xs:element name='y'/></xs:sequence></xs:extension></xs:complexContent></xs:complexType>",
            "content in any order (<all>) cannot be extended, nor extend other content (write a sequence)",
        ),
        (
            "3.4.6",
            "<xs:complexType name='b' mixed='true'><xs:sequence><xs:element name='x'/></xs:sequence></xs:complexType><xs:complexType name='t'><xs:complexContent><xs:extension base='b'><xs:sequence><xs:element name='y'/></xs:sequence></xs:extension></xs:complexContent></xs:complexType>",
            "in b text may stand between elements, and in an extension of it, too (write mixed=\"true\")",
        ),
        (
            "3.4.6",
            "<xs:complexType name='b'><xs:sequence><xs:element name='x'/></xs:sequence></xs:complexType><xs:complexType name='t'><xs:complexContent mixed='true'><xs:extension base='b'><xs:sequence><xs:element name='y'/></xs:sequence></xs:extension></xs:complexContent></xs:complexType>",
            "in b no text may stand between elements, and so in no extension of it (take mixed away)",
        ),
        (
            "3.4.6",
            "<xs:complexType name='b'><xs:attribute name='x'/></xs:complexType><xs:complexType name='t'><xs:complexContent><xs:extension base='b'><xs:attribute name='x'/></xs:extension></xs:complexContent></xs:complexType>",
            "the base has the attribute \"x\" already",
        ),
        (
            "3.4.6",
            "<xs:complexType name='t'><xs:attribute name='x'/><xs:attribute name='x'/></xs:complexType>",
            "the attribute \"x\" is given twice",
        ),
        (
            "3.4.6",
            "<xs:complexType name='t'><xs:attribute name='x' type='xs:ID'/><xs:attribute name='y' type='xs:ID'/></xs:complexType>",
            "a type can have one attribute of type xs:ID only",
        ),
        (
            "3.4.6",
            "<xs:complexType name='b'><xs:sequence><xs:element name='x'/></xs:sequence></xs:complexType><xs:complexType name='t'><xs:complexContent><xs:restriction base='b'/></xs:complexContent></xs:complexType>",
            "this is no restriction of b: the base has elements that cannot be left out",
        ),
        (
            "3.4.6",
            "<xs:complexType name='b'/><xs:complexType name='t'><xs:complexContent><xs:restriction base='b'><xs:sequence><xs:element name='x'/></xs:sequence></xs:restriction></xs:complexContent></xs:complexType>",
            "this is no restriction of b: the base is empty",
        ),
        (
            "3.4.6",
            "<xs:complexType name='b'><xs:sequence><xs:element name='x'/></xs:sequence></xs:complexType><xs:complexType name='t'><xs:complexContent><xs:restriction base='b'><xs:sequence><xs:any processContents='skip'/></xs:sequence></xs:restriction></xs:complexContent></xs:complexType>",
            "this is no restriction of b: any element may stand where the base does not have it",
        ),
        (
            "3.4.6",
            "<xs:complexType name='b'><xs:sequence><xs:element name='x'/></xs:sequence></xs:complexType><xs:complexType name='t'><xs:complexContent mixed='true'><xs:restriction base='b'><xs:sequence><xs:element name='x'/></xs:sequence></xs:restriction></xs:complexContent></xs:complexType>",
            "this is no restriction of b: in the base no text may stand between elements",
        ),
        (
            "3.4.6",
            "<xs:complexType name='b'><xs:sequence><xs:element name='x' fixed='1'/></xs:sequence></xs:complexType><xs:complexType name='t'><xs:complexContent><xs:restriction base='b'><xs:sequence><xs:element name='x' fixed='2'/></xs:sequence></xs:restriction></xs:complexContent></xs:complexType>",
            "this is no restriction of b: <x> is no restriction of what the base has there",
        ),
        (
            "3.4.6",
            "<xs:complexType name='b'><xs:attribute name='x' type='xs:int'/></xs:complexType><xs:complexType name='t'><xs:complexContent><xs:restriction base='b'><xs:attribute name='x' type='xs:string'/></xs:restriction></xs:complexContent></xs:complexType>",
            "the attribute \"x\" has a type that is not derived from that of the base",
        ),
        (
            "3.4.6",
            "<xs:complexType name='b'><xs:attribute name='x' fixed='1'/></xs:complexType><xs:complexType name='t'><xs:complexContent><xs:restriction base='b'><xs:attribute name='x'/></xs:restriction></xs:complexContent></xs:complexType>",
            "the attribute \"x\" has a fixed value in the base",
        ),
        (
            "3.4.6",
            "<xs:complexType name='b'><xs:attribute name='x'/></xs:complexType><xs:complexType name='t'><xs:complexContent><xs:restriction base='b'><xs:attribute name='y'/></xs:restriction></xs:complexContent></xs:complexType>",
            "the attribute \"y\" is none of the base",
        ),
        (
            "3.4.6",
            "<xs:complexType name='b'><xs:anyAttribute namespace='##local'/></xs:complexType><xs:complexType name='t'><xs:complexContent><xs:restriction base='b'><xs:attribute name='y'/></xs:restriction></xs:complexContent></xs:complexType>",
            "",
        ),
        (
            "3.4.6",
            "<xs:complexType name='b'><xs:attribute name='x' use='required'/></xs:complexType><xs:complexType name='t'><xs:complexContent><xs:restriction base='b'><xs:attribute name='x' use='prohibited'/></xs:restriction></xs:complexContent></xs:complexType>",
            "the attribute \"x\" is required in the base, and cannot be left out",
        ),
        (
            "3.4.6",
            "<xs:complexType name='b'><xs:anyAttribute namespace='urn:a'/></xs:complexType><xs:complexType name='t'><xs:complexContent><xs:restriction base='b'><xs:anyAttribute namespace='##any'/></xs:restriction></xs:complexContent></xs:complexType>",
            "this wildcard has more than that of the base",
        ),
        (
            "3.4.6",
            "<xs:complexType name='b'><xs:anyAttribute namespace='urn:a urn:b'/></xs:complexType><xs:complexType name='t'><xs:complexContent><xs:restriction base='b'><xs:anyAttribute namespace='urn:a'/></xs:restriction></xs:complexContent></xs:complexType>",
            "",
        ),
        (
            "3.6.3",
            "<xs:complexType name='t'><xs:attributeGroup/></xs:complexType>",
            "a reference to an attribute group needs ref",
        ),
        (
            "3.6.3",
            "<xs:complexType name='t'><xs:attributeGroup ref='g'/></xs:complexType>",
            "no attribute group is called \"g\"",
        ),
        (
            "3.7.3",
            "<xs:complexType name='t'><xs:group/></xs:complexType>",
            "a reference to a group needs ref",
        ),
        (
            "3.8.3",
            "<xs:group name='g'><xs:all><xs:element name='x'/></xs:all></xs:group><xs:complexType name='t'><xs:sequence><xs:group ref='g'/></xs:sequence></xs:complexType>",
            "a group in any order (<all>) can only be the whole content, once",
        ),
        (
            "3.8.6",
            "<xs:complexType name='t'><xs:all><xs:element name='x' maxOccurs='2'/></xs:all></xs:complexType>",
            "in <all> each element may stand once at most",
        ),
        (
            "3.9.6",
            "<xs:complexType name='t'><xs:sequence><xs:element name='x' maxOccurs='many'/></xs:sequence></xs:complexType>",
            "maxOccurs takes a whole number or unbounded, and here is \"many\"",
        ),
        (
            "3.9.6",
            "<xs:complexType name='t'><xs:sequence><xs:element name='x' minOccurs='-1'/></xs:sequence></xs:complexType>",
            "minOccurs takes a whole number, and here is \"-1\"",
        ),
        (
            "3.10.3",
            "<xs:complexType name='t'><xs:sequence><xs:any namespace='##all'/></xs:sequence></xs:complexType>",
            "\"##all\" stands for no namespaces here (there are: ##any and ##other alone, ##targetNamespace and ##local in a list)",
        ),
        (
            "3.11.3",
            "<xs:element name='a'><xs:key><xs:selector xpath='b'/><xs:field xpath='@c'/></xs:key></xs:element>",
            "<key> needs a name",
        ),
        (
            "3.11.3",
            "<xs:element name='a'><xs:key name='k'><xs:selector/><xs:field xpath='@c'/></xs:key></xs:element>",
            "<selector> needs an xpath",
        ),
        (
            "3.11.3",
            "<xs:element name='a'><xs:keyref name='k'><xs:selector xpath='b'/><xs:field xpath='@c'/></xs:keyref></xs:element>",
            "<keyref> needs refer",
        ),
        (
            "3.11.3",
            "<xs:element name='a'><xs:key name='k'><xs:selector xpath='b'/><xs:field xpath='@c'/></xs:key><xs:unique name='k'><xs:selector xpath='b'/><xs:field xpath='@c'/></xs:unique></xs:element>",
            "two identity constraints are called \"k\"",
        ),
        (
            "3.11.6",
            "<xs:element name='a'><xs:key name='k'><xs:selector xpath='b'/><xs:field xpath='@c'/></xs:key><xs:keyref name='r' refer='k'><xs:selector xpath='b'/><xs:field xpath='@c'/><xs:field xpath='@d'/></xs:keyref></xs:element>",
            "the key has 1 field, and this reference to it 2",
        ),
        (
            "3.14.3",
            "<xs:simpleType name='t'><xs:list itemType='xs:int'><xs:simpleType><xs:restriction base='xs:int'/></xs:simpleType></xs:list></xs:simpleType>",
            "the type is given twice: by itemType and by <simpleType>",
        ),
        (
            "3.14.3",
            "<xs:simpleType name='t'><xs:list/></xs:simpleType>",
            "<list> needs itemType or <simpleType>",
        ),
        (
            "3.14.3",
            "<xs:simpleType name='t'><xs:restriction/></xs:simpleType>",
            "<restriction> needs base or <simpleType>",
        ),
        ("3.14.3", "<xs:simpleType name='t'><xs:union/></xs:simpleType>", "a union needs types"),
        (
            "3.14.3",
            "<xs:complexType name='c'/><xs:simpleType name='t'><xs:restriction base='c'/></xs:simpleType>",
            "c is a complex type, and a simple one has to stand here",
        ),
        (
            "3.14.3",
            "<xs:simpleType name='t'><xs:restriction base='xs:anySimpleType'/></xs:simpleType>",
            "xs:anySimpleType cannot be restricted (derive from one of the types below it)",
        ),
        (
            "3.14.6",
            "<xs:simpleType name='t'><xs:list itemType='xs:IDREFS'/></xs:simpleType>",
            "the items of a list cannot be lists",
        ),
        (
            "3.14.6",
            "<xs:simpleType name='b' final='list'><xs:restriction base='xs:int'/></xs:simpleType><xs:simpleType name='t'><xs:list itemType='b'/></xs:simpleType>",
            "the type b does not allow this derivation",
        ),
        (
            "3.14.6",
            "<xs:simpleType name='b' final='#all'><xs:restriction base='xs:int'/></xs:simpleType><xs:simpleType name='t'><xs:restriction base='b'/></xs:simpleType>",
            "the type b does not allow this derivation",
        ),
        (
            "3.15.3",
            "<xs:schema xmlns:q='urn:q'><xs:element name='a' type='q:t'/></xs:schema>",
            "no type is called \"t\" in the namespace \"urn:q\", which is not imported (import the namespace)",
        ),
        (
            "3.15.3",
            "<xs:element name='a' type='q:t'/>",
            "the prefix \"q\" is not declared (declare it on the schema: xmlns:q=\"uri\")",
        ),
        ("3.15.3", "<xs:element name='a' type='1t'/>", "\"1t\" is no name"),
    ]);
}

/// Part 2: facets.
#[test]
fn facets() {
    assert_said(&[
        (
            "4.3",
            "<xs:simpleType name='t'><xs:restriction base='xs:string'><xs:length/></xs:restriction></xs:simpleType>",
            "<length> needs a value",
        ),
        (
            "4.3",
            "<xs:simpleType name='t'><xs:restriction base='xs:string'><xs:length value='1'/><xs:length value='2'/></xs:restriction></xs:simpleType>",
            "<length> is given twice",
        ),
        (
            "4.3.1",
            "<xs:simpleType name='b'><xs:restriction base='xs:string'><xs:length value='3'/></xs:restriction></xs:simpleType><xs:simpleType name='t'><xs:restriction base='b'><xs:length value='4'/></xs:restriction></xs:simpleType>",
            "<length> is 3 in the base, and 4 is no restriction of that",
        ),
        (
            "4.3.2",
            "<xs:simpleType name='b'><xs:restriction base='xs:string'><xs:minLength value='3'/></xs:restriction></xs:simpleType><xs:simpleType name='t'><xs:restriction base='b'><xs:minLength value='2'/></xs:restriction></xs:simpleType>",
            "<minLength> is 3 in the base, and 2 is no restriction of that",
        ),
        (
            "4.3.3",
            "<xs:simpleType name='b'><xs:restriction base='xs:string'><xs:maxLength value='3' fixed='true'/></xs:restriction></xs:simpleType><xs:simpleType name='t'><xs:restriction base='b'><xs:maxLength value='2'/></xs:restriction></xs:simpleType>",
            "<maxLength> is fixed at 3 in the base",
        ),
        (
            "4.3.6",
            "<xs:simpleType name='t'><xs:restriction base='xs:token'><xs:whiteSpace value='preserve'/></xs:restriction></xs:simpleType>",
            "the base normalizes more white space, and no less can be normalized",
        ),
        (
            "4.3.7",
            "<xs:simpleType name='b'><xs:restriction base='xs:int'><xs:maxInclusive value='9' fixed='true'/></xs:restriction></xs:simpleType><xs:simpleType name='t'><xs:restriction base='b'><xs:maxInclusive value='8'/></xs:restriction></xs:simpleType>",
            "the base has this bound fixed at 9",
        ),
        (
            "4.3.7",
            "<xs:simpleType name='t'><xs:restriction base='xs:int'><xs:minExclusive value='5'/><xs:maxInclusive value='5'/></xs:restriction></xs:simpleType>",
            "the least value is 5, and the greatest 5: nothing is between them",
        ),
        (
            "4.3",
            "<xs:simpleType name='u'><xs:union memberTypes='xs:int xs:date'/></xs:simpleType><xs:simpleType name='t'><xs:restriction base='u'><xs:minInclusive value='1'/></xs:restriction></xs:simpleType>",
            "<minInclusive> says nothing of values of u",
        ),
        (
            "4.3.5",
            "<xs:notation name='n' public='p'/><xs:simpleType name='t'><xs:restriction base='xs:NOTATION'><xs:enumeration value='m'/></xs:restriction></xs:simpleType>",
            "no notation is called \"m\"",
        ),
    ]);
}

/// Text between elements that can all be left out can be restricted to text alone (part 1 section 3.4.6, clause 5.1.2).
#[test]
fn mixed_content_becomes_text() {
    let schema = "<xs:complexType name='b' mixed='true'><xs:sequence minOccurs='0'><xs:element name='x'/></xs:sequence>\
                  <xs:attribute name='no' type='xs:int'/></xs:complexType>\
                  <xs:element name='a'><xs:complexType><xs:simpleContent><xs:restriction base='b'>\
                  <xs:simpleType><xs:restriction base='xs:decimal'/></xs:simpleType><xs:maxInclusive value='9'/>\
                  </xs:restriction></xs:simpleContent></xs:complexType></xs:element>";
    for (document, expected) in [
        ("<a no='1'>8.5</a>", ""),
        ("<a>x</a>", "/a[1]: \"x\" is no xs:decimal (it is written like this: 12.50)"),
        ("<a>9.5</a>", "/a[1]: 9.5 must be at most 9"),
        ("<a>1<x/></a>", "/a[1]/x[1]: <a> is of type xs:decimal, and no element may stand in it"),
        ("<a no='x'>1</a>", "/a[1]/@no: \"x\" is no xs:int (it is a whole number)"),
    ] {
        assert_eq!(found(schema, &[], document), expected, "{document}");
    }
}
