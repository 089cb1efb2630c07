//! Whole numbers by a picture (F&O 3.1 section 4.6, `format-integer`).

use kyanite_tree::Decimal;

use super::{PictureError, in_family, zero_of};

/// A whole number as `picture` shows it; words and endings of ordinals are English.
///
/// # Errors
/// `FODF1310` where the picture is none.
///
/// ```
/// use kyanite_eval::picture::integer::format;
/// use kyanite_tree::Decimal;
///
/// assert_eq!(format(&Decimal::from(1234567), "#,##0").unwrap(), "1,234,567");
/// assert_eq!(format(&Decimal::from(21), "w;o").unwrap(), "twenty-first");
/// ```
pub fn format(number: &Decimal, picture: &str) -> Result<String, PictureError> {
    let (primary, modifier) = match picture.rfind(';') {
        Some(at) => (&picture[..at], &picture[at + 1..]),
        None => (picture, ""),
    };
    if primary.is_empty() {
        return Err(wrong("a picture is empty"));
    }
    let is_ordinal = match modifier.split('(').next().unwrap_or_default() {
        "" | "c" | "a" | "t" | "ca" | "ct" => false,
        "o" | "oa" | "ot" => true,
        other => return Err(wrong(format!("`{other}` is no modifier; there are c and o"))),
    };
    Ok(NumberForm::of(primary)?.show(number, is_ordinal))
}

fn wrong(message: impl Into<String>) -> PictureError {
    PictureError { code: "FODF1310", message: message.into() }
}

/// How a number is shown.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(super) enum NumberForm {
    /// Digits with separators: for each of them what it is and how many digits are behind it.
    Digits {
        zero: char,
        least: usize,
        separators: Vec<(usize, char)>,
        repeats: Option<(usize, char)>,
    },
    /// `a`, `A`, and other letters that numbering begins with.
    Letters(char),
    /// `i`, `I`.
    Roman { upper: bool },
    /// `w`, `W`, `Ww`.
    Words(Case),
    /// `①` and the like: the first, and how many there are.
    Signs(char, u32),
}

/// The case of words.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Case {
    Lower,
    Upper,
    Title,
}

impl Case {
    /// A text in this case.
    pub(super) fn of(self, text: &str) -> String {
        match self {
            Self::Lower => text.to_lowercase(),
            Self::Upper => text.to_uppercase(),
            Self::Title => {
                let title = |word: &str| {
                    if word == "and" {
                        return word.to_owned();
                    }
                    let mut letters = word.chars();
                    let first = letters.next().map(|c| c.to_uppercase().to_string());
                    first.unwrap_or_default() + letters.as_str()
                };
                text.split(' ').map(title).collect::<Vec<_>>().join(" ")
            }
        }
    }
}

impl NumberForm {
    /// The shape that a primary format token means.
    pub(super) fn of(token: &str) -> Result<Self, PictureError> {
        if token.chars().any(|c| zero_of(c).is_some()) {
            return Self::digits(token);
        }
        Ok(match token {
            "a" | "A" => Self::Letters(token.chars().next().unwrap_or('a')),
            "i" => Self::Roman { upper: false },
            "I" => Self::Roman { upper: true },
            "w" => Self::Words(Case::Lower),
            "W" => Self::Words(Case::Upper),
            "Ww" => Self::Words(Case::Title),
            _ => match token.chars().next() {
                Some(first) if token.chars().count() == 1 => {
                    match SIGNS.iter().find(|(sign, _)| *sign == first) {
                        Some((sign, count)) => Self::Signs(*sign, *count),
                        None if first == 'α' || first == 'Α' => Self::Letters(first),
                        None if first == '#' => return Err(wrong("a picture has no digit")),
                        // A numbering that is not known is that of digits.
                        None => Self::plain(),
                    }
                }
                Some('#') => return Err(wrong("a picture has no digit that is always there")),
                _ => Self::plain(),
            },
        })
    }

    /// Digits as they are.
    pub(super) fn plain() -> Self {
        Self::Digits { zero: '0', least: 1, separators: Vec::new(), repeats: None }
    }

