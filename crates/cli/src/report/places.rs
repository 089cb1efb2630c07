//! Where the forms of a report go.

use std::io::IsTerminal;
use std::path::{Path, PathBuf};

use kyanite_flow::{Destination, RunError};

use crate::arguments::MessageOptions;
use crate::messages::Messages;
use crate::run::destination_of;
use crate::written::keep_apart;

/// Forms that are wanted, and the file of each; one at most has none.
pub struct Places<'p, F> {
    /// What `--report` says.
    pub reports: &'p [(F, Option<PathBuf>)],
    /// What `--output` says.
    pub output: Option<&'p Path>,
    /// The form that is written where none is asked for.
    pub usual: F,
}

impl<F: Copy> Places<'_, F> {
    /// Refuses reports that would go to one place, or to that of something that is read: the words that name it.
    pub fn check<'w>(&'w self, read: impl IntoIterator<Item = &'w str>) -> Result<(), RunError> {
        let open = self.reports.iter().filter(|(_, file)| file.is_none()).count();
        if open > 1 {
            return Err(RunError::command(
                "several reports would go to standard output",
                "give each a file: --report html=report.html",
            ));
        }
        if self.output.is_some() && open == 0 && !self.reports.is_empty() {
            return Err(RunError::command(
                "every report has a file of its own, so none goes to that of --output",
                "leave --output out",
            ));
        }
        keep_apart(self.files(), read)
    }

    /// The files that are named.
    pub fn files(&self) -> impl Iterator<Item = &Path> {
        self.reports.iter().filter_map(|(_, file)| file.as_deref()).chain(self.output)
    }

    /// Writes each form; `render` gets what colours it, and the columns that it may take.
    pub fn write(
        &self,
        options: &MessageOptions,
        render: &mut dyn FnMut(F, &Messages, usize) -> Vec<u8>,
    ) -> Result<(), RunError> {
        let usual = [(self.usual, None)];
        let reports = if self.reports.is_empty() { &usual } else { self.reports };
        for (form, file) in reports {
            let destination = destination_of(file.as_deref().or(self.output), None);
            let on_terminal =
                matches!(destination, Destination::Stream(_)) && std::io::stdout().is_terminal();
            let shown = Messages::on(options, on_terminal);
            destination.write(&render(*form, &shown, width(on_terminal)))?;
        }
        Ok(())
    }
}

/// The width that is taken for a terminal's where nothing tells it.
const USUAL: usize = 120;

/// The columns of a terminal; elsewhere nothing has to be cut.
fn width(on_terminal: bool) -> usize {
    let size = || console::Term::stdout().size_checked().map(|(_, columns)| usize::from(columns));
    if on_terminal { size().unwrap_or(USUAL) } else { usize::MAX }
}
