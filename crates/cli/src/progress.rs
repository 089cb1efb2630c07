//! A progress bar on standard error, for work that takes longer than a moment.

use std::io::{IsTerminal, Write};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use std::time::Duration;

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use kyanite_flow::{Counters, Events};
use kyanite_tree::{Diagnostic, counted};

use crate::arguments::When;
use crate::messages::Messages;

/// Shows how much of the input has been read, until it is dropped.
pub struct Progress {
    /// What has been read.
    pub counters: Arc<Counters>,
    done: Arc<AtomicBool>,
    /// Whether the bar is on the screen.
    shown: Arc<AtomicBool>,
    thread: Option<JoinHandle<()>>,
}

/// Work that is done by then shows no bar.
const PATIENCE: Duration = Duration::from_millis(700);
const TICK: Duration = Duration::from_millis(100);

impl Progress {
    /// Starts showing progress, if it is wanted; `total` is the size of all inputs, where it is known.
    pub fn start(when: When, result_on_terminal: bool, total: Option<u64>) -> Self {
        let counters = Arc::new(Counters::default());
        let done = Arc::new(AtomicBool::new(false));
        let wanted = match when {
            When::Always => true,
            When::Never => false,
            // A bar between the lines of a result would help nobody.
            When::Auto => std::io::stderr().is_terminal() && !result_on_terminal,
        };
        let shown = Arc::new(AtomicBool::new(false));
        let thread = wanted.then(|| {
            let (counters, done, shown) =
                (Arc::clone(&counters), Arc::clone(&done), Arc::clone(&shown));
            std::thread::spawn(move || show(&counters, &done, &shown, total))
        });
        Self { counters, done, shown, thread }
    }

    /// Does some work that shows progress; what it tells is shown as a message.
    pub fn watch<T>(&self, messages: &mut Messages, work: impl FnOnce(&mut Events<'_>) -> T) -> T {
        let mut tell = |told: Diagnostic| {
            self.make_room();
            messages.show(&told);
        };
        work(&mut Events { tell: &mut tell, counters: &self.counters })
    }

    /// Clears the bar's line, so that a message can be written there; the bar comes back by itself.
    pub fn make_room(&self) {
        if self.shown.load(Ordering::Relaxed) {
            // When standard error is gone there is nobody to tell.
            let _ = std::io::stderr().lock().write_all(b"\r\x1b[2K");
        }
    }
}

impl Drop for Progress {
    fn drop(&mut self) {
        self.done.store(true, Ordering::Relaxed);
        if let Some(thread) = self.thread.take() {
            thread.thread().unpark();
            let _ = thread.join();
        }
    }
}

fn show(counters: &Counters, done: &AtomicBool, shown: &AtomicBool, total: Option<u64>) {
    std::thread::park_timeout(PATIENCE);
    if done.load(Ordering::Relaxed) {
        return;
    }
    let bar = match total {
        Some(total) => ProgressBar::new(total),
        None => ProgressBar::new_spinner(),
    };
    bar.set_draw_target(ProgressDrawTarget::stderr());
    let show_as = |template: &str| {
        if let Ok(style) = ProgressStyle::with_template(template) {
            bar.set_style(style);
        }
    };
    show_as(match total {
        Some(_) => "{wide_bar} {bytes} of {total_bytes}, {bytes_per_sec}{msg}, {eta} to go",
        None => "{spinner} {bytes}, {bytes_per_sec}{msg}",
    });
    shown.store(true, Ordering::Relaxed);
    let mut is_read = false;
    while !done.load(Ordering::Relaxed) {
        let bytes = counters.bytes.load(Ordering::Relaxed);
        bar.set_position(bytes);
        // How long a document takes that is all in memory is not known.
        if !is_read && total.is_some_and(|total| bytes >= total) {
            is_read = true;
            show_as("{wide_bar} {bytes} read in {elapsed}{msg}, at work on them");
        }
        let records = counters.records.load(Ordering::Relaxed);
        if records > 0 {
            bar.set_message(format!(", {}", counted(records, "record")));
        }
        std::thread::park_timeout(TICK);
    }
    bar.finish_and_clear();
}
