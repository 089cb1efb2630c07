//! Values of the primitive types (XSD 1.0 part 2 section 3.2): how they are spelled, and how they compare.

use std::borrow::Cow;
use std::cmp::Ordering;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use kyanite_eval::number::{is_number, read_double};
use kyanite_eval::time::{
    DateTime, Duration, DurationKind, TimeKind, days_from_date, days_in_month,
};
use kyanite_tree::Decimal;

/// A primitive type.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Primitive {
    String,
    Boolean,
    Decimal,
    Float,
    Double,
    Duration,
    DateTime,
    Time,
    Date,
    YearMonth,
    Year,
    MonthDay,
    Day,
    Month,
    Hex,
    Base64,
    Uri,
    Name,
    Notation,
}

/// A value.
#[derive(Clone, PartialEq, Debug)]
pub(super) enum Value {
    Text(String),
    Boolean(bool),
    Decimal(Decimal),
    Double(f64),
    Duration(Duration),
    /// A point in time, of the primitive type that says which parts of it count.
    Time(Primitive, DateTime),
    Bytes(Vec<u8>),
    /// A namespace, empty for none, and a local name.
    Name(String, String),
    List(Vec<Value>),
}

/// What a prefix means where a value stands.
pub(super) type Prefixes<'p> = &'p dyn Fn(&str) -> Option<String>;

/// How far a zone may be from UTC, in minutes.
const FARTHEST: i16 = 14 * 60;

impl Primitive {
    /// Its name in the standard.
    pub(super) fn word(self) -> &'static str {
        match self {
            Self::String => "string",
            Self::Boolean => "boolean",
            Self::Decimal => "decimal",
            Self::Float => "float",
            Self::Double => "double",
            Self::Duration => "duration",
            Self::DateTime => "dateTime",
            Self::Time => "time",
            Self::Date => "date",
            Self::YearMonth => "gYearMonth",
            Self::Year => "gYear",
            Self::MonthDay => "gMonthDay",
            Self::Day => "gDay",
            Self::Month => "gMonth",
            Self::Hex => "hexBinary",
            Self::Base64 => "base64Binary",
            Self::Uri => "anyURI",
            Self::Name => "QName",
            Self::Notation => "NOTATION",
        }
    }

    /// A value as it may be written.
    pub(super) fn example(self) -> Option<&'static str> {
        Some(match self {
            Self::Boolean => "true, false, 1 or 0",
            Self::Decimal => "12.50",
            Self::Float | Self::Double => "1.5e3, INF or NaN",
            Self::Duration => "P1DT2H30M",
            Self::DateTime => "2026-06-01T07:00:00Z",
            Self::Time => "07:00:00",
            Self::Date => "2026-06-01",
            Self::YearMonth => "2026-06",
            Self::Year => "2026",
            Self::MonthDay => "--06-01",
            Self::Day => "---01",
            Self::Month => "--06",
            Self::Hex => "0FB7",
            Self::Base64 => "QXJkZW4=",
            Self::Name | Self::Notation => "a name, its prefix declared",
            Self::String | Self::Uri => return None,
        })
    }

    /// Whether a text, its white space normalized, spells a value; `String` and `Uri` take any.
    pub(super) fn is_spelled(self, text: &str, prefixes: Prefixes<'_>) -> bool {
        match self {
            Self::String | Self::Uri => true,
            Self::Boolean => matches!(text, "true" | "false" | "1" | "0"),
            Self::Decimal => is_number(text, false),
            Self::Float | Self::Double => {
                matches!(text, "INF" | "-INF" | "NaN") || is_number(text, true)
            }
            _ => self.read(text, prefixes).is_some(),
        }
    }

    /// The value that a text, its white space normalized, spells.
    pub(super) fn read(self, text: &str, prefixes: Prefixes<'_>) -> Option<Value> {
        let time = |text: &str, kind| {
            // 1.0 has no year 0.
            let time = DateTime::read(text, kind).ok()?;
            Some(Value::Time(self, time))
        };
        match self {
            Self::String | Self::Uri => Some(Value::Text(text.to_owned())),
            Self::Boolean => match text {
                "true" | "1" => Some(Value::Boolean(true)),
                "false" | "0" => Some(Value::Boolean(false)),
                _ => None,
            },
            Self::Decimal => {
                is_number(text, false).then(|| decimal(text)).flatten().map(Value::Decimal)
            }
            Self::Float | Self::Double => {
                let number = read_double(text).filter(|_| text != "+INF")?;
                let is_float = self == Self::Float;
                Some(Value::Double(if is_float { f64::from(number as f32) } else { number }))
            }
            Self::Duration => Duration::read(text, DurationKind::Any).ok().map(Value::Duration),
            Self::DateTime => time(text, TimeKind::DateTime),
            Self::Time => time(text, TimeKind::Time),
            Self::Date => time(text, TimeKind::Date),
            Self::YearMonth => {
                let (date, zone) = split_zone(text);
                time(&format!("{date}-01{zone}"), TimeKind::Date)
            }
            Self::Year => {
                let (year, zone) = split_zone(text);
                time(&format!("{year}-01-01{zone}"), TimeKind::Date)
            }
            Self::MonthDay => {
                let (day, zone) = split_zone(text.strip_prefix("--")?);
                // A leap year, which has all days.
                time(&format!("1972-{day}{zone}"), TimeKind::Date)
            }
            Self::Day => {
                let (day, zone) = split_zone(text.strip_prefix("---")?);
                time(&format!("1972-01-{day}{zone}"), TimeKind::Date)
            }
            Self::Month => {
                let (month, zone) = split_zone(text.strip_prefix("--")?);
                time(&format!("1972-{month}-01{zone}"), TimeKind::Date)
            }
            Self::Hex => {
                let digit = |byte: u8| char::from(byte).to_digit(16);
                let pairs = text.as_bytes().chunks(2);
                let byte = |pair: &[u8]| match pair {
                    [high, low] => u8::try_from(digit(*high)? * 16 + digit(*low)?).ok(),
                    _ => None,
                };
                pairs.map(byte).collect::<Option<Vec<u8>>>().map(Value::Bytes)
            }
            Self::Base64 => {
                let compact: Cow<'_, str> =
                    if text.contains(' ') { text.replace(' ', "").into() } else { text.into() };
                STANDARD.decode(&*compact).ok().map(Value::Bytes)
            }
            Self::Name | Self::Notation => {
                let (prefix, local) = text.split_once(':').unwrap_or(("", text));
                let is_name = is_nc_name(local) && (prefix.is_empty() || is_nc_name(prefix));
                if !is_name || text.starts_with(':') {
                    return None;
                }
                let namespace = match prefixes(prefix) {
                    Some(namespace) => namespace,
                    None if prefix.is_empty() => String::new(),
                    None => return None,
                };
                Some(Value::Name(namespace, local.to_owned()))
            }
        }
    }
}

