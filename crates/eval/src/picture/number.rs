//! Numbers by a picture (F&O 3.1 section 4.7, `format-number`), in the unnamed decimal format: a point, commas between
//! groups.

use kyanite_tree::Decimal;
use num_traits::ToPrimitive;

use super::PictureError;
use super::integer::{group, regular};
use crate::atomic::Numeric;

/// The parts of a sub-picture (F&O 3.1 section 4.7.4).
#[derive(Clone, Debug, Default)]
struct Part {
    prefix: String,
    suffix: String,
    whole_separators: Vec<(usize, char)>,
    repeats: Option<(usize, char)>,
    fraction_separators: Vec<(usize, char)>,
    least_whole: usize,
    scale: usize,
    least_fraction: usize,
    most_fraction: usize,
    /// The least digits of the exponent, if it has one.
    exponent: Option<usize>,
    /// 2 for a percent sign, 3 for a per mille sign.
    shift: i64,
}

fn wrong(message: impl Into<String>) -> PictureError {
    PictureError { code: "FODF1310", message: message.into() }
}

/// A number as `picture` shows it.
///
/// # Errors
/// `FODF1310` where the picture is none.
pub fn format(number: &Numeric, picture: &str) -> Result<String, PictureError> {
    let parts: Vec<&str> = picture.split(';').collect();
    let (positive, negative) = match parts.as_slice() {
        [one] => (Part::read(one)?, None),
        [one, two] => (Part::read(one)?, Some(Part::read(two)?)),
        _ => return Err(wrong("a picture has two parts at most, with `;` between them")),
    };
    let is_negative = match number {
        Numeric::Double(number) => number.is_sign_negative() && !number.is_nan(),
        Numeric::Float(number) => number.is_sign_negative() && !number.is_nan(),
        Numeric::Integer(number) | Numeric::Decimal(number) => number.signum() < 0,
    };
    let part = match (is_negative, negative) {
        (true, Some(part)) => part,
        (true, None) => Part { prefix: format!("-{}", positive.prefix), ..positive },
        (false, _) => positive,
    };
    if number.double().is_nan() && number.exact().is_none() {
        return Ok("NaN".into());
    }
    // The shortest spelling is what a person means by a double.
    let exact = match number {
        Numeric::Double(double) if double.is_finite() => {
            Decimal::parse(&format!("{double:e}")).ok()
        }
        Numeric::Float(float) if float.is_finite() => Decimal::parse(&format!("{float:e}")).ok(),
        Numeric::Integer(number) | Numeric::Decimal(number) => Some(number.clone()),
        _ => None,
    };
    let body = match exact {
        None => "Infinity".to_owned(),
        Some(exact) => part.show(&exact.abs()).ok_or_else(|| wrong("the number is too large"))?,
    };
    Ok(format!("{}{body}{}", part.prefix, part.suffix))
}

impl Part {
    fn read(picture: &str) -> Result<Self, PictureError> {
        let is_active = |c: char| matches!(c, '0'..='9' | '#' | ',' | '.');
        let Some(start) = picture.find(is_active) else {
            return Err(wrong("a picture has no digit"));
        };
        let end = picture.rfind(is_active).map_or(start, |at| at + 1);
        // An `e` is an exponent only between digits.
        let mantissa = &picture[start..end];
        let mut exponent = None;
        let mut shown = mantissa;
        if let Some(at) = mantissa.find('e') {
            let digits = &mantissa[at + 1..];
            let is_exponent =
                at > 0 && !digits.is_empty() && digits.bytes().all(|b| b.is_ascii_digit());
            if !is_exponent {
                return Err(wrong("`e` in a picture stands between digits"));
            }
            exponent = Some(digits.len());
            shown = &mantissa[..at];
        }
        if shown.contains(|c| !is_active(c)) {
            return Err(wrong("the digits of a picture stand together"));
        }
        let mut part = Self { exponent, ..Self::default() };
        part.prefix = picture[..start].to_owned();
        part.suffix = picture[end..].to_owned();
        let signs =
            |sign: char| part.prefix.matches(sign).count() + part.suffix.matches(sign).count();
        part.shift = match (signs('%'), signs('‰')) {
            (0, 0) => 0,
            (1, 0) => 2,
            (0, 1) => 3,
            _ => return Err(wrong("a picture has one percent or per mille sign at most")),
        };
        if part.shift > 0 && exponent.is_some() {
            return Err(wrong("a picture has an exponent or a percent sign, not both"));
        }
        let (whole, fraction) = match shown.split_once('.') {
            Some((_, fraction)) if fraction.contains('.') => {
                return Err(wrong("a picture has one decimal point at most"));
            }
            Some((whole, fraction)) => (whole, Some(fraction)),
            None => (shown, None),
        };
        part.whole(whole, fraction.is_some())?;
        part.fraction(fraction.unwrap_or_default())?;
        if !shown.contains(['0', '#']) && !shown.bytes().any(|b| b.is_ascii_digit()) {
            return Err(wrong("a picture has no digit"));
        }
        part.complete(whole, fraction);
        Ok(part)
    }

