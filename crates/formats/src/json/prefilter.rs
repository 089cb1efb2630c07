//! A condition that most records fail, as far as it can be told from their text: such records are passed over, and nothing
//! is built of them.
//!
//! A record is passed over only where it is certain that the condition does not hold, by the comparisons of RFC 9535 section
//! 2.3.5.2.2 and exact arithmetic; all others are read, and the condition is evaluated as ever.

use std::cmp::Ordering;

use kyanite_scan::Structure;
use kyanite_tree::{Comparison, Value};

use super::key::Key;
use super::members::{Members, Next};
use super::string::is_plain;

/// A comparison of a member with a constant.
#[derive(Clone, Debug)]
pub struct Prefilter {
    /// The names that lead to the member.
    path: Vec<Key>,
    /// How the member, an absent one as well, has to compare with the constant.
    test: Comparison,
    constant: Constant,
}

#[derive(Clone, Debug)]
enum Constant {
    Number(Small),
    Text(Box<str>),
    Boolean(bool),
}

/// A number of few digits: `digits` / 10 ^ `places`.
#[derive(Clone, Copy, Debug)]
struct Small {
    digits: i64,
    places: u32,
}

/// The digits of such a number; ten times more can be compared without overflow.
const MOST_DIGITS: usize = 18;

impl Prefilter {
    /// A prefilter for records whose member at `path` does not compare so with `constant`; `None` where that cannot be told from
    /// the text: for a constant that is no scalar, that needs escapes, or that has many digits.
    #[must_use]
    pub fn new(path: &[&str], test: Comparison, constant: Value<'_>) -> Option<Self> {
        let constant = match constant {
            Value::Number(_, number) => {
                let (small, length) = Small::read(number.as_str().as_bytes())?;
                (length == number.as_str().len()).then_some(Constant::Number(small))?
            }
            Value::Text(_, text) => {
                is_plain(text.as_bytes()).then(|| Constant::Text(text.into()))?
            }
            Value::Boolean(_, value) => Constant::Boolean(value),
            _ => return None,
        };
        let path: Vec<Key> = path.iter().map(|name| Key::new(name)).collect();
        let is_certain = !path.is_empty() && path.iter().all(Key::is_plain);
        is_certain.then_some(Self { path, test, constant })
    }

    /// Whether the map of `bytes` that the bracket of number `opening` opens certainly fails the condition: the number of its
    /// closing bracket, then. `depth` more containers may be open.
    #[inline]
    pub(super) fn fails(
        &self,
        bytes: &[u8],
        structure: &Structure,
        opening: usize,
        depth: usize,
    ) -> Option<usize> {
        let (found, closing) = look(&self.path, bytes, structure, opening, depth)?;
        let holds = self.test.holds(self.compare(bytes, structure, found)?);
        (!holds).then_some(closing)
    }

    /// How the scalar at byte `at` compares with the constant; `None` where that is for others to tell.
    #[inline]
    fn compare(&self, bytes: &[u8], structure: &Structure, at: usize) -> Option<Option<Ordering>> {
        let rest = bytes.get(at..)?;
        let (order, length) = match (*rest.first()?, &self.constant) {
            (b'-' | b'0'..=b'9', constant) => {
                let (number, length) = Small::read(rest)?;
                match constant {
                    Constant::Number(constant) => (Some(number.compare(constant)), length),
                    _ => (None, length),
                }
            }
            (b'"', constant) => {
                let end = structure.closing_quote(at)? + 1;
                // Written with escapes it may be any text.
                if structure.has_escapes() && memchr::memchr(b'\\', &bytes[at..end]).is_some() {
                    return None;
                }
                match constant {
                    Constant::Text(constant) => {
                        (Some(bytes.get(at + 1..end - 1)?.cmp(constant.as_bytes())), end - at)
                    }
                    _ => (None, end - at),
                }
            }
            (b't', constant) => (word(rest, b"true", true, constant)?, 4),
            (b'f', constant) => (word(rest, b"false", false, constant)?, 5),
            _ => return None,
        };
        matches!(rest.get(length)?, b',' | b'}').then_some(order)
    }
}

fn word(rest: &[u8], word: &[u8], value: bool, constant: &Constant) -> Option<Option<Ordering>> {
    let is_there = rest.starts_with(word);
    is_there.then_some(match constant {
        // Truth values have no order, but are equal.
        Constant::Boolean(constant) if *constant == value => Some(Ordering::Equal),
        _ => None,
    })
}

/// Looks for the member at `path` in the map that the bracket of number `opening` opens, and to the end of that map; gives where its
/// value begins, and the number of the closing bracket. `None` where anything looks odd, a name on the path stands twice, or
/// there is no such member: it may be there without a colon, which others have to see.
fn look(
    path: &[Key],
    bytes: &[u8],
    structure: &Structure,
    opening: usize,
    depth: usize,
) -> Option<(usize, usize)> {
    let (key, inner) = path.split_first()?;
    let depth = depth.checked_sub(1)?;
    let mut members = Members::<false>::new(bytes, structure, opening, depth);
    let mut found = None;
    loop {
        match members.next() {
            Next::Odd => return None,
            Next::End(closing) => return Some((found?, closing)),
            Next::Member { quote, value } => {
                if !key.ends(&bytes[..=quote]) {
                    continue;
                }
                if found.is_some() {
                    return None;
                }
                if inner.is_empty() {
                    found = Some(value);
                } else if bytes[value] == b'{' {
                    let (below, closing) = look(inner, bytes, structure, members.bracket(), depth)?;
                    found = Some(below);
                    members.go_on(closing + 1, structure.bracket(closing)?);
                } else {
                    return None;
                }
            }
        }
    }
}

impl Small {
    /// The number at the start of `bytes`, and how long it is, if it has few digits and no exponent (RFC 8259 section 6).
    #[inline]
    fn read(bytes: &[u8]) -> Option<(Self, usize)> {
        let is_negative = bytes.first() == Some(&b'-');
        let start = usize::from(is_negative);
        let (mut at, mut digits, mut point) = (start, 0_i64, None);
        loop {
            match bytes.get(at) {
                Some(digit @ b'0'..=b'9')
                    if at - start - usize::from(point.is_some()) < MOST_DIGITS =>
                {
                    digits = digits * 10 + i64::from(digit - b'0');
                }
                Some(b'.') if point.is_none() && at > start => point = Some(at),
                Some(b'0'..=b'9' | b'.' | b'e' | b'E' | b'+' | b'-') => return None,
                _ => break,
            }
            at += 1;
        }
        let whole = point.unwrap_or(at) - start;
        let places = point.map_or(0, |point| at - point - 1);
        let is_grammar =
            whole > 0 && (whole == 1 || bytes[start] != b'0') && (point.is_none() || places > 0);
        let digits = if is_negative { -digits } else { digits };
        is_grammar.then_some((Self { digits, places: places as u32 }, at))
    }

    #[inline]
    fn compare(self, other: &Self) -> Ordering {
        let scaled = |number: &Self, places: u32| i128::from(number.digits) * 10_i128.pow(places);
        match self.places.cmp(&other.places) {
            Ordering::Equal => self.digits.cmp(&other.digits),
            Ordering::Less => {
                scaled(&self, other.places - self.places).cmp(&i128::from(other.digits))
            }
            Ordering::Greater => {
                i128::from(self.digits).cmp(&scaled(other, self.places - other.places))
            }
        }
    }
}
