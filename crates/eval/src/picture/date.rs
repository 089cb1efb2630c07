//! Dates and times by a picture (F&O 3.1 section 9.8, `format-dateTime`); words are English, the calendar is ISO 8601's.

use kyanite_tree::Decimal;

use super::integer::{Case, NumberForm};
use super::{PictureError, in_family, zero_of};
use crate::time::{DateTime, zone_text};

fn wrong(message: impl Into<String>) -> PictureError {
    PictureError { code: "FOFD1340", message: message.into() }
}

/// A date, a time, or both as `picture` shows it.
///
/// # Errors
/// `FOFD1340` where the picture is none, `FOFD1350` where it asks for a part that the value has not.
///
/// ```
/// use kyanite_eval::picture::date::format;
///
/// let sails = "2026-06-01T07:00:00Z".parse().unwrap();
/// assert_eq!(format(&sails, "[D1o] [MNn], [H01]:[m01]").unwrap(), "1st June, 07:00");
/// ```
pub fn format(time: &DateTime, picture: &str) -> Result<String, PictureError> {
    let mut shown = String::new();
    let mut rest = picture;
    while let Some(at) = rest.find(['[', ']']) {
        shown.push_str(&rest[..at]);
        let (sign, behind) = (&rest[at..=at], &rest[at + 1..]);
        if behind.starts_with(sign) {
            shown.push_str(sign);
            rest = &behind[1..];
            continue;
        }
        if sign == "]" {
            return Err(wrong("`]` in a picture is written twice where it is meant as it is"));
        }
        let Some(end) = behind.find(']') else {
            return Err(wrong("a `[` in a picture is not closed"));
        };
        let marker: String = behind[..end].chars().filter(|c| !c.is_whitespace()).collect();
        shown.push_str(&Marker::read(&marker)?.show(time)?);
        rest = &behind[end + 1..];
    }
    shown.push_str(rest);
    Ok(shown)
}

/// A part of a picture in brackets: `[D1o]`, `[MNn,3-3]`.
#[derive(Debug)]
struct Marker<'p> {
    component: char,
    /// What follows it, without the second modifier.
    presentation: &'p str,
    is_ordinal: bool,
    width: Width,
}

#[derive(Clone, Copy, Debug, Default)]
struct Width {
    least: Option<usize>,
    most: Option<usize>,
}

impl<'p> Marker<'p> {
    fn read(marker: &'p str) -> Result<Self, PictureError> {
        let Some(component) = marker.chars().next() else {
            return Err(wrong("`[]` in a picture names no part"));
        };
        if !"YMDdFWwHhPmsfZzCE".contains(component) {
            return Err(wrong(format!("`{component}` names no part of a date or time")));
        }
        let rest = &marker[component.len_utf8()..];
        let (mut presentation, width) = match rest.rfind(',') {
            Some(at) => (&rest[..at], Width::read(&rest[at + 1..])?),
            None => (rest, Width::default()),
        };
        let mut is_ordinal = false;
        if presentation.chars().count() > 1 {
            for modifier in ['o', 'c', 't', 'a'] {
                if let Some(first) = presentation.strip_suffix(modifier) {
                    is_ordinal = modifier == 'o';
                    // The t of a zone asks for Z, and is the caller's.
                    if modifier != 't' || !matches!(component, 'Z' | 'z') {
                        presentation = first;
                    }
                    break;
                }
            }
        }
        Ok(Self { component, presentation, is_ordinal, width })
    }

    fn presentation_or(&self, default: &'static str) -> &str {
        if self.presentation.is_empty() { default } else { self.presentation }
    }

