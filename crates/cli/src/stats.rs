//! What a run read, wrote and took, said at its end.

use std::sync::atomic::Ordering;
use std::time::Instant;

use kyanite_flow::{Counters, WayCounters};
use kyanite_tree::counted;

use crate::messages::Messages;

/// A run that is measured.
pub struct Stats {
    begun: Instant,
    is_wanted: bool,
    threads: usize,
}

impl Stats {
    /// Begins to measure a run on some threads.
    pub fn start(is_wanted: bool, threads: usize) -> Self {
        Self { begun: Instant::now(), is_wanted, threads }
    }

    /// Says what there was: `made` are results and what they are called.
    pub fn finish(&self, counters: &Counters, made: Option<(u64, &str)>, messages: &mut Messages) {
        if !self.is_wanted {
            return;
        }
        let of = |counter: &std::sync::atomic::AtomicU64| counter.load(Ordering::Relaxed);
        let (bytes, records) = (of(&counters.bytes), of(&counters.records));
        let (skipped, repaired) = (of(&counters.skipped), of(&counters.repaired));
        let seconds = self.begun.elapsed().as_secs_f64();
        let memory = most_memory();
        let WayCounters { by_templates, in_fields, copied, lines } = &counters.taken;
        let taken = [(by_templates, "by templates"), (in_fields, "in fields"), (copied, "copied")]
            .map(|(counter, how)| (of(counter), how))
            .iter()
            .filter(|(count, _)| *count > 0)
            .enumerate()
            .map(|(at, (count, how))| {
                let of_them = if at == 0 { " of them" } else { "" };
                format!("{count}{of_them} {how}")
            })
            .collect::<Vec<_>>()
            .join(", ");
        let mut parts = vec![format!(
            "read {}, {}, in {seconds:.2} s ({}/s) on {}",
            counted(records, "record"),
            size(bytes as f64),
            size(bytes as f64 / seconds.max(1e-9)),
            counted(self.threads, "thread"),
        )];
        let as_lines = match of(lines) {
            0 => String::new(),
            lines => format!(", {lines} of them while computed"),
        };
        parts.extend(made.map(|(count, what)| format!("made {}{as_lines}", counted(count, what))));
        if !taken.is_empty() {
            parts.push(format!("took {taken}"));
        }
        if skipped > 0 {
            parts.push(format!("skipped {}", counted(skipped, "broken record")));
        }
        if repaired > 0 {
            parts.push(format!("repaired {}", counted(repaired, "place")));
        }
        parts
            .extend(memory.map(|memory| format!("took at most {} of memory", size(memory as f64))));
        let mut numbers = vec![
            ("bytes", bytes.to_string()),
            ("records", records.to_string()),
            ("seconds", format!("{seconds:.6}")),
            ("threads", self.threads.to_string()),
            ("skipped", skipped.to_string()),
            ("repaired", repaired.to_string()),
            ("by_templates", of(by_templates).to_string()),
            ("in_fields", of(in_fields).to_string()),
            ("copied", of(copied).to_string()),
            ("lines", of(lines).to_string()),
        ];
        numbers.extend(made.map(|(count, _)| ("made", count.to_string())));
        numbers.extend(memory.map(|memory| ("memory", memory.to_string())));
        messages.stats(&parts.join("; "), &numbers);
    }
}

/// A number of bytes in words.
pub fn size(bytes: f64) -> String {
    const UNITS: [&str; 5] = ["bytes", "kB", "MB", "GB", "TB"];
    let (mut amount, mut unit) = (bytes, 0);
    while amount >= 1000.0 && unit + 1 < UNITS.len() {
        (amount, unit) = (amount / 1000.0, unit + 1);
    }
    match unit {
        0 => format!("{amount:.0} bytes"),
        _ if amount >= 100.0 => format!("{amount:.0} {}", UNITS[unit]),
        _ => format!("{amount:.1} {}", UNITS[unit]),
    }
}

/// The most memory that the process had so far, in bytes, where the system tells it.
fn most_memory() -> Option<u64> {
    let status = std::fs::read_to_string("/proc/self/status").ok()?;
    let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:"))?;
    let kilobytes: u64 = line.trim().strip_suffix("kB")?.trim().parse().ok()?;
    Some(kilobytes * 1024)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes() {
        for (bytes, shown) in [
            (0.0, "0 bytes"),
            (999.0, "999 bytes"),
            (1234.0, "1.2 kB"),
            (816_000.0, "816 kB"),
            (2.5e9, "2.5 GB"),
        ] {
            assert_eq!(size(bytes), shown);
        }
    }
}
