//! What is made of schemas: samples, other schemas, types for values that have none.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that fails may panic")]

use kyanite_formats::record_view::View;
use kyanite_formats::{json as format, xml};
use kyanite_schema::json::{self, Document, Outline, Typing};
use kyanite_schema::xsd::{self, Documents, MemberNames, Reference, Validator, XML, XML_NAMESPACE};
use kyanite_schema::{Problem, SampleSettings};
use kyanite_tree::{Arena, LineColumn, Origin, Value};

struct BuiltIn<'a>(&'a Arena);

impl<'a> Documents<'a> for BuiltIn<'a> {
    fn find(&mut self, reference: Reference<'_>) -> Result<Option<(String, Value<'a>)>, Problem> {
        let is_xml = reference.namespace == Some(XML);
        Ok(is_xml.then(|| (XML.to_owned(), read_xml(self.0, XML_NAMESPACE))))
    }
}

fn read_xml<'a>(arena: &'a Arena, text: &str) -> Value<'a> {
    match xml::document(arena.text(text), arena, xml::Options::default()) {
        Ok(document) => document.value(),
        Err(error) => panic!("{}: {text}", error.message()),
    }
}

fn read_json<'a>(arena: &'a Arena, text: &str) -> Value<'a> {
    format::document(arena.text(text), arena, format::ReaderOptions::default()).unwrap().0
}

fn written(value: Value<'_>) -> String {
    let mut out = Vec::new();
    format::write(value, format::Style::Compact, &mut out);
    String::from_utf8(out).unwrap()
}

fn compile_xsd(body: &str) -> xsd::Schema {
    let arena = Arena::new();
    let text = format!(
        "<xs:schema xmlns:xs='http://www.w3.org/2001/XMLSchema' xmlns:t='urn:t' {}{}</xs:schema>",
        if body.starts_with('>') {
            ""
        } else {
            "targetNamespace='urn:t' elementFormDefault='qualified'>"
        },
        body
    );
    let root = read_xml(&arena, &text);
    match xsd::Schema::compile(&[("s.xsd".to_owned(), root)], &mut BuiltIn(&arena)) {
        Ok(schema) => schema,
        Err(problems) => panic!("{body}: {}", problems[0].message),
    }
}

fn compile_json<'a>(value: Value<'a>) -> json::Schema<'a> {
    compile_json_with(value, true)
}

fn compile_json_with<'a>(value: Value<'a>, asserts_formats: bool) -> json::Schema<'a> {
    let settings = json::Settings { asserts_formats, ..json::Settings::default() };
    match json::Schema::compile(Document { uri: "file:///s.json".into(), value }, &[], settings) {
        Ok(schema) => schema,
        Err(problems) => panic!("{}", problems[0].message),
    }
}

/// What is wrong with a document by an XML Schema.
fn wrong(schema: &xsd::Schema, document: Value<'_>) -> Vec<String> {
    let mut validator = Validator::new(schema);
    let root = document.as_element().unwrap().children().find(|node| node.as_element().is_some());
    let root = root.unwrap();
    let places = |_: Origin| LineColumn { line: 1, column: 1 };
    validator.element(root.as_element().unwrap(), root.origin(), &places);
    validator.finish();
    validator.take_found().into_iter().map(|found| found.finding.message).collect()
}

