//! Which way of reading JSON Kyanite is built on: candidates over the same bookings.
//!
//! Run with `cargo bench --bench readers`. The first row of each table is the baseline. docs/json-reader.md
//! discusses the figures.

use std::fmt;

use kyanite_benches::{bookings, candidate, compare};
use kyanite_formats::json::{Reader, ReaderOptions};
use kyanite_scan::Structure;
use kyanite_tree::{Arena, Map, Member, Number, Origin, Value};
use serde::de::{DeserializeSeed, Deserializer, IgnoredAny, MapAccess, SeqAccess, Visitor};

/// Records are read in batches of this many bytes, as the program does.
const BATCH: usize = 256 * 1024;

fn main() {
    let data = bookings(100_000_000);
    let text = std::str::from_utf8(&data).unwrap_or_default();
    compare(
        "Reading every record whole",
        data.len(),
        5,
        vec![
            candidate("serde_json::Value", || {
                lines(&data)
                    .map(|line| u64::from(parse::<serde_json::Value>(line).is_object()))
                    .sum()
            }),
            candidate("serde_json, seed into our tree", || {
                batches(text, |batch, arena| {
                    lines(batch.as_bytes()).map(|line| u64::from(seeded(line, arena))).sum()
                })
            }),
            candidate("simd-json, borrowed value", || {
                let mut scratch = Vec::new();
                lines(&data)
                    .map(|line| {
                        scratch.clear();
                        scratch.extend_from_slice(line);
                        u64::from(simd_json::to_borrowed_value(&mut scratch).is_ok())
                    })
                    .sum()
            }),
            candidate("simd-json, tape", || {
                let mut scratch = Vec::new();
                lines(&data)
                    .map(|line| {
                        scratch.clear();
                        scratch.extend_from_slice(line);
                        u64::from(simd_json::to_tape(&mut scratch).is_ok())
                    })
                    .sum()
            }),
            candidate("kyanite reader, whole tree", || {
                batches(text, |batch, arena| {
                    let mut reader = Reader::new(batch, arena, ReaderOptions::default());
                    let mut count = 0;
                    while let Ok(Some(value)) = reader.next_value() {
                        count += u64::from(value.as_map().is_some());
                    }
                    count
                })
            }),
        ],
    );
    compare(
        "Two members of every record",
        data.len(),
        5,
        vec![
            candidate("serde_json::Value", || {
                lines(&data)
                    .filter(|line| {
                        let record: serde_json::Value = parse(line);
                        record["fare"]["amount"].as_f64() > Some(100.0) && record["id"].is_string()
                    })
                    .count() as u64
            }),
            candidate("serde_json, structs that name them", || {
                lines(&data)
                    .filter(|line| {
                        let record: Option<Booking<'_>> = serde_json::from_slice(line).ok();
                        record.is_some_and(|record| {
                            record.fare.amount > 100.0 && !record.id.is_empty()
                        })
                    })
                    .count() as u64
            }),
            candidate("kyanite reader, whole tree", || {
                batches(text, |batch, arena| {
                    let mut reader = Reader::new(batch, arena, ReaderOptions::default());
                    let mut count = 0;
                    while let Ok(Some(record)) = reader.next_value() {
                        let amount = record
                            .member("fare")
                            .and_then(|fare| fare.member("amount")?.as_number());
                        let large = amount
                            .and_then(|amount| amount.decimal().ok())
                            .is_some_and(|amount| amount > 100.into());
                        count += u64::from(large && record.member("id").is_some());
                    }
                    count
                })
            }),
        ],
    );
    compare(
        "Limits",
        data.len(),
        5,
        vec![
            candidate("serde_json, IgnoredAny", || {
                lines(&data)
                    .map(|line| u64::from(serde_json::from_slice::<IgnoredAny>(line).is_ok()))
                    .sum()
            }),
            candidate("UTF-8 check of the standard library", || {
                u64::from(std::str::from_utf8(&data).is_ok())
            }),
            candidate("the structure: texts, brackets, colons, plausible bytes", || {
                // By blocks, as records are read.
                let blocks = data.chunks(256 * 1024);
                blocks.map(|block| u64::from(Structure::of(block).is_well_formed())).sum()
            }),
            candidate("counting line ends", || memchr::memchr_iter(b'\n', &data).count() as u64),
        ],
    );
}

