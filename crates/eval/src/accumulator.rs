//! Aggregates as running states: item by item, so that they run over a list or over a stream alike; parts of a stream can be
//! merged in any order, and a state can be written down: but for the different values, whose order is that of the items.
//!
//! ```
//! use kyanite_eval::accumulator::{Accumulator, Aggregate};
//! use kyanite_tree::{Arena, Origin, Value};
//!
//! let arena = Arena::new();
//! let (mut first, mut second) = (Accumulator::new(Aggregate::Sum), Accumulator::new(Aggregate::Sum));
//! first.add(arena.integer(2)).unwrap();
//! second.add(Value::Untyped(Origin::NONE, "0.5")).unwrap();
//! let sum = second.merged(&first).unwrap();
//! assert_eq!(sum.to_string(), "sum 2 2.5");
//! assert_eq!("sum 2 2.5".parse::<Accumulator>().unwrap(), sum);
//! ```

mod distinct;

use std::cmp::Ordering;
use std::fmt;
use std::str::FromStr;

use kyanite_tree::{Arena, Decimal, Number, Origin, Value};

use crate::rank::Rank;
use distinct::Distinct;

pub use distinct::is_nothing;

/// What is kept of the items.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Aggregate {
    /// How many there are.
    Count,
    /// The sum of the numbers.
    Sum,
    /// Their mean.
    Mean,
    /// The smallest number, or the first text.
    Least,
    /// The greatest number, or the last text.
    Greatest,
    /// The different values.
    Distinct,
}

impl Aggregate {
    /// Those whose states are joined in any order, and written down.
    const ALL: [Self; 5] = [Self::Count, Self::Sum, Self::Mean, Self::Least, Self::Greatest];

    fn word(self) -> &'static str {
        match self {
            Self::Count => "count",
            Self::Sum => "sum",
            Self::Mean => "mean",
            Self::Least => "least",
            Self::Greatest => "greatest",
            Self::Distinct => "distinct",
        }
    }

    /// Whether it is the same in whatever order the items come.
    #[must_use]
    pub fn is_of_any_order(self) -> bool {
        self != Self::Distinct
    }
}

/// An aggregate under way. All but [`Aggregate::Count`] skip empty texts without a type and, but for [`Aggregate::Distinct`], null.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Accumulator {
    of: Aggregate,
    count: i64,
    sum: Decimal,
    best: Option<Best>,
    distinct: Option<Box<Distinct>>,
}

/// What two states come to, but for what is simply put together.
#[derive(Debug)]
pub struct Joint {
    sum: Decimal,
    best: Option<Best>,
}

/// The best item so far, apart from the document it came from.
#[derive(Clone, Debug)]
struct Best {
    text: String,
    /// Its value, if it is, or spells, a number.
    number: Option<Decimal>,
    /// Whether it is text from a format that knows only text.
    untyped: bool,
    origin: Origin,
}

/// An item that an aggregate cannot take, or a result that is too large.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct AggregateError {
    /// What is wrong, in a sentence.
    pub message: String,
    /// What is wrong.
    pub sort: AggregateErrorKind,
    /// Where the item was read.
    pub origin: Option<Origin>,
}

/// What is wrong with an aggregate.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum AggregateErrorKind {
    /// An item is no number.
    NotNumber,
    /// Numbers and texts are among the items.
    Mixed,
    /// An item has no order, or a number has more digits than are computed with.
    Other,
}

impl AggregateError {
    fn new(sort: AggregateErrorKind, message: impl fmt::Display) -> Self {
        Self { message: message.to_string(), sort, origin: None }
    }

    fn about(self, item: Value<'_>) -> Self {
        Self { origin: Some(item.origin()), ..self }
    }
}

/// Where an item was read is no part of a state.
impl PartialEq for Best {
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text && self.untyped == other.untyped && self.number == other.number
    }
}

impl Eq for Best {}

