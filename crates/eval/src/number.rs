//! Floating point numbers as text and as decimals.

use kyanite_tree::Decimal;
use num_bigint::BigInt;
use num_traits::ToPrimitive;

/// A decimal without an exponent, as the canonical form of `xs:decimal` is (XSD 1.1 part 2 section 3.3.3.2).
#[must_use]
pub fn decimal_text(decimal: &Decimal) -> String {
    let text = decimal.to_string();
    match text.split_once('e') {
        None => text,
        Some((mantissa, exponent)) => {
            let (sign, mantissa) =
                mantissa.strip_prefix('-').map_or(("", mantissa), |mantissa| ("-", mantissa));
            let digits = mantissa.replace('.', "");
            format!("{sign}{}", placed(&digits, exponent.parse().unwrap_or_default()))
        }
    }
}

/// Digits of which the first counts 10^exponent, with as many zeros as that takes.
fn placed(digits: &str, exponent: i32) -> String {
    let point = exponent + 1;
    let zeros = |count: i32| "0".repeat(count.unsigned_abs() as usize);
    if point <= 0 {
        return format!("0.{}{digits}", zeros(point));
    }
    match digits.get(point as usize..) {
        None => format!("{digits}{}", zeros(point - digits.len() as i32)),
        Some("") => digits.to_owned(),
        Some(fraction) => format!("{}.{fraction}", &digits[..point as usize]),
    }
}

/// The shortest digits that mean this number, and the power of ten that the first counts. The number is finite and not zero.
fn shortest(scientific: &str) -> (String, i32) {
    let (mantissa, exponent) = scientific.split_once('e').unwrap_or((scientific, "0"));
    (mantissa.replace(['.', '-'], ""), exponent.parse().unwrap_or_default())
}

/// How a number is written that is not finite; none for those that are.
fn not_finite(number: f64, infinity: &str) -> Option<String> {
    match number {
        number if number.is_nan() => Some("NaN".into()),
        f64::INFINITY => Some(infinity.to_owned()),
        f64::NEG_INFINITY => Some(format!("-{infinity}")),
        _ => None,
    }
}

/// A double as text, as casting writes it (F&O 3.1 section 19.1.2.2): plain from 10^-6 to 10^6, else with an exponent.
#[must_use]
pub fn double_text(number: f64) -> String {
    spelled(number, &format!("{number:e}"))
}

/// A float as text, by the same rules.
#[must_use]
pub fn float_text(number: f32) -> String {
    spelled(f64::from(number), &format!("{number:e}"))
}

fn spelled(number: f64, scientific: &str) -> String {
    if let Some(text) = not_finite(number, "INF") {
        return text;
    }
    let sign = if number.is_sign_negative() { "-" } else { "" };
    if number == 0.0 {
        return format!("{sign}0");
    }
    let (digits, exponent) = shortest(scientific);
    if (1e-6..1e6).contains(&number.abs()) {
        return format!("{sign}{}", placed(&digits, exponent));
    }
    let (first, rest) = digits.split_at(1);
    format!("{sign}{first}.{}E{exponent}", if rest.is_empty() { "0" } else { rest })
}

/// A number as text in XPath 1.0 (section 4.2, `string`): never with an exponent, and infinity as a word.
#[must_use]
pub fn xpath1_text(number: f64) -> String {
    if let Some(text) = not_finite(number, "Infinity") {
        return text;
    }
    if number == 0.0 {
        return "0".into();
    }
    let (digits, exponent) = shortest(&format!("{number:e}"));
    let sign = if number < 0.0 { "-" } else { "" };
    format!("{sign}{}", placed(&digits, exponent))
}

/// The double that a text spells in XML Schema (XSD 1.1 part 2 section 3.3.5.2), white space around it taken away.
#[must_use]
pub fn read_double(text: &str) -> Option<f64> {
    let text = trim(text);
    if let Some(whole) = read_short(text) {
        return Some(whole);
    }
    match text {
        "INF" | "+INF" => return Some(f64::INFINITY),
        "-INF" => return Some(f64::NEG_INFINITY),
        "NaN" => return Some(f64::NAN),
        _ => {}
    }
    is_number(text, true).then(|| text.parse().ok()).flatten()
}

/// The number that a few digits are, as most numbers are written; a double holds all of them.
fn read_short(text: &str) -> Option<f64> {
    let bytes = text.as_bytes();
    let is_short = (1..=15).contains(&bytes.len()) && bytes.iter().all(u8::is_ascii_digit);
    let whole = || bytes.iter().fold(0u64, |sum, digit| sum * 10 + u64::from(digit - b'0'));
    is_short.then(|| whole() as f64)
}

/// The number that a text is in XPath 1.0 (section 4.4, `number`): digits and a point, a minus before them; NaN otherwise.
#[must_use]
pub fn read_xpath1(text: &str) -> f64 {
    let text = trim(text);
    if let Some(whole) = read_short(text) {
        return whole;
    }
    let is_plain = !text.starts_with('+') && is_number(text, false);
    if is_plain { text.parse().unwrap_or(f64::NAN) } else { f64::NAN }
}

