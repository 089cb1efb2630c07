//! The grammar of numbers (RFC 8259 section 6).

/// Where the number ends that begins at byte `at`, with a digit or a minus.
///
/// # Errors
/// What is wrong with it, and at which byte.
#[inline(always)]
pub fn number_end(bytes: &[u8], at: usize) -> Result<usize, (&'static str, usize)> {
    let digits = |from: usize, missing: &'static str| {
        let rest = bytes.get(from..).unwrap_or_default().iter();
        match rest.take_while(|byte| byte.is_ascii_digit()).count() {
            0 => Err((missing, from)),
            count => Ok(from + count),
        }
    };
    let first = at + usize::from(bytes[at] == b'-');
    let mut end = digits(first, "a digit is missing after the minus")?;
    if bytes[first] == b'0' && end > first + 1 {
        return Err(("zeros may not stand in front", end - 1));
    }
    if bytes.get(end) == Some(&b'.') {
        end = digits(end + 1, "a digit is missing after the point")?;
    }
    if let Some(b'e' | b'E') = bytes.get(end) {
        let sign = usize::from(matches!(bytes.get(end + 1), Some(b'+' | b'-')));
        end = digits(end + 1 + sign, "a digit is missing in the exponent")?;
    }
    Ok(end)
}