/// The number that a text spells, which may begin or end with the point.
pub(super) fn decimal(text: &str) -> Option<Decimal> {
    let (sign, digits) = match text.strip_prefix(['+', '-']) {
        Some(digits) => (&text[..1], digits),
        None => ("", text),
    };
    if !digits.starts_with('.') && !digits.ends_with('.') {
        return Decimal::spelled(text);
    }
    let whole = digits.trim_end_matches('.');
    let zero = if whole.starts_with('.') { "0" } else { "" };
    Decimal::spelled(&format!("{sign}{zero}{whole}"))
}

/// A text without the zone at its end, and the zone.
fn split_zone(text: &str) -> (&str, &str) {
    if let Some(date) = text.strip_suffix('Z') {
        return (date, "Z");
    }
    match text.len().checked_sub(6).and_then(|at| text.split_at_checked(at)) {
        Some((date, zone)) if zone.starts_with(['+', '-']) && zone[3..].starts_with(':') => {
            (date, zone)
        }
        _ => (text, ""),
    }
}

/// Whether a character may begin a name (XML 1.0 section 2.3), the colon left out.
fn begins_name(c: char) -> bool {
    matches!(c, 'A'..='Z' | 'a'..='z' | '_' | '\u{C0}'..='\u{D6}' | '\u{D8}'..='\u{F6}'
        | '\u{F8}'..='\u{2FF}' | '\u{370}'..='\u{37D}' | '\u{37F}'..='\u{1FFF}'
        | '\u{200C}'..='\u{200D}' | '\u{2070}'..='\u{218F}' | '\u{2C00}'..='\u{2FEF}'
        | '\u{3001}'..='\u{D7FF}' | '\u{F900}'..='\u{FDCF}' | '\u{FDF0}'..='\u{FFFD}'
        | '\u{10000}'..='\u{EFFFF}')
}

fn is_in_name(c: char) -> bool {
    begins_name(c)
        || matches!(c, '-' | '.' | '0'..='9' | '\u{B7}' | '\u{300}'..='\u{36F}' | '\u{203F}'..='\u{2040}')
}

/// Whether a text is a name without a colon (Namespaces in XML 1.0 section 3).
pub(super) fn is_nc_name(text: &str) -> bool {
    text.starts_with(begins_name) && text.chars().all(is_in_name)
}

/// Whether a text is a name (XML 1.0 production 5).
pub(super) fn is_name(text: &str) -> bool {
    text.starts_with(|c| begins_name(c) || c == ':') && is_name_token(text)
}