impl Best {
    fn of(item: Value<'_>, rank: Rank<'_>) -> Self {
        Self {
            text: item.scalar_text().unwrap_or_default().to_owned(),
            number: match rank {
                Rank::Number(number) => Some(number),
                Rank::Text(_) => None,
            },
            untyped: matches!(item, Value::Untyped(..)),
            origin: item.origin(),
        }
    }

    fn rank(&self) -> Rank<'_> {
        self.number.clone().map_or(Rank::Text(self.text.as_str().into()), Rank::Number)
    }

    /// Which of two items of the same rank stands for both, whichever came first: one with a type, the one that is spelled
    /// shortest.
    fn spelling(&self) -> (bool, usize, &str) {
        (self.untyped, self.text.len(), &self.text)
    }
}

impl Accumulator {
    /// The state over no items.
    #[must_use]
    pub fn new(of: Aggregate) -> Self {
        let distinct = (of == Aggregate::Distinct).then(Box::default);
        Self { of, count: 0, sum: Decimal::ZERO, best: None, distinct }
    }

    /// What it keeps of the items.
    #[must_use]
    pub fn kind(&self) -> Aggregate {
        self.of
    }

    /// Takes an item.
    ///
    /// # Errors
    /// When it is none that can be aggregated so; the state is as it was.
    #[inline]
    pub fn add(&mut self, item: Value<'_>) -> Result<(), AggregateError> {
        if let Some(distinct) = &mut self.distinct {
            distinct.add(item);
            return Ok(());
        }
        let item = item.simple();
        match (self.of, item) {
            (Aggregate::Count, _) => self.count += 1,
            (Aggregate::Distinct, _) | (_, Value::Null(_) | Value::Untyped(_, "")) => {}
            (Aggregate::Sum | Aggregate::Mean, item) => {
                let added = match item {
                    Value::Number(_, number) => self.sum.add_spelled(number.as_str()),
                    other => self.sum.add(&number(other)?).map(|sum| self.sum = sum),
                };
                added.map_err(|error| {
                    AggregateError::new(AggregateErrorKind::Other, error).about(item)
                })?;
                self.count += 1;
            }
            (Aggregate::Least, item) => self.compare(item, Ordering::Less)?,
            (Aggregate::Greatest, item) => self.compare(item, Ordering::Greater)?,
        }
        Ok(())
    }

    fn compare(&mut self, item: Value<'_>, wanted: Ordering) -> Result<(), AggregateError> {
        let failed = |sort: AggregateErrorKind| {
            move |message: String| AggregateError::new(sort, message).about(item)
        };
        let rank = Rank::of(item).map_err(failed(AggregateErrorKind::Other))?;
        let Some(rank) = rank else { return Ok(()) };
        let order = match &self.best {
            None => wanted,
            Some(best) => rank.order(&best.rank()).map_err(failed(AggregateErrorKind::Mixed))?,
        };
        if order == wanted {
            self.best = Some(Best::of(item, rank));
        } else if order.is_eq() {
            let other = Best::of(item, rank);
            self.best = self.best.take().map(|best| representing(best, other));
        }
        Ok(())
    }

    /// The state over the items of both, whichever came first; of different values, those of the other come later.
    ///
    /// # Errors
    /// When numbers and texts meet, or the sum is too large.
    pub fn merged(&self, other: &Self) -> Result<Self, AggregateError> {
        let joint = self.joint(other)?;
        let mut all = self.clone();
        all.join(other, joint);
        Ok(all)
    }

    /// What the two come to, for [`Self::join`].
    ///
    /// # Errors
    /// When numbers and texts meet, or the sum is too large.
    pub fn joint(&self, other: &Self) -> Result<Joint, AggregateError> {
        let best = match (&self.best, &other.best) {
            (Some(own), Some(other)) => {
                let order = own.rank().order(&other.rank());
                let order = order
                    .map_err(|message| AggregateError::new(AggregateErrorKind::Mixed, message))?;
                Some(match (self.of, order) {
                    (_, Ordering::Equal) => representing(own.clone(), other.clone()),
                    (Aggregate::Least, Ordering::Less)
                    | (Aggregate::Greatest, Ordering::Greater) => own.clone(),
                    _ => other.clone(),
                })
            }
            (own, other) => own.as_ref().or(other.as_ref()).cloned(),
        };
        let sum = self.sum.add(&other.sum);
        let sum = sum.map_err(|error| AggregateError::new(AggregateErrorKind::Other, error))?;
        Ok(Joint { sum, best })
    }

