//! Whole documents as one line of JSON.

use kyanite_tree::Arena;

use super::shapes::{ElementShape, Name};
use super::{ElementLines, Line, Written};
use crate::json;
use crate::record_view::View;
use crate::xml::chars;
use crate::xml::read::{Options, Reader};

/// Writes a document as one line of JSON, without its end, by the convention of the [record view](crate::record_view). Returns None, and
/// leaves `out` as it was, where anything is wrong with the document, or there is anything in it but elements, attributes and texts:
/// comments, instructions, a document type, references to entities, namespaces that are declared below the root, texts
/// beside elements. These are for the [reader of documents](crate::xml::document).
///
/// ```
/// use kyanite_formats::record_view::View;
/// use kyanite_formats::xml;
///
/// let (text, mut out) = ("<pier no='4'><berth>A</berth><berth>B</berth></pier>", Vec::new());
/// xml::document_line(text, xml::Options::default(), &mut View::default(), &mut out).unwrap();
/// assert_eq!(out, br#"{"pier":{"@no":"4","berth":["A","B"]}}"#);
/// ```
pub fn document_line(
    text: &str,
    options: Options,
    view: &mut View,
    out: &mut Vec<u8>,
) -> Option<()> {
    let begin = out.len();
    let written = line(text, options, view, out);
    if written.is_none() {
        out.truncate(begin);
    }
    written
}

fn line(text: &str, options: Options, view: &mut View, out: &mut Vec<u8>) -> Option<()> {
    if options.lenient || options.drop_namespaces || !options.namespaces {
        return None;
    }
    let arena = Arena::new();
    let mut reader = Reader::new(text, &arena, options);
    reader.declaration().ok()?;
    reader.cursor.space();
    // What begins otherwise is a comment, an instruction or a document type.
    let tag = reader.cursor.rest().strip_prefix('<')?;
    let name = &tag[..chars::name_end(tag, 0)];
    if name.is_empty() {
        return None;
    }
    reader.start_tag().ok()?;
    let root = reader.open.last()?;
    let member = view.seen(None, name)?;
    if view.is_list(member) {
        return None;
    }
    let shape = ElementShape::member(name, member, view);
    out.push(b'{');
    Name::new("", name).write_key(out);
    let is_map = shape.is_map || !root.attributes.is_empty();
    if is_map {
        out.push(b'{');
    }
    for (position, attribute) in root.attributes.iter().enumerate() {
        let name = attribute.name.qualified();
        if name == "xml:space" {
            return None;
        }
        if position > 0 {
            out.push(b',');
        }
        Name::new("@", name).write_key(out);
        json::write_text(attribute.value, out);
    }
    let mut lines = ElementLines { shapes: vec![shape], ..ElementLines::default() };
    let depth = options.depth;
    let mut line = Line::new(&mut lines, &reader, Written { view, out }, &[], depth);
    line.content(0, 0, is_map)?;
    line.space();
    if line.at < text.len() {
        return None;
    }
    out.push(b'}');
    view.counts(Some(member), false);
    for (member, is_repeated) in lines.met {
        view.counts(Some(member), is_repeated);
    }
    Some(())
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::record_view::RecordShape;
    use crate::xml::document;

    /// A document as a line, and as it is where it is read as elements: what view has to say of it, or nothing where that has losses.
    fn both(text: &str, shape: &RecordShape) -> [Option<(String, String)>; 2] {
        let (mut view, mut line) = (View::new(shape, false), b"before ".to_vec());
        let written = document_line(text, Options::default(), &mut view, &mut line);
        let said = |view: &View| format!("{:?} {:?}", view.undecided(), view.unmet().count());
        let line = String::from_utf8(line).unwrap();
        assert!(written.is_some() || line == "before ");
        let by_line = written.map(|()| (line["before ".len()..].to_owned(), said(&view)));
        let (arena, mut view) = (Arena::new(), View::new(shape, false));
        let by_tree = document(text, &arena, Options::default()).ok().and_then(|read| {
            let mut out = Vec::new();
            json::write(view.record(read.value(), &arena), json::Style::Compact, &mut out);
            let is_whole = view.losses().is_empty();
            is_whole.then(|| (String::from_utf8(out).unwrap(), said(&view)))
        });
        [by_line, by_tree]
    }

    #[test]
    fn which_documents_are_written_so() {
        for (text, is_written) in [
            ("<a>1</a>", true),
            ("<?xml version='1.0'?>\n<a>\n  <b x='1'>é &#38; \"q\"</b>\n  <b/>\n</a>\n", true),
            ("<a xmlns='urn:x' xmlns:p='urn:p' p:k='&lt;'><b/><p:c>1</p:c></a>", true),
            ("<a><b/>\n<c/><b/></a>", false),
            (
                "<a><b><![CDATA[<\"x\"> & ]] > é]]></b>\n<b>1\n<![CDATA[ ]]>2</b><b x=''><![CDATA[3]]></b></a>",
                true,
            ),
            ("<a><b><![CDATA[]]></b></a>", true),
            ("<a><b x=''><![CDATA[]]></b></a>", false),
            ("<a><b><![CDATA[1]]><c/></b></a>", false),
            ("<a><b><![CDATA[1</b></a>", false),
            ("<a>1<b/></a>", false),
            ("<a><!-- no --></a>", false),
            ("<!-- no --><a>1</a>", false),
            ("<a>1</a><!-- no -->", false),
            ("<!DOCTYPE a [<!ENTITY e 'x'>]><a>&e;</a>", false),
            ("<a xml:space='preserve'> <b/> </a>", false),
            ("<a/>", false),
            ("<a><b></a>", false),
            ("<a>1</a><b/>", false),
            ("<a", false),
            ("", false),
        ] {
            let [by_line, by_tree] = both(text, &RecordShape::default());
            assert_eq!(by_line.is_some(), is_written, "{text}");
            assert!(!is_written || by_line == by_tree, "{text}: {by_line:?} {by_tree:?}");
        }
    }

    proptest! {
        /// Documents of a few names, and some that are none.
        #[test]
        fn as_its_elements_have_it(
            inside in "(<(a|b|c:d)( x=\"(1|&amp;|'|)\")?(/>|>)|</(a|b|c:d)>|[1é\"\\\\]|&#9;|\n|\r|  |<!-- -->|<!\\[CDATA\\[[<&\"\\]]?\\]\\]>){0,9}",
            around in "(<r|<r y='2'|<r xmlns:c='urn:c')>",
            list in any::<bool>(),
        ) {
            let lists = if list { vec!["a".to_owned()] } else { Vec::new() };
            let shape = RecordShape { lists, ..RecordShape::default() };
            let [by_line, by_tree] = both(&format!("{around}{inside}</r>"), &shape);
            if by_line.is_some() {
                prop_assert_eq!(by_line, by_tree);
            }
        }
    }
}
