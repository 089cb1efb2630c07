//! The HTML writer: elements as pages for browsers (W3C XSLT and XQuery Serialization 3.1 section 7, the html output method in
//! its version 5.0).
//!
//! Elements are those of no namespace or of XHTML's. Void elements have no end tag, no others are self-closing; what stands in
//! `script` and `style` is written as it is; the head of a page says that it is UTF-8.
//!
//! ```
//! use kyanite_formats::html;
//! use kyanite_formats::xml;
//! use kyanite_tree::{Arena, Value};
//!
//! let arena = Arena::new();
//! let text = "<html><head/><body><br/><p/></body></html>";
//! let read = xml::document(text, &arena, xml::Options::default()).unwrap();
//! let mut page = Vec::new();
//! html::write(Value::Element(read.origin, read.root), None, &mut page).unwrap();
//! assert_eq!(
//!     String::from_utf8(page).unwrap(),
//!     "<!DOCTYPE html>\n<html><head><meta charset=\"UTF-8\"></head><body><br><p></p></body></html>\n"
//! );
//! ```

use kyanite_tree::{Attribute, Content, Element, Origin, Value};

use crate::error::{CannotHold, cannot_hold};
use crate::target::Target;

/// The namespace of XHTML.
const XHTML: &str = "http://www.w3.org/1999/xhtml";

/// Elements that hold nothing (HTML section 13.1.2, and those that older versions had).
const VOID: [&str; 18] = [
    "area", "base", "basefont", "br", "col", "embed", "frame", "hr", "img", "input", "isindex",
    "keygen", "link", "meta", "param", "source", "track", "wbr",
];

/// Elements whose text is no markup.
const RAW: [&str; 2] = ["script", "style"];

/// Elements in which blanks count.
const PRESERVED: [&str; 4] = ["pre", "textarea", "script", "style"];

/// Elements that stand in lines of text, around which blanks would show.
const INLINE: [&str; 41] = [
    "a", "abbr", "audio", "b", "bdi", "bdo", "br", "button", "canvas", "cite", "code", "data",
    "datalist", "del", "dfn", "em", "embed", "i", "iframe", "img", "input", "ins", "kbd", "label",
    "mark", "meter", "output", "progress", "q", "ruby", "s", "samp", "select", "small", "span",
    "strong", "sub", "sup", "time", "u", "var",
];

/// Attributes that say something by being there.
const BOOLEAN: [&str; 25] = [
    "allowfullscreen",
    "async",
    "autofocus",
    "autoplay",
    "checked",
    "compact",
    "controls",
    "declare",
    "default",
    "defer",
    "disabled",
    "formnovalidate",
    "hidden",
    "ismap",
    "itemscope",
    "loop",
    "multiple",
    "muted",
    "nohref",
    "noshade",
    "novalidate",
    "nowrap",
    "open",
    "readonly",
    "required",
];

/// What writing gives.
type Written = Result<(), CannotHold>;

/// Appends a page or a part of one, with a line end; `indent` lays out what a rule made.
///
/// # Errors
/// [`CannotHold`] for what is neither an element nor a text.
pub fn write(value: Value<'_>, indent: Option<usize>, out: &mut impl Target) -> Written {
    match value {
        Value::List(_, items) => {
            return items.iter().try_for_each(|item| write(*item, indent, out));
        }
        Value::Element(_, document) if document.is_document() => {
            for node in document.content {
                match node {
                    Content::Element(origin, element) => {
                        root(element, *origin, indent, out)?;
                    }
                    // The page says itself what type it is.
                    Content::DocumentType(..) => {}
                    other => piece(other, false, out.bytes())?,
                }
            }
        }
        Value::Element(origin, element) => root(element, origin, indent, out)?,
        other => match other.scalar_text() {
            Some(text) => escape(text, out.bytes()),
            None => return Err(no_element(other)),
        },
    }
    out.bytes().push(b'\n');
    Ok(())
}

#[cold]
fn no_element(value: Value<'_>) -> CannotHold {
    cannot_hold(
        format!("html is made of elements, and here is {}", value.kind().phrase()),
        "make elements with element(name, attributes, content)",
        value.origin(),
    )
}

