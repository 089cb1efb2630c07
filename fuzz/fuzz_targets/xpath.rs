//! XPath: no expression over any document makes its evaluation, or what is said of it, panic.
#![no_main]

use std::cell::RefCell;

use kyanite_tree::Arena;
use kyanite_xpath::{Context, Expression, Item, Namespaces, Store, Version, Coverage, document};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let (expression, xml) = text.split_once('\0').unwrap_or((text, "<a x='1'><b>2</b><b/></a>"));
    for version in [Version::V1, Version::V31] {
        let Ok(expression) = Expression::compile(expression, version, Namespaces::new(), &[]) else {
            continue;
        };
        let arena = Arena::new();
        let store = Store::new(&arena);
        let Ok(root) = document(xml, &store) else { return };
        let coverage = RefCell::new(Coverage::new(&expression));
        let _ = expression.evaluate(&Context::of(Item::Node(root)), &store, &coverage);
        let _ = coverage.borrow().report(&expression);
    }
});
