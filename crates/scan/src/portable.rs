//! The structure without vector instructions.

use crate::classes::{CURLY, Classes};
use crate::finder::{Brackets, Finder, GROUP, More, parity};
use crate::{WORD, padded};

/// The classes of a byte, a bit each in the order of [`Classes`]: quotes, backslashes, opening and closing brackets, colons, commas,
/// blanks, control characters.
const TABLE: [u8; 256] = {
    let mut table = [0; 256];
    let mut byte = 0;
    while byte < 256 {
        table[byte] = match byte as u8 {
            b'"' => 1,
            b'\\' => 2,
            b'{' | b'[' => 4,
            b'}' | b']' => 8,
            b':' => 16,
            b',' => 32,
            b' ' => 64,
            b'\t' | b'\n' | b'\r' => 64 | 128,
            0..=31 => 128,
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
        classes.opening |= (class >> 2 & 1) << at;
        classes.closing |= (class >> 3 & 1) << at;
        classes.colons |= (class >> 4 & 1) << at;
        classes.commas |= (class >> 5 & 1) << at;
        classes.blanks |= (class >> 6 & 1) << at;
        classes.controls |= (class >> 7 & 1) << at;
        classes.curly |= u64::from(byte & CURLY != 0) << at;
    }
    classes
}
