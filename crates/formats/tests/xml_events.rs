//! Events of XML: what a document is made of, whole and in parts.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

use kyanite_formats::xml::{Ancestry, Event, EventReader, Options, prolog};
use kyanite_tree::{Arena, Base};

/// The events of a document that is read in parts which end at those offsets, each as a line; what is not well-formed last.
fn events(text: &str, cuts: &[usize]) -> Vec<String> {
    let (outer, options) = (Arena::new(), Options::default());
    let prolog = match prolog(text, &outer, options, true) {
        Ok(prolog) => prolog,
        Err(error) => return vec![error.message().to_owned()],
    };
    let mut told: Vec<String> = Vec::new();
    let (mut from, mut place) = (prolog.end, Ancestry::default());
    for end in cuts.iter().copied().filter(|end| *end > prolog.end).chain([text.len()]) {
        let (arena, is_last) = (Arena::new(), end == text.len());
        let options = Options { base: Base::default().behind(from), ..options };
        let mut reader = EventReader::new(&text[from..end], &arena, &prolog, options, place);
        if is_last {
            reader.is_last();
        }
        loop {
            let origin = |origin| Base::default().offset(origin);
            let line = match reader.next_event() {
                Ok(None) => break,
                Err(error) if error.wants_more() && !is_last => break,
                Err(error) => {
                    told.push(format!("!{}", error.message()));
                    return told;
                }
                Ok(Some(Event::Begin { origin: at, name })) => {
                    let attributes = reader.attributes().iter();
                    let attributes: Vec<String> = attributes
                        .map(|a| {
                            format!(" {}{{{}}}={}", a.name.qualified(), a.name.namespace(), a.value)
                        })
                        .collect();
                    format!(
                        "{} <{}{{{}}}{}",
                        origin(at),
                        name.qualified(),
                        name.namespace(),
                        attributes.concat()
                    )
                }
                Ok(Some(Event::End(at))) => format!("{} >", origin(at)),
                Ok(Some(Event::Text(_, text))) => match told.last_mut() {
                    Some(last) if last.starts_with('"') => {
                        last.push_str(text);
                        continue;
                    }
                    _ => format!("\"{text}"),
                },
                Ok(Some(Event::Comment(_, text))) => format!("!{text}"),
                Ok(Some(Event::Instruction(_, target, data))) => format!("?{target} {data}"),
            };
            told.push(line);
        }
        // What is open is kept where the arena of this part is gone.
        place = reader.place(&arena).keep(&outer);
        from += reader.committed();
    }
    told
}

const DOCUMENTS: [&str; 14] = [
    "<a/>",
    "<?xml version='1.0'?><!-- c --><a x='1' y=\"&lt;&#65;\">t<b/>u</a><!-- d --><?p q?>",
    "<a xmlns='urn:a' xmlns:b='urn:b'><b:c b:d='1'><e xmlns=''/></b:c><b:f/></a>",
    "<a>one &amp; two<![CDATA[ <three> ]]>four]] &gt; five</a>",
    "<!DOCTYPE a [<!ENTITY e '<b>x</b>y'><!ENTITY f 'z&e;'><!ATTLIST b k CDATA 'v'>]><a>1&e;2&f;3</a>",
    "<a>é🐲<b>é</b>\n</a>\n",
    "<a><b></a>",
    "<a><b></c></a>",
    "<a>]]></a>",
    "<a",
    "<a><x:b/></a>",
    "<a/><b/>",
    "<a>&none;</a>",
    "",
];

#[test]
fn events_of_documents() {
    assert_eq!(
        events(DOCUMENTS[2], &[]),
        [
            "0 <a{urn:a} xmlns{http://www.w3.org/2000/xmlns/}=urn:a xmlns:b{http://www.w3.org/2000/xmlns/}=urn:b",
            "33 <b:c{urn:b} b:d{urn:b}=1",
            "46 <e{} xmlns{http://www.w3.org/2000/xmlns/}=",
            "46 >",
            "59 >",
            "65 <b:f{urn:b}",
            "65 >",
            "71 >",
        ]
    );
    assert_eq!(events(DOCUMENTS[3], &[]), ["0 <a{}", "\"one & two <three> four]] > five", "53 >"]);
    assert_eq!(
        events(DOCUMENTS[4], &[]).concat(),
        "80 <a{}\"184 <b{} k{}=v\"x84 >\"y2z88 <b{} k{}=v\"x88 >\"y392 >"
    );
    assert_eq!(events(DOCUMENTS[6], &[]).last().unwrap(), "!</a> stands where </b> is missing");
    assert_eq!(events(DOCUMENTS[9], &[]).last().unwrap(), "!the document ends inside a tag");
}

#[test]
fn parts_tell_what_the_whole_tells() {
    for text in DOCUMENTS {
        let whole = events(text, &[]);
        for cut in (0..text.len()).filter(|cut| text.is_char_boundary(*cut)) {
            assert_eq!(events(text, &[cut]), whole, "{text} at {cut}");
        }
        let all: Vec<usize> = (0..text.len()).filter(|cut| text.is_char_boundary(*cut)).collect();
        assert_eq!(events(text, &all), whole, "{text} at each character");
    }
}
