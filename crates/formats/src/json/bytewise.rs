//! The grammar of JSON (RFC 8259) byte by byte: checks a text that arrives in pieces, and keeps none of it.

use super::error::ErrorKind;

/// Follows one value from its first byte.
#[derive(Debug)]
pub(super) struct Bytewise {
    /// Whether each of the containers that are open is a map.
    open: Vec<bool>,
    expects: Expects,
    token: Token,
}

/// What a byte did.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Step {
    /// It belongs to a token that is under way, or stands between two.
    Inside,
    /// A list or map begins.
    Begin {
        /// Which of them.
        is_map: bool,
    },
    /// A list or map ends.
    End,
    /// A name begins.
    BeginName,
    /// A name ends.
    EndName,
    /// A text, number or word begins.
    Scalar,
}

/// What may come next.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Expects {
    Value,
    /// An item, or the end of a list that has none yet.
    FirstItem,
    /// An item, behind a comma.
    Item,
    /// A name, or the end of a map that has none yet.
    FirstName,
    /// A name, behind a comma.
    Name,
    Colon,
    /// A comma, or the end of the list or map.
    More,
    /// The value is over.
    Nothing,
}

/// The token that is under way.
#[derive(Clone, Copy, Debug)]
enum Token {
    Nothing,
    Text {
        is_name: bool,
        part: Text,
    },
    Number(Number),
    /// What is left of a word.
    Word(&'static [u8]),
}

/// What comes next in a text (section 7).
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Text {
    Any,
    /// The character behind a backslash.
    Escape,
    /// So many digits of a code unit, of which there are these; whether it has to be the second of a pair.
    Digits {
        left: u8,
        unit: u16,
        is_second: bool,
    },
    /// The backslash of the second half of a pair.
    SecondEscape,
    /// The `u` behind it.
    SecondUnit,
}

/// What there is of a number (section 6).
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Number {
    Minus,
    Zero,
    Integer,
    Point,
    Fraction,
    Exponent,
    Sign,
    Power,
}

impl Bytewise {
    pub(super) fn new() -> Self {
        Self { open: Vec::new(), expects: Expects::Value, token: Token::Nothing }
    }

    /// How many lists and maps are open.
    pub(super) fn depth(&self) -> usize {
        self.open.len()
    }

    /// Takes the next byte.
    ///
    /// # Errors
    /// What is wrong at this byte.
    pub(super) fn byte(&mut self, byte: u8) -> Result<Step, ErrorKind> {
        match self.token {
            Token::Nothing => self.between(byte),
            Token::Text { is_name, part: Text::Any } if byte == b'"' => {
                self.token = Token::Nothing;
                Ok(if is_name { Step::EndName } else { Step::Inside })
            }
            Token::Text { is_name, part } => {
                self.token = Token::Text { is_name, part: part.next(byte)? };
                Ok(Step::Inside)
            }
            Token::Number(number) => match number.next(byte)? {
                Some(number) => {
                    self.token = Token::Number(number);
                    Ok(Step::Inside)
                }
                None => {
                    self.token = Token::Nothing;
                    self.between(byte)
                }
            },
            Token::Word(left) => match left.split_first() {
                Some((first, rest)) if *first == byte => {
                    self.token = if rest.is_empty() { Token::Nothing } else { Token::Word(rest) };
                    Ok(Step::Inside)
                }
                _ => Err(ErrorKind::NotAValue),
            },
        }
    }

    /// Takes a byte that stands in no token.
    fn between(&mut self, byte: u8) -> Result<Step, ErrorKind> {
        use Expects::{Colon, FirstItem, FirstName, Item, More, Name, Nothing, Value};
        let is_map = self.open.last() == Some(&true);
        match (self.expects, byte) {
            (_, b' ' | b'\t' | b'\n' | b'\r') => Ok(Step::Inside),
            (Nothing, _) => Err(ErrorKind::TextAfterEnd),
            (FirstItem, b']') | (FirstName, b'}') => Ok(self.close()),
            (More, b']') if !is_map => Ok(self.close()),
            (More, b'}') if is_map => Ok(self.close()),
            (More, b',') => {
                self.expects = if is_map { Name } else { Item };
                Ok(Step::Inside)
            }
            (More, _) => Err(ErrorKind::NoComma(if is_map { '}' } else { ']' })),
            (Colon, b':') => {
                self.expects = Value;
                Ok(Step::Inside)
            }
            (Colon, _) => Err(ErrorKind::NoColon),
            (FirstName | Name, b'"') => {
                self.token = Token::Text { is_name: true, part: Text::Any };
                self.expects = Colon;
                Ok(Step::BeginName)
            }
            (Item, b']') | (Name, b'}') => Err(ErrorKind::TrailingComma),
            (FirstName | Name, _) => Err(ErrorKind::NotAName),
            (Value | FirstItem | Item, b'{' | b'[') => {
                let is_map = byte == b'{';
                self.open.push(is_map);
                self.expects = if is_map { FirstName } else { FirstItem };
                Ok(Step::Begin { is_map })
            }
            (Value | FirstItem | Item, _) => {
                self.token = match byte {
                    b'"' => Token::Text { is_name: false, part: Text::Any },
                    b'-' => Token::Number(Number::Minus),
                    b'0' => Token::Number(Number::Zero),
                    b'1'..=b'9' => Token::Number(Number::Integer),
                    b't' => Token::Word(b"rue"),
                    b'f' => Token::Word(b"alse"),
                    b'n' => Token::Word(b"ull"),
                    _ => return Err(ErrorKind::NotAValue),
                };
                self.expects = self.behind_value();
                Ok(Step::Scalar)
            }
        }
    }