    fn show(&self, time: &DateTime) -> Result<String, PictureError> {
        let has = |is_there: bool| {
            if is_there {
                return Ok(());
            }
            let message = format!("a value without it is asked for its part `{}`", self.component);
            Err(PictureError { code: "FOFD1350", message })
        };
        has(!"YMDdFWwE".contains(self.component) || time.kind.has_date())?;
        has(!"HhPmsf".contains(self.component) || time.kind.has_clock())?;
        let whole_second = time.second.floor().ok().and_then(|s| s.to_i64()).unwrap_or_default();
        match self.component {
            'Y' => self.year(time.year),
            'M' => self.number(i64::from(time.month), "1", |n| MONTHS[n as usize - 1]),
            'D' => self.plain_number(i64::from(time.day), "1"),
            'd' => self.plain_number(time.day_of_year(), "1"),
            'F' => self.number(i64::from(time.weekday()), "n", |n| WEEKDAYS[n as usize - 1]),
            'W' => self.plain_number(time.week_of_year(), "1"),
            'w' => self.plain_number(week_of_month(time), "1"),
            'H' => self.plain_number(i64::from(time.hour), "1"),
            'h' => self.plain_number((i64::from(time.hour) + 11) % 12 + 1, "1"),
            'P' => {
                self.number(i64::from(time.hour), "n", |hour| if hour < 12 { "am" } else { "pm" })
            }
            'm' => self.plain_number(i64::from(time.minute), "01"),
            's' => self.plain_number(whole_second, "01"),
            'f' => self.fraction(time),
            'Z' | 'z' => Ok(self.zone(time.zone)),
            'C' => Ok("ISO".into()),
            // The era.
            _ => Ok(self.case().of(if time.year < 0 { "BC" } else { "AD" })),
        }
    }

    fn case(&self) -> Case {
        match self.presentation {
            "n" => Case::Lower,
            "Nn" => Case::Title,
            _ => Case::Upper,
        }
    }

    fn plain_number(&self, number: i64, default: &'static str) -> Result<String, PictureError> {
        self.number(number, default, |_| "")
    }

    /// A number as digits, letters or words, or by its name where names are asked for.
    fn number(
        &self,
        number: i64,
        default: &'static str,
        name: impl Fn(i64) -> &'static str,
    ) -> Result<String, PictureError> {
        let presentation = self.presentation_or(default);
        let named = name(number);
        if matches!(presentation, "n" | "N" | "Nn") && !named.is_empty() {
            let case = match presentation {
                "n" => Case::Lower,
                "N" => Case::Upper,
                _ => Case::Title,
            };
            return Ok(case.of(&self.width.cut(named)));
        }
        let shape = if matches!(presentation, "n" | "N" | "Nn") {
            NumberForm::plain()
        } else {
            NumberForm::of(presentation).map_err(|error| wrong(error.message))?
        };
        let text = shape.show(&Decimal::from(number), self.is_ordinal);
        Ok(self.width.pad(&text, presentation))
    }

    /// A year, which is cut to its last digits where the width says so.
    fn year(&self, year: i64) -> Result<String, PictureError> {
        let presentation = self.presentation_or("1");
        let digits = presentation.chars().filter(|c| zero_of(*c).is_some() || *c == '#').count();
        let most = self.width.most.or((digits > 1 && self.width.least.is_none()).then_some(digits));
        let shown = match most {
            Some(most) if (2..18).contains(&most) && zero_of_first(presentation).is_some() => {
                year.rem_euclid(10i64.pow(most as u32))
            }
            _ => year.abs(),
        };
        let shown = if year < 0 { year.abs() } else { shown };
        let shape = NumberForm::of(presentation).map_err(|error| wrong(error.message))?;
        let text = shape.show(&Decimal::from(shown), self.is_ordinal);
        Ok(match most {
            Some(most) if zero_of_first(presentation).is_some() && digits <= 1 => {
                format!("{text:0>most$}")
            }
            _ => self.width.pad(&text, presentation),
        })
    }

    /// The fraction of a second: as many digits as the picture or the width says, else all of them.
    fn fraction(&self, time: &DateTime) -> Result<String, PictureError> {
        let presentation = self.presentation_or("1");
        let text = crate::number::decimal_text(&time.second);
        let all = text.split_once('.').map_or("", |(_, fraction)| fraction);
        let least = presentation.chars().filter(|c| zero_of(*c).is_some()).count();
        let places = presentation.chars().filter(|c| zero_of(*c).is_some() || *c == '#').count();
        let is_one_digit = places <= 1;
        let least = self.width.least.unwrap_or(if is_one_digit { 1 } else { least });
        let most = match self.width.most {
            Some(most) => most,
            None if is_one_digit && self.width.least.is_none() => all.len(),
            None if is_one_digit => usize::MAX,
            None => places,
        };
        let mut digits: String = all.chars().take(most).collect();
        while digits.len() < least {
            digits.push('0');
        }
        let zero = zero_of_first(presentation).unwrap_or('0');
        Ok(in_family(&digits, zero))
    }

