//! XPaths that ask for elements around those that they are evaluated for, over blocks on several threads.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

mod support;

use std::fmt::Write;

use kyanite_flow::{Counters, Events, Input, InputOptions, Job, run};
use kyanite_lang::{RuleText, compile_xpath};
use kyanite_xpath::{Namespaces, Version};
use support::Counting;

/// How many items an expression gives for a document: one by one, and in parts.
fn found(expression: &str, document: &str, threads: usize) -> (u64, u64) {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("manifest.xml");
    std::fs::write(&file, document).unwrap();
    let rule = RuleText::new("the expression", expression);
    let plan = compile_xpath(rule, Version::V31, Namespaces::new(), &[]).unwrap();
    let options = InputOptions { threads, ..InputOptions::default() };
    let mut sink = Counting::new(|| {});
    let counters = Counters::default();
    let mut events = Events { tell: &mut |_| {}, counters: &counters };
    run(&Job::new(&plan, &options), &[Input::File(file)], &mut sink, &mut events).unwrap();
    (sink.one_by_one, sink.in_parts)
}

#[test]
fn attributes_of_elements_around_are_those_of_the_document() {
    let vessels = 600;
    let mut document = String::from("<manifest port='lunde'>\n");
    for vessel in 0..vessels {
        let _ = writeln!(document, "<vessel id='V{vessel}' odd='{}'>", vessel % 2);
        for deck in 0..5 {
            let _ = writeln!(document, "<deck no='{deck}'>");
            for vehicle in 0..7 {
                let _ = writeln!(document, "<vehicle n='{vehicle}'><w>{vessel}</w></vehicle>");
            }
            document.push_str("</deck>\n");
        }
        document.push_str("</vessel>\n");
    }
    document.push_str("</manifest>");
    let all = vessels * 5 * 7;
    for (expression, expected) in [
        ("//vehicle[../@no = 3]/@n", all / 5),
        ("//vehicle[../../@odd = 1][w]/@n", all / 2),
        ("//vehicle[ancestor::vessel/@id = concat('V', w)]", all),
        ("//vehicle[ancestor::deck[@no < 2][../@odd = 0]]", all / 5),
        ("/manifest/vessel/deck/vehicle[ancestor::*[last()]/@port = 'lunde'][@n = 6]", all / 7),
        ("//deck[../@odd = 1][@no = 4]/vehicle[../@no = 4]", all / 10),
        ("//vehicle[@n = 1]/(ancestor::vessel/@id || '/' || ../@no)", all / 7),
    ] {
        for threads in [1, 3] {
            let (one_by_one, in_parts) = found(expression, &document, threads);
            assert_eq!(one_by_one + in_parts, expected, "{expression}");
            // Only what stands in the vessel that is cut in two waits for the block before.
            assert!(in_parts > expected / 2, "{expression}: {in_parts} of {expected} in parts");
        }
    }
}
