//! The places jobs run in. [`LocalPlace`](crate::weave::LocalPlace) is this machine; tests bring a
//! made-up one.

use std::sync::atomic::AtomicU8;
use std::sync::atomic::Ordering;
use std::time::Duration;

use crate::weave::event::Exit;

/// A script to run, with everything it needs.
#[derive(Clone, Debug)]
pub struct Job {
    /// The step's or task's name.
    pub name: String,
    /// The interpreter's words.
    pub interpreter: Vec<String>,
    /// Whether the interpreter is a shell, which takes a short script as an argument.
    pub shell: bool,
    /// The script.
    pub script: String,
    /// The folder to run in, from the root.
    pub folder: String,
    /// Environment variables to set.
    pub env: Vec<(String, String)>,
    /// Facts for `HANDLOOM_JOB`, as JSON.
    pub facts: String,
    /// Which slot it runs in.
    pub slot: usize,
    /// Stopped after so long.
    pub limit: Option<Duration>,
    /// Whether it has the terminal to itself.
    pub terminal: bool,
}

/// How a job went.
#[derive(Clone, Debug)]
pub struct Outcome {
    /// How it ended.
    pub exit: Exit,
    /// What it printed, both streams in order.
    pub output: Vec<u8>,
    /// Whether it was ended because the run is stopped.
    pub stopped: bool,
    /// The largest amount of memory any of its processes held, bytes.
    pub memory: u64,
    /// Processor time, nanoseconds.
    pub processor: u64,
}

/// Something that runs scripts.
pub trait Place: Sync {
    /// Runs a job to its end, or until `stop` is raised. Called from several threads at once.
    fn run(&self, job: &Job, stop: &Stop) -> Outcome;
}

/// The wish to end a run, as it becomes stronger: from a signal handler or another thread.
#[derive(Debug)]
pub struct Stop {
    level: AtomicU8,
    /// Becomes readable when the level rises, so that waiting threads wake up.
    wake: Option<std::os::fd::OwnedFd>,
}

impl Default for Stop {
    fn default() -> Self {
        let flags = rustix::event::EventfdFlags::CLOEXEC | rustix::event::EventfdFlags::NONBLOCK;
        Self {
            level: AtomicU8::new(0),
            wake: rustix::event::eventfd(0, flags).ok(),
        }
    }
}

impl Stop {
    /// Jobs are asked to end.
    pub const ASK: u8 = 1;
    /// Jobs are killed.
    pub const KILL: u8 = 2;

    /// Raises the level by one; gives the new one.
    pub fn raise(&self) -> u8 {
        let level = self.level.fetch_add(1, Ordering::SeqCst).saturating_add(1);
        if let Some(wake) = &self.wake {
            // A full counter is readable too.
            let _ = rustix::io::write(wake, &1u64.to_ne_bytes());
        }
        level
    }

    /// How strong the wish is; 0 for none.
    #[must_use]
    pub fn level(&self) -> u8 {
        self.level.load(Ordering::SeqCst)
    }

    /// A descriptor that is readable once the level is above 0.
    #[must_use]
    pub fn descriptor(&self) -> Option<std::os::fd::BorrowedFd<'_>> {
        use std::os::fd::AsFd;
        self.wake.as_ref().map(AsFd::as_fd)
    }
}
