//! Formats of texts (2020-12 validation section 7.3, and those of earlier drafts).

use std::net::{Ipv4Addr, Ipv6Addr};

use kyanite_eval::pattern::ecma;
use kyanite_eval::time::days_in_month;

use super::Draft;
use super::host::{host, international_host};

/// A format, and whether a text has it.
#[derive(Debug)]
pub(super) struct Format {
    pub(super) name: &'static str,
    since: Draft,
    /// What a text of the format looks like, and the standard that says so.
    pub(super) looks: &'static str,
    pub(super) holds: fn(&str) -> bool,
}

const fn format(
    name: &'static str,
    since: Draft,
    looks: &'static str,
    holds: fn(&str) -> bool,
) -> Format {
    Format { name, since, looks, holds }
}

#[rustfmt::skip]
static FORMATS: [Format; 19] = [
    format("date-time", Draft::V4, "2026-06-01T07:00:00Z (RFC 3339 section 5.6)", date_time),
    format("date", Draft::V7, "2026-06-01 (RFC 3339 section 5.6)", date),
    format("time", Draft::V7, "07:00:00Z or 07:00:00+02:00 (RFC 3339 section 5.6)", time),
    format("duration", Draft::V2019, "P1DT2H30M or P2W (RFC 3339 appendix A)", duration),
    format("email", Draft::V4, "name@example.org (RFC 5321 section 4.1.2)", |text| email(text, false)),
    format("idn-email", Draft::V7, "name@example.org (RFC 6531 section 3.3)", |text| email(text, true)),
    format("hostname", Draft::V4, "www.example.org (RFC 1123 section 2.1)", host),
    format("idn-hostname", Draft::V7, "www.example.org (RFC 5890 section 2.3.2.3)", international_host),
    format("ipv4", Draft::V4, "192.0.2.1 (RFC 2673 section 3.2)", ipv4),
    format("ipv6", Draft::V4, "2001:db8::1 (RFC 4291 section 2.2)", ipv6),
    format("uri", Draft::V4, "https://example.org/a?b#c (RFC 3986)", |text| uri(text, false, true)),
    format("uri-reference", Draft::V6, "../a?b#c (RFC 3986 section 4.1)", |text| uri(text, false, false)),
    format("iri", Draft::V7, "https://example.org/a?b#c (RFC 3987)", |text| uri(text, true, true)),
    format("iri-reference", Draft::V7, "../a?b#c (RFC 3987)", |text| uri(text, true, false)),
    format("uuid", Draft::V2019, "f81d4fae-7dec-11d0-a765-00a0c91e6bf6 (RFC 4122)", uuid),
    format("uri-template", Draft::V6, "/piers/{no}{?day} (RFC 6570)", uri_template),
    format("json-pointer", Draft::V6, "/a/0 (RFC 6901)", pointer),
    format("relative-json-pointer", Draft::V7, "1/a or 0#", relative_pointer),
    format("regex", Draft::V4, "a regular expression of ECMA-262", |text| ecma::compile(text).is_ok()),
];

impl Format {
    /// Texts that have formats, one each.
    pub(super) fn examples() -> impl Iterator<Item = &'static str> {
        FORMATS.iter().map(Self::example)
    }

    /// A text that has it.
    pub(super) fn example(&self) -> &'static str {
        let first = self.looks.split(" (").next().unwrap_or_default();
        first.split(" or ").next().unwrap_or_default()
    }

    /// The format of that name, if the draft has it; others say nothing.
    pub(super) fn named(name: &str, draft: Draft) -> Option<&'static Self> {
        FORMATS.iter().find(|format| format.name == name && format.since <= draft)
    }
}

/// Whether a text has the format of that name, in draft 2020-12; none has a format that is not known.
///
/// ```
/// assert!(kyanite_schema::json::has_format("date", "2026-06-01"));
/// assert!(!kyanite_schema::json::has_format("date", "1 June"));
/// ```
#[must_use]
pub fn has_format(name: &str, text: &str) -> bool {
    Format::named(name, Draft::V2020).is_some_and(|format| (format.holds)(text))
}

