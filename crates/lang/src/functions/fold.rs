//! Aggregates as running states: item by item, so that they run over a list or over a stream alike.

use std::cmp::Ordering;

use kyanite_tree::{Arena, Decimal, Number, Origin, Value};

use super::{Fault, Outcome, number_fault};
use crate::rank::{MIXED, Rank};

/// What is kept of the items.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum FoldKind {
    /// How many there are.
    Count,
    /// The sum of the numbers.
    Sum,
    /// Their mean.
    Average,
    /// The smallest number, or the first text.
    Least,
    /// The greatest number, or the last text.
    Greatest,
}

/// An aggregate under way. All but [`FoldKind::Count`] skip null.
#[derive(Clone, Debug)]
pub(crate) struct Fold {
    kind: FoldKind,
    count: i64,
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

impl Best {
    fn rank(&self) -> Rank<'_> {
        self.number.clone().map_or(Rank::Text(self.text.as_str().into()), Rank::Number)
    }
}

impl Fold {
    pub(crate) fn new(kind: FoldKind) -> Self {
        Self { kind, count: 0, sum: Decimal::ZERO, best: None }
    }

    /// Takes an item.
    #[inline]
    pub(crate) fn add(&mut self, item: Value<'_>) -> Result<(), Fault> {
        let item = item.simple();
        match (self.kind, item) {
            (FoldKind::Count, _) => self.count += 1,
            (_, Value::Null(_) | Value::Untyped(_, "")) => {}
            (FoldKind::Sum | FoldKind::Average, item) => {
                let added = match item {
                    Value::Number(_, number) => self.sum.add_spelled(number.as_str()),
                    other => self.sum.add(&number(other)?).map(|sum| self.sum = sum),
                };
                added.map_err(|error| number_fault(0, error).about(item))?;
                self.count += 1;
            }
            (FoldKind::Least, item) => self.compare(item, Ordering::Less)?,
            (FoldKind::Greatest, item) => self.compare(item, Ordering::Greater)?,
        }
        Ok(())
    }

    fn compare(&mut self, item: Value<'_>, wanted: Ordering) -> Result<(), Fault> {
        let failed = |message: String| Fault::new(0, message).about(item);
        let Some(rank) = Rank::of(item).map_err(failed)? else { return Ok(()) };
        let is_better = match &self.best {
            None => true,
            Some(best) => {
                rank.order(&best.rank()).map_err(|message| failed(message).advise(MIXED))? == wanted
            }
        };
        if is_better {
            self.best = Some(Best {
                text: item.scalar_text().unwrap_or_default().to_owned(),
                number: match rank {
                    Rank::Number(number) => Some(number),
                    Rank::Text(_) => None,
                },
                untyped: matches!(item, Value::Untyped(..)),
                origin: item.origin(),
            });
        }
        Ok(())
    }

    /// The aggregate over the items of both, those of `later` behind the own ones.
    pub(crate) fn joined(&self, later: &Self) -> Result<Self, Fault> {
        let failed = |message: String| Fault::new(0, message);
        let best = match (&self.best, &later.best) {
            (Some(own), Some(other)) => {
                let wanted = match self.kind {
                    FoldKind::Least => Ordering::Less,
                    _ => Ordering::Greater,
                };
                let order = other.rank().order(&own.rank()).map_err(failed)?;
                Some(if order == wanted { other } else { own })
            }
            (own, other) => own.as_ref().or(other.as_ref()),
        };
        let sum = self.sum.add(&later.sum).map_err(|error| number_fault(0, error))?;
        Ok(Self { kind: self.kind, count: self.count + later.count, sum, best: best.cloned() })
    }

    /// Forgets where the best item was read, since what it was read from is gone.
    pub(crate) fn forget_place(&mut self) {
        if let Some(best) = &mut self.best {
            best.origin = Origin::NONE;
        }
    }

    /// The aggregate.
    pub(crate) fn finish<'a>(&self, arena: &'a Arena) -> Outcome<'a> {
        Ok(match self.kind {
            FoldKind::Count => Some(arena.integer(self.count)),
            FoldKind::Sum => Some(arena.number(&self.sum)),
            FoldKind::Average if self.count == 0 => None,
            FoldKind::Average => {
                let mean = self.sum.div(&Decimal::from(self.count));
                Some(arena.number(&mean.map_err(|error| number_fault(0, error))?))
            }
            FoldKind::Least | FoldKind::Greatest => self.best.as_ref().map(|best| {
                let text = arena.text(&best.text);
                match (best.untyped, &best.number) {
                    (true, _) => Value::Untyped(best.origin, text),
                    (false, Some(_)) => Value::Number(best.origin, Number::from_checked(text)),
                    (false, None) => Value::Text(best.origin, text),
                }
            }),
        })
    }
}

/// The number that an item is or, untyped, spells.
pub(super) fn number(item: Value<'_>) -> Result<Decimal, Fault> {
    let number = match item {
        Value::Number(_, number) => {
            Some(number.decimal().map_err(|error| number_fault(0, error).about(item))?)
        }
        Value::Untyped(_, text) => Decimal::spelled(text),
        _ => None,
    };
    number.ok_or_else(|| {
        Fault::new(0, format!("an item is {}, not a number", item.kind().phrase()))
            .about(item)
            .advise("convert texts with number(), or leave the others out")
    })
}
