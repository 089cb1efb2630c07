//! Pictures: how numbers, dates and times are shown (F&O 3.1 sections 4.6, 4.7 and 9.8).

pub mod date;
pub mod integer;
pub mod number;

/// Why a picture cannot be used: the code of the standard, and a sentence.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct PictureError {
    /// The code (F&O 3.1 appendix C).
    pub code: &'static str,
    /// What is wrong.
    pub message: String,
}

impl std::fmt::Display for PictureError {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} ({})", self.message, self.code)
    }
}

impl std::error::Error for PictureError {}

/// The first of the ten digits that `character` is one of, if it is a decimal digit.
fn zero_of(character: char) -> Option<char> {
    // Decimal digits stand in runs of ten (Unicode section 4.6); these begin the runs below U+10000, and the mathematical ones.
    const ZEROS: &[u32] = &[
        0x30, 0x660, 0x6F0, 0x7C0, 0x966, 0x9E6, 0xA66, 0xAE6, 0xB66, 0xBE6, 0xC66, 0xCE6, 0xD66,
        0xDE6, 0xE50, 0xED0, 0xF20, 0x1040, 0x1090, 0x17E0, 0x1810, 0x1946, 0x19D0, 0x1A80, 0x1A90,
        0x1B50, 0x1BB0, 0x1C40, 0x1C50, 0xA620, 0xA8D0, 0xA900, 0xA9D0, 0xA9F0, 0xAA50, 0xABF0,
        0xFF10, 0x104A0, 0x1D7CE, 0x1D7D8, 0x1D7E2, 0x1D7EC, 0x1D7F6,
    ];
    let code = character as u32;
    let zero = ZEROS.iter().find(|zero| (**zero..**zero + 10).contains(&code))?;
    char::from_u32(*zero)
}

/// ASCII digits as the digits of another family.
fn in_family(digits: &str, zero: char) -> String {
    if zero == '0' {
        return digits.to_owned();
    }
    let digit = |c: char| match c.to_digit(10) {
        Some(value) => char::from_u32(zero as u32 + value).unwrap_or(c),
        None => c,
    };
    digits.chars().map(digit).collect()
}
