//! Elements that follow the template of one before against the reader: they are well-formed, and have the values that it finds.
#![no_main]

use kyanite_formats::xml::{self, Options, Templates};
use kyanite_tree::{Arena, Content, Element};
use libfuzzer_sys::fuzz_target;

fn values<'a>(element: &'a Element<'a>, found: &mut Vec<&'a str>) {
    found.extend(element.attributes.iter().map(|attribute| attribute.value));
    for content in element.content {
        match content {
            Content::Element(_, inner) => values(inner, found),
            Content::Text(_, text) => found.push(text),
            _ => {}
        }
    }
}

fuzz_target!(|text: &str| {
    let options = Options { namespaces: false, ..Options::default() };
    let (mut templates, mut at) = (Templates::default(), 0);
    for line in text.split_inclusive('\u{1}') {
        let element = line.trim_end_matches('\u{1}');
        let is_learned = element.starts_with('<')
            && !element.starts_with("<?")
            && !element.starts_with("<!")
            && element.ends_with('>');
        let arena = Arena::new();
        let read = xml::document(element, &arena, options);
        let mut found = Vec::new();
        if let Some(followed) = templates.follow(text, at, &mut found) {
            let own = &text[at..followed.end];
            let arena = Arena::new();
            let read = xml::document(own, &arena, options);
            let read = read.unwrap_or_else(|error| panic!("{own:?}: {}", error.message()));
            let mut expected = Vec::new();
            values(read.root, &mut expected);
            // What belongs to the template is not among the values.
            let mut expected = expected.into_iter();
            for (value, _) in &found {
                assert!(expected.any(|other| other == *value), "{own:?}");
            }
        } else if is_learned && read.is_ok_and(|read| read.root.content.len() == 1) {
            templates.learn(text, at..at + element.len(), &mut found);
        }
        at += line.len();
    }
});
