//! What can be known of a process only before the runtime of the language begins.
//!
//! The runtime opens `/dev/null` in place of standard streams that are closed, so that no file that is opened later gets their
//! numbers. From then on nobody can tell that output goes nowhere.

#[cfg(unix)]
use std::sync::atomic::{AtomicBool, Ordering};

/// Whether standard output was closed when the process began (`>&-`).
#[cfg(unix)]
static WAS_CLOSED: AtomicBool = AtomicBool::new(false);

/// Whether standard output was closed when the process began, so that whatever is written there is lost.
#[cfg(unix)]
#[must_use]
pub fn standard_output_was_closed() -> bool {
    WAS_CLOSED.load(Ordering::Relaxed)
}

/// Whether standard output was closed when the process began; systems without file numbers do not tell.
#[cfg(not(unix))]
#[must_use]
pub fn standard_output_was_closed() -> bool {
    false
}

/// Looks before the runtime does: one call of the system, one store, and nothing that needs the runtime.
#[cfg(unix)]
#[allow(unsafe_code, reason = "there is no other way to run before `main`")]
#[ctor::ctor(unsafe)]
fn look() {
    let is_closed =
        rustix::fs::fcntl_getfl(rustix::stdio::stdout()) == Err(rustix::io::Errno::BADF);
    WAS_CLOSED.store(is_closed, Ordering::Relaxed);
}