/// The number that the first `count` characters spell in digits, and the rest of the text.
fn digits(text: &str, count: usize) -> Option<(u32, &str)> {
    let (number, rest) = text.split_at_checked(count)?;
    let is_number = number.bytes().all(|byte| byte.is_ascii_digit());
    Some((number.parse().ok().filter(|_| is_number)?, rest))
}

fn date(text: &str) -> bool {
    read_date(text).is_some_and(str::is_empty)
}

/// Reads a date; gives what stands behind it.
fn read_date(text: &str) -> Option<&str> {
    let (year, rest) = digits(text, 4)?;
    let (month, rest) = digits(rest.strip_prefix('-')?, 2)?;
    let (day, rest) = digits(rest.strip_prefix('-')?, 2)?;
    let month = u8::try_from(month).ok().filter(|month| (1..=12).contains(month))?;
    (1..=u32::from(days_in_month(i64::from(year), month))).contains(&day).then_some(rest)
}

fn time(text: &str) -> bool {
    is_time(text).is_some()
}

/// A time with its offset; only the last minute of a day (in UTC) has a second numbered 60.
fn is_time(text: &str) -> Option<()> {
    let (hour, rest) = digits(text, 2)?;
    let (minute, rest) = digits(rest.strip_prefix(':')?, 2)?;
    let (second, mut rest) = digits(rest.strip_prefix(':')?, 2)?;
    if let Some(fraction) = rest.strip_prefix('.') {
        let length = fraction.bytes().take_while(u8::is_ascii_digit).count();
        rest = (length > 0).then(|| &fraction[length..])?;
    }
    let offset = match rest.as_bytes() {
        [b'Z' | b'z'] => 0,
        [sign @ (b'+' | b'-'), ..] => {
            let (hours, rest) = digits(&rest[1..], 2)?;
            let (minutes, rest) = digits(rest.strip_prefix(':')?, 2)?;
            if hours > 23 || minutes > 59 || !rest.is_empty() {
                return None;
            }
            let minutes = i64::from(hours * 60 + minutes);
            if *sign == b'-' { -minutes } else { minutes }
        }
        _ => return None,
    };
    let in_utc = (i64::from(hour * 60 + minute) - offset).rem_euclid(24 * 60);
    let is_leap = second == 60 && in_utc == 24 * 60 - 1;
    (hour < 24 && minute < 60 && (second < 60 || is_leap)).then_some(())
}

fn date_time(text: &str) -> bool {
    let rest = read_date(text).and_then(|rest| rest.strip_prefix(['T', 't']));
    rest.is_some_and(time)
}

/// Steps over a number and a unit, if they stand there.
fn amount(text: &str, unit: char) -> Option<&str> {
    let length = text.bytes().take_while(u8::is_ascii_digit).count();
    (length > 0).then(|| text[length..].strip_prefix(unit)).flatten()
}

/// Steps over amounts of units that follow each other without a gap; gives how many there are.
fn amounts<'t>(text: &'t str, units: &str) -> (usize, &'t str) {
    for (at, unit) in units.char_indices() {
        if let Some(mut rest) = amount(text, unit) {
            let mut count = 1;
            for next in units[at..].chars().skip(1) {
                match amount(rest, next) {
                    Some(behind) => (count, rest) = (count + 1, behind),
                    None => break,
                }
            }
            return (count, rest);
        }
    }
    (0, text)
}

fn duration(text: &str) -> bool {
    let Some(rest) = text.strip_prefix('P') else { return false };
    if amount(rest, 'W').is_some_and(str::is_empty) {
        return true;
    }
    let (days, rest) = amounts(rest, "YMD");
    match rest.strip_prefix('T') {
        Some(rest) => {
            let (times, rest) = amounts(rest, "HMS");
            times > 0 && rest.is_empty()
        }
        None => days > 0 && rest.is_empty(),
    }
}

