//! Lines that follow the template of one before against what the events of each line are.
#![no_main]

use kyanite_formats::json::{EventReader, Templates, is_one_value};
use kyanite_formats::records::Structure;
use kyanite_tree::{Event, Pull};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let text = format!("{text}\n");
    let (mut templates, mut at) = (Templates::default(), 0);
    for line in text.split_inclusive('\n') {
        let mut scalars = Vec::new();
        let followed = templates.follow(&text, at, &mut scalars);
        let structure = Structure::of(line.as_bytes());
        let mut events = EventReader::new(line, &structure);
        if let Some(followed) = followed {
            let record = &text[at..followed.end];
            assert!(is_one_value(record), "{record:?} follows a template and is no value");
            let own = Structure::of(record.as_bytes());
            let mut own = EventReader::new(record, &own).unwrap();
            let mut expected = Vec::new();
            while let Some(event) = own.next_event() {
                if let Event::Text(_) | Event::Number(_) | Event::Boolean(_) | Event::Null = event {
                    expected.push(event);
                }
            }
            let scalars: Vec<_> = scalars.iter().map(|scalar| scalar.event(&text)).collect();
            assert_eq!(scalars, expected, "{record:?}");
        } else if let Some(events) = &mut events
            && is_one_value(line)
        {
            templates.learn(events, 0);
        }
        at += line.len();
    }
});