    fn whole(&mut self, whole: &str, has_point: bool) -> Result<(), PictureError> {
        if whole.contains(",,") || whole.ends_with(',') {
            let where_ = if has_point { "before the point" } else { "at the end" };
            return Err(wrong(format!("a comma in a picture stands between digits, not {where_}")));
        }
        let mut has_digit = false;
        let places = whole.chars().filter(|c| *c != ',').count();
        let mut seen = 0;
        for character in whole.chars() {
            match character {
                ',' => self.whole_separators.push((places - seen, ',')),
                '#' if has_digit => return Err(wrong("`#` stands before the digits of a picture")),
                '#' => seen += 1,
                _ => {
                    has_digit = true;
                    self.least_whole += 1;
                    seen += 1;
                }
            }
        }
        self.whole_separators.retain(|(behind, _)| *behind > 0);
        self.whole_separators.reverse();
        self.repeats = regular(&self.whole_separators, places);
        Ok(())
    }

    fn fraction(&mut self, fraction: &str) -> Result<(), PictureError> {
        if fraction.contains(",,") || fraction.starts_with(',') || fraction.ends_with(',') {
            return Err(wrong("a comma in a picture stands between digits"));
        }
        let mut has_optional = false;
        for character in fraction.chars() {
            match character {
                ',' => self.fraction_separators.push((self.most_fraction, ',')),
                '#' => {
                    has_optional = true;
                    self.most_fraction += 1;
                }
                _ if has_optional => {
                    return Err(wrong("`#` stands behind the digits of a fraction"));
                }
                _ => {
                    self.least_fraction += 1;
                    self.most_fraction += 1;
                }
            }
        }
        Ok(())
    }

    /// What follows from the digits of a picture (F&O 3.1 section 4.7.4, the last rules).
    fn complete(&mut self, whole: &str, fraction: Option<&str>) {
        self.scale = self.least_whole;
        if self.least_whole == 0 && self.most_fraction == 0 {
            if self.exponent.is_some() {
                (self.least_fraction, self.most_fraction) = (1, 1);
            } else {
                self.least_whole = 1;
            }
        }
        if self.exponent.is_some() && self.least_whole == 0 && whole.contains('#') {
            self.least_whole = 1;
        }
        if self.least_whole == 0 && self.least_fraction == 0 && fraction.is_some() {
            self.least_fraction = 1;
        }
    }

