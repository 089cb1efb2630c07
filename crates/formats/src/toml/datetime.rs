//! Dates and times (TOML 1.0, "Offset Date-Time" to "Local Time"; RFC 3339).

/// The date, time or both that begins `text`, as ISO 8601 writes it, and its length.
pub(super) fn scan(text: &str) -> Option<(String, usize)> {
    let bytes = text.as_bytes();
    if let Some(length) = time(bytes) {
        return Some((text[..length].to_owned(), length));
    }
    date(bytes)?;
    let behind = &bytes[10..];
    let separated = matches!(behind.first(), Some(b'T' | b't'))
        || behind.first() == Some(&b' ') && behind.get(1).is_some_and(u8::is_ascii_digit);
    if !separated {
        return Some((text[..10].to_owned(), 10));
    }
    let clock = time(&behind[1..])?;
    let end = 11 + clock;
    let offset = match bytes.get(end) {
        Some(b'Z' | b'z') => 1,
        Some(b'+' | b'-') => offset(&bytes[end..])?,
        _ => 0,
    };
    let spelled = format!("{}T{}", &text[..10], text[11..end + offset].replace('z', "Z"));
    Some((spelled, end + offset))
}

fn digits(bytes: &[u8], at: usize, count: usize) -> Option<u32> {
    let digits = bytes.get(at..at + count)?;
    if !digits.iter().all(u8::is_ascii_digit) {
        return None;
    }
    Some(digits.iter().fold(0, |number, digit| number * 10 + u32::from(digit - b'0')))
}

fn date(bytes: &[u8]) -> Option<()> {
    let (year, month, day) = (digits(bytes, 0, 4)?, digits(bytes, 5, 2)?, digits(bytes, 8, 2)?);
    let is_leap = year % 4 == 0 && (year % 100 != 0 || year % 400 == 0);
    let days = match month {
        4 | 6 | 9 | 11 => 30,
        2 if is_leap => 29,
        2 => 28,
        1..=12 => 31,
        _ => return None,
    };
    (bytes[4] == b'-' && bytes[7] == b'-' && (1..=days).contains(&day)).then_some(())
}

fn time(bytes: &[u8]) -> Option<usize> {
    let (hour, minute, second) = (digits(bytes, 0, 2)?, digits(bytes, 3, 2)?, digits(bytes, 6, 2)?);
    if bytes[2] != b':' || bytes[5] != b':' || hour > 23 || minute > 59 || second > 60 {
        return None;
    }
    if bytes.get(8) != Some(&b'.') {
        return Some(8);
    }
    let fraction = bytes[9..].iter().take_while(|byte| byte.is_ascii_digit()).count();
    (fraction > 0).then_some(9 + fraction)
}

fn offset(bytes: &[u8]) -> Option<usize> {
    let (hour, minute) = (digits(bytes, 1, 2)?, digits(bytes, 4, 2)?);
    (bytes[3] == b':' && hour <= 23 && minute <= 59).then_some(6)
}
