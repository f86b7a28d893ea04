//! The process that something belongs to, told from a later one with the same number.

use std::sync::OnceLock;

use crate::executor::local::processes::Process;

/// A process of this system: its number, and when it began in ticks since the system did.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Owner {
    pid: i32,
    began: u64,
}

impl Owner {
    /// This process.
    #[must_use]
    pub fn current() -> Self {
        static BEGAN: OnceLock<u64> = OnceLock::new();
        let pid = std::process::id().cast_signed();
        let read = || Process::read(pid).map_or(0, |process| process.began);
        Self {
            pid,
            began: *BEGAN.get_or_init(read),
        }
    }

    /// Reads what is written as `PID-BEGAN`.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let (pid, began) = text.split_once('-')?;
        Some(Self {
            pid: pid.parse().ok()?,
            began: began.parse().ok()?,
        })
    }

    /// Whether it is alive, as far as this system shows its processes.
    #[must_use]
    pub fn is_alive(self) -> bool {
        let process = Process::read(self.pid);
        process.is_some_and(|process| process.began == self.began && !process.has_ended())
    }
}

impl std::fmt::Display for Owner {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}-{}", self.pid, self.began)
    }
}