    /// The zone (F&O 3.1 section 9.8.4.6).
    fn zone(&self, zone: Option<i16>) -> String {
        let Some(zone) = zone else {
            return if self.presentation == "Z" { "J".into() } else { String::new() };
        };
        let prefix = if self.component == 'z' { "GMT" } else { "" };
        if self.presentation == "Z" {
            return match military(zone) {
                Some(letter) => letter.to_string(),
                None => zone_text(zone),
            };
        }
        let (digits, asks_z) = match self.presentation.strip_suffix('t') {
            Some(digits) => (digits, true),
            None => (self.presentation, false),
        };
        if asks_z && zone == 0 {
            return "Z".into();
        }
        let sign = if zone < 0 { '-' } else { '+' };
        let (hours, minutes) = (zone.unsigned_abs() / 60, zone.unsigned_abs() % 60);
        let count = digits.chars().filter(|c| zero_of(*c).is_some()).count();
        let has_colon = digits.contains(':');
        let shown = match (count, has_colon) {
            (0, _) => format!("{hours:02}:{minutes:02}"),
            (1, _) if minutes == 0 && !has_colon => format!("{hours}"),
            (1, _) => format!("{hours}:{minutes:02}"),
            (2, false) if minutes == 0 => format!("{hours:02}"),
            (2, false) => format!("{hours:02}:{minutes:02}"),
            (3, true) => format!("{hours}:{minutes:02}"),
            (3, false) => format!("{hours}{minutes:02}"),
            (_, true) => format!("{hours:02}:{minutes:02}"),
            (_, false) => format!("{hours:02}{minutes:02}"),
        };
        let zero = zero_of_first(digits).unwrap_or('0');
        format!("{prefix}{sign}{}", in_family(&shown, zero))
    }
}

fn zero_of_first(presentation: &str) -> Option<char> {
    presentation.chars().find_map(zero_of)
}

impl Width {
    fn read(text: &str) -> Result<Self, PictureError> {
        let number = |text: &str| match text {
            "*" | "" => Ok(None),
            digits => match digits.parse() {
                Ok(0) | Err(_) => Err(wrong(format!("`{digits}` is no width"))),
                Ok(number) => Ok(Some(number)),
            },
        };
        let (least, most) = match text.split_once('-') {
            Some((least, most)) => (number(least)?, number(most)?),
            None => (number(text)?, None),
        };
        if least.zip(most).is_some_and(|(least, most)| least > most) {
            return Err(wrong("the least width is larger than the most"));
        }
        Ok(Self { least, most })
    }

    /// A name, cut where it is too long.
    fn cut(self, name: &str) -> String {
        match self.most {
            Some(most) => name.chars().take(most.max(3)).collect(),
            None => name.to_owned(),
        }
    }

    /// Digits with zeros in front where they are too short.
    fn pad(self, text: &str, presentation: &str) -> String {
        match (self.least, zero_of_first(presentation)) {
            (Some(least), Some(zero)) => {
                let missing = least.saturating_sub(text.chars().count());
                format!("{}{text}", zero.to_string().repeat(missing))
            }
            _ => text.to_owned(),
        }
    }
}

/// The letter of a zone of whole hours.
fn military(zone: i16) -> Option<char> {
    let hours = zone / 60;
    if zone % 60 != 0 || hours.abs() > 12 {
        return None;
    }
    let letters: &[u8] = match hours {
        0 => return Some('Z'),
        1.. => b"ABCDEFGHIKLM",
        _ => b"NOPQRSTUVWXY",
    };
    letters.get(usize::from(hours.unsigned_abs()) - 1).map(|letter| char::from(*letter))
}

