//! Reads the records that begin in a byte range of a file, each to its end: adjacent ranges together give each record exactly once.

use std::fs::File;
use std::io::{self, BufRead, BufReader, Read, Seek, SeekFrom};
use std::ops::Range;
use std::path::Path;

use kyanite_formats::Format;

/// Bytes of a file, from one up to another.
pub type ByteRange = Range<u64>;

/// What the part of an input that begins at a byte is called in messages.
pub(crate) fn name_in_range(name: &str, from: u64) -> String {
    format!("{name} from byte {from}")
}

/// Reads the records of a file that begin in a range; where they have a header, that as well, in front of them.
pub(crate) struct RangeReader {
    file: BufReader<File>,
    /// Where in the file it is.
    at: u64,
    /// Records that begin here or behind belong to another range.
    end: u64,
    /// Whether line ends in quotes end no record, and whether this is in quotes.
    quoting: Option<bool>,
    header: io::Cursor<Vec<u8>>,
    has_ended: bool,
}

impl RangeReader {
    /// Opens a file of that format for the records that begin in a range. Whether a line end of CSV is in quotes is told by the quotes
    /// before it, all from the first on; those are counted.
    pub(crate) fn open(
        path: &Path,
        range: ByteRange,
        format: Format,
        has_header: bool,
    ) -> io::Result<Self> {
        let quoting = (format == Format::Csv).then_some(false);
        let mut reader = Self {
            file: BufReader::with_capacity(1 << 18, File::open(path)?),
            at: 0,
            end: u64::MAX,
            quoting,
            header: io::Cursor::default(),
            has_ended: false,
        };
        if matches!(format, Format::Csv | Format::Tsv) && has_header {
            let mut header = Vec::new();
            reader.pass_record(&mut |bytes| header.extend_from_slice(bytes))?;
            reader.header = io::Cursor::new(header);
        }
        // A record begins behind a line end, which may be the last byte before the range.
        if let Some(before) = range.start.checked_sub(1).filter(|before| *before >= reader.at) {
            if quoting.is_some() {
                reader.pass_to(before)?;
            } else {
                reader.file.seek(SeekFrom::Start(before))?;
                reader.at = before;
            }
            reader.pass_record(&mut |_| {})?;
        }
        reader.end = range.end;
        reader.has_ended = reader.at >= reader.end;
        Ok(reader)
    }

    /// How many lines the header has that stands in front of the range.
    pub(crate) fn header_lines(&self) -> u64 {
        memchr::memchr_iter(b'\n', self.header.get_ref()).count() as u64
    }

    /// Passes bytes up to one.
    fn pass_to(&mut self, to: u64) -> io::Result<()> {
        while self.at < to {
            let bytes = self.file.fill_buf()?;
            if bytes.is_empty() {
                break;
            }
            let most = usize::try_from(to - self.at).unwrap_or(usize::MAX).min(bytes.len());
            quoted(&mut self.quoting, &bytes[..most]);
            self.consumed(most);
        }
        Ok(())
    }

    /// Passes bytes up to the end of a record and with it.
    fn pass_record(&mut self, take: &mut dyn FnMut(&[u8])) -> io::Result<()> {
        loop {
            let bytes = self.file.fill_buf()?;
            if bytes.is_empty() {
                return Ok(());
            }
            let (passed, is_end) = record_end(&mut self.quoting, bytes);
            take(&bytes[..passed]);
            self.consumed(passed);
            if is_end {
                return Ok(());
            }
        }
    }

    fn consumed(&mut self, bytes: usize) {
        self.file.consume(bytes);
        self.at += bytes as u64;
    }
}

/// Notes whether what follows some bytes is in quotes.
fn quoted(quoting: &mut Option<bool>, bytes: &[u8]) {
    if let Some(is_quoted) = quoting {
        *is_quoted ^= memchr::memchr_iter(b'"', bytes).count() % 2 == 1;
    }
}

/// Up to where bytes belong to the record that they begin in, and whether it ends there.
fn record_end(quoting: &mut Option<bool>, bytes: &[u8]) -> (usize, bool) {
    let mut from = 0;
    while let Some(at) = memchr::memchr(b'\n', &bytes[from..]) {
        let end = from + at + 1;
        quoted(quoting, &bytes[from..end]);
        if *quoting != Some(true) {
            return (end, true);
        }
        from = end;
    }
    quoted(quoting, &bytes[from..]);
    (bytes.len(), false)
}

