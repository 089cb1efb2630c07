//! Names of hosts (RFC 1123 section 2.1), and those in all scripts (RFC 5890 to 5892).

use idna::uts46::{AsciiDenyList, DnsLength, Hyphens, Uts46};

/// Names are no longer than this, and each label is no longer than that.
const LONGEST: (usize, usize) = (253, 63);

/// Whether a text is the name of a host, in ASCII.
pub(super) fn host(text: &str) -> bool {
    let is_sign = |byte: u8| byte.is_ascii_alphanumeric() || byte == b'-';
    let is_label = |label: &str| {
        let is_plain = !label.is_empty()
            && label.len() <= LONGEST.1
            && label.bytes().all(is_sign)
            && !label.starts_with('-')
            && !label.ends_with('-');
        let is_marked = label.as_bytes().get(2..4) == Some(b"--");
        is_plain && (!is_marked || is_encoded(label))
    };
    text.len() <= LONGEST.0 && text.split('.').all(is_label)
}

/// Whether a label with a mark is one in another script, encoded (RFC 5890 section 2.3.2.1).
fn is_encoded(label: &str) -> bool {
    let prefix = label.get(..4).is_some_and(|prefix| prefix.eq_ignore_ascii_case("xn--"));
    let decoded = label.get(4..).and_then(idna::punycode::decode_to_string);
    prefix && decoded.is_some_and(|decoded| !decoded.is_ascii() && international_host(&decoded))
}

/// Whether a text is the name of a host, in whatever script.
pub(super) fn international_host(text: &str) -> bool {
    let ascii = Uts46::new().to_ascii(
        text.as_bytes(),
        AsciiDenyList::STD3,
        Hyphens::Check,
        DnsLength::Verify,
    );
    let labels = || text.split(['.', '\u{3002}', '\u{FF0E}', '\u{FF61}']);
    ascii.is_ok()
        && labels().all(|label| has_fitting_neighbours(label) && !label.contains(is_refused))
}

/// Characters that RFC 5892 section 2.6 refuses, and the mapping before it does not.
fn is_refused(character: char) -> bool {
    matches!(
        character,
        '\u{0640}' | '\u{07FA}' | '\u{302E}' | '\u{302F}' | '\u{3031}'..='\u{3035}' | '\u{303B}'
    )
}

/// The rules for characters that may only stand beside certain others (RFC 5892 appendix A).
fn has_fitting_neighbours(label: &str) -> bool {
    let characters: Vec<char> = label.chars().collect();
    let is_greek = |c: &char| matches!(c, '\u{0370}'..='\u{03FF}' | '\u{1F00}'..='\u{1FFF}');
    let is_hebrew = |c: &char| matches!(c, '\u{0591}'..='\u{05F4}');
    let is_japanese = |c: &char| {
        matches!(c, '\u{3041}'..='\u{309F}' | '\u{30A1}'..='\u{30FA}' | '\u{30FC}'..='\u{30FF}'
            | '\u{3005}' | '\u{3007}' | '\u{3400}'..='\u{4DBF}' | '\u{4E00}'..='\u{9FFF}')
    };
    let has = |range: std::ops::RangeInclusive<char>| characters.iter().any(|c| range.contains(c));
    let fits = |(at, character): (usize, &char)| {
        let before = at.checked_sub(1).and_then(|at| characters.get(at));
        let behind = characters.get(at + 1);
        match character {
            '\u{00B7}' => before == Some(&'l') && behind == Some(&'l'),
            '\u{0375}' => behind.is_some_and(is_greek),
            '\u{05F3}' | '\u{05F4}' => before.is_some_and(is_hebrew),
            '\u{30FB}' => characters.iter().any(is_japanese),
            '\u{0660}'..='\u{0669}' => !has('\u{06F0}'..='\u{06F9}'),
            _ => true,
        }
    };
    characters.iter().enumerate().all(fits)
}