/// Schemas that hold what XML Schema has.
const XSDS: [&str; 17] = [
    "<xs:element name='a' type='xs:int'/>",
    "<xs:element name='a'><xs:complexType/></xs:element>",
    "<xs:element name='a'><xs:complexType><xs:attribute name='x' type='xs:date' use='required'/><xs:attribute name='y' type='xs:boolean' fixed='true'/></xs:complexType></xs:element>",
    "<xs:element name='a'><xs:complexType><xs:simpleContent><xs:extension base='xs:decimal'><xs:attribute name='unit' default='m'/></xs:extension></xs:simpleContent></xs:complexType></xs:element>",
    "<xs:element name='a'><xs:complexType><xs:sequence><xs:element name='b' type='xs:float' maxOccurs='3'/><xs:element name='c' minOccurs='2' maxOccurs='unbounded' type='xs:time'/></xs:sequence></xs:complexType></xs:element>",
    "<xs:element name='a'><xs:complexType><xs:choice><xs:element name='b' type='xs:int'/><xs:sequence><xs:element name='c'/><xs:element name='d' type='xs:gYear'/></xs:sequence></xs:choice></xs:complexType></xs:element>",
    "<xs:element name='a'><xs:complexType><xs:choice maxOccurs='unbounded'><xs:element name='b' type='xs:int'/><xs:element name='c' type='xs:string'/></xs:choice></xs:complexType></xs:element>",
    "<xs:element name='a'><xs:complexType><xs:all><xs:element name='b' type='xs:int'/><xs:element name='c' minOccurs='0' type='xs:duration'/></xs:all></xs:complexType></xs:element>",
    "<xs:element name='a'><xs:complexType mixed='true'><xs:sequence><xs:element name='b' minOccurs='0' maxOccurs='unbounded'/></xs:sequence></xs:complexType></xs:element>",
    "<xs:element name='a' type='t:node'/><xs:complexType name='node'><xs:sequence><xs:element name='node' type='t:node' minOccurs='0' maxOccurs='2'/></xs:sequence><xs:attribute name='id' type='xs:ID' use='required'/><xs:attribute name='of' type='xs:IDREF'/></xs:complexType>",
    "<xs:element name='a'><xs:complexType><xs:sequence><xs:element ref='t:head' maxOccurs='2'/></xs:sequence></xs:complexType></xs:element><xs:element name='head' abstract='true' type='xs:string'/><xs:element name='one' substitutionGroup='t:head' type='xs:string'/><xs:element name='two' substitutionGroup='t:head' type='xs:token'/>",
    "<xs:element name='a' type='t:base'/><xs:complexType name='base' abstract='true'><xs:attribute name='x' type='xs:int'/></xs:complexType><xs:complexType name='own'><xs:complexContent><xs:extension base='t:base'><xs:sequence><xs:element name='b' type='xs:int'/></xs:sequence></xs:extension></xs:complexContent></xs:complexType>",
    "<xs:element name='a'><xs:complexType><xs:sequence><xs:element name='b' nillable='true' type='xs:int'/><xs:any namespace='##other' processContents='lax' minOccurs='0'/></xs:sequence><xs:anyAttribute processContents='skip'/></xs:complexType></xs:element>",
    "<xs:element name='a'><xs:complexType><xs:sequence><xs:element name='b' maxOccurs='3'><xs:complexType><xs:attribute name='no' use='required'><xs:simpleType><xs:restriction base='xs:int'><xs:minInclusive value='3'/><xs:maxExclusive value='9'/></xs:restriction></xs:simpleType></xs:attribute></xs:complexType></xs:element></xs:sequence></xs:complexType><xs:key name='k'><xs:selector xpath='t:b'/><xs:field xpath='@no'/></xs:key></xs:element>",
    "<xs:element name='a'><xs:simpleType><xs:union memberTypes='xs:int xs:date'><xs:simpleType><xs:restriction base='xs:token'><xs:enumeration value='none'/></xs:restriction></xs:simpleType></xs:union></xs:simpleType></xs:element>",
    "<xs:element name='a'><xs:complexType><xs:attribute name='x'><xs:simpleType><xs:list itemType='xs:int'/></xs:simpleType></xs:attribute><xs:attribute name='y'><xs:simpleType><xs:restriction base='xs:string'><xs:pattern value='[A-Z]{2}\\d+'/><xs:maxLength value='6'/></xs:restriction></xs:simpleType></xs:attribute><xs:attribute name='z'><xs:simpleType><xs:restriction base='xs:decimal'><xs:totalDigits value='4'/><xs:fractionDigits value='2'/></xs:restriction></xs:simpleType></xs:attribute><xs:attribute ref='xml:lang'/></xs:complexType></xs:element>",
    "><xs:element name='a'><xs:complexType><xs:sequence><xs:element name='b' type='xs:hexBinary'/><xs:element name='c' type='xs:QName'/><xs:element name='d' type='xs:anyURI'/></xs:sequence></xs:complexType></xs:element>",
];

