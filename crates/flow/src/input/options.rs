//! How inputs are read.

use kyanite_formats::Format;
use kyanite_formats::documents::Limits;
use kyanite_formats::encoding::Charset;
use kyanite_lang::Ways;

use crate::fetch::Fetch;

/// How inputs are read.
#[derive(Clone, Debug)]
pub struct InputOptions {
    /// The format, when the user said it.
    pub from: Option<Format>,
    /// The byte between the cells of CSV, when the user said it.
    pub delimiter: Option<u8>,
    /// Whether the first row of CSV is data, not names.
    pub unnamed: bool,
    /// Whether broken records are skipped and counted, and broken XML repaired.
    pub lenient: bool,
    /// Whether the document is a text that holds another document.
    pub unwrap: bool,
    /// Whether the prefixes of XML are left out.
    pub drop_namespaces: bool,
    /// What readers keep to.
    pub limits: Limits,
    /// Whether each repair is told, not only each sort of them.
    pub repairs: bool,
    /// The encoding, when it is not to be told from the content.
    pub encoding: Option<Charset>,
    /// The most bytes of a document that is held whole.
    pub size: u64,
    /// The bytes that tuples which wait for others may take in memory, about; more go to temporary files.
    pub memory: usize,
    /// How URLs are fetched.
    pub fetch: Fetch,
    /// How many threads run over records.
    pub threads: usize,
    /// Ways that records of rules are not to take.
    pub avoid: Ways,
}

/// The bytes of a whole document that are read unless more is asked for: as far as places in it can be told.
pub const DEFAULT_SIZE: u64 = 4 * 1024 * 1024 * 1024;

/// The bytes that waiting tuples take in memory unless more is allowed.
pub const DEFAULT_MEMORY: usize = 512 * 1024 * 1024;

impl Default for InputOptions {
    fn default() -> Self {
        Self {
            from: None,
            delimiter: None,
            unnamed: false,
            lenient: false,
            unwrap: false,
            drop_namespaces: false,
            limits: Limits::default(),
            repairs: false,
            encoding: None,
            size: DEFAULT_SIZE,
            memory: DEFAULT_MEMORY,
            fetch: Fetch::default(),
            threads: 1,
            avoid: Ways::default(),
        }
    }
}
