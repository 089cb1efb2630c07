//! The files of the tour.

use std::borrow::Cow;

use crate::Bookings;

/// One file of the demo folder.
#[derive(Clone, Debug)]
pub struct File {
    /// The path inside the demo folder, with `/` between its parts.
    pub name: &'static str,
    /// What it holds.
    pub content: Cow<'static, [u8]>,
}

macro_rules! embedded {
    ($($name:literal),* $(,)?) => {
        [$(File {
            name: $name,
            content: Cow::Borrowed(include_bytes!(concat!("../../../demo/", $name))),
        }),*]
    };
}

/// All files of the demo folder.
#[must_use]
pub fn files() -> Vec<File> {
    let mut bookings = Vec::new();
    // Writing into a Vec cannot fail.
    let _ = Bookings::new(Bookings::DEMO_SEED).write_count(Bookings::DEMO_COUNT, &mut bookings);
    let mut files = Vec::from(embedded![
        "timetable.json",
        "wanted-departures.json",
        "beacon.json",
        "berths.geojson",
        "manifest.xml",
        "notices.xml",
        "pier-feed.xml",
        "ports.yaml",
        "fleet.toml",
        "ports.csv",
        "tariff.csv",
        "sailings.csv",
        "tickets.csv",
        "rules/departures.kyr",
        "rules/dearest.kyr",
        "rules/port-fares.kyr",
        "rules/network.kyr",
        "rules/running.kyr",
        "rules/by-island.kyr",
        "rules/timetable-page.kyr",
        "rules/running-cases/none-cancelled/input.jsonl",
        "rules/running-cases/none-cancelled/expected.csv",
        "rules/running-cases/no-fare/input.jsonl",
        "rules/running-cases/no-fare/params.json",
        "rules/running-cases/no-fare/message.txt",
        "schemas/booking.json",
        "schemas/manifest.xsd",
        "schemas/vessel.xsd",
        "schemas/crew.xsd",
        "schemas/manifest.sch",
        "schemas/notices.xsd",
        "manifests/skarv.xml",
        "manifests/holm.xml",
        "kyanite.toml",
    ]);
    files.push(File { name: "bookings.jsonl", content: bookings.into() });
    files
}