fn email(text: &str, is_international: bool) -> bool {
    let Some((local, domain)) = text.rsplit_once('@') else { return false };
    let is_other = |c: char| is_international && !c.is_ascii();
    let is_local = match local.strip_prefix('"') {
        Some(quoted) => {
            let Some(quoted) = quoted.strip_suffix('"') else { return false };
            let mut characters = quoted.chars();
            loop {
                match characters.next() {
                    None => break true,
                    Some('\\') if characters.next().is_some_and(|c| (' '..='~').contains(&c)) => {}
                    Some('\\' | '"') => break false,
                    Some(c) if (' '..='~').contains(&c) || is_other(c) => {}
                    Some(_) => break false,
                }
            }
        }
        None => local.split('.').all(|atom| {
            let is_sign = |c: char| {
                c.is_ascii_alphanumeric() || "!#$%&'*+-/=?^_`{|}~".contains(c) || is_other(c)
            };
            !atom.is_empty() && atom.chars().all(is_sign)
        }),
    };
    let is_domain = match domain.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')) {
        Some(literal) => match literal.strip_prefix("IPv6:") {
            Some(address) => ipv6(address),
            None => ipv4(literal),
        },
        None if is_international => international_host(domain),
        None => host(domain),
    };
    is_local && is_domain
}

fn ipv4(text: &str) -> bool {
    text.parse::<Ipv4Addr>().is_ok()
}

fn ipv6(text: &str) -> bool {
    text.parse::<Ipv6Addr>().is_ok()
}

fn uuid(text: &str) -> bool {
    let is_group = |(group, length): (&str, usize)| {
        group.len() == length && group.bytes().all(|byte| byte.is_ascii_hexdigit())
    };
    let lengths = [8, 4, 4, 4, 12];
    text.split('-').count() == lengths.len() && text.split('-').zip(lengths).all(is_group)
}

/// Whether a text is a URI (RFC 3986 appendix A) or, where characters of all scripts may stand, an IRI (RFC 3987 section 2.2);
/// unless it is `absolute`, a reference is one, too.
fn uri(text: &str, is_international: bool, is_absolute: bool) -> bool {
    let (rest, scheme) = match kyanite_eval::uri::scheme(text) {
        Some(scheme) => (&text[scheme.len() + 1..], Some(scheme)),
        None => (text, None),
    };
    if is_absolute && scheme.is_none() {
        return false;
    }
    let (rest, fragment) = rest.split_once('#').unwrap_or((rest, ""));
    let (rest, query) = rest.split_once('?').unwrap_or((rest, ""));
    let path = match rest.strip_prefix("//") {
        None => rest,
        Some(rest) => {
            let end = rest.find('/').unwrap_or(rest.len());
            if !authority(&rest[..end], is_international) {
                return false;
            }
            &rest[end..]
        }
    };
    // Without a scheme, what stands before the first colon would be one (section 4.2).
    let is_path = scheme.is_some() || !path.split('/').next().unwrap_or_default().contains(':');
    is_path
        && made_of(path, ":@/", is_international)
        && made_of(query, ":@/?", is_international)
        && made_of(fragment, ":@/?", is_international)
}

fn authority(text: &str, is_international: bool) -> bool {
    let (user, place) = text.rsplit_once('@').unwrap_or(("", text));
    let (host, port) = match place.strip_prefix('[') {
        Some(literal) => {
            let Some((address, behind)) = literal.split_once(']') else { return false };
            let is_future = || {
                let version = address.strip_prefix(['v', 'V'])?;
                let (version, rest) = version.split_once('.')?;
                let is_version =
                    !version.is_empty() && version.bytes().all(|b| b.is_ascii_hexdigit());
                (is_version && !rest.is_empty() && made_of(rest, ":", false)).then_some(())
            };
            if !ipv6(address) && is_future().is_none() {
                return false;
            }
            ("", behind)
        }
        None => match place.find(':') {
            Some(colon) => place.split_at(colon),
            None => (place, ""),
        },
    };
    let is_port = port.is_empty()
        || port.strip_prefix(':').is_some_and(|port| port.bytes().all(|b| b.is_ascii_digit()));
    made_of(user, ":", is_international) && made_of(host, "", is_international) && is_port
}