    fn digits(token: &str) -> Result<Self, PictureError> {
        let mut zero = None;
        let (mut least, mut places) = (0, 0);
        let mut separators = Vec::new();
        let mut last_is_separator = true;
        for character in token.chars() {
            let is_separator = match (zero_of(character), character) {
                (Some(family), _) => {
                    if *zero.get_or_insert(family) != family {
                        return Err(wrong("a picture mixes digits of several families"));
                    }
                    least += 1;
                    false
                }
                (None, '#') if least > 0 => {
                    return Err(wrong("in a picture, `#` stands before the digits"));
                }
                (None, '#') => false,
                (None, other) if other.is_alphanumeric() => {
                    return Err(wrong(format!("`{other}` cannot stand among digits")));
                }
                (None, _) => true,
            };
            if is_separator {
                if last_is_separator {
                    return Err(wrong("a separator stands between two digits"));
                }
                separators.push((places, character));
            } else {
                places += 1;
            }
            last_is_separator = is_separator;
        }
        if last_is_separator {
            return Err(wrong("a separator stands between two digits"));
        }
        for separator in &mut separators {
            separator.0 = places - separator.0;
        }
        separators.reverse();
        Ok(Self::Digits {
            zero: zero.unwrap_or('0'),
            least,
            repeats: regular(&separators, places),
            separators,
        })
    }

    /// The number in this shape.
    pub(super) fn show(&self, number: &Decimal, is_ordinal: bool) -> String {
        let sign = if number.signum() < 0 { "-" } else { "" };
        let absolute = number.abs();
        let small = absolute.to_i64();
        let text = match (self, small) {
            (Self::Letters(first), Some(n)) if n > 0 => letters(n, *first),
            (Self::Roman { upper }, Some(n)) if (1..4000).contains(&n) => roman(n, *upper),
            (Self::Words(case), Some(n)) => case.of(&words(n, is_ordinal)),
            (Self::Signs(first, count), Some(n)) if (1..=i64::from(*count)).contains(&n) => {
                char::from_u32(*first as u32 + n as u32 - 1).unwrap_or(*first).to_string()
            }
            (Self::Digits { zero, least, separators, repeats }, _) => {
                let digits = crate::number::decimal_text(&absolute);
                let padded = format!("{digits:0>least$}");
                let grouped = group(&in_family(&padded, *zero), separators, *repeats);
                if is_ordinal { format!("{grouped}{}", ending(&digits)) } else { grouped }
            }
            _ => crate::number::decimal_text(&absolute),
        };
        format!("{sign}{text}")
    }
}

/// Signs that count from one, with how many there are.
const SIGNS: &[(char, u32)] = &[
    ('①', 20),
    ('⑴', 20),
    ('⒈', 20),
    ('❶', 10),
    ('➀', 10),
    ('➊', 10),
    ('Ⅰ', 12),
    ('ⅰ', 12),
    ('㈠', 10),
    ('㊀', 10),
    ('⓵', 10),
];

/// The distance and the sign of separators that all are the same and stand at multiples of one distance: then they go on
/// to the left.
pub(super) fn regular(separators: &[(usize, char)], places: usize) -> Option<(usize, char)> {
    let (distance, sign) = *separators.first()?;
    let is_regular = |(number, separator): (usize, &(usize, char))| {
        *separator == (distance * (number + 1), sign)
    };
    let all = separators.iter().enumerate().all(is_regular);
    // One more would have stood in the picture if there was room for it.
    let is_complete = places <= distance * (separators.len() + 1);
    (all && is_complete).then_some((distance, sign))
}

/// Digits with separators among them, counted from the right.
pub(super) fn group(
    digits: &str,
    separators: &[(usize, char)],
    repeats: Option<(usize, char)>,
) -> String {
    let count = digits.chars().count();
    let mut grouped = String::with_capacity(digits.len() * 2);
    for (position, digit) in digits.chars().enumerate() {
        let behind = count - position;
        if position > 0 {
            match repeats {
                Some((distance, sign)) if behind.is_multiple_of(distance) => grouped.push(sign),
                Some(_) => {}
                None => {
                    let found = separators.iter().find(|(place, _)| *place == behind);
                    grouped.extend(found.map(|(_, sign)| *sign));
                }
            }
        }
        grouped.push(digit);
    }
    grouped
}

/// a, b, … z, aa, ab, …
fn letters(number: i64, first: char) -> String {
    let count = if matches!(first, 'α' | 'Α') { 24 } else { 26 };
    let mut left = number;
    let mut letters = Vec::new();
    while left > 0 {
        left -= 1;
        let mut offset = (left % count) as u32;
        // Greek has a final sigma among its small letters, and a gap among the capitals.
        if count == 24 && offset >= 17 {
            offset += 1;
        }
        letters.push(char::from_u32(first as u32 + offset).unwrap_or(first));
        left /= count;
    }
    letters.iter().rev().collect()
}