/// Whether a text is made of the characters of names (XML 1.0 production 7).
pub(super) fn is_name_token(text: &str) -> bool {
    !text.is_empty() && text.chars().all(|c| is_in_name(c) || c == ':')
}

impl Value {
    /// How two values of one primitive type compare; None where they have no order.
    pub(super) fn order(&self, other: &Self) -> Option<Ordering> {
        match (self, other) {
            (Self::Decimal(a), Self::Decimal(b)) => Some(a.cmp(b)),
            (Self::Double(a), Self::Double(b)) => a.partial_cmp(b),
            (Self::Duration(a), Self::Duration(b)) => order_of_durations(a, b),
            (Self::Time(_, a), Self::Time(_, b)) => order_of_times(a, b),
            _ => None,
        }
    }

    /// Whether two values are the same (section 2.2.1): NaN is the same as itself.
    pub(super) fn is_same(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Double(a), Self::Double(b)) => a == b || a.is_nan() && b.is_nan(),
            (Self::Time(kind, a), Self::Time(other, b)) => {
                kind == other
                    && a.zone.is_some() == b.zone.is_some()
                    && a.instant(0) == b.instant(0)
            }
            (Self::Duration(a), Self::Duration(b)) => a.is_equal(b),
            (Self::List(a), Self::List(b)) => {
                a.len() == b.len() && a.iter().zip(b).all(|(a, b)| a.is_same(b))
            }
            (a, b) => a == b,
        }
    }

    /// Writes a text that is the same for values that are the same, and another for others.
    pub(super) fn write_key(&self, out: &mut String) {
        use std::fmt::Write;
        // Writing to a text cannot fail.
        let _ = match self {
            Self::Text(text) => {
                write_text_key(text, out);
                Ok(())
            }
            Self::Boolean(truth) => write!(out, "b{}", u8::from(*truth)),
            Self::Decimal(decimal) => write!(out, "d{decimal};"),
            Self::Double(number) if *number == 0.0 => write!(out, "f0;"),
            Self::Double(number) => write!(out, "f{number};"),
            Self::Duration(duration) => write!(out, "p{},{};", duration.months, duration.seconds),
            Self::Time(kind, time) => {
                let zone = if time.zone.is_some() { "z" } else { "" };
                write!(out, "t{}{zone}{};", kind.word(), time.instant(0))
            }
            Self::Bytes(bytes) => write!(out, "x{bytes:?}"),
            Self::Name(namespace, local) => write!(out, "q{{{namespace}}}{local};"),
            Self::List(items) => {
                out.push('[');
                items.iter().for_each(|item| item.write_key(out));
                write!(out, "]")
            }
        };
    }
}

/// Writes the [key](Value::write_key) of a text.
pub(super) fn write_text_key(text: &str, out: &mut String) {
    out.reserve(text.len() + 2);
    out.push('s');
    out.push_str(text);
    // No text of XML has this character (XML 1.0 section 2.2).
    out.push('\0');
}

/// The text whose key this is, if it is that of one text.
pub(super) fn text_of_key(key: &str) -> Option<&str> {
    key.strip_prefix('s')?.strip_suffix('\0')
}

/// Times with a zone and times without are in order only if they are whatever the zone (section 3.2.7.4).
fn order_of_times(a: &DateTime, b: &DateTime) -> Option<Ordering> {
    if a.zone.is_some() == b.zone.is_some() {
        return Some(a.order(b, 0));
    }
    let (east, west) = (a.order(b, FARTHEST), a.order(b, -FARTHEST));
    (east == west).then_some(east)
}

/// Durations are in order only if they are from each of four dates on (section 3.2.6.2).
fn order_of_durations(a: &Duration, b: &Duration) -> Option<Ordering> {
    let end = |duration: &Duration, (year, month): (i64, i64)| -> Option<Decimal> {
        let months = year.checked_mul(12)?.checked_add(month - 1)?.checked_add(duration.months)?;
        let (year, month) = (months.div_euclid(12), u8::try_from(months.rem_euclid(12) + 1).ok()?);
        if year.unsigned_abs() > 1 << 40 {
            return None;
        }
        let day = 1.min(days_in_month(year, month));
        let days = Decimal::from(days_from_date(year, month, day));
        days.mul(&Decimal::from(86_400)).ok()?.add(&duration.seconds).ok()
    };
    let mut found = None;
    for from in [(1696, 9), (1697, 2), (1903, 3), (1903, 7)] {
        let order = end(a, from)?.cmp(&end(b, from)?);
        if found.is_some_and(|found| found != order) {
            return None;
        }
        found = Some(order);
    }
    found
}