/// Whether a text is made of unreserved characters, delimiters of parts, percent-encoded bytes and `others`.
fn made_of(text: &str, others: &str, is_international: bool) -> bool {
    let mut rest = text;
    while let Some(character) = rest.chars().next() {
        let is_sign = character.is_ascii_alphanumeric()
            || "-._~!$&'()*+,;=".contains(character)
            || others.contains(character)
            || is_international && is_in_iri(character);
        let encoded = || {
            let code = rest.as_bytes().get(..3)?;
            (code[0] == b'%' && code[1..].iter().all(u8::is_ascii_hexdigit)).then_some(())
        };
        let length = match () {
            () if is_sign => character.len_utf8(),
            () if encoded().is_some() => 3,
            () => return false,
        };
        rest = &rest[length..];
    }
    true
}

/// The characters that IRIs have beyond those of URIs: `ucschar` and `iprivate`.
fn is_in_iri(character: char) -> bool {
    matches!(u32::from(character),
        0xA0..=0xD7FF | 0xE000..=0xFDCF | 0xFDF0..=0xFFEF | 0x1_0000..=0x10_FFFF
            if u32::from(character) & 0xFFFE != 0xFFFE)
}

fn uri_template(text: &str) -> bool {
    let mut rest = text;
    while let Some(at) = rest.find(['{', '}']) {
        if !literal(&rest[..at]) || rest[at..].starts_with('}') {
            return false;
        }
        let Some((expression, behind)) = rest[at + 1..].split_once('}') else { return false };
        if !is_expression(expression) {
            return false;
        }
        rest = behind;
    }
    literal(rest)
}

/// What stands between expressions (RFC 6570 section 2.1).
fn literal(text: &str) -> bool {
    let is_refused = |c: char| c.is_control() || " \"'<>\\^`{|}".contains(c);
    let is_encoded = |at: usize| {
        text.as_bytes()
            .get(at + 1..at + 3)
            .is_some_and(|code| code.iter().all(u8::is_ascii_hexdigit))
    };
    !text.contains(is_refused) && text.match_indices('%').all(|(at, _)| is_encoded(at))
}

/// What stands in braces (RFC 6570 section 2.2).
fn is_expression(text: &str) -> bool {
    let variables = text.strip_prefix(['+', '#', '.', '/', ';', '?', '&', '=', ',', '!', '@', '|']);
    variables.unwrap_or(text).split(',').all(|variable| {
        let name = match variable.split_once(':') {
            Some((name, length)) => {
                let is_length = (1..=4).contains(&length.len())
                    && !length.starts_with('0')
                    && length.bytes().all(|byte| byte.is_ascii_digit());
                if is_length { name } else { return false }
            }
            None => variable.strip_suffix('*').unwrap_or(variable),
        };
        name.split('.').all(|part| {
            !part.is_empty()
                && part.chars().all(|c| c.is_ascii_alphanumeric() || c == '_' || c == '%')
                && literal(part)
        })
    })
}

fn pointer(text: &str) -> bool {
    let is_escaped = |(at, _): (usize, &str)| text[at + 1..].starts_with(['0', '1']);
    (text.is_empty() || text.starts_with('/')) && text.match_indices('~').all(is_escaped)
}

/// A number of levels up, perhaps an index beside that, and a pointer or `#`.
fn relative_pointer(text: &str) -> bool {
    let number = |text: &str| {
        let length = text.bytes().take_while(u8::is_ascii_digit).count();
        let is_number = length > 0 && (length == 1 || !text.starts_with('0'));
        is_number.then_some(length)
    };
    let Some(length) = number(text) else { return false };
    let rest = &text[length..];
    let rest = match rest.strip_prefix(['+', '-']) {
        Some(index) => match number(index).filter(|_| !index.starts_with('0')) {
            Some(length) => &index[length..],
            None => return false,
        },
        None => rest,
    };
    rest == "#" || pointer(rest)
}
