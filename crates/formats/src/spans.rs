//! Where values end. A value keeps only where it begins; its end is found in the text when somebody asks.

use kyanite_tree::{Arena, Base, Span};

use crate::json::{self, ReaderOptions};
use crate::{Format, csv, toml, xml, yaml};

/// The bytes of the value that was read at byte `offset` of `text`: all of a list, map or element, up to its closing bracket or
/// tag; of a block collection of YAML up to the end of the last thing in it. Of a row and its first cell, which begin at the same
/// byte, those of the cell; `delimiter` is what stands between cells, if it is not the usual one.
///
/// Returns None where no value begins, and for tables of TOML that headers make, since they may be written in several places.
/// Takes time in proportion to the value; in YAML to the text up to its end.
#[must_use]
pub fn span_of(format: Format, text: &str, offset: usize, delimiter: Option<u8>) -> Option<Span> {
    let rest = text.get(offset..).filter(|rest| !rest.is_empty())?;
    let end = match format {
        Format::Json | Format::JsonLines | Format::JsonSequence => {
            let arena = Arena::new();
            let mut reader = json::Reader::new(text, &arena, unlimited());
            reader.seek(offset);
            reader.next_value().ok()??;
            reader.position()
        }
        Format::Xml => xml::node_end(text, offset)?,
        Format::Yaml => yaml::node_end(text, offset)?,
        Format::Toml => toml::inline_end(text, offset)?,
        Format::Csv | Format::Tsv => {
            let settings = csv::Settings::of(format, delimiter);
            csv::cell_end(text, offset, settings)?
        }
        Format::Html => return None,
        Format::Text => offset + rest.find('\n').unwrap_or(rest.len()),
    };
    Some(Span::new(offset, end))
}

/// What was read once is read again, however deep it is.
fn unlimited() -> ReaderOptions {
    ReaderOptions { depth: usize::MAX, origins: json::Origins::Text(Base::default()) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whole_values_of_every_format() {
        use Format::{Csv, Json, Text, Toml, Tsv, Xml, Yaml};
        for (format, text, value) in [
            (Json, r#"{"a": [1, {"b": "]"}], "c": -2.5e3 }"#, r#"[1, {"b": "]"}]"#),
            (Json, r#"{"a": [1, {"b": "]"}], "c": -2.5e3 }"#, "-2.5e3"),
            (Json, r#"{"a": "x\"y" , "b": 1}"#, r#""x\"y""#),
            (Json, "1 2\n3", "2"),
            (Xml, "<a><b c='>'>x<b/>&amp;</b><d/></a>", "<b c='>'>x<b/>&amp;</b>"),
            (Xml, "<a><b/><d e = \"1\" /></a>", "<d e = \"1\" />"),
            (Xml, "<!DOCTYPE a [<!ENTITY e '<b>'>]><a>&e;<p:q>&f;</p:q></a>", "<p:q>&f;</p:q>"),
            (Xml, "<a b=\"1 2\">t</a>", "1 2"),
            (Xml, "<a>t&amp;<![CDATA[u]]>v<b/></a>", "t&amp;<![CDATA[u]]>v"),
            (Yaml, "a:\n  - b: 1\n    c: 2 # d\n  - x\ne: 5\n", "- b: 1\n    c: 2 # d\n  - x"),
            (Yaml, "a:\n  - b: 1\n    c: 2 # d\n  - x\ne: 5\n", "b: 1\n    c: 2"),
            (Yaml, "a: [1, {b: 2}]\nc: \"x y\"", "[1, {b: 2}]"),
            (Yaml, "a: [1, {b: 2}]\nc: \"x y\"", "\"x y\""),
            (Yaml, "a: |\n  x\n  y\nb: 1", "|\n  x\n  y"),
            (Toml, "a = [1, {b = 2}] # c\nd = \"x\"", "[1, {b = 2}]"),
            (Toml, "d = \"\"\"x\ny\"\"\"\ne = 1979-05-27 07:32:00", "\"\"\"x\ny\"\"\""),
            (Toml, "d = \"\"\"x\ny\"\"\"\ne = 1979-05-27 07:32:00", "1979-05-27 07:32:00"),
            (Csv, "a,\"b \"\"c\"\"\nd\",e\n", "\"b \"\"c\"\"\nd\""),
            (Tsv, "a\tb c\td", "b c"),
            (Text, "one\ntwo\nthree", "two"),
        ] {
            let at = text.find(value).unwrap();
            let span = span_of(format, text, at, None).map(|span| &text[span.start..span.end]);
            assert_eq!(span, Some(value), "{format} {text}");
        }
        assert_eq!(span_of(Csv, "a;b,c;d", 2, Some(b';')), Some(Span::new(2, 5)));
        assert_eq!(span_of(Json, "[", 0, None), None);
        assert_eq!(span_of(Yaml, "a: 1", 1, None), None);
        assert_eq!(span_of(Toml, "[a]\nb = 1", 0, None), None);
        assert_eq!(span_of(Json, "1", 9, None), None);
    }

    #[test]
    fn however_deep() {
        let deep = 100_000;
        let text = format!("{}1{}", "[".repeat(deep), "]".repeat(deep));
        assert_eq!(span_of(Format::Json, &text, 0, None), Some(Span::new(0, text.len())));
        let text = format!("{}{}", "<a>".repeat(deep), "</a>".repeat(deep));
        assert_eq!(span_of(Format::Xml, &text, 0, None), Some(Span::new(0, text.len())));
    }
}
