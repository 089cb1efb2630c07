//! The made-up world of every example: **Tern Isles Ferries**, which carries people and vehicles between small
//! island ports. The files of the tour, and a generator that makes the same bookings at any size.

mod bookings;
mod files;
mod random;

pub use bookings::Bookings;
pub use files::{File, files};
