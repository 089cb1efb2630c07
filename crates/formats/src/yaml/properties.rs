//! Anchors, tags and directives (YAML 1.2.2 sections 6.8 and 6.9).

use std::borrow::Cow;

use percent_encoding::percent_decode_str;

use super::cursor::{is_blank, is_flow_indicator};
use super::event::{Properties, Tag};
use super::parser::{Parsed, Parser};

/// What the tags of the core schema begin with.
pub(super) const CORE: &str = "tag:yaml.org,2002:";

/// Whether a byte may stand in a tag as a shorthand (`ns-tag-char`): those of URIs, but for `!` and flow indicators.
fn is_tag_byte(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || b"-#;/?:@&=+$_.~*'()%".contains(&byte)
}

impl<'a> Parser<'a> {
    /// Reads the properties at the position: an anchor and a tag on one line, in either order.
    #[inline]
    pub(super) fn properties(&mut self) -> Parsed<Properties<'a>> {
        match self.cursor.peek() {
            Some(b'&' | b'!') => self.some_properties(),
            _ => Ok(Properties::default()),
        }
    }

    #[cold]
    fn some_properties(&mut self) -> Parsed<Properties<'a>> {
        let (mut anchor, mut tag) = (None, None);
        loop {
            let start = self.cursor.at;
            match self.cursor.peek() {
                Some(b'&') => {
                    if anchor.is_some() {
                        return Err(self.error(start, "a node has one anchor", "take one away"));
                    }
                    anchor = Some(self.anchor_name()?);
                }
                Some(b'!') => {
                    if tag.is_some() {
                        return Err(self.error(start, "a node has one tag", "take one away"));
                    }
                    tag = Some(self.tag()?);
                }
                _ => return Ok(Properties::new(anchor, tag)),
            }
            let end = self.cursor.at;
            self.cursor.white();
            let is_parted = self.cursor.at > end
                || is_blank(self.cursor.peek())
                || self.flow_level() > 0 && self.cursor.peek().is_some_and(is_flow_indicator);
            if !is_parted {
                let message = "a blank is missing behind the anchor or tag";
                return Err(self.error(end, message, "put one there"));
            }
        }
    }

    /// The name behind `&` or `*`.
    pub(super) fn anchor_name(&mut self) -> Parsed<&'a str> {
        let start = self.cursor.at;
        self.cursor.at += 1;
        while let Some(byte) = self.cursor.peek()
            && !is_blank(Some(byte))
            && !is_flow_indicator(byte)
        {
            self.cursor.at += 1;
        }
        let name = self.cursor.slice(start + 1, self.cursor.at);
        if name.is_empty() {
            return Err(self.error(
                start,
                "a name is missing here",
                "write &name, or *name for it",
            ));
        }
        Ok(name)
    }

    /// A tag, with its handle resolved.
    fn tag(&mut self) -> Parsed<Tag<'a>> {
        let start = self.cursor.at;
        self.cursor.at += 1;
        if self.cursor.peek() == Some(b'<') {
            let from = self.cursor.at + 1;
            let rest = &self.cursor.bytes()[from..];
            let length =
                rest.iter().take_while(|b| is_tag_byte(**b) || b"!,[]".contains(b)).count();
            self.cursor.at = from + length + 1;
            if rest.get(length) != Some(&b'>') || length == 0 {
                return Err(self.error(start, "this is no verbatim tag", "write !<uri>"));
            }
            return self.decoded("", self.cursor.slice(from, from + length), start);
        }
        let rest = &self.cursor.bytes()[self.cursor.at..];
        let word =
            rest.iter().take_while(|byte| byte.is_ascii_alphanumeric() || **byte == b'-').count();
        let handle_end = self.cursor.at + word;
        let has_handle = rest.get(word) == Some(&b'!');
        let handle_end = if has_handle { handle_end + 1 } else { start + 1 };
        let handle = self.cursor.slice(start, handle_end);
        let rest = &self.cursor.bytes()[handle_end..];
        let length = rest.iter().take_while(|byte| is_tag_byte(**byte)).count();
        let suffix = self.cursor.slice(handle_end, handle_end + length);
        self.cursor.at = handle_end + length;
        if suffix.is_empty() {
            if has_handle {
                return Err(self.error(start, "this tag has no name", "write !name or !!name"));
            }
            return Ok(Cow::Borrowed("!"));
        }
        let Some(prefix) = self.prefix_of(handle) else {
            let message = format!("the tag handle {handle} is not declared");
            return Err(self.error(start, message, "declare it before `---`: %TAG !name! prefix"));
        };
        self.decoded(prefix, suffix, start)
    }

    /// A tag of its parts, the escapes of the second decoded.
    fn decoded(&self, prefix: &str, suffix: &'a str, start: usize) -> Parsed<Tag<'a>> {
        match percent_decode_str(suffix).decode_utf8() {
            Ok(suffix) if prefix.is_empty() => Ok(suffix),
            Ok(suffix) => Ok(Cow::Owned(format!("{prefix}{suffix}"))),
            Err(_) => {
                let message = "the escapes of this tag are not UTF-8";
                Err(self.error(start, message, "write %C3%A9 for é"))
            }
        }
    }

    fn prefix_of(&self, handle: &str) -> Option<&str> {
        let declared = self.handles.iter().find(|(known, _)| *known == handle);
        match (declared, handle) {
            (Some((_, prefix)), _) => Some(prefix),
            (None, "!") => Some("!"),
            (None, "!!") => Some(CORE),
            (None, _) => None,
        }
    }

    /// Reads the directives before a document; tells whether there are any.
    pub(super) fn directives(&mut self) -> Parsed<bool> {
        let (mut any, mut version) = (false, false);
        self.handles.clear();
        while self.cursor.at == self.cursor.line && self.cursor.peek() == Some(b'%') {
            any = true;
            let start = self.cursor.at;
            let mut ahead = self.cursor.at;
            while self.cursor.byte(ahead).is_some_and(|byte| !matches!(byte, b'\n' | b'\r')) {
                ahead += 1;
            }
            let line = self.cursor.slice(start + 1, ahead);
            let line = line.find(" #").map_or(line, |comment| &line[..comment]);
            let words: Vec<&'a str> = line.split_ascii_whitespace().collect();
            match words.as_slice() {
                ["YAML", number] => {
                    if std::mem::replace(&mut version, true) {
                        let advice = "take one of the two away";
                        return Err(self.error(start, "the version is said twice", advice));
                    }
                    if !is_version(number) {
                        return Err(self.error(
                            start,
                            "this is no version of YAML",
                            "write %YAML 1.2",
                        ));
                    }
                }
                ["TAG", handle, prefix]
                    if handle.starts_with('!')
                        && handle.ends_with('!')
                        && prefix
                            .bytes()
                            .all(|byte| is_tag_byte(byte) || b"!,[]".contains(&byte)) =>
                {
                    if self.handles.iter().any(|(known, _)| known == handle) {
                        let advice = "take one of the two away";
                        return Err(self.error(start, "this tag handle is declared twice", advice));
                    }
                    self.handles.push((handle, prefix));
                }
                ["YAML" | "TAG", ..] => {
                    let advice = "write %YAML 1.2, or %TAG !name! prefix";
                    return Err(self.error(start, "this directive is not complete", advice));
                }
                // Reserved directives are passed over (section 6.8).
                _ => {}
            }
            self.cursor.at += 1 + line.len();
            let gap = self.cursor.skip();
            if !gap.new_line && self.cursor.peek().is_some() {
                return Err(self.error_here("this directive does not end here", "end its line"));
            }
        }
        Ok(any)
    }
}

/// A tag as it is written before a node.
pub(super) fn written(tag: &str) -> String {
    let escaped = |text: &str, others: &[u8]| -> String {
        let bytes = text.bytes().map(|byte| match byte {
            b'%' => "%25".to_owned(),
            byte if is_tag_byte(byte) || others.contains(&byte) => char::from(byte).to_string(),
            byte => format!("%{byte:02X}"),
        });
        bytes.collect()
    };
    match (tag.strip_prefix('!'), tag.strip_prefix(CORE)) {
        (Some(name), _) if !name.is_empty() => format!("!{}", escaped(name, b"")),
        (_, Some(name)) if !name.is_empty() => format!("!!{}", escaped(name, b"")),
        _ => format!("!<{}>", escaped(tag, b"!,[]")),
    }
}

fn is_version(text: &str) -> bool {
    let is_number = |part: &str| !part.is_empty() && part.bytes().all(|byte| byte.is_ascii_digit());
    text.split_once('.').is_some_and(|(major, minor)| major == "1" && is_number(minor))
}
