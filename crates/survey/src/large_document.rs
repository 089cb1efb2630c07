//! Documents of maps and lists too large for memory, each one record: counted part by part.

use kyanite_tree::Pull;

use crate::batch::{Around, Batch, Ended};
use crate::survey::{Bounds, Survey};

/// A document under way.
#[derive(Debug)]
pub struct LargeDocument {
    counted: Survey,
    around: Around,
}

impl LargeDocument {
    /// One of which nothing is known.
    #[must_use]
    pub fn new(bounds: Bounds) -> Self {
        Self { counted: Survey::new(bounds), around: Around::default() }
    }

    /// Goes on in a part of the document, by the events of what it has, with which a batch begins. Gives whether the document is over;
    /// None where it is nested too deep, or a map has a member twice and the batch does not count duplicates.
    pub fn part<'t>(&mut self, batch: &mut Batch<'t>, events: &mut impl Pull<'t>) -> Option<bool> {
        let is_over = batch.part(std::mem::take(&mut self.around), events)?;
        self.around = batch.around();
        Some(is_over)
    }

    /// Takes what the batch had, whose text stands behind `lines_before` line ends of the file.
    pub fn take(&mut self, ended: Ended, file: &str, lines_before: u64) {
        self.counted.take(ended.without_records(), file, lines_before);
    }

    /// It ends, as one record.
    pub fn end(mut self, survey: &mut Survey, file: &str) {
        survey.take_record(&mut self.counted, file);
    }
}
