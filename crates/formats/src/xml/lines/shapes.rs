//! The shapes of elements: what those at one place of records looked like, for finding the next one by comparing its tags.

use crate::record_view::View;
use crate::xml::prefilter::Marks;

/// What the elements at one place of records look like.
#[derive(Debug)]
pub(super) struct ElementShape {
    pub(super) name: Name,
    /// The member in the view; None for the record itself.
    pub(super) member: Option<u32>,
    pub(super) is_list: bool,
    /// Whether it is always a map.
    pub(super) is_map: bool,
    /// Whether the view knows that it was a text, and a map.
    pub(super) was: [bool; 2],
    pub(super) attributes: Vec<Attribute>,
    pub(super) children: Vec<u32>,
    /// What it is for the prefilter, if there is one.
    pub(super) marks: Marks,
    /// How often it was stepped over.
    pub(super) tries: Tries,
}

/// How often stepping over an element of some sort ended where it should, and how often it did not.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Tries {
    done: u32,
    vain: u32,
}

/// Vain tries that say nothing yet.
const FEW_TRIES: u32 = 8;

impl Tries {
    pub(super) fn note(&mut self, is_done: bool) {
        let count = if is_done { &mut self.done } else { &mut self.vain };
        *count = count.saturating_add(1);
    }

    /// Whether one more would likely be in vain.
    pub(super) fn are_vain(self) -> bool {
        self.vain > self.done.saturating_add(FEW_TRIES)
    }
}

/// An attribute, and what it is for the prefilter, if there is one.
#[derive(Debug)]
pub(super) struct Attribute {
    pub(super) name: Name,
    pub(super) marks: Marks,
}

/// A name in a tag, and the key that it becomes.
#[derive(Debug)]
pub(super) struct Name {
    pub(super) written: Box<str>,
    /// The name in the first bytes of 16, and a mask of the bytes that it takes; zeros when it is longer.
    word: u128,
    mask: u128,
    /// `"name":`, and what comes with it when [`WHOLE_KEY`] bytes are copied at once.
    key: Box<[u8; WHOLE_KEY]>,
    key_length: usize,
    /// A key that is longer than that.
    long_key: Box<[u8]>,
}

/// Keys up to this length are copied without a look at their length.
const WHOLE_KEY: usize = 32;

impl ElementShape {
    pub(super) fn record(name: &str) -> Self {
        Self {
            name: Name::new("", name),
            member: None,
            is_list: false,
            is_map: false,
            was: [false; 2],
            attributes: Vec::new(),
            children: Vec::new(),
            marks: Marks::default(),
            tries: Tries::default(),
        }
    }

    pub(super) fn member(name: &str, member: u32, view: &View) -> Self {
        Self {
            member: Some(member),
            is_list: view.is_list(member),
            is_map: view.is_map(Some(member)),
            ..Self::record(name)
        }
    }
}

impl Name {
    /// A name that is the key of a member with `before` in front of it; names of XML need no escapes.
    pub(super) fn new(before: &str, written: &str) -> Self {
        let (mut word, mut mask) = ([0; 16], [0; 16]);
        if let (Some(word), Some(mask)) =
            (word.get_mut(..written.len()), mask.get_mut(..written.len()))
        {
            word.copy_from_slice(written.as_bytes());
            mask.fill(!0);
        }
        let long_key = format!("\"{before}{written}\":").into_bytes();
        let mut key = [0; WHOLE_KEY];
        let length = long_key.len().min(WHOLE_KEY);
        key[..length].copy_from_slice(&long_key[..length]);
        Self {
            written: written.into(),
            word: u128::from_ne_bytes(word),
            mask: u128::from_ne_bytes(mask),
            key: key.into(),
            key_length: long_key.len(),
            long_key: long_key.into(),
        }
    }

    /// The byte behind the name, if the name stands at `at`.
    #[inline]
    pub(super) fn is_at(&self, bytes: &[u8], at: usize) -> Option<u8> {
        let rest = bytes.get(at..)?;
        let is_here = match rest.first_chunk::<16>() {
            Some(chunk) if self.mask != 0 => u128::from_ne_bytes(*chunk) & self.mask == self.word,
            _ => rest.starts_with(self.written.as_bytes()),
        };
        rest.get(self.written.len()).copied().filter(|_| is_here)
    }

    /// Appends the key.
    #[inline]
    pub(super) fn write_key(&self, out: &mut Vec<u8>) {
        if self.key_length <= WHOLE_KEY {
            out.extend_from_slice(&*self.key);
            out.truncate(out.len() - (WHOLE_KEY - self.key_length));
        } else {
            out.extend_from_slice(&self.long_key);
        }
    }
}
