//! XML documents against XML Schemas, in memory for a part of them at a time.

use kyanite_formats::Format;
use kyanite_formats::xml::{Event, EventReader, Templates, ValueAt};
use kyanite_schema::xsd::{Alike, Found, Places, Schema, Validator};
use kyanite_tree::{Base, Excerpt, LineColumn, Origin, Part, Place, Span};

use super::check::Raw;
use crate::blocks::Blocks;
use crate::elements::{XmlPart, go_through, go_through_text};
use crate::input::{InputOptions, Source};
use crate::run_error::{Counters, Events, RunError};

/// XML Schemas at work on one document after another.
pub(super) struct Validators<'c> {
    all: Vec<Validator<'c>>,
    /// Templates of elements, if there is one schema that can go by them.
    templates: Option<Templates>,
    /// Where the element began that is being learned from, and how many are open in it.
    learning: Option<(usize, usize)>,
    #[cfg(test)]
    passed: usize,
}

impl<'c> Validators<'c> {
    pub(super) fn new(schemas: &'c [Schema]) -> Self {
        let templates = (schemas.len() == 1).then(Templates::default);
        Self {
            all: schemas.iter().map(Validator::new).collect(),
            templates,
            learning: None,
            #[cfg(test)]
            passed: 0,
        }
    }

    /// Passes over the element that comes next, if it follows a template and is valid.
    #[inline]
    fn pass<'t>(
        &mut self,
        events: &mut EventReader<'t>,
        values: &mut Vec<ValueAt<'t>>,
        (text, base, places): (&'t str, Base, Places<'_>),
    ) -> bool {
        if self.learning.is_some() {
            return false;
        }
        let Some(at) = events.at_element() else { return false };
        let (Some(templates), [validator]) = (&mut self.templates, self.all.as_mut_slice()) else {
            return false;
        };
        let may_learn = match templates.follow(text, at, values) {
            None => templates.may_learn(text, at),
            Some(followed) => {
                let (template, end) = (followed.template, followed.end);
                match validator.follow(template, (values, end), (base, places)) {
                    Alike::Valid => {
                        #[cfg(test)]
                        (self.passed += 1);
                        events.seek(end);
                        return true;
                    }
                    Alike::Unknown => true,
                    Alike::Other => {
                        templates.missed(text, at);
                        false
                    }
                }
            }
        };
        if may_learn && validator.start_learning() {
            self.learning = Some((at, 0));
        }
        false
    }

    /// Takes an event, up to which the text was read.
    fn take<'t>(
        &mut self,
        (event, events): (Event<'t>, &EventReader<'t>),
        values: &mut Vec<ValueAt<'t>>,
        (text, base, places): (&'t str, Base, Places<'_>),
    ) {
        for validator in &mut self.all {
            match event {
                Event::Begin { origin, name } => {
                    validator.begin(name, events.attributes(), origin, places);
                }
                Event::End(origin) => validator.end(origin, places),
                Event::Text(origin, text) => validator.text(text, origin),
                Event::Comment(..) | Event::Instruction(..) => {}
            }
        }
        let Some((from, open)) = &mut self.learning else { return };
        let (Some(templates), [validator]) = (&mut self.templates, self.all.as_mut_slice()) else {
            return;
        };
        match event {
            Event::Begin { .. } => *open += 1,
            Event::End(_) => *open -= 1,
            _ => return,
        }
        let (from, end) = (*from, events.position());
        if *open == 0 {
            self.learning = None;
            let is_learned = match templates.learn(text, from..end, values) {
                Some(template) => validator.learn(template, (values, end), base),
                None => false,
            };
            if !is_learned {
                templates.learned_nothing(text, from);
                validator.stop_learning();
            }
        } else if templates.is_too_long(text, from, end) {
            self.stop_learning();
        }
    }

    fn stop_learning(&mut self) {
        self.learning = None;
        self.all.iter_mut().for_each(Validator::stop_learning);
    }
}

/// Validates a document as it is read.
pub(super) fn stream(
    source: Source,
    validators: &mut Validators<'_>,
    raw: &mut Raw,
    options: &InputOptions,
    counters: &Counters,
) -> Result<(), RunError> {
    if let Some(message) = source.contradiction() {
        let advice = source.looks_like.map(crate::document::say_format);
        let found = kyanite_tree::Diagnostic::error(kyanite_tree::Code::InputFormat, message);
        return Err(RunError::Input(found.advise_opt(advice)));
    }
    let Source { name, reader, live, replaced, .. } = source;
    let blocks = (Blocks::new(reader, live), &replaced);
    raw.checked += 1;
    let mut told = Vec::new();
    let mut events = Events { tell: &mut |found| told.push(found), counters };
    let read = go_through(&name, blocks, options, &mut events, &mut |events, part| {
        self::part(events, part, (validators, raw, options))
    });
    told.into_iter().for_each(|found| raw.tell(found));
    // What was found before stays, also where the document is not well-formed behind it.
    for validator in &mut validators.all {
        match &read {
            Ok(()) => validator.finish(),
            Err(_) => validator.give_up(),
        }
        for found in validator.take_found() {
            add(found, None, &name, raw);
        }
    }
    read
}

