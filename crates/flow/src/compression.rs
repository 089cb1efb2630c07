//! Compressed inputs and outputs: gzip (RFC 1952) and Zstandard (RFC 8878).

use std::io::{self, BufRead, Write};

use crate::Bytes;

/// A compression.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Compression {
    Gzip,
    Zstandard,
}

impl Compression {
    /// The compression that begins with these bytes.
    pub(crate) fn of_content(head: &[u8]) -> Option<Self> {
        if head.starts_with(b"\x1F\x8B") {
            return Some(Self::Gzip);
        }
        head.starts_with(b"\x28\xB5\x2F\xFD").then_some(Self::Zstandard)
    }

    /// The compression that a file's extension stands for.
    pub(crate) fn of_extension(extension: &str) -> Option<Self> {
        match extension.to_ascii_lowercase().as_str() {
            "gz" => Some(Self::Gzip),
            "zst" | "zstd" => Some(Self::Zstandard),
            _ => None,
        }
    }

    /// Reads what is compressed in `reader`, all members or frames of it.
    pub(crate) fn reader(self, reader: Box<dyn BufRead + Send>) -> io::Result<Bytes> {
        Ok(match self {
            Self::Gzip => Box::new(flate2::bufread::MultiGzDecoder::new(reader)),
            #[cfg(feature = "zstd")]
            Self::Zstandard => Box::new(zstd::Decoder::with_buffer(reader)?),
            #[cfg(not(feature = "zstd"))]
            Self::Zstandard => return Err(without_zstandard()),
        })
    }
}

/// A writer that compresses, or does not.
pub(crate) enum Encoder<W: Write> {
    Plain(W),
    Gzip(flate2::write::GzEncoder<W>),
    #[cfg(feature = "zstd")]
    Zstandard(zstd::Encoder<'static, W>),
}

#[cfg(not(feature = "zstd"))]
fn without_zstandard() -> io::Error {
    io::Error::other(
        "it is compressed with Zstandard, and this program was built without the feature zstd",
    )
}

impl<W: Write> Encoder<W> {
    pub(crate) fn new(compression: Option<Compression>, writer: W) -> io::Result<Self> {
        Ok(match compression {
            None => Self::Plain(writer),
            Some(Compression::Gzip) => {
                Self::Gzip(flate2::write::GzEncoder::new(writer, flate2::Compression::default()))
            }
            #[cfg(feature = "zstd")]
            Some(Compression::Zstandard) => Self::Zstandard(zstd::Encoder::new(writer, 0)?),
            #[cfg(not(feature = "zstd"))]
            Some(Compression::Zstandard) => return Err(without_zstandard()),
        })
    }

    /// Writes what is left, and gives the writer back.
    pub(crate) fn finish(self) -> io::Result<W> {
        match self {
            Self::Plain(writer) => Ok(writer),
            Self::Gzip(encoder) => encoder.finish(),
            #[cfg(feature = "zstd")]
            Self::Zstandard(encoder) => encoder.finish(),
        }
    }

    pub(crate) fn write_all(&mut self, bytes: &[u8]) -> io::Result<()> {
        match self {
            Self::Plain(writer) => writer.write_all(bytes),
            Self::Gzip(encoder) => encoder.write_all(bytes),
            #[cfg(feature = "zstd")]
            Self::Zstandard(encoder) => encoder.write_all(bytes),
        }
    }
}
