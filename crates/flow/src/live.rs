//! Inputs that arrive while they are produced: pipes, sockets and terminals. Bytes are handed on as soon as the writer pauses.

use std::fs::File;
use std::io;

use crate::Bytes;

/// How long nothing has to come, in milliseconds, before what is there is handed on: shorter than anybody notices, longer
/// than a program takes that writes one piece after another.
#[cfg(unix)]
const PAUSE: i64 = 10;

/// The bytes that a pipe may hold, where that can be said: with less, both sides wait for each other more often.
#[cfg(target_os = "linux")]
const ROOM: usize = 1024 * 1024;

/// Tells when an input pauses.
#[cfg_attr(not(unix), allow(dead_code, reason = "there is none"))]
pub(crate) struct Live {
    file: File,
}

#[cfg(unix)]
impl Live {
    /// Of an input that is a pipe, a socket or a terminal.
    pub(crate) fn of(file: &File) -> Option<Self> {
        use std::os::unix::fs::FileTypeExt;

        let kind = file.metadata().ok()?.file_type();
        if !(kind.is_fifo() || kind.is_socket() || kind.is_char_device()) {
            return None;
        }
        #[cfg(target_os = "linux")]
        if kind.is_fifo() {
            // That this is not granted changes nothing but the speed.
            let _ = rustix::pipe::fcntl_setpipe_size(file, ROOM);
        }
        Some(Self { file: file.try_clone().ok()? })
    }

    /// Whether nothing comes for a while.
    pub(crate) fn pauses(&self) -> bool {
        use rustix::event::{PollFd, PollFlags, Timespec, poll};

        let wait = Timespec { tv_sec: 0, tv_nsec: PAUSE * 1_000_000 };
        poll(&mut [PollFd::new(&self.file, PollFlags::IN)], Some(&wait)) == Ok(0)
    }
}

#[cfg(not(unix))]
impl Live {
    pub(crate) fn of(_: &File) -> Option<Self> {
        None
    }

    pub(crate) fn pauses(&self) -> bool {
        false
    }
}

/// Standard input, and what tells when it pauses, if it may.
#[cfg(unix)]
pub(crate) fn standard_input() -> io::Result<(Bytes, Option<Live>)> {
    use std::os::fd::AsFd;

    let file = File::from(io::stdin().as_fd().try_clone_to_owned()?);
    let live = Live::of(&file);
    Ok((Box::new(file), live))
}

/// Standard input, of which is not known whether it pauses.
#[cfg(not(unix))]
pub(crate) fn standard_input() -> io::Result<(Bytes, Option<Live>)> {
    Ok((Box::new(io::stdin()), None))
}
