//! The sets of a project: `kyanite.toml`.

use std::collections::HashSet;
use std::path::{Path, PathBuf};

use kyanite_formats::Format;
use kyanite_formats::documents;
use kyanite_tree::{Arena, Base, Code, Diagnostic, Place, TextPlaces, Value, near_words};

use super::files::seen_from_here;
use super::{Choice, Chosen, Set, find};
use crate::input::{Input, cannot_read};

/// The name of the file.
const FILE: &str = "kyanite.toml";

/// A project file.
#[derive(Clone, Debug)]
pub struct Project {
    /// The folder that it is in.
    pub folder: PathBuf,
    /// Its sets, in their order.
    pub sets: Vec<ProjectSet>,
}

/// A set as the file says it.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct ProjectSet {
    /// Its name.
    pub name: String,
    /// Patterns of the files, relative to the folder.
    pub files: Vec<String>,
    /// Patterns of files that are left out.
    pub exclude: Vec<String>,
    /// The schemas, relative to the folder.
    pub schemas: Vec<String>,
}

impl Project {
    /// The project of a folder: the file in it or in the nearest one above it.
    ///
    /// # Errors
    /// What is wrong with the file.
    pub fn of(folder: &Path) -> Result<Option<Self>, Diagnostic> {
        let folder = std::path::absolute(folder).unwrap_or_else(|_| folder.to_owned());
        let found = folder.ancestors().find(|folder| folder.join(FILE).is_file());
        found.map(|folder| Self::read(&folder.join(FILE), folder)).transpose()
    }

    fn read(path: &Path, folder: &Path) -> Result<Self, Diagnostic> {
        let name = seen_from_here(path).display().to_string();
        let text = std::fs::read_to_string(path).map_err(|error| cannot_read(&name, &error))?;
        let (arena, base) = (Arena::new(), Base::default());
        let options = documents::Options { base, ..documents::Options::default() };
        let read = documents::read(Format::Toml, &text, &arena, options)
            .map_err(|error| error.diagnostic(&name, text.as_bytes()))?;
        let places = TextPlaces::new(&name, text.as_bytes());
        let reader = Reader { places, base };
        let sets = reader.sets(read.roots.first().copied())?;
        Ok(Self { folder: folder.to_owned(), sets })
    }

    /// The sets of these names, all of them if there are none, with the files that belong to them. Of `only` just these.
    ///
    /// # Errors
    /// A name that no set has, and patterns that are none.
    pub fn sets(&self, names: &[String], only: Option<&[Chosen]>) -> Result<Vec<Set>, Diagnostic> {
        if let Some(name) = names.iter().find(|name| self.sets.iter().all(|set| set.name != **name))
        {
            let known = || self.sets.iter().map(|set| set.name.as_str());
            let advice = near_words(name, known()).unwrap_or_else(|| {
                format!("there are: {}", known().collect::<Vec<_>>().join(", "))
            });
            let message = format!("no validation in {FILE} is called {name:?}");
            return Err(Diagnostic::error(Code::CommandLine, message).advise(advice));
        }
        let wanted = |set: &&ProjectSet| names.is_empty() || names.contains(&set.name);
        let mut sets = Vec::new();
        for set in self.sets.iter().filter(wanted) {
            let inputs = match only {
                None => self.files(set)?,
                Some(only) => {
                    let own: HashSet<Input> =
                        self.files(set)?.iter().map(|chosen| canonical(&chosen.input)).collect();
                    let belongs = |chosen: &&Chosen| own.contains(&canonical(&chosen.input));
                    only.iter().filter(belongs).cloned().collect()
                }
            };
            let schemas =
                set.schemas.iter().map(|schema| Input::File(self.shown(schema))).collect();
            sets.push(Set { name: Some(set.name.clone()), schemas, inputs });
        }
        Ok(sets)
    }

