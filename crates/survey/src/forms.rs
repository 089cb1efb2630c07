//! What texts look like: dates, addresses, numbers, other documents.

use kyanite_formats::json::is_one_value;
use kyanite_schema::json::has_format;
use kyanite_tree::Decimal;

/// What a text looks like.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub enum Form {
    /// A date: `2026-06-01`.
    Date,
    /// A date with a time, with its offset from UTC or without: `2026-06-01T07:00:00Z`.
    DateTime,
    /// A time of the day: `07:00` or `07:00:00`.
    Time,
    /// A number.
    Number,
    /// `true` or `false`.
    Boolean,
    /// An e-mail address.
    Email,
    /// A URI with its scheme.
    Uri,
    /// A UUID.
    Uuid,
    /// An address of the internet protocol, version 4 or 6.
    IpAddress,
    /// A list or a map of JSON.
    Json,
    /// An element of XML.
    Xml,
    /// Degrees of latitude and longitude: `57.1, -2.3`.
    Coordinates,
}

impl Form {
    /// All of them, as they are counted.
    pub(crate) const ALL: [Self; 12] = [
        Self::Date,
        Self::DateTime,
        Self::Time,
        Self::Number,
        Self::Boolean,
        Self::Email,
        Self::Uri,
        Self::Uuid,
        Self::IpAddress,
        Self::Json,
        Self::Xml,
        Self::Coordinates,
    ];

    /// Its name.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Date => "date",
            Self::DateTime => "date-time",
            Self::Time => "time",
            Self::Number => "number in text",
            Self::Boolean => "boolean in text",
            Self::Email => "e-mail",
            Self::Uri => "URI",
            Self::Uuid => "UUID",
            Self::IpAddress => "IP address",
            Self::Json => "JSON in text",
            Self::Xml => "XML in text",
            Self::Coordinates => "coordinates",
        }
    }

    /// The form of a text, if it has one. The first byte and the length leave few to be tried.
    pub(crate) fn of(text: &str) -> Option<Self> {
        let bytes = text.as_bytes();
        let is = |form: Self, holds: bool| holds.then_some(form);
        match *bytes.first()? {
            b'{' | b'[' => is(Self::Json, is_one_value(text)),
            b'<' => is(Self::Xml, is_element(text)),
            b't' | b'f' if matches!(text, "true" | "false") => Some(Self::Boolean),
            b'0'..=b'9' | b'+' | b'-' | b'.' => number_or_time(text),
            b'a'..=b'z' | b'A'..=b'Z' => None,
            _ => return None,
        }
        .or_else(|| word(text))
    }
}

/// What begins with a digit or a sign.
fn number_or_time(text: &str) -> Option<Form> {
    let bytes = text.as_bytes();
    if bytes.get(4) == Some(&b'-') && bytes.get(7) == Some(&b'-') {
        let is_date = bytes.len() == 10 && has_format("date", text);
        if is_date {
            return Some(Form::Date);
        }
        return super::times::instant(text).map(|_| Form::DateTime);
    }
    if bytes.get(2) == Some(&b':') {
        return text.parse::<jiff::civil::Time>().is_ok().then_some(Form::Time);
    }
    if Decimal::spelled(text).is_some() {
        return Some(Form::Number);
    }
    let (latitude, longitude) = text.split_once(',')?;
    let within = |text: &str, most: f64| {
        text.contains('.') && text.trim().parse::<f64>().is_ok_and(|degrees| degrees.abs() <= most)
    };
    (within(latitude, 90.0) && within(longitude, 180.0)).then_some(Form::Coordinates)
}

/// What is a word with signs in it.
fn word(text: &str) -> Option<Form> {
    let bytes = text.as_bytes();
    if bytes.len() > 2048 {
        return None;
    }
    if bytes.len() == 36 && bytes[8] == b'-' && has_format("uuid", text) {
        return Some(Form::Uuid);
    }
    // Whatever else there is has one of three signs early on.
    let sign = bytes.iter().take(320).position(|byte| matches!(byte, b'@' | b':' | b'.' | b' '))?;
    match bytes[sign] {
        b'.' if has_format("ipv4", text) => Some(Form::IpAddress),
        b'@' | b'.' if text.contains('@') && has_format("email", text) => Some(Form::Email),
        b':' if text.contains("://") || text.starts_with("urn:") || text.starts_with("mailto:") => {
            has_format("iri", text).then_some(Form::Uri)
        }
        b':' => has_format("ipv6", text).then_some(Form::IpAddress),
        _ => None,
    }
}

/// Whether a text begins and ends as an element of XML does.
fn is_element(text: &str) -> bool {
    let name = text.trim_start_matches("<?xml").trim_start_matches('<');
    let begins = name.starts_with(|first: char| first.is_alphabetic() || "_? ".contains(first));
    begins && text.trim_ascii_end().ends_with('>') && (text.contains("</") || text.contains("/>"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_texts_look_like() {
        for (text, form) in [
            ("2026-06-01", Some(Form::Date)),
            ("2026-02-30", None),
            ("2026-06-01T07:00:00Z", Some(Form::DateTime)),
            ("2026-06-01T07:00:00", Some(Form::DateTime)),
            ("2026-06-01 07:00:00+02:00", Some(Form::DateTime)),
            ("07:00", Some(Form::Time)),
            ("07:00:30", Some(Form::Time)),
            ("27:00", None),
            ("0700", Some(Form::Number)),
            ("-1.5e3", Some(Form::Number)),
            ("1-2", None),
            ("true", Some(Form::Boolean)),
            ("truth", None),
            ("mara@tern-isles.example", Some(Form::Email)),
            ("mara.finn@tern-isles.example", Some(Form::Email)),
            ("mara at home", None),
            ("https://tern-isles.example/ports?no=4", Some(Form::Uri)),
            ("urn:tern:manifest", Some(Form::Uri)),
            ("note: the pier is closed", None),
            ("f81d4fae-7dec-11d0-a765-00a0c91e6bf6", Some(Form::Uuid)),
            ("192.0.2.1", Some(Form::IpAddress)),
            ("2001:db8::1", Some(Form::IpAddress)),
            ("fe80::1", Some(Form::IpAddress)),
            ("{\"a\": [1, 2]}", Some(Form::Json)),
            ("{a: 1}", None),
            ("[1] ", Some(Form::Json)),
            ("<port code=\"ness\"/>", Some(Form::Xml)),
            ("<?xml version=\"1.0\"?><a></a>", Some(Form::Xml)),
            ("<3", None),
            ("57.1, -2.3", Some(Form::Coordinates)),
            ("157.1, -2.3", None),
            ("1,5", None),
            ("", None),
            ("ness", None),
        ] {
            assert_eq!(Form::of(text), form, "{text}");
        }
    }
}
