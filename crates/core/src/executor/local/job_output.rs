//! What a job writes to: a pipe, or a pseudo-terminal when its colours are wanted.

use std::fs::File;
use std::io;
use std::os::fd::OwnedFd;

use rustix::fs::OFlags;
use rustix::pty::OpenptFlags;
use rustix::termios::OptionalActions;
use rustix::termios::Winsize;

/// Its rows are of no meaning to anybody: nothing scrolls in it.
const ROWS: u16 = 24;

/// Both ends of it.
pub struct JobOutput {
    /// Where it is read.
    pub reader: File,
    /// What the job gets as both of its output streams. It is to be held while the job runs: a process that closes its
    /// own is about to end, and that is what is waited for, once and not twice.
    pub writer: OwnedFd,
    /// Whether that is a terminal.
    pub is_terminal: bool,
}

impl JobOutput {
    /// A pseudo-terminal of so many columns, or a pipe when none are given or the system has none to give.
    pub fn open(columns: Option<u16>) -> io::Result<Self> {
        if let Some(output) = columns.and_then(|columns| Self::terminal(columns).ok()) {
            return Ok(output);
        }
        let (reader, writer) = io::pipe()?;
        Ok(Self {
            reader: File::from(OwnedFd::from(reader)),
            writer: OwnedFd::from(writer),
            is_terminal: false,
        })
    }

    /// It hands on each byte as it is, reads nothing, and is nobody's controlling terminal.
    fn terminal(columns: u16) -> io::Result<Self> {
        let closed = OpenptFlags::NOCTTY | OpenptFlags::CLOEXEC;
        let reader = rustix::pty::openpt(closed | OpenptFlags::RDWR)?;
        rustix::pty::grantpt(&reader)?;
        rustix::pty::unlockpt(&reader)?;
        // Only to be written, as a pipe: who takes it for a keyboard gets an error and does not wait for ever.
        let only_written = OpenptFlags::from_bits_retain(OFlags::WRONLY.bits());
        let writer = rustix::pty::ioctl_tiocgptpeer(&reader, closed | only_written)?;
        let mut modes = rustix::termios::tcgetattr(&writer)?;
        modes.make_raw();
        rustix::termios::tcsetattr(&writer, OptionalActions::Now, &modes)?;
        let size = Winsize {
            ws_row: ROWS,
            ws_col: columns,
            ws_xpixel: 0,
            ws_ypixel: 0,
        };
        rustix::termios::tcsetwinsize(&writer, size)?;
        Ok(Self {
            reader: File::from(reader),
            writer,
            is_terminal: true,
        })
    }
}