    fn files(&self, set: &ProjectSet) -> Result<Vec<Chosen>, Diagnostic> {
        // A file that is named by itself need not be of a format that is known by its name.
        let folder = self.shown("").display().to_string();
        let folder = if folder.is_empty() { ".".to_owned() } else { folder };
        let choice = Choice::new(&set.files, &set.exclude)?;
        find(&[folder], &choice)
    }

    /// A path of the project as it is seen from here.
    fn shown(&self, path: &str) -> PathBuf {
        seen_from_here(&self.folder.join(path)).to_owned()
    }
}

/// An input by the name that a file has but once.
fn canonical(input: &Input) -> Input {
    match input {
        Input::File(path) => Input::File(path.canonicalize().unwrap_or_else(|_| path.clone())),
        other => other.clone(),
    }
}

/// Reads what the file says.
struct Reader<'t> {
    places: TextPlaces<'t>,
    base: Base,
}

impl Reader<'_> {
    fn refused(&self, message: String, value: Value<'_>, advice: Option<String>) -> Diagnostic {
        let offset = self.base.offset(value.origin());
        let place: Place = self.places.place(offset, offset + 1);
        let found = Diagnostic::error(Code::CommandLine, message).at(place);
        match advice {
            Some(advice) => found.advise(advice),
            None => found,
        }
    }

    fn known(&self, name: &str, known: &[&str], value: Value<'_>) -> Result<(), Diagnostic> {
        if known.contains(&name) {
            return Ok(());
        }
        let advice = near_words(name, known.iter().copied())
            .unwrap_or_else(|| format!("there are: {}", known.join(", ")));
        Err(self.refused(format!("{FILE} has no key {name:?}"), value, Some(advice)))
    }

    fn sets(&self, root: Option<Value<'_>>) -> Result<Vec<ProjectSet>, Diagnostic> {
        let mut sets: Vec<ProjectSet> = Vec::new();
        let Some(map) = root.and_then(|root| root.as_map()) else { return Ok(sets) };
        for member in map.members() {
            self.known(member.name, &["validation"], member.value)?;
            let Some(tables) = member.value.as_list() else {
                let message = "validation is a list of tables".to_owned();
                return Err(self.refused(
                    message,
                    member.value,
                    Some("write [[validation]]".into()),
                ));
            };
            for table in tables {
                let set = self.set(*table)?;
                if sets.iter().any(|known| known.name == set.name) {
                    let message = format!("two validations are called {:?}", set.name);
                    return Err(self.refused(message, *table, None));
                }
                sets.push(set);
            }
        }
        Ok(sets)
    }

    fn set(&self, table: Value<'_>) -> Result<ProjectSet, Diagnostic> {
        let Some(map) = table.as_map() else {
            let message = "a validation is a table".to_owned();
            return Err(self.refused(message, table, Some("write [[validation]]".into())));
        };
        let mut set = ProjectSet::default();
        for member in map.members() {
            self.known(member.name, &["name", "files", "exclude", "schemas"], member.value)?;
            match member.name {
                "name" => match member.value.as_text() {
                    Some(name) => name.clone_into(&mut set.name),
                    None => {
                        return Err(self.refused("a name is a text".into(), member.value, None));
                    }
                },
                "files" => set.files = self.texts(member.name, member.value)?,
                "exclude" => set.exclude = self.texts(member.name, member.value)?,
                _ => set.schemas = self.texts(member.name, member.value)?,
            }
        }
        for (key, is_missing) in [("name", set.name.is_empty()), ("files", set.files.is_empty())] {
            if is_missing {
                return Err(self.refused(format!("a validation needs {key}"), table, None));
            }
        }
        Ok(set)
    }

    fn texts(&self, key: &str, value: Value<'_>) -> Result<Vec<String>, Diagnostic> {
        let refused = |value| self.refused(format!("{key} is a list of texts"), value, None);
        let items = value.as_list().ok_or_else(|| refused(value))?;
        items
            .iter()
            .map(|item| item.as_text().map(str::to_owned).ok_or_else(|| refused(*item)))
            .collect()
    }
}