fn roman(number: i64, upper: bool) -> String {
    const VALUES: &[(i64, &str)] = &[
        (1000, "m"),
        (900, "cm"),
        (500, "d"),
        (400, "cd"),
        (100, "c"),
        (90, "xc"),
        (50, "l"),
        (40, "xl"),
        (10, "x"),
        (9, "ix"),
        (5, "v"),
        (4, "iv"),
        (1, "i"),
    ];
    let mut left = number;
    let mut text = String::new();
    for (value, numeral) in VALUES {
        while left >= *value {
            text.push_str(numeral);
            left -= value;
        }
    }
    if upper { text.to_uppercase() } else { text }
}

/// The ending of an English ordinal: `st` of 21, `th` of 12.
pub(super) fn ending(digits: &str) -> &'static str {
    match digits.as_bytes() {
        [.., b'1', _] => "th",
        [.., b'1'] => "st",
        [.., b'2'] => "nd",
        [.., b'3'] => "rd",
        _ => "th",
    }
}

const ONES: [&str; 20] = [
    "zero",
    "one",
    "two",
    "three",
    "four",
    "five",
    "six",
    "seven",
    "eight",
    "nine",
    "ten",
    "eleven",
    "twelve",
    "thirteen",
    "fourteen",
    "fifteen",
    "sixteen",
    "seventeen",
    "eighteen",
    "nineteen",
];

const TENS: [&str; 10] =
    ["", "", "twenty", "thirty", "forty", "fifty", "sixty", "seventy", "eighty", "ninety"];

const SCALES: [(i64, &str); 6] = [
    (1_000_000_000_000_000_000, "quintillion"),
    (1_000_000_000_000_000, "quadrillion"),
    (1_000_000_000_000, "trillion"),
    (1_000_000_000, "billion"),
    (1_000_000, "million"),
    (1_000, "thousand"),
];

/// A number in English words.
pub(super) fn words(number: i64, is_ordinal: bool) -> String {
    let cardinal = cardinal(number);
    if !is_ordinal {
        return cardinal;
    }
    let at = cardinal.rfind([' ', '-']).map_or(0, |at| at + 1);
    let (start, last) = cardinal.split_at(at);
    let ordinal = match last {
        "one" => "first".into(),
        "two" => "second".into(),
        "three" => "third".into(),
        "five" => "fifth".into(),
        "eight" => "eighth".into(),
        "nine" => "ninth".into(),
        "twelve" => "twelfth".into(),
        last => match last.strip_suffix('y') {
            Some(stem) => format!("{stem}ieth"),
            None => format!("{last}th"),
        },
    };
    format!("{start}{ordinal}")
}

fn cardinal(number: i64) -> String {
    for (value, name) in SCALES {
        if number >= value {
            let (count, left) = (cardinal(number / value), number % value);
            return match left {
                0 => format!("{count} {name}"),
                1..100 => format!("{count} {name} and {}", cardinal(left)),
                _ => format!("{count} {name} {}", cardinal(left)),
            };
        }
    }
    let number = number as usize;
    match (number / 100, number % 100) {
        (0, n @ 0..20) => ONES[n].into(),
        (0, n) if n % 10 == 0 => TENS[n / 10].into(),
        (0, n) => format!("{}-{}", TENS[n / 10], ONES[n % 10]),
        (hundreds, 0) => format!("{} hundred", ONES[hundreds]),
        (hundreds, left) => format!("{} hundred and {}", ONES[hundreds], cardinal(left as i64)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pictures_of_whole_numbers() {
        for (number, picture, wanted) in [
            // F&O 3.1 section 4.6.1.
            (123, "0000", "0123"),
            (123, "w", "one hundred and twenty-three"),
            (21, "0;o", "21st"),
            (7, "a", "g"),
            (27, "a", "aa"),
            (57, "I", "LVII"),
            (1234, "#;##0;", "1;234"),
            (12_345_678_901, "#,##0", "12,345,678,901"),
            (1_234_567, "#,##,000", "12,34,567"),
            (-5, "00", "-05"),
            (0, "i", "0"),
            (3, "①", "③"),
            (25, "①", "25"),
            (14, "Ww", "Fourteen"),
            (102, "W;o", "ONE HUNDRED AND SECOND"),
            (1_000_005, "w", "one million and five"),
            (80, "w;o", "eightieth"),
            (5, "٠٠", "٠٥"),
            (3, "α", "γ"),
            (12, "1;o", "12th"),
            (1_500_000, "0'000", "1'500'000"),
        ] {
            assert_eq!(format(&Decimal::from(number), picture).unwrap(), wanted, "{picture}");
        }
        for picture in ["", "#", "0#", ",0", "0,", "0,,0", "0٠", "#a0", "0;x"] {
            assert!(format(&Decimal::from(1), picture).is_err(), "{picture}");
        }
    }
}
