//! Bookings without end: the generator behind `bookings.jsonl` and every benchmark.
//!
//! ```
//! let mut bookings = kyanite_demo::Bookings::new(7);
//! let mut line = Vec::new();
//! bookings.write_next(&mut line);
//! assert!(line.starts_with(b"{\"id\":\"TB-100001\""));
//! ```

use std::fmt::Write as _;
use std::io;

use crate::random::Random;

/// The ports of the Tern Isles, by code.
pub(crate) const PORTS: [&str; 7] = ["ness", "holm", "skarv", "lunde", "tarrow", "eyre", "brim"];

/// The vessels of the fleet.
pub(crate) const VESSELS: [&str; 5] =
    ["Arctic Skua", "Grey Heron", "Little Auk", "Sandwich Tern", "Storm Petrel"];

const FIRST_NAMES: [&str; 12] = [
    "Ailsa", "Bjarni", "Catrin", "Dagny", "Eilidh", "Fergus", "Guðrún", "Halvard", "Iona", "Jákup",
    "Kirsten", "Magnus",
];
const LAST_NAMES: [&str; 10] = [
    "Aasen",
    "Brekke",
    "Calder",
    "Djurhuus",
    "Ellingsen",
    "Flett",
    "Groat",
    "Hestnes",
    "Isbister",
    "Joensen",
];

/// Bookings one after another, the same for the same seed.
#[derive(Clone, Debug)]
pub struct Bookings {
    random: Random,
    number: u32,
    text: String,
}

impl Bookings {
    /// The seed of `demo/bookings.jsonl`.
    pub const DEMO_SEED: u64 = 2026;

    /// How many bookings `demo/bookings.jsonl` holds.
    pub const DEMO_COUNT: u64 = 2400;

    /// The bookings of `seed`, from the first.
    #[must_use]
    pub fn new(seed: u64) -> Self {
        Self { random: Random::new(seed), number: 100_000, text: String::new() }
    }

    /// Appends the next booking to `out` as a line of JSON.
    pub fn write_next(&mut self, out: &mut Vec<u8>) {
        self.number = self.number.wrapping_add(1);
        self.text.clear();
        // Writing into a String cannot fail.
        let _ = self.compose();
        out.extend_from_slice(self.text.as_bytes());
    }

    fn compose(&mut self) -> std::fmt::Result {
        let Self { random, number, text } = self;
        let from = random.below(PORTS.len() as u32) as usize;
        let to = (from + 1 + random.below(PORTS.len() as u32 - 1) as usize) % PORTS.len();
        let day = 1 + random.below(28);
        let month = 5 + random.below(4);
        let hour = 6 + random.below(16);
        let minute = random.below(12) * 5;
        let status = if random.chance(8) { "cancelled" } else { "confirmed" };
        let booked = (month - 1 - random.below(3), 1 + random.below(28));
        write!(
            text,
            "{{\"id\":\"TB-{number}\",\"booked\":\"2026-{:02}-{:02}\",\"status\":\"{status}\",\
             \"leg\":{{\"from\":\"{}\",\"to\":\"{}\",\"departs\":\"2026-{month:02}-{day:02}T{hour:02}:{minute:02}:00Z\"}},\
             \"vessel\":\"{}\",",
            booked.0,
            booked.1,
            PORTS[from],
            PORTS[to],
            random.pick(&VESSELS),
        )?;
        let (first, last) = (random.pick(&FIRST_NAMES), random.pick(&LAST_NAMES));
        write!(text, "\"customer\":{{\"name\":\"{first} {last}\"")?;
        if random.chance(85) {
            let mail = first.to_lowercase().replace(|c: char| !c.is_ascii(), "");
            write!(text, ",\"email\":\"{mail}.{}@post.example\"", last.to_lowercase())?;
        }
        let currency = if random.chance(70) { "NOK" } else { "EUR" };
        let (kroner, ore) = (40 + random.below(1160), random.below(20) * 5);
        write!(text, "}},\"fare\":{{\"amount\":{kroner}.{ore:02},\"currency\":\"{currency}\"}},")?;
        if random.chance(60) {
            text.push_str("\"seats\":[");
            for seat in 0..=random.below(4) {
                let separator = if seat > 0 { "," } else { "" };
                let (deck, row) = (3 + random.below(3), 1 + random.below(40));
                let letter = random.pick(&["A", "B", "C", "D"]);
                let kind = random.pick(&["adult", "adult", "child", "senior"]);
                write!(text, "{separator}{{\"no\":\"{deck}-{row}{letter}\",\"kind\":\"{kind}\"}}")?;
            }
            text.push(']');
        } else {
            let kind = random.pick(&["car", "car", "van", "motorcycle", "lorry"]);
            let (meters, decimeters) = (2 + random.below(14), random.below(10));
            let plate = 10_000 + random.below(89_999);
            write!(
                text,
                "\"vehicle\":{{\"kind\":\"{kind}\",\"plate\":\"TI {plate}\",\"length_m\":{meters}.{decimeters}}}"
            )?;
        }
        text.push_str("}\n");
        Ok(())
    }

    /// Writes `count` bookings.
    ///
    /// # Errors
    /// What `out` refuses.
    pub fn write_count(mut self, count: u64, out: &mut dyn io::Write) -> io::Result<()> {
        let mut buffer = Vec::with_capacity(BUFFER + 1024);
        for _ in 0..count {
            self.write_next(&mut buffer);
            if buffer.len() >= BUFFER {
                out.write_all(&buffer)?;
                buffer.clear();
            }
        }
        out.write_all(&buffer)
    }

    /// Writes bookings until at least `bytes` are out.
    ///
    /// # Errors
    /// What `out` refuses.
    pub fn write_bytes(mut self, bytes: u64, out: &mut dyn io::Write) -> io::Result<()> {
        let mut buffer = Vec::with_capacity(BUFFER + 1024);
        let mut written = 0;
        while written + (buffer.len() as u64) < bytes {
            self.write_next(&mut buffer);
            if buffer.len() >= BUFFER {
                out.write_all(&buffer)?;
                written += buffer.len() as u64;
                buffer.clear();
            }
        }
        out.write_all(&buffer)
    }
}

const BUFFER: usize = 256 * 1024;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_committed_file_is_what_the_generator_makes() {
        let mut made = Vec::new();
        Bookings::new(Bookings::DEMO_SEED).write_count(Bookings::DEMO_COUNT, &mut made).unwrap();
        assert!(
            made == include_bytes!("../../../demo/bookings.jsonl"),
            "demo/bookings.jsonl is not what the generator makes"
        );
    }

    #[test]
    fn a_size_is_reached_and_hardly_passed() {
        for size in [0, 1, 1000, 600_000] {
            let mut made = Vec::new();
            Bookings::new(1).write_bytes(size, &mut made).unwrap();
            let over = made.len() as u64 - size;
            assert!(over < 1024, "{over}");
        }
    }
}
