//! Simple types of XML Schema and the JSON Schema that is made of them: a text that is valid by the one is, read with its types, valid by
//! the other; and where nothing is lost in translation, no other text is.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that fails may panic")]

mod support;

use kyanite_formats::record_view::View;
use kyanite_schema::json::{self, Document, Outline, Typing};
use kyanite_schema::xsd::MemberNames;
use kyanite_tree::Arena;
use proptest::prelude::*;
use support::{compile, found_by, read};

/// Facets, each with values.
type Facets = &'static [(&'static str, &'static [&'static str])];

/// Types with facets that they may have.
const TYPES: [(&str, Facets); 10] = [
    ("int", NUMBERS),
    ("byte", NUMBERS),
    ("unsignedShort", NUMBERS),
    ("positiveInteger", NUMBERS),
    ("decimal", NUMBERS),
    ("double", &[("minInclusive", &["-1", "0.5"]), ("maxExclusive", &["7", "1e2"])]),
    ("string", TEXTS),
    ("token", TEXTS),
    ("NMTOKEN", TEXTS),
    ("boolean", &[("pattern", &["true|false"])]),
];

const NUMBERS: Facets = &[
    ("minInclusive", &["-1", "1", "3"]),
    ("maxInclusive", &["5", "12", "100"]),
    ("maxExclusive", &["6", "20"]),
    ("totalDigits", &["1", "2", "3"]),
    ("enumeration", &["1", "5", "10"]),
];

const TEXTS: Facets = &[
    ("length", &["0", "1", "3"]),
    ("minLength", &["1", "2"]),
    ("maxLength", &["2", "4"]),
    ("pattern", &["[a-z]*", "\\d{2}", "a|bb", "[^x]+", "\\i\\c*"]),
    ("enumeration", &["a", "12", "bb"]),
    ("whiteSpace", &["collapse"]),
];

const VALUES: [&str; 34] = [
    "", " ", "0", "1", "+1", "01", "-1", "-0", "2", "3", "5", "6", "7", "9", "10", "12", "20",
    "99", "100", "128", "1.0", "1.5", "0.50", "-1.5", "1e2", "INF", "true", "false", "a", "a b",
    " a ", "bb", "øre", "🚢",
];

/// A simple type: its base, and its facets.
fn simple_type() -> impl Strategy<Value = (usize, Vec<(usize, usize)>)> {
    let facet = (any::<prop::sample::Index>(), any::<prop::sample::Index>());
    let facets = prop::collection::vec(facet, 0..3);
    (0..TYPES.len(), facets).prop_map(|(of, facets)| {
        let all = TYPES[of].1;
        let facets = facets.into_iter().map(|(facet, value)| {
            let facet = facet.index(all.len());
            (facet, value.index(all[facet].1.len()))
        });
        (of, facets.collect())
    })
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 600, max_global_rejects: 20_000, ..ProptestConfig::default() })]

    #[test]
    fn what_is_valid_stays_valid((of, facets) in simple_type(), is_attribute in any::<bool>()) {
        let (base, known) = TYPES[of];
        let facets = facets.iter().map(|(facet, value)| {
            let (name, values) = known[*facet];
            format!("<xs:{name} value='{}'/>", values[*value])
        });
        let of_type = format!(
            "<xs:simpleType><xs:restriction base='xs:{base}'>{}</xs:restriction></xs:simpleType>",
            facets.collect::<String>()
        );
        let body = match is_attribute {
            true => format!("<xs:element name='a'><xs:complexType><xs:attribute name='x'>{of_type}</xs:attribute></xs:complexType></xs:element>"),
            false => format!("<xs:element name='a'>{of_type}</xs:element>"),
        };
        // Facets that contradict each other, or say nothing of the type, are no schema.
        let compiled = compile(&body, &[]);
        prop_assume!(compiled.is_ok());
        let (schema, arena) = (compiled.unwrap(), Arena::new());
        let translated = schema.to_json_schema(MemberNames::Local, &arena);
        let settings = json::Settings { asserts_formats: true, ..json::Settings::default() };
        let document = Document { uri: "file:///s.json".into(), value: translated.schema };
        let outline = json::Schema::compile(document.clone(), &[], settings).unwrap();
        let checked = json::Schema::compile(document, &[], settings).unwrap();
        let mut typing = Typing::new(Outline::new(&outline, true));
        // Numbers have a spelling in XML Schema alone: 1.0 is no xs:int, and an integer in JSON.
        let plain = format!("<xs:element name='a' type='xs:{base}'/>");
        let plain = compile(&plain, &[]).unwrap();
        let is_of_base = |value: &str| found_by(&plain, &format!("<a>{value}</a>")).is_empty();
        // White space that does not count for a type is there in JSON.
        let is_exact = |value: &&&str| {
            value.trim() == **value || base == "string" && !of_type.contains("whiteSpace")
        };
        for value in VALUES.iter().filter(is_exact) {
            let text = match is_attribute {
                true => format!("<a x='{value}'/>"),
                false => format!("<a>{value}</a>"),
            };
            let said = found_by(&schema, &text);
            let record = View::default().record(read(&arena, &text), &arena);
            let typed = typing.document(record, &arena);
            let also = checked.is_valid(typed);
            let shown = kyanite_formats::json::compact(typed);
            if said.is_empty() {
                prop_assert!(also, "{text} is valid by {body}, and {shown} is not by {}", kyanite_formats::json::compact(translated.schema));
            } else if translated.losses.is_empty() && is_of_base(value) {
                prop_assert!(!also, "{text} is not valid by {body} ({said}), and {shown} is by {}", kyanite_formats::json::compact(translated.schema));
            }
        }
    }
}