/// Text without the white space of XML around it.
#[must_use]
pub fn trim(text: &str) -> &str {
    let is_blank = |byte: Option<&u8>| matches!(byte, Some(b' ' | b'\t' | b'\n' | b'\r'));
    let bytes = text.as_bytes();
    // Hardly any text has blanks at its ends.
    if !is_blank(bytes.first()) && !is_blank(bytes.last()) {
        return text;
    }
    text.trim_matches([' ', '\t', '\n', '\r'])
}

/// Whether a text is a sign, digits with a point among them, and perhaps an exponent.
#[must_use]
pub fn is_number(text: &str, may_have_exponent: bool) -> bool {
    let unsigned = text.strip_prefix(['+', '-']).unwrap_or(text);
    let (mantissa, exponent) = match unsigned.find(['e', 'E']) {
        Some(at) if may_have_exponent => (&unsigned[..at], Some(&unsigned[at + 1..])),
        _ => (unsigned, None),
    };
    let is_digits = |part: &str| part.bytes().all(|byte| byte.is_ascii_digit());
    let (whole, fraction) = mantissa.split_once('.').unwrap_or((mantissa, ""));
    let has_digits = !(whole.is_empty() && fraction.is_empty());
    let exponent = exponent.map(|e| e.strip_prefix(['+', '-']).unwrap_or(e));
    has_digits
        && is_digits(whole)
        && is_digits(fraction)
        && exponent.is_none_or(|e| !e.is_empty() && is_digits(e))
}

/// The exact value of a finite double.
#[must_use]
pub fn decimal_of(number: f64) -> Option<Decimal> {
    if !number.is_finite() {
        return None;
    }
    let bits = number.to_bits();
    let (exponent, fraction) = ((bits >> 52 & 0x7FF) as i32, bits & ((1 << 52) - 1));
    let (coefficient, power) = match exponent {
        0 => (fraction, -1074),
        _ => (fraction | 1 << 52, exponent - 1075),
    };
    let magnitude = BigInt::from(coefficient);
    let power_of = |base: u32| BigInt::from(base).pow(power.unsigned_abs());
    // 2^-n is 5^n × 10^-n.
    let text = if power >= 0 {
        (magnitude * power_of(2)).to_string()
    } else {
        format!("{}e{power}", magnitude * power_of(5))
    };
    let decimal = Decimal::parse(&text).ok()?;
    Some(if number < 0.0 { decimal.neg() } else { decimal })
}

/// The double nearest to a decimal.
#[must_use]
pub fn double_of(decimal: &Decimal) -> f64 {
    match decimal.to_i64() {
        // 53 bits hold these without rounding.
        Some(integer) if integer.unsigned_abs() < 1 << 53 => integer.to_f64().unwrap_or(f64::NAN),
        _ => decimal.to_string().parse().unwrap_or(f64::NAN),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spellings_of_doubles() {
        for (number, text, old) in [
            (0.0, "0", "0"),
            (-0.0, "-0", "0"),
            (1.0, "1", "1"),
            (-1.5, "-1.5", "-1.5"),
            (1e6, "1.0E6", "1000000"),
            (999_999.5, "999999.5", "999999.5"),
            (1e-6, "0.000001", "0.000001"),
            (1.25e-7, "1.25E-7", "0.000000125"),
            (1.5e22, "1.5E22", "15000000000000000000000"),
            (0.1, "0.1", "0.1"),
            (f64::NAN, "NaN", "NaN"),
            (f64::INFINITY, "INF", "Infinity"),
            (f64::NEG_INFINITY, "-INF", "-Infinity"),
        ] {
            assert_eq!((double_text(number).as_str(), xpath1_text(number).as_str()), (text, old));
            if let Some(read) = read_double(text) {
                assert!(read == number || read.is_nan());
            }
        }
        assert_eq!(float_text(0.1), "0.1");
    }

    #[test]
    fn readings_of_doubles() {
        for (text, number, old) in [
            (" 12 ", Some(12.0), Some(12.0)),
            ("1e3", Some(1000.0), None),
            (".5", Some(0.5), Some(0.5)),
            ("5.", Some(5.0), Some(5.0)),
            ("+5", Some(5.0), None),
            ("-5", Some(-5.0), Some(-5.0)),
            ("inf", None, None),
            ("infinity", None, None),
            ("", None, None),
            (".", None, None),
            ("1 2", None, None),
            ("0x10", None, None),
            ("INF", Some(f64::INFINITY), None),
        ] {
            assert_eq!(read_double(text), number, "{text}");
            assert_eq!(Some(read_xpath1(text)).filter(|n| !n.is_nan()), old, "{text}");
        }
    }

    #[test]
    fn decimals_of_doubles_are_exact() {
        for number in [0.1, 1.5, -2.25, 1e300, 5e-324, 123_456_789.125] {
            assert_eq!(double_of(&decimal_of(number).unwrap()), number);
        }
        let tenth = decimal_text(&decimal_of(0.1).unwrap());
        assert_eq!(tenth, "0.1000000000000000055511151231257827021181583404541015625");
        assert_eq!(decimal_text(&Decimal::parse("1e40").unwrap()), format!("1{}", "0".repeat(40)));
        assert_eq!(decimal_text(&Decimal::parse("-12e-50").unwrap()).len(), 53);
    }
}