/// The outermost element: that of a whole page follows the document type.
fn root(
    element: &Element<'_>,
    origin: Origin,
    indent: Option<usize>,
    out: &mut impl Target,
) -> Written {
    if is_called(element, "html") {
        out.bytes().extend_from_slice(b"<!DOCTYPE html>\n");
    }
    let is_made = !origin.is_known();
    write_element(element, indent.filter(|_| is_made).map(|step| (step, 0)), out)
}

/// Whether it is an element of HTML, and not one of SVG, say.
fn is_html(element: &Element<'_>) -> bool {
    matches!(element.name.namespace(), "" | XHTML)
}

fn is_called(element: &Element<'_>, name: &str) -> bool {
    is_html(element) && element.name.local().eq_ignore_ascii_case(name)
}

fn is_among(element: &Element<'_>, names: &[&str]) -> bool {
    names.iter().any(|name| is_called(element, name))
}

/// How far in lines begin: the blanks of a level, and the level.
type Level = Option<(usize, usize)>;

fn line(level: Level, out: &mut Vec<u8>) {
    if let Some((step, level)) = level {
        out.push(b'\n');
        out.resize(out.len() + step * level, b' ');
    }
}

fn write_element(element: &Element<'_>, level: Level, out: &mut impl Target) -> Written {
    let name = if is_html(element) { element.name.local() } else { element.name.qualified() };
    out.bytes().push(b'<');
    out.bytes().extend_from_slice(name.as_bytes());
    for attribute in element.attributes {
        write_attribute(element, attribute, out.bytes());
    }
    if !is_html(element) && element.content.is_empty() {
        out.bytes().extend_from_slice(b"/>");
        return Ok(());
    }
    out.bytes().push(b'>');
    if is_among(element, &VOID) {
        return match element.content.first() {
            None => Ok(()),
            Some(_) => Err(cannot_hold(
                format!("<{name}> cannot hold anything in HTML"),
                "put what is in it beside it",
                Origin::NONE,
            )),
        };
    }
    let is_raw = is_among(element, &RAW);
    let inner = level.filter(|_| may_lay_out(element)).map(|(step, level)| (step, level + 1));
    let mut is_laid_out = false;
    if is_called(element, "head") {
        line(inner, out.bytes());
        out.bytes().extend_from_slice(b"<meta charset=\"UTF-8\">");
        is_laid_out = inner.is_some();
    }
    for node in element.content {
        match node {
            Content::Element(_, child) if is_called(element, "head") && says_charset(child) => {}
            Content::Element(_, child) => {
                line(inner, out.bytes());
                is_laid_out |= inner.is_some();
                write_element(child, inner, out)?;
                out.part();
            }
            other => piece(other, is_raw, out.bytes())?,
        }
    }
    if is_laid_out {
        line(level, out.bytes());
    }
    out.bytes().extend_from_slice(b"</");
    out.bytes().extend_from_slice(name.as_bytes());
    out.bytes().push(b'>');
    Ok(())
}

/// Whether blanks between what an element holds do not show.
fn may_lay_out(element: &Element<'_>) -> bool {
    let is_block = |node: &Content<'_>| match node {
        Content::Element(_, child) => !is_among(child, &INLINE),
        Content::Text(..) => false,
        _ => true,
    };
    !is_among(element, &PRESERVED) && element.content.iter().all(is_block)
}

/// Whether it says how the page is encoded, which the writer says itself.
fn says_charset(element: &Element<'_>) -> bool {
    let has = |name: &str, value: Option<&str>| {
        element.attributes.iter().any(|attribute| {
            attribute.name.local().eq_ignore_ascii_case(name)
                && value.is_none_or(|value| attribute.value.trim().eq_ignore_ascii_case(value))
        })
    };
    is_called(element, "meta") && (has("charset", None) || has("http-equiv", Some("content-type")))
}

fn write_attribute(element: &Element<'_>, attribute: &Attribute<'_>, out: &mut Vec<u8>) {
    let name = attribute.name;
    // HTML has no declarations of namespaces; elements of others keep theirs.
    if name.declares_namespace() && (is_html(element) || attribute.value == XHTML) {
        return;
    }
    out.push(b' ');
    out.extend_from_slice(name.qualified().as_bytes());
    let local = name.local();
    if is_html(element)
        && BOOLEAN.contains(&local)
        && (attribute.value.is_empty() || attribute.value.eq_ignore_ascii_case(local))
    {
        return;
    }
    out.extend_from_slice(b"=\"");
    for character in attribute.value.chars() {
        match character {
            '&' => out.extend_from_slice(b"&amp;"),
            '"' => out.extend_from_slice(b"&quot;"),
            '\u{A0}' => out.extend_from_slice(b"&nbsp;"),
            // A less-than sign stands as it is in the value of an attribute.
            other => out.extend_from_slice(other.encode_utf8(&mut [0; 4]).as_bytes()),
        }
    }
    out.push(b'"');
}