    fn close(&mut self) -> Step {
        self.open.pop();
        self.expects = self.behind_value();
        Step::End
    }

    fn behind_value(&self) -> Expects {
        if self.open.is_empty() { Expects::Nothing } else { Expects::More }
    }
}

impl Text {
    fn next(self, byte: u8) -> Result<Self, ErrorKind> {
        match (self, byte) {
            (Self::Any, b'\\') => Ok(Self::Escape),
            (Self::Any, 0..=0x1F) => Err(ErrorKind::ControlCharacter(byte)),
            (Self::Any, _) => Ok(Self::Any),
            (Self::Escape, b'u') => Ok(Self::Digits { left: 4, unit: 0, is_second: false }),
            (Self::Escape, b'"' | b'\\' | b'/' | b'b' | b'f' | b'n' | b'r' | b't') => Ok(Self::Any),
            (Self::Escape, _) => Err(ErrorKind::BadEscape),
            (Self::SecondEscape, b'\\') => Ok(Self::SecondUnit),
            (Self::SecondUnit, b'u') => Ok(Self::Digits { left: 4, unit: 0, is_second: true }),
            (Self::SecondEscape | Self::SecondUnit, _) => Err(ErrorKind::LoneSurrogate),
            (Self::Digits { left, unit, is_second }, _) => {
                let digit = char::from(byte).to_digit(16).ok_or(ErrorKind::BadEscape)?;
                let unit = unit << 4 | digit as u16;
                match (left, unit, is_second) {
                    (2.., ..) => Ok(Self::Digits { left: left - 1, unit, is_second }),
                    (_, 0xD800..=0xDBFF, false) => Ok(Self::SecondEscape),
                    (_, 0xDC00..=0xDFFF, true) => Ok(Self::Any),
                    (_, 0xDC00..=0xDFFF, false) | (.., true) => Err(ErrorKind::LoneSurrogate),
                    (.., false) => Ok(Self::Any),
                }
            }
        }
    }
}

impl Number {
    /// What there is with one byte more; None where the number ended before it.
    fn next(self, byte: u8) -> Result<Option<Self>, ErrorKind> {
        let missing = match (self, byte) {
            (Self::Minus, b'0') => return Ok(Some(Self::Zero)),
            (Self::Minus, b'1'..=b'9') => return Ok(Some(Self::Integer)),
            (Self::Integer, b'0'..=b'9') => return Ok(Some(Self::Integer)),
            (Self::Zero | Self::Integer, b'.') => return Ok(Some(Self::Point)),
            (Self::Zero | Self::Integer | Self::Fraction, b'e' | b'E') => {
                return Ok(Some(Self::Exponent));
            }
            (Self::Point | Self::Fraction, b'0'..=b'9') => return Ok(Some(Self::Fraction)),
            (Self::Exponent, b'+' | b'-') => return Ok(Some(Self::Sign)),
            (Self::Exponent | Self::Sign | Self::Power, b'0'..=b'9') => {
                return Ok(Some(Self::Power));
            }
            (Self::Zero, b'0'..=b'9') => "zeros may not stand in front",
            (Self::Zero | Self::Integer | Self::Fraction | Self::Power, _) => return Ok(None),
            (Self::Minus, _) => "a digit is missing after the minus",
            (Self::Point, _) => "a digit is missing after the point",
            (Self::Exponent | Self::Sign, _) => "a digit is missing in the exponent",
        };
        Err(ErrorKind::BadNumber(missing))
    }
}

#[cfg(test)]
mod tests {
    use kyanite_tree::Arena;
    use proptest::prelude::*;

    use super::*;
    use crate::json::{ReaderOptions, document};

    /// Whether a text is one value.
    fn is_value(text: &str) -> bool {
        let mut bytewise = Bytewise::new();
        // A blank ends a number.
        let is_kept = text.bytes().chain([b' ']).all(|byte| bytewise.byte(byte).is_ok());
        is_kept && bytewise.expects == Expects::Nothing
    }

    #[test]
    fn steps() {
        let mut bytewise = Bytewise::new();
        let text = br#"{"a": ["\n", 1]}"#;
        let steps = text.iter().map(|byte| bytewise.byte(*byte).unwrap());
        let steps: Vec<Step> = steps.filter(|step| *step != Step::Inside).collect();
        let (map, list) = (Step::Begin { is_map: true }, Step::Begin { is_map: false });
        let names = [Step::BeginName, Step::EndName];
        let expected = [map, names[0], names[1], list, Step::Scalar, Step::Scalar, Step::End];
        assert_eq!(steps[..7], expected);
        assert_eq!((&steps[7..], bytewise.expects), (&[Step::End][..], Expects::Nothing));
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(4_000))]

        #[test]
        fn the_same_as_a_reader(text in r#"(\[|\]|\{|\}|,|:|"a"|"(\\[nu"x]|\\u00e9|\\u[dD][89abcfABCF]3D|a){0,3}"|-|0|1|\.|e|\+|true|fals|null| |\n){0,12}"#) {
            let arena = Arena::new();
            let is_read = document(&text, &arena, ReaderOptions::default()).is_ok();
            prop_assert_eq!(is_value(&text), is_read, "{}", text);
        }

        #[test]
        fn values_are_values(value in crate::json::write::tests::any_json()) {
            prop_assert!(is_value(&value.to_string()));
        }
    }
}
