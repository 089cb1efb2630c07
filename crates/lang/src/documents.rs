//! Which documents values were read from, for rules that ask.

use kyanite_tree::{Origin, Region, SourceMap};

/// The files and URLs that values were read from.
#[derive(Clone, Debug, Default)]
pub struct DocumentUris {
    /// That of the input that the rule is run over.
    own: Option<String>,
    /// Texts that are in memory whole, with that of each.
    texts: Vec<(SourceMap, Vec<Option<String>>)>,
}

impl DocumentUris {
    /// Values of the input are from this one, unless texts tell otherwise.
    #[must_use]
    pub fn new(own: Option<String>) -> Self {
        Self { own, texts: Vec::new() }
    }

    /// Values of these texts are from those.
    #[must_use]
    pub fn with(mut self, texts: SourceMap, uris: Vec<Option<String>>) -> Self {
        self.texts.push((texts, uris));
        self
    }

    /// That of the input that the rule is run over.
    pub(crate) fn own(&self) -> Option<&str> {
        self.own.as_deref()
    }

    /// The one that a value of this origin was read from.
    pub(crate) fn of(&self, origin: Origin) -> Option<&str> {
        let region = origin.region()?;
        let found = self.texts.iter().find_map(|(texts, uris)| {
            let (number, _) = texts.find(origin)?;
            uris.get(number)
        });
        match found {
            Some(uri) => uri.as_deref(),
            None => self.own().filter(|_| region == Region::Input),
        }
    }
}
