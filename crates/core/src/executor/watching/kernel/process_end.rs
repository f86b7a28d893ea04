//! Waiting for a process that the standard library did not begin.

use std::io;
use std::mem::MaybeUninit;
use std::os::unix::process::ExitStatusExt;
use std::process::ExitStatus;
use std::time::Duration;

/// How a process ended, and what it and all that it waited for took.
#[derive(Clone, Copy, Debug)]
pub struct ProcessEnd {
    /// How.
    pub status: ExitStatus,
    /// The largest amount of memory, bytes.
    pub memory: u64,
    /// Processor time.
    pub processor: Duration,
}

/// Waits until a process of ours ends.
///
/// # Errors
/// When it is not ours.
pub fn wait(process: i32) -> io::Result<ProcessEnd> {
    let mut status = 0;
    let mut usage = MaybeUninit::<libc::rusage>::zeroed();
    loop {
        // SAFETY: the system writes a number and one structure of this kind.
        let ended = unsafe { libc::wait4(process, &raw mut status, 0, usage.as_mut_ptr()) };
        if ended == process {
            break;
        }
        let error = io::Error::last_os_error();
        if error.kind() != io::ErrorKind::Interrupted {
            return Err(error);
        }
    }
    // SAFETY: all of it is numbers, and it began as zeroes.
    let usage = unsafe { usage.assume_init() };
    let time = |time: libc::timeval| {
        let seconds = Duration::from_secs(u64::try_from(time.tv_sec).unwrap_or(0));
        seconds + Duration::from_micros(u64::try_from(time.tv_usec).unwrap_or(0))
    };
    Ok(ProcessEnd {
        status: ExitStatus::from_raw(status),
        memory: u64::try_from(usage.ru_maxrss).unwrap_or(0) * 1024,
        processor: time(usage.ru_utime) + time(usage.ru_stime),
    })
}
