//! Names of members as they stand in a text: in quotes, before a colon.

use super::string::is_plain;

const WORD: usize = Key::WORD;

/// A name in quotes, to compare with what stands before colons.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) struct Key {
    quoted: Box<str>,
    /// Whether a text without backslashes can hold it.
    is_plain: bool,
    /// It at the end of a word, and ones where it has bytes; zeros when it is longer than a word, or not plain.
    word: u128,
    mask: u128,
}

impl Key {
    /// The bytes that are compared at once.
    pub(crate) const WORD: usize = 16;

    pub(crate) fn new(name: &str) -> Self {
        let quoted = format!("\"{name}\"");
        let is_plain = is_plain(name.as_bytes());
        let (mut word, mut mask) = ([0; WORD], [0; WORD]);
        if let Some(begin) = WORD.checked_sub(quoted.len()).filter(|_| is_plain) {
            word[begin..].copy_from_slice(quoted.as_bytes());
            mask[begin..].fill(!0);
        }
        Self {
            quoted: quoted.into(),
            is_plain,
            word: u128::from_ne_bytes(word),
            mask: u128::from_ne_bytes(mask),
        }
    }

    /// Whether `bytes` end with the key, the last of them being the quote that closes a name without backslashes.
    #[inline]
    pub(crate) fn ends(&self, bytes: &[u8]) -> bool {
        match bytes.last_chunk::<WORD>() {
            Some(chunk) if self.mask != 0 => u128::from_ne_bytes(*chunk) & self.mask == self.word,
            _ => self.is_plain && bytes.ends_with(self.quoted.as_bytes()),
        }
    }

    /// Whether it may stand in a text without backslashes.
    pub(crate) fn is_plain(&self) -> bool {
        self.is_plain
    }
}