/// What is no element.
fn piece(node: &Content<'_>, is_raw: bool, out: &mut Vec<u8>) -> Written {
    match node {
        Content::Text(origin, text) if is_raw => {
            if text.contains("</") {
                return Err(cannot_hold(
                    "the text of a script or style holds `</`, which would end it",
                    "write it another way, in JavaScript \"<\\/\"",
                    *origin,
                ));
            }
            out.extend_from_slice(text.as_bytes());
        }
        Content::Text(_, text) => escape(text, out),
        Content::Comment(_, text) => {
            out.extend_from_slice(b"<!--");
            out.extend_from_slice(text.as_bytes());
            out.extend_from_slice(b"-->");
        }
        Content::Instruction(origin, (target, data)) => {
            if data.contains('>') {
                return Err(cannot_hold(
                    "a processing instruction of HTML ends at `>`, and this one holds it",
                    "leave it out",
                    *origin,
                ));
            }
            out.extend_from_slice(format!("<?{target} {data}>").as_bytes());
        }
        Content::DocumentType(..) | Content::Element(..) => {}
    }
    Ok(())
}

fn escape(text: &str, out: &mut Vec<u8>) {
    for character in text.chars() {
        match character {
            '&' => out.extend_from_slice(b"&amp;"),
            '<' => out.extend_from_slice(b"&lt;"),
            '>' => out.extend_from_slice(b"&gt;"),
            '\u{A0}' => out.extend_from_slice(b"&nbsp;"),
            other => out.extend_from_slice(other.encode_utf8(&mut [0; 4]).as_bytes()),
        }
    }
}

#[cfg(test)]
mod tests {
    use kyanite_tree::Arena;

    use super::*;
    use crate::xml;

    fn page(text: &str) -> Result<String, String> {
        let arena = Arena::new();
        let read = xml::document(text, &arena, xml::Options::default()).unwrap();
        let mut out = Vec::new();
        write(Value::Element(read.origin, read.root), None, &mut out)
            .map_err(|error| error.message().to_owned())?;
        Ok(String::from_utf8(out).unwrap())
    }

    #[test]
    fn the_html_method() {
        // Serialization 3.1 sections 7.1 to 7.4.
        for (text, wanted) in [
            ("<p>a<br/>b<img src='x'/></p>", "<p>a<br>b<img src=\"x\"></p>\n"),
            ("<div/>", "<div></div>\n"),
            (
                "<script>if (a &lt; b &amp;&amp; c) {}</script>",
                "<script>if (a < b && c) {}</script>\n",
            ),
            (
                "<p title='&lt;a&gt; &quot;&amp;'>&lt;&amp;&gt;</p>",
                "<p title=\"<a> &quot;&amp;\">&lt;&amp;&gt;</p>\n",
            ),
            ("<input checked='checked' disabled=''/>", "<input checked disabled>\n"),
            ("<option selected='x'/>", "<option selected=\"x\"></option>\n"),
            ("<p>a&#xA0;b</p>", "<p>a&nbsp;b</p>\n"),
            ("<?go on?><p/>", "<?go on><p></p>\n"),
            (
                "<html xmlns='http://www.w3.org/1999/xhtml'><head><meta charset='latin1'/><title>T</title></head></html>",
                "<!DOCTYPE html>\n<html><head><meta charset=\"UTF-8\"><title>T</title></head></html>\n",
            ),
            (
                "<div><svg xmlns='http://www.w3.org/2000/svg'><path d='M0'/></svg></div>",
                "<div><svg xmlns=\"http://www.w3.org/2000/svg\"><path d=\"M0\"/></svg></div>\n",
            ),
        ] {
            assert_eq!(page(text).as_deref(), Ok(wanted), "{text}");
        }
        for text in ["<br>x</br>", "<script>'&lt;/script>'</script>", "<?go a>b?><p/>"] {
            assert!(page(text).is_err(), "{text}");
        }
    }
}
