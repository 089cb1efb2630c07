//! Sorts entries by their keys: in memory while there is room; beyond that, sorted runs go to temporary files and are merged.

use std::cmp::Ordering;
use std::collections::BinaryHeap;
use std::fs::File;
use std::io::{self, BufReader, BufWriter, Read, Seek, Write};

/// Files that are merged at a time.
const RUNS: usize = 64;

/// What is put in order.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Entry {
    /// What it is ordered by, byte by byte; of several with the same key the first to come is first.
    pub(crate) key: Vec<u8>,
    pub(crate) body: Vec<u8>,
}

/// Takes entries.
pub(crate) struct Sorter {
    /// The bytes that entries may take in memory, about.
    memory: usize,
    /// Keys and bodies, one behind the other.
    bytes: Vec<u8>,
    spans: Vec<Span>,
    runs: Vec<File>,
}

/// Where an entry stands.
#[derive(Clone, Copy)]
pub(crate) struct Span {
    start: usize,
    body: usize,
    end: usize,
}

impl Sorter {
    pub(crate) fn new(memory: usize) -> Self {
        Self { memory, bytes: Vec::new(), spans: Vec::new(), runs: Vec::new() }
    }

    /// Takes an entry.
    pub(crate) fn push(&mut self, key: &[u8], body: &[u8]) -> io::Result<()> {
        let size = self.bytes.len() + self.spans.len() * size_of::<Span>();
        if size + key.len() + body.len() > self.memory && !self.spans.is_empty() {
            self.spill()?;
        }
        let start = self.bytes.len();
        self.bytes.extend_from_slice(key);
        self.bytes.extend_from_slice(body);
        self.spans.push(Span { start, body: start + key.len(), end: self.bytes.len() });
        Ok(())
    }

    fn sort(&mut self) {
        let bytes = &self.bytes;
        self.spans.sort_by(|a, b| bytes[a.start..a.body].cmp(&bytes[b.start..b.body]));
    }

    /// Writes what is in memory to a file that is gone when it is closed.
    fn spill(&mut self) -> io::Result<()> {
        self.sort();
        let mut out = BufWriter::new(tempfile::tempfile()?);
        for Span { start, body, end } in self.spans.drain(..) {
            write(&mut out, &self.bytes[start..body], &self.bytes[body..end])?;
        }
        self.bytes.clear();
        self.runs.push(rewound(out)?);
        if self.runs.len() == RUNS {
            let mut merge = Merge::of(std::mem::take(&mut self.runs))?;
            let mut out = BufWriter::new(tempfile::tempfile()?);
            while let Some(entry) = merge.next()? {
                write(&mut out, &entry.key, &entry.body)?;
            }
            self.runs.push(rewound(out)?);
        }
        Ok(())
    }

    /// Gives the entries back in order.
    pub(crate) fn finish(mut self) -> io::Result<Sorted> {
        if self.runs.is_empty() {
            self.sort();
            let spans = std::mem::take(&mut self.spans).into_iter();
            return Ok(Sorted::XmlBeginning { bytes: self.bytes, spans });
        }
        if !self.spans.is_empty() {
            self.spill()?;
        }
        Ok(Sorted::Merged(Merge::of(self.runs)?))
    }
}

/// Entries in order.
pub(crate) enum Sorted {
    /// In memory.
    XmlBeginning { bytes: Vec<u8>, spans: std::vec::IntoIter<Span> },
    /// In files.
    Merged(Merge),
}

impl Sorted {
    /// The next entry.
    pub(crate) fn next(&mut self) -> io::Result<Option<Entry>> {
        match self {
            Self::XmlBeginning { bytes, spans } => {
                Ok(spans.next().map(|Span { start, body, end }| Entry {
                    key: bytes[start..body].to_vec(),
                    body: bytes[body..end].to_vec(),
                }))
            }
            Self::Merged(merge) => merge.next(),
        }
    }
}

/// Files that are read together, each of which is in order.
pub(crate) struct Merge {
    files: Vec<BufReader<File>>,
    /// The next entry of each, the least on top.
    heads: BinaryHeap<Head>,
}

struct Head {
    entry: Entry,
    file: usize,
}

impl Merge {
    fn of(files: Vec<File>) -> io::Result<Self> {
        let mut files: Vec<BufReader<File>> = files.into_iter().map(BufReader::new).collect();
        let mut heads = BinaryHeap::new();
        for (number, file) in files.iter_mut().enumerate() {
            heads.extend(read(file)?.map(|entry| Head { entry, file: number }));
        }
        Ok(Self { files, heads })
    }

    fn next(&mut self) -> io::Result<Option<Entry>> {
        let Some(Head { entry, file }) = self.heads.pop() else { return Ok(None) };
        self.heads.extend(read(&mut self.files[file])?.map(|entry| Head { entry, file }));
        Ok(Some(entry))
    }
}

impl Ord for Head {
    /// The least key is the greatest, for it comes first; of the same keys that of the earlier file.
    fn cmp(&self, other: &Self) -> Ordering {
        other.entry.key.cmp(&self.entry.key).then_with(|| other.file.cmp(&self.file))
    }
}

impl PartialOrd for Head {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl PartialEq for Head {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other).is_eq()
    }
}

impl Eq for Head {}

fn write(out: &mut impl Write, key: &[u8], body: &[u8]) -> io::Result<()> {
    for part in [key, body] {
        out.write_all(&(part.len() as u64).to_le_bytes())?;
    }
    out.write_all(key)?;
    out.write_all(body)
}

fn read(file: &mut BufReader<File>) -> io::Result<Option<Entry>> {
    let mut length = [0; 8];
    match file.read_exact(&mut length) {
        Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(None),
        other => other?,
    }
    let key = u64::from_le_bytes(length);
    file.read_exact(&mut length)?;
    let body = u64::from_le_bytes(length);
    let mut take = |length: u64| {
        let mut bytes = vec![0; usize::try_from(length).map_err(io::Error::other)?];
        file.read_exact(&mut bytes)?;
        Ok::<_, io::Error>(bytes)
    };
    Ok(Some(Entry { key: take(key)?, body: take(body)? }))
}

fn rewound(out: BufWriter<File>) -> io::Result<File> {
    let mut file = out.into_inner().map_err(io::IntoInnerError::into_error)?;
    file.rewind()?;
    Ok(file)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(50))]

        /// Files, and files merged into one, give what sorting in memory gives.
        #[test]
        fn entries_come_in_order(keys in prop::collection::vec("[ab]{0,3}", 0..300), memory in 0usize..3000) {
            let entries: Vec<Entry> = keys.iter().enumerate().map(|(number, key)| {
                Entry { key: key.clone().into_bytes(), body: number.to_string().into_bytes() }
            }).collect();
            let mut sorter = Sorter::new(memory);
            entries.iter().try_for_each(|entry| sorter.push(&entry.key, &entry.body)).unwrap();
            let mut sorted = sorter.finish().unwrap();
            let found: Vec<Entry> = std::iter::from_fn(|| sorted.next().unwrap()).collect();
            let mut expected = entries;
            expected.sort_by(|a, b| a.key.cmp(&b.key));
            prop_assert_eq!(found, expected);
        }
    }
}
