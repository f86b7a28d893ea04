//! Calls of a watched process that wait for an answer (seccomp_unotify(2)), and what they point to.

use std::io;
use std::mem::MaybeUninit;
use std::os::fd::AsRawFd;
use std::os::fd::BorrowedFd;

/// A call that waits for an answer, as the system tells of it.
pub use libc::seccomp_notif as Notification;

/// `SECCOMP_USER_NOTIF_FD_SYNC_WAKE_UP`, since Linux 6.6.
const SYNC_WAKE_UP: libc::c_ulong = 1;
/// `SECCOMP_USER_NOTIF_FLAG_CONTINUE`.
const CONTINUE: u32 = 1;

/// Asks that whoever waits is woken on the core of whom it waits for. An older system does without.
pub fn wake_nearby(listener: BorrowedFd<'_>) {
    // SAFETY: a call with numbers alone.
    unsafe {
        libc::ioctl(
            listener.as_raw_fd(),
            libc::SECCOMP_IOCTL_NOTIF_SET_FLAGS,
            SYNC_WAKE_UP,
        )
    };
}

/// Takes the next call that waits.
///
/// # Errors
/// `ENOENT` when who made it is gone, `EINTR` when a signal came first.
pub fn receive(listener: BorrowedFd<'_>) -> io::Result<Notification> {
    let mut notification = MaybeUninit::<Notification>::zeroed();
    // SAFETY: the system writes one structure of this size, which the number of the call says.
    let result = unsafe {
        libc::ioctl(
            listener.as_raw_fd(),
            libc::SECCOMP_IOCTL_NOTIF_RECV,
            notification.as_mut_ptr(),
        )
    };
    if result != 0 {
        return Err(io::Error::last_os_error());
    }
    // SAFETY: all of it is numbers, and it began as zeroes.
    Ok(unsafe { notification.assume_init() })
}

/// Refuses a call with an error's number. It may be gone.
pub fn refuse(listener: BorrowedFd<'_>, notification: &Notification, error: i32) {
    let mut answer = libc::seccomp_notif_resp {
        id: notification.id,
        val: 0,
        error: -error,
        flags: 0,
    };
    // SAFETY: the system reads one structure of this size, which the number of the call says.
    unsafe {
        libc::ioctl(
            listener.as_raw_fd(),
            libc::SECCOMP_IOCTL_NOTIF_SEND,
            &raw mut answer,
        );
    }
}

/// Lets a call go on as if nobody had seen it. It may be gone.
pub fn let_go(listener: BorrowedFd<'_>, notification: &Notification) {
    let mut answer = libc::seccomp_notif_resp {
        id: notification.id,
        val: 0,
        error: 0,
        flags: CONTINUE,
    };
    // SAFETY: the system reads one structure of this size, which the number of the call says.
    unsafe {
        libc::ioctl(
            listener.as_raw_fd(),
            libc::SECCOMP_IOCTL_NOTIF_SEND,
            &raw mut answer,
        )
    };
}

/// Whether whoever made a call still waits, so that what was read of its memory was its own.
pub fn is_waiting(listener: BorrowedFd<'_>, notification: &Notification) -> bool {
    let id = notification.id;
    // SAFETY: the system reads one number of this size.
    unsafe {
        libc::ioctl(
            listener.as_raw_fd(),
            libc::SECCOMP_IOCTL_NOTIF_ID_VALID,
            &raw const id,
        ) == 0
    }
}

/// Reads what stands at an address of another process, as far as it can be read.
pub fn read_memory(process: u32, address: u64, into: &mut [u8]) -> usize {
    let (Ok(process), Ok(address)) = (i32::try_from(process), usize::try_from(address)) else {
        return 0;
    };
    let local = libc::iovec {
        iov_base: into.as_mut_ptr().cast(),
        iov_len: into.len(),
    };
    let remote = libc::iovec {
        iov_base: std::ptr::with_exposed_provenance_mut(address),
        iov_len: into.len(),
    };
    // SAFETY: the system writes at most the length of `into` to it; the other address is only looked up in the other
    // process.
    let read =
        unsafe { libc::process_vm_readv(process, &raw const local, 1, &raw const remote, 1, 0) };
    usize::try_from(read).unwrap_or(0)
}

/// Whether the system hands calls to a supervisor, and lets this process ask for it: `SECCOMP_GET_NOTIF_SIZES`, since
/// Linux 5.0.
#[must_use]
pub fn hands_calls_over() -> bool {
    let mut sizes = libc::seccomp_notif_sizes {
        seccomp_notif: 0,
        seccomp_notif_resp: 0,
        seccomp_data: 0,
    };
    // SAFETY: the call writes to `sizes`, which has its layout, and nowhere else.
    let result = unsafe {
        libc::syscall(
            libc::SYS_seccomp,
            libc::SECCOMP_GET_NOTIF_SIZES,
            0,
            &raw mut sizes,
        )
    };
    result == 0
}
