//! Inputs that end with an error once they are larger than allowed.

use std::fmt;
use std::io::{self, Read};

use crate::Bytes;

/// A reader that fails when there are more bytes than a document may have.
pub(crate) struct Limited {
    pub(super) reader: Bytes,
    left: u64,
    pub(super) limit: u64,
}

impl Limited {
    pub(crate) fn new(reader: Bytes, limit: u64) -> Self {
        Self { reader, left: limit, limit }
    }
}

impl Read for Limited {
    fn read(&mut self, out: &mut [u8]) -> io::Result<usize> {
        let read = self.reader.read(out)?;
        self.left = self
            .left
            .checked_sub(read as u64)
            .ok_or_else(|| io::Error::other(TooLarge { limit: self.limit }))?;
        Ok(read)
    }
}

/// A document has more bytes than it may.
#[derive(Debug)]
pub(super) struct TooLarge {
    pub(super) limit: u64,
}

impl fmt::Display for TooLarge {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "it has more than {} bytes", self.limit)
    }
}

impl std::error::Error for TooLarge {}
