//! What schemas are written in: a draft, and the vocabularies of it that count (2020-12 core section 8.1).

use kyanite_tree::{Map, Value};

use super::{Draft, Settings};

/// A draft and its vocabularies.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) struct Dialect {
    pub(super) draft: Draft,
    vocabularies: Vocabularies,
    /// Whether formats have to be kept to.
    pub(super) asserts_formats: bool,
}

/// A set of vocabularies.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
struct Vocabularies(u8);

/// A group of keywords that a meta-schema names together.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Vocabulary {
    /// Identities and references.
    Core,
    /// Schemas for what is in a value, and combinations of schemas.
    Applicator,
    /// Schemas for what no other keyword looked at: in 2019-09 a part of the one before.
    Unevaluated,
    /// What is said of values themselves.
    Validation,
    /// `format`.
    Format,
    /// What describes, and the encoding and type of texts that hold something.
    Description,
}

impl Dialect {
    /// A draft with all its vocabularies.
    pub(super) fn whole(draft: Draft, settings: Settings) -> Self {
        let asserts_formats = settings.asserts_formats;
        Self { draft, vocabularies: Vocabularies(!0), asserts_formats }
    }

    /// Another draft, with all its vocabularies.
    pub(super) fn of_draft(self, draft: Draft) -> Self {
        Self { draft, vocabularies: Vocabularies(!0), ..self }
    }

    /// The dialect of a meta-schema that names vocabularies of a draft (2020-12 core section 8.1.2).
    ///
    /// # Errors
    /// The URI of a vocabulary that is needed and not known.
    pub(super) fn of_vocabularies<'s>(
        draft: Draft,
        named: &'s Map<'s>,
        settings: Settings,
    ) -> Result<Self, &'s str> {
        let mut dialect = Self { vocabularies: Vocabularies(0), ..Self::whole(draft, settings) };
        dialect.add(Vocabulary::Core);
        for member in named.members() {
            let is_needed = matches!(member.value, Value::Boolean(_, true));
            let known = [
                "https://json-schema.org/draft/2019-09/vocab/",
                "https://json-schema.org/draft/2020-12/vocab/",
            ]
            .into_iter()
            .find_map(|before| member.name.strip_prefix(before));
            match known {
                Some("core") => {}
                Some("applicator") => {
                    dialect.add(Vocabulary::Applicator);
                    if draft == Draft::V2019 {
                        dialect.add(Vocabulary::Unevaluated);
                    }
                }
                Some("unevaluated") => dialect.add(Vocabulary::Unevaluated),
                Some("validation") => dialect.add(Vocabulary::Validation),
                Some("format") => {
                    dialect.add(Vocabulary::Format);
                    dialect.asserts_formats |= is_needed;
                }
                Some("format-annotation") => dialect.add(Vocabulary::Format),
                Some("format-assertion") => {
                    dialect.add(Vocabulary::Format);
                    dialect.asserts_formats = true;
                }
                Some("meta-data" | "content") => dialect.add(Vocabulary::Description),
                _ if is_needed => return Err(member.name),
                _ => {}
            }
        }
        Ok(dialect)
    }

    fn add(&mut self, vocabulary: Vocabulary) {
        self.vocabularies.0 |= 1 << vocabulary as u8;
    }

    /// Whether keywords of a vocabulary count.
    pub(super) fn has(self, vocabulary: Vocabulary) -> bool {
        self.vocabularies.0 & 1 << vocabulary as u8 != 0
    }
}
