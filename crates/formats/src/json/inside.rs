//! Skips the rest of a text, list or map by its quotes and brackets alone.

/// Where in it one is, for a text that comes in pieces.
///
/// ```
/// use kyanite_formats::json::Inside;
///
/// let mut inside = Inside::begin(b'[');
/// // The bracket in the text ends nothing, and the list goes on behind the piece.
/// assert_eq!(inside.pass(br#"["a]", {"#, 1), None);
/// assert_eq!(inside.pass(b"}] 4", 0), Some(2));
/// ```
#[derive(Clone, Copy, Debug, Default)]
pub struct Inside {
    /// Brackets that are open.
    depth: usize,
    in_text: bool,
    is_escaped: bool,
}

impl Inside {
    /// Behind the quote or bracket that begins it.
    #[must_use]
    pub fn begin(byte: u8) -> Self {
        let in_text = byte == b'"';
        Self { depth: usize::from(!in_text), in_text, is_escaped: false }
    }

    /// Passes over the bytes from `at` on; gives the byte behind its end, if that is among them.
    pub fn pass(&mut self, bytes: &[u8], mut at: usize) -> Option<usize> {
        while let Some(byte) = bytes.get(at) {
            at += 1;
            if std::mem::take(&mut self.is_escaped) {
                continue;
            }
            match byte {
                b'\\' if self.in_text => self.is_escaped = true,
                b'"' => self.in_text = !self.in_text,
                // Most of a text is nothing to look at.
                _ if self.in_text => {
                    let rest = &bytes[at..];
                    at += memchr::memchr2(b'"', b'\\', rest).unwrap_or(rest.len());
                    continue;
                }
                b'{' | b'[' => self.depth += 1,
                b'}' | b']' => self.depth = self.depth.saturating_sub(1),
                _ => continue,
            }
            if self.depth == 0 && !self.in_text {
                return Some(at);
            }
        }
        None
    }
}
