//! Schemas that packages of the system ship: all are read, and samples of them are valid. Where a package is not installed, its part is
//! left out.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

mod support;

use std::path::{Path, PathBuf};

use support::{Folder, assert_says};

/// Where packages keep schemas, with their catalogs.
const FOLDERS: [(&str, &[&str]); 3] = [
    (
        "/usr/share/xml/opensaml",
        &["saml10-catalog.xml", "saml11-catalog.xml", "saml20-catalog.xml"],
    ),
    ("/usr/share/xml/xmltooling", &["catalog.xml"]),
    ("/usr/share/xml/docbook/schema/xsd/5.0", &[]),
];

/// Some of them, each with an element that documents may have as their root.
const ROOTS: [(&str, &str); 7] = [
    ("opensaml/saml-schema-metadata-2.0.xsd", "EntityDescriptor"),
    ("opensaml/saml-schema-protocol-2.0.xsd", "Response"),
    ("opensaml/saml-schema-assertion-2.0.xsd", "Assertion"),
    ("docbook/schema/xsd/5.0/docbook.xsd", "book"),
    ("xmltooling/soap-envelope.xsd", "Envelope"),
    ("xmltooling/xmldsig-core-schema.xsd", "Signature"),
    ("xmltooling/xenc-schema.xsd", "EncryptedData"),
];

/// The catalogs that are there, as options.
fn catalogs() -> String {
    let all = FOLDERS.iter().flat_map(|(folder, names)| {
        names.iter().map(move |name| Path::new(folder).join(name)).filter(|path| path.is_file())
    });
    all.map(|path| format!(" --catalog {}", path.display())).collect()
}

/// The XML Schemas of a folder.
fn schemas(folder: &str) -> Vec<PathBuf> {
    let entries = std::fs::read_dir(folder).into_iter().flatten();
    let paths = entries.map(|entry| entry.unwrap().path());
    let mut found: Vec<PathBuf> =
        paths.filter(|path| path.extension().is_some_and(|extension| extension == "xsd")).collect();
    found.sort();
    found
}

#[test]
fn all_are_read() {
    let folder = Folder::with_demo();
    for (packaged, _) in FOLDERS {
        for schema in schemas(packaged) {
            let line = format!("schema check{} {}", catalogs(), schema.display());
            assert_says(&folder, &line, 0, "1 XML Schema: nothing is wrong");
        }
    }
}

#[test]
fn samples_are_valid_and_what_has_no_place_in_them_is_found() {
    let folder = Folder::with_demo();
    for (schema, root) in ROOTS {
        let schema = Path::new("/usr/share/xml").join(schema);
        if !schema.is_file() {
            continue;
        }
        let given = format!("{} {}", catalogs(), schema.display());
        for seed in 1..4 {
            let line = format!("schema sample{given} --root {root} --seed {seed} -o sample.xml");
            assert_says(&folder, &line, 0, "");
            let line = format!("validate{} --schema {} sample.xml", catalogs(), schema.display());
            assert_says(&folder, &line, 0, "1 document checked in 1 input: valid");
            // In front of the last end tag.
            let sample = folder.read("sample.xml");
            let end = sample.rfind("</").unwrap();
            let line_number = sample[..end].matches('\n').count() + 1;
            folder.file("sample.xml", format!("{}<pier/>{}", &sample[..end], &sample[end..]));
            assert_says(&folder, &line, 1, &format!("sample.xml:{line_number}:"));
            assert_says(&folder, &line, 1, "pier");
        }
    }
}