/// Samples are valid, and what is read of them with types is valid by the JSON Schema that is made of the schema.
#[test]
fn samples_of_xml_schemas() {
    for body in XSDS {
        let body = match body.contains("xml:lang") {
            true => format!("<xs:import namespace='{XML}'/>{body}"),
            false => body.to_owned(),
        };
        let schema = compile_xsd(&body);
        let arena = Arena::new();
        let prefixes = [("t".to_owned(), "urn:t".to_owned())];
        let translate =
            |names| compile_json_with(schema.to_json_schema(names, &arena).schema, false);
        let (local, prefixed) =
            (translate(MemberNames::Local), translate(MemberNames::Prefixed(&prefixes)));
        let mut typing = Typing::new(Outline::new(&local, true));
        let mut texts = Vec::new();
        for seed in 0..6 {
            let settings = SampleSettings { is_minimal: seed == 0, seed, root: None };
            let valid = schema.samples(settings, &prefixes).find(|text| {
                let arena = Arena::new();
                wrong(&schema, read_xml(&arena, text)).is_empty()
            });
            let Some(text) = valid else { panic!("no sample of {body}") };
            let record = View::default().record(read_xml(&arena, &text), &arena);
            let typed = typing.document(record, &arena);
            let found = prefixed.validate(typed);
            let first = found.first().map(|finding| &finding.message);
            assert_eq!(first, None, "{body}\n{text}\n{}", written(typed));
            // The same seed gives the same sample.
            let again: Vec<String> = schema.samples(settings, &prefixes).collect();
            assert!(again.contains(&text));
            texts.push(text);
        }
        assert!(
            texts[0].len() <= texts[1].len(),
            "{body}: a minimal sample is no longer than others"
        );
    }
}