/// Validates a document that is held.
pub(super) fn whole(
    name: &str,
    text: &str,
    validators: &mut Validators<'_>,
    raw: &mut Raw,
    options: &InputOptions,
) {
    // That it is well-formed is known already, and what was repaired is told.
    let mut events = Events { tell: &mut |_| {}, counters: &Counters::default() };
    let _ = go_through_text((name, text), options, &mut events, &mut |events, part| {
        self::part(events, part, (validators, raw, options))
    });
    for validator in &mut validators.all {
        validator.finish();
        for found in validator.take_found() {
            add(found, None, name, raw);
        }
    }
}

/// Tells validators of all that a part of a document has.
fn part<'t>(
    events: &mut EventReader<'t>,
    part: &XmlPart<'t>,
    (validators, raw, options): (&mut Validators<'_>, &mut Raw, &InputOptions),
) -> Result<(), RunError> {
    let XmlPart { text, base, prolog, is_last, .. } = *part;
    if part.has_root {
        for validator in &mut validators.all {
            validator.declare_entities(prolog.unparsed_entities().into_iter());
        }
    }
    let line_column = |origin: Origin| part.line_column(origin);
    let around = (text, base, &line_column as Places<'_>);
    // What is repaired, dropped or put in by declarations is no text to be compared.
    let as_written = !options.lenient && !options.drop_namespaces && !prolog.declares_attributes();
    let mut values = Vec::new();
    let mut result = Ok(());
    loop {
        if as_written && validators.pass(events, &mut values, around) {
            continue;
        }
        match events.next_event() {
            Ok(None) => break,
            Err(error) if error.wants_more() && !is_last => break,
            Err(error) => {
                result = Err(part.failed(&error));
                break;
            }
            Ok(Some(event)) => validators.take((event, events), &mut values, around),
        }
    }
    validators.stop_learning();
    for validator in &mut validators.all {
        for found in validator.take_found() {
            let offset = base.offset(found.finding.origin);
            let is_here = found.finding.origin.is_known()
                && found.finding.origin.position() >= base.origin(0).position()
                && offset <= text.len();
            let place = is_here.then(|| {
                part.place(Span::new(
                    offset,
                    kyanite_formats::records::value_end(Format::Xml, text, offset),
                ))
            });
            add(found, place, part.name, raw);
        }
    }
    result
}

/// Adds a finding; where the text is gone, its line and column are all that is known of its place.
fn add(found: Found, place: Option<Place>, name: &str, raw: &mut Raw) {
    let Found { finding, path, at } = found;
    let place = place.or_else(|| {
        let at = at.unwrap_or(LineColumn { line: 1, column: 1 });
        let excerpt = Excerpt { line: String::new(), start: 0, length: 1 };
        Some(Place { part: Part::Input, file: name.to_owned(), at, path: None, excerpt })
    });
    raw.add(finding, place.map(|place| place.with_path(path)));
}

#[cfg(test)]
mod tests {
    use kyanite_formats::xml;
    use kyanite_schema::Problem;
    use kyanite_schema::xsd::{Documents, Reference};
    use kyanite_tree::{Arena, Value};
    use proptest::prelude::*;

    use super::*;

    const SCHEMA: &str = r#"
<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns="urn:f" xmlns:f="urn:f"
    targetNamespace="urn:f" elementFormDefault="qualified">
  <xs:element name="fleet">
    <xs:complexType>
      <xs:choice minOccurs="0" maxOccurs="unbounded">
        <xs:element ref="ship"/>
        <xs:element name="pair">
          <xs:complexType><xs:sequence><xs:element ref="ship" minOccurs="2" maxOccurs="2"/></xs:sequence></xs:complexType>
        </xs:element>
        <xs:element name="group">
          <xs:complexType>
            <xs:choice minOccurs="0" maxOccurs="unbounded">
              <xs:element ref="ship"/>
              <xs:any namespace="urn:other" processContents="lax"/>
            </xs:choice>
          </xs:complexType>
          <xs:unique name="call"><xs:selector xpath="f:ship"/><xs:field xpath="f:name"/></xs:unique>
        </xs:element>
      </xs:choice>
    </xs:complexType>
    <xs:key name="number"><xs:selector xpath=".//f:ship"/><xs:field xpath="@no"/></xs:key>
    <xs:unique name="calls"><xs:selector xpath=".//f:ship"/><xs:field xpath="@call"/></xs:unique>
    <xs:keyref name="sister" refer="number"><xs:selector xpath=".//f:of"/><xs:field xpath="@no"/></xs:keyref>
  </xs:element>
  <xs:element name="ship">
    <xs:complexType>
      <xs:sequence>
        <xs:element name="name" type="xs:token" nillable="true"/>
        <xs:element name="weight" type="xs:decimal" default="1" minOccurs="0"/>
        <xs:element name="of" minOccurs="0" maxOccurs="2">
          <xs:complexType>
            <xs:attribute name="no" type="xs:short"/>
            <xs:attribute name="as" fixed="sister"/>
          </xs:complexType>
        </xs:element>
        <xs:element name="note" minOccurs="0">
          <xs:complexType mixed="true">
            <xs:sequence><xs:element name="b" type="xs:QName" minOccurs="0"/></xs:sequence>
          </xs:complexType>
        </xs:element>
      </xs:sequence>
      <xs:attribute name="no" type="xs:short"/>
      <xs:attribute name="call" type="xs:string"/>
      <xs:attribute name="id" type="xs:ID"/>
    </xs:complexType>
  </xs:element>
</xs:schema>"#;

    struct Alone;

    impl<'s> Documents<'s> for Alone {
        fn find(&mut self, _: Reference<'_>) -> Result<Option<(String, Value<'s>)>, Problem> {
            Ok(None)
        }
    }

    fn schema() -> Schema {
        let arena = Arena::new();
        let document = xml::document(SCHEMA, &arena, xml::Options::default()).unwrap();
        Schema::compile(&[("s.xsd".into(), document.value())], &mut Alone).unwrap()
    }

    /// What is found in a document, and how many elements were passed over, with and without templates.
    fn found(schemas: &[Schema], text: &str) -> [(String, usize); 2] {
        [true, false].map(|has_templates| {
            let mut validators = Validators::new(schemas);
            if !has_templates {
                validators.templates = None;
            }
            let mut raw = Raw::default();
            whole("x.xml", text, &mut validators, &mut raw, &InputOptions::default());
            let verdict = raw.settle(&|_| None);
            let line = |finding: &crate::Finding| {
                let place = finding.place.as_ref().map(|place| (place.at, place.path.clone()));
                format!("{} {place:?}\n", finding.message)
            };
            (verdict.findings.iter().map(line).collect(), validators.passed)
        })
    }

    /// A ship with a number and what is in it.
    fn numbered(number: &str, inner: &str) -> String {
        format!("<ship no='{number}'>{inner}</ship>")
    }

    /// Two ships in an element without constraints of its own.
    fn pair(one: &str, other: &str) -> String {
        let ship = |number| numbered(number, "<name>T</name>");
        format!("<pair>{}{}</pair>", ship(one), ship(other))
    }

    /// A ship called `T`, and then others; how many of these are passed over.
    #[test]
    fn elements_that_are_passed_over() {
        let schemas = [schema()];
        let assert_passed = |parts: &[String], passed: usize| {
            let all = parts.concat();
            let text =
                format!("<fleet xmlns='urn:f' xmlns:f='urn:f' xmlns:p='urn:p'>{all}</fleet>");
            let [(with, count), (without, _)] = found(&schemas, &text);
            assert_eq!((with, count), (without, passed), "{text}");
        };
        for (first, second, passed) in [
            // Only values differ.
            ("<name>Tern</name>", "<name>Skarv</name>", 1),
            ("<name>T</name><of no='2'/>", "<name>S</name><of no='1'/>", 1),
            ("<name>T</name><of no='1'/>", "<name>S</name><of no='7'/>", 1),
            ("<name>T</name><note>a</note>", "<name>S</name><note>b</note>", 1),
            // A value that is none of its type, or that is not taken as it is.
            ("<name>T</name><weight>1</weight>", "<name>S</name><weight>x</weight>", 0),
            ("<name>T</name>", "<name>&lt;</name>", 0),
            ("<name>T</name>", "<name><![CDATA[S]]></name>", 0),
            ("<name>T</name>", "<name></name>", 0),
            ("<name>T</name><of as='sister'/>", "<name>S</name><of as='other'/>", 0),
            ("<name>T</name><note><b>p:a</b></note>", "<name>S</name><note><b>q:a</b></note>", 0),
        ] {
            assert_passed(&[numbered("1", first), numbered("2", second)], passed);
        }
        let (one, other) = (numbered("1", "<name>T</name>"), numbered("2", "<name>S</name>"));
        // A key that is there already. Where it is found behind others, those are taken back.
        assert_passed(&[one.clone(), one.clone()], 0);
        assert_passed(&[pair("1", "2"), pair("3", "4")], 1);
        assert_passed(&[pair("1", "2"), pair("3", "1"), pair("4", "5")], 1);
        assert_passed(&[pair("1", "2"), pair("3", "3"), pair("4", "5")], 1);
        // Blanks around a text are part of a key.
        let calling =
            |call: &str, no: usize| format!("<ship call='{call}' no='{no}'><name>T</name></ship>");
        for (calls, passed) in [(["z", "a ", "a", " a"], 3), (["a", "b", "a ", "a"], 2)] {
            let calls = calls.iter().enumerate();
            let ships: Vec<String> = calls.map(|(no, call)| calling(call, no)).collect();
            assert_passed(&ships, passed);
        }
        // Identifiers are never the same.
        let identified =
            |id: &str, no: &str| format!("<ship id='{id}' no='{no}'><name>T</name></ship>");
        assert_passed(&[identified("a", "1"), identified("b", "2")], 0);
        // Other declarations of namespaces around it; what declares some is not followed itself.
        let inside = |uri: &str, no: &str| {
            let ship = numbered(no, "<name>T</name>");
            format!("<f:group xmlns='{uri}'>{ship}</f:group>")
        };
        let mut groups: Vec<String> = (1..9).map(|no| inside("urn:f", &no.to_string())).collect();
        assert_passed(&groups, 3);
        groups.push(inside("urn:none", "9"));
        assert_passed(&groups, 3);
        assert_passed(&[one, inside("urn:f", "3"), other], 1);
    }

    fn ship() -> impl Strategy<Value = String> {
        let number = prop_oneof![30 => (0..500).prop_map(|no| format!(" no='{no}'")), 1 => "( no='x'| n='1'|)"];
        let simple = "<name>[a-z]{2}</name><weight>([0-9]{2}|1x)</weight>|<name>[ab]</name><of no='[0-9]{2}'/>|<note>[ab]</note>";
        let name = "<name>(Skarv [a-z]{2}|A]B|[a-z]{2}&amp;|)</name>|<name xsi:nil='(true|false|x)'>(a|)</name>";
        let rest = "(<weight>(1.5|)</weight>)?(<of no='[0-9]{2}'( as='sister')?/>)?(<note>(a|\n)?(<b>(p:x|q:y|z)</b>)? ?</note>)?";
        let any = ("( id='[a-c]')?( call='[ab]? ?')?( )?", name, rest);
        let any = any.prop_map(|(id, name, rest)| format!("{id}>{name}{rest}"));
        let call = prop_oneof![3 => "", 1 => " call=' ?[a-e]{1,2} ?'"];
        let simple = (call, simple).prop_map(|(call, inner)| format!("{call}>{inner}"));
        let ship = prop_oneof![6 => simple, 1 => any];
        let ship = (number, ship).prop_map(|(number, ship)| format!("<ship{number}{ship}</ship>"));
        prop_oneof![9 => ship, 1 => "<o:x( no='[12]')?>[ab]?</o:x>|\n  "]
    }

    proptest! {
        /// The same is found with templates and without them.
        #[test]
        fn as_without_templates(
            parts in proptest::collection::vec((proptest::collection::vec(ship(), 0..4), "|<pair>|<f:group( xmlns:q='urn:q'| xmlns:o='urn:none'| xmlns='urn:none'|)>"), 1..30),
        ) {
            let mut text = String::from("<fleet xmlns='urn:f' xmlns:f='urn:f' xmlns:p='urn:p' xmlns:o='urn:other' xmlns:xsi='http://www.w3.org/2001/XMLSchema-instance'>");
            for (ships, group) in parts {
                text.push_str(&group);
                text.extend(ships);
                text.push_str(match group.as_str() {
                    "" => "\n",
                    "<pair>" => "</pair>\n",
                    _ => "</f:group>\n",
                });
            }
            text.push_str("</fleet>");
            let schemas = [schema()];
            let [(with, _), (without, _)] = found(&schemas, &text);
            prop_assert_eq!(with, without, "{}", text);
        }
    }
}