impl Read for RangeReader {
    fn read(&mut self, out: &mut [u8]) -> io::Result<usize> {
        let given = self.header.read(out)?;
        if given > 0 || self.has_ended || out.is_empty() {
            return Ok(given);
        }
        let bytes = self.file.fill_buf()?;
        let most = bytes.len().min(out.len());
        if most == 0 {
            self.has_ended = true;
            return Ok(0);
        }
        // The record that the last byte of the range belongs to is read to its end.
        let inside = usize::try_from((self.end - 1).saturating_sub(self.at)).unwrap_or(usize::MAX);
        let passed = if inside >= most {
            quoted(&mut self.quoting, &bytes[..most]);
            most
        } else {
            quoted(&mut self.quoting, &bytes[..inside]);
            let (passed, is_end) = record_end(&mut self.quoting, &bytes[inside..most]);
            self.has_ended = is_end;
            inside + passed
        };
        out[..passed].copy_from_slice(&bytes[..passed]);
        self.consumed(passed);
        Ok(passed)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn read(path: &Path, range: ByteRange, format: Format, has_header: bool) -> Vec<u8> {
        let mut bytes = Vec::new();
        RangeReader::open(path, range, format, has_header)
            .unwrap()
            .read_to_end(&mut bytes)
            .unwrap();
        bytes
    }

    #[test]
    fn where_records_begin() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("x");
        for (format, has_header, text, range, expected) in [
            (Format::JsonLines, false, "1\n22\n3\n", 0..1, "1\n"),
            (Format::JsonLines, false, "1\n22\n3\n", 0..2, "1\n"),
            (Format::JsonLines, false, "1\n22\n3\n", 0..3, "1\n22\n"),
            (Format::JsonLines, false, "1\n22\n3\n", 1..2, ""),
            (Format::JsonLines, false, "1\n22\n3\n", 2..3, "22\n"),
            (Format::JsonLines, false, "1\n22\n3\n", 3..u64::MAX, "3\n"),
            (Format::JsonLines, false, "1\n22\n3", 5..6, "3"),
            (Format::JsonLines, false, "1\n22\n3\n", 90..99, ""),
            (Format::JsonLines, false, "1\n22\n3\n", 3..3, ""),
            (Format::JsonLines, false, "\"\n\"\n", 1..9, "\"\n"),
            (Format::Csv, true, "a,b\n\"1\n2\",3\n4,5\n", 0..1, "a,b\n"),
            (Format::Csv, true, "a,b\n\"1\n2\",3\n4,5\n", 0..5, "a,b\n\"1\n2\",3\n"),
            (Format::Csv, true, "a,b\n\"1\n2\",3\n4,5\n", 6..99, "a,b\n4,5\n"),
            (Format::Csv, false, "a,b\n\"1\n2\",3\n4,5\n", 0..5, "a,b\n\"1\n2\",3\n"),
            (Format::Csv, true, "\"a\nb\",\"\"\"\"\n1,2\n", 0..99, "\"a\nb\",\"\"\"\"\n1,2\n"),
            (Format::Tsv, true, "a\tb\n\"\t1\n2\t\"\n", 8..99, "a\tb\n2\t\"\n"),
        ] {
            std::fs::write(&path, text).unwrap();
            let bytes = read(&path, range.clone(), format, has_header);
            assert_eq!(String::from_utf8(bytes).unwrap(), expected, "{text:?} {range:?}");
        }
    }

    proptest! {
        /// Ranges that follow each other give all records, in order.
        #[test]
        fn each_record_once(text in "([a\"]{0,3},?\n?){0,12}", mut cuts in proptest::collection::vec(0_u64..40, 0..5), is_csv in any::<bool>()) {
            let folder = tempfile::tempdir().unwrap();
            let path = folder.path().join("x");
            std::fs::write(&path, &text).unwrap();
            let format = if is_csv { Format::Csv } else { Format::JsonLines };
            cuts.extend([0, u64::MAX]);
            cuts.sort_unstable();
            let parts = cuts.windows(2).map(|cut| read(&path, cut[0]..cut[1], format, false));
            let joined = parts.collect::<Vec<_>>().concat();
            prop_assert_eq!(String::from_utf8(joined).unwrap(), text);
        }
    }
}