#[test]
fn schemas_of_schemas() {
    for (body, expected, losses) in [
        (
            XSDS[3],
            r##""properties":{"@unit":{"type":["string","number","boolean","null"],"default":"m"},"#text":{"type":"number"}}"##,
            "",
        ),
        (
            XSDS[4],
            r#""t:b":{"type":"array","items":{"anyOf":[{"type":"number"},{"enum":["INF","-INF","NaN"]}]},"minItems":1,"maxItems":3},"t:c":{"type":"array","items":{"type":"string","format":"time"},"minItems":2}},"required":["t:b","t:c"]"#,
            "",
        ),
        (
            XSDS[5],
            r#""allOf":[{"anyOf":[{"required":["t:b"]},{"required":["t:c","t:d"]}]}]"#,
            "that the alternatives of a choice exclude each other is not said",
        ),
        (
            XSDS[6],
            r##""#content":{"type":"array","items":{"type":"object","properties":{"t:b":{"type":"integer","minimum":-2147483648,"maximum":2147483647},"t:c":{"type":"string"}},"minProperties":1,"maxProperties":1,"additionalProperties":false}}"##,
            "how elements that are repeated by turns follow each other is not said",
        ),
        (
            XSDS[9],
            r##""$defs":{"node":{"type":"object","properties":{"@id":{"type":"string"},"@of":{"type":"string"},"t:node":{"type":"array","items":{"$ref":"#/$defs/node"},"minItems":1,"maxItems":2}},"required":["@id"]"##,
            "identifiers and references to them are not said",
        ),
        (XSDS[10], r#""allOf":[{"anyOf":[{"required":["t:one"]},{"required":["t:two"]}]}]"#, ""),
        (XSDS[11], r##""properties":{"t:a":{"$ref":"#/$defs/own"}}"##, ""),
        (
            XSDS[12],
            r#""t:b":{"anyOf":[{"type":"integer","minimum":-2147483648,"maximum":2147483647},{"type":"null"}]}"#,
            "which other elements a wildcard allows is not said",
        ),
        (
            XSDS[13],
            r#""@no":{"type":"integer","minimum":3,"exclusiveMaximum":9}"#,
            "keys, unique values and references to keys are not said",
        ),
        (
            XSDS[15],
            r#""@y":{"type":"string","maxLength":6,"pattern":"^(?:[A-Z]{2}\\p{Nd}+)$"},"@z":{"type":"number","multipleOf":0.01}"#,
            "that a text is a name or token of XML is not said; what the items of a list in a text may be is not said; how many digits a number has is not said",
        ),
        // Documentation describes: of elements, attributes, and types with and without a name.
        (
            "<xs:element name='a' type='t:berth'><xs:annotation><xs:documentation>Where a\n  ferry lies</xs:documentation><xs:appinfo>x</xs:appinfo></xs:annotation></xs:element><xs:complexType name='berth'><xs:annotation><xs:documentation>A <b>berth</b>.</xs:documentation><xs:documentation>Ours.</xs:documentation></xs:annotation><xs:attribute name='no' type='xs:boolean'><xs:annotation><xs:documentation>Its number</xs:documentation></xs:annotation></xs:attribute><xs:attribute name='of'><xs:simpleType><xs:annotation><xs:documentation/></xs:annotation><xs:restriction base='xs:string'/></xs:simpleType></xs:attribute></xs:complexType>",
            r##""t:a":{"$ref":"#/$defs/berth","description":"Where a ferry lies"}"##,
            "",
        ),
        (
            "<xs:element name='a' type='t:berth'/><xs:complexType name='berth'><xs:annotation><xs:documentation>A <b>berth</b>.</xs:documentation><xs:documentation>Ours.</xs:documentation></xs:annotation><xs:attribute name='no' type='xs:boolean'><xs:annotation><xs:documentation>Its number</xs:documentation></xs:annotation></xs:attribute></xs:complexType>",
            r##""@no":{"type":"boolean","description":"Its number"}},"patternProperties":{"^@(xmlns(:|$)|[^:]+:(type|nil|schemaLocation|noNamespaceSchemaLocation)$)":true},"additionalProperties":false,"description":"A berth.\n\nOurs."}"##,
            "",
        ),
    ] {
        let body = match body.contains("xml:lang") {
            true => format!("<xs:import namespace='{XML}'/>{body}"),
            false => body.to_owned(),
        };
        let arena = Arena::new();
        let prefixes = [("t".to_owned(), "urn:t".to_owned())];
        let made = compile_xsd(&body).to_json_schema(MemberNames::Prefixed(&prefixes), &arena);
        let text = written(made.schema);
        assert!(text.contains(expected), "{body}\n{text}\n{expected}");
        let lost: Vec<String> = made.losses.into_iter().map(|loss| loss.message).collect();
        assert_eq!(lost.join("; "), losses, "{body}");
    }
}

/// Elements of two namespaces that go by one name are one member without namespaces: a value, or a list.
#[test]
fn names_of_two_namespaces() {
    let of_two = |particles: &str| {
        let body = format!(
            "<xs:element name='a'><xs:complexType>{particles}</xs:complexType></xs:element><xs:element name='b' type='xs:string'/>"
        );
        compile_xsd(&body)
    };
    let own = "<xs:element name='b' form='unqualified' type='xs:int' minOccurs='0'/>";
    let both = format!("<xs:sequence><xs:element ref='t:b'/>{own}</xs:sequence>");
    let either = format!("<xs:choice><xs:element ref='t:b'/>{own}</xs:choice>");
    for (particles, valid, not) in [
        (both, &[r#"{"a":{"b":["x",3]}}"#, r#"{"a":{"b":"x"}}"#][..], r#"{"a":{}}"#),
        (either, &[r#"{"a":{"b":"x"}}"#, r#"{"a":{"b":3}}"#], r#"{"a":{"b":true}}"#),
    ] {
        let arena = Arena::new();
        let made = of_two(&particles).to_json_schema(MemberNames::Local, &arena);
        let said = "several elements are called b, of different namespaces";
        assert!(made.losses.iter().any(|loss| loss.message == said), "{particles}");
        let schema = compile_json(made.schema);
        for text in valid {
            let found = schema.validate(read_json(&arena, text));
            assert!(found.is_empty(), "{text}: {}", found[0].message);
        }
        assert!(!schema.is_valid(read_json(&arena, not)), "{not}");
        let prefixes = [("t".to_owned(), "urn:t".to_owned())];
        let told = of_two(&particles).to_json_schema(MemberNames::Prefixed(&prefixes), &arena);
        assert!(told.losses.iter().all(|loss| loss.message != said));
    }
}

#[test]
fn samples_of_json_schemas() {
    for (schema, minimal) in [
        (r#"{"type": "integer", "minimum": 3, "multipleOf": 2}"#, "4"),
        (r#"{"type": "number", "exclusiveMinimum": 0, "maximum": 0.2}"#, "0.1"),
        (r#"{"type": "number", "maximum": -4}"#, "-4"),
        (r#"{"enum": ["a", "b"], "const": "b"}"#, r#""b""#),
        (r#"{"type": "string", "maxLength": 2}"#, r#""te""#),
        (r#"{"type": "string", "format": "date-time"}"#, r#""2026-06-01T07:00:00Z""#),
        (r#"{"type": "string", "pattern": "^[0-9]{4}-[0-9]{2}-[0-9]{2}$"}"#, r#""2026-06-01""#),
        (
            r#"{"type": "array", "items": {"type": "boolean"}, "minItems": 2, "uniqueItems": true}"#,
            "",
        ),
        (
            r#"{"type": "array", "prefixItems": [{"const": 1}, {"type": "null"}], "minItems": 2, "items": false}"#,
            "[1,null]",
        ),
        (
            r#"{"type": "array", "contains": {"const": 7}, "items": {"type": "integer"}, "minItems": 3}"#,
            "[7,1,1]",
        ),
        (
            r#"{"properties": {"a": {"type": "null"}, "b": {"type": "null"}}, "required": ["b"]}"#,
            r#"{"b":null}"#,
        ),
        (
            r#"{"type": "object", "minProperties": 2, "patternProperties": {"^x": {"const": 1}}, "additionalProperties": false}"#,
            "",
        ),
        (
            r#"{"oneOf": [{"required": ["a"]}, {"required": ["b"]}], "properties": {"a": true, "b": true}}"#,
            "",
        ),
        (
            r##"{"type": "object", "required": ["next"], "properties": {"next": {"anyOf": [{"type": "null"}, {"$ref": "#"}]}}}"##,
            r#"{"next":null}"#,
        ),
        (
            r##"{"type": "object", "required": ["next"], "properties": {"next": {"anyOf": [{"$ref": "#"}, {"type": "null"}]}}}"##,
            "",
        ),
        (
            r#"{"allOf": [{"type": "object", "required": ["a"]}, {"properties": {"a": {"type": "integer"}}}], "unevaluatedProperties": false}"#,
            r#"{"a":1}"#,
        ),
        (
            r#"{"if": {"properties": {"k": {"const": 1}}}, "then": {"required": ["x"]}, "type": "object", "required": ["k"], "properties": {"k": {"enum": [1, 2]}}}"#,
            "",
        ),
        (r#"{"type": ["null", "string"], "not": {"const": "text"}}"#, ""),
    ] {
        let arena = Arena::new();
        let compiled = compile_json(read_json(&arena, schema));
        for seed in 0..8 {
            let settings = SampleSettings { is_minimal: seed == 0, seed, root: None };
            let Some(value) = compiled.sample(settings, &arena) else {
                panic!("no sample of {schema}")
            };
            assert!(compiled.is_valid(value), "{schema} {}", written(value));
            assert!(
                seed > 0 || minimal.is_empty() || written(value) == minimal,
                "{schema} {}",
                written(value)
            );
        }
    }
    // Nothing is valid.
    for schema in [
        "false",
        r#"{"type": "integer", "minimum": 5, "maximum": 4}"#,
        r##"{"type": "object", "required": ["a"], "properties": {"a": {"$ref": "#"}}}"##,
    ] {
        let arena = Arena::new();
        let compiled = compile_json(read_json(&arena, schema));
        let sample = compiled.sample(SampleSettings::default(), &arena);
        assert!(sample.is_none(), "{schema} {}", written(sample.unwrap()));
    }
}

/// Texts without types in the record view, and what they are by a schema.
#[test]
fn types() {
    const FLEET: &str = r##"{"type": "object", "properties": {"fleet": {"$ref": "#/$defs/fleet"}}, "$defs": {
        "fleet": {"type": "object", "properties": {
            "ship": {"type": "array", "items": {"type": "object", "properties": {"@no": {"type": "integer"}, "name": {"type": "string"}, "crew": {"type": "integer"}}}},
            "open": {"type": "boolean"}, "left": {"type": ["integer", "null"]}, "any": true, "depth": {"type": "number"},
            "either": {"anyOf": [{"type": "array", "items": {"type": "number"}}, {"type": "string"}]}}}}}"##;
    for (document, expected) in [
        (
            "<fleet><ship no='007'><name>12</name><crew>7</crew></ship></fleet>",
            r#"{"fleet":{"ship":[{"@no":7,"name":"12","crew":7}]}}"#,
        ),
        ("<fleet><ship/><ship/></fleet>", r#"{"fleet":{"ship":[{},{}]}}"#),
        ("<fleet><open>1</open><left/></fleet>", r#"{"fleet":{"open":true,"left":null}}"#),
        (
            "<fleet><open>perhaps</open><left>x</left></fleet>",
            r#"{"fleet":{"open":"perhaps","left":"x"}}"#,
        ),
        ("<fleet><any>1</any><other>1</other></fleet>", r#"{"fleet":{"any":"1","other":"1"}}"#),
        ("<fleet><depth>2.80</depth></fleet>", r#"{"fleet":{"depth":2.80}}"#),
        (
            "<f:fleet xmlns:f='urn:f'><f:open>true</f:open></f:fleet>",
            r#"{"f:fleet":{"@xmlns:f":"urn:f","f:open":true}}"#,
        ),
        ("<fleet><either>1</either></fleet>", r#"{"fleet":{"either":"1"}}"#),
        ("<fleet><either>1</either><either>2</either></fleet>", r#"{"fleet":{"either":[1,2]}}"#),
        (
            "<fleet xmlns:xsi='http://www.w3.org/2001/XMLSchema-instance'><left xsi:nil='true'/></fleet>",
            r#"{"fleet":{"@xmlns:xsi":"http://www.w3.org/2001/XMLSchema-instance","left":null}}"#,
        ),
        ("<unknown><open>1</open></unknown>", r#"{"unknown":{"open":"1"}}"#),
    ] {
        let arena = Arena::new();
        let schema = compile_json(read_json(&arena, FLEET));
        let record = View::default().record(read_xml(&arena, document), &arena);
        let mut typing = Typing::new(Outline::new(&schema, true));
        assert_eq!(written(typing.document(record, &arena)), expected, "{document}");
    }
}

/// Alternatives that lead to the same schemas on many ways are gone through once.
#[test]
fn alternatives_that_multiply() {
    let mut text = String::from(r##"{"$ref": "#/$defs/0", "$defs": {"##);
    for level in 0..60 {
        let next = format!(r##"{{"$ref": "#/$defs/{}"}}"##, level + 1);
        text.push_str(&format!(
            r##""{level}": {{"anyOf": [{next}, {next}], "properties": {{"p{level}": true}}}}, "##
        ));
    }
    text.push_str(r#""60": {"type": "object", "required": ["p3"]}}}"#);
    let arena = Arena::new();
    let schema = compile_json(read_json(&arena, &text));
    let mut outline = Outline::new(&schema, false);
    let root = outline.root();
    assert!(outline.member(root, "p59").is_some());
    assert_eq!(outline.members(root).len(), 60);
    let record = read_json(&arena, r#"{"p3": 1}"#);
    assert_eq!(written(Typing::new(outline).document(record, &arena)), r#"{"p3":1}"#);
}