/// The week of the month, which begins on Mondays.
fn week_of_month(time: &DateTime) -> i64 {
    let first = DateTime { day: 1, ..time.clone() };
    (i64::from(time.day) + i64::from(first.weekday()) - 2) / 7 + 1
}

const MONTHS: [&str; 12] = [
    "January",
    "February",
    "March",
    "April",
    "May",
    "June",
    "July",
    "August",
    "September",
    "October",
    "November",
    "December",
];

const WEEKDAYS: [&str; 7] =
    ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pictures_of_dates() {
        for (value, picture, wanted) in [
            // F&O 3.1 section 9.8.5.
            ("2002-12-31", "[Y0001]-[M01]-[D01]", "2002-12-31"),
            ("2002-12-31", "[M]-[D]-[Y]", "12-31-2002"),
            ("2002-12-31", "[D]-[M]-[Y]", "31-12-2002"),
            ("2002-12-31", "[D1] [MI] [Y]", "31 XII 2002"),
            ("2002-12-31", "[D1o] [MNn], [Y]", "31st December, 2002"),
            ("2002-12-31", "[D01] [MN,*-3] [Y0001]", "31 DEC 2002"),
            ("2002-12-31", "[YWw]", "Two Thousand and Two"),
            ("2002-12-31", "[FNn], [D1o] [MNn]", "Tuesday, 31st December"),
            ("2002-12-31", "[[[Y0001]-[M01]-[D01]]]", "[2002-12-31]"),
            ("2002-12-31", "[Y,2-2]", "02"),
            ("2002-12-31", "[Y01]", "02"),
            ("15:58:45.762Z", "[h]:[m01] [PN]", "3:58 PM"),
            ("15:58:45.762Z", "[h]:[m01]:[s01] [Pn]", "3:58:45 pm"),
            ("15:58:45.762+02:00", "[h]:[m01]:[s01] [PN] [ZN,*-3]", "3:58:45 PM +02:00"),
            ("15:58:45.762Z", "[H01]:[m01]", "15:58"),
            ("15:58:45.762Z", "[H01]:[m01]:[s01].[f001]", "15:58:45.762"),
            ("15:58:45.762+02:00", "[H01]:[m01]:[s01] [z]", "15:58:45 GMT+02:00"),
            ("15:58:45.762+02:00", "[H01]:[m01] Z[Z]", "15:58 Z+02:00"),
            (
                "2002-12-31T15:58:45.762Z",
                "[Y0001]-[M01]-[D01]T[H01]:[m01]:[s01].[f001]",
                "2002-12-31T15:58:45.762",
            ),
            (
                "2002-12-31T00:15:00Z",
                "[h].[m01][Pn] on [FNn], [D1o] [MNn]",
                "12.15am on Tuesday, 31st December",
            ),
            ("2026-01-01", "[d] [W] [w] [F1]", "1 1 1 4"),
            ("10:00:00-05:30", "[Z0000] [Z0:00] [Z00:00t] [ZZ]", "-0530 -5:30 -05:30 -05:30"),
            ("10:00:00Z", "[Z00:00t] [ZZ] [Z0]", "Z Z +0"),
            ("10:00:00", "[ZZ][Z]", "J"),
            ("10:00:05.5", "[f] [f,3-3] [s,2]", "5 500 05"),
            ("-0044-03-15", "[Y] [EN]", "44 BC"),
        ] {
            let value: DateTime = value.parse().unwrap();
            assert_eq!(format(&value, picture).unwrap(), wanted, "{value} {picture}");
        }
        for (value, picture, code) in [
            ("2002-12-31", "[H]", "FOFD1350"),
            ("10:00:00", "[Y]", "FOFD1350"),
            ("2002-12-31", "[Y", "FOFD1340"),
            ("2002-12-31", "]", "FOFD1340"),
            ("2002-12-31", "[]", "FOFD1340"),
            ("2002-12-31", "[q]", "FOFD1340"),
            ("2002-12-31", "[Y,4-2]", "FOFD1340"),
        ] {
            let value: DateTime = value.parse().unwrap();
            assert_eq!(format(&value, picture).unwrap_err().code, code, "{picture}");
        }
    }
}
