//! The structure without vector instructions.

use crate::classes::{Classes, is_plausible};
use crate::finder::{Brackets, Finder, GROUP, More, parity};
use crate::{WORD, Word, padded};

/// The classes of a byte: bits for a quote, a backslash, a bracket, a control character, and a colon.
const TABLE: [u8; 256] = {
    let mut table = [0; 256];
    let mut byte = 0;
    while byte < 256 {
        table[byte] = match byte as u8 {
            b'"' => 1,
            b'\\' => 2,
            b'{' | b'}' | b'[' | b']' => 4,
            0..=31 => 8,
            b':' => 16,
            _ => 0,
        };
        byte += 1;
    }
    table
};

words!(parity);

fn classes(word: &[u8; WORD]) -> Classes {
    let mut classes = Classes::default();
    for (at, byte) in word.iter().enumerate() {
        let class = u64::from(TABLE[usize::from(*byte)]);
        classes.quotes |= (class & 1) << at;
        classes.backslashes |= (class >> 1 & 1) << at;
        classes.brackets |= (class >> 2 & 1) << at;
        classes.controls |= (class >> 3 & 1) << at;
        classes.colons |= (class >> 4 & 1) << at;
        classes.plausible |= u64::from(is_plausible(*byte)) << at;
    }
    classes
}
