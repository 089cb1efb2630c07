//! Removes unfinished files when a signal ends the run.

/// Has what is not complete removed when a signal ends the program, which it does as it does any other.
#[cfg(unix)]
pub fn clean_up_on_signals() {
    use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
    use signal_hook::iterator::Signals;
    use signal_hook::low_level::emulate_default_handler;

    // Where no handler can be set the system ends the program as ever, and the next run removes what it left.
    let Ok(mut signals) = Signals::new([SIGINT, SIGTERM, SIGHUP]) else { return };
    std::thread::spawn(move || {
        if let Some(signal) = signals.forever().next() {
            kyanite_flow::remove_unfinished();
            let _ = emulate_default_handler(signal);
        }
    });
}

/// Files that are left behind go with the next run.
#[cfg(not(unix))]
pub fn clean_up_on_signals() {}
