//! Readers as inputs.

use std::fmt;
use std::hash::{Hash, Hasher};
use std::io::{self, Read};
use std::sync::{Arc, Mutex, PoisonError};

use crate::Bytes;

/// A reader as an input, which is read once.
#[derive(Clone)]
pub struct InputReader {
    name: String,
    reader: Arc<dyn Open>,
}

/// Something that gives bytes when it is opened.
trait Open: Send + Sync {
    fn open(&self) -> io::Result<Bytes>;
}

/// A reader until it is opened.
struct Once(Mutex<Option<Bytes>>);

impl Open for Once {
    fn open(&self) -> io::Result<Bytes> {
        let mut reader = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        reader.take().ok_or_else(|| io::Error::other("it was read already"))
    }
}

impl InputReader {
    /// A reader by the name that it has in messages; what stands for a format behind its last dot tells that, as for files.
    pub fn new(name: impl Into<String>, reader: impl Read + Send + 'static) -> Self {
        Self { name: name.into(), reader: Arc::new(Once(Mutex::new(Some(Box::new(reader))))) }
    }

    pub(super) fn name(&self) -> &str {
        &self.name
    }

    pub(super) fn open(&self) -> io::Result<Bytes> {
        self.reader.open()
    }
}

impl PartialEq for InputReader {
    fn eq(&self, other: &Self) -> bool {
        Arc::ptr_eq(&self.reader, &other.reader)
    }
}

impl Eq for InputReader {}

impl Hash for InputReader {
    fn hash<H: Hasher>(&self, state: &mut H) {
        Arc::as_ptr(&self.reader).cast::<()>().hash(state);
    }
}

impl fmt::Debug for InputReader {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("InputReader").field("name", &self.name).finish_non_exhaustive()
    }
}