    /// Takes the items of another, with what the two come to.
    pub fn join(&mut self, other: &Self, joint: Joint) {
        let Joint { sum, best } = joint;
        (self.sum, self.best, self.count) = (sum, best, self.count + other.count);
        if let (Some(own), Some(later)) = (&mut self.distinct, &other.distinct) {
            own.extend(later);
        }
    }

    /// Forgets where the best item was read, since what it was read from is gone.
    pub fn forget_place(&mut self) {
        if let Some(best) = &mut self.best {
            best.origin = Origin::NONE;
        }
    }

    /// The aggregate; nothing over no items, but for counts and sums.
    ///
    /// # Errors
    /// When a mean has too many digits.
    pub fn value<'a>(&self, arena: &'a Arena) -> Result<Option<Value<'a>>, AggregateError> {
        Ok(match self.of {
            Aggregate::Count => Some(arena.integer(self.count)),
            Aggregate::Sum => Some(arena.number(&self.sum)),
            Aggregate::Mean if self.count == 0 => None,
            Aggregate::Mean => {
                let mean = self.sum.div(&Decimal::from(self.count));
                Some(arena.number(
                    &mean.map_err(|error| AggregateError::new(AggregateErrorKind::Other, error))?,
                ))
            }
            Aggregate::Least | Aggregate::Greatest => self.best.as_ref().map(|best| {
                let text = arena.text(&best.text);
                match (best.untyped, &best.number) {
                    (true, _) => Value::Untyped(best.origin, text),
                    (false, Some(_)) => Value::Number(best.origin, Number::from_checked(text)),
                    (false, None) => Value::Text(best.origin, text),
                }
            }),
            Aggregate::Distinct => self.distinct.as_ref().map(|distinct| distinct.list(arena)),
        })
    }
}

/// The one of two items of the same rank that stands for both.
fn representing(a: Best, b: Best) -> Best {
    if b.spelling() < a.spelling() { b } else { a }
}

/// The number that an item is or, untyped, spells.
///
/// # Errors
/// When it is none.
pub fn number(item: Value<'_>) -> Result<Decimal, AggregateError> {
    let number = match item {
        Value::Number(_, number) => {
            let number = number.decimal();
            Some(number.map_err(|error| {
                AggregateError::new(AggregateErrorKind::Other, error).about(item)
            })?)
        }
        Value::Untyped(_, text) => Decimal::spelled(text),
        _ => None,
    };
    number.ok_or_else(|| {
        let message = format!("an item is {}, not a number", item.kind().phrase());
        AggregateError::new(AggregateErrorKind::NotNumber, message).about(item)
    })
}

/// The state in a line, but for different values: what it is, how many items, their sum; then how the best item is to be read (`number`, `text`, or
/// `untyped`), and its text, which may hold anything.
impl fmt::Display for Accumulator {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {} {}", self.of.word(), self.count, self.sum)?;
        match &self.best {
            None => Ok(()),
            Some(Best { text, untyped: true, .. }) => write!(f, " untyped {text}"),
            Some(Best { text, number: Some(_), .. }) => write!(f, " number {text}"),
            Some(Best { text, .. }) => write!(f, " text {text}"),
        }
    }
}

impl FromStr for Accumulator {
    type Err = NoState;

