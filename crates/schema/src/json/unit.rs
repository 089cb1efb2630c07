//! Output units (2020-12 core section 12.3): where in a schema, and where in a value, something was found.

use std::fmt::Write;

/// The locations of an output unit, each a JSON Pointer (RFC 6901).
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Unit {
    /// From the root of the schema to the keyword, through the references that were followed.
    pub keyword_location: String,
    /// The URI of the keyword itself, with the pointer as its fragment.
    pub absolute_keyword_location: String,
    /// From the root of the value.
    pub instance_location: String,
}

/// A token of a pointer.
#[derive(Clone, Copy, Debug)]
pub(super) enum Token<'t> {
    Name(&'t str),
    At(usize),
}

impl Token<'_> {
    fn append(self, pointer: &mut String) {
        match self {
            Self::Name(name) => kyanite_tree::pointer::push(pointer, name),
            // A text takes whatever is written to it.
            Self::At(number) => drop(write!(pointer, "/{number}")),
        }
    }
}

/// How a check came to the schema that it applies, and to the value that it applies it to.
#[derive(Debug, Default)]
pub(super) struct Way {
    keywords: String,
    instance: String,
}

impl Way {
    /// Goes further in the schema, and in the value; gives what [`Way::come_back`] takes.
    pub(super) fn go(&mut self, tokens: &[Token<'_>], inner: Option<Token<'_>>) -> (usize, usize) {
        let before = (self.keywords.len(), self.instance.len());
        tokens.iter().for_each(|token| token.append(&mut self.keywords));
        inner.into_iter().for_each(|token| token.append(&mut self.instance));
        before
    }

    pub(super) fn come_back(&mut self, (keywords, instance): (usize, usize)) {
        self.keywords.truncate(keywords);
        self.instance.truncate(instance);
    }

    pub(super) fn clear(&mut self) {
        self.come_back((0, 0));
    }

    /// What was found by a keyword of the schema at `location`, of the value or of what is `inner` to it. The schema `false` has no
    /// keyword.
    pub(super) fn unit(&mut self, keyword: &str, location: &str, inner: Option<Token<'_>>) -> Unit {
        let own = Some(Token::Name(keyword)).filter(|_| !keyword.is_empty());
        let before = self.go(own.as_slice(), inner);
        let mut absolute = location.to_owned();
        own.into_iter().for_each(|token| token.append(&mut absolute));
        let unit = Unit {
            keyword_location: self.keywords.clone(),
            absolute_keyword_location: absolute,
            instance_location: self.instance.clone(),
        };
        self.come_back(before);
        unit
    }
}
