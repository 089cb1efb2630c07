//! Line ends: those of XML all become `\n` (XML 1.0 section 2.11); where the lines of a table or a text end with `\r` alone, it
//! becomes `\n`, but for what stands in quotes.

use std::io::{self, Read};

use crate::Bytes;

/// Reads a text with the line ends of XML.
pub(crate) struct LineEnds {
    reader: Bytes,
    /// Whether the last byte that was read was `\r`.
    after_return: bool,
}

impl LineEnds {
    pub(crate) fn new(reader: Bytes) -> Self {
        Self { reader, after_return: false }
    }
}

impl Read for LineEnds {
    fn read(&mut self, out: &mut [u8]) -> io::Result<usize> {
        loop {
            let read = self.reader.read(out)?;
            let block = &mut out[..read];
            if read == 0 || !self.after_return && memchr::memchr(b'\r', block).is_none() {
                return Ok(read);
            }
            let mut kept = 0;
            for at in 0..read {
                let byte = block[at];
                let is_rest = byte == b'\n' && self.after_return;
                self.after_return = byte == b'\r';
                if !is_rest {
                    block[kept] = if byte == b'\r' { b'\n' } else { byte };
                    kept += 1;
                }
            }
            // A block of nothing but the rest of a line end is no end of the input.
            if kept > 0 {
                return Ok(kept);
            }
        }
    }
}

/// Reads `\r` at the end of a line as `\n`. No byte changes its place.
pub(crate) struct Returns {
    reader: Bytes,
    cells: Cells,
}

/// Where in a table a byte stands; a text without cells is one that never begins.
#[derive(Clone, Copy)]
struct Cells {
    /// What stands between cells, in a table.
    delimiter: Option<u8>,
    at: At,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum At {
    Start,
    Plain,
    Quoted,
    /// Behind a quote in a quoted cell, which closes it or stands for one.
    Quote,
}

impl Cells {
    fn new(delimiter: Option<u8>) -> Self {
        Self { delimiter, at: At::Start }
    }

    /// Goes on behind that byte; tells whether it stood outside of quotes.
    fn pass(&mut self, byte: u8) -> bool {
        let Some(delimiter) = self.delimiter else { return true };
        let is_quote = byte == b'"';
        let is_outside = self.at != At::Quoted;
        self.at = match self.at {
            At::Quoted if is_quote => At::Quote,
            At::Quoted => At::Quoted,
            At::Start | At::Quote if is_quote => At::Quoted,
            _ if byte == delimiter || matches!(byte, b'\n' | b'\r') => At::Start,
            _ => At::Plain,
        };
        is_outside
    }
}

impl Returns {
    /// Whether the first line end of what begins with `head` is `\r` alone. In a table with that delimiter those in quotes are
    /// none.
    pub(crate) fn are_in(head: &[u8], is_all: bool, delimiter: Option<u8>) -> bool {
        let mut cells = Cells::new(delimiter);
        let first = head.iter().position(|byte| {
            let is_outside = cells.pass(*byte);
            is_outside && matches!(byte, b'\n' | b'\r')
        });
        first.is_some_and(|at| {
            let next = head.get(at + 1);
            head[at] == b'\r' && next != Some(&b'\n') && (next.is_some() || is_all)
        })
    }

    pub(crate) fn new(reader: Bytes, delimiter: Option<u8>) -> Self {
        Self { reader, cells: Cells::new(delimiter) }
    }
}

impl Read for Returns {
    fn read(&mut self, out: &mut [u8]) -> io::Result<usize> {
        let read = self.reader.read(out)?;
        for byte in &mut out[..read] {
            if self.cells.pass(*byte) && *byte == b'\r' {
                *byte = b'\n';
            }
        }
        Ok(read)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Gives few bytes at a time.
    struct Few(Vec<u8>, usize);

    impl Read for Few {
        fn read(&mut self, out: &mut [u8]) -> io::Result<usize> {
            let length = self.1.min(self.0.len()).min(out.len());
            out[..length].copy_from_slice(&self.0[..length]);
            self.0.drain(..length);
            Ok(length)
        }
    }

    #[test]
    fn returns_outside_of_quotes_end_lines() {
        for (text, delimiter, out) in [
            ("a,b\r\"x\ry\",2\r", Some(b','), "a,b\n\"x\ry\",2\n"),
            ("a\"\"b\rc\"\rd", Some(b','), "a\"\"b\nc\"\nd"),
            ("\"a\"\"\rb\"\rc", Some(b';'), "\"a\"\"\rb\"\nc"),
            ("a;\"\rb\"\rc", Some(b';'), "a;\"\rb\"\nc"),
            ("\"a\rb\"", None, "\"a\nb\""),
        ] {
            assert!(Returns::are_in(text.as_bytes(), true, delimiter), "{text:?}");
            for size in 1..6 {
                let mut read = String::new();
                let few = Box::new(Few(text.into(), size));
                Returns::new(few, delimiter).read_to_string(&mut read).unwrap();
                assert_eq!(read, out, "{size}");
            }
        }
        for text in ["", "a", "a\r\nb\r", "a\nb\r", "\"a\rb\"\n"] {
            assert!(!Returns::are_in(text.as_bytes(), true, Some(b',')), "{text:?}");
        }
        assert!(Returns::are_in(b"a\r", true, None) && !Returns::are_in(b"a\r", false, None));
    }

    #[test]
    fn line_ends_in_blocks_of_any_size() {
        for size in 1..6 {
            let mut text = String::new();
            let few = Few(b"a\r\nb\rc\n\r\n\r\rd\r\n".to_vec(), size);
            LineEnds::new(Box::new(few)).read_to_string(&mut text).unwrap();
            assert_eq!(text, "a\nb\nc\n\n\n\nd\n", "{size}");
        }
    }
}
