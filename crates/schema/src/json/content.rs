//! Texts that hold something in another form (draft-07 validation section 8).

use base64::Engine;
use base64::engine::general_purpose::STANDARD;

use super::Reads;
use super::keyword::Content;

/// What is wrong with a text that should have this content. Encodings and media types that are not known say nothing.
pub(super) fn wrong(content: Content<'_>, text: &str, reads: Option<Reads>) -> Option<String> {
    let encoding = content.encoding.map(str::to_ascii_lowercase);
    let decoded = match encoding.as_deref() {
        Some("base64") => match STANDARD.decode(text) {
            Ok(decoded) => Some(decoded),
            Err(error) => return Some(format!("the text is no base64: {error}")),
        },
        Some(_) => return None,
        None => None,
    };
    let media_type = content.media_type?;
    let held = match &decoded {
        Some(bytes) => std::str::from_utf8(bytes).ok(),
        None => Some(text),
    };
    let is_well_formed = held.map_or(Some(false), |held| reads?(media_type, held))?;
    (!is_well_formed).then(|| format!("what the text holds is not well-formed {media_type}"))
}
