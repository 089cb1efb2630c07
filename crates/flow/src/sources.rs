//! The further documents that a rule reads: its sources.

use kyanite_lang::{DocumentUris, Plan};
use kyanite_tree::{Arena, Code, Diagnostic, Origin, Place, Region, Value};

use crate::document::Library;
use crate::input::{Input, InputOptions, Source};
use crate::run_error::{Events, RunError};

/// The documents of a rule's sources, in the order they are declared.
pub(crate) struct Sources<'a> {
    pub(crate) values: Vec<Value<'a>>,
    library: Library<'a>,
}

impl<'a> Sources<'a> {
    /// Reads them all.
    pub(crate) fn load(
        plan: &Plan,
        inputs: &[(String, Input)],
        options: &InputOptions,
        arena: &'a Arena,
        events: &mut Events<'_>,
    ) -> Result<Self, RunError> {
        let library = Library::of_sources(arena);
        let mut values = Vec::new();
        // What is said of the format of the input is not meant for sources.
        let options = InputOptions { from: None, unwrap: false, ..options.clone() };
        for source in &plan.sources {
            let Some((_, input)) = inputs.iter().find(|(name, _)| *name == source.name) else {
                let message = format!("the source `{}` is not given", source.name);
                return Err(RunError::Command(vec![Diagnostic::error(Code::CommandLine, message)]));
            };
            let opened = Source::open(input, &options)?;
            events.tell(Diagnostic::note(
                Code::InputRead,
                format!("{}: {}", opened.name, opened.detected),
            ));
            let name = opened.name.clone();
            let mut loaded = library.load(opened, &options, events)?;
            match (loaded.roots.pop(), loaded.roots.is_empty()) {
                (Some(root), true) => values.push(root),
                _ => {
                    let message = format!("the source {name} has several documents, or none");
                    return Err(RunError::Input(Diagnostic::error(Code::ValueSeveral, message)));
                }
            }
        }
        Ok(Self { values, library })
    }

    /// Whether values of types that only some formats have may be in them.
    pub(crate) fn has_foreign_types(&self) -> bool {
        self.library.has_foreign_types()
    }

    /// What values are from: those of the input from `own`, or from what a library tells.
    pub(crate) fn uris(&self, own: Option<String>, library: Option<&Library<'_>>) -> DocumentUris {
        let uris = self.library.uris(DocumentUris::new(own));
        library.map_or_else(|| uris.clone(), |library| library.uris(uris.clone()))
    }

    /// The place of a value: in a source, or as `own` finds it in the input.
    pub(crate) fn place(
        &self,
        origin: Origin,
        own: impl FnOnce() -> Option<Place>,
    ) -> Option<Place> {
        match origin.region() {
            Some(Region::Source) => self.library.place(origin),
            _ => own(),
        }
    }
}