    /// # Errors
    /// When the text is no state that was written.
    fn from_str(text: &str) -> Result<Self, NoState> {
        let mut words = text.splitn(5, ' ');
        let mut word = || words.next().ok_or(NoState);
        let (of, count, sum) = (word()?, word()?, word()?);
        let of = Aggregate::ALL.into_iter().find(|own| own.word() == of).ok_or(NoState)?;
        let count = count.parse().map_err(|_| NoState)?;
        let sum = Decimal::parse(sum).map_err(|_| NoState)?;
        let best = match (words.next(), words.next()) {
            (None, _) => None,
            (Some(sort), Some(text)) => {
                let origin = Origin::NONE;
                let (item, untyped) = match sort {
                    "number" => (Number::parse(text).map(Value::number).ok_or(NoState)?, false),
                    "text" => (Value::Text(origin, text), false),
                    "untyped" => (Value::Untyped(origin, text), true),
                    _ => return Err(NoState),
                };
                let rank = Rank::of(item).map_err(|_| NoState)?.ok_or(NoState)?;
                Some(Best { untyped, ..Best::of(item, rank) })
            }
            _ => return Err(NoState),
        };
        Ok(Self { count, sum, best, ..Self::new(of) })
    }
}

/// A text is not the state of an aggregate.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct NoState;

impl fmt::Display for NoState {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("this is not the state of an aggregate")
    }
}

impl std::error::Error for NoState {}

#[cfg(test)]
#[allow(clippy::unwrap_used, reason = "a test that fails may panic")]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn items() -> impl Strategy<Value = (bool, Vec<String>)> {
        let number = prop_oneof!["-?[0-9]{1,3}(\\.[0-9]{1,3})?", "1|1\\.0|1\\.00|01"];
        let list = proptest::collection::vec(number, 0..12);
        (any::<bool>(), list)
    }

    proptest! {
        /// In whatever parts and order items come, and though states are written down in between, it is all the same.
        #[test]
        fn any_order((typed, texts) in items(), cut in 0_usize..12, turned in any::<bool>()) {
            let arena = Arena::new();
            let value = |text: &String| match Number::parse(arena.text(text)) {
                Some(number) if typed => Value::number(number),
                _ => Value::Untyped(Origin::NONE, arena.text(text)),
            };
            let state = |of: Aggregate, texts: &[String]| {
                let mut state = Accumulator::new(of);
                texts.iter().for_each(|text| state.add(value(text)).unwrap());
                state
            };
            for of in Aggregate::ALL {
                let whole = state(of, &texts);
                let (first, second) = texts.split_at(cut.min(texts.len()));
                let written = [first, second].map(|part| state(of, part).to_string());
                let [first, second] = written.map(|text| text.parse::<Accumulator>().unwrap());
                let merged =
                    if turned { second.merged(&first) } else { first.merged(&second) }.unwrap();
                prop_assert_eq!(&merged, &whole, "{}", whole);
                let text = |state: &Accumulator| {
                    let value = state.value(&arena).unwrap();
                    value.map(|value| value.scalar_text().map(str::to_owned))
                };
                prop_assert_eq!(text(&merged), text(&whole));
            }
        }
    }

    #[test]
    fn states_in_a_line() {
        let arena = Arena::new();
        let mut last = Accumulator::new(Aggregate::Greatest);
        last.add(Value::text("a b\nc")).unwrap();
        last.add(Value::text("")).unwrap();
        assert_eq!(last.to_string(), "greatest 0 0 text a b\nc");
        assert_eq!(last.to_string().parse(), Ok(last.clone()));
        assert_eq!(last.add(arena.integer(1)).unwrap_err().sort, AggregateErrorKind::Mixed);
        assert_eq!(last.add(Value::boolean(true)).unwrap_err().sort, AggregateErrorKind::Other);
        let mut sum = Accumulator::new(Aggregate::Sum);
        assert_eq!(sum.add(Value::text("5")).unwrap_err().sort, AggregateErrorKind::NotNumber);
        let numbers = last.merged(&"greatest 0 0 number 5".parse().unwrap());
        assert_eq!(numbers.unwrap_err().sort, AggregateErrorKind::Mixed);
        for wrong in [
            "",
            "sum",
            "sum 1",
            "sum x 1",
            "sum 1 x",
            "most 1 1",
            "least 1 1 number",
            "least 1 1 number x",
            "least 1 1 thing x",
        ] {
            assert_eq!(wrong.parse::<Accumulator>(), Err(NoState), "{wrong}");
        }
    }
}