    /// The digits of a number that is not negative.
    fn show(&self, number: &Decimal) -> Option<String> {
        let mut value = number.mul(&power_of_ten(self.shift)?).ok()?;
        let mut exponent = 0;
        if self.exponent.is_some() && value.signum() != 0 {
            // The mantissa has as many digits before its point as the picture.
            let text = crate::number::decimal_text(&value);
            let scale = self.scale as i64;
            let whole =
                text.split('.').next().unwrap_or_default().trim_start_matches('0').len() as i64;
            let magnitude = if whole > 0 {
                whole
            } else {
                let fraction = text.split_once('.').map_or("", |(_, fraction)| fraction);
                -(fraction.bytes().take_while(|b| *b == b'0').count().to_i64()?)
            };
            exponent = magnitude - scale;
            value = value.mul(&power_of_ten(-exponent)?).ok()?;
        }
        let rounded = half_even(&value, self.most_fraction as i64)?;
        let text = crate::number::decimal_text(&rounded);
        let (whole, fraction) = text.split_once('.').unwrap_or((&text, ""));
        let whole = if whole == "0" { "" } else { whole };
        let whole = format!("{whole:0>width$}", width = self.least_whole);
        let fraction = format!("{fraction:0<width$}", width = self.least_fraction);
        let mut shown = group(&whole, &self.whole_separators, self.repeats);
        if !fraction.is_empty() {
            shown.push('.');
            for (position, digit) in fraction.chars().enumerate() {
                if position > 0 && self.fraction_separators.iter().any(|(at, _)| *at == position) {
                    shown.push(',');
                }
                shown.push(digit);
            }
        }
        if let Some(least) = self.exponent {
            let sign = if exponent < 0 { "-" } else { "" };
            shown.push_str(&format!("e{sign}{:0>least$}", exponent.unsigned_abs()));
        }
        Some(shown)
    }
}

fn power_of_ten(exponent: i64) -> Option<Decimal> {
    Decimal::parse(&format!("1e{exponent}")).ok()
}

/// A number rounded to that many digits behind its point; a half goes to the even neighbour (F&O 3.1 section 4.4.5).
#[must_use]
pub fn half_even(number: &Decimal, digits: i64) -> Option<Decimal> {
    let scale = power_of_ten(digits)?;
    let scaled = number.mul(&scale).ok()?;
    let floor = scaled.floor().ok()?;
    let left = scaled.sub(&floor).ok()?;
    let half = Decimal::parse("0.5").ok()?;
    let up = match left.cmp(&half) {
        std::cmp::Ordering::Less => false,
        std::cmp::Ordering::Greater => true,
        std::cmp::Ordering::Equal => floor.rem(&Decimal::from(2)).ok()?.signum() != 0,
    };
    let whole = if up { floor.add(&Decimal::from(1)).ok()? } else { floor };
    whole.mul(&power_of_ten(-digits)?).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pictures_of_numbers() {
        let exact = |text: &str| Numeric::Decimal(Decimal::parse(text).unwrap());
        for (number, picture, wanted) in [
            // F&O 3.1 section 4.7.2 and section 4.7.5.
            (exact("12345.6"), "#,###.00", "12,345.60"),
            (exact("12345678.9"), "9,999.99", "12,345,678.90"),
            (exact("123.9"), "9999", "0124"),
            (exact("0.14"), "01%", "14%"),
            (exact("0.14"), "001‰", "140‰"),
            (exact("-6"), "000", "-006"),
            (exact("1234.5678"), "00.000e0", "12.346e2"),
            (exact("0.234"), "0.0e0", "2.3e-1"),
            (exact("0.234"), "#.00e0", "0.23e0"),
            (exact("0.234"), ".00e0", ".23e0"),
            (exact("1.5"), "#.#", "1.5"),
            (exact("0"), "#", "0"),
            (exact("0"), "#.#", ".0"),
            (exact("0.5"), "#0.#", "0.5"),
            (exact("2.5"), "0", "2"),
            (exact("3.5"), "0", "4"),
            (exact("-1.5"), "0.0;(0.0)", "(1.5)"),
            (exact("1234567.891"), "#,##0.##,#", "1,234,567.89,1"),
            (exact("1234567"), "#,##,000", "12,34,567"),
            (exact("5"), "$0.00 each", "$5.00 each"),
            (Numeric::Double(0.1), "0.000", "0.100"),
            (Numeric::Double(f64::INFINITY), "#", "Infinity"),
            (Numeric::Double(f64::NEG_INFINITY), "#", "-Infinity"),
            (Numeric::Double(f64::NAN), "#", "NaN"),
            (exact("12"), "00000.00", "00012.00"),
        ] {
            assert_eq!(format(&number, picture).unwrap(), wanted, "{picture} {number:?}");
        }
        for picture in ["", "a", "0#", "0.#0", "0.0.0", "0;0;0", "0%%", ",,0", "0a0", "0,.0"] {
            assert!(format(&exact("1"), picture).is_err(), "{picture}");
        }
    }
}