/// The members of a booking that the second table is about.
#[derive(serde::Deserialize)]
struct Booking<'a> {
    id: &'a str,
    fare: Fare,
}

#[derive(serde::Deserialize)]
struct Fare {
    amount: f64,
}

fn lines(data: &[u8]) -> impl Iterator<Item = &[u8]> {
    let mut rest = data;
    std::iter::from_fn(move || {
        let end = memchr::memchr(b'\n', rest)?;
        let (line, tail) = rest.split_at(end);
        rest = &tail[1..];
        Some(line)
    })
}

fn parse<'a, T: serde::Deserialize<'a> + Default>(line: &'a [u8]) -> T {
    serde_json::from_slice(line).unwrap_or_default()
}

/// Runs `work` over `text` in batches that end at line ends, each with an arena that is then reset.
fn batches(text: &str, work: impl Fn(&str, &Arena) -> u64) -> u64 {
    let mut arena = Arena::new();
    let mut rest = text;
    let mut sum = 0;
    while !rest.is_empty() {
        let near = &rest.as_bytes()[..BATCH.min(rest.len())];
        let end = memchr::memrchr(b'\n', near).map_or(rest.len(), |at| at + 1);
        sum += work(&rest[..end], &arena);
        arena.reset();
        rest = &rest[end..];
    }
    sum
}

fn seeded(line: &[u8], arena: &Arena) -> bool {
    let mut deserializer = serde_json::Deserializer::from_slice(line);
    Seed(arena).deserialize(&mut deserializer).is_ok()
}

/// Builds our tree through serde; numbers lose their spelling on the way, places are unknown.
#[derive(Clone, Copy)]
struct Seed<'a>(&'a Arena);

impl<'de, 'a> DeserializeSeed<'de> for Seed<'a>
where
    'de: 'a,
{
    type Value = Value<'a>;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<Value<'a>, D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de, 'a> Visitor<'de> for Seed<'a>
where
    'de: 'a,
{
    type Value = Value<'a>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a value")
    }

    fn visit_bool<E>(self, value: bool) -> Result<Value<'a>, E> {
        Ok(Value::boolean(value))
    }

    fn visit_i64<E>(self, value: i64) -> Result<Value<'a>, E> {
        Ok(self.0.integer(value))
    }

    fn visit_u64<E>(self, value: u64) -> Result<Value<'a>, E> {
        Ok(self.0.integer(value as i64))
    }

    fn visit_f64<E>(self, value: f64) -> Result<Value<'a>, E> {
        Ok(Value::number(Number::from_checked(self.0.text(&value.to_string()))))
    }

    fn visit_str<E>(self, value: &str) -> Result<Value<'a>, E> {
        Ok(Value::text(self.0.text(value)))
    }

    fn visit_borrowed_str<E>(self, value: &'de str) -> Result<Value<'a>, E> {
        Ok(Value::text(value))
    }

    fn visit_unit<E>(self) -> Result<Value<'a>, E> {
        Ok(Value::NULL)
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut access: A) -> Result<Value<'a>, A::Error> {
        let mut items = Vec::new();
        while let Some(item) = access.next_element_seed(self)? {
            items.push(item);
        }
        Ok(self.0.list(&items))
    }

    fn visit_map<A: MapAccess<'de>>(self, mut access: A) -> Result<Value<'a>, A::Error> {
        let mut members = Vec::new();
        while let Some(name) = access.next_key::<&'de str>()? {
            members.push(Member { name, value: access.next_value_seed(self)? });
        }
        Ok(Value::Map(Origin::NONE, Map::from_read(self.0, &mut members, |_, _, _| ())))
    }
}
